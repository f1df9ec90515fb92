"""A recording that was cut off - by a kill, a crash, a power cut - rebuilt from the journal alone."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, FileAccessError
from puresignal.core.session import recorded
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import Begun, Move
from puresignal.core.session.recording import AFTER_COUNT_IN, STARTS
from puresignal.core.timing.session_time import Timeline
from puresignal.io import journal, recorded_takes, session_reader
from puresignal.io.recorded_takes import Recorded

DONE = "recordings-brought-back"
"""A file beside the journal: its cut off recording is in a session, or was thrown away."""
MOST_BEATS = 1e7


@dataclass(frozen=True, eq=False)
class Killed:
    """The remains of a recording.

    folder    of its journal
    noted     what the window wrote when it began
    messages  what arrived: seconds of the clock, name of the port, bytes
    moves     of the transport, since it last began to play
    timeline  the session's at the beginning
    off       passes that were taken out while the loop ran
    ended     wall clock of the last line, seconds since 1970
    """

    folder: Path
    noted: dict[str, Any]
    messages: list[tuple[float, str, bytes]]
    moves: list[Move]
    timeline: Timeline
    off: tuple[int, ...]
    ended: float

    @property
    def inputs(self) -> tuple[LiveInput, ...]:
        return session_reader.inputs_from(self.noted.get("inputs"), self.folder.name)

    @property
    def knew_time(self) -> bool:
        """Whether the players heard where the beats are."""
        return self.noted.get("knew_time") is True

    def takes(self, inputs: Iterable[LiveInput], idents: Iterable[str], numbered_from: int) -> list[Recorded]:
        """Takes of it, up to the last thing that arrived. inputs: those of `inputs`, with their kits if known."""
        last = max([at for at, _, _ in self.messages] + [move.at for move in self.moves])
        layout = recorded.layout_of(self._begun(), self.moves, self.timeline, last + 1e-3)
        if layout is None:
            return []
        return recorded_takes.takes_of(
            self.messages, layout, tuple(inputs), idents, numbered_from, _number(self.noted, "delay", 0.0), None,
            self.off, self.noted.get("only_last") is True,
        )  # fmt: skip

    def _begun(self) -> Begun:
        start = self.noted.get("start")
        return Begun(
            _number(self.noted, "record", 0.0), _number(self.noted, "pressed", self.moves[0].at),
            start if start in STARTS else AFTER_COUNT_IN, min(16.0, max(0.0, _number(self.noted, "early", 0.5))),
            self.noted.get("by_hand") is True, self.noted.get("pre_roll") is True,
        )  # fmt: skip

    def done(self) -> None:
        """It is in a session, or was thrown away: it is not offered again."""
        (self.folder / DONE).write_text(str(_number(self.noted, "pressed", 0.0)))


def find(sittings: Path, but: Path) -> Killed | None:
    """The newest recording that was not ended; None if there is none. but: this program's own folder."""
    try:
        folders = sorted((one for one in sittings.iterdir() if one.is_dir() and one != but), key=_when, reverse=True)
    except OSError:
        return None
    for folder in folders[:3]:
        if _is_in_use(folder):
            continue
        try:
            found = _cut_off(folder)
        except (FileAccessError, BadFileError, OSError):
            continue
        if found is not None:
            return found
    return None


def _is_in_use(folder: Path) -> bool:
    """Whether another window records into it now: its recorder was started with the folder's name."""
    name = str(folder).encode()
    for process in Path("/proc").glob("[0-9]*/cmdline"):
        with contextlib.suppress(OSError):
            words = process.read_bytes().split(b"\0")
            if b"puresignal.engine.recorder" in words and name in words:
                return True
    return False


def _when(folder: Path) -> float:
    return max((path.stat().st_mtime for path in folder.glob("*.journal")), default=0.0)


def _cut_off(folder: Path) -> Killed | None:
    paths = sorted(folder.glob("*.journal"))
    if not paths:
        return None
    noted: dict[str, Any] | None = None
    moves: list[Move] = []
    off: list[int] = []
    timeline, named = Timeline(), {}
    last: dict[str, Any] = {}
    for at, what in journal.read_moves(paths):
        note = what.get("note")
        if isinstance(note, dict):
            if "record_end" in note:
                noted = None
            elif "record" in note:
                noted, off = note, []
                named = {"timeline": session_reader.timeline_from(note.get("timeline"), folder.name) or Timeline()}
                timeline = named["timeline"]
                if note.get("by_hand") is not True:
                    moves = []
            elif "off" in note and isinstance(note["off"], list):
                off = [one for one in note["off"] if isinstance(one, int) and 0 <= one < 1_000_000]
            elif "timeline" in note:
                timeline = session_reader.timeline_from(note["timeline"], folder.name) or timeline
                if moves and moves[-1].kind == recorded.MOVED:
                    # The tempo is noted after the move to it.
                    moves[-1] = _move(moves[-1].at, last, timeline) or moves[-1]
            continue
        move, last = _move(at, what, timeline), what
        if move is not None:
            moves = [move] if move.kind == recorded.PLAY else [*moves, move]
    if noted is None or not moves or moves[0].kind != recorded.PLAY or _is_done(folder, noted):
        return None
    rows: list[tuple[float, str, bytes]] = []
    for path in paths:
        names, more = journal.read([path])
        rows += [(at, names[port], data) for at, port, data in more if port < len(names)]
    return Killed(folder, noted, rows, moves, named["timeline"], tuple(off), _when(folder))


def _move(at: float, what: dict[str, Any], timeline: Timeline) -> Move | None:
    kind, seconds, speed = what.get("move"), what.get("seconds"), what.get("speed")
    if kind not in (recorded.PLAY, recorded.ROUND, recorded.MOVED, recorded.STOP):
        return None
    if not isinstance(seconds, int | float) or not isinstance(speed, int | float) or not 0.01 < speed < 100:
        return None
    beat = float(timeline.seconds_to_beats(np.array([float(seconds)]))[0])
    if not -MOST_BEATS < beat < MOST_BEATS:
        return None
    return Move(at, kind, beat, float(speed), timeline if kind == recorded.MOVED else None)


def _number(row: dict[str, Any], key: str, usual: float) -> float:
    value = row.get(key)
    return float(value) if isinstance(value, int | float) and abs(value) < 1e9 else usual


def _is_done(folder: Path, noted: dict[str, Any]) -> bool:
    try:
        return (folder / DONE).read_text() == str(_number(noted, "pressed", 0.0))
    except OSError:
        return False
