"""Train the network that looks at paths of beats: `train_beats.py FOLDER --music FOLDER [--takes N] [--epochs N]`.

Takes are drawn by chance (bench/support: random_styles, random_playing) and made of music by others, from the folders
named learn-... that collect_music.py made. Each gives some of the paths of beats that are found in it, right ones and
wrong ones; the network learns to put its weight on the readings whose beats and bars are right. Paths and what was
learnt after each epoch are kept in FOLDER, so that an interrupted run goes on where it was. Writes
src/puresignal/models/beats.npz. Needs PyTorch and SciPy.
"""

from __future__ import annotations

import argparse
import pickle
import sys
from collections.abc import Sequence
from multiprocessing import Pool, get_context
from pathlib import Path
from typing import NamedTuple

import numpy as np
import torch
from torch import nn
from torch.nn import functional

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))

from support import composed_takes, learn_readings, random_playing, random_styles
from support.as_recorded import as_recorded
from support.composed_takes import Piece
from support.played_free import Played, f_measure

from puresignal.core.timing.bar_readings import METERS, Readings
from puresignal.core.timing.beat_network import MOST, STEPS
from puresignal.core.timing.beat_paths import paths
from puresignal.core.timing.beat_pictures import WIDE, columns_of, picture

MODELS = Path(__file__).parent.parent / "src" / "puresignal" / "models"
KINDS = [(meter, first) for meter in METERS for first in range(meter)]
TAKES = (0, 0)
"""Which set of takes each network learns from, always from another beginning and in another order; their mean errs less
than any of them."""
UNITS, DROPPED, BATCH, RATE, DECAY = 64, 0.15, 24, 2e-3, 1e-2
KEPT, TAUGHT_WITH, RIGHT = 8, 6, 2
"""Paths of a take that are kept, that a step learns from, and of these how many with the right beats."""
GOOD_BEATS, GOOD_BARS = 0.9, 0.8
FEWEST = 6
"""Beats of a take that is learnt from."""
PART = 1_000
"""Takes of which the paths are kept in a file."""
FIRST_STYLE, FIRST_DRAWN, FIRST_RUNNING = 1_000, 50_000, 1_000
RUNNING = 0.12
"""How many of the takes are of notes that run on evenly."""
SOURCE_POWER = 0.6
"""Sources with many pieces give more takes, but not as many more."""


class Seen(NamedTuple):
    """A path: (beats, WIDE) as it looks, F1 of its beats, and (kinds,) of the bars of each reading; -1: it has none."""

    seen: np.ndarray
    thirds: bool
    beats: float
    bars: np.ndarray


def candidates(played: Played) -> list[Seen]:
    """Some of the paths in a take, the right ones first; none if it is too short."""
    stretch = learn_readings.longest_stretch(played)
    if stretch is None or len(stretch.beats) < FEWEST:
        return []
    onsets, beats, bars = stretch
    chance = np.random.default_rng(len(onsets.time))
    rated = [(f_measure(beats, path), path) for path in paths(onsets)]
    rated.sort(key=lambda one: (one[0] <= GOOD_BEATS, chance.random()))
    columns, found = columns_of(onsets), []
    for worth, path in rated[:KEPT]:
        right = np.full(len(KINDS), -1.0)
        for i, (meter, first) in enumerate(KINDS):
            if len(path) >= 2 * meter or meter == 2:
                right[i] = f_measure(bars, path[first::meter])
        seen = picture(onsets, columns, path)[:MOST].astype(np.float16)
        found.append(Seen(seen, Readings(onsets, path).thirds, worth, right))
    return found


def _asked(takes: int, pieces: Sequence[Piece], which: int) -> list[tuple[str, object]]:
    """What the takes of a set are made from; no two sets have a take in common."""
    running = round(takes * RUNNING)
    begin, styles, drawn = which * takes, takes // 2 - running, takes // 6
    asked: list[tuple[str, object]] = [("style", FIRST_STYLE + begin + i) for i in range(styles)]
    asked += [("running", FIRST_RUNNING + begin + i) for i in range(running)]
    asked += [("drawn", FIRST_DRAWN + begin + i) for i in range(drawn)]
    sources: dict[str, list[Piece]] = {}
    for piece in pieces:
        if piece.source.startswith(composed_takes.TAUGHT):
            sources.setdefault(piece.source, []).append(piece)
    shares = {source: len(mine) ** SOURCE_POWER for source, mine in sources.items()}
    for source, mine in sources.items():
        count = round(takes / 3 * shares[source] / sum(shares.values()))
        asked += [("composed", (mine[i % len(mine)], i)) for i in range(which * count, (which + 1) * count)]
    return asked


