"""Voice profiles: kept, shared as one file, and taken in again; hostile files are refused."""

from __future__ import annotations

import json
import zipfile

import numpy as np
import pytest

from puresignal.core.errors import BadFileError
from puresignal.core.touch.voice import VoiceSettings
from puresignal.io import profiles
from puresignal.io.profiles import Profile

OWN = Profile("Ada", VoiceSettings(40, 76, 0.7, "D minor", "triad", -12, False, 0.8, -52.0), 12.5, "Desk")


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def taught(name, drum, count):
    for i in range(count):
        sound = 0.3 * np.sin(np.arange(4000) * (0.05 + 0.01 * i)).astype(np.float32)
        profiles.add_example(profiles.sounds_of(name), drum, sound, 44_100)


def test_a_profile_with_its_sounds_is_shared_and_taken_in(tmp_path):
    profiles.write(OWN)
    taught("Ada", "kick", 3)
    taught("Ada", "hat.closed", 2)
    assert profiles.taught("Ada") == {"hat.closed": 2, "kick": 3}
    profiles.share("Ada", tmp_path / "ada.voice")
    made = profiles.take_in(tmp_path / "ada.voice")
    assert made == Profile("Ada 2", OWN.settings, 12.5, "Desk")
    assert profiles.taught("Ada 2") == profiles.taught("Ada")
    assert profiles.names() == ("Ada", "Ada 2")
    sounds = profiles.examples(profiles.sounds_of("Ada 2"), 44_100)
    assert len(sounds["kick"]) == 3
    assert np.abs(sounds["kick"][0]).max() == pytest.approx(0.3, abs=0.01)
    profiles.forget("Ada", "kick")
    assert profiles.taught("Ada") == {"hat.closed": 2}


def test_wrong_fields_fall_back_and_files_that_are_no_profile_are_refused(tmp_path):
    data = {"format": profiles.FORMAT, "version": 1, "name": "Bo", "delay": "late", "settings": {
        "low": 900, "key": "H dur", "chord": 7, "bends": "yes", "gate": float("nan"), "response": 2}}  # fmt: skip
    path = tmp_path / "bo.voice"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("profile.json", json.dumps(data))
        archive.writestr("sounds/../../../evil.wav", b"x")
        archive.writestr("sounds/kick/../../evil.wav", b"x")
        archive.writestr("sounds/not a drum!/1.wav", b"x")
    made = profiles.take_in(path)
    assert made == Profile("Bo", VoiceSettings(response=2.0))
    assert not list(tmp_path.rglob("evil.wav"))
    assert profiles.taught("Bo") == {}
    for content in (b"", b"no zip at all", b"PK\x03\x04 broken"):
        path.write_bytes(content)
        with pytest.raises(BadFileError):
            profiles.take_in(path)
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("profile.json", json.dumps({"format": "else"}))
    with pytest.raises(BadFileError):
        profiles.take_in(path)
