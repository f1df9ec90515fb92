"""Beats, meter and downbeats found in takes played without a click, by kind and by way; kinds held out apart.

`tempo.py [--takes N] [--fit N]`: N takes of each kind and way. --fit learns the weights anew from N takes drawn by
chance (3,000 take about ten minutes) and writes them into the program; no kind that is measured here is among them.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import defaultdict
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from support import learn_readings
from support.learn_readings import onsets
from support.played_free import KINDS, WAYS, Played, f_measure, play

from puresignal.core.timing import beat_finder, reading_weights


def right_meter(played: Played, found: beat_finder.Beats) -> bool:
    """Whether the bars are right: as long, and beginning where they do."""
    return f_measure(played.bars, found.bars) > 0.8


def fit(takes: int) -> None:
    """Learn the weights anew from drawn takes, and write them where the program reads them."""
    drawn = learn_readings.cases(takes)
    first_aside = round(takes * (1 - learn_readings.KEPT_ASIDE))
    weights = learn_readings.learn(drawn[:first_aside])
    beats, bars = learn_readings.judge(weights, drawn[first_aside:])
    print(f"drawn takes kept aside: {takes - first_aside}, F1 {beats:.3f}, bars {bars:.3f}")
    learn_readings.write(weights, Path(reading_weights.__file__))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--takes", type=int, default=1)
    parser.add_argument("--fit", type=int, default=0)
    options = parser.parse_args()
    if options.fit:
        fit(options.fit)
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
