"""The built-in sound and playback on a real JACK server: audible in the cycle of the hit, exact to the frame."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from puresignal.core.kit import note_map
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess, SoundProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import note_map_file, ports
from tests.engine.conftest import Peer, until
from tests.engine.test_player import beats

GENERAL = note_map_file.shipped("general-midi")


class Ear(Peer):
    """A peer that also records audio: the frame of each block, and its sound."""

    def __init__(self, name):
        self.blocks = []
        super().__init__(name)

    def _process(self, frames):
        super()._process(frames)
        port = getattr(self, "audio", None)
        if port is not None:
            self.blocks.append((self.client.last_frame_time, port.get_array().copy()))


@pytest.fixture
def heard(server):
    """A player, the router, the built-in sound, and a recorder of its output."""
    kit, ear = Peer("kit"), Ear("ear")
    ear.kit = kit
    ear.audio = ear.client.inports.register("audio")
    router = RouterProcess(RouterConfig(("kit:out",), (ports.SOUND,), GENERAL, GENERAL))
    player = PlayerProcess(router)
    sound = SoundProcess(router, player)
    sound.tell(map=note_map.to_json(GENERAL), output=0, kit="Boathouse", drums={}, level=0.7, muted=[])
    state = {}

    def ready():
        state.update(router.read(0.02) or {})
        told = sound.read()
        state["sound"] = told or state.get("sound")
        return all(state.get("outputs") or [None]) and all(state.get("inputs") or [None]) and state["sound"]

    until(ready, 20, "the sound")
    ear.client.connect("Pure Signal sound:left", "ear:audio")
    time.sleep(0.3)
    yield ear, router, player, sound, state
    player.close()
    sound.close()
    router.close()
    ear.close()
    kit.close()


def onset(ear, since):
    """The first frame with sound after a frame."""
    for frame, block in list(ear.blocks):
        if frame >= since and np.abs(block).max() > 1e-4:
            return frame + int(np.flatnonzero(np.abs(block) > 1e-4)[0])
    return None


def test_a_hit_sounds_in_the_cycle_in_which_it_arrives(heard):
    ear, _, _, _, state = heard
    assert state["sound"]["system"] == "JACK"
    for note, offset in ((37, 77), (36, 0), (42, 255)):
        for _ in range(5):
            time.sleep(1.2)
            begun, lost = len(ear.kit.sent), ear.late + ear.kit.late
            ear.blocks.clear()
            ear.kit.play(bytes((0x99, note, 110)), offset=offset)
            until(lambda b=begun: len(ear.kit.sent) > b)
            frame = ear.kit.sent[-1][0]
            found = until(lambda f=frame: onset(ear, f - 600), what="the sound")
            # A server that stands still for longer than it waits for its clients loses blocks; that is not ours.
            if ear.late + ear.kit.late == lost:
                break
        # A stroke rises from nothing, so its first samples are too soft to be told from silence.
        assert 0 <= found - frame <= 24


def test_playback_keeps_its_frames_on_jack(heard, peers):
    _, router, player, _, _ = heard
    synth = peers("synth")
    router.change(RouterConfig((), ("synth:in",), GENERAL, GENERAL))
    until(lambda: synth.client.get_all_connections(synth.inp), 5)
    time.sleep(0.3)
    player.use(*beats(40, 0.031))
    for attempt in range(5):
        late = synth.late
        synth.got.clear()
        player.play(0.0, [])
        try:
            until(lambda: len([1 for _, m in synth.got if m[0] == 0x99]) == 40, 12)
            break
        except AssertionError:
            # A server that stands still for longer than it waits for its clients loses blocks; that is not ours.
            if synth.late == late or attempt == 4:
                raise
            player.stop()
            time.sleep(0.5)
    frames = np.array([f for f, m in synth.got if m[0] == 0x99])
    assert (frames - frames[0]).tolist() == [round(i * 0.031 * 48_000) for i in range(40)]
    # The end of the last note is still to come.
    time.sleep(0.3)
    for _ in range(5):
        late = synth.late
        synth.got.clear()
        player.play(0.0, [])
        time.sleep(0.4)
        player.stop()
        time.sleep(0.2)
        if synth.late == late:
            break
    ons = sum(m[0] == 0x99 for _, m in synth.got)
    offs = sum(m[0] == 0x89 for _, m in synth.got)
    assert ons == offs


@pytest.mark.waits_for_none
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_the_sound_comes_back_when_it_dies_or_hangs(heard, how):
    ear, _, _, sound, _ = heard
    before = sound._told._process.pid
    os.kill(before, how)

    def again():
        return (sound.read() or {}).get("system") == "JACK" and sound._told._process.pid != before

    until(again, 15, "the sound again")

    def joined():
        """The name of the sound that the router is connected to; the server may not have noticed that one died."""
        names = [p.name for p in ear.client.get_ports("Pure Signal sound.*:in")]
        return next((n for n in names[-1:] if ear.client.get_all_connections(n)), None)

    until(joined, 12, "the connection")
    time.sleep(0.5)
    until(joined, 12, "the connection")
    ear.client.connect(joined().replace(":in", ":left"), "ear:audio")
    time.sleep(0.2)
    ear.blocks.clear()
    ear.kit.play(b"\x99\x26\x70")
    until(lambda: any(np.abs(b).max() > 0.01 for _, b in list(ear.blocks)), 5)


def test_a_jack_server_that_has_ended_does_not_crash_the_exit(server):
    child = subprocess.Popen(
        [sys.executable, "-c", "from puresignal.io import audio_ports\naudio_ports.outputs()\nprint()\ninput()"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    child.stdout.readline()
    server.stop()
    child.communicate("\n", timeout=20)
    assert child.returncode == 0


def test_a_drum_is_sounded_without_any_route(heard):
    ear, _, _, sound, _ = heard
    time.sleep(1.2)
    ear.blocks.clear()
    sound.strike(36, 110)
    assert until(lambda: onset(ear, 0), 3, "the drum")
    assert not ear.got
