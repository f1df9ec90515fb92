"""The router's work for one block: messages in, through the path, messages out. Knows no port system.

Everything here runs in the port callback: it must not wait, log, or raise.
"""

from __future__ import annotations

import heapq
import time
from collections import deque
from typing import NamedTuple

from puresignal.core.midi import messages
from puresignal.core.midi.messages import NOTE_OFF, NOTE_ON
from puresignal.core.path import live
from puresignal.core.path.cleaning_path import LivePath
from puresignal.core.path.live import LiveEvent
from puresignal.core.path.pair import FINE, whole_and_fine
from puresignal.engine.sounding_notes import KEYS, SoundingNotes, Table

ECHO_SECONDS = 0.02
"""Seconds within which one of our messages coming back may be an echo; no hand repeats a stroke exactly so soon."""
ECHO_ROUNDS = 3
"""Number of round trips, each within that time and at the same velocity, that make a loop."""
ECHO_QUIET = 2.0
"""Seconds without an echo after which a loop counts as gone."""


HISTORY = 2048
"""Messages from which a path that takes over learns what its predecessor knew."""
SENT_LATELY = 256
"""Notes that a path which takes over must not send again: more than any look-ahead holds."""
QUIET_SECONDS = 70
"""Longer than a note may be held before it is ended."""


class Route(NamedTuple):
    """Where a track of a lane goes.

    out      whether it leaves at all
    channel  1..16 for everything on it, 0 for each note's own
    outputs  None for the lane's
    late     seconds by which it leaves later
    gain     factor of its velocities
    """

    out: bool = True
    channel: int = 0
    outputs: tuple[int, ...] | None = None
    late: float = 0.0
    gain: float = 1.0


class Lane(NamedTuple):
    """One player's route: path, what it listens to (input -1 and channel 0: everything), its outputs, and what it takes
    of its inputs (see core/session/live_input.py); for each track of the path where it goes; further inputs and their
    channels; seconds by which everything leaves later. The path counts the lane's own inputs from 0.
    """

    path: LivePath
    input: int
    channel: int
    outputs: tuple[int, ...]
    takes: str = "all"
    routes: tuple[Route, ...] = ()
    more: tuple[tuple[int, int], ...] = ()
    late: float = 0.0

    def listens_to(self, port: int, status: int) -> bool:
        channel = (status & messages.CHANNEL) + 1
        heard = self.input in (-1, port) and self.channel in (0, channel)
        if not heard and self.more:
            heard = any(to == port and only in (0, channel) for to, only in self.more)
        return heard and messages.is_taken(status, self.takes)

    def own(self, port: int) -> int:
        """An input by the lane's own count."""
        if self.input in (-1, port):
            return port if self.input < 0 else 0
        return next((i for i, (to, _) in enumerate(self.more, 1) if to == port), 0)

    def is_like(self, other: Lane) -> bool:
        """Whether it listens to the same, so that it can take over in the middle of playing."""
        mine, theirs = (self.input, self.channel, self.takes, self.more), (other.input, other.channel, other.takes)
        return mine == (*theirs, other.more)


def _as_files_read(item: tuple[int, int, bytes]) -> tuple[int, bool]:
    """Sort key: at one frame controllers come before notes, as in a file, so the pedal counts for its hit."""
    offset, _, message = item
    kind = message[0] & messages.KIND if message else 0
    control = kind in (messages.PROGRAM, messages.BEND) or (kind == messages.CONTROL and message[1:2] < b"\x78")
    return offset, not control


