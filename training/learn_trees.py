"""Learn decision trees from figures, for core/decision_trees.py. Needs CatBoost."""

from __future__ import annotations

import json
import tempfile
from dataclasses import dataclass
from multiprocessing import cpu_count
from pathlib import Path

import numpy as np
from catboost import CatBoostClassifier, CatBoostRegressor

from puresignal.core.decision_trees import DecisionTrees

CORES = cpu_count()


@dataclass(frozen=True)
class Manner:
    """How trees are learnt.

    trees, questions  how many, and questions of each; rate: how much each counts; held: how far leaves are held back
    figures           share of the figures that each question is chosen from; chance: how much there is in the choice
    borders           of each figure; loss: as CatBoost names them; an estimate is learnt with that of a regression
    """

    trees: int = 800
    questions: int = 6
    rate: float = 0.15
    held: float = 10.0
    figures: float = 0.3
    chance: float = 3.0
    borders: int = 64
    loss: str = "Logloss"


def learnt(figures: np.ndarray, aim: np.ndarray, manner: Manner, seed: int = 1) -> DecisionTrees:
    """Trees that learnt from cases. figures: (n, figures); aim: (n,) bool, or numbers"""
    make = CatBoostClassifier if manner.loss == "Logloss" else CatBoostRegressor
    model = make(
        iterations=manner.trees, depth=manner.questions, learning_rate=manner.rate, l2_leaf_reg=manner.held,
        rsm=manner.figures, random_strength=manner.chance, border_count=manner.borders, loss_function=manner.loss,
        random_seed=seed, thread_count=CORES, verbose=100, allow_writing_files=False,
    )  # fmt: skip
    model.fit(figures, aim)
    with tempfile.NamedTemporaryFile(suffix=".json") as file:
        model.save_model(file.name, format="json")
        written = json.loads(Path(file.name).read_text())
    figure = np.zeros((manner.trees, manner.questions), np.int64)
    border = np.full((manner.trees, manner.questions), np.inf)
    leaf = np.zeros((manner.trees, 2**manner.questions))
    for number, tree in enumerate(written["oblivious_trees"]):
        # Of fewer questions than the others, the first ones are always answered with no. The first is the lowest bit.
        for place, asked in enumerate(reversed(tree["splits"]), manner.questions - len(tree["splits"])):
            figure[number, place], border[number, place] = asked["float_feature_index"], asked["border"]
        leaf[number, : len(tree["leaf_values"])] = tree["leaf_values"]
    scale, begin = written["scale_and_bias"]
    return DecisionTrees(figures.shape[1], figure, border, leaf * scale, begin[0])
