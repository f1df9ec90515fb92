"""The rules that files and live output obey, one by one, on what really leaves."""

from __future__ import annotations

from dataclasses import replace

import pytest

from puresignal.core.kit.note_map import HatPedal, NoteMap, Pad
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run, with_faults, with_unmapped
from puresignal.core.path.doubles import DOUBLE
from puresignal.core.path.ends import CHOKED, NO_END, NO_LENGTH
from puresignal.core.path.identify import PEDAL, UNMAPPED_NOTE
from puresignal.core.path.removal import BY_HAND
from puresignal.core.path.tally import Action
from puresignal.core.path.target import ALSO_SENT, NO_TARGET, STAND_IN
from puresignal.core.path.verdicts import Verdict
from tests.conftest import hit, take_of

KIT = NoteMap(
    "kit",
    (
        Pad("kick", 36), Pad("snare.head", 38), Pad("snare.rim", 40), Pad("hat.closed", 8), Pad("hat.edge.closed", 9),
        Pad("hat.pedal", 7), Pad("crash1.bow", 49), Pad("crash1.edge", 50), Pad("tom1.head", 60, channel=11),
    ),
    10,
    HatPedal(4, 127, 0, False),
)  # fmt: skip
ROOM = NoteMap(
    "room",
    (
        Pad("kick", 24, also=(20,)), Pad("snare.head", 26), Pad("hat.closed", 30), Pad("hat.half", 31),
        Pad("hat.open", 32), Pad("hat.pedal", 29), Pad("crash1.bow", 48), Pad("tom1.head", 40),
    ),
    10,
    HatPedal(4, 0, 100),
)  # fmt: skip


def clean(rows, source=KIT, target=ROOM, path=None, verdicts=None):
    take = take_of(rows)
    path = path or CleaningPath()
    outcome = run(take, path, make_context(take, source, target, path, verdicts))
    assert outcome.tally.balances()
    return outcome


def left(outcome):
    """(start, note, velocity, length) of the output, rounded to milliseconds."""
    notes = outcome.output_notes
    return [
        (round(float(s), 3), int(n), int(v), round(float(e - s), 3))
        for s, e, n, v in zip(notes.start, notes.end, notes.note, notes.velocity, strict=True)
    ]


def test_a_repeated_note_on_is_a_real_hit_and_ends_the_first():
    outcome = clean([(0.0, 0x99, 38, 90), (0.2, 0x99, 38, 88), (0.3, 0x89, 38, 0)])
    assert left(outcome) == [(0.0, 26, 90, 0.2), (0.2, 26, 88, 0.1)]


def test_a_double_trigger_is_removed_and_the_real_hit_keeps_its_length():
    rows = [(1.0, 0x99, 38, 100), (1.015, 0x99, 38, 30), (1.06, 0x89, 38, 0), (1.08, 0x89, 38, 0)]
    outcome = clean(rows)
    assert left(outcome) == [(1.0, 26, 100, 0.06)]
    assert outcome.tally.removed() == {DOUBLE: 1}


@pytest.mark.parametrize(
    "strokes",
    [
        [(1.0, 35), (1.022, 104)],
        [(1.0, 34), (1.05, 38), (1.1, 104)],
        [(1.0 + i * 0.023, 78 + i % 3) for i in range(12)],
        [(1.0, 110), (1.048, 55), (1.096, 108)],
        [(1.0, 90), (1.02, 88)],
    ],
    ids=["flam", "drag", "buzz", "taps after accents", "even pair"],
)
def test_flams_drags_and_rolls_are_not_double_triggers(strokes):
    rows = [row for at, velocity in strokes for row in hit(at, 38, velocity, 0.01)]
    assert [v for _, _, v, _ in left(clean(rows))] == [v for _, v in strokes]


def test_no_velocity_threshold():
    assert left(clean(hit(0.0, 38, 1))) == [(0.0, 26, 1, 0.05)]


def test_notes_without_length_and_notes_that_never_end_get_sound_ends():
    rows = [(0.0, 0x99, 38, 90), (0.0, 0x89, 38, 0), (1.0, 0x99, 36, 80), (9.0, 0x99, 38, 70), (9.1, 0x89, 38, 0)]
    outcome = clean(rows)
    assert (0.0, 26, 90, 0.02) in left(outcome)
    assert (1.0, 24, 80, 5.0) in left(outcome)
    assert {NO_LENGTH, NO_END} <= set(outcome.tally.changed())


