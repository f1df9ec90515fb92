"""A network that looks at a path of beats and says how likely each way of counting it is.

It sees each beat in twelve parts and its neighbours near and far, and gives each beat odds of being a downbeat; the
path and each meter get odds from what is seen on the mean and at the most.

Source  convolutions over ever wider steps: S. Bai, J. Kolter and V. Koltun, An empirical evaluation of generic
        convolutional and recurrent networks for sequence modeling, 2018
Made by training/train_beats.py
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.bar_readings import METERS

STEPS = (1, 2, 4, 8, 16)
"""Beats to both sides that each layer sees."""
CLIP = 4.0
MOST = 128
"""Beats that count at most: the network learnt from paths as long as that."""


@dataclass(frozen=True, eq=False)
class BeatNetwork:
    """Weights. `units` are 64.

    mean, scale       (WIDE,) of the figures of a beat
    begin, begin_by   (WIDE, units), (units,)
    near, near_by     (layers, 3, units, units), (layers, units): the beat before, itself, the beat after
    on, on_by         (layers, units, units), (layers, units)
    out, out_by       (2 * units, 1 + 2 * meters), for the path and each meter, in halves and in thirds
    down, down_by     (units,), of a downbeat
    weight            what the downbeats count
    """

    mean: np.ndarray
    scale: np.ndarray
    begin: np.ndarray
    begin_by: np.ndarray
    near: np.ndarray
    near_by: np.ndarray
    on: np.ndarray
    on_by: np.ndarray
    out: np.ndarray
    out_by: np.ndarray
    down: np.ndarray
    down_by: float
    weight: float

    def ratings(self, picture: np.ndarray, kinds: Sequence[tuple[int, int]], thirds: bool) -> np.ndarray:
        """(readings,) log odds of each reading of a path, against all readings of all paths.

        picture  of `beat_pictures.picture`
        kinds    meter and first downbeat of each reading
        """
        x = np.clip((picture - self.mean) / self.scale, -CLIP, CLIP).astype(np.float32)
        hidden = np.maximum(x @ self.begin + self.begin_by, 0)
        count = len(hidden)
        for step, near, near_by, on, on_by in zip(STEPS, self.near, self.near_by, self.on, self.on_by, strict=True):
            wide = np.pad(hidden, ((step, step), (0, 0)))
            seen = wide[:count] @ near[0] + wide[step : step + count] @ near[1] + wide[2 * step :] @ near[2]
            hidden = hidden + np.maximum(seen + near_by, 0) @ on + on_by
        odds = (hidden @ self.down + self.down_by).astype(float)
        whole = np.concatenate([hidden.mean(axis=0), hidden.max(axis=0)]) @ self.out + self.out_by
        # Likelihood of the downbeats of a reading, by how many beats there are.
        none = -np.logaddexp(0, odds).sum()
        downs = np.array([odds[first::meter].sum() for meter, first in kinds])
        likely = (none + downs) / count * np.sqrt(min(count, MOST))
        columns = [1 + METERS.index(meter) + (len(METERS) if thirds else 0) for meter, _ in kinds]
        return np.asarray(whole[0] + whole[columns] + self.weight * likely)


@dataclass(frozen=True, eq=False)
class BeatNetworks:
    """Networks that learnt the same apart from one another; what they say is their mean."""

    each: tuple[BeatNetwork, ...]

    def ratings(self, picture: np.ndarray, kinds: Sequence[tuple[int, int]], thirds: bool) -> np.ndarray:
        """(readings,) as `BeatNetwork.ratings`."""
        return np.asarray(np.mean([one.ratings(picture, kinds, thirds) for one in self.each], axis=0))


def from_arrays(arrays: dict[str, np.ndarray]) -> BeatNetworks:
    """Networks from the arrays of their model file, which are named as the fields of one, with an axis more: (networks,
    ...).
    """
    found = []
    for i in range(len(arrays["weight"])):
        own = {name: values[i] for name, values in arrays.items()}
        found.append(BeatNetwork(**{**own, **{name: float(own[name]) for name in ("down_by", "weight")}}))
    return BeatNetworks(tuple(found))
