"""The router as a program of its own: `python -m puresignal.engine SOCKET MEMORY RING`, numbers of open files."""

from __future__ import annotations

import mmap
import signal
import socket
import sys

from puresignal.engine.jackhost import JackHost
from puresignal.engine.ring import Writer
from puresignal.engine.router import SOUNDING_SIZE


def main() -> int:
    control = socket.socket(fileno=int(sys.argv[1]))
    sounding = mmap.mmap(int(sys.argv[2]), SOUNDING_SIZE)
    host = JackHost(control, sounding, Writer(int(sys.argv[3])))
    for one in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(one, lambda *_: host.end())
    host.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