def test_a_choke_ends_every_zone_of_its_cymbal_and_is_passed_on_mapped():
    # Both zones land on one note here, so the edge's hit ends the bow's before the choke does.
    rows = [*hit(0.0, 49, 100, 3.0), *hit(0.5, 50, 90, 3.0), *hit(0.6, 38, 90, 3.0), (1.0, 0xA9, 50, 127)]
    outcome = clean([*rows, (1.1, 0xA9, 50, 0), (1.2, 0xA9, 49, 63)])
    assert left(outcome) == [(0.0, 48, 100, 0.5), (0.5, 48, 90, 0.5), (0.6, 26, 90, 3.0)]
    pressure = [
        (int(k), int(n), int(v))
        for k, n, v in zip(outcome.controls.kind, outcome.controls.number, outcome.controls.value, strict=True)
    ]
    assert pressure == [(0xA0, 48, 127), (0xA0, 48, 0), (0xA0, 48, 63)]
    assert CHOKED in outcome.tally.changed()


def test_a_choke_on_one_zone_ends_the_other():
    outcome = clean([*hit(0.0, 49, 100, 3.0), (1.0, 0xA9, 50, 64)])
    assert left(outcome) == [(0.0, 48, 100, 1.0)]


def test_soft_pressure_is_no_choke():
    outcome = clean([*hit(0.0, 49, 100, 3.0), (1.0, 0xA9, 49, 63)])
    assert left(outcome) == [(0.0, 48, 100, 3.0)]


@pytest.mark.parametrize(("value", "note"), [(127, 30), (96, 30), (95, 31), (64, 31), (45, 31), (44, 32), (0, 32)])
def test_the_pedal_tells_the_opening(value, note):
    assert left(clean([(0.0, 0xB9, 4, value), *hit(0.1, 8)]))[0][1] == note


def test_before_the_pedals_first_value_the_hat_is_closed_and_of_one_moment_it_comes_first():
    rows = [*hit(0.1, 8), (0.5, 0x99, 8, 80), (0.5, 0xB9, 4, 0), (0.6, 0x89, 8, 0)]
    assert [n for _, n, _, _ in left(clean(rows))] == [30, 32]


def test_the_pedal_counts_only_on_the_hats_channel():
    assert left(clean([(0.0, 0xBA, 4, 0), *hit(0.1, 8)]))[0][1] == 30


def test_an_edge_falls_back_to_the_bow_at_its_opening():
    rows = [(0.0, 0xB9, 4, 0), *hit(0.1, 9), (0.5, 0xB9, 4, 64), *hit(0.6, 9), (1.0, 0xB9, 4, 127), *hit(1.1, 9)]
    assert [n for _, n, _, _ in left(clean(rows))] == [32, 31, 30]


@pytest.mark.parametrize(("value", "note"), [(60, 32), (75, 30)])
def test_half_open_goes_to_the_nearer_end_where_the_receiver_has_no_half(value, note):
    two = replace(ROOM, pads=tuple(p for p in ROOM.pads if p.articulation != "hat.half"))
    assert left(clean([(0.0, 0xB9, 4, value), *hit(0.1, 8)], target=two))[0][1] == note


def test_the_pedal_leaves_in_the_receivers_polarity_or_not_at_all():
    rows = [(0.0, 0xB9, 4, 127), (0.1, 0xB9, 4, 0), (0.2, 0xB9, 11, 99), *hit(0.3, 8)]
    outcome = clean(rows)
    assert list(zip(outcome.controls.number.tolist(), outcome.controls.value.tolist(), strict=True)) == [
        (4, 0), (4, 100), (11, 99),
    ]  # fmt: skip
    silent = clean(rows, target=replace(ROOM, hat=None))
    assert silent.controls.number.tolist() == [11]


def test_unmapped_notes_are_dropped_or_passed_unchanged():
    rows = [*hit(0.0, 99, 70), *hit(0.5, 38)]
    outcome = clean(rows)
    assert [n for _, n, _, _ in left(outcome)] == [26]
    assert outcome.tally.removed() == {UNMAPPED_NOTE: 1}
    kept = clean(rows, path=with_unmapped(CleaningPath(), "keep"))
    assert [n for _, n, _, _ in left(kept)] == [99, 26]
    assert kept.tracks[int(kept.output_notes.track[0])].key == "unmapped"


def test_a_drum_the_receiver_lacks_is_unmapped_and_shown_as_such():
    no_crash = replace(ROOM, pads=tuple(p for p in ROOM.pads if p.articulation != "crash1.bow"))
    outcome = clean(hit(0.0, 50), target=no_crash)
    assert left(outcome) == []
    assert outcome.tally.removed() == {NO_TARGET: 1}


