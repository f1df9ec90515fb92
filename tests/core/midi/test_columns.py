from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.midi.columns import note_keys
from puresignal.core.midi.events import Notes
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from tests.conftest import hit, take_of


@given(st.lists(st.tuples(st.integers(0, 20_000), st.integers(0, 127)), max_size=80))
def test_keys_are_equal_for_equal_pairs_only_and_keep_the_order(pairs):
    lane, note = (np.array([p[i] for p in pairs], int) for i in (0, 1))
    keys = note_keys(lane, note).astype(int)
    order = np.argsort(keys, kind="stable")
    assert order.tolist() == sorted(range(len(pairs)), key=lambda i: pairs[i])
    assert len(set(keys.tolist())) == len(set(pairs))


def test_many_lanes_need_wider_keys_and_get_them():
    lane = np.arange(1000)
    keys = note_keys(lane, np.full(1000, 127))
    assert len(np.unique(keys)) == 1000
    assert np.all(np.diff(keys.astype(np.int64)) > 0)


def test_rows_are_copied_when_somebody_else_could_still_write_to_them():
    from puresignal.core.path.pair import pair

    notes = pair(take_of(hit(0.0, 38)).events).notes
    mine = np.array([0.5])
    moved = notes.but(start=mine)
    mine[0] = 9.0
    assert moved.start.tolist() == [0.5]
    assert moved.note is notes.note, "an unchanged column costs nothing"
    with pytest.raises(ValueError, match="rows"):
        notes.but(start=np.zeros(3))
    assert len(Notes.join([])) == 0
    assert len(Notes.join([notes, moved])) == 2


@given(
    st.lists(st.tuples(st.integers(1, 40), st.sampled_from([2, 3, 4, 6, 7]), st.sampled_from([4, 8])), max_size=4),
    st.sampled_from([1, 2, 4]),
)
def test_bar_lines_are_the_bars_of_the_grid_and_of_positions(changes, every):
    tempo, tick, meters = TempoMap(480, (Tempo(0, 400_000), Tempo(5000, 700_000))), 0, []
    for bars, numerator, denominator in changes:
        meters.append(Meter(tick, numerator, denominator))
        tick += bars * 4 * 480 * numerator // denominator
    tempo = TempoMap(480, tempo.tempos, tuple(meters))
    lines = tempo.bar_lines(0.0, 60.0, every)
    times, ranks = tempo.grid(0.0, 60.0, 1)
    bars = times[ranks == 2]
    numbers = [tempo.position(float(s))[0] for s in bars]
    assert lines.tolist() == [s for s, n in zip(bars.tolist(), numbers, strict=True) if (n - 1) % every == 0]
    assert all(tempo.position(float(s))[1:] == (1, 0) for s in lines)
