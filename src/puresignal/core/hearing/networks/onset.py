"""Onsets: a network estimates for each frame the probability that something begins.

Trained by training/train_ear.py on synthesised drums, vocal percussion, melodies and chords.

Source  J. Schlueter and S. Boeck, Improved musical onset detection with convolutional neural networks, 2014
"""

from __future__ import annotations

from puresignal.core.hearing.networks.convolutional import LogSpectrogram

RATE, HOP = 22_050, 220
SPECTROGRAM = LogSpectrogram(RATE, HOP, 40, 60.0, 10_000.0, (512, 2048), seldom=2048)
STEP = HOP / RATE
