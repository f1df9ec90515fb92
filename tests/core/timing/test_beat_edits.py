"""Found beats mended by hand: what is moved stays where it was put, and the rest follows what was played."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.timing import beat_edits, loop_finder
from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.found_grid import beats_of, grid_of
from puresignal.core.timing.onsets import onsets_of


def beats_at(times, meter=4, first=0):
    times = np.asarray(times, float)
    return Beats(times, np.ones(len(times)), (np.arange(len(times)) - first) % meter == 0, meter, False, 1.0)


def hits_at(times, notes=None):
    times = np.asarray(times, float)
    notes = np.full(len(times), 36) if notes is None else np.asarray(notes)
    none = np.zeros(len(times), bool)
    return onsets_of(times, np.full(len(times), 100), notes, times + 0.1, notes == 36, notes == 38, none)


def test_what_follows_a_dragged_line_goes_to_what_was_played():
    played = 0.5 * np.arange(40) + 0.3
    wrong = beats_at(played + 0.25)
    moved = beat_edits.moved(wrong, 8, float(played[8]), hits_at(played))
    assert moved.time[8] == pytest.approx(played[8])
    after = moved.time[9:][moved.time[9:] < played[-1] + 0.1]
    assert len(after) == 31
    assert np.abs(after[:, None] - played[None, :]).min(axis=1).max() < 0.02
    # Bars further before stay as they were.
    assert moved.time[:5].tolist() == wrong.time[:5].tolist()
    assert moved.down[8]


def test_taps_along_set_the_beats_of_the_whole_take_though_one_is_missed_and_one_doubled():
    chance = np.random.default_rng(3)
    played = np.cumsum(np.full(60, 0.5) + 0.0004 * np.arange(60))
    taps = played[20:32] + 0.03 + chance.normal(0, 0.015, 12)
    taps = np.sort(np.concatenate([np.delete(taps, 5), [taps[7] + 0.09]]))
    other = beats_at(np.arange(0.1, 30, 0.75))
    found = beat_edits.tapped(other, taps, hits_at(played), float(played[-1]) + 0.1)
    assert np.abs(found.time[:, None] - played[None, :]).min(axis=0).max() < 0.03
    assert abs(len(found.time) - len(played)) <= 1


def test_two_taps_change_nothing():
    beats = beats_at(np.arange(8) * 0.5)
    assert beat_edits.tapped(beats, np.array([1.0, 1.4]), hits_at(beats.time), 4.0) is beats


def test_half_and_double_the_speed_keep_the_first_bar_line():
    beats = beats_at(0.2 + np.arange(17) * 0.5, first=1)
    half = beat_edits.halved(beats, hits_at(beats.time))
    assert half.time.tolist() == beats.time[1::2].tolist()
    assert half.bars[0] == beats.bars[0]
    double = beat_edits.doubled(half, hits_at(beats.time))
    assert double.time == pytest.approx(beats.time[1:-1] if len(double.time) == 15 else beats.time[1:])
    assert double.bars[0] == beats.bars[0]


def test_bar_lines_are_moved_by_beats_and_set_on_one():
    beats = beats_at(np.arange(12) * 0.5)
    assert np.flatnonzero(beat_edits.with_downbeat_moved(beats, 1).down).tolist() == [1, 5, 9]
    assert np.flatnonzero(beat_edits.with_downbeat_moved(beats, -1).down).tolist() == [3, 7, 11]
    assert np.flatnonzero(beat_edits.with_downbeat(beats, 6).down).tolist() == [2, 6, 10]
    assert np.flatnonzero(beat_edits.with_meter(beats, 3, False).down).tolist() == [0, 3, 6, 9]


@given(
    st.lists(st.floats(0.2, 1.2), min_size=3, max_size=60), st.sampled_from([2, 3, 4, 5, 6]), st.integers(0, 5),
    st.floats(0, 5),
)  # fmt: skip
def test_a_grid_holds_every_beat_at_its_second_and_gives_it_back(steps, meter, first, begin):
    time = begin + np.concatenate([[0], np.cumsum(steps)])
    beats = beats_at(time, meter, first % meter)
    if not beats.down.any():
        return
    grid = grid_of(beats)
    back = beats_of(grid, float(time[-1]) + 1e-4)
    there = back.time[back.time >= begin - 1e-6]
    assert there == pytest.approx(time, abs=2e-6)
    assert back.down[back.time >= begin - 1e-6].tolist() == beats.down.tolist()
    assert grid.start == pytest.approx(float(beats.bars[0]))


def test_a_bar_that_is_shorter_has_a_meter_of_its_own():
    beats = beats_at(np.arange(12) * 0.5)
    down = np.zeros(12, bool)
    down[[0, 4, 6, 10]] = True
    odd = Beats(beats.time, beats.sure, down, 4, False, 1.0)
    grid = grid_of(odd)
    assert [(m.bar, m.numerator) for m in grid.meters] == [(1, 4), (2, 2), (3, 4)]
    assert np.flatnonzero(beats_of(grid, 5.6).down).tolist() == [0, 4, 6, 10]


def groove(bars, period=0.5, of=2):
    """Bars of four whose kick differs from bar to bar, the same again after `of` bars."""
    hits = []
    for bar in range(bars):
        extra = [0.5 + 0.75 * (bar % of)] if of > 1 else []
        for at, note in [(0, 36), *((p, 36) for p in extra), (1, 38), (2, 36), (2.5, 36), (3, 38)]:
            hits.append(((4 * bar + at) * period, note))
    times, notes = zip(*sorted(hits), strict=True)
    return beats_at(np.arange(4 * bars) * period), hits_at(times, notes)


@pytest.mark.parametrize("of", [1, 2, 4])
def test_what_was_played_round_and_round_is_proposed_as_a_loop(of):
    found = loop_finder.find(*groove(17, of=of))
    assert found is not None
    assert (found.first, found.bars) == (0, of)
    assert found.times == 16 // of


def test_playing_that_never_repeats_is_no_loop():
    chance = np.random.default_rng(1)
    times = np.sort(chance.uniform(0, 32, 120))
    notes = chance.choice([36, 38, 42], 120)
    assert loop_finder.find(beats_at(np.arange(64) * 0.5), hits_at(times, notes)) is None
