from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.core.session.history import History
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.io import note_map_file

ACTS = {
    "name": lambda s, i: edits.with_name(s, f"name {i}"),
    "title": lambda s, i: edits.with_title(s, "snare", f"title {i}"),
    "split": lambda s, i: edits.with_split(s, ("drum", "family", "one")[i % 3]),
    "target": lambda s, i: edits.with_target(s, note_map_file.shipped(note_map_file.shipped_ids()[i % 3])),
    "verdict": lambda s, i: edits.with_verdict(s, "a", i, Verdict(keep=bool(i % 2))),
}
START = edits.with_take(Session(), TakeRef("a", "a"))


@given(st.lists(st.tuples(st.sampled_from(sorted(ACTS)), st.integers(0, 9))))
def test_undoing_every_edit_gives_back_the_start_and_redo_the_end(acts):
    history = History(START)
    for name, i in acts:
        history = history.do(name, ACTS[name](history.now, i))
    end, steps = history.now, len(history.past)
    for _ in range(steps):
        history = history.undo()
    assert history.now is START
    for _ in range(steps):
        history = history.redo()
    assert history.now is end


def test_a_drag_is_one_step_and_an_edit_without_effect_none():
    history = History(START)
    for i in range(5):
        history = history.do("rename", edits.with_name(history.now, f"n{i}"), gesture="drag 1")
    history = history.do("rename", history.now)
    assert len(history.past) == 1
    assert history.undo().now is START
    assert history.undo_name == "rename"


def test_a_new_edit_clears_redo():
    history = History(START).do("a", edits.with_name(START, "a")).undo()
    history = history.do("b", edits.with_name(START, "b"))
    assert history.redo_name is None
    assert history.redo() is history


def test_removing_a_take_shows_the_one_before():
    session = edits.with_take(START, TakeRef("b", "b"))
    session = edits.without_take(session, "b")
    assert session.current == "a"
    assert edits.without_take(session, "a").current is None
