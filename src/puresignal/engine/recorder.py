"""The recorder as a program of its own: from the ring into the journal, until it is let go of.

`python -m puresignal.engine.recorder RING PIPE FOLDER INPUT...`: numbers of open files; the
closing of the pipe is the word to end.
"""

from __future__ import annotations

import os
import select
import signal
import sys
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.engine.ring import Reader
from puresignal.io.journal import Writer, already_written, forget_old, last_rows

EVERY = 0.01
"""Seconds between looks into the ring: well within the 50 ms that a crash may cost."""


def main() -> int:
    ring, pipe, folder, *inputs = sys.argv[1:]
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    # From where the recorder before this one stopped: what came while there was none is not lost.
    reader = Reader(int(ring), keeps_place=True)
    forget_old(Path(folder).parent, Path(folder))
    try:
        journal = Writer(Path(folder), tuple(inputs))
    except PureSignalError as error:
        print(f"pure-signal: {error}", file=sys.stderr)
        return 1
    begun, tail = False, last_rows(Path(folder))
    while True:
        records = reader.read()
        # One before this may have been stopped between writing and noting how far it had come.
        journal.add(records if begun else records[already_written(records, tail) :])
        begun = True
        reader.keep_place()
        ready, _, _ = select.select([int(pipe)], [], [], EVERY)
        if ready and not os.read(int(pipe), 1):
            break
    journal.add(reader.read())
    journal.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
