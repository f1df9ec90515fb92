"""Takes played without a click, for measuring the finder of beats: patterns, a wavering tempo, and a hand's faults.

It shares nothing with the finder. Each kind is a pattern of bars; half of the kinds are held out: nothing was tuned
on them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

KICK, SNARE, RIM, HAT, OPEN, RIDE, CRASH, TOM = 36, 38, 37, 42, 46, 51, 49, 45
Row = tuple[float, int, int, float]
"""Quarter notes from the bar line, note, velocity, length in quarter notes."""


@dataclass(frozen=True)
class Kind:
    """A way of playing: meter, quarter notes of a beat, a bar's notes, drums or pitched, whether it is held out."""

    name: str
    meter: tuple[int, int]
    beat: float
    bar: Callable[[int, np.random.Generator], list[Row]]
    drums: bool
    held_out: bool


@dataclass(frozen=True)
class Played:
    """rows: (seconds, note, velocity, seconds long, channel); beats and bars: seconds of the true ones."""

    kind: Kind
    way: str
    bpm: float
    rows: list[tuple[float, int, int, float, int]]
    beats: np.ndarray
    bars: np.ndarray


def _hits(*groups: tuple[int, int, tuple[float, ...]]) -> list[Row]:
    return [(at, note, velocity, 0.1) for note, velocity, places in groups for at in places]


def _rock8(bar: int, chance: np.random.Generator) -> list[Row]:
    if bar % 8 == 7:
        places = tuple(i / 4 for i in range(8, 16))
        return _hits((KICK, 100, (0, 1.5)), (SNARE, 92, (1, *places)), (HAT, 60, (0, 0.5, 1, 1.5)))
    kicks = (0, 2, 2.5) if bar % 2 else (0, 2)
    return _hits((KICK, 104, kicks), (SNARE, 100, (1, 3)), (HAT, 66, tuple(i / 2 for i in range(8))))


def _rock16(bar: int, chance: np.random.Generator) -> list[Row]:
    ghosts = tuple(float(p) for p in (0.75, 1.75, 2.25, 3.75) if chance.random() < 0.5)
    return _hits((KICK, 104, (0, 1.75, 2.5)), (SNARE, 102, (1, 3)), (SNARE, 34, ghosts),
                 (HAT, 58, tuple(i / 4 for i in range(16))))  # fmt: skip


def _half_time(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 106, (0, 1.5)), (SNARE, 108, (2,)), (HAT, 62, tuple(i / 2 for i in range(8))))


def _waltz(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 100, (0,)), (SNARE, 74, (1, 2)), (HAT, 56, (0, 1, 2)) if bar % 4 else (CRASH, 90, (0,)))


def _six_eight(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 102, (0,)), (SNARE, 98, (1.5,)), (HAT, 60, tuple(i / 2 for i in range(6))))


def _five(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 102, (0, 3)), (SNARE, 96, (2, 4)), (RIDE, 64, tuple(i / 2 for i in range(10))))


def _seven(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 102, (0, 2)), (SNARE, 98, (1, 3)), (HAT, 62, tuple(i / 2 for i in range(7))))


def _floor(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 110, (0, 1, 2, 3)), (SNARE, 84, (1, 3)), (OPEN, 78, (0.5, 1.5, 2.5, 3.5)))


def _swing(bar: int, chance: np.random.Generator) -> list[Row]:
    third = 2 / 3
    kicks = tuple(float(p) for p in (0, 2) if chance.random() < 0.6)
    return _hits((RIDE, 76, (0, 1, 1 + third, 2, 3, 3 + third)), (HAT, 60, (1, 3)), (KICK, 52, kicks),
                 (SNARE, 48, tuple(float(p) + third for p in range(4) if chance.random() < 0.2)))  # fmt: skip


def _two_beat(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 100, (0,)), (SNARE, 86, (1,)), (HAT, 58, (0.5, 1.5)))


