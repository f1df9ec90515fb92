"""The transcribe command on real files: every format, every kind, and everything that can go wrong."""

from __future__ import annotations

import json

import mido
import numpy as np
import pytest
import soundfile

from puresignal.commands import transcribe
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.percussion import stroke_features
from puresignal.io import audio_source
from puresignal.sim import beatbox, instrument_synthesis, random_kits, singer
from tests.test_cli import pure_signal

LINE = [(0.3, 0.7, 60, 0.8), (0.75, 1.1, 63, 0.7), (1.15, 1.6, 65, 0.9), (1.9, 2.3, 67, 0.5)]


@pytest.fixture(scope="module")
def tune(tmp_path_factory):
    path = tmp_path_factory.mktemp("tune") / "ferry.wav"
    soundfile.write(path, singer.perform(LINE, singer.BLOWN, 44_100, 1), 44_100)
    return path


def notes_of(path):
    """(second, note) of a MIDI file, by an independent reader."""
    at, found = 0.0, []
    for message in mido.MidiFile(path):
        at += message.time
        if message.type == "note_on" and message.velocity:
            found.append((at, message.note))
    return found


def test_a_tune_becomes_a_midi_file_at_its_own_times(tune, tmp_path):
    out, report = tmp_path / "ferry.mid", tmp_path / "report.json"
    done = pure_signal("transcribe", tune, "--out", out, "--kind", "melody", "--report", report)
    assert done.returncode == 0, done.stderr
    assert [n for _, n in notes_of(out)] == [n for _, _, n, _ in LINE]
    assert [at for at, _ in notes_of(out)] == pytest.approx([s for s, *_ in LINE], abs=0.05)
    told = json.loads(report.read_text())
    assert told["sums"]["heard"] == 4
    assert [n["note"] for n in told["notes"]] == [60, 63, 65, 67]
    assert all(0 < n["confidence"] <= 1 for n in told["notes"])
    again = pure_signal("transcribe", tune, "--out", out, "--kind", "melody")
    assert again.returncode == 1
    assert "exists already" in again.stderr


def test_notes_snap_to_a_key_and_wrong_usage_exits_with_2(tune, tmp_path):
    out = tmp_path / "c.mid"
    done = pure_signal("transcribe", tune, "--out", out, "--kind", "melody", "--key", "C major")
    assert done.returncode == 0, done.stderr
    assert [n for _, n in notes_of(out)] in ([60, 62, 65, 67], [60, 64, 65, 67])
    for wrong in (
        ("--kind", "drums", "--key", "auto"), ("--kind", "drums", "--low", "40"), ("--kind", "melody", "--pan", "3"),
        ("--kind", "melody", "--low", "70", "--high", "60"), ("--kind", "hits"),
        ("--kind", "melody", "--key", "H"), ("--kind", "melody", "--low", "200"),
    ):  # fmt: skip
        assert pure_signal("transcribe", tune, "--out", tmp_path / "x.mid", *wrong).returncode == 2


@pytest.mark.parametrize(
    ("ending", "rate"), [("wav", 8_000), ("flac", 48_000), ("ogg", 44_100), ("aiff", 96_000), ("mp3", 44_100)]
)
def test_any_format_rate_and_number_of_channels_is_heard(tmp_path, ending, rate):
    sound = singer.perform(LINE, singer.BLOWN, rate, 1)
    path = tmp_path / f"tune.{ending}"
    soundfile.write(path, np.column_stack([sound, 0.5 * sound]), rate)
    rows = transcribe.hear(path, transcribe.Job("melody")).rows
    assert [row[3] for row in rows] == [60, 63, 65, 67]


