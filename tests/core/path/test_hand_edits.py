"""Edits by hand: relative to their notes, under every setting, in any order with undo, save and open."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export import whole_session
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.hand_edits import EDITED
from puresignal.core.path.note_edits import NO_EDITS, PLAIN, Edit, NoteEdits, set_length, set_velocity
from puresignal.core.path.timing import Timing
from puresignal.core.session import note_editing
from puresignal.core.session import session as edits
from puresignal.core.session.history import History
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, IMPORTED, DrawnNote, TakeRef
from puresignal.io import note_map_file, session_file
from tests.core.path.test_several_takes import file_take
from tests.core.path.test_timing import LOOSE, QUARTER, quantised
from tests.core.path.test_timing import PLAIN as PLAIN_PATH


def take_of(rows=LOOSE):
    return file_take([(round(b * QUARTER), n, v, round(long * QUARTER)) for b, n, v, long in rows])


def outcome_of(made, path=PLAIN_PATH, rows=LOOSE, source=None, target=None):
    take = take_of(rows)
    return run(take, path, make_context(take, source, target, path), edits=made), take


def origins_of(outcome):
    return outcome.input_notes.origin


def test_notes_move_in_time_and_pitch_get_louder_and_longer():
    plain, _ = outcome_of(NO_EDITS)
    first, second = origins_of(plain)[:2].tolist()
    made = NO_EDITS.with_edit(np.array([first]), Edit(beats=0.5, up=2, louder=10))
    made = made.with_edit(np.array([first, second]), Edit(factor=0.5, longer=0.25))
    outcome, _ = outcome_of(made)
    by_origin = {int(o): i for i, o in enumerate(outcome.output_notes.origin.tolist())}
    one, two = by_origin[first], by_origin[second]
    notes = outcome.output_notes
    assert notes.start[one] * 2 == pytest.approx(0.52, abs=1e-3)
    assert notes.note[one] == 38
    assert notes.velocity[one] == 50
    assert (notes.end - notes.start)[two] * 2 == pytest.approx(0.45, abs=2e-3)
    assert outcome.tally.balances()
    assert outcome.tally.changed()[EDITED] >= 4
    back, _ = outcome_of(made.with_edit(np.array([first, second]), None))
    assert np.array_equal(back.output_notes.start, plain.output_notes.start)


def test_an_edit_is_relative_to_what_the_settings_make_of_its_note():
    plain, _ = outcome_of(NO_EDITS)
    origin = origins_of(plain)[3:4]
    made = NO_EDITS.with_edit(origin, Edit(beats=0.25))
    loose, _ = outcome_of(made)
    tight, _ = outcome_of(made, quantised(grid="1/8"))
    at = [o.output_notes.start[o.output_notes.origin == origin[0]][0] * 2 for o in (loose, tight)]
    assert at == pytest.approx([2.8, 2.75], abs=1e-3)


def test_a_hit_moved_to_another_drum_leaves_as_that_drum_on_its_track():
    rows = [(0.0, 36, 90, 0.2), (1.0, 38, 90, 0.2)]
    take = file_take([(round(b * QUARTER), n, v, 96) for b, n, v, _ in rows])
    path = CleaningPath()
    kit = note_map_file.shipped("general-midi")
    context = make_context(take, kit, kit, path)
    plain = run(take, path, context)
    snare = plain.input_notes.origin[plain.input_notes.note == 38]
    made = NO_EDITS.with_edit(snare, Edit(articulation="kick"))
    outcome = run(take, path, make_context(take, kit, kit, path), edits=made)
    mine = outcome.output_notes.origin == snare[0]
    kick = plain.output_notes.note[plain.output_notes.origin != snare[0]]
    assert set(outcome.output_notes.note[mine].tolist()) == set(kick.tolist())
    keys = {outcome.tracks[int(t)].key for t in outcome.output_notes.track[mine]}
    assert keys == {"kick"}


def test_an_edit_whose_note_is_gone_is_listed_and_does_nothing():
    plain, take = outcome_of(NO_EDITS)
    origin = int(origins_of(plain)[0])
    made = NO_EDITS.with_edit(np.array([origin, 99_999]), Edit(up=1))
    from puresignal.core.path.hand_edits import HandEdits

    assert HandEdits.of(made).orphans(plain.output_notes).tolist() == [99_999]
    outcome, _ = outcome_of(made)
    assert len(outcome.output_notes) == len(plain.output_notes)
    del take


ops = st.sampled_from(
    [Edit(beats=0.25), Edit(beats=-0.25), Edit(up=1), Edit(up=-12), Edit(louder=9), Edit(factor=0.5), Edit(longer=0.5),
     Edit(seconds=0.003), set_velocity(77), set_length(0.5), Edit(articulation="snare.head"), None]
)  # fmt: skip


@settings(max_examples=80, deadline=None)
@given(st.lists(st.tuples(st.sets(st.integers(0, 30), min_size=1), ops), max_size=120))
def test_rows_laid_together_are_the_edits_one_by_one(steps):
    made, one_by_one = NO_EDITS, {}
    for which, edit in steps:
        made = made.with_edit(np.array(sorted(which)), edit)
        for origin in which:
            after = PLAIN if edit is None else one_by_one.get(origin, PLAIN).then(edit)
            one_by_one[origin] = after
    expected = {origin: edit for origin, edit in one_by_one.items() if edit != PLAIN}
    assert {int(o): made.get(int(o)) for o in made.origins} == expected
    assert sum(len(row[0]) for row in made.rows) <= 48 * 31
    again = NoteEdits().with_edit(np.zeros(0, np.int64), None)
    for edit, origins in made.by_kind():
        again = again.with_edit(origins, edit)
    assert again == made


def session_with(path=PLAIN_PATH):
    return edits.with_take(Session(path=path), TakeRef("f", "One", kind=IMPORTED)), {"f": take_of()}


def bytes_of(session, takes):
    from puresignal.io import midi_writer

    return midi_writer.to_bytes(whole_session.song_of(session, whole_session.result(session, takes)))


@settings(max_examples=25, deadline=None)
@given(st.lists(st.sampled_from(["edit", "other", "quantise", "plain", "undo", "redo", "save"]), max_size=14))
def test_any_order_of_edits_settings_undo_save_and_open_gives_the_same_bytes(steps):
    session, takes = session_with()
    history = History(session)
    known = {}
    for step in steps:
        now = history.now
        if step == "edit":
            history = history.do("edit", note_editing.with_edit(now, {"f": np.array([0, 2])}, Edit(beats=0.25)))
        elif step == "other":
            history = history.do("edit", note_editing.with_edit(now, {"f": np.array([2])}, Edit(up=3, factor=0.8)))
        elif step == "quantise":
            history = history.do("path", edits.with_path(now, quantised()))
        elif step == "plain":
            history = history.do("path", edits.with_path(now, PLAIN_PATH))
        elif step == "undo":
            history = history.undo()
        elif step == "redo":
            history = history.redo()
        else:
            content = session_file.to_bytes(now, takes)
            assert bytes_of(session_file.parse(content, "s").session, takes) == bytes_of(now, takes)
        made = history.now.takes[0].edits
        key = (history.now.path, tuple((int(o), made.get(int(o))) for o in made.origins))
        found = bytes_of(history.now, takes)
        assert known.setdefault(key, found) == found


def test_a_session_keeps_edits_through_its_file(tmp_path):
    session, takes = session_with(replace(PLAIN_PATH, timing=Timing(on=True)))
    session = note_editing.with_edit(session, {"f": np.array([0, 2])}, Edit(beats=0.25, up=1))
    session = note_editing.with_edit(session, {"f": np.array([4])}, set_velocity(33))
    path = tmp_path / "s.puresignal"
    session_file.write(path, session, takes)
    opened = session_file.read(path)
    assert opened.session.takes[0].edits == session.takes[0].edits
    assert opened.session.path == session.path
    assert bytes_of(opened.session, takes) == bytes_of(session, takes)


def test_drawn_notes_go_to_the_drawn_take_of_the_kit_and_are_edited_in_it():
    session, takes = session_with()
    like = session.take("f")
    drawn = (DrawnNote(0, 1.5, 0.25, 42, 88, 10), DrawnNote(0, 2.5, 0.25, 38, 99, 10))
    session = note_editing.with_drawn(session, like, drawn, "Drawn")
    assert [one.kind for one in session.takes] == [IMPORTED, DRAWN]
    assert session.current == "f"
    made = whole_session.result(session, takes)
    assert len(made.outcome.output_notes) == len(LOOSE) + 2
    ref = session.takes[1]
    second = np.array([2])
    session = note_editing.with_edit(session, {ref.ident: second}, Edit(beats=0.5, up=2))
    assert [(one.beat, one.note) for one in session.takes[1].drawn] == [(1.5, 42), (3.0, 40)]
    session = note_editing.with_drawn(session, like, drawn[:1], "Drawn")
    assert len(session.takes) == 2
    assert [one.number for one in session.takes[1].drawn] == [1, 2, 3]
    session = note_editing.erased(session, {ref.ident: np.array([0])})
    assert len(session.takes[1].drawn) == 2


def test_a_million_notes_edited_together_are_one_row_and_undone_at_once():
    import time

    origins = np.arange(0, 2_000_000, 2)
    begun = time.perf_counter()
    made = NO_EDITS.with_edit(origins, Edit(louder=5))
    assert time.perf_counter() - begun < 0.5
    assert len(made.rows) == 1
    assert made.get(10) == Edit(louder=5)
