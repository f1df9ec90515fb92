"""Ports of every kind in one list; ALSA ports through a stand-in for its sequencer."""

from __future__ import annotations

import queue
import time
from types import SimpleNamespace

import pytest

from puresignal.io import alsa_ports, ports
from puresignal.io.ports import ALSA, JACK, MidiPort
from tests.engine.conftest import until


@pytest.mark.parametrize(
    ("jack", "alsa"),
    [
        ("bridge:Harbour Mesh [24] (capture): Harbour Mesh MIDI 1", "Harbour Mesh:Harbour Mesh MIDI 1"),
        ("system:Two Decks/Two Decks MIDI 1", "Two Decks:Two Decks MIDI 1"),
    ],
)
def test_the_same_device_is_listed_once(jack, alsa):
    both = ports.merged((MidiPort(jack, True),), (MidiPort(alsa, True, ALSA), MidiPort(alsa, False, ALSA)))
    assert both == (MidiPort(jack, True, JACK), MidiPort(alsa, False, ALSA))


def test_two_ports_of_one_device_are_two():
    both = ports.merged(
        (MidiPort("bridge:Desk [20] (capture): Desk MIDI 1", True),), (MidiPort("Desk:Desk MIDI 2", True, ALSA),)
    )
    assert len(both) == 2


class Sequencer:
    """A stand-in for the ALSA sequencer that records what the router does."""

    def __init__(self):
        self.ports, self.joined, self.sent, self.coming = [], [], [], queue.Queue()
        self._buffer = []

    def create_port(self, name, caps):
        made = SimpleNamespace(
            name=name, port_id=len(self.ports),
            connect_from=lambda info: self.joined.append((info.name, name)),
            connect_to=lambda info: self.joined.append((name, info.name)),
        )  # fmt: skip
        self.ports.append(made)
        return made

    def list_ports(self, input=None, output=None, sort=True):
        kit, own = (
            SimpleNamespace(client_name="Harbour", name="MIDI 1"),
            SimpleNamespace(client_name="Pure Signal", name="x"),
        )
        return [kit, own] if input else [SimpleNamespace(client_name="Room", name="in")]

    def event_input(self, prefer_bytes=False):
        event = self.coming.get()
        if event is None:
            raise OSError("closed")
        return event

    def event_output_direct(self, event, port):
        # As the library does it: nothing leaves before the buffer is drained.
        self._buffer.append((port.name, event.midi_bytes))

    def drain_output(self):
        self.sent += self._buffer
        self._buffer = []

    def close(self):
        self.coming.put(None)


def test_alsa_is_listed_joined_read_and_written():
    sequencer, knocks = Sequencer(), []
    assert [p for p, _ in alsa_ports.ports_of(sequencer)] == [
        MidiPort("Harbour:MIDI 1", True, ALSA), MidiPort("Room:in", False, ALSA),
    ]  # fmt: skip
    client = alsa_ports.AlsaClient(sequencer, 2, 1, lambda: knocks.append(1))
    assert client.join(True, 1, "Harbour:MIDI 1") == "Harbour:MIDI 1"
    assert client.join(False, 0, "Room:in") == "Room:in"
    assert client.join(True, 0, "nobody") is None
    assert client.join(True, 0, "harbour") == "Harbour:MIDI 1"
    assert sequencer.joined == [("MIDI 1", "in 2"), ("out 1", "in"), ("MIDI 1", "in 1")]
    begun = time.monotonic()
    sequencer.coming.put(SimpleNamespace(midi_bytes=b"\x99\x26\x5a", dest=SimpleNamespace(port_id=1)))
    sequencer.coming.put(SimpleNamespace(dest=SimpleNamespace(port_id=1)))
    sequencer.coming.put(SimpleNamespace(midi_bytes=b"\x89\x26\x00", dest=SimpleNamespace(port_id=1)))
    until(lambda: len(client.incoming) == 2, 3)
    assert [(n, d) for _, n, d in client.incoming] == [(1, b"\x99\x26\x5a"), (1, b"\x89\x26\x00")]
    assert begun <= client.incoming[0][0] <= time.monotonic()
    assert len(knocks) == 2
    client.send(0, b"\x99\x1a\x5a")
    until(lambda: sequencer.sent == [("out 1", b"\x99\x1a\x5a")], 3)
    client.close()


def test_without_a_sequencer_alsa_is_silently_absent(monkeypatch, tmp_path, capfd):
    monkeypatch.setattr(alsa_ports, "DEVICE", tmp_path / "seq")
    assert alsa_ports.listing() == ()
    assert alsa_ports.open_client("x") is None
    assert capfd.readouterr().err == ""
