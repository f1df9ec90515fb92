"""Following a MIDI clock: tempo and bar lines through jitter, gaps, doubled and lost ticks."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.timing.clock_follower import TICKS, ClockFollower

TICK, START, CONTINUE, STOP = b"\xf8", b"\xfa", b"\xfb", b"\xfc"


def ticks(follower: ClockFollower, beats: float, bpm: float, begin: float, spread: float = 0.0, seed: int = 0) -> float:
    """Let a follower hear a clock; returns the second after its last tick."""
    period = 60.0 / bpm / TICKS
    rng = np.random.default_rng(seed)
    count = round(beats * TICKS)
    for number in range(count):
        follower.hear(begin + number * period + rng.uniform(-spread, spread), TICK)
    return begin + count * period


@pytest.mark.parametrize("seed", range(12))
def test_tempo_and_bar_lines_through_five_milliseconds_of_jitter(seed: int) -> None:
    follower = ClockFollower()
    follower.hear(9.99, START)
    after = ticks(follower, 4, 120.0, 10.0, 0.005, seed)
    assert follower.bpm == pytest.approx(120.0, rel=0.003)
    ticks(follower, 12, 120.0, after, 0.005, seed + 100)
    assert follower.bpm == pytest.approx(120.0, rel=0.0005)
    # The next bar line, which is still to come.
    assert follower.second_of(16.0) == pytest.approx(10.0 + 16 * 0.5, abs=0.003)


def test_start_is_at_the_tick_after_it() -> None:
    follower = ClockFollower()
    after = ticks(follower, 2, 100.0, 5.0)
    follower.hear(after - 0.010, START)
    assert follower.running
    assert follower.waits
    assert follower.second_of(0.0) == pytest.approx(after, abs=1e-6)


def test_continue_goes_on_from_the_song_position_and_stop_keeps_it() -> None:
    follower = ClockFollower()
    follower.hear(0.5, bytes((0xF2, 32, 0)))
    follower.hear(0.9, CONTINUE)
    after = ticks(follower, 4, 120.0, 1.0)
    assert follower.beat_at(after) == pytest.approx(8 + 4, abs=0.01)
    follower.hear(after, STOP)
    assert not follower.running
    follower.hear(after + 1.9, CONTINUE)
    ticks(follower, 1, 120.0, after + 2.0)
    assert follower.beat_at(after + 2.5) == pytest.approx(13, abs=0.03)


@pytest.mark.parametrize("change", ["lost", "twice", "gap of a second"])
def test_ticks_that_are_lost_or_come_twice_do_not_move_the_bars(change: str) -> None:
    follower = ClockFollower()
    follower.hear(0.99, START)
    rng = np.random.default_rng(4)
    period = 60.0 / 120.0 / TICKS
    for number in range(8 * TICKS):
        at = 1.0 + number * period + rng.uniform(-0.003, 0.003)
        if change == "lost" and number == 100:
            continue
        if change == "gap of a second" and 100 <= number < 148:
            continue
        follower.hear(at, TICK)
        if change == "twice" and number == 100:
            follower.hear(at + 0.0005, TICK)
    assert follower.second_of(8.0) == pytest.approx(1.0 + 4.0, abs=0.003)


def test_another_tempo_is_followed_within_a_beat_and_a_half() -> None:
    follower = ClockFollower()
    follower.hear(0.99, START)
    after = ticks(follower, 16, 120.0, 1.0, 0.002)
    after = ticks(follower, 1.5, 132.0, after, 0.002, 3)
    assert follower.bpm == pytest.approx(132.0, rel=0.01)
    assert follower.beat_at(after) == pytest.approx(17.5, abs=0.03)


def test_a_clock_far_too_fast_is_no_tempo() -> None:
    follower = ClockFollower()
    follower.hear(0.99, START)
    ticks(follower, 40, 2500.0, 1.0)
    assert follower.bpm is None


def test_a_clock_that_stays_away_is_forgotten() -> None:
    follower = ClockFollower()
    after = ticks(follower, 4, 120.0, 1.0)
    assert follower.is_heard(after)
    assert not follower.is_heard(after + 5.0)
    ticks(follower, 4, 90.0, after + 10.0)
    assert follower.bpm == pytest.approx(90.0, rel=0.001)