def _sparse(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 100, (0, 2.5) if bar % 2 else (0,)), (SNARE, 98, (1, 3)))


def _shuffle(bar: int, chance: np.random.Generator) -> list[Row]:
    third = 2 / 3
    pairs = tuple(p + q for p in range(4) for q in (0, third))
    return _hits((KICK, 102, (0, 2)), (SNARE, 100, (1, 3)), (HAT, 64, pairs))


def _sixteenth_hats(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 108, (0, 1, 2, 3)), (SNARE, 88, (1, 3)), (HAT, 64, tuple(i / 4 for i in range(16))))


def _one_drop(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 96, (2,)), (RIM, 92, (2,)), (HAT, 70, tuple(i / 2 for i in range(8))))


def _fast_beat(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits((KICK, 104, (0, 1, 2, 3)), (SNARE, 98, (0.5, 1.5, 2.5, 3.5)), (HAT, 70, (0, 1, 2, 3)))


def _blues(bar: int, chance: np.random.Generator) -> list[Row]:
    third = 1 / 3
    triplets = tuple(p + q * third for p in range(4) for q in range(3))
    return _hits((KICK, 100, (0, 2)), (SNARE, 98, (1, 3)), (RIDE, 64, triplets))


def _march(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits(
        (KICK, 98, (0,)),
        (SNARE, 80, (0.5, 1, 1.5, 1.75) if bar % 2 else (0.5, 1, 1.5)),
        (CRASH, 80, () if bar % 4 else (0,)),
    )


def _latin(bar: int, chance: np.random.Generator) -> list[Row]:
    return _hits(
        (KICK, 92, (0, 1.5, 2, 3.5)),
        (RIM, 84, (0, 1.5, 3) if bar % 2 else (1, 2)),
        (HAT, 58, tuple(i / 2 for i in range(8))),
    )


ROOTS = (45, 41, 36, 43)


def _root(bar: int) -> int:
    return ROOTS[bar % 4]


def _bass_quarters(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(i, root + (7 if i == 2 else 0), 92 if not i else 78, 0.9) for i in range(4)]


def _walking(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [
        (i, root + step, 84 if i % 2 else 78, 0.85) for i, step in enumerate((0, 4, 7, int(chance.integers(8, 12))))
    ]


def _bass_eighths(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(i / 2, root, 94 if i % 2 == 0 else 76, 0.4) for i in range(8)]


def _arpeggio(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(i / 2, root + step, 88 if not i else 70, 0.5) for i, step in enumerate((0, 7, 12, 16, 19, 16, 12, 7))]


def _block_chords(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar) + 12
    rows: list[Row] = []
    for at, long, loud in ((0, 1.0, 88), (1, 1.0, 72), (2, 1.0, 80), (3, 1.0, 72)):
        rows += [(at, root + step, loud, long * 0.9) for step in (0, 4, 7)]
    return [*rows, (0, _root(bar), 90, 3.8)]


def _ballad(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    rows: list[Row] = [(0, root, 84, 2.0), (2, root + 7, 74, 2.0)]
    rows += [(at, root + 12 + step, 64, 0.9) for at in (1, 3) for step in (4, 7, 12)]
    for at in (0, 1, 1.5, 2, 3):
        if chance.random() < 0.75:
            rows.append((at, 72 + int(chance.choice((0, 2, 4, 5, 7, 9))), 82, 0.8))
    return rows


def _oom_pah_pah(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    rows: list[Row] = [(0, root, 92, 0.9)]
    return rows + [(at, root + 12 + step, 66, 0.5) for at in (1, 2) for step in (4, 7, 12)]


def _six_eight_arpeggio(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(i / 2, root + step, 90 if i == 0 else 80 if i == 3 else 66, 0.5)
            for i, step in enumerate((0, 7, 12, 16, 12, 7))]  # fmt: skip


def _seven_riff(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar // 2)
    return [(at, root + step, 96 if not at else 80, 0.45)
            for at, step in ((0, 0), (0.5, 0), (1, 7), (1.5, 5), (2, 3), (2.5, 0), (3, 10))]  # fmt: skip


def _five_bass(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(at, root + step, 94 if not at else 78, 0.9) for at, step in ((0, 0), (1.5, 0), (3, 7), (4, 5))]


def _melody(bar: int, chance: np.random.Generator) -> list[Row]:
    figures = ((0, 1, 2, 3), (0, 1, 1.5, 2, 3), (0, 2, 3), (0, 0.5, 1, 2, 3.5), (0, 1.5, 2, 3))
    places = figures[int(chance.integers(len(figures)))]
    ends = (*places[1:], 4)
    notes = 67 + chance.choice((-5, -3, 0, 2, 4, 5, 7), len(places))
    return [(at, int(n), 88 if not at else 76, 0.9 * (end - at))
            for at, end, n in zip(places, ends, notes, strict=True)]  # fmt: skip


def _alberti(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar) + 12
    rows: list[Row] = [(i / 2, root + step, 72 if i else 84, 0.45) for i, step in enumerate((0, 7, 4, 7) * 2)]
    if chance.random() < 0.9:
        rows += [(0, root + 24, 92, 1.8), (2, root + 26, 82, 1.0), (3, root + 28, 80, 0.9)]
    return rows


def _piano_quarters(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    rows: list[Row] = [
        (at, root + 12 + step, 84 if at in (0, 2) else 74, 0.8) for at in range(4) for step in (4, 7, 12)
    ]
    return [*rows, (0, root, 92, 1.8), (2.5, root, 80, 0.4), (3, root, 82, 0.9)]


def _octaves(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    return [(i / 2, root + (12 if i % 2 else 0), 92 if i % 2 == 0 else 80, 0.4) for i in range(8)]


def _sixteenth_arpeggio(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar) + 12
    steps = (0, 7, 12, 16) * 4
    return [(i / 4, root + step, 90 if not i else 78 if i % 4 == 0 else 66, 0.3) for i, step in enumerate(steps)]


def _strum(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar) + 12
    rows: list[Row] = []
    for at, loud in ((0, 92), (1, 78), (1.5, 66), (2.5, 70), (3, 80), (3.5, 64)):
        rows += [(at + 0.01 * i, root + step, loud, 0.4) for i, step in enumerate((0, 7, 12, 16))]
    return rows


def _waltz_melody(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    figure = ((0, 1, 2), (0, 2), (0, 1.5, 2))[int(chance.integers(3))]
    rows: list[Row] = [(at, 72 + int(chance.choice((0, 2, 4, 5, 7))), 86 if not at else 74, 0.9) for at in figure]
    return [*rows, (0, root, 88, 2.8)]


def _six_eight_chords(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    rows: list[Row] = [(0, root, 94, 1.3), (1.5, root + 7, 82, 1.3)]
    return rows + [(at, root + 12 + step, 66, 0.4) for at in (0.5, 1, 2, 2.5) for step in (4, 7)]


def _polka(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar // 2)
    rows: list[Row] = [(0, root, 92, 0.4), (1, root + 7, 84, 0.4)]
    return rows + [(at, root + 12 + step, 70, 0.3) for at in (0.5, 1.5) for step in (4, 7)]


def _five_chords(bar: int, chance: np.random.Generator) -> list[Row]:
    root = _root(bar)
    rows: list[Row] = [(0, root, 94, 2.8), (3, root + 7, 84, 1.8)]
    return rows + [(at, root + 12 + step, 68, 0.8) for at in (1, 2, 4) for step in (4, 7)]


KINDS = (
    Kind("sixteenth hats", (4, 4), 1.0, _sixteenth_hats, True, False),
    Kind("one drop", (4, 4), 1.0, _one_drop, True, False),
    Kind("fast beat", (4, 4), 1.0, _fast_beat, True, False),
    Kind("blues in triplets", (4, 4), 1.0, _blues, True, False),
    Kind("march", (2, 4), 1.0, _march, True, False),
    Kind("latin", (4, 4), 1.0, _latin, True, False),
    Kind("piano in quarters", (4, 4), 1.0, _piano_quarters, False, False),
    Kind("octaves", (4, 4), 1.0, _octaves, False, False),
    Kind("arpeggio in sixteenths", (4, 4), 1.0, _sixteenth_arpeggio, False, False),
    Kind("strum", (4, 4), 1.0, _strum, False, False),
    Kind("waltz melody", (3, 4), 1.0, _waltz_melody, False, False),
    Kind("six eight chords", (6, 8), 1.5, _six_eight_chords, False, False),
    Kind("polka", (2, 4), 1.0, _polka, False, False),
    Kind("five in chords", (5, 4), 1.0, _five_chords, False, False),
    Kind("rock in eighths", (4, 4), 1.0, _rock8, True, False),
    Kind("half time", (4, 4), 1.0, _half_time, True, False),
    Kind("waltz on drums", (3, 4), 1.0, _waltz, True, False),
    Kind("six eight on drums", (6, 8), 1.5, _six_eight, True, False),
    Kind("five on drums", (5, 4), 1.0, _five, True, False),
    Kind("shuffle", (4, 4), 1.0, _shuffle, True, False),
    Kind("bass in quarters", (4, 4), 1.0, _bass_quarters, False, False),
    Kind("arpeggio", (4, 4), 1.0, _arpeggio, False, False),
    Kind("block chords", (4, 4), 1.0, _block_chords, False, False),
    Kind("seven eight riff", (7, 8), 0.5, _seven_riff, False, False),
    Kind("melody", (4, 4), 1.0, _melody, False, False),
    Kind("rock in sixteenths", (4, 4), 1.0, _rock16, True, True),
    Kind("four on the floor", (4, 4), 1.0, _floor, True, True),
    Kind("swing", (4, 4), 1.0, _swing, True, True),
    Kind("two beat", (2, 4), 1.0, _two_beat, True, True),
    Kind("sparse", (4, 4), 1.0, _sparse, True, True),
    Kind("seven eight on drums", (7, 8), 0.5, _seven, True, True),
    Kind("walking bass", (4, 4), 1.0, _walking, False, True),
    Kind("bass in eighths", (4, 4), 1.0, _bass_eighths, False, True),
    Kind("ballad", (4, 4), 1.0, _ballad, False, True),
    Kind("oom pah pah", (3, 4), 1.0, _oom_pah_pah, False, True),
    Kind("six eight arpeggio", (6, 8), 1.5, _six_eight_arpeggio, False, True),
    Kind("five on a bass", (5, 4), 1.0, _five_bass, False, True),
    Kind("alberti", (4, 4), 1.0, _alberti, False, True),
)
WAYS = ("steady", "drift", "step", "ritardando", "pause", "pick-up", "faults")


def _marked(rows: list[Row], bar: int, long: float, beat: float) -> list[Row]:
    """A drummer's bar with what marks a phrase of eight: a crash at its beginning, a fill at its end."""
    if bar % 8 == 0:
        return [row for row in rows if row[0] or row[1] not in (HAT, RIDE, OPEN)] + [(0.0, CRASH, 100, 0.5)]
    if bar % 8 == 7:
        begin = long - max(beat, 1.0)
        kept = [row for row in rows if row[0] < begin]
        return kept + [(begin + i / 4, TOM if i % 2 else SNARE, 90, 0.1) for i in range(round(4 * (long - begin)))]
    return rows


def play(kind: Kind, way: str, seed: int, bars: int = 20, marks: bool = True, bpm: float | None = None) -> Played:
    """A take of a kind, played in a way. bpm: quarter notes in a minute; drawn from 66 to 176 if it is not given.

    marks: three drummers of four mark their phrases of eight bars. Some kinds tell nothing of their bars otherwise
    """
    chance = np.random.default_rng(seed)
    long = 4 * kind.meter[0] / kind.meter[1]
    drawn = float(chance.uniform(66, 176 if kind.beat >= 1 else 150))
    bpm = bpm or drawn
    quarters = np.arange(0, bars * long + 1, 0.25)
    speed = np.full(len(quarters), bpm)
    if way in ("drift", "faults", "pick-up"):
        walk = np.cumsum(chance.standard_normal(len(quarters))) * 0.006
        speed *= np.exp(walk - np.linspace(0, walk[-1], len(walk)) * 0.5)
    if way == "step":
        speed[len(speed) // 2 :] *= float(chance.choice((0.86, 1.14)))
    if way == "ritardando":
        tail = len(speed) // 5
        speed[-tail:] *= np.linspace(1, 0.7, tail)
    seconds = np.concatenate([[0.0], np.cumsum(0.25 * 60 / speed[:-1])])
    if way == "pause":
        seconds[len(seconds) // 2 + 1 :] += float(chance.uniform(1.2, 2.5))

    def at(quarter: float) -> float:
        return float(np.interp(quarter, quarters, seconds))

    jitter = float(chance.uniform(0.008, 0.025 if way == "faults" else 0.015))
    rows = []
    marks = marks and kind.drums and chance.random() < 0.75
    for bar in range(bars):
        written = kind.bar(bar, chance)
        for place, note, velocity, length in _marked(written, bar, long, kind.beat) if marks else written:
            if way == "faults" and chance.random() < 0.06:
                continue
            begin = at(bar * long + place) + float(chance.normal(0, jitter))
            loud = int(np.clip(velocity + chance.normal(0, 7), 8, 127))
            end = begin + length * 60 / bpm
            rows.append((begin, note, loud, end - begin, 10 if kind.drums else 1))
            if way == "faults" and chance.random() < 0.04:
                rows.append((begin + float(chance.uniform(0.05, 0.4)), note, 30, 0.1, 10 if kind.drums else 1))
    if way == "pick-up":
        note = SNARE if kind.drums else 62
        for before in (1.0, 0.5):
            rows.append((-before * 60 / bpm + float(chance.normal(0, jitter)), note, 80, 0.2, 10 if kind.drums else 1))
    first = min(row[0] for row in rows)
    lead = 0.2 - first
    rows = sorted((row[0] + lead, *row[1:]) for row in rows)
    beats = np.array([at(q) + lead for q in np.arange(0, bars * long - 1e-6, kind.beat)])
    lines = np.array([at(bar * long) + lead for bar in range(bars)])
    return Played(kind, way, bpm, rows, beats, lines)


def cut_off(played: Played, begin: float, end: float) -> Played:
    """What is left of a take that was recorded only between two seconds of it."""
    rows = [row for row in played.rows if begin <= row[0] <= end]
    if not rows:
        return replace(played, rows=[], beats=np.zeros(0), bars=np.zeros(0))
    first, last = rows[0][0] - 0.1, rows[-1][0] + 0.1
    beats, bars = (times[(times >= first) & (times <= last)] for times in (played.beats, played.bars))
    return replace(played, rows=rows, beats=beats, bars=bars)


def f_measure(true: np.ndarray, found: np.ndarray, within: float = 0.07) -> float:
    """The F1 of found beats: each true one is hit at most once."""
    hits, i, j = 0, 0, 0
    true, found = np.sort(true), np.sort(found)
    while i < len(true) and j < len(found):
        if abs(true[i] - found[j]) <= within:
            hits, i, j = hits + 1, i + 1, j + 1
        elif true[i] < found[j]:
            i += 1
        else:
            j += 1
    return 2 * hits / max(1, len(true) + len(found))
