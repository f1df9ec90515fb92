"""Playing a score to instruments outside, in real time, while what comes back is recorded.

One JACK client has a MIDI output for each instrument and two audio inputs. Messages leave at their own frame, and the
sound of each block is kept with it, so that both are in step whatever the machine does; what the way through the
instrument takes is found where the first note is heard, and left out.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from puresignal.core.errors import PureSignalError, StoppedError
from puresignal.core.export.playback_events import Score
from puresignal.core.midi import messages
from puresignal.io import jack_ports, ports
from puresignal.translation import count_tr, tr

BEFORE_SECONDS = 0.6
"""Seconds before the score begins: receivers change programs, and the noise of the return is measured."""
FIRST_SECONDS = 0.1
LONGEST_DELAY = 2.0
"""Seconds within which the first note has to come back."""
ABOVE_NOISE, SOFTEST = 4.0, 10 ** (-66 / 20)
"""Sound counts as coming back from this many times the peak of the noise, and from this level."""
QUIET_SECONDS, TAIL_SECONDS = 0.6, 20.0
LOOK_SECONDS = 0.05
SILENT_SECONDS = 5.0


@dataclass(frozen=True, eq=False)
class Returned:
    """The sound that came back.

    samples   (2, n) float32 from the beginning of the score on, at `rate` per second
    delay     seconds that the way through the instruments took, which are left out
    warnings  sentences
    """

    samples: np.ndarray
    rate: int
    delay: float
    warnings: tuple[str, ...]


def sources() -> tuple[str, ...]:
    """The programs and devices whose sound can be recorded, by name. Empty without a server."""
    try:
        client = jack_ports.open_client("Pure Signal ports")
    except PureSignalError:
        return ()
    try:
        return tuple(dict.fromkeys(name.rpartition(":")[0] for name in _audio(client) if not ports.is_own(name)))
    finally:
        client.close()


def _audio(client: Any) -> list[str]:
    return [port.name for port in client.get_ports(is_audio=True, is_output=True)]


def record(
    score: Score, outputs: tuple[str, ...], source: str, span: tuple[float, float], delay: float | None, tail: bool,
    progress: Callable[[float], bool],
) -> Returned:  # fmt: skip
    """Play a part of a score, and record what comes back.

    outputs   names of the ports, in the order of the score's output numbers
    source    a program or device, or one of its ports, that the sound comes back from
    span      seconds of the score
    delay     seconds of the way through the instruments; None: where the first note is heard
    tail      whether to wait until the last sound has faded
    progress  told the part that is done; False stops it
    Raises    NoServerError, PureSignalError if a port is missing or the server ends, StoppedError
    """
    client = jack_ports.open_client("Pure Signal render")
    try:
        return _Recording(client, score, len(outputs), span).run(outputs, source, delay, tail, progress)
    finally:
        # A server that has died cannot be left in order.
        with contextlib.suppress(Exception):
            client.close()


class _Recording:
    """The client's state; `_process` runs in the server's thread."""

    def __init__(self, client: Any, score: Score, outputs: int, span: tuple[float, float]):
        self._client, self._span = client, span
        self._rate = int(client.samplerate)
        self._outs = [client.midi_outports.register(f"out {i + 1}") for i in range(outputs)]
        self._ins = [client.inports.register(name) for name in ("left", "right")]
        self._begin = round(BEFORE_SECONDS * self._rate)
        self._length = round((span[1] - span[0]) * self._rate)
        room = self._begin + self._length + round((LONGEST_DELAY + TAIL_SECONDS + 1) * self._rate)
        self._samples = np.zeros((2, room), np.float32)
        self._rows = self._messages(score)
        self._next, self.done, self._origin = 0, 0, -1
        self.dropouts, self.gone, self._go = 0, False, False
        self._ends: list[tuple[int, bytes]] = []
        client.set_process_callback(self._process)
        client.set_xrun_callback(self._dropped_out)
        self._kept = jack_ports.on_shutdown(client, self._shut_down)

    def _messages(self, score: Score) -> list[tuple[int, int, bytes]]:
        """(frame, output, message), rising; what holds at the beginning is sent before it."""
        first = round(FIRST_SECONDS * self._rate)
        rows = [(first, output, message) for output, message in score.first]
        begin, end = self._span
        for at, (output, status, *rest) in zip(score.at.tolist(), score.data.tolist(), strict=True):
            kind, message = messages.kind(status), bytes((status, *rest))[: messages.length(status)]
            if begin - 1e-9 <= at < end + 1e-9:
                rows.append((self._begin + round((at - begin) * self._rate), output, message))
            elif at < begin and kind in (messages.CONTROL, messages.PROGRAM, messages.BEND, messages.PRESSURE):
                rows.append((first, output, message))
            elif at > end and kind == messages.NOTE_OFF:
                rows.append((self._begin + self._length, output, message))
        return sorted(rows, key=lambda row: row[0])

    def _process(self, frames: int) -> None:
        for out in self._outs:
            out.clear_buffer()
        for output, message in self._ends:
            self._outs[output].write_midi_event(0, message)
        self._ends = []
        if not self._go or self.done + frames > self._samples.shape[1]:
            return
        now = self._client.last_frame_time
        if self._origin < 0:
            self._origin = now
        # A block that this client was too late for is a gap in what came back, not a shift of all that follows.
        place = now - self._origin
        if place + frames > self._samples.shape[1]:
            return
        for side, port in enumerate(self._ins):
            self._samples[side, place : place + frames] = port.get_array()
        while self._next < len(self._rows) and self._rows[self._next][0] < place + frames:
            at, output, message = self._rows[self._next]
            self._outs[output].write_midi_event(max(0, at - place), message)
            self._next += 1
        self.done = place + frames

    def _dropped_out(self, _: float) -> None:
        self.dropouts += 1

    def _shut_down(self, *_: object) -> None:
        self.gone = True

    def run(
        self, outputs: tuple[str, ...], source: str, delay: float | None, tail: bool, progress: Callable[[float], bool]
    ) -> Returned:
        self._client.activate()
        self._join(outputs, source)
        self._go = True
        last, seen = self._begin + self._length, time.monotonic()
        before = 0
        while True:
            time.sleep(LOOK_SECONDS)
            if not progress(min(1.0, self.done / max(1, last))):
                self._end_notes()
                raise StoppedError
            if self.done != before:
                before, seen = self.done, time.monotonic()
            if self.gone or time.monotonic() - seen > SILENT_SECONDS:
                raise PureSignalError(
                    tr("The sound server has ended while it was rendered"), "", tr("Start it again, and render again.")
                )
            wait = delay
            if wait is None and self.done >= last:
                wait = self._found_delay()
            wait = LONGEST_DELAY if wait is None else wait
            if self.done >= last + round(wait * self._rate) and (not tail or self._has_faded()):
                break
            if self.done >= self._samples.shape[1] - 2 * int(self._client.blocksize):
                break
        self._end_notes()
        return self._returned(delay, tail)

    def _join(self, outputs: tuple[str, ...], source: str) -> None:
        there = jack_ports.all_ports_of(self._client)
        for own, wanted in zip(self._outs, outputs, strict=True):
            found = ports.find(there, wanted, False)
            if found is None:
                raise PureSignalError(
                    tr("This port is not there"), wanted, tr("Plug the device in, or choose another destination.")
                )
            self._client.connect(own, found)
        audio = _audio(self._client)
        found_audio = [name for name in audio if name == source] or [
            name for name in audio if name.rpartition(":")[0] == source
        ] or [name for name in audio if source.casefold() in name.casefold()]  # fmt: skip
        if not found_audio:
            raise PureSignalError(
                tr("There is no such sound to record"), source, tr("Choose where the instruments' sound comes in.")
            )
        left, right = found_audio[0], found_audio[1 if len(found_audio) > 1 else 0]
        self._client.connect(left, self._ins[0])
        self._client.connect(right, self._ins[1])
        # A server shows new connections from a later block on.
        time.sleep(0.1)

    def _noise(self) -> float:
        quiet = self._samples[:, : max(1, self._begin - round(0.02 * self._rate))]
        return float(np.abs(quiet).max(initial=0.0))

    def _has_faded(self) -> bool:
        lately = self._samples[:, max(0, self.done - round(QUIET_SECONDS * self._rate)) : self.done]
        return float(np.abs(lately).max(initial=0.0)) <= max(2 * self._noise(), 10 ** (-80 / 20))

    def _end_notes(self) -> None:
        self._go = False
        self._ends = [
            (output, bytes((0xB0 | channel, 123, 0))) for output in range(len(self._outs)) for channel in range(16)
        ]
        time.sleep(4 * int(self._client.blocksize) / self._rate + 0.02)

    def _returned(self, delay: float | None, tail: bool) -> Returned:
        warnings = []
        if delay is None:
            delay = self._found_delay()
            if delay is None:
                delay = 0.0
                warnings.append(tr("Nothing came back: check that the instruments' sound is connected and turned up."))
        if self.dropouts:
            warnings.append(
                count_tr("{n} dropout while it was recorded.", "{n} dropouts while it was recorded.", self.dropouts)
            )
        first = self._begin + round(delay * self._rate)
        after = self.done if tail else min(self.done, first + self._length)
        return Returned(self._samples[:, first:after].copy(), self._rate, delay, tuple(warnings))

    def _found_delay(self) -> float | None:
        """Seconds between the first note and its sound; None if nothing is heard."""
        ons = [at for at, _, message in self._rows if messages.is_note_on(message) and at >= self._begin]
        if not ons:
            return 0.0
        from_there = np.abs(self._samples[:, ons[0] : ons[0] + round(LONGEST_DELAY * self._rate)]).max(axis=0)
        heard = np.flatnonzero(from_there > max(SOFTEST, ABOVE_NOISE * self._noise()))
        return float(heard[0]) / self._rate if len(heard) else None
