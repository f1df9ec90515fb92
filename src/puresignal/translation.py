"""Translation of every text that a person sees: one function for all of the program, without Qt.

A text is written in English inside `tr`, or inside `mark` in a table whose entries are translated when shown.
`count_tr` chooses between singular and plural. Values are filled in after translating.
"""

from __future__ import annotations

import gettext
import locale
import os
from pathlib import Path

FOLDER, DOMAIN = Path(__file__).parent / "translations", "puresignal"
HANDED_ON = "PURE_SIGNAL_LANGUAGE"
"""Environment variable by which the program's processes speak the language of the one that started them."""
ENGLISH = "en"

_catalogue: gettext.NullTranslations = gettext.NullTranslations()


def languages() -> tuple[str, ...]:
    """Codes of the languages that there are: English, and the translated ones."""
    return ENGLISH, *sorted(one.name for one in FOLDER.iterdir() if (one / "LC_MESSAGES").is_dir())


def begin(wanted: str = "") -> str:
    """Speak a language from now on, also in processes that are started. Returns its code.

    wanted  a code; empty for the one of the environment (LANGUAGE, LC_ALL, LC_MESSAGES, LANG), else English
    """
    asked = [wanted] if wanted else _of_environment()
    there = languages()
    # Somebody who asks for English first does not want the next in the list.
    code = next((found for one in asked if (found := _among(one, there))), ENGLISH)
    os.environ[HANDED_ON] = code
    _load(code)
    return code


def language() -> str:
    """The code of the language that is spoken."""
    return os.environ.get(HANDED_ON, ENGLISH)


def _load(code: str) -> None:
    use(gettext.translation(DOMAIN, FOLDER, [code], fallback=True))


def _among(one: str, there: tuple[str, ...]) -> str:
    plain = locale.normalize(one).partition(".")[0].replace("-", "_")
    return next((code for code in (plain, plain.partition("_")[0]) if code in there), "")


def _of_environment() -> list[str]:
    for name in ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        value = os.environ.get(name, "")
        if value:
            return value.split(":")
    return []


def use(catalogue: gettext.NullTranslations) -> None:
    """Translate with this catalogue from now on; texts shown earlier stay as they are."""
    global _catalogue
    _catalogue = catalogue


def tr(text: str, **values: object) -> str:
    """A text in the player's language, with its {values} filled in."""
    translated = _catalogue.gettext(text) if text else text
    return translated.format(**values) if values else translated


def count_tr(one: str, many: str, number: int, **values: object) -> str:
    """The text for one thing or for many; {n} is the number with thin spaces between thousands."""
    grouped = f"{number:,}".replace(",", "\N{NARROW NO-BREAK SPACE}")
    return _catalogue.ngettext(one, many, number).format(n=grouped, **values)


def mark(text: str) -> str:
    """The text unchanged: marks it for the translators, and `tr` translates it when it is shown."""
    return text


if HANDED_ON in os.environ:
    _load(os.environ[HANDED_ON])
