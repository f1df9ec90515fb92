from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.export.whole_session import placed_take, result, timeline_of
from puresignal.core.path.context import EVENT_BITS
from puresignal.core.path.note_edits import Edit
from puresignal.core.path.several_takes import BEATS, CLOCK, run_together
from puresignal.core.session import materials, note_editing, take_edits
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import Alternatives, NamedSelection
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, IMPORTED, DrawnNote, Pass, TakeRef
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from tests.core.path.test_several_takes import file_take, kit_take

# Eight bars of quarter notes on one key of channel 2, each as loud as its number.
LINE = file_take([(i * 480, 40, i + 1, 200) for i in range(32)], channel=2)
TAKES = {"line": LINE}
GLIDE = Timeline((TempoPoint(0, 90, True), TempoPoint(32, 140)), (MeterPoint(1, 4, 4), MeterPoint(5, 3, 4)))


def session_of(timeline=None, **about):
    ref = TakeRef("line", "Bass line", kind=IMPORTED, **about)
    return edits.with_timeline(edits.with_take(Session(name="Ferry"), ref), timeline or Timeline.steady(120))


def placed_of(session, ident="line", takes=TAKES):
    return placed_take(session, session.take(ident), takes, timeline_of(session, takes))


def heard(session, takes=TAKES):
    """(beat from bar 1, velocity) of every note of the result, and its length in beats."""
    made = result(session, takes)
    timeline = timeline_of(session, takes)
    notes = made.outcome.output_notes
    assert made.outcome.tally.balances()
    beats = timeline.seconds_to_beats(notes.start)
    return sorted((round(float(beat), 3), int(v)) for beat, v in zip(beats, notes.velocity, strict=True))


def test_a_take_moves_to_a_bar_and_any_of_its_notes_can_be_put_on_one():
    session = session_of(GLIDE)
    moved = take_edits.moved_to_bar(session, "line", placed_of(session), GLIDE, 3)
    assert heard(moved)[0] == (8.0, 1)
    # The sixth note, a beat into the second bar, on bar 5.
    second = float(LINE.tempo.beats_to_seconds(np.array([5.0]))[0])
    for follows in (BEATS, CLOCK):
        session = session_of(GLIDE, follows=follows)
        put = take_edits.with_note_on_bar(session, "line", placed_of(session), GLIDE, second, 5)
        assert {v: b for b, v in heard(put)}[6] == pytest.approx(16.0, abs=0.002), follows


def test_what_is_cropped_stays_where_it_is_and_comes_back():
    session = session_of()
    placed = placed_of(session)
    cut = take_edits.cropped_to_bars(session, "line", placed, timeline_of(session, TAKES), 2, 3)
    assert heard(cut) == [(float(b), b + 1) for b in range(4, 12)]
    again = take_edits.cropped_to_bars(cut, "line", placed_of(cut), timeline_of(cut, TAKES), 1, 8)
    assert heard(again) == heard(session)
    # A note that is cut off by the end ends there.
    short = take_edits.cropped(session, "line", None, 0.1)
    assert result(short, TAKES).outcome.output_notes.end.tolist() == [0.1]
    assert take_edits.cropped(session, "line", 2.0, 1.0) is session


def test_the_state_of_a_cropped_take_is_that_of_its_first_bar():
    rows = {"line": kit_take(3, 4)}
    session = edits.with_take(Session(), TakeRef("line", "Kit"))
    session = edits.with_changed(session, "line", begin=2.0)
    controls = result(session, rows).outcome.controls
    before = result(edits.with_changed(session, "line", begin=None), rows).outcome.controls
    early = before.take(before.at < 2.0)
    if len(early):
        first = controls.take(controls.at == controls.at.min())
        assert set(early.number.tolist()) <= set(first.number.tolist())


