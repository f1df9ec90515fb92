"""Time that a thousand bars of each generator take, and how far live steps are from their frames over ten minutes.

`generators.py`: medians of 20 runs; changes of tempo during the live part.
"""

from __future__ import annotations

import time

import numpy as np

from puresignal.core.generators import held_pattern, making
from puresignal.core.generators.recipe import Arpeggio, BassLine, ChordProgression, ChordsUnder, DrumPattern
from puresignal.core.timing.beat_table import BeatTable
from puresignal.engine import ring
from puresignal.engine.player import Player
from puresignal.engine.ring import Reader
from puresignal.engine.shared_counters import SharedCounters, make

BARS, RATE, BLOCK = 1000, 48_000, 256


def timed() -> None:
    chords = making.made(ChordProgression(bars=BARS), 4.0)
    for recipe in (ChordProgression(bars=BARS), Arpeggio(bars=BARS, source="t"), BassLine(bars=BARS, source="t"),
                   DrumPattern(bars=BARS), ChordsUnder(bars=BARS, source="t")):  # fmt: skip
        took, count = [], 0
        for seed in range(20):
            began = time.perf_counter()
            count = len(making.made(type(recipe)(bars=BARS, source=recipe.source, seed=seed), 4.0, "C major", chords))
            took.append(time.perf_counter() - began)
        print(f"{recipe.kind}: {count} notes in {BARS} bars, {1000 * np.median(took):.0f} ms")


def live() -> None:
    lengths = np.concatenate([np.full(400, 0.5), np.linspace(0.5, 1.0, 300), np.full(1500, 0.25)])
    seconds = np.concatenate([[0.0], np.cumsum(lengths)])
    for recipe in (Arpeggio(rate="1/8", swing=50.0), BassLine(rate="1/8", rests=0.0), DrumPattern(hats=16, ghosts=0.0),
                   ChordProgression(every="1/4")):  # fmt: skip
        memory = ring.make()
        reader, player = Reader(memory), Player(ring.Writer(memory), SharedCounters(make()))
        player.endless = True
        player.beats = BeatTable(np.arange(len(seconds), dtype=float).tolist(), seconds.tolist())
        player.held.set_up(0, 1, 1, recipe)
        player.play(0.0, 0, RATE)
        player.held.hear([(0.0, 0, bytes((0x90, note, 90))) for note in (60, 64, 67)])
        begins, rows = player._origin_frame, []
        for frame in range(0, 600 * RATE, BLOCK):
            player.hand_over(frame, BLOCK)
            rows += [r.at for r in reader.read() if r.port == 1 and r.data[0] & 0xF0 == 0x90]
        step = held_pattern.of_recipe(recipe, 4.0).step
        wanted = np.array([begins + round(player.beats.second_of(k * step) * RATE) for k in range(40_000)], float)
        off = np.abs(wanted[np.clip(np.searchsorted(wanted, np.array(rows) - 2), 0, len(wanted) - 1)] - np.array(rows))
        print(f"{recipe.kind} live: {len(rows)} notes in ten minutes, at most {off.max():.0f} frames off their step")


if __name__ == "__main__":
    timed()
    live()
