"""The network over pitches and moments, on weights drawn at random: what it looks at, and from where."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.hearing.networks import dense, harmonic, multipitch, pitch_levels
from puresignal.core.hearing.networks.harmonic import APART, INPUTS, LEVELS, MIXED, TURNS, HarmonicNet, Rows
from puresignal.core.hearing.networks.multipitch import PITCHES, SEMITONES
from puresignal.core.hearing.networks.pitch_levels import Changes, Levels
from puresignal.io.models import chord_network
from puresignal.sim import instrument_synthesis

WIDTH, NARROW = 6, 4
REACH = 2 * sum(APART)


def drawn(seed: int) -> HarmonicNet:
    """A network of random weights whose gate lets about half through."""
    random = np.random.default_rng(seed)

    def layer(inputs: int, outputs: int) -> tuple[np.ndarray, np.ndarray]:
        weights = random.normal(0, 1 / np.sqrt(inputs), (inputs, outputs)).astype(np.float32)
        return weights, random.normal(0, 0.1, outputs).astype(np.float32)

    weight, bias = layer(LEVELS, 1)
    gate = dense.Network(np.zeros(LEVELS, np.float32), np.full(LEVELS, 0.1, np.float32), (weight,), (bias - 5,))
    blocks = tuple(
        (layer(WIDTH, NARROW), layer(NARROW * len(MIXED), WIDTH), layer(WIDTH * len(TURNS), WIDTH)) for _ in APART
    )
    one = np.ones(INPUTS, np.float32)
    return HarmonicNet(gate, one, 0 * one, layer(INPUTS, WIDTH), blocks, layer(WIDTH, 2))


def sound(frames: int, seed: int) -> tuple[Levels, Changes]:
    random = np.random.default_rng(seed)

    def drawn(count: int) -> np.ndarray:
        return random.normal(-1, 0.5, (frames, count)).astype(np.float32)

    levels = Levels(drawn(3 * SEMITONES), drawn(SEMITONES), drawn(SEMITONES))
    return levels, Changes(drawn(SEMITONES), drawn(SEMITONES))


def plainly(network: HarmonicNet, seen: Levels, changes: Changes, asked: np.ndarray) -> np.ndarray:
    """The same, cell by cell, with a value for every cell."""
    frames = len(seen)
    frame, pitch = np.nonzero(np.ones((frames, PITCHES), bool))
    x = np.clip(harmonic.inputs_and_changes(seen, changes, frame, pitch) * network.gain + network.shift, -5, 5)
    x = np.maximum(x @ network.first[0] + network.first[1], 0).reshape(frames, PITCHES, WIDTH) * asked[:, :, None]

    def at(values: np.ndarray, frames_on: int, up: int) -> np.ndarray:
        out = np.zeros_like(values)
        for f in range(frames):
            for p in range(PITCHES):
                if 0 <= f + frames_on < frames and 0 <= p + up < PITCHES:
                    out[f, p] = values[f + frames_on, p + up]
        return out

    for (narrow, mixed, along), apart in zip(network.blocks, APART, strict=True):
        few = np.maximum(x @ narrow[0] + narrow[1], 0) * asked[:, :, None]
        beside = np.concatenate([at(few, 0, up) for up in MIXED.tolist()], axis=2)
        x = x + np.maximum(beside @ mixed[0] + mixed[1], 0) * asked[:, :, None]
        around = np.concatenate([at(x, turn * apart, 0) for turn in TURNS.tolist()], axis=2)
        x = x + np.maximum(around @ along[0] + along[1], 0) * asked[:, :, None]
    return np.asarray(asked[:, :, None] / (1 + np.exp(-(x @ network.out[0] + network.out[1]))))


def test_cells_that_are_not_looked_at_count_as_nothing_and_all_others_as_if_all_were():
    network, (seen, changes) = drawn(1), sound(9, 2)
    asked = np.random.default_rng(3).random((9, PITCHES)) < 0.4
    found = network.probability(seen, changes, asked)
    assert found == pytest.approx(plainly(network, seen, changes, asked), abs=1e-5)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1000), st.integers(1, 20))
def test_what_comes_much_later_changes_nothing(seed, longer):
    network, (seen, changes) = drawn(seed), sound(60 + longer, seed + 1)
    part = Levels(seen.long[:60], seen.middle[:60], seen.short[:60])
    moved = Changes(changes.middle[:60], changes.short[:60])
    asked = harmonic.possible(network.gate, seen)
    whole, begun = network.probability(seen, changes, asked), network.probability(part, moved, asked[:60])
    assert begun[: 60 - REACH] == pytest.approx(whole[: 60 - REACH], abs=1e-5)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1000), st.integers(-9, 9), st.integers(-26, 26))
def test_a_row_knows_the_rows_of_its_neighbours(seed, frames, semitones):
    asked = np.random.default_rng(seed).random((12, PITCHES)) < 0.3
    rows = Rows.of(asked)
    found = rows.at(np.array([frames]), semitones)[:, 0]
    for row, (frame, pitch) in enumerate(zip(rows.frame + frames, rows.pitch + semitones, strict=True)):
        inside = 0 <= frame < 12 and 0 <= pitch < PITCHES and asked[frame, pitch]
        assert found[row] == (rows.place[frame, pitch] if inside else len(rows.frame))


def test_the_gate_lets_through_what_surrounds_a_note_and_little_else():
    gate = chord_network().gate
    timbre = instrument_synthesis.any_timbre(np.random.default_rng(4), 1.0)
    notes = [(0.5, 1.5, n, 0.8) for n in (48, 55, 64)]
    samples = instrument_synthesis.play(notes, timbre, multipitch.RATE, 4)
    seen = pitch_levels.levels(samples, multipitch.loud(samples))
    asked = harmonic.possible(gate, seen)
    first, last = round(0.5 / multipitch.STEP), round(1.0 / multipitch.STEP)
    for n in (48, 55, 64):
        assert asked[first:last, n - multipitch.LOWEST].mean() > 0.95
    assert asked.mean() < 0.5


def test_silence_and_nothing_at_all_are_no_notes():
    network = chord_network()
    for frames in (0, 1, 40):
        plain = np.full((frames, SEMITONES), -4.0, np.float32)
        silence, still = Levels(np.repeat(plain, 3, axis=1), plain, plain), Changes(plain, plain)
        if frames:
            asked = harmonic.possible(network.gate, silence)
            assert network.probability(silence, still, asked).max() < 0.1
        else:
            assert network.probability(silence, still, np.zeros((0, PITCHES), bool)).shape == (0, PITCHES, 2)
