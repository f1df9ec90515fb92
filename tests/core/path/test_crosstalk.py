"""Crosstalk: what was shaken goes, what was played stays, whatever lies beside it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path import crosstalk, crosstalk_lesson, crosstalk_model, settings_json
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.crosstalk import SHAKEN, Crosstalk
from puresignal.core.path.crosstalk_model import KitModel
from puresignal.core.path.tally import Action
from puresignal.core.path.verdicts import Verdict
from puresignal.io import note_map_file
from puresignal.sim import adversarial_takes, drum_module
from puresignal.sim.adversarial_takes import FaultRanges

KIT = NoteMap(
    "kit",
    (
        Pad("kick", 36), Pad("snare.head", 38, group="rack"), Pad("snare.rim", 40, group="rack"),
        Pad("tom1.head", 48, group="rack"), Pad("tom2.head", 45, group="rack"), Pad("crash1.bow", 49, group="other"),
    ), 10,
)  # fmt: skip
UNLEARNT = replace(CleaningPath(), crosstalk=replace(CleaningPath().crosstalk, learn=False))


def take_of(*hits):
    """(seconds, note, velocity) hits, each ended after 80 ms."""
    rows = []
    for at, note, velocity in hits:
        rows += [(at, 0x99, note, velocity), (at + 0.08, 0x89, note, 0)]
    rows.sort(key=lambda r: r[0])
    columns = list(zip(*rows, strict=True))
    events = Events(np.round(np.array(columns[0]), 5), np.zeros(len(rows)), *columns[1:], np.full(len(rows), -1))
    return Take("t", "t", events, (Port("kit"),), TempoMap())


def play(*hits, path=UNLEARNT, kit=KIT, verdicts=None):
    """The outcome of hits."""
    take = take_of(*hits)
    return run(take, path, make_context(take, kit, None, path, verdicts or {}))


def kept(outcome):
    return sorted(
        (int(n), int(v)) for n, v in zip(outcome.output_notes.note, outcome.output_notes.velocity, strict=True)
    )


LOUD, WEAK = (1.0, 48, 115), (1.001, 45, 14)


@pytest.mark.parametrize("gap_ms", [-2.5, -1, 0, 1, 3, 5])
def test_crosstalk_is_removed_before_and_after_the_loud_hit(gap_ms):
    outcome = play(LOUD, (1.0 + gap_ms / 1000, 45, 14))
    assert kept(outcome) == [(48, 115)]
    assert outcome.tally.removed() == {SHAKEN: 1}
    assert outcome.tally.balances()
    [step] = [s for s in outcome.tally.trace(outcome.tally.origins(Action.REMOVED)[0]) if s.action == Action.REMOVED]
    assert step.stage == Crosstalk.stage
    assert 0.5 <= step.confidence <= 1


@pytest.mark.parametrize(
    "beside",
    [
        (1.001, 49, 14),  # another stand
        (1.001, 36, 14),  # no stand at all
        (1.001, 45, 80),  # as loud as a stroke
        (1.03, 45, 14),  # too late
        (0.98, 45, 14),  # too early
    ],
)
def test_other_stands_other_moments_and_real_strokes_are_not_crosstalk(beside):
    assert len(kept(play(LOUD, beside))) == 2


def test_two_zones_of_one_drum_are_not_crosstalk():
    assert len(kept(play((1.0, 38, 115), (1.001, 40, 14)))) == 2


def test_a_ghost_note_beside_hard_hits_stays_if_the_pad_is_also_played_softly_alone():
    ghosts = [(i * 0.5 + 0.25, 38, 32 + i % 5) for i in range(30)]
    hard = [(i * 0.5, 48, 110) for i in range(30)]
    shaken = [(i * 0.5 + 0.0012, 38, 13 + i % 4) for i in range(0, 30, 2)]
    beside = [(i * 0.5 - 0.003, 38, 34) for i in range(1, 30, 6)]
    outcome = play(*ghosts, *hard, *shaken, *beside, path=CleaningPath())
    assert kept(outcome) == sorted([(n, v) for _, n, v in (*ghosts, *hard, *beside)])
    assert outcome.tally.removed() == {SHAKEN: len(shaken)}


@pytest.mark.parametrize("seed", range(4))
def test_ghost_notes_that_always_come_with_a_loud_hit_stay_if_they_are_as_loud_as_each_other(seed):
    random = np.random.default_rng(seed)
    hard = [(i * 0.5, 48, int(random.integers(70, 127))) for i in range(40)]
    ghosts = [(i * 0.5 + random.normal(0.0, 0.005), 38, int(random.integers(22, 25))) for i in range(40)]
    accents = [(i * 2.0 + 0.25, 38, 104 + i % 5) for i in range(10)]
    # The softest thing of the take lies far below: these are no notes at a module's floor.
    soft = [(i * 2.0 + 1.25, 49, 9) for i in range(3)]
    played = (*hard, *((max(0.0, at), *rest) for at, *rest in ghosts), *accents, *soft)
    assert kept(play(*played, path=CleaningPath())) == sorted([(n, v) for _, n, v in played])


@pytest.mark.parametrize("seed", range(4))
def test_what_follows_the_loudness_of_the_hit_goes_however_regular_it_is(seed):
    random = np.random.default_rng(seed)
    hard = [(i * 0.5, 48, int(random.integers(70, 127))) for i in range(40)]
    shaken = [
        (at + random.normal(0.002, 0.0006), 38, round(0.2 * velocity * random.lognormal(0, 0.1)))
        for at, _, velocity in hard
    ]
    accents = [(i * 2.0 + 0.25, 38, 104 + i % 5) for i in range(10)]
    outcome = play(*hard, *shaken, *accents, path=CleaningPath())
    assert kept(outcome) == sorted([(n, v) for _, n, v in (*hard, *accents)])


@pytest.mark.parametrize("seed", range(4))
def test_soft_strokes_that_always_come_with_a_loud_one_stay_where_their_time_varies_as_hands_do(seed):
    random = np.random.default_rng(seed)
    loud = [(i + 0.5 + random.normal(0, 0.004), 38, int(random.integers(88, 104))) for i in range(60)]
    soft = [(i + 0.5 + random.normal(0, 0.004), 48, int(random.integers(18, 31))) for i in range(60)]
    assert len(kept(play(*loud, *soft, path=CleaningPath()))) == 120
    # The same notes always as much later are what the stand passes on.
    shaken = [(at + 0.0025, 48, velocity) for (at, _, _), (_, _, velocity) in zip(loud, soft, strict=True)]
    assert len(kept(play(*loud, *shaken, path=CleaningPath()))) < 70


def test_a_third_pad_that_is_struck_more_loudly_does_not_hide_what_shakes():
    random = np.random.default_rng(5)
    snare = [(i + 0.5, 38, int(random.integers(84, 100))) for i in range(60)]
    crash = [(at + random.normal(0, 0.006), 48, 120) for at, _, _ in snare]
    shaken = [(at + 0.003, 45, round(0.2 * velocity)) for at, _, velocity in snare]
    assert (45, 18) not in kept(play(*snare, *crash, *shaken, path=CleaningPath()))


def test_another_stroke_among_ghost_notes_of_one_loudness_changes_nothing():
    random = np.random.default_rng(7)
    hard = [(i * 0.5, 48, int(random.integers(70, 127))) for i in range(30)]
    ghosts = [(i * 0.5 + 0.001 + random.normal(0.003, 0.003), 38, int(random.integers(22, 25))) for i in range(30)]
    ghosts[11] = (11 * 0.5 + 0.004, 38, 44)
    soft = [(i * 2.0 + 1.25, 49, 9) for i in range(3)]
    played = (*hard, *ghosts, *soft)
    assert kept(play(*played, path=CleaningPath())) == sorted([(n, v) for _, n, v in played])


def test_a_pad_that_others_shake_is_shaken_by_one_more():
    """Two notes say little of a pair of pads; ten that other hits shook on the same pad say what it is like."""
    random = np.random.default_rng(3)
    pair = np.repeat([0, 1, 2], [2, 20, 2])
    share, gap_ms = random.normal(np.log(0.2), 0.1, len(pair)), random.normal(3.0, 1.0, len(pair))
    across, hands_ms = np.zeros(3, bool), crosstalk_model.HAND_MS
    seen = crosstalk_model._Candidates(pair, 3, share, gap_ms, np.full(len(pair), -6.0), across, hands_ms, across)
    first = np.full(3, 0.1)
    held = np.where(pair == 1, 0.95, 0.5)
    one, many, apart = seen.pooled(first, held, np.array([4, 4, 7]))
    assert one > 0.6
    assert many == pytest.approx(0.2, abs=0.05)
    assert apart == pytest.approx(0.1)


@given(st.integers(1, 200), st.integers(1, 200))
def test_hits_that_are_often_followed_speak_for_crosstalk_and_rare_ones_say_nothing(hits, followed):
    followed = min(hits, followed)
    of = np.array([followed, min(hits, followed + 1)], float)
    fewer, more = crosstalk_model.log_occurred(of, np.full(2, float(hits)))
    assert 0 <= fewer <= more <= crosstalk_model.MOST_OCCURRED
    if followed < 0.1 * hits:
        assert fewer == 0
    if hits > 10 and followed > 0.8 * hits:
        assert fewer > 1


def test_limits_of_crosstalk_from_before_they_were_chances_remove_the_same():
    def read(**limits):
        data = {"format": settings_json.FORMAT, "version": 1, "crosstalk": limits}
        return settings_json.from_json(data, "x").crosstalk.min_confidence

    assert read(min_confidence=0.86) == read(sure=0.86) == 0.5 == CleaningPath().crosstalk.min_confidence
    assert read(min_confidence=0.97) == 0.84
    assert read(min_confidence=1.0) == 1.0
    assert read(on=True) == 0.5
    now = settings_json.to_json(CleaningPath())
    now["crosstalk"]["min_confidence"] = 0.86
    assert settings_json.from_json(now, "x").crosstalk.min_confidence == 0.86


def test_how_closely_two_hands_meet_is_learnt_from_a_take():
    random = np.random.default_rng(5)
    gaps = [random.normal(0, spread, 400) for spread in (4.0, 7.0)]
    steady, loose = (crosstalk_model.hands_spread(one) for one in gaps)
    assert 3.7 < steady < 4.5
    assert 6.4 < loose < 7.6
    assert crosstalk_model.hands_spread(np.zeros(0)) == crosstalk_model.HAND_MS


def test_the_players_decision_and_the_switch_win():
    rows = play(LOUD, WEAK)
    origin = int(rows.tally.origins(Action.REMOVED)[0])
    assert len(kept(play(LOUD, WEAK, verdicts={origin: Verdict(keep=True)}))) == 2
    off = replace(UNLEARNT, crosstalk=replace(UNLEARNT.crosstalk, on=False))
    assert len(kept(play(LOUD, WEAK, path=off))) == 2


def test_a_note_cut_short_by_crosstalk_gets_its_own_end_back():
    outcome = play((0.97, 45, 90), LOUD, WEAK)
    [mine] = np.flatnonzero(outcome.output_notes.note == 45)
    assert outcome.output_notes.start[mine] == pytest.approx(0.97)
    assert outcome.output_notes.end[mine] == pytest.approx(1.05, abs=0.04)
    assert outcome.output_notes.end[mine] > 1.002


def test_without_a_look_ahead_only_what_comes_after_its_cause_can_go():
    blind = replace(UNLEARNT, crosstalk=replace(UNLEARNT.crosstalk, lookahead_ms=0.0))
    assert kept(play(LOUD, (1.002, 45, 14), path=blind)) == [(48, 115)]
    assert len(kept(play(LOUD, (0.998, 45, 14), path=blind))) == 2


def learnt(seed=3):
    sent, _ = adversarial_takes.perform(note_map_file.shipped("practice-five"), 12, 110, seed, FaultRanges())
    take = drum_module.to_take(sent, "t", "t", 110, "kit")
    context = make_context(take, note_map_file.shipped("practice-five"), None, CleaningPath())
    return (
        crosstalk.learn(run(take, CleaningPath(), context).input_notes, context, CleaningPath().crosstalk),
        take,
        context,
    )


def test_a_learnt_kit_model_is_stored_in_the_settings():
    kit_model, _, _ = learnt()
    assert kit_model.alone
    assert kit_model.shakes
    assert all(-4 < mean < np.log(0.4) + 1e-3 and 0 < part < 1 for _, _, mean, _, part, *_ in kit_model.shakes)
    path = replace(CleaningPath(), crosstalk=replace(CleaningPath().crosstalk, kit_model=kit_model))
    assert settings_json.from_json(settings_json.to_json(path), "x") == path


def test_a_learnt_kit_model_gives_the_same_result_as_learning():
    kit_model, take, context = learnt()
    by_profile = replace(CleaningPath(), crosstalk=replace(CleaningPath().crosstalk, kit_model=kit_model, learn=False))
    one, other = run(take, CleaningPath(), context), run(take, by_profile, context)
    a, b = set(one.output_notes.origin.tolist()), set(other.output_notes.origin.tolist())
    assert len(a ^ b) <= 0.01 * len(a)
    by_profile = replace(by_profile, doubles=replace(by_profile.doubles, learn=False))
    other = run(take, by_profile, context)
    live = crosstalk_lesson.live_removals(
        take, replace(by_profile, crosstalk=replace(by_profile.crosstalk, live_ms=8.0)), context
    )
    assert live == other.tally.removed()[SHAKEN]


@pytest.mark.parametrize("seed", range(4))
def test_hard_takes_of_kits_never_seen_come_out_nearly_whole(seed):
    kit = note_map_file.shipped(("tidewater-compact", "harbour-mesh", "two-decks", "lantern-pads")[seed])
    sent, _ = adversarial_takes.perform(kit, 16, 100 + 20 * seed, 40_000 + seed, FaultRanges())
    take = drum_module.to_take(sent, "t", "t", 100, "kit")
    left = set(run(take, CleaningPath(), make_context(take, kit, None, CleaningPath())).output_notes.origin.tolist())
    real = {h.event for h in sent.hits if h.stroke is not None}
    false = {h.event for h in sent.hits if h.stroke is None}
    assert len(real - left) <= 0.006 * len(real)
    assert len(false & left) <= 0.02 * len(false) + 1


@pytest.mark.parametrize(
    "wrong",
    [
        3,
        {"alone": 3},
        {"alone": [[10, 38, [1.0]]]},
        {"shakes": [[1, 2, 3]]},
        {"alone": [[10, 300, [0.0] * 32]]},
        {"hands_ms": 0},
    ],
)
def test_a_broken_kit_model_is_reported(wrong):
    data = {"format": "pure-signal/settings", "version": 1, "crosstalk": {"kit_model": wrong}}
    with pytest.raises(Exception, match="kit_model"):
        settings_json.from_json(data, "x.json")
    assert settings_json.from_json({**data, "crosstalk": {"kit_model": {}}}, "x").crosstalk.kit_model == KitModel()


def test_without_stands_the_take_shows_what_shakes_what_and_live_waits_for_it():
    from tests.core.path.test_cleaning_path import as_rows, live_rows

    bare = replace(KIT, pads=tuple(replace(pad, group=None) for pad in KIT.pads))
    loud = [(i + 0.5, 48, 100 + i % 20) for i in range(40)]
    shaken = [(at + 0.009 + 0.0004 * (i % 3), 45, round(0.14 * v)) for i, (at, _, v) in enumerate(loud)]
    soft = [(i + 0.9, 45, 30 + i % 7) for i in range(0, 40, 3)]
    outcome = play(*loud, *shaken, *soft, path=CleaningPath(), kit=bare)
    assert outcome.tally.removed() == {SHAKEN: len(shaken)}
    # A stroke as loud as the pad's soft strokes are stays, wherever it is.
    assert play(*loud, *soft, (3.509, 45, 32), path=CleaningPath(), kit=bare).tally.removed() == {}
    path = replace(CleaningPath(), doubles=replace(CleaningPath().doubles, learn=False))
    kit_model = crosstalk.learn(outcome.input_notes, make_context(take_of(*loud), bare, None, path), path.crosstalk)
    path = replace(path, crosstalk=replace(path.crosstalk, kit_model=kit_model, learn=False))
    take = take_of(*loud, *shaken, *soft)
    context = make_context(take, bare, None, path)
    got, _ = live_rows(path, context, take)
    assert got == as_rows(run(take, path, context).output_notes)
    assert len(got) == len(loud) + len(soft)
