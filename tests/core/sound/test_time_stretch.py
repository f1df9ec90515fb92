"""Time stretch: pitch kept, attacks in place and single, no gap, whatever the blocks."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.sound.time_stretch import TimeStretch, attacks

RATE = 48_000


def stretched(mono, speed, blocks=(256,), place=0.0):
    stretch = TimeStretch(np.stack([mono, mono]).astype(np.float32), RATE)
    out, at, i = [], place, 0
    while at < len(mono):
        size = blocks[i % len(blocks)]
        out.append(stretch.block(at, size, speed))
        at, i = at + size * speed, i + 1
    return np.concatenate(out, axis=1)[0]


def strokes(at, long=3.0, ring=0.06):
    rng = np.random.default_rng(5)
    mono = 1e-4 * rng.standard_normal(int(long * RATE))
    for second in at:
        first = int(second * RATE)
        t = np.arange(min(int(4 * ring * RATE), len(mono) - first)) / RATE
        mono[first : first + len(t)] += rng.uniform(0.3, 0.8) * np.exp(-t / ring) * rng.standard_normal(len(t))
    return mono


@pytest.mark.parametrize("speed", [0.25, 0.5, 0.8, 1.25, 2.0])
@pytest.mark.parametrize("hertz", [55.0, 220.0, 987.0])
def test_pitch_and_level_stay(speed, hertz):
    t = np.arange(3 * RATE) / RATE
    mono = sum(np.sin(2 * np.pi * hertz * k * t) / k for k in (1, 2, 3)) * 0.3
    out = stretched(mono, speed)[: int(2.9 * RATE / speed)]
    spectrum = np.abs(np.fft.rfft(out * np.hanning(len(out))))
    found = np.argmax(spectrum) * RATE / len(out)
    assert abs(12 * np.log2(found / hertz)) < 0.1
    power = np.sqrt(np.mean(out[: len(out) // 4096 * 4096].reshape(-1, 4096) ** 2, axis=1))
    usual = np.sqrt(np.mean(mono**2))
    assert (20 * np.log10(power / usual) > -2).all()
    assert (20 * np.log10(power / usual) < 2).all()


@pytest.mark.parametrize("speed", [0.25, 0.5, 0.75, 1.5])
def test_attacks_stay_in_place_and_single(speed):
    at = np.array([0.2, 0.45, 0.575, 0.7, 1.1, 1.6, 1.9, 2.15, 2.5])
    mono = strokes(at)
    found = attacks(mono, RATE) / RATE
    assert len(found) == len(at)
    assert np.abs(found - at).max() < 0.002
    again = attacks(stretched(mono, speed), RATE) / RATE
    assert len(again) == len(at)
    assert np.abs(again - at / speed).max() < 0.005


def test_blocks_and_jumps_do_not_matter():
    mono = strokes([0.3, 0.9, 1.4]) + 0.2 * np.sin(2 * np.pi * 196 * np.arange(3 * RATE) / RATE)
    one, other = stretched(mono, 0.6, (64,)), stretched(mono, 0.6, (1024, 37, 512))
    both = min(len(one), len(other))
    assert np.abs(one[:both] - other[:both]).max() < 1e-3
    stretch = TimeStretch(np.stack([mono]).astype(np.float32), RATE)
    stretch.block(0.0, 4096, 0.5)
    jumped = stretch.block(2.0 * RATE, 4096, 0.5)
    assert np.sqrt(np.mean(jumped[0, :512] ** 2)) > 0.08
    assert not stretch.block(9.0 * RATE, 256, 0.5).any()
    assert not TimeStretch(np.zeros((2, 0), np.float32), RATE).block(0, 64, 0.5).any()
