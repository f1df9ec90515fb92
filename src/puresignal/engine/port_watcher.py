"""The process that tells the window which ports there are, as they come and go.

`python -m puresignal.engine.port_watcher` prints a line of JSON when the ports change:
{"ports": [[name, gives, system]], "why": reason why there is no JACK}. It ends when its standard input does.
In a process of its own because JACK's library does not survive that its server dies.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import sys
import time
from typing import Any

from puresignal.io import alsa_ports, jack_ports
from puresignal.io.jack_library import NoServerError
from puresignal.io.ports import MidiPort, merged

LOOK_EVERY = 0.3
ASK_SERVER_EVERY = 2.0


class PortWatcher:
    """Clients that stay open: opening one for each look would disturb everybody on the server."""

    def __init__(self) -> None:
        self._jack: Any = None
        self._alsa: Any = None
        self._kept: object = None
        self._asked = float("-inf")
        self._why = ""
        self.server_gone = False

    def look(self) -> tuple[tuple[MidiPort, ...], str]:
        """The ports now, and why there are none from JACK."""
        if self._jack is None and time.monotonic() - self._asked > ASK_SERVER_EVERY:
            self._asked = time.monotonic()
            try:
                self._jack, self._why = jack_ports.open_client("Pure Signal ports"), ""
                self._kept = jack_ports.on_shutdown(self._jack, self._gone)
            except NoServerError as error:
                self._why = str(error)
        if self._alsa is None:
            self._alsa = alsa_ports.open_client("Pure Signal ports")
        found = jack_ports.ports_of(self._jack) if self._jack is not None else ()
        if self._alsa is not None:
            with contextlib.suppress(Exception):
                # A port may go while it is listed; the next look finds what has stayed.
                found = merged(found, tuple(port for port, _ in alsa_ports.ports_of(self._alsa)))
        return found, self._why

    def _gone(self) -> None:
        self.server_gone = True


def main() -> int:
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    watcher, told = PortWatcher(), None
    while not select.select([0], [], [], LOOK_EVERY if told is not None else 0)[0]:
        if watcher.server_gone:
            # A client cannot be closed safely after its server died; whoever started us starts us again.
            os._exit(0)
        now = watcher.look()
        if now != told:
            told = now
            rows = [[p.name, p.gives, p.system] for p in now[0]]
            try:
                os.write(1, json.dumps({"ports": rows, "why": now[1]}).encode() + b"\n")
            except OSError:
                break
    os._exit(0)


if __name__ == "__main__":
    sys.exit(main())
