"""Clients of the playback and sound processes."""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import threading
import time
from typing import Any

import numpy as np

from puresignal.core.timing.beat_table import BeatTable
from puresignal.engine import pulse, shared_counters
from puresignal.engine.client import END_WITHIN, RouterProcess
from puresignal.engine.helper_process import HelperProcess
from puresignal.engine.player import position, score_bytes


class ToldProcess:
    """A process that takes commands as lines of JSON and is restarted if it dies."""

    def __init__(self, module: str, given: tuple[int, ...], after: threading.Thread | None, answers: bool = False):
        self._module, self._given, self._after, self._answers = module, given, after, answers
        self._process: HelperProcess | None = None
        self._in = self._out = -1

    def tell(self, **command: Any) -> bool:
        """Send a command. Returns whether the process had to be started for it."""
        new = not self.alive
        if new:
            self.start()
        with contextlib.suppress(OSError):
            os.write(self._in, json.dumps(command).encode() + b"\n")
        return new

    def start(self) -> None:
        """Start it, or start it again."""
        self.close()
        theirs, self._in = os.pipe()
        answers = None
        if self._answers:
            self._out, answers = os.pipe()
            os.set_blocking(self._out, False)
        given = self._given
        self._process = HelperProcess(self._module, tuple(map(str, given)), given, theirs, answers, after=self._after)

    @property
    def alive(self) -> bool:
        return self._process is not None and self._process.poll() is None

    def kill(self) -> None:
        if self._process is not None:
            self._process.kill()

    def read(self) -> bytes:
        """Its output since the last call."""
        with contextlib.suppress(OSError):
            return os.read(self._out, 1 << 16) if self._out >= 0 else b""
        return b""

    def close(self) -> None:
        if self._process is None:
            return
        os.close(self._in)
        self._process.end_by(time.monotonic() + END_WITHIN)
        if self._out >= 0:
            os.close(self._out)
        self._process, self._in, self._out = None, -1, -1


class PlayerProcess:
    """The playback process of a router."""

    def __init__(self, router: RouterProcess):
        self.transport = shared_counters.make()
        self._scores = [os.memfd_create("pure-signal score") for _ in range(2)]
        self._turn = 0
        self._events = 0
        self._clock, self._words = (
            shared_counters.SharedCounters(router.clock),
            shared_counters.SharedCounters(self.transport),
        )
        given = (
            router.playback,
            router.knock,
            router.clock,
            self.transport,
            router.pulse,
            router.moves,
            router.sent,
            router.sync,
            router.transport_found,
            router.transport_ready,
            *self._scores,
        )
        self._router = router
        self._told = ToldProcess("puresignal.engine.player_process", given, router.after)
        self._first: list[list[Any]] = []
        self._loop: list[float] | None = None
        self._speed = 1.0
        self._shift, self._endless, self._echo = 0.0, False, False
        self._beats: list[list[float]] = [[0.0, 1.0], [0.0, 0.5]]
        self._clock_to: list[int] = []
        self._follow: str | int | None = None
        self._held: dict[str, Any] | None = None

    def use(
        self,
        at: np.ndarray,
        data: np.ndarray,
        moved: tuple[np.ndarray, np.ndarray] | None = None,
        loop: tuple[float, float] | None = None,
        shift: float = 0.0,
        known: float = 0.0,
    ) -> None:
        """Use another score from the next note on.

        at     (events,) seconds, rising
        data   (events, 4) uint8: output, status, data 1, data 2
        moved  (knots,) seconds of the score before and those of this one that are the same beats
        loop   the loop range in this score's seconds; used with `moved`
        shift  seconds of the score before bar 1
        known  seconds of the clock up to which what was played live is in this score
        """
        self._turn = 1 - self._turn
        content = score_bytes(at, data)
        memory = self._scores[self._turn]
        os.ftruncate(memory, max(1, len(content)))
        if content:
            with mmap.mmap(memory, len(content)) as view:
                view[:] = content
        self._events, self._shift = len(at), shift
        if moved is None:
            self._told.tell(shift=shift, score=self._turn, events=self._events, known=known)
            return
        self._loop = list(loop) if loop else None
        knots = [column.tolist() for column in moved]
        self._told.tell(shift=shift, score=self._turn, events=self._events, moved=knots, loop=self._loop, known=known)

    def play(
        self, seconds: float, first: list[tuple[int, bytes]], endless: bool = False, since: float | None = None
    ) -> None:
        """Play from a position.

        first    banks and programs, sent before anything else
        endless  also after the end
        since    seconds of the clock at which this was the position, where playing has begun already
        """
        self._endless = endless
        self._first = [[output, message.hex()] for output, message in first]
        if not self._told.alive:
            self._router.pulses.started(pulse.PLAYER)
        if self._told.tell(first=self._first, speed=self._speed, endless=endless, play=seconds, since=since):
            # The process was only just started and has no score yet.
            self._told.tell(**self._all(), play=seconds, since=since)

    def _all(self) -> dict[str, Any]:
        """Everything that a new process has to know."""
        return {
            "shift": self._shift, "endless": self._endless, "score": self._turn, "events": self._events,
            "first": self._first, "loop": self._loop, "speed": self._speed, "echo": self._echo,
            "beats": self._beats, "clock_to": self._clock_to, "follow": self._follow, "held": self._held,
        }  # fmt: skip

    def echo(self, on: bool) -> None:
        """Whether what is played live in a round of the loop sounds in the next ones, also without another score."""
        self._echo = on
        if self._told.alive:
            self._told.tell(echo=on)

    def hold(self, held: dict[str, Any] | None) -> None:
        """Play keys that are sent to an output as an arpeggio: see engine/player_process.py. None: no more"""
        if held != self._held:
            self._held = held
            if held is not None or self._told.alive:
                self._told.tell(held=held)

    def time(self, beats: BeatTable) -> None:
        """Beats and seconds of the score, for MIDI clock."""
        self._beats = [beats.beats, beats.seconds]
        self._told.tell(beats=self._beats)

    def clock_to(self, outputs: list[int]) -> None:
        """Send MIDI clock to some outputs, by number."""
        self._clock_to = outputs
        self._told.tell(clock_to=outputs)

    def follow(self, what: str | int | None) -> None:
        """Follow JACK's transport ("jack"), the MIDI clock of an input (its number), or nothing."""
        self._follow = what
        if self._told.tell(follow=what) or what is not None:
            # A new process knows nothing yet, and the first note of the master comes without a warning.
            self._told.tell(**self._all())

    def first(self, first: list[tuple[int, bytes]]) -> None:
        """Banks and programs for when another program starts."""
        self._first = [[output, message.hex()] for output, message in first]
        self._told.tell(first=self._first)

    def master(self) -> tuple[float | None, int]:
        """State of the program that is followed: its tempo in BPM, and a state of outside_time.py."""
        bpm, state = self._words.read()[6:8]
        return (bpm / 1000 if bpm else None), state

    def note(self, what: Any) -> None:
        """Keep something with the moves of the transport, in the journal."""
        self._told.tell(note=what)

    def watch(self) -> None:
        """If it died or hangs while it plays: what it started is ended, and a new one plays on from there."""
        hangs = self._router.pulses.hangs(pulse.PLAYER)
        if hangs:
            self._told.kill()
        if not self.playing or (self._told.alive and not hangs):
            return
        place = self.position() or 0.0
        self._router.release_played()
        self._words.write(0)
        self._told.close()
        self._router.pulses.started(pulse.PLAYER)
        self._told.tell(**self._all(), play=place)

    def stop(self) -> None:
        if self._told.alive:
            self._told.tell(stop=True)

    def speed(self, speed: float) -> None:
        """Play slower or faster than the score says."""
        self._speed = speed
        if self._told.alive:
            self._told.tell(speed=speed)

    def loop(self, span: tuple[float, float] | None) -> None:
        """Set the loop range in seconds of the score, None for none."""
        self._loop = list(span) if span else None
        self._told.tell(loop=self._loop)

    def position(self) -> float | None:
        """Seconds of the score that are heard now, or None while stopped."""
        return position(self._words.read(), self._clock.read(), time.monotonic_ns())

    @property
    def playing(self) -> bool:
        return bool(self._words.read()[0])

    def close(self) -> None:
        self._told.close()
        for one in (self.transport, *self._scores):
            os.close(one)


