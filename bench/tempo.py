"""Beats, meter and downbeats found in takes played without a click, by kind and by way; kinds held out apart.

`tempo.py [--takes N] [--fit]`: N takes of each kind and way; --fit prints weights fitted on the kinds not held out.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import defaultdict
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from support.played_free import CRASH, KICK, KINDS, SNARE, WAYS, Played, f_measure, play

from puresignal.core.timing import beat_finder
from puresignal.core.timing.onsets import Onsets, onsets_of


def onsets(played: Played) -> Onsets:
    rows = np.array([row[:4] for row in played.rows])
    start, note, velocity, long = rows.T
    drums = np.full(len(rows), played.kind.drums)
    return onsets_of(
        start, velocity, note, start + long, drums & (note == KICK), drums & (note == SNARE), ~drums,
        drums & (note == CRASH),
    )  # fmt: skip


def right_meter(played: Played, found: beat_finder.Beats) -> bool:
    """Whether the bars are right: as long, and beginning where they do."""
    return f_measure(played.bars, found.bars) > 0.8


def fit(takes: int) -> None:
    """Weights of the features, by which the right speed of each take stands out; only kinds that are not held out."""
    from scipy.optimize import minimize

    cases = []
    for k, kind in enumerate(KINDS):
        if kind.held_out:
            continue
        for w, way in enumerate(WAYS):
            for n in range(takes):
                played = play(kind, way, 7919 * k + 101 * w + n)
                heard = onsets(played)
                paths = beat_finder._paths(heard, float(heard.time[0]) - 0.1)
                readings = [beat_finder._Reading(heard, beats) for beats in paths]
                worth = np.array([f_measure(played.beats, beats) for beats in paths])
                if worth.max() > 0.8:
                    cases.append((np.array([one.features for one in readings]), worth))
    spread = np.concatenate([c[0] for c in cases]).std(axis=0) + 1e-6

    def loss(weights: np.ndarray) -> float:
        total = 0.0
        for features, worth in cases:
            scores = features @ (weights / spread)
            odds = np.exp(scores - scores.max())
            total -= float(np.log((odds * (worth > 0.9)).sum() / odds.sum() + 1e-9))
        return total / len(cases) + 0.003 * float((weights**2).sum())

    found = minimize(loss, np.zeros(len(spread)), method="L-BFGS-B").x / spread
    print("WEIGHTS = np.array([" + ", ".join(f"{w:.3g}" for w in found) + "])")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--takes", type=int, default=1)
    parser.add_argument("--fit", action="store_true")
    options = parser.parse_args()
    if options.fit:
        fit(options.takes)
        return
    by_kind: dict[str, list[tuple[float, bool]]] = defaultdict(list)
    by_way: dict[str, list[tuple[float, bool]]] = defaultdict(list)
    seconds = []
    for k, kind in enumerate(KINDS):
        for w, way in enumerate(WAYS):
            for n in range(options.takes):
                played = play(kind, way, 10_000 + 7919 * k + 101 * w + n)
                begun = time.perf_counter()
                found = beat_finder.find(onsets(played))
                seconds.append((time.perf_counter() - begun) / played.rows[-1][0])
                row = f_measure(played.beats, found.time), right_meter(played, found)
                by_kind[kind.name].append(row)
                by_way[way].append(row)
    for kind in KINDS:
        rows = by_kind[kind.name]
        mean, low = np.mean([r[0] for r in rows]), min(r[0] for r in rows)
        held = "held out" if kind.held_out else ""
        print(f"{kind.name:22} {mean:.3f} lowest {low:.2f}  bars {np.mean([r[1] for r in rows]):.2f}  {held}")
    for way, rows in by_way.items():
        print(f"{way:22} {np.mean([r[0] for r in rows]):.3f}  bars {np.mean([r[1] for r in rows]):.2f}")
    for name, held in (("kinds that were known", False), ("kinds held out", True)):
        rows = [row for kind in KINDS if kind.held_out is held for row in by_kind[kind.name]]
        few = sum(r[0] < 0.6 for r in rows)
        print(f"{name}: {len(rows)} takes, F1 {np.mean([r[0] for r in rows]):.3f}, {few} below 0.6, "
              f"bars {np.mean([r[1] for r in rows]):.3f}")  # fmt: skip
    print(f"four minutes take {240 * np.mean(seconds):.2f} s")


if __name__ == "__main__":
    main()
