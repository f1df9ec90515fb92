"""What networks see of suspects of faults, and what they make of it."""

import numpy as np
import pytest

from puresignal.core.path import crosstalk_weights, doubles_weights
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.fault_network import FaultNetworks
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


def test_two_networks_say_the_mean_of_their_log_odds():
    chance = np.random.default_rng(1)
    first, second, out = chance.normal(size=(2, 3, 4)), chance.normal(size=(2, 4, 2)), chance.normal(size=(2, 2))
    by = chance.normal(size=(2, 4)), chance.normal(size=(2, 2)), chance.normal(size=2)
    networks = FaultNetworks(np.array([1.0, 0, 0]), np.array([2.0, 1, 1]), first, by[0], second, by[1], out, by[2])
    figures = np.array([[3.0, -1, 0.5], [100.0, 0, 0]])
    for row, found in zip(figures, networks.likely(figures), strict=True):
        x = np.clip((row - networks.mean) / networks.scale, -4, 4)
        odds = []
        for k in range(2):
            hidden = np.maximum(x @ first[k] + by[0][k], 0)
            odds.append(np.maximum(hidden @ second[k] + by[1][k], 0) @ out[k] + by[2][k])
        assert found == pytest.approx(1 / (1 + np.exp(-np.mean(odds))))


@pytest.mark.parametrize("stage", ["doubles", "crosstalk"])
def test_what_is_seen_does_not_depend_on_when_a_take_begins(notes, stage):
    notes, context = notes
    rows, seen = getattr(PATH, stage).suspects(notes, context)
    later_rows, later = getattr(PATH, stage).suspects(notes.but(start=notes.start + 100, end=notes.end + 100), context)
    assert len(rows) > 20
    assert later_rows.tolist() == rows.tolist()
    assert np.allclose(later, seen, atol=1e-4)


@pytest.mark.parametrize(("stage", "networks"), [("doubles", doubles_weights), ("crosstalk", crosstalk_weights)])
def test_a_single_suspect_and_none_are_seen_too(notes, stage, networks):
    notes, context = notes
    rows, seen = getattr(PATH, stage).suspects(notes, context)
    assert seen.shape == (len(rows), len(networks.NETWORKS.mean))
    assert np.isfinite(seen).all()
    near = np.abs(notes.start - notes.start[rows[0]]) < 0.08
    one, shown = getattr(PATH, stage).suspects(notes.take(near), context)
    assert 1 <= len(one) < len(rows)
    assert np.isfinite(shown).all()
    none, shown = getattr(PATH, stage).suspects(notes.take(np.arange(len(notes)) < 1), context)
    assert (len(none), len(shown)) == (0, 0)
    likely = networks.NETWORKS.likely(seen)
    assert ((likely >= 0) & (likely <= 1)).all()
