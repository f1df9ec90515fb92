"""Random kits: every drum sounds like its kind, and the ground truth of a groove is audible."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.sim import random_kits

RATE = 44_100
KITS = range(10)


def above(sound: np.ndarray, hz: float) -> float:
    """Share of the energy in the first tenth of a second above a frequency in Hz."""
    power = np.abs(np.fft.rfft(sound[:4410], 8192)) ** 2
    return float(power[round(hz * 8192 / RATE) :].sum() / power.sum())


def energy(sound: np.ndarray, first: float, last: float) -> float:
    return float((sound[round(first * RATE) : round(last * RATE)].astype(float) ** 2).mean())


@pytest.fixture(scope="module")
def struck() -> list[dict[str, np.ndarray]]:
    """One loud stroke on each drum of each kit."""
    out = []
    for seed in KITS:
        random = np.random.default_rng(seed)
        kit = random_kits.drawn_kit(random, RATE)
        out.append({name: kit[name](1.0, random) for name in random_kits.SORTS})
    return out


def test_every_drum_of_every_kit_sounds_and_ends(struck: list[dict[str, np.ndarray]]) -> None:
    for kit in struck:
        for name, sound in kit.items():
            assert 0.9 < np.abs(sound).max() <= 1.0001, name
            assert np.abs(sound[-5:]).max() < 0.01, f"{name} is cut off"


def test_drums_sound_like_their_kind(struck: list[dict[str, np.ndarray]]) -> None:
    middle = {name: np.median([above(kit[name], 2000) for kit in struck]) for name in random_kits.SORTS}
    assert max(middle["kick"], middle["tom4.head"]) < 0.2
    assert min(middle["hat.closed"], middle["ride.bow"]) > 0.7
    assert middle["kick"] < middle["snare.head"] < middle["hat.closed"]
    # An open hat rings on where a closed one is over; so does a crash, which mostly grows after the stroke.
    for kit in struck:
        open_rest = energy(kit["hat.open"], 0.15, 0.3) / energy(kit["hat.open"], 0, 0.05)
        shut = np.pad(kit["hat.closed"], (0, RATE))
        assert open_rest > energy(shut, 0.15, 0.3) / energy(shut, 0, 0.05)
        assert energy(kit["crash1.bow"], 0.5, 0.6) > 1e-3 * energy(kit["crash1.bow"], 0, 0.1)
    grows = [energy(kit["crash1.bow"], 0.05, 0.07) / energy(kit["crash1.bow"], 0, 0.02) for kit in struck]
    assert np.mean(np.array(grows) > 1.0) > 0.5


def test_soft_strokes_are_softer_and_some_kits_make_them_duller() -> None:
    duller = 0
    for seed in KITS:
        random = np.random.default_rng(seed)
        kit = random_kits.drawn_kit(random, RATE)
        soft, loud = kit["snare.head"](0.2, random), kit["snare.head"](1.0, random)
        assert np.abs(soft).max() == pytest.approx(0.2**1.4, rel=0.01)
        assert np.abs(loud).max() == pytest.approx(1.0, rel=0.01)
        duller += above(soft, 4000) < 0.7 * above(loud, 4000)
    assert 0.15 * len(KITS) <= duller <= 0.85 * len(KITS)


def test_the_truth_of_a_groove_is_what_can_be_heard() -> None:
    random = np.random.default_rng(3)
    quiet = {name: (lambda loud, own: np.zeros(4000)) for name in random_kits.SORTS}
    kit = random_kits.drawn_kit(random, RATE)
    sound, played = random_kits.groove(kit | {"kick": quiet["kick"]}, 9.0, RATE, random)
    assert len(played) > 10
    assert all(0 < at < 9.0 and 0 < loud <= 1 for at, _, loud in played)
    assert [at for at, _, _ in played] == sorted(at for at, _, _ in played)
    assert "kick" not in {name for _, name, _ in played}
    for at, _, _ in played:
        begin = round(at * RATE)
        assert np.abs(sound[begin : begin + 2048]).max() > 0