def _made(asked: tuple[str, object]) -> list[Seen]:
    kind, what = asked
    if kind == "style":
        played = random_styles.random_take(what)  # type: ignore[arg-type]
    elif kind == "running":
        played = random_styles.running_take(what)  # type: ignore[arg-type]
    elif kind == "drawn":
        played = random_playing.random_take(what)  # type: ignore[arg-type]
    else:
        played = composed_takes.take(*what)  # type: ignore[misc]
    if played is None:
        return []
    number = what if isinstance(what, int) else what[1]  # type: ignore[index]
    return candidates(as_recorded(played, number))


def material(folder: Path, takes: int, music: Path, which: int) -> list[list[Seen]]:
    """The paths of all takes of a set that have a right one; made once, and kept in parts."""
    asked = _asked(takes, composed_takes.pieces(music), which)
    every: list[list[Seen]] = []
    with Pool() as pool:
        for part in range(0, len(asked), PART):
            kept = folder / f"paths-{which}-{part}.pickle"
            if not kept.exists():
                found = pool.map(_made, asked[part : part + PART], chunksize=16)
                kept.write_bytes(pickle.dumps([tuple(map(tuple, take)) for take in found if take]))
            every += [[Seen(*one) for one in take] for take in pickle.loads(kept.read_bytes())]
    return [take for take in every if any(one.beats > GOOD_BEATS for one in take)]


class Net(nn.Module):
    """The network as PyTorch learns it: `beat_network.BeatNetwork.ratings`, for many paths at once."""

    def __init__(self) -> None:
        super().__init__()
        self.mean, self.scale = torch.zeros(WIDE), torch.ones(WIDE)
        self.begin = nn.Linear(WIDE, UNITS)
        self.near = nn.ModuleList(nn.Conv1d(UNITS, UNITS, 3, padding=step, dilation=step) for step in STEPS)
        self.on = nn.ModuleList(nn.Conv1d(UNITS, UNITS, 1) for _ in STEPS)
        for layer in self.on:
            layer.weight.data *= 0.3
            nn.init.zeros_(layer.bias)
        self.out, self.down = nn.Linear(2 * UNITS, 1 + 2 * len(METERS)), nn.Linear(UNITS, 1)
        self.weight = nn.Parameter(torch.tensor(0.0))
        self.drop = nn.Dropout(DROPPED)
        self.begins = torch.zeros(MOST, len(KINDS))
        for i, (meter, first) in enumerate(KINDS):
            self.begins[first::meter, i] = 1
        self.meter = [METERS.index(meter) for meter, _ in KINDS]

    def forward(self, x: torch.Tensor, there: torch.Tensor, thirds: torch.Tensor) -> torch.Tensor:
        """x (paths, beats, WIDE), there (paths, beats) 1 where a beat is, thirds (paths,) to (paths, kinds)."""
        x = ((x - self.mean) / self.scale).clamp(-4, 4)
        hidden = functional.relu(self.begin(self.drop(x))).transpose(1, 2) * there[:, None]
        for near, on in zip(self.near, self.on, strict=True):
            hidden = (hidden + on(functional.relu(near(hidden)))) * there[:, None]
        hidden = self.drop(hidden)
        odds = self.down(hidden.transpose(1, 2))[..., 0]
        count = there.sum(1, keepdim=True)
        top = (hidden + (there[:, None] - 1) * 1e4).amax(2)
        out = self.out(torch.cat([hidden.sum(2) / count, top], 1))
        none = (functional.logsigmoid(-odds) * there).sum(1, keepdim=True)
        likely = (none + (odds * there) @ self.begins[: odds.shape[1]]) / count.sqrt()
        meters = len(METERS)
        by_meter = torch.where(thirds[:, None], out[:, 1 + meters :], out[:, 1 : 1 + meters])[:, self.meter]
        return out[:, :1] + by_meter + 2 * torch.exp(self.weight) * likely


def loss_of(net: Net, takes: Sequence[Sequence[Seen]], chance: np.random.Generator) -> torch.Tensor:
    """How little of the weight of all readings is on those with the right beats, and on those with the right bars."""
    chosen, own = [], []
    for i, take in enumerate(takes):
        right = [one for one in take if one.beats > GOOD_BEATS][:RIGHT]
        wrong = [one for one in take if one.beats <= GOOD_BEATS]
        picked = chance.permutation(len(wrong))[: TAUGHT_WITH - len(right)]
        chosen += [*right, *(wrong[k] for k in picked)]
        own += [i] * (len(right) + len(picked))
    long = max(len(one.seen) for one in chosen)
    x, there = np.zeros((len(chosen), long, WIDE), np.float32), np.zeros((len(chosen), long), np.float32)
    for i, one in enumerate(chosen):
        x[i, : len(one.seen)], there[i, : len(one.seen)] = one.seen, 1
    bars = torch.tensor(np.array([one.bars for one in chosen]))
    readings = bars >= 0
    rated = net(torch.from_numpy(x), torch.from_numpy(there), torch.tensor([one.thirds for one in chosen]))
    right = readings & (torch.tensor([one.beats for one in chosen]) > GOOD_BEATS)[:, None]
    whose, count = torch.tensor(own), len(takes)

    def weight(of: torch.Tensor) -> torch.Tensor:
        """(takes,) log of the sum over the readings of a take."""
        values = rated.masked_fill(~of, -1e4)
        most = torch.full((count,), -1e4).scatter_reduce(0, whose, values.amax(1), "amax")
        sums = torch.exp(values - most[whose][:, None]).sum(1)
        return most + torch.log(torch.zeros(count).index_add(0, whose, sums) + 1e-12)

    whole, both = weight(readings), right & (bars > GOOD_BARS)
    known = torch.zeros(count).index_add(0, whose, both.any(1).float()) > 0
    loss = 0.5 * (whole - weight(right)).mean()
    return loss + (whole - weight(both))[known].mean() if known.any() else loss


