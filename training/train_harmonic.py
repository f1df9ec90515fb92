"""Train the network of core/hearing/networks/harmonic.py with PyTorch, which only training needs."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import torch
from torch import nn

from puresignal.core.hearing.networks import dense, harmonic
from puresignal.core.hearing.networks.harmonic import APART, INPUTS, MIXED, TURNS, Rows
from puresignal.core.hearing.networks.multipitch import SEMITONES
from puresignal.core.hearing.networks.pitch_levels import Changes, Levels

Loaded = tuple[Levels, Changes, np.ndarray, np.ndarray, np.ndarray]
"""Levels, changes, whether each pitch sounds, 0..1 that it begins, and whether neither is known."""
SHOWN, BATCH, RATE = 200, 12, 3e-3
"""Frames of an excerpt, excerpts of a step, and the highest learning rate."""
IMPORTANT = 1.2
"""Weight of what sounds or begins, against what does not."""


class Gathered(torch.autograd.Function):
    """The rows at some places, side by side. Its way back is a gathering too, which is faster than adding up."""

    @staticmethod
    def forward(ctx: Any, x: torch.Tensor, where: torch.Tensor, back: torch.Tensor) -> torch.Tensor:
        ctx.save_for_backward(back)
        ctx.width = x.shape[1]
        padded = torch.cat([x, x.new_zeros(1, x.shape[1])])
        return padded.index_select(0, where.reshape(-1)).view(len(where), -1)

    @staticmethod
    def backward(ctx: Any, grad: torch.Tensor) -> tuple[torch.Tensor, None, None]:  # type: ignore[override]
        (back,) = ctx.saved_tensors
        flat = torch.cat([grad.reshape(-1, ctx.width), grad.new_zeros(1, ctx.width)])
        return flat.index_select(0, back.reshape(-1)).view(*back.shape, ctx.width).sum(dim=1), None, None


def both_ways(rows: Rows, frames: np.ndarray | int, semitones: np.ndarray | int) -> tuple[np.ndarray, np.ndarray]:
    """Where the neighbours of each row are, and where each row went as a neighbour."""
    where, opposite = rows.at(frames, semitones), rows.at(-1 * frames, -1 * semitones)
    count = where.shape[1]
    return where, np.where(opposite < len(where), opposite * count + np.arange(count), len(where) * count)


class Block(nn.Module):
    """Mix what is known of related pitches, then of the moments around, each added to what was known."""

    def __init__(self, width: int, narrow: int) -> None:
        super().__init__()
        self.narrow = nn.Linear(width, narrow)
        self.mixed, self.mixed_norm = nn.Linear(narrow * len(MIXED), width, bias=False), nn.BatchNorm1d(width)
        self.along, self.along_norm = nn.Linear(width * len(TURNS), width, bias=False), nn.BatchNorm1d(width)

    def forward(self, x: torch.Tensor, related: Any, around: Any) -> torch.Tensor:
        """(rows, width) to the same."""
        beside = Gathered.apply(torch.relu(self.narrow(x)), *related)
        x = x + torch.relu(self.mixed_norm(self.mixed(beside)))
        return x + torch.relu(self.along_norm(self.along(Gathered.apply(x, *around))))


class Net(nn.Module):
    """Log odds that each cell sounds and begins."""

    def __init__(self, width: int, narrow: int) -> None:
        super().__init__()
        self.norm, self.first = nn.BatchNorm1d(INPUTS), nn.Linear(INPUTS, width)
        self.blocks = nn.ModuleList(Block(width, narrow) for _ in APART)
        self.drop, self.out = nn.Dropout(0.1), nn.Linear(width, 2)

    def forward(self, x: torch.Tensor, neighbours: list[Any]) -> torch.Tensor:
        """(rows, INPUTS) to (rows, 2)."""
        x = torch.relu(self.first(self.norm(x).clamp(-5, 5)))
        for block, around in zip(self.blocks, neighbours[1:], strict=True):
            x = block(x, neighbours[0], around)
        return self.out(self.drop(x))


def varied(seen: Levels, changes: Changes, random: np.random.Generator) -> tuple[Levels, Changes]:
    """As through another loudspeaker: a tilt, some broad resonances, another level."""
    at = np.arange(SEMITONES)
    tone = random.normal(0, 0.1) + random.normal(0, 0.15) * (at - 60) / 36
    for _ in range(3):
        tone = tone + random.normal(0, 0.15) * np.exp(-(((at - random.uniform(0, 126)) / random.uniform(3, 20)) ** 2))
    tone = tone.astype(np.float32)
    levels = Levels(seen.long + np.repeat(tone, 3), seen.middle + tone, seen.short + tone)
    return levels, Changes(changes.middle + tone, changes.short + tone)


Shown = tuple[torch.Tensor, torch.Tensor, list[Any]]
"""Inputs (rows, INPUTS), targets (rows, 2), and the neighbours for each layer."""


def together(clips: list[tuple[Loaded, np.ndarray]], random: np.random.Generator | None) -> Shown:
    """Parts of some clips, or all of them without random, as rows. Each clip comes with what may be a note.

    What rings on after a note's end counts as silent: most instruments show where they are let go.
    """
    xs, ys, asked = [], [], []
    for (seen, changes, sounds, starts, _), may_be in clips:
        part = slice(None)
        if random is not None:
            first = int(random.integers(0, max(1, len(seen) - SHOWN)))
            part = slice(first, first + SHOWN)
        own = Levels(*(np.asarray(a[part], np.float32) for a in (seen.long, seen.middle, seen.short)))
        moved = Changes(*(np.asarray(a[part], np.float32) for a in (changes.middle, changes.short)))
        if random is not None:
            own, moved = varied(own, moved, random)
        frame, pitch = np.nonzero(may_be[part])
        xs.append(harmonic.inputs_and_changes(own, moved, frame, pitch))
        ys.append(np.stack([sounds[part][frame, pitch], starts[part][frame, pitch]], axis=1))
        # Clips side by side must not see each other.
        asked.append(np.pad(may_be[part], ((0, 2 * max(APART)), (0, 0))))
    rows = Rows.of(np.concatenate(asked))
    neighbours = [both_ways(rows, 0, MIXED), *(both_ways(rows, apart * TURNS, 0) for apart in APART)]
    x, y = (torch.from_numpy(np.concatenate(each)).float() for each in (xs, ys))
    return x, y, [tuple(torch.from_numpy(a) for a in pair) for pair in neighbours]


def train(
    paths: list[Path], load: Callable[[Path], Loaded], gate: dense.Network, width: int, narrow: int, epochs: int,
    kept: Path, seed: int = 5,
) -> dict[str, np.ndarray]:  # fmt: skip
    """Train on clips, a sixteenth of them held out. kept: file of what was learnt so far; the run goes on from it."""
    torch.manual_seed(seed)
    clips = []
    for path in paths:
        seen, changes, sounds, starts, ringing = load(path)
        small = Levels(*(a.astype(np.float16) for a in (seen.long, seen.middle, seen.short)))
        small_changes = Changes(*(a.astype(np.float16) for a in (changes.middle, changes.short)))
        targets = (sounds.astype(np.float16), starts.astype(np.float16), ringing)
        clips.append(((small, small_changes, *targets), harmonic.possible(gate, seen)))
    net = Net(width, narrow)
    held, own = clips[::16], [c for i, c in enumerate(clips) if i % 16]
    steps = len(own) // BATCH
    optimiser = torch.optim.AdamW(net.parameters(), lr=RATE, weight_decay=1e-3)
    speed = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=epochs * steps, pct_start=0.15)
    parts, done = {"net": net, "optimiser": optimiser, "speed": speed}, 0
    if kept.exists():
        state = torch.load(kept)
        done = state.pop("done")
        for name, each in parts.items():
            each.load_state_dict(state[name])

    def lost(shown: Shown) -> torch.Tensor:
        x, y, neighbours = shown
        loss = nn.functional.binary_cross_entropy_with_logits(
            net(x, neighbours), y, weight=1 + (IMPORTANT - 1) * y, reduction="none"
        )
        return loss.sum(dim=1).mean()

    for epoch in range(done, epochs):
        net.train()
        began, sums = time.monotonic(), []
        random = np.random.default_rng([seed, epoch])
        order = random.permutation(len(own))
        for begin in range(0, steps * BATCH, BATCH):
            loss = lost(together([own[i] for i in order[begin : begin + BATCH]], random))
            optimiser.zero_grad()
            loss.backward()
            nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            optimiser.step()
            speed.step()
            sums.append(loss.item())
        net.eval()
        with torch.no_grad():
            losses = [lost(together(held[i : i + 4], None)).item() for i in range(0, len(held), 4)]
        seconds = time.monotonic() - began
        print(f"epoch {epoch + 1}: {np.mean(sums):.5f}, held out {np.mean(losses):.5f}, {seconds:.0f} s", flush=True)
        torch.save({"done": epoch + 1, **{name: each.state_dict() for name, each in parts.items()}}, kept)
    return arrays(net)


def _plain(layer: nn.Linear) -> tuple[np.ndarray, np.ndarray]:
    return layer.weight.detach().numpy().T, layer.bias.detach().numpy()


def _folded(layer: nn.Linear, norm: nn.BatchNorm1d) -> tuple[np.ndarray, np.ndarray]:
    """Weights and biases of a layer with the normalisation after it folded in."""
    gain = (norm.weight / torch.sqrt(norm.running_var + norm.eps)).detach()
    return (layer.weight.detach() * gain[:, None]).numpy().T, (norm.bias.detach() - norm.running_mean * gain).numpy()


def arrays(net: Net) -> dict[str, np.ndarray]:
    """The arrays that harmonic.from_arrays reads, but for those of the gate."""
    net.eval()
    gain = (net.norm.weight / torch.sqrt(net.norm.running_var + net.norm.eps)).detach().numpy()
    layers = {"first": _plain(net.first), "out": _plain(net.out)}
    for i, block in enumerate(net.blocks):
        layers[f"narrow{i}"] = _plain(block.narrow)
        layers[f"mixed{i}"] = _folded(block.mixed, block.mixed_norm)
        layers[f"along{i}"] = _folded(block.along, block.along_norm)
    found = {"gain": gain, "shift": net.norm.bias.detach().numpy() - net.norm.running_mean.numpy() * gain}
    for name, (weight, bias) in layers.items():
        found[name], found[f"{name}_bias"] = weight, bias
    return found
