"""Ways of playing drawn by chance, from which the finder of beats learns what bars look like.

Meters, subdivisions, patterns, accents, fills, harmonies: each is drawn anew for a take. None of the written kinds of
`played_free` is among them, so all of those can be used to measure what was learnt.
"""

from __future__ import annotations

import numpy as np

from .played_free import CRASH, HAT, KICK, OPEN, RIDE, RIM, SNARE, TOM, WAYS, Kind, Played, Row, play

METERS = (((4, 4), 1.0, 0.55), ((3, 4), 1.0, 0.13), ((2, 4), 1.0, 0.05), ((6, 8), 1.5, 0.13), ((12, 8), 1.5, 0.02),
          ((5, 4), 1.0, 0.06), ((7, 8), 0.5, 0.06))  # fmt: skip


def random_take(seed: int) -> Played:
    chance = np.random.default_rng(seed)
    meter, beat, _ = METERS[int(chance.choice(len(METERS), p=[m[2] for m in METERS]))]
    drums = bool(chance.random() < 0.5)
    make = _drums(meter, beat, chance) if drums else _pitched(meter, beat, chance)
    kind = Kind("drawn", meter, beat, make, drums, False)
    return play(kind, WAYS[int(chance.integers(len(WAYS)))], seed, int(chance.integers(10, 24)), marks=False)


def _steps(meter: tuple[int, int], beat: float, chance: np.random.Generator) -> np.ndarray:
    """Places of a bar on which a timekeeper plays, in quarter notes."""
    long = 4 * meter[0] / meter[1]
    if beat == 1.5:
        return np.arange(0, long, 0.5 if chance.random() < 0.8 else 1.5)
    if beat == 0.5:
        return np.arange(0, long, 0.5)
    kind = chance.choice(6, p=[0.37, 0.18, 0.13, 0.12, 0.12, 0.08])
    if kind == 0:
        return np.arange(0, long, 0.5)
    if kind == 1:
        return np.arange(0, long, 0.25)
    if kind == 2:
        return np.arange(0, long, 1.0)
    beats = np.arange(0, long, 1.0)
    if kind == 5:
        return np.arange(0, long - 1e-6, 1 / 3)
    skip = 2 / 3 if chance.random() < 0.8 else 0.75
    if kind == 3:
        return np.sort(np.concatenate([beats, beats + skip]))
    return np.sort(np.concatenate([beats, beats[1::2] + skip]))


