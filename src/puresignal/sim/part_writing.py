"""Music for several voices, drawn at random, with the truth: for training the ear on what hands do together.

Layers are put together: chords struck, strummed or broken, a bass, a line, and notes that come and go on their own.
What is played follows no style; the ranges are meant to be wider than any.
"""

from __future__ import annotations

import numpy as np

from puresignal.sim.instrument_synthesis import Notes, a_line
from puresignal.sim.percussion_synthesis import between

LOWEST, HIGHEST = 28, 98
"""MIDI notes that are written."""


def any_texture(random: np.random.Generator, seconds: float, low: int = LOWEST, high: int = HIGHEST) -> Notes:
    """Music of one to three layers between two MIDI notes; notes of one pitch never overlap."""
    kind = random.random()
    low, high = max(low, LOWEST), min(high, HIGHEST)
    middle = float(np.clip(random.normal(60, 9), low, high))
    changes = _chord_changes(random, seconds)
    if kind < 0.30:
        layers = [_struck(random, changes, middle)]
    elif kind < 0.45:
        layers = [_strummed(random, changes, middle)]
    elif kind < 0.57:
        layers = [_broken(random, changes, middle)]
    elif kind < 0.85:
        # Two hands: something low, something above, and perhaps a line on top.
        beneath = random.choice(3)
        lower = (_bass, _broken, _struck)[beneath](random, changes, middle - random.uniform(8, 19))
        upper = (_struck if random.random() < 0.6 else _broken)(random, changes, middle + random.uniform(0, 8))
        layers = [lower, upper]
        if random.random() < 0.5:
            top = int(np.clip(middle + random.uniform(7, 20), low + 12, high))
            layers.append(_softened(a_line(random, seconds, top - 9, top), random.uniform(0.7, 1.3)))
    else:
        layers = [_independent(random, seconds, middle)]
    notes = [n for layer in layers for n in _softened(layer, between(random, 0.5, 1.1))]
    if random.random() < 0.25:
        notes = _pedalled(notes, changes)
    return _without_overlaps([n for n in notes if low <= n[2] <= high and n[0] < seconds - 0.2])


Changes = list[tuple[float, float, list[int]]]
"""(start in s, end in s, pitch classes) of each chord."""


def _chord_changes(random: np.random.Generator, seconds: float) -> Changes:
    at, changes = float(random.uniform(0.1, 0.5)), []
    pace = between(random, 0.35, 2.2)
    stock = [0, 2, 3, 4, 5, 7, 9, 10, 11]
    while at < seconds - 0.3:
        length = pace * float(random.choice([0.5, 1.0, 1.0, 2.0]))
        root = int(random.integers(12))
        if random.random() < 0.8:
            third = int(random.choice([3, 4, 5, 2], p=[0.4, 0.45, 0.1, 0.05]))
            fifth = int(random.choice([7, 6, 8], p=[0.88, 0.07, 0.05]))
            more = random.choice([10, 11, 9, 2, 5], int(random.integers(0, 3)), replace=False).tolist()
            classes = [0, third, fifth, *more]
        else:
            classes = [0, *random.choice(stock[1:], int(random.integers(1, 4)), replace=False).tolist()]
        changes.append((at, at + length, [(root + c) % 12 for c in classes]))
        at += length + (0.0 if random.random() < 0.7 else float(random.uniform(0.02, 0.3)))
    return changes


def _voicing(random: np.random.Generator, classes: list[int], middle: float) -> list[int]:
    """Two to seven pitches of a chord about a centre: close, open, or with doubled octaves."""
    width = between(random, 4, 16)
    count = int(random.integers(2, 7))
    within = [n for n in range(int(middle - width), int(middle + width) + 1) if n % 12 in classes]
    if not within:
        return []
    chosen = set(random.choice(within, min(count, len(within)), replace=False).tolist())
    if random.random() < 0.2:
        chosen |= {min(chosen) - 12}
    if random.random() < 0.12:
        chosen |= {max(chosen) + 12}
    return sorted(chosen)


def _struck(random: np.random.Generator, changes: Changes, middle: float) -> Notes:
    """Chords whose notes start within some milliseconds, once or repeated."""
    return _chords(random, changes, middle, between(random, 0.0005, 0.012), 0.0)


