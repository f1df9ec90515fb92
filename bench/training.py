"""Training of small networks in NumPy: Adam on the cross-entropy, inputs and hidden units left out at random."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np

MODELS = Path(__file__).parent.parent / "src" / "puresignal" / "io" / "models"


def train(
    x: np.ndarray, y: np.ndarray, random: np.random.Generator, hidden: tuple[int, ...] = (96, 48), epochs: int = 12,
    important: float = 1.0, rate: float = 1.5e-3, batch: int = 512, groups: np.ndarray | None = None,
) -> dict[str, np.ndarray]:  # fmt: skip
    """x (n, inputs), y (n, outputs) 0..1. important: weight of what is there against what is not.

    groups  (n,) clips; a tenth of them is held out and the cross-entropy on it printed
    """
    some = x[:: max(1, len(x) // 50_000)].astype(np.float32)
    mean, scale = some.mean(axis=0), some.std(axis=0) + 0.05
    held = np.zeros(len(x), bool) if groups is None else groups % 10 == 0
    own, test = np.flatnonzero(~held), np.flatnonzero(held)
    sizes = [x.shape[1], *hidden, y.shape[1]]
    w = [(random.normal(size=(a, b)) * np.sqrt(2 / a)).astype(np.float32) for a, b in pairwise(sizes)]
    b = [np.zeros(n, np.float32) for n in sizes[1:]]
    b[-1][:] = np.log(np.clip(y.mean(axis=0), 1e-4, 0.9) / (1 - np.clip(y.mean(axis=0), 1e-4, 0.9)))
    parameters = [*w, *b]
    m, v = [np.zeros_like(p) for p in parameters], [np.zeros_like(p) for p in parameters]
    layers, step = len(w), 0

    def shown(rows: np.ndarray) -> np.ndarray:
        return np.clip((x[rows] - mean) / scale, -5, 5).astype(np.float32)

    for epoch in range(epochs):
        order = random.permutation(own)
        speed = rate * (0.5 * (1 + np.cos(np.pi * epoch / epochs)) + 0.02)
        for begin in range(0, len(order), batch):
            rows = order[begin : begin + batch]
            acts = [shown(rows) * (random.random((len(rows), sizes[0])) > 0.05)]
            kept = []
            for i in range(layers - 1):
                h = np.maximum(0, acts[-1] @ w[i] + b[i])
                mask = ((random.random(h.shape) > 0.1) / 0.9).astype(np.float32)
                kept.append(mask * (h > 0))
                acts.append(h * mask)
            p = 1 / (1 + np.exp(-np.clip(acts[-1] @ w[-1] + b[-1], -30, 30)))
            d = ((p - y[rows]) * (1 + (important - 1) * y[rows]) / len(rows)).astype(np.float32)
            gw, gb = [np.zeros(0)] * layers, [np.zeros(0)] * layers
            for i in range(layers - 1, -1, -1):
                gw[i], gb[i] = acts[i].T @ d + 1e-5 * w[i], d.sum(axis=0)
                if i:
                    d = (d @ w[i].T) * kept[i - 1]
            step += 1
            for j, g in enumerate([*gw, *gb]):
                m[j] = 0.9 * m[j] + 0.1 * g
                v[j] = 0.999 * v[j] + 0.001 * g * g
                parameters[j] -= (speed * (m[j] / (1 - 0.9**step)) / (np.sqrt(v[j] / (1 - 0.999**step)) + 1e-8)).astype(
                    np.float32
                )
        if len(test):
            a = shown(test)
            for i in range(layers - 1):
                a = np.maximum(0, a @ w[i] + b[i])
            p = np.clip(1 / (1 + np.exp(-np.clip(a @ w[-1] + b[-1], -30, 30))), 1e-6, 1 - 1e-6)
            loss = -(y[test] * np.log(p) + (1 - y[test]) * np.log(1 - p)).mean()
            print(f"epoch {epoch + 1}: {loss:.5f} on what was held out", flush=True)
    return {
        "mean": mean,
        "scale": scale,
        **{f"weight{i}": a for i, a in enumerate(w)},
        **{f"bias{i}": a for i, a in enumerate(b)},
    }


def save(name: str, arrays: dict[str, np.ndarray]) -> None:
    MODELS.mkdir(exist_ok=True)
    np.savez_compressed(
        MODELS / f"{name}.npz",
        **{k: a.astype(np.float16) if k.startswith("weight") else a.astype(np.float32) for k, a in arrays.items()},
    )