def train(takes: list[list[Seen]], folder: Path, epochs: int, number: int) -> Net:
    """Learn one of the networks, going on from its last epoch that is kept in the folder."""
    torch.set_num_threads(1)
    torch.manual_seed(number)
    net = Net()
    sample = np.concatenate([take[0].seen for take in takes[:3000]]).astype(np.float32)
    net.mean, net.scale = torch.from_numpy(sample.mean(0)), torch.from_numpy(sample.std(0) + 0.05)
    steps = len(takes) // BATCH
    adam = torch.optim.AdamW(net.parameters(), lr=RATE, weight_decay=DECAY)
    pace = torch.optim.lr_scheduler.OneCycleLR(adam, RATE, total_steps=epochs * steps + 1, pct_start=0.15)
    kept, first = folder / f"network-{number}.pt", 0
    if kept.exists():
        state = torch.load(kept)
        if state["of"] != epochs:
            raise SystemExit(f"{kept} is of a run of {state['of']} epochs: ask for as many, or for another folder")
        net.load_state_dict(state["net"])
        adam.load_state_dict(state["adam"])
        pace.load_state_dict(state["pace"])
        first = state["epochs"]
    usual = np.array([np.median([len(one.seen) for one in take]) for take in takes])
    for epoch in range(first, epochs):
        chance, losses = np.random.default_rng([number, epoch]), []
        # Takes of about one length together: the shorter ones are filled up to the longest.
        order = np.argsort(usual * np.exp(chance.normal(0, 0.15, len(takes))))
        for k in chance.permutation(steps).tolist():
            loss = loss_of(net, [takes[i] for i in order[k * BATCH : (k + 1) * BATCH]], chance)
            adam.zero_grad()
            loss.backward()
            torch.nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            adam.step()
            pace.step()
            losses.append(float(loss.detach()))
        print(f"network {number}, epoch {epoch + 1}: {np.mean(losses):.3f}", flush=True)
        state = {
            "net": net.state_dict(),
            "adam": adam.state_dict(),
            "pace": pace.state_dict(),
            "epochs": epoch + 1,
            "of": epochs,
        }
        torch.save(state, kept)
    return net.eval()


def arrays(net: Net) -> dict[str, np.ndarray]:
    """What `beat_network.from_arrays` reads."""
    found = {
        "mean": net.mean, "scale": net.scale, "begin": net.begin.weight.T, "begin_by": net.begin.bias,
        "near": torch.stack([layer.weight.permute(2, 1, 0) for layer in net.near]),
        "near_by": torch.stack([layer.bias for layer in net.near]),
        "on": torch.stack([layer.weight[:, :, 0].T for layer in net.on]),
        "on_by": torch.stack([layer.bias for layer in net.on]), "out": net.out.weight.T, "out_by": net.out.bias,
        "down": net.down.weight[0], "down_by": net.down.bias[0], "weight": 2 * torch.exp(net.weight),
    }  # fmt: skip
    return {name: value.detach().numpy().astype(np.float32) for name, value in found.items()}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--music", type=Path, required=True)
    parser.add_argument("--takes", type=int, default=10_000)
    parser.add_argument("--epochs", type=int, default=8)
    options = parser.parse_args()
    options.folder.mkdir(parents=True, exist_ok=True)
    nets = []
    for which in sorted(set(TAKES)):
        takes = material(options.folder, options.takes, options.music, which)
        numbers = [number for number, of in enumerate(TAKES) if of == which]
        # Each in a process of its own: with so few channels, a second thread hardly makes one of them faster.
        fork = get_context("fork")
        learning = [
            fork.Process(target=train, args=(takes, options.folder, options.epochs, number)) for number in numbers
        ]
        for one in learning:
            one.start()
        for one in learning:
            one.join()
            if one.exitcode:
                raise SystemExit(f"a network was not learnt ({one.exitcode}); ask again to go on")
        # Their last epochs are kept, so that nothing is left to learn here.
        nets += [arrays(train(takes, options.folder, options.epochs, number)) for number in numbers]
        del takes
    np.savez_compressed(
        MODELS / "beats.npz", **{name: np.stack([one[name] for one in nets]).astype(np.float16) for name in nets[0]}
    )


if __name__ == "__main__":
    main()
