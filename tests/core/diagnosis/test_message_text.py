from __future__ import annotations

import pytest

from puresignal.core.diagnosis.message_text import CONTROLS, NOTES, SYSTEM, say, sort_of
from puresignal.core.diagnosis.no_sound import SignalState, follow, verdict
from puresignal.core.path.context import Context
from puresignal.io import note_map_file

KIT = Context(note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room"))


@pytest.mark.parametrize(
    ("data", "sort", "words"),
    [
        (b"\x99\x3d\x5e", NOTES, "snare, head: note-on 61, velocity 94, ch 10"),
        (b"\x99\x3d\x00", NOTES, "snare, head: note-off 61, velocity 0, ch 10"),
        (b"\x89\x63\x40", NOTES, "unmapped: note-off 99, velocity 64, ch 10"),
        (b"\x90\x26\x5e", NOTES, "note-on 38, velocity 94, ch 1"),
        (b"\xa9\x5b\x7f", CONTROLS, "crash 1, bow: key pressure 91, pressure 127, ch 10"),
        (b"\xb9\x04\x40", CONTROLS, "controller 4, value 64, ch 10"),
        (b"\xc9\x05", CONTROLS, "program 5, ch 10"),
        (b"\xd0\x05", CONTROLS, "pressure 5, ch 1"),
        (b"\xe0\x00\x40", CONTROLS, "bend +0, ch 1"),
        (b"\xe0\x7f\x7f", CONTROLS, "bend +8191, ch 1"),
        (b"\xf0\x7d\x01\xf7", SYSTEM, "system exclusive, 4 bytes"),
        (b"\xf8", SYSTEM, "clock"),
        (b"\xf5", SYSTEM, "system message"),
        (b"\x99", NOTES, "unmapped: note-off 0, velocity 0, ch 10"),
        (b"\x26\x5e", NOTES, "no message: 26 5e"),
        (b"", SYSTEM, "no message: "),
    ],
)
def test_messages_in_words(data, sort, words):
    assert say(data, KIT) == words
    assert sort_of(data) == sort


def situation(**changes: object) -> SignalState:
    everything = {
        "listening": True, "server": True, "input": "kit", "output": "synth", "input_there": True,
        "output_there": True, "messages": 9, "notes": 3, "last": (10, 61),
    }  # fmt: skip
    return SignalState(**{**everything, **changes})


@pytest.mark.parametrize(
    ("changes", "place"),
    [
        ({"listening": False, "server": False}, "listening"), ({"server": False, "input_there": False}, "port system"),
        ({"input_there": False, "messages": 0}, "input"), ({"messages": 0, "notes": 0, "last": None}, "messages"),
        ({"notes": 0, "last": None}, "notes"), ({"last": (3, 61)}, "channel"), ({"last": (10, 99)}, "known note"),
        ({"output": None, "output_there": False}, "output"), ({"output_there": False}, "receiver"),
    ],
)  # fmt: skip
def test_the_first_place_where_a_hit_stops_is_named(changes, place):
    places = follow(situation(**changes), KIT)
    assert places[-1].name == place
    assert all(p.passes for p in places[:-1])
    assert verdict(places) == places[-1].message
    assert places[-1].message.endswith(".")


def test_a_receiver_without_the_drum_is_named_and_a_complete_route_is_confirmed():
    pads = Context(note_map_file.shipped("practice-five"), note_map_file.shipped("lantern-pads"))
    assert follow(situation(last=(10, 85)), pads)[-1].name == "receiver's drum"
    whole = follow(situation(), KIT)
    assert len(whole) == 14
    assert "Every hit is sent to the receiver" in verdict(whole)


@pytest.mark.parametrize(
    ("known", "place", "remedy"),
    [
        ({"channel": 3}, "listening channel", "channel"),
        ({"monitor": False}, "monitor", "hear"),
        ({"left": False}, "kept", "settings"),
        ({"left": False, "removed_as": "too soft"}, "kept", "settings"),
        ({"sound_problem": "Its level is 0.", "sound_remedy": "level"}, "built-in sound", "level"),
    ],
)
def test_no_sound_names_wrong_port_missing_monitoring_and_lost_hits(known, place, remedy):
    last = follow(situation(**known), KIT)[-1]
    assert (last.name, last.remedy, last.passes) == (place, remedy, False)
    assert known.get("removed_as", "") in last.message
    assert known.get("sound_problem", "") in last.message
