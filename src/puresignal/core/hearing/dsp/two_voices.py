"""Whether two people sing at once: two periods explain the sound that one alone does not.

A filter that subtracts a sound from itself one period later cancels a voice of that period. Two voices need two such
filters, one after the other. What each leaves is known from the autocorrelation alone.

Source  A. de Cheveigne, Separation of concurrent harmonic sounds: fundamental frequency estimation and a time-domain
        cancellation model of auditory processing, 1993
"""

from __future__ import annotations

import numpy as np
import scipy.fft

RATE = 22_050
SHORTEST, LONGEST = 37, 280
"""Lags of periods: 600 Hz to 79 Hz."""
COMPARED = 2048
"""Samples that are compared with those one or two periods earlier."""
SIZE = COMPARED + 2 * LONGEST
ALONE, TOGETHER = 0.16, 0.10
"""The least that one filter leaves and the most that two leave, as parts of the sound, where two people sing."""
BETTER = 0.4
"""The most that two filters leave, as a part of what one leaves."""
BESIDE = 1.06
"""Ratio up to which two periods are one voice's, which is not quite steady."""
SHARED = 0.03
"""How near to a simple ratio, as a part, the two periods may be: then they are harmonics of one voice."""
SIMPLE = tuple(a / b for a, b in ((2, 1), (3, 1), (4, 1), (5, 1), (3, 2)))


def sounds_like_two(samples: np.ndarray) -> bool:
    """Whether two voices explain the sound, and one does not.

    samples  (SIZE or more,) at RATE; the newest are used
    """
    x = np.asarray(samples[-SIZE:], np.float64)
    x = x - x.mean()
    newest = x[-COMPARED:]
    power = float(newest @ newest)
    if len(x) < SIZE or power / COMPARED < 1e-8:
        return False
    # Correlation of the newest part with what was `lag` earlier, and energy of what was earlier.
    length = scipy.fft.next_fast_len(SIZE + COMPARED, real=True)
    both = scipy.fft.irfft(scipy.fft.rfft(x, length) * np.conj(scipy.fft.rfft(newest, length)), length)
    r = both[SIZE - COMPARED :: -1][: 2 * LONGEST + 1] / power
    own = r[SHORTEST : LONGEST + 1]
    least = float(max(0.0, 1.0 - own.max()))
    if least < ALONE:
        return False
    # Stationary within the window: E = 1 - r(a) - r(b) + (r(a + b) + r(a - b)) / 2, of a filter whose gain is 2.
    two = np.maximum(1.0 - own[_A] - own[_B] + 0.5 * (r[_SUM] + r[_DIFFERENCE]), 0.0)
    found = float(two.min())
    return found <= TOGETHER and found <= BETTER * least


def _pairs() -> tuple[np.ndarray, ...]:
    """Pairs of periods that two people may have, as places from SHORTEST on; not those of harmonics of one voice."""
    lags = np.arange(SHORTEST, LONGEST + 1)
    ratio = lags[None, :] / lags[:, None]
    apart = ratio > BESIDE
    for simple in SIMPLE:
        apart &= np.abs(ratio / simple - 1) > SHARED
    return np.nonzero(apart)


_A, _B = _pairs()
_SUM, _DIFFERENCE = _A + _B + 2 * SHORTEST, _B - _A
