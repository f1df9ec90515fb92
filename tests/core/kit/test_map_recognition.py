from __future__ import annotations

from dataclasses import replace

import pytest

from puresignal.core.kit.map_recognition import recognise
from puresignal.io import note_map_file
from puresignal.sim import drum_module, drummer
from tests.conftest import hit, take_of

MAPS = [note_map_file.shipped(ident) for ident in note_map_file.shipped_ids()]


@pytest.mark.parametrize("seed", [3, 8, 21])
@pytest.mark.parametrize("ident", note_map_file.shipped_ids())
def test_the_kit_that_was_played_ranks_first(ident, seed):
    kit = note_map_file.shipped(ident)
    sent = drum_module.DrumModule(kit, drum_module.Faults.usual(), seed).perform(drummer.improvise(16, 110, seed))
    best, *rest = recognise(drum_module.to_take(sent, "t", "t", 110, "kit"), MAPS)
    assert best.note_map is kit
    assert best.explained == best.hits
    assert best.unknown == ()
    assert all(best.score >= other.score for other in rest)


def test_a_map_that_misses_a_few_notes_still_beats_a_wrong_one_and_says_which():
    kit = note_map_file.shipped("practice-five")
    few = replace(kit, name="few", pads=tuple(p for p in kit.pads if p.note not in (62, 73)))
    sent = drum_module.DrumModule(kit, drum_module.Faults(), 5).perform(drummer.improvise(24, 110, 5))
    guesses = recognise(drum_module.to_take(sent, "t", "t", 110, "kit"), [few, note_map_file.shipped("lantern-pads")])
    assert guesses[0].note_map is few
    assert set(guesses[0].unknown) <= {(10, 62), (10, 73)}
    assert guesses[0].explained < guesses[0].hits


def test_nothing_played_ranks_nothing_and_breaks_nothing():
    assert len(recognise(take_of([]), MAPS)) == len(MAPS)
    assert recognise(take_of(hit(0.0, 36)), MAPS)[0].hits == 1
