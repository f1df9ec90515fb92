"""The beats of the chosen take: found in its playing, mended by hand, and made the session's tempo."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.core.analysis.take_onsets import onsets_in
from puresignal.core.session import session as edits
from puresignal.core.session import tempo_edits
from puresignal.core.session.arrangement import Loop
from puresignal.core.session.take_ref import DRAWN, GENERATED, SOUND, TakeRef
from puresignal.core.timing import beat_edits, beat_finder, found_grid, loop_finder
from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.onsets import Onsets
from puresignal.core.timing.session_time import Timeline
from puresignal.io import beat_model
from puresignal.translation import tr
from puresignal.ui.state.background import Background
from puresignal.ui.state.notices import Notices
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench

CONFIDENT, DOUBTFUL = 0.75, 0.5
"""Confidence from which found beats are called sure, and below which they are called doubtful: it is about the chance
that the bars are right (decision 20)."""


@dataclass(frozen=True, eq=False)
class BeatLines:
    """The beats of the chosen take where they stand on the timeline.

    seconds  (n,) of what is shown
    sure     (n,) 0..1
    down     (n,) bool, begins a bar
    bars     (n,) number of the bar in which each is, from 1; 0 and below before the first
    """

    seconds: np.ndarray
    sure: np.ndarray
    down: np.ndarray
    bars: np.ndarray


class TakeTempo(QObject):
    """Edits on the chosen take's own grid, each one step of the history.

    changed  another take, other beats, or looked for now
    """

    changed = Signal()

    def __init__(
        self, workbench: Workbench, playback: Playback, background: Background, notices: Notices,
        parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._playback = workbench, playback
        self._background, self._notices = background, notices
        self.looking = False
        self._beats: tuple[object, Beats | None] = (None, None)
        self._onsets: tuple[object, Onsets | None] = (None, None)
        self._told: dict[str, tuple[Timeline, float]] = {}
        self._taps: list[float] = []
        self._drags = 0
        self._from: Beats | None = None
        workbench.changed.connect(self.changed.emit)

    # What is there

    def ref(self) -> TakeRef | None:
        """The chosen take, if beats can be found in it."""
        ref = self._workbench.session.take()
        return None if ref is None or ref.kind in (SOUND, DRAWN, GENERATED) or ref.passes else ref

    def onsets(self) -> Onsets | None:
        """The onsets of the chosen take."""
        own = self._workbench.own
        if own is None or self.ref() is None:
            return None
        if self._onsets[0] is not own.outcome:
            self._onsets = own.outcome, onsets_in(own.outcome)
        return self._onsets[1]

    def beats(self) -> Beats | None:
        """The beats of the chosen take's own grid, None if it has none."""
        ref, onsets, own = self.ref(), self.onsets(), self._workbench.own
        if ref is None or ref.grid is None or onsets is None or own is None:
            return None
        key = ref.grid, id(onsets)
        if self._beats[0] != key:
            beats = found_grid.beats_of(ref.grid, own.take.length)
            told = self._told.get(ref.ident)
            confidence = told[1] if told is not None and told[0] == ref.grid else 1.0
            sure = beat_edits.how_sure(beats.time, onsets)
            self._beats = key, replace(beats, sure=sure, confidence=confidence)
        return self._beats[1]

    @property
    def bpm(self) -> float:
        """The usual tempo of the grid, in quarter notes per minute; 0 without one."""
        ref = self.ref()
        return 0.0 if ref is None or ref.grid is None else found_grid.usual_bpm(ref.grid)

    @property
    def meter(self) -> str:
        """The meter of the grid, like 6/8."""
        ref = self.ref()
        if ref is None or ref.grid is None:
            return ""
        one = ref.grid.meter_at(1)
        return f"{one.numerator}/{one.denominator}"

    def lines(self) -> BeatLines | None:
        """The beats where they stand on the timeline."""
        beats, ref, seen = self.beats(), self.ref(), self._workbench.seen
        if beats is None or ref is None or seen is None or seen.several is None:
            return None
        if ref.ident not in seen.several.idents:
            return None
        placed, timeline = self._workbench.placed(ref)
        shift = seen.several.shift if seen.is_several else 0.0
        seconds = placed.seconds(beats.time, timeline) + shift if seen.is_several else beats.time
        return BeatLines(seconds, beats.sure, beats.down, np.cumsum(beats.down))

    def own_second(self, second: float) -> float:
        """The second of the take at a second of what is shown."""
        ref, seen = self.ref(), self._workbench.seen
        if ref is None or seen is None or seen.several is None or not seen.is_several:
            return second
        return tempo_edits.material_second(*self._workbench.placed(ref), second - seen.several.shift)

    # Finding

    def find(self) -> None:
        """Look for the beats of the chosen take, beside the window."""
        ref, onsets = self.ref(), self.onsets()
        if ref is None or onsets is None:
            self._notices.tell(tr("Choose a played take, or a MIDI file, to find the beats in it."), True)
            return
        self.looking = True
        self.changed.emit()
        self._background.run(
            "beats",
            lambda: beat_finder.find(onsets, beat_model.shipped()),
            lambda found: self._found(ref.ident, found),
        )

    def _found(self, ident: str, found: Beats) -> None:
        self.looking = False
        session = self._workbench.session
        if session.take(ident) is None:
            return
        if len(found.time) < 2 or found.confidence < beat_finder.LEAST:
            self._notices.tell(
                tr("No steady beat was found. Play the take and tap along with T to set the beats yourself."), True
            )
            self.changed.emit()
            return
        self._told[ident] = found_grid.grid_of(found), found.confidence
        self._do(tr("find beats"), found, ident)

    def _do(self, name: str, beats: Beats, ident: str | None = None, gesture: str | None = None) -> None:
        """Store beats as the take's grid."""
        bench = self._workbench
        ref = bench.session.take(ident)
        if ref is not None and len(beats.time) > 1:
            grid = found_grid.grid_of(beats)
            bench.do(name, tempo_edits.with_grid(bench.session, ref.ident, grid, bench.timeline), gesture)

    def forget(self) -> None:
        """Take the grid away again."""
        ref, bench = self.ref(), self._workbench
        if ref is not None and ref.grid is not None:
            bench.do(tr("remove beats"), tempo_edits.with_grid(bench.session, ref.ident, None, bench.timeline))

    # Mending

    def _edit(self, name: str, edit: Callable[[Beats, Onsets], Beats], gesture: str | None = None) -> None:
        beats, onsets = self.beats(), self.onsets()
        if beats is not None and onsets is not None:
            self._do(name, edit(beats, onsets), gesture=gesture)

    def halve(self) -> None:
        self._edit(tr("half the speed"), beat_edits.halved)

    def double(self) -> None:
        self._edit(tr("double the speed"), beat_edits.doubled)

    def move_downbeat(self, by: int) -> None:
        """Bars begin a beat later (1) or earlier (-1)."""
        self._edit(tr("move bar lines"), lambda beats, _: beat_edits.with_downbeat_moved(beats, by))

    def set_downbeat(self, which: int) -> None:
        """A beat begins a bar."""
        self._edit(tr("set bar line"), lambda beats, _: beat_edits.with_downbeat(beats, which))

    def set_meter(self, meter: int, thirds: bool) -> None:
        """Beats in a bar, and whether each is divided in three."""
        self._edit(tr("change meter"), lambda beats, _: beat_edits.with_meter(beats, meter, thirds))

    def drag(self, which: int, second: float) -> None:
        """A line is dragged to a second of what is shown. One drag is one step of the history."""
        onsets = self.onsets()
        if self._from is None:
            self._from = self.beats()
            self._drags += 1
        if self._from is not None and onsets is not None:
            moved = beat_edits.moved(self._from, which, self.own_second(second), onsets)
            self._do(tr("move beat"), moved, gesture=f"beat {self._drags}")  # not shown

    def release(self) -> None:
        self._from = None

    def tap(self, second: float) -> None:
        """A tap along with the playback, at a second of what is heard; three begin to count."""
        at = self.own_second(second)
        if self._taps and not 0.0 < at - self._taps[-1] < 3.0:
            self._taps.clear()
        self._taps.append(at)
        onsets, own = self.onsets(), self._workbench.own
        if onsets is None or own is None or len(self._taps) < beat_edits.FEWEST_TAPS:
            return
        if len(self._taps) == beat_edits.FEWEST_TAPS:
            self._drags += 1
        beats = self.beats()
        if beats is None or self._from is None:
            self._from = beats or Beats(np.zeros(0), np.zeros(0), np.zeros(0, bool), 4, False, 1.0)
        tapped = beat_edits.tapped(self._from, np.array(self._taps), onsets, own.take.length)
        self._do(tr("tap beats"), tapped, gesture=f"taps {self._drags}")  # not shown

    @property
    def taps(self) -> int:
        """Taps so far in a row."""
        return len(self._taps)

    def end_taps(self) -> None:
        """The next tap is the first of others."""
        self._taps.clear()
        self._from = None

    # Using

    def use_as_session_tempo(self) -> None:
        """The take keeps its seconds, and the session gets its tempo and meters."""
        ref, bench = self.ref(), self._workbench
        if ref is None or ref.grid is None:
            return
        others = tempo_edits.moving(bench.session, ref.ident)
        session = tempo_edits.as_session_tempo(bench.session, ref.ident, *bench.placed(ref))
        bench.do(tr("use tempo of the take"), session)
        if others:
            text = tr("{takes} follow the beats and moved along with the new tempo.")
            self._notices.tell(text.format(takes=", ".join(others)), False)

    def straighten(self, bpm: float | None) -> None:
        """The take's beats stand on the session's; bpm: its tempo from now on, None: as it is."""
        ref, bench = self.ref(), self._workbench
        if ref is None or ref.grid is None:
            return
        others = tempo_edits.moving(bench.session, ref.ident) if bpm is not None else ()
        session = tempo_edits.straightened(bench.session, ref.ident, *bench.placed(ref), bpm)
        bench.do(tr("straighten take"), session)
        if others:
            text = tr("{takes} follow the beats and moved along with the new tempo.")
            self._notices.tell(text.format(takes=", ".join(others)), False)

    # Rounds

    def rounds(self) -> loop_finder.Rounds | None:
        """The stretch that was played round and round in the take, or None."""
        beats, onsets = self.beats(), self.onsets()
        return None if beats is None or onsets is None else loop_finder.find(beats, onsets)

    def loop_rounds(self) -> None:
        """Make the first round the loop, and play it looped."""
        rounds, lines, seen = self.rounds(), self.lines(), self._workbench.seen
        if rounds is None or lines is None or seen is None or seen.several is None:
            return
        bars = lines.seconds[np.flatnonzero(lines.down)]
        begin, end = float(bars[rounds.first]), float(bars[rounds.first + rounds.bars])
        loop = Loop(seen.several.beat_of(begin), seen.several.beat_of(end))
        self._workbench.do(tr("set loop"), edits.with_loop(self._workbench.session, loop))
        self._playback.set_span((begin, end))
        self._playback.set_looping(True)
