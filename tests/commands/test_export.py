"""`pure-signal export`: sessions whose takes come out as one file."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from puresignal import cli
from puresignal.core.export import whole_session
from puresignal.core.export.song_builder import build_song
from puresignal.core.midi.events import Meta
from puresignal.core.midi.messages import LYRIC, MARKER
from puresignal.core.path.cleaning_path import make_context, run
from puresignal.core.path.note_edits import NO_EDITS, Edit
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.vary import Vary
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import section_edits
from puresignal.core.session import session as session_edits
from puresignal.core.session.arrangement import Section
from puresignal.core.session.session import Session, with_placed, with_timeline
from puresignal.core.session.take_ref import IMPORTED, SOUND, TakeRef
from puresignal.core.session.viewing import View
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.io import midi_reader, midi_writer, session_file
from tests.core.path.test_several_takes import KIT, ROOM, file_take, kit_take, rows_of

GOLDEN = Path(__file__).parent.parent / "golden" / "version1"
DRUMS, BASS = kit_take(1, bars=4), replace(file_take([(i * 480, 40, 80, 200) for i in range(16)], channel=2), ident="b")
TAKES = {DRUMS.ident: DRUMS, BASS.ident: BASS}
SESSION = Session(
    name="Quarter Past Ferry",
    takes=(
        TakeRef(DRUMS.ident, "Drums, first evening", KIT, grid=Timeline.from_tempo_map(DRUMS.tempo), number=1),
        TakeRef(BASS.ident, "Bass line", kind=IMPORTED, number=2, channels="2."),
    ),
    display=View(DRUMS.ident), target=ROOM, numbers=2,
)  # fmt: skip


@pytest.fixture
def saved(tmp_path):
    def save(session, name="ferry"):
        path = tmp_path / f"{name}.puresignal"
        session_file.write(path, session, TAKES)
        return path

    return save


def exported(path, *more, out="out.mid"):
    target = path.parent / out
    assert cli.main(["export", str(path), "--out", str(target), *more]) == 0
    return midi_reader.parse(target.read_bytes(), target.name)


def test_two_takes_come_out_as_one_file_with_a_track_for_each_drum_and_the_bass(saved, capsys):
    song = exported(saved(SESSION))
    assert "Drums, first evening, Bass line: in" in capsys.readouterr().out
    rows = rows_of(song)
    assert sum(n for row, n in rows.items() if row[1] == 2) == 16
    assert {"Kick", "Snare"} <= {track.name for track in song.tracks}
    # The recorded take and the file have 960 and 480 ticks: the file has both.
    assert song.tempo.ppq == 960


def test_a_take_that_is_out_does_not_come_out_and_one_can_be_named(saved):
    out = with_placed(SESSION, DRUMS.ident, is_in=False)
    assert {row[1] for row in rows_of(exported(saved(out)))} == {2}
    named = exported(saved(SESSION, "b"), "--take", "Bass line", out="b.mid")
    assert {row[1] for row in rows_of(named)} == {2}


def test_a_single_take_comes_out_as_it_did_before_there_was_a_timeline(saved):
    alone = replace(SESSION, takes=SESSION.takes[:1])
    path = saved(alone)
    (take,) = (take for take in session_file.read(path).takes if take.ident == DRUMS.ident)
    context = make_context(take, KIT, ROOM, alone.path)
    before = midi_writer.to_bytes(build_song(run(take, alone.path, context), take, alone.delivery))
    exported(path)
    assert (path.parent / "out.mid").read_bytes() == before


def test_places_tempo_and_meters_are_kept_in_the_file_and_obeyed(saved):
    timeline = Timeline((TempoPoint(0, 90, True), TempoPoint(16, 120)), (MeterPoint(1, 3, 4),))
    session = with_timeline(with_placed(SESSION, BASS.ident, beat=6.0, follows="beats"), timeline)
    session = with_placed(session, DRUMS.ident, is_in=False)
    path = saved(session)
    again = session_file.read(path).session
    assert (again.timeline, again.takes[1].beat, again.takes[0].is_in) == (timeline, 6.0, False)
    song = exported(path)
    assert sorted(row[0] for row in rows_of(song)) == [(6 + i) * 480 for i in range(16)]
    assert [(m.numerator, m.denominator) for m in song.tempo.meters] == [(3, 4)]
    assert len(song.tempo.tempos) > 10


@pytest.mark.parametrize("golden", sorted(GOLDEN.glob("*.puresignal")), ids=lambda path: path.stem)
def test_a_session_of_before_has_its_chosen_take_in_alone(golden, tmp_path):
    opened = session_file.read(golden)
    notes = [ref for ref in opened.session.takes if ref.kind != SOUND]
    assert [ref.ident for ref in notes if ref.is_in] == [opened.session.current]
    assert cli.main(["export", str(golden), "--out", str(tmp_path / "out.mid")]) == 0
    take = next(take for take in opened.takes if take.ident == opened.session.current)
    ref = opened.session.take()
    context = make_context(take, ref.source, opened.session.target, opened.session.path, dict(ref.verdicts))
    outcome = run(take, opened.session.path, context)
    song = build_song(outcome, take, opened.session.delivery)
    assert (tmp_path / "out.mid").read_bytes() == midi_writer.to_bytes(song, opened.session.delivery.with_tempo)


def test_type_0_has_one_track_with_the_same_notes(saved):
    path = saved(SESSION)
    one = exported(path, "--type", "0", out="zero.mid")
    assert (one.format, len(one.tracks)) == (0, 1)
    assert rows_of(one) == rows_of(exported(path))


def test_ticks_and_tempo_as_asked_for_and_a_report_of_all_takes(saved, tmp_path):
    path = saved(SESSION)
    song = exported(path, "--ppq", "96", "--without-tempo", "--report", str(tmp_path / "r.json"))
    assert song.tempo.ppq == 96
    assert song.tempo.tempos == ()
    told = json.loads((tmp_path / "r.json").read_text())
    assert told["takes"] == ["Drums, first evening", "Bass line"]
    sums = told["sums"]
    assert sums["out"] == sums["in"] - sum(sums["removed"].values()) + sum(sums["added"].values())


def test_several_sessions_go_into_a_folder_and_a_bad_one_stops_no_other(saved, tmp_path, capsys):
    good, bad = saved(SESSION, "good"), tmp_path / "bad.puresignal"
    bad.write_bytes(b"no session")
    assert cli.main(["export", str(good), str(bad), "--out", str(tmp_path / "out")]) == 1
    assert (tmp_path / "out" / "good.mid").exists()
    assert "bad.puresignal" in capsys.readouterr().err
    # Nothing is overwritten without being asked for.
    assert cli.main(["export", str(good), "--out", str(tmp_path / "out")]) == 1


@pytest.mark.parametrize(
    ("wanted", "words"),
    [(["--take", "Nobody"], "Its takes are: Drums, first evening, Bass line"), ([], "No take of this session is in")],
)
def test_takes_that_are_not_there_or_all_out_are_told(saved, tmp_path, capsys, wanted, words):
    session = with_placed(with_placed(SESSION, DRUMS.ident, is_in=False), BASS.ident, is_in=False)
    assert cli.main(["export", str(saved(session)), "--out", str(tmp_path / "out.mid"), *wanted]) == 1
    assert words in capsys.readouterr().err


VERSE = replace(
    with_timeline(SESSION, Timeline.steady(120)),
    sections=(Section("s1", "Verse", 1, 1), Section("s2", "Chorus", 2, 1, repeats=2)),
)


def bass_of(song):
    """Beats of the bass notes."""
    track = next(track for track in song.tracks if (track.messages.status & 0x0F == 1).any())
    on = (track.messages.status == 0x91) & (track.messages.data2 > 0)
    return [round(tick / song.tempo.ppq, 2) for tick in track.messages.tick[on].tolist()]


def test_sections_are_exported_in_the_sessions_order_or_another(saved):
    # Verse, twice the chorus, then bars 3 and 4.
    assert bass_of(exported(saved(VERSE))) == pytest.approx(list(range(20)))
    song = exported(saved(VERSE), "--sections", "chorus*2,verse,chorus", out="b.mid")
    assert bass_of(song) == pytest.approx(list(range(16)))
    assert bass_of(exported(saved(VERSE), "--sections", "verse", "--rounds", "3", out="c.mid")) == pytest.approx(
        list(range(12))
    )


def test_each_section_gets_a_file_of_its_own(saved, tmp_path):
    path = saved(VERSE)
    assert cli.main(["export", str(path), "--out", str(tmp_path / "parts"), "--per-section"]) == 0
    made = sorted((tmp_path / "parts").iterdir())
    assert [one.name for one in made] == ["ferry Chorus.mid", "ferry Verse.mid"]
    for one in made:
        assert bass_of(midi_reader.parse(one.read_bytes(), one.name)) == pytest.approx([0, 1, 2, 3])


@pytest.mark.parametrize(
    ("session", "more", "said"),
    [
        (VERSE, ["--sections", "verse,bridge"], "no section called 'bridge'"),
        (VERSE, ["--sections", "verse*x"], "no part of an order"),
        (SESSION, ["--per-section"], "no sections"),
        (SESSION, ["--rounds", "2"], "not all sections"),
    ],
)
def test_an_order_that_names_what_is_not_there_says_what_is(saved, tmp_path, capsys, session, more, said):
    assert cli.main(["export", str(saved(session)), "--out", str(tmp_path / "a"), *more]) == 1
    assert said in capsys.readouterr().err


def test_rounds_draw_anew_and_the_first_is_as_it_was(saved):
    varied = replace(VERSE.path, vary=Vary(True, Scoped(20.0)))
    session = replace(VERSE, path=varied)
    song = exported(saved(session), "--sections", "verse*2")
    velocities = {}
    for track in song.tracks:
        on = (track.messages.status == 0x99) & (track.messages.data2 > 0)
        for tick, note, velocity in zip(
            track.messages.tick[on], track.messages.data1[on], track.messages.data2[on], strict=True
        ):
            velocities[round(float(tick) / song.tempo.ppq, 2), int(note)] = int(velocity)
    first = {key: v for key, v in velocities.items() if key[0] < 3.9}
    second = {(round(beat - 4, 2), note): v for (beat, note), v in velocities.items() if 4.0 <= beat < 7.9}
    both = set(first) & set(second)
    assert len(both) > 5
    assert any(first[key] != second[key] for key in both)


def words_of(song, kind=LYRIC):
    """(track, beat, text) of the texts of a file."""
    return [
        (track.name, round(meta.tick / song.tempo.ppq, 3), meta.data.decode())
        for track in song.tracks
        for meta in track.metas
        if meta.kind == kind
    ]


SUNG = session_edits.with_lyrics(SESSION, BASS.ident, {0: "Quar-", 2: "ter ", 4: "past ", 6: ""})


def test_syllables_stand_where_their_notes_leave_on_the_track_of_these(saved):
    assert words_of(exported(saved(SUNG))) == [
        ("a, channel 2", 0.0, "Quar-"), ("a, channel 2", 1.0, "ter "), ("a, channel 2", 2.0, "past "),
    ]  # fmt: skip
    # Moved with the note, dropped with the note.
    later = NO_EDITS.with_edit(np.array([2]), Edit(beats=0.5))
    moved = session_edits.with_changed(SUNG, BASS.ident, edits=later)
    moved = session_edits.with_verdicts(moved, BASS.ident, np.array([4]), Verdict(keep=False))
    assert [row[1:] for row in words_of(exported(saved(moved), out="moved.mid"))] == [(0.0, "Quar-"), (1.5, "ter ")]
    alone = replace(SUNG, takes=SUNG.takes[1:])
    assert [row[1:] for row in words_of(exported(saved(alone, "alone"), out="alone.mid"))] == [
        (0.0, "Quar-"), (1.0, "ter "), (2.0, "past "),
    ]  # fmt: skip
    again = session_file.read(saved(SUNG)).session
    assert again.takes[1].lyrics == SUNG.takes[1].lyrics
    assert session_edits.with_lyrics(SUNG, BASS.ident, {0: None}).takes[1].lyrics[0] == (2, "ter ")


def test_a_syllable_comes_again_each_time_that_its_bar_is_played(saved):
    session = replace(SUNG, sections=VERSE.sections)
    song = exported(saved(session), "--sections", "verse*2")
    beats = [row[1] for row in words_of(song)]
    assert len(beats) == 2 * len({row[2] for row in words_of(song)})
    [bass] = [track for track in song.tracks if track.name == "a, channel 2"]
    on = (bass.messages.status & 0xF0 == 0x90) & (bass.messages.data2 > 0)
    starts = {round(float(tick) / song.tempo.ppq, 3) for tick in bass.messages.tick[on]}
    assert set(beats) <= starts


def test_typed_words_replace_those_of_the_file_at_the_same_note(saved, tmp_path):
    own = replace(BASS, metas=(Meta(0, LYRIC, b"La "), Meta(480, LYRIC, b"la ")))
    path = tmp_path / "own.puresignal"
    session_file.write(path, session_edits.with_lyrics(SESSION, BASS.ident, {2: "ter "}), {**TAKES, own.ident: own})
    takes = {take.ident: take for take in session_file.read(path).takes}
    if not takes[own.ident].metas:
        takes[own.ident] = own
    session = session_file.read(path).session
    song = whole_session.song_of(session, whole_session.result(session, takes))
    assert sorted(row[1:] for row in words_of(song)) == [(0.0, "La "), (1.0, "ter ")]


def test_markers_are_written_where_their_beats_are_and_move_with_inserted_bars(saved):
    marked = session_edits.with_marker(session_edits.with_marker(SESSION, 4.0, "brakes"), 0.0, "start")
    marked = session_edits.with_timeline(marked, Timeline.steady(100))
    assert [row[1:] for row in words_of(exported(saved(marked)), MARKER)] == [(0.0, "start"), (4.0, "brakes")]
    assert session_file.read(saved(marked)).session.markers == ((0.0, "start"), (4.0, "brakes"))
    timeline = marked.timeline

    def placed_of(session, ref):
        return whole_session.placed_take(session, ref, TAKES, timeline)

    longer = section_edits.inserted(marked, 2, 3, timeline, placed_of)
    assert longer.markers == ((0.0, "start"), (16.0, "brakes"))
    assert session_edits.with_marker(marked, 4.0, " ").markers == ((0.0, "start"),)
    assert session_edits.with_marker(marked, 6.0, "brakes", before=4.0).markers == ((0.0, "start"), (6.0, "brakes"))
