"""The player's SoundFont file, rendered by FluidSynth if that is installed."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.midi import messages
from puresignal.io import file_access
from puresignal.translation import mark, tr

MISSING = mark("Install it with: sudo apt-get install libfluidsynth3")


class NoFontError(PureSignalError):
    """FluidSynth is not installed."""


class Font:
    """Plays a SoundFont: drums on channel 10, on other channels whatever their program selects."""

    def __init__(self, path: Path, rate: int):
        """Raises NoFontError, FileAccessError, or BadFileError if the file is not a SoundFont."""
        file_access.check_readable(path)
        try:
            import fluidsynth
        except (ImportError, OSError, AttributeError) as error:
            raise NoFontError(tr("FluidSynth is not installed"), "libfluidsynth.so.3", MISSING) from error
        self._synth: Any = fluidsynth.Synth(gain=0.5, samplerate=float(rate))
        number = self._synth.sfload(str(path))
        if number < 0:
            self._synth.delete()
            raise BadFileError(tr("This SoundFont cannot be read"), path.name, tr("Choose a .sf2 or .sf3 file."))
        for channel in range(16):
            self._synth.program_select(channel, number, 128 if channel == 9 else 0, 0)

    def render(self, count: int, messages: Iterable[tuple[int, bytes]]) -> np.ndarray:
        """The next block, (2, count) float32; each message acts at its offset."""
        parts, at = [], 0
        for offset, message in messages:
            if offset > at:
                parts.append(self._samples(offset - at))
                at = offset
            self._obey(message)
        if count > at:
            parts.append(self._samples(count - at))
        return np.concatenate(parts, axis=1) if parts else np.zeros((2, 0), np.float32)

    def _samples(self, count: int) -> np.ndarray:
        raw = np.asarray(self._synth.get_samples(count), np.int16)
        return (raw.reshape(-1, 2).T / 32768).astype(np.float32)

    def _obey(self, message: bytes) -> None:
        if len(message) < 2:
            return
        kind, channel, synth = message[0] & messages.KIND, message[0] & messages.CHANNEL, self._synth
        first, second = message[1], message[2] if len(message) > 2 else 0
        if kind == messages.NOTE_ON and second:
            synth.noteon(channel, first, second)
        elif kind in (messages.NOTE_OFF, messages.NOTE_ON):
            synth.noteoff(channel, first)
        elif kind == messages.CONTROL:
            synth.cc(channel, first, second)
        elif kind == messages.PROGRAM:
            synth.program_change(channel, first)
        elif kind == messages.BEND:
            synth.pitch_bend(channel, messages.bend_amount(first, second))

    def close(self) -> None:
        self._synth.delete()
