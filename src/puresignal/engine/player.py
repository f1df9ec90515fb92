"""The playback process: feeds a score to the router ahead of time, by frames.

`python -m puresignal.engine.player FEED KNOCK CLOCK TRANSPORT PULSE MOVES LEFT SCORE SCORE`, numbers of open files:
FEED is a ring of messages with the frames at which they leave, KNOCK an eventfd that signals it, CLOCK shared counters
(frame, rate, nanoseconds, block), TRANSPORT shared counters with the player's state, PULSE that of pulse.py, MOVES a
ring of what the transport did (transport_log.py), LEFT one of what leaves, SCORE memory that the client fills in turn.
Commands are lines of JSON on stdin: {"score": 0 or 1, "events": n, "moved": [seconds, seconds]}, {"play": seconds,
"since": the clock's seconds at which it was there, or nothing}, {"stop": true}, {"speed": x}, {"loop": [a, b] or null},
{"first": [[output, hex], ...]}: messages sent when playback starts, {"shift": seconds} of the score before bar 1,
{"endless": whether to go on after its last note}, {"note": anything} that is kept with the moves,
{"echo": whether what is played live sounds again in the next round}; a score's "known": seconds of the clock up to
which it has what was played.
"""

from __future__ import annotations

import json
import mmap
import os
import select
import signal
import sys
import time

import numpy as np

from puresignal.core.midi import messages
from puresignal.engine.pulse import BEAT_EVERY, PLAYER, Pulse
from puresignal.engine.ring import Reader, Writer
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
        # Seconds of the score before bar 1; and whether it goes on after the score's last note, as a recording does.
        self.shift, self.endless = 0.0, False
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
        self.stop(frame)
        self._clock_rate, self._rate, self._origin = rate, rate / self._speed, seconds
        # Gives receivers a moment to change programs before the first note.
        self._origin_frame = frame + round(AHEAD * rate)
        if since is not None:
            self._origin += max(0.0, self._origin_frame / rate - since) * self._speed
            seconds = self._origin
        for output, message in self._first:
            self._feed.put(float(frame), output, message)
        self._next = int(np.searchsorted(self._at, seconds - 1e-9))
        self.playing, self._done = True, self._origin_frame
        self._tell(PLAY, self._origin_frame)
        self._publish()

    def speed(self, speed: float) -> None:
        """Play slower or faster from what has been handed over on. speed: 1.0 as the score says."""
        if self.playing:
            self._origin_frame, self._origin = self._done, self.seconds_at(self._done)
        self._speed, self._rate = speed, self._clock_rate / speed
        if self.playing:
            self._tell(MOVED, self._done)
            self._begin_again(self._done)
        self._publish()

    def stop(self, frame: int) -> None:
        """Stop playing and end the sounding notes."""
        if self.playing:
            self._feed.put(float(frame), 0, CUT)
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
            self._origin_frame, self._origin = end, self._loop[0]
            self._next = int(np.searchsorted(self._at, self._origin - 1e-9))
            self.echo.begin_round()
            self._tell(ROUND, end)
            self._publish()
        self._done = max(self._done, up_to + 1)
        if self._loop is None and not self.endless and self._next >= len(self._at) and self._is_over(frame):
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
            rows.sort(key=lambda row: row[0])
        for at, output, message in rows:
            self._feed.put(float(at), output, message)
            self.echo.fed(at / max(1, self._clock_rate), output, message)

    def _begin_again(self, frame: int) -> None:
        """Hand over everything again from a frame on."""
        now = self.seconds_at(frame)
        self._feed.put(float(frame), 0, FORGET)
        self._feed.put(float(frame), 0, RELEASE)
        self._next = int(np.searchsorted(self._at, now - 1e-9))

    def _is_over(self, frame: int) -> bool:
        return not len(self._at) or self.seconds_at(frame) > float(self._at[-1]) + 0.05

    def _tell(self, kind: str, frame: int) -> None:
        """Note what the transport does from a frame on."""
        if self._log is not None:
            seconds = self.seconds_at(frame) - self.shift
            self._log.move(frame / max(1, self._clock_rate), kind, seconds, self._speed)

    def _publish(self) -> None:
        a, b = self._loop or (0.0, 0.0)
        self._transport.write(
            int(self.playing),
            self._origin_frame,
            round(self._origin * 1e6),
            round(self._rate),
            round(a * 1e6),
            round(b * 1e6),
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


def main() -> int:
    feed, knock, clock_memory, transport, pulse_memory, moves, left, *scores = map(int, sys.argv[1:])
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    log = TransportLog(Writer(moves))
    player, clock = Player(Writer(feed), SharedCounters(transport), log), SharedCounters(clock_memory)
    pulse, rest = Pulse(pulse_memory, PLAYER), b""
    heard = Reader(left)
    # A router that has just been started has no clock yet; playback starts when it does.
    wanted: tuple[float, float | None] | None = None
    while True:
        ready, _, _ = select.select([0], [], [], TICK if player.playing or wanted is not None else BEAT_EVERY)
        pulse.beat()
        frame, rate, nanoseconds, block = clock.read()[:4]
        if rate:
            frame += round((time.monotonic_ns() - nanoseconds) * rate / 1e9)
        if ready:
            more = os.read(0, 1 << 16)
            if not more:
                player.stop(frame)
                os.eventfd_write(knock, 1)
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                command = json.loads(line)
                if "note" in command:
                    log.note(time.monotonic(), command["note"])
                if "endless" in command:
                    player.endless = bool(command["endless"])
                if "shift" in command:
                    player.shift = float(command["shift"])
                if "echo" in command:
                    heard.read()
                    player.echo.switch(bool(command["echo"]))
                if "score" in command:
                    player.echo.forget(float(command.get("known", "inf")))
                    moved = command.get("moved")
                    if "loop" in command:
                        player.loop(tuple(command["loop"]) if command["loop"] else None, again=False)
                    player.use(
                        *_score(scores[command["score"]], command["events"]),
                        None if moved is None else (np.array(moved[0]), np.array(moved[1])),
                    )
                elif "loop" in command:
                    player.loop(tuple(command["loop"]) if command["loop"] else None)
                if "first" in command:
                    player.first([(output, bytes.fromhex(text)) for output, text in command["first"]])
                if "speed" in command:
                    player.speed(float(command["speed"]))
                if "play" in command:
                    wanted = float(command["play"]), command.get("since")
                if "stop" in command:
                    wanted = None
                    player.stop(frame)
        if wanted is not None and rate:
            player.play(wanted[0], frame, rate, wanted[1])
            wanted = None
        if player.echo.on and player.playing:
            player.echo.hear(heard.read(), player.place_of)
        player.hand_over(frame, block)
        if player.handed():
            os.eventfd_write(knock, 1)


def _score(memory: int, events: int) -> tuple[np.ndarray, np.ndarray]:
    if not events:
        return np.zeros(0), np.zeros((0, 4), np.uint8)
    with mmap.mmap(memory, events * ROW, prot=mmap.PROT_READ) as view:
        content = view[:]
    at = np.frombuffer(content, np.float64, events)
    return at, np.frombuffer(content, np.uint8, 4 * events, 8 * events).reshape(-1, 4)


def score_bytes(at: np.ndarray, data: np.ndarray) -> bytes:
    """A score in its memory layout."""
    return np.ascontiguousarray(at, np.float64).tobytes() + np.ascontiguousarray(data, np.uint8).tobytes()


if __name__ == "__main__":
    sys.exit(main())
