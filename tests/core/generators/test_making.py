"""What recipes make: the same for the same seed, in the key, under the chords, on the beats; and hostile ones."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError
from puresignal.core.generators import making
from puresignal.core.generators.made_notes import MadeNotes, groups
from puresignal.core.generators.recipe import (
    AS_HELD,
    DOWN,
    FULL,
    KINDS,
    RATES,
    ROOTS,
    UP,
    UP_DOWN,
    Arpeggio,
    BassLine,
    ChordProgression,
    DrumPattern,
    from_text,
    to_text,
)
from puresignal.core.harmony import scales, voice_leading

CHORDS = making.made(ChordProgression(bars=8, key="D minor", far=0.0))


def alike(one, other):
    return all(np.array_equal(getattr(one, n), getattr(other, n)) for n in ("beat", "long", "note", "velocity"))


@pytest.mark.parametrize("kind", KINDS)
@given(seed=st.integers(0, 10_000), bars=st.integers(1, 12), beats=st.sampled_from([2.0, 3.0, 3.5, 4.0, 5.0]))
@settings(max_examples=25, deadline=None)
def test_a_seed_is_its_notes_and_all_of_them_lie_in_the_bars(kind, seed, bars, beats):
    recipe = kind(seed=seed, bars=bars)
    one, again = (making.made(recipe, beats, "G major", CHORDS) for _ in range(2))
    assert alike(one, again)
    assert (one.beat >= 0).all()
    assert (one.beat + one.long <= bars * beats + 1e-6).all()
    assert ((one.velocity >= 1) & (one.velocity <= 127)).all()
    assert (np.diff(one.beat) >= 0).all()


@pytest.mark.parametrize("kind", KINDS)
def test_no_two_seeds_are_alike_and_one_round_is_as_the_next_unless_made_anew(kind):
    made = [making.made(kind(seed=seed, bars=8), source=CHORDS) for seed in range(12)]
    different = [not alike(a, b) for a, b in itertools.combinations(made, 2)]
    # An arpeggio draws nothing unless it is asked to.
    assert all(different) if kind is not Arpeggio else not any(different)
    twice = making.made(kind(bars=4, rounds=2), source=None if not kind.needs_source else _round(CHORDS))
    half = twice.beat < 16
    assert np.allclose(twice.beat[half], twice.beat[~half] - 16)
    if kind in (ChordProgression, DrumPattern):
        fresh = making.made(kind(bars=4, rounds=2, fresh=True))
        first, second = (fresh.take((fresh.beat < 16) == side) for side in (True, False))
        assert not alike(first, replace(second, beat=second.beat - 16))


def _round(notes):
    """Four bars, twice."""
    four = notes.within(16.0)
    return MadeNotes.joined([four, replace(four, beat=four.beat + 16)])


def test_chords_are_of_the_key_and_end_where_they_should():
    scale = set(scales.scale_of("D minor")) | {1}
    for seed in range(20):
        made = groups(making.made(ChordProgression(seed=seed, key="D minor", far=0.0, sevenths=0.0, ending=FULL)))
        assert len(made) == 8
        assert {note % 12 for _, _, chord, _ in made for note in chord} <= scale
        assert {note % 12 for note in made[-1][2]} == {2, 5, 9}
        # The fifth step before it has its leading note.
        assert {note % 12 for note in made[-2][2]} == {9, 1, 4}
    far = [making.made(ChordProgression(seed=s, key="C major", far=100.0)) for s in range(20)]
    assert any(set((one.note % 12).tolist()) - set(scales.scale_of("C major")) for one in far)


@given(
    st.lists(st.lists(st.integers(0, 11), min_size=3, max_size=4, unique=True).map(sorted), min_size=2, max_size=6),
    st.integers(40, 60),
)
@settings(max_examples=60, deadline=None)
def test_voices_never_move_more_than_to_the_best_inversion(chords, low):
    before = None
    for classes in chords:
        now = voice_leading.led(before, tuple(classes), low, low + 19)
        assert {note % 12 for note in now} == {c % 12 for c in classes}
        if before is not None and len(before) == len(classes):
            best = min(
                sum(abs(a - b) for a, b in zip(sorted(before), sorted(other), strict=True))
                for other in voice_leading.voicings(tuple(classes), low, low + 19)
            )
            assert voice_leading.movement(before, now) == best
        before = now


def test_an_arpeggio_runs_through_what_is_held():
    held = MadeNotes.of(np.zeros(3), 4.0, np.array([60, 64, 67]), 80.0)
    base = Arpeggio(bars=1, rate="1/8", accent=0, gate=100)

    def notes(**changed):
        return making.made(replace(base, **changed), source=held).note.tolist()

    assert notes(order=UP) == [60, 64, 67, 60, 64, 67, 60, 64]
    assert notes(order=DOWN, octaves=2) == [79, 76, 72, 67, 64, 60, 79, 76]
    assert notes(order=UP_DOWN) == [60, 64, 67, 64, 60, 64, 67, 64]
    assert notes(order=AS_HELD, rate="1/2") == [60, 64, 67, 60, 64, 67]
    swung = making.made(replace(base, swing=66.0), source=held)
    assert np.diff(swung.beat)[:2] == pytest.approx([0.5 * 1.32, 0.5 * 0.68])
    loud = making.made(replace(base, accent=4), source=held).velocity
    assert (loud[::4] > loud[1]).all()
    assert len(making.made(replace(base, bars=8, rests=50.0), source=_round(CHORDS))) < 50
    for rate, step in RATES.items():
        made = making.made(replace(base, rate=rate), source=held)
        assert made.beat == pytest.approx(np.arange(len(made)) * step)


def test_a_bass_stands_under_its_chords():
    chords = groups(CHORDS)
    roots = making.made(BassLine(way=ROOTS, approach=0.0, low=30), source=CHORDS)
    assert ((roots.note >= 30) & (roots.note < 42)).all()
    for begin, long, chord, _ in chords:
        mine = roots.note[(roots.beat >= begin - 1e-6) & (roots.beat < begin + long - 1e-6)]
        assert len(set(mine.tolist())) == 1
        assert int(mine[0]) % 12 in {note % 12 for note in chord}
    led = making.made(BassLine(way=ROOTS, approach=100.0, rests=0.0), source=CHORDS)
    for (begin, long, _, _), (after, _, _, _) in itertools.pairwise(chords):
        last = led.note[(led.beat >= begin - 1e-6) & (led.beat < begin + long - 1e-6)][-1]
        first = led.note[np.abs(led.beat - after) < 1e-6][0]
        assert abs(int(last) - int(first)) in (0, 1)


def test_drums_have_as_many_hits_as_asked_and_fills_where_asked():
    made = making.made(DrumPattern(bars=8, kicks=4, snares=2, hats=8, off=0.0, ghosts=0.0, fill=0))
    for note, count in ((36, 4), (38, 2), (42, 8)):
        per_bar = np.bincount((made.beat[made.note == note] // 4).astype(int), minlength=8)
        assert (per_bar == count).all()
    # Nothing off the beat: kicks on the quarters, snares on two and four.
    assert set((made.beat[made.note == 38] % 4).tolist()) == {1.0, 3.0}
    filled = making.made(DrumPattern(bars=8, fill=4))
    toms = filled.beat[np.isin(filled.note, (48, 45, 43))]
    assert set((toms // 4).astype(int).tolist()) == {3, 7}
    assert 16.0 in filled.beat[filled.note == 49]
    soft = making.made(DrumPattern(bars=16, ghosts=50.0, fill=0))
    ghosts = soft.velocity[(soft.note == 38) & (soft.velocity < 60)]
    assert len(ghosts) > 16
    assert set(making.made(DrumPattern()).channel.tolist()) == {10}


@pytest.mark.parametrize("kind", KINDS)
def test_a_recipe_is_text_and_every_blank_is_in_its_sentence(kind):
    recipe = kind(seed=7, bars=3)
    assert from_text(to_text(recipe)) == recipe
    assert all(f"{{{blank.field}}}" in kind.sentence for blank in kind.blanks)
    assert kind.sentence.count("{") == len(kind.blanks)


def test_hostile_recipes_are_brought_into_range_or_refused():
    odd = '{"kind": "drums", "kicks": 1e9, "off": NaN, "bars": -4, "seed": true, "hats": "many", "source": 4}'
    assert from_text(odd) == DrumPattern(kicks=12, bars=1)
    assert from_text('{"kind": "chords", "key": "H dur", "ending": "loud"}') == ChordProgression()
    for text in ("", "[]", "{}", '{"kind": "magic"}', "[" * 100_000):
        with pytest.raises(BadFileError):
            from_text(text)
    long = making.made(DrumPattern(bars=4096, rounds=999))
    assert len(long) < 400_000


def test_nothing_to_listen_to_makes_nothing():
    assert len(making.made(Arpeggio(), source=None)) == 0
    assert len(making.made(BassLine(), source=MadeNotes.joined([]))) == 0
    twelve = MadeNotes.of(np.zeros(12), 4.0, np.arange(60, 72), 80.0)
    assert len(making.made(Arpeggio(bars=1, order=AS_HELD, rate="1/4"), source=twelve)) == 48