class Router:
    """Turns the messages of a block into those to send.

    sounding  what sounds at the receivers
    left      messages of the block that there was no time for
    loops     inputs that receive our own output back, with the second of the last time
    """

    def __init__(self, rate: int, lanes: list[Lane], table: Table | None = None):
        """table: shared memory that outlives the router, see sounding_notes.py."""
        self.rate = rate
        self._lanes = lanes
        self.sounding = SoundingNotes(table)
        self._number = 0
        self._next: list[Lane] | None = None
        self._taken_over = 0
        self._alive: list[set[tuple[int, int]]] = []
        self._history: deque[tuple[float, int, int, int, int, int]] = deque(maxlen=HISTORY)
        self._held: dict[tuple[int, int, int], tuple[int, int, tuple[int, ...], float]] = {}
        # What leaves later by its track's offset: (frame, number, output, message), the soonest first.
        self._later: list[tuple[int, int, int, bytes]] = []
        self._later_number = 0
        self._sent_lately: dict[tuple[int, int, int], None] = {}
        self._unplugged: list[int] = []
        self.left: list[tuple[int, int, bytes]] = []
        self._panic = False
        self._sent: dict[bytes, tuple[float, int]] = {}
        self._round, self._now = 0, 0
        self._played: dict[int, int] = {}
        self._heard_at = -(1 << 62)
        self._asks, self._asleep_at = 0, -1
        self.seconds_now = 0.0
        self.loops: dict[int, float] = {}
        self.errors = 0

    def use(self, lanes: list[Lane]) -> None:
        """Use other paths from the next block on. Not to be called from the callback.

        Where a path listens to what its predecessor did, it knows what that knew, and what sounds goes on unless the
        new path removes it; all else that sounds is ended.
        """
        self._taken_over, self._alive = 0, [set() for _ in lanes]
        if self._may_take_over(lanes):
            # Most of it here, so that the callback has little left to do.
            self._learn(lanes)
        self._next = lanes
        self._asks += 1

    def _learn(self, lanes: list[Lane]) -> None:
        """Let other paths hear what was played lately, sending nothing; remember what sounds in them."""
        for at, port, status, data1, data2, number in self._heard_lately():
            if number <= self._taken_over:
                continue
            self._taken_over = number
            for lane, alive in zip(lanes, self._alive, strict=True):
                if lane.listens_to(port, status):
                    _follow(alive, lane.path.message(at, lane.own(port), status, data1, data2, number))

    def _may_take_over(self, lanes: list[Lane]) -> bool:
        return len(lanes) == len(self._lanes) and all(
            new.is_like(old) for new, old in zip(lanes, self._lanes, strict=True)
        )

    def _heard_lately(self) -> list[tuple[float, int, int, int, int, int]]:
        while True:
            try:
                return list(self._history)
            except RuntimeError:
                # The callback added to it meanwhile.
                continue

    def _change(self, out: list[tuple[int, int, bytes]]) -> None:
        """Go on with the other paths."""
        lanes = self._next
        assert lanes is not None
        goes_on = self._may_take_over(lanes)
        self._lanes, self._next = lanes, None
        if not goes_on:
            self._held.clear()
            out += self._released()
            return
        self._learn(lanes)
        for slot, alive in enumerate(self._alive):
            for key in [key for key in self._held if key[0] == slot and key[1:] not in alive]:
                channel, note, outputs, late = self._held.pop(key)
                for output in outputs:
                    if self.sounding.ends(output * KEYS + (channel - 1) * 128 + note):
                        end = messages.note_off(channel, note)
                        if late > 0:
                            # Its beginning may still be to come.
                            self._put_later(self._now + round(late * self.rate), output, end)
                        else:
                            out.append((0, output, end))

    def connected(self, output: int) -> None:
        """An output was connected: what may still sound there is ended."""
        self.sounding.connected(output)
        self._asks += 1

    def panic(self) -> None:
        """End everything in the next block, including notes that we did not start."""
        self._panic = True
        self._asks += 1

    def unplug(self, port: int) -> None:
        """An input disappeared: end its notes in the next block."""
        self._unplugged.append(port)
        self._asks += 1

    @property
    def is_asleep(self) -> bool:
        """Whether an empty block may be skipped: nothing is held, and nothing was requested since."""
        return self._asleep_at == self._asks

    def is_busy(self) -> bool:
        """Whether something sounds or is waiting."""
        return not self.sounding.is_silent() or self._panic or self._next is not None or bool(self._later)

    def cycle(
        self, frame: int, frames: int, incoming: list[tuple[int, int, bytes]], until: float = float("inf")
    ) -> list[tuple[int, int, bytes]]:
        """The messages to send in a block.

        frame, frames  first frame of the block, and its length
        incoming       (offset in the block, input, message), sorted here; a message with a negative offset arrived
                       before the block and leaves at its start
        until          seconds of the performance counter after which no further message is begun: `left` has the rest
        Returns        (offset, output, message), rising by offset
        """
        out: list[tuple[int, int, bytes]] = []
        self.seconds_now, self._now = self._seconds(frame), frame
        asks, self._asleep_at = self._asks, -1
        try:
            out += [_end_of(key) for key in self.sounding.next_block()]
            if self._panic:
                self._panic = False
                out += self._released()
                outputs = {o for lane in self._lanes for o in lane.outputs}
                out += [
                    (0, output, messages.control(channel, mode, 0))
                    for output in sorted(outputs)
                    for channel in range(1, 17)
                    for mode in (messages.ALL_SOUND_OFF, messages.ALL_NOTES_OFF)
                ]
            if self._next is not None:
                self._change(out)
            while self._unplugged:
                self._unplug(self._unplugged.pop(), frame, frames, out)
            if len(incoming) > 1:
                incoming.sort(key=_as_files_read)
            self.left = []
            for place, (offset, port, message) in enumerate(incoming):
                # Hits of one frame stay together: of those on one note only the loudest leaves.
                if place and offset != incoming[place - 1][0] and time.perf_counter() > until:
                    self.left = incoming[place:]
                    break
                self._take(frame, frames, offset, port, message, out)
            if incoming:
                self._heard_at = frame
            elif frame - self._heard_at > QUIET_SECONDS * self.rate:
                # Nothing has arrived for longer than anything can be held, so there is nothing to do.
                if self.sounding.is_settled and not self._later:
                    self._asleep_at = asks
                if not self._later:
                    return out
            end = self._seconds(frame + frames - 1)
            for slot, lane in enumerate(self._lanes):
                leaving = lane.path.advance(end)
                if leaving:
                    self._send(leaving, slot, frame, frames, out)
            if self._later and self._later[0][0] < frame + frames:
                while self._later and self._later[0][0] < frame + frames:
                    at, _, output, message = heapq.heappop(self._later)
                    out.append((max(0, at - frame), output, message))
                out.sort(key=lambda item: item[0])
        except Exception:
            # An error here must not stop the music; it is counted and reported from outside the callback.
            self.errors += 1
        return out

    def play(self, output: int, message: bytes) -> bytes:
        """Send a message of playback, which bypasses the paths. Returns the bytes to send, empty for none."""
        kind = message[0] & messages.KIND
        if kind not in (NOTE_OFF, NOTE_ON) or len(message) < 3:
            return message
        key = output * KEYS + (message[0] & messages.CHANNEL) * 128 + message[1]
        if kind == NOTE_ON and message[2]:
            self.sounding.began(key)
            self._played[key] = self._played.get(key, 0) + 1
            self._remember(message, self.seconds_now, 0)
            return message
        held = self._played.pop(key, 0)
        if held > 1:
            self._played[key] = held - 1
        return message if held and self.sounding.ends(key) else b""

    def release_played(self) -> list[tuple[int, bytes]]:
        """Note-offs for the notes that playback started: (output, message)."""
        out = []
        for key, held in list(self._played.items()):
            for _ in range(held):
                output, note = key // KEYS, key % KEYS
                message = self.play(output, messages.note_off(note // 128 + 1, note % 128))
                if message:
                    out.append((output, message))
        self._played.clear()
        return out

    def release(self) -> list[tuple[int, int, bytes]]:
        """End everything that sounds, at the start of the block."""
        return self._released()

    def ended_lately(self, busy: bool) -> list[tuple[int, int, bytes]]:
        """Ends that may have been lost on the way, once more. busy: the machine was late for blocks."""
        return [_end_of(key) for key in self.sounding.ended_lately(busy)]

    def _take(
        self, frame: int, frames: int, offset: int, port: int, message: bytes, out: list[tuple[int, int, bytes]]
    ) -> None:
        size = len(message)
        status = message[0] if size else 0
        # System messages, and messages that lost their data on the wire, are not played.
        if not NOTE_OFF <= status < messages.SYSTEM or size < messages.length(status):
            return
        data1, data2 = message[1], message[2] if size > 2 else 0
        if data1 > 127 or data2 > 127:
            return
        self._number += 1
        at = self._seconds(frame + offset)
        if NOTE_ON <= status < messages.POLY_PRESSURE and data2 and self._is_echo(message, at, port, frames):
            return
        self._history.append((at, port, status, data1, data2, self._number))
        for slot, lane in enumerate(self._lanes):
            if lane.listens_to(port, status):
                leaving = lane.path.message(at, lane.own(port), status, data1, data2, self._number)
                self._send(leaving, slot, frame, frames, out, max(0, offset))
        self._round = 0

    def _is_echo(self, message: bytes, at: float, port: int, frames: int) -> bool:
        """Whether a note-on is one of ours that came back in a loop.

        Each note-on sent is remembered with its number of round trips; one that comes in exactly equal, sooner than
        a hand
        could repeat it, has made one more. What a loop brings back is dropped until it has been quiet for a while.
        """
        before = self._sent.get(message)
        self._round = 0
        if before is None or not 0 <= at - before[0] <= max(ECHO_SECONDS, 3.5 * frames / self.rate):
            return False
        self._round = before[1] + 1
        known = port in self.loops and at - self.loops[port] < ECHO_QUIET
        if self._round < ECHO_ROUNDS and not known:
            return False
        self.loops[port] = at
        return True

    def _unplug(self, port: int, frame: int, frames: int, out: list[tuple[int, int, bytes]]) -> None:
        at = self._seconds(frame)
        for slot, lane in enumerate(self._lanes):
            for own_port, channel, note in lane.path.pair.sounding():
                if own_port == lane.own(port) and lane.listens_to(port, NOTE_OFF | channel - 1):
                    self._number += 1
                    self._history.append((at, port, 0x7F + channel, note, 64, self._number))
                    leaving = lane.path.message(at, own_port, 0x7F + channel, note, 64, self._number)
                    self._send(leaving, slot, frame, frames, out)

    def _seconds(self, frame: int) -> float:
        return round(frame * 50_000 / self.rate) / 50_000

    def _send(
        self, events: list[LiveEvent], slot: int, frame: int, frames: int, out: list[tuple[int, int, bytes]],
        offset: int = -1,
    ) -> None:  # fmt: skip
        """Messages for events of a lane. Ends that were due keep their own time as far as it lies in the block."""
        lane = self._lanes[slot]
        for event in events:
            outputs, late = self._routed(event, slot, lane)
            if event.kind == live.LOUDER:
                self._raise(event, outputs, out)
                continue
            place = offset
            if lane.path.delay:
                place = min(frames - 1, max(0, round((event.at + lane.path.delay) * self.rate) - frame))
            elif offset < 0 or event.kind == live.OFF:
                place = min(frames - 1, max(0, round(event.at * self.rate) - frame))
                if offset >= 0:
                    place = min(place, offset)
            if late > 0:
                self._send_later(event, outputs, frame + place + round(late * self.rate))
                continue
            if out and place < out[-1][0]:
                place = out[-1][0]
            for output in outputs:
                message = self._message(event, output)
                if event.kind == live.ON and event.velocity != message[2]:
                    fine = whole_and_fine(event.velocity)[1] or 0
                    out.append((place, output, messages.control(event.channel, FINE, fine)))
                if message:
                    out.append((place, output, message))

    def _send_later(self, event: LiveEvent, outputs: tuple[int, ...], at: int) -> None:
        """Keep an event's messages until a frame."""
        for output in outputs:
            message = self._message(event, output)
            if event.kind == live.ON and event.velocity != message[2]:
                fine = whole_and_fine(event.velocity)[1] or 0
                self._put_later(at, output, messages.control(event.channel, FINE, fine))
            if message:
                self._put_later(at, output, message)

    def _put_later(self, at: int, output: int, message: bytes) -> None:
        self._later_number += 1
        heapq.heappush(self._later, (at, self._later_number, output, message))

    def _routed(self, event: LiveEvent, slot: int, lane: Lane) -> tuple[tuple[int, ...], float]:
        """The outputs that an event goes to, after giving it its track's channel, and by how much later it leaves.

        An end goes where its note went
        """
        outputs, late = lane.outputs, lane.late
        if 0 <= event.track < len(lane.routes):
            route = lane.routes[event.track]
            outputs = outputs if route.outputs is None else route.outputs
            outputs = outputs if route.out else ()
            late = route.late
            event.channel = route.channel or event.channel
            if route.gain != 1.0 and event.kind in (live.ON, live.LOUDER):
                scaled = event.velocity * route.gain
                event.velocity = min(127, max(1, round(scaled) if event.velocity == int(event.velocity) else scaled))
        if event.kind == live.ON:
            key = slot, event.origin, event.branch
            if key in self._sent_lately:
                # A path that took over decides later than its predecessor, which has sent this one.
                return (), 0.0
            if len(self._sent_lately) >= SENT_LATELY:
                del self._sent_lately[next(iter(self._sent_lately))]
            self._sent_lately[key] = None
            if outputs:
                self._held[key] = event.channel, event.note, outputs, late
        elif event.kind == live.OFF:
            went = self._held.pop((slot, event.origin, event.branch), None)
            if went is not None:
                event.channel, event.note, outputs, late = went
        return outputs, late

    def _raise(self, event: LiveEvent, outputs: tuple[int, ...], out: list[tuple[int, int, bytes]]) -> None:
        """Make a note of this block louder: another hit on it came at the same frame."""
        whole, fine = whole_and_fine(event.velocity)
        message = messages.note_on(event.channel, event.note, whole)
        for output in outputs:
            for i in range(len(out) - 1, -1, -1):
                place, to, data = out[i]
                if to == output and data[:2] == message[:2]:
                    out[i] = place, to, message
                    self._remember(message, event.at, self._round)
                    prefix = messages.control(event.channel, FINE, 0)[:2]
                    if i and out[i - 1][1] == output and out[i - 1][2][:2] == prefix:
                        out[i - 1] = place, to, prefix + bytes((64 if fine is None else fine,))
                    break

    def _message(self, event: LiveEvent, output: int) -> bytes:
        channel = event.channel - 1
        if event.kind == live.CONTROL:
            if messages.length(event.status) == 2:
                return bytes((event.status | channel, event.note))
            return bytes((event.status | channel, event.note, int(event.velocity)))
        key = output * KEYS + channel * 128 + event.note
        if event.kind == live.ON:
            self.sounding.began(key)
            message = messages.note_on(event.channel, event.note, max(1, min(127, round(event.velocity))))
            self._remember(message, event.at, self._round)
            return message
        # Two tracks may sound the same note on the same channel: only the last end goes to the receiver.
        return messages.note_off(event.channel, event.note, event.release) if self.sounding.ends(key) else b""

    def _remember(self, message: bytes, at: float, rounds: int) -> None:
        """Remember a note-on that was sent, to recognise it if it comes back."""
        if len(self._sent) > 512:
            self._sent.clear()
        self._sent[message] = at, rounds

    def _released(self) -> list[tuple[int, int, bytes]]:
        self._later.clear()
        self._played.clear()
        self._held.clear()
        return [_end_of(key) for key in self.sounding.end_all()]


def _follow(alive: set[tuple[int, int]], events: list[LiveEvent]) -> None:
    """Keep the set of notes that sound, by origin and branch, up to date."""
    for event in events:
        if event.kind == live.ON:
            alive.add((event.origin, event.branch))
        elif event.kind == live.OFF:
            alive.discard((event.origin, event.branch))


def _end_of(key: int) -> tuple[int, int, bytes]:
    """(offset, output, message) that ends a sounding note at the start of a block."""
    return 0, key // KEYS, messages.note_off(key % KEYS // 128 + 1, key % 128)
