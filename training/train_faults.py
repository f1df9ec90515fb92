"""Train the networks that tell faults from strokes: `train_faults.py doubles|crosstalk FOLDER --music FOLDER`.

First `doubles`, then `crosstalk`, which sees what removing double triggers leaves. Takes are those of three sources
of `bench/faults.py`, with faults that are computed, drawn anew for each kit, or drawn from wide ranges (fewer),
played by our own drummer and as drum parts by others, from the folders named learn-... that collect_music.py made. A
quarter of them has a map without stands. The networks learn from what each take shows of its suspects
(core/path/doubles_evidence, crosstalk_evidence). bench/faults.py measures takes with lower seeds. What the modules
sent is kept in FOLDER, so that an interrupted run goes on where it was. Writes core/path/doubles_weights.py or
core/path/crosstalk_weights.py. Needs PyTorch and SciPy.

--without NAME  leave a source ("physics", "drawn per kit") or a map out, to measure what was learnt on it
--into FOLDER   write the weights there; the double triggers that crosstalk is looked for without are still removed by
                those that the program has
"""

from __future__ import annotations

import argparse
import pickle
import sys
from dataclasses import fields, replace
from multiprocessing import Pool
from pathlib import Path
from typing import NamedTuple

import numpy as np
import torch
from torch import nn
from torch.nn import functional

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))

import faults
from support import composed_takes

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Notes
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.fault_network import CLIP, FaultNetworks
from puresignal.io import note_map_file
from puresignal.sim import drum_module
from puresignal.sim.drum_module import Sent

CORE = Path(__file__).parent.parent / "src" / "puresignal" / "core" / "path"
MATERIAL = (
    ("physics", "own", 500), ("drawn per kit", "own", 500),
    ("physics", "others", 200), ("drawn per kit", "others", 200),
    ("physics", "own, habits", 200), ("drawn per kit", "own, habits", 200),
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
NETWORKS, UNITS, FEWER = 3, 24, 12
DROPPED, BATCH, RATE, DECAY, EPOCHS = 0.1, 512, 4e-3, 1e-2, 16
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
    for kept in (np.ones(len(whole), bool), _part(whole, chance), _part(whole, chance) & _some_pads(whole, chance)):
        notes = whole.take(kept)
        if len(notes):
            rows, evidence = getattr(PATH, stage).suspects(notes, context)
            seen.append(evidence.astype(np.float32))
            false += [truth[origin] for origin in notes.origin[rows].tolist()]
    return np.concatenate(seen), np.array(false, bool)


def _part(notes: Notes, chance: np.random.Generator) -> np.ndarray:
    """Which notes are in a part of a take: short takes are judged too."""
    length = float(np.exp(chance.uniform(np.log(3), np.log(40))))
    begin = chance.uniform(0, max(0.1, float(notes.start[-1]) - length))
    return np.asarray((notes.start >= begin) & (notes.start < begin + length))


def _some_pads(notes: Notes, chance: np.random.Generator) -> np.ndarray:
    """Which notes are of some of the pads, now and then of one alone."""
    every = np.unique(notes.note)
    return np.isin(notes.note, chance.permutation(every)[: int(chance.integers(1, len(every) + 1))])


class Net(nn.Module):
    """One network as PyTorch learns it: as in `fault_network.FaultNetworks`."""

    def __init__(self, figures: int) -> None:
        super().__init__()
        self.first, self.second, self.out = nn.Linear(figures, UNITS), nn.Linear(UNITS, FEWER), nn.Linear(FEWER, 1)
        self.drop = nn.Dropout(DROPPED)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        hidden = self.drop(functional.relu(self.first(self.drop(x))))
        return self.out(functional.relu(self.second(hidden)))[:, 0]


def train(evidence: np.ndarray, false: np.ndarray, number: int) -> Net:
    """Learn one network. evidence: (n, figures), scaled and clipped; false: (n,)"""
    torch.manual_seed(number)
    net = Net(evidence.shape[1])
    x, y = torch.from_numpy(evidence), torch.from_numpy(false.astype(np.float32))
    steps = len(x) // BATCH
    adam = torch.optim.AdamW(net.parameters(), lr=RATE, weight_decay=DECAY)
    pace = torch.optim.lr_scheduler.OneCycleLR(adam, RATE, total_steps=EPOCHS * steps + 1, pct_start=0.15)
    for _ in range(EPOCHS):
        losses = []
        for some in torch.randperm(len(x))[: steps * BATCH].split(BATCH):
            loss = functional.binary_cross_entropy_with_logits(net(x[some]), y[some])
            adam.zero_grad()
            loss.backward()
            adam.step()
            pace.step()
            losses.append(float(loss.detach()))
    print(f"network {number}: {np.mean(losses):.4f}", flush=True)
    return net.eval()


def learnt(evidence: np.ndarray, false: np.ndarray) -> FaultNetworks:
    """Networks that learnt from suspects. evidence: (n, figures); false: (n,) which of them are faults"""
    mean, scale = evidence.mean(axis=0), evidence.std(axis=0) + 0.02
    scaled = np.clip((evidence - mean) / scale, -CLIP, CLIP).astype(np.float32)
    nets = [train(scaled, false, number) for number in range(NETWORKS)]

    def stacked(of: str, name: str) -> np.ndarray:
        return np.stack([getattr(getattr(net, of), name).detach().numpy().T for net in nets])

    return FaultNetworks(
        mean, scale, stacked("first", "weight"), stacked("first", "bias"), stacked("second", "weight"),
        stacked("second", "bias"), stacked("out", "weight")[:, :, 0], stacked("out", "bias")[:, 0],
    )  # fmt: skip


def write(networks: FaultNetworks, path: Path, what: str) -> None:
    """Write the weights as the module that the program reads."""
    rows = []
    for field in fields(networks):
        value = getattr(networks, field.name)
        numbers = ", ".join(f"{x:.4g}" for x in value.ravel().tolist())
        rows.append(f"    {field.name}=np.array([{numbers}]).reshape({value.shape}),")
    path.write_text(
        f'"""Weights of the networks that tell {what} from strokes, learnt by training/train_faults.py.\n\n'
        'Written by it."""\n\n# ruff: noqa: E501\n\nfrom __future__ import annotations\n\nimport numpy as np\n\n'
        "from puresignal.core.path.fault_network import FaultNetworks\n\n# fmt: off\nNETWORKS = FaultNetworks(\n"
        + "\n".join(rows)
        + "\n)\n"
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
    torch.set_num_threads(1)
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
    write(learnt(evidence, false), options.into / f"{options.stage}_weights.py", what)


if __name__ == "__main__":
    main()
