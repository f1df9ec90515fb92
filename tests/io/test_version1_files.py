"""Files written by version 0.1.0, before its modules and settings were renamed, still open and mean the same.

`tests/golden/version1` holds one of each kind, and the MIDI file and sums that the same version made of the session.
"""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from puresignal.core.export.song_builder import build_song
from puresignal.core.kit import note_map
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import make_context, run
from puresignal.core.session.take_ref import SOUND
from puresignal.io import journal, json_file, midi_writer, preferences, report, session_file, work_folder

OLD = Path(__file__).parent.parent / "golden" / "version1"


def exported(session, takes):
    ref = session.take()
    take = takes[ref.ident]
    context = make_context(take, ref.source, session.target, session.path, dict(ref.verdicts))
    outcome = run(take, session.path, context)
    return midi_writer.to_bytes(build_song(outcome, take, session.delivery)), report.sums(outcome)


def test_a_session_opens_and_exports_the_same_bytes():
    opened = session_file.read(OLD / "second-evening.puresignal")
    assert opened.notice is None
    session = opened.session
    assert session.name == "Quarter Past Ferry, second evening"
    assert [(take.name, take.is_in) for take in session.takes] == [
        ("Quarter Past Ferry, once through", False),
        ("Second evening", True),
        ("Bass sketch", False),
        ("ferry-bass.wav", True),
    ]
    assert session.takes[-1].kind == SOUND
    assert [one.port for one in session.inputs] == ["practice kit", "ferry keys"]
    assert session.backing is not None
    assert session.backing.offset == 0.25
    assert session.sound.level == 0.5
    assert session.sound.drum("snare").tune == 1.0
    content, sums = exported(session, {take.ident: take for take in opened.takes})
    assert content == (OLD / "second-evening.mid").read_bytes()
    former = json.loads((OLD / "second-evening-sums.json").read_text())
    # What is varied was counted as that alone; varying is a stage of its own now, behind the shapes.
    former["changed"]["shaped"] += former["changed"]["varied"]
    assert sums == former


def test_unsaved_work_is_offered_and_exports_the_same_bytes(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    shutil.copytree(OLD / "work", tmp_path / "pure-signal" / "work")
    [leftover] = work_folder.leftovers()
    assert leftover.name == "Quarter Past Ferry, second evening"
    opened = work_folder.recover(leftover)
    content, _ = exported(opened.session, {take.ident: take for take in opened.takes})
    assert content == (OLD / "second-evening.mid").read_bytes()


def test_settings_mean_the_same():
    opened = settings_json.from_json(json_file.read(OLD / "settings.json", "settings"), "settings.json")
    assert opened == session_file.read(OLD / "second-evening.puresignal").session.path
    assert opened.doubles.window_ms == 45.0
    assert opened.crosstalk.kit_model is not None
    assert settings_json.from_json(settings_json.to_json(opened), "again") == opened


def test_a_note_map_opens():
    source = note_map.from_json(json_file.read(OLD / "practice-five.json", "note map"), "practice-five.json")
    session = session_file.read(OLD / "second-evening.puresignal").session
    assert source == session.take("take2").source


def test_a_journal_becomes_a_take():
    inputs, rows = journal.read([OLD / "journal" / "00000001.journal"])
    assert inputs == ("practice kit", "ferry keys")
    assert len(rows) == 201
    assert rows[-1][2] == b"\xf0\x7e\x01\xf7"
    assert rows[0][0] == pytest.approx(100, abs=2)


def test_preferences_are_kept(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    (tmp_path / "pure-signal").mkdir()
    shutil.copy(OLD / "preferences.json", tmp_path / "pure-signal")
    kept = preferences.read()
    assert (kept.theme, kept.recent, kept.geometry) == ("dim", ("/music/ferry.puresignal",), b"geometry")
    assert (kept.keyboard.mode, kept.keyboard.scale, kept.keyboard.randomness) == ("scale", "minor", 12)
    assert (kept.sound.rate, kept.sound.block) == (44_100, 512)
