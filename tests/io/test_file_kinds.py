"""Files are recognised by content, whatever their names."""

import zipfile

import numpy as np
import pytest
import soundfile

from puresignal.io import file_kinds
from puresignal.io.file_kinds import AUDIO, MIDI, NOTE_MAP, SESSION, SOUNDFONT, kind_of


def test_content_counts_more_than_the_ending(tmp_path):
    path = tmp_path / "take.wav"
    path.write_bytes(b"MThd\0\0\0\6\0\0\0\1\0\x60")
    assert kind_of(path) is MIDI
    path = tmp_path / "evening.mid"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("session.json", "{}")
    assert kind_of(path) is SESSION


@pytest.mark.parametrize("ending", [".wav", ".flac", ".ogg", ".aiff", ".mp3", ".au", ".w64"])
def test_every_recording_is_recognised_without_its_ending(tmp_path, ending):
    named = tmp_path / f"hum{ending}"
    soundfile.write(named, 0.1 * np.sin(np.arange(4800) / 10), 48_000)
    assert kind_of(named) is AUDIO
    if ending != ".mp3":  # An MP3 file may start with sound at once.
        assert kind_of(named.rename(tmp_path / "hum")) is AUDIO


def test_one_container_may_hold_different_kinds(tmp_path):
    path = tmp_path / "unnamed"
    for form, kind in ((b"RMID", MIDI), (b"WAVE", AUDIO), (b"sfbk", SOUNDFONT)):
        path.write_bytes(b"RIFF\x10\n\0\0" + form)
        assert kind_of(path) is kind


def test_a_note_map_is_told_from_other_json(tmp_path):
    path = tmp_path / "kit"
    path.write_text('{\n  "name": "My kit", "format": "pure-signal/note-map"}')
    assert kind_of(path) is NOTE_MAP
    path.write_text('{"format": "pure-signal/settings"}')
    assert kind_of(path) is None


def test_a_damaged_or_missing_file_goes_by_its_ending(tmp_path):
    assert kind_of(tmp_path / "gone.MID") is MIDI
    (tmp_path / "broken.puresignal").write_bytes(b"\0\0")
    assert kind_of(tmp_path / "broken.puresignal") is SESSION


def test_no_ending_belongs_to_two_kinds():
    endings = [ending for kind in file_kinds.KINDS for ending in kind.endings]
    assert len(endings) == len(set(endings))
