"""Train convolutional networks (core/hearing/networks/convolutional.py) with PyTorch, which only training needs.

Run `pip install torch` first; the program itself does not use it.
"""

from __future__ import annotations

import numpy as np
import torch
from torch import nn

Clips = list[tuple[np.ndarray, np.ndarray]]
"""Spectrogram (frames, bands, sizes) and target (frames, outputs) 0..1."""
SHOWN = 400
"""Frames per training example."""


class Along(nn.Module):
    """A residual layer along time."""

    def __init__(self, width: int, apart: int) -> None:
        super().__init__()
        self.conv = nn.Conv1d(width, width, 5, padding=2 * apart, dilation=apart)
        self.norm, self.drop = nn.BatchNorm1d(width), nn.Dropout(0.1)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        return x + self.drop(torch.relu(self.norm(self.conv(x))))


class Net(nn.Module):
    """Two 3x3 convolutions, one layer across all bands, then layers along time."""

    def __init__(self, bands: int, sizes: int, outputs: int, width: int = 64) -> None:
        super().__init__()
        self.norm = nn.BatchNorm2d(sizes)
        self.planes = nn.ModuleList([nn.Conv2d(sizes, 16, 3, padding=1), nn.Conv2d(16, 32, 3, padding=1)])
        self.norms = nn.ModuleList([nn.BatchNorm2d(16), nn.BatchNorm2d(32)])
        self.across, self.across_norm = nn.Conv1d(32 * (bands // 4), width, 1), nn.BatchNorm1d(width)
        self.along = nn.ModuleList(Along(width, apart) for apart in (1, 2, 4, 8))
        self.out, self.drop = nn.Conv1d(width, outputs, 1), nn.Dropout(0.15)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        """(clips, outputs, frames) log odds from (clips, sizes, frames, bands)."""
        x = self.norm(x)
        for plane, norm in zip(self.planes, self.norms, strict=True):
            x = nn.functional.max_pool2d(torch.relu(norm(plane(x))), (1, 2))
        x = self.drop(x.permute(0, 1, 3, 2).flatten(1, 2))
        x = torch.relu(self.across_norm(self.across(x)))
        for layer in self.along:
            x = layer(x)
        return self.out(x)


def train(
    clips: Clips, weight: np.ndarray, epochs: int, batch: int = 16, seed: int = 0,
    before: dict[str, np.ndarray] | None = None,
) -> Net:  # fmt: skip
    """Train with every twelfth clip held out. weight: (outputs,) weight of positive targets.

    before  arrays of a network to train further, more slowly
    """
    torch.manual_seed(seed)
    random = np.random.default_rng(seed)
    net = Net(clips[0][0].shape[1], clips[0][0].shape[2], clips[0][1].shape[1])
    if before:
        _restore(net, before)
    rate = FURTHER_RATE if before else 3e-3
    held, own = clips[::12], [c for i, c in enumerate(clips) if i % 12]
    optimiser = torch.optim.AdamW(net.parameters(), lr=rate, weight_decay=1e-4)
    steps = epochs * (len(own) // batch)
    speed = torch.optim.lr_scheduler.OneCycleLR(optimiser, rate, total_steps=steps, pct_start=0.15)
    heavy = torch.tensor(weight).float()[None, :, None]

    def lost(x: torch.Tensor, y: torch.Tensor) -> torch.Tensor:
        return nn.functional.binary_cross_entropy_with_logits(net(x), y, weight=1 + (heavy - 1) * y)

    for epoch in range(epochs):
        net.train()
        for norm in net.modules() if before else ():
            # What they knew is within the layers before them.
            if isinstance(norm, nn.BatchNorm1d | nn.BatchNorm2d):
                norm.eval()
        order = random.permutation(len(own))
        for begin in range(0, len(order) - batch + 1, batch):
            shown = [_excerpt(*own[i], random) for i in order[begin : begin + batch]]
            x = torch.from_numpy(np.stack([a for a, _ in shown])).permute(0, 3, 1, 2)
            y = torch.from_numpy(np.stack([b for _, b in shown])).permute(0, 2, 1)
            loss = lost(x, y)
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            speed.step()
        net.eval()
        with torch.no_grad():
            losses = [
                lost(
                    torch.from_numpy(x.astype(np.float32)).permute(2, 0, 1)[None],
                    torch.from_numpy(y.T.astype(np.float32))[None],
                ).item()
                for x, y in held
            ]
        print(f"epoch {epoch + 1}: {np.mean(losses):.5f} on what was held out", flush=True)
    return net


def _excerpt(x: np.ndarray, y: np.ndarray, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """A part of a clip with varied level and sometimes varied tone."""
    first = int(random.integers(0, max(1, len(x) - SHOWN)))
    a, b = x[first : first + SHOWN].astype(np.float32), y[first : first + SHOWN].astype(np.float32)
    if len(a) < SHOWN:
        a = np.pad(a, ((0, SHOWN - len(a)), (0, 0), (0, 0)), mode="edge")
        b = np.pad(b, ((0, SHOWN - len(b)), (0, 0)))
    a = a + np.float32(random.normal(0, 0.12))
    if random.random() < 0.5:
        a = a + random.normal(0, 0.15, (1, 8, 1)).repeat(a.shape[1] // 8, axis=1).astype(np.float32)
    return np.maximum(a, -4).astype(np.float32), b


def _folded(conv: nn.Module, norm: nn.Module) -> tuple[np.ndarray, np.ndarray]:
    """Weights and biases of a layer with its normalisation folded in."""
    gain = (norm.weight / torch.sqrt(norm.running_var + norm.eps)).detach()
    weight = conv.weight.detach() * gain.reshape(-1, *[1] * (conv.weight.dim() - 1))
    return weight.numpy(), ((conv.bias.detach() - norm.running_mean) * gain + norm.bias.detach()).numpy()


FURTHER_RATE = 8e-4
"""Learning rate of further training."""


def _restore(net: Net, before: dict[str, np.ndarray]) -> None:
    """Restore the weights from the result of arrays(); norms are folded in, so they become the identity."""
    a = {name: torch.from_numpy(array.astype(np.float32)) for name, array in before.items()}
    for norm in [*net.norms, net.across_norm, *(layer.norm for layer in net.along)]:
        norm.running_var.fill_(1 - norm.eps)
    net.norm.running_mean.copy_(a["mean"])
    net.norm.running_var.copy_(a["scale"] ** 2 - net.norm.eps)
    bands = a["across"].shape[0] // 32
    across = a["across"].reshape(bands, 32, -1).permute(2, 1, 0).flatten(1)[:, :, None]
    shaped = [(net.across, across, a["across_bias"]), (net.out, a["out"].T[:, :, None], a["out_bias"])]
    shaped += [(p, a[f"plane{i}"].permute(3, 2, 0, 1), a[f"plane{i}_bias"]) for i, p in enumerate(net.planes)]
    shaped += [(m.conv, a[f"along{i}"].permute(2, 1, 0), a[f"along{i}_bias"]) for i, m in enumerate(net.along)]
    with torch.no_grad():
        for layer, weight, bias in shaped:
            layer.weight.copy_(weight)
            layer.bias.copy_(bias)


def arrays(net: Net) -> dict[str, np.ndarray]:
    """The arrays that convolutional.from_arrays reads."""
    net.eval()
    gain = (net.norm.weight / torch.sqrt(net.norm.running_var + net.norm.eps)).detach().numpy()
    out = {"mean": net.norm.running_mean.numpy() - net.norm.bias.detach().numpy() / gain, "scale": 1 / gain}
    for i, (plane, norm) in enumerate(zip(net.planes, net.norms, strict=True)):
        weight, out[f"plane{i}_bias"] = _folded(plane, norm)
        out[f"plane{i}"] = weight.transpose(2, 3, 1, 0)
    weight, out["across_bias"] = _folded(net.across, net.across_norm)
    bands = weight.shape[1] // 32
    out["across"] = weight[:, :, 0].reshape(-1, 32, bands).transpose(2, 1, 0).reshape(bands * 32, -1)
    for i, layer in enumerate(net.along):
        weight, out[f"along{i}_bias"] = _folded(layer.conv, layer.norm)
        out[f"along{i}"] = weight.transpose(2, 1, 0)
    out["apart"] = np.array([layer.conv.dilation[0] for layer in net.along])
    out["out"], out["out_bias"] = net.out.weight.detach().numpy()[:, :, 0].T, net.out.bias.detach().numpy()
    return {name: a.astype(np.float32 if "bias" in name or a.ndim == 1 else np.float16) for name, a in out.items()}
