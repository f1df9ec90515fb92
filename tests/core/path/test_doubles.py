"""Double triggers on kits of every kind: late ones, faint ones; taps, rolls and drags that look like them stay."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.doubles import DOUBLE
from puresignal.core.path.tally import Action
from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drum_module, drummer, grooves, trigger_physics

KIT = NoteMap("kit", (Pad("snare.head", 38), Pad("kick", 36)), 10)


def play(hits, path=None):
    """(seconds, velocity) hits of the snare; the velocities and seconds that are left, and the outcome."""
    path = path or CleaningPath()
    rows = sorted([(at, 0x99, 38, v) for at, v in hits] + [(at + 0.01, 0x89, 38, 0) for at, _ in hits])
    columns = list(zip(*rows, strict=True))
    events = Events(np.round(np.array(columns[0]), 5), np.zeros(len(rows)), *columns[1:], np.full(len(rows), -1))
    take = Take("t", "t", events, (Port("kit"),), TempoMap())
    outcome = run(take, path, make_context(take, KIT, None, path))
    return [(round(float(s), 3), int(v)) for s, v in zip(outcome.output_notes.start, outcome.output_notes.velocity,
            strict=True)], outcome  # fmt: skip


STEADY = [(0.5 * i, 95 + i % 3) for i in range(24)]


@pytest.mark.parametrize("gap", [0.009, 0.018, 0.03, 0.045])
@pytest.mark.parametrize("part", [0.06, 0.15, 0.3])
def test_a_kit_that_triggers_twice_is_told_from_its_own_takes(gap, part):
    false = [(at + gap, max(1, round(part * v))) for at, v in STEADY[::4]]
    left, outcome = play(STEADY + false)
    assert left == STEADY
    assert outcome.tally.removed() == {DOUBLE: len(false)}
    sure = outcome.tally.entries.confidence[outcome.tally.entries.action == Action.REMOVED]
    # Clearly above the limit, so that it does not hang by a hair.
    assert (sure > 0.8).all()


def test_taps_rolls_and_drags_are_played():
    taps = [(at + 0.06, 48) for at, _ in STEADY[::3]]
    assert len(play(STEADY + taps)[0]) == len(STEADY) + len(taps)
    roll = [(20 + 0.045 * i, 90 if i % 2 == 0 else 66) for i in range(30)]
    assert len(play(STEADY + roll)[0]) == len(STEADY) + len(roll)
    drags = [(30 + i + d, v) for i in range(8) for d, v in ((0, 40), (0.034, 36), (0.07, 105))]
    assert len(play(STEADY + drags)[0]) == len(STEADY) + len(drags)


def test_window_and_loudness_are_limits_and_confidence_moves_the_line():
    false = [(at + 0.02, 20) for at, _ in STEADY[::4]]
    usual = CleaningPath()
    for change in ({"window_ms": 15.0}, {"ratio": 0.1}, {"on": False}, {"min_confidence": 1.0}):
        path = replace(usual, doubles=replace(usual.doubles, **change))
        assert len(play(STEADY + false, path)[0]) == len(STEADY) + len(false)
    # Settings that nobody touched are not written, so that older files stay as they were.
    assert "learn" not in settings_json.to_json(usual)["doubles"]
    moved = replace(usual, doubles=replace(usual.doubles, learn=False, min_confidence=0.7))
    assert settings_json.from_json(settings_json.to_json(moved), "x") == moved


@pytest.mark.parametrize("seed", [3, 8])
def test_faults_that_physics_makes_are_found_on_a_kit_that_was_never_met(seed):
    kit = note_map_file.shipped("harbour-mesh")
    random = np.random.default_rng(seed)
    bars = [grooves.GROOVES[int(random.integers(len(grooves.GROOVES)))] for _ in range(16)]
    played = adversarial_takes.playable(drummer.play(bars, 104, seed), random, 104)
    made = trigger_physics.perform(kit, played, seed)
    assert 0.01 <= made.share <= 0.12
    struck = [hit for hit in made.sent.hits if hit.stroke is not None]
    assert len(struck) + made.swallowed + made.sent.missed == len(played.strokes)
    for hit in struck:
        assert hit.stroke.start == made.sent.events.arrived[hit.event]
        assert hit.stroke.velocity == made.sent.events.data2[hit.event]
    take = drum_module.to_take(made.sent, "t", "t", 104, "kit")
    outcome = run(take, CleaningPath(), make_context(take, kit, None, CleaningPath()))
    kept = set(outcome.output_notes.origin.tolist())
    right = sum(hit.event in kept for hit in struck)
    wrong = sum(hit.stroke is None and hit.event in kept for hit in made.sent.hits)
    assert 2 * right / (right + wrong + len(struck)) > 0.985
    assert len(struck) - right <= 0.004 * len(struck) + 1
