"""Long recordings that play along: the same samples, and hardly any memory."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from puresignal.core.errors import FileAccessError
from puresignal.io import audio_file
from puresignal.io.mapped_sound import MappedSound

RATE = 8000


@pytest.mark.parametrize("channels", [1, 2, 3])
def test_what_is_mapped_is_what_is_read_and_stays_so_when_it_was_let_go(tmp_path, monkeypatch, channels):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = tmp_path / "long.wav"
    sound = np.random.default_rng(channels).normal(0, 0.1, (RATE * 60, channels)).astype(np.float32)
    soundfile.write(path, sound, RATE, "FLOAT")
    mapped = MappedSound(path, RATE)
    read = audio_file.read(path, RATE)
    wanted = read[:, [0, min(1, channels - 1)]].T
    assert np.array_equal(mapped.samples, wanted)
    for place in (0, RATE * 30, RATE * 60):
        mapped.let_go(place, RATE)
        assert np.array_equal(mapped.samples[:, ::97], wanted[:, ::97])
    # Nothing is left of it on the disk.
    assert not list((tmp_path / "cache").rglob("*.*"))


def resident() -> int:
    """Bytes of this process's mapped files that are in memory; those of a folder in memory count as shared."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return sum(1024 * int(line.split()[1]) for line in lines if line.startswith(("RssFile:", "RssShmem:")))


def test_only_what_is_near_stays_in_memory(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = tmp_path / "long.wav"
    soundfile.write(path, np.zeros((RATE * 1500, 2), np.int16), RATE)
    mapped = MappedSound(path, RATE)
    before = resident()
    mapped.samples.sum()
    assert resident() - before > 80 << 20
    mapped.let_go(RATE * 700, RATE * 30)
    assert resident() - before < 20 << 20


def test_without_room_it_says_what_to_do(tmp_path, monkeypatch):
    (tmp_path / "cache").write_text("a file stands where the folder should be")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = tmp_path / "short.wav"
    soundfile.write(path, np.zeros((RATE, 1), np.int16), RATE)
    with pytest.raises(FileAccessError, match="no room to decode"):
        MappedSound(path, RATE)
