"""A kit of recorded strokes: what each file is, by its name, and the strokes ready for mixing.

`snare.rim v2 r3.wav` is the third recording of a rim stroke of the second loudness: `v` counts loudness from soft to
hard, `r` or a bare number the recordings that take turns. `kick.wav` alone is enough.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from puresignal.core.kit.articulations import STANDARD, canonical, drum_of, family_of, stand_ins
from puresignal.core.sound.drums import FADE_IN, FADE_OUT, Drum

LONGEST = 12.0
"""Seconds that are used of a stroke."""
_LOUDNESS, _TURN = re.compile(r"(?:v|vel|velocity)(\d{1,3})\Z"), re.compile(r"(?:r|rr)?(\d{1,3})\Z")


@dataclass(frozen=True, order=True)
class Stroke:
    """The stroke that a file holds. loudness: of several, from soft to hard; turn: of several of one loudness"""

    articulation: str
    loudness: int = 0
    turn: int = 0


def named(stem: str) -> Stroke | None:
    """The stroke that a file is named after, None if its name begins with no drum. stem: its name without the ending"""
    words = [word for word in re.split(r"[\s_\-]+", stem.lower()) if word]
    loudness = turn = 0
    while len(words) > 1:
        if found := _LOUDNESS.match(words[-1]):
            loudness = int(found[1])
        elif found := _TURN.match(words[-1]):
            turn = int(found[1])
        else:
            break
        words.pop()
    name = ".".join(words)
    one = canonical(name)
    known = one in STANDARD or family_of(one) != "other"
    return Stroke(one, loudness, turn) if words and len(words) <= 2 and known else None


@dataclass(frozen=True, eq=False)
class SampledKit:
    """strokes: samples (n,) by stroke, at the rate of the bank"""

    name: str
    strokes: dict[Stroke, np.ndarray] = field(default_factory=dict)

    def layers(self, articulation: str, drum: Drum, rate: int) -> list[list[np.ndarray]]:
        """Recordings that take turns, for each loudness from soft to hard; each with a peak of 1 before the gain of the
        velocity. Empty if nothing of the kit can stand for the articulation."""
        there = {stroke.articulation for stroke in self.strokes}
        name = next((one for one in (articulation, *stand_ins(articulation)) if one in there), None)
        if name is None:
            name = next((one for one in sorted(there) if drum_of(one) == drum_of(articulation)), None)
        if name is None:
            return []
        found: dict[int, list[np.ndarray]] = {}
        for stroke in sorted(self.strokes):
            if stroke.articulation == name:
                found.setdefault(stroke.loudness, []).append(shaped(self.strokes[stroke], drum, rate))
        return [found[key] for key in sorted(found)]


def shaped(samples: np.ndarray, drum: Drum, rate: int) -> np.ndarray:
    """A stroke as it is mixed: from its beginning, tuned, damped, without clicks at its ends. (n,) float32, peak 1"""
    loud = np.abs(samples)
    if not len(samples) or not loud.max() > 0:
        return np.zeros(1, np.float32)
    begin = max(0, int(np.argmax(loud > 0.01 * loud.max())) - round(FADE_IN * rate))
    out = np.asarray(samples[begin : begin + round(LONGEST * rate)], np.float64)
    if drum.tune:
        places = np.arange(0, len(out), 2 ** (drum.tune / 12))
        out = np.interp(places, np.arange(len(out)), out)
    if drum.damping < 1:
        # Twice as fast at half of the decay, from its own measure: the time until it is at a tenth.
        late = np.flatnonzero(np.abs(out) > 0.1 * np.abs(out).max())
        own = max(1, int(late[-1]) if len(late) else len(out))
        out = out * np.exp(-np.arange(len(out)) / own * 2.3 * (1 / drum.damping - 1))
    into, away = min(len(out), max(2, round(FADE_IN * rate))), min(len(out), round(FADE_OUT * rate))
    out[:into] *= np.linspace(0, 1, into)
    out[-away:] *= np.linspace(1, 0, away) ** 2
    return np.asarray(out / max(1e-9, np.abs(out).max()), np.float32)


def articulations(strokes: Iterable[Stroke]) -> list[str]:
    """The articulations that have a recording."""
    return sorted({stroke.articulation for stroke in strokes})
