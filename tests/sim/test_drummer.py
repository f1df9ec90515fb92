from __future__ import annotations

import itertools
from collections import Counter

import numpy as np
import pytest

from puresignal.io import note_map_file
from puresignal.sim import drum_module, drummer, grooves


def test_the_same_seed_plays_the_same_and_another_differs():
    a, b, c = (drummer.improvise(8, 100, seed) for seed in (1, 1, 2))
    assert a == b
    assert a.strokes != c.strokes


def test_the_tune_has_what_drummers_play():
    kinds = Counter(s.kind for s in drummer.play(grooves.QUARTER_PAST_FERRY, 92, 1).strokes)
    assert set(kinds) == {"hit", "ghost", "flam grace", "flam", "drag grace", "drag", "roll"}
    assert min(kinds.values()) >= 3


def test_graces_come_before_their_loud_note_and_softer():
    strokes = drummer.play(grooves.QUARTER_PAST_FERRY, 92, 1).strokes
    for before, after in itertools.pairwise(strokes):
        if before.kind == "flam grace" and after.kind == "flam":
            assert 0.015 < after.start - before.start < 0.036
            assert before.velocity < 0.7 * after.velocity


@pytest.mark.parametrize("ident", note_map_file.shipped_ids())
def test_a_simulated_module_sends_its_own_notes_with_ground_truth(ident):
    kit = note_map_file.shipped(ident)
    performance = drummer.play(grooves.QUARTER_PAST_FERRY, 92, 3)
    sent = drum_module.DrumModule(kit, drum_module.Faults.usual(), 3).perform(performance)
    ons = np.flatnonzero(((sent.events.status & 0xF0) == 0x90) & (sent.events.data2 > 0))
    assert [h.event for h in sent.hits] == ons.tolist()
    known = {((kit.channel_of(p) or 10), p.note) for p in kit.pads}
    assert {(int(sent.events.status[i]) % 16 + 1, int(sent.events.data1[i])) for i in ons} <= known
    assert sum(h.stroke is not None for h in sent.hits) + sent.missed == len(performance.strokes)
    assert np.all(np.diff(sent.events.arrived) >= 0)


def test_faults_happen_as_often_as_asked_and_not_at_all_when_not():
    kit, performance = note_map_file.shipped("practice-five"), drummer.improvise(200, 120, 4)
    clean = drum_module.DrumModule(kit, drum_module.Faults(), 4).perform(performance)
    assert {h.cause for h in clean.hits} == {"stroke"}
    assert not np.any(clean.events.status >= 0xF0)
    faulty = drum_module.DrumModule(kit, drum_module.Faults(doubles=0.05, crosstalk=0.05, hanging=0.02, stray=0.01), 4)
    sent = faulty.perform(performance)
    causes = Counter(h.cause for h in sent.hits)
    assert 0.02 < causes["double"] / causes["stroke"] < 0.07
    assert causes["crosstalk"] > 10
    offs = np.count_nonzero((sent.events.status & 0xF0) == 0x80)
    assert offs < len(sent.hits)
    assert {0xF0, 0xFE} <= set(sent.events.status.tolist())


def test_the_simulated_pedal_matches_each_stroke():
    kit = note_map_file.shipped("tidewater-compact")
    sent = drum_module.DrumModule(kit).perform(drummer.play(grooves.QUARTER_PAST_FERRY, 92, 6))
    pedal, events = 0.0, sent.events
    hits = {h.event: h for h in sent.hits}
    for i in range(len(events)):
        if events.status[i] & 0xF0 == 0xB0:
            pedal = (float(events.data2[i]) - kit.hat.closed_at) / (kit.hat.open_at - kit.hat.closed_at)
        elif i in hits and hits[i].stroke is not None and hits[i].stroke.openness is not None:
            assert abs(pedal - hits[i].stroke.openness) < 0.06
