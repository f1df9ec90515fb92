"""A recording made ready to be heard: one channel at the rate of the ear, and what is to be said of its level.

A short one is read once and kept; a long one is read anew as often as it is needed, which takes no memory.
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
"""A recording up to this long is kept."""
WHOLE = 0.98
"""So much of what a file says it holds is all of it: an MP3 says about how long it is."""
FULL_SCALE = 0.999
"""What is louder than this is cut off."""


@dataclass(frozen=True, eq=False)
class Recording:
    """source  its samples at the rate asked for, block by block; count  how many; channels  that the file has

    peak  the largest sample of any channel; clipped  the part of all samples at full scale, 0..1
    left  the largest sample of what is heard of them: 0 where channels cancel each other out
    cut  whether the file ends before it should; spoilt  how many of its samples are no numbers
    """

    source: Source
    count: int
    channels: int
    peak: float
    clipped: float
    left: float
    cut: bool = False
    spoilt: int = 0


def opened(path: Path, rate: int, pan: float | None = None, lowest: float | None = None) -> Recording:
    """The recording at a rate, of one channel.

    pan: only what stands there, -1..1, where there are two channels; lowest: only what lies above it, Hz

    Raises FileAccessError or BadFileError
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
    for block in audio_file.blocks(path, rate, looked_at, counted):
        count, left = count + len(block), max(left, float(np.abs(block).max()))
        if kept is not None:
            kept.append(block)
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
        # What is taken out of a mix is taken out once.
        source = taken_out if kept is None else list(taken_out()).__iter__
    cut = facts.cut or samples < WHOLE * facts.frames * channels
    return Recording(source, count, channels, peak, clipped / max(1, samples), left, cut, spoilt)
