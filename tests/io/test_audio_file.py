"""Audio files and SoundFonts: readable parts are used, the rest is reported."""

from __future__ import annotations

import builtins
import os
import struct

import numpy as np
import pytest
import soundfile

from puresignal.core.errors import BadFileError, FileAccessError
from puresignal.io import audio_file, audio_ports, soundfont
from tests import sine_soundfont as made

TONE = 0.5 * np.sin(2 * np.pi * 440 * np.arange(44_100) / 44_100)


def pitch(samples, rate):
    spectrum = np.abs(np.fft.rfft(samples * np.hanning(len(samples)), 1 << 18))
    return float(np.fft.rfftfreq(1 << 18, 1 / rate)[int(np.argmax(spectrum))])


@pytest.mark.parametrize("kind", ["wav", "flac", "ogg", "mp3", "aiff"])
@pytest.mark.parametrize(("rate", "channels"), [(44_100, 1), (22_050, 2), (48_000, 2)])
def test_every_kind_is_read_at_any_rate(tmp_path, kind, rate, channels):
    path = tmp_path / f"tone.{kind}"
    tone = 0.5 * np.sin(2 * np.pi * 440 * np.arange(rate) / rate)
    soundfile.write(path, np.column_stack([tone] * channels), rate)
    assert audio_file.facts(path).channels == channels
    read = audio_file.read(path, 48_000)
    assert read.shape[1] == channels
    assert len(read) == pytest.approx(48_000, abs=3000 if kind == "mp3" else 4)
    assert pitch(read[2000:-2000, 0], 48_000) == pytest.approx(440, abs=0.5)
    assert np.abs(read[4000:-4000]).max() == pytest.approx(0.5, abs=0.03)


def test_blocks_are_the_whole_file_whatever_their_length(tmp_path, monkeypatch):
    path = tmp_path / "tone.wav"
    soundfile.write(path, TONE, 44_100)
    whole = audio_file.read(path, 22_050)
    monkeypatch.setattr(audio_file, "BLOCK_SECONDS", 0.1)
    parts = list(audio_file.blocks(path, 22_050))
    assert len(parts) > 5
    assert np.abs(np.concatenate(parts) - whole).max() < 1e-5


def test_a_file_without_sound_is_named(tmp_path):
    text = tmp_path / "letter.wav"
    text.write_text("this is no sound at all")
    empty = tmp_path / "empty.wav"
    empty.write_bytes(b"")
    silent = tmp_path / "no samples.wav"
    soundfile.write(silent, np.zeros(0), 44_100)
    for path in (text, empty, silent):
        with pytest.raises(BadFileError, match=path.name):
            audio_file.read(path, 48_000)
    with pytest.raises(FileAccessError, match="no such file"):
        audio_file.read(tmp_path / "nobody.wav", 48_000)
    with pytest.raises(FileAccessError, match="folder"):
        audio_file.facts(tmp_path)


def test_half_a_file_numbers_that_are_none_and_one_sample_are_read(tmp_path):
    path = tmp_path / "half.wav"
    soundfile.write(path, TONE, 44_100)
    content = path.read_bytes()
    path.write_bytes(content[: len(content) // 2])
    assert 20_000 < len(audio_file.read(path, 44_100)) < 23_000
    assert audio_file.facts(path).cut
    # A recorder that was still writing does not know how long it will be: that is not half a file.
    for unknown in (b"\xff\xff\xff\xff", b"\xff\xff\xff\x7f"):
        at = content.index(b"data") + 4
        path.write_bytes(content[:at] + unknown + content[at + 4 :])
        assert not audio_file.facts(path).cut
    wild = tmp_path / "wild.wav"
    soundfile.write(wild, np.array([0.1, np.nan, np.inf, -np.inf, 0.2], np.float32), 44_100, "FLOAT")
    assert audio_file.read(wild, 44_100)[:, 0].tolist() == pytest.approx([0.1, 0, 1, -1, 0.2])
    one = tmp_path / "one.wav"
    soundfile.write(one, np.array([0.25]), 44_100)
    assert audio_file.read(one, 44_100).shape == (1, 1)


def test_a_damaged_file_is_read_to_where_it_is_damaged(tmp_path):
    path = tmp_path / "long.flac"
    sound = 0.1 * np.random.default_rng(1).normal(size=44_100 * 30)
    soundfile.write(path, sound, 44_100)
    content = bytearray(path.read_bytes())
    whole = audio_file.read(path, 44_100)[:, 0]
    for part in (0.3, 0.9):
        at = round(part * len(content))
        path.write_bytes(content[:at] + bytes(3000) + content[at + 3000 :])
        found = audio_file.read(path, 44_100)[:, 0]
        # A frame of a FLAC file is some thousand samples; all before the damaged one is there, in its place.
        assert part * len(whole) - 12_000 < len(found) <= part * len(whole) + 1000
        assert (found == whole[: len(found)]).all()


def test_written_messages_read_back_unchanged(tmp_path):
    audio_file.write_wav(tmp_path / "out.wav", TONE, 44_100)
    assert np.abs(audio_file.read(tmp_path / "out.wav", 44_100)[:, 0] - TONE).max() < 1e-6


def test_a_soundfont_sounds_at_its_pitch_from_its_offset(tmp_path):
    path = tmp_path / "sine.sf2"
    made.write(path)
    try:
        font = soundfont.Font(path, 48_000)
    except soundfont.NoFontError:
        if os.environ.get("CI"):
            raise
        pytest.skip("needs libfluidsynth3, which ./run test installs where it may")
    block = font.render(9600, [(1000, bytes((0x90, 69, 110)))])
    assert not np.abs(block[:, :1000]).max() > 1e-4
    assert np.abs(block[:, 1400:]).max() > 0.02
    assert pitch(font.render(24_000, [])[0], 48_000) == pytest.approx(440, abs=1.5)
    font.render(48_000, [(0, bytes((0x80, 69, 0)))])
    assert np.abs(font.render(4800, [])).max() < 1e-3
    font.close()
    (tmp_path / "text.sf2").write_bytes(struct.pack("<4sI", b"RIFF", 99))
    with pytest.raises(BadFileError, match=r"text\.sf2"):
        soundfont.Font(tmp_path / "text.sf2", 48_000)


def test_a_missing_library_is_reported_with_how_to_get_it(tmp_path, monkeypatch):
    made.write(tmp_path / "sine.sf2")
    usual = builtins.__import__

    def without(name, *more):
        if name in ("fluidsynth", "sounddevice"):
            raise ImportError(name)
        return usual(name, *more)

    monkeypatch.setattr(builtins, "__import__", without)
    with pytest.raises(soundfont.NoFontError, match="sudo apt-get install libfluidsynth3"):
        soundfont.Font(tmp_path / "sine.sf2", 48_000)
    with pytest.raises(audio_ports.NoSoundError, match="sudo apt-get install libportaudio2"):
        audio_ports.open_output(None, 48_000, 256, lambda *_: None)
    assert audio_ports.outputs() == ()
