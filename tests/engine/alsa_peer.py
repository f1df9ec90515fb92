"""A client of the ALSA sequencer with an output and an input, as tests/engine/conftest.Peer on JACK."""

from __future__ import annotations

import threading
import time
from typing import Any

import alsa_midi


class AlsaPeer:
    """got: (seconds, message) as they came in; late: never, there are no blocks."""

    late = 0

    def __init__(self, name: str):
        self.client: Any = alsa_midi.SequencerClient(name)
        self._out = self.client.create_port("out", alsa_midi.READ_PORT)
        self._in = self.client.create_port("in", alsa_midi.WRITE_PORT)
        self.got: list[tuple[float, bytes]] = []
        self._closed = False
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def _read(self) -> None:
        while not self._closed:
            event = self.client.event_input(prefer_bytes=True, timeout=0.05)
            if event is not None and getattr(event, "midi_bytes", None):
                self.got.append((time.monotonic(), bytes(event.midi_bytes)))

    def play(self, *messages: bytes) -> None:
        for message in messages:
            self.client.event_output(alsa_midi.MidiBytesEvent(message), port=self._out)
        self.client.drain_output()

    def close(self) -> None:
        self._closed = True
        self._thread.join(2)
        self.client.close()
