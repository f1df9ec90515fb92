"""Long recordings that play along: decoded once into a file of their own, of which only what plays is in memory."""

from __future__ import annotations

import contextlib
import mmap
import tempfile
from pathlib import Path

import numpy as np

from puresignal.core.errors import FileAccessError
from puresignal.io import audio_file, xdg_folders
from puresignal.translation import tr

LONG_SECONDS = 600.0
"""Recordings from this length are mapped; shorter ones are read whole."""


class MappedSound:
    """A decoded recording.

    samples  (2, n) float32; of one channel both are the same memory
    """

    def __init__(self, path: Path, rate: int):
        """Raises FileAccessError or BadFileError; FileAccessError also where there is no room to decode it."""
        folder = xdg_folders.cache() / "sound"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            # Without a name: whatever happens to the program, nothing is left of it.
            with tempfile.TemporaryFile(dir=folder) as file:
                channels = 1
                for block in audio_file.blocks(path, rate):
                    channels = min(2, block.shape[1])
                    file.write(np.ascontiguousarray(block[:, :channels]).tobytes())
                file.flush()
                self._map = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        except OSError as error:
            raise FileAccessError(
                tr("There is no room to decode this recording"), path.name,
                tr("Make room in {folder}, which holds it while it plays.", folder=folder),
            ) from error  # fmt: skip
        self._bytes_each = 4 * channels
        rows = np.frombuffer(self._map, np.float32).reshape(-1, channels)
        self.samples = np.broadcast_to(rows.T, (2, len(rows)))

    def let_go(self, place: int, around: int) -> None:
        """Keep of it in memory only what is near a place. place, around: samples"""
        page = mmap.ALLOCATIONGRANULARITY
        before = max(0, (place - around) * self._bytes_each // page * page)
        after = min(len(self._map), -(-(place + around) * self._bytes_each // page) * page)
        with contextlib.suppress(OSError, ValueError):
            if before:
                self._map.madvise(mmap.MADV_DONTNEED, 0, before)
            if after < len(self._map):
                self._map.madvise(mmap.MADV_DONTNEED, after, len(self._map) - after)
