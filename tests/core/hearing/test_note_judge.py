"""Possible notes of one voice: what the trees say decides which were played, and when."""

import numpy as np
import pytest

from puresignal.core.hearing.melody import candidates, note_evidence, note_judge, segmentation
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.melody.note_judge import PossibleNotes
from puresignal.io.models import conv_net, pitch_networks
from puresignal.sim import sung_lines

STEP = candidates.STEP


def possible(*rows):
    """(first frame, last frame, number) of each"""
    first, last, number = np.array(rows).T
    return PossibleNotes(first, last, number, first * STEP, last * STEP, np.full(len(rows), 0.5))


def settled(notes, *chances):
    kept, sure = note_judge.settled(notes, np.array(chances), 0.5)
    ends = np.rint(kept.end / STEP).astype(int).tolist()
    return list(zip(kept.first.tolist(), ends, kept.number.tolist(), strict=True)), np.round(sure, 2).tolist()


@pytest.fixture(scope="module")
def hummed():
    """A voice that swells and dips, which begins no notes."""
    random = np.random.default_rng(8)
    voice = sung_lines.any_voice(random)
    notes = [(0.3 + 0.7 * i, 0.9 + 0.7 * i, n, 0.8) for i, n in enumerate((52, 54, 55, 57, 55, 52))]
    sound, _ = sung_lines.sing(notes, voice, candidates.RATE, 5)
    return candidates.analyse(conv_net("onset"), pitch_networks(), sound), notes


def test_what_sounds_the_same_and_is_no_note_goes_on_with_the_one_before():
    assert settled(possible((10, 40, 60), (40, 80, 60)), 0.9, 0.2) == ([(10, 80, 60)], [0.9])


def test_what_leads_into_a_note_is_not_a_part_of_it():
    assert settled(possible((10, 18, 60), (18, 80, 60)), 0.1, 0.9) == ([(18, 80, 60)], [0.9])


def test_two_doubtful_parts_of_one_note_are_one_less_doubtful_note():
    # One of them was played with a chance of 1 - 0.6 * 0.7; it begins with the likelier one.
    assert settled(possible((10, 40, 60), (40, 80, 60)), 0.4, 0.3) == ([(10, 80, 60)], [0.58])
    assert settled(possible((10, 40, 60), (40, 80, 60)), 0.3, 0.4) == ([(40, 80, 60)], [0.58])


def test_other_pitches_and_notes_after_a_gap_stay_by_themselves():
    assert settled(possible((10, 40, 60), (40, 80, 62)), 0.9, 0.2)[1] == [0.9, 0.2]
    assert settled(possible((10, 40, 60), (60, 80, 60)), 0.9, 0.2)[1] == [0.9, 0.2]


def test_moved_notes_stay_in_sequence_and_small_moves_are_left():
    notes = possible((10, 40, 60), (40, 80, 62))
    moved = note_judge.moved(notes, np.array([0.05, 0.005]), np.array([0.2, -0.1]))
    assert moved.start.tolist() == pytest.approx([0.1497, 0.3991], abs=1e-3)
    # The first ends where the second begins, however long it is taken for.
    assert moved.end.tolist() == pytest.approx([0.3991, 0.6982], abs=1e-3)
    late = note_judge.moved(notes, np.array([0.5, 0.0]), np.zeros(2))
    assert late.start[1] >= late.start[0] + 0.03
    assert (late.end >= late.start + 0.03).all()


def test_every_possible_note_is_kept_where_nothing_was_taught():
    assert note_judge.UNTAUGHT.chances(np.zeros((3, 5), np.float32)).tolist() == [0.5] * 3
    assert note_judge.UNTAUGHT.later.estimate(np.zeros((2, 5), np.float32)).tolist() == [0.0, 0.0]


def test_figures_are_the_same_in_parts_and_at_the_edges_of_a_recording(hummed, monkeypatch):
    analysis, _ = hummed
    notes = melody_notes.possible(analysis, segmentation.MelodySettings())
    whole = note_evidence.figures(analysis, notes, False), note_evidence.end_figures(analysis, notes)
    monkeypatch.setattr(note_evidence, "AT_ONCE", 2)
    parts = note_evidence.figures(analysis, notes, False), note_evidence.end_figures(analysis, notes)
    assert all(np.array_equal(a, b) for a, b in zip(whole, parts, strict=True))
    assert [each.shape[1] for each in whole] == [analysis.judge.played.figures, analysis.judge.ends_later.figures]
    last = len(analysis.level) - 1
    edge = possible((0, 5, 28), (last - 3, last + 1, 96))
    assert np.isfinite(note_evidence.figures(analysis, edge, True)).all()
    assert np.isfinite(note_evidence.end_figures(analysis, edge)).all()


def test_swells_and_dips_begin_no_notes_and_ends_are_near(hummed):
    analysis, played = hummed
    heard = melody_notes.decide(analysis).kept()
    assert np.rint(heard.pitch).tolist() == [n for _, _, n, _ in played]
    assert np.abs(heard.start - [s for s, *_ in played]).max() < 0.05
    assert np.median(np.abs(heard.end - [e for _, e, _, _ in played])) < 0.05


def test_sensitivity_brings_doubtful_notes_back(hummed):
    analysis, _ = hummed
    counts = [
        len(melody_notes.decide(analysis, segmentation.MelodySettings(sensitivity=each)).kept())
        for each in (0.0, 0.5, 1.0)
    ]
    assert counts == sorted(counts)
