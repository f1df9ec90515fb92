"""Runs on the emulated machine: messages through the raw ports, past a router, and their delay.

`python alsa_figures.py route|plain MESSAGES RATE` prints a line of figures. `plain` is a pass-through of 20 lines.
"""

from __future__ import annotations

import os
import select
import subprocess
import sys
import threading
import time
from collections import defaultdict, deque

PLAIN = """
import alsa_midi
client = alsa_midi.SequencerClient("plain")
came = client.create_port("in", alsa_midi.WRITE_PORT)
goes = client.create_port("out", alsa_midi.READ_PORT)
for port in client.list_ports(input=True):
    if port.name == "VirMIDI 0-0": came.connect_from(port)
for port in client.list_ports(output=True):
    if port.name == "VirMIDI 0-1": goes.connect_to(port)
while True:
    event = client.event_input(prefer_bytes=True)
    client.event_output(alsa_midi.MidiBytesEvent(event.midi_bytes), port=goes)
    client.drain_output()
"""
ROUTE = ["-m", "puresignal.cli", "route", "--in", "VirMIDI 0-0", "--out", "VirMIDI 0-1"]
KEEP = ["--faults", "keep", "--unmapped", "keep"]


class Ear:
    """Reads what comes out of the raw port, with its time."""

    def __init__(self, port: str):
        self._port = os.open(port, os.O_RDONLY | os.O_NONBLOCK)
        self.got: list[tuple[float, bytes]] = []
        self._ended = False
        self._thread = threading.Thread(target=self._read)
        self._thread.start()

    def _read(self) -> None:
        rest = b""
        while not self._ended:
            if select.select([self._port], [], [], 0.1)[0]:
                rest += os.read(self._port, 4096)
                now = time.monotonic()
                while len(rest) >= 3:
                    self.got.append((now, rest[:3]))
                    rest = rest[3:]

    def end(self) -> None:
        self._ended = True
        self._thread.join()


def main() -> int:
    mode, count, rate = sys.argv[1], int(sys.argv[2]), float(sys.argv[3])
    command = ["-c", PLAIN] if mode == "plain" else [*ROUTE, *KEEP]
    child = subprocess.Popen([sys.executable, *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    ear, port = Ear("/dev/snd/midiC0D1"), os.open("/dev/snd/midiC0D0", os.O_WRONLY)
    while len(ear.got) < 2:
        if child.poll() is not None:
            ear.end()
            print(f"{mode}: it ended with {child.returncode} before anything came through")
            return 1
        os.write(port, bytes((0x91, 5, 5)) + bytes((0x81, 5, 64)))
        time.sleep(0.3)
    time.sleep(2)
    ear.got.clear()
    sent, begun = [], time.monotonic()
    for i in range(count):
        number = i // 2
        message = bytes((0x91 if i % 2 == 0 else 0x81, number % 120, 1 + number // 120 % 127))
        time.sleep(max(0.0, begun + i / rate - time.monotonic()))
        sent.append((time.monotonic(), message))
        os.write(port, message)
    seconds = time.monotonic() - begun
    time.sleep(3)
    ear.end()
    child.terminate()
    child.wait(10)
    # An end may carry another velocity than the one that was played.
    came = defaultdict(deque)
    for at, message in ear.got:
        came[message[:2]].append(at)
    delays = sorted(1000 * (came[message[:2]].popleft() - at) for at, message in sent if came[message[:2]])
    ordered = [m[:2] for _, m in ear.got] == [m[:2] for _, m in sent]
    figures = (
        [f"{delays[min(len(delays) - 1, int(len(delays) * q))]:.2f}" for q in (0.5, 0.9, 0.99, 1)] if delays else []
    )
    print(
        f"{mode}: sent {count} in {seconds:.1f} s, arrived {len(ear.got)}, in order {ordered}, "
        f"delay in ms, median 90 % 99 % worst: {' '.join(figures)}",
        flush=True,
    )
    return 0 if ordered else 1


if __name__ == "__main__":
    sys.exit(main())
