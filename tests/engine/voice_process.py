"""A voice in a process of its own: `python -m tests.engine.voice_process NAME LIBRARY SOUND`, SOUND a .npy of samples.

A window that draws beside it in one interpreter would take blocks from it. A line "play" begins the sound anew; the
frame at which it began is printed. A line "late" has the number of blocks printed that were missed so far.
"""

from __future__ import annotations

import contextlib
import gc
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

import numpy as np

from puresignal.io import jack_library


class Voice:
    """The voice as its parent sees it: a client of the server with one port, `audio`."""

    def __init__(self, name: str, sound: np.ndarray, binding: str = jack_library.SYSTEM):
        self.name, self.sound, self.began = name, sound, -1
        with tempfile.NamedTemporaryFile(suffix=".npy", delete=False) as file:
            np.save(file, sound)
        self._file = Path(file.name)
        command = [sys.executable, "-m", "tests.engine.voice_process", name, binding, file.name]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        assert self._answer() == "here"

    def _answer(self) -> str:
        assert self._process.stdout is not None
        return self._process.stdout.readline().strip()

    def _ask(self, *words: str) -> str:
        assert self._process.stdin is not None
        print(*words, file=self._process.stdin, flush=True)
        return self._answer()

    def connect(self, port: str) -> None:
        assert self._ask("connect", port) == "connected"

    def play(self) -> None:
        """Begin the sound anew. The frame at which it begins is then in `began`."""
        self.began = int(self._ask("play"))

    def late(self) -> int:
        """Blocks that were missed so far: what they would have held was not heard."""
        return int(self._ask("late"))

    def close(self) -> None:
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.close()
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        assert self._process.stdout is not None
        self._process.stdout.close()
        self._file.unlink(missing_ok=True)


def main() -> None:
    name, binding, path = sys.argv[1:]
    sound = np.load(path)
    gc.freeze()
    gc.disable()
    sys.setswitchinterval(0.0005)
    client = jack_library.binding(binding).Client(name, no_start_server=True, use_exact_name=True)
    port = client.outports.register("audio")
    begins, wanted = threading.Event(), False
    began, expected, late = -1, -1, 0

    def process(frames: int) -> None:
        nonlocal began, expected, late, wanted
        now = client.last_frame_time
        late += expected not in (-1, now)
        expected = now + frames
        out = port.get_array()
        out[:] = 0
        if wanted:
            began, wanted = now, False
            begins.set()
        if began >= 0:
            part = sound[now - began : now - began + frames]
            out[: len(part)] = part

    client.set_process_callback(process)
    client.activate()
    print("here", flush=True)
    for line in sys.stdin:
        what, _, rest = line.strip().partition(" ")
        if what == "connect":
            client.connect(f"{name}:audio", rest)
            print("connected", flush=True)
        elif what == "late":
            print(late, flush=True)
        else:
            begins.clear()
            wanted = True
            begins.wait(5)
            print(began, flush=True)
    client.deactivate()
    client.close()


if __name__ == "__main__":
    main()
