"""Keep every processor awake while something runs that goes by the clock.

`keep_awake.py COMMAND...`. A virtual machine gives an idle processor back to its host, and gets it again late: timers
of 5 ms then come up to 90 ms late though nothing else runs, and a sound server loses blocks that no program lost. One
process per processor that counts in the idle class takes no time from anybody, and makes timers come in time.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path


def keep_busy(processor: int, parent: int) -> None:
    """Count for as long as the parent lives, whenever the processor has nothing else to do."""
    os.sched_setaffinity(0, {processor})
    os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    # Linux weighs sessions against each other first, whatever class the processes in them are of.
    with contextlib.suppress(OSError):
        Path("/proc/self/autogroup").write_text("19")
    while os.getppid() == parent:
        for _ in range(1_000_000):
            pass


@contextlib.contextmanager
def awake() -> Iterator[None]:
    """Every processor that this process may use stays awake within."""
    command = [sys.executable, "-S", __file__, "--processor"]
    busy = [
        subprocess.Popen([*command, str(number), str(os.getpid())], start_new_session=True)
        for number in os.sched_getaffinity(0)
    ]
    try:
        yield
    finally:
        for process in busy:
            process.kill()
            process.wait()


def main(arguments: list[str]) -> int:
    if arguments[:1] == ["--processor"]:
        keep_busy(int(arguments[1]), int(arguments[2]))
        return 0
    if not arguments:
        print("keep_awake.py: name the command to run", file=sys.stderr)
        return 2
    with awake():
        process = subprocess.Popen(arguments)
        # What is meant for the command goes to it; an interrupt of the terminal reaches both.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        signal.signal(signal.SIGTERM, lambda *_: process.terminate())
        code = process.wait()
    return code if code >= 0 else 128 - code


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
