"""Ports of every kind in one list; ALSA ports through a stand-in for its sequencer."""

from __future__ import annotations

import errno
import os
import queue
import time
from types import SimpleNamespace

import alsa_midi
import pytest
from alsa_midi._ffi import alsa, ffi

from puresignal.io import alsa_ports, ports
from puresignal.io.alsa_messages import AlsaMessages
from puresignal.io.ports import ALSA, JACK, MidiPort
from tests.engine.conftest import until


@pytest.mark.parametrize(
    ("jack", "alsa"),
    [
        ("bridge:Harbour Mesh [24] (capture): Harbour Mesh MIDI 1", "Harbour Mesh:Harbour Mesh MIDI 1"),
        ("bridge:Harbour Mesh:(capture_0) Harbour Mesh MIDI 1", "Harbour Mesh:Harbour Mesh MIDI 1"),
        ("Midi-Bridge:Two Decks:(playback_1) MIDI 2", "Two Decks:MIDI 2"),
        ("system:Two Decks/Two Decks MIDI 1", "Two Decks:Two Decks MIDI 1"),
    ],
)
def test_the_same_device_is_listed_once(jack, alsa):
    both = ports.merged((MidiPort(jack, True),), (MidiPort(alsa, True, ALSA), MidiPort(alsa, False, ALSA)))
    assert both == (MidiPort(jack, True, JACK), MidiPort(alsa, False, ALSA))


def test_our_own_ports_are_nobody_elses_also_behind_a_bridge():
    for name in (
        "Pure Signal:out 1",
        "bridge:Pure Signal [128] (capture): out 1",
        "Bridge:Pure Signal:(capture_0) out 1",
    ):
        assert ports.is_own(name)
        assert ports.find((MidiPort(name, True),), name, True) is None
    assert not ports.is_own("Room:Pure Signal chain")


def test_ports_of_the_same_name_on_two_devices_are_two():
    both = ports.merged((MidiPort("bridge:Desk:(capture_0) MIDI 1", True),), (MidiPort("Rack:MIDI 1", True, ALSA),))
    assert len(both) == 2


def test_two_ports_of_one_device_are_two():
    both = ports.merged(
        (MidiPort("bridge:Desk [20] (capture): Desk MIDI 1", True),), (MidiPort("Desk:Desk MIDI 2", True, ALSA),)
    )
    assert len(both) == 2


CLOCK_SLACK = 0.3
"""Seconds that a busy machine may take."""


class Sequencer:
    """A stand-in for the ALSA sequencer that records what the router does."""

    def __init__(self):
        self.ports, self.joined, self.sent, self.coming = [], [], [], queue.Queue()
        self._buffer, self.subscribers, self.parsers = [], [], []
        self._fd, self.handle, self.full = os.eventfd(0), None, 0
        made = ffi.new("snd_midi_event_t **")
        alsa.snd_midi_event_new(12, made)
        self._decoder = made[0]
        alsa.snd_midi_event_no_status(self._decoder, 1)

    def put(self, event, code=28):
        self.coming.put((code, event))
        os.eventfd_write(self._fd, 1)

    def play(self, port, message):
        """A message arrives at one of our ports."""
        made = ffi.new("snd_midi_event_t **")
        alsa.snd_midi_event_new(1024, made)
        event = ffi.new("snd_seq_event_t *")
        assert alsa.snd_midi_event_encode(made[0], message, len(message), event) == len(message)
        event.dest.port = port
        # The bytes of a long one are with the parser, which is kept.
        self.parsers.append(made)
        self.put(event)

    def create_queue(self, name):
        return SimpleNamespace(start=lambda: None)

    def set_client_pool_input(self, size):
        self.pool = size

    set_client_pool_output = set_client_pool_input

    def list_port_subscribers(self, port, kind):
        return self.subscribers if port.name == "in 1" else []

    def create_port(self, name, caps, kind=None, **stamps):
        made = SimpleNamespace(
            name=name, port_id=len(self.ports),
            connect_from=lambda info: self.joined.append((info.name, name)),
            connect_to=lambda info: self.joined.append((name, info.name)),
            disconnect_from=lambda address: self.subscribers.clear(), client_id=77,
        )  # fmt: skip
        self.ports.append(made)
        return made

    def list_ports(self, input=None, output=None, sort=True):
        kit, own = (
            SimpleNamespace(client_name="Harbour", name="MIDI 1", client_id=20, port_id=0),
            SimpleNamespace(client_name="Pure Signal", name="x"),
        )
        return [kit, own] if input else [SimpleNamespace(client_name="Room", name="in", client_id=21, port_id=0)]

    def event_output(self, event, port):
        # As the library does it: nothing leaves before the buffer is drained.
        self._buffer.append((port.name, event.midi_bytes))

    def __getattr__(self, name):
        # The functions that need no sequencer are the library's own.
        return getattr(alsa, name)

    def snd_seq_event_input(self, handle, into):
        try:
            code, self._event = self.coming.get_nowait()
        except queue.Empty:
            return -errno.EAGAIN
        into[0] = ffi.NULL if self._event is None else self._event
        return code

    def snd_seq_event_input_pending(self, handle, fetch):
        return self.coming.qsize()

    def snd_seq_event_output_direct(self, handle, event):
        if self.full:
            self.full -= 1
            return -errno.EAGAIN
        assert (event.queue, event.dest.client) == (alsa.SND_SEQ_QUEUE_DIRECT, alsa.SND_SEQ_ADDRESS_SUBSCRIBERS)
        into = ffi.new("char[]", 12)
        size = alsa.snd_midi_event_decode(self._decoder, into, 12, event)
        self.sent.append((self.ports[event.source.port].name, ffi.unpack(into, size)))
        return 28

    def drain_output(self):
        self.sent += self._buffer
        self._buffer = []

    def close(self):
        os.close(self._fd)


