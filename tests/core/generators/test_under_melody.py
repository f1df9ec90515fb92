"""Chords under a melody: they hold its notes, end as asked, and are the same for the same number."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.generators import making, under_melody
from puresignal.core.generators.made_notes import MadeNotes, groups
from puresignal.core.generators.recipe import FULL, ChordsUnder, from_text, to_text
from puresignal.core.harmony import scales

RECIPE = ChordsUnder(bars=8, source="m", sevenths=0.0, far=0.0)


def melody(notes, long=1.0):
    return MadeNotes.of(np.arange(len(notes)) * long, long * 0.95, np.array(notes), 80)


def chords(recipe, heard, key=""):
    made = making.made(recipe, 4.0, key, heard)
    return [(begin, {note % 12 for note in chord}) for begin, _, chord, _ in groups(made)]


def test_broken_chords_get_the_chords_that_they_are():
    # C, F, G, C, a bar each, broken.
    heard = melody([60, 64, 67, 64, 65, 69, 72, 69, 67, 71, 74, 71, 60, 64, 67, 72] * 2)
    found = chords(RECIPE, heard, "C major")
    wanted = [{0, 4, 7}, {0, 5, 9}, {2, 7, 11}, {0, 4, 7}] * 2
    assert [begin for begin, _ in found] == [4.0 * i for i in range(8)]
    # The last two are the cadence that was asked for: here it is what is played anyhow.
    assert [classes for _, classes in found] == wanted


def test_the_key_is_that_of_the_melody_where_none_is_given():
    heard = melody([62, 65, 69, 65, 67, 70, 74, 70, 69, 73, 76, 73, 62, 65, 69, 74] * 2)
    assert under_melody.key_of(heard) == "D minor"
    found = chords(RECIPE, heard)
    assert found[0][1] == {2, 5, 9}
    # The dominant of a minor key has the leading note.
    assert found[-2][1] == {9, 1, 4}
    assert found[-1][1] == {2, 5, 9}


@given(
    notes=st.lists(st.sampled_from([60, 62, 64, 65, 67, 69, 71, 72]), min_size=32, max_size=32),
    seed=st.integers(0, 50),
)
def test_chords_hold_more_of_the_melody_than_any_one_chord_would(notes, seed):
    heard, recipe = melody(notes), replace(RECIPE, seed=seed, ending="none")
    scale = scales.scale_of("C major")

    def held(rows):
        return sum(
            note % 12 in classes for i, note in enumerate(notes) for begin, classes in rows if begin == 4.0 * (i // 4)
        )

    found = held(chords(recipe, heard, "C major"))
    always = [held([(4.0 * i, {scale[(step + 2 * k) % 7] for k in range(3)}) for i in range(8)]) for step in range(7)]
    assert found >= max(always) - 4
    assert chords(recipe, heard, "C major") == chords(recipe, heard, "C major")


def test_another_number_gives_other_chords_and_nothing_to_hear_gives_none():
    heard = melody([64, 67, 69, 67, 65, 69, 72, 74] * 4)
    several = {tuple(sorted(map(str, chords(replace(RECIPE, seed=seed), heard, "C major")))) for seed in range(12)}
    assert len(several) > 1
    assert len(making.made(RECIPE, 4.0, "C major", None)) == 0
    assert len(making.made(RECIPE, 4.0, "C major", MadeNotes.joined([]))) == 0


def test_a_recipe_is_kept_as_text_and_a_thousand_bars_take_no_time():
    import time

    recipe = ChordsUnder(bars=1000, source="m", ending=FULL, every="1/1")
    assert from_text(to_text(recipe)) == recipe
    heard = melody([60, 64, 67, 64] * 1000)
    begun = time.perf_counter()
    made = making.made(recipe, 4.0, "C major", heard)
    assert time.perf_counter() - begun < 1.0
    assert made.beat.max() == pytest.approx(3996.0)
