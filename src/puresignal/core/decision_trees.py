"""Decision trees, asked in sequence: each adds a little to what those before it said.

A tree asks the same few questions of every case: is this figure above that border? The answers together choose a
leaf, and the result is the sum of the leaves of all trees: log odds, whose probabilities are chances where the trees
learnt from as many cases of each kind as there are, or an estimate.

Gradient boosting with symmetric trees: L. Prokhorenkova and others, CatBoost: unbiased boosting with categorical
features, 2018. Made by training/learn_trees.py
"""

from __future__ import annotations

from base64 import b64decode
from dataclasses import dataclass

import numpy as np

QUESTIONS, LEAF = 6, 0.001
"""Questions of each tree that is written as text, and the steps that its leaves are then written in."""
ROUND = 100
"""Trees that are asked before looking which cases are decided."""
FEW = 512
"""Cases up to which it is faster to ask all trees at once than all cases."""
DECIDED = 3.0
"""Log odds from which the remaining trees are not asked: they add small corrections."""


def chances_of(odds: np.ndarray) -> np.ndarray:
    """(n,) probabilities of (n,) log odds."""
    return np.asarray(1 / (1 + np.exp(-np.clip(odds, -30, 30))))


@dataclass(frozen=True, eq=False)
class DecisionTrees:
    """What the trees ask and answer.

    figures  how many figures there are of a case
    figure   (trees, questions) number of the figure that each question is about
    border   (trees, questions) above which the answer is yes
    leaf     (trees, 2 ** questions) what the answers add, the first of which is the highest bit; 8 questions at most
    begin    to which the leaves are added
    """

    figures: int
    figure: np.ndarray
    border: np.ndarray
    leaf: np.ndarray
    begin: float

    @classmethod
    def from_text(cls, figures: int, begin: float, figure: str, border: str, leaf: str) -> DecisionTrees:
        """Trees as the training writes them, in Base64: bytes, 4-byte floats, and 2-byte whole numbers."""
        return cls(
            figures,
            np.frombuffer(b64decode(figure), np.uint8).reshape(-1, QUESTIONS),
            np.frombuffer(b64decode(border), "<f4").reshape(-1, QUESTIONS),
            np.frombuffer(b64decode(leaf), "<i2").reshape(-1, 2**QUESTIONS) * LEAF,
            begin,
        )

    @classmethod
    def from_arrays(cls, arrays: dict[str, np.ndarray]) -> DecisionTrees:
        """Trees from what arrays() gave."""
        return cls(
            int(arrays["figures"]), arrays["figure"].astype(np.uint8), arrays["border"], arrays["leaf"],
            float(arrays["begin"]),
        )  # fmt: skip

    def arrays(self) -> dict[str, np.ndarray]:
        """Everything, to be written."""
        return {
            "figures": np.array(self.figures, np.float32), "figure": self.figure.astype(np.uint8),
            "border": self.border.astype(np.float32), "leaf": self.leaf.astype(np.float32),
            "begin": np.array(self.begin, np.float32),
        }  # fmt: skip

    def likely(self, evidence: np.ndarray) -> np.ndarray:
        """(n,) probability, where the trees tell log odds. evidence: (n, figures)"""
        odds = np.full(len(evidence), self.begin, np.float64)
        # As it was learnt from.
        open_still, of_open = np.arange(len(evidence)), np.ascontiguousarray(evidence.T, np.float32)
        for first in range(0, len(self.leaf), ROUND):
            odds[open_still] += self._sum(of_open, slice(first, first + ROUND))
            undecided = np.abs(odds[open_still]) < DECIDED
            open_still, of_open = open_still[undecided], of_open[:, undecided]
        return chances_of(odds)

    def estimate(self, evidence: np.ndarray) -> np.ndarray:
        """(n,) what all trees say together. evidence: (n, figures)"""
        if len(evidence) > FEW:
            return np.asarray(self.begin + self._sum(np.ascontiguousarray(evidence.T, np.float32), slice(None)))
        # Of few cases, all trees are asked at once.
        cases, trees = np.asarray(evidence, np.float32), np.arange(len(self.leaf))
        place = np.zeros((len(cases), len(trees)), np.intp)
        for question in range(self.figure.shape[1]):
            place += place
            place += cases[:, self.figure[:, question]] > self.border[:, question]
        return np.asarray(self.begin + self.leaf[trees, place].sum(axis=1))

    def _sum(self, of: np.ndarray, trees: slice) -> np.ndarray:
        """(n,) sum of the leaves of some trees. of: (figures, n)"""
        total, leaves = np.zeros(of.shape[1], np.float32), np.empty(of.shape[1], np.float32)
        place, answer = np.empty(of.shape[1], np.uint8), np.empty(of.shape[1], bool)
        rows, asked, borders_of = list(of), self.figure[trees].tolist(), self.border[trees].tolist()
        for figures, borders, leaf in zip(asked, borders_of, self.leaf[trees].astype(np.float32), strict=True):
            place[:] = 0
            for figure, border in zip(figures, borders, strict=True):
                np.greater(rows[figure], border, out=answer)
                place += place
                place |= answer.view(np.uint8)
            # No place is outside; saying so is faster than having it checked.
            total += leaf.take(place, out=leaves, mode="clip")
        return total
