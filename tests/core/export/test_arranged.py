"""Sections in the file: repeated, put elsewhere, hidden; the same notes, none cut and none doubled."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export.whole_session import placed_take, result, song_of, timeline_of
from puresignal.core.session import playing_order, section_edits
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, TakeRef
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.io import midi_writer
from tests.core.path.test_several_takes import file_take

# Twelve bars of four, a note on each beat whose velocity says which; long ones on the last beat of each bar.
BEATS = 48
LINE = file_take([(i * 480, 40 + i % 12, 20 + i, 700 if i % 4 == 3 else 200) for i in range(BEATS)], channel=2)
TAKES = {"line": LINE}
FLAT = Timeline.steady(120)
CURVED = Timeline(
    (TempoPoint(0.0, 90.0, False), TempoPoint(10.0, 90.0, True), TempoPoint(30.0, 140.0, False)),
    (MeterPoint(1, 4, 4), MeterPoint(4, 3, 4), MeterPoint(8, 4, 4)),
)


def session_of(timeline=FLAT):
    session = edits.with_take(Session(name="Ferry"), TakeRef("line", "Line", kind=IMPORTED, channels="x"))
    return edits.with_timeline(session, timeline)


def placed_of(session, ref):
    return placed_take(session, ref, TAKES, timeline_of(session, TAKES))


def played(session, order=None):
    """(beat of the file, velocity) of every note."""
    made = result(session, TAKES, order=order)
    notes = made.outcome.output_notes
    ticks = made.take.tempo.seconds_to_ticks(notes.start)
    return [
        (round(t / made.take.tempo.ppq, 3), int(v))
        for t, v in zip(ticks.tolist(), notes.velocity.tolist(), strict=True)
    ]


def alike(rows, expected):
    assert [v for _, v in rows] == [v for _, v in expected]
    assert [b for b, _ in rows] == pytest.approx([b for b, _ in expected], abs=0.003)


def file_of(session):
    return midi_writer.to_bytes(song_of(session, result(session, TAKES)))


def with_sections(session):
    session = section_edits.made(session, 1, 2, "Verse")
    session = section_edits.made(session, 3, 2, "Chorus")
    return section_edits.made(session, 7, 3, "End")


def velocities(first, after):
    return list(range(20 + 4 * (first - 1), 20 + 4 * (after - 1)))


def test_sections_as_they_stand_change_nothing():
    assert file_of(with_sections(session_of())) == file_of(session_of())


def test_a_repeat_is_the_same_notes_again_and_the_rest_follows():
    session = section_edits.with_repeats(with_sections(session_of()), "s2", 3)
    rows = played(session)
    chorus = velocities(3, 5)
    assert [v for _, v in rows] == [*velocities(1, 3), *chorus, *chorus, *chorus, *velocities(5, 13)]
    assert [b for b, _ in rows] == pytest.approx(list(range(BEATS + 16)))


def test_an_order_plays_only_what_it_names():
    session = with_sections(session_of())
    rows = played(session, playing_order.parsed(session, "chorus*2, Verse"))
    assert [v for _, v in rows] == [*velocities(3, 5), *velocities(3, 5), *velocities(1, 3)]
    session = section_edits.with_order(session, ("s3", "s1"))
    assert [v for _, v in played(session)] == [*velocities(7, 10), *velocities(1, 3)]
    with pytest.raises(KeyError, match="bridge"):
        playing_order.parsed(session, "verse,bridge")
    for wrong in ("", "verse*", "verse*0", "verse*x", ",verse"):
        with pytest.raises(ValueError, match=wrong.split(",")[0].replace("*", "[*]") or "^$"):
            playing_order.parsed(session, wrong)


def test_a_note_sounds_on_over_a_join_unless_it_is_struck():
    session = with_sections(session_of())
    made = result(session, TAKES, order=[("s1", 2)])
    notes = made.outcome.output_notes
    # The last note of the two bars is a long one; its key comes again no sooner than in the next round's end.
    last = np.flatnonzero(notes.velocity == 27)[0]
    assert notes.end[last] - notes.start[last] == pytest.approx(700 / 960, abs=0.002)


def test_what_was_played_a_hair_before_a_section_belongs_to_it():
    early = file_take([(max(0, i * 480 - 20), 40, 20 + i, 100) for i in range(16)], channel=2)
    session = section_edits.made(session_of(), 2, 1, "B")
    made = result(session, {"line": early}, order=[("s1", 2)])
    assert made.outcome.output_notes.velocity.astype(int).tolist() == [24, 25, 26, 27] * 2


def test_tempo_and_meters_go_along():
    session = with_sections(session_of(CURVED))
    base = result(session_of(CURVED), TAKES)
    made = result(session, TAKES, order=[("s2", 1), ("s3", 1), ("s2", 1)])
    here, there = base.outcome.output_notes, made.outcome.output_notes
    gaps = dict(zip(here.velocity[:-1].astype(int).tolist(), np.diff(here.start).tolist(), strict=True))
    rows = list(zip(there.velocity.astype(int).tolist(), there.start.tolist(), strict=True))
    for (one, a), (two, b) in itertools.pairwise(rows):
        if two == one + 1:
            assert b - a == pytest.approx(gaps[one], abs=0.002)


moves = st.lists(
    st.tuples(st.sampled_from(["repeat", "order", "shorten", "rename"]), st.integers(0, 2), st.integers(1, 6)),
    max_size=12,
)


@given(moves, st.booleans())
@settings(deadline=None, max_examples=40)
def test_repeated_reordered_shortened_at_random_and_back_is_the_same_file(made, curved):
    timeline = CURVED if curved else FLAT
    first = with_sections(session_of(timeline))
    session = first
    for what, which, number in made:
        ident = first.sections[which].ident
        if what == "repeat":
            session = section_edits.with_repeats(session, ident, number)
        elif what == "order":
            session = section_edits.with_order(session, tuple(f"s{1 + (which + n) % 3}" for n in range(number % 4)))
        elif what == "shorten":
            whole = first.sections[which].bars
            session = section_edits.with_bars(session, ident, min(whole, number), timeline, placed_of)
        else:
            session = section_edits.renamed(session, ident, f"Part {number}")
    for one in first.sections:
        session = section_edits.with_repeats(session, one.ident, one.repeats)
        session = section_edits.with_bars(session, one.ident, one.bars, timeline, placed_of)
        session = section_edits.renamed(session, one.ident, one.name)
    session = section_edits.with_order(session, ())
    assert session == first
    assert file_of(session) == file_of(first)


def test_hidden_bars_are_silent_and_come_back():
    session = with_sections(session_of())
    short = section_edits.with_bars(session, "s3", 1, FLAT, placed_of)
    assert short.sections[2].hidden == 2
    assert [v for _, v in played(short)] == [*velocities(1, 8), *velocities(10, 13)]
    assert section_edits.with_bars(short, "s3", 3, FLAT, placed_of) == session


def test_longer_than_it_was_inserts_bars_and_what_is_behind_moves():
    session = with_sections(session_of(CURVED))
    longer = section_edits.with_bars(session, "s2", 4, CURVED, placed_of)
    assert [(one.bar, one.bars) for one in longer.sections] == [(1, 2), (3, 4), (9, 3)]
    before, after = played(session), played(longer)
    here = CURVED.bar_to_beats(5)
    beats = 2 * CURVED.meter_at(4).beats
    alike(after, [(b + beats if b >= here - 0.01 else b, v) for b, v in before])
    # Shorter again, the new bars are hidden, and the notes are where they were.
    back = section_edits.with_bars(longer, "s2", 2, longer.timeline, placed_of)
    alike(played(back), before)


def test_a_note_that_sounds_where_bars_are_inserted_keeps_its_length():
    session = with_sections(session_of())
    longer = section_edits.with_bars(session, "s2", 4, FLAT, placed_of)
    assert len(longer.takes) == 2

    def lengths(session):
        notes = result(session, TAKES).outcome.output_notes
        return sorted(zip(notes.velocity.tolist(), np.round(notes.end - notes.start, 3).tolist(), strict=True))

    assert max(long for _, long in lengths(session)) > 0.7
    assert lengths(longer) == lengths(session)


def test_written_out_is_what_was_folded():
    session = section_edits.with_repeats(with_sections(session_of()), "s1", 3)
    session = section_edits.with_repeats(session, "s3", 2)
    folded = played(session)
    out = section_edits.written_out(session, FLAT, placed_of)
    assert all(one.repeats == 1 for one in out.sections)
    assert len(out.sections) == 6
    alike(played(out), folded)


def test_sections_never_overlap_and_one_of_no_bars_is_none():
    session = with_sections(session_of())
    with pytest.raises(ValueError, match="4"):
        section_edits.made(session, 4, 2)
    with pytest.raises(ValueError, match="20"):
        section_edits.made(session, 20, 0)
    session = section_edits.made(session, 5, 9)
    assert [(one.bar, one.bars) for one in session.sections] == [(1, 2), (3, 2), (5, 2), (7, 3)]
    assert section_edits.removed(session, "s2").sections == tuple(one for one in session.sections if one.ident != "s2")
    assert replace(session, sections=()).sections == ()
