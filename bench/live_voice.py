"""From a microphone's block on a JACK server at 128 frames to a note at a port: sung notes and taught sounds.

Also the part of a core that the ear takes, blocks that the router was late for, and sound lost by kills of the ear
(`live_voice.py kills` for these alone).
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

import jack
import numpy as np

from puresignal.core.midi import messages
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import EarProcess
from puresignal.engine.router_config import LiveTrack, RouterConfig
from puresignal.io import audio_file, ports
from puresignal.sim import beatbox, singer, sung_lines, voices

RATE, BLOCK = 48_000, 128


class Peer:
    """Plays sound into the ear and keeps what arrives, by frames since the sound began."""

    def __init__(self, sound: np.ndarray):
        self.sound, self.began, self.playing = sound, -1, False
        self.got: list[tuple[int, bytes]] = []
        self.client = jack.Client("voice", no_start_server=True)
        self.audio = self.client.outports.register("audio")
        self.inp = self.client.midi_inports.register("in")
        self.client.set_process_callback(self._process)
        self.client.activate()

    def _process(self, frames: int) -> None:
        now = self.client.last_frame_time
        self.got += [(now + offset, bytes(data)) for offset, data in self.inp.incoming_midi_events()]
        out = self.audio.get_array()
        out[:] = 0
        if self.playing:
            self.began = now if self.began < 0 else self.began
            part = self.sound[now - self.began : now - self.began + frames]
            out[: len(part)] = part


def run(name: str, sound: np.ndarray, meant: list[tuple[float, int]], listens: list[bool], sounds: str | None) -> None:
    peer = Peer(sound)
    tracks = (LiveTrack(0, outputs=(0,)), LiveTrack(1, outputs=(0,)))
    router = RouterProcess(
        RouterConfig((ports.MIC_MELODY, ports.MIC_HITS), ("voice:in",), None, None, CleaningPath(), tracks=tracks)
    )
    ear, state, busy, router_state = EarProcess(router), {}, [], {}
    if sounds:
        ear.tell(sounds=sounds)
    ear.tell(source="", block=BLOCK)
    ear.tell(listens=listens)
    end = time.monotonic() + 4
    while time.monotonic() < end:
        router.read(0.02)
        state = ear.read() or state
    peer.client.connect("voice:audio", "Pure Signal ear:microphone")
    time.sleep(0.3)
    peer.playing = True
    end = time.monotonic() + len(sound) / RATE + 0.5
    while time.monotonic() < end:
        router_state = router.read(0.02) or router_state
        more = ear.read()
        state = more or state
        busy += [more["busy"]] if more else []
    ons = [((frame - peer.began) / RATE, data[1]) for frame, data in peer.got if messages.is_note_on(data)]
    late, used = [], set()
    for at, note in meant:
        mine = [i for i, (f, n) in enumerate(ons) if n == note and -0.03 < f - at < 0.2 and i not in used]
        if mine:
            used.add(mine[0])
            late.append(1000 * (ons[mine[0]][0] - at))
    print(
        f"{name}: {len(late)} of {len(meant)} heard, {len(ons) - len(late)} more; from the beginning of the sound to "
        f"the port: median {np.median(late):.1f} ms, 90 % within {np.quantile(late, 0.9):.1f}; the ear "
        f"{np.mean(busy):.0%} of a core; dropouts of the router: {router_state.get('dropouts')}", flush=True,
    )  # fmt: skip
    ear.close()
    router.close()
    peer.client.deactivate()
    peer.client.close()


def sung(seed: int) -> tuple[np.ndarray, list[tuple[float, int]]]:
    random = np.random.default_rng(seed)
    line = singer.line(random, 30.0, 46, 70)
    return singer.perform(line, singer.SUNG, RATE, seed), [(at, note) for at, _, note, _ in line]


def with_words(seed: int) -> tuple[np.ndarray, list[tuple[float, int]]]:
    """Another singer, with consonants, vibrato and glides."""
    random = np.random.default_rng(seed)
    line = singer.line(random, 30.0, 46, 70)
    sound, truth = sung_lines.sing(line, sung_lines.any_singer(random), RATE, seed)
    return sound.astype(np.float32), [(row[0], row[2]) for row in truth]


def kills(times: int) -> None:
    lost = []
    for n in range(times):
        folder = Path(tempfile.mkdtemp())
        router = RouterProcess(RouterConfig((ports.MIC_MELODY, ports.MIC_HITS), (), None, None, CleaningPath()))
        ear, state = EarProcess(router), {}
        ear.tell(source="singer")
        ear.tell(listens=[True, False])
        ear.tell(spool=str(folder / "a.wav"))
        end = time.monotonic() + 2.0 + 0.037 * n
        # A busy machine opens its files late.
        while time.monotonic() < end or (not state.get("spool") and time.monotonic() < end + 5):
            router.read(0.01)
            state = ear.read() or state
        if not state.get("spool"):
            print("the ear was replaced before it was killed: not counted")
            ear.close()
            router.close()
            continue
        begin, now = state["spool"][0], time.monotonic()
        ear.kill()
        facts = audio_file.facts(audio_file.as_flac(folder / "a.wav"))
        lost.append(1000 * (now - begin - facts.seconds))
        ear.close()
        router.close()
    print(f"{times} kills of the ear: the newest {np.median(lost):.0f} ms were lost, {max(lost):.0f} at most")


def main() -> None:
    if "kills" in sys.argv:
        kills(20)
        return
    name = f"bench{os.getpid()}"
    os.environ["JACK_DEFAULT_SERVER"] = name
    server = subprocess.Popen(
        ["jackd", "-n", name, "-r", "-d", "dummy", "-r", str(RATE), "-p", str(BLOCK)],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    time.sleep(1.5)
    try:
        run("sung, plain", *sung(5), [True, False], None)
        run("sung with words", *with_words(6), [True, False], None)
        folder = Path(tempfile.mkdtemp())
        drums = {"kick": 36, "snare.head": 38, "hat.closed": 42}
        random = np.random.default_rng(3)
        for drum in drums:
            (folder / drum).mkdir()
            for i in range(6):
                said = beatbox.say(voices.MOUTH[drum], float(random.uniform(0.4, 0.9)), 44_100, random)
                padded = np.pad(0.6 * said, (1500, 12_000)).astype(np.float32)
                audio_file.write_wav(folder / drum / f"{i + 1}.wav", padded, 44_100)
        parts, meant, at = [], [], 0.0
        bars = voices.spoken(RATE, 100, 9)
        for _ in range(12):
            bar, said = next(bars)
            parts.append(bar)
            meant += [(at + when, drums[drum]) for when, drum in said]
            at += len(bar) / RATE
        run("taught mouth sounds", np.concatenate(parts), meant, [False, True], str(folder))
        run("both at once, taught", np.concatenate(parts), meant, [True, True], str(folder))
    finally:
        server.terminate()
        server.wait()
    os.environ["JACK_DEFAULT_SERVER"] = "nobody-here"
    kills(20)


if __name__ == "__main__":
    main()
