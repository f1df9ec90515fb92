"""What decision trees see of suspects of faults, and what they make of it."""

from base64 import b64encode

import numpy as np
import pytest

from puresignal.core import decision_trees
from puresignal.core.decision_trees import DecisionTrees
from puresignal.core.path import crosstalk_trees, doubles_trees
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drum_module
from puresignal.sim.adversarial_takes import FaultRanges

KIT = note_map_file.shipped("practice-five")
PATH = CleaningPath()
STAGES = [stage.stage.key for stage in PATH.stages()]


@pytest.fixture(scope="module")
def notes():
    sent, _ = adversarial_takes.perform(KIT, 16, 110.0, 31, FaultRanges())
    take = drum_module.to_take(sent, "t", "t", 110.0, "kit")
    context = make_context(take, KIT, None, PATH)
    return run(take, PATH, context, stages=STAGES.index("doubles")).output_notes, context


def asked_one_by_one(trees, figures):
    """Log odds of one suspect, tree by tree as the description says."""
    odds = trees.begin
    for figure, border, leaf in zip(trees.figure, trees.border, trees.leaf, strict=True):
        answers = "".join("1" if figures[f] > b else "0" for f, b in zip(figure, border, strict=True))
        odds += leaf[int(answers, 2)]
    return odds


def test_the_leaves_that_a_suspects_answers_choose_are_added_up():
    chance = np.random.default_rng(1)
    trees = DecisionTrees(
        4, chance.integers(0, 4, (3, 2)), np.round(chance.normal(size=(3, 2)), 2), chance.normal(size=(3, 4)), 0.25
    )
    figures = np.round(chance.normal(size=(40, 4)), 3)
    odds = [asked_one_by_one(trees, row) for row in figures]
    assert len(set(odds)) > 10
    assert trees.likely(figures) == pytest.approx(1 / (1 + np.exp(-np.array(odds))))


def test_trees_are_read_from_text_as_they_were_written():
    # One tree: its second question is whether figure 1 is above 2.5; all others are always answered with no.
    border, leaf = np.full(6, np.inf, "<f4"), np.zeros(64, "<i2")
    border[1], leaf[0], leaf[16] = 2.5, -1500, 800
    text = [b64encode(part.tobytes()).decode() for part in (np.array([0, 1, 0, 0, 0, 0], "|u1"), border, leaf)]
    trees = DecisionTrees.from_text(2, 0.5, *text)
    likely = trees.likely(np.array([[9.0, 2.0], [0.0, 3.0]]))
    assert likely == pytest.approx([1 / (1 + np.exp(1.0)), 1 / (1 + np.exp(-1.3))])


@pytest.mark.parametrize("stage", ["doubles", "crosstalk"])
def test_leaving_out_trees_for_decided_suspects_changes_no_decision(notes, stage):
    notes, context = notes
    _, seen = getattr(PATH, stage).suspects(notes, context)
    trees = {"doubles": doubles_trees, "crosstalk": crosstalk_trees}[stage].TREES
    likely = trees.likely(seen)
    whole = 1 / (1 + np.exp(-np.array([asked_one_by_one(trees, row.astype(np.float32)) for row in seen])))
    for limit in (0.2, 0.5, 0.7):
        assert ((likely >= limit) == (whole >= limit)).all()
    open_still = np.abs(whole - 0.5) < 0.4
    assert likely[open_still] == pytest.approx(whole[open_still])


@pytest.mark.parametrize("stage", ["doubles", "crosstalk"])
def test_what_is_seen_does_not_depend_on_when_a_take_begins(notes, stage):
    notes, context = notes
    rows, seen = getattr(PATH, stage).suspects(notes, context)
    later_rows, later = getattr(PATH, stage).suspects(notes.but(start=notes.start + 100, end=notes.end + 100), context)
    assert len(rows) > 20
    assert later_rows.tolist() == rows.tolist()
    assert np.allclose(later, seen, atol=1e-4)


@pytest.mark.parametrize(("stage", "module"), [("doubles", doubles_trees), ("crosstalk", crosstalk_trees)])
def test_a_single_suspect_and_none_are_seen_too(notes, stage, module):
    notes, context = notes
    rows, seen = getattr(PATH, stage).suspects(notes, context)
    assert seen.shape == (len(rows), module.TREES.figures)
    assert np.isfinite(seen).all()
    near = np.abs(notes.start - notes.start[rows[0]]) < 0.08
    one, shown = getattr(PATH, stage).suspects(notes.take(near), context)
    assert 1 <= len(one) < len(rows)
    assert np.isfinite(shown).all()
    none, shown = getattr(PATH, stage).suspects(notes.take(np.arange(len(notes)) < 1), context)
    assert (len(none), len(shown)) == (0, 0)
    likely = module.TREES.likely(seen)
    assert ((likely >= 0) & (likely <= 1)).all()


def test_few_cases_are_told_as_many_are():
    chance = np.random.default_rng(5)
    trees = DecisionTrees(
        7, chance.integers(0, 7, (40, 4)), chance.normal(size=(40, 4)), chance.normal(size=(40, 16)), -0.5
    )
    figures = chance.normal(size=(decision_trees.FEW + 50, 7))
    many = trees.estimate(figures)
    assert trees.estimate(figures[:9]) == pytest.approx(many[:9], abs=1e-4)
    assert many[-1] == pytest.approx(asked_one_by_one(trees, figures[-1].astype(np.float32)), abs=1e-4)
    again = DecisionTrees.from_arrays(trees.arrays())
    assert again.estimate(figures) == pytest.approx(many, abs=1e-4)
