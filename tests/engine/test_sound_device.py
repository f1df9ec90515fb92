"""The built-in sound on a device that is too slow, is lost, and comes back: with a stand-in for PortAudio."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from puresignal.core.kit.note_map import to_json
from puresignal.engine import ring, shared_counters, sound_process
from puresignal.engine.ring import Reader, Writer
from puresignal.engine.shared_counters import SharedCounters
from puresignal.engine.sound_process import Sound
from puresignal.io import audio_file, audio_ports, jack_library, note_map_file, sample_kits


class Device:
    """A sound device: its stream calls back when told to."""

    def __init__(self):
        self.there, self.streams = True, []

    def open(self, device, rate, block, fill):
        if not self.there:
            raise audio_ports.NoSoundError("There is no sound device", device or "default device", "Plug one in.")
        stream = SimpleNamespace(
            samplerate=rate, latency=2 * block / rate, active=True, block=block, fill=fill, start=lambda: None
        )
        stream.close = lambda: setattr(stream, "active", False)
        self.streams.append(stream)
        return stream

    def play(self, late=False):
        """One block of the running stream, as its callback fills it."""
        stream = self.streams[-1]
        out = np.zeros((stream.block, 2), np.float32)
        stream.fill(out, stream.block, late)
        return out


@pytest.fixture
def rig(monkeypatch):
    device = Device()

    def no_server(*_):
        raise jack_library.NoServerError("none", "", "")

    monkeypatch.setattr("puresignal.io.jack_ports.open_client", no_server)
    monkeypatch.setattr(audio_ports, "open_output", device.open)
    memory = ring.make()
    sound = Sound(Reader(memory), SharedCounters(shared_counters.make()), SharedCounters(shared_counters.make()))
    kit = to_json(note_map_file.shipped("general-midi"))
    sound.obey({"map": kit, "output": 0, "level": 0.8, "device": "Pier", "block": 64, "rate": 48_000})
    sound.look()
    yield sound, device, Writer(memory)
    sound.close()


def test_blocks_that_underrun_are_made_larger_and_that_is_told(rig):
    sound, device, _ = rig
    assert (sound.state()["block"], sound.state()["wanted"]) == (64, 64)
    # One underrun is an accident; two looks with one each are a habit.
    device.play(late=True)
    sound.look()
    sound.look()
    assert sound.state()["block"] == 64
    for expected in (128, 256, 512, 1024, 1024):
        for _ in range(2):
            device.play(late=True)
            sound.look()
        sound.look()
        state = sound.state()
        assert (state["block"], state["wanted"]) == (expected, 64)
        assert state["delay"] == pytest.approx(2 * expected / 48_000)
    assert sound.state()["underruns"] == 11
    # Another choice is tried as it is.
    sound.obey({"block": 256})
    sound.look()
    assert sound.state()["block"] == 256


@pytest.mark.parametrize(("share", "block", "underruns"), [(1.0, 64, 0), (0.6, 128, 2)])
def test_a_device_that_fetches_too_little_without_telling_underruns(rig, monkeypatch, share, block, underruns):
    sound, device, _ = rig
    clock = SimpleNamespace(now=100.0)
    monkeypatch.setattr(
        sound_process, "time", SimpleNamespace(monotonic=lambda: clock.now, perf_counter=lambda: clock.now)
    )
    device.play()
    clock.now += 2.0
    sound.look()
    clock.now += 1.0
    for number in range(1 + round(2.2 * 750 * share)):
        device.play()
        clock.now += 1 / 750 / share
        if number % 100 == 0:
            sound.look()
    sound.look()
    assert (sound.state()["block"], sound.state()["underruns"]) == (block, underruns)


def test_a_device_that_is_lost_is_named_and_used_again_when_it_is_back(rig, monkeypatch):
    sound, device, ring_writer = rig
    device.streams[-1].active = device.there = False
    sound.look()
    state = sound.state()
    assert state["system"] == ""
    assert "Pier" in state["why"]
    sound.look()
    device.there = True
    sound.look()
    assert sound.state()["system"] == "device"
    assert len(device.streams) == 2
    import time

    ring_writer.put(time.monotonic(), 0, b"\x99\x26\x70")
    assert max(np.abs(device.play()).max() for _ in range(20)) > 0.01


def test_a_kit_of_recordings_is_loaded_once_and_told_when_it_is_gone(rig, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    sound, _, _ = rig
    sound.obey({"kit": "Harbour", "drums": {}})
    assert "Harbour" in sound.state()["kit"]
    made = tmp_path / "Harbour"
    made.mkdir()
    audio_file.write_wav(made / "kick.wav", np.hanning(4000).astype(np.float32), 44_100)
    sample_kits.add(made)
    sound.obey({"kit": "Harbour", "drums": {}})
    assert sound.state()["kit"] == ""
    kick = sound.mixer._bank.layers["kick"]
    # 4,000 samples at the rate of the file are more at that of the device.
    assert [[len(one) for one in layer] for layer in kick] == [[pytest.approx(4000 * 48 / 44.1, abs=200)]]
    sound.obey({"kit": "Harbour", "drums": {"snare": {"level": -3.0}}})
    assert sound.mixer._bank.layers["kick"] is kick
    sound.obey({"kit": "Boathouse", "drums": {}})
    assert len(sound.mixer._bank.layers["kick"]) > 1