class SoundProcess:
    """The process of the built-in sound of a router."""

    def __init__(self, router: RouterProcess, player: PlayerProcess):
        given = (router.sent, player.transport, router.clock, router.pulse)
        self._router = router
        self._told = ToldProcess("puresignal.engine.sound_process", given, router.after, answers=True)
        self._buffer = b""
        self._last: dict[str, Any] = {}

    def tell(self, **settings: Any) -> None:
        """Send settings (see engine/sound_process.py); they are sent again after a restart."""
        self._last.update(settings)
        self._told.tell(**(self._last if not self._told.alive else settings))

    def strike(self, note: int, velocity: int) -> None:
        """Sound one note of the target map at once, whatever is routed."""
        if self._told.alive:
            self._told.tell(strike=[note, velocity])

    def read(self) -> dict[str, Any] | None:
        """Its latest state report, None if there is no new one. Restarts the process if it died or hangs."""
        if self._router.pulses.hangs(pulse.SOUND):
            self._told.kill()
        if not self._told.alive and self._last:
            self._router.pulses.started(pulse.SOUND)
            self._told.tell(**self._last)
        *lines, self._buffer = (self._buffer + self._told.read()).split(b"\n")
        state: dict[str, Any] | None = json.loads(lines[-1]) if lines else None
        return state

    def close(self) -> None:
        self._told.close()


class EarProcess:
    """The live ear of a router."""

    def __init__(self, router: RouterProcess):
        given = (router.heard, router.knock, router.pulse)
        self._router = router
        self._told = ToldProcess("puresignal.engine.ear_process", given, router.after, answers=True)
        self._last: dict[str, dict[str, Any]] = {}
        self._buffer = b""

    def tell(self, **command: Any) -> None:
        """Send a command (see engine/ear_process.py); settings are sent again after a restart."""
        if "source" in command or not {"teach", "spool"} & set(command):
            self._last[next(iter(command))] = command
        if not self._told.alive:
            self._start()
        else:
            self._told.tell(**command)

    def _start(self) -> None:
        self._router.pulses.started(pulse.EAR)
        for command in self._last.values():
            self._told.tell(**command)

    def read(self) -> dict[str, Any] | None:
        """Its latest state, None if there is no new one. Restarts the process if it died or hangs."""
        if self._router.pulses.hangs(pulse.EAR):
            self._told.kill()
        if not self._told.alive and self._last:
            self._router.unplug_heard()
            self._start()
        *lines, self._buffer = (self._buffer + self._told.read()).split(b"\n")
        state: dict[str, Any] | None = json.loads(lines[-1]) if lines else None
        return state

    def kill(self) -> None:
        self._told.kill()

    def close(self) -> None:
        self._told.close()
