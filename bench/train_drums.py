"""Trains the network that tells drums apart, on the built-in kits made other: tuned, damped, in rooms and noise.

Writes src/puresignal/io/models/drums.npz. `--loops N` (240 by default).
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from puresignal.core.hearing import strokes
from puresignal.core.hearing.drums import SORTS
from puresignal.core.sound import drums
from puresignal.core.sound.drums import Drum, Kit

RATE = strokes.RATE
OUT = Path(__file__).parent.parent / "src" / "puresignal" / "io" / "models" / "drums.npz"


def loop(random: np.random.Generator) -> tuple[np.ndarray, list[tuple[float, str]]]:
    """Eight seconds of some drummer on some kit in some room, and what was struck when."""
    kit = Kit(
        "any", tune=float(random.lognormal(0, 0.16)), damping=float(random.lognormal(-0.1, 0.4)),
        snares=float(random.lognormal(0, 0.4)), sweep=float(random.lognormal(0, 0.5)),
        air=float(random.lognormal(0, 0.4)), bright=float(random.lognormal(0, 0.3)),
    )  # fmt: skip
    names = [n for n in SORTS if n in ("kick", "snare.head", "hat.closed") or random.random() < 0.55]
    layers = {}
    for name in names:
        own = Drum(tune=float(random.normal(0, 2)), damping=float(random.lognormal(0, 0.3)))
        layers[name] = drums.render(name, kit, own, RATE)
    seconds = 8.0
    sound = np.zeros(round((seconds + 1) * RATE), np.float32)
    step = 60 / random.uniform(70, 170) / 4
    truth: list[tuple[float, str]] = []
    weights = {n: random.uniform(0.05, 0.5) for n in names}
    trims = {n: random.lognormal(0, 0.35) for n in names}
    ringing: tuple[int, int, np.ndarray] | None = None
    for i in range(int((seconds - 0.2) / step)):
        chosen = [n for n in names if random.random() < weights[n] * (1.6 if i % 2 == 0 else 0.7)]
        hats = [n for n in chosen if n.startswith("hat")]
        chosen = [n for n in chosen if n not in hats[1:]]
        for name in chosen[:3]:
            at = 0.05 + i * step + random.normal(0, 0.003)
            velocity = float(np.clip(random.normal(88, 24), 22, 127))
            stroke = layers[name][drums.layer_of(velocity)] * drums.gain_of(velocity) * trims[name]
            stroke = stroke * 10 ** (drums.usual(name).level / 20)
            begin = max(0, round(at * RATE))
            if name.startswith("hat") and ringing is not None and begin < ringing[1]:
                # One pair of cymbals: the stroke before it ends here.
                first, last, before = ringing
                sound[begin:last] -= before[begin - first : last - first]
            end = min(len(sound), begin + len(stroke))
            sound[begin:end] += stroke[: end - begin]
            if name.startswith("hat"):
                ringing = (begin, end, stroke)
            truth.append((at, name))
    if random.random() < 0.6:
        length = round(random.uniform(0.1, 0.9) * RATE)
        tail = random.normal(size=length) * np.exp(-np.arange(length) / (length / 5)) * random.uniform(0.005, 0.03)
        tail[0] = 1.0
        size = 1 << (len(sound) + length).bit_length()
        sound = np.fft.irfft(np.fft.rfft(sound, size) * np.fft.rfft(tail, size), size)[: len(sound)].astype(np.float32)
    tilt = random.normal(0, 2.5)
    spectrum = np.fft.rfft(sound)
    frequency = np.maximum(40, np.linspace(0, RATE / 2, len(spectrum)))
    shape = (frequency / 1000) ** (tilt / 6.02)
    if random.random() < 0.3:
        shape /= 1 + (frequency / random.uniform(7000, 15_000)) ** 4
    sound = np.fft.irfft(spectrum * shape, len(sound)).astype(np.float32)
    sound /= np.abs(sound).max() + 1e-9
    if random.random() < 0.4:
        drive = random.uniform(1.2, 4)
        sound = np.tanh(sound * drive) / np.tanh(drive)
    sound += random.normal(size=len(sound)).astype(np.float32) * 10 ** (random.uniform(-75, -38) / 20)
    return sound.astype(np.float32), truth


def examples(random: np.random.Generator, loops: int) -> tuple[np.ndarray, np.ndarray]:
    rows, labels = [], []
    for number in range(loops):
        sound, truth = loop(random)
        analysis = strokes.analyse(sound)
        moments = np.unique([round(at, 4) for at, _ in truth])
        groups: list[float] = []
        for moment in moments.tolist():
            if not groups or moment - groups[-1] > 0.02:
                groups.append(moment)
        at = np.array(groups) + random.normal(0, 0.002, len(groups))
        label = np.zeros((len(at), len(SORTS)))
        for moment, name in truth:
            near = int(np.argmin(np.abs(np.array(groups) - moment)))
            if abs(groups[near] - moment) <= 0.02:
                label[near, SORTS.index(name)] = 1
        rows.append(strokes.at(analysis, at))
        labels.append(label)
        if number % 20 == 19:
            print(f"{number + 1} loops", flush=True)
    return np.concatenate(rows).astype(np.float64), np.concatenate(labels)


def train(x: np.ndarray, y: np.ndarray, random: np.random.Generator, hidden: int = 128, epochs: int = 70) -> dict:
    """Adam on the cross-entropy of each drum, with some weight decay and features left out at random."""
    mean, scale = x.mean(axis=0), x.std(axis=0) + 0.05
    x = np.clip((x - mean) / scale, -5, 5)
    sizes = [(x.shape[1], hidden), (hidden,), (hidden, y.shape[1]), (y.shape[1],)]
    w = [random.normal(size=s) * (np.sqrt(2 / s[0]) if len(s) == 2 else 0) for s in sizes]
    m, v = [np.zeros_like(a) for a in w], [np.zeros_like(a) for a in w]
    t = 0
    for epoch in range(epochs):
        order = random.permutation(len(x))
        rate = 2e-3 * (0.5 * (1 + np.cos(np.pi * epoch / epochs)) + 0.02)
        for begin in range(0, len(x), 128):
            rows = order[begin : begin + 128]
            a = x[rows] * (random.random((len(rows), x.shape[1])) > 0.08)
            h = np.maximum(0, a @ w[0] + w[1])
            kept = (random.random(h.shape) > 0.2) / 0.8
            h = h * kept
            p = 1 / (1 + np.exp(-np.clip(h @ w[2] + w[3], -30, 30)))
            d = (p - y[rows]) / len(rows)
            dh = (d @ w[2].T) * (h > 0) * kept
            grads = [a.T @ dh + 1e-5 * w[0], dh.sum(0), h.T @ d + 1e-5 * w[2], d.sum(0)]
            t += 1
            for i, g in enumerate(grads):
                m[i] = 0.9 * m[i] + 0.1 * g
                v[i] = 0.999 * v[i] + 0.001 * g * g
                w[i] = w[i] - rate * (m[i] / (1 - 0.9**t)) / (np.sqrt(v[i] / (1 - 0.999**t)) + 1e-8)
    return {"mean": mean, "scale": scale, "first": w[0], "bias1": w[1], "second": w[2], "bias2": w[3]}


def main() -> None:
    loops = int(sys.argv[sys.argv.index("--loops") + 1]) if "--loops" in sys.argv else 240
    random = np.random.default_rng(11)
    x, y = examples(random, loops)
    held = len(x) * 9 // 10
    weights = train(x[:held], y[:held], random)
    from puresignal.core.hearing.drums import Network

    likely = Network(**weights).likely(x[held:])
    for i, name in enumerate(SORTS):
        said, true = likely[:, i] > 0.45, y[held:, i] > 0.5
        hit = (said & true).sum()
        precision, recall = hit / max(1, said.sum()), hit / max(1, true.sum())
        print(f"{name:<12} {int(true.sum()):5d}  precision {precision:.3f}  recall {recall:.3f}")
    OUT.parent.mkdir(exist_ok=True)
    np.savez_compressed(OUT, **{k: a.astype(np.float32) for k, a in weights.items()})


if __name__ == "__main__":
    main()
