"""Train the trees that tell faults from strokes: `train_faults.py doubles|crosstalk FOLDER --music FOLDER`.

First `doubles`, then `crosstalk`, which sees what removing double triggers leaves. Takes are those of three sources
of `bench/faults.py`, with faults that are computed, drawn anew for each kit, or drawn from wide ranges (fewer),
played by our own drummer and as drum parts by others, from the folders named learn-... that collect_music.py made. A
quarter of them has a map without stands. The trees learn from what each take shows of its suspects
(core/path/doubles_evidence, crosstalk_evidence). bench/faults.py measures takes with lower seeds. What the modules
sent is kept in FOLDER, so that an interrupted run goes on where it was. Writes core/path/doubles_trees.py or
core/path/crosstalk_trees.py. Needs CatBoost and SciPy.

--without NAME  leave a source ("physics", "drawn per kit") or a map out, to measure what was learnt on it
--into FOLDER   write the trees there; the double triggers that crosstalk is looked for without are still removed by
                those that the program has
"""

from __future__ import annotations

import argparse
import pickle
import sys
from base64 import b64encode
from dataclasses import replace
from multiprocessing import Pool
from pathlib import Path
from typing import NamedTuple

import learn_trees
import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))

import faults
from support import composed_takes

from puresignal.core.decision_trees import LEAF, QUESTIONS, DecisionTrees
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Notes
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.io import note_map_file
from puresignal.sim import drum_module
from puresignal.sim.drum_module import Sent

CORE = Path(__file__).parent.parent / "src" / "puresignal" / "core" / "path"
MATERIAL = (
    ("physics", "own", 900), ("drawn per kit", "own", 1_000),
    ("physics", "others", 300), ("drawn per kit", "others", 400),
    ("physics", "own, habits", 500), ("drawn per kit", "own, habits", 700),
    ("physics", "others, habits", 200), ("drawn per kit", "others, habits", 200),
    ("physics, many", "own", 100), ("drawn per kit, many", "own", 200), ("drawn per kit, many", "others, habits", 100),
    ("drawn, wide", "own", 100), ("drawn, wide", "others", 100), ("drawn, wide", "own, habits", 100),
    ("drawn, wide", "others, habits", 100),
)  # fmt: skip
"""Sources; who plays, our drummer or drum parts by others, with other habits (played_habits.py) or without; and how
many takes of them."""
FIRST = 1_001
"""Seed of the first take of each."""
WITHOUT_STANDS = 4
"""Every so many takes have a map without stands."""
PART = 100
"""Takes that are kept in a file."""
MANNER = learn_trees.Manner(questions=QUESTIONS)
"""How trees are learnt."""
LONG, SHORT = (3.0, 40.0), (0.7, 5.0)
"""Seconds of the parts of each take that are learnt from beside the whole."""
PATH = CleaningPath()
TARGET = note_map_file.shipped("boathouse-room")


class Made(NamedTuple):
    """What a module sent, with its map and speed."""

    source: str
    seed: int
    sent: Sent
    kit: NoteMap
    bpm: float


def _made(asked: tuple[str, str, int]) -> Made | None:
    source, who, seed = asked
    sent, kit, bpm = faults.made(source, seed, PARTS if "others" in who else None, "habits" in who)
    if not faults.counts(source, sent):
        return None
    if seed % WITHOUT_STANDS == 0:
        kit = replace(kit, pads=tuple(replace(pad, group=None) for pad in kit.pads))
    return Made(source, seed, sent, kit, bpm)


PARTS: list[composed_takes.Piece] = []


def material(folder: Path) -> list[Made]:
    """All takes; made once, and kept in parts."""
    found: list[Made] = []
    with Pool() as pool:
        for source, who, count in MATERIAL:
            for part in range(FIRST, FIRST + count, PART):
                kept = folder / f"{source} {who} {part}.pickle".replace(", ", "-").replace(" ", "-")
                if not kept.exists():
                    asked = [(source, who, seed) for seed in range(part, part + PART)]
                    made = [tuple(one) for one in pool.map(_made, asked, chunksize=4) if one]
                    kept.write_bytes(pickle.dumps(made))
                    print(kept.name, len(made), flush=True)
                found += [Made(*one) for one in pickle.loads(kept.read_bytes())]
    return found


