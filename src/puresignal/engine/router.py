"""The router's work in one block of time: messages in, through the path, messages out. Knows no port system.

Everything here runs in the port's callback: no waiting, no logging, no error out of it.
"""

from __future__ import annotations

from collections.abc import MutableSequence

from puresignal.core.path import live
from puresignal.core.path.live import LiveEvent
from puresignal.core.path.path import LivePath

WIRE_TAKES = 3
"""Blocks until a connection that was made is sure to carry."""

SOUNDING_SIZE = 16 * 128
"""Bytes of the table of sounding notes: one count for each channel and note."""


def _as_files_read(item: tuple[int, int, bytes]) -> tuple[int, bool]:
    """At one frame a controller comes before notes, as in a file: the pedal counts for the hit of its moment."""
    offset, _, message = item
    return offset, not (message[:1] >= b"\xb0" and message[:1] < b"\xc0" and message[1:2] < b"\x78")


class Router:
    """Turns a block's messages into those that leave.

    sounding  table of SOUNDING_SIZE counts of what sounds at the receiver; it may live in shared
              memory, so that whoever starts after a crash knows what has to be ended
    """

    def __init__(self, rate: int, path: LivePath, sounding: MutableSequence[int] | None = None):
        self.rate = rate
        self._path = path
        self._sounding = sounding if sounding is not None else bytearray(SOUNDING_SIZE)
        self._number = 0
        self._next: LivePath | None = None
        self._unplugged: list[int] = []
        self._release_in = -1
        self._panic = False
        self.errors = 0

    def use(self, path: LivePath) -> None:
        """Another path from the next block on; what sounds is ended there."""
        self._next = path

    def receiver_is_new(self) -> None:
        """An output has been joined: what may still sound there from before is ended, once the wire carries."""
        self._release_in = WIRE_TAKES

    def panic(self) -> None:
        """Ends everything in the next block, also what we know nothing of."""
        self._panic = True

    def unplug(self, port: int) -> None:
        """An input has gone: its notes are ended in the next block."""
        self._unplugged.append(port)

    def cycle(self, frame: int, frames: int, incoming: list[tuple[int, int, bytes]]) -> list[tuple[int, bytes]]:
        """What leaves in a block.

        frame, frames  first frame of the block, and its length
        incoming       (offset in the block, input, message), rising by offset
        Returns        (offset, message), rising by offset
        """
        out: list[tuple[int, bytes]] = []
        try:
            if self._release_in >= 0:
                self._release_in -= 1
                if self._release_in < 0:
                    out += self._released()
            if self._panic:
                self._panic = False
                out += self._released()
                out += [(0, bytes((0xB0 | channel, mode, 0))) for channel in range(16) for mode in (120, 123)]
            if self._next is not None:
                self._path, self._next = self._next, None
                out += self._released()
            while self._unplugged:
                self._send(self._ends_of(self._unplugged.pop(), self._seconds(frame)), frame, frames, out)
            if len(incoming) > 1:
                incoming = sorted(incoming, key=_as_files_read)
            for offset, port, message in incoming:
                self._take(frame, frames, offset, port, message, out)
            self._send(self._path.advance(self._seconds(frame + frames - 1)), frame, frames, out)
        except Exception:
            # An error here must not stop the music; it is counted and told from outside the callback.
            self.errors += 1
        return out

    def release(self) -> list[tuple[int, bytes]]:
        """Ends everything that sounds, at the block's start."""
        return self._released()

    def _take(
        self, frame: int, frames: int, offset: int, port: int, message: bytes, out: list[tuple[int, bytes]]
    ) -> None:
        size = len(message)
        status = message[0] if size else 0
        # System messages, and what has lost its data on the wire, are not playing.
        if not 0x80 <= status < 0xF0 or size < (2 if 0xC0 <= status < 0xE0 else 3):
            return
        data1, data2 = message[1], message[2] if size > 2 else 0
        if data1 > 127 or data2 > 127:
            return
        self._number += 1
        at = self._seconds(frame + offset)
        self._send(self._path.message(at, port, status, data1, data2, self._number), frame, frames, out, offset)

    def _ends_of(self, port: int, at: float) -> list[LiveEvent]:
        leaving = []
        for origin_port, channel, note in self._path.pair.sounding():
            if origin_port == port:
                self._number += 1
                leaving += self._path.message(at, port, 0x7F + channel, note, 64, self._number)
        return leaving

    def _seconds(self, frame: int) -> float:
        return round(frame * 50_000 / self.rate) / 50_000

    def _send(
        self, events: list[LiveEvent], frame: int, frames: int, out: list[tuple[int, bytes]], offset: int = -1
    ) -> None:
        """Messages for events. Ends that were due keep their own moment, as far as it lies in the block."""
        for event in events:
            place = offset
            if offset < 0 or event.kind == live.OFF:
                place = min(frames - 1, max(0, round(event.at * self.rate) - frame))
                if offset >= 0:
                    place = min(place, offset)
            if out and place < out[-1][0]:
                place = out[-1][0]
            message = self._message(event)
            if message:
                out.append((place, message))

    def _message(self, event: LiveEvent) -> bytes:
        channel = event.channel - 1
        if event.kind == live.CONTROL:
            if 0xC0 <= event.status < 0xE0:
                return bytes((event.status | channel, event.note))
            return bytes((event.status | channel, event.note, int(event.velocity)))
        key = channel * 128 + event.note
        if event.kind == live.ON:
            self._sounding[key] = min(255, self._sounding[key] + 1)
            return bytes((0x90 | channel, event.note, max(1, min(127, round(event.velocity)))))
        # Two tracks may sound one note of one channel: only the last end is the receiver's.
        count = self._sounding[key]
        if not count:
            return b""
        self._sounding[key] = count - 1
        return bytes((0x80 | channel, event.note, event.release)) if count == 1 else b""

    def _released(self) -> list[tuple[int, bytes]]:
        out = []
        for key in range(SOUNDING_SIZE):
            if self._sounding[key]:
                self._sounding[key] = 0
                out.append((0, bytes((0x80 | key // 128, key % 128, 64))))
        return out
