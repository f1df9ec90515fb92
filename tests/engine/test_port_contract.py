"""What every port system promises, on each one that is here: JACK, PipeWire, and ALSA where there is a sequencer.

bench/alsa.py runs this file on an emulated machine that has one.
"""

from __future__ import annotations

import os
import time

import pytest

from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import alsa_ports, jack_library, note_map_file, port_systems, ports
from tests.engine.conftest import Peer, until

KIT, ROOM = note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room")
ON, OFF = b"\x99\x3d\x5a", b"\x89\x3d\x00"
MAPPED_ON, MAPPED_OFF = b"\x99\x07\x5a", b"\x89\x07\x00"
SLOW = float(os.environ.get("SLOW_MACHINE", "10"))
"""Seconds within which something happens; an emulated machine says more."""


class Rig:
    """A port system with peers on it."""

    def __init__(self, system, can, make):
        self.system, self.can, self._make = system, can, make
        self._peers, self._routers = [], []

    def peer(self, name):
        self._peers.append(self._make(name))
        return self._peers[-1]

    def router(self, source="kit", target="synth"):
        made = RouterProcess(RouterConfig((source,), (target,), KIT, ROOM))
        self._routers.append(made)
        return made

    def end(self, router):
        self._routers.remove(router)
        assert router.close() == 0

    def close(self):
        for one in self._routers:
            one.close()
        for one in self._peers:
            one.close()


SYSTEMS = ["JACK", "PipeWire", *(["ALSA"] if alsa_ports.DEVICE.exists() else [])]


@pytest.fixture(params=SYSTEMS)
def rig(request, monkeypatch):
    if request.param == "ALSA":
        from tests.engine.alsa_peer import AlsaPeer

        monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
        made = Rig(ports.ALSA, alsa_ports.CAN, AlsaPeer)
    elif request.param == "PipeWire":
        request.getfixturevalue("pipewire")
        binding = jack_library.binding(jack_library.PIPEWIRE)
        made = Rig(ports.PIPEWIRE, jack_library.CAN, lambda name: Peer(name, binding))
    else:
        request.getfixturevalue("server")
        made = Rig(ports.JACK, jack_library.CAN, Peer)
    yield made
    made.close()


def wait_for(router, inputs, outputs):
    """Until the router says that these ports are connected."""
    state = {}

    def told():
        state.update(router.read(0.05) or {})
        return [bool(one) for one in state.get("inputs", ())] == inputs and [
            bool(one) for one in state.get("outputs", ())
        ] == outputs

    until(told, SLOW, f"the ports {inputs} {outputs}")
    return state


def messages(peer):
    return [message for _, message in peer.got]


def answered(kit, synth):
    """Play until the first hit comes through: a connection takes a block or two to work. Returns what came."""

    def hit():
        kit.play(ON)
        time.sleep(0.05)
        kit.play(OFF)
        time.sleep(0.1)
        return MAPPED_OFF in messages(synth)

    until(hit, SLOW, "the first hit")
    time.sleep(0.2)
    came = messages(synth)
    synth.got.clear()
    return came


def undisturbed(peers, scenario):
    """A scenario that is repeated while it fails because a peer was too late for a block: that loses what it plays."""
    for attempt in range(8):
        before = [one.late for one in peers]
        for one in peers:
            one.got.clear()
        try:
            scenario()
        except AssertionError:
            if [one.late for one in peers] == before:
                raise
            if attempt == 7:
                pytest.skip("the machine took blocks from the peers each time")
        else:
            return


def test_ports_are_listed_with_direction_and_system_and_ours_are_not(rig):
    rig.peer("kit"), rig.peer("synth")
    rig.router()

    def listed():
        found = [p for p in port_systems.listing()[0] if p.system == rig.system]
        return {(p.name, p.gives) for p in found if p.name.split(":")[0] in ("kit", "synth")} == {
            ("kit:out", True), ("kit:in", False), ("synth:out", True), ("synth:in", False),
        } and found  # fmt: skip

    found = until(listed, SLOW, "the list")
    time.sleep(0.5)
    assert not [p.name for p in port_systems.listing()[0] if "Pure Signal" in p.name]
    assert len({(p.name, p.gives) for p in found}) == len(found)


def test_a_hit_leaves_mapped_and_every_message_in_order(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    state = wait_for(router, [True], [True])
    assert state["inputs"] == ["kit:out"]
    assert state["outputs"] == ["synth:in"]
    answered(kit, synth)

    def plays():
        sent = []
        for i in range(15):
            for more in ([bytes((0xB9, 20 + i, i)), bytes((0x99, 0x3D, 1 + i))], [OFF]):
                sent += more
                kit.play(*more)
                time.sleep(0.03)
        until(lambda: len(synth.got) >= len(sent), 5, "all messages")
        assert messages(synth) == [m if m[0] == 0xB9 else bytes((m[0], 7, m[2])) for m in sent]

    undisturbed((kit, synth), plays)


def test_a_part_of_the_name_is_enough(rig):
    kit, synth = rig.peer("Harbour Mesh"), rig.peer("Boathouse Room")
    router = rig.router("harbour", "boathouse")
    wait_for(router, [True], [True])
    answered(kit, synth)


def test_an_input_that_goes_ends_its_notes_and_plays_again_when_it_is_back(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    wait_for(router, [True], [True])
    answered(kit, synth)
    kit.play(ON)
    until(lambda: messages(synth) == [MAPPED_ON], SLOW, "the note")
    kit.close()
    until(lambda: messages(synth)[1:] and messages(synth)[1][:2] == MAPPED_OFF[:2], SLOW, "its end")
    wait_for(router, [False], [True])
    again = rig.peer("kit")
    wait_for(router, [True], [True])
    answered(again, synth)


def test_an_output_that_was_away_plays_again(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    wait_for(router, [True], [True])
    answered(kit, synth)
    synth.close()
    wait_for(router, [True], [False])
    again = rig.peer("synth")
    wait_for(router, [True], [True])
    answered(kit, again)


def test_what_sounds_is_ended_when_the_router_ends(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    wait_for(router, [True], [True])
    answered(kit, synth)
    kit.play(ON)
    until(lambda: messages(synth) == [MAPPED_ON], SLOW, "the note")
    router.hang_up()
    until(lambda: messages(synth)[1:] and messages(synth)[1][:2] == MAPPED_OFF[:2], SLOW, "its end")


def test_connections_are_told_and_cut(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    wait_for(router, [True], [True])
    answered(kit, synth)
    wire = next(w for w in port_systems.wires() if w[1] == "synth:in")
    assert wire[0].startswith("Pure Signal:")
    rig.end(router)
    until(lambda: not [w for w in port_systems.wires() if w[1] == "synth:in"], SLOW, "the end of the connection")


def test_a_message_keeps_its_frame_where_the_system_can(rig):
    kit, synth = rig.peer("kit"), rig.peer("synth")
    router = rig.router()
    state = wait_for(router, [True], [True])
    assert state["exact"] == (ports.EXACT_FRAMES in rig.can)
    if not state["exact"]:
        return
    answered(kit, synth)

    def plays():
        kit.sent.clear()
        for offset in (0, 1, 50, 63, 37):
            for message in (ON, OFF):
                kit.play(message, offset=offset)
                time.sleep(0.04)
        until(lambda: len(synth.got) == 10, 5, "the hits")
        assert [frame for frame, _ in synth.got] == [frame for frame, _ in kit.sent]

    undisturbed((kit, synth), plays)
