"""What has changed since a session was saved."""

from __future__ import annotations

from puresignal.core.session import changes
from puresignal.core.session import session as edits
from puresignal.core.session.history import History
from puresignal.core.session.session import Session


def test_steps_since_saving_are_told_in_a_row_and_undoing_tells_what_was_taken_back():
    first = History(Session())
    one = first.do("rename", edits.with_name(first.now, "A"))
    two = one.do("set key", edits.with_key(one.now, "D minor"))
    three = two.do("set key", edits.with_key(two.now, "E minor"))
    assert changes.since(one.now, three).made == (("set key", 2),)
    assert changes.since(three.now, three) == changes.Changes()
    assert changes.since(None, three).made == (("rename", 1), ("set key", 2))
    back = three.undo().undo()
    assert changes.since(three.now, back) == changes.Changes((), (("set key", 2),))
    assert changes.since(two.now, back).undone == (("set key", 1),)
    # What is only looked at is no change.
    looked = three.do("choose", edits.with_alone(three.now, True))
    assert changes.since(three.now, looked) == changes.Changes()


def test_saved_undone_and_changed_otherwise_tells_all_steps():
    saved = History(Session()).do("rename", edits.with_name(Session(), "A"))
    other = saved.undo().do("set key", edits.with_key(Session(), "D minor"))
    assert changes.since(saved.now, other).made == (("set key", 1),)
