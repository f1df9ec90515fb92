"""The process of the live ear: sound of a microphone in, notes into the router's feed, so that they reach a port.

`python -m puresignal.engine.ear_process FEED KNOCK PULSE`, numbers of open files. Commands are lines of JSON:
{"source": "" for JACK or the default device, a device's name, "singer" or "mouth", "channel": 1.., "block": frames,
"bpm": n for the simulated ones}, {"settings": {fields of VoiceSettings}}, {"sounds": folder of taught sounds or null},
{"listens": [melody, hits]}, {"teach": drum or null}, {"claps": bool}, {"spool": path or null}.

It prints its state as lines of JSON: "system", "why", "rate", "level" and "floor" in dBFS, "pitch" as a MIDI number
with fractions or null, "note" and "hit", the last ones, "heard", how many so far, "clipped" and "lost" blocks,
"several" for two people at once, "busy", the part of a core, "teaching", "taught" by drum, "claps", seconds of the
clock of sharp sounds while they are listened for, "warnings" about the taught sounds, "apart", how well each pair can
be told, and "spool": [second of the clock at its beginning, frames, rate].
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import struct
import sys
import threading
import time
from collections import deque
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import soxr

from puresignal.core.errors import PureSignalError
from puresignal.core.hearing.dsp.lost_sound import CONTEXT, filler
from puresignal.core.hearing.dsp.sharp_sounds import SharpSounds
from puresignal.core.hearing.dsp.spectral_flux import Beginnings
from puresignal.core.hearing.live_ear import RATE, LiveEar
from puresignal.core.hearing.percussion import example_classifier, live_hits
from puresignal.core.kit.articulations import spoken
from puresignal.core.midi import messages
from puresignal.core.touch import voice
from puresignal.core.touch.voice import Voice, VoiceSettings
from puresignal.engine.ear_names import SIMULATED, SINGER
from puresignal.engine.pulse import BEAT_EVERY, EAR, Pulse
from puresignal.engine.ring import Writer
from puresignal.io import audio_ports, jack_ports, models, note_map_file, ports, profiles
from puresignal.io.log_file import log
from puresignal.sim import voices

CLIENT = "Pure Signal ear"
SAY_EVERY = 0.04
"""Seconds between two lines of state."""
TRY_EVERY = 1.0
"""Seconds after which a missing microphone is looked for again."""
FOLLOWS, JUMP = 0.02, 0.02
"""Part by which the clock of the blocks follows that of the machine, and seconds from which it is set anew."""
FILLED = 0.25
"""Seconds of lost sound up to which it is made up; after more than that, listening goes on from there."""
SILENT_SECONDS = 2.0
"""Seconds without a block after which the source counts as gone."""
LEAD, LASTS, APART = 0.03, 0.42, 0.3
"""Seconds of an example before its beginning, and after it, and between two of them."""
RELEARN_AT = (3, 6)
"""Examples after which what was taught so far is used while the teaching goes on."""

Block = tuple[float, np.ndarray]
"""Second of the clock at the first sample, and (n,) float32."""


class Source:
    """Where sound comes from: JACK, a device, or a simulated voice. Blocks are kept until they are fetched."""

    def __init__(self, wanted: dict[str, Any]):
        self.wanted = wanted
        self.rate, self.system, self.why = 48_000, "", ""
        self.lost = 0
        self.came = threading.Event()
        self.last = time.monotonic()
        self._blocks: deque[tuple[float, np.ndarray, int]] = deque(maxlen=20_000)
        self._at = -1.0
        self._close: Any = None
        self._keep: Any = None
        self._before = np.zeros(0, np.float32)
        self._gone = False
        self._teaches = ""
        self._open()

    def _open(self) -> None:
        name, block = str(self.wanted.get("source", "")), int(self.wanted.get("block", 128))
        if name in SIMULATED:
            self.system = "simulated"
            stop = threading.Event()
            threading.Thread(target=self._simulate, args=(name, block, stop), daemon=True).start()
            self._close = stop.set
            return
        if not name:
            with contextlib.suppress(PureSignalError):
                self._open_jack(block)
                return
        try:
            self._open_device(name, block)
        except PureSignalError as error:
            self.why = str(error)

    def _open_jack(self, block: int) -> None:
        client = jack_ports.open_client(CLIENT, block)
        self.rate = client.samplerate
        port = client.inports.register("microphone")

        expected = -1

        def process(frames: int) -> None:
            nonlocal expected
            now = client.last_frame_time
            # The counter has 32 bits.
            missing = (now - expected) % (1 << 32) if expected >= 0 else 0
            if missing == (1 << 32) - frames:
                # A server that found this client late calls it for one block twice.
                return
            expected = (now + frames) % (1 << 32)
            samples = port.get_array().copy()
            self.lost += bool(missing)
            self._take(samples, frames, missing if missing <= FILLED * self.rate else 0)

        def gone() -> None:
            self._gone = True
            self.came.set()

        client.set_process_callback(process)
        self._keep = jack_ports.on_shutdown(client, gone)
        client.activate()
        with contextlib.suppress(Exception):
            found = client.get_ports(is_audio=True, is_output=True, is_physical=True)
            channel = max(1, int(self.wanted.get("channel", 1)))
            if found:
                client.connect(found[min(channel, len(found)) - 1], port)
        self.system = ports.PIPEWIRE if jack_ports.is_pipewire(client) else ports.JACK
        self._close = client.close

    def _open_device(self, name: str, block: int) -> None:
        channel = max(1, int(self.wanted.get("channel", 1)))

        def take(samples: np.ndarray, frames: int, lost: bool) -> None:
            self.lost += lost
            self._take(samples[:, min(channel, samples.shape[1]) - 1].copy(), frames)

        stream = audio_ports.open_input(name or None, self.rate, block, channel, take)
        stream.start()
        self.system, self._close = "device", stream.close

    def teaches(self, drum: str) -> None:
        """Drums that a simulated mouth drummer repeats; empty: the groove."""
        self._teaches = drum

    def _simulate(self, name: str, block: int, stop: threading.Event) -> None:
        bpm, rate = float(self.wanted.get("bpm", 92)), self.rate
        # `now` is not known before the first part is there.
        rest, told, now = np.zeros(0, np.float32), None, -1.0
        stream: Iterator[Any] = iter(())
        while not stop.is_set():
            if told != self._teaches:
                told, rest = self._teaches, np.zeros(0, np.float32)
                if told in voices.MOUTH:
                    stream = voices.examples(rate, told, 7)
                elif told:
                    stream = voices.silence(rate)
                else:
                    stream = voices.sung(rate, bpm, 5) if name == SINGER else voices.spoken(rate, bpm, 5)
            while len(rest) < block:
                rest = np.concatenate([rest, next(stream)[0]])
            now = time.monotonic() if now < 0 else now
            now += block / rate
            wait = now - time.monotonic()
            if wait > 0:
                time.sleep(wait)
            elif wait < -0.5:
                now = time.monotonic()
            self._take(rest[:block], block)
            rest = rest[block:]

    def _take(self, samples: np.ndarray, frames: int, missing: int = 0) -> None:
        """Keep a block. missing: frames that were lost before it."""
        now = time.monotonic()
        began = now - (frames + missing) / self.rate
        # The blocks' own clock is even; that of the thread that brings them is not.
        if self._at < 0 or abs(began - self._at) > JUMP:
            self._at = began
        self._at += FOLLOWS * (began - self._at)
        self._blocks.append((self._at, samples, missing))
        self._at += (frames + missing) / self.rate
        self.last = now
        self.came.set()

    def fetch(self) -> list[Block]:
        """The blocks since the last call."""
        self.came.clear()
        found = []
        while self._blocks:
            at, samples, missing = self._blocks.popleft()
            if missing:
                samples = np.concatenate([filler(self._before, samples, missing), samples])
            found.append((at, samples))
            self._before = np.concatenate([self._before, samples])[-CONTEXT:]
        return found

    @property
    def is_gone(self) -> bool:
        """Whether nothing comes any more, or nothing ever did."""
        return bool(self._gone or self.why or time.monotonic() - self.last > SILENT_SECONDS)

    def close(self) -> None:
        if self._gone:
            # A client cannot be closed safely after its server died; this process is started anew.
            os._exit(0)
        if self._close is not None:
            with contextlib.suppress(Exception):
                self._close()


class Spool:
    """Sound on its way to the disk: a WAV file that can be read whenever the program is killed."""

    def __init__(self, path: Path, rate: int, at: float):
        self.at, self.rate, self.frames = at, rate, 0
        self._file = path.open("wb", buffering=0)
        self._file.write(self._head(0x7FFF_FF00))

    def _head(self, size: int) -> bytes:
        form = struct.pack("<HHIIHH", 3, 1, self.rate, 4 * self.rate, 4, 32)
        return b"RIFF" + struct.pack("<I", size + 36) + b"WAVEfmt \x10\0\0\0" + form + b"data" + struct.pack("<I", size)

    def put(self, samples: np.ndarray) -> None:
        self._file.write(np.asarray(samples, "<f4").tobytes())
        self.frames += len(samples)

    def close(self) -> None:
        self._file.seek(0)
        self._file.write(self._head(4 * self.frames))
        self._file.close()


class Teacher:
    """Cuts examples of one sound out of the stream."""

    def __init__(self, drum: str, place: Path, gate: float):
        self.drum, self._place, self._gate = drum, place, gate
        self._beginnings = Beginnings(RATE)
        self._held, self._first = np.zeros(0, np.float32), 0
        self._waiting: list[int] = []
        self._last = -1.0
        self.count = 0

    def feed(self, samples: np.ndarray) -> bool:
        """Hear the next samples. Returns whether another example was kept."""
        self._held = np.concatenate([self._held, samples])
        for at in self._beginnings.feed(samples):
            if at - self._last >= APART:
                self._waiting.append(round(at * RATE))
                self._last = at
        end, kept = self._first + len(self._held), False
        while self._waiting and self._waiting[0] + round(LASTS * RATE) <= end:
            begin = max(self._first, self._waiting.pop(0) - round(LEAD * RATE))
            part = self._held[begin - self._first : begin - self._first + round((LEAD + LASTS) * RATE)]
            if 20 * np.log10(float(np.abs(part).max(initial=0.0)) + 1e-9) > max(self._gate, -50.0):
                profiles.add_example(self._place, self.drum, part, RATE)
                self.count += 1
                kept = True
        keep = max(0, len(self._held) - round(1.2 * RATE))
        if keep and not (self._waiting and self._waiting[0] - round(LEAD * RATE) < self._first + keep):
            self._held, self._first = self._held[keep:], self._first + keep
        return kept


class Ear:
    """Everything but the loop."""

    def __init__(self, feed: Writer, knock: int):
        self._feed, self._knock = feed, knock
        self._settings = VoiceSettings()
        self._voice = Voice(self._settings)
        self._listens = (False, False)
        self._known: example_classifier.ExampleSet | None = None
        self._sounds: Path | None = None
        self._ear = LiveEar(None)
        self._stream: soxr.ResampleStream | None = None
        self.source: Source | None = None
        self._wanted: dict[str, Any] = {"source": ""}
        self._tried = -TRY_EVERY
        self._fed = 0.0
        self._spool: Spool | None = None
        self._spool_to: Path | None = None
        self._spooled: list[float] | None = None
        self._teacher: Teacher | None = None
        self._sharp: SharpSounds | None = None
        self._offs: deque[tuple[float, bytes]] = deque()
        self._waiting: deque[Block] = deque()
        self._notes = {pad.articulation: pad.note for pad in reversed(note_map_file.shipped("general-midi").pads)}
        self._busy, self._since = 0.0, time.monotonic()
        self.state: dict[str, Any] = {"heard": 0, "note": None, "hit": "", "warnings": [], "apart": [], "taught": {}}

    # Commands

    def obey(self, command: dict[str, Any]) -> None:
        """Execute one command."""
        if "source" in command and command != self._wanted:
            self._wanted = command
            self._close()
        if "settings" in command:
            self._settings = VoiceSettings(**command["settings"])
            self._put(time.monotonic(), 0, self._voice.use(self._settings))
            self._ear.set(self._settings.low, self._settings.high, self._settings.sensitivity, self._settings.gate)
        if "sounds" in command:
            self._sounds = Path(command["sounds"]) if command["sounds"] else None
            self._learn()
        if "listens" in command and tuple(command["listens"]) != self._listens:
            self._listens = (bool(command["listens"][0]), bool(command["listens"][1]))
            self._begin()
        if "teach" in command:
            self._teach(command["teach"])
        if "claps" in command:
            rate = RATE if self.source is None else self.source.rate
            self._sharp = SharpSounds(rate) if command["claps"] else None
            self.state["claps"] = []
        if "spool" in command:
            self._end_spool()
            self._spool_to = Path(command["spool"]) if command["spool"] else None

    def _begin(self) -> None:
        """Listen anew, from here on."""
        self._put(time.monotonic(), 0, self._voice.end())
        melody, hits = self._listens
        self._ear = LiveEar(models.dense_net("live_pitch") if melody else None, self._known if hits else None)
        own = self._settings
        self._ear.set(own.low, own.high, own.sensitivity, own.gate)
        self._fed, self._stream = 0.0, None
        if self.source is not None and self.source.rate != RATE:
            self._stream = soxr.ResampleStream(self.source.rate, RATE, 1, dtype="float32", quality="LQ")

    def _learn(self) -> None:
        """Use the examples in the folder of taught sounds."""
        found = profiles.examples(self._sounds, RATE) if self._sounds is not None else {}
        known = live_hits.teach(models.live_feature_space(), found) if found else None
        self._known = known if known is not None and known.names else None
        self.state["taught"] = {name: len(each) for name, each in found.items()}
        self.state["warnings"] = [] if self._known is None else example_classifier.removal_reasons(self._known)
        self.state["apart"] = []
        if self._known is not None and len(self._known.names) > 1:
            apart = example_classifier.told_apart(self._known)
            self.state["apart"] = [
                [spoken(a), spoken(b), round(float(min(apart[i, j], apart[j, i])), 2)]
                for i, a in enumerate(self._known.names) for j, b in enumerate(self._known.names) if i < j
            ]  # fmt: skip
        self._ear.teach(self._known if self._listens[1] else None)

    def _teach(self, drum: str | None) -> None:
        if self.source is not None:
            self.source.teaches(drum or "")
        if drum and self._sounds is not None:
            self._teacher = Teacher(drum, self._sounds, self._settings.gate)
        else:
            taught, self._teacher = self._teacher is not None, None
            if taught:
                self._learn()

    # Sound

    def _close(self) -> None:
        self._put(time.monotonic(), 0, self._voice.end())
        source, self.source = self.source, None
        self._waiting.clear()
        if source is not None:
            source.close()
        self._tried = -TRY_EVERY

    def look(self) -> None:
        """Open the source, or open it again if it is gone."""
        now = time.monotonic()
        if self.source is not None and self.source.is_gone and now - self._tried > TRY_EVERY:
            self._close()
        if self.source is None and now - self._tried > TRY_EVERY:
            self._tried = now
            self.source = Source(self._wanted)
            if self._teacher is not None:
                self.source.teaches(self._teacher.drum)
            self._begin()

    def work(self) -> None:
        """Hear what has arrived."""
        source = self.source
        if source is None:
            return
        began = time.perf_counter()
        self._fetch(source)
        for _ in range(len(self._waiting)):
            at, block = self._waiting.popleft()
            if self._sharp is not None:
                self.state["claps"] = [*self.state["claps"], *self._sharp.feed(at, block)]
            whole = block if self._stream is None else self._stream.resample_chunk(block)
            if self._teacher is not None:
                self._teach_on(whole)
                continue
            self._fed += len(block) / source.rate
            # The clock's second at second 0 of what the ear was fed, by this block.
            zero = at + len(block) / source.rate - self._fed
            self._hear(whole, zero)
            self._fetch(source)
        while self._offs and self._offs[0][0] <= time.monotonic():
            off_at, message = self._offs.popleft()
            self._put(off_at, 1, [message])
        self._busy += time.perf_counter() - began

    def _fetch(self, source: Source) -> None:
        """Fetch the blocks that have come, and write them to the disk before anything more is heard."""
        for at, block in source.fetch():
            self._spool_block(at, block)
            self._waiting.append((at, block))

    def _hear(self, samples: np.ndarray, zero: float) -> None:
        heard = self._ear.feed(samples)
        for one in heard.notes:
            self._put(zero + one.at, 0, self._voice.note(one.number, one.velocity))
            if one.velocity:
                self.state["note"], self.state["heard"] = one.number, self.state["heard"] + 1
        self._put(time.monotonic(), 0, self._voice.pitch(self._ear.pitch))
        for hit in heard.hits:
            assert self._known is not None
            name = self._known.names[hit.sound]
            message = voice.hit(name, self._settings.velocity(hit.velocity), self._notes)
            self.state["hit"], self.state["heard"] = name, self.state["heard"] + 1
            if message is not None:
                self._put(zero + hit.start, 1, [message])
                off = messages.note_off(voice.DRUMS, message[1])
                self._offs.append((time.monotonic() + voice.HIT_SECONDS, off))

    def _teach_on(self, samples: np.ndarray) -> None:
        assert self._teacher is not None
        self._ear._measure(samples)
        try:
            more = self._teacher.feed(samples)
        except PureSignalError as error:
            self.state["warnings"] = [str(error)]
            self._teacher = None
            return
        if more:
            self.state["taught"] = {**self.state["taught"], self._teacher.drum: self._taught(self._teacher.drum)}
            if self._teacher.count in RELEARN_AT:
                self._learn()

    def _taught(self, drum: str) -> int:
        return len(list((self._sounds / drum).glob("*.wav"))) if self._sounds is not None else 0

    def _spool_block(self, at: float, block: np.ndarray) -> None:
        if self._spool is None and self._spool_to is not None and self.source is not None:
            try:
                self._spool = Spool(self._spool_to, self.source.rate, at)
            except OSError as error:
                self.state["warnings"] = [f"{error.strerror} ({self._spool_to})"]
            self._spool_to = None
        if self._spool is not None:
            if self.source is not None and self.source.rate != self._spool.rate:
                self._end_spool()
                return
            try:
                self._spool.put(block)
            except OSError as error:
                self.state["warnings"] = [f"{error.strerror}"]
                self._end_spool()

    def _end_spool(self) -> None:
        if self._spool is not None:
            with contextlib.suppress(OSError):
                self._spool.close()
            self._spooled = [self._spool.at, self._spool.frames, self._spool.rate]
            self._spool = None

    def _put(self, at: float, which: int, sent: list[bytes]) -> None:
        for message in sent:
            self._feed.put(at, ports.FED.index(ports.HEARD[which]), message)
        if sent:
            os.eventfd_write(self._knock, 1)

    def said(self) -> dict[str, Any]:
        """The state."""
        source, ear, now = self.source, self._ear, time.monotonic()
        busy, self._busy = self._busy / max(1e-3, now - self._since), 0.0
        self._since = now
        spool = self._spool
        return {
            **self.state,
            "system": "" if source is None or source.why else source.system,
            "why": "" if source is None else source.why,
            "rate": 0 if source is None else source.rate,
            "level": round(ear.level, 1), "floor": round(ear.floor, 1),
            "pitch": None if ear.pitch is None else round(ear.pitch, 2),
            "clipped": ear.clipped, "several": ear.several,
            "lost": 0 if source is None else source.lost, "busy": round(busy, 3),
            "sounding": list(self._voice.sounding),
            "teaching": "" if self._teacher is None else self._teacher.drum,
            "spool": [spool.at, spool.frames, spool.rate] if spool is not None else self._spooled,
            "spooling": spool is not None,
        }  # fmt: skip

    def end(self) -> None:
        """End what sounds, and what is written."""
        self._put(time.monotonic(), 0, self._voice.end())
        for _, message in self._offs:
            self._put(time.monotonic(), 1, [message])
        self._end_spool()


def main() -> int:
    feed, knock, pulse_memory = map(int, sys.argv[1:])
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    # The thread that fetches the sound of a block must not wait for the one that hears: it has a block's time.
    sys.setswitchinterval(0.0005)
    ear, pulse = Ear(Writer(feed), knock), Pulse(pulse_memory, EAR)
    # Loading networks and opening devices take longer than a beat.
    pulse.keep_beating()
    rest, said_at = b"", 0.0
    while True:
        ready, _, _ = select.select([0], [], [], 0.0)
        if ready:
            more = os.read(0, 65536)
            if not more:
                ear.end()
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                try:
                    ear.obey(json.loads(line))
                except Exception:
                    log.exception("the ear could not do %r", line[:200])
        ear.look()
        if ear.source is not None and not ear.source.why:
            ear.source.came.wait(BEAT_EVERY)
        else:
            time.sleep(BEAT_EVERY)
        ear.work()
        if time.monotonic() - said_at >= SAY_EVERY:
            said_at = time.monotonic()
            with contextlib.suppress(BrokenPipeError):
                os.write(1, json.dumps(ear.said()).encode() + b"\n")


if __name__ == "__main__":
    sys.exit(main())
