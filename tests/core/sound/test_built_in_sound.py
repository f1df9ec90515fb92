"""The built-in sound as an array: when it begins, how it rings, how bright it is, how it is choked, how loud."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.sound import drums, mixer, tones
from puresignal.core.sound.drums import KITS, Drum
from puresignal.io import note_map_file

RATE = 48_000
GENERAL = note_map_file.shipped("general-midi")


@pytest.fixture(scope="module")
def bank():
    made = mixer.SampleBank(RATE)
    made.prepare([pad.articulation for pad in GENERAL.pads])
    return made


def note(name):
    return GENERAL.pad_for(name).note


def hit(name, velocity=100, at=0.0):
    return at, bytes((0x99, note(name), velocity))


def render(bank, messages, seconds=1.0, block=128):
    return mixer.render_song(messages, seconds, mixer.Mixer(bank, GENERAL), block)


def level(sound, begin, end):
    part = sound[:, round(begin * RATE) : round(end * RATE)]
    return float(np.sqrt(np.mean(part**2)))


def centroid(sound):
    """Spectral centroid in Hz."""
    power = np.abs(np.fft.rfft(sound.sum(0)[: RATE // 4])) ** 2
    return float((np.fft.rfftfreq(RATE // 4, 1 / RATE) * power).sum() / power.sum())


@pytest.mark.parametrize("name", [pad.articulation for pad in GENERAL.pads])
def test_every_drum_begins_on_its_sample_rings_off_and_has_no_step_anywhere(bank, name):
    at = 0.1 + 37 / RATE
    sound = render(bank, [hit(name, 110, at)], 6.0)
    begin = round(at * RATE)
    assert not sound[:, :begin].any()
    heard = np.flatnonzero(np.abs(sound).max(0) > 0.01 * np.abs(sound).max())
    assert begin <= heard[0] <= begin + 0.004 * RATE
    assert level(sound, 5.5, 6.0) < 1e-6
    assert np.abs(sound).max() < 1.0
    # Nothing jumps: not at the beginning, not where the stroke ends.
    ends = np.flatnonzero(np.abs(sound).max(0))
    assert np.abs(sound[:, begin]).max() < 0.01
    assert np.abs(sound[:, ends[-1]]).max() < 1e-3


@pytest.mark.parametrize(
    "name", ["kick", "snare.head", "tom1.head", "hat.closed", "hat.open", "crash1.bow", "ride.bow"]
)
def test_harder_is_louder_and_brighter(bank, name):
    sounds = [render(bank, [hit(name, velocity)]) for velocity in (20, 60, 100, 127)]
    levels = [level(s, 0, 0.3) for s in sounds]
    assert levels == sorted(levels)
    assert levels[-1] > 4 * levels[0]
    bright = [centroid(s) for s in sounds]
    assert bright == sorted(bright)
    assert bright[-1] > 1.15 * bright[0]


def test_drums_ring_as_long_as_they_should(bank):
    def rings(name):
        sound = np.abs(render(bank, [hit(name, 110)], 4.0)).max(0)
        loud = np.flatnonzero(sound > 0.05 * sound.max())
        return loud[-1] / RATE

    assert rings("hat.closed") < 0.2 < rings("hat.open") < rings("crash1.bow")
    assert rings("snare.side") < rings("snare.head") < rings("tom3.head")
    pitches = [centroid(render(bank, [hit(f"tom{i}.head", 60)])) for i in (1, 2, 3)]
    assert pitches == sorted(pitches, reverse=True)


def test_a_closed_hat_and_the_foot_end_an_open_one(bank):
    for closing in ("hat.closed", "hat.pedal"):
        ringing = render(bank, [hit("hat.open", 110)])
        ended = render(bank, [hit("hat.open", 110), hit(closing, 5, 0.2)])
        assert level(ended, 0.1, 0.2) == pytest.approx(level(ringing, 0.1, 0.2))
        assert level(ended, 0.26, 0.5) < 0.15 * level(ringing, 0.26, 0.5)


def test_a_hand_chokes_its_own_cymbal_only(bank):
    choke = (0.3, bytes((0xA9, note("crash1.bow"), 127)))
    light = (0.3, bytes((0xA9, note("crash1.bow"), 63)))
    both = [hit("crash1.bow", 110), hit("ride.bow", 110)]
    rings, chokes, touched = (render(bank, [*both, *more]) for more in ([], [choke], [light]))
    assert np.array_equal(rings, touched)
    ride = render(bank, [hit("ride.bow", 110)])
    assert level(chokes, 0.35, 0.6) == pytest.approx(level(ride, 0.35, 0.6), rel=0.02)
    assert np.abs(np.diff(chokes[0, round(0.3 * RATE) : round(0.35 * RATE)])).max() < 0.2


def test_the_block_changes_nothing(bank):
    messages = sorted(
        [hit("kick", 90, 0.01), hit("hat.open", 70, 0.0123), hit("hat.closed", 80, 0.1), hit("snare.head", 99, 0.2)]
    )
    messages += [(0.25, bytes((0x90, 60, 90))), (0.4, bytes((0x80, 60, 0)))]
    whole = render(bank, messages, 0.7, 512)
    for block in (32, 100, 256):
        assert np.abs(render(bank, messages, 0.7, block) - whole).max() < 0.01


def test_nothing_is_louder_than_full_scale_and_quiet_things_pass_as_they_are(bank):
    everything = [hit(pad.articulation, 127) for pad in GENERAL.pads] * 3
    sound = render(bank, everything)
    assert 0.9 < np.abs(sound).max() < 1.0
    one = mixer.Mixer(bank, GENERAL)
    mixer.render_song([hit("snare.head", 60)], 0.5, one)
    assert one.overs == 0


def test_notes_have_their_pitch_and_end(bank):
    for number in (40, 57, 69, 81):
        sound = render(
            bank, [(0.0, bytes((0xC0, 19))), (0.0, bytes((0x90, number, 100))), (0.6, bytes((0x80, number, 0)))], 1.2
        )
        part = sound.sum(0)[round(0.1 * RATE) : round(0.5 * RATE)]
        spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))
        wanted = 440 * 2 ** ((number - 69) / 12)
        near = np.fft.rfftfreq(1 << 18, 1 / RATE)
        window = (near > wanted * 0.9) & (near < wanted * 1.1)
        found = near[window][int(np.argmax(spectrum[window]))]
        assert 1200 * abs(np.log2(found / wanted)) < 3
        assert level(sound, 1.0, 1.2) < 0.002


def test_no_harmonic_exceeds_half_the_sample_rate():
    for tone in tones.TONES:
        tables = tones.tables(tone, RATE)
        for octave, (_, hard) in enumerate(tables):
            highest = 440 * 2 ** ((octave * 12 + 11 - 69) / 12)
            levels = np.abs(np.fft.rfft(hard))
            assert levels[int(0.5 * RATE / highest) + 1 :].max(initial=0) < 1e-3 * levels.max()


def test_a_new_voice_replaces_the_oldest(bank):
    crowd = [(0.001 * i, bytes((0x90, 30 + i, 90))) for i in range(60)]
    one = mixer.Mixer(bank, GENERAL)
    mixer.render_song(crowd, 0.1, one)
    assert one._voices.sounding() == 32
    strokes = [hit("crash1.bow", 90, 0.0005 * i) for i in range(200)]
    mixer.render_song(strokes, 0.2, one)
    assert len(one._strokes) == mixer.MOST


def test_a_muted_drum_is_silent_and_level_place_and_tune_do_what_they_say(bank):
    one = mixer.Mixer(bank, GENERAL)
    one.mute(["snare"])
    assert not mixer.render_song([hit("snare.head")], 0.3, one).any()

    def with_drum(drum):
        own = mixer.SampleBank(RATE, KITS[0], {"tom1": drum})
        own.prepare(["tom1.head"])
        return render(own, [hit("tom1.head", 90)])

    plain, soft = with_drum(Drum()), with_drum(Drum(level=-6))
    assert level(soft, 0, 0.3) == pytest.approx(level(plain, 0, 0.3) * 10 ** (-6 / 20), rel=0.01)
    left = with_drum(Drum(place=-1))
    assert not left[1].any()
    assert left[0].any()
    assert centroid(with_drum(Drum(tune=7))) > 1.2 * centroid(plain)
    assert level(with_drum(Drum(damping=0.3)), 0.3, 0.5) < 0.3 * level(plain, 0.3, 0.5)


def test_kits_differ_and_another_bank_keeps_what_it_can(bank):
    sounds = []
    for kit in KITS:
        own = mixer.SampleBank(RATE, kit)
        own.prepare(["snare.head"])
        sounds.append(render(own, [hit("snare.head", 100)]))
    for i, one in enumerate(sounds):
        assert all(np.abs(one - other).max() > 0.02 for other in sounds[i + 1 :])
    again = mixer.SampleBank(RATE, KITS[0], {"snare": Drum(level=-3)})
    again.take_over(bank)
    assert again.layers["snare.head"] is bank.layers["snare.head"]
    retuned = mixer.SampleBank(RATE, KITS[0], {"snare": Drum(tune=2)})
    retuned.take_over(bank)
    assert "snare.head" not in retuned.layers
    assert drums.layer_of(0) == 0
    assert drums.layer_of(127) == drums.LAYERS - 1
