"""Translation of every text that a person sees: one function for all of the program, without Qt.

A text is written in English inside `tr`, or inside `mark` in a table whose entries are translated when shown.
`count_tr` chooses between singular and plural. Values are filled in after translating.
"""

from __future__ import annotations

import gettext

_catalogue: gettext.NullTranslations = gettext.NullTranslations()


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
