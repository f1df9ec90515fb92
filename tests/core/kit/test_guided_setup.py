"""The one-minute set-up: pads that are asked for one by one, on kits whose pads shake each other."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.analysis import setup_proposals
from puresignal.core.analysis.setup_proposals import CURVE, HAT, MAP, STANDS, THRESHOLD
from puresignal.core.kit import guided_setup
from puresignal.core.kit.guided_setup import GuidedSetup, SetupHit
from puresignal.core.kit.note_map import HatPedal, NoteMap, Pad
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.velocity_curve import Shape
from puresignal.io import journal, note_map_file

LEVELS = (30, 52, 74, 96, 118)


def hit(setup, note, levels=LEVELS, at=0.0, channel=10, shaken=None):
    for i, level in enumerate(levels):
        setup = guided_setup.heard(setup, SetupHit(at + 0.4 * i, channel, note, level))
        if shaken is not None and level > 70:
            setup = guided_setup.heard(setup, SetupHit(at + 0.4 * i + 0.012, channel, shaken, level // 4))
    return setup


def test_the_pad_that_was_asked_for_is_told_from_those_that_shake_along():
    setup = guided_setup.gone_on(hit(GuidedSetup(), 50, shaken=51))
    setup = hit(setup, 51, shaken=50)
    assert guided_setup.is_enough(setup)
    setup = guided_setup.gone_on(setup)
    assert [(one.articulation, one.note, one.velocities) for one in setup.learnt] == [
        ("kick", 50, LEVELS), ("snare.head", 51, LEVELS),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("levels", "enough"), [(LEVELS, True), ((30, 60, 118), False), ((100,) * 6, False), ((20, 30, 40, 50, 60), False)]
)
def test_a_pad_is_done_when_it_was_hit_soft_and_hard(levels, enough):
    assert guided_setup.is_enough(hit(GuidedSetup(), 50, levels)) is enough


def test_a_second_zone_without_a_note_of_its_own_is_left_out():
    setup = guided_setup.gone_on(hit(GuidedSetup(), 50))
    setup = guided_setup.gone_on(hit(setup, 51))
    assert setup.asked == "snare.rim"
    setup = hit(setup, 51)
    assert guided_setup.same_pad(setup) == "snare.head"
    setup = guided_setup.gone_on(setup)
    assert setup.skipped == ("snare.rim",)
    # Back asks for it again.
    assert guided_setup.back(setup).asked == "snare.rim"


def at_hat(closed_at, open_at, one_note):
    """Asked up to the closed hat."""
    setup = GuidedSetup()
    for note in (50, 51):
        setup = guided_setup.gone_on(hit(setup, note))
    setup = guided_setup.skip(guided_setup.skip(setup))
    assert setup.asked == "hat.open"
    setup = guided_setup.gone_on(hit(setup, 60))
    for value in np.linspace(open_at, closed_at, 6).round().astype(int).tolist():
        setup = guided_setup.moved(setup, 4, value)
    return guided_setup.gone_on(hit(setup, 60 if one_note else 61))


@pytest.mark.parametrize(("closed_at", "open_at"), [(118, 6), (9, 101)])
@pytest.mark.parametrize("one_note", [True, False])
def test_the_pedals_travel_and_polarity_come_from_where_it_stood(closed_at, open_at, one_note):
    learnt = guided_setup.map_of(at_hat(closed_at, open_at, one_note), "Kit")
    assert learnt.hat == HatPedal(4, closed_at, open_at, not one_note)
    names = [pad.articulation for pad in learnt.pads if pad.articulation.startswith("hat")]
    assert sorted(names) == (["hat.closed"] if one_note else ["hat.closed", "hat.open"])


def rows_of(*groups):
    """Messages: (note, levels, shaken note) in turn."""
    rows, at = [], 1.0
    for note, levels, shaken in groups:
        for level in levels:
            rows.append((at, 0, bytes((0x99, note, level))))
            if shaken and level > 70:
                rows.append((at + 0.009, 0, bytes((0x99, shaken, level // 5))))
                rows.append((at + 0.08, 0, bytes((0x89, shaken, 64))))
            rows.append((at + 0.1, 0, bytes((0x89, note, 64))))
            at += 0.4
        at += 1.0
    return sorted(rows)


def take_of(rows):
    return journal.to_take(rows, ("kit",), "t", "t", TempoMap.steady(120), 0.0, one_device=True)


KIT = NoteMap("My kit", tuple(Pad(name, note) for name, note in (
    ("kick", 50), ("snare.head", 51), ("tom1.head", 60), ("tom2.head", 61), ("tom3.head", 62))), 10)  # fmt: skip
MANY = tuple(range(24, 122, 7))


def test_everything_is_proposed_with_what_it_changes_and_set_only_where_it_was_chosen():
    weak = tuple(round(v * 0.6) for v in MANY)
    stray = (4, 5, 3, 4)
    take = take_of(rows_of((50, MANY, 0), (51, (*MANY, *stray), 0), (60, MANY, 61), (61, MANY, 60), (62, weak, 0)))
    found = setup_proposals.proposals(take, None, None, CleaningPath(), learnt=KIT)
    kinds = {one.kind: one for one in found}
    assert list(dict.fromkeys(one.kind for one in found)) == [MAP, STANDS, THRESHOLD, CURVE]
    # What shook along is known for what it is as soon as the pads are.
    effect = kinds[MAP].effect
    assert effect.mapped + effect.removed == effect.hits == 88
    assert kinds[STANDS].stands == (("tom1", "tom2"),)
    assert (kinds[THRESHOLD].drum, kinds[THRESHOLD].threshold, kinds[THRESHOLD].effect.removed) == ("snare", 5.0, 4)
    assert kinds[CURVE].drum == "tom3.head"
    # Evened out, its hard hits are as hard as those of the other toms.
    (softest, *_, (x, y), hardest) = kinds[CURVE].curve
    assert (softest, hardest) == ((1.0, 1.0), (127.0, 127.0))
    assert (x, y) == pytest.approx((np.quantile(weak, 0.9), np.quantile(MANY, 0.9)), abs=1)
    source, path = setup_proposals.applied([kinds[MAP], kinds[STANDS]], None, CleaningPath())
    assert {pad.articulation for pad in source.pads if pad.group} == {"tom1.head", "tom2.head"}
    assert path == CleaningPath()
    source, path = setup_proposals.applied(found, None, CleaningPath())
    assert dict(path.velocity.shapes)["snare"] == Shape(threshold=5.0)


def test_evenly_played_pads_with_a_known_map_need_nothing():
    take = take_of(rows_of((50, MANY, 0), (51, MANY, 0), (60, MANY, 0), (61, MANY, 0), (62, MANY, 0)))
    assert setup_proposals.proposals(take, KIT, None, CleaningPath(), learnt=KIT) == ()


def test_a_take_of_a_shipped_kit_proposes_its_map():
    kit = note_map_file.shipped("harbour-mesh")
    rows = rows_of(*((pad.note, MANY[::3], 0) for pad in kit.pads[:12]))
    maps = [note_map_file.shipped(name) for name in note_map_file.shipped_ids()]
    found = setup_proposals.proposals(take_of(rows), None, None, CleaningPath(), maps)
    assert found[0].kind == MAP
    assert found[0].source == kit
    assert not any(one.kind == HAT for one in found)
