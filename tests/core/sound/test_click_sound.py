"""The click: its onset on its sample, first beats clear, and what drowns it is noticed."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.sound.click_sound import Click

RATE = 48_000


def play(click, came, others=0.0, blocks=12, frames=256):
    """Blocks of a steady noise with clicks in the first of them."""
    chance = np.random.default_rng(1)
    made = []
    for number in range(blocks):
        block = (others * chance.standard_normal((2, frames))).astype(np.float32)
        click.add_to(block, came if number == 0 else [], 1.0)
        made.append(block)
    return np.concatenate(made, axis=1)


@pytest.mark.parametrize("offset", [0, 1, 100, 255])
def test_a_click_begins_on_its_sample_at_once_at_full_level(offset):
    sound = play(Click(RATE), [(offset, bytes((0x99, 76, 127)))])
    loud = np.flatnonzero(np.abs(sound[0]) > 0.05)
    assert loud[0] == offset


def test_a_first_beat_is_louder_and_higher_than_a_beat_and_a_beat_than_its_parts():
    kinds = [play(Click(RATE), [(0, bytes((0x99, 76, velocity)))])[0] for velocity in (52, 92, 127)]
    power = [float((one**2).sum()) for one in kinds]
    assert power[0] < 0.5 * power[1] < 0.5 * 0.5 * power[2]
    pitch = [np.argmax(np.abs(np.fft.rfft(one[300:1800], 48_000))) for one in kinds]
    assert pitch == sorted(pitch)
    assert pitch[2] > 1.3 * pitch[1]


@pytest.mark.parametrize(("others", "drowned"), [(0.0, 0), (0.01, 0), (0.5, 1)])
def test_what_drowns_it_is_counted(others, drowned):
    click = Click(RATE)
    play(click, [(10, bytes((0x99, 77, 92)))], others)
    assert (click.played, click.masked) == (1, drowned)


def test_louder_it_is_heard_again():
    click = Click(RATE)
    click.level = 4.0
    play(click, [(10, bytes((0x99, 77, 92)))], 0.45)
    quiet = Click(RATE)
    play(quiet, [(10, bytes((0x99, 77, 92)))], 0.45)
    assert (click.masked, quiet.masked) == (0, 1)
