from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap, on_arrival_grid

tempos = st.lists(
    st.tuples(st.integers(0, 400_000), st.integers(150_000, 2_000_000)).map(lambda t: Tempo(*t)), max_size=8
)
maps = st.builds(lambda ppq, ts: TempoMap(ppq, tuple(sorted(ts, key=lambda t: t.tick))), st.integers(24, 1920), tempos)
ticks = st.lists(st.integers(0, 1_000_000), min_size=1, max_size=50).map(np.array)


@given(maps, ticks)
def test_ticks_seconds_and_beats_go_back_exactly_over_tempo_changes(tempo, tick):
    seconds = tempo.ticks_to_seconds(tick)
    assert np.array_equal(tempo.seconds_to_ticks(seconds), tick)
    assert np.array_equal(tempo.beats_to_ticks(tempo.ticks_to_beats(tick)), tick)
    beats = tempo.seconds_to_beats(seconds)
    assert np.array_equal(tempo.beats_to_ticks(beats), tick)
    assert np.allclose(tempo.beats_to_seconds(beats), seconds, rtol=0, atol=1e-9)


@given(maps, ticks)
def test_time_never_runs_backwards(tempo, tick):
    seconds = tempo.ticks_to_seconds(np.sort(tick))
    assert np.all(np.diff(seconds) >= 0)


def test_seconds_follow_each_tempo_in_turn():
    tempo = TempoMap(480, (Tempo(0, 500_000), Tempo(960, 1_000_000), Tempo(1440, 250_000)))
    assert tempo.ticks_to_seconds(np.array([0, 480, 960, 1440, 1920])).tolist() == [0.0, 0.5, 1.0, 2.0, 2.25]
    assert [tempo.bpm_at(s) for s in (0.2, 1.5, 2.1)] == [120.0, 60.0, 240.0]


def test_bars_count_through_meter_changes():
    tempo = TempoMap(480, (), (Meter(0, 3, 4), Meter(3 * 480 * 2, 6, 8), Meter(3 * 480 * 4, 4, 4)))
    assert tempo.position(0.0) == (1, 1, 0)
    assert tempo.position(1.5) == (2, 1, 0)
    assert tempo.position(3.0) == (3, 1, 0)
    assert tempo.position(3.25) == (3, 2, 0)
    assert tempo.position(6.0) == (5, 1, 0)
    assert [tempo.bar_start(b) for b in (1, 2, 3, 5)] == [0, 1440, 2880, 5760]


def test_a_meter_inside_a_bar_ends_it_early():
    tempo = TempoMap(480, (), (Meter(0, 4, 4), Meter(480 * 2, 3, 4)))
    assert tempo.position(1.0) == (2, 1, 0)


def test_the_grid_names_bars_beats_and_what_lies_between():
    tempo = TempoMap.steady(60, (3, 4))
    times, ranks = tempo.grid(0.0, 6.0, 2)
    assert times.tolist() == [i / 2 for i in range(13)]
    assert ranks.tolist() == [2, 0, 1, 0, 1, 0, 2, 0, 1, 0, 1, 0, 2]


@given(st.lists(st.floats(0, 10_000), max_size=50).map(np.array))
def test_arrival_times_settle_once_and_keep_their_order(seconds):
    settled = on_arrival_grid(seconds)
    assert np.array_equal(on_arrival_grid(settled), settled)
    assert np.all(np.abs(settled - seconds) <= 10.0001e-6)