def test_a_take_is_repeated_bar_by_bar_from_the_same_material():
    session = session_of()
    cut = take_edits.cropped_to_bars(session, "line", placed_of(session), timeline_of(session, TAKES), 1, 2)
    three = take_edits.duplicated(cut, "line", placed_of(cut), timeline_of(cut, TAKES), 2)
    assert [(ref.ident, ref.beat, ref.material) for ref in three.takes] == [
        ("line", 0.0, "line"), ("line-2", 8.0, "line"), ("line-3", 16.0, "line"),
    ]  # fmt: skip
    assert heard(three) == [(float(8 * round_ + b), b + 1) for round_ in range(3) for b in range(8)]
    assert len({ref.number for ref in three.takes}) == 3
    # All on the track of the first.
    assert len(set(result(three, TAKES).outcome.output_notes.track.tolist())) == 1


def test_one_sitting_becomes_several_pieces():
    session = session_of()
    pieces = take_edits.split_at(session, "line", [4.0, 8.0])
    assert [(ref.begin, ref.end) for ref in pieces.takes] == [(None, 4.0), (4.0, 8.0), (8.0, None)]
    assert heard(pieces) == heard(session)
    away = edits.with_placed(pieces, pieces.takes[1].ident, is_in=False)
    assert [v for _, v in heard(away)] == [*range(1, 9), *range(17, 33)]


def test_passes_lie_over_each_other_and_each_can_be_out_or_on_a_track_of_its_own():
    passes = tuple(Pass(4.0 * n, 4.0 * (n + 1), 8.0) for n in range(4))
    session = session_of(passes=passes, follows=CLOCK)
    assert heard(session) == sorted((8.0 + b, 8 * n + b + 1) for n in range(4) for b in range(8))
    gone = tuple(replace(one, is_in=False) for one in passes[1:])
    out = edits.with_changed(session, "line", passes=(passes[0], *gone))
    assert heard(out) == [(8.0 + b, b + 1) for b in range(8)]
    layers = tuple(replace(one, track=f"layer{n}") for n, one in enumerate(passes))
    apart = edits.with_changed(session, "line", passes=layers)
    made = result(apart, TAKES)
    by_track = {made.outcome.tracks[t].key for t in made.outcome.output_notes.track.tolist()}
    assert by_track == {f"layer{n}" for n in range(4)}
    assert len(made.outcome.output_notes) == 32
    bars = edits.with_changed(session, "line", passes=(Pass(0.0, 4.0, 8.0, bars=(4, 5)),))
    assert heard(bars) == [(12.0 + b, b + 5) for b in range(4)]


def test_of_alternatives_each_bar_has_one_and_the_join_neither_cuts_nor_doubles():
    # A take that is a hair early everywhere, and one that is late, both with long notes.
    early = file_take([(max(0, i * 480 - 20), 40, 10 + i, 470) for i in range(16)], channel=2)
    late = file_take([(i * 480 + 20, 41 + i % 2, 50 + i, 600) for i in range(16)], channel=2)
    session = edits.with_take(Session(), TakeRef("a", "First", kind=IMPORTED, channels="x"))
    session = edits.with_take(session, TakeRef("b", "Second", kind=IMPORTED, channels="x"))
    session = edits.with_timeline(session, Timeline.steady(120))
    session = replace(session, alternatives=(Alternatives("Bass", ("a", "b"), ((2, "b"), (4, "a"))),))
    takes = {"a": early, "b": late}
    rows = heard(session, takes)
    assert [v for _, v in rows] == [10, 11, 12, 13, *range(54, 62), 22, 23, 24, 25]
    notes = result(session, takes).outcome.output_notes
    # The last note before the join, at 6 seconds, sounds on over it: nothing strikes it.
    assert notes.end[notes.velocity == 61].tolist() == pytest.approx([6.1458], abs=0.001)


def test_drawn_notes_are_a_take_like_any_other():
    notes = (DrawnNote(1, 0.0, 1.0, 60, 100.0, 2), DrawnNote(2, 1.5, 0.25, 67, 64.0, 2))
    session = edits.with_take(Session(), TakeRef("d", "Drawn", kind=DRAWN, drawn=notes, beat=4.0))
    session = edits.with_timeline(session, GLIDE)
    assert heard(session, {}) == [(4.0, 100), (5.5, 64)]


