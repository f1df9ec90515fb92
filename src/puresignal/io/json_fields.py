"""Fields of a session's plain JSON data: each is checked by itself, and named exactly where it is wrong."""

from __future__ import annotations

import reprlib
from collections.abc import Callable
from typing import TypeVar

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.kit import note_map
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.timing.session_time import FASTEST, SLOWEST, MeterPoint, TempoPoint, Timeline
from puresignal.io import limits
from puresignal.translation import tr

ENDING = ".puresignal"
_IDENT_CHARACTERS = 64
_SHORT = reprlib.Repr()
Value = TypeVar("Value")


def is_ident(text: object) -> bool:
    """Whether a value can be the key of a take or a material."""
    if not isinstance(text, str) or not 0 < len(text) <= _IDENT_CHARACTERS:
        return False
    return text.isascii() and text[0].isalnum() and all(c.isalnum() or c in "_-" for c in text)


def is_number(value: object, least: float, most: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most


def is_whole(value: object, least: int = -(1 << 53), most: int = 1 << 53) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most


def is_within(value: object, most: int) -> bool:
    """None, or a whole number from 0 to `most`."""
    return value is None or is_whole(value, 0, most)


def is_channel(value: object) -> bool:
    return is_whole(value, 1, 16)


def is_text(value: object) -> bool:
    return isinstance(value, str) and len(value) <= limits.TEXT


def last_copy_hint(name: str) -> str:
    """The remedy for a damaged session."""
    return tr(
        "Choose a {ending} file; the copy before the last save is beside it as {name}.last.", ending=ENDING, name=name
    )


class FieldReader:
    """Reads fields of a session.

    name      of the file, for messages
    content   returns the bytes of an entry such as `takes/take1.mid`
    problems  a sentence for each part that could not be read
    """

    def __init__(self, name: str, content: Callable[[str], bytes]):
        self.name = name
        self.content = content
        self.problems: list[str] = []

    def wrong(self, field: str, value: object) -> BadFileError:
        """The error for a field that is wrong."""
        shown = _SHORT.repr(value)[:40]
        return BadFileError(
            tr('"{field}" is {shown}', field=field, shown=shown),
            f"{self.name}, session.json",
            last_copy_hint(self.name),
        )

    def part(self, read: Callable[[], Value], otherwise: Value) -> Value:
        """A part of the session, or what stands for it where it is wrong."""
        try:
            return read()
        except PureSignalError as error:
            self.problems.append(str(error))
            return otherwise

    def map(self, data: object, field: str) -> NoteMap | None:
        """A note map; None for None."""
        return None if data is None else note_map.from_json(data, f"{self.name}, session.json, {field}")  # not shown

    def text(self, value: object, field: str) -> str:
        """A text, empty for None."""
        if value is not None and not is_text(value):
            raise self.wrong(field, value)
        return str(value or "")

    def texts(self, value: object, field: str) -> tuple[str, ...]:
        """A list of texts."""
        if not isinstance(value, list) or len(value) > limits.TRACKS or not all(is_text(one) for one in value):
            raise self.wrong(field, value)
        return tuple(value)

    def timeline(self, data: object, field: str) -> Timeline | None:
        """A timeline; None for None."""
        if data is None:
            return None
        tempos, meters = (data.get("tempos"), data.get("meters")) if isinstance(data, dict) else (None, None)
        for key, rows in (("tempos", tempos), ("meters", meters)):
            if not isinstance(rows, list) or len(rows) > limits.TEMPOS:
                raise self.wrong(f"{field}.{key}", rows)
        assert isinstance(tempos, list)
        assert isinstance(meters, list)
        for i, row in enumerate(tempos):
            good = isinstance(row, list) and len(row) == 3 and is_number(row[0], -limits.BEATS, limits.BEATS)
            if not good or not is_number(row[1], SLOWEST, FASTEST) or not isinstance(row[2], bool):
                raise self.wrong(f"{field}.tempos[{i}]", row)
        for i, row in enumerate(meters):
            good = isinstance(row, list) and len(row) == 3 and all(is_whole(value) for value in row)
            if (
                not good
                or not 1 <= row[0] <= limits.BEATS
                or not 1 <= row[1] <= 255
                or row[2] not in (1, 2, 4, 8, 16, 32, 64)
            ):
                raise self.wrong(f"{field}.meters[{i}]", row)
        start = data.get("start", 0.0) if isinstance(data, dict) else 0.0
        if not is_number(start, -limits.CLOCK_SECONDS, limits.CLOCK_SECONDS):
            raise self.wrong(f"{field}.start", start)
        return Timeline(
            tuple(TempoPoint(float(row[0]), float(row[1]), row[2]) for row in tempos),
            tuple(MeterPoint(*row) for row in meters),
            float(start),
        )
