"""Beats found in a take as its grid, as the session's tempo, and made steady: what moves, and what stays."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.export.whole_session import placed_take, result, timeline_of
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.session import session as edits
from puresignal.core.session import tempo_edits
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, PLAYED, SOUND, TakeRef
from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.found_grid import grid_of
from puresignal.core.timing.session_time import Timeline
from tests.core.path.test_several_takes import file_take

# Quarter notes of one key whose tempo wavers; the first two are a pick-up before the first bar line.
STEPS = 0.5 + 0.04 * np.sin(np.arange(30) / 3)
TIMES = 0.37 + np.concatenate([[0.0], np.cumsum(STEPS)])
TAKES = {
    "free": file_take([(round(at * 960), 40, 1 + i, 100) for i, at in enumerate(TIMES.tolist())], channel=2),
    "line": file_take([(i * 480, 41, 100, 200) for i in range(16)], channel=3),
}
FOUND = Beats(TIMES, np.ones(31), (np.arange(31) - 2) % 4 == 0, 4, False, 1.0)


def session_with(*refs, timeline=None):
    session = Session(name="Ferry")
    for ref in refs:
        session = edits.with_take(session, ref)
    return edits.with_timeline(session, timeline)


def placed_of(session, ident="free"):
    timeline = timeline_of(session, TAKES)
    return placed_take(session, session.take(ident), TAKES, timeline), timeline


def starts(session, note=40):
    """Seconds from bar 1 of a key's notes, and the session's timeline."""
    made = result(session, TAKES)
    rows = made.outcome.output_notes
    return np.sort(rows.start[rows.note == note]), timeline_of(session, TAKES)


def found_session(**about):
    session = session_with(TakeRef("free", "Free", kind=PLAYED, **about), TakeRef("line", "Line", kind=IMPORTED))
    return tempo_edits.with_grid(session, "free", grid_of(FOUND), timeline_of(session, TAKES))


def test_found_beats_move_nothing_and_leave_the_session_its_tempo():
    before, then = starts(session_with(TakeRef("free", "Free"), TakeRef("line", "Line", kind=IMPORTED)))
    after, now = starts(found_session())
    assert after == pytest.approx(before, abs=1e-4)
    assert (now.bpm_at(0.0), now.start) == (then.bpm_at(0.0), 0.0)


def test_as_the_sessions_tempo_every_note_keeps_its_second_and_stands_on_a_beat():
    session = found_session()
    session = tempo_edits.as_session_tempo(session, "free", *placed_of(session))
    at, timeline = starts(session)
    # Onsets keep their seconds, apart from where bar 1 begins.
    assert np.diff(at) == pytest.approx(STEPS, abs=0.002)
    beats = timeline.seconds_to_beats(at)
    # The first bar line was nearest to bar 2 of the session.
    assert beats == pytest.approx(np.arange(31) + 2, abs=0.004)
    assert tempo_edits.moving(session, "free") == ("Line",)
    line, _ = starts(session, 41)
    assert timeline.seconds_to_beats(line) == pytest.approx(np.arange(16), abs=0.004)


def test_a_take_that_stands_later_has_its_tempo_from_there_on():
    session = found_session(beat=24.0)
    session = tempo_edits.as_session_tempo(session, "free", *placed_of(session))
    at, timeline = starts(session)
    assert timeline.seconds_to_beats(at)[2] % 4 == pytest.approx(0.0, abs=0.004)
    assert np.diff(at) == pytest.approx(STEPS, abs=0.002)
    assert 20 <= timeline.seconds_to_beats(at)[2] <= 32


@pytest.mark.parametrize("bpm", [None, 100.0])
def test_straightened_its_notes_stand_on_steady_beats_and_undo_is_the_session_before(bpm):
    session = found_session()
    straight = tempo_edits.straightened(session, "free", *placed_of(session), bpm)
    at, timeline = starts(straight)
    assert np.diff(at) == pytest.approx(60 / timeline.bpm_at(0.0), abs=0.002)
    assert timeline.bpm_at(0.0) == (bpm or 120.0)
    assert timeline.seconds_to_beats(at)[2] % 4 == pytest.approx(0.0, abs=0.004)
    assert starts(session)[0] == pytest.approx(TIMES, abs=0.002)


def test_a_second_of_what_is_shown_is_found_in_the_take():
    session = found_session(beat=8.0)
    placed, timeline = placed_of(session)
    there = placed.seconds(np.array([3.3]), timeline)[0]
    assert tempo_edits.material_second(placed, timeline, float(there)) == pytest.approx(3.3, abs=1e-4)


def test_without_a_grid_nothing_happens():
    session = session_with(TakeRef("line", "Line", kind=IMPORTED), timeline=Timeline.steady(90))
    assert tempo_edits.as_session_tempo(session, "line", *placed_of(session, "line")) is session
    assert tempo_edits.straightened(session, "line", *placed_of(session, "line"), 80) is session


def test_a_recording_goes_with_the_notes_that_were_heard_in_it():
    none = np.zeros(0)
    heard = HeardNotes("melody", "tune.wav", "1", none.astype(int), none, none.astype(int))
    session = session_with(
        TakeRef("free", "Free", heard=heard), TakeRef("tune", "Tune", kind=SOUND, sound=Backing("/somewhere/tune.wav")),
        TakeRef("other", "Other", kind=SOUND, sound=Backing("/somewhere/other.wav")),
    )  # fmt: skip
    session = tempo_edits.with_grid(session, "free", grid_of(FOUND), timeline_of(session, TAKES))
    straight = tempo_edits.straightened(session, "free", *placed_of(session), bpm=100)
    tune, other = straight.take("tune"), straight.take("other")
    assert (tune.beat, tune.follows, tune.grid) == (straight.take("free").beat, "beats", grid_of(FOUND))
    assert (other.follows, other.grid) == ("", None)
    placed, timeline = placed_of(straight, "tune")
    shown, own = tempo_edits.bend(placed, timeline, float(TIMES[-1]) + 1.0)
    # Each beat of the recording is heard where a beat of 100 BPM is.
    at = np.interp(TIMES, own, shown)
    assert np.diff(at) == pytest.approx(0.6, abs=0.012)
    assert tempo_edits.bend(*placed_of(session, "tune"), 10.0) is None
