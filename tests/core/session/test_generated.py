"""Generated takes in a session: chains, their order, files, and recipes that listen to themselves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from puresignal.core.export.whole_session import result
from puresignal.core.generators.recipe import Arpeggio, BassLine, ChordProgression, DrumPattern, to_text
from puresignal.core.session import generated
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, IMPORTED, TakeRef
from puresignal.io import session_file
from tests.core.path.test_several_takes import file_take

LINE = file_take([(i * 960, 48 + 12 * (i % 2), 80, 900) for i in range(8)], channel=2)
TAKES = {"line": LINE}


def chain():
    """Chords, a bass under them, and an arpeggio over the bass."""
    session = Session(name="Ferry", key="D minor")
    session = generated.with_generator(session, ChordProgression(bars=4), "Chords", 0.0, None)
    chords = session.takes[-1].ident
    session = generated.with_generator(session, BassLine(bars=4, source=chords), "Bass", 0.0, None)
    return generated.with_generator(session, Arpeggio(bars=4, source=session.takes[-1].ident), "Run", 0.0, None)


def test_a_chain_follows_its_first_link():
    session = generated.refreshed(chain(), {})
    before = [ref.drawn for ref in session.takes]
    assert all(before)
    changed = generated.with_recipe(session, session.takes[0].ident, ChordProgression(bars=4, seed=9))
    after = generated.refreshed(changed, {})
    assert all(one != other.drawn for one, other in zip(before, after.takes, strict=True))
    # The key of the session is that of the chords.
    other = generated.refreshed(edits.with_key(session, "A major"), {})
    assert other.takes[0].drawn != session.takes[0].drawn
    # Nothing is worked out again that nothing has changed for.
    memo: generated.Memo = {}
    first = generated.refreshed(session, {}, memo)
    assert generated.refreshed(first, {}, memo) is first
    assert generated.refreshed(edits.with_name(first, "Other"), {}, memo).takes == first.takes


def test_they_sound_and_are_written_like_takes_and_the_file_has_only_the_recipe(tmp_path):
    session = generated.refreshed(chain(), {})
    notes = result(session, {}).outcome.output_notes
    assert len(notes) == sum(len(ref.drawn) for ref in session.takes)
    path = tmp_path / "made.puresignal"
    session_file.write(path, session, {})
    opened = session_file.read(path).session
    assert opened.takes == session.takes
    assert b'"drawn"' not in session_file.to_bytes(session, {})
    kept = generated.kept(session, session.takes[0].ident)
    assert kept.takes[0].kind == DRAWN
    assert generated.refreshed(kept, {}).takes[0].drawn == session.takes[0].drawn


def test_one_listens_to_a_played_take_where_it_stands():
    session = edits.with_take(Session(name="Ferry"), TakeRef("line", "Line", kind=IMPORTED, channels="x"))
    session = generated.with_generator(session, Arpeggio(bars=2, source="line", rate="1/4", accent=0), "Run", 4.0, None)
    made = generated.refreshed(session, TAKES).takes[-1].drawn
    # Two quarters to each note of the line; it begins with the line's third bar of two.
    assert [one.note for one in made] == [48, 48, 60, 60, 48, 48, 60, 60]
    assert [one.beat for one in made] == list(range(8))
    cropped = edits.with_changed(session, "line", end=float(LINE.tempo.ticks_to_seconds(np.array([2880]))[0]))
    fewer = generated.refreshed(cropped, TAKES).takes[-1].drawn
    assert len(fewer) < len(made)


def test_loops_and_sources_that_are_gone_make_nothing_and_are_not_offered():
    session = chain()
    first, second, third = (ref.ident for ref in session.takes)
    looped = edits.with_changed(session, second, recipe=to_text(BassLine(bars=4, source=third)))
    made = generated.refreshed(looped, {})
    assert [bool(ref.drawn) for ref in made.takes] == [True, False, False]
    assert [ref.ident for ref in generated.sources(session, first)] == []
    assert [ref.ident for ref in generated.sources(session, second)] == [first]
    assert [ref.ident for ref in generated.sources(session, third)] == [first, second]
    gone = generated.refreshed(replace(session, takes=session.takes[1:]), {})
    assert [bool(ref.drawn) for ref in gone.takes] == [False, False]
    broken = edits.with_changed(session, first, recipe="{")
    assert [bool(ref.drawn) for ref in generated.refreshed(broken, {}).takes] == [False, False, False]


def test_drums_are_drums_of_the_sessions_kit():
    session = generated.with_generator(Session(), DrumPattern(bars=2), "Drums", 0.0, None)
    made = generated.refreshed(session, {}).takes[0].drawn
    assert {one.channel for one in made} == {10}
