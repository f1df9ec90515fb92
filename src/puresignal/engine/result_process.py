"""The process that works out results beside the window.

`python -m puresignal.engine.result_process SOCKET WRITES READS`: numbers of open files: a socket, and the memory in
which it writes and reads long messages. It is told how the program numbers stages and reasons, and then reads what is
wanted, one after the other, and answers each with what it has made.
"""

from __future__ import annotations

import gc
import signal
import sys
from dataclasses import replace
from multiprocessing.connection import Connection

import numpy as np

from puresignal.core.errors import PureSignalError
from puresignal.core.export.result_maker import Made, ResultMaker, Wanted
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.engine.mirror import Mirror


def names() -> tuple[list[str], list[str]]:
    """Stages and reasons in the order of their numbers, which hangs on what was imported first."""
    return [Stage.of(i).key for i in range(Stage.count())], [Reason.of(i).word for i in range(Reason.count())]


class Numbers:
    """Turns the numbers of stages and reasons into those of the program."""

    def __init__(self, theirs: tuple[list[str], list[str]]):
        self._maps = []
        for own, other in zip(names(), theirs, strict=True):
            place = {name: i for i, name in enumerate(other)}
            self._maps.append(np.array([place.get(name, -1) for name in own], np.int64))
        self._told: dict[int, tuple[SeveralTakes, SeveralTakes]] = {}
        self._same = all(np.array_equal(one, np.arange(len(one))) for one in self._maps)

    def made(self, made: Made) -> Made:
        """Results that the program can read; the same ones again for the same."""
        if self._same:
            return made
        parts = (made.own, made.whole, made.heard)
        told = {id(one[1]): self._told.get(id(one[1])) or (one[1], self._turned(one[1])) for one in parts if one}
        # What is no longer asked for is forgotten.
        self._told = told
        return Made(*(None if one is None else (one[0], told[id(one[1])][1]) for one in parts))

    def _turned(self, several: SeveralTakes) -> SeveralTakes:
        outcome, (stages, reasons) = several.outcome, self._maps
        entries = outcome.tally.entries
        entries = entries.but(stage=stages[entries.stage], reason=reasons[entries.reason])
        return replace(several, outcome=replace(outcome, tally=replace(outcome.tally, entries=entries)))


def main() -> int:
    """Answer until the window is gone."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    socket, writes, reads = map(int, sys.argv[1:4])
    mirror = Mirror(Connection(socket), 1, (writes, reads))
    maker = ResultMaker()
    gc.freeze()
    try:
        numbers = Numbers(mirror.receive())
        while True:
            wanted: Wanted = mirror.receive()
            try:
                mirror.send(numbers.made(maker.made(wanted)))
            except PureSignalError:
                # The window does it itself and shows what is wrong.
                mirror.send(None)
    except (EOFError, OSError):
        return 0


if __name__ == "__main__":
    sys.exit(main())
