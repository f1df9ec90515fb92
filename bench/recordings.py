"""Recordings: time and memory of the ear, what a slowed block costs, and whether the proposed kind is right.

`--minutes N` of a hummed line (4). The sounds are simulated; the constants of the proposal were not set on them.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile

from puresignal.core.hearing import kind_of_recording
from puresignal.core.sound.time_stretch import TimeStretch
from puresignal.io import models
from puresignal.sim import instrument_synthesis, random_kits, singer

RATE = 22_050


def hear(minutes: float, folder: Path) -> None:
    path, chance = folder / "hummed.wav", np.random.default_rng(2)
    part = singer.perform(singer.line(chance, 240.0, 50, 69), singer.SingingStyle(), 44_100, 3).astype(np.float32)
    with soundfile.SoundFile(path, "w", 44_100, 1, "PCM_16") as file:
        for _ in range(max(1, round(minutes / 4))):
            file.write(0.7 * part / np.abs(part).max())
    begun = time.perf_counter()
    ear = subprocess.Popen(
        [sys.executable, "-m", "puresignal.commands.ear"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    ear.stdin.write(json.dumps({"path": str(path), "kind": "melody"}) + "\n")
    ear.stdin.flush()
    said = {}
    for line in ear.stdout:
        said = json.loads(line)
        if "rows" in said:
            break
    took = time.perf_counter() - begun
    ear.stdin.close()
    ear.wait()
    memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"{minutes:g} minutes: {len(said['rows'])} notes after {took:.1f} s, {memory:.0f} MB")


def slow() -> None:
    chance = np.random.default_rng(0)
    sound = (0.1 * chance.standard_normal((2, 48_000 * 240))).astype(np.float32)
    for at in range(0, sound.shape[1], 6_000):
        sound[:, at : at + 3_000] *= 5
    begun = time.perf_counter()
    stretch = TimeStretch(sound, 48_000)
    print(f"attacks of four minutes found in {time.perf_counter() - begun:.2f} s")
    for size in (64, 256, 1024):
        took, place = [], 4_800_000.0
        for _ in range(2000):
            begun = time.perf_counter()
            stretch.block(place, size, 0.5)
            took.append(1000 * (time.perf_counter() - begun))
            place += 0.5 * size
        print(
            f"{size} frames at half speed: first {took[0]:.2f} ms, then {np.mean(took[1:]):.3f} ms, 99 % within "
            f"{np.quantile(took, 0.99):.2f} ms of {size / 48:.2f}"
        )


def proposals() -> None:
    network, right = models.dense_net("multipitch"), Counter()
    for seed in range(900, 914):
        chance = np.random.default_rng(seed)
        style = singer.SingingStyle(vibrato=float(chance.uniform(0, 0.5)), harmonics=float(chance.uniform(1, 2)))
        line = instrument_synthesis.a_line(chance, 15.0, 45, 80)
        chords = instrument_synthesis.some_chords(chance, 15.0)
        sounds = (
            ("melody", singer.perform(singer.line(chance, 15.0, 48, 72), style, RATE, seed)),
            ("melody", instrument_synthesis.play(line, instrument_synthesis.any_timbre(chance), RATE, seed)),
            ("chords", instrument_synthesis.play(chords, instrument_synthesis.any_timbre(chance), RATE, seed)),
            ("drums", random_kits.groove(random_kits.drawn_kit(chance, RATE), 15.0, RATE, chance)[0]),
        )
        for kind, sound in sounds:
            found = kind_of_recording.features(network, np.asarray(sound, np.float32))
            right[kind, kind_of_recording.kinds(*found)[0][0] == kind] += 1
    for kind in ("melody", "drums", "chords"):
        print(f"proposed right, {kind}: {right[kind, True]} of {right[kind, True] + right[kind, False]}")


def main() -> None:
    minutes = float(sys.argv[sys.argv.index("--minutes") + 1]) if "--minutes" in sys.argv else 4.0
    with tempfile.TemporaryDirectory() as folder:
        hear(minutes, Path(folder))
    slow()
    proposals()


if __name__ == "__main__":
    main()
