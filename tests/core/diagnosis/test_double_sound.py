"""Why is it heard twice: every source that sounds for one hit is named, and only those."""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.diagnosis.double_sound import RoutingState, sources, verdict
from puresignal.core.kit.note_map import with_goal
from puresignal.core.session.live_input import LiveInput
from puresignal.io import note_map_file

ONE = LiveInput("kit", 0, None, "synth")
SCENE = RoutingState(
    (ONE,), {"kit": "rig:kit out", "synth": "room:in"},
    frozenset({("rig:kit out", "Pure Signal:in 1"), ("Pure Signal:out 1", "room:in")}),
    "Pure Signal", note_map_file.shipped("general-midi"), ("kit", 10, "snare.head"),
)  # fmt: skip


def test_one_route_is_one_source():
    assert [s.remedy for s in sources(SCENE)] == [""]
    assert verdict(sources(SCENE), True).startswith("One hit sounds once here")
    assert verdict((), False).startswith("Hit a pad first")


def test_a_second_input_that_listens_to_the_same_is_named_and_can_be_muted():
    inputs = (ONE, LiveInput("kit", 10, None, "room two"), LiveInput("kit", 3, None, "room three"))
    found = sources(replace(SCENE, inputs=inputs))
    assert [(s.remedy, s.number) for s in found] == [("", 0), ("hear", 1)]
    assert "room two" in verdict(found, True)
    muted = (ONE, replace(inputs[1], monitor=False), inputs[2])
    assert len(sources(replace(SCENE, inputs=muted))) == 1


def test_wires_past_the_program_and_to_a_second_receiver_are_named():
    for wire, words in (
        (("rig:kit out", "room:in"), "connected directly to room:in"),
        (("Pure Signal:out 1", "recorder:in"), "also connected to recorder:in"),
    ):
        found = sources(replace(SCENE, wires=SCENE.wires | {wire}))
        assert [s.wire for s in found if s.remedy == "wire"] == [wire]
        assert words in verdict(found, True)


def test_a_map_that_sends_two_notes_shows_both():
    doubled = with_goal(SCENE.target, "snare.head", (38, 40))
    found = sources(replace(SCENE, target=doubled))
    assert [s.remedy for s in found] == ["", "maps"]
    assert "notes 38, 40" in found[1].message
