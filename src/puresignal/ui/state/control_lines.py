"""Controllers, bend and pressure of the chosen take's track along the sheet, and lines drawn over them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QObject

from puresignal.core.midi.messages import BEND, CONTROL, PRESSURE, PROGRAM
from puresignal.core.midi.sound_names import GENERAL_MIDI, Sound, SoundNames
from puresignal.core.path.note_edits import ControlStroke
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import SOUND
from puresignal.translation import mark, tr
from puresignal.ui.state.workbench import Workbench

KNOTS = 512
BANK = (0, 32)
"""The controllers that choose a bank (MIDI 1.0): its upper and its lower seven bits."""
EARLY_SECONDS, BEFORE_SECONDS = 0.08, 0.005
"""Seconds by which a note can be early and still be one of the new bar; and by which its sound is changed before it."""
USUAL: tuple[tuple[int, int, str], ...] = (
    (CONTROL, 1, mark("modulation (1)")), (CONTROL, 7, mark("volume (7)")), (CONTROL, 10, mark("pan (10)")),
    (CONTROL, 11, mark("expression (11)")), (CONTROL, 64, mark("sustain pedal (64)")), (BEND, 0, mark("pitch bend")),
    (PRESSURE, 0, mark("pressure")), (PROGRAM, 0, mark("sounds (program)")),
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class ControlLine:
    """The line of one controller.

    at, value  (n,) seconds of the sheet, and values, each holding until the next
    own, shown (k,) knots: seconds of the take, and of the sheet
    track      key and title; low, high: the range of values
    """

    kind: int
    number: int
    at: np.ndarray
    value: np.ndarray
    own: np.ndarray
    shown: np.ndarray
    track: str
    title: str
    low: float
    high: float


class ControlLines(QObject):
    """The controllers that can be shown and drawn."""

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench

    def kinds(self) -> list[tuple[int, int, str]]:
        """(kind, number, words): the usual ones, and those that the chosen take has."""
        found = [(kind, number, tr(words)) for kind, number, words in USUAL]
        own = self._workbench.own
        if own is not None:
            controls = own.outcome.controls
            mine = controls.number[controls.kind == CONTROL]
            for number in np.unique(mine).tolist():
                if not any(kind == CONTROL and there == number for kind, there, _ in found):
                    found.append((CONTROL, number, tr("controller {n}", n=number)))
        return found

    def line(self, kind: int, number: int, selected: np.ndarray) -> ControlLine | None:
        """A controller on the track of the selected notes, or on the first of the chosen take.

        selected  origins as they are shown
        """
        bench = self._workbench
        own, seen = bench.own, bench.seen
        if own is None or seen is None or own.ref.kind == SOUND or not own.outcome.tracks:
            return None
        index = self._track(selected)
        if index is None:
            return None
        track = own.outcome.tracks[index]
        controls = own.outcome.controls
        mine = (controls.track == index) & (controls.kind == kind)
        if kind == CONTROL:
            mine &= controls.number == number
        value = controls.value[mine].astype(float)
        low, high = 0.0, 127.0
        if kind == BEND:
            value = (controls.value[mine].astype(np.int64) << 7 | controls.number[mine].astype(np.int64)) - 8192.0
            low, high = -8192.0, 8191.0
        elif kind in (PRESSURE, PROGRAM):
            value = controls.number[mine].astype(float)
        placed, timeline = bench.placed(own.ref)
        knots = np.linspace(0.0, max(1.0, own.take.length + 1.0), KNOTS)
        shown = placed.seconds(knots, timeline)
        shift = 0.0 if seen.several is None else seen.several.shift
        shown = shown + shift if seen.is_several else knots
        at = np.interp(controls.at[mine], knots, shown)
        title = own.delivery.track(track.key).title or track.title
        return ControlLine(kind, number, at, value, knots, shown, track.key, title, low, high)

    def _track(self, selected: np.ndarray) -> int | None:
        """The track of the selected notes of the chosen take, else the first that has notes or controls."""
        own, seen = self._workbench.own, self._workbench.seen
        assert own is not None
        assert seen is not None
        notes = own.outcome.output_notes
        mine = seen.whose(selected).get(own.ref.ident) if len(selected) else None
        if mine is not None:
            chosen = notes.track[np.isin(notes.origin, mine)]
            if len(chosen):
                return int(chosen[0])
        used = np.unique(np.concatenate([notes.track, own.outcome.controls.track]))
        used = used[used >= 0]
        return int(used[0]) if len(used) else None

    def draw(self, line: ControlLine, points: list[tuple[float, float]], begin: float, end: float) -> None:
        """Draw a line between two seconds of the sheet; without points what is there is taken away."""
        bench = self._workbench
        ref = bench.session.take()
        if ref is None or bench.own is None:
            return
        if bench.session.delivery.track(line.track).locked:
            bench.message_shown.emit(tr("Its track is locked."), False)
            return
        own = [(float(np.interp(at, line.shown, line.own)), value) for at, value in points]
        first, last = (float(np.interp(at, line.shown, line.own)) for at in (begin, end))
        stroke = ControlStroke(line.track, line.kind, line.number, first, last, tuple(own))
        words = next((words for kind, number, words in self.kinds() if (kind, number) == (line.kind, line.number)), "")
        name = tr("draw {what}", what=words) if points else tr("erase {what}", what=words)
        bench.do(name, edits.with_changed(bench.session, ref.ident, edits=ref.edits.with_stroke(stroke)))

    def move_point(self, line: ControlLine, row: int, at: float, value: float) -> None:
        """Put one value of a controller elsewhere, as one step. row: of the line; at: seconds of the sheet"""
        bench = self._workbench
        ref = bench.session.take()
        if ref is None or bench.session.delivery.track(line.track).locked:
            bench.message_shown.emit(tr("Its track is locked."), False)
            return
        before, after = (float(np.interp(second, line.shown, line.own)) for second in (float(line.at[row]), at))
        gone = ControlStroke(line.track, line.kind, line.number, before, before)
        there = ControlStroke(line.track, line.kind, line.number, after, after, ((after, value),))
        made = ref.edits.with_stroke(gone).with_stroke(there)
        bench.do(tr("set a controller's value"), edits.with_changed(bench.session, ref.ident, edits=made))

    def names(self, line: ControlLine) -> SoundNames:
        """The names of the sounds where a track goes."""
        session = self._workbench.session
        return session.destination(session.delivery.track(line.track).port).sounds or GENERAL_MIDI

    def name_of(self, line: ControlLine, row: int) -> str:
        """The receiver's name for the sound of a program change, with its number from 1."""
        names, program = self.names(line), int(line.value[row])
        own = self._workbench.own
        banks = {}
        if own is not None:
            controls = own.outcome.controls
            there = (controls.kind == CONTROL) & np.isin(controls.number, BANK)
            there &= np.isin(controls.track, [i for i, t in enumerate(own.outcome.tracks) if t.key == line.track])
            before = controls.take(there & (controls.at <= np.interp(line.at[row], line.shown, line.own) + 1e-6))
            banks = dict(zip(before.number.tolist(), before.value.tolist(), strict=True))
        bank = (banks[0] << 7 | banks.get(32, 0)) if 0 in banks else None
        place = names.place(bank, program)
        return str(program + 1) if place is None else f"{program + 1} {names.sounds[place].name}"

    def nearest_bar(self, second: float) -> float:
        """The second of the sheet of the bar line that is nearest."""
        seen = self._workbench.seen
        if seen is None or seen.several is None:
            return second
        several = seen.several
        bar, _ = several.timeline.beats_to_bar(several.beat_of(second))
        lines = [several.second_of(several.timeline.bar_to_beats(one)) for one in (bar, bar + 1)]
        return max(0.0, min(lines, key=lambda at: abs(at - second)))

    def set_sound(self, line: ControlLine, second: float, sound: Sound | None, row: int | None = None) -> None:
        """Change to a sound at a second of the sheet, or, without one, take a change away.

        row  of the change that it stands in place of
        """
        bench = self._workbench
        ref, own = bench.session.take(), bench.own
        if ref is None or own is None or bench.session.delivery.track(line.track).locked:
            bench.message_shown.emit(tr("Its track is locked."), False)
            return
        at = float(np.interp(second if row is None else line.at[row], line.shown, line.own))
        if row is None:
            at = max(0.0, self._before_early_notes(line, at))
        wanted = [(PROGRAM, 0, None if sound is None else sound.program)]
        bank = None if sound is None else sound.bank
        halves = (None, None) if bank is None else (bank >> 7, bank & 0x7F)
        wanted = [*((CONTROL, number, half) for number, half in zip(BANK, halves, strict=True)), *wanted]
        made = ref.edits
        for kind, number, value in wanted:
            points = () if value is None else ((at, float(value)),)
            made = made.with_stroke(ControlStroke(line.track, kind, number, at, at, points))
        name = tr("take a change of sound away") if sound is None else tr("change sound")
        bench.do(name, edits.with_changed(bench.session, ref.ident, edits=made))

    def _before_early_notes(self, line: ControlLine, at: float) -> float:
        """A moment for a change that also reaches notes played a little before it. at: seconds of the take"""
        own = self._workbench.own
        assert own is not None
        notes = own.outcome.output_notes
        mine = np.isin(notes.track, [i for i, one in enumerate(own.outcome.tracks) if one.key == line.track])
        early = notes.start[mine & (notes.start < at) & (notes.start > at - EARLY_SECONDS)]
        return float(early.min()) - BEFORE_SECONDS if len(early) else at

    def thin(self, line: ControlLine, begin: float, end: float, tolerance: float) -> None:
        """Keep only the points that a line within a tolerance of the values needs."""
        inside = (line.at >= begin) & (line.at <= end)
        points = simplified(line.at[inside], line.value[inside], tolerance)
        if len(points) > 1:
            self.draw(line, points, begin, end)

    def as_drawn(self) -> bool:
        """Whether anything was drawn on the chosen take."""
        ref = self._workbench.session.take()
        return ref is not None and bool(ref.edits.strokes)

    def undraw(self) -> None:
        """All controllers of the chosen take as they were played."""
        bench = self._workbench
        ref = bench.session.take()
        if ref is not None and ref.edits.strokes:
            made = replace(ref.edits, strokes=())
            bench.do(tr("controllers as played"), edits.with_changed(bench.session, ref.ident, edits=made))


def simplified(at: np.ndarray, value: np.ndarray, tolerance: float) -> list[tuple[float, float]]:
    """The fewest corners of a line that stays within a tolerance of the points.

    Source  D. Douglas and T. Peucker, Algorithms for the reduction of the number of points, 1973
    """
    if len(at) < 3:
        return list(zip(at.tolist(), value.tolist(), strict=True))
    keep = np.zeros(len(at), bool)
    keep[[0, -1]] = True
    parts = [(0, len(at) - 1)]
    while parts:
        a, b = parts.pop()
        if b - a < 2:
            continue
        between = np.interp(at[a + 1 : b], [at[a], at[b]], [value[a], value[b]])
        off = np.abs(value[a + 1 : b] - between)
        worst = int(np.argmax(off))
        if off[worst] > tolerance:
            keep[a + 1 + worst] = True
            parts += [(a, a + 1 + worst), (a + 1 + worst, b)]
    return list(zip(at[keep].tolist(), value[keep].tolist(), strict=True))
