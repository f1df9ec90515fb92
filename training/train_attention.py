"""Train the network that compares strokes with each other (core/hearing/networks/attention.py), with PyTorch."""

from __future__ import annotations

import numpy as np
import torch
from torch import nn
from train_convolutional import FURTHER_RATE

Strokes = tuple[np.ndarray, np.ndarray, np.ndarray]
"""Strokes of one recording: features (n, features), drums (n, drums) 0 or 1, and times (n,) in seconds."""


class Look(nn.Module):
    """Self-attention over strokes, weaker with distance, followed by a feed-forward layer."""

    def __init__(self, width: int, heads: int) -> None:
        super().__init__()
        self.heads = heads
        self.norm, self.norm2 = nn.LayerNorm(width), nn.LayerNorm(width)
        self.ask, self.answer = (nn.Linear(width, k * width, bias=False) for k in (3, 1))
        self.lean = nn.Parameter(torch.linspace(0, 1, heads))
        self.wide, self.narrow = nn.Linear(width, 2 * width), nn.Linear(2 * width, width)
        self.drop = nn.Dropout(0.15)

    def forward(self, x: torch.Tensor, away: torch.Tensor, there: torch.Tensor) -> torch.Tensor:
        clips, count, width = x.shape
        parts = self.ask(self.norm(x)).reshape(clips, count, 3, self.heads, width // self.heads)
        query, key, value = parts.permute(2, 0, 3, 1, 4)
        fits = query @ key.transpose(2, 3) / (width // self.heads) ** 0.5
        fits = fits - self.lean[None, :, None, None] * away[:, None]
        fits = fits.masked_fill(~there[:, None, None, :], -1e9)
        seen = (fits.softmax(-1) @ value).permute(0, 2, 1, 3).reshape(clips, count, width)
        x = x + self.drop(self.answer(seen))
        return x + self.drop(self.narrow(torch.relu(self.wide(self.norm2(x)))))


class Net(nn.Module):
    """mean, scale: (features,) of the input."""

    def __init__(
        self, mean: np.ndarray, scale: np.ndarray, drums: int, width: int = 96, heads: int = 6, layers: int = 3
    ) -> None:
        super().__init__()
        self.mean, self.scale = (nn.Parameter(torch.tensor(a), requires_grad=False) for a in (mean, scale))
        self.take = nn.Linear(len(mean), width)
        self.looks = nn.ModuleList(Look(width, heads) for _ in range(layers))
        self.last, self.tell = nn.LayerNorm(width), nn.Linear(width, drums)
        self.drop = nn.Dropout(0.15)

    def forward(self, x: torch.Tensor, seconds: torch.Tensor, there: torch.Tensor) -> torch.Tensor:
        """(clips, strokes, drums) log odds from features and two (clips, strokes) arrays: times and mask."""
        away = torch.log1p((seconds[:, :, None] - seconds[:, None]).abs() / 0.1)
        # Whole columns are left out at a time, which costs next to nothing.
        shown = torch.rand(len(self.mean)) > 0.1 if self.training else torch.ones(len(self.mean))
        x = self.drop(torch.relu(self.take((x - self.mean) * (shown / (0.9 if self.training else 1.0) / self.scale))))
        for look in self.looks:
            x = look(x, away, there)
        return self.tell(self.last(x))


def _varied(x: np.ndarray, bands: int, drums: int, random: np.random.Generator) -> np.ndarray:
    """Vary the level, the tone and the certainty of single strokes of a recording."""
    seen = x[:, :-drums].reshape(len(x), -1, bands, 2) + random.normal(0, 0.12)
    if random.random() < 0.6:
        knots = np.interp(np.linspace(0, 7, bands), np.arange(8), random.normal(0, 0.15, 8))
        seen = seen + knots[None, None, :, None]
    alone = x[:, -drums:] + random.normal(0, 0.2)
    return np.concatenate([np.maximum(seen, -4).reshape(len(x), -1), alone], axis=1)


def _together(made: list[Strokes]) -> tuple[torch.Tensor, ...]:
    """A padded batch of recordings: features, drums, seconds, and the mask of existing strokes."""
    most = max(len(x) for x, _, _ in made)
    shape = (len(made), most)
    x = np.zeros((*shape, made[0][0].shape[1]), np.float32)
    y, seconds = np.zeros((*shape, made[0][1].shape[1]), np.float32), np.zeros(shape, np.float32)
    there = np.zeros(shape, bool)
    for k, (own_x, own_y, own_seconds) in enumerate(made):
        count = len(own_x)
        x[k, :count], y[k, :count], seconds[k, :count], there[k, :count] = own_x, own_y, own_seconds, True
    return tuple(torch.from_numpy(a) for a in (x, y, seconds, there))


def f1(net: Net, made: list[Strokes], limit: float = 0.5) -> np.ndarray:
    """(drums + 1,) F-measure of each drum, and last of all drums."""
    right, told, true = np.zeros((3, made[0][1].shape[1]))
    net.eval()
    with torch.no_grad():
        for begin in range(0, len(made), 16):
            x, y, seconds, there = _together(made[begin : begin + 16])
            heard = (torch.sigmoid(net(x, seconds, there)) > limit) & there[:, :, None]
            right += (heard & (y > 0.5)).sum((0, 1)).numpy()
            told, true = told + heard.sum((0, 1)).numpy(), true + (y > 0.5).sum((0, 1)).numpy()
    each = 2 * right / np.maximum(1, told + true)
    return np.append(each, 2 * right.sum() / max(1, told.sum() + true.sum()))


def train(
    made: list[Strokes], bands: int, epochs: int = 20, batch: int = 16, seed: int = 0,
    before: dict[str, np.ndarray] | None = None,
) -> Net:  # fmt: skip
    """Train with every twelfth recording held out. before: arrays of a network to train further, more slowly."""
    torch.manual_seed(seed)
    random = np.random.default_rng(seed)
    made = [each for each in made if len(each[0]) >= 4]
    held, own = made[::12], [each for i, each in enumerate(made) if i % 12]
    some = np.concatenate([x[::3] for x, _, _ in own[::4]]).astype(np.float32)
    drums = own[0][1].shape[1]
    net = Net(some.mean(axis=0), some.std(axis=0) + 0.1, drums)
    if before:
        _restore(net, before)
    rate = FURTHER_RATE if before else 2e-3
    often = np.mean([y.mean(axis=0) for _, y, _ in own], axis=0)
    heavy = torch.tensor(np.clip((often.max() / often) ** 0.3, 1, 3)).float()
    optimiser = torch.optim.AdamW([p for p in net.parameters() if p.requires_grad], lr=rate, weight_decay=1e-2)
    steps = epochs * (len(own) // batch)
    speed = torch.optim.lr_scheduler.OneCycleLR(optimiser, rate, total_steps=steps, pct_start=0.15)
    for epoch in range(epochs):
        net.train()
        order = random.permutation(len(own))
        for begin in range(0, len(order) - batch + 1, batch):
            shown = []
            for x, y, seconds in (own[i] for i in order[begin : begin + batch]):
                kept = random.random(len(x)) > random.choice([0, 0.05, 0.3])
                kept |= kept.sum() < 4
                shown.append((_varied(x[kept].astype(np.float32), bands, drums, random), y[kept], seconds[kept]))
            x, y, seconds, there = _together(shown)
            weight = (1 + (heavy - 1) * y) * there[:, :, None]
            loss = nn.functional.binary_cross_entropy_with_logits(
                net(x, seconds, there), 0.98 * y + 0.01, weight=weight, reduction="sum"
            )
            optimiser.zero_grad()
            (loss / there.sum()).backward()
            nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            optimiser.step()
            speed.step()
        if epoch % 3 == 2 or epoch == epochs - 1:
            print(f"epoch {epoch + 1}: drum by drum and all", np.round(f1(net, held), 3), flush=True)
    return net


def _restore(net: Net, before: dict[str, np.ndarray]) -> None:
    """Restore the weights from the result of arrays()."""
    a = {name: torch.from_numpy(array.astype(np.float32)) for name, array in before.items()}
    taken = {"take.weight": a["take"].T * net.scale, "take.bias": a["take_bias"] + a["take"].T @ net.mean}
    taken |= {"last.weight": a["gain"], "last.bias": a["offset"]}
    taken |= {"tell.weight": a["tell"].T, "tell.bias": a["tell_bias"]}
    names = {
        "norm.weight": "gain", "norm.bias": "offset", "ask.weight": "ask", "answer.weight": "answer", "lean": "lean",
        "norm2.weight": "gain2", "norm2.bias": "offset2", "wide.weight": "wide", "wide.bias": "wide_bias",
        "narrow.weight": "narrow", "narrow.bias": "narrow_bias",
    }  # fmt: skip
    for i in range(len(net.looks)):
        taken |= {f"looks.{i}.{name}": a[f"layer{i}_{own}"].T.contiguous() if a[f"layer{i}_{own}"].ndim == 2
                  else a[f"layer{i}_{own}"] for name, own in names.items()}  # fmt: skip
    net.load_state_dict({**net.state_dict(), **taken})


def arrays(net: Net) -> dict[str, np.ndarray]:
    """The arrays that attention.from_arrays reads for each network."""
    net.eval()
    weight = net.take.weight / net.scale
    out = {"take": weight.T, "take_bias": net.take.bias - weight @ net.mean}
    out |= {"gain": net.last.weight, "offset": net.last.bias, "tell": net.tell.weight.T, "tell_bias": net.tell.bias}
    for i, look in enumerate(net.looks):
        own = {
            "gain": look.norm.weight, "offset": look.norm.bias, "ask": look.ask.weight.T,
            "answer": look.answer.weight.T, "lean": look.lean, "gain2": look.norm2.weight, "offset2": look.norm2.bias,
            "wide": look.wide.weight.T, "wide_bias": look.wide.bias, "narrow": look.narrow.weight.T,
            "narrow_bias": look.narrow.bias,
        }  # fmt: skip
        out |= {f"layer{i}_{name}": each for name, each in own.items()}
    flat = {name: each.detach().numpy() for name, each in out.items()}
    return {name: a.astype(np.float16 if a.ndim == 2 else np.float32) for name, a in flat.items()}
