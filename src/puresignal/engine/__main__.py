"""The router process: `python -m puresignal.engine FD...` with open file numbers (see engine/client.py)."""

from __future__ import annotations

import select
import signal
import socket
import sys

from puresignal.engine.host import Host
from puresignal.engine.message_flow import MessageFlow
from puresignal.engine.pulse import ROUTER, Pulse
from puresignal.engine.ring import Reader, Writer
from puresignal.engine.shared_counters import SharedCounters


def main() -> int:
    control, memory, ring, sent, knock, playback, clock, pulse, sync, found, ready, *feeds = map(int, sys.argv[1:])
    # It may have been started ahead, to stand by: everything is ready, and what it reads begins when it is asked.
    select.select([control], [], [])
    # Readers continue where the previous router stopped, so that nothing played during a restart is lost.
    own = [Reader(feed, keeps_place=True) for feed in feeds]
    flow = MessageFlow(Writer(ring), Writer(sent), own, Reader(playback), SharedCounters(clock), Writer(sync))
    # Whoever is busy for long on a slow machine does not hang.
    Pulse(pulse, ROUTER).keep_beating()
    host = Host(socket.socket(fileno=control), memory, flow, knock, (SharedCounters(found), SharedCounters(ready)))
    for one in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(one, lambda *_: host.end())
    host.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