def test_channels_outside_the_map_pass_unchanged_on_their_own_tracks():
    rows = [*hit(0.0, 40, 77, 1.0, channel=2), *hit(0.0, 38), (0.2, 0xE1, 5, 70), (0.3, 0xC1, 33, 0)]
    outcome = clean(rows)
    assert (0.0, 40, 77, 1.0) in left(outcome)
    bass = next(i for i, n in enumerate(outcome.output_notes.note.tolist()) if n == 40)
    assert outcome.output_notes.channel[bass] == 2
    assert outcome.tracks[int(outcome.output_notes.track[bass])].key == "0/2"
    assert outcome.controls.channel.tolist() == [2, 2]


def test_a_pads_own_channel_wins():
    rows = [*hit(0.0, 60, 90, channel=11), *hit(0.5, 60, 90, channel=10)]
    outcome = clean(rows)
    assert left(outcome) == [(0.0, 40, 90, 0.05)]
    assert outcome.output_notes.channel.tolist() == [10]


def test_a_null_target_channel_keeps_the_incoming_one():
    outcome = clean(hit(0.0, 60, 90, channel=11), target=replace(ROOM, channel=None))
    assert outcome.output_notes.channel.tolist() == [11]


def test_one_hit_may_leave_as_several_notes():
    outcome = clean(hit(0.0, 36, 99))
    assert [(n, v) for _, n, v, _ in left(outcome)] == [(24, 99), (20, 99)]
    assert outcome.tally.added() == {ALSO_SENT: 1}


def test_two_hits_on_one_note_do_not_overlap():
    outcome = clean([*hit(0.0, 38, 90, 0.5), *hit(0.2, 40, 80, 0.5)])
    assert left(outcome) == [(0.0, 26, 90, 0.2), (0.2, 26, 80, 0.5)]


def test_a_track_for_each_drum_family_or_all():
    rows = [*hit(0.0, 36), *hit(0.1, 38), *hit(0.2, 40), *hit(0.3, 49)]
    for by, names in (("drum", ["Kick", "Kick", "Snare", "Snare", "Crash 1"]), ("one", ["Drums"] * 5)):
        outcome = clean(rows, path=replace(CleaningPath(), split=replace(CleaningPath().split, by=by)))
        assert [outcome.tracks[int(t)].title for t in outcome.output_notes.track] == names


def test_faults_kept_on_request_but_chokes_still_obeyed():
    rows = [*hit(1.0, 38, 100), *hit(1.015, 38, 30), *hit(2.0, 49, 100, 3.0), (2.5, 0xA9, 49, 127)]
    outcome = clean(rows, path=with_faults(CleaningPath(), False))
    assert [v for _, _, v, _ in left(outcome)] == [100, 30, 100]
    assert left(outcome)[-1][3] == 0.5


def test_the_players_decision_wins():
    rows = [*hit(1.0, 38, 100, 0.01), *hit(1.015, 38, 30), *hit(2.0, 36, 90), *hit(3.0, 99, 60), *hit(4.0, 40, 60)]
    first = clean(rows)
    origins = {int(n): int(o) for n, o in zip(first.input_notes.velocity, first.input_notes.origin, strict=True)}
    verdicts = {origins[30]: Verdict(keep=True), origins[90]: Verdict(keep=False)}
    played = {int(s): int(o) for s, o in zip(first.input_notes.start, first.input_notes.origin, strict=True)}
    verdicts[played[3]] = Verdict(keep=True)
    verdicts[played[4]] = Verdict(articulation="tom1.head")
    outcome = clean(rows, verdicts=verdicts)
    assert [n for _, n, _, _ in left(outcome)] == [26, 26, 99, 40]
    assert outcome.tally.removed() == {BY_HAND: 1}


def test_all_notes_off_ends_what_sounds():
    outcome = clean([(0.0, 0x99, 38, 90), (0.4, 0xB9, 123, 0), (2.0, 0x89, 38, 0)])
    assert left(outcome) == [(0.0, 26, 90, 0.4)]


def test_the_trace_shows_each_step_of_a_note():
    outcome = clean([(0.0, 0xB9, 4, 0), *hit(0.1, 9, 90, 0.0)])
    trace = outcome.tally.trace(int(outcome.input_notes.origin[0]))
    assert [(s.action, s.reason) for s in trace] == [
        (Action.CHANGED, PEDAL), (Action.CHANGED, NO_LENGTH), (Action.CHANGED, STAND_IN),
    ]  # fmt: skip
    assert (trace[-1].before, trace[-1].after) == (9, 32)
