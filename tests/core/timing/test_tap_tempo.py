from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.core.timing.tap_tempo import TapTempo
from puresignal.core.timing.timeline_edits import (
    meter_of,
    with_meter_at,
    with_tempo_at,
    with_tempo_in_force,
    without_tempo_at,
)


def tapped(times):
    tempo = TapTempo()
    for at in times:
        tempo = tempo.tapped(float(at))
    return tempo


@given(
    st.floats(40, 220), st.integers(5, 14), st.integers(0, 10_000), st.sampled_from(["even", "missed", "doubled"]),
    st.floats(0, 0.012),
)  # fmt: skip
def test_a_missed_or_doubled_tap_leaves_the_tempo_as_it_is_meant(bpm, count, seed, fault, jitter):
    chance = np.random.default_rng(seed)
    times = 100 + np.arange(count) * 60 / bpm + chance.uniform(-jitter, jitter, count)
    place = int(chance.integers(1, count - 1))
    if fault == "missed":
        times = np.delete(times, place)
    elif fault == "doubled":
        times = np.sort(np.append(times, times[place] + 0.3 * 60 / bpm * chance.uniform(0.3, 1)))
    found = tapped(times).bpm
    # As exact as the hand: half a period of jitter over the whole stretch.
    assert found == pytest.approx(bpm, rel=0.01 + 4 * jitter * bpm / 60 / count)


def test_too_few_taps_tell_nothing_and_a_pause_begins_anew():
    assert tapped([1.0]).bpm is None
    assert tapped([1.0, 1.5]).bpm is None
    assert tapped([1.0, 1.5, 2.0]).bpm == pytest.approx(120)
    again = tapped([1.0, 1.5, 2.0, 2.5, 6.0, 6.4, 6.8])
    assert len(again.taps) == 3
    assert again.bpm == pytest.approx(150)


def test_it_follows_a_player_who_gets_faster():
    slow, fast = np.arange(8) * 0.6, 8 * 0.6 + np.arange(20) * 0.5
    assert tapped([*slow, *fast]).bpm == pytest.approx(120, rel=0.01)


def test_tempo_and_meter_are_changed_where_they_are():
    line = Timeline.steady(92)
    both = with_tempo_at(line, 16.0, 104, glides=True)
    assert both.tempos == (TempoPoint(0.0, 92), TempoPoint(16.0, 104, True))
    assert with_tempo_in_force(both, 20.0, 110).tempos[1] == TempoPoint(16.0, 110, True)
    assert with_tempo_in_force(both, 3.0, 5000).tempos[0].bpm == 1000
    assert without_tempo_at(both, 16.0).tempos == (TempoPoint(0.0, 92),)
    assert without_tempo_at(both, 0.0).tempos == both.tempos
    waltz = with_meter_at(line, 5, 3, 4)
    assert waltz.meters == (MeterPoint(1, 4, 4), MeterPoint(5, 3, 4))
    assert waltz.beats_to_bar(16.0 + 3) == (6, 0.0)
    # Back to the meter before is no change at all.
    assert with_meter_at(waltz, 5, 4, 4).meters == (MeterPoint(1, 4, 4),)
    assert [meter_of(text) for text in ("7/8", " 6 / 8 ", "3", "3/5", "0/4", "x/4")] == [(7, 8), (6, 8), *[None] * 4]
