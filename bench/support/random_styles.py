"""Takes in the manner of families of playing, drawn by chance, from which the finder of beats learns.

A family gives how likely each voice is on each step of a bar; a take draws its pattern once from that, keeps it with
small changes, and marks its phrases as players do. Pitched takes draw bass, chords, figures and melody apart from one
another, over harmonies that change on bar lines more often than elsewhere. None of the kinds of `played_free` is
written here, though some of them are played in these families too.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from .played_free import CRASH, HAT, KICK, OPEN, RIDE, RIM, SNARE, TOM, WAYS, Kind, Played, Row, play

LOW_TOM, HIGH_TOM, FOOT, BELL, COWBELL, SHAKER, TAMBOURINE, CONGA, CLAP = 43, 50, 44, 53, 56, 70, 54, 63, 39


@dataclass(frozen=True)
class Family:
    """Likelihoods by step, as digits 0..9 (9 is always), of kick, snare, and what keeps time.

    meter  of a bar
    beat   quarter notes
    slow, fast  beats in a minute between which it is usually played
    weight  how often it is drawn
    """

    meter: tuple[int, int]
    beat: float
    kick: str
    snare: str
    keeper: str
    slow: float
    fast: float
    weight: float = 1.0
    snare_by: tuple[int, ...] = (SNARE,)
    keeper_by: tuple[int, ...] = (HAT, HAT, RIDE, OPEN)
    ghosts: float = 0.2
    swing: float = 0.0


FOUR, THREE, SIX, TWELVE, FIVE, SEVEN, TWO = (4, 4), (3, 4), (6, 8), (12, 8), (5, 4), (7, 8), (2, 4)
DRUMS = (
    Family(FOUR, 1.0, "9010002095003020", "0000900000009001", "9090909090909090", 70, 150, 3.0),
    Family(FOUR, 1.0, "9003001295020030", "0000900100009002", "9191919191919191", 66, 120, 2.0),
    Family(FOUR, 1.0, "9020206090204030", "0000900000009000", "9999999999999999", 66, 112, 1.5),
    Family(FOUR, 1.0, "9000100040203010", "0000000090000000", "9090909090909090", 100, 175, 1.3),
    Family(FOUR, 1.0, "9002010020003002", "0000000090000001", "9191919191919191", 66, 100, 0.8),
    Family(FOUR, 1.0, "9000900090009000", "0000800000008000", "1090109010901090", 105, 140, 1.2, (SNARE, CLAP),
           (OPEN, HAT)),
    Family(FOUR, 1.0, "9000900090009002", "0000900000009000", "9393939393939393", 100, 140, 0.8, (SNARE, CLAP)),
    Family(FOUR, 1.0, "9000900090009000", "0090009000900090", "9000900090009000", 90, 170, 0.7),
    Family(FOUR, 1.0, "9020902090209020", "0090009000900090", "9090909090909090", 90, 160, 0.6),
    Family(FOUR, 1.0, "9000002090000020", "9000900090009000", "9090909090909090", 100, 170, 0.7),
    Family(FOUR, 1.0, "0000000090000000", "0000000080000000", "9090909090909090", 66, 95, 0.6, (RIM, SNARE)),
    Family(FOUR, 1.0, "9000900090009000", "0000000090000000", "9292929292929292", 66, 90, 0.6, (RIM, SNARE)),
    Family(FOUR, 1.0, "9000009090000090", "9005003050300500", "9090909090909090", 66, 140, 0.8, (RIM,), ghosts=0.0),
    Family(FOUR, 1.0, "9000009090000090", "2050205020502050", "9599959995999599", 80, 130, 0.6, (SNARE, TOM)),
    Family(FOUR, 1.0, "9000005003001000", "0000900000009000", "9000900090009000", 66, 140, 1.0),
    Family(FOUR, 1.0, "9001005020030050", "0000900200009012", "0000000000000000", 66, 130, 0.7),
    Family(FOUR, 1.0, "7000200060002000", "2222922222229222", "0000000000000000", 90, 160, 0.5),
    Family(FOUR, 1.0, "9000903050009030", "4244724442447244", "9000900090009000", 90, 175, 0.6),
    Family(FOUR, 1.0, "9020900095209020", "3030903030309030", "0000000000000000", 70, 140, 0.5, (TOM, LOW_TOM, SNARE)),
    Family(FOUR, 1.0, "9001000105000100", "0000900000009000", "9030903090309030", 70, 140, 1.0,
           keeper_by=(SHAKER, TAMBOURINE, HAT, RIDE)),
    # In triplets: twelve steps to a bar of four.
    Family(FOUR, 1.0, "900002900003", "000900000900", "909909909909", 70, 150, 1.5),
    Family(FOUR, 1.0, "900001800002", "000900000900", "999999999999", 55, 90, 0.8),
    Family(FOUR, 1.0, "400200400200", "002001002002", "900909900909", 90, 190, 1.3, ghosts=0.1),
    Family(FOUR, 1.0, "900000500000", "000000900000", "909909909909", 66, 110, 0.5),
    Family(TWELVE, 1.5, "900003900003", "000900000900", "999999999999", 50, 85, 0.6),
    Family(SIX, 1.5, "900201", "000900", "999999", 50, 100, 1.3),
    Family(SIX, 1.5, "900005", "000900", "909909", 50, 110, 0.6),
    Family(SIX, 1.5, "902090310203", "000000900000", "995995995995", 60, 130, 0.5, keeper_by=(BELL, RIDE, COWBELL)),
    Family(THREE, 1.0, "900000001000", "000090009000", "900090009000", 80, 176, 1.2),
    Family(THREE, 1.0, "902010203010", "000000009000", "909090909090", 70, 150, 0.8),
    Family(THREE, 1.0, "900000102010", "000090000000", "909090909090", 80, 160, 0.6),
    Family(THREE, 1.0, "500200100", "001002002", "900909909", 90, 190, 0.5),
    Family(TWO, 1.0, "90001000", "00009000", "00900090", 90, 150, 0.6),
    Family(TWO, 1.0, "90000020", "20905299", "00000000", 90, 130, 0.5),
    Family(TWO, 1.0, "90000090", "30503050", "99999999", 90, 130, 0.4, (SNARE, TOM)),
    Family(FIVE, 1.0, "90002010901010302010", "00009000000090000000", "90909090909090909090", 80, 176, 0.7),
    Family(FIVE, 1.0, "90001030000020109000", "00000000900000009000", "90909090909090909090", 80, 176, 0.4),
    Family(FIVE, 1.0, "900000000900000", "000900000000900", "909909909909909", 100, 180, 0.3),
    # Sevens in eighths, counted in eighths.
    Family(SEVEN, 0.5, "90009000900000", "00900090001090", "90909090909090", 150, 300, 1.0),
    Family(SEVEN, 0.5, "90000090001000", "00009000000090", "90909090909090", 150, 300, 0.7),
    Family(SEVEN, 0.5, "90010090009000", "00000000000090", "90909090909090", 150, 300, 0.3),
)  # fmt: skip


def random_take(seed: int) -> Played:
    """A take in a family's manner, drums or pitched."""
    chance = np.random.default_rng([seed, 77])
    make = _drums if chance.random() < 0.5 else _pitched
    return make(chance, seed)


