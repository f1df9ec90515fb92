"""Quantise and the other stages on the timeline: what moves, what stays, and that nothing is applied twice."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export.whole_session import song_of
from puresignal.core.midi.events import Controls
from puresignal.core.path.cleaning_path import (
    CleaningPath,
    StageCache,
    in_round,
    make_context,
    run,
    with_faults,
    with_unmapped,
)
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.several_takes import BEATS, Placed, run_together
from puresignal.core.path.tally import Action, NoteField
from puresignal.core.path.timing import BETWEEN, Timing
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.path.verdicts import Verdict
from puresignal.core.timing.grids import NAMES
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from tests.core.path.test_several_takes import file_take

PLAIN = with_unmapped(with_faults(CleaningPath(), False), "keep")
QUARTER = 480


def played(rows, path, verdicts=None, bpm=120.0, channel=10):
    """The outcome of a file. rows: (beat, note, velocity, beats long)."""
    take = file_take(
        [(round(b * QUARTER), n, v, round(long * QUARTER)) for b, n, v, long in rows], bpm=bpm, channel=channel
    )
    return run(take, path, make_context(take, None, None, path, verdicts or {})), take


def beats(outcome, bpm=120.0):
    return outcome.output_notes.start * bpm / 60


def quantised(**changed):
    return replace(PLAIN, timing=replace(Timing(on=True), **changed))


LOOSE = [(0.02, 36, 90, 0.2), (0.97, 38, 100, 0.2), (2.04, 36, 80, 0.2), (2.55, 42, 70, 0.1), (3.01, 38, 95, 0.2)]


def test_notes_go_to_the_lines_of_the_grid_and_keep_their_lengths():
    outcome, _ = played(LOOSE, quantised(grid="1/8"))
    assert beats(outcome) == pytest.approx([0, 1, 2, 2.5, 3])
    long = outcome.output_notes.end - outcome.output_notes.start
    assert long == pytest.approx([0.1, 0.1, 0.1, 0.05, 0.1], abs=1e-6)
    moved = outcome.tally.entries
    starts = moved.take((moved.field == NoteField.START) & (moved.action == Action.CHANGED))
    assert len(starts) == 5
    assert outcome.tally.balances()


def test_half_strength_goes_half_the_way_and_what_is_near_or_far_stays():
    outcome, _ = played(LOOSE, quantised(grid="1/8", strength=Scoped(0.5)))
    assert beats(outcome) == pytest.approx([0.01, 0.985, 2.02, 2.525, 3.005], abs=1e-3)
    # 0.01 to 0.02 beats are 5 to 10 ms, 0.05 are 25.
    outcome, _ = played(LOOSE, quantised(grid="1/8", within_ms=12.0, beyond_ms=22.0))
    assert beats(outcome) == pytest.approx([0.02, 1.0, 2.0, 2.55, 3.01], abs=1e-3)


def test_swing_moves_every_second_line():
    rows = [(i * 0.5 + 0.02, 42, 80, 0.1) for i in range(8)]
    outcome, _ = played(rows, quantised(grid="1/8", swing=0.6))
    assert beats(outcome) == pytest.approx([i + part for i in range(4) for part in (0, 0.6)])


def test_auto_finds_triplets_inside_straight_bars_and_keeps_graces_before_their_stroke():
    rng = np.random.default_rng(3)
    meant = []
    for bar in range(8):
        meant += [(4 * bar + i * 0.5, 42) for i in range(8 if bar % 2 else 5)]
        meant += [(4 * bar + b, 36) for b in (0, 2)]
        if bar % 2 == 0:
            meant += [(4 * bar + 3 + i / 3, 45) for i in range(3)]
    rows = [(beat + rng.normal(0, 0.02) + 0.02, note, 90, 0.05) for beat, note in meant]
    rows += [(8 + 1 - 0.06, 38, 30, 0.02), (8 + 1.0, 38, 110, 0.05)]
    outcome, _ = played([(max(0.0, b), n, v, long) for b, n, v, long in sorted(rows)], quantised())
    found = {}
    for beat, note in zip(beats(outcome).tolist(), outcome.output_notes.note.tolist(), strict=True):
        found.setdefault(note, []).append(beat)
    assert found[45] == pytest.approx(sorted(b for b, n in meant if n == 45), abs=0.002)
    assert found[42] == pytest.approx(sorted(b for b, n in meant if n == 42), abs=0.002)
    assert found[38] == pytest.approx([8.94, 9.0], abs=0.002)


def test_a_note_between_two_lines_is_pointed_out_and_goes_where_the_player_says():
    rows = [(i * 0.5, 42, 80, 0.1) for i in range(16)] + [(2.27, 38, 90, 0.1)]
    rows.sort()
    path = quantised(grid="1/8")
    outcome, _ = played(rows, path)
    told = outcome.tally.entries
    between = told.take(told.reason == int(BETWEEN))
    assert between.before.tolist() == pytest.approx([1.25])
    assert between.after.tolist() == pytest.approx([1.0])
    origin = int(between.origin[0])
    assert outcome.output_notes.start[outcome.output_notes.origin == origin] == pytest.approx(1.25)
    outcome, _ = played(rows, path, {origin: Verdict(other_line=True)})
    assert outcome.output_notes.start[outcome.output_notes.origin == origin] == pytest.approx(1.0)


def test_bars_of_seven_eighths_have_their_own_lines():
    timeline = Timeline((TempoPoint(0.0, 100.0),), (MeterPoint(1, 7, 8),))
    played_at = ((0.03, 38), (1.04, 38), (3.46, 38), (3.53, 36), (4.52, 38), (6.98, 38))
    take = file_take([(round(b * QUARTER), note, 90, 60) for b, note in played_at], bpm=100)
    whole = run_together([Placed(take, follows=BEATS)], quantised(grid="1/4"), timeline)
    # Quarter notes from each bar line; what is behind the last one of a bar goes to the next bar line.
    found = timeline.seconds_to_beats(whole.outcome.output_notes.start)
    assert found == pytest.approx([0, 1, 3.5, 3.5, 4.5, 7.0], abs=0.001)


def test_the_pedal_stays_before_its_hit():
    outcome, _ = played([(1.04, 42, 90, 0.2), (2.03, 42, 90, 0.2)], quantised(grid="1/4"))
    stage = quantised(grid="1/4").timing
    context = replace(make_context(file_take([]), None, None, PLAIN), timeline=Timeline.steady(120))
    notes = outcome.output_notes.but(start=np.array([0.52, 1.015]), end=np.array([0.6, 1.1]))
    moves = Controls(
        np.array([0.515, 0.52, 0.9, 1.01]), np.zeros(4), np.full(4, 10), np.full(4, 0xB0), np.full(4, 4),
        np.array([1, 2, 3, 4]), np.full(4, int(notes.track[0])), np.arange(4) + 100, np.arange(4),
    )  # fmt: skip
    result = stage.apply(notes, moves, context)
    assert result.notes.start == pytest.approx([0.5, 1.0])
    assert result.controls.at[1] <= 0.5
    assert 0.5 <= result.controls.at[2] <= 1.0
    assert result.controls.at[3] <= 1.0
    assert (np.diff(result.controls.at) >= 0).all()


def test_looseness_drifts_and_is_the_same_every_time():
    rows = [(i * 0.25, 42, 80, 0.1) for i in range(400)]
    one, _ = played(rows, quantised(grid="1/16", loose_ms=10.0))
    two, _ = played(rows, quantised(grid="1/16", loose_ms=10.0))
    off = one.output_notes.start - np.round(one.output_notes.start / 0.125) * 0.125
    assert np.array_equal(one.output_notes.start, two.output_notes.start)
    assert 0.004 < off.std() < 0.016
    assert np.corrcoef(off[:-1], off[1:])[0, 1] > 0.4


def test_a_groove_is_taken_from_playing_and_laid_over_other_playing():
    from puresignal.core.analysis.taken_groove import groove_of

    late = [0, 20, 5, 15]
    rows = [(i * 0.25 + late[i % 4] / 500, 42, 100 if i % 4 == 0 else 60, 0.1) for i in range(64)]
    outcome, _ = played(rows, PLAIN)
    groove = groove_of("ours", outcome, Timeline.steady(120), 0.0)
    assert groove.beats == 4.0
    assert list(groove.late) == pytest.approx([ms for _ in range(4) for ms in late], abs=0.6)
    assert groove.louder[0] > 1.2 > 0.95 > groove.louder[1]
    stiff = [(i * 0.25, 42, 80, 0.1) for i in range(32)]
    path = quantised(grid="1/16", groove=groove, groove_velocity=1.0)
    moved, _ = played(stiff, path)
    off = 1000 * (moved.output_notes.start - np.arange(32) * 0.125)
    assert off == pytest.approx([late[i % 4] for i in range(32)], abs=0.7)
    assert moved.output_notes.velocity[0] > 95 > 80 > moved.output_notes.velocity[1]
    assert moved.tally.balances()
    half, _ = played(stiff, quantised(grid="1/16", groove=groove, groove_time=0.5))
    assert 1000 * (half.output_notes.start[1] - 0.125) == pytest.approx(10, abs=0.5)


rows = st.lists(
    st.tuples(st.integers(0, 3000), st.sampled_from([36, 38, 42, 60]), st.integers(1, 127), st.integers(1, 400)),
    max_size=30,
)


@settings(max_examples=60, deadline=None)
@given(rows, st.sampled_from(["auto", *NAMES]), st.floats(0, 1), st.sampled_from(["starts", "ends", "both"]))
def test_no_note_is_lost_and_strength_zero_is_as_played(found, grid, swing, what):
    take = file_take([(t, n, v, long) for t, n, v, long in sorted({(r[0], r[1]): r for r in found}.values())])
    plain = run(take, PLAIN, make_context(take, None, None, PLAIN))
    path = quantised(grid=grid, swing=0.5 + swing / 4, what=what)
    full = run(take, path, make_context(take, None, None, path))
    assert full.tally.balances()
    assert (np.diff(full.output_notes.start) >= 0).all()
    assert (full.output_notes.end >= full.output_notes.start).all()
    # Two strokes of a drum never become one: the second goes elsewhere, or stays.
    assert len(full.output_notes) == len(plain.output_notes)
    none = quantised(grid=grid, swing=0.5 + swing / 4, what=what, strength=Scoped(0.0))
    still = run(take, none, make_context(take, None, None, none))
    assert np.array_equal(still.output_notes.start, plain.output_notes.start)
    assert np.array_equal(still.output_notes.end, plain.output_notes.end)


def test_set_off_and_on_again_gives_the_same_notes():
    first, take = played(LOOSE, quantised())
    off = run(take, PLAIN, make_context(take, None, None, PLAIN))
    again = run(take, quantised(), make_context(take, None, None, quantised()))
    assert off.output_notes.start.tolist() == take.events.arrived[off.output_notes.origin].tolist()
    assert again.output_notes.start.tolist() == first.output_notes.start.tolist()


PIANO = [(0.0, 60, 80, 0.9), (0.01, 64, 80, 0.9), (0.02, 67, 80, 0.9), (1.0, 62, 80, 0.4), (2.0, 61, 80, 0.5)]


def test_lengths_fixed_legato_and_one_voice():
    path = replace(PLAIN, length=replace(PLAIN.length, on=True, fixed_ms=Scoped(100.0)))
    outcome, _ = played(PIANO, path, channel=1)
    assert outcome.output_notes.end - outcome.output_notes.start == pytest.approx(np.full(5, 0.1), abs=2e-5)
    path = replace(PLAIN, length=replace(PLAIN.length, on=True, legato=Scoped(1.0), gap_ms=Scoped(20.0)))
    outcome, _ = played(PIANO, path, channel=1)
    assert outcome.output_notes.end[:4] == pytest.approx([0.48, 0.48, 0.48, 0.98], abs=1e-4)
    path = replace(PLAIN, length=replace(PLAIN.length, on=True, voices=Scoped(1.0)))
    outcome, _ = played([(0.0, 60, 80, 2.0), (1.0, 62, 80, 2.0), (2.0, 64, 80, 1.0)], path, channel=1)
    assert outcome.output_notes.end == pytest.approx([0.5, 1.0, 1.5], abs=1e-4)


def test_notes_are_held_to_a_key_and_drums_are_not():
    path = replace(PLAIN, key=replace(PLAIN.key, on=True, key="C major"))
    outcome, _ = played(PIANO, path, channel=1)
    assert outcome.output_notes.note.tolist()[:4] == [60, 64, 67, 62]
    assert outcome.output_notes.note.tolist()[4] in (60, 62)
    assert outcome.tally.balances()
    outcome, _ = played(LOOSE, path)
    assert outcome.output_notes.note.tolist() == [36, 38, 36, 42, 38]


def test_probability_draws_anew_each_round_and_the_same_every_time():
    path = replace(PLAIN, probability=replace(PLAIN.probability, on=True, chance=Scoped(0.5)))
    rows = [(i * 0.25, 42, 80, 0.1) for i in range(400)]
    kept = []
    for number in (0, 1, 0):
        outcome, _ = played(rows, in_round(path, number))
        assert outcome.tally.balances()
        kept.append(outcome.output_notes.origin.tolist())
    assert 150 < len(kept[0]) < 250
    assert kept[0] == kept[2] != kept[1]
    for chance, left in ((0.0, 0), (1.0, 400)):
        path = replace(PLAIN, probability=replace(PLAIN.probability, on=True, chance=Scoped(chance)))
        assert len(played(rows, path)[0].output_notes) == left


def test_chords_are_strummed_graded_and_turned_over():
    path = replace(PLAIN, chords=replace(PLAIN.chords, on=True, strum_ms=Scoped(20.0), slope=Scoped(10.0)))
    together = [(1.0, 60, 80, 0.9), (1.0, 64, 80, 0.9), (1.0, 67, 80, 0.9), (3.0, 62, 80, 0.4)]
    outcome, _ = played(together, path, channel=1)
    assert outcome.output_notes.start == pytest.approx([0.5, 0.52, 0.54, 1.5])
    assert outcome.output_notes.velocity.tolist() == [70, 80, 90, 80]
    path = replace(PLAIN, chords=replace(PLAIN.chords, on=True, inversion=Scoped(1.0)))
    outcome, _ = played(together, path, channel=1)
    assert sorted(outcome.output_notes.note.tolist()) == [62, 64, 67, 72]


def test_a_session_says_it_in_its_file():
    from puresignal.core.export import whole_session
    from puresignal.core.session import session as edits
    from puresignal.core.session.session import Session
    from puresignal.core.session.take_ref import IMPORTED, TakeRef

    take = file_take([(round(b * QUARTER), n, v, 96) for b, n, v, _ in LOOSE])
    session = edits.with_take(Session(path=quantised(grid="1/8")), TakeRef("f", "One", kind=IMPORTED))
    song = song_of(session, whole_session.result(session, {"f": take}))
    ticks = sorted(
        t for track in song.tracks for t in track.messages.tick[track.messages.status & 0xF0 == 0x90].tolist()
    )
    assert ticks == [0, 480, 960, 1200, 1440]


@settings(deadline=None, max_examples=25)
@given(st.integers(0, 10_000), st.floats(0.2, 3.0), st.floats(20, 110))
def test_other_velocities_are_quantised_as_if_nothing_had_been_worked_out_before(seed, scale, threshold):
    """Grace notes are told by how loud they are: what is kept between looks may not outlive that."""
    random = np.random.default_rng(seed)
    start = np.sort(random.uniform(0, 8, 60))
    rows = [(int(at * 960), 38, int(random.integers(5, 127)), 60) for at in start]
    take = file_take(rows, channel=10)
    timing = Timing(True)
    one = replace(PLAIN, timing=timing)
    shape = Shape(scale=scale, threshold=threshold if seed % 2 else 0.0)
    other = replace(one, velocity=Velocity(shapes=(("*", shape),)))
    cache = StageCache()
    for path in (one, other, one):
        context = cache.context(take, None, None, path, {})
        kept = run(take, path, context, cache).output_notes
        fresh = run(take, path, make_context(take, None, None, path)).output_notes
        assert np.array_equal(kept.start, fresh.start)
        assert np.array_equal(kept.velocity, fresh.velocity)
