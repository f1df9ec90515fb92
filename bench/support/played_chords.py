"""Chords as hands play them, for checking the ear: two hands, strums, four parts, broken with the pedal, close chords.

Shares no rule with what the ear is trained on (sim/part_writing.py): here a piece follows a progression, in a meter,
with voicings that fit hands.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

Notes = list[tuple[float, float, int, float]]
PROGRESSIONS = (
    ((0, "M"), (9, "m"), (5, "M"), (7, "7")), ((0, "m"), (8, "M"), (3, "M"), (10, "M")),
    ((2, "m7"), (7, "7"), (0, "M7"), (9, "m7")), ((0, "M"), (7, "M"), (9, "m"), (5, "M7")),
    ((0, "m"), (5, "m"), (7, "7"), (0, "m")), ((0, "s4"), (0, "M"), (10, "M"), (5, "M")),
)  # fmt: skip
CHORDS = {
    "M": (0, 4, 7), "m": (0, 3, 7), "7": (0, 4, 7, 10), "m7": (0, 3, 7, 10), "M7": (0, 4, 7, 11), "s4": (0, 5, 7),
}  # fmt: skip
STRINGS = (40, 45, 50, 55, 59, 64)


def _piece(random: np.random.Generator, bars: int = 6) -> tuple[float, list[tuple[float, int, tuple[int, ...]]]]:
    """Seconds of a beat, and (second, root class, intervals) of each bar of four beats."""
    beat = 60 / float(random.uniform(70, 132))
    key = int(random.integers(12))
    row = PROGRESSIONS[int(random.integers(len(PROGRESSIONS)))]
    return beat, [(0.3 + 4 * beat * i, (key + row[i % 4][0]) % 12, CHORDS[row[i % 4][1]]) for i in range(bars)]


def _at(random: np.random.Generator, second: float, loose: float = 0.006) -> float:
    return second + abs(float(random.normal(0, loose)))


def _loud(random: np.random.Generator, middle: float) -> float:
    return float(np.clip(random.normal(middle, 0.08), 0.25, 1.0))


def two_hands(random: np.random.Generator) -> Notes:
    """Octaves or fifths in the left hand, chords and a tune on top in the right."""
    beat, bars = _piece(random)
    notes: Notes = []
    for second, root, chord in bars:
        low = 36 + (root - 36) % 12
        for k in (0, 2):
            at = second + k * beat
            for n in (low, low + (12 if k == 0 else 7)):
                notes.append((_at(random, at), at + 1.9 * beat, n, _loud(random, 0.65)))
        middle = [n for n in range(55, 68) if (n - root) % 12 in chord]
        for k in (0, 1.5, 3) if random.random() < 0.5 else (0, 2):
            at = second + k * beat
            for n in middle[:3]:
                notes.append((_at(random, at), at + 0.95 * beat, n, _loud(random, 0.55)))
        at, top = second, 72 + int(random.integers(0, 8))
        while at < second + 4 * beat - 0.01:
            length = beat * float(random.choice([0.5, 0.5, 1.0, 1.5]))
            length = min(length, second + 4 * beat - at)
            scale = [n for n in range(70, 86) if (n - root) % 12 in (*chord, 2, 9)]
            top = min(scale, key=lambda n: abs(n - top - int(random.integers(-3, 4))))
            notes.append((_at(random, at), at + 0.9 * length, top, _loud(random, 0.8)))
            at += length
    return notes


def strums(random: np.random.Generator) -> Notes:
    """Six strings or fewer, down and up, all strings of a chord damped by the next."""
    beat, bars = _piece(random)
    spread = float(random.uniform(0.007, 0.028))
    notes: Notes = []
    for second, root, chord in bars:
        frets = []
        for string in STRINGS:
            frets.append(next(string + f for f in range(6) if (string + f - root) % 12 in chord))
        first = int(random.integers(0, 2)) if (frets[0] - root) % 12 == 0 else 1
        pattern = [(0.0, False), (1.0, False), (1.5, True), (2.5, True), (3.0, False), (3.5, True)]
        pattern = pattern if random.random() < 0.6 else [(0.0, False), (2.0, False)]
        for i, (k, up) in enumerate(pattern):
            at = second + k * beat
            until = second + (pattern[i + 1][0] if i + 1 < len(pattern) else 4.0) * beat
            chosen = frets[first:] if not up else frets[-4:][::-1]
            level = 0.75 if not up else 0.6
            for j, n in enumerate(chosen):
                notes.append((at + j * spread, until - 0.01 + j * spread * 0.3, n, _loud(random, level)))
    return notes


def four_parts(random: np.random.Generator) -> Notes:
    """Four voices that move together by steps, legato."""
    beat, bars = _piece(random)
    notes: Notes = []
    voices = [43, 55, 62, 69]
    for second, root, chord in bars:
        for k in range(0, 4, 2):
            at = second + k * beat
            for v, (low, high) in enumerate(((38, 52), (50, 62), (57, 69), (62, 77))):
                fitting = [
                    n for n in range(low, high) if (n - root) % 12 in chord and (v != 0 or (n - root) % 12 in (0, 7))
                ]
                taken = [n for n in fitting if n not in voices[:v]] or fitting
                voices[v] = min(taken, key=lambda n: abs(n - voices[v] - int(random.integers(-2, 3))))
            for n in sorted(set(voices)):
                notes.append((_at(random, at, 0.004), at + 2 * beat - 0.02, n, _loud(random, 0.65)))
    return notes


def broken(random: np.random.Generator) -> Notes:
    """Chords taken apart in eighths or sixteenths, held by the pedal until the next one."""
    beat, bars = _piece(random)
    step = beat * float(random.choice([0.5, 0.25]))
    step = max(step, 0.13)
    notes: Notes = []
    for second, root, chord in bars:
        low = 40 + (root - 40) % 12
        row = [low, *(n for n in range(low + 7, low + 26) if (n - root) % 12 in chord)][:6]
        row = row + row[-2:0:-1]
        until = second + 4 * beat - 0.02
        sounding: dict[int, int] = {}
        at, k = second, 0
        while at < until - 0.1:
            n = row[k % len(row)]
            if n in sounding:
                s, _, number, v = notes[sounding[n]]
                notes[sounding[n]] = (s, at - 0.01, number, v)
            sounding[n] = len(notes)
            notes.append((_at(random, at, 0.004), until, n, _loud(random, 0.65)))
            at, k = at + step, k + 1
    return notes


def close(random: np.random.Generator) -> Notes:
    """Three to six notes within 30 ms, short and long."""
    beat, bars = _piece(random)
    notes: Notes = []
    for second, root, chord in bars:
        for k in (0, 1, 2, 3) if random.random() < 0.5 else (0, 2.5):
            at = second + k * beat
            length = beat * float(random.choice([0.4, 0.9]))
            middle = int(random.integers(52, 66))
            fitting = [n for n in range(middle - 8, middle + 16) if (n - root) % 12 in chord]
            first = int(random.integers(0, 2))
            for n in fitting[first : first + int(random.integers(3, 7))]:
                notes.append((at + float(random.uniform(0, 0.03)), at + max(0.15, length), n, _loud(random, 0.65)))
    return notes


def one_key(notes: Notes) -> Notes:
    """The notes as one keyboard can play them.

    A key that two hands or strings strike within 60 ms is struck once, and a note ends before its key is struck again.
    """
    out: Notes = []
    last: dict[int, int] = {}
    for s, e, n, v in sorted(notes):
        k = last.get(n)
        if k is not None and s - out[k][0] < 0.06:
            out[k] = (out[k][0], max(out[k][1], e), n, max(out[k][3], v))
            continue
        if k is not None and out[k][1] > s - 0.01:
            out[k] = (out[k][0], s - 0.01, n, out[k][3])
        last[n] = len(out)
        out.append((s, e, n, v))
    return out


TEXTURES: dict[str, tuple[Callable[[np.random.Generator], Notes], tuple[str, ...]]] = {
    "two hands": (two_hands, ("piano", "electric piano", "vibes", "plucked keys", "harp")),
    "strums": (strums, ("nylon guitar", "steel guitar", "clean guitar", "piano", "koto")),
    "four parts": (four_parts, ("church organ", "reed organ", "strings", "brass", "warm pad")),
    "broken": (broken, ("piano", "nylon guitar", "harp", "electric piano", "vibes")),
    "close": (close, ("piano", "electric piano", "saw lead", "brass", "pizzicato", "marimba")),
}  # fmt: skip
PROGRAMS = {
    "piano": 0, "electric piano": 4, "plucked keys": 6, "vibes": 11, "marimba": 12, "church organ": 19,
    "reed organ": 20, "nylon guitar": 24, "steel guitar": 25, "clean guitar": 27, "pizzicato": 45, "harp": 46,
    "strings": 48, "brass": 61, "saw lead": 81, "warm pad": 89, "koto": 107,
}  # fmt: skip
"""General MIDI, from 0."""
