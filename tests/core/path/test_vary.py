"""Varied velocities: for whom, in which round, the same live; and files in which they stood with the shapes."""

from dataclasses import replace

import numpy as np
import pytest

from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, make_context, messages, run
from puresignal.core.path.condition import Condition
from puresignal.core.path.context import EVENT_BITS
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.vary import FIXED, VARIED, Vary
from puresignal.demo import demo_session as demo


def played(vary, number=0):
    """The demo take's velocities by articulation before and after, and the outcome."""
    session, (take,) = demo.build()
    path = replace(CleaningPath(), vary=vary)
    source, target = session.take().source, session.target
    plain = run(take, CleaningPath(), make_context(take, source, target, CleaningPath()))
    made = run(take, path, make_context(take, source, target, path, number=number))
    assert plain.output_notes.origin.tolist() == made.output_notes.origin.tolist()
    moved = made.output_notes.velocity - plain.output_notes.velocity
    names = np.array([*made.vocabulary, ""])[made.output_notes.articulation]
    return made, moved, names


def test_only_those_asked_for_are_varied_and_within_the_range():
    vary = Vary(True, Scoped(0.0, articulations=(("hat", 20.0), ("hat.closed", 0.0))), Scoped(1.0))
    made, moved, names = played(vary)
    hats = np.char.startswith(names.astype(str), "hat") & (names != "hat.closed")
    assert not moved[~hats].any()
    assert moved[hats].min() >= 0
    assert 15 < moved[hats].max() <= 20
    assert made.tally.touched(Vary.stage) == np.count_nonzero(moved)
    assert made.tally.balances()


def test_chosen_notes_and_notes_by_a_sentence_have_amounts_of_their_own():
    made, moved, names = played(Vary(True, Scoped(0.0, sentences=(("back", Condition("snare", every=2), 30.0),))))
    snare = np.flatnonzero([name.startswith("snare") for name in names])
    others = np.setdiff1d(np.arange(len(moved)), snare[::2])
    assert np.count_nonzero(moved[snare[::2]]) > 0.8 * len(snare[::2])
    assert not moved[others].any()
    three = made.output_notes.origin[[5, 9, 30]]
    chosen = tuple(sorted((three + (4 << EVENT_BITS)).tolist()))
    made, moved, _ = played(Vary(True, Scoped(0.0, notes=((chosen, 60.0),))), number=4)
    assert set(made.output_notes.origin[moved != 0].tolist()) == set(three.tolist())
    # The same events of another take are other notes.
    assert not played(Vary(True, Scoped(0.0, notes=((chosen, 60.0),))), number=5)[1].any()


def test_a_round_draws_anew_unless_it_is_fixed():
    one, two = (played(Vary(True, Scoped(20.0), round=number))[1] for number in (0, 1))
    assert not np.array_equal(one, two)
    fixed = [played(Vary(True, Scoped(20.0), rounds=FIXED, round=number))[1] for number in (0, 1)]
    assert np.array_equal(*fixed)
    assert np.array_equal(fixed[0], one)


def test_live_they_are_as_in_the_file():
    session, (take,) = demo.build()
    vary = Vary(True, Scoped(9.0, articulations=(("hat", 25.0), ("snare.head", 0.0))), Scoped(-0.4), seed=3)
    path = replace(CleaningPath(), vary=vary)
    path = replace(path, crosstalk=replace(path.crosstalk, on=False), doubles=replace(path.doubles, on=False))
    context = make_context(take, session.take().source, session.target, path)
    live, sent = LivePath(path, context), {}
    for message in messages(take.events):
        for event in live.message(*message):
            if event.kind == 0:
                sent[event.origin, event.branch] = event.velocity
    notes = run(take, path, context).output_notes
    file = dict(zip(zip(notes.origin.tolist(), notes.branch.tolist(), strict=True), notes.velocity, strict=True))
    assert len(file) > 400
    assert {key: sent[key] for key in file if key in sent} == {key: file[key] for key in file if key in sent}
    assert len(set(file) - set(sent)) < 3


def test_files_in_which_it_stood_with_the_shapes_give_the_same_velocities():
    former = {
        "format": settings_json.FORMAT, "version": 1,
        "velocity": {
            "shapes": {
                "*": {"varied": 12.0, "low": 5.0}, "hat": {"randomness": 4, "bias": -0.5}, "kick": {"fixed": 90},
            },
            "seed": 7, "round": 2, "fine": True,
        },
    }  # fmt: skip
    path = settings_json.from_json(former, "x")
    assert path.vary == Vary(
        True, Scoped(12.0, articulations=(("hat", 4.0), ("kick", 0.0))),
        Scoped(0.0, articulations=(("hat", -0.5), ("kick", 0.0))), seed=7, round=2,
    )  # fmt: skip
    assert path.target.fine
    assert dict(path.velocity.shapes)["*"].low == 5.0
    assert settings_json.from_json(settings_json.to_json(path), "x") == path
    off = settings_json.from_json({**former, "velocity.on": False}, "x")
    assert not off.vary.on
    seeded = settings_json.from_json({**{k: former[k] for k in ("format", "version")}, "velocity.seed": 9}, "x")
    assert (seeded.vary.seed, seeded.vary.on) == (9, False)


@pytest.mark.parametrize(
    "wrong", [{"what": 5}, {"every": 0}, {"stage": "nothing"}, {"measure": "bigger"}, {"colour": 1}]
)
def test_a_selection_in_a_file_that_is_none_is_named(wrong):
    data = settings_json.to_json(replace(CleaningPath(), vary=Vary(True)))
    data["vary"]["amount"] = {"value": 1, "sentences": [{"name": "a", "where": wrong, "value": 2}]}
    with pytest.raises(settings_json.SettingsError, match=next(iter(wrong))):
        settings_json.from_json(data, "x")


def test_reasons_are_told():
    made, moved, _ = played(Vary(True, Scoped(10.0)))
    entries = made.tally.entries
    told = entries.reason == int(VARIED)
    assert np.count_nonzero(told) >= np.count_nonzero(moved)
