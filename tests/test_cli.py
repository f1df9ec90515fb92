"""The commands as a script calls them: exit codes, files, messages."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import time
from pathlib import Path

import mido
import numpy as np
import pytest

from puresignal.io import midi_reader, note_map_file

MAPS = ("--source-map", "practice-five", "--target-map", "general-midi")


def pure_signal(*arguments: object, cwd: Path | None = None, env: dict | None = None) -> subprocess.CompletedProcess:
    command = [sys.executable, "-m", "puresignal.cli", *map(str, arguments)]
    return subprocess.run(
        command, capture_output=True, text=True, cwd=cwd, env={**os.environ, **(env or {})}, timeout=120, check=False
    )


def test_clean_writes_a_named_track_for_each_drum_and_mido_reads_it(kit_file, tmp_path):
    out, report = tmp_path / "clean.mid", tmp_path / "report.json"
    done = pure_signal("clean", kit_file, "--out", out, *MAPS, "--report", report)
    assert done.returncode == 0, done.stderr
    song = mido.MidiFile(out)
    assert song.type == 1
    names = [track.name for track in song.tracks]
    assert names[:4] == ["rehearsal", "Kick", "Snare", "Hi-hat"]
    told = json.loads(report.read_text())
    sums = told["sums"]
    assert sums["in"] == sums["out"] + sum(sums["removed"].values()) - sum(sums["added"].values())
    ons = [m for track in song.tracks for m in track if m.type == "note_on" and m.velocity]
    assert len(ons) == sums["out"]
    assert {m.channel for m in ons} == {9}
    known = {p.note for p in note_map_file.shipped("general-midi").pads}
    assert {m.note for m in ons} <= known
    removed = [row for row in told["notes"] if row["what"] == "removed"]
    assert len(removed) == sum(sums["removed"].values())
    assert set(removed[0]) == {"time", "channel", "note", "velocity", "what", "reason", "confidence"}


def test_every_kept_hit_keeps_its_own_tick_and_velocity(kit_file, tmp_path):
    out = tmp_path / "clean.mid"
    pure_signal("clean", kit_file, "--out", out, *MAPS, "--faults", "keep", "--unmapped", "keep")

    def hits(path):
        song = midi_reader.read(path)
        found = []
        for track in song.tracks:
            m = track.messages
            on = ((m.status & 0xF0) == 0x90) & (m.data2 > 0)
            found += zip(m.tick[on].tolist(), m.data2[on].tolist(), strict=True)
        return sorted(found)

    assert hits(out) == hits(kit_file)
    assert midi_reader.read(out).tempo == midi_reader.read(kit_file).tempo


def test_unmapped_hits_are_counted_and_dropped_or_kept(kit_file, tmp_path):
    few = tmp_path / "few.json"
    kit = json.loads((Path(note_map_file.__file__).parent.parent / "maps" / "practice-five.json").read_text())
    kit["pads"] = [p for p in kit["pads"] if p["note"] != 61]
    few.write_text(json.dumps(kit))
    report = tmp_path / "r.json"
    maps = ("--source-map", few, "--target-map", "general-midi")
    done = pure_signal("clean", kit_file, "--out", tmp_path / "a.mid", *maps, "--report", report)
    told = json.loads(report.read_text())
    assert [row["note"] for row in told["unmapped"]] == [61]
    assert told["unmapped"][0]["count"] == told["sums"]["removed"]["unmapped"]
    assert "unmapped" in done.stderr
    pure_signal("clean", kit_file, "--out", tmp_path / "b.mid", *maps, "--unmapped", "keep")
    kept = [t for t in midi_reader.read(tmp_path / "b.mid").tracks if t.name == "Unmapped"]
    assert np.unique(kept[0].messages.data1).tolist() == [61]


def test_a_folder_becomes_a_folder_and_one_bad_file_does_not_stop_the_others(kit_file, tmp_path):
    songs = tmp_path / "songs"
    songs.mkdir()
    for name in ("a.mid", "b.MID"):
        (songs / name).write_bytes(kit_file.read_bytes())
    (songs / "c.mid").write_bytes(b"not music")
    out, report = tmp_path / "out", tmp_path / "r.json"
    done = pure_signal("clean", songs, "--out", out, *MAPS, "--report", report)
    assert done.returncode == 1
    assert sorted(p.name for p in out.iterdir()) == ["a.mid", "b.mid"]
    assert "c.mid" in done.stderr
    told = json.loads(report.read_text())
    assert told["sums"]["in"] == 2 * told["files"][0]["sums"]["in"]
    assert {row["file"] for row in told["notes"]} == {str(songs / "a.mid"), str(songs / "b.MID")}


def test_nothing_is_overwritten_without_force_and_never_what_was_played(kit_file, tmp_path):
    out = tmp_path / "clean.mid"
    out.write_text("mine")
    done = pure_signal("clean", kit_file, "--out", out, *MAPS)
    assert (done.returncode, out.read_text()) == (1, "mine")
    assert pure_signal("clean", kit_file, "--out", out, *MAPS, "--force").returncode == 0
    assert out.read_bytes()[:4] == b"MThd"
    copy = tmp_path / "copy.mid"
    copy.write_bytes(kit_file.read_bytes())
    done = pure_signal("clean", copy, "--out", copy, *MAPS, "--force")
    assert done.returncode == 1
    assert copy.read_bytes() == kit_file.read_bytes()


@pytest.mark.parametrize("what", ["--report", "--summary"])
def test_a_report_never_overwrites_input_or_result(kit_file, tmp_path, what):
    played, out = kit_file.read_bytes(), tmp_path / "clean.mid"
    for wrong in (kit_file, out):
        done = pure_signal("clean", kit_file, "--out", out, *MAPS, what, wrong, "--force")
        assert done.returncode == 1
        assert done.stderr.startswith("pure-signal: ")
        assert kit_file.read_bytes() == played
        assert not out.exists()


EMPTY = bytes.fromhex("4d546864000000060000000101e0 4d54726b00000004 00ff2f00")


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("none.mid", None, "no such file"), ("letter.mid", b"Dear all,", "not a MIDI file"),
        ("empty.mid", EMPTY, "no note"), ("nothing.mid", b"", "empty"),
    ],
)  # fmt: skip
def test_bad_input_is_one_line_that_says_what_where_and_what_to_do(tmp_path, name, content, message):
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    done = pure_signal("clean", path, "--out", tmp_path / "o.mid", *MAPS)
    assert done.returncode == 1
    assert len(done.stderr.strip().splitlines()) == 1
    assert message in done.stderr
    assert name in done.stderr
    assert not (tmp_path / "o.mid").exists()


def test_a_folder_without_midi_files_says_so(tmp_path):
    done = pure_signal("clean", tmp_path, "--out", tmp_path / "out", *MAPS)
    assert done.returncode == 1
    assert "no MIDI file in this folder" in done.stderr


@pytest.mark.parametrize(
    ("maps", "message"),
    [
        (("--source-map", "nobody", "--target-map", "general-midi"), "nobody"),
        (("--source-map", "bad.json", "--target-map", "general-midi"), "bad.json, line 1"),
        (("--source-map", "twice.json", "--target-map", "general-midi"), "both kick and aux1"),
    ],
)
def test_wrong_maps_are_named(kit_file, tmp_path, maps, message):
    (tmp_path / "bad.json").write_text("{ not json")
    twice = {"format": "pure-signal/note-map", "version": 1, "name": "x"}
    twice["pads"] = [{"articulation": "kick", "note": 36}, {"articulation": "aux1", "note": 36}]
    (tmp_path / "twice.json").write_text(json.dumps(twice))
    done = pure_signal("clean", kit_file, "--out", "o.mid", *maps, cwd=tmp_path)
    assert done.returncode == 1
    assert message in done.stderr
    assert "Traceback" not in done.stderr


def test_settings_change_the_result_and_wrong_ones_are_named(kit_file, tmp_path):
    settings = tmp_path / "s.json"
    settings.write_text(json.dumps({"format": "pure-signal/settings", "version": 1, "split": {"by": "one"},
                                    "doubles": {"on": False}}))  # fmt: skip
    done = pure_signal("clean", kit_file, "--out", tmp_path / "o.mid", *MAPS, "--settings", settings)
    assert done.returncode == 0
    assert [t.name for t in midi_reader.read(tmp_path / "o.mid").tracks] == ["rehearsal", "Drums"]
    assert "double" not in done.stdout
    settings.write_text(json.dumps({"format": "pure-signal/settings", "version": 1, "doubles": {"window_ms": -3}}))
    done = pure_signal("clean", kit_file, "--out", tmp_path / "p.mid", *MAPS, "--settings", settings)
    assert done.returncode == 1
    assert "doubles.window_ms" in done.stderr


@pytest.mark.parametrize(
    "arguments", [("clean",), ("clean", "x.mid"), ("claen", "x.mid"), ("clean", "--nonsense"), ("maps", "x")]
)
def test_wrong_usage_is_2(arguments):
    assert pure_signal(*arguments).returncode == 2


def test_the_result_can_be_standard_output_and_the_input_standard_input(kit_file, tmp_path):
    out = tmp_path / "clean.mid"
    assert pure_signal("clean", kit_file, "--out", out, *MAPS).returncode == 0
    command = [sys.executable, "-m", "puresignal.cli", "clean", "-", "--out", "-", *MAPS]
    done = subprocess.run(command, input=kit_file.read_bytes(), capture_output=True, check=True, cwd=tmp_path)
    ons = [m for track in mido.MidiFile(file=io.BytesIO(done.stdout)).tracks for m in track if m.type == "note_on"]
    assert ons == [m for track in mido.MidiFile(out).tracks for m in track if m.type == "note_on"]
    assert b"-: in " in done.stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["clean.mid"]


def test_a_full_standard_output_is_one_line(kit_file, tmp_path):
    command = [sys.executable, "-m", "puresignal.cli", "clean", str(kit_file), "--out", str(tmp_path / "o.mid"), *MAPS]
    with open("/dev/full", "w") as full:
        done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True)
    assert done.returncode == 1
    assert done.stderr.splitlines()[-1] == "pure-signal: standard output: No space left on device"
    assert "Traceback" not in done.stderr


def test_a_mistyped_folder_is_not_made(kit_file, tmp_path):
    for out in (tmp_path / "resluts" / "o.mid", f"{tmp_path}/resluts/deeper/"):
        done = pure_signal("clean", kit_file, "--out", out, *MAPS)
        assert done.returncode == 1
        assert "There is no such folder" in done.stderr
    assert list(tmp_path.iterdir()) == []


def test_an_option_that_is_given_wins_over_the_settings_file(kit_file, tmp_path):
    settings = tmp_path / "s.json"
    off = {"doubles.on": False, "crosstalk.on": False, "ends.repair": False}
    settings.write_text(json.dumps({"format": "pure-signal/settings", "version": 1, **off}))
    kept = pure_signal("clean", kit_file, "--out", tmp_path / "a.mid", *MAPS, "--settings", settings)
    assert "double" not in kept.stdout
    done = pure_signal("clean", kit_file, "--out", tmp_path / "b.mid", *MAPS, "--settings", settings,
                       "--faults", "remove")  # fmt: skip
    assert "double" in done.stdout


def test_mistyped_commands_and_maps_are_guessed(kit_file, tmp_path):
    done = pure_signal("transcirbe", "a.wav")
    assert (done.returncode, "Did you mean “transcribe”" in done.stderr) == (2, True)
    done = pure_signal("clean", kit_file, "--out", tmp_path / "o.mid", "--source-map", "practise-five")
    assert (done.returncode, "Did you mean “practice-five”" in done.stderr) == (1, True)


def test_kept_maps_go_by_name_and_the_source_map_is_found_from_the_hits(kit_file, tmp_path):
    home = {"XDG_DATA_HOME": str(tmp_path / "data")}
    maps = tmp_path / "data" / "pure-signal" / "maps"
    maps.mkdir(parents=True)
    kit = json.loads((Path(note_map_file.__file__).parent.parent / "maps" / "practice-five.json").read_text())
    (maps / "cellar.json").write_text(json.dumps({**kit, "name": "Cellar kit"}))
    done = pure_signal("clean", kit_file, "--out", tmp_path / "a.mid", "--source-map", "cellar kit",
                       "--target-map", "general-midi", env=home)  # fmt: skip
    assert done.returncode == 0, done.stderr
    found = pure_signal("clean", kit_file, "--out", tmp_path / "b.mid", "--target-map", "general-midi")
    assert "source map Five-piece practice kit" in found.stderr
    assert (tmp_path / "a.mid").read_bytes() == (tmp_path / "b.mid").read_bytes()
    unchanged = pure_signal("clean", kit_file, "--out", tmp_path / "c.mid", "--source-map", "practice-five")
    assert unchanged.returncode == 0
    notes = {m.note for track in mido.MidiFile(tmp_path / "c.mid").tracks for m in track if m.type == "note_on"}
    assert notes <= {p["note"] for p in kit["pads"]}


def test_sub_folders_are_walked_and_kept(kit_file, tmp_path):
    songs = tmp_path / "songs"
    for place in ("a", "b/deeper"):
        (songs / place).mkdir(parents=True)
        (songs / place / "take.mid").write_bytes(kit_file.read_bytes())
    out = songs / "clean"
    for _ in range(2):
        done = pure_signal("clean", songs, "--out", out, *MAPS, "--force")
        assert done.returncode == 0, done.stderr
        made = sorted(str(p.relative_to(out)) for p in out.rglob("*.mid"))
        assert made == ["a/take.mid", "b/deeper/take.mid"]


def test_help_lists_every_setting():
    told = pure_signal("clean", "--help").stdout
    assert "doubles.window_ms = 90  (0 to 500 ms)" in told


def test_maps_are_listed_for_people_and_scripts():
    rows = json.loads(pure_signal("maps", "--json").stdout)
    assert rows[0]["id"] == "general-midi"
    assert {r["id"] for r in rows} == set(note_map_file.shipped_ids())
    assert "Harbour mesh kit" in pure_signal("maps").stdout


def test_without_a_display_the_window_says_so_and_the_demo_renders_pictures(tmp_path):
    bare = {"DISPLAY": "", "WAYLAND_DISPLAY": "", "QT_QPA_PLATFORM": ""}
    done = pure_signal(env=bare)
    assert done.returncode == 1
    assert "no display" in done.stderr
    done = pure_signal("demo", cwd=tmp_path, env=bare)
    assert done.returncode == 0
    assert "no display" in done.stdout
    assert {"inputs.png", "takes.png", "outputs.png"} <= {p.name for p in (tmp_path / "shots").iterdir()}


def test_a_file_that_cannot_be_opened_is_also_reported_in_the_terminal(tmp_path):
    (tmp_path / "x.mid").write_bytes(b"no")
    for name in ("gone.mid", "x.mid"):
        done = pure_signal(tmp_path / name, env={"QT_QPA_PLATFORM": "offscreen"})
        assert done.returncode == 1
        assert name in done.stderr


def test_a_summary_is_a_page_with_a_section_for_each_file(kit_file, tmp_path):
    second = tmp_path / "in" / "second.mid"
    second.parent.mkdir()
    second.write_bytes(kit_file.read_bytes())
    page = tmp_path / "done.html"
    done = pure_signal("clean", kit_file, second, "--out", tmp_path / "out/", *MAPS, "--summary", page)
    assert done.returncode == 0, done.stderr
    text = page.read_text("utf-8")
    assert text.count("<section>") == 2
    assert "<h1>second</h1>" in text
    again = pure_signal("clean", kit_file, "--out", tmp_path / "b.mid", *MAPS, "--summary", page)
    assert again.returncode == 1
    assert "done.html" in again.stderr
    assert not (tmp_path / "b.mid").exists()


# Names and streams from outside


def test_names_of_any_bytes_are_cleaned_and_printed_as_escapes(kit_file, tmp_path):
    folder = tmp_path / "songs"
    folder.mkdir()
    names = [b"caf\xe9.mid", b"new\nline\x1b[2J.mid", b"plain.mid", b"n" * 251 + b".mid"]
    for name in names:
        (Path(os.fsdecode(os.fsencode(folder) + b"/" + name))).write_bytes(kit_file.read_bytes())
    report, page = tmp_path / "r.json", tmp_path / "s.html"
    done = pure_signal("clean", folder, "--out", f"{tmp_path}/done/", *MAPS, "--report", report, "--summary", page)
    assert done.returncode == 0, done.stderr
    assert sorted(os.listdir(os.fsencode(tmp_path / "done"))) == sorted(names)
    assert "caf\\xe9.mid" in done.stdout
    assert "new\\nline\\x1b[2J.mid" in done.stdout
    assert "\x1b" not in done.stdout + done.stderr
    assert len(json.loads(report.read_text())["files"]) == 4


def test_closed_streams_empty_names_and_no_home(kit_file, tmp_path):
    command = f"exec {sys.executable} -m puresignal.cli clean {kit_file} --out - {' '.join(MAPS)} 2>&-"
    done = subprocess.run(["sh", "-c", command], capture_output=True, check=False)
    assert done.returncode == 0
    assert done.stdout[:4] == b"MThd"
    assert mido.MidiFile(file=io.BytesIO(done.stdout)).tracks
    done = pure_signal("clean", "", "--out", tmp_path / "x.mid")
    assert done.returncode == 2
    assert "the name is empty" in done.stderr
    bare = {"PATH": os.environ["PATH"]}
    command = [sys.executable, "-m", "puresignal.cli", "clean", str(kit_file), "--out", str(tmp_path / "x.mid"), *MAPS]
    done = subprocess.run(command, capture_output=True, text=True, env=bare, check=False)
    assert done.returncode == 0, done.stderr


def test_pipes_and_devices_are_refused_as_inputs_and_outputs(kit_file, tmp_path):
    pipe = tmp_path / "pipe.mid"
    os.mkfifo(pipe)
    done = pure_signal("clean", pipe, "--out", tmp_path / "x.mid", *MAPS)
    assert done.returncode == 1
    assert "pipe or a device" in done.stderr
    for option in ("--out", "--report"):
        arguments = {"--out": tmp_path / "y.mid", option: "/dev/null"}
        done = pure_signal("clean", kit_file, *(x for pair in arguments.items() for x in pair), *MAPS, "--force")
        assert "pipe or a device" in done.stderr
        assert Path("/dev/null").is_char_device()


UNPRIVILEGED = ("setpriv", "--bounding-set=-dac_override,-dac_read_search") if os.geteuid() == 0 else ()
"""Runs a command without root's right to ignore permissions."""


