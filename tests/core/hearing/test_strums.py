"""Strums are found with their direction, in what was written and in what is heard of it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.hearing.polyphony import chord_names, note_decisions, strums
from puresignal.core.hearing.transcribed import TranscribedNotes
from puresignal.io import models
from puresignal.sim import instrument_synthesis

STRINGS = (40, 47, 52, 56, 59, 64)


def strummed(times, spread, ups):
    """(start, end, note, loudness) of an E major chord strummed at each time, upwards where asked."""
    rows = []
    for i, (at, up) in enumerate(zip(times, ups, strict=True)):
        until = times[i + 1] - 0.01 if i + 1 < len(times) else at + 0.7
        for k, note in enumerate(STRINGS[::-1] if up else STRINGS):
            rows.append((at + k * spread, until, note, 0.8))
    return rows


@given(
    st.lists(st.booleans(), min_size=1, max_size=8), st.floats(0.0055, 0.04), st.randoms(use_true_random=False),
)  # fmt: skip
def test_each_strum_is_one_group_whatever_order_its_notes_come_in(ups, spread, random):
    rows = strummed([0.3 + 0.5 * k for k in range(len(ups))], spread, ups)
    random.shuffle(rows)
    start, pitch = np.array([r[0] for r in rows]), np.array([float(r[2]) for r in rows])
    found = strums.found(start, pitch)
    assert [one.direction for one in found] == [-1 if up else 1 for up in ups]
    assert sorted(i for one in found for i in one.notes.tolist()) == list(range(len(rows)))
    assert all(one.spread == pytest.approx(5 * spread) for one in found)


def test_chords_struck_together_runs_and_broken_chords_are_none():
    together = np.full(5, 1.0) + np.array([0.0, 0.004, 0.002, 0.006, 0.001])
    assert strums.found(together, np.array([40.0, 47, 52, 56, 59])) == []
    # A run or a broken chord of sixteenths goes on, or takes longer between its notes.
    assert strums.found(np.arange(8) * 0.12, np.arange(60.0, 68.0)) == []
    # Hands that are not together: neither up nor down.
    assert strums.found(np.array([1.0, 1.03, 1.01, 1.04]), np.array([40.0, 44, 60, 52])) == []


def test_the_names_of_strummed_chords_say_which_way():
    rows = strummed([0.3, 0.8, 1.3], 0.012, [False, True, False])
    columns = np.array([row[:3] for row in rows]).T
    notes = TranscribedNotes(*columns, np.full(len(rows), 90), np.full(len(rows), 0.9), np.zeros(len(rows)))
    assert [name for _, _, name in chord_names.named(notes)] == ["E ↓", "E ↑", "E ↓"]


def test_the_direction_is_heard_in_a_recording():
    random = np.random.default_rng(11)
    ups = [False, True, False, False, True, True, False, True]
    times = [0.4 + 0.62 * k for k in range(len(ups))]
    heard = right = 0
    for seed in (3, 8):
        timbre = instrument_synthesis.any_timbre(random, 1.0)
        sound = instrument_synthesis.play(strummed(times, 0.018, ups), timbre, note_decisions.RATE, seed)
        found = note_decisions.decide(note_decisions.analyse(models.chord_network(), sound)).kept()
        for one in strums.found(found.start, found.pitch):
            near = int(np.argmin([abs(one.start - at) for at in times]))
            heard += abs(one.start - times[near]) < 0.08
            right += one.direction == (-1 if ups[near] else 1)
    # Not every one shows its order, but those that do show it rightly.
    assert heard >= 4
    assert right == heard
