"""Where something begins: a network says for each moment how likely it is.

It has heard drums, mouths, lines and chords. (Onset detection by a learned function of the spectrogram: J. Schlueter
and S. Boeck, 2014.) It is trained by bench/train_ear.py on sound of our own synthesis.
"""

from __future__ import annotations

from puresignal.core.hearing.network import Look

RATE, HOP = 22_050, 220
LOOK = Look(
    RATE, HOP, ((512, 22, 60.0, 10_000.0), (2048, 34, 45.0, 8_000.0)), (-12, -8, -5, -3, -2, -1, 0, 1, 2, 3, 5, 8, 12)
)
STEP = HOP / RATE
