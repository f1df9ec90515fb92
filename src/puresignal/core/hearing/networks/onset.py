"""Where something begins: a network says for each moment how likely it is.

It has heard drums, mouths, lines and chords. (Onset detection by convolutions over the spectrogram: J. Schlueter and
S. Boeck, Improved musical onset detection with convolutional neural networks, 2014.) It is trained by
training/train_ear.py on sound of our own synthesis.
"""

from __future__ import annotations

from puresignal.core.hearing.networks.convolutional import LogSpectrogram

RATE, HOP = 22_050, 220
SPECTROGRAM = LogSpectrogram(RATE, HOP, 40, 60.0, 10_000.0, (512, 2048), seldom=2048)
STEP = HOP / RATE
