"""Lines sung on syllables of espeak-ng, for training: many speakers, at other pitches and lengths.

The eight speakers of bench/support/spoken_singers.py and the recorded ones of recorded_speakers.py are never used.
"""

from __future__ import annotations

import sys
from functools import lru_cache
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))

from support import evaluation_clips, spoken_singers

from puresignal.sim import instrument_synthesis
from puresignal.sim.instrument_synthesis import Notes

LANGUAGES = ("en-us", "en-gb-scotland", "sv", "nl", "pl", "pt", "cs", "fi", "tr", "hu", "ro", "da", "el", "id")
MANNERS = (
    "", "+m1", "+m2", "+m3", "+m4", "+m6", "+m7", "+m8", "+f2", "+f5", "+croak", "+klatt", "+klatt3", "+whisperf",
)  # fmt: skip
CONSONANTS = ("", "l", "m", "n", "r", "d", "b", "g", "t", "p", "k", "s", "S", "f", "v", "z", "w", "j", "h", "N", "tS")
VOWELS = ("a:", "i:", "o:", "u:", "e:", "E", "O", "A:")
SYLLABLES = 7


@lru_cache(maxsize=3)
def speaker(number: int) -> tuple[spoken_singers.Syllable, ...]:
    """A speaker's syllables; none where espeak-ng is missing."""
    random = np.random.default_rng(number)
    voice = str(random.choice(LANGUAGES)) + str(random.choice(MANNERS))
    high, known = int(random.integers(20, 85)), []
    for _ in range(SYLLABLES):
        text = f"[[{random.choice(CONSONANTS)}{random.choice(VOWELS)}]]"
        speed = int(random.integers(110, 260))
        said = evaluation_clips.spoken(text, voice, high, speed, 100)
        if said is not None and len(said) > 4000:
            one = spoken_singers.Syllable(said)
            known += [one] if one.sings else []
    return tuple(known)


def sung(random: np.random.Generator, number: int, seconds: float) -> tuple[np.ndarray, Notes] | None:
    """A line by a speaker at 44.1 kHz, and its notes, which begin with their vowels."""
    known = speaker(number)
    if not known:
        return None
    low = int(random.integers(40, 66))
    notes = instrument_synthesis.a_line(random, seconds, low, low + int(random.integers(7, 17)))
    return spoken_singers.sung(notes, list(known), random)