def test_problems_of_a_recording_are_reported(tmp_path):
    silent, text, nan = tmp_path / "silent.wav", tmp_path / "text.wav", tmp_path / "nan.wav"
    soundfile.write(silent, np.zeros(22_050), 22_050)
    assert transcribe.hear(silent, transcribe.Job("chords")).warnings == ["this recording is silent"]
    text.write_text("no sound at all")
    done = transcribe.transcribe(text, tmp_path / "text.mid", transcribe.Job("melody"))
    assert done.error is not None
    assert "This audio file cannot be read" in str(done.error)
    assert not (tmp_path / "text.mid").exists()
    sound = singer.perform(LINE, singer.BLOWN, 22_050, 1)
    sound[100:200] = np.nan
    soundfile.write(nan, sound, 22_050, subtype="FLOAT")
    found = transcribe.hear(nan, transcribe.Job("melody"))
    assert [r[3] for r in found.rows] == [60, 63, 65, 67]
    assert found.warnings == ["100 of its samples are not numbers; they were treated as silence"]
    one = tmp_path / "one.wav"
    soundfile.write(one, np.ones(1), 22_050)
    for kind in ("melody", "drums", "chords"):
        assert transcribe.hear(one, transcribe.Job(kind)).rows == []
    clipped = tmp_path / "clipped.wav"
    soundfile.write(clipped, np.clip(20 * sound[300:], -1, 1) * 0.9999, 22_050, subtype="FLOAT")
    assert any("clipped" in w for w in transcribe.hear(clipped, transcribe.Job("melody")).warnings)


def test_two_recordings_of_one_name_do_not_become_one_file(tune, tmp_path):
    sound, rate = soundfile.read(tune)
    soundfile.write(tmp_path / f"{tune.stem}.flac", sound, rate)
    files = [tune, tmp_path / f"{tune.stem}.flac"]
    done = pure_signal("transcribe", *files, "--out", tmp_path / "results", "--kind", "melody", "--force")
    assert done.returncode == 1
    assert f"{tune.name} and {tune.stem}.flac would become the same file" in done.stderr
    assert not (tmp_path / "results").exists()


