"""Playback of a score by frames: what is due is handed to the router ahead of time."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.path.pair import FINE
from puresignal.core.timing.beat_table import BeatTable
from puresignal.core.timing.clock_follower import CONTINUE, POSITION, START, TICKS
from puresignal.core.timing.clock_follower import STOP as CLOCK_STOP
from puresignal.core.timing.clock_follower import TICK as TICK_BYTE
from puresignal.engine.held_steps import HeldSteps
from puresignal.engine.ring import Writer
from puresignal.engine.round_echo import RoundEcho
from puresignal.engine.shared_counters import SharedCounters
from puresignal.engine.transport_log import MOVED, PLAY, ROUND, STOP, TransportLog

TICK = 0.004
AHEAD = 0.02
"""Seconds by which messages are handed over before their frame; at least two blocks."""
RELEASE, FORGET, CUT = b"\xf7", b"\xfd", b"\xf4"
"""Commands to the router between messages: end the played notes at a frame; forget messages from a frame on; both, at
once. None of them is a message that could be played.
"""
ROW = 12
"""Bytes of an event in a score: its second (float64), then output, status, data 1 and data 2."""


class Player:
    """Playback state. Times of the score are in seconds, those of the feed in frames."""

    def __init__(self, feed: Writer, transport: SharedCounters, log: TransportLog | None = None):
        self._feed, self._transport, self._log = feed, transport, log
        self.echo = RoundEcho()
        self.held = HeldSteps()
        # Seconds of the score before bar 1; and whether it goes on after the score's last note, as a recording does.
        self.shift, self.endless = 0.0, False
        self.beats = BeatTable()
        self._clock_to: tuple[int, ...] = ()
        self._tick = 0
        # Seconds of the rounds of the loop that are over.
        self._rounds = 0.0
        self._at, self._data = np.zeros(0), np.zeros((0, 4), np.uint8)
        self._first: list[tuple[int, bytes]] = []
        self.playing = False
        self._origin_frame, self._origin = 0, 0.0
        # Frames a second of the clock, and of the score, which is played slower or faster.
        self._clock_rate, self._rate, self._speed = 48_000, 48_000.0, 1.0
        self._loop: tuple[float, float] | None = None
        self._next = 0
        self._done = 0
        self._handed = feed.count
        self._starts: list[tuple[int, int, bytes]] = []
        # Whether another program says when it starts and stops.
        self.driven = False
        # Its tempo in thousandths of a BPM, 0 if unknown, and one of the states of outside_time.py.
        self.master = (0, 0)

    def use(self, at: np.ndarray, data: np.ndarray, moved: tuple[np.ndarray, np.ndarray] | None = None) -> None:
        """Use another score at once: messages handed over but not yet played are taken back.

        at     (events,) seconds, rising
        data   (events, 4) uint8: output, status, data 1, data 2
        moved  (knots,) seconds of the score before and those of this one that are the same beats: the position is
               carried over from what has been handed over, so that a change of tempo takes effect there
        """
        if self.playing and moved is not None:
            here = self.seconds_at(self._done)
            self._origin_frame, self._origin = self._done, float(np.interp(here, *moved))
            self._tell(MOVED, self._done)
        held = self._sounding() if self.playing else {}
        self._at, self._data = at, data
        if self.playing:
            self._feed.put(float(self._done), 0, FORGET)
            self._next = int(np.searchsorted(self._at, self.seconds_at(self._done) - 1e-9))
            self._tick = math.ceil(self.beats.beat_of(self.seconds_at(self._done)) * TICKS - 1e-6)
            # What sounds on in this score too is not cut: while recording there is another score every few seconds.
            still = self._sounding()
            for (output, channel, note), times in sorted(held.items()):
                for _ in range(times if (output, channel, note) not in still else 0):
                    self._feed.put(float(self._done), output, bytes((messages.NOTE_OFF | channel, note, 64)))
        self._publish()

    def _sounding(self) -> dict[tuple[int, int, int], int]:
        """Notes that the score has begun and not ended before the next event: (output, channel, note) and how often."""
        data = self._data[: self._next]
        kind = data[:, 1] & 0xF0
        notes = data[(kind == messages.NOTE_ON) | (kind == messages.NOTE_OFF)]
        if not len(notes):
            return {}
        key = (notes[:, 0].astype(np.int64) << 16) | ((notes[:, 1] & 0x0F).astype(np.int64) << 8) | notes[:, 2]
        on = ((notes[:, 1] & 0xF0) == messages.NOTE_ON) & (notes[:, 3] > 0)
        keys, place = np.unique(key, return_inverse=True)
        left = np.bincount(place, np.where(on, 1.0, -1.0)).astype(int)
        return {
            (k >> 16, (k >> 8) & 0x0F, k & 0x7F): times
            for k, times in zip(keys.tolist(), left.tolist(), strict=True)
            if times > 0
        }

    def _in_force(self, row: int) -> list[tuple[int, bytes]]:
        """The programs, controllers, bends and pressures that hold before a row of the score, as (output, message)."""
        data = self._data[:row]
        kind = messages.kinds(data[:, 1])
        holds = (kind == messages.PROGRAM) | (kind == messages.BEND) | (kind == messages.PRESSURE)
        is_control = kind == messages.CONTROL
        holds |= is_control & (data[:, 2] < messages.ALL_SOUND_OFF) & (data[:, 2] != FINE)
        rows = np.flatnonzero(holds)
        if not len(rows):
            return []
        number = np.where(is_control[rows], data[rows, 2], 0).astype(np.int64)
        key = (data[rows, 0].astype(np.int64) << 16) | (data[rows, 1].astype(np.int64) << 8) | number
        _, last = np.unique(key[::-1], return_index=True)
        # In the order in which they were sent: a bank stands before its program.
        found = self._data[np.sort(rows[::-1][last])].tolist()
        return [(output, bytes((status, *rest))[: messages.length(status)]) for output, status, *rest in found]

    def first(self, messages: list[tuple[int, bytes]]) -> None:
        """Set the messages sent when playback starts: banks and programs."""
        self._first = messages

    def loop(self, span: tuple[float, float] | None, again: bool = True) -> None:
        """Set the loop range, None for none. again: hand over anew; not where another score follows at once."""
        self._loop = span if span is None or span[1] - span[0] > 0.02 else None
        if self.playing and again:
            self._begin_again(self._done)
        self._publish()

    def play(self, seconds: float, frame: int, rate: int, since: float | None = None) -> None:
        """Play from a position in the score. frame: the clock now.

        since  seconds of the clock at which this was the position: by now it is further on
        """
        # Gives receivers a moment to change programs before the first note.
        begins = frame + round(AHEAD * rate)
        if since is not None:
            seconds += max(0.0, begins / rate - since) * self._speed
        self.play_at(seconds, begins, frame, rate, self._speed)

    def play_at(self, seconds: float, begins: int, frame: int, rate: int, speed: float) -> None:
        """Play from a position in the score at a frame; what was due since then leaves at once.

        begins  frame of the clock at which it is at `seconds`
        frame   the clock now
        """
        self.stop(frame)
        self._speed = speed
        self._clock_rate, self._rate, self._origin = rate, rate / speed, seconds
        self._rounds = 0.0
        if self.driven and self._loop is not None and seconds >= self._loop[1]:
            # Further than the loop goes: as if it had gone round from its beginning.
            long = self._loop[1] - self._loop[0]
            self._origin = seconds = self._loop[0] + (seconds - self._loop[0]) % long
        self._origin_frame = begins
        for output, message in self._first:
            self._feed.put(float(frame), output, message)
        self._next = int(np.searchsorted(self._at, seconds - 1e-9))
        for output, message in self._in_force(self._next):
            self._feed.put(float(frame), output, message)
        self.held.begin(seconds, self.beats)
        self.playing, self._done = True, self._origin_frame
        self._begin_ticks(frame)
        self._tell(PLAY, self._origin_frame)
        self._publish()

    def clock_to(self, outputs: Iterable[int]) -> None:
        """Send MIDI clock to some outputs while playing."""
        self._clock_to = tuple(outputs)

    @property
    def handed_to(self) -> int:
        """The first frame that nothing has been handed over for."""
        return self._done

    def unrolled(self, frame: int) -> float:
        """The position at a frame, the rounds of the loop counted on."""
        return self.seconds_at(frame) + self._rounds

    def frame_of(self, second: float) -> int:
        """The frame of a position, the rounds of the loop counted on."""
        return self._origin_frame + round((second - self._rounds - self._origin) * self._rate)

    def steer(self, speed: float) -> None:
        """Go on a little slower or faster, from what has been handed over on; nothing is cut."""
        self._origin_frame, self._origin = self._done, self.seconds_at(self._done)
        self._speed = min(20.0, max(0.05, speed))
        self._rate = self._clock_rate / self._speed
        self._tell(MOVED, self._done)
        self._publish()

    def move_frames(self, later: int) -> None:
        """Play everything that was not handed over yet some frames later."""
        self._origin_frame += later
        self._begin_again(self._done)
        self._tell(MOVED, self._done)
        self._publish()

    def _begin_ticks(self, frame: int) -> None:
        """Tell those that follow where it begins: the position that they can go to is that of a sixteenth note."""
        if not self._clock_to:
            return
        beat = self.beats.beat_of(self._origin)
        self._tick = math.ceil(beat * TICKS - 1e-6)
        sixteenth = max(0, math.ceil(beat * 4 - 1e-6))
        at = self._origin_frame + round((self.beats.second_of(sixteenth / 4) - self._origin) * self._rate)
        start = bytes((START if sixteenth == 0 else CONTINUE,))
        for output in self._clock_to:
            if sixteenth:
                place = min(sixteenth, 0x3FFF)
                self._feed.put(float(frame), output, bytes((POSITION, place & 0x7F, place >> 7)))
            self._starts.append((max(frame, at - 1), output, start))

    def speed(self, speed: float) -> None:
        """Play slower or faster from what has been handed over on. speed: 1.0 as the score says."""
        if self.playing:
            self._origin_frame, self._origin = self._done, self.seconds_at(self._done)
        self._speed, self._rate = speed, self._clock_rate / speed
        if self.playing:
            self._tell(MOVED, self._done)
            self._begin_again(self._done)
        self._publish()

    def change_rate(self, rate: int) -> None:
        """Go on at the same second of the clock where it counts at another rate: a server may come back with one."""
        before, self._clock_rate = self._clock_rate, rate
        if rate == before or not self.playing:
            return
        here = self.seconds_at(self._done)
        self._done = round(self._done / before * rate)
        self._origin_frame, self._origin = self._done, here
        self._rate = rate / self._speed
        self._starts = [(round(at / before * rate), output, data) for at, output, data in self._starts]
        # What was handed over counts in the frames of before.
        self._feed.put(0.0, 0, FORGET)
        self._begin_again(self._done)
        self._tell(MOVED, self._done)
        self._publish()

    def stop(self, frame: int) -> None:
        """Stop playing and end the sounding notes."""
        if self.playing:
            self._feed.put(float(frame), 0, CUT)
            for output in self._clock_to:
                self._feed.put(float(frame), output, bytes((CLOCK_STOP,)))
            self._starts.clear()
            self._tell(STOP, frame)
        self.playing = False
        self._publish()

    def handed(self) -> bool:
        """Whether anything was handed over since the last call."""
        before, self._handed = self._handed, self._feed.count
        return before != self._handed

    def seconds_at(self, frame: int) -> float:
        """The position in the score at a frame."""
        return self._origin + (frame - self._origin_frame) / self._rate

    def frame_at(self, second: float) -> int:
        """The frame of a second of the score, in this round of the loop."""
        return self._origin_frame + round((second - self._origin) * self._rate)

    def hand_over(self, frame: int, block: int) -> None:
        """Hand over what is due up to a little ahead of a frame."""
        if not self.playing:
            return
        up_to = frame + max(2 * block, round(AHEAD * self._clock_rate))
        while True:
            end = None
            if self._loop is not None and self._origin <= self._loop[1]:
                end = self._origin_frame + round((self._loop[1] - self._origin) * self._rate)
            self._hand(up_to if end is None else min(up_to, end - 1))
            if end is None or end > up_to:
                break
            assert self._loop is not None
            self._feed.put(float(end), 0, RELEASE)
            self._rounds += self._loop[1] - self._loop[0]
            self._origin_frame, self._origin = end, self._loop[0]
            for output in self._clock_to:
                self._feed.put(float(end), output, bytes((CLOCK_STOP,)))
            self._begin_ticks(end)
            before, self._next = self._next, int(np.searchsorted(self._at, self._origin - 1e-9))
            at_end = set(self._in_force(before))
            for output, message in self._in_force(self._next):
                if (output, message) not in at_end:
                    self._feed.put(float(end), output, message)
            self.echo.begin_round()
            self.held.begin(self._origin, self.beats)
            self._tell(ROUND, end)
            self._publish()
        self._done = max(self._done, up_to + 1)
        if (
            self._loop is None
            and not self.endless
            and not self.driven
            and self._next >= len(self._at)
            and self._is_over(frame)
        ):
            self.playing = False
            self._tell(STOP, frame)
            self._publish()

    def place_of(self, at: float) -> float | None:
        """The second of the score at a moment of the clock, in the round played then; None outside the loop."""
        frame = at * self._clock_rate
        place = self._origin + (frame - self._origin_frame) / self._rate
        if self._loop is None:
            return None
        if frame < self._origin_frame and self._origin == self._loop[0]:
            # Rounds are handed over a little before they begin.
            place += self._loop[1] - self._loop[0]
        return place if self._loop[0] <= place < self._loop[1] else None

    def _hand(self, up_to: int) -> None:
        place = self._next
        rows: list[tuple[int, int, bytes]] = []
        last = int(np.searchsorted(self._at, self.seconds_at(up_to) + 0.5 / self._rate, "right"))
        for i in range(place, last):
            at = self._origin_frame + round((float(self._at[i]) - self._origin) * self._rate)
            if at > up_to:
                last = i
                break
            output, status, *data = self._data[i].tolist()
            rows.append((at, output, bytes((status, *data))[: messages.length(status)]))
        self._next = max(place, last)
        if self.echo.on:
            for second, output, message in self.echo.due(self.seconds_at(up_to)):
                at = self._origin_frame + round((second - self._origin) * self._rate)
                rows.append((min(at, up_to), output, message))
        if self._clock_to:
            rows = self._ticks(up_to) + rows
        if self.held.on:
            end = self._loop[1] if self._loop is not None and self._origin <= self._loop[1] else math.inf
            rows += self.held.rows(up_to, end, self)
        if self.echo.on or self._clock_to or self.held.on:
            rows.sort(key=lambda row: row[0])
        for at, output, message in rows:
            self._feed.put(float(at), output, message)
            if message[0] < messages.SYSTEM:
                self.echo.fed(at / max(1, self._clock_rate), output, message)

    def _ticks(self, up_to: int) -> list[tuple[int, int, bytes]]:
        """The ticks of MIDI clock up to a frame, and Start or Continue before the first of them."""
        rows = [row for row in self._starts if row[0] <= up_to]
        self._starts = [row for row in self._starts if row[0] > up_to]
        while True:
            second = self.beats.second_of(self._tick / TICKS)
            at = self._origin_frame + round((second - self._origin) * self._rate)
            if at > up_to or (self._loop is not None and self._origin <= self._loop[1] and second >= self._loop[1]):
                return rows
            rows += [(at, output, bytes((TICK_BYTE,))) for output in self._clock_to]
            self._tick += 1

    def _begin_again(self, frame: int) -> None:
        """Hand over everything again from a frame on."""
        now = self.seconds_at(frame)
        self._feed.put(float(frame), 0, FORGET)
        self._feed.put(float(frame), 0, RELEASE)
        self._next = int(np.searchsorted(self._at, now - 1e-9))
        self._tick = math.ceil(self.beats.beat_of(now) * TICKS - 1e-6)
        self.held.begin(now, self.beats)

    def _is_over(self, frame: int) -> bool:
        return not len(self._at) or self.seconds_at(frame) > float(self._at[-1]) + 0.05

    def _tell(self, kind: str, frame: int) -> None:
        """Note what the transport does from a frame on."""
        if self._log is not None:
            seconds = self.seconds_at(frame) - self.shift
            self._log.move(frame / max(1, self._clock_rate), kind, seconds, self._speed)

    def tell_master(self, bpm: float | None, state: int) -> None:
        """Publish what is known of the program that is followed."""
        now = round(1000 * (bpm or 0.0)), state
        if now != self.master:
            self.master = now
            self._publish()

    def _publish(self) -> None:
        a, b = self._loop or (0.0, 0.0)
        self._transport.write(
            int(self.playing),
            self._origin_frame,
            round(self._origin * 1e6),
            round(self._rate),
            round(a * 1e6),
            round(b * 1e6),
            *self.master,
        )


def position(transport: tuple[int, ...], clock: tuple[int, ...], now_ns: int) -> float | None:
    """Seconds of the score that are heard now, or None while stopped.

    transport, clock  contents of the shared counters
    """
    playing, origin_frame, origin_us, rate = transport[:4]
    if not playing or not clock[1]:
        return None
    frame = clock[0] + (now_ns - clock[2]) * clock[1] / 1e9
    return origin_us / 1e6 + max(0.0, frame - origin_frame) / max(1, rate)


def score_bytes(at: np.ndarray, data: np.ndarray) -> bytes:
    """A score in its memory layout."""
    return np.ascontiguousarray(at, np.float64).tobytes() + np.ascontiguousarray(data, np.uint8).tobytes()
