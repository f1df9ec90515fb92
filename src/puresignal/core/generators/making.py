"""The notes of recipes. Draws are by seed, round and place, so that a recipe is the same notes on every machine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import numpy as np

from puresignal.core.generators import under_melody
from puresignal.core.generators.made_notes import MadeNotes, groups
from puresignal.core.generators.recipe import (
    AS_HELD,
    DOWN,
    FIFTHS,
    FULL,
    OPEN_END,
    PLAGAL,
    RANDOM,
    RATES,
    ROOTS,
    UP_DOWN,
    Arpeggio,
    BassLine,
    ChordProgression,
    ChordsUnder,
    DrumPattern,
    Recipe,
)
from puresignal.core.harmony import scales, voice_leading

MOST_NOTES = 200_000
MAJOR_NEXT = {0: (3, 4, 5, 1), 1: (4, 6), 2: (5, 3), 3: (4, 1, 0), 4: (0, 5), 5: (1, 3), 6: (0, 2)}
"""Which steps of the scale usually follow which, from 0 for the first."""
BORROWED = (3, 5, 6)
"""Steps whose chords are taken from the key of the other mode, where it goes far."""
KICK, SNARE, HAT, OPEN_HAT, TOMS, CRASH = 36, 38, 42, 46, (48, 45, 43), 49
"""General MIDI."""


def made(recipe: Recipe, beats_a_bar: float = 4.0, key: str = "", source: MadeNotes | None = None) -> MadeNotes:
    """All rounds of a recipe.

    beats_a_bar  of the session's meter; key: the session's
    source       the notes of what it listens to, in beats from the recipe's own beginning
    """
    makers: dict[type[Recipe], Callable[..., MadeNotes]] = {
        ChordProgression: _progression, ChordsUnder: _under, Arpeggio: _arpeggio, BassLine: _bass, DrumPattern: _drums,
    }  # fmt: skip
    long = recipe.bars * beats_a_bar
    parts: list[MadeNotes] = []
    first: MadeNotes | None = None
    count = 0
    for number in range(recipe.rounds):
        if first is None or recipe.fresh or recipe.needs_source:
            heard = _shifted(source, -number * long) if source is not None else None
            one = makers[type(recipe)](recipe, beats_a_bar, key, heard, number if recipe.fresh else 0).within(long)
            first = first or one
        else:
            one = first
        parts.append(replace(one, beat=one.beat + number * long))
        count += len(one)
        if count > MOST_NOTES:
            break
    joined = MadeNotes.joined(parts)
    return replace(joined, channel=np.full(len(joined), recipe.channel))


def _shifted(notes: MadeNotes, beats: float) -> MadeNotes:
    moved = replace(notes, beat=notes.beat + beats)
    return moved.take(moved.beat > -1e-9)


def _random(recipe: Recipe, round_: int, what: int) -> np.random.Generator:
    """Numbers of its own for each purpose, so that one blank does not change what another draws."""
    return np.random.default_rng([recipe.seed, round_, what])


# Chords


def _progression(
    recipe: ChordProgression, beats_a_bar: float, key: str, source: MadeNotes | None, round_: int
) -> MadeNotes:  # fmt: skip
    scale = scales.scale_of(recipe.key or key or "C major")
    minor = (recipe.key or key or "C major").endswith("minor")
    step = _beats_of(recipe.every, beats_a_bar)
    count = max(1, int(np.ceil(recipe.bars * beats_a_bar / step - 1e-9)))
    random = _random(recipe, round_, 1).random((count, 4))
    steps: list[int] = []
    now = 0
    for i in range(count):
        if i:
            after = MAJOR_NEXT[now]
            now = after[min(len(after) - 1, int(random[i, 0] ** 1.5 * len(after)))]
        steps.append(now)
    ends = {FULL: (4, 0), PLAGAL: (3, 0), OPEN_END: (1, 4)}.get(recipe.ending)
    if ends is not None and count >= 2:
        steps[-2:] = ends
    parallel = _parallel(scale, minor)
    rows = []
    for i, one in enumerate(steps):
        inner = not (i >= count - 2 and ends is not None) and i > 0
        borrowed = inner and one in BORROWED and random[i, 1] < recipe.far / 100
        size = 4 if random[i, 2] < recipe.sevenths / 100 else 3
        rows.append(_classes(one, size, parallel if borrowed else scale, minor and not borrowed))
    return _voiced(recipe, rows, step, random[:, 3])


def _parallel(scale: tuple[int, ...], minor: bool) -> tuple[int, ...]:
    """The scale of the other mode on the same root."""
    return scales.scale_of(f"{_root_name(scale[0])} {'major' if minor else 'minor'}")


def _classes(step: int, size: int, scale: tuple[int, ...], minor: bool) -> tuple[int, ...]:
    """The pitch classes of the chord on a step of a scale, its root first."""
    classes = tuple(scale[(step + 2 * k) % 7] for k in range(size))
    if minor and step == 4:
        # The leading note, without which a minor key comes to no rest.
        classes = tuple((c + 1) % 12 if c == scale[6] else c for c in classes)
    return classes


def _voiced(recipe: ChordProgression, rows: list[tuple[int, ...]], step: float, loud: np.ndarray) -> MadeNotes:
    """Chords one after the other, led with the least movement. loud: (n,) 0..1"""
    beats: list[float] = []
    notes: list[int] = []
    velocity: list[float] = []
    before: tuple[int, ...] | None = None
    for i, classes in enumerate(rows):
        before = voice_leading.led(before, classes, recipe.low, recipe.low + 19)
        voiced = voice_leading.spread(before, recipe.wide)
        beats += [i * step] * len(voiced)
        notes += voiced
        velocity += [72 + 14 * loud[i]] * len(voiced)
    return MadeNotes.of(np.array(beats), step * 0.98, np.array(notes), np.array(velocity))


def _under(
    recipe: ChordsUnder, beats_a_bar: float, key: str, source: MadeNotes | None, round_: int
) -> MadeNotes:  # fmt: skip
    if source is None or not len(source):
        return MadeNotes.joined([])
    named = recipe.key or key or under_melody.key_of(source) or "C major"
    scale, minor = scales.scale_of(named), named.endswith("minor")
    step = _beats_of(recipe.every, beats_a_bar)
    count = max(1, int(np.ceil(recipe.bars * beats_a_bar / step - 1e-9)))
    parallel = _parallel(scale, minor)
    candidates = [under_melody.Candidate(one, False, _classes(one, 3, scale, minor)) for one in range(7)]
    candidates += [under_melody.Candidate(one, True, _classes(one, 3, parallel, False)) for one in BORROWED]
    random = _random(recipe, round_, 9).random((count, len(candidates) + 2))
    ends = {FULL: (4, 0), PLAGAL: (3, 0), OPEN_END: (1, 4)}.get(recipe.ending)
    far = recipe.far / 100
    found = under_melody.chosen(
        under_melody.weights(source, step, count), candidates, MAJOR_NEXT, ends, far, random[:, 2:]
    )
    rows = []
    for i, one in enumerate(found):
        size = 4 if random[i, 0] < recipe.sevenths / 100 else 3
        rows.append(_classes(one.step, size, parallel if one.borrowed else scale, minor and not one.borrowed))
    return _voiced(recipe, rows, step, random[:, 1])


def _beats_of(every: str, beats_a_bar: float) -> float:
    return {"2/1": 2 * beats_a_bar, "1/1": beats_a_bar, "1/2": beats_a_bar / 2, "1/4": 1.0}[every]


def _root_name(root: int) -> str:
    return ("C", "Db", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")[root]


# What listens to chords


def _arpeggio(recipe: Arpeggio, beats_a_bar: float, key: str, source: MadeNotes | None, round_: int) -> MadeNotes:
    if source is None or not len(source):
        return MadeNotes.joined([])
    step, random = RATES[recipe.rate], _random(recipe, round_, 2)
    beats, notes, loud = [], [], []
    number = 0
    for begin, long, chord, velocity in groups(source):
        if begin >= recipe.bars * beats_a_bar:
            break
        pitches = np.array([note + 12 * octave for octave in range(recipe.octaves) for note in chord], np.int64)
        first = int(np.ceil(begin / step - 1e-6))
        count = int(np.ceil((begin + long) / step - 1e-6)) - first
        if count <= 0:
            continue
        at = np.arange(first, first + count)
        if recipe.order == AS_HELD:
            beats.append(np.repeat(at, len(chord)))
            notes.append(np.tile(np.array(chord), count))
            loud.append(np.full(count * len(chord), velocity))
            continue
        row = pitches[::-1] if recipe.order == DOWN else pitches
        if recipe.order == UP_DOWN and len(row) > 2:
            row = np.concatenate([row, row[-2:0:-1]])
        which = np.arange(number, number + count) % len(row)
        if recipe.order == RANDOM:
            which = random.integers(0, len(row), count)
        number = 0
        beats.append(at)
        notes.append(row[which])
        loud.append(np.full(count, velocity))
    if not beats:
        return MadeNotes.joined([])
    place, note, velocity_of = np.concatenate(beats), np.concatenate(notes), np.concatenate(loud)
    silent = _random(recipe, round_, 3).random(int(place.max()) + 1)[place] < recipe.rests / 100
    if recipe.accent:
        velocity_of = velocity_of + np.where(place % recipe.accent == 0, 22, -6)
    late = np.where(place % 2 == 1, (recipe.swing - 50) / 50 * step, 0.0)
    keep = ~silent
    return MadeNotes.of((place * step + late)[keep], step * recipe.gate / 100, note[keep], velocity_of[keep])


def _bass(recipe: BassLine, beats_a_bar: float, key: str, source: MadeNotes | None, round_: int) -> MadeNotes:
    if source is None or not len(source):
        return MadeNotes.joined([])
    step = RATES[recipe.rate]
    chords = [one for one in groups(source) if one[0] < recipe.bars * beats_a_bar]
    random = _random(recipe, round_, 4)
    beats, notes, loud = [], [], []
    roots = [recipe.low + (root_of(chord) - recipe.low) % 12 for _, _, chord, _ in chords]
    # Drawn by place, so that another chord elsewhere changes nothing here.
    leading = random.random(len(chords)).tolist()
    resting = random.random(int(np.ceil(recipe.bars * beats_a_bar / step)) + 1).tolist()
    for i, (begin, long, chord, velocity) in enumerate(chords):
        first = int(np.ceil(begin / step - 1e-6))
        count = max(1, int(np.ceil((begin + long) / step - 1e-6)) - first)
        root = roots[i]
        after = roots[i + 1] if i + 1 < len(roots) else root
        leads = leading[i] < recipe.approach / 100 and after != root and count > 1
        for k in range(count):
            at = (first + k) * step
            on_beat = abs(at - round(at)) < 1e-6
            if k and not on_beat and resting[min(first + k, len(resting) - 1)] < recipe.rests / 100:
                continue
            note = root
            if recipe.way == FIFTHS and k % 4 == 2:
                note = fifth_beside(root, recipe.low)
            elif recipe.way not in (ROOTS, FIFTHS) and k:
                row = walk_through(chord, root, recipe.low)
                note = row[k % len(row)]
            if leads and k == count - 1:
                note = after + (1 if after < root else -1)
            beats.append(at)
            notes.append(note)
            loud.append(velocity + (10 if k == 0 else 4 if on_beat else -8))
    return MadeNotes.of(np.array(beats), step * 0.9, np.array(notes), np.array(loud))


def fifth_beside(root: int, low: int) -> int:
    """The fifth of a bass note: above it, or below where that is too high. low: lowest note of the bass"""
    return root + 7 if root + 7 <= low + 14 else root - 5


def walk_through(chord: tuple[int, ...], root: int, low: int) -> list[int]:
    """The notes of a walking line through a chord, one way and back."""
    others = sorted({low + (note - low) % 12 for note in chord} | {root})
    return others + others[-2:0:-1] if len(others) > 2 else others


@lru_cache(maxsize=4096)
def root_of(chord: tuple[int, ...]) -> int:
    """The root of a chord: the note on which most thirds and fifths are stacked; the lowest of equals."""
    classes = {note % 12 for note in chord}

    def fits(root: int) -> int:
        return 4 * ((root + 7) % 12 in classes) + 2 * bool({(root + 3) % 12, (root + 4) % 12} & classes) + (
            bool({(root + 10) % 12, (root + 11) % 12} & classes))  # fmt: skip

    return max(chord, key=lambda note: (fits(note % 12), -note))


# Drums


def _drums(recipe: DrumPattern, beats_a_bar: float, key: str, source: MadeNotes | None, round_: int) -> MadeNotes:
    steps = max(1, round(4 * beats_a_bar))
    bars = recipe.bars
    per_beat = 4
    place = np.arange(steps)
    on_beat = place % per_beat == 0
    eighth = place % 2 == 0
    strong = np.where(on_beat, 1.0, np.where(eighth, 0.55, 0.25))
    drift = recipe.off / 100
    parts = []
    loop = _random(recipe, round_, 5).random((3, steps))
    # The pattern is one bar that is kept, with small changes now and then, as a drummer keeps one.
    change = _random(recipe, round_, 6).random((bars, 3, steps))
    human = _random(recipe, round_, 7).normal(0, 1, (bars, 3, steps))
    weights = np.stack([
        strong * np.where(place == 0, 2.0, 1.0),
        np.where(on_beat & ((place // per_beat) % 2 == 1), 2.0, strong * 0.6),
        np.where(eighth, 1.0, 0.5),
    ])  # fmt: skip
    wanted = (recipe.kicks, recipe.snares, recipe.hats)
    fills = np.zeros(bars, bool) if not recipe.fill else (np.arange(bars) + 1) % recipe.fill == 0
    for row, (count, note, loud) in enumerate(zip(wanted, (KICK, SNARE, HAT), (100, 98, 74), strict=True)):
        if not count:
            continue
        score_of = (1 - drift) * weights[row] + drift * 1.6 * loop[row] + 0.02 * loop[row]
        often = score_of[None, :] + np.where(change[:, row] < 0.04, 0.9, 0.0) * drift
        chosen = np.argsort(-often, axis=1, kind="stable")[:, : min(count, steps)]
        hit = np.zeros((bars, steps), bool)
        np.put_along_axis(hit, chosen, True, axis=1)
        if row < 2:
            # A fill takes the second half of its bar.
            hit[fills, steps // 2 :] = False
        bar, at = np.nonzero(hit)
        accent = np.where(on_beat[at], 6, np.where(eighth[at], -4, -12))
        velocity = loud + accent + 4 * human[bar, row, at]
        parts.append(MadeNotes.of(bar * beats_a_bar + at / per_beat, 0.12, np.full(len(bar), note), velocity))
        if row == 1 and recipe.ghosts:
            drawn = _random(recipe, round_, 8).random((bars, steps))
            soft = (drawn < recipe.ghosts / 100) & ~hit & ~on_beat[None, :]
            soft[fills] = False
            bar, at = np.nonzero(soft)
            parts.append(
                MadeNotes.of(
                    bar * beats_a_bar + at / per_beat, 0.1, np.full(len(bar), SNARE), 34 + 5 * human[bar, 1, at]
                )
            )
    for filled in np.flatnonzero(fills).tolist():
        drawn = _random(recipe, round_, 100 + filled).random((steps, 2))
        first = steps // 2
        at = np.array([i for i in range(first, steps) if drawn[i, 0] < 0.85 or i % per_beat == 0])
        if len(at):
            which = np.minimum(len(TOMS), ((at - first) * (len(TOMS) + 1)) // max(1, steps - first))
            notes = np.array([SNARE, *TOMS])[which]
            velocity = 82 + 22 * (at - first) / max(1, steps - first) + 8 * drawn[at, 1]
            parts.append(MadeNotes.of(filled * beats_a_bar + at / per_beat, 0.12, notes, velocity))
        if filled + 1 < bars:
            parts.append(MadeNotes.of(np.array([(filled + 1) * beats_a_bar]), 0.5, np.array([CRASH]), 104.0))
    return MadeNotes.joined(parts)