def test_alsa_is_listed_joined_read_and_written():
    sequencer = Sequencer()
    assert [p for p, _ in alsa_ports.ports_of(sequencer)] == [
        MidiPort("Harbour:MIDI 1", True, ALSA), MidiPort("Room:in", False, ALSA),
    ]  # fmt: skip
    client = alsa_ports.AlsaClient(sequencer, 2, 1, lambda: told.append(1), AlsaMessages(sequencer, sequencer))
    client.look()

    def join(gives, number, wanted, before=None):
        return client.join(gives, number, wanted, before, lambda: lost.append(wanted))

    lost, told = [], []
    assert join(True, 1, "Harbour:MIDI 1") == "Harbour:MIDI 1"
    assert join(False, 0, "Room:in") == "Room:in"
    assert join(True, 0, "nobody") is None
    assert join(True, 0, "harbour") == "Harbour:MIDI 1"
    assert sequencer.joined == [("MIDI 1", "in 2"), ("out 1", "in"), ("MIDI 1", "in 1")]
    # Once joined, it is left alone.
    assert join(True, 0, "harbour", "Harbour:MIDI 1") == "Harbour:MIDI 1"
    assert len(sequencer.joined) == 3
    begun = time.monotonic()
    sequencer.play(1, b"\x99\x26\x5a")
    sequencer.put(ffi.new("snd_seq_event_t *", {"type": int(alsa_midi.EventType.PORT_SUBSCRIBED)}))
    sequencer.play(1, b"\x89\x26\x00")
    client.read()
    assert [(n, d) for _, n, d in client.incoming] == [(1, b"\x99\x26\x5a"), (1, b"\x89\x26\x00")]
    assert begun <= client.incoming[0][0] <= time.monotonic()
    client.send(0, b"\x99\x1a\x5a")
    assert sequencer.sent == [("out 1", b"\x99\x1a\x5a")]
    client.run_threads()
    sequencer.play(1, b"\x99\x26\x5b")
    until(lambda: len(client.incoming) == 3, 3)
    client.send(0, b"\x99\x1a\x5b")
    until(lambda: len(sequencer.sent) == 2, 3)
    # A device goes and is back under the address it had.
    gone = ffi.new("snd_seq_event_t *", {"type": int(alsa_midi.EventType.PORT_EXIT)})
    gone.data.addr.client, gone.data.addr.port = 20, 0
    sequencer.put(gone)
    until(lambda: told, 3)
    client.look()
    assert join(True, 0, "harbour", "Harbour:MIDI 1") == "Harbour:MIDI 1"
    assert lost == ["harbour"]
    assert sequencer.joined[3:] == [("MIDI 1", "in 1")]
    # Our own output into our own input would loop.
    sequencer.subscribers.append(SimpleNamespace(addr=SimpleNamespace(client_id=77, port_id=2)))
    join(True, 0, "harbour", "Harbour:MIDI 1")
    assert not sequencer.subscribers
    assert list(client.cut) == [0]
    client.close()


