"""The process of the built-in sound.

`python -m puresignal.engine.sound_process` with numbers of open files: the ring of sent messages, the transport, the
router's clock, and the pulse. On JACK it is a client that the router's output is connected to, and sounds in the same
cycle; elsewhere it reads sent messages from the ring and plays through PortAudio. Without either it is silent and
reports that. Commands are lines of JSON: {"map": note map, "output": its number among the router's, "kit": name,
"drums": {name: {level, place, tune, damping}}, "level": 0..1, "balance": -1 only recordings .. 1 only notes,
"muted": [names], "device": name or "", "block": frames, "rate": n, "font": path, "font_output": n,
"along": [{"path", "level", "offset", "bent": [seconds of playback after the offset, seconds of the file] or null},
...], "strike": [note, velocity] to be heard at once, "click_output": n, "click": dB of the click}.
It prints its state as a line of JSON.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import select
import signal
import sys
import threading
import time
from collections import deque
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import PureSignalError
from puresignal.core.kit import note_map
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.session import tempo_edits
from puresignal.core.sound import drums
from puresignal.core.sound.click_sound import Click
from puresignal.core.sound.mixer import Mixer, SampleBank
from puresignal.core.sound.sampled_kit import SampledKit
from puresignal.core.sound.time_stretch import TimeStretch
from puresignal.engine.jack_client import SILENT_SECONDS, SOUNDING
from puresignal.engine.player import position
from puresignal.engine.pulse import SOUND, Pulse
from puresignal.engine.ring import Reader
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import audio_file, audio_ports, jack_ports, ports, sample_kits, soundfont
from puresignal.io.mapped_sound import LONG_SECONDS, MappedSound
from puresignal.io.pipewire_sinks import SinkWatch

LOOK_EVERY = 0.5
TELL_EVERY = 1.0
RATE = 48_000
LARGEST_BLOCK = 1024
"""Frames; a block that underruns is doubled up to this."""
ENOUGH = 0.9
"""Share of a second's frames that a device has to fetch in a second."""
SETTLES = 3.0
"""Seconds after the first block in which that is not asked: PulseAudio without a sound card waits two seconds then."""


class BackingPlayer:
    """An audio file that plays along with playback, in place to the sample.

    why  the reason why it cannot play, else empty
    """

    def __init__(self, transport: SharedCounters, clock: SharedCounters):
        self._transport, self._clock = transport, clock
        self.what: dict[str, Any] | None = None
        self.why = ""
        self._samples = np.zeros((2, 0), np.float32)
        self._mapped: MappedSound | None = None
        self._stretch = TimeStretch(self._samples, RATE)
        self._rate, self._gain, self._offset = RATE, 1.0, 0.0
        self._next = -1
        # Seconds of playback, and those of the file that stand there, where it follows the beats.
        self._bent: tuple[np.ndarray, np.ndarray] | None = None

    def load(self, what: dict[str, Any] | None, rate: int) -> None:
        """Set file, level and offset; None for none. The file is read again only if it changed."""
        same = what is not None and self.what is not None and what["path"] == self.what["path"] and rate == self._rate
        self.what, self._rate, self.why = what, rate, self.why if same else ""
        if what is None:
            self._samples = np.zeros((2, 0), np.float32)
            self._stretch = TimeStretch(self._samples, rate)
            return
        self._gain, self._offset = 10 ** (what["level"] / 20), float(what["offset"])
        bent = what.get("bent")
        self._bent = None if not bent else (np.array(bent[0], float), np.array(bent[1], float))
        if same:
            return
        self._mapped, path = None, Path(what["path"])
        try:
            if audio_file.seconds_of(path) >= LONG_SECONDS:
                self._mapped = MappedSound(path, rate)
                self._samples = self._mapped.samples
            else:
                read = audio_file.read(path, rate)
                self._samples = np.ascontiguousarray(read[:, [0, min(1, read.shape[1] - 1)]].T)
        except PureSignalError as error:
            self._samples, self.why = np.zeros((2, 0), np.float32), str(error)
        mapped = self._mapped
        around = round(AROUND_SECONDS * rate)
        self._stretch = TimeStretch(
            self._samples, rate, None if mapped is None else lambda place: mapped.let_go(place, around)
        )

    def let_go(self) -> None:
        """Keep of a long file only what plays soon in memory."""
        if self._mapped is not None:
            self._mapped.let_go(max(0, self._next), round(AROUND_SECONDS * self._rate))

    def add_to(self, block: np.ndarray, level: float) -> None:
        """Add the part that belongs to this block during playback."""
        samples = self._samples
        if not samples.shape[1]:
            return
        transport, clock = self._transport.read(), self._clock.read()
        seconds = position(transport, clock, time.monotonic_ns())
        if seconds is None:
            self._next = -1
            return
        count = block.shape[1]
        speed = clock[1] / max(1, transport[3])
        own = seconds - self._offset
        if self._bent is not None:
            own, bend = tempo_edits.bent_at(*self._bent, seconds - self._offset)
            speed *= bend
        if abs(speed - 1) > 1e-3:
            # Slower or faster for practice, at the same pitch.
            self._next = -1
            stretched = self._stretch.block(own * self._rate, count, speed)
            block += level * self._gain * stretched
            return
        place = round(own * self._rate)
        # Clock readings are off by some microseconds; samples stay contiguous unless playback has jumped.
        if self._next >= 0 and abs(place - self._next) < JUMP * self._rate:
            place = self._next
        self._next = place + count
        first, last = max(0, place), min(samples.shape[1], place + count)
        if last > first:
            block[:, first - place : last - place] += level * self._gain * samples[:, first:last]


