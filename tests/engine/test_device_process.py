"""Simulated devices behind the router's ports, without a port system."""

from __future__ import annotations

import time

import pytest

from puresignal.core.kit import note_map
from puresignal.engine.client import RouterProcess
from puresignal.engine.ring import Reader
from puresignal.engine.router_config import LiveTrack, RouterConfig
from puresignal.io import note_map_file, ports
from puresignal.sim import devices
from tests.engine.conftest import until

KIT, ROOM = note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room")


class Within:
    """A router without a server, with its input and output."""

    def __init__(self, setup):
        self.router = RouterProcess(setup)
        self.arriving, self.leaving = Reader(self.router.ring), Reader(self.router.sent)
        self.came, self.left = [], []
        until(lambda: self.router.read(0.05), what="the router")

    def look(self, seconds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.came += self.arriving.read()
            self.left += self.leaving.read()
            time.sleep(0.005)


@pytest.fixture
def within(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    made = []

    def make(*inputs, outputs=(ports.RECEIVER,), tracks=()):
        made.append(Within(RouterConfig(inputs, outputs, KIT, ROOM, tracks=tracks)))
        return made[-1]

    yield make
    for one in made:
        assert one.router.close() == 0


def test_a_drum_module_plays_into_the_router_and_the_receiver_gets_its_own_notes(within):
    one = within(ports.DRUM_MODULE)
    one.router.devices(play=ports.DRUM_MODULE, kit=note_map.to_json(KIT), bpm=140, faults={}, seed=3)
    until(lambda: one.look(0.05) or len(one.came) > 40, 30, what="the playing")
    one.router.devices(stop=ports.DRUM_MODULE)
    one.look(0.3)
    expected = devices.grooves(KIT, devices.Faults(), 140, 3)
    played = [next(expected) for _ in range(len(one.came))]
    on = [r for r in one.came if r.data[0] & 0xF0 == 0x90]
    assert len(on) > 10
    # Everything in order, at the drummer's own times: the clock that plays it blurs nothing.
    ended = [m for _, m in played][: len(one.came) - 8]
    assert [r.data for r in one.came][: len(ended)] == ended
    first = one.came[0].at - played[0][0]
    late = [r.at - first - at for r, (at, _) in zip(one.came[: len(ended)], played, strict=False)]
    # A machine that stops for a moment delays what was due then, and no more.
    assert sorted(map(abs, late))[int(0.75 * len(late))] < 0.001
    means = {p.note: p.articulation for p in KIT.pads}
    goes = [ROOM.pad_for(means[r.data[1]]).note for r in on]
    assert [r.data[1] for r in one.left if r.data[0] & 0xF0 == 0x90] == goes
    receiver = devices.Receiver()
    for record in one.left:
        receiver.take(record.at, record.data)
    assert receiver.sounding == {}


def test_one_hit_at_a_time_with_the_pedal_where_it_belongs(within):
    one = within(ports.DRUM_MODULE)
    one.router.devices(hit=ports.DRUM_MODULE, kit=note_map.to_json(KIT), articulation="hat.open", velocity=77)
    one.look(0.8)
    notes = [r.data for r in one.came if r.data[0] == 0x99]
    assert notes == [bytes((0x99, KIT.pad_for("hat.open").note, 77))]
    assert [r.data[1] for r in one.left if r.data[0] == 0x99] == [ROOM.pad_for("hat.open").note]


def test_a_keyboard_and_a_pad_box_at_once_go_their_own_ways(within):
    pads = note_map_file.shipped("lantern-pads")
    tracks = (LiveTrack(0, 0, None, (0,)), LiveTrack(1, 0, pads, (1,)))
    one = within(ports.KEYBOARD, ports.PAD_BOX, outputs=(ports.RECEIVER, ports.SOUND), tracks=tracks)
    one.router.devices(play=ports.KEYBOARD, bpm=200, seed=1)
    one.router.devices(play=ports.PAD_BOX, kit=note_map.to_json(pads), bpm=200, seed=1)
    one.look(2.0)
    first = {r.data[1] for r in one.left if r.port == 0 and r.data[0] & 0xF0 == 0x90}
    second = {r.data[1] for r in one.left if r.port == 1 and r.data[0] & 0xF0 == 0x90}
    assert first <= {note for _, note, _ in devices.TUNE}
    assert second <= {p.note for p in ROOM.pads}
    assert len(first) >= 3
    assert len(second) >= 3


def test_a_key_press_is_at_the_receiver_within_two_milliseconds(within):
    one = within(ports.COMPUTER_KEYBOARD)
    waits = []
    for i in range(40):
        begun = time.monotonic()
        one.router.play(ports.COMPUTER_KEYBOARD, bytes((0x99, 61, 60 + i)))
        while not (left := one.leaving.read()):
            assert time.monotonic() - begun < 1
            # It looks as often as matters, but never keeps the processor that the router may be waiting for.
            time.sleep(0.0001)
        waits.append(time.monotonic() - begun)
        assert left[0].data == bytes((0x99, 7, 60 + i))
        one.router.play(ports.COMPUTER_KEYBOARD, b"\x89\x3d\x00")
        until(lambda: any(r.data[0] == 0x89 for r in one.leaving.read()), 1, "the end")
    assert sorted(waits)[len(waits) // 2] < 0.002


def test_sounding_notes_end_on_release_all(within):
    one = within(ports.SCREEN_PADS)
    one.router.play(ports.SCREEN_PADS, b"\x99\x3d\x5a")
    one.look(0.1)
    one.router.hang_up()
    one.look(0.3)
    assert [r.data for r in one.left] == [b"\x99\x07\x5a", b"\x89\x07\x40"]
