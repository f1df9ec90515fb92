"""Velocity: what each setting does, the same live and afterwards, the same note the same draw."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.errors import SettingsError
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.core.path.vary import varied
from puresignal.core.path.velocity import TOO_SOFT, Velocity
from puresignal.core.path.velocity_curve import Shape, draw, evened, table, through, with_field
from puresignal.demo import demo_session as demo
from puresignal.io import note_map_file

shapes = st.builds(
    Shape, threshold=st.floats(0, 100), low=st.floats(1, 60), high=st.floats(60, 127), scale=st.floats(0.2, 2),
    offset=st.floats(-40, 40), spread=st.floats(0, 2), centre=st.floats(1, 127), accents=st.floats(0, 127),
)  # fmt: skip


@given(shapes)
def test_whatever_the_shape_velocities_stay_in_range_and_harder_is_never_softer(shape):
    out = table(shape)
    heard = out[~np.isnan(out)]
    assert ((heard >= 1) & (heard <= 127)).all()
    assert (np.diff(heard) >= -1e-9).all()
    assert np.isnan(out).sum() == (int(np.floor(shape.threshold)) + 1 if shape.threshold > 0 else 0)


def test_a_default_shape_changes_nothing():
    assert Shape().plain
    assert table(Shape())[1:].tolist() == list(range(1, 128))


def test_a_threshold_leaves_no_step_at_its_edge():
    out = table(Shape(threshold=40))
    assert np.isnan(out[40])
    assert out[41] == pytest.approx(1, abs=1.6)
    assert out[127] == 127
    assert np.diff(out[41:]).max() < 1.6


def test_spread_zero_makes_hits_even_and_accents_keep_their_distance():
    even = table(Shape(spread=0, centre=70))
    assert set(even[1:].tolist()) == {70.0}
    kept = table(Shape(spread=0, centre=70, accents=100))
    assert set(kept[1:101].tolist()) == {70.0}
    assert kept[120] - kept[110] == pytest.approx(10)
    assert table(Shape(fixed=88))[[1, 60, 127]].tolist() == [88, 88, 88]
    assert table(Shape(low=30, high=90))[[1, 127]].tolist() == [30, 90]
    assert table(Shape(curve=((1, 1), (64, 100), (127, 127))))[64] == 100
    assert with_field(Shape(low=20, high=60), "low", 80.0) == Shape(low=80, high=80)


def test_fine_velocities_lie_between_their_neighbours():
    tables = table(Shape(curve=((1, 1), (64, 100), (127, 127))))[None, :]
    out = through(tables, np.zeros(3, int), np.array([63.0, 63.5, 64.0]))
    assert out[0] < out[1] < out[2]
    assert out[1] == pytest.approx((out[0] + out[2]) / 2)


@given(st.integers(0, 1000), st.integers(0, 50), st.lists(st.integers(0, 10**6), min_size=1, max_size=50, unique=True))
def test_the_same_note_is_drawn_the_same_whatever_else_is_there(seed, round_, origins):
    every = draw(seed, np.array(origins), round_)
    assert (np.abs(every) <= 1).all()
    for origin, drawn in zip(origins, every, strict=True):
        assert draw(seed, np.array([origin]), round_)[0] == drawn


def test_draws_are_spread_evenly_and_another_round_draws_anew():
    one, two = draw(1, np.arange(20_000), 0), draw(1, np.arange(20_000), 1)
    for drawn in (one, two):
        counts, _ = np.histogram(drawn, 10, (-1, 1))
        assert (np.abs(counts - 2000) < 200).all()
    assert abs(np.corrcoef(one, two)[0, 1]) < 0.03
    softer = varied(np.full(20_000, 64.0), np.full(20_000, 20.0), np.full(20_000, -1.0), one)
    assert softer.max() <= 64
    assert softer.min() < 46


def shaped(**by_key):
    session, (take,) = demo.build()
    path = CleaningPath(velocity=Velocity(shapes=tuple(sorted((k.replace("_", "."), s) for k, s in by_key.items()))))
    context = make_context(take, session.take().source, session.target, path)
    return run(take, path, context)


def test_the_nearest_key_counts_and_every_change_is_accounted_for():
    plain = shaped()
    outcome = shaped(**{"*": Shape(fixed=64), "snare": Shape(scale=0.5), "snare_rim": Shape(threshold=126)})
    names = outcome.vocabulary
    by_name = {}
    for code, velocity in zip(
        outcome.output_notes.articulation.tolist(), outcome.output_notes.velocity.tolist(), strict=True
    ):
        by_name.setdefault(names[code] if code >= 0 else "", set()).add(velocity)
    assert by_name["kick"] == {64.0}
    assert "snare.rim" not in by_name
    assert max(by_name["snare.head"]) <= 64
    removed = outcome.tally.removed()
    assert removed[TOO_SOFT] == len(plain.output_notes) - len(outcome.output_notes)
    assert outcome.tally.balances()
    assert outcome.tally.touched(Velocity.stage) > 400


def test_matching_pads_aligns_their_quantiles():
    random = np.random.default_rng(1)
    loud, soft = random.normal(100, 10, 400).clip(1, 127), random.normal(50, 20, 400).clip(1, 127)
    found = evened({"tom1": loud, "tom2": soft, "tom3": np.array([60.0] * 3)})
    assert set(found) == {"tom1", "tom2"}
    out = [through(table(found[k])[None, :], np.zeros(400, int), v) for k, v in (("tom1", loud), ("tom2", soft))]
    for share in (0.1, 0.5, 0.9):
        assert np.quantile(out[0], share) == pytest.approx(np.quantile(out[1], share), abs=3)
    assert evened({"kick": loud}) == {}


def test_shapes_are_kept_as_settings_and_what_is_wrong_is_named():
    path = CleaningPath(
        velocity=Velocity(shapes=(("*", Shape(low=10)), ("snare.rim", Shape(curve=((1, 5), (127, 90))))))
    )
    data = settings_json.to_json(path)
    assert data["velocity"]["shapes"]["*"] == {"low": 10}
    assert settings_json.from_json(data, "x") == path
    for shapes, words in (
        ({"snare": {"louder": 3}}, 'no setting "louder"'), ({"snare": {"low": 900}}, "low is 900"),
        ({"snare": {"low": 90, "high": 30}}, "low is above high"), ({"Snare!": {}}, "is not a velocity shape"),
        ({"snare": {"curve": [[5, 1], [2, 9]]}}, "curve"), (7, "not a JSON object"),
    ):  # fmt: skip
        with pytest.raises(SettingsError, match=words):
            settings_json.from_json({**data, "velocity": {"shapes": shapes}}, "x.json")
    assert note_map_file.shipped("general-midi")
