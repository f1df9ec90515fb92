"""Audio files (WAV, FLAC, OGG, MP3, AIFF) as arrays, through libsndfile and soxr; whole, or in blocks.

Problems are reported with the file's name and what to do; a damaged file is used as far as it can be read.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.io import file_access, limits
from puresignal.translation import tr

BLOCK_SECONDS = 20.0


@dataclass(frozen=True)
class Facts:
    """Properties of a file. cut: whether it is clearly shorter than it should be."""

    rate: int
    channels: int
    frames: int
    cut: bool = False

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


@lru_cache(maxsize=64)
def _seconds(path: Path, changed: int, size: int) -> float:
    return facts(path).seconds


def seconds_of(path: Path) -> float:
    """Length of a file in seconds, 0 if it cannot be read. Read once for each state of the file."""
    try:
        found = path.stat()
        return _seconds(path, found.st_mtime_ns, found.st_size)
    except (OSError, PureSignalError):
        return 0.0


def facts(path: Path) -> Facts:
    """Rate, channels and length.

    Raises FileAccessError, or BadFileError if it contains no sound
    """
    with _open(path) as source:
        return Facts(source.samplerate, source.channels, source.frames, _cut(source.extra_info))


def _cut(said: str) -> bool:
    """Whether libsndfile reports that the sound ends too early."""
    found = re.search(r"^ *(?:data|SSND) *: *(\d+) \(should be (\d+)\)", said, re.MULTILINE)
    # A length of all ones means that it was unknown when the file was started.
    longer = found is not None and int(found[2]) < int(found[1]) < UNKNOWN
    return longer or "lacks an end-of-stream" in said


UNKNOWN = 0x7FFFF000
"""Number of bytes from which a length means "unknown"."""


def blocks(
    path: Path, rate: int, mixed: Callable[[np.ndarray], np.ndarray] | None = None,
    spoilt: Callable[[int], None] | None = None,
) -> Iterator[np.ndarray]:  # fmt: skip
    """Read a file at a sample rate, block by block: (samples, channels) float32, memory of one block at a time.

    mixed   reduces the channels of each block before resampling, whose cost grows with the channels
    spoilt  called with the number of samples in a block that are NaN or infinite, which become silence
    Raises  FileAccessError or BadFileError
    """
    import soxr

    with _open(path) as source:
        own, read, resampler, damaged = source.samplerate, 0, None, False
        while True:
            # Sound after the damage would come too early.
            nothing = np.zeros((0, source.channels), np.float32)
            block, damaged = (nothing, True) if damaged else _next(source, path, read, spoilt)
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
        raise BadFileError(tr("This file contains no sound"), path.name, tr("Choose another file."))


def read(path: Path, rate: int) -> np.ndarray:
    """Read the whole file at a sample rate: (samples, channels) float32.

    Raises FileAccessError or BadFileError
    """
    parts = list(blocks(path, rate))
    if not parts:
        raise BadFileError(tr("This file contains no sound"), path.name, tr("Choose another file."))
    return np.concatenate(parts)


def mono(block: np.ndarray) -> np.ndarray:
    """(samples, channels) to (samples, 1): the mean."""
    if block.shape[1] == 1:
        return block
    if block.shape[1] == 2:
        return np.asarray((block[:, :1] + block[:, 1:]) * np.float32(0.5))
    return np.asarray(block.mean(axis=1, keepdims=True))


def _next(source: Any, path: Path, read_so_far: int, spoilt: Callable[[int], None] | None) -> tuple[np.ndarray, bool]:
    """The next frames, and whether the file is damaged after them."""
    import soundfile

    damaged = False
    try:
        block: np.ndarray = source.read(round(BLOCK_SECONDS * source.samplerate), dtype="float32", always_2d=True)
    except soundfile.LibsndfileError as error:
        block, damaged = _undamaged(path, read_so_far), True
        if not read_so_far and not len(block):
            raise _wrong(path) from error
    # Nearly always all samples are finite, and so is their sum.
    with np.errstate(all="ignore"):
        if np.isfinite(block.sum()):
            return block, damaged
    if spoilt is not None:
        spoilt(block.size - int(np.count_nonzero(np.isfinite(block))))
    return np.asarray(np.nan_to_num(block, copy=False, nan=0.0, posinf=1.0, neginf=-1.0)), damaged


def _undamaged(path: Path, begin: int) -> np.ndarray:
    """The readable samples from a frame on, up to the damage."""
    import soundfile

    with _open(path) as again:
        parts = [np.zeros((0, again.channels), np.float32)]
        try:
            again.seek(begin)
            while not parts[1:] or len(parts[-1]):
                parts.append(again.read(STEP, dtype="float32", always_2d=True))
        except soundfile.LibsndfileError:
            pass
    return np.concatenate(parts)


STEP = 1024
"""Frames read at once in a damaged file: at most this many are lost."""


def _open(path: Path) -> Any:
    import soundfile

    file_access.check_readable(path)
    try:
        source = soundfile.SoundFile(path)
    except soundfile.LibsndfileError as error:
        raise _wrong(path) from error
    if not limits.RATES[0] <= source.samplerate <= limits.RATES[1]:
        rate = source.samplerate
        source.close()
        # Resampling a few samples of a damaged header's rate could make hours of nothing.
        raise BadFileError(
            tr("This recording says that it has {rate} samples per second", rate=rate),
            path.name,
            tr("Export it again at 44,100 or 48,000."),
        )
    return source


def _wrong(path: Path) -> BadFileError:
    return BadFileError(
        tr("This audio file cannot be read"),
        path.name,
        tr("Use WAV, FLAC, OGG, MP3 or AIFF; if it is one of these, export it again."),
    )


def write_wav(path: Path, samples: np.ndarray, rate: int) -> None:
    """Write (samples, channels) or (samples,) as 24-bit WAV.

    Raises FileAccessError if the system refuses
    """
    import soundfile

    buffer = io.BytesIO()
    soundfile.write(buffer, samples, rate, "PCM_24", format="WAV")
    file_access.write_bytes(path, buffer.getvalue())


def as_flac(path: Path) -> Path:
    """A FLAC file of 24 bits beside a WAV file, in place of it. What a killed program left is used as far as it goes.

    Raises FileAccessError or BadFileError; the WAV file then stays
    """
    import soundfile

    made = path.with_suffix(".flac")
    rate = facts(path).rate
    buffer = io.BytesIO()
    with soundfile.SoundFile(buffer, "w", rate, 1, "PCM_24", format="FLAC") as out:
        for block in blocks(path, rate, mono):
            out.write(np.clip(block[:, 0], -1, 1))
    file_access.write_bytes(made, buffer.getvalue())
    path.unlink(missing_ok=True)
    return made
