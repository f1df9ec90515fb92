"""Playback of takes: what is played, from where, looped or once; can be changed while playing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.export import frozen, transport_score, whole_session
from puresignal.core.export.playback_events import Score, outputs_of, score
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, as_played
from puresignal.core.session import recording, sync
from puresignal.core.session import session as edits
from puresignal.core.session.recording import ClickSettings
from puresignal.core.session.session import Session
from puresignal.core.session.track_settings import Delivery
from puresignal.core.timing.beat_table import table_of
from puresignal.core.timing.session_time import Timeline
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench

PLAYING = "playing"
FRAME_MS = 16
KNOTS = 256
"""Quarter notes around the position by which the player carries it over to another tempo."""
CLEAN, PLAYED = "clean", "played"
ENDLESS = 3600.0
"""Seconds of click ahead of a recording, which has no end of its own; after them it is extended."""
LOOP_BARS = 4
"""Bars of a loop where nothing is selected and nothing is there."""


@dataclass(frozen=True)
class Rolling:
    """A recording plays.

    begin  beats from bar 1 at which playing began
    point  beats from bar 1 before which the takes are silent, since only the click counts in
    """

    begin: float
    point: float


class Master(Protocol):
    """The other program that decides when it plays (outside_master.py)."""

    def start(self, second: float, shift: float) -> bool: ...
    def stop(self) -> bool: ...
    def go(self, second: float, shift: float) -> bool: ...

    @property
    def follows_clock(self) -> bool: ...


class Playback(QObject):
    """Plays the current take through the router.

    moved         new position in seconds
    changed       playing, loop or version changed
    span_changed  another time range was selected: (begin, end) in seconds, or None
    """

    moved = Signal(float)
    changed = Signal()
    span_changed = Signal(object)

    def __init__(self, workbench: Workbench, live_session: LiveSession, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._live_session = workbench, live_session
        self.place = 0.0
        self.playing = False
        self.version = CLEAN
        self.looping = False
        self.speed = 1.0
        self._until: float | None = None
        # The round of the loop, from 0, and whether its second half plays; None before it does.
        self._round = 0
        self._late_half: bool | None = None
        self.span: tuple[float, float] | None = None
        self._made_of: object = None
        self.other_path: CleaningPath | None = None
        self._before: str | None = None
        self._take: str | None = None
        self._sounding: str | None = None
        self._shown_time: SeveralTakes | None = None
        self._time_before: tuple[Timeline, float] = (Timeline(), 0.0)
        self._moved: tuple[np.ndarray, np.ndarray] | None = None
        self._length = 0.0
        self.rolling: Rolling | None = None
        # Seconds of the clock up to which what is being recorded is in what is heard.
        self.recorded_until = 0.0
        self._came_from = 0.0
        self._round_is_new = False
        self._rolling_made_of: object = None
        self._first: tuple[tuple[int, bytes], ...] = ()
        self.outside: Master | None = None
        # Whether the player has been heard since it was started.
        self.was_heard = False
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._look)
        workbench.changed.connect(self._follow)
        workbench.closing.connect(self._leave)
        workbench.opened.connect(self._take_up_range)

    def _leave(self) -> None:
        """Another session follows, which has nothing to compare with yet."""
        self.stop()
        self.other_path = self._before = self._take = None
        self.place = 0.0
        self.span = None
        self.span_changed.emit(None)

    # Controls

    def toggle(self) -> None:
        """Play from the position, or stop."""
        if self.playing:
            self.stop()
        else:
            self.play()

    def play(self) -> None:
        """Play from the position; from the start of the loop if the position is outside."""
        self._until = None
        shown = self._workbench.heard
        if shown is None:
            return
        self._came_from = self.place
        span = self.loop_span()
        if span is not None and not span[0] <= self.place < span[1] - 0.01:
            self.place = span[0]
        elif span is None and self.place >= shown.take.length:
            self.place = 0.0
        self._start(shown, span)

    def hear(self, begin: float, end: float) -> None:
        """Play a range once, looped or not; the position stays at its end."""
        shown = self._workbench.heard
        if shown is None:
            return
        self.place, self._until = max(0.0, begin), end
        self._start(shown, None)

    def time(self) -> tuple[Timeline, float]:
        """Tempo and meters of what is heard, and the seconds of it before bar 1."""
        heard = self._workbench.heard
        if heard is None or heard.several is None:
            return self._workbench.timeline, 0.0
        return heard.several.timeline, heard.several.shift

    def second_of(self, beat: float) -> float:
        """The second of what is heard of a beat from bar 1."""
        timeline, shift = self.time()
        return float(timeline.beats_to_seconds(np.array([beat]))[0]) + shift

    def beat_of(self, second: float) -> float:
        """The beat from bar 1 at a second of what is heard."""
        timeline, shift = self.time()
        return float(timeline.seconds_to_beats(np.array([second - shift]))[0])

    def roll(self, begin: float, point: float, since: float | None = None) -> None:
        """Play for a recording, without an end, also where there is nothing to play but the click.

        begin  beats from bar 1 from which it plays
        point  beats before which the takes are silent
        since  seconds of the clock at which it began, where that is past
        """
        self._until = None
        if self.playing:
            self.stop()
        self._came_from = self.second_of(point)
        self.rolling = Rolling(begin, point)
        self.place = self.second_of(begin)
        self._start(self._workbench.heard, self.loop_span(), since)

    def end_roll(self) -> None:
        """The recording has ended, and what plays goes on."""
        self.rolling = None
        self._follow()

    def _start(self, shown: Shown | None, span: tuple[float, float] | None, since: float | None = None) -> None:
        self._round, self._late_half = 0, None
        self._hand_over(shown)
        player = self._live_session.player
        assert player is not None
        player.loop(span)
        player.speed(self.speed)
        self.was_heard = False
        if since is not None or self.outside is None or not self.outside.start(self.place, self.time()[1]):
            player.play(self.place, list(self._first), self.rolling is not None, since)
        self.playing = True
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """Stop; nothing is left sounding. The position stays."""
        if not self.playing:
            return
        self._look()
        if self.outside is not None:
            self.outside.stop()
        if self._live_session.player is not None:
            self._live_session.player.stop()
        self._has_stopped()

    def arm(self) -> None:
        """Have everything ready for another program to start it."""
        self._made_of = None
        self._hand_over(self._workbench.heard)
        player = self._live_session.player
        if player is not None:
            player.first(list(self._first))
            player.loop(self.loop_span())

    def began_outside(self) -> None:
        """Another program has started it."""
        self._until = None
        self._came_from = self.place
        self.playing = self.was_heard = True
        self._timer.start()
        self.changed.emit()

    def ended_outside(self) -> None:
        """Another program has stopped it."""
        if self.playing:
            self._look()
            self._has_stopped()

    def _has_stopped(self) -> None:
        self._timer.stop()
        self.playing = False
        wanted = self._workbench.session.recording
        if (wanted.after if self.rolling is not None else wanted.after_play) == recording.BACK:
            self.place = self._came_from
            self.moved.emit(self.place)
        self.rolling = None
        self.place = max(0.0, self.place)
        QTimer.singleShot(LET_GO_MS, self._let_go)
        self.changed.emit()

    def _let_go(self) -> None:
        if not self.playing:
            self._live_session.need_no_more(PLAYING)

    def go(self, seconds: float) -> None:
        """Move to a position and continue playing from there."""
        self._until = None
        self.place = max(0.0, seconds)
        moved = self.outside is not None and self.outside.go(self.place, self.time()[1])
        if self.playing and not moved and self._live_session.player is not None:
            self._live_session.player.play(self.place, [])
        self.moved.emit(self.place)

    def set_version(self, version: str) -> None:
        """Play the clean result (CLEAN), or the input with everything that cleaning removes (PLAYED); takes effect
        at once."""
        self.version = version
        self._made_of = None
        self._follow()
        self.changed.emit()

    def switch_version(self) -> None:
        """Hear the other of the two versions."""
        self.set_version(PLAYED if self.version == CLEAN else CLEAN)

    def set_looping(self, on: bool) -> None:
        """Loop the selected range, or else the whole take."""
        self.looping = on
        self._tell_loop()
        self.changed.emit()

    def set_span(self, span: tuple[float, float] | None) -> None:
        """Set the range selected on the ruler."""
        self.span = span
        if self.looping:
            self._tell_loop()
        self._keep_range()
        self.span_changed.emit(span)

    def _keep_range(self) -> None:
        """The range is kept with the session; to look at another is no step of its history."""
        bench, heard = self._workbench, self._workbench.heard
        if heard is None or heard.several is None or bench.session.take() is None:
            return
        begin, end = (0.0, 0.0) if self.span is None else (heard.several.beat_of(second) for second in self.span)
        view = bench.session.display
        if abs(view.begin - begin) + abs(view.end - end) > 1e-6:
            bench.do("select range", edits.with_range(bench.session, begin, end))  # not shown

    def _take_up_range(self) -> None:
        """Select the range that a session was left with."""
        heard, view = self._workbench.heard, self._workbench.session.display
        if heard is not None and heard.several is not None and view.begin < view.end:
            self.span = heard.several.second_of(view.begin), heard.several.second_of(view.end)
            self.span_changed.emit(self.span)

    def loop_span(self) -> tuple[float, float] | None:
        """The loop, or None."""
        shown = self._workbench.heard
        if not self.looping:
            return None
        if self.span is not None:
            return self.span
        if shown is None or shown.is_open:
            timeline, _ = self.time()
            return self.second_of(0.0), self.second_of(timeline.bar_to_beats(1 + LOOP_BARS))
        return 0.0, whole_bars(shown)

    def set_speed(self, speed: float) -> None:
        """Play slower or faster than the session's tempo: for listening only, files and takes stay as they are."""
        self.speed = speed
        if self._live_session.player is not None:
            self._live_session.player.speed(speed)
        self.changed.emit()

    def keep_as_other(self) -> None:
        """Store the present settings of the path as the other side of the comparison."""
        self.other_path = self._workbench.session.path
        self.changed.emit()

    def compare_settings(self) -> None:
        """Swap the present settings of the path with the stored ones."""
        if self.other_path is None:
            self.keep_as_other()
            return
        bench = self._workbench
        now, self.other_path = bench.session.path, self.other_path
        bench.do(tr("compare settings"), edits.with_path(bench.session, self.other_path))
        self.other_path = now
        self.changed.emit()

    def compare_takes(self) -> None:
        """Play the previously shown take in place of this one, at the same position."""
        bench = self._workbench
        if self._before is not None and bench.session.take(self._before) is not None:
            bench.do(tr("choose take"), edits.with_current(bench.session, self._before))

    # Following changes

    def _tell_loop(self) -> None:
        if self.playing and self._live_session.player is not None:
            self._live_session.player.loop(self.loop_span())

    def _follow(self) -> None:
        """Update the score: the next note is already the new one."""
        shown = self._workbench.heard
        current = self._workbench.session.current
        if current != self._take:
            self._before, self._take = self._take, current
        self._keep_beat(shown)
        if not self.playing:
            if self._is_armed():
                self._hand_over(shown)
            return
        if self.rolling is not None:
            self._follow_rolling()
        elif shown is None:
            self.stop()
        elif current not in self._workbench.recorded or current == self._sounding:
            self._hand_over(shown)
        # Else a take was recorded to what plays: that goes on, and the new one is heard from the next start.

    def _is_armed(self) -> bool:
        """Whether another program may start it at any moment."""
        return self._workbench.session.sync.follow != sync.OWN and self._live_session.player is not None

    def _keep_beat(self, shown: Shown | None) -> None:
        """With another tempo, or an earlier beginning, position and range stay at their bars and beats."""
        several = None if shown is None else shown.several
        before, self._shown_time = self._shown_time, several
        if self.rolling is None and (before is None or several is None or before.idents != several.idents):
            self._time_before = self.time()
            return
        (timeline, shift), now = self._time_before, self.time()
        self._time_before = now
        if (timeline, shift) == now:
            return

        def beat(second: float) -> float:
            return float(timeline.seconds_to_beats(np.array([second - shift]))[0])

        self.place = self.second_of(beat(self.place))
        self._came_from = self.second_of(beat(self._came_from))
        if self.span is not None:
            self.span = self.second_of(beat(self.span[0])), self.second_of(beat(self.span[1]))
            self.span_changed.emit(self.span)
        around = np.arange(KNOTS) - KNOTS // 2 + round(self.beat_of(self.place))
        self._moved = timeline.beats_to_seconds(around) + shift, now[0].beats_to_seconds(around) + now[1]
        self.moved.emit(self.place)

    def _follow_rolling(self) -> None:
        """While recording, another score only where something else than the recording itself has changed."""
        shown = self._workbench.heard
        if self._workbench.is_recording and not self._round_is_new and self._moved is None:
            session = self._workbench.session
            if self._rolling_made_of == self._settings(session):
                return
        self._round_is_new = False
        self._hand_over(shown)

    def new_round(self) -> None:
        """A round of the loop has begun while recording: what was played in the one before sounds along."""
        self._round_is_new = True
        self._follow_rolling()

    def _settings(self, session: Session) -> tuple[object, ...]:
        return (
            session.delivery, session.path, session.timeline, session.recording, session.inputs, session.target,
            tuple((one.ident, one.is_in, one.beat, one.passes) for one in session.takes), self.version,
        )  # fmt: skip

    def _hand_over(self, shown: Shown | None) -> None:
        session = self._workbench.session
        outcome_now = None if shown is None else shown.outcome
        timeline, shift = self.time()
        drawn = (self._round, self._late_half) if whole_session.varies(session) else None
        made_of = (
            outcome_now, session.delivery, self.version, session.recording, timeline, self.rolling, session.sync, drawn,
        )  # fmt: skip
        if (self.playing or self._is_armed()) and made_of == self._made_of and self._moved is None:
            return
        self._made_of, self._rolling_made_of = made_of, self._settings(session)
        clicked = self._click_outputs(session.recording.click)
        ticked = session.sync.clock_to
        wanted: tuple[str, ...] = (*clicked, *ticked)
        outcome = None
        delivery = whole_session.delivery_of(session)
        if shown is not None:
            delivery = whole_session.delivery_of(session, [track.key for track in shown.outcome.tracks])
            self._sounding, self._length = shown.ref.ident, shown.take.length
            outcome = self._drawn(shown) if self.version == CLEAN else self._as_played(shown)
            all_takes = replace(session, takes=(*session.takes, *self._workbench.open_refs))
            keys = [track.key for track in outcome.tracks]
            delivery = whole_session.played_back_by(all_takes, delivery, keys, ports.SOUND)
            delivery = self._with_frozen(shown, delivery)
            wanted = tuple(dict.fromkeys((*outputs_of(outcome, delivery, ports.SOUND), *clicked, *ticked)))
        moved, self._moved = self._moved, None
        self._live_session.need(PLAYING, wanted)
        outputs = self._live_session.outputs
        parts = []
        if outcome is not None and shown is not None:
            parts.append(score(outcome, delivery, outputs, ports.SOUND))
            span = self.loop_span()
            if span is not None and shown.several is not None:
                parts.append(transport_score.carried_over(outcome, shown.several, delivery, outputs, ports.SOUND, span))
        made = transport_score.merged(*parts)
        if self.rolling is not None:
            made = transport_score.silent_before(made, self.second_of(self.rolling.point))
        made = transport_score.merged(made, self._clicks(session.recording.click, clicked, outputs))
        self._first = made.first
        assert self._live_session.player is not None
        self._live_session.player.time(table_of(timeline, shift))
        self._live_session.player.clock_to([outputs.index(name) for name in ticked if name in outputs])
        self._live_session.player.use(made.at, made.data, moved, self.loop_span(), shift, self.recorded_until)

    def _with_frozen(self, shown: Shown, delivery: Delivery) -> Delivery:
        """Let frozen tracks play from their renderings, and their notes be silent.

        Only what is rendered is heard from there: not the notes as played, one take alone, or another order
        """
        session = self._workbench.session
        plain = self.version == CLEAN and not session.display.alone and not session.display.in_order
        shift = 0.0 if shown.several is None else shown.several.shift
        rows, keys = [], set()
        for track in session.delivery.tracks if plain else ():
            if track.frozen is None or not Path(track.frozen.path).is_file():
                continue
            keys.add(track.key)
            if session.delivery.heard(track.key) and track.out:
                rows.append(frozen.along(track.frozen, shift))
        self._live_session.play_frozen(rows)
        return frozen.played_from(delivery, frozenset(keys)) if keys else delivery

    def _click_outputs(self, settings: ClickSettings) -> tuple[str, ...]:
        """Where the click goes now."""
        rolling = self.rolling
        counts_in = rolling is not None and rolling.begin < rolling.point
        if settings.when == recording.NEVER or (settings.when != recording.ALWAYS and rolling is None):
            return ()
        if settings.when == recording.COUNTING and not counts_in:
            return ()
        return (*((ports.CLICK,) if settings.sounds else ()), *((settings.port,) if settings.port else ()))

    def _clicks(self, settings: ClickSettings, to: tuple[str, ...], outputs: tuple[str, ...]) -> Score:
        """The click in what plays now."""
        if not to:
            return transport_score.NOTHING
        timeline, shift = self.time()
        numbers = tuple(outputs.index(name) for name in to if name in outputs)
        rolling = self.rolling
        if rolling is None:
            begin, end = self.beat_of(0.0), self.beat_of(self._length)
        else:
            begin, end = rolling.begin, self.beat_of(max(0.0, self.place) + ENDLESS)
            if settings.when == recording.COUNTING:
                end = rolling.point
            span = self.loop_span()
            if span is not None:
                begin = min(begin, self.beat_of(span[0]))
                end = min(end, max(self.beat_of(span[1]), rolling.point))
        return transport_score.click_score(timeline, shift, begin, end, settings, numbers)

    def _as_played(self, shown: Shown) -> Outcome:
        """Every hit as played, on the receiver's notes; unmapped ones on their own notes."""
        made = self._workbench.worked_out(as_played(self._workbench.session.path))
        return shown.outcome if made is None else made

    def _drawn(self, shown: Shown) -> Outcome:
        """The score of this loop round; the part already passed is drawn for the next round."""
        span = self.loop_span()
        if span is None or self._late_half is None or shown.several is None or self._workbench.session.display.in_order:
            return shown.outcome
        now = self._workbench.in_round(self._round)
        if not self._late_half or now is None:
            return now or shown.outcome
        after, half = self._workbench.in_round(self._round + 1), sum(span) / 2
        if after is None:
            return now
        return transport_score.half_ahead(now, after, half)

    def _follow_rounds(self, span: tuple[float, float], place: float) -> None:
        """Draw anew for each round, half a loop ahead, so that nothing changes where it is about to sound."""
        late = place >= sum(span) / 2
        if late == self._late_half or not whole_session.varies(self._workbench.session):
            return
        if self._late_half and not late:
            self._round += 1
        self._late_half = late
        self._hand_over(self._workbench.heard)

    def _look(self) -> None:
        player = self._live_session.player
        place = player.position() if player is not None else None
        if place is not None:
            span = self.loop_span()
            if span is not None and place >= span[1]:
                place = span[0] + (place - span[0]) % max(0.02, span[1] - span[0])
            self.place, self.was_heard = place, True
            if span is not None and self.playing and self.rolling is None:
                self._follow_rounds(span, place)
            self.moved.emit(place)
            if self._until is not None and place >= self._until and self.playing:
                self._until = None
                self.stop()
        elif self.playing and player is not None and not player.playing and self._has_come_to_end():
            self._timer.stop()
            self.playing = False
            self._let_go()
            self.changed.emit()

    def heard_now(self) -> float:
        """The second that is heard at this moment."""
        self._look()
        return self.place

    def _has_come_to_end(self) -> bool:
        return self.rolling is None and self.place >= self._length - 1.0


LET_GO_MS = 60_000
"""Milliseconds that the router is kept after playback, so that the next start is immediate."""


def whole_bars(shown: Shown) -> float:
    """The length of a take in seconds, up to the next bar line."""
    tempo = shown.take.tempo
    bar, beat, rest = tempo.position(max(0.0, shown.take.length - 1e-6))
    tick = tempo.bar_start(bar + (1 if beat > 1 or rest > 0 else 0))
    return float(tempo.ticks_to_seconds(np.array([tick]))[0])
