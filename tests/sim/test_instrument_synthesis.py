"""Synthesised lines and chords: the sound follows the timbre."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from puresignal.sim import instrument_synthesis, sung_lines

RATE = 22_050
PLAIN = instrument_synthesis.Timbre(np.array([1.0, 0.5, 0.25, 0.12]))


def power(sound: np.ndarray, hertz: float, within: float = 0.02) -> float:
    """Share of the energy near a frequency."""
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(len(sound)))) ** 2
    at = np.fft.rfftfreq(len(sound), 1 / RATE)
    return float(spectrum[np.abs(at - hertz) < within * hertz].sum() / spectrum.sum())


def note(timbre: instrument_synthesis.Timbre, seconds: float = 0.6, number: int = 57, seed: int = 3) -> np.ndarray:
    return instrument_synthesis.sound_of(timbre, seconds, number, 1.0, RATE, np.random.default_rng(seed))


def test_a_note_has_its_harmonics_and_nothing_else():
    sound = note(PLAIN)[2000:12_000]
    shares = [power(sound, 220.0 * k) for k in (1, 2, 3, 4)]
    assert sum(shares) > 0.98
    assert shares == sorted(shares, reverse=True)
    assert shares[0] / shares[1] == pytest.approx(4, rel=0.2)


def test_a_body_without_low_resonances_leaves_the_upper_harmonics():
    full, thin = (note(t)[2000:12_000] for t in (PLAIN, replace(PLAIN, bottom=900.0)))
    assert power(full, 220) > 0.5 > power(thin, 220)
    resounding = note(replace(PLAIN, body=np.array([[660.0, 0.2, 24.0]])))[2000:12_000]
    assert power(resounding, 660) > 0.6


def test_body_resonances_stay_as_the_pitch_changes():
    timbre = replace(PLAIN, harmonics=np.ones(12), body=np.array([[880.0, 0.2, 30.0]]))
    for number, harmonic in ((57, 4), (69, 2), (45, 8)):
        sound = note(timbre, number=number)[2000:12_000]
        shares = [power(sound, k * 880.0 / harmonic) for k in range(1, 12)]
        assert int(np.argmax(shares)) + 1 == harmonic


def test_bars_sound_at_their_own_multiples():
    bar = note(replace(PLAIN, partials=np.array([1.0, 2.76, 5.4]), decay=0.6))[500:9000]
    assert power(bar, 220) + power(bar, 220 * 2.76) + power(bar, 220 * 5.4) > 0.95
    assert power(bar, 440) < 0.01


def test_a_sampler_loop_repeats_without_a_break_in_the_wave():
    looped = replace(PLAIN, loops=0.2, seam=0.001, recorded=3.0, wander=3.0, release=0.02)
    sound = note(looped, seconds=1.5)
    period = RATE / 220
    length = round(period * round(0.2 * 220))
    begin = round((looped.attack + 0.15) * RATE)
    rounds = [sound[begin + k * length :][:length] for k in range(6)]
    assert np.std(rounds[0]) > 0.1
    for later in rounds[1:]:
        assert later == pytest.approx(rounds[0], abs=1e-9)
    # The seam is no crack: the wave goes on where the loop's beginning was.
    steps = np.abs(np.diff(sound[begin:][: 6 * length]))
    at_seams = [steps[k * length - 2 : k * length + 2].max() for k in range(1, 6)]
    assert max(at_seams) < 2 * np.quantile(steps, 0.99)
    # By itself it never sounds the same again.
    free = note(replace(looped, loops=0.0), seconds=1.5)
    assert np.abs(free[begin + length :][:length] - free[begin:][:length]).max() > 0.05


def test_the_attack_is_brighter_for_a_moment():
    timbre = replace(PLAIN, harmonics=np.full(12, 0.3), bite=18.0, bites=0.04, attack=0.003)
    sound = note(timbre)
    early, late = (sum(power(sound[a : a + 1500], 220.0 * k) for k in range(6, 13)) for a in (50, 9000))
    assert early > 1.3 * late


def test_ringing_instruments_outlast_their_notes_and_others_do_not():
    for release, heard in ((2.5, True), (0.05, False)):
        timbre = replace(PLAIN, decay=2.0, release=release, fades=2.0)
        sound = instrument_synthesis.play([(0.2, 0.5, 57, 1.0), (2.0, 2.3, 57, 1.0)], timbre, RATE, 1)
        after = sound[round(0.9 * RATE) : round(1.1 * RATE)]
        assert (np.abs(after).max() > 0.05) == heard


def test_a_thump_is_unpitched_and_short():
    struck, plain = note(replace(PLAIN, thump=1.0, thumps=0.02)), note(PLAIN)
    off = struck - plain
    assert np.abs(off[:600]).max() > 0.3
    assert np.abs(off[6000:]).max() < 0.01


def test_any_timbre_covers_what_instruments_do():
    drawn = [instrument_synthesis.any_timbre(np.random.default_rng(s), 0.5) for s in range(300)]
    assert all(np.isfinite(note(t, 0.2, seed=s)).all() for s, t in enumerate(drawn[:40]))
    struck = [t for t in drawn if np.isfinite(t.decay)]
    assert 100 < len(struck) < 200
    assert min(t.attack for t in drawn) < 0.004
    assert max(t.attack for t in drawn) > 0.25
    assert sum(t.release > 0.5 for t in struck) > 20
    assert sum(len(t.body) > 0 for t in drawn) > 100


def test_rooms_reverberate_and_some_have_a_distinct_echo():
    click = np.zeros(2 * RATE, np.float32)
    click[RATE // 2] = 1.0
    part, stand_out, louder = RATE // 50, 0, 0
    for seed in range(60):
        heard = instrument_synthesis.in_a_room(click, RATE, np.random.default_rng(seed), (-130.0, -130.0))
        level = np.sqrt((heard[: len(heard) // part * part].reshape(-1, part) ** 2).mean(axis=1)) + 1e-6
        at = RATE // 2 // part
        assert int(level.argmax()) == at
        assert level[: at - 1].max() < 0.02 * level[at]
        # From 40 ms on a plain tail only falls.
        later = 20 * np.log10(level[at + 2 : at + 25])
        stand_out += bool((later[2:] > later[:-2] + 6.0).any())
        louder += bool(later.max() > 20 * np.log10(level[at]) - 6)
    assert 10 < stand_out < 45
    assert louder < 10


# Sung on words


def singer(*habits: float, **changed: float) -> sung_lines.Singer:
    steady = {"tuned": 0.0, "drift": 0.0, "vibrato": 0.0, "scoop": 0.0, "release": 0.05, "longest": 0.12}
    drawn = sung_lines.any_singer(np.random.default_rng(5))
    return replace(drawn, habits=tuple(habits), **{**steady, **changed})


LINE = [(0.3, 0.8, 57, 0.8), (0.8, 1.3, 61, 0.8), (1.3, 1.8, 61, 0.8)]


def test_each_note_is_sung_at_its_pitch():
    sound, kept = sung_lines.sing(LINE, singer(1, 0, 0, 0, 0), RATE, 4)
    for start, end, number, _ in LINE:
        middle = sound[round((start + 0.15) * RATE) : round((end - 0.1) * RATE)]
        hertz = 440 * 2 ** ((number - 69) / 12)
        assert sum(power(middle, hertz * k, 0.03) for k in range(1, 30)) > 0.9
    assert [n[0] for n in kept] == [n[0] for n in LINE]


def test_a_plosive_ends_the_note_before_it():
    sound, kept = sung_lines.sing(LINE, singer(0, 0, 0, 1, 0), RATE, 4)
    level = np.sqrt(np.convolve(sound**2, np.ones(110) / 110, "same"))
    assert kept[0][1] < 0.79
    assert level[round(0.77 * RATE) : round(0.8 * RATE)].min() < 0.2 * level[round(0.6 * RATE)]


def test_one_pitch_sung_again_is_told_apart_by_a_consonant():
    """Otherwise nobody could tell the notes apart."""
    sound, _ = sung_lines.sing(LINE, singer(1, 0, 0, 0, 0), RATE, 4)
    level = np.sqrt(np.convolve(sound**2, np.ones(110) / 110, "same"))
    between = level[round(1.2 * RATE) : round(1.3 * RATE)]
    assert between.min() < 0.75 * np.median(level[round(1.4 * RATE) : round(1.7 * RATE)])


def test_a_choir_sings_the_same_line_but_not_as_one():
    alone, _ = sung_lines.sing(LINE, singer(1, 0, 0, 0, 0), RATE, 4)
    choir, kept = sung_lines.sing(LINE, singer(1, 0, 0, 0, 0), RATE, 4, voices=4)
    assert len(choir) == len(alone)
    assert [n[2] for n in kept] == [57, 61, 61]
    middle = slice(round(0.95 * RATE), round(1.2 * RATE))
    hertz = 440 * 2 ** ((61 - 69) / 12)
    assert power(choir[middle], hertz, 0.04) > 0.3 * power(alone[middle], hertz, 0.04)
    assert not np.allclose(choir, alone, atol=0.05)
