"""Everything played in this sitting and in earlier ones, and the stretches of it that are kept as takes."""

from __future__ import annotations

import shutil
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.session import recorded
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import Layout, Move
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.engine.ring import Record
from puresignal.io import journal, killed_recording, recorded_takes
from puresignal.io.killed_recording import Killed
from puresignal.io.recorded_takes import Message, Recorded
from puresignal.translation import tr
from puresignal.ui.state.capture import Capture
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.notices import Notices
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench

MOST_MESSAGES = 400_000
"""Messages of this sitting that are kept at hand; the journal on disk keeps about as many."""


@dataclass(eq=False)
class Played:
    """The playing of one sitting.

    folder    of its journal
    messages  seconds of the clock, name of the port, bytes; in order
    moves     what the transport did
    wall      seconds since 1970 at second 0 of the clock
    on        (n,) seconds of the note-ons
    """

    folder: Path
    messages: list[Message] = field(default_factory=list)
    moves: list[Move] = field(default_factory=list)
    wall: float = 0.0
    on: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def clock_time(self, at: float, seconds: bool = False) -> str:
        """The wall clock's time of a moment."""
        return time.strftime("%H:%M:%S" if seconds else "%H:%M", time.localtime(self.wall + at))

    def day(self) -> str:
        """The day of its end."""
        last = self.messages[-1][0] if self.messages else 0.0
        return time.strftime("%d %B", time.localtime(self.wall + last))

    @property
    def rounds(self) -> list[float]:
        """Moments at which a round of the loop began."""
        return [move.at for move in self.moves if move.kind == recorded.ROUND]


