"""Cleaning tuned on one simulator and measured on the other, both ways.

What was chosen by trying (limits, thresholds, and what is usual in the models of crosstalk and double triggers) is
chosen anew, one value after the other, for the best F1 on takes of one simulator, and then measured on takes of the
other that neither choice has seen, beside the values chosen there. `--seeds N` takes of each, from 1 for choosing and
from 401 for measuring; `--rounds N` times through all values.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench import faults
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.path import crosstalk, crosstalk_model, doubles, doubles_model
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.sim.drum_module import Sent

SIMULATORS = ("drawn, wide", "physics")
SETTINGS: dict[tuple[str, str], tuple[float, ...]] = {
    ("crosstalk", "min_confidence"): (0.3, 0.4, 0.5, 0.6, 0.7),
    ("crosstalk", "ratio"): (0.5, 0.65, 0.8),
    ("doubles", "min_confidence"): (0.7, 0.8, 0.85, 0.9, 0.95),
    ("doubles", "ratio"): (0.6, 0.7, 0.8, 0.9),
}
USUAL: dict[tuple[str, str], tuple[float, ...]] = {
    ("crosstalk_model", "USUAL_SHARE"): tuple(np.log([0.12, 0.15, 0.19]).tolist()),
    ("crosstalk_model", "HIGHEST"): tuple(np.log([0.19, 0.23, 0.28]).tolist()),
    ("crosstalk_model", "BETWEEN_PAIRS"): (0.5, 0.65, 0.8),
    ("crosstalk_model", "SHARE_FIRST"): (0.45, 0.6, 0.75),
    ("crosstalk_model", "ACROSS_FIRST"): (0.05, 0.1, 0.2),
    ("crosstalk_model", "SOFT_STROKES"): (-9.0, -6.0, -3.0),
    ("crosstalk_model", "OCCURRED"): (0.25, 0.5, 0.75),
    ("crosstalk_model", "VARIES_MS"): (2.6, 3.0, 3.5),
    ("doubles_model", "GAP_MS"): (18.0, 22.0, 27.0),
    ("doubles_model", "PART"): (0.2, 0.25, 0.31),
    ("doubles_model", "LOUDEST"): tuple(np.log([0.33, 0.4, 0.48]).tolist()),
    ("doubles_model", "TAPS"): (0.12, 0.2, 0.3),
}
MODULES = {"crosstalk_model": (crosstalk_model, crosstalk), "doubles_model": (doubles_model, doubles)}
Chosen = dict[tuple[str, str], float]


@dataclass
class Takes:
    """Takes of one simulator, made once."""

    made: list[tuple[Sent, NoteMap, float]] = field(default_factory=list)

    @classmethod
    def of(cls, source: str, seeds: range) -> Takes:
        return cls([take for take in (faults.made(source, seed) for seed in seeds) if faults.counts(source, take[0])])

    def score(self, chosen: Chosen) -> float:
        """F1 of all takes together."""
        path = CleaningPath()
        for (where, name), value in chosen.items():
            for module in MODULES.get(where, ()):
                if hasattr(module, name):
                    setattr(module, name, value)
            if where not in MODULES:
                path = replace(path, **{where: replace(getattr(path, where), **{name: value})})
        right = wrong = 0
        for sent, kit, bpm in self.made:
            real, false, _ = faults.judge(sent, kit, bpm, path, [])
            right += sum(n for (_, stays), n in real.items() if stays)
            wrong += sum(n for (_, stays), n in real.items() if not stays)
            wrong += sum(n for (_, stays), n in false.items() if stays)
        return 2 * right / (2 * right + wrong)


def shipped() -> Chosen:
    """The values as they are."""
    usual = {(where, name): float(getattr(MODULES[where][0], name)) for where, name in USUAL}
    return {(where, name): getattr(getattr(CleaningPath(), where), name) for where, name in SETTINGS} | usual


def tuned(takes: Takes, start: Chosen, rounds: int) -> Chosen:
    """The values that are best for some takes, one after the other."""
    chosen, best = dict(start), takes.score(start)
    for _ in range(rounds):
        for what, values in (SETTINGS | USUAL).items():
            for value in values:
                if value != chosen[what] and (score := takes.score({**chosen, what: value})) > best:
                    chosen, best = {**chosen, what: value}, score
    return chosen


def main() -> None:
    count, rounds = int(faults.number("--seeds", 40)), int(faults.number("--rounds", 1))
    before = shipped()
    choices = {"as shipped": before}
    for source in SIMULATORS:
        choices[f"tuned on {source}"] = tuned(Takes.of(source, range(1, 1 + count)), before, rounds)
        moved = {name: value for name, value in choices[f"tuned on {source}"].items() if value != before[name]}
        print(f"tuned on {source}: " + ", ".join(f"{name[1]} {value:.3g}" for name, value in moved.items()), flush=True)
    for source in SIMULATORS:
        takes = Takes.of(source, range(401, 401 + count))
        for name, chosen in choices.items():
            print(f"measured on {source}, {name}: F1 {takes.score(chosen):.4f}", flush=True)


if __name__ == "__main__":
    main()
