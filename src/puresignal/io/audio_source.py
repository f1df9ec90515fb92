"""A recording prepared for transcription: one channel at the ear's sample rate, with checks of its level.

A short recording is read once and kept; a long one is read again whenever needed, which takes no memory.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from puresignal.core.hearing.dsp import stereo_filter
from puresignal.core.hearing.dsp.chunks import Source
from puresignal.io import audio_file

KEPT_SECONDS = 780.0
"""Recordings up to this length are kept."""
WHOLE = 0.98
"""Fraction of its stated length from which a file counts as complete: MP3 lengths are approximate."""
FULL_SCALE = 0.999
"""Level from which a sample counts as clipped."""


@dataclass(frozen=True, eq=False)
class Recording:
    """A prepared recording.

    source    its samples at the requested rate, block by block; count: their number; channels: of the file
    peak      largest sample of any channel; clipped: fraction of samples at full scale, 0..1
    left      largest sample of the mix: 0 if the channels cancel
    cut       whether the file ends too early; spoilt: number of NaN or infinite samples
    """

    source: Source
    count: int
    channels: int
    peak: float
    clipped: float
    left: float
    cut: bool = False
    spoilt: int = 0


def opened(
    path: Path, rate: int, pan: float | None = None, lowest: float | None = None, most: float | None = None
) -> Recording:
    """Prepare a recording as one channel at a sample rate.

    pan     extract this place of a stereo picture, -1..1
    lowest  remove everything below this frequency in Hz
    most    read only so many seconds; None: all
    Raises  FileAccessError or BadFileError
    """
    facts = audio_file.facts(path)
    channels, peak, clipped, samples, spoilt = facts.channels, 0.0, 0, 0, 0
    placed = pan is not None and channels > 1

    def mixed(block: np.ndarray) -> np.ndarray:
        return block[:, :2] if placed else audio_file.mono(block)

    def counted(count: int) -> None:
        nonlocal spoilt
        spoilt += count

    def looked_at(block: np.ndarray) -> np.ndarray:
        nonlocal peak, clipped, samples
        size = np.abs(block)
        peak, samples = max(peak, float(size.max(initial=0.0))), samples + size.size
        clipped += int(np.count_nonzero(size >= FULL_SCALE))
        return mixed(block)

    kept: list[np.ndarray] | None = []
    count, left = 0, 0.0
    for whole in audio_file.blocks(path, rate, looked_at, counted):
        block = whole if most is None else whole[: max(0, round(most * rate) - count)]
        count, left = count + len(block), max(left, float(np.abs(block).max()))
        if kept is not None:
            kept.append(block)
        if most is not None and count >= most * rate:
            break
        if count > KEPT_SECONDS * rate:
            kept = None

    def at_rate() -> Iterator[np.ndarray]:
        return iter(kept) if kept is not None else audio_file.blocks(path, rate, mixed)

    def one(block: np.ndarray) -> np.ndarray:
        flat = stereo_filter.at_place(block, pan) if placed and pan is not None else block[:, 0]
        return stereo_filter.above(flat, rate, lowest) if lowest is not None else flat

    def plain() -> Iterator[np.ndarray]:
        return (block[:, 0] for block in at_rate())

    def taken_out() -> Iterator[np.ndarray]:
        return stereo_filter.in_blocks(at_rate(), one, rate)

    source: Callable[[], Iterator[np.ndarray]] = plain
    if placed or lowest is not None:
        # The extraction from a mix is done once.
        source = taken_out if kept is None else list(taken_out()).__iter__
    cut = most is None and (facts.cut or samples < WHOLE * facts.frames * channels)
    return Recording(source, count, channels, peak, clipped / max(1, samples), left, cut, spoilt)
