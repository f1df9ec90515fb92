"""The user guide: its chapters as Markdown, and searching them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources

from puresignal.core.path.settings_json import settings_table
from puresignal.translation import mark

GROUPS = (
    (mark("Start"), ("first-minute", "window")),
    (mark("By what you do"), ("drummer", "beat-maker", "singer", "arranger", "generator-user", "old-files")),
    (mark("Views"), ("inputs", "mapping", "velocity", "takes", "outputs")),
    (mark("More"), ("recording", "timing", "cleaning", "recordings", "microphone", "touch", "generating", "sessions",
                    "folders", "formats")),
)  # fmt: skip
FIRST = "first-minute"
SNIPPET = 110
"""Characters of a paragraph that a result shows."""


@dataclass(frozen=True)
class Page:
    """A chapter: its name, its title, and its text in Markdown."""

    ident: str
    title: str
    text: str


@dataclass(frozen=True)
class Found:
    """A paragraph with all words that were searched for: its page, the heading above it, and some of it."""

    page: Page
    heading: str
    snippet: str


@lru_cache(maxsize=1)
def pages() -> dict[str, Page]:
    """All chapters by name, in their order."""
    found = {}
    for _, names in GROUPS:
        for name in names:
            text = _read(name)
            title = re.match(r"# (.+)", text)
            found[name] = Page(name, title[1] if title else name, text)
    return found


def _read(name: str) -> str:
    folder = resources.files("puresignal") / "ui" / "assets"
    place = folder / "formats.md" if name == "formats" else folder / "guide" / f"{name}.md"
    return place.read_text("utf-8").replace("{settings}", settings_table())


def picture(name: str) -> bytes:
    """A picture of the guide; empty if there is none of this name."""
    place = resources.files("puresignal") / "ui" / "assets" / "guide" / "pictures" / name
    return place.read_bytes() if re.fullmatch(r"[a-z-]+\.png", name) and place.is_file() else b""


def search(text: str) -> list[Found]:
    """The paragraphs that contain every word, those under a heading with one of them first."""
    words = text.lower().split()
    if not words:
        return []
    ranked: list[tuple[int, Found]] = []
    for page in pages().values():
        heading = page.title
        for block in re.split(r"\n\s*\n|\n(?=- |\d+\. |\|)", page.text):
            block = block.strip()
            if block.startswith("#"):
                heading = block.lstrip("# ").partition("\n")[0]
            plain = plain_text(block)
            if all(word in plain.lower() for word in words):
                named = any(word in heading.lower() for word in words)
                ranked.append((0 if named else 1, Found(page, heading, _snippet(plain, words[0]))))
    return [found for _, found in sorted(ranked, key=lambda row: row[0])]


def plain_text(markdown: str) -> str:
    """The words of a piece of Markdown, on one line."""
    text = re.sub(r"!\[([^\]]*)\]\([^)]*\)|\[([^\]]*)\]\([^)]*\)", lambda m: m[1] or m[2] or "", markdown)
    return " ".join(re.sub(r"[*`#|]|^\s*[-\d]+[.)]?\s", " ", text).split())


def _snippet(plain: str, word: str) -> str:
    at = max(0, plain.lower().find(word) - SNIPPET // 3)
    begin = plain.rfind(" ", 0, at) + 1 if at else 0
    part = plain[begin : begin + SNIPPET]
    return ("… " if begin else "") + part + (" …" if begin + SNIPPET < len(plain) else "")
