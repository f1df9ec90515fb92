"""Other programs' time: MIDI clock in and out, tick by tick, and JACK's transport on a real server, on its frame."""

from __future__ import annotations

import itertools
import json
import subprocess
import sys
import time

import numpy as np
import pytest

from puresignal.core.timing.beat_table import BeatTable
from puresignal.core.timing.clock_follower import ClockFollower
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess
from puresignal.engine.ring import Reader
from puresignal.engine.router_config import RouterConfig
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import jack_ports, note_map_file, ports
from tests.engine.conftest import until
from tests.engine.test_player import beats

GENERAL = note_map_file.shipped("general-midi")
TICK, START, CONTINUE, STOP = b"\xf8", b"\xfa", b"\xfb", b"\xfc"
RATE = 48_000


class Rig:
    """A router with its own keyboard as the clock's port, a player, and what left."""

    def __init__(self, transport=False):
        setup = RouterConfig((ports.KEYBOARD,), (ports.RECEIVER,), GENERAL, GENERAL, transport=transport)
        self.router = RouterProcess(setup)
        self.player = PlayerProcess(self.router)
        self.sent, self.arrived = Reader(self.router.sent), Reader(self.router.ring)
        self.got = []

    def look(self, seconds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.got += self.sent.read()
            time.sleep(0.005)

    def ons(self):
        return np.array([r.at for r in self.got if r.data[0] & 0xF0 == 0x90])

    def of(self, data):
        return np.array([r.at for r in self.got if r.data[:1] == data])

    def clock(self, data, at):
        """A message of the master at a moment that is soon."""
        time.sleep(max(0.0, at - time.monotonic()))
        self.router.play(ports.KEYBOARD, data, at)

    def close(self):
        self.player.close()
        assert self.router.close() == 0


@pytest.fixture
def rig(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    made = Rig()
    until(lambda: made.router.read(0.05), what="the router")
    yield made
    made.close()


def test_clock_out_starts_at_the_position_and_ticks_evenly(rig):
    at, data = beats(16, 0.5)
    rig.player.use(at, data)
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.clock_to([0])
    rig.player.play(1.0, [])
    rig.look(1.6)
    rig.player.stop()
    rig.look(0.2)
    order = [r.data[:1] for r in rig.got if r.data[0] >= 0xF0]
    # Two quarter notes are eight sixteenths.
    place = next(r.data for r in rig.got if r.data[0] == 0xF2)
    assert place == bytes((0xF2, 8, 0))
    assert order[:3] == [b"\xf2", CONTINUE, TICK]
    assert order[-1] == STOP
    ticks = rig.of(TICK)
    assert abs(np.diff(ticks) - 0.5 / 24).max() < 3e-5
    # A note on the beat leaves with the tick of the beat.
    assert abs(rig.ons()[0] - ticks[0]) < 3e-5
    assert abs(rig.ons()[1] - ticks[24]) < 3e-5


def test_clock_out_goes_back_with_the_loop(rig):
    at, data = beats(16, 0.5)
    rig.player.use(at, data)
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.clock_to([0])
    rig.player.loop((0.5, 1.0))
    rig.player.play(0.5, [])
    end = time.monotonic() + 10
    while len(rig.of(CONTINUE)) < 3 and time.monotonic() < end:
        rig.look(0.1)
    rig.player.stop()
    rig.look(0.2)
    order = [r.data for r in rig.got if r.data[0] >= 0xF0]
    rounds = [i for i, one in enumerate(order) if one == CONTINUE]
    assert len(rounds) >= 3
    for first, second in itertools.pairwise(rounds):
        assert order[first:second].count(TICK) == 24
        assert order[second - 2 : second] == [STOP, bytes((0xF2, 4, 0))]
    follower = ClockFollower()
    for r in rig.got:
        if r.data[0] >= 0xF0:
            follower.hear(r.at, r.data)
    assert follower.bpm == pytest.approx(120.0, rel=0.001)


def test_a_master_with_jitter_starts_nudges_and_stops_the_player(rig):
    at, data = beats(64, 0.5)
    rig.player.use(at, data)
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.follow(0)
    time.sleep(0.4)
    rng = np.random.default_rng(5)
    # The score says 120; the master plays 126.
    period, begin = 60.0 / 126.0 / 24, time.monotonic() + 0.1
    before, beats_played = 24, 9
    for number in range(-before, beats_played * 24):
        if number == 0:
            rig.clock(START, begin - 0.009)
        rig.clock(TICK, begin + number * period + rng.uniform(0, 0.005))
        rig.got += rig.sent.read()
    rig.clock(STOP, begin + beats_played * 24 * period)
    rig.look(0.3)
    assert not rig.player.playing
    bpm, _ = rig.player.master()
    assert bpm == pytest.approx(126.0, rel=0.002)
    ons = rig.ons()
    assert len(ons) in (beats_played, beats_played + 1)
    due = begin + np.arange(len(ons)) * 24 * period + 0.0025
    # The first beats come while the master is still being learnt.
    assert abs(ons - due).max() < 0.02
    assert abs(ons[4:] - due[4:]).max() < 0.003


def test_ticks_are_neither_kept_nor_shown(rig):
    rig.player.follow(0)
    for data in (TICK, START, b"\xfe", b"\x90\x40\x50"):
        rig.router.play(ports.KEYBOARD, data)
    found = []
    until(lambda: found.extend(rig.arrived.read()) or any(r.data[0] == 0x90 for r in found), what="the note")
    assert [r.data for r in found] == [START, b"\x90\x40\x50"]


@pytest.fixture
def on_server(server):
    made = Rig(transport=True)

    def is_up():
        state = made.router.read(0.05)
        return state if state is not None and state["server"] else None

    until(is_up, what="the router on JACK")
    yield made
    made.close()


def test_jacks_transport_is_followed_on_its_frame(on_server):
    rig = on_server
    other = jack_ports.open_client("another program")
    at, data = beats(40, 0.25)
    rig.player.use(at, data)
    rig.player.follow("jack")
    time.sleep(0.5)
    other.activate()
    try:
        for begin in (0, RATE, 3 * RATE + 1111):
            rig.look(0.1)
            rig.got.clear()
            other.transport_frame = begin
            time.sleep(0.2)
            other.transport_start()
            until(lambda: rig.player.playing, what="the player")
            rig.look(1.3)
            assert rig.router.transport_state()[0] == 1
            # Where the transport's frame 0 is on the clock: the router says it for the last move.
            _, position, frame, _ = SharedCounters(rig.router.transport_found).read()[:4]
            zero = frame - position
            ons = np.rint(rig.ons() * RATE).astype(int) - zero
            assert len(ons) >= 4
            first = -(-begin // 12_000) * 12_000
            assert np.abs(ons - (first + np.arange(len(ons)) * 12_000)).max() <= 1
            other.transport_stop()
            until(lambda: not rig.player.playing, what="the stop")
    finally:
        other.close()


def test_jacks_transport_is_led(on_server):
    rig = on_server
    at, data = beats(40, 0.25)
    rig.player.use(at, data)
    rig.player.follow("jack")
    time.sleep(0.3)
    other = jack_ports.open_client("another program")
    try:
        rig.router.transport("locate 24000")
        rig.router.transport("start")
        until(lambda: rig.player.playing and other.transport_state == 1, what="the transport")
        rig.look(0.8)
        assert len(rig.ons()) >= 2
        rig.router.transport("stop")
        until(lambda: not rig.player.playing, what="the stop")
        assert other.transport_state == 0
    finally:
        other.close()


OTHER = """
import json, random, sys
import jack
bpm, jitter, seconds = map(float, sys.argv[1:4])
client = jack.Client("other program", no_start_server=True)
out, into = client.midi_outports.register("clock"), client.midi_inports.register("in")
state, heard, rng = {"next": 0, "begin": None, "frame": 0}, [], random.Random(3)
period = 60.0 / bpm / 24 * client.samplerate

@client.set_process_callback
def process(frames):
    out.clear_buffer()
    first = state["frame"]
    state["frame"] += frames
    for offset, data in into.incoming_midi_events():
        heard.append((client.last_frame_time + offset, bytes(data).hex()))
    if state["begin"] is None:
        return
    while True:
        number = state["next"]
        at = state["begin"] + (number - 24) * period + state.get("late", 0)
        if at >= first + frames:
            return
        if number == 24 and not state.get("started"):
            out.write_midi_event(max(0, int(at - first) - 48), bytes((0xFA,)))
            state["started"] = True
            state["zero"] = client.last_frame_time + (state["begin"] - first)
        out.write_midi_event(max(0, int(at - first)), bytes((0xF8,)))
        state["next"] += 1
        state["late"] = rng.uniform(0, jitter) * client.samplerate

with client:
    print("ready", flush=True)
    for line in sys.stdin:
        if line.strip() == "go":
            state["begin"] = state["frame"] + int(24 * period) + 480
        else:
            break
    told = {"heard": heard, "zero": state.get("zero"), "rate": client.samplerate}
print(json.dumps(told), flush=True)
"""


class Other:
    """Another program on the server: a master with jitter, and somebody who listens."""

    def __init__(self, bpm=120.0, jitter=0.0):
        self.process = subprocess.Popen(
            [sys.executable, "-c", OTHER, str(bpm), str(jitter), "0"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert self.process.stdout.readline() == "ready\n"

    def say(self, word):
        self.process.stdin.write(word + "\n")
        self.process.stdin.flush()

    def end(self):
        self.say("end")
        told = json.loads(self.process.stdout.readline())
        self.process.communicate(timeout=5)
        return told


def rig_with(inputs, outputs):
    rig = object.__new__(Rig)
    rig.router = RouterProcess(RouterConfig(inputs, outputs, GENERAL, GENERAL))
    rig.player = PlayerProcess(rig.router)
    rig.sent, rig.arrived, rig.got = Reader(rig.router.sent), Reader(rig.router.ring), []

    def is_joined():
        state = rig.router.read(0.05)
        return state if state is not None and all((*state["inputs"], *state["outputs"])) else None

    until(is_joined, what="the ports")
    return rig


def test_another_program_on_the_server_is_the_master(server):
    other = Other(bpm=132.0, jitter=0.005)
    rig = rig_with(("other program:clock",), ("other program:in",))
    at, data = beats(64, 0.5)
    rig.player.use(at, data)
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.follow(0)
    time.sleep(0.4)
    other.say("go")
    rig.look(5.5)
    told = other.end()
    rig.close()
    ons = np.array([at for at, data in told["heard"] if bytes.fromhex(data)[0] & 0xF0 == 0x90]) - told["zero"]
    due = np.arange(len(ons)) * 60.0 / 132.0 * told["rate"]
    assert len(ons) >= 9
    # The ticks come up to 5 ms late, on the mean 2.5, and a block of the server lies between.
    off = (ons - due) / told["rate"] - 0.0025
    assert abs(off[4:]).max() < 0.003 + 256 / 48_000
    assert np.ptp(off[4:]) < 0.004


def test_another_program_on_the_server_follows(server):
    other = Other()
    rig = rig_with((), ("other program:in",))
    at, data = beats(8, 0.5)
    rig.player.use(at, data)
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.clock_to([0])
    rig.player.play(0.0, [])
    rig.look(3.0)
    rig.player.stop()
    time.sleep(0.2)
    told = other.end()
    rig.close()
    heard = [(at, bytes.fromhex(data)) for at, data in told["heard"]]
    assert next(data for _, data in heard if data[0] >= 0xF0) == START
    assert heard[-1][1] == STOP
    ticks = np.array([at for at, data in heard if data == TICK])
    # Three seconds are 144; a busy machine's server runs slower than its clock.
    assert len(ticks) > 110
    # A tick is 1,000 frames at 120 BPM and 48 kHz: each on its frame.
    assert set(np.diff(ticks).tolist()) == {1000}
