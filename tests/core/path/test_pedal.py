"""The hat's pedal: trembling on an edge, splashes of the foot, receivers of two, three and five openings; floods."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from puresignal.core.export.song_builder import build_song
from puresignal.core.kit.articulations import HAT_QUARTER, HAT_THREE_QUARTER
from puresignal.core.kit.note_map import HatPedal, NoteMap, Pad
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.messages import CONTROL
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, as_live, make_context, messages, run
from puresignal.core.path.target import Target
from puresignal.core.path.thin import Thin
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.velocity_curve import Shape
from puresignal.io import midi_reader, midi_writer

HAT, FOOT, PEDAL = 8, 7, 4
KIT = NoteMap(
    "kit", (Pad("hat.closed", HAT), Pad("hat.pedal", FOOT), Pad("snare.head", 38)), 1, HatPedal(PEDAL, 127, 0, False)
)
THREE = (Pad("hat.closed", 42), Pad("hat.half", 43), Pad("hat.open", 46), Pad("hat.pedal", 44))
SNARE = NoteMap("snare", (Pad("snare.head", 38),))
FIVE = NoteMap("five", (*THREE, Pad(HAT_QUARTER, 41), Pad(HAT_THREE_QUARTER, 45), Pad("hat.splash", 47)))


def take(*rows: tuple[float, int, int, int]) -> Take:
    """A take of (seconds, status, data1, data2), on one port."""
    rows = tuple(sorted(rows, key=lambda row: row[0]))
    n = len(rows)
    events = Events(
        np.array([r[0] for r in rows], float), np.zeros(n, int), [r[1] for r in rows], [r[2] for r in rows],
        [r[3] for r in rows], np.full(n, -1),
    )  # fmt: skip
    return Take("t", "t", events, (Port("kit", 0),), TempoMap.steady(120))


def hit(at: float, note: int = HAT, velocity: int = 90) -> list[tuple[float, int, int, int]]:
    return [(at, 0x90, note, velocity), (at + 0.03, 0x80, note, 0)]


def foot(at: float, value: int) -> tuple[float, int, int, int]:
    return (at, 0xB0, PEDAL, value)


def played(rows, path: CleaningPath | None = None, target: NoteMap = FIVE):
    path = path or CleaningPath()
    one = take(*rows)
    context = make_context(one, KIT, target, path)
    outcome = run(one, path, context)
    names = context.vocabulary
    return [names[c] for c in outcome.input_notes.articulation.tolist()], outcome.output_notes.note.tolist()


def sent_live(rows, path: CleaningPath, target: NoteMap = FIVE):
    one = take(*rows)
    live = LivePath(path, make_context(one, KIT, target, path))
    out = []
    for message in messages(one.events):
        out += live.message(*message)
    return [*out, *live.finish(one.length)]


def test_a_pedal_that_shakes_on_an_edge_does_not_open_the_hat():
    random = np.random.default_rng(5)
    edge = round(127 * 0.75)
    rows = [foot(0.0, 120)]
    at, steady = 0.5, []
    while at < 8:
        # Closed by a foot that rests on the edge and trembles by 2 of 127 around it.
        rows.append(foot(at, edge + int(random.integers(-2, 3))))
        if random.random() < 0.3:
            rows += hit(at + 0.002)
            steady.append(at)
        at += random.uniform(0.01, 0.03)
    names, _ = played(rows)
    changes = sum(a != b for a, b in pairwise(names))
    unmapped, _ = played(rows, replace(CleaningPath(), identify=replace(CleaningPath().identify, tremble=0.0)))
    assert len(names) == len(steady) > 60
    assert changes <= 4
    assert sum(a != b for a, b in pairwise(unmapped)) > 5 * changes


def test_a_pedal_that_stays_just_past_an_edge_counts_after_a_moment():
    rows = [foot(0.0, 120), foot(1.0, round(127 * 0.74)), *hit(1.02), *hit(1.3), foot(2.0, 10), *hit(2.001)]
    names, notes = played(rows)
    assert names == ["hat.closed", "hat.half", "hat.open"]
    assert notes == [42, 41, 46]


def test_a_foot_that_opens_at_once_is_a_splash():
    closed = [foot(0.5, 100), foot(0.52, 127), *hit(0.53, FOOT), foot(0.9, 60), foot(0.95, 5)]
    splash = [foot(1.5, 100), foot(1.52, 127), *hit(1.53, FOOT), foot(1.57, 80), foot(1.59, 20), foot(1.61, 0)]
    names, notes = played([foot(0.0, 0), *closed, *splash])
    assert names == ["hat.pedal", "hat.splash"]
    assert notes == [44, 47]
    # Where the note comes first and the pedal's own messages after it, the same is told.
    early = [*hit(1.5, FOOT), foot(1.505, 100), foot(1.515, 127), foot(1.55, 60), foot(1.57, 0)]
    assert played([foot(0.0, 0), *early])[0] == ["hat.splash"]
    assert played([foot(0.0, 0), *hit(1.5, FOOT), foot(1.505, 127), foot(1.8, 0)])[0] == ["hat.pedal"]
    # Telling takes as long as the foot does, so while somebody plays nothing waits for it.
    on = [e for e in sent_live([foot(0.0, 0), *splash], as_live(CleaningPath())) if e.kind == 0]
    assert [e.note for e in on] == [44]


@pytest.mark.parametrize(
    ("pads", "expected"),
    [
        (FIVE.pads, [42, 41, 43, 43, 45, 46]),
        (THREE, [42, 43, 43, 43, 43, 46]),
        ((THREE[0], THREE[2]), [42, 42, 42, 46, 46, 46]),
    ],
)
def test_openings_map_to_those_the_receiver_has(pads, expected):
    rows, places = [], (0.95, 0.7, 0.6, 0.5, 0.4, 0.1)
    for i, closedness in enumerate(places):
        rows += [foot(i + 0.5, round(127 * closedness)), *hit(i + 0.8)]
    target = NoteMap("receiver", tuple(pads))
    assert played(rows, target=target)[1] == expected
    live = [e.note for e in sent_live(rows, as_live(CleaningPath()), target) if e.kind == 0]
    assert live == expected


def test_thinning_keeps_first_last_and_the_values_notes_need():
    flood = [(i / 1000, 0xB0, 1, min(127, i // 8)) for i in range(1000)]
    switches = [(0.0105 + i / 500, 0xB0, 64, 127 * (i % 2)) for i in range(20)]
    rows = [*flood, *switches, *hit(0.5005, 38)]
    thin = replace(CleaningPath(), thin=Thin(True, 5.0))
    one = take(*rows)
    every = run(one, CleaningPath(), make_context(one, KIT, FIVE, CleaningPath())).controls
    controls = run(one, thin, make_context(one, KIT, FIVE, thin)).controls
    wheel = controls.take(controls.number == 1)
    assert len(every) == 1020
    assert 195 <= len(wheel) <= 206
    assert (wheel.at[0], wheel.value[0]) == (0.0, 0)
    assert wheel.value[-1] == 124
    assert wheel.at[-1] <= 0.999 + 0.005
    assert np.count_nonzero(controls.number == 64) == 20
    # At the note the wheel stands where it stood when nothing was left out.
    before = wheel.at <= 0.5005
    assert wheel.value[before][-1] == 500 // 8
    # And at no moment is it further behind than the time between two messages.
    for at, value in zip(wheel.at.tolist(), wheel.value.tolist(), strict=True):
        assert abs(value - min(127, int(at * 1000) // 8)) <= 1


def fine_rows(*velocities: tuple[int, int | None]) -> list[tuple[float, int, int, int]]:
    rows = []
    for i, (whole, fine) in enumerate(velocities):
        if fine is not None:
            rows.append((i * 0.5, 0xB0, 88, fine))
        rows += hit(i * 0.5 + 0.0001, 38, whole)
    return rows


def written(rows, path: CleaningPath) -> list[tuple[int, int, int]]:
    one = take(*rows)
    outcome = run(one, path, make_context(one, KIT, None, path))
    song = midi_reader.parse(midi_writer.to_bytes(build_song(outcome, one)), "x.mid")
    return [
        (s & 0xF0, a, b)
        for track in song.tracks
        for s, a, b in zip(
            track.messages.status.tolist(), track.messages.data1.tolist(), track.messages.data2.tolist(), strict=True
        )
        if s & 0xF0 in (0x90, CONTROL)
    ]


def test_fine_velocities_are_read_used_inside_and_written_where_asked():
    rows = fine_rows((64, 100), (90, None), (33, 5))
    assert written(rows, CleaningPath()) == [(0x90, 38, 64), (0x90, 38, 90), (0x90, 38, 33)]
    fine = replace(CleaningPath(), target=Target(fine=True))
    assert written(rows, fine) == [
        (0xB0, 88, 100), (0x90, 38, 64), (0x90, 38, 90), (0xB0, 88, 5), (0x90, 38, 33),
    ]  # fmt: skip
    # A shape sees what lies between two steps: doubled, 64.285 is 129 hundredths of a step over 128.
    halved = replace(CleaningPath(), target=Target(fine=True), velocity=Velocity(shapes=(("*", Shape(scale=0.5)),)))
    out = written(rows, halved)
    assert out[0] == (0xB0, 88, round((64 + (100 - 63.5) / 128) / 2 % 1 * 128 + 63.5) & 127)
    assert [v for kind, _, v in out if kind == 0x90] == [32, 45, 16]


def test_fine_velocities_leave_the_live_path_as_they_leave_a_file():
    rows = fine_rows((64, 100), (90, None), (33, 5))
    path = as_live(replace(CleaningPath(), target=Target(fine=True)))
    live = [e.velocity for e in sent_live(rows, path, SNARE) if e.kind == 0]
    one = take(*rows)
    assert live == run(one, path, make_context(one, KIT, SNARE, path)).output_notes.velocity.tolist()
    assert live[0] == pytest.approx(64.285, abs=0.01)
    assert [e.velocity for e in sent_live(rows, as_live(CleaningPath()), SNARE) if e.kind == 0] == [64, 90, 33]
