"""Audio files: WAV, FLAC, OGG, MP3, AIFF to arrays, through libsndfile and soxr; whole, or in blocks.

Whatever is wrong with a file is told with its name and what to do; what can be read of a
damaged one is used.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError
from puresignal.io import files

PATTERN = "*.wav *.flac *.ogg *.oga *.mp3 *.aif *.aiff *.opus *.w64 *.au"
BLOCK_SECONDS = 20.0


@dataclass(frozen=True)
class Facts:
    """What a file says of itself. seconds is None where only reading it to its end would tell."""

    rate: int
    channels: int
    frames: int

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def facts(path: Path) -> Facts:
    """Rate, channels and length.

    Raises FileAccessError, or BadFileError when it holds no sound
    """
    with _open(path) as source:
        return Facts(source.samplerate, source.channels, source.frames)


def blocks(path: Path, rate: int, mixed: Callable[[np.ndarray], np.ndarray] | None = None) -> Iterator[np.ndarray]:
    """The file at a rate, block after block: (samples, channels) float32, memory of one block at a time.

    mixed: makes fewer channels of each block before it is brought to the rate, which takes the longer the more there
    are. What is no number is silence. Raises FileAccessError or BadFileError
    """
    import soxr

    with _open(path) as source:
        own, read, resampler = source.samplerate, 0, None
        while True:
            block = _next(source, round(BLOCK_SECONDS * own), path, read)
            last = len(block) == 0
            read += len(block)
            block = block if mixed is None else mixed(block)
            if own != rate:
                resampler = resampler or soxr.ResampleStream(own, rate, block.shape[1], "float32")
                block = resampler.resample_chunk(block, last=last)
            if len(block):
                yield block
            if last:
                break
    if not read:
        raise BadFileError("There is no sound in this file", path.name, "Choose another file.")


def read(path: Path, rate: int) -> np.ndarray:
    """The whole file at a rate: (samples, channels) float32.

    Raises FileAccessError or BadFileError
    """
    return np.concatenate(list(blocks(path, rate)))


def mono(block: np.ndarray) -> np.ndarray:
    """(samples, channels) to (samples, 1): their mean."""
    if block.shape[1] == 1:
        return block
    if block.shape[1] == 2:
        return np.asarray((block[:, :1] + block[:, 1:]) * np.float32(0.5))
    return np.asarray(block.mean(axis=1, keepdims=True))


def _next(source: Any, count: int, path: Path, read_so_far: int) -> np.ndarray:
    import soundfile

    try:
        block: np.ndarray = source.read(count, dtype="float32", always_2d=True)
    except soundfile.LibsndfileError as error:
        if read_so_far:
            # The rest is damaged; what came before it is used.
            return np.zeros((0, source.channels), np.float32)
        raise _wrong(path) from error
    # Nearly always all are numbers, and so is their sum.
    with np.errstate(all="ignore"):
        if np.isfinite(block.sum()):
            return block
    return np.asarray(np.nan_to_num(block, copy=False, nan=0.0, posinf=1.0, neginf=-1.0))


def _open(path: Path) -> Any:
    import soundfile

    files.check_readable(path)
    try:
        return soundfile.SoundFile(path)
    except soundfile.LibsndfileError as error:
        raise _wrong(path) from error


def _wrong(path: Path) -> BadFileError:
    return BadFileError(
        "This is no audio file that can be read",
        path.name,
        "Use WAV, FLAC, OGG, MP3 or AIFF; save it anew if it is one.",
    )


def write_wav(path: Path, samples: np.ndarray, rate: int) -> None:
    """Writes (samples, channels) or (samples,) as 24-bit WAV.

    Raises FileAccessError when the system refuses
    """
    import soundfile

    buffer = io.BytesIO()
    soundfile.write(buffer, samples, rate, "PCM_24", format="WAV")
    files.write_bytes(path, buffer.getvalue())
