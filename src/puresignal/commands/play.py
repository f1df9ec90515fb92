"""`pure-signal play`: plays a session or a MIDI file to a port."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from puresignal.commands import clean
from puresignal.core.errors import BadFileError
from puresignal.core.export import whole_session
from puresignal.core.export.playback_events import Score, score
from puresignal.core.export.session_result import SessionResult
from puresignal.core.path.cleaning_path import CleaningPath, with_faults, with_unmapped
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, SOUND, TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import session_file
from puresignal.translation import tr

SESSION_ENDING = ".puresignal"


class Playing:
    """A file on its way to a port.

    length  seconds from its beginning to its end
    """

    def __init__(self, path: Path, port: str, from_bar: int, loop: bool):
        """Raises FileAccessError or BadFileError"""
        self._port, self._loop = port, loop
        self.score, self.length, timeline, shift = _score_of(path, port)
        self.begin = float(timeline.beats_to_seconds(np.array([timeline.bar_to_beats(from_bar)]))[0]) + shift
        if self.begin >= self.length:
            raise BadFileError(
                tr("It ends before bar {bar}", bar=from_bar), path.name, tr("Give an earlier bar with --from.")
            )
        # From its very beginning, what sounds before bar 1 is played too.
        self.begin = 0.0 if from_bar == 1 else self.begin
        self._router = RouterProcess(RouterConfig((), (port,), None, None))
        self._player = PlayerProcess(self._router)

    def wait(self, stopped: Callable[[], bool], told: Callable[[str], None]) -> bool:
        """Wait until the port is there, saying so. Returns False if it was stopped before."""
        said: list[str] = []
        while not stopped():
            state = self._router.read(0.1)
            if state is None:
                continue
            found = state["outputs"][0]
            if found:
                line = f"output: {found}"  # not shown
            elif not state["server"]:
                line = tr("waiting for the JACK server")
            else:
                line = tr("waiting for a port called {name!r} ({what})", name=self._port, what="output")
            if line not in said:
                said.append(line)
                told(line)
            if found:
                return True
        return False

    def run(self, stopped: Callable[[], bool]) -> None:
        """Play until its end, or until it is stopped. Nothing is left sounding."""
        self._player.use(self.score.at, self.score.data)
        self._player.loop((self.begin, self.length) if self._loop else None)
        self._player.play(self.begin, list(self.score.first))
        begun = False
        while not stopped():
            self._router.read(0.05)
            self._player.watch()
            begun = begun or self._player.playing
            if begun and not self._player.playing:
                break
        self._player.stop()
        # The ends of what sounded leave with the next blocks.
        self._router.read(0.2)

    def close(self) -> None:
        self._player.close()
        self._router.close()


def _score_of(path: Path, port: str) -> tuple[Score, float, Timeline, float]:
    """The playback of a file: messages, length in seconds, its tempo, and the seconds before bar 1."""
    if path.suffix.lower() == SESSION_ENDING:
        opened = session_file.read(path)
        session, takes = opened.session, {take.ident: take for take in opened.takes}
    else:
        take = clean.open_take(path, "take1")
        # A MIDI file is played as it is.
        bare = with_unmapped(with_faults(CleaningPath(), False), "keep")
        session = edits.with_take(Session(path=bare), TakeRef("take1", take.name, kind=IMPORTED))
        takes = {"take1": take}
    if not any(ref.is_in for ref in session.takes):
        raise BadFileError(tr("No take of this session is in"), path.name, tr("Switch one in, in the window."))
    refs = tuple(ref for ref in session.takes if ref.is_in and ref.kind != SOUND)
    if not refs:
        raise BadFileError(tr("There are no notes in it"), path.name, tr("Recorded sound is not sent to a MIDI port."))
    made = SessionResult().together(session, refs, takes)
    delivery = whole_session.delivery_of(session)
    delivery = replace(delivery, tracks=tuple(replace(track, port="") for track in delivery.tracks))
    played = score(made.outcome, delivery, (port,), port)
    return played, max(made.take.length, float(played.at[-1]) if len(played.at) else 0.0), made.timeline, made.shift