@pytest.mark.parametrize("suffix", ["wav", "aiff", "flac", "ogg", "mp3"])
def test_half_a_file_is_used_with_a_warning(tmp_path, suffix):
    whole, half = tmp_path / f"whole.{suffix}", tmp_path / f"half.{suffix}"
    sound = singer.perform(LINE, singer.BLOWN, 22_050, 1)
    soundfile.write(whole, np.stack([sound, sound], axis=1), 22_050)
    content = whole.read_bytes()
    half.write_bytes(content[: len(content) // 2])
    found = transcribe.hear(whole, transcribe.Job("melody"))
    assert len(found.rows) == 4
    assert found.warnings == []
    cut = transcribe.hear(half, transcribe.Job("melody"))
    assert len(cut.rows) in (1, 2, 3)
    assert len(cut.warnings) == 1
    assert "ends too early" in cut.warnings[0]


def test_drums_leave_on_the_drum_channel_and_taught_sounds_by_their_names(tmp_path):
    random = np.random.default_rng(77)
    sound, truth = random_kits.groove(random_kits.built_kit(random, 44_100), 6, 44_100, random)
    soundfile.write(tmp_path / "loop.wav", 0.5 * sound / np.abs(sound).max(), 44_100)
    out = tmp_path / "loop.mid"
    done = pure_signal("transcribe", tmp_path / "loop.wav", "--out", out, "--kind", "drums")
    assert done.returncode == 0, done.stderr
    heard = notes_of(out)
    kicks = [t for t, n, _ in truth if n == "kick"]
    assert sum(any(abs(t - at) < 0.05 and n == 36 for at, n in heard) for t in kicks) >= 0.8 * len(kicks)
    syllables = {"kick": beatbox.any_syllable(random), "snare.head": beatbox.any_syllable(random)}
    folder = tmp_path / "taught"
    folder.mkdir()
    for name, syllable in syllables.items():
        for i in range(4):
            soundfile.write(
                folder / f"{name} {i + 1}.wav",
                beatbox.say(syllable, 0.7, stroke_features.RATE, random),
                stroke_features.RATE,
            )
    said, when = beatbox.beat(list(syllables.values()), 8, stroke_features.RATE, random)
    soundfile.write(tmp_path / "mouth.wav", said / max(1.0, float(np.abs(said).max())), stroke_features.RATE)
    out = tmp_path / "mouth.mid"
    done = pure_signal("transcribe", tmp_path / "mouth.wav", "--out", out, "--kind", "hits", "--examples", folder)
    assert done.returncode == 0, done.stderr
    heard = notes_of(out)
    right = sum(any(abs(t - at) < 0.05 and n == (36, 38)[w] for at, n in heard) for t, w in when)
    assert right >= 0.8 * len(when)
    bad = tmp_path / "unnamed"
    bad.mkdir()
    soundfile.write(bad / "what is this.wav", np.zeros(4000), 44_100)
    done = pure_signal(
        "transcribe", tmp_path / "mouth.wav", "--out", tmp_path / "y.mid", "--kind", "hits", "--examples", bad
    )
    assert done.returncode == 1
    assert "The name of this example is not a drum" in done.stderr


def test_settings_are_read_and_wrong_ones_named(tune, tmp_path):
    good, bad = tmp_path / "good.json", tmp_path / "bad.json"
    good.write_text('{"format": "pure-signal/hearing", "version": 1, "shortest": 0.42}')
    bad.write_text('{"format": "pure-signal/hearing", "version": 1, "sensitivity": 3}')
    out = tmp_path / "long.mid"
    assert pure_signal("transcribe", tune, "--out", out, "--kind", "melody", "--settings", good).returncode == 0
    assert 0 < len(notes_of(out)) < 4
    done = pure_signal("transcribe", tune, "--out", tmp_path / "z.mid", "--kind", "melody", "--settings", bad)
    assert done.returncode == 1
    assert "sensitivity" in done.stderr
    assert candidates.RATE == 22_050


def test_glides_and_vibrato_leave_as_pitch_bend_and_the_beat_is_told(tmp_path):
    from dataclasses import replace

    wide = replace(singer.SUNG, vibrato=0.5, rate=5.0, scoop=1.2)
    path = tmp_path / "wide.wav"
    soundfile.write(path, singer.perform([(0.3, 1.6, 62, 0.8), (1.9, 3.2, 65, 0.8)], wide, 44_100, 6), 44_100)
    settings = tmp_path / "s.json"
    settings.write_text('{"format": "pure-signal/hearing", "version": 1, "bends": true, "beat": true}')
    out, report = tmp_path / "wide.mid", tmp_path / "r.json"
    done = pure_signal("transcribe", path, "--out", out, "--kind", "melody", "--settings", settings, "--report", report)
    assert done.returncode == 0, done.stderr
    at, bends = 0.0, []
    for message in mido.MidiFile(out):
        at += message.time
        if message.type == "pitchwheel":
            bends.append((at, 2 * message.pitch / 8192))
    within = [v for t, v in bends if 0.9 < t < 1.5]
    assert max(within) == pytest.approx(0.5, abs=0.15)
    assert min(within) == pytest.approx(-0.5, abs=0.15)
    turns = np.diff(np.sign(within))
    assert np.count_nonzero(turns) >= 4
    assert min(v for t, v in bends if t < 0.5) < -0.4
    assert [n for _, n in notes_of(out)] == [62, 65]
    assert [t for t, _ in notes_of(out)] == pytest.approx([0.3, 1.9], abs=0.05)
    assert set(json.loads(report.read_text())["beat"]) == {"bpm", "meter", "confidence", "beats", "bars"}
    settings.write_text('{"format": "pure-signal/hearing", "version": 1, "bends": 1}')
    done = pure_signal("transcribe", path, "--out", tmp_path / "n.mid", "--kind", "melody", "--settings", settings)
    assert done.returncode == 1
    assert "true or false" in done.stderr


def test_chords_are_named_in_the_report_and_a_long_recording_tells_its_progress(tmp_path, monkeypatch):
    truth = []
    for i, chord in enumerate(((48, 60, 64, 67), (45, 57, 60, 64), (43, 55, 59, 62))):
        truth += [(0.3 + i, 1.2 + i, n, 0.8) for n in chord]
    timbre = instrument_synthesis.Timbre(1 / np.arange(1, 20) ** 1.2, attack=0.004, decay=1.2, release=0.1)
    path, report = tmp_path / "chords.flac", tmp_path / "r.json"
    sound = instrument_synthesis.play(truth, timbre, 44_100, 8)
    soundfile.write(path, 0.7 * sound / np.abs(sound).max(), 44_100)
    done = pure_signal("transcribe", path, "--out", tmp_path / "c.mid", "--kind", "chords", "--report", report)
    assert done.returncode == 0, done.stderr
    assert [c["name"] for c in json.loads(report.read_text())["chords"]] == ["C", "Am", "G"]
    # Read in blocks, as a recording of hours is, it is heard the same.
    whole = transcribe.hear(path, transcribe.Job("chords")).rows
    monkeypatch.setattr(audio_source, "KEPT_SECONDS", 0.5)
    told = []
    assert transcribe.hear(path, transcribe.Job("chords"), told.append).rows == whole
    assert told[-1] == pytest.approx(1.0)
    low = transcribe.hear(path, transcribe.Job("chords", low=58)).rows
    assert 0 < len(low) < len(whole)
    assert min(row[3] for row in low) >= 58


def test_a_voice_in_a_stereo_file_is_isolated_by_pan(tmp_path):
    t = np.arange(3 * 22_050) / 22_050
    voice = singer.perform(LINE, singer.BLOWN, 22_050, 1)[: len(t)]
    left = 0.2 * np.sin(2 * np.pi * 330 * t)
    stereo = np.column_stack([left, np.zeros(len(t))]).astype(np.float32)
    stereo[: len(voice)] += 0.6 * voice[:, None]
    path = tmp_path / "mix.wav"
    soundfile.write(path, stereo, 22_050)
    rows = transcribe.hear(path, transcribe.Job("melody", pan=0.0, low=55.0)).rows
    assert [row[3] for row in rows] == [60, 63, 65, 67]
    mono = tmp_path / "mono.wav"
    soundfile.write(mono, voice, 22_050)
    assert any("--pan has no effect" in w for w in transcribe.hear(mono, transcribe.Job("melody", pan=0.5)).warnings)


def test_silent_and_unlike_examples_are_reported(tmp_path):
    random = np.random.default_rng(12)
    syllable = beatbox.any_syllable(random)
    folder = tmp_path / "taught"
    (folder / "snare").mkdir(parents=True)
    for i in range(2):
        soundfile.write(
            folder / "snare" / f"{i}.wav",
            beatbox.say(syllable, 0.7, stroke_features.RATE, random),
            stroke_features.RATE,
        )
    said, _ = beatbox.beat([syllable], 4, stroke_features.RATE, random)
    soundfile.write(tmp_path / "beat.wav", 0.8 * said / np.abs(said).max(), stroke_features.RATE)
    command = ("transcribe", tmp_path / "beat.wav", "--out", tmp_path / "b.mid", "--kind", "hits", "--examples", folder)
    done = pure_signal(*command)
    assert done.returncode == 0, done.stderr
    assert "3 or more are better" in done.stderr
    assert {n for _, n in notes_of(tmp_path / "b.mid")} == {38}
    soundfile.write(folder / "kick.wav", np.zeros(20_000), stroke_features.RATE)
    done = pure_signal(*command, "--force")
    assert done.returncode == 1
    assert "No stroke was found in the examples of kick" in done.stderr
    empty = tmp_path / "empty"
    empty.mkdir()
    done = pure_signal(*command[:-1], empty, "--force")
    assert done.returncode == 1
    assert "no examples" in done.stderr


def test_proposed_removals_are_reported_and_written_on_request(tune, tmp_path):
    job = transcribe.Job("melody", shortest=0.42)
    done = transcribe.transcribe(tune, tmp_path / "kept.mid", job)
    assert done.error is None
    assert done.report["sums"]["proposed"] == len(done.report["proposed"]) > 0
    assert {n["removal"] for n in done.report["proposed"]} == {"too short"}
    assert len(notes_of(tmp_path / "kept.mid")) == done.report["sums"]["heard"] == 4 - len(done.report["proposed"])
    settings = {"format": "pure-signal/hearing", "version": 1, "shortest": 0.42, "doubtful": True}
    whole = transcribe.with_settings(transcribe.Job("melody"), settings, "here.json")
    again = transcribe.transcribe(tune, tmp_path / "all.mid", whole)
    assert again.report["sums"]["heard"] == len(notes_of(tmp_path / "all.mid")) == 4


def test_the_report_says_which_keys_are_likely_and_what_a_key_moved(tune, tmp_path):
    done = transcribe.transcribe(tune, tmp_path / "c.mid", transcribe.Job("melody", key="C major"))
    keys = done.report["keys"]
    assert [k["likelihood"] for k in keys] == sorted((k["likelihood"] for k in keys), reverse=True)
    assert all(set(k) == {"name", "likelihood", "moves"} for k in keys)
    moved = [n for n in done.report["notes"] if "played" in n]
    assert [n["played"] for n in moved] == [63]
    auto = transcribe.transcribe(tune, tmp_path / "auto.mid", transcribe.Job("melody", key="auto"))
    assert sum("played" in n for n in auto.report["notes"]) <= min(k["moves"] for k in keys[:3])


def test_a_recording_is_never_overwritten_not_even_by_force(tune, tmp_path):
    own = tmp_path / "own.wav"
    own.write_bytes(tune.read_bytes())
    result = tmp_path / "own.mid"
    for wrong in (("--out", own), ("--out", result, "--report", own), ("--out", result, "--report", result)):
        done = pure_signal("transcribe", own, *wrong, "--kind", "melody", "--force")
        assert done.returncode == 1
        assert ("would replace" if own in wrong else "the same file") in done.stderr
        assert own.read_bytes() == tune.read_bytes()
        assert not result.exists()
    right = ("--out", result, "--report", tmp_path / "own.json", "--kind", "melody", "--force")
    assert [pure_signal("transcribe", own, *right).returncode for _ in range(2)] == [0, 0]


@pytest.mark.parametrize("kind", ["melody", "drums", "chords"])
@pytest.mark.filterwarnings("error")
def test_recordings_of_a_few_milliseconds_are_heard_or_refused(kind, tmp_path):
    for ms in (0, 1, 5, 12, 20, 40, 68, 100):
        t = np.arange(44_100 * ms // 1000) / 44_100
        path = tmp_path / f"{ms}.wav"
        soundfile.write(path, 0.5 * np.sin(2 * np.pi * 440 * t), 44_100)
        done = transcribe.transcribe(path, tmp_path / f"{ms}.mid", transcribe.Job(kind))
        assert done.error is None or "contains no sound" in str(done.error)


def test_a_fault_in_one_recording_does_not_stop_the_others(tmp_path, monkeypatch):
    t = np.arange(20_000) / 44_100
    soundfile.write(tmp_path / "a.wav", 0.5 * np.sin(2 * np.pi * 440 * t), 44_100)

    def broken(*_):
        raise ZeroDivisionError("by nothing")

    monkeypatch.setattr(transcribe, "hear", broken)
    done = transcribe.transcribe(tmp_path / "a.wav", tmp_path / "a.mid", transcribe.Job("melody"))
    assert "ZeroDivisionError: by nothing" in str(done.error)
    assert not (tmp_path / "a.mid").exists()
