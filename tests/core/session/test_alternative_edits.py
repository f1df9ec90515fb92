"""Alternatives: each bar has one take, a choice changes its bars alone, and no take is lost."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.session import alternative_edits as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef

NAMES = ("a", "b", "c")
SESSION = Session(takes=tuple(TakeRef(name, name.upper(), is_in=name == "a") for name in NAMES))
steps = st.lists(st.tuples(st.integers(-4, 40), st.integers(1, 12), st.sampled_from(NAMES)), max_size=30)


@given(steps)
def test_a_choice_changes_its_bars_alone(made):
    session = edits.grouped(SESSION, NAMES, "Groove")
    expected = dict.fromkeys(range(-10, 80), "a")
    for first, long, ident in made:
        [group] = session.alternatives
        session = edits.chosen(session, group, first, first + long, ident)
        expected |= dict.fromkeys(range(first, first + long), ident)
    [group] = session.alternatives
    assert {bar: edits.take_at(group, bar) for bar in expected} == expected
    assert [bar for bar, _ in group.choice] == sorted({bar for bar, _ in group.choice})
    # No entry that changes nothing.
    assert all(one[1] != other[1] for one, other in zip((("", "a"), *group.choice), group.choice, strict=False))


def test_those_that_are_grouped_are_in_and_groups_that_meet_become_one():
    session = edits.grouped(SESSION, ("b", "a"), "Groove")
    assert [ref.is_in for ref in session.takes] == [True, True, False]
    session = edits.grouped(session, ("c", "b"), "Other")
    [group] = session.alternatives
    assert (group.name, group.takes) == ("Groove", ("a", "b", "c"))
    assert [edits.letter(group, name) for name in NAMES] == ["A", "B", "C"]


def test_one_that_leaves_is_out_and_of_one_left_alone_there_is_nothing_to_choose():
    session = edits.grouped(SESSION, NAMES, "Groove")
    session = edits.chosen(session, session.alternatives[0], 3, 5, "b")
    session = edits.ungrouped(session, "b")
    [group] = session.alternatives
    assert (group.takes, group.choice, session.take("b").is_in) == (("a", "c"), (), False)
    session = edits.ungrouped(session, "a")
    assert session.alternatives == ()
    assert [ref.is_in for ref in session.takes] == [True, False, False]


def test_to_the_end_is_to_the_end():
    session = edits.grouped(SESSION, NAMES, "Groove")
    session = edits.chosen(session, session.alternatives[0], 3, 5, "b")
    [group] = edits.chosen(session, session.alternatives[0], 4, None, "c").alternatives
    assert group.choice == ((3, "b"), (4, "c"))


def test_a_removed_take_leaves_its_bars_to_the_one_before():
    session = edits.grouped(SESSION, NAMES, "Groove")
    session = edits.chosen(session, session.alternatives[0], 3, 5, "b")
    [group] = edits.forgotten(session, "b").alternatives
    assert edits.take_at(group, 4) == "a"