class SittingLog(QObject):
    """The sitting that is shown: this one, or an earlier one.

    changed  more was played, or another sitting is shown
    kept     a stretch was kept where no transport ran: its beats can be looked for
    """

    changed = Signal()
    kept = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, playback: Playback, capture: Capture, notices: Notices,
        parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._live_session, self._playback = workbench, live_session, playback
        self._capture, self._notices = capture, notices
        self.now = Played(live_session.journal_folder(), wall=time.time() - time.monotonic())
        self.shown = self.now
        self._earlier: list[Played] | None = None
        self._new: list[float] = []
        live_session.messages_received.connect(self._receive)
        live_session.transport_moved.connect(self._moved)
        workbench.changed.connect(self.changed)

    def _receive(self, records: list[Record]) -> None:
        names = self._live_session.port_names
        for record in records:
            port = names[record.port] if record.port < len(names) else ""
            if port and not self._capture.is_control(port, record.data):
                self.now.messages.append((record.at, port, record.data))
                if messages.is_note_on(record.data):
                    self._new.append(record.at)
        if len(self.now.messages) > MOST_MESSAGES:
            del self.now.messages[: MOST_MESSAGES // 10]
            self.now.on = self.now.on[self.now.on >= self.now.messages[0][0]]
        if self._new:
            self.now.on = np.concatenate([self.now.on, np.array(self._new)])
            self._new = []
            self.changed.emit()

    def _moved(self, moves: list[tuple[float, dict[str, Any]]]) -> None:
        timeline, _ = self._playback.time()
        self.now.moves += _moves_of(moves, timeline)

    # Earlier sittings

    def earlier(self) -> list[Played]:
        """The sittings before this one that have notes in them, newest first."""
        if self._earlier is None:
            self._earlier = []
            for one in journal.sittings(self.now.folder.parent):
                on = np.array([at for at, _, data in one.rows if messages.is_note_on(data)])
                if one.folder == self.now.folder or not len(on):
                    continue
                rows = [(at, one.inputs[port], data) for at, port, data in one.rows]
                paths = sorted(one.folder.glob("*.journal"))
                moves = _moves_of(journal.read_moves(paths), self._workbench.timeline)
                self._earlier.append(Played(one.folder, rows, moves, one.ended - rows[-1][0], on))
        return self._earlier

    def show_other(self, step: int) -> bool:
        """Show the sitting before (1) the one that is shown, or after it (-1). Returns whether there is one."""
        every = [self.now, *self.earlier()]
        place = every.index(self.shown) + step
        if not 0 <= place < len(every):
            return False
        self.shown = every[place]
        self.changed.emit()
        return True

    def throw_away(self) -> None:
        """Delete the earlier sitting that is shown, for good."""
        if self.shown is not self.now:
            shutil.rmtree(self.shown.folder, ignore_errors=True)
            self._earlier = [one for one in self.earlier() if one is not self.shown]
            self.shown = self.now
            self.changed.emit()

    # Keeping

    def brackets(self) -> list[tuple[float, float, str]]:
        """Stretches of the sitting that is shown that are takes: (begin, end, ident of the take)."""
        bench = self._workbench
        found = []
        for ref in bench.session.takes:
            take = bench.store.by_ident.get(ref.material)
            if take is None or take.begun is None or not self._is_of_shown(take):
                continue
            notes = take.events.arrived[(take.events.status & 0xF0 == 0x90) & (take.events.data2 > 0)]
            if len(notes):
                found.append((take.begun + float(notes[0]), take.begun + float(notes[-1]), ref.ident))
        return found

    def _is_of_shown(self, take: Take) -> bool:
        """Whether a take's first note is among those that are shown: the clock begins anew with each start."""
        notes = take.events.arrived[(take.events.status & 0xF0 == 0x90) & (take.events.data2 > 0)]
        if not len(notes) or take.begun is None or not len(self.shown.on):
            return False
        return bool(np.abs(self.shown.on - (take.begun + float(notes[0]))).min() < 0.25)

    def notes_between(self, begin: float, end: float) -> int:
        on = self.shown.on
        return int(((on >= begin) & (on <= end)).sum())

    def keep(self, begin: float, end: float) -> None:
        """Keep a stretch as a take of each input that played in it.

        Where the transport ran they stand where they were played, rounds of the loop stacked as passes; elsewhere at
        the bar where the position is.
        """
        bench, timeline = self._workbench, self._playback.time()[0]
        shown = self.shown
        begin, end = begin - 0.02, end + 0.02
        delay = -(bench.session.recording.in_delay + bench.session.recording.out_delay) / 1000.0
        layouts = recorded.stretches_of(shown.moves, timeline, begin, end)
        ran = bool(layouts)
        if not ran:
            beat = self._playback.beat_of(self._playback.place)
            bar = timeline.bar_to_beats(timeline.beats_to_bar(beat + 1e-6)[0])
            layouts = [Layout(begin, end, bar, Timeline.steady(120))]
        made: list[tuple[Take, TakeRef]] = []
        inputs = self._inputs(shown.messages, begin, end)
        for layout in layouts:
            idents = bench.store.free_idents(len(made) + len(inputs))[len(made) :]
            takes = recorded_takes.takes_of(
                shown.messages, layout, inputs, idents, len(bench.session.takes) + len(made) + 1, delay
            )
            made += [self._ref_of(one, ran, shown.clock_time(begin, True)) for one in takes]
        if not made:
            self._notices.tell(tr("Nothing was played there."), False)
            return
        bench.add_recorded(made, tr("keep earlier playing"))
        if not ran:
            self.kept.emit()

    def _inputs(self, arrived: Sequence[Message], begin: float, end: float) -> list[LiveInput]:
        """The session's inputs, and one for each port that was played but belongs to none of them now."""
        inputs = [one for one in self._workbench.session.inputs if one.port]
        known = {port for one in inputs for port, _ in one.listens}
        played = {port for at, port, data in arrived if begin <= at <= end and messages.is_note_on(data)}
        return [*inputs, *(LiveInput(port) for port in sorted(played - known))]

    def _ref_of(self, one: Recorded, ran: bool, when: str) -> tuple[Take, TakeRef]:
        bench = self._workbench
        take = replace(one.take, name=tr("Kept, {when}").format(when=when))
        source = one.played_on.source or bench.likely_map(take)
        ref = bench.ref_for(take, source, one.played_on if one.played_on.ident else None)
        ref = replace(ref, beat=one.beat, passes=one.passes, delay=one.delay)
        return take, replace(ref, grid=one.grid) if ran else ref

    # A recording that was cut off

    def offer_killed(self) -> None:
        """Offer a recording that was cut off, if there is one."""
        killed = killed_recording.find(self.now.folder.parent, self.now.folder)
        if killed is not None:
            when = time.strftime("%H:%M", time.localtime(killed.ended))
            self._notices.offer(
                tr("A recording was cut off at {when}. What was played is still here.").format(when=when),
                tr("Bring it back"), tr("Adds it as takes, with its passes, up to the last note."),
                lambda: self.bring_back(killed),
            )  # fmt: skip

    def bring_back(self, killed: Killed) -> None:
        """Add what a recording that was cut off had taken."""
        bench = self._workbench
        mine = {one.ident: one for one in bench.session.inputs}
        inputs = []
        for heard in killed.inputs:
            same = mine.get(heard.ident)
            inputs.append(replace(heard, source=same.source if same is not None and same.port == heard.port else None))
        made: list[tuple[Take, TakeRef]] = []
        for one in killed.takes(inputs, bench.store.free_idents(len(inputs)), len(bench.session.takes) + 1):
            source = one.played_on.source or bench.likely_map(one.take)
            known = one.played_on if one.played_on.ident in mine else None
            ref = replace(bench.ref_for(one.take, source, known), beat=one.beat, passes=one.passes, delay=one.delay)
            made.append((one.take, replace(ref, grid=one.grid) if killed.knew_time else ref))
        if made:
            if bench.session.timeline is None:
                bench.do(tr("set tempo"), edits.with_timeline(bench.session, killed.timeline))
            bench.add_recorded(made, tr("record take"))
        try:
            killed.done()
        except (PureSignalError, OSError) as error:
            self._notices.tell(str(error), True)


def _moves_of(moves: Sequence[tuple[float, dict[str, Any]]], timeline: Timeline) -> list[Move]:
    """The moves of the transport among what was noted, in beats of a timeline."""
    found = []
    for at, what in moves:
        kind = what.get("move")
        if kind in (recorded.PLAY, recorded.ROUND, recorded.MOVED, recorded.STOP):
            beat = float(timeline.seconds_to_beats(np.array([float(what.get("seconds", 0.0))]))[0])
            found.append(Move(at, kind, beat, float(what.get("speed", 1.0))))
    return found
