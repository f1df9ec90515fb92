"""Voiced consonants before the vowel that they lead into.

Singers place the vowel on the beat: an m, n, l, r, b, d or g before it has the note's pitch already, is softer, and
leads into the vowel without a gap. It is neither a note of its own nor the beginning of the note. Mouth or tongue are
closed meanwhile, so the range of the vowels' formants grows with the vowel as well as the whole.

Source  the moment at which a syllable is felt, and the range in which it grows: S. M. Marcus, Acoustic determinants of
        perceptual center location, 1981
"""

from __future__ import annotations

import numpy as np

LONGEST, SHORTEST = 0.22, 0.06
"""Seconds that a consonant lasts."""
SOFTER = 3.0
"""Decibels by which it is softer than its vowel at least."""
RISE, OPENS, WITHIN = 5.0, 6.0, 0.04
"""Decibels by which the level and that of the formants rise at the vowel; seconds on either side that are compared."""
LOUDER = 7.0
"""Decibels by which the vowel is louder than the consonant within a note."""
AT_ONCE = 0.6
"""Part of that which comes within twice WITHIN at least: a soft attack takes its time."""
FOOT = 0.15
"""Part of the rise from the consonant to the vowel above which the vowel has begun."""
ATTACK = 2
"""Frames from the beginning of a note in which nothing is told from its level."""
HOLDS = 3.0
"""Decibels by which it may change from its first half to its second: a soft attack grows all the time."""
FALLS = 1.5
"""Decibels by which it may fall towards its end: a struck note falls, a consonant holds or grows."""


def vowels(
    start: np.ndarray, end: np.ndarray, number: np.ndarray, level: np.ndarray, formants: np.ndarray, step: float
) -> tuple[np.ndarray, np.ndarray]:
    """Where notes begin with their vowels, and which are no notes but consonants before the next.

    start, end, number  (n,) seconds and pitch of one voice's notes, in sequence
    level               (frames,) decibels, `step` seconds apart; formants: the same in the range of the formants
    Returns             (n,) seconds, and (n,) bool
    """
    begins, lead_in = np.array(start, float), np.zeros(len(start), bool)
    for i in range(len(start)):
        follows = i + 1 < len(start) and number[i + 1] == number[i] and start[i + 1] - end[i] <= 2 * step
        if follows and SHORTEST <= start[i + 1] - start[i] <= LONGEST:
            lead_in[i] = _leads(level, round(start[i] / step), round(start[i + 1] / step), round(end[i + 1] / step))
        if not lead_in[i]:
            begins[i] = step * _opened(level, formants, round(start[i] / step), round(end[i] / step), step) or start[i]
    return begins, lead_in


def _leads(level: np.ndarray, first: int, vowel: int, last: int) -> bool:
    """Whether what sounds from a frame on is a consonant that leads into the vowel at another."""
    before, after = level[first + 1 : vowel], level[vowel : max(vowel + 3, min(last, vowel + 2 * (vowel - first)))]
    if len(before) < 3 or not len(after):
        return False
    half = len(before) // 2
    held = before[half:].mean() >= before[:half].mean() - FALLS
    dips = level[max(first, vowel - 2) : vowel + 2].min() < np.median(before) - FALLS
    return bool(held and not dips and np.median(after) - np.median(before) >= SOFTER)


def _opened(level: np.ndarray, formants: np.ndarray, first: int, last: int, step: float) -> int:
    """The frame at which the vowel begins within a note, 0 if it begins with it."""
    wide = round(WITHIN / step)
    begin, end = first + max(wide + 1, round(SHORTEST / step)), min(last - 2 * wide, first + round(LONGEST / step))
    if end <= begin:
        return 0
    rise = _rises(level, first, begin, end, wide)
    best = int(rise.argmax())
    vowel = begin + best
    if rise[best] < RISE or _rises(formants, first, vowel, vowel + 1, wide)[0] < OPENS:
        return 0
    before, after = level[first + ATTACK : vowel - 1], level[vowel + 1 : min(last, vowel + round(LONGEST / step))]
    if len(before) < 2 or len(after) < 3:
        return 0
    half = len(before) // 2
    consonant, louder = float(np.median(before)), float(np.median(after) - np.median(before))
    if abs(before[half:].mean() - before[:half].mean()) > HOLDS or louder < LOUDER or rise[best] < AT_ONCE * louder:
        return 0
    while vowel > first + ATTACK and level[vowel - 1] > consonant + FOOT * louder:
        vowel -= 1
    return vowel


def _rises(level: np.ndarray, first: int, begin: int, end: int, wide: int) -> np.ndarray:
    """Decibels by which the `wide` frames from each one of begin..end on are louder than those before it."""
    sums = np.concatenate([[0.0], np.cumsum(level[first : end + wide])])
    place = np.arange(begin - first, end - first)
    return np.asarray((sums[place + wide] - 2 * sums[place] + sums[place - wide]) / wide)