def running_take(seed: int) -> Played:
    """A take of notes that run on evenly, in groups: what a meter is told by when nothing pauses in it."""
    chance = np.random.default_rng([seed, 78])
    meter, beat, _ = METERS[int(chance.choice(len(METERS), p=RUNNING))]
    long = 4 * meter[0] / meter[1]
    harmony = _Harmony(chance, long, beat)
    voices = [_running(chance, harmony, long, beat)]
    if chance.random() < 0.35:
        voices.append((_bass, _chords, _line)[int(chance.integers(3))](chance, harmony, long, beat))
    return _played(chance, seed, meter, beat, voices, 0.0)


def _way(chance: np.random.Generator) -> str:
    return WAYS[int(chance.integers(len(WAYS)))]


def _any_speed(chance: np.random.Generator, beat: float) -> float:
    """Beats in a minute: any pattern may be played at any speed."""
    slow, fast = {1.0: (60, 180), 1.5: (44, 120), 0.5: (130, 320)}[beat]
    return float(chance.uniform(slow, fast))


def _drawn(chance: np.random.Generator, digits: str, sharp: float) -> np.ndarray:
    """Which steps a voice has in a take's pattern."""
    likely = np.array([int(each) for each in digits]) / 9
    return np.asarray(chance.random(len(digits)) < likely**sharp)


