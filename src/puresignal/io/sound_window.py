"""A short stretch of a recording, read when the view is so near that its outline is too coarse."""

from __future__ import annotations

from pathlib import Path

import numpy as np

LONGEST = 4.0
"""Seconds that are read at once; longer stretches are drawn from the outline."""


class SoundWindow:
    """Reads from one file; what cannot be read is None, and the outline is drawn instead."""

    def __init__(self) -> None:
        self._key: tuple[str, float, float] | None = None
        self._found: tuple[np.ndarray, float, float] | None = None

    def read(self, path: str, begin: float, end: float) -> tuple[np.ndarray, float, float] | None:
        """The (n,) samples of a stretch in seconds, -1..1, with the second of the first and the seconds between two."""
        if not path or end - begin > LONGEST or end <= begin:
            return None
        key = (path, begin, end)
        if key != self._key:
            self._key, self._found = key, self._read(Path(path), begin, end)
        return self._found

    @staticmethod
    def _read(path: Path, begin: float, end: float) -> tuple[np.ndarray, float, float] | None:
        import soundfile

        try:
            if not path.is_file():
                return None
            with soundfile.SoundFile(path) as source:
                first = min(source.frames, max(0, int(begin * source.samplerate)))
                count = min(source.frames - first, int((end - begin) * source.samplerate) + 2)
                source.seek(first)
                samples = source.read(count, dtype="float32", always_2d=True).mean(axis=1)
                return samples, first / source.samplerate, 1 / source.samplerate
        except (OSError, RuntimeError, ValueError):
            return None
