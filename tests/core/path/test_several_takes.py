"""Several takes as one result: placed, merged, tidied, and told apart again."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.export.song_builder import build_song
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import CleaningPath, with_faults, with_unmapped
from puresignal.core.path.several_takes import BEATS, CLOCK, USUAL_PPQ, Placed, common_ppq, run_together
from puresignal.core.path.tally import Action
from puresignal.core.path.tidy import Tidy
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.io import note_map_file
from puresignal.sim import drum_module, drummer

KIT, PADS, ROOM = (note_map_file.shipped(name) for name in ("practice-five", "lantern-pads", "boathouse-room"))
PATH = CleaningPath()
NOTES = [pad.note for pad in KIT.pads]


def kit_take(seed, bars=2, bpm=120.0):
    sent = drum_module.DrumModule(KIT, drum_module.Faults(), seed).perform(drummer.improvise(bars, bpm, seed))
    return drum_module.to_take(sent, f"t{seed}", f"t{seed}", bpm, "kit")


def file_take(rows, ppq=480, bpm=120.0, channel=10):
    """An imported take. rows: (tick, note, velocity, ticks long)."""
    tempo = TempoMap.steady(bpm, ppq=ppq)
    events = []
    for tick, note, velocity, long in rows:
        events += [(tick, 1, 0x90 | channel - 1, note, velocity), (tick + long, 0, 0x80 | channel - 1, note, 64)]
    events.sort()
    columns = np.array(events, np.int64).reshape(-1, 5)
    ticks, count = columns[:, 0], len(columns)
    made = Events(
        tempo.ticks_to_seconds(ticks).round(9), np.zeros(count), columns[:, 2], columns[:, 3], columns[:, 4],
        np.full(count, -1),
    )  # fmt: skip
    arrived = np.round(made.arrived * 50_000) / 50_000
    end = int(ticks.max(initial=0))
    return Take("f", "file", made.but(arrived=arrived), (Port("a"),), tempo, ticks=ticks, end_tick=end)


def rows_of(song):
    """Every note of a file: (tick, channel, note, velocity, length)."""
    found = []
    for track in song.tracks:
        sounding = {}
        m = track.messages
        for tick, status, note, velocity in zip(
            m.tick.tolist(), m.status.tolist(), m.data1.tolist(), m.data2.tolist(), strict=True
        ):
            key = status & 0x0F, note
            if status & 0xF0 == 0x90 and velocity:
                sounding.setdefault(key, []).append((tick, velocity))
            elif status & 0xF0 in (0x80, 0x90) and sounding.get(key):
                begun, loud = sounding[key].pop(0)
                found.append((begun, key[0] + 1, note, loud, tick - begun))
    return Counter(found)


def file_of(placed, timeline, ppq=None, path=PATH):
    whole = run_together(placed, path, timeline)
    assert whole.outcome.tally.balances()
    return build_song(*whole.for_file("Quarter Past Ferry", ppq)), whole


def test_two_players_stand_in_one_file_and_every_note_is_accounted_for():
    drums, bass = kit_take(1), file_take([(i * 480, 30 + i % 5, 80, 400) for i in range(8)], channel=2)
    song, whole = file_of([Placed(drums, KIT, ROOM), Placed(bass, None, None, follows=BEATS)], Timeline.steady(120))
    assert whole.outcome.tally.arrived == sum(o for o in (len(whole.outcome.input_notes),))
    channels = {row[1] for row in rows_of(song)}
    assert {2, 10} <= channels
    assert sum(n for row, n in rows_of(song).items() if row[1] == 2) == 8
    # Where a note of the result comes from is known: the take, and its event.
    takes = {whole.whose(int(origin))[0] for origin in whole.outcome.output_notes.origin}
    assert takes == {0, 1}
    part, event = whole.whose(int(whole.outcome.output_notes.origin[-1]))
    one = (drums, bass)[part]
    assert one.events.data1[event] in (*NOTES, *range(30, 35))


@pytest.mark.parametrize("ppq", [480, 960, 96])
def test_a_file_that_follows_the_beats_keeps_its_ticks_at_any_tempo(ppq):
    take = file_take([(0, 61, 90, 100), (333, 62, 70, 10), (481, 61, 50, 480)], ppq=ppq)
    timeline = Timeline((TempoPoint(0, 73, True), TempoPoint(64, 151)), (MeterPoint(1, 7, 8),))
    song, _ = file_of([Placed(take, None, None, beat=7.0, follows=BEATS)], timeline)
    assert sorted(row[0] - 7 * ppq for row in rows_of(song)) == [0, 333, 481]
    assert sorted(row[4] for row in rows_of(song)) == [10, 100, 480]


def test_one_that_follows_the_clock_keeps_its_seconds_at_any_tempo():
    take = kit_take(3)
    for bpm in (60, 120, 133.7):
        timeline = Timeline.steady(bpm)
        whole = run_together([Placed(take, KIT, ROOM, beat=4.0)], PATH, timeline)
        alone = run_together([Placed(take, KIT, ROOM)], PATH, timeline)
        moved = whole.outcome.output_notes.start - alone.outcome.output_notes.start
        assert np.abs(moved - 4 * 60 / bpm).max() < 20e-6


def test_what_sounds_before_bar_1_makes_the_file_begin_whole_bars_earlier():
    take = file_take([(0, 61, 90, 100), (480, 62, 70, 10)])
    timeline = Timeline.steady(120, (3, 4))
    song, whole = file_of([Placed(take, KIT, ROOM, beat=-1.0, follows=BEATS)], timeline)
    assert sorted(row[0] for row in rows_of(song)) == [2 * 480, 3 * 480]
    assert whole.outcome.output_notes.start.min() == pytest.approx(-0.5)
    assert whole.for_file("early")[0].output_notes.start.min() == pytest.approx(1.0)


def test_the_same_groove_twice_is_one_note_each_and_the_tally_says_so():
    take = kit_take(5)
    once, _ = file_of([Placed(take, KIT, ROOM)], Timeline.steady(120))
    twice, whole = file_of([Placed(take, KIT, ROOM), Placed(take, KIT, ROOM)], Timeline.steady(120))
    assert rows_of(once) == rows_of(twice)
    removed = whole.outcome.tally.removed()
    assert sum(removed.values()) == len(whole.outcome.output_notes)


def test_ticks_that_all_files_have_in_common():
    takes = [file_take([(0, 61, 90, 10)], ppq=ppq) for ppq in (96, 480, 192)]
    assert common_ppq(takes) == 960
    assert common_ppq([*takes, file_take([(0, 61, 90, 10)], ppq=947)]) == USUAL_PPQ


@st.composite
def settings_of(draw):
    """A few placed takes of both kinds on a timeline of steps and glides, at whole ticks."""
    tempos = [TempoPoint(0, draw(st.floats(50, 200)), draw(st.booleans()))]
    tempos += [TempoPoint(b, draw(st.floats(50, 200)), draw(st.booleans())) for b in (8.0, 24.0)]
    timeline = Timeline(tuple(tempos), (MeterPoint(1, *draw(st.sampled_from([(4, 4), (3, 4), (7, 8)]))),))
    placed = []
    for _ in range(draw(st.integers(1, 4))):
        beat, follows = draw(st.integers(0, 12)), draw(st.sampled_from([BEATS, CLOCK]))
        if draw(st.booleans()):
            placed.append(Placed(kit_take(draw(st.integers(1, 40)), 1), KIT, ROOM, beat=float(beat), follows=follows))
            continue
        step = st.tuples(st.integers(0, 3000), st.sampled_from(NOTES), st.integers(1, 127), st.integers(1, 300))
        rows = draw(st.lists(step, min_size=1, max_size=12))
        channel = draw(st.sampled_from([2, 10]))
        source, target = (KIT, ROOM) if channel == 10 else (None, None)
        take = file_take(rows, ppq=draw(st.sampled_from([96, 480])), channel=channel)
        placed.append(Placed(take, source, target, beat=float(beat), follows=follows))
    return placed, timeline


@given(settings_of())
@settings(max_examples=60, deadline=None)
def test_together_is_each_alone_but_for_what_the_tally_names(case):
    placed, timeline = case
    path = with_unmapped(with_faults(PATH, False), "keep")
    ppq = common_ppq([one.take for one in placed])
    together, whole = file_of(placed, timeline, ppq, path)
    alone = Counter()
    for one in placed:
        song, _ = file_of([one], timeline, ppq, path)
        alone += rows_of(song)
    entries = whole.outcome.tally.entries
    by_tidy = entries.stage == int(Tidy.stage)
    changed = len(np.unique(entries.origin[by_tidy & (entries.action == Action.CHANGED)]))
    removed = int((by_tidy & (entries.action == Action.REMOVED)).sum())
    # What only one of the two files has is named: removed, or changed and so another row in each.
    assert sum((alone - rows_of(together)).values()) <= removed + changed
    assert sum((rows_of(together) - alone).values()) <= changed


def test_a_setting_costs_only_what_lies_behind_it():
    from puresignal.core.path.cleaning_path import StageCache

    placed = [Placed(kit_take(seed), KIT, ROOM, cache=StageCache()) for seed in (1, 2)]
    first = run_together(placed, PATH, Timeline.steady(120))
    again = run_together(placed, replace(PATH, thin=replace(PATH.thin, on=False)), Timeline.steady(120))
    assert first.outcome.output_notes.note.tolist() == again.outcome.output_notes.note.tolist()
