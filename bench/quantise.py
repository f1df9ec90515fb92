"""Quantise by evidence against takes whose lines are known: the share of notes that come to the line that was meant.

`quantise.py [--seeds FROM COUNT]`: 100 takes of each kind from seed 1000 on unless told otherwise. Kinds below the line
were looked at only here. A note is right within a fifth of the finest step, or 35 ms; a grace note at its distance.
"""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench.support.graded_grooves import ASIDE, STYLES, Graded, make, right
from puresignal.core.timing.meant_together import together
from puresignal.core.timing.quantise import SURE, Pulled, pull
from puresignal.core.timing.session_time import Timeline


def quantised(take: Graded) -> Pulled:
    start = take.beats * 60 / take.bpm
    pitched = np.full(len(start), 0 if take.pitched else -1)
    meant = together(start, take.key, take.velocity, pitched)
    return pull(take.beats, Timeline.steady(take.bpm), take.key, meant, None)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, nargs=2, default=(1000, 100))
    first, count = parser.parse_args().seeds
    every: list[float] = []
    flagged = notes = wrong = held = 0
    worst = 1.0
    for style in (*STYLES, *ASIDE):
        shares, plain = [], []
        for seed in range(first, first + count):
            take = make(style, seed)
            found = quantised(take)
            good = right(take, found.line)
            shares.append(float(good.mean()))
            plain.append(float(right(take, np.round(take.beats * 4) / 4).mean()))
            unsure = (found.sure < SURE) & ~np.isnan(found.other)
            if style in STYLES:
                flagged, notes = flagged + int(unsure.sum()), notes + len(good)
                wrong, held = wrong + int((~good).sum()), held + int((unsure & ~good).sum())
                every.append(shares[-1])
                if take.jitter < take.finest * 60 / take.bpm / 4:
                    worst = min(worst, shares[-1])
        mark = "  (aside)" if style in ASIDE else ""
        print(f"{style:20} mean {np.mean(shares):.4f} worst {min(shares):.3f}; nearest 1/16 {np.mean(plain):.3f}{mark}")
    print(f"all: mean {np.mean(every):.4f}, worst take with jitter under a quarter of its finest step {worst:.3f}")
    print(f"between two lines: {flagged / notes:.2%} of all, holding {held / max(1, wrong):.2f} of the {wrong} wrong")
    rng = np.random.default_rng(1)
    n = 100_000
    beats = np.sort(rng.integers(0, n, n) / 4 + rng.normal(0, 0.02, n))
    key, velocity = rng.integers(0, 6, n), rng.integers(30, 120, n).astype(float)
    begun = time.perf_counter()
    pull(beats, Timeline.steady(120), key, together(beats * 0.5, key, velocity, np.full(n, -1)), None)
    print(f"100,000 notes: {time.perf_counter() - begun:.2f} s")


if __name__ == "__main__":
    main()
