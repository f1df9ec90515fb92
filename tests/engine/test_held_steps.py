"""The generator on held keys: on its steps to the frame, in a loop, through changes of tempo, every note ended."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from puresignal.core.generators import held_pattern, making
from puresignal.core.generators.made_notes import MadeNotes
from puresignal.core.generators.recipe import (
    AS_HELD,
    DOWN,
    FIFTHS,
    ROOTS,
    UP,
    UP_DOWN,
    WALKING,
    Arpeggio,
    BassLine,
    ChordProgression,
    DrumPattern,
)
from puresignal.core.session import session as edits
from puresignal.core.session.held_generator import HeldGenerator
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.timing.beat_table import BeatTable
from puresignal.engine import ring
from puresignal.engine.player import Player
from puresignal.engine.ring import Reader
from puresignal.engine.session_setup import held_keys, setup_of
from puresignal.engine.shared_counters import SharedCounters, make
from puresignal.io import ports, session_file

RATE = 48_000
HATS = DrumPattern(hats=16, kicks=0, snares=0, ghosts=0.0, fill=0)
PLAIN = Arpeggio(rate="1/8", gate=50.0, accent=0)


class Rig:
    """A player without processes; keys are 0 and notes 1."""

    def __init__(self, recipe, beats=None):
        memory = ring.make()
        self.reader = Reader(memory)
        self.player = Player(ring.Writer(memory), SharedCounters(make()))
        self.player.endless = True
        if beats is not None:
            self.player.beats = beats
        self.player.held.set_up(0, 1, 3, recipe)
        self.frame, self.rows = 0, []

    def press(self, *notes, velocity=90):
        self.player.held.hear([(0.0, 0, bytes((0x90, note, velocity))) for note in notes])

    def release(self, *notes):
        self.player.held.hear([(0.0, 0, bytes((0x80, note, 64))) for note in notes])

    def run(self, seconds, block=256):
        end = self.frame + round(seconds * RATE)
        while self.frame < end:
            self.player.hand_over(self.frame, block)
            self.frame += block
        self.rows += [(round(r.at), r.port, r.data) for r in self.reader.read()]

    def notes(self):
        return [(at, data[1], data[2]) for at, output, data in self.rows if output == 1 and data[0] == 0x92]

    def ends(self):
        return [(at, data[1]) for at, output, data in self.rows if output == 1 and data[0] == 0x82]


@pytest.mark.parametrize(
    ("order", "wanted"),
    [(UP, [60, 64, 67, 60]), (DOWN, [67, 64, 60, 67]), (UP_DOWN, [60, 64, 67, 64, 60]), (AS_HELD, [60, 64, 67] * 2)],
)
def test_held_keys_play_on_the_steps_to_the_frame_and_every_note_ends(order, wanted):
    rig = Rig(replace(PLAIN, order=order))
    rig.player.play(0.0, 0, RATE)
    rig.press(67, 60, 64)
    rig.run(1.6)
    rig.release(60, 64, 67)
    rig.run(0.6)
    notes = rig.notes()
    assert [note for _, note, _ in notes][: len(wanted)] == wanted
    begins = rig.player._origin_frame
    # At 120, an eighth is a quarter of a second.
    assert {(at - begins) % 12_000 for at, _, _ in notes} == {0}
    assert all(velocity == 90 for _, _, velocity in notes)
    assert sorted((at + 6000, note) for at, note, _ in notes) == sorted(rig.ends())
    assert max(at for at, _, _ in notes) < begins + 2 * RATE


def test_steps_are_those_of_the_generator_that_listens_to_the_take():
    recipe = replace(PLAIN, order=UP, octaves=2, accent=3, swing=62.0)
    rig = Rig(recipe)
    rig.player.play(0.0, 0, RATE)
    rig.press(60, 64, 67)
    rig.run(3.99 - 0.02)
    heard = MadeNotes.of(np.zeros(3), 8.0, np.array([60, 64, 67]), 90)
    made = making.made(replace(recipe, source="t", bars=2), 4.0, "", heard)
    begins = rig.player._origin_frame
    live = [(round((at - begins) / RATE * 2, 3), note, velocity) for at, note, velocity in rig.notes()]
    after = list(zip(made.beat.round(3).tolist(), made.note.tolist(), made.velocity.astype(int).tolist(), strict=True))
    assert [row[1:] for row in live[:12]] == [row[1:] for row in after[:12]]
    assert [row[0] for row in live[:12]] == pytest.approx([row[0] for row in after[:12]], abs=0.002)


@pytest.mark.parametrize("recipe", [PLAIN, BassLine(rate="1/8", rests=0.0), HATS])
def test_ten_minutes_through_changes_of_tempo_are_on_their_frames(recipe):
    # Quarters at 120, then slower by and by, then twice as fast.
    lengths = np.concatenate([np.full(200, 0.5), np.linspace(0.5, 1.0, 300), np.full(900, 0.25)])
    seconds = np.concatenate([[0.0], np.cumsum(lengths)])
    beats = BeatTable(np.arange(len(seconds), dtype=float).tolist(), seconds.tolist())
    rig = Rig(recipe, beats)
    rig.player.play(0.0, 0, RATE)
    rig.press(60, 64)
    rig.run(540.0, 1024)
    begins = rig.player._origin_frame
    step = 0.25 if isinstance(recipe, DrumPattern) else 0.5
    wanted = [begins + round(beats.second_of(k * step) * RATE) for k in range(len(rig.notes()))]
    assert len(wanted) > 1500
    assert np.abs(np.array([at for at, _, _ in rig.notes()]) - wanted).max() <= 1


def test_a_loop_begins_the_steps_anew_and_nothing_is_played_where_nothing_is_held():
    rig = Rig(PLAIN)
    rig.player.loop((0.0, 1.0))
    rig.player.play(0.0, 0, RATE)
    rig.run(0.5)
    assert rig.notes() == []
    rig.press(60)
    rig.run(3.0)
    places = [(at - rig.notes()[0][0]) % 12_000 for at, _, _ in rig.notes()]
    assert set(places) <= {0, 1, 11_999}
    assert len(rig.notes()) >= 11
    rig.player.held.hear([(0.0, 0, bytes((0xB0, 123, 0)))])
    before = len(rig.notes())
    rig.run(1.0)
    assert len(rig.notes()) <= before + 1


def test_the_session_says_where_keys_come_from_and_notes_go():
    session = Session(inputs=(LiveInput(ports.KEYBOARD, output=ports.HELD),))
    session = edits.with_held(session, HeldGenerator(replace(PLAIN, channel=5), ports.RECEIVER))
    outputs = setup_of(session).outputs
    told = held_keys(session, outputs)
    assert outputs[told["from"]] == ports.HELD
    assert outputs[told["to"]] == ports.RECEIVER
    assert told["channel"] == 5
    opened = session_file.parse(session_file.to_bytes(session, {}), "s").session
    assert opened.held == session.held
    assert held_keys(Session(), ("Built-in sound",)) is None
    # What would lead back into itself goes to the built-in sound.
    around = edits.with_held(session, HeldGenerator(PLAIN, ports.HELD))
    assert setup_of(around).outputs == (ports.HELD, ports.SOUND)


def test_a_pattern_rests_and_repeats_the_same_for_the_same_number():
    recipe = replace(PLAIN, rests=50.0, order="random", octaves=3)
    rows = []
    for _ in range(2):
        pattern = held_pattern.of_recipe(recipe, 4.0)
        pattern.press(60, 80)
        pattern.press(67, 100)
        rows.append([tuple(pattern.at(place)) for place in range(200)])
    assert rows[0] == rows[1]
    silent = sum(not row for row in rows[0])
    assert 70 < silent < 130


@pytest.mark.parametrize(
    ("way", "wanted"),
    [(ROOTS, [36, 36, 36, 36]), (FIFTHS, [36, 36, 43, 36]), (WALKING, [36, 40, 43, 40, 36])],
)
def test_a_bass_plays_under_the_held_keys_and_begins_anew_with_others(way, wanted):
    rig = Rig(BassLine(way=way, rate="1/4", rests=0.0, low=33))
    rig.player.play(0.0, 0, RATE)
    rig.press(67, 60, 64)
    rig.run(2.4)
    rig.release(67, 60, 64)
    rig.press(62, 65, 69)
    rig.run(0.6)
    begins = rig.player._origin_frame
    notes = [(at - begins, note) for at, note, _ in rig.notes()]
    assert [note for _, note in notes][: len(wanted)] == wanted
    assert {at % 24_000 for at, _ in notes} == {0}
    # The first beat under the other chord has its root.
    assert notes[5] == (5 * 24_000, 38)
    rig.release(62, 65, 69)
    rig.run(1.0)
    assert sorted(note for _, note in rig.ends()) == sorted(note for _, note in notes)


def test_drums_play_while_a_key_is_held_as_their_recipe_says_and_as_loud_as_it_is_struck():
    recipe = DrumPattern(kicks=4, snares=2, hats=8, off=0.0, ghosts=0.0, fill=0, bars=2)
    made = making.made(recipe, 4.0)
    loud = {}
    for velocity in (90, 45):
        rig = Rig(recipe)
        rig.player.play(0.0, 0, RATE)
        rig.press(48, velocity=velocity)
        rig.run(3.98)
        begins = rig.player._origin_frame
        got = sorted((round((at - begins) / RATE * 2, 2), note) for at, note, _ in rig.notes())
        assert got == sorted(zip(made.beat.round(2).tolist(), made.note.tolist(), strict=True))
        loud[velocity] = [v for *_, v in sorted(rig.notes())]
    assert np.allclose(np.array(loud[45]) * 2, loud[90], atol=1.5)
    rig.release(48)
    rig.run(1.0)
    assert len(rig.ends()) == len(rig.notes())


def test_a_progression_follows_the_key_that_is_held():
    recipe = ChordProgression(key="C major", far=0.0, sevenths=0.0, bars=4, every="1/4")
    chords = {}
    for key in (60, 65):
        rig = Rig(recipe)
        rig.player.play(0.0, 0, RATE)
        rig.press(key)
        rig.run(1.98)
        chords[key] = [note for _, note, _ in rig.notes()]
    assert len(chords[60]) >= 12
    assert chords[65] == [note + 5 for note in chords[60]]
    # Long chords overlap their next stroke: each note still ends once.
    rig.release(65)
    rig.run(3.0)
    assert sorted(n for _, n in rig.ends()) == sorted(n for _, n, _ in rig.notes())


def test_another_kind_takes_over_while_it_plays_and_ends_what_sounded():
    rig = Rig(replace(PLAIN, gate=100.0))
    rig.player.play(0.0, 0, RATE)
    rig.press(60, 64)
    rig.run(1.1)
    rig.player.held.set_up(0, 1, 3, BassLine(way=ROOTS, rate="1/4", rests=0.0))
    rig.run(1.0)
    notes = rig.notes()
    begins = rig.player._origin_frame
    assert {note for at, note, _ in notes if at - begins > 1.1 * RATE} == {36}
    rig.release(60, 64)
    rig.run(1.0)
    assert sorted(n for _, n in rig.ends()) == sorted(n for _, n, _ in notes)


@pytest.mark.parametrize("recipe", [BassLine(low=30), DrumPattern(hats=4), ChordProgression(far=40.0)])
def test_every_live_kind_is_kept_with_the_session(recipe):
    session = edits.with_held(Session(), HeldGenerator(recipe, ports.RECEIVER))
    opened = session_file.parse(session_file.to_bytes(session, {}), "s").session
    assert opened.held == session.held


def test_the_port_under_its_former_name_is_still_this_one():
    session = Session(inputs=(LiveInput(ports.KEYBOARD, output="Arpeggio of held keys"),))
    opened = session_file.parse(session_file.to_bytes(session, {}), "s").session
    assert opened.inputs[0].output == ports.HELD
