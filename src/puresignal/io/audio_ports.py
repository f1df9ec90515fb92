"""Sound devices through PortAudio: listing, and opening an output.

Without the PortAudio library or a device, errors say so and the program runs on silently.
"""

from __future__ import annotations

import atexit
from collections.abc import Callable
from typing import Any

import numpy as np

from puresignal.core.errors import PureSignalError
from puresignal.translation import tr

Fill = Callable[[np.ndarray, int, bool], None]
"""Fills (frames, 2) float32; the flag tells whether the previous block was late."""


class NoSoundError(PureSignalError):
    """There is no sound device, or no PortAudio library."""


def library() -> Any:
    """The PortAudio binding.

    Raises NoSoundError if the library is not installed
    """
    try:
        import sounddevice
    except (OSError, ImportError) as error:
        raise NoSoundError(
            tr("The PortAudio library is not installed"),
            "libportaudio.so.2",
            tr("Install it with: sudo apt-get install libportaudio2"),
        ) from error
    # At exit the binding would terminate PortAudio, which crashes if a JACK server it found has ended meanwhile.
    # Streams are closed by whoever opened them, and the system frees the rest.
    atexit.unregister(sounddevice._exit_handler)
    return sounddevice


def _look_again(sound: Any) -> None:
    """Let PortAudio see devices that came and went; without an open stream, it would not by itself."""
    try:
        # It does not survive that a JACK server that it knows has ended.
        if any("JACK" in api["name"] for api in sound.query_hostapis()):
            return
        sound._terminate()
        sound._initialize()
    except Exception:
        return


def outputs() -> tuple[str, ...]:
    """Names of the output devices; none without the library."""
    try:
        found = library().query_devices()
    except NoSoundError:
        return ()
    except Exception:
        return ()
    return tuple(dict.fromkeys(str(d["name"]) for d in found if d["max_output_channels"] >= 2))


def open_output(device: str | None, rate: int, block: int, fill: Fill) -> Any:
    """An output stream of two channels, not started yet.

    device  its name, None for the system's default
    Raises  NoSoundError if there is none, or it refuses
    """
    sound = library()
    _look_again(sound)

    def callback(out: np.ndarray, frames: int, _: object, status: Any) -> None:
        fill(out, frames, bool(status.output_underflow))

    try:
        return sound.OutputStream(
            samplerate=rate, blocksize=block, device=device, channels=2, dtype="float32", latency="low",
            callback=callback,
        )  # fmt: skip
    except Exception as error:
        raise NoSoundError(
            tr("There is no sound device"),
            device or tr("default device"),
            tr("Plug one in, or start JACK; the program will connect by itself."),
        ) from error


def inputs() -> tuple[str, ...]:
    """Names of the input devices; none without the library."""
    try:
        found = library().query_devices()
    except Exception:
        return ()
    return tuple(dict.fromkeys(str(d["name"]) for d in found if d["max_input_channels"] >= 1))


Take = Callable[[np.ndarray, int, bool], None]
"""Takes (frames, channels) float32; the flag tells whether samples were lost before this block."""


def open_input(device: str | None, rate: int, block: int, channels: int, take: Take) -> Any:
    """An input stream, not started yet.

    device  its name, None for the system's default
    Raises  NoSoundError if there is none, or it refuses
    """
    sound = library()
    _look_again(sound)

    def callback(block_in: np.ndarray, frames: int, _: object, status: Any) -> None:
        take(block_in, frames, bool(status.input_overflow))

    try:
        return sound.InputStream(
            samplerate=rate, blocksize=block, device=device, channels=channels, dtype="float32", latency="low",
            callback=callback,
        )  # fmt: skip
    except Exception as error:
        raise NoSoundError(
            tr("There is no microphone"),
            device or tr("default device"),
            tr("Plug one in and allow its use, or start JACK; the program will connect by itself."),
        ) from error
