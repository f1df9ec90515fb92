"""Numbers and names as people read them, the same way in every view."""

from __future__ import annotations

from collections.abc import Callable

from puresignal.core.midi.tempo_map import TempoMap
from puresignal.translation import count_tr, tr

_THIN = "\N{NARROW NO-BREAK SPACE}"

_NOUNS: dict[str, Callable[[int], str]] = {
    "hit": lambda n: count_tr("{n} hit", "{n} hits", n),
    "note": lambda n: count_tr("{n} note", "{n} notes", n),
    "message": lambda n: count_tr("{n} message", "{n} messages", n),
    "dropout": lambda n: count_tr("{n} dropout", "{n} dropouts", n),
    "underrun": lambda n: count_tr("{n} underrun", "{n} underruns", n),
    "pad": lambda n: count_tr("{n} pad", "{n} pads", n),
    "pass": lambda n: count_tr("{n} pass", "{n} passes", n),
    "pair": lambda n: count_tr("{n} pair", "{n} pairs", n),
    "named track": lambda n: count_tr("{n} named track", "{n} named tracks", n),  # not shown
    "note-on": lambda n: count_tr("{n} note-on", "{n} note-ons", n),
    "note-off": lambda n: count_tr("{n} note-off", "{n} note-offs", n),
    "controller": lambda n: count_tr("{n} controller", "{n} controllers", n),
    "system message": lambda n: count_tr("{n} system message", "{n} system messages", n),  # not shown
    "key pressure": lambda n: count_tr("{n} key pressure message", "{n} key pressure messages", n),  # not shown
    "pressure": lambda n: count_tr("{n} pressure message", "{n} pressure messages", n),
    "program": lambda n: count_tr("{n} program change", "{n} program changes", n),
    "bend": lambda n: count_tr("{n} bend", "{n} bends", n),
    "file": lambda n: count_tr("{n} file", "{n} files", n),
    "chord": lambda n: count_tr("{n} chord", "{n} chords", n),
    "example": lambda n: count_tr("{n} example", "{n} examples", n),
    "proposal": lambda n: count_tr("{n} proposal", "{n} proposals", n),
    "velocity": lambda n: count_tr("{n} velocity", "{n} velocities", n),
}


def count(number: int) -> str:
    """1 248 with a thin space between thousands."""
    return f"{number:,}".replace(",", _THIN)


def counted(number: int, noun: str) -> str:
    """ "1 note", "12 notes", of the nouns in the table."""
    return _NOUNS[noun](number)


def duration(seconds: float) -> str:
    """1:18.3, or 1:02:05.0 from an hour on."""
    minutes, rest = divmod(max(0.0, seconds), 60)
    hours, minutes = divmod(int(minutes), 60)
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"


def bpm(value: float) -> str:
    """92 BPM, 92.5 BPM."""
    return f"{value:.2f}".rstrip("0").rstrip(".") + " BPM"


def tempo(tempo: TempoMap) -> str:
    """The tempo at the start, and whether it changes."""
    text = bpm(tempo.bpm_at(0.0))
    return tr("{tempo}, changing", tempo=text) if len({t.us_per_quarter for t in tempo.tempos}) > 1 else text


def meter(tempo: TempoMap) -> str:
    """The meter at the start, and whether it changes."""
    first = tempo.meter_at(0)
    text = f"{first.numerator}/{first.denominator}"
    different = {(m.numerator, m.denominator) for _, _, m in tempo.bars}
    return tr("{meter}, changing", meter=text) if len(different) > 1 else text


def size(number: int) -> str:
    """A number of bytes in words."""
    if number < 1000:
        return count_tr("{n} byte", "{n} bytes", number)
    if number < 1_000_000:
        return f"{number / 1000:.1f} kB"
    return f"{number / 1_000_000:.1f} MB"
