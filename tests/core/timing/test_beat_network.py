"""What the network of beats sees of a path, and that it computes what it was taught as."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.timing import beat_network
from puresignal.core.timing.bar_readings import METERS
from puresignal.core.timing.beat_pictures import COLUMNS, PARTS, WIDE, columns_of, picture
from puresignal.core.timing.onsets import Onsets, onsets_of
from puresignal.io import beat_model

KICK, SNARE, HAT = 36, 38, 42
PERIOD = WIDE - 4


def groove(beat: float, bars: int = 8) -> Onsets:
    """Kick, snare and hats in four."""
    hits = [(0, KICK, 100), (2, KICK, 100), (1, SNARE, 96), (3, SNARE, 96), *((i / 2, HAT, 60) for i in range(8))]
    rows = [(4 * bar + at, note, loud) for bar in range(bars) for at, note, loud in hits]
    at, note, loud = np.array(sorted(rows)).T
    none = np.zeros(len(at), bool)
    return onsets_of(at * beat, loud, note, at * beat + 0.05, note == KICK, note == SNARE, none)


def seen(onsets: Onsets, beats: np.ndarray) -> np.ndarray:
    return picture(onsets, columns_of(onsets), beats)


def test_a_pattern_looks_the_same_at_any_speed():
    slow, fast = (seen(groove(beat), np.arange(33) * beat) for beat in (0.9, 0.3))
    assert slow.shape == (33, WIDE)
    others = np.arange(WIDE) != PERIOD
    assert np.allclose(slow[:, others], fast[:, others], atol=1e-6)
    assert slow[0, PERIOD] - fast[0, PERIOD] == pytest.approx(np.log2(3))


def test_each_drum_is_in_its_part_of_its_beat():
    rows = seen(groove(0.5), np.arange(32) * 0.5)[:, : PARTS * COLUMNS].reshape(32, PARTS, COLUMNS)
    kick, snare, light = rows[:, :, 0].sum(axis=1), rows[:, :, 1].sum(axis=1), rows[:, :, 2]
    assert (kick[0::2] > 0.5).all()
    assert (kick[1::2] < 0.01).all()
    assert (snare[1::2] > 0.5).all()
    assert (snare[0::2] < 0.01).all()
    # A beat begins with the part before it, for hands that are early: its own onset is in the second part.
    assert set(np.flatnonzero(light.sum(axis=0) > 0.01)) == {1, 1 + PARTS // 2}


def test_what_is_before_the_first_beat_and_after_the_last_is_no_error():
    onsets = groove(0.5)
    assert seen(onsets, 4 + np.arange(6) * 0.5).shape == (6, WIDE)
    assert seen(onsets, np.array([100.0, 100.5, 101.0])).shape == (3, WIDE)


def test_the_ratings_are_what_the_layers_give_one_beat_at_a_time():
    chance = np.random.default_rng(5)
    units, layers, meters = 4, len(beat_network.STEPS), len(METERS)

    def some(*shape: int) -> np.ndarray:
        return chance.standard_normal(shape) * 0.12

    arrays = {
        "mean": some(WIDE), "scale": 0.5 + chance.random(WIDE), "begin": some(WIDE, units), "begin_by": some(units),
        "near": some(layers, 3, units, units), "near_by": some(layers, units), "on": some(layers, units, units),
        "on_by": some(layers, units), "out": some(2 * units, 1 + 2 * meters), "out_by": some(1 + 2 * meters),
        "down": some(units), "down_by": np.array(0.3), "weight": np.array(1.7),
    }  # fmt: skip
    (network,) = beat_network.from_arrays({name: values[None] for name, values in arrays.items()}).each
    rows = chance.standard_normal((20, WIDE))
    scaled = np.clip((rows - network.mean) / network.scale, -4, 4)
    hidden = [np.maximum(row @ network.begin + network.begin_by, 0) for row in scaled]
    for layer, step in enumerate(beat_network.STEPS):
        before = [h.copy() for h in hidden]
        for i in range(20):
            total = network.near_by[layer].copy()
            for k, j in enumerate((i - step, i, i + step)):
                if 0 <= j < 20:
                    total = total + before[j] @ network.near[layer, k]
            hidden[i] = before[i] + np.maximum(total, 0) @ network.on[layer] + network.on_by[layer]
    whole = np.concatenate([np.mean(hidden, axis=0), np.max(hidden, axis=0)]) @ network.out + network.out_by
    chances = 1 / (1 + np.exp(-(np.array(hidden) @ network.down + 0.3)))
    for thirds in (False, True):
        got = network.ratings(rows, [(3, 1), (4, 0)], thirds)
        for value, (meter, first) in zip(got, [(3, 1), (4, 0)], strict=True):
            down = np.arange(20) % meter == first
            likely = np.where(down, np.log(chances), np.log(1 - chances)).mean() * np.sqrt(20)
            expected = whole[0] + whole[1 + METERS.index(meter) + meters * thirds] + 1.7 * likely
            assert value == pytest.approx(expected, rel=1e-4)


def test_what_networks_say_is_their_mean():
    onsets, kinds = groove(0.5, 12), [(4, first) for first in range(4)]
    rows = seen(onsets, np.arange(48) * 0.5)
    shipped = beat_model.shipped()
    said = [one.ratings(rows, kinds, False) for one in shipped.each]
    assert len(said) == 2
    assert not np.allclose(said[0], said[1], atol=0.1)
    assert shipped.ratings(rows, kinds, False) == pytest.approx((said[0] + said[1]) / 2)


@pytest.mark.parametrize("bpm", [70, 110, 170])
def test_the_shipped_network_finds_the_bar_line_of_a_plain_groove(bpm):
    beat = 60 / bpm
    onsets = groove(beat, 12)
    kinds = [(4, first) for first in range(4)]
    rated = beat_model.shipped().ratings(seen(onsets, np.arange(48) * beat), kinds, False)
    assert int(np.argmax(rated)) == 0
    assert rated[0] - np.sort(rated)[-2] > 2
