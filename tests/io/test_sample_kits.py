"""Kits of recordings: files understood by their names, kept, and heard in turns and loudness."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.errors import BadFileError, FileAccessError
from puresignal.core.midi import messages
from puresignal.core.sound.drums import Drum
from puresignal.core.sound.mixer import Mixer, SampleBank
from puresignal.core.sound.sampled_kit import Stroke, named, shaped
from puresignal.io import audio_file, note_map_file, sample_kits

RATE = 48_000


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def tone(pitch, seconds=0.3):
    t = np.arange(int(seconds * RATE)) / RATE
    return (0.5 * np.sin(2 * np.pi * pitch * t) * np.exp(-8 * t)).astype(np.float32)


def pitch_of(samples):
    part = samples[: RATE // 5]
    return float(np.abs(np.fft.rfft(part, 8 * len(part))).argmax()) * RATE / (8 * len(part))


@pytest.fixture
def folder(tmp_path):
    made = tmp_path / "Harbour"
    made.mkdir()
    for stem, pitch in {
        "kick": 80, "snare v1 r1": 300, "snare v1 r2": 340, "Snare_v2": 500, "hat-open": 4000, "lampshade": 50,
    }.items():  # fmt: skip
        audio_file.write_wav(made / f"{stem}.wav", tone(pitch), RATE)
    (made / "notes.txt").write_text("mine")
    (made / "ride.wav").write_bytes(b"RIFF")
    return made


@pytest.mark.parametrize(
    ("stem", "stroke"),
    [
        ("kick", Stroke("kick")), ("snare", Stroke("snare.head")), ("Snare.Rim v2 r3", Stroke("snare.rim", 2, 3)),
        ("hat closed 4", Stroke("hat.closed", 0, 4)), ("tom1_head_vel12_rr2", Stroke("tom1.head", 12, 2)),
        ("crash2-edge", Stroke("crash2.edge")), ("lampshade", None), ("", None), ("12", None),
        ("snare on the left", None),
    ],
)  # fmt: skip
def test_names_of_files(stem, stroke):
    assert named(stem) == stroke


def test_a_folder_becomes_a_kit_and_says_what_it_left_out(folder):
    name, left_out = sample_kits.add(folder)
    assert (name, left_out) == ("Harbour", ["lampshade.wav", "notes.txt", "ride.wav"])
    assert sample_kits.add(folder)[0] == "Harbour 2"
    assert sample_kits.names() == ["Harbour", "Harbour 2"]
    sample_kits.remove("Harbour 2")
    assert sample_kits.names() == ["Harbour"]
    with pytest.raises(FileAccessError):
        sample_kits.load("Harbour 2", RATE)


def test_folders_without_strokes_are_refused_and_leave_nothing(tmp_path):
    with pytest.raises(FileAccessError):
        sample_kits.add(tmp_path / "missing")
    (tmp_path / "torn").mkdir()
    (tmp_path / "torn" / "kick.wav").write_bytes(b"RIFF")
    for place in (tmp_path, tmp_path / "torn"):
        with pytest.raises(BadFileError):
            sample_kits.add(place)
    assert sample_kits.names() == []


def heard(bank, note, velocity, times=1):
    """What each of several strokes sounds like, left channel."""
    mixer = Mixer(bank, note_map_file.shipped("general-midi"))
    return [mixer.render(RATE // 2, [(0, messages.note_on(10, note, velocity))])[0] for _ in range(times)]


def test_loudness_turns_and_stand_ins_are_heard(folder):
    sample_kits.add(folder)
    bank = SampleBank(RATE, sample_kits.load("Harbour", RATE))
    bank.prepare(["kick", "snare.head", "snare.rim", "hat.closed", "crash1.bow"])
    soft = heard(bank, 38, 40, 3)
    assert [round(pitch_of(one), -1) for one in soft] == [300, 340, 300]
    assert round(pitch_of(heard(bank, 38, 120)[0]), -1) == 500
    assert np.abs(heard(bank, 38, 120)[0]).max() > 2 * np.abs(soft[0]).max()
    # A rim without a recording of its own is the head's; a cymbal without any is computed.
    assert round(pitch_of(heard(bank, 40, 120)[0]), -1) == 500
    assert np.abs(heard(bank, 49, 120)[0]).max() > 0.01
    # Closed stands open: the nearest recording of the drum.
    assert round(pitch_of(heard(bank, 42, 120)[0]), -2) == 4000


def test_tune_and_decay():
    plain = shaped(tone(400), Drum(), RATE)
    assert np.abs(plain).max() == pytest.approx(1.0)
    assert pitch_of(shaped(tone(400), Drum(tune=12), RATE)) == pytest.approx(800, abs=10)
    dry = shaped(tone(400), Drum(damping=0.3), RATE)
    late = slice(RATE // 10, None)
    assert np.sum(dry[late] ** 2) < 0.1 * np.sum(plain[late] ** 2)
    assert len(shaped(np.zeros(0, np.float32), Drum(), RATE)) == 1
