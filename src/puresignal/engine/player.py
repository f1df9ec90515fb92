"""Plays a score into the router, ahead of time and by its frames: `python -m puresignal.engine.player`.

Arguments are numbers of open files: FEED (a ring: what shall leave, and at which frame), KNOCK (an
eventfd that says so), CLOCK (words: frame, rate, nanoseconds, block), TRANSPORT (words: what the player does), and two
SCOREs (memory that the other side fills in turn). Told by lines of JSON on stdin what to do:
{"score": 0 or 1, "events": n}, {"play": seconds}, {"stop": true}, {"loop": [a, b] or null},
{"first": [[output, hex], ...]}: what is sent when playing begins.
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

from puresignal.engine.ring import Writer
from puresignal.engine.shared_counters import SharedCounters

TICK = 0.004
AHEAD = 0.02
"""Seconds that messages are handed over before their frame, and two blocks at least."""
RELEASE, FORGET, CUT = b"\xf7", b"\xfd", b"\xf4"
"""What the router is told between messages: end the notes that were played, at a frame; forget what is to come from
a frame on; both, at once. None of them is a message that could be played."""
ROW = 12
"""Bytes of an event in a score: its second (float64), and output, status and data as four bytes."""


class Player:
    """What is played, and how far it has been handed over. Times of the score are seconds, those of the feed frames."""

    def __init__(self, feed: Writer, transport: SharedCounters):
        self._feed, self._transport = feed, transport
        self._at, self._data = np.zeros(0), np.zeros((0, 4), np.uint8)
        self._first: list[tuple[int, bytes]] = []
        self.playing = False
        self._origin_frame, self._origin, self._rate = 0, 0.0, 48_000
        self._loop: tuple[float, float] | None = None
        self._next = 0
        self._done = 0
        self._handed = feed.count

    def use(self, at: np.ndarray, data: np.ndarray) -> None:
        """Another score, at once: what was handed over and not yet played is taken back.

        at    (events,) seconds, rising
        data  (events, 4) uint8: output, status, data
        """
        self._at, self._data = at, data
        if self.playing:
            self._begin_again(self._done)

    def first(self, messages: list[tuple[int, bytes]]) -> None:
        """What is sent when playing begins: banks and programs."""
        self._first = messages

    def loop(self, span: tuple[float, float] | None) -> None:
        """A range to play over and over, None for none."""
        self._loop = span if span is None or span[1] - span[0] > 0.02 else None
        if self.playing:
            self._begin_again(self._done)
        self._publish()

    def play(self, seconds: float, frame: int, rate: int) -> None:
        """Plays from a moment of the score; frame: where the clock is."""
        self.stop(frame)
        self._rate, self._origin = rate, seconds
        # Banks and programs have a moment to be obeyed before the first note.
        self._origin_frame = frame + round(AHEAD * rate)
        for output, message in self._first:
            self._feed.put(float(frame), output, message)
        self._next = int(np.searchsorted(self._at, seconds - 1e-9))
        self.playing, self._done = True, self._origin_frame
        self._publish()

    def stop(self, frame: int) -> None:
        """Plays no more; what sounds of it is ended."""
        if self.playing:
            self._feed.put(float(frame), 0, CUT)
        self.playing = False
        self._publish()

    def handed(self) -> bool:
        """Whether anything was handed over since this was asked last."""
        before, self._handed = self._handed, self._feed.count
        return before != self._handed

    def seconds_at(self, frame: int) -> float:
        """Where in the score a frame is."""
        return self._origin + (frame - self._origin_frame) / self._rate

    def hand_over(self, frame: int, block: int) -> None:
        """Hands over what is due up to a little ahead of a frame."""
        if not self.playing:
            return
        up_to = frame + max(2 * block, round(AHEAD * self._rate))
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
            self._publish()
        self._done = max(self._done, up_to + 1)
        if self._loop is None and self._next >= len(self._at) and self._is_over(frame):
            self.playing = False
            self._publish()

    def _hand(self, up_to: int) -> None:
        place = self._next
        last = int(np.searchsorted(self._at, self.seconds_at(up_to) + 0.5 / self._rate, "right"))
        for i in range(place, last):
            at = self._origin_frame + round((float(self._at[i]) - self._origin) * self._rate)
            if at > up_to:
                last = i
                break
            output, status, *data = self._data[i].tolist()
            self._feed.put(float(at), output, bytes((status, *data))[: 2 if 0xC0 <= status < 0xE0 else 3])
        self._next = max(place, last)

    def _begin_again(self, frame: int) -> None:
        """From a frame on everything is handed over anew."""
        now = self.seconds_at(frame)
        self._feed.put(float(frame), 0, FORGET)
        self._feed.put(float(frame), 0, RELEASE)
        self._next = int(np.searchsorted(self._at, now - 1e-9))

    def _is_over(self, frame: int) -> bool:
        return not len(self._at) or self.seconds_at(frame) > float(self._at[-1]) + 0.05

    def _publish(self) -> None:
        a, b = self._loop or (0.0, 0.0)
        self._transport.write(
            int(self.playing), self._origin_frame, round(self._origin * 1e6), self._rate, round(a * 1e6), round(b * 1e6)
        )


def position(transport: tuple[int, ...], clock: tuple[int, ...], now_ns: int) -> float | None:
    """Seconds of the score that are heard now, None when nothing plays.

    transport, clock  what the words hold
    """
    playing, origin_frame, origin_us, rate = transport[:4]
    if not playing or not clock[1]:
        return None
    frame = clock[0] + (now_ns - clock[2]) * clock[1] / 1e9
    return origin_us / 1e6 + max(0.0, frame - origin_frame) / max(1, rate)


def main() -> int:
    feed, knock, clock_memory, transport, *scores = map(int, sys.argv[1:])
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    player, clock = Player(Writer(feed), SharedCounters(transport)), SharedCounters(clock_memory)
    rest = b""
    # A router that has just been started has no clock yet; playing begins when it does.
    wanted: float | None = None
    while True:
        ready, _, _ = select.select([0], [], [], TICK if player.playing or wanted is not None else None)
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
                if "score" in command:
                    player.use(*_score(scores[command["score"]], command["events"]))
                if "first" in command:
                    player.first([(output, bytes.fromhex(text)) for output, text in command["first"]])
                if "loop" in command:
                    player.loop(tuple(command["loop"]) if command["loop"] else None)
                if "play" in command:
                    wanted = command["play"]
                if "stop" in command:
                    wanted = None
                    player.stop(frame)
        if wanted is not None and rate:
            player.play(wanted, frame, rate)
            wanted = None
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
    """A score as it lies in memory."""
    return np.ascontiguousarray(at, np.float64).tobytes() + np.ascontiguousarray(data, np.uint8).tobytes()


if __name__ == "__main__":
    sys.exit(main())
