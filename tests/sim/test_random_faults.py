"""Faults drawn anew for each kit."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest

from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drummer, random_faults
from puresignal.sim.drummer import Performance

KIT = note_map_file.shipped("practice-five")


def _played(seed: int) -> Performance:
    return drummer.play(list(adversarial_takes.HARD_BARS), 110, seed)


@pytest.mark.parametrize("seed", range(4))
def test_a_share_of_the_hits_is_false(seed: int) -> None:
    sent = random_faults.perform(KIT, _played(seed), seed, 0.01, 0.12)
    false = sum(hit.stroke is None for hit in sent.hits) / len(sent.hits)
    assert 0.01 <= false <= 0.12
    many = random_faults.perform(KIT, _played(seed), seed, 0.12, 0.45)
    assert 0.12 <= sum(hit.stroke is None for hit in many.hits) / len(many.hits) <= 0.45


def test_the_same_seed_gives_the_same_faults_and_every_stroke_is_sent() -> None:
    one, other = (random_faults.perform(KIT, _played(5), 5) for _ in range(2))
    assert np.array_equal(one.events.data2, other.events.data2)
    assert sum(hit.stroke is not None for hit in one.hits) == len(_played(5).strokes) - one.missed


def test_a_pad_sends_no_fault_beside_its_own_strokes() -> None:
    for seed in range(6):
        sent = random_faults.perform(KIT, _played(seed), seed)
        at = {hit.event: float(sent.events.arrived[hit.event]) for hit in sent.hits}
        note = {hit.event: int(sent.events.data1[hit.event]) for hit in sent.hits}
        struck = [hit.event for hit in sent.hits if hit.stroke is not None]
        for hit in sent.hits:
            if hit.stroke is None:
                near = [abs(at[hit.event] - at[s]) for s in struck if note[s] == note[hit.event]]
                assert min(near, default=1.0) > 0.0045


def test_faults_are_late_and_early_soft_and_loud_and_of_both_kinds() -> None:
    causes: Counter[str] = Counter()
    late, early, loud = 0, 0, 0
    for seed in range(10):
        sent = random_faults.perform(KIT, _played(seed), seed)
        strokes = np.array(sorted(hit.stroke.start for hit in sent.hits if hit.stroke is not None))
        for hit in sent.hits:
            if hit.stroke is None:
                causes[hit.cause] += 1
                at = float(sent.events.arrived[hit.event])
                before = strokes[strokes <= at]
                late += not len(before) or at - before[-1] > 0.03
                early += bool(len(strokes[strokes > at])) and strokes[strokes > at][0] - at < 0.004
                loud += int(sent.events.data2[hit.event]) > 40
    assert min(causes["double"], causes["crosstalk"]) > 10
    assert min(late, early, loud) > 2
