"""Where heard notes stand between left and right: also two at once, and strokes."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.dsp.stereo_place import places

RATE = 22_050


def tone(hz, start, end, place, seconds=4.0):
    """A note with partials between left (-1) and right (1): its amplitudes are in the proportion of the place."""
    at = np.arange(round(seconds * RATE)) / RATE
    wave = sum(np.sin(2 * np.pi * k * hz * at + k) / k for k in range(1, 6)) * 0.1 * ((at >= start) & (at < end))
    return np.column_stack([wave * (1 - place) / 2, wave * (1 + place) / 2]).astype(np.float32)


def in_blocks(sound, size):
    return [sound[i : i + size] for i in range(0, len(sound), size)]


@pytest.mark.parametrize("size", [500, 7000, 10**6])
def test_each_note_is_where_it_was_put_also_beside_another(size):
    sound = tone(220, 0.2, 1.5, -0.8) + tone(330, 0.2, 1.5, 0.6) + tone(261.6, 2.0, 3.0, 0.0)
    notes = [(0.2, 1.5, 220.0), (0.2, 1.5, 330.0), (2.0, 3.0, 261.6)]
    assert places(in_blocks(sound, size), RATE, notes) == pytest.approx([-0.8, 0.6, 0.0], abs=0.08)


def test_strokes_are_told_by_their_beginning_and_mono_and_silence_are_the_middle():
    random = np.random.default_rng(1)
    sound = np.zeros((3 * RATE, 2), np.float32)
    for at, place in ((0.5, -1.0), (1.5, 0.5)):
        burst = random.normal(0, 0.2, (800, 1)) * [(1 - place) / 2, (1 + place) / 2]
        sound[round(at * RATE) : round(at * RATE) + 800] += burst.astype(np.float32)
    found = places(in_blocks(sound, 3000), RATE, [(0.5, 0.6, 0.0), (1.5, 1.6, 0.0), (2.5, 2.6, 0.0)])
    assert found == pytest.approx([-1.0, 0.5, 0.0], abs=0.05)
    assert places([sound[:, :1]], RATE, [(0.5, 0.6, 0.0)]) == [0.0]
    assert places([], RATE, [(0.5, 0.6, 440.0)]) == [0.0]
