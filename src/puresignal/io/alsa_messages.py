"""MIDI messages read from and written to the ALSA sequencer by its C functions, without an object for each event.

On a slow machine the objects of the binding take longer than everything else that happens to a message.
"""

from __future__ import annotations

import errno
import os
import select
import time
from typing import Any, NamedTuple

MESSAGE = 3
"""Bytes of the longest message that is not a system exclusive one."""
PARTS = 12
"""Bytes of the longest event that stands for several messages: a parameter number with a 14-bit value."""
FULL_WAIT = 0.2
"""Seconds that a full sequencer is waited for, in all: nothing may hang longer than a quarter."""


class Received(NamedTuple):
    """port: number of our own port; stamp: seconds of the queue that the port stamps with, 0 without one."""

    port: int
    stamp: float
    data: bytes


class Announced(NamedTuple):
    """A port came, went or changed."""

    address: tuple[int, int]


class AlsaMessages:
    """Reads and writes for a client of the sequencer. One thread may read while another writes.

    client  alsa_midi.SequencerClient
    calls   the C functions, by default those of the library
    """

    def __init__(self, client: Any, calls: Any = None):
        import alsa_midi

        # The binding has no public name for what it is made of.
        from alsa_midi._ffi import alsa, ffi

        self._client, self._calls, self._ffi = client, calls or alsa, ffi
        kinds = alsa_midi.EventType
        self._system_exclusive, self._none = int(kinds.SYSEX), int(kinds.NONE)
        self._messages = frozenset(int(kind) for kind in alsa_midi.event.MIDI_BYTES_EVENTS)
        self._announcements = frozenset((int(kinds.PORT_START), int(kinds.PORT_EXIT), int(kinds.PORT_CHANGE)))
        self._event = ffi.new("snd_seq_event_t **", ffi.NULL)
        self._bytes = ffi.new("char[]", PARTS)
        self._decoder, self._encoder = self._parser(), self._parser()
        self._leaving: dict[int, Any] = {}
        self._whole = alsa_midi.MidiBytesEvent

    def _parser(self) -> Any:
        made = self._ffi.new("snd_midi_event_t **")
        if self._calls.snd_midi_event_new(PARTS, made) < 0:
            raise MemoryError
        parser = self._ffi.gc(made[0], self._calls.snd_midi_event_free)
        # Every message comes with its status byte.
        self._calls.snd_midi_event_no_status(parser, 1)
        return parser

    def receive(self, into: list[Received | Announced]) -> None:
        """Add everything that has arrived to a list; never waits.

        Raises OSError if the kernel had to drop events because they were not read in time; TypeError once closed
        """
        # Asked for each time: a closed client has none, and the old one is freed memory.
        calls, handle = self._calls, self._client.handle
        while True:
            code = calls.snd_seq_event_input(handle, self._event)
            if code == -errno.EAGAIN:
                return
            if code < 0:
                raise OSError(-code, os.strerror(-code))
            self._decode(self._event[0], into)
            # The library has fetched all there was: what comes from here on wakes the reader again.
            if not calls.snd_seq_event_input_pending(handle, 0):
                return

    def _decode(self, event: Any, found: list[Received | Announced]) -> None:
        kind = event.type
        if kind in self._messages:
            size, into = PARTS, self._bytes
            if kind == self._system_exclusive:
                size = event.data.ext.len
                into = self._ffi.new("char[]", size)
            size = self._calls.snd_midi_event_decode(self._decoder, into, size, event)
            if size <= 0:
                return
            real = event.time.time
            stamp, data = real.tv_sec + real.tv_nsec * 1e-9, self._ffi.unpack(into, size)
            if size <= MESSAGE or kind == self._system_exclusive:
                found.append(Received(event.dest.port, stamp, data))
                return
            for begin in range(0, size, MESSAGE):
                found.append(Received(event.dest.port, stamp, data[begin : begin + MESSAGE]))
        elif kind in self._announcements:
            address = event.data.addr
            found.append(Announced((address.client, address.port)))

    def send(self, port: Any, message: bytes) -> None:
        """Send a message from one of our ports to everything connected to it, at once.

        Raises OSError if the sequencer does not take it; TypeError once closed
        """
        if len(message) > MESSAGE:
            self._client.event_output(self._whole(message), port=port)
            # It waits in the library's buffer until told to leave.
            self._client.drain_output()
            return
        event = self._leaving.get(port.port_id)
        if event is None:
            event = self._leaving[port.port_id] = self._from(port.port_id)
        size = len(message)
        if self._calls.snd_midi_event_encode(self._encoder, message, size, event) < size or event.type == self._none:
            return
        end = None
        while (code := self._calls.snd_seq_event_output_direct(self._client.handle, event)) == -errno.EAGAIN:
            now = time.monotonic()
            end = now + FULL_WAIT if end is None else end
            if now >= end:
                break
            waiting = select.poll()
            waiting.register(self._client._fd, select.POLLOUT)
            waiting.poll(1000 * (end - now))
        if code < 0:
            raise OSError(-code, os.strerror(-code))

    def _from(self, port: int) -> Any:
        """An event that leaves at once, from a port to whatever is connected to it."""
        event = self._ffi.new("snd_seq_event_t *")
        event.queue = self._calls.SND_SEQ_QUEUE_DIRECT
        event.source.port = port
        event.dest.client = self._calls.SND_SEQ_ADDRESS_SUBSCRIBERS
        event.dest.port = self._calls.SND_SEQ_ADDRESS_UNKNOWN
        return event
