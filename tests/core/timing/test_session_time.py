"""The session's time: beats, seconds and bars over steps and glides, and what files say of it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline

BPM = st.floats(20, 400)


@st.composite
def timelines(draw):
    """Up to twelve tempos over up to some hours, half of them gliding, and up to six meters."""
    gaps = draw(st.lists(st.floats(0.25, 3000), min_size=1, max_size=12))
    beats = np.cumsum([draw(st.sampled_from([-8.0, 0.0, 16.0])), *gaps])
    tempos = tuple(TempoPoint(float(b), draw(BPM), draw(st.booleans())) for b in beats)
    bars = sorted(draw(st.sets(st.integers(1, 400), max_size=6)))
    kinds = st.tuples(st.integers(1, 15), st.sampled_from([2, 4, 8, 16]))
    return Timeline(tempos, tuple(MeterPoint(bar, *draw(kinds)) for bar in bars))


@given(timelines(), st.lists(st.floats(-20, 30_000), min_size=1, max_size=50))
@settings(max_examples=150, deadline=None)
def test_beats_and_seconds_go_both_ways_to_20_microseconds(timeline, beats):
    beats = np.sort(np.array(beats))
    seconds = timeline.beats_to_seconds(beats)
    assert np.all(np.diff(seconds) >= 0)
    again = timeline.seconds_to_beats(seconds)
    assert np.abs(timeline.beats_to_seconds(again) - seconds).max() < 20e-6
    # 20 µs are at most this many beats.
    assert np.abs(again - beats).max() < 20e-6 * 400 / 60


def test_a_glide_is_even_by_beats():
    timeline = Timeline((TempoPoint(0, 60, True), TempoPoint(60, 120)))
    assert timeline.bpm_at(30) == 90
    # The integral of 60 / (60 + b) over 60 beats is 60 ln 2.
    assert timeline.beats_to_seconds(np.array([60.0]))[0] == pytest.approx(60 * np.log(2))
    assert timeline.beats_to_seconds(np.array([62.0, -2.0])).tolist() == pytest.approx([60 * np.log(2) + 1, -2])


def test_what_is_before_the_first_point_has_its_tempo():
    timeline = Timeline((TempoPoint(8, 60, True), TempoPoint(16, 120)))
    assert timeline.beats_to_seconds(np.array([-4.0, 0.0, 8.0])).tolist() == [-4.0, 0.0, 8.0]


@given(timelines(), st.sampled_from([96, 480, 960]), st.integers(0, 4))
@settings(max_examples=60, deadline=None)
def test_a_file_keeps_every_note_within_half_a_millisecond(timeline, ppq, bars_before):
    tempo = timeline.to_tempo_map(ppq, bars_before)
    shift = bars_before * timeline.meter_at(1).beats
    end = max(point.beat for point in timeline.tempos) + 16
    ticks = np.arange(0, int((end + shift) * ppq), max(1, int((end + shift) * ppq) // 20_000))
    true = timeline.beats_to_seconds(ticks / ppq - shift)
    assert np.abs((true - true[0]) - tempo.ticks_to_seconds(ticks)).max() < 0.0005


@given(timelines(), st.floats(0, 20_000))
@settings(max_examples=100, deadline=None)
def test_bars_and_beats_go_both_ways(timeline, beat):
    bar, into = timeline.beats_to_bar(beat)
    assert timeline.bar_to_beats(bar) + into == pytest.approx(beat, abs=1e-6)
    assert -1e-6 <= into < timeline.meter_at(bar).beats + 1e-6
    assert timeline.beats_to_bar(timeline.bar_to_beats(bar)) == (bar, pytest.approx(0, abs=1e-6))


def test_bars_in_words():
    timeline = Timeline((TempoPoint(0, 92),), (MeterPoint(1, 4, 4), MeterPoint(3, 7, 8), MeterPoint(5, 3, 4)))
    assert [timeline.bar_to_beats(bar) for bar in (0, 1, 3, 4, 5, 6)] == [-4, 0, 8, 11.5, 15, 18]
    assert timeline.beats_to_bar(13.0) == (4, 1.5)
    assert timeline.beats_to_bar(-1.0) == (0, 3.0)
    assert timeline.meter_at(4) == MeterPoint(3, 7, 8)


@given(timelines())
@settings(max_examples=60, deadline=None)
def test_a_file_that_is_read_again_has_the_same_time(timeline):
    tempo = timeline.to_tempo_map()
    again = Timeline.from_tempo_map(tempo)
    beats = np.linspace(0, 5000, 200)
    assert np.abs(again.beats_to_seconds(beats) - tempo.beats_to_seconds(beats)).max() < 20e-6
    bars = range(1, 400, 7)
    assert [again.bar_to_beats(bar) for bar in bars] == pytest.approx([timeline.bar_to_beats(bar) for bar in bars])


def test_a_steady_one_is_the_same_map_as_before():
    assert Timeline.steady(92, (3, 4)).to_tempo_map() == TempoMap.steady(92, (3, 4))
