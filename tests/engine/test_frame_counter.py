"""The frame counter over wraps, dropouts and jumps, with callbacks that are late by chance."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.engine.frame_counter import FrameCounter

PERIOD = 256 / 48_000


def test_a_wrap_a_dropout_and_a_jump_are_told_apart():
    counter, now, frames = FrameCounter(0, 48_000, 100.0), 100.0, []
    # From the third block on, another device drives the graph, and its counter is a day ahead; then it wraps; and
    # between the last two the machine stood still for ten blocks.
    for first, blocks in ((1000, 1), (1256, 1), (4_294_000_000, 1), (4_294_000_256, 1), (12, 1), (12 + 2560, 10)):
        now += blocks * PERIOD
        frames.append(counter.advance(first, 256, now))
    assert [b - a for a, b in itertools.pairwise(frames)] == [256, 256, 256, 256, 2560]
    assert counter.ran == now


def test_a_suspend_of_hours_is_as_long_as_it_was():
    counter = FrameCounter(0, 48_000, 0.0)
    for i in range(1000):
        counter.advance(i * 256, 256, i * PERIOD)
    before = counter.frame
    # The counter stood still while the machine slept for three hours.
    counter.advance(1000 * 256, 256, 999 * PERIOD + 3 * 3600)
    assert counter.frame - before == pytest.approx(3 * 3600 * 48_000, abs=256)


@given(
    st.lists(st.tuples(st.sampled_from([64, 256, 1024]), st.integers(1, 200), st.integers(0, 2**32 - 1)), min_size=2,
             max_size=11),
    st.integers(0, 1000),
)  # fmt: skip
@settings(max_examples=60, deadline=None)
def test_frames_stay_on_the_clock_over_other_blocks_and_devices(stretches, seed):
    """Ten changes of block and device: within one block of the true time after each."""
    chance = np.random.default_rng(seed)
    counter = FrameCounter(0, 48_000, 0.0)
    true, last, begun = 0, -1, None
    for number, (length, blocks, first) in enumerate(stretches):
        for block in range(blocks):
            # A callback is some tenths of a millisecond late, now and then two.
            late = chance.exponential(0.0002) + (0.002 if chance.random() < 0.02 else 0.0)
            frame = counter.advance((first + block * length) & 0xFFFFFFFF, length, true / 48_000 + late)
            assert frame > last
            last, begun = frame, frame if begun is None else begun
            assert abs((frame - begun) - true) <= number * 256 + 1
            true += length