@pytest.mark.parametrize(
    "message",
    [
        bytes((status | 9, *data[:size]))
        for status, size in ((0x80, 2), (0x90, 2), (0xA0, 2), (0xB0, 2), (0xC0, 1), (0xD0, 1), (0xE0, 2))
        for data in ((0, 0), (127, 127), (38, 90))
    ] + [b"\xf2\x05\x06", b"\xf8", b"\xfa", b"\xfe", b"\xf0" + bytes(range(100)) + b"\xf7"],
    ids=bytes.hex,
)  # fmt: skip
def test_every_message_comes_and_leaves_as_it_is(message):
    sequencer = Sequencer()
    client = alsa_ports.AlsaClient(sequencer, 2, 2, lambda: None, AlsaMessages(sequencer, sequencer))
    sequencer.play(1, message)
    sequencer.play(0, b"\x99\x26\x5b")
    client.read()
    assert [(number, data) for _, number, data in client.incoming] == [(1, message), (0, b"\x99\x26\x5b")]
    sequencer.full = 3
    client.send(1, message)
    client.send(0, b"\x90\x3c\x01")
    assert sequencer.sent == [("out 2", message), ("out 1", b"\x90\x3c\x01")]
    client.close()


def test_a_value_of_14_bits_arrives_as_its_two_messages():
    sequencer, found = Sequencer(), []
    event = ffi.new("snd_seq_event_t *", {"type": int(alsa_midi.EventType.CONTROL14)})
    event.data.control.channel, event.data.control.param, event.data.control.value = 2, 7, 1000
    sequencer.put(event)
    AlsaMessages(sequencer, sequencer).receive(found)
    assert [one.data for one in found] == [b"\xb2\x07\x07", b"\xb2\x27\x68"]
    sequencer.close()


def test_a_sequencer_that_stays_full_costs_a_moment_and_is_counted():
    sequencer = Sequencer()
    client = alsa_ports.AlsaClient(sequencer, 1, 1, lambda: None, AlsaMessages(sequencer, sequencer))
    sequencer.full = 10**9
    begun = time.monotonic()
    client.send(0, b"\x90\x3c\x01")
    assert time.monotonic() - begun < 0.25 + CLOCK_SLACK
    assert (client.lost, sequencer.sent) == (1, [])
    sequencer.full = 0
    client.send(0, b"\x80\x3c\x01")
    assert sequencer.sent == [("out 1", b"\x80\x3c\x01")]
    client.close()


def test_a_closed_client_is_neither_read_nor_written():
    # The real functions: with a handle that was freed they would end the program.
    closed = SimpleNamespace(handle=None, _fd=-1)
    messages = AlsaMessages(closed)
    with pytest.raises(TypeError):
        messages.receive([])
    with pytest.raises(TypeError):
        messages.send(SimpleNamespace(port_id=0), b"\x90\x3c\x01")


def test_what_the_kernel_dropped_is_counted_and_the_rest_read():
    sequencer = Sequencer()
    client = alsa_ports.AlsaClient(sequencer, 1, 1, lambda: None, AlsaMessages(sequencer, sequencer))
    sequencer.play(0, b"\x99\x26\x5a")
    sequencer.put(None, -errno.ENOSPC)
    sequencer.play(0, b"\x99\x26\x5b")
    client.read()
    assert client.lost == 1
    client.read()
    assert [data for *_, data in client.incoming] == [b"\x99\x26\x5a", b"\x99\x26\x5b"]
    client.close()


def test_a_message_gets_the_time_that_the_kernel_gave_it():
    clock = alsa_ports.KernelClock()
    # Read 40 ms late, 1 ms late, 25 ms late: the best reading tells where the queue's zero lies.
    assert clock.to_monotonic(1.000, 101.040) == pytest.approx(101.040)
    assert clock.to_monotonic(2.000, 102.001) == pytest.approx(102.001)
    assert clock.to_monotonic(3.000, 103.025) == pytest.approx(103.001)
    # A queue that runs 1 ms a second slower is followed.
    late = [clock.to_monotonic(3 + i * 0.999, 103.001 + i) - (103.001 + i) for i in range(1, 100)]
    assert max(map(abs, late)) < 0.03


def test_without_a_sequencer_alsa_is_silently_absent(monkeypatch, tmp_path, capfd):
    monkeypatch.setattr(alsa_ports, "DEVICE", tmp_path / "seq")
    assert alsa_ports.listing() == ()
    assert alsa_ports.open_client("x") is None
    assert capfd.readouterr().err == ""