def _strummed(random: np.random.Generator, changes: Changes, middle: float) -> Notes:
    """Chords whose notes start one after the other, down or up."""
    return _chords(random, changes, middle, 0.002, between(random, 0.004, 0.05))


def _chords(random: np.random.Generator, changes: Changes, middle: float, loose: float, strum: float) -> Notes:
    notes: Notes = []
    held = between(random, 0.3, 1.0)
    for start, end, classes in changes:
        voicing = _voicing(random, classes, middle)
        times = int(random.choice([1, 1, 1, 2, 3, 4])) if end - start > 0.5 else 1
        step = (end - start) / times
        for k in range(times):
            up = random.random() < 0.4
            level = random.uniform(0.4, 1.0)
            for j, number in enumerate(reversed(voicing) if up else voicing):
                at = start + k * step + j * strum + abs(float(random.normal(0, loose)))
                last = start + k * step + max(0.09, step * held * float(random.uniform(0.85, 1.0)))
                loud = float(np.clip(level * random.uniform(0.6, 1.15), 0.12, 1.0))
                notes.append((at, max(at + 0.07, last), number, loud))
    return notes


def _broken(random: np.random.Generator, changes: Changes, middle: float) -> Notes:
    """Chords taken apart, each note held over some of the next."""
    notes: Notes = []
    step = between(random, 0.09, 0.4)
    held = int(random.integers(1, 5))
    order = random.choice(3)
    for start, end, classes in changes:
        voicing = _voicing(random, classes, middle)
        if not voicing:
            continue
        row = (voicing, voicing[::-1], [*voicing, *voicing[-2:0:-1]])[order]
        at, k = start, 0
        while at < end - 0.04:
            until = min(end, at + step * held) if random.random() < 0.8 else end
            notes.append((at, max(at + 0.07, until), row[k % len(row)], float(random.uniform(0.4, 0.95))))
            at, k = at + step, k + 1
    return notes


def _bass(random: np.random.Generator, changes: Changes, middle: float) -> Notes:
    """Low notes, some of them as octaves."""
    notes: Notes = []
    octaves = random.random() < 0.35
    for start, end, classes in changes:
        times = int(random.choice([1, 1, 2, 4])) if end - start > 0.6 else 1
        step = (end - start) / times
        for k in range(times):
            wanted = classes[0] if random.random() < 0.7 else int(random.choice(classes))
            number = round(middle) - (round(middle) - wanted) % 12
            at = start + k * step + abs(float(random.normal(0, 0.004)))
            last = max(at + 0.09, start + (k + float(random.uniform(0.5, 1.0))) * step)
            loud = float(random.uniform(0.5, 1.0))
            notes.append((at, last, number, loud))
            if octaves:
                notes.append((at + abs(float(random.normal(0, 0.004))), last, number - 12, loud))
    return notes


def _independent(random: np.random.Generator, seconds: float, middle: float) -> Notes:
    """Notes that start and end without regard for each other."""
    notes: Notes = []
    density, width = between(random, 1.5, 9.0), random.uniform(6, 22)
    for _ in range(round(density * seconds)):
        start = float(random.uniform(0.1, seconds - 0.4))
        length = between(random, 0.09, 1.5)
        notes.append((start, start + length, round(random.normal(middle, width)), float(random.uniform(0.3, 1.0))))
    return notes


def _softened(notes: Notes, by: float) -> Notes:
    return [(s, e, n, float(np.clip(v * by, 0.08, 1.0))) for s, e, n, v in notes]


def _pedalled(notes: Notes, changes: Changes) -> Notes:
    """The notes held until the chord they belong to ends."""
    ends = np.array([end for _, end, _ in changes])
    out = []
    for s, e, n, v in notes:
        place = int(np.searchsorted(ends, s + 0.03))
        out.append((s, max(e, float(ends[place])) if place < len(ends) else e, n, v))
    return out


def _without_overlaps(notes: Notes) -> Notes:
    """A pitch that starts again ends first; starts of one pitch closer than 60 ms are one."""
    out: Notes = []
    last: dict[int, int] = {}
    for s, e, n, v in sorted(notes):
        k = last.get(n)
        if k is not None:
            if s - out[k][0] < 0.06:
                continue
            if out[k][1] > s - 0.01:
                out[k] = (out[k][0], s - 0.01, n, out[k][3])
        last[n] = len(out)
        out.append((s, e, n, v))
    return out