@given(st.integers(-3, 30), st.booleans(), st.integers(1, 8))
def test_moving_there_and_back_and_cropping_in_and_out_is_the_session_of_before(bar, clock, length):
    session = session_of(GLIDE, follows=CLOCK if clock else BEATS)
    moved = take_edits.moved_to_bar(session, "line", placed_of(session), GLIDE, bar)
    assert take_edits.span(placed_of(moved), GLIDE)[0] == pytest.approx(GLIDE.bar_to_beats(bar), abs=0.001)
    back = take_edits.moved_by(moved, "line", session.take("line").beat - moved.take("line").beat)
    assert back == session
    cut = take_edits.cropped_to_bars(moved, "line", placed_of(moved), GLIDE, bar, bar + length - 1)
    begin, end = GLIDE.bar_to_beats(bar), GLIDE.bar_to_beats(bar + length)
    whole = run_together([placed_of(cut)], cut.path, GLIDE)
    beats = GLIDE.seconds_to_beats(whole.outcome.output_notes.start)
    assert ((beats >= begin - 0.01) & (beats < end + 0.01)).all()


def test_another_delay_moves_a_take_by_the_difference_and_back_again():
    session = session_of(follows=BEATS)
    session = edits.with_changed(session, "line", grid=Timeline.steady(120), delay=0.010, beat=8.0)
    before = heard(session)
    later = take_edits.with_delay(session, "line", Timeline.steady(120), 0.050)
    # 40 ms at 120 are 0.08 beats.
    assert [beat for beat, _ in heard(later)] == pytest.approx([beat - 0.08 for beat, _ in before], abs=0.002)
    assert later.take("line").delay == 0.050
    assert heard(take_edits.with_delay(later, "line", Timeline.steady(120), 0.010)) == before
    clock = edits.with_changed(session, "line", grid=None, follows=CLOCK)
    later = take_edits.with_delay(clock, "line", Timeline.steady(120), -0.090)
    assert [beat for beat, _ in heard(later)] == pytest.approx([beat + 0.2 for beat, _ in heard(clock)], abs=0.002)


def test_a_named_selection_of_drawn_notes_follows_them():
    notes = [DrawnNote(0, float(i), 0.5, 60 + i, 90.0, 2) for i in range(4)]
    session = note_editing.with_drawn(Session(name="Ferry"), None, notes, "drawn")
    ref = session.takes[0]
    # The third note begins with the fifth event of its take, the fourth with the seventh.
    named = NamedSelection("last", None, tuple(ref.number << EVENT_BITS | at for at in (4, 6)))
    path = session.path
    chords = replace(path.chords, strum_ms=path.chords.strum_ms.with_notes(named.notes, 20.0))
    session = replace(session, selections=(named,), path=replace(path, chords=chords))

    def pitches(session):
        # The settings for these notes follow them too.
        assert session.path.chords.strum_ms.notes == ((session.selections[0].notes, 20.0),)
        ref = session.takes[0]
        numbers = materials.numbers_of_drawn(ref)
        return [
            next(one.note for one in ref.drawn if one.number == numbers[note - (ref.number << EVENT_BITS)])
            for note in session.selections[0].notes
        ]

    assert pitches(session) == [62, 63]
    # One before them goes, one is drawn before them, and one of them is moved to the front.
    session = note_editing.erased(session, {ref.ident: np.array([0])})
    assert pitches(session) == [62, 63]
    session = note_editing.with_drawn(session, ref, [DrawnNote(0, 0.25, 0.5, 50, 90.0, 2)], "drawn")
    assert pitches(session) == [62, 63]
    second = session.selections[0].notes[1]
    session = note_editing.with_edit(session, {ref.ident: np.array([second & 0xFFFF])}, Edit(beats=-3.0))
    assert pitches(session) == [63, 62]
    # What is erased is in no selection any more.
    gone = session.selections[0].notes[0] & 0xFFFF
    session = note_editing.erased(session, {ref.ident: np.array([gone])})
    assert pitches(session) == [62]