AROUND_SECONDS = 30.0
"""Seconds of a long recording around what plays that stay in memory."""
JUMP = 0.03
"""Seconds of deviation beyond which playback has jumped."""


class Recordings:
    """All audio files that play along."""

    def __init__(self, transport: SharedCounters, clock: SharedCounters):
        self._transport, self._clock = transport, clock
        self.players: tuple[BackingPlayer, ...] = ()

    def load(self, wanted: list[dict[str, Any]], rate: int) -> None:
        """Set files, levels and offsets; a file that plays already is not read again."""
        there = list(self.players)
        players = []
        for what in wanted:
            same = next((one for one in there if one.what is not None and one.what["path"] == what["path"]), None)
            if same is not None:
                there.remove(same)
            player = same or BackingPlayer(self._transport, self._clock)
            player.load(what, rate)
            players.append(player)
        # In one step: the callback may be under way.
        self.players = tuple(players)

    def let_go(self) -> None:
        """Keep of long files only what plays soon in memory."""
        for player in self.players:
            player.let_go()

    @property
    def why(self) -> str:
        """The reasons why some cannot play."""
        return "\n".join(one.why for one in self.players if one.why)

    def add_to(self, block: np.ndarray, level: float, of_notes: float | None = None) -> None:
        """Add what belongs to this block during playback. of_notes: the level of frozen tracks, None for the same"""
        for player in self.players:
            frozen = player.what is not None and player.what.get("notes")
            player.add_to(block, of_notes if frozen and of_notes is not None else level)


