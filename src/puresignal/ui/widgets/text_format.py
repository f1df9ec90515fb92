"""Numbers and names as people read them, the same way in every view."""

from __future__ import annotations

from puresignal.core.midi.tempo_map import TempoMap

_THIN = "\N{NARROW NO-BREAK SPACE}"


def count(number: int) -> str:
    """1 248 with a thin space between thousands."""
    return f"{number:,}".replace(",", _THIN)


def counted(number: int, noun: str) -> str:
    """ "1 note", "12 notes"."""
    return f"{count(number)} {noun}{'' if number == 1 else 's'}"


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
    return f"{text}, changing" if len({t.us_per_quarter for t in tempo.tempos}) > 1 else text


def meter(tempo: TempoMap) -> str:
    """The meter at the start, and whether it changes."""
    first = tempo.meter_at(0)
    text = f"{first.numerator}/{first.denominator}"
    different = {(m.numerator, m.denominator) for _, _, m in tempo.bars}
    return f"{text}, changing" if len(different) > 1 else text


def size(number: int) -> str:
    """A number of bytes in words."""
    if number < 1000:
        return f"{number} bytes"
    if number < 1_000_000:
        return f"{number / 1000:.1f} kB"
    return f"{number / 1_000_000:.1f} MB"
