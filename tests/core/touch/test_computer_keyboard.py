"""The computer keyboard as an instrument, and pads on a screen."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.touch import computer_keyboard, pad_velocity
from puresignal.core.touch.computer_keyboard import Held, Keyboard


def test_every_drum_of_the_layout_is_one_and_its_map_says_each_once():
    own = computer_keyboard.own_map()
    assert set(computer_keyboard.USUAL_DRUMS.values()) <= set(computer_keyboard.PLAYABLE)
    assert len({pad.note for pad in own.pads}) == len(own.pads) == len(computer_keyboard.PLAYABLE)
    assert all(0 <= pad.note <= 127 for pad in own.pads)
    assert {pad.note for pad in own.pads if pad.articulation == "hat.open"} == {computer_keyboard.note_of("hat.open")}


def test_a_piano_lies_on_two_rows_with_its_black_keys_between():
    piano = Keyboard(mode=computer_keyboard.CHROMATIC, octave=4)
    white = [piano.note(code) for code in computer_keyboard.LOWER]
    assert white[:8] == [60, 62, 64, 65, 67, 69, 71, 72]
    # S lies between Z and X, D between X and C; nothing lies between C and V.
    assert [piano.note(31), piano.note(32), piano.note(33), piano.note(34)] == [61, 63, None, 66]
    assert piano.note(16) == 72
    assert computer_keyboard.name_of(60) == "C4"


@given(st.sampled_from(sorted(computer_keyboard.SCALES)), st.integers(0, 11), st.integers(0, 7))
def test_a_scale_holds_only_its_notes_rising_along_each_row(scale, root, octave):
    keyboard = Keyboard(mode=computer_keyboard.SCALE, scale=scale, root=root, octave=octave)
    for row in (computer_keyboard.LOWER, computer_keyboard.HOME, computer_keyboard.UPPER):
        notes = [n for n in (keyboard.note(code) for code in row) if n is not None]
        assert notes == sorted(set(notes))
        assert all((n - root) % 12 in computer_keyboard.SCALES[scale] for n in notes)


@given(st.lists(st.tuples(st.booleans(), st.integers(16, 24)), max_size=80))
def test_whatever_is_pressed_and_released_nothing_is_left_sounding_or_retriggered(steps):
    held, sounding = Held(), set()
    for down, key in steps:
        messages = held.press(key, 10, 36 + key % 4, 90) if down else held.release(key)
        for message in messages:
            (sounding.add if message[0] & 0xF0 == 0x90 else sounding.discard)(message[1])
        assert sounding == {note for _, note in held.down.values()}
    for message in held.release_all():
        sounding.discard(message[1])
    assert sounding == set()
    assert held.down == {}


def test_a_key_that_repeats_strikes_once():
    held = Held()
    assert held.press(30, 10, 38, 90) == [b"\x99\x26\x5a"]
    assert held.press(30, 10, 38, 90) == []
    assert held.release(30) == [b"\x89\x26\x40"]
    assert held.release(30) == []
    assert held.most == 1


@given(st.integers(0, 10_000), st.booleans(), st.booleans(), st.integers(1, 127), st.integers(0, 40))
def test_accents_are_harder_and_ghosts_softer(count, accent, ghost, velocity, varied):
    keyboard = Keyboard(velocity=velocity, randomness=varied)
    struck = keyboard.strike(count, accent, ghost)
    assert 1 <= struck <= 127
    assert struck == keyboard.strike(count, accent, ghost)
    even = replace(keyboard, randomness=0)
    assert even.strike(count, True, False) >= even.strike(count, False, False) >= even.strike(count, False, True)
    assert abs(struck - even.strike(count, accent, ghost)) <= varied


def test_another_drum_can_be_put_on_a_key():
    keyboard = computer_keyboard.with_drum(computer_keyboard.with_drum(Keyboard(), 20, "aux1"), 30, None)
    assert (keyboard.drum(20), keyboard.drum(30)) == ("aux1", None)


@pytest.mark.parametrize(("x", "y"), [(0, 0), (0.3, 0.2), (-0.7, 0.4), (1, 1), (-1, -1)])
def test_a_pad_is_harder_in_its_middle_unless_pressure_is_told(x, y):
    assert (
        pad_velocity.velocity(0, 0)
        == 127
        >= pad_velocity.velocity(x, y)
        >= pad_velocity.velocity(1, 1)
        == pad_velocity.SOFTEST
    )
    assert pad_velocity.velocity(x, y, 0.5) == pad_velocity.velocity(0, 0, 0.5)
    assert pad_velocity.velocity(x, y, 0.9) > pad_velocity.velocity(x, y, 0.4)


def test_the_slide_has_the_zones_of_every_hat():
    assert [pad_velocity.hat_at(o) for o in (0, 0.25, 0.26, 0.64, 0.66, 1)] == [
        "hat.closed", "hat.closed", "hat.half", "hat.half", "hat.open", "hat.open",
    ]  # fmt: skip