class Sound:
    """The sound, on whatever output there is."""

    def __init__(self, sent: Reader, transport: SharedCounters, clock: SharedCounters):
        self._sent = sent
        self.rate = RATE
        self._map: NoteMap | None = None
        self._output = self._font_output = self._click_output = -1
        self._font: soundfont.Font | None = None
        self._font_why = ""
        self._balance = 0.0
        self._font_path = ""
        self._along = Recordings(transport, clock)
        self._kit: drums.Kit | SampledKit = drums.KITS[0]
        self._wanted_kit, self._kit_why, self._loaded_kit = "", "", ("", 0, 0)
        self._kit_stamp = 0
        self._drums: dict[str, drums.Drum] = {}
        self._device: str | None = None
        self._block, self._wanted_rate = 256, RATE
        self.mixer, self.click = Mixer(SampleBank(RATE)), Click(RATE)
        self._wanted = threading.Event()
        self._client: Any = None
        self._ports: list[Any] = []
        self._stream: Any = None
        self._why = ""
        self._system = ""
        self._underruns = self._underruns_before = 0
        self._underran = self._underran_now = False
        self._raised = 0
        self._fetched, self._since, self._starved = 0, 0.0, False
        self._busy = self._worst = 0.0
        self._blocks = 0
        self._server_gone = False
        self._kept: object = None
        self._sinks: SinkWatch | None = None
        self._joined: list[str] = []
        self._called = time.monotonic()
        self._struck: deque[bytes] = deque()

    # Settings

    def obey(self, command: dict[str, Any]) -> None:
        """Apply one command."""
        if "map" in command:
            self._map = note_map.from_json(command["map"], "map") if command["map"] else None
        if "output" in command:
            self._output = command["output"]
        if "kit" in command:
            self._wanted_kit = command["kit"]
        if {"kit", "kit_stamp"} & set(command):
            self._kit_stamp = command.get("kit_stamp", self._kit_stamp)
            self._load_kit()
        if "drums" in command:
            self._drums = {name: drums.Drum(**values) for name, values in command["drums"].items()}
        if "level" in command:
            self.mixer.level = float(command["level"])
        if "balance" in command:
            self._balance = float(command["balance"])
        if "muted" in command:
            self.mixer.mute(command["muted"])
        if {"device", "block", "rate"} & set(command):
            self._device = command.get("device", self._device) or None
            self._raised = 0
            self._block, self._wanted_rate = command.get("block", self._block), command.get("rate", self._wanted_rate)
            self._close_stream()
        if "strike" in command:
            note, velocity = command["strike"]
            self._struck.append(messages.note_on(10, int(note) & 0x7F, int(velocity) & 0x7F))
        self._click_output = command.get("click_output", self._click_output)
        if "click" in command:
            self.click.level = 10 ** (float(command["click"]) / 20)
        if "font_output" in command:
            self._font_output = command["font_output"]
        if "font" in command:
            self._font_path = command["font"]
            self._load_font()
        if "along" in command:
            self._along.load(command["along"] or [], self.rate)
        if {"map", "kit", "kit_stamp", "drums"} & set(command):
            self._prepare()

    def _load_kit(self) -> None:
        """The kit of a name: one of ours, or the player's own recordings; note why that failed."""
        asked = (self._wanted_kit, self.rate, self._kit_stamp)
        if asked == self._loaded_kit:
            # Each change of a setting names the kit again.
            return
        self._loaded_kit, self._kit_why = asked, ""
        ours = next((kit for kit in drums.KITS if kit.name == self._wanted_kit), None)
        if ours is not None or not self._wanted_kit:
            self._kit = ours or drums.KITS[0]
            return
        try:
            self._kit = sample_kits.load(self._wanted_kit, self.rate)
        except PureSignalError as error:
            # It may be there the next time.
            self._kit, self._kit_why, self._loaded_kit = drums.KITS[0], str(error), ("", 0, 0)

    def _load_font(self) -> None:
        """Load the player's SoundFont, or note why that failed."""
        before, self._font, self._font_why = self._font, None, ""
        if self._font_path:
            try:
                self._font = soundfont.Font(Path(self._font_path), self.rate)
            except PureSignalError as error:
                self._font_why = str(error)
        if before is not None:
            # The callback may still be using it.
            time.sleep(0.1)
            before.close()

    def _block_of(
        self, frames: int, messages: list[tuple[int, bytes]], to_font: list[tuple[int, bytes]],
        clicks: list[tuple[int, bytes]],
    ) -> np.ndarray:  # fmt: skip
        """A block of everything that sounds."""
        while self._struck:
            messages = [(0, self._struck.popleft()), *messages]
        block = self.mixer.render(frames, messages)
        font = self._font
        if font is not None:
            block += self.mixer.level * font.render(frames, to_font)
        if self._balance < 0:
            block *= 1 + self._balance
        level, balance = self.mixer.level, self._balance
        self._along.add_to(block, level * min(1.0, 1 - balance), level * min(1.0, 1 + balance))
        self.click.add_to(block, clicks, self.mixer.level)
        return np.clip(block, -1.0, 1.0, out=block)

    def _prepare(self) -> None:
        """Prepare a bank for the settings; existing strokes are reused, the rest computed."""
        before = self.mixer._bank
        bank = SampleBank(self.rate, self._kit, self._drums)
        bank.take_over(before)
        names = [pad.articulation for pad in self._map.pads] if self._map is not None else []
        missing = list(dict.fromkeys(names))
        sounds = bool(before.layers) and (self._client is not None or self._stream is not None)
        for name in missing:
            if _is_let_go():
                return
            bank.prepare([name])
            if sounds:
                # With pauses, so that the callback never has to wait.
                time.sleep(0.005)
        self.mixer.use(bank, self._map)

    # Output

    def look(self) -> None:
        """Connect to a server or device that appeared, drop one that disappeared; let go of what has been played."""
        self._along.let_go()
        if self._server_gone or (self._client is not None and time.monotonic() - self._called > SILENT_SECONDS):
            # A client cannot be closed safely after its server died; the parent process restarts us.
            os._exit(0)
        if self._client is not None:
            self._join()
            return
        self._make_safe()
        try:
            client = jack_ports.open_client(ports.SOUND_CLIENT, self._block)
        except jack_ports.NoServerError:
            if self._stream is None or not self._stream.active:
                self._open_stream()
            return
        self._close_stream()
        self._open_jack(client)

    def _make_safe(self) -> None:
        """Use larger blocks if the device's are too small for this machine: underruns in two looks in a row, or a
        device that does not tell of them and fetches too little.
        """
        underran, self._underran = self._underruns > self._underruns_before, self._underran_now
        self._underruns_before, self._underran_now = self._underruns, underran
        too_small = (underran and self._underran) or self._starves()
        if self._stream is not None and too_small and self._raised < LARGEST_BLOCK:
            self._raised = min(LARGEST_BLOCK, 2 * max(self._raised, self._block))
            self._underran_now = False
            self._close_stream()

    def _starves(self) -> bool:
        """Whether the device fetched too little two seconds in a row. Each such second counts as an underrun."""
        now = time.monotonic()
        if not self._since or now - self._since < 1.0:
            return False
        before, self._starved = self._starved, self._fetched < ENOUGH * (now - self._since) * self.rate
        self._underruns += self._starved
        self._fetched, self._since = 0, now
        return before and self._starved

    def _open_jack(self, client: Any) -> None:
        self._called = time.monotonic()
        self._at_rate(client.samplerate)
        incoming, for_font, clicks = (
            client.midi_inports.register(SOUNDING[name]) for name in (ports.SOUND, ports.FONT, ports.CLICK)
        )
        outs = [client.outports.register(name) for name in ("left", "right")]
        self._ports = outs

        def process(frames: int) -> None:
            began = time.perf_counter()
            self._called = time.monotonic()
            came, fonts, clicked = (
                [(o, bytes(d)) for o, d in port.incoming_midi_events()] for port in (incoming, for_font, clicks)
            )
            block = self._block_of(frames, came, fonts, clicked)
            for port, channel in zip(outs, block, strict=True):
                port.get_array()[:] = channel
            self._measure(time.perf_counter() - began, frames)

        def late(_: float) -> None:
            self._underruns += 1

        def gone() -> None:
            self._server_gone = True
            self._wanted.set()

        client.set_process_callback(process)
        client.set_xrun_callback(late)
        self._kept = jack_ports.on_shutdown(client, gone)
        gc.collect()
        gc.freeze()
        gc.disable()
        pipewire = jack_ports.is_pipewire(client)
        self._client, self._system, self._why = client, ports.PIPEWIRE if pipewire else ports.JACK, ""
        if pipewire and self._sinks is None:
            self._sinks = SinkWatch()
        client.activate()
        self._join()

    def _join(self) -> None:
        """Connect to the chosen sink, else the default one, else the first two physical playback ports.

        What somebody else connected or disconnected stays as it is.
        """
        with contextlib.suppress(Exception):
            now = [[goal.name for goal in self._client.get_all_connections(port)] for port in self._ports]
            goals = [port.name for port in self._goals()]
            if goals[:2] == self._joined and any(now):
                return
            if any(now) and [goal for row in now for goal in row] != self._joined:
                return
            for port, row in zip(self._ports, now, strict=True):
                for goal in row:
                    self._client.disconnect(port, goal)
            for port, goal in zip(self._ports, goals, strict=False):
                self._client.connect(port, goal)
            self._joined = goals[:2]

    def _goals(self) -> list[Any]:
        """The ports to connect to, left first."""
        if self._sinks is not None:
            self._sinks.look()
            name = self._device if self._device in self._sinks.sinks else self._sinks.default
            found = [
                port for port in self._client.get_ports(is_audio=True, is_input=True)
                if name and port.name.startswith(f"{name}:playback")
            ]  # fmt: skip
            if found:
                return found
        return list(self._client.get_ports(is_audio=True, is_input=True, is_physical=True))

    def _open_stream(self) -> None:
        self._close_stream()
        try:
            block = max(self._block, self._raised)
            self._stream = audio_ports.open_output(self._device, self._wanted_rate, block, self._fill)
            self._at_rate(int(self._stream.samplerate))
            self._system, self._why = "device", ""
            self._since, self._starved = 0.0, False
            self._stream.start()
        except audio_ports.NoSoundError as error:
            self._system, self._why = "", str(error)
            self._drain()

    def _close_stream(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None:
            with contextlib.suppress(Exception):
                stream.close()

    def _drain(self) -> None:
        self._sent.read()

    def _fill(self, out: np.ndarray, frames: int, late: bool) -> None:
        """The device's callback: messages since the last block, each at its place."""
        began = time.perf_counter()
        now = time.monotonic()
        wanted = (self._output, self._font_output, self._click_output)
        messages: dict[int, list[tuple[int, bytes]]] = {output: [] for output in wanted if output >= 0}
        for at, output, data in self._sent.read():
            if output in messages:
                place = frames - round((now - at) * self.rate)
                messages[output].append((min(frames - 1, max(0, place)), data))
        mine, fonts, clicks = (sorted(messages.get(o, []), key=lambda m: m[0]) for o in wanted)
        out[:] = self._block_of(frames, mine, fonts, clicks).T
        self._underruns += late
        if not self._since:
            self._fetched, self._since = 0, now + SETTLES
        elif now >= self._since:
            self._fetched += frames
        self._measure(time.perf_counter() - began, frames)

    def _at_rate(self, rate: int) -> None:
        if rate != self.rate:
            self.rate = rate
            self._load_kit()
            level = self.mixer.level
            self.mixer = Mixer(SampleBank(rate))
            self.mixer.level = level
            before = self.click
            self.click = Click(rate)
            self.click.level, self.click.played, self.click.masked = before.level, before.played, before.masked
            self._prepare()
            self._load_font()
            self._along.load([one.what for one in self._along.players if one.what is not None], rate)

    def _measure(self, seconds: float, frames: int) -> None:
        share = seconds * self.rate / frames
        self._busy += share
        self._worst = max(self._worst, share)
        self._blocks += 1

    def state(self) -> dict[str, Any]:
        """State report: output, delay, underruns, load (fraction of the available time), voices, clicks and how many
        of them were drowned."""
        block, delay = 0, 0.0
        if self._client is not None:
            block = self._client.blocksize
            delay = block / self.rate
            with contextlib.suppress(Exception):
                delay += max(port.get_latency_range("playback")[1] for port in self._ports) / self.rate
        elif self._stream is not None:
            block, delay = max(self._block, self._raised), float(self._stream.latency)
        load, worst = self._busy / max(1, self._blocks), self._worst
        self._busy = self._worst = 0.0
        self._blocks = 0
        return {
            "system": self._system, "why": self._why, "rate": self.rate, "block": block, "delay": delay,
            "wanted": self._block,
            "underruns": self._underruns, "load": load, "worst": worst, "voices": self.mixer.sounding(),
            "sinks": list(self._sinks.sinks) if self._sinks is not None else [],
            "sink": self._joined[0].rpartition(":")[0] if self._joined else "",
            "ready": len(self.mixer._bank.layers), "font": self._font_why, "kit": self._kit_why,
            "along": self._along.why,
            "clicks": [self.click.played, self.click.masked],
        }  # fmt: skip

    def close(self) -> None:
        self._close_stream()
        if self._sinks is not None:
            self._sinks.close()
        if self._client is not None and not self._server_gone:
            with contextlib.suppress(Exception):
                self._client.close()


def _is_let_go() -> bool:
    """Whether the parent has hung up: a kit takes seconds to compute, and nobody is waiting any more."""
    asked = select.poll()
    asked.register(0, 0)
    return any(event & select.POLLHUP for _, event in asked.poll(0))


def main() -> int:
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    sys.setswitchinterval(0.0005)
    sent, transport, clock, pulse = map(int, sys.argv[1:])
    # A kit takes seconds to compute.
    Pulse(pulse, SOUND).keep_beating()
    sound = Sound(Reader(sent), SharedCounters(transport), SharedCounters(clock))
    rest, looked, told = b"", float("-inf"), float("-inf")
    while True:
        ready, _, _ = select.select([0], [], [], 0.1)
        if ready:
            more = os.read(0, 1 << 16)
            if not more:
                sound.close()
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                sound.obey(json.loads(line))
        now = time.monotonic()
        if now - looked >= LOOK_EVERY:
            looked = now
            sound.look()
        if now - told >= TELL_EVERY:
            told = now
            try:
                os.write(1, json.dumps(sound.state()).encode() + b"\n")
            except OSError:
                sound.close()
                return 0


if __name__ == "__main__":
    sys.exit(main())
