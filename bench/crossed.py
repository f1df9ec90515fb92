"""Cleaning learnt from one simulator and measured on the other, both ways: `crossed.py FOLDER [--seeds N]`.

FOLDER holds what training/train_faults.py wrote with `--without "drawn, wide" --without physics --into FOLDER/drawn`
and with `--without "drawn, wide" --without "drawn per kit" --into FOLDER/physics`. N takes of each simulator from 101
on, and of one from which neither has learnt, are cleaned by what was learnt from each, and by what the program ships,
which was learnt from all.
"""

from __future__ import annotations

import importlib.util
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench import faults
from puresignal.core.decision_trees import DecisionTrees
from puresignal.core.path import crosstalk, crosstalk_trees, doubles, doubles_trees
from puresignal.core.path.cleaning_path import CleaningPath

SIMULATORS = ("physics", "drawn per kit", "drawn, wide")


def learnt(path: Path) -> DecisionTrees:
    """The trees of a file that was written by the training."""
    spec = importlib.util.spec_from_file_location(path.stem, path)
    if spec is None or spec.loader is None or not path.exists():
        raise SystemExit(f"{path} is missing; train_faults.py --into writes it")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    trees: DecisionTrees = module.TREES
    return trees


def main() -> None:
    if len(sys.argv) < 2 or sys.argv[1].startswith("--"):
        raise SystemExit("crossed.py FOLDER: where is what was learnt from one simulator?")
    seeds = range(101, 101 + int(faults.number("--seeds", 100)))
    choices = {"as shipped": (doubles_trees.TREES, crosstalk_trees.TREES)}
    for name in ("drawn", "physics"):
        folder = Path(sys.argv[1]) / name
        files = (folder / "doubles_trees.py", folder / "crosstalk_trees.py")
        choices[f"learnt from {name}"] = (learnt(files[0]), learnt(files[1]))
    for name, (of_doubles, of_crosstalk) in choices.items():
        doubles.TREES, crosstalk.TREES = of_doubles, of_crosstalk
        print(name)
        for source in SIMULATORS:
            faults.table(source, seeds, CleaningPath(), False, False)


if __name__ == "__main__":
    main()