def _drums(chance: np.random.Generator, seed: int) -> Played:
    weights = np.array([family.weight for family in DRUMS])
    family = DRUMS[int(chance.choice(len(DRUMS), p=weights / weights.sum()))]
    long = 4 * family.meter[0] / family.meter[1]
    steps = len(family.kick)
    # A family that spans two bars is written with twice the steps.
    span = 2 if family.meter == SIX and steps == 12 else 1
    step = long * span / steps
    sharp = float(chance.uniform(0.6, 1.6))
    two = [[_drawn(chance, digits, sharp) for digits in (family.kick, family.snare)] for _ in range(2)]
    if chance.random() < 0.5:
        two[1] = two[0]
    elif chance.random() < 0.6:
        two[1] = [two[1][0], two[0][1]]
    keeper_on = _drawn(chance, family.keeper, 1.0)
    keeper = int(chance.choice(family.keeper_by))
    thinner = chance.random()
    if thinner < 0.12:
        # Beats only.
        keeper_on &= np.arange(steps) % max(1, round(family.beat / step)) == 0
    elif thinner < 0.2:
        keeper_on[:] = False
    if not keeper_on.any() and not two[0][0].any():
        keeper_on[:: max(1, round(family.beat / step))] = True
    snare = int(chance.choice(family.snare_by))
    accent = float(chance.uniform(0, 30))
    offbeat = float(chance.uniform(-10, 1.2 * accent))
    ghosts = family.ghosts * float(chance.uniform(0, 1.2)) if chance.random() < 0.5 else 0.0
    phrase = int(chance.choice((4, 8, 8, 16)))
    fills, crashes = float(chance.choice((0, 0.5, 0.9))), float(chance.choice((0, 0.5, 0.9, 1.0)))
    changes = float(chance.choice((0.0, 0.03, 0.08)))
    foot = chance.random() < 0.2
    swung = float(chance.uniform(0.04, 0.16)) if step == 0.25 and chance.random() < 0.12 else 0.0
    rough = float(chance.uniform(0.5, 2.0))
    sections = chance.random() < 0.3
    other = int(chance.choice((RIDE, OPEN, BELL, TOM)))

    def at(i: int) -> float:
        place = i * step
        return place + (swung * 0.5 if swung and i % 2 else 0.0)

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        rows: list[Row] = []
        part = number % span
        mine = range(part * steps // span, (part + 1) * steps // span)
        begin = part * steps // span
        kick, snares = two[(number // span) % 2]
        fill = fills and number % phrase == phrase - 1 and chance.random() < fills
        fill_from = long - float(chance.choice((family.beat, 2 * family.beat))) if fill else long
        fill_from = max(0.0, fill_from)
        crash = crashes and number % phrase == 0 and chance.random() < crashes
        now = other if sections and (number // phrase) % 2 else keeper
        for i in mine:
            place = at(i - begin)
            if place >= fill_from - 1e-6:
                continue
            strong = abs((i * step) / family.beat - round((i * step) / family.beat)) < 1e-6
            if keeper_on[i] and not (crash and i == begin) and chance.random() > changes / 2:
                half = abs((2 * i * step) / family.beat % 2 - 1) < 1e-6
                loud = 52 + (accent if strong else offbeat if half else 0) + chance.normal(0, 3 * rough)
                rows.append((place, now, int(np.clip(loud, 8, 127)), 0.1))
            has_kick = bool(kick[i]) ^ bool(chance.random() < changes and i % 2 == 0 and not strong)
            if has_kick:
                rows.append((place, KICK, int(100 + (4 if strong else -4) + chance.normal(0, 3 * rough)), 0.1))
            if snares[i] and chance.random() > changes / 3:
                soft = abs(i * step / (family.beat / 2) - round(i * step / (family.beat / 2))) > 1e-6
                loud = (76 if soft else 102) + chance.normal(0, 4 * rough)
                rows.append((place, snare, int(np.clip(loud, 8, 127)), 0.1))
            elif ghosts and chance.random() < ghosts:
                rows.append((place, SNARE, int(chance.uniform(18, 44)), 0.1))
        if crash:
            rows.append((0.0, CRASH, 105, 0.5))
        if foot:
            rows += [(float(b), FOOT, 50, 0.1) for b in np.arange(family.beat, long - 1e-6, 2 * family.beat)]
        if fill:
            finest = 0.25 if family.beat == 1.0 and step == 0.25 and chance.random() < 0.6 else max(step, 1 / 3)
            for i, place in enumerate(np.arange(fill_from, long - 1e-6, finest).tolist()):
                if chance.random() < 0.9:
                    drum = int(chance.choice((SNARE, HIGH_TOM, TOM, LOW_TOM)))
                    rows.append((place, drum, int(np.clip(96 - 10 * (i % 2) + chance.normal(0, 6), 8, 127)), 0.1))
                if place % family.beat < 1e-6 and chance.random() < 0.4:
                    rows.append((place, KICK, 96, 0.1))
        return rows

    as_usual = chance.random() < 0.4
    beats = float(chance.uniform(family.slow, family.fast)) if as_usual else _any_speed(chance, family.beat)
    kind = Kind("family", family.meter, family.beat, bar, True, False)
    bars = max(8, int(chance.integers(32, 88) / (long / family.beat)))
    return play(kind, _way(chance), seed, bars, marks=False, bpm=beats * family.beat)


METERS = ((FOUR, 1.0, 0.45), (THREE, 1.0, 0.14), (TWO, 1.0, 0.05), (SIX, 1.5, 0.12), (TWELVE, 1.5, 0.03),
          (FIVE, 1.0, 0.08), (SEVEN, 0.5, 0.13))  # fmt: skip
RUNNING = (0.3, 0.2, 0.05, 0.25, 0.05, 0.06, 0.09)
"""How likely each meter is where notes run on evenly: threes of both kinds more than elsewhere."""
Voice = Callable[[int, np.random.Generator], list[Row]]
"""What a voice plays in a bar, by its number."""
SCALES = ((0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10), (0, 2, 3, 5, 7, 9, 10))


class _Harmony:
    """Chords of a take: a loop of roots in a scale; each lasts a bar, two bars, or half a bar."""

    def __init__(self, chance: np.random.Generator, long: float, beat: float):
        self.scale = SCALES[int(chance.integers(3))]
        self.tonic = int(chance.integers(36, 48))
        count = int(chance.choice((1, 2, 4, 4, 8)))
        degrees = [0, *chance.choice((0, 1, 3, 3, 4, 4, 5, 5, 2), count - 1).tolist()]
        kind = chance.random()
        each = 2 * long if 0.6 <= kind < 0.75 else long / 2 if 0.75 <= kind < 0.9 and long == 4 else long
        self.ends = np.cumsum(np.full(len(degrees), each))
        self.degrees = degrees
        self.seventh = chance.random() < 0.3

    def degree(self, quarter: float) -> int:
        where = (quarter + 1e-6) % float(self.ends[-1])
        return int(self.degrees[int(np.searchsorted(self.ends, where, "right"))])

    def note(self, degree: int) -> int:
        """The note of a degree of the scale, counted from the tonic."""
        return self.tonic + 12 * (degree // 7) + self.scale[degree % 7]

    def chord(self, quarter: float) -> list[int]:
        first = self.degree(quarter)
        return [self.note(first + up) for up in ((0, 2, 4, 6) if self.seventh else (0, 2, 4))]


def _rhythm(chance: np.random.Generator, long: float, beat: float, busy: float, synced: float) -> list[float]:
    """Places of a bar where something begins; busy: how full, synced: how much off the beats."""
    fine = beat == 1.0 and busy > 0.6 and chance.random() < 0.3
    grid = np.arange(0, long - 1e-6, 0.25 if fine else 0.5)
    places = []
    for place in grid.tolist():
        on = abs(place / beat - round(place / beat)) < 1e-6
        likely = (0.5 + 0.5 * busy) * (1 - 0.4 * synced) if on else busy * (0.25 + 0.6 * synced)
        if place == 0 and synced < 0.5:
            likely = 0.97
        if chance.random() < likely:
            places.append(float(place))
    return places or [0.0]


def _two_figures(
    chance: np.random.Generator, long: float, beat: float, busiest: float, most_synced: float
) -> list[list[float]]:
    """Rhythms of two bars, often the same."""
    one, other = (
        _rhythm(chance, long, beat, float(chance.uniform(0.1, busiest)), float(chance.uniform(0, most_synced)))
        for _ in range(2)
    )
    return [one, one if chance.random() < 0.6 else other]


def _pitched(chance: np.random.Generator, seed: int) -> Played:
    meter, beat, _ = METERS[int(chance.choice(len(METERS), p=[m[2] for m in METERS]))]
    long = 4 * meter[0] / meter[1]
    harmony = _Harmony(chance, long, beat)
    voices = []
    kind = chance.random()
    if kind < 0.22:
        voices = [_line(chance, harmony, long, beat)]
    elif kind < 0.36:
        voices = [_bass(chance, harmony, long, beat)]
    elif kind < 0.5:
        voices = [_figure(chance, harmony, long, beat)]
    elif kind < 0.6:
        voices = [_chords(chance, harmony, long, beat)]
    elif kind < 0.72:
        voices = [_riff(chance, harmony, long, beat)]
    else:
        makers = [_bass, _chords, _figure, _line, _riff]
        first = [_bass, _bass, _chords, _figure, _riff][int(chance.integers(5))]
        rest = [maker for maker in makers if maker is not first]
        chance.shuffle(rest)  # type: ignore[arg-type]
        voices = [maker(chance, harmony, long, beat) for maker in (first, *rest[: int(chance.choice((1, 1, 2)))])]
    swung = float(chance.choice((1 / 6, 0.12, 0.2))) if beat == 1.0 and chance.random() < 0.14 else 0.0
    return _played(chance, seed, meter, beat, voices, swung)


def _played(
    chance: np.random.Generator, seed: int, meter: tuple[int, int], beat: float, voices: Sequence[Voice], swung: float
) -> Played:
    """What the voices play, at a speed at which it can be played, with accents on bars and beats in most takes."""
    long = 4 * meter[0] / meter[1]
    loud = float(chance.uniform(0, 22)) if chance.random() < 0.75 else 0.0

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        rows: list[Row] = []
        for voice in voices:
            for place, note, velocity, length in voice(number, chance):
                on = abs(place / beat - round(place / beat)) < 1e-6
                lift = loud if place == 0 else 0.5 * loud if on else 0.0
                late = swung if swung and abs(place % 1 - 0.5) < 1e-6 else 0.0
                rows.append((place + late, note, int(np.clip(velocity + lift, 10, 127)), length))
        return rows

    kind_of = Kind("family", meter, beat, bar, False, False)
    density = np.mean([len({round(r[0], 2) for r in bar(n, chance)}) for n in range(8)]) / long
    bpm = 100.0
    for _ in range(40):
        beats = _any_speed(chance, beat)
        if beat == 1.0 and chance.random() < 0.3:
            beats = float(np.exp(chance.normal(np.log(108), 0.26)))
        bpm = beats * beat
        if 55 < beats < 190 * (2 if beat == 0.5 else 1) and 0.8 < density * bpm / 60 < 9:
            break
    bars = max(8, int(chance.integers(32, 88) / (long / beat)))
    return play(kind_of, _way(chance), seed, bars, marks=False, bpm=bpm)


def _bass(chance, harmony, long, beat):
    style = int(chance.choice(6))
    figures = _two_figures(chance, long, beat, 0.8, 0.7)
    fifths = chance.random() < 0.5
    octave = chance.random() < 0.3
    long_notes = float(chance.choice((0.4, 0.8, 0.95)))
    velocity = float(chance.uniform(70, 92))
    steps = {0: long, 1: beat, 2: max(0.5, beat / 2), 4: 2 * beat if long >= 2 * beat else beat}.get(style)

    def bar(number, chance):
        begin = number * long
        places = figures[number % 2] if steps is None else np.arange(0, long - 1e-6, steps).tolist()
        rows = []
        for i, place in enumerate(places):
            end = places[i + 1] if i + 1 < len(places) else long
            root = harmony.note(harmony.degree(begin + place))
            note = root
            if style == 5 or (style == 1 and not fifths):
                # Walking: chord notes and what leads to the next.
                if place:
                    note = int(chance.choice(harmony.chord(begin + place))) + int(chance.choice((0, 0, -1, 1)))
            elif fifths and i % 2:
                note = harmony.note(harmony.degree(begin + place) + 4) - (12 if chance.random() < 0.3 else 0)
            elif octave and i % 2:
                note = root + 12
            rows.append((float(place), note, velocity, max(0.1, long_notes * (end - place))))
        return rows

    return bar


def _chords(chance, harmony, long, beat):
    style = int(chance.choice(5))
    figures = _two_figures(chance, long, beat, 0.7, 0.9)
    velocity, up = float(chance.uniform(58, 80)), int(chance.choice((12, 12, 24)))
    spread = float(chance.uniform(0, 0.02)) if chance.random() < 0.3 else 0.0
    skip_first = chance.random() < 0.4

    def bar(number, chance):
        begin = number * long
        if style == 0:
            places = [0.0]
        elif style == 1:
            places = np.arange(0, long - 1e-6, beat).tolist()
        elif style == 2:
            # After the beat, or on all but the first.
            if beat == 1.5:
                places = [p for p in np.arange(0, long - 1e-6, 0.5).tolist() if p % 1.5]
            elif skip_first and long / beat > 1:
                places = np.arange(beat, long - 1e-6, beat).tolist()
            else:
                places = (np.arange(0, long - 1e-6, beat) + beat / 2).tolist()
        else:
            places = figures[number % 2]
        rows = []
        for i, place in enumerate(places):
            end = places[i + 1] if i + 1 < len(places) else long
            for k, note in enumerate(harmony.chord(begin + place)):
                rows.append((float(place) + spread * k, note + up, velocity, max(0.15, 0.85 * (end - place))))
        return rows

    return bar


def _figure(chance, harmony, long, beat):
    """A broken chord."""
    step = 0.5 if beat != 1.0 else float(chance.choice((0.25, 0.5, 0.5, 1 / 3)))
    size = int(chance.choice((3, 4, 4, 6, 8)))
    if chance.random() < 0.65:
        # It fits into the bar.
        size = max(2, round(float(chance.choice((beat, 2 * beat, long))) / step))
    up_and_down = np.concatenate([np.arange((size + 1) // 2), np.arange(size // 2)[::-1] + (size % 2 == 0)])
    shape = chance.integers(0, 5, size) if chance.random() < 0.4 else up_and_down
    if chance.random() < 0.3:
        shape = np.arange(size)
    velocity, up = float(chance.uniform(56, 80)), int(chance.choice((0, 12, 12)))
    held = float(chance.choice((0.5, 0.9, 2.0)))
    anew = chance.random() < 0.8

    def bar(number, chance):
        begin = number * long
        rows = []
        for i, place in enumerate(np.arange(0, long - 1e-6, step).tolist()):
            turn = i if anew else round(begin / step) + i
            tones = harmony.chord(begin + place)
            which = int(shape[turn % size])
            rows.append(
                (float(place), tones[which % len(tones)] + up + 12 * (which // len(tones)), velocity, held * step)
            )
        return rows

    return bar


GROUPS = {(3.5, 0.5): ((0, 1, 2), (0, 1.5, 2.5), (0, 1, 2.5)), (5.0, 1.0): ((0, 3), (0, 2), (0, 1, 2, 3, 4)),
          (4.0, 1.0): ((0, 1.5, 3), (0, 2), (0, 1, 2, 3)), (3.0, 1.5): ((0, 1.5),), (3.0, 1.0): ((0,), (0, 1, 2)),
          (6.0, 1.5): ((0, 1.5, 3, 4.5), (0, 3)), (2.0, 1.0): ((0, 1), (0,))}  # fmt: skip
"""Where groups of a bar may begin, by its quarter notes and those of its beat."""


def _riff(chance, harmony, long, beat):
    """A figure of a few notes of the scale around its root, played again and again."""
    bars = int(chance.choice((1, 1, 1, 2)))
    finest = 0.25 if beat == 1.0 and chance.random() < 0.2 else 0.5
    filled, busy = chance.random() < 0.5, float(chance.uniform(0.3, 1.0))
    groups = GROUPS[long, beat]
    begins = groups[int(chance.integers(len(groups)))]
    shaped = float(chance.uniform(0.2, 1.0))
    accent = float(chance.uniform(4, 20)) if chance.random() < 0.5 else 0.0
    rooted, fixed = float(chance.uniform(0.1, 0.7)), chance.random() < 0.4
    figures = []
    for _ in range(bars):
        notes = []
        for place in np.arange(0, long - 1e-6, finest).tolist():
            if place == 0 and chance.random() < 0.95:
                notes.append((0.0, 0 if chance.random() < 0.92 else 4))
            elif filled or chance.random() < (busy if place not in begins else 0.5 + 0.5 * busy):
                up = 0 if chance.random() < rooted else int(chance.choice((-3, -1, 1, 2, 2, 3, 4, 4, 6, 7, 7)))
                if chance.random() < shaped:
                    # A group begins low or on a note of the chord, and goes on with others.
                    up = int(chance.choice((0, 0, 2, 4, -3))) if place in begins else up or 2
                notes.append((place, up))
        figures.append(notes or [(0.0, 0)])
    if bars == 2 and chance.random() < 0.5:
        # The second bar ends in another way.
        half = [one for one in figures[0] if one[0] < long / 2]
        figures[1] = half + [one for one in figures[1] if one[0] >= long / 2]
    velocity, up_by = float(chance.uniform(66, 90)), int(chance.choice((0, 0, 12, 24)))
    held = float(chance.choice((0.4, 0.8, 0.95)))

    def bar(number, chance):
        rows, notes = [], figures[number % bars]
        for i, (place, up) in enumerate(notes):
            end = notes[i + 1][0] if i + 1 < len(notes) else long
            root = 0 if fixed else harmony.degree(number * long)
            loud = velocity + (accent if place in begins else 0.0)
            rows.append((place, harmony.note(root + up) + up_by, loud, max(0.1, held * (end - place))))
        return rows

    return bar


CONTOURS = (
    (0, 1, 2, 3),
    (3, 2, 1, 0),
    (0, 2, 1, 2),
    (0, 2, 2, 2),
    (0, 1, 2, 1),
    (2, 0, 1, 0),
    (0, 3, 1, 3),
    (1, 2, 0, 2),
)
"""Which notes of a chord a group has, one after another, from its lowest."""


def _running(chance, harmony, long, beat):
    """Notes of chords or of the scale without a gap, in groups that are told by where they begin again, by their
    lowest notes, or by accents; now and then by none of these.
    """
    step = 0.5 if beat != 1.0 or chance.random() < 0.6 else 0.25
    groups = GROUPS[long, beat]
    begins = groups[int(chance.integers(len(groups)))]
    if chance.random() < 0.4:
        begins = (0,)
    ends = (*begins[1:], long)
    scale = chance.random() < 0.3
    same = chance.random() < 0.5
    sizes = [round((b - a) / step) for a, b in zip(begins, ends, strict=True)]
    arch = chance.random() < 0.45
    turning = float(chance.choice((0.5, 0.5, 0.35, 0.65)))

    def shape(size):
        if arch and size > 3:
            # Up and down again, or the other way.
            top = max(1, min(size - 1, round(turning * size)))
            way = [i if i <= top else 2 * top - i for i in range(size)]
            return [top - each for each in way] if chance.random() < 0.15 else way
        contour = CONTOURS[int(chance.integers(len(CONTOURS)))]
        return [contour[i % 4] for i in range(size)] if size > 1 else [0]

    shapes = {}
    notes = []
    low = chance.random() < 0.5
    for k, (begin, size) in enumerate(zip(begins, sizes, strict=True)):
        if not same or size not in shapes:
            shapes[size] = shape(size)
        lift = 0 if not k or chance.random() < 0.5 else int(chance.choice((-1, 1, 2)))
        for i, up in enumerate(shapes[size]):
            root = low and i == 0 and (k == 0 or chance.random() < 0.7)
            notes.append((begin + i * step, None if root else up + lift))
    velocity, up_by = float(chance.uniform(56, 84)), int(chance.choice((0, 12, 12, 24)))
    accent = float(chance.uniform(2, 14)) if chance.random() < 0.4 else 0.0
    held = float(chance.choice((0.5, 0.9, 2.0)))
    changes = float(chance.choice((0.0, 0.0, 0.04, 0.1)))

    def bar(number, chance):
        rows = []
        for place, up in notes:
            first = harmony.degree(number * long + place)
            if chance.random() < changes:
                up = int(chance.integers(0, 5))
            if up is None:
                note = harmony.note(first) + up_by - (12 if low and up_by else 0)
            elif scale:
                note = harmony.note(first + up) + up_by
            else:
                tones = harmony.chord(number * long + place)
                note = tones[up % len(tones)] + 12 * (up // len(tones)) + up_by
            loud = velocity + (accent if place in begins else 0.0)
            rows.append((place, note, loud, held * step))
        return rows

    return bar


def _line(chance, harmony, long, beat):
    """A melody, in phrases that come back."""
    bars = int(chance.choice((1, 2, 4, 4)))
    busy, synced = float(chance.uniform(0.1, 0.8)), float(chance.uniform(0, 0.6))
    figures = [_rhythm(chance, long, beat, busy, synced) for _ in range(bars)]
    if bars == 4 and chance.random() < 0.5:
        figures[2] = figures[0]
    # Phrases end on longer notes.
    if bars > 1 and chance.random() < 0.6:
        figures[-1] = [place for place in figures[-1] if place < long / 2 + 1e-6] or [0.0]
    walk = np.cumsum(chance.choice((-2, -1, -1, 0, 1, 1, 2, 3, -3), 64))
    walk = np.clip(walk - walk.mean(), -7, 9).astype(int)
    velocity, free = float(chance.uniform(66, 90)), float(chance.choice((0.0, 0.1, 0.5)))
    rest = float(chance.choice((0, 0, 0.1)))

    def bar(number, chance):
        begin = number * long
        places = figures[number % bars]
        if free and chance.random() < free:
            places = _rhythm(chance, long, beat, busy, synced)
        rows = []
        for i, place in enumerate(places):
            if chance.random() < rest:
                continue
            end = places[i + 1] if i + 1 < len(places) else long
            degree = int(walk[(5 * (number % bars) + i) % 64])
            if place == 0 or (abs(place % beat) < 1e-6 and chance.random() < 0.4):
                # The nearest note of the chord.
                tones = [harmony.degree(begin + place) + up for up in (-7, -5, -3, 0, 2, 4, 7, 9)]
                degree = min(tones, key=lambda tone: abs(tone - degree))
            elif free and chance.random() < 0.3:
                degree += int(chance.choice((-1, 1, 2)))
            rows.append((float(place), harmony.note(degree) + 24, velocity, max(0.1, 0.9 * (end - place))))
        return rows

    return bar