@pytest.fixture
def locked(tmp_path, kit_file):
    """A folder that nobody may enter."""
    folder = tmp_path / "locked"
    folder.mkdir()
    (folder / "a.mid").write_bytes(kit_file.read_bytes())
    folder.chmod(0)
    yield folder
    folder.chmod(0o700)


def unprivileged(*arguments, **env):
    command = [*UNPRIVILEGED, sys.executable, "-m", "puresignal.cli", *map(str, arguments)]
    return subprocess.run(
        command, capture_output=True, text=True, env={**os.environ, **{k: str(v) for k, v in env.items()}}, check=False
    )


def test_what_may_not_be_read_or_written_is_said_in_one_line(locked, kit_file, tmp_path):
    out = tmp_path / "out.mid"
    wrong = [
        (locked / "a.mid", "--out", out),
        (locked, "--out", f"{tmp_path}/done/"),
        (kit_file, "--out", locked / "b.mid"),
        (kit_file, "--out", f"{locked}/"),
        (kit_file, "--out", out, "--report", locked / "r.json"),
        (kit_file, "--out", out, "--settings", locked / "s.json"),
        (kit_file, "--out", out, "--source-map", locked / "m.json"),
    ]
    for arguments in wrong:
        done = unprivileged("clean", *arguments)
        assert done.returncode == 1
        assert "You have no permission" in done.stderr
        assert len(done.stderr.splitlines()) == 1, done.stderr


def test_folders_of_its_own_that_may_not_be_used_keep_nothing_from_working(locked, kit_file, tmp_path):
    own = dict.fromkeys(("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"), locked)
    done = unprivileged("clean", kit_file, "--out", tmp_path / "out.mid", **own)
    assert done.returncode == 0, done.stderr
    command = [*UNPRIVILEGED, sys.executable, "-m", "puresignal.cli", "demo", "--shots", str(tmp_path / "shots")]
    env = os.environ | {name: str(where) for name, where in own.items()}
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, env=env) as started:
        # The first views are enough: all of them take long.
        end = time.monotonic() + 60
        while started.poll() is None and not (tmp_path / "shots" / "takes.png").exists() and time.monotonic() < end:
            time.sleep(0.1)
        started.kill()
        said = started.stderr.read()
    assert "Traceback" not in said
    assert (tmp_path / "shots" / "takes.png").exists(), said
