"""Audio sources: reading again gives the same as keeping, and levels are those of the file."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile

from puresignal.commands import transcribe
from puresignal.core.errors import BadFileError
from puresignal.core.hearing.dsp import chunks
from puresignal.io import audio_file, audio_source

RATE = 22_050


def tone(hz, seconds=2.0, rate=44_100):
    return 0.4 * np.sin(2 * np.pi * hz * np.arange(round(seconds * rate)) / rate)


def samples(of):
    return np.concatenate(list(chunks.blocks(of.source)))


@pytest.mark.parametrize("taken", [{}, {"pan": -0.6}, {"lowest": 300.0}, {"pan": 0.4, "lowest": 200.0}])
def test_reading_again_gives_the_same_as_keeping(tmp_path, monkeypatch, taken):
    path = tmp_path / "duo.wav"
    soundfile.write(path, np.column_stack([tone(220), tone(880)]), 44_100)
    monkeypatch.setattr(audio_file, "BLOCK_SECONDS", 0.5)
    kept = audio_source.opened(path, RATE, **taken)
    # As often as it is asked for.
    assert np.array_equal(samples(kept), samples(kept))
    monkeypatch.setattr(audio_source, "KEPT_SECONDS", 0.3)
    anew = audio_source.opened(path, RATE, **taken)
    path_gone = samples(kept)
    assert np.array_equal(samples(anew), path_gone)
    assert (anew.count, anew.peak, anew.clipped) == (kept.count, kept.peak, kept.clipped)
    path.unlink()
    assert np.array_equal(samples(kept), path_gone)


def test_channels_are_mixed_before_the_rate_is_changed_and_it_is_all_one(tmp_path):
    path = tmp_path / "three.wav"
    sound = np.column_stack([tone(220), tone(330), tone(440)])
    soundfile.write(path, sound, 44_100, "FLOAT")
    heard = audio_source.opened(path, RATE)
    assert heard.channels == 3
    assert np.abs(samples(heard) - audio_file.read(path, RATE).mean(axis=1)).max() < 1e-5
    assert heard.count == len(samples(heard)) == 2 * RATE


def test_how_loud_it_is_is_told_of_each_channel_as_the_file_has_it(tmp_path):
    path = tmp_path / "one side.wav"
    left = np.clip(4 * tone(220), -1, 1)
    soundfile.write(path, np.column_stack([left, np.zeros(len(left))]), 44_100, "FLOAT")
    heard = audio_source.opened(path, RATE)
    assert heard.peak == pytest.approx(1.0)
    assert heard.clipped == pytest.approx(np.mean(np.abs(left) >= 1) / 2, abs=1e-3)
    # Against each other two channels leave nothing in one, but the file is not silent.
    opposite = tmp_path / "opposite.wav"
    soundfile.write(opposite, np.column_stack([tone(220), -tone(220)]), 44_100, "FLOAT")
    heard = audio_source.opened(opposite, RATE)
    assert heard.peak == pytest.approx(0.4, abs=0.01)
    assert np.abs(samples(heard)).max() < 1e-6
    assert heard.left < 1e-5
    assert any("cancel each other" in w for w in transcribe.hear(opposite, transcribe.Job("melody")).warnings)


def test_a_silent_channel_does_not_warn_about_cancelling(tmp_path):
    path = tmp_path / "tap.wav"
    soundfile.write(path, np.array([0.5]), 96_000, subtype="FLOAT")
    found = transcribe.hear(path, transcribe.Job("melody"))
    assert found.rows == []
    assert len(found.warnings) == 1
    assert "cancel" not in found.warnings[0]


def test_other_files_are_refused_as_recordings(tmp_path):
    path = tmp_path / "letter.wav"
    path.write_text("this is no sound at all")
    with pytest.raises(BadFileError, match="letter"):
        audio_source.opened(path, RATE)
