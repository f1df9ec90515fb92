"""The recorder process: copies the ring into the journal until its pipe is closed.

`python -m puresignal.engine.recorder RING PIPE PULSE MOVES FOLDER INPUT...`, numbers of open files: RING is what
arrives, MOVES what the transport does.
"""

from __future__ import annotations

import os
import select
import signal
import sys
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.engine.pulse import RECORDER, REFUSED, Pulse
from puresignal.engine.ring import Reader
from puresignal.io.journal import Syncer, Writer, already_written, forget_old, last_rows

EVERY = 0.01
"""Seconds between reads of the ring: well within the 50 ms that a crash may cost."""


def main() -> int:
    ring, pipe, pulse, moves, folder, *inputs = sys.argv[1:]
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    # The disk may make it wait for long.
    life = Pulse(int(pulse), RECORDER)
    life.keep_beating()
    # Continues where the previous recorder stopped, so that nothing that arrived in between is lost.
    reader, moved = Reader(int(ring), keeps_place=True), Reader(int(moves), keeps_place=True)
    forget_old(Path(folder).parent, Path(folder))
    try:
        journal = Writer(Path(folder), tuple(inputs))
    except PureSignalError as error:
        print(f"pure-signal: {error}", file=sys.stderr)
        return 1
    syncer = Syncer(journal)
    begun, tail = False, last_rows(Path(folder))
    while True:
        # First what the transport did: a hit is of use only with the round that it fell into.
        journal.add_moves(moved.read())
        records = reader.read()
        # The previous recorder may have stopped between writing and noting its position.
        journal.add(records if begun else records[already_written(records, tail) :])
        begun = True
        life.say(REFUSED, 0 if journal.refused is None else journal.refused.errno or 1)
        if journal.refused is None:
            # What is only in this process's memory is read again if it dies.
            moved.keep_place()
            reader.keep_place()
        ready, _, _ = select.select([int(pipe)], [], [], EVERY)
        if ready and not os.read(int(pipe), 1):
            break
    journal.add_moves(moved.read())
    journal.add(reader.read())
    syncer.end()
    journal.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
