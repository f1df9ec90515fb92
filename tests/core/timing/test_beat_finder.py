"""Beats found in playing: what they are, that no onset moves, and that nothing at all is an answer too."""

from __future__ import annotations

import struct

import numpy as np
import pytest

from puresignal.core.timing import beat_finder
from puresignal.core.timing.found_grid import meter_of, timeline_of
from puresignal.core.timing.onsets import onsets_of
from puresignal.io import beat_model


def file_of(hits):
    """A MIDI file at 120 of (seconds, note, velocity) on channel 10."""
    rows = sorted((round(at * 960), kind, note, velocity) for at, note, velocity in hits for kind in (0,))
    rows = sorted([(t, 1, n, v) for t, _, n, v in rows] + [(t + 40, 0, n, 0) for t, _, n, v in rows])
    data, now = b"", 0
    for tick, on, note, velocity in rows:
        delta, now = tick - now, tick
        length = bytes([delta & 0x7F])
        while delta > 0x7F:
            delta >>= 7
            length = bytes([0x80 | delta & 0x7F]) + length
        data += length + bytes([0x99 if on else 0x89, note, velocity])
    data += b"\x00\xff\x2f\x00"
    return b"MThd" + struct.pack(">LHHH", 6, 0, 1, 480) + b"MTrk" + struct.pack(">L", len(data)) + data


def hits_of(bpm, bars, jitter, seed=1, lead=0.5):
    """A plain groove of four, its hits and its beats in seconds."""
    chance, beat = np.random.default_rng(seed), 60 / bpm
    hits = []
    for bar in range(bars):
        for at, note, velocity in (
            *((p, 36, 104) for p in (0, 2, 2.5)), *((p, 38, 98) for p in (1, 3)), *((i / 2, 42, 64) for i in range(8)),
        ):  # fmt: skip
            hits.append((lead + (4 * bar + at) * beat + float(chance.normal(0, jitter)), note, velocity))
    return hits, lead + np.arange(4 * bars) * beat


def groove(bpm, bars, jitter, seed=1):
    hits, beats = hits_of(bpm, bars, jitter, seed)
    return file_of(hits), beats


def found_in(hits):
    rows = np.array(sorted(hits))
    note = rows[:, 1]
    pitched = np.zeros(len(rows), bool)
    return beat_finder.find(
        onsets_of(rows[:, 0], rows[:, 2], note, rows[:, 0] + 0.1, note == 36, note == 38, pitched),
        beat_model.shipped(),
    )


@pytest.mark.parametrize("bpm", [92, 104, 138, 150])
def test_a_groove_of_four_has_its_beats_bars_and_meter(bpm):
    hits, beats = hits_of(bpm, 12, 0.01)
    found = found_in(hits)
    off = np.abs(found.time[:, None] - beats[None, :]).min(axis=0)
    assert np.mean(off < 0.07) > 0.95
    assert abs(len(found.time) - len(beats)) <= 2
    assert found.meter == 4
    lines = beats[::4]
    assert np.mean(np.abs(found.bars[:, None] - lines[None, :]).min(axis=0) < 0.07) > 0.8


def test_the_timeline_puts_every_beat_on_a_beat_and_the_first_bar_on_bar_1():
    hits, _ = hits_of(111, 10, 0.012, seed=4)
    found = found_in(hits)
    timeline, zero = timeline_of(found)
    seconds = timeline.beats_to_seconds(np.array([zero]))[0] + found.time
    beats = timeline.seconds_to_beats(seconds)
    _, quarters = meter_of(found)
    assert np.abs(beats / quarters - np.rint(beats / quarters)).max() < 1e-6
    first = float(timeline.seconds_to_beats(np.array([seconds[np.argmax(found.down)]]))[0])
    assert first == pytest.approx(0.0, abs=1e-6)


@pytest.mark.parametrize("count", [0, 1, 3])
def test_too_little_is_nothing_found(count):
    hits, _ = hits_of(100, 4, 0.0)
    rows = np.array(sorted(hits))[:count].reshape(-1, 3)
    note = rows[:, 1]
    empty = np.zeros(len(rows), bool)
    found = beat_finder.find(
        onsets_of(rows[:, 0], rows[:, 2], note, rows[:, 0], note == 36, empty, empty), beat_model.shipped()
    )
    assert (len(found.time), found.confidence) == (0, 0.0)


def test_a_pause_is_no_beats_and_playing_goes_on_after_it():
    hits, beats = hits_of(100, 12, 0.005)
    middle = beats[24]
    later = [(at + (2.13 if at > middle - 0.1 else 0.0), note, velocity) for at, note, velocity in hits]
    found = found_in(later)
    gap = found.time[(found.time > middle + 0.3) & (found.time < middle + 1.8)]
    assert len(gap) == 0
    after = beats[24:] + 2.13
    assert np.mean(np.abs(found.time[:, None] - after[None, :]).min(axis=0) < 0.07) > 0.8


def plain_beats(numbers, at):
    """A groove of four at 120, by numbers of its beats; from beat 48 on both halves of a bar are alike."""
    chance, hits = np.random.default_rng(3), []
    for number in numbers:
        drums = [(0, 38 if number % 2 else 36, 100), (0, 42, 64), (0.25, 42, 60)]
        if number < 48 and number % 4 == 2:
            drums += [(0.25, 36, 96), (0.375, 36, 90)]
        hits += [(at(number) + place + float(chance.normal(0, 0.004)), note, loud) for place, note, loud in drums]
    return hits


def bars_counted(found, at, last):
    """How many of the true bar lines, every fourth beat, are among those that were found, and how many were found."""
    lines = np.array([at(number) for number in range(0, last, 4)])
    return int((np.abs(found.bars[:, None] - lines[None, :]).min(axis=0) < 0.07).sum()), len(found.bars), len(lines)


@pytest.mark.parametrize("stop", [49, 50, 51, 52])
def test_bars_are_counted_on_after_a_beat_that_was_held(stop):
    def at(number):
        return 0.5 + number * 0.5 + (1.83 if number >= stop else 0.0)

    right, found, lines = bars_counted(found_in(plain_beats(range(80), at)), at, 80)
    assert right >= lines - 1
    assert found <= lines + 1


def test_a_rest_that_was_counted_out_keeps_the_bars():
    def at(number):
        return 0.5 + number * 0.5

    played = [number for number in range(80) if not 49 <= number < 54]
    right, found, lines = bars_counted(found_in(plain_beats(played, at)), at, 80)
    assert right >= lines - 2
    assert found <= lines + 1


@pytest.mark.parametrize("length", [5, 7])
def test_a_few_beats_between_two_rests_have_bars_counted_on(length):
    def at(number):
        return 0.5 + number * 0.5

    played = [number for number in range(96) if number < 49 or 54 <= number < 54 + length or number >= 67]
    found = found_in(plain_beats(played, at))
    short = found.time[(found.time > at(53.5)) & (found.time < at(53.5 + length))]
    assert np.allclose(short, [at(number) for number in range(54, 54 + length)], atol=0.05)
    bars = found.bars[(found.bars > at(53.5)) & (found.bars < at(53.5 + length))]
    assert np.allclose(bars, [at(number) for number in range(56, 54 + length, 4)], atol=0.05)
