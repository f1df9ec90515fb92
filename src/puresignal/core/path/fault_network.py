"""Networks that tell faults from what was played, by the figures of `doubles_evidence` and `crosstalk_evidence`.

Several small ones that learnt the same apart from one another; what they say is the mean of their log odds. The
probabilities are chances: they learnt from as many faults and strokes as takes have.

Made by training/train_faults.py
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

CLIP = 4.0
"""Figures count up to so many spreads from what is usual."""


@dataclass(frozen=True, eq=False)
class FaultNetworks:
    """Weights.

    mean, scale          (figures,) what is usual, and its spread
    first, first_by      (networks, figures, units), (networks, units)
    second, second_by    (networks, units, fewer units), (networks, fewer units)
    out, out_by          (networks, fewer units), (networks,)
    """

    mean: np.ndarray
    scale: np.ndarray
    first: np.ndarray
    first_by: np.ndarray
    second: np.ndarray
    second_by: np.ndarray
    out: np.ndarray
    out_by: np.ndarray

    def likely(self, evidence: np.ndarray) -> np.ndarray:
        """(n,) probability of a fault. evidence: (n, figures)"""
        x = np.clip((evidence - self.mean) / self.scale, -CLIP, CLIP)
        hidden = np.maximum(x @ self.first + self.first_by[:, None], 0)
        hidden = np.maximum(hidden @ self.second + self.second_by[:, None], 0)
        odds = ((hidden @ self.out[:, :, None])[:, :, 0] + self.out_by[:, None]).mean(axis=0)
        return np.asarray(1 / (1 + np.exp(-np.clip(odds, -30, 30))))
