"""Takes whose every note's line is known, for grading quantise: made without anything of the program's.

A score is a list of (beat, drum or note number, loudness, ornament); it is played with a lean and with jitter of its
own for every stroke. What a note was meant to be is its beat in the swing of the piece; of a flam's or drag's grace,
its distance before the stroke that it leads to.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

STYLES = ("rock", "shuffle", "triplet fills", "swung eighths", "swung sixteenths", "ghosts", "flams", "drags",
          "thirty-second fills", "chords")  # fmt: skip
ASIDE = ("everything", "swung everything", "six eight", "half-time shuffle")
"""Kinds that nothing was looked at with while the stage was made."""
KICK, SNARE, HAT, RIDE, TOM1, TOM2, TOM3 = 36, 38, 42, 51, 48, 45, 43
BARS = 16


@dataclass(frozen=True)
class Graded:
    """A take of one player.

    beats      (n,) quarter notes, as played, rising
    bpm        steady
    key        (n,) drum or note
    velocity   (n,)
    pitched    whether it is a keyboard's
    meant      (n,) quarter notes, as meant
    ornament   (n,) whether it is a grace note
    main       (n,) row of the stroke that a grace leads to, else its own
    finest     quarter notes of the finest step present
    jitter, lean  seconds
    """

    style: str
    beats: np.ndarray
    bpm: float
    key: np.ndarray
    velocity: np.ndarray
    pitched: bool
    meant: np.ndarray
    ornament: np.ndarray
    main: np.ndarray
    finest: float
    jitter: float
    lean: float


def swung(beat: float, part: float, unit: float) -> float:
    """A beat of a straight score with every second `unit` of quarter notes moved to `part` of the pair."""
    pair, into = divmod(beat, 2 * unit)
    into /= 2 * unit
    bent = into * part / 0.5 if into <= 0.5 else part + (into - 0.5) * (1 - part) / 0.5
    return pair * 2 * unit + bent * 2 * unit


def make(style: str, seed: int) -> Graded:
    rng = np.random.default_rng([seed, (*STYLES, *ASIDE).index(style)])
    bpm = float(rng.uniform(60, 170))
    jitter, lean = float(rng.uniform(0.008, 0.020)), float(rng.uniform(-0.020, 0.020))
    score: list[tuple[float, int, float, tuple[float, ...]]] = []
    finest, pitched = 0.25, False
    part, unit = 0.5, 0.5

    def groove(bar: int, step: float, busy: float) -> None:
        start = 4.0 * bar
        for i in range(round(4 / step)):
            if rng.random() < 0.94:
                score.append((start + i * step, HAT if rng.random() < 0.95 else RIDE, rng.uniform(50, 95), ()))
        for beat in (0.0, 2.0):
            score.append((start + beat, KICK, rng.uniform(80, 115), ()))
        for beat in (1.0, 3.0):
            score.append((start + beat, SNARE, rng.uniform(85, 120), ()))
        for i in range(round(4 / 0.25)):
            if rng.random() < busy and i % 4:
                score.append((start + i * 0.25, KICK, rng.uniform(60, 110), ()))

    def fill(start: float, beats: float, step: float) -> None:
        for i in range(round(beats / step)):
            if rng.random() < 0.93:
                score.append((start + i * step, int(rng.choice([SNARE, TOM1, TOM2, TOM3])), rng.uniform(70, 118), ()))

    for bar in range(BARS):
        start = 4.0 * bar
        if style == "rock":
            groove(bar, 0.5 if bar % 8 < 6 else 0.25, 0.10)
            if bar % 4 == 3:
                fill(start + 3, 1, 0.25)
        elif style == "shuffle":
            part, finest = 2 / 3, 1 / 3
            for beat in range(4):
                score.append((start + beat, RIDE, rng.uniform(60, 100), ()))
                if rng.random() < 0.85:
                    score.append((start + beat + 0.5, RIDE, rng.uniform(45, 85), ()))
                score.append((start + beat, KICK if beat % 2 == 0 else SNARE, rng.uniform(85, 118), ()))
                if rng.random() < 0.2:
                    score.append((start + beat + 0.5, KICK, rng.uniform(60, 100), ()))
        elif style == "triplet fills":
            groove(bar, 0.5, 0.08)
            if bar % 2 == 1:
                score[:] = [row for row in score if row[0] < start + 2]
                fill(start + 2, 2, 1 / 3)
        elif style == "swung eighths":
            part = part if part != 0.5 else float(rng.uniform(0.55, 0.68))
            finest = min(0.5, 1 - part)
            for i in range(8):
                if rng.random() < 0.9:
                    score.append((start + i * 0.5, HAT, rng.uniform(50, 95), ()))
            for i in range(8):
                if i in (0, 4) or (i % 2 and rng.random() < 0.15):
                    score.append((start + i * 0.5, KICK, rng.uniform(70, 112), ()))
                if i in (2, 6) or (i % 2 and rng.random() < 0.1):
                    score.append((start + i * 0.5, SNARE, rng.uniform(60, 118), ()))
        elif style == "swung sixteenths":
            unit = 0.25
            part = part if part != 0.5 else float(rng.uniform(0.55, 0.66))
            finest = (1 - part) * 0.5
            groove(bar, 0.25, 0.12)
        elif style == "ghosts":
            groove(bar, 0.5, 0.06)
            for i in range(16):
                if i not in (4, 12) and rng.random() < 0.3:
                    score.append((start + i * 0.25, SNARE, rng.uniform(14, 34), ()))
        elif style == "flams":
            groove(bar, 0.5, 0.08)
            for beat in (1.0, 3.0):
                if rng.random() < 0.5:
                    score.append((start + beat, SNARE, rng.uniform(95, 122), (rng.uniform(0.022, 0.04),)))
        elif style == "drags":
            groove(bar, 0.5, 0.08)
            for beat in (0.5, 1.0, 3.0):
                if rng.random() < 0.4:
                    gap = rng.uniform(0.03, 0.045)
                    score.append((start + beat, SNARE, rng.uniform(95, 122), (2 * gap, gap)))
        elif style == "thirty-second fills":
            finest = 0.125
            groove(bar, 0.5, 0.06)
            if bar % 4 == 3:
                score[:] = [row for row in score if row[0] < start + 3]
                fill(start + 3, 1, 0.125)
        elif style == "everything":
            finest = 0.125
            groove(bar, 0.5 if bar % 8 < 5 else 0.25, 0.1)
            for i in range(16):
                if i not in (4, 12) and rng.random() < 0.15:
                    score.append((start + i * 0.25, SNARE, rng.uniform(14, 34), ()))
            for beat in (1.0, 3.0):
                if rng.random() < 0.25:
                    gap = rng.uniform(0.03, 0.042)
                    score.append(
                        (start + beat, SNARE, rng.uniform(95, 122), (gap,) if rng.random() < 0.5 else (2 * gap, gap))
                    )
            if bar % 4 == 3:
                kind = int(rng.integers(0, 3))
                length = (1, 2, 2)[kind]
                score[:] = [row for row in score if row[0] < start + 4 - length]
                fill(start + 4 - length, length, (0.125, 1 / 3, 0.25)[kind])
        elif style == "swung everything":
            part = part if part != 0.5 else float(rng.uniform(0.55, 0.68))
            finest = min(1 / 3, 1 - part)
            for i in range(8):
                if rng.random() < 0.85:
                    score.append((start + i * 0.5, RIDE, rng.uniform(50, 95), ()))
                if i % 2 and rng.random() < 0.3:
                    score.append((start + i * 0.5, SNARE, rng.uniform(15, 40), ()))
            for beat, key in ((0.0, KICK), (1.0, SNARE), (2.0, KICK), (3.0, SNARE)):
                score.append((start + beat, key, rng.uniform(80, 118), (0.03,) if rng.random() < 0.15 else ()))
        elif style == "six eight":
            # Two bars of six eighths, as three quarter notes each.
            finest = 0.25
            for i in range(8):
                score.append((start + i * 0.5, HAT, rng.uniform(50, 95) + (15 if i % 3 == 0 else 0), ()))
            for beat in (0.0, 1.5, 3.0):
                score.append((start + beat, KICK if beat != 1.5 else SNARE, rng.uniform(80, 118), ()))
            for i in range(16):
                if i % 2 and rng.random() < 0.1:
                    score.append((start + i * 0.25, SNARE, rng.uniform(20, 60), ()))
        elif style == "half-time shuffle":
            part, unit, finest = 2 / 3, 0.25, 1 / 6
            for i in range(16):
                if i % 2 == 0 or rng.random() < 0.6:
                    score.append((start + i * 0.25, HAT, rng.uniform(45, 90), ()))
                if i % 4 and rng.random() < 0.35:
                    score.append((start + i * 0.25, SNARE, rng.uniform(14, 32), ()))
            score.append((start, KICK, rng.uniform(90, 118), ()))
            score.append((start + 2, SNARE, rng.uniform(100, 122), ()))
            if rng.random() < 0.5:
                score.append((start + 1.75, KICK, rng.uniform(60, 100), ()))
        else:
            pitched, finest = True, 0.5
            for i in range(8):
                if i in (0, 3, 4, 6) or rng.random() < 0.3:
                    root = int(rng.choice([48, 50, 53, 55, 57]))
                    direction = rng.choice([-1, 1])
                    notes = [root, root + 4, root + 7, root + 12][:: int(direction)]
                    late = np.sort(rng.uniform(0, 0.025, len(notes)))
                    for note, by in zip(notes, late - late.mean(), strict=True):
                        score.append((start + i * 0.5, note, rng.uniform(55, 100), (-1.0, float(by))))

    rows: list[tuple[float, int, float, float, bool, int]] = []
    seen: set[tuple[float, int]] = set()
    number = 0
    chord_jitter: dict[float, float] = {}
    # The last of several strokes of one drum at one place stands: ornamented ones are written last.
    for beat, key, loud, ornament in sorted(score, key=lambda row: -len(row[3])):
        if (round(beat, 6), key) in seen:
            continue
        seen.add((round(beat, 6), key))
        meant = swung(beat, part, unit)
        second = meant * 60 / bpm
        if pitched:
            off = chord_jitter.setdefault(beat, float(rng.normal(0, jitter)))
            rows.append((second + lean + off + ornament[1], key, loud, meant, False, number))
            number += 1
            continue
        at = second + lean + rng.normal(0, jitter)
        main = number
        rows.append((at, key, loud, meant, False, main))
        number += 1
        for before in ornament:
            grace_at, softer = at - before + rng.normal(0, 0.002), loud * rng.uniform(0.2, 0.45)
            rows.append((grace_at, key, softer, meant - before * bpm / 60, True, main))
            number += 1
    order = sorted(range(len(rows)), key=lambda i: rows[i][0])
    place = {old: new for new, old in enumerate(order)}
    rows = [rows[i] for i in order]
    at, key, loud, meant, grace, main = map(np.array, zip(*rows, strict=True))
    main = np.array([place[int(m)] for m in main])
    return Graded(
        style,
        at * bpm / 60,
        bpm,
        key,
        np.clip(np.rint(loud), 1, 127),
        pitched,
        meant,
        grace,
        main,
        finest,
        jitter,
        lean,
    )


def right(take: Graded, beats: np.ndarray) -> np.ndarray:
    """(n,) whether each note stands on the line that was meant. beats: (n,) after quantising."""
    allowed = min(0.2 * take.finest, 0.035 * take.bpm / 60)
    off = np.abs(beats - take.meant)
    # A grace is right at its own distance before its stroke, wherever that is.
    distance = (take.meant[take.main] - take.meant) - (beats[take.main] - beats)
    grace = np.abs(distance) <= 0.015 * take.bpm / 60
    return np.where(take.ornament, grace & (off[take.main] <= allowed), off <= allowed)
