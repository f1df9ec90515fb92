"""Cleaning of difficult takes: F1 on the target's notes, real hits lost by kind, faults left.

Kits, tempos and seeds are none that the defaults were chosen on. `--seeds N` takes, `--live MS` looks
only so far ahead.
"""

from __future__ import annotations

import sys
from collections import Counter
from dataclasses import replace

import numpy as np

from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drum_module
from puresignal.sim.adversarial_takes import FaultRanges

KITS = ("practice-five", "harbour-mesh", "tidewater-compact", "two-decks", "lantern-pads")


def judge(seed: int, setup: FaultRanges, path: CleaningPath, base: int = 5000) -> tuple[Counter, Counter, float]:
    """Real hits by kind with their results, faults likewise, and F1, of one take."""
    random = np.random.default_rng(base + seed)
    kit = note_map_file.shipped(KITS[seed % len(KITS)])
    bpm = float(random.uniform(70, 180))
    setup = replace(setup, doubles=float(random.uniform(0.02, 0.08)), one_stand=seed % 3 == 2)
    sent, _ = adversarial_takes.perform(kit, 24, bpm, base + seed, setup)
    if setup.one_stand:
        kit = replace(kit, pads=tuple(replace(pad, group="rack") for pad in kit.pads))
    take = drum_module.to_take(sent, "t", "t", bpm, "kit")
    context = make_context(take, kit, note_map_file.shipped("boathouse-room"), path)
    kept = set(run(take, path, context).output_notes.origin.tolist())
    real, false = Counter(), Counter()
    for hit in sent.hits:
        if hit.stroke is not None:
            real[hit.stroke.kind, hit.event in kept] += 1
        else:
            false[hit.cause, hit.event in kept] += 1
    right = sum(n for (_, stays), n in real.items() if stays)
    left = right + sum(n for (_, stays), n in false.items() if stays)
    return real, false, 2 * right / (left + sum(real.values()))


def table(seeds: range, setup: FaultRanges, path: CleaningPath) -> None:
    real, false, scores = Counter(), Counter(), []
    for seed in seeds:
        r, f, score = judge(seed, setup, path)
        real += r
        false += f
        scores.append(score)
    total, kept = sum(real.values()), sum(n for (_, stays), n in real.items() if stays)
    left = sum(n for (_, stays), n in false.items() if stays)
    print(
        f"width {setup.width}: {len(scores)} takes, {total} real hits, {sum(false.values())} false ones; "
        f"F1 {2 * kept / (kept + left + total):.4f}, worst take {min(scores):.4f} "
        f"(seed {seeds[int(np.argmin(scores))]})"
    )
    print(f"  real hits lost: {1000 * (total - kept) / total:.2f} in 1,000")
    for kind in sorted({k for k, _ in real}):
        lost, all_ = real[kind, False], real[kind, False] + real[kind, True]
        print(f"    {kind:<12} {lost:5d} of {all_:6d}  {1000 * lost / all_:6.2f} in 1,000")
    for cause in sorted({k for k, _ in false}):
        gone, all_ = false[cause, False], false[cause, False] + false[cause, True]
        print(f"    {cause:<12} removed {100 * gone / all_:.2f} % of {all_}")


def main() -> None:
    count = int(sys.argv[sys.argv.index("--seeds") + 1]) if "--seeds" in sys.argv else 60
    path = CleaningPath()
    if "--live" in sys.argv:
        ahead = float(sys.argv[sys.argv.index("--live") + 1])
        path = replace(path, crosstalk=replace(path.crosstalk, lookahead_ms=ahead))
    for width in (1.0, 1.5):
        table(range(count), FaultRanges(width=width), path)


if __name__ == "__main__":
    main()
