"""Train the two networks that judge a pitch of a chord by itself, and then among others: `train_chord_pairs.py FOLDER`.

The clips are those of train_chords.py. Writes src/puresignal/models/chord_first.npz and chord_second.npz; `--second`
only the latter. Needs PyTorch. About 20 minutes on two cores, without making the clips.
"""

from __future__ import annotations

import sys
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import train_dense
from train_chords import all_clips, loaded
from train_ear import MODELS, smaller

from puresignal.core.hearing.networks import chord_pitches, dense
from puresignal.core.hearing.networks.multipitch import LOWEST

FIRST_HIDDEN, SECOND_HIDDEN = (192, 96), (160, 64)


def first_rows(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets of the first network from a clip."""
    seen, _, sounds, starts, ringing = loaded(path)
    random = np.random.default_rng(int(path.stem))
    chosen = (sounds > 0) & (random.random(sounds.shape) < 0.3) | (starts > 0)
    chosen |= chord_pitches.audible(seen) & (random.random(sounds.shape) < 0.11)
    chosen &= ~ringing
    frame, pitch = np.nonzero(chosen)
    x = chord_pitches.rows(seen, frame, pitch + LOWEST)
    return x.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def second_rows(network: dense.Network, path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets of the second network from a clip."""
    seen, _, sounds, starts, ringing = loaded(path)
    random = np.random.default_rng(int(path.stem) + 1)
    first = chord_pitches.first_estimate(network, seen)
    asked = (first.max(axis=2) > chord_pitches.ASKED) & ~ringing
    asked &= (random.random(sounds.shape) < 0.22) | (starts > 0)
    frame, pitch = np.nonzero(asked)
    x = chord_pitches.judged_rows(seen, first, frame, pitch)
    return x.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def taught(name: str, make: partial | object, paths: list[Path], hidden: tuple[int, ...], epochs: int) -> None:
    xs, ys, groups = [], [], []
    with Pool() as pool:
        for number, (x, y) in enumerate(pool.imap(make, paths, chunksize=8)):  # type: ignore[arg-type]
            xs.append(x)
            ys.append(y)
            groups.append(np.full(len(x), number))
    x, y = np.concatenate(xs), np.concatenate(ys).astype(np.float32)
    print(f"{name}: {len(x)} rows of {x.shape[1]}", flush=True)
    arrays = train_dense.train(x, y, np.concatenate(groups), hidden, epochs, 2_500_000, 1.2)
    np.savez_compressed(MODELS / f"{name}.npz", **smaller(arrays))


def main() -> None:
    paths = all_clips(Path(sys.argv[1]))
    if "--second" not in sys.argv:
        taught("chord_first", first_rows, paths, FIRST_HIDDEN, 10)
    with np.load(MODELS / "chord_first.npz") as arrays:
        network = dense.from_arrays(dict(arrays))
    taught("chord_second", partial(second_rows, network), paths, SECOND_HIDDEN, 8)


if __name__ == "__main__":
    main()
