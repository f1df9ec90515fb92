"""Records a loop on the pads on screen and plays into it until it is killed: prints each hit before it plays it.

A line is the moment, by the clock that is the same for all processes, and the hit's number.
"""

from __future__ import annotations

import random
import sys
import time

from puresignal.commands.record import Options, Recording
from puresignal.core.midi import messages
from puresignal.io import ports


def main() -> None:
    options = Options((ports.SCREEN_PADS,), bpm=300.0, count_in=0, bars=1, loop=True, click="none")
    recording = Recording(options, lambda line: None)
    recording.wait(lambda: False)
    recording.start()
    chance, number = random.Random(int(sys.argv[1])), 0
    while True:
        print(time.monotonic(), number, flush=True)
        recording._router.play(ports.SCREEN_PADS, messages.note_on(10, number % 128, 1 + number // 128 % 127))
        number += 1
        until = time.monotonic() + chance.uniform(0.005, 0.05)
        while time.monotonic() < until:
            recording._router.read(0.003)
            recording._player.watch()


if __name__ == "__main__":
    main()