def shown(asked: tuple[str, Made]) -> tuple[np.ndarray, np.ndarray]:
    """What a take shows of its suspects, (n, figures), and which of them are faults, (n,)."""
    stage, one = asked
    take = drum_module.to_take(one.sent, "t", "t", one.bpm, "kit")
    context = make_context(take, one.kit, TARGET, PATH)
    before = [each.stage.key for each in PATH.stages()].index(stage)
    whole = run(take, PATH, context, stages=before).output_notes
    truth = {hit.event: hit.stroke is None for hit in one.sent.hits}
    chance = np.random.default_rng(one.seed)
    seen, false = [], []
    for kept in (
        np.ones(len(whole), bool), _part(whole, chance), _part(whole, chance) & _some_pads(whole, chance),
        _part(whole, chance, SHORT), _part(whole, chance, SHORT),
    ):  # fmt: skip
        notes = whole.take(kept)
        if len(notes):
            rows, evidence = getattr(PATH, stage).suspects(notes, context)
            seen.append(evidence.astype(np.float32))
            false += [truth[origin] for origin in notes.origin[rows].tolist()]
    return np.concatenate(seen), np.array(false, bool)


def _part(notes: Notes, chance: np.random.Generator, seconds: tuple[float, float] = LONG) -> np.ndarray:
    """Which notes are in a part of a take, so many seconds long: short takes are judged too."""
    length = float(np.exp(chance.uniform(*np.log(seconds))))
    begin = chance.uniform(0, max(0.1, float(notes.start[-1]) - length))
    return np.asarray((notes.start >= begin) & (notes.start < begin + length))


def _some_pads(notes: Notes, chance: np.random.Generator) -> np.ndarray:
    """Which notes are of some of the pads, now and then of one alone."""
    every = np.unique(notes.note)
    return np.isin(notes.note, chance.permutation(every)[: int(chance.integers(1, len(every) + 1))])


def write(trees: DecisionTrees, path: Path, what: str) -> None:
    """Write the trees as the module that the program reads."""

    def text(numbers: np.ndarray, how: str) -> str:
        return f'"{b64encode(numbers.astype(how).tobytes()).decode()}"'

    path.write_text(
        f'"""The trees that tell {what} from strokes, learnt by training/train_faults.py.\n\n'
        'Written by it."""\n\nfrom __future__ import annotations\n\n'
        "from puresignal.core.decision_trees import DecisionTrees\n\n# fmt: off\nTREES = DecisionTrees.from_text(\n"
        f"    figures={trees.figures},\n    begin={trees.begin:.5g},\n    figure={text(trees.figure, '|u1')},\n"
        f"    border={text(trees.border, '<f4')},\n    leaf={text(np.rint(trees.leaf / LEAF), '<i2')},\n)\n"
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("stage", choices=("doubles", "crosstalk"))
    parser.add_argument("folder", type=Path)
    parser.add_argument("--music", type=Path, required=True)
    parser.add_argument("--without", action="append", default=[])
    parser.add_argument("--into", type=Path, default=CORE)
    options = parser.parse_args()
    options.folder.mkdir(parents=True, exist_ok=True)
    PARTS.extend(
        piece for piece in composed_takes.pieces(options.music)
        if piece.drums and piece.source.startswith(composed_takes.TAUGHT)
    )  # fmt: skip
    takes = [
        one for one in material(options.folder)
        if one.source.removesuffix(", many") not in options.without and one.kit.name not in options.without
    ]  # fmt: skip
    with Pool() as pool:
        rows = pool.map(shown, [(options.stage, one) for one in takes], chunksize=8)
    evidence = np.concatenate([seen for seen, _ in rows if len(seen)])
    false = np.concatenate([which for seen, which in rows if len(seen)])
    print(f"{len(takes)} takes, {len(false)} suspects, {false.sum()} of them faults")
    what = {"doubles": "double triggers", "crosstalk": "crosstalk"}[options.stage]
    options.into.mkdir(parents=True, exist_ok=True)
    write(learn_trees.learnt(evidence, false, MANNER), options.into / f"{options.stage}_trees.py", what)


if __name__ == "__main__":
    main()
