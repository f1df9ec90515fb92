"""What a voice plays: held to a key, with chords, bends and an own response; and nothing is left sounding."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.harmony import keys, scales
from puresignal.core.midi import messages
from puresignal.core.touch.voice import Voice, VoiceSettings, hit

C4 = 60


def ons(sent):
    return [data[1] for data in sent if messages.is_note_on(data)]


@pytest.mark.parametrize(
    ("settings", "sung", "plays"),
    [
        (VoiceSettings(), 61, [61]),
        (VoiceSettings(key="C major"), 61, [60]),
        (VoiceSettings(key="D minor"), 71, [70]),
        (VoiceSettings(key="C major", chord=scales.TRIAD), 62, [62, 65, 69]),
        (VoiceSettings(key="C major", chord=scales.SEVENTH), 67, [67, 71, 74, 77]),
        (VoiceSettings(chord=scales.TRIAD), 60, [60, 64, 67]),
        (VoiceSettings(chord=scales.FIFTH, shift=-12), 60, [48, 55]),
        (VoiceSettings(shift=48), 100, []),
    ],
)
def test_a_sung_note_plays_what_was_chosen(settings, sung, plays):
    assert ons(Voice(settings).note(sung, 90)) == plays


@given(
    st.lists(st.tuples(st.integers(0, 127), st.integers(0, 127)), max_size=40),
    st.sampled_from(scales.CHORDS), st.sampled_from(("", *keys.NAMES)), st.integers(-48, 48),
)  # fmt: skip
def test_whatever_is_sung_every_note_ends(changes, chord, key, shift):
    voice, sounding = Voice(VoiceSettings(key=key, chord=chord, shift=shift)), []
    sent = [data for number, velocity in changes for data in voice.note(number, velocity)] + voice.end()
    for data in sent:
        if messages.is_note_on(data):
            assert 0 <= data[1] <= 127
            sounding.append(data[1])
        elif messages.is_note_end(data):
            sounding.remove(data[1])
    assert sounding == []


@given(st.sampled_from(keys.NAMES), st.integers(0, 127))
def test_a_note_is_held_to_the_nearest_of_the_key(key, note):
    scale = scales.scale_of(key)
    held = scales.held(note, scale)
    assert held % 12 in scale
    assert all(abs(other - note) >= abs(held - note) for other in range(-12, 140) if other % 12 in scale)


def test_a_glide_is_bent_and_the_next_note_begins_straight():
    voice = Voice(VoiceSettings(bends=True))
    voice.note(C4, 90)
    (bent,) = voice.pitch(C4 + 0.5)
    assert messages.bend_amount(bent[1], bent[2]) == pytest.approx(8191 / 4, abs=2)
    assert voice.pitch(C4 + 0.51) == []
    again = voice.note(C4 + 2, 90)
    assert [data[0] & 0xF0 for data in again] == [0x80, 0xE0, 0x90]
    assert messages.bend_amount(again[1][1], again[1][2]) == 0
    # Held to a key, a note stays where the key has it.
    held = Voice(VoiceSettings(bends=True, key="C major"))
    held.note(C4, 90)
    assert held.pitch(C4 + 0.4) == []


def test_the_response_makes_soft_sounds_louder_or_softer_and_keeps_the_ends():
    soft = [VoiceSettings(response=r).velocity(40) for r in (0.5, 1.0, 2.0)]
    assert soft[0] > soft[1] > soft[2]
    assert soft[1] == 40
    assert VoiceSettings(response=3.0).velocity(127) == 127
    assert VoiceSettings(response=4.0).velocity(1) == 1


def test_a_taught_sound_is_a_drum_of_the_map():
    assert hit("kick", 99, {"kick": 36}) == b"\x99\x24\x63"
    assert hit("snare.head", 99, {"kick": 36}) is None
