"""Types of the arguments: each turns a text into a value, or says what is wrong with it."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from puresignal.translation import tr


def path(text: str) -> Path:
    """A name that is not empty."""
    if not text:
        raise argparse.ArgumentTypeError(tr("the name is empty"))
    return Path(text)


def bpm(text: str) -> float:
    """A tempo in beats per minute."""
    from puresignal.core.timing.session_time import FASTEST, SLOWEST

    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not SLOWEST <= value <= FASTEST:
        raise argparse.ArgumentTypeError(tr("{given!r} is no tempo in beats per minute", given=text))
    return value


def meter(text: str) -> tuple[int, int]:
    """A meter like 7/8: (beats, note value)."""
    above, _, below = text.partition("/")
    if not (above.isdigit() and 1 <= int(above) <= 32 and below in ("1", "2", "4", "8", "16", "32")):
        raise argparse.ArgumentTypeError(tr("{given!r} is no meter like 4/4 or 7/8", given=text))
    return int(above), int(below)


def bars(text: str) -> int:
    """A number of bars from 0 to 4."""
    if not (text.isdigit() and int(text) <= 4):
        raise argparse.ArgumentTypeError(tr("{given!r} is no number of bars from 0 to 4", given=text))
    return int(text)


def bars_to_record(text: str) -> int:
    """A number of bars from 1 to 10000."""
    if not (text.isdigit() and 1 <= int(text) <= 10_000):
        raise argparse.ArgumentTypeError(tr("{given!r} is no number of bars from 1 to 10000", given=text))
    return int(text)


def ppq(text: str) -> int:
    """Ticks per quarter note."""
    if not (text.isdigit() and 24 <= int(text) <= 32_767):
        raise argparse.ArgumentTypeError(tr("{given!r} is no number from 24 to 32767", given=text))
    return int(text)


def bar_range(text: str) -> tuple[int, int]:
    """Bars like 3-10: (first, last)."""
    match = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", text)
    first, last = (int(match[1]), int(match[2] or match[1])) if match else (0, 0)
    if not 1 <= first <= last:
        raise argparse.ArgumentTypeError(tr("{given!r} is no range of bars like 3-10", given=text))
    return first, last


def _wrong(text: str, right: str) -> argparse.ArgumentTypeError:
    return argparse.ArgumentTypeError(tr("{given!r}: write {right}", given=text, right=right))


def grid(text: str) -> str:
    """ "off", "auto" or the name of a grid."""
    from puresignal.core.timing import grids

    if text in ("off", "auto"):
        return text
    try:
        return grids.grid_of(text).name
    except ValueError as error:
        raise _wrong(text, tr("off, auto, or a grid from 1/1 to 1/64 with t, d or q behind it")) from error


def percent(text: str) -> float:
    """A part, 0..1, of a number from 0 to 100."""
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 100:
        raise _wrong(text, tr("a number from 0 to 100"))
    return value / 100.0


def swing(text: str) -> tuple[float, str]:
    """(place of the second of a pair, 0.5..0.75; name of the pair's grid)."""
    part, at, of = text.partition("@")
    try:
        value = float(part) / 100.0
    except ValueError:
        value = 0.0
    of = of if at else "1/8"
    if not 0.5 <= value <= 0.75 or of not in ("1/4", "1/8", "1/16"):
        raise _wrong(text, tr("50 to 75, and @1/4, @1/8 or @1/16 behind it"))
    return value, of


def key(text: str) -> str:
    """ "none", "auto" or the name of a key."""
    from puresignal.core.harmony import key_estimation, keys

    if text in ("none", "auto"):
        return text
    try:
        return keys.named(*key_estimation.parse(text))
    except ValueError as error:
        raise _wrong(text, tr('none, auto, or a name like "D minor"')) from error


def tempo(text: str) -> float | None:
    """None to keep the tempo, a number to state, or the sign that it is to be found."""
    from puresignal.commands import clean

    try:
        return clean.tempo_of(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from error
