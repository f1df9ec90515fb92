"""Train small dense networks (core/hearing/networks/dense.py) with PyTorch, which only training needs."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import torch
from torch import nn

RATE, BATCH = 2e-3, 1024


def train(
    x: np.ndarray, y: np.ndarray, groups: np.ndarray, hidden: tuple[int, ...], epochs: int, shown: int,
    important: float = 1.0,
) -> dict[str, np.ndarray]:  # fmt: skip
    """Train on x (n, inputs), y (n, outputs) 0..1. Each epoch draws new rows, since neighbours are much alike.

    groups     (n,) clips; a tenth is held out, and the cross-entropy on it is printed
    important  weight of positive targets
    """
    random = np.random.default_rng(5)
    torch.manual_seed(5)
    some = x[:: max(1, len(x) // 50_000)].astype(np.float32)
    mean, scale = some.mean(axis=0), some.std(axis=0) + 0.05
    own, held = np.flatnonzero(groups % 10), np.flatnonzero(groups % 10 == 0)
    shown = min(shown, len(own))
    inner = [
        layer for a, b in pairwise([x.shape[1], *hidden]) for layer in (nn.Linear(a, b), nn.ReLU(), nn.Dropout(0.1))
    ]
    net = nn.Sequential(nn.Dropout(0.05), *inner, nn.Linear(hidden[-1], y.shape[1]))
    optimiser = torch.optim.AdamW(net.parameters(), lr=RATE, weight_decay=1e-4)
    speed = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=epochs * (shown // BATCH), pct_start=0.1)

    # Rows are gathered and scaled by torch, on all cores.
    all_x, all_y = torch.from_numpy(x), torch.from_numpy(np.asarray(y, np.float32))
    middle, wide = (torch.from_numpy(np.asarray(a, np.float32)) for a in (mean, scale))

    def lost(rows: np.ndarray, weight: float) -> torch.Tensor:
        at = torch.from_numpy(rows)
        seen = ((all_x[at].float() - middle) / wide).clamp(-5, 5)
        there = all_y[at]
        return nn.functional.binary_cross_entropy_with_logits(net(seen), there, weight=1 + (weight - 1) * there)

    for epoch in range(epochs):
        net.train()
        order = random.permutation(own)[:shown]
        for begin in range(0, shown - BATCH + 1, BATCH):
            loss = lost(order[begin : begin + BATCH], important)
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            speed.step()
        net.eval()
        with torch.no_grad():
            tested = [lost(held[begin : begin + 20_000], 1.0).item() for begin in range(0, len(held), 20_000)]
        print(f"epoch {epoch + 1}: {np.mean(tested):.5f} on what was held out", flush=True)
    layers = [each for each in net if isinstance(each, nn.Linear)]
    return {
        "mean": mean, "scale": scale,
        **{f"weight{i}": each.weight.detach().numpy().T for i, each in enumerate(layers)},
        **{f"bias{i}": each.bias.detach().numpy() for i, each in enumerate(layers)},
    }  # fmt: skip
