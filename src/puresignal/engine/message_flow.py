"""The messages of one block: collected from every source, routed, merged with playback, recorded.

Used by the JACK callback (jack_client.py) and by the clock (clock.py); nothing here waits.
"""

from __future__ import annotations

import time
from collections import deque

from puresignal.engine.player import CUT, FORGET, RELEASE
from puresignal.engine.ring import Reader, Writer, watch
from puresignal.engine.router import Router
from puresignal.engine.router_config import RouterConfig
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import alsa_ports, ports

OF_CLOCK = frozenset((0xF2, 0xF8, 0xFA, 0xFB, 0xFC, 0xFE))
"""Song position, ticks, Start, Continue, Stop; and active sensing."""
UNTOLD = frozenset((0xF8, 0xFE))
"""Messages that are neither shown nor kept: ticks and active sensing."""
CLOCK_PER_SECOND = 40
"""How often per second the published clock is updated while nothing happens."""


class MessageFlow:
    """Everything that happens to messages, whatever provides the clock.

    router  None until a configuration has arrived
    alsa    None where there is no ALSA sequencer
    release_played  playback died: what it started is ended in the next block
    frame   the first frame of the current block; continues beyond 32 bits
    rate    frames per second
    """

    def __init__(
        self, ring: Writer, sent: Writer, feeds: list[Reader], playback: Reader, clock: SharedCounters,
        sync: Writer | None = None,
    ):  # fmt: skip
        """ring: incoming messages; sent: outgoing messages; feeds: own inputs; sync: messages of MIDI clock."""
        self._sync = sync
        self.router: Router | None = None
        self.alsa: alsa_ports.AlsaClient | None = None
        self.frame, self.rate = 0, 1
        self._ring, self._sent, self._feeds = ring, sent, feeds
        self._playback, self._clock = playback, clock
        self._has_come = watch([playback, *feeds])
        self._coming: deque[tuple[int, int, bytes]] = deque()
        self._fed: list[int] = []
        self._outputs = 0
        self._clock_due, self._at = 0, 0.0
        self.release_played = False

    def start(self, router: Router, rate: int, setup: RouterConfig) -> None:
        """Use another router, at a frame rate."""
        # All routers of a sitting use one clock, so that times continue across restarts.
        self.frame, self.rate = int(time.monotonic() * rate), rate
        self._clock_due, self._at = 0, 0.0
        self._outputs = len(setup.outputs)
        self._fed = [setup.inputs.index(name) if name in setup.inputs else -1 for name in ports.FED]
        self.router = router

    @property
    def has_due(self) -> bool:
        """Whether playback has handed over messages that have not left yet."""
        return bool(self._coming)

    def is_still(self) -> bool:
        """Whether nothing is due in this block, so that idle blocks cost next to nothing."""
        if self.frame >= self._clock_due or self._coming or self.release_played:
            return False
        if self.alsa is not None and self.alsa.incoming:
            return False
        return not self._has_come()

    def play(
        self, frames: int, leaving: list[tuple[int, int, bytes]], earliest: int = 0
    ) -> list[tuple[int, int, bytes]]:
        """Add the messages of playback for this block, each at its frame or at the earliest offset."""
        router, coming = self.router, self._coming
        assert router is not None
        if self.release_played:
            self.release_played = False
            coming.clear()
            leaving = [*leaving, *((0, output, message) for output, message in router.release_played())]
            leaving.sort(key=lambda item: item[0])
        for at, output, message in self._playback.read() if self._playback.ready else ():
            frame = int(at)
            if message in (FORGET, CUT):
                while coming and coming[-1][0] >= (frame if message == FORGET else -1):
                    coming.pop()
            if message != FORGET:
                coming.append((self.frame if message == CUT else frame, output, message))
        if not coming or coming[0][0] >= self.frame + frames:
            return leaving
        played = []
        while coming and coming[0][0] < self.frame + frames:
            frame, output, message = coming.popleft()
            offset = max(earliest, frame - self.frame)
            if message in (RELEASE, CUT):
                played += [(offset, o, m) for o, m in router.release_played()]
            elif output < self._outputs:
                sent = router.play(output, message)
                if sent:
                    played.append((offset, output, sent))
        return sorted((*leaving, *played), key=lambda item: item[0])

    def collect(self, incoming: list[tuple[int, int, bytes]]) -> None:
        """Add messages from the program's own inputs and from ALSA since the last block, at their own times.

        Their offset is negative if they arrived before this block.
        """
        now = -1.0
        alsa, rate = self.alsa, self.rate
        if alsa is not None and alsa.incoming:
            now = time.monotonic()
            while alsa.incoming:
                at, number, data = alsa.incoming.popleft()
                incoming.append((min(0, round((at - now) * rate)), number, data))
        for feed in self._feeds:
            if not feed.ready:
                continue
            records = feed.read()
            if records:
                feed.keep_place()
            for at, fed, data in records:
                now = now if now >= 0 else time.monotonic()
                number = self._fed[fed] if fed < len(self._fed) else -1
                if number >= 0:
                    offset = min(0, round((at - now) * rate))
                    # Two messages of one input keep their order even if the clock is read late.
                    if self.frame + offset < self._at * rate:
                        offset = min(0, int(self._at * rate) - self.frame + 1)
                    self._at = (self.frame + offset) / rate
                    incoming.append((offset, number, data))

    def keep(self, incoming: list[tuple[int, int, bytes]], leaving: list[tuple[int, int, bytes]]) -> None:
        """Record what arrived and what left, at times of the steady clock rounded to 20 µs."""
        put, frame, rate = self._ring.put, self.frame, self.rate
        for offset, number, data in incoming:
            at = round((frame + offset) * 50_000 / rate) / 50_000
            if data and data[0] in OF_CLOCK:
                if self._sync is not None:
                    self._sync.put(at, number, data)
                # Ticks come by dozens a second, and say nothing about what is played.
                if data[0] in UNTOLD:
                    continue
            put(at, number, data)
        put = self._sent.put
        for offset, output, data in leaving:
            put(round((frame + offset) * 50_000 / rate) / 50_000, output, data)

    def publish(self, frames: int) -> None:
        """Publish the frame of this block, for playback."""
        self._clock.write(self.frame, self.rate, time.monotonic_ns(), frames)
        self._clock_due = self.frame + self.rate // CLOCK_PER_SECOND

    def send_to_alsa(self, leaving: list[tuple[int, int, bytes]]) -> None:
        """Send messages to their outputs on ALSA, if there is a sequencer."""
        if self.alsa is not None:
            for _, output, message in leaving:
                self.alsa.send(output, message)