def _drums(meter, beat, chance):
    long = 4 * meter[0] / meter[1]
    hands = _steps(meter, beat, chance)
    keeper = int(chance.choice((HAT, RIDE, OPEN, TOM), p=(0.6, 0.25, 0.1, 0.05)))
    accent = float(chance.uniform(0, 22))
    half = float(chance.uniform(-6, accent))
    bare = chance.random() < 0.1
    beats = np.arange(0, long, beat)
    if beat == 0.5:
        # Sevens are counted in groups of two and three.
        groups = [(0, 1, 2), (0, 1.5, 2.5), (0, 1, 2.5)][int(chance.integers(3))]
        strong = np.array(groups, float)
    else:
        strong = beats
    backs = set()
    style = chance.random()
    if len(strong) % 2 == 0:
        if style < 0.7:
            backs = set(strong[1::2].tolist())
        elif style < 0.85:
            backs = {float(strong[len(strong) // 2])}
        elif style < 0.93:
            backs = {float(s) + beat / 2 for s in strong}
    elif style < 0.6:
        backs = set(strong[1:].tolist())
    else:
        backs = {float(strong[-1])}
    grid = np.unique(np.concatenate([hands, beats + beat / 2])) if beat != 0.5 else hands
    two = []
    for _ in range(2):
        kicks = {0.0} if chance.random() < 0.92 else set()
        for place in grid.tolist():
            near = 0.5 if place in strong.tolist() else 0.18
            if place and place not in backs and chance.random() < near:
                kicks.add(float(place))
        two.append(kicks)
    if long == 4 and chance.random() < 0.45:
        # Many grooves of four are the same twice.
        two = [{p for p in kicks if p < 2} | {p + 2 for p in kicks if p < 2} for kicks in two]
    if long == 4 and 2.0 in backs and chance.random() < 0.4:
        two = [{2.0} | ({3.5} if chance.random() < 0.3 else set())] * 2
    if chance.random() < 0.5:
        two[1] = two[0]
    if chance.random() < 0.12:
        two = [set(beats.tolist())] * 2
    ghosts = chance.uniform(0, 0.3) if chance.random() < 0.4 else 0.0
    phrase = int(chance.choice((4, 8, 8, 16)))
    fills = chance.random() < 0.7
    crashes = chance.random() < 0.75
    snare = RIM if chance.random() < 0.15 else SNARE

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        rows: list[Row] = []
        fill_from = long - float(chance.choice((beat, 2 * beat))) if fills and number % phrase == phrase - 1 else long
        fill_from = max(0.0, fill_from)
        crash = crashes and number % phrase == 0
        if not bare:
            for place in hands.tolist():
                if place >= fill_from or (crash and place == 0):
                    continue
                lift = accent if place in strong.tolist() else half if (2 * place) % 1 == 0 else 0
                rows.append((place, keeper, int(50 + lift), 0.1))
        if crash:
            rows.append((0, CRASH, 100, 0.5))
        for place in two[number % 2]:
            if place < fill_from:
                rows.append((place, KICK, 102 if place in strong.tolist() else 94, 0.1))
        for place in backs:
            if place < fill_from:
                rows.append((place, snare, 100, 0.1))
        if ghosts:
            rows += [(float(p), SNARE, 32, 0.1) for p in np.arange(0.25, long, 0.5) if chance.random() < ghosts]
        if fill_from < long:
            step = 0.25 if beat == 1.0 and chance.random() < 0.6 else 0.5
            for i, place in enumerate(np.arange(fill_from, long - 1e-6, step).tolist()):
                rows.append((place, int(chance.choice((SNARE, TOM, TOM + 2))), 92 if i % 2 == 0 else 78, 0.1))
        return rows

    return bar


def _pitched(meter, beat, chance):
    long = 4 * meter[0] / meter[1]
    every = int(chance.choice((1, 1, 1, 2))) if long > 2 else int(chance.choice((1, 2, 2)))
    roots = chance.integers(33, 47, 4)
    beats = np.arange(0, long, beat)
    kind = int(chance.choice(6))
    off = bool(beat != 0.5 and chance.random() < 0.35)
    low_too = float(chance.uniform(0, 1))
    one_note = bool(chance.random() < 0.4)
    same_halves = bool(long == 4 and chance.random() < 0.35)
    step = 0.5 if beat != 1.0 else float(chance.choice((0.25, 0.5, 0.5, 1 / 3)))
    loud = float(chance.uniform(2, 22))
    chord = (0, 4, 7) if chance.random() < 0.6 else (0, 3, 7)
    shape = chance.integers(0, 5, round(long / step) + 1)
    order = np.array([0, 7, 12, 12 + chord[1], 19])
    figures = []
    for _ in range(3):
        places = [0.0] if chance.random() < 0.92 else []
        for place in np.arange(0.5, long, 0.5).tolist():
            on = abs(place / beat - round(place / beat)) < 1e-6
            if chance.random() < (0.65 if on else 0.22):
                places.append(place)
        if same_halves:
            places = [p for p in places if p < 2] + [p + 2 for p in places if p < 2]
        figures.append(places or [0.0])
    steady = float(chance.choice((0, 0, 1.0, 1.0, 0.5, 0.25))) if beat == 1.0 else float(chance.choice((0, 0.5)))
    if steady and kind in (3, 5):
        figures = [np.arange(0, long - 1e-6, steady).tolist()] * 3
    # A broken chord often begins anew on each beat, or every two.
    groups = int(chance.choice((0, 1, 2))) * beat
    swung = beat == 1.0 and chance.random() < 0.12

    def at(place: float) -> float:
        return place + (1 / 6 if swung and abs(place % 1 - 0.5) < 1e-6 else 0)

    def accent(place: float) -> int:
        if place == 0:
            return int(loud)
        return int(loud / 2) if abs(place / beat - round(place / beat)) < 1e-6 else 0

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        root = int(roots[(number // every) % 4])
        rows: list[Row] = []
        if kind in (0, 4):
            # A broken chord, with or without a bass.
            for i, place in enumerate(np.arange(0, long - 1e-6, step).tolist()):
                turn = i % round(2 / step) if same_halves else i
                if groups:
                    turn = round((place % groups) / step)
                up = int(order[turn % 5 if kind == 0 else shape[turn]])
                rows.append((at(place), root + 12 + up, 70 + accent(place), step * 0.9))
            if kind == 4:
                rows.append((0, root, 84, long * 0.9))
        elif kind == 1:
            # Bass and chords after it.
            for i, place in enumerate(beats.tolist()):
                low = i == 0 or (len(beats) == 4 and i == 2) or (beat == 0.5 and place in (1.0, 2.0))
                if low or off or (len(beats) == 2 and low_too > 0.5):
                    rows.append((place, root + (7 if i else 0), 88, 0.8 * beat))
                    if off and beat == 1.0:
                        rows += [(place + 0.5, root + 12 + c, 68, 0.4) for c in chord]
                else:
                    rows += [(at(place), root + 12 + c, 68, 0.5 * beat) for c in chord]
            if beat == 1.5:
                rows += [(b + q, root + 12 + c, 64, 0.4) for b in beats.tolist() for q in (0.5, 1.0) for c in chord]
        elif kind == 2:
            # Chords in a rhythm, held bass.
            for place in figures[number % 2]:
                rows += [(at(place), root + 12 + c, 74 + accent(place), 0.6) for c in chord]
            rows.append((0, root, 84, long * 0.8))
        elif kind == 3:
            # A line: bass, or a melody.
            places = figures[0] if chance.random() < 0.7 else figures[1 + int(chance.integers(2))]
            ends = [*places[1:], long]
            for place, end in zip(places, ends, strict=True):
                walks = (2, chord[1], 5, 7, 9, 10, 12)
                up = 0 if one_note else int(chance.choice((0, 0, 7, 12, chord[1]) if not steady else walks))
                rows.append((at(place), root + (0 if place == 0 else up), 78 + accent(place), 0.9 * (end - place)))
        else:
            # A melody over a bass.
            places = figures[int(chance.integers(3))]
            ends = [*places[1:], long]
            for place, end in zip(places, ends, strict=True):
                up = int(chance.choice((24, 26, 28, 29, 31, 33)))
                rows.append((at(place), root + up, 78 + accent(place), 0.9 * (end - place)))
            for i, place in enumerate(beats.tolist()):
                if i == 0 or chance.random() < 0.5:
                    rows.append((place, root + (0 if i == 0 else 7), 76, 0.9 * beat))
        return rows

    return bar
