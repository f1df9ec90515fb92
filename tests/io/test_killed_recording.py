"""A recording whose program was killed is rebuilt from the journal alone: takes, passes, what was taken out."""

from __future__ import annotations

import json

import pytest

from puresignal.core.session.live_input import LiveInput
from puresignal.core.timing.session_time import Timeline
from puresignal.io import killed_recording
from puresignal.io.journal import Writer
from puresignal.io.session_json import input_json, timeline_json

CLOCK = 1000.0
KIT = LiveInput("kit:out", ident="in1", name="Kit")


def note(at, what):
    return at, 0, json.dumps({"note": what}).encode()


def move(at, kind, seconds):
    return at, 0, json.dumps({"move": kind, "seconds": seconds, "speed": 1.0}).encode()


def begun(**changed):
    return {
        "record": 0.0, "pressed": CLOCK, "start": "count-in", "early": 0.5, "by_hand": False, "pre_roll": False,
        "timeline": timeline_json(Timeline.steady(120)), "inputs": [input_json(KIT)], "delay": 0.0,
        "knew_time": True, "only_last": False, **changed,
    }  # fmt: skip


@pytest.fixture
def journal(tmp_path):
    """The journal of a sitting in which a loop of two seconds was recorded, three rounds of it."""
    writer = Writer(tmp_path / "earlier", ("kit:out", "keys:out"))
    writer.add_moves([note(CLOCK, begun()), move(CLOCK + 2, "play", 0.0)])
    hits = [2.5, 3.0, 4.5, 6.5, 7.0]
    writer.add([(CLOCK + at, 0, bytes((0x99, 38, 60 + i))) for i, at in enumerate(hits)])
    writer.add_moves([move(CLOCK + 4, "round", 0.0), move(CLOCK + 6, "round", 0.0)])
    writer.add([(CLOCK + 7.05, 0, bytes((0x89, 38, 0)))])
    yield tmp_path, writer
    writer.close()


def found(folder):
    return killed_recording.find(folder, folder / "now")


def test_its_takes_and_passes_are_those_that_were_being_recorded(journal):
    folder, _ = journal
    killed = found(folder)
    [made] = killed.takes(killed.inputs, ["take9"], 4)
    assert (made.take.ident, made.take.name, made.played_on.ident) == ("take9", "Recorded, take 4", "in1")
    on = made.take.events.data2[(made.take.events.status == 0x99)]
    assert on.tolist() == [60, 61, 62, 63, 64]
    assert len(made.passes) == 3
    assert made.beat == -0.5


def test_a_pass_taken_out_while_the_loop_ran_stays_out(journal):
    folder, writer = journal
    writer.add_moves([note(CLOCK + 7, {"off": [1]})])
    killed = found(folder)
    [made] = killed.takes(killed.inputs, ["a"], 1)
    assert [one.is_in for one in made.passes] == [True, False, True]


def test_a_tempo_changed_meanwhile_is_followed(journal):
    folder, writer = journal
    writer.add_moves(
        [move(CLOCK + 7.5, "moved", 0.75), note(CLOCK + 7.6, {"timeline": timeline_json(Timeline.steady(60))})]
    )
    writer.add([(CLOCK + 8.5, 0, bytes((0x99, 38, 99)))])
    killed = found(folder)
    [made] = killed.takes(killed.inputs, ["a"], 1)
    beats = made.grid.seconds_to_beats(made.take.events.arrived[-1:] - 1.0)
    last = made.grid.seconds_to_beats(made.take.events.arrived[-1:])
    assert (last - beats).item() == pytest.approx(1.0, abs=1e-3)


def test_one_that_was_ended_or_brought_back_is_not_offered_again(journal):
    folder, writer = journal
    found(folder).done()
    assert found(folder) is None
    writer.add_moves([note(CLOCK + 20, begun(pressed=CLOCK + 20)), move(CLOCK + 21, "play", 0.0)])
    assert found(folder) is not None
    writer.add_moves([note(CLOCK + 30, {"record_end": CLOCK + 30})])
    assert found(folder) is None


def test_the_running_programs_own_is_left_alone(journal):
    folder, _ = journal
    assert killed_recording.find(folder, folder / "earlier") is None


@pytest.mark.parametrize(
    "broken",
    [{"record": "x"}, {"record": 0, "timeline": 7}, {"record": 1e300, "inputs": 3}, {"off": "x"}, {"timeline": []}, {}],
)
def test_a_damaged_note_is_passed_over(journal, broken):
    folder, writer = journal
    writer.add_moves([note(CLOCK + 7.2, broken)])
    killed = found(folder)
    if killed is not None:
        killed.takes((), [], 1)
