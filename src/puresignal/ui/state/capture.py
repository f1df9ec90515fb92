"""Recording: what arrives at the armed inputs while the transport runs becomes takes, in their place in the session."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.session import recorded, recording
from puresignal.core.session import session as edits
from puresignal.core.session.recorded import Begun, Layout, Move
from puresignal.core.session.recording import RecordingSettings
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing import click_beats as click
from puresignal.core.timing.session_time import Timeline
from puresignal.engine.ring import Record
from puresignal.io import recorded_takes
from puresignal.io.recorded_takes import Recorded
from puresignal.io.session_json import input_json, timeline_json
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench

PREVIEW_MS = 120
"""Milliseconds between pictures of the take that is being recorded; longer where one takes long to make."""
KEPT_SECONDS = 8.0
"""Seconds before the record point of which messages are kept ready: what was played early belongs to the take."""
LEAVES_WITHIN = 0.03
"""Seconds within which what arrived has been sent on."""
BEFORE_ROUND = 0.3
"""Seconds before a round ends at which what was played in it is handed to the player."""
CLICKS_JUDGED = 8
"""Clicks after which it is said that they are drowned."""
IDLE, WAITING, COUNTING, RECORDING = "idle", "waiting", "counting in", "recording"  # not shown


class Capture(QObject):
    """Records a take for each armed input.

    changed        recording began or ended, or its state changed
    told           what to say to the player: (text, whether it is a problem)
    click_drowned  what is played drowns the click
    """

    changed = Signal()
    told = Signal(str, bool)
    click_drowned = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, playback: Playback, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._workbench, self._live_session, self._playback = workbench, live_session, playback
        self.state = IDLE
        # Seconds of the clock, and beats from bar 1, at which the last recording begins.
        self.placed: tuple[float, float] | None = None
        # What controls the program is no playing, and stays out of takes.
        self.is_control: Callable[[str, bytes], bool] = lambda port, data: False
        self._records: list[Record] | None = None
        self._made = 0
        # What the transport has done since it last began to play, also while nothing is recorded.
        self._moves: list[Move] = []
        self._point, self._by_hand, self._pressed = 0.0, False, 0.0
        self._settings = RecordingSettings()
        self._off: set[int] = set()
        self._shown = 0
        self._cost = 0.0
        # Takes that were kept by Again; the one that follows is an alternative of them.
        self._attempts: tuple[str, ...] = ()
        # Whether it waits for another program to start.
        self._for_master = False
        self._noted_tempo: Timeline | None = None
        self._preview = QTimer(self)
        self._preview.setInterval(PREVIEW_MS)
        self._preview.timeout.connect(self._show)
        live_session.messages_received.connect(self._receive)
        live_session.transport_moved.connect(self._moved)
        live_session.stopping.connect(self.end)
        playback.changed.connect(self._follow_playback)
        live_session.sound_state_changed.connect(self._watch_click)
        # Clicks, and those that were drowned, before this recording; None once the player has been told.
        self._clicks: list[int] | None = None

    @property
    def running(self) -> bool:
        return self.state != IDLE

    @property
    def waits_for_master(self) -> bool:
        """Whether it waits for another program to start."""
        return self.state == WAITING and self._for_master

    @property
    def point(self) -> float:
        """Beats from bar 1 at which the recording begins."""
        return self._point

    # Beginning

    def toggle(self) -> None:
        """Record, or stop recording."""
        if self.running:
            self.end()
        else:
            self.begin()

    def begin(self) -> None:
        """Record as the session's settings say; live input is switched on if it is not.

        While something plays it begins here and now, and what plays goes on; unless it waits for the first hit
        """
        if self.running:
            return
        self._attempts = ()
        if not self._is_ready():
            return
        bench = self._workbench
        if bench.session.display.in_order:
            # What is recorded stands on the bars as they are.
            bench.do(tr("playing order"), edits.with_in_order(bench.session, False))
        settings = bench.session.recording
        # What the window has not read yet is read first: early hits belong to the take.
        self._live_session.read_now()
        now = self._pressed = self._live_session.now()
        self._records = [r for r in self._live_session.recent() if r.at > now - KEPT_SECONDS]
        self._settings, self._off, self._shown = settings, set(), 0
        self._clicks = self._live_session.sound_state.get("clicks", [0, 0])
        playback, span = self._playback, self._playback.span
        # Who presses Record while it plays wants no count-in.
        self._by_hand = playback.playing and settings.start != recording.FIRST_HIT
        if self._by_hand:
            self._point = playback.beat_of(playback.heard_now())
            self._tell_journal()
            self._turn(RECORDING)
            return
        self._for_master = playback.outside is not None and playback.outside.follows_clock
        if self._for_master:
            self._point = playback.beat_of(playback.place)
            self._turn(WAITING)
            return
        self._moves = []
        place = playback.place
        if settings.punch and span is not None and not playback.looping:
            place = span[0]
        elif playback.looping:
            begin, end = playback.loop_span() or (place, place)
            place = place if begin < place < end - 0.05 else begin
        self._point = playback.beat_of(place)
        if settings.start == recording.FIRST_HIT:
            timeline, _ = playback.time()
            self._point = timeline.bar_to_beats(timeline.beats_to_bar(self._point + 1e-6)[0])
            if playback.playing:
                playback.stop()
            self._turn(WAITING)
            return
        self._roll()

    def again(self) -> None:
        """Keep this attempt, out of the result, go back and begin anew."""
        point, attempts = self._point, self._attempts
        if self.running:
            self.end(again=True)
            bench = self._workbench
            attempts += tuple(ref.ident for ref in bench.session.takes[-self._made :]) if self._made else ()
        self._playback.go(max(0.0, self._playback.second_of(point)))
        self.begin()
        self._attempts = attempts

    def _is_ready(self) -> bool:
        """Whether there is something to record, and live input runs; otherwise the player is told what to do."""
        live = self._live_session
        if not any(one.port for one in self._workbench.session.inputs):
            self.told.emit(tr("There is no input to record. Add one at the left: a port, or the keyboard."), True)
            return False
        if not live.listening:
            try:
                live.start()
            except (PureSignalError, OSError) as error:
                self.told.emit(str(error), True)
                return False
        if not self._armed():
            self.told.emit(tr("No input is armed. Tick Armed on the card of the input that you play."), True)
            return False
        absent = [one.title for one in live.inputs if one.armed and one.port in live.absent_ports()]
        if absent:
            text = tr("{port} is unavailable. Recording goes on, and takes it as soon as it appears.")
            self.told.emit(text.format(port=", ".join(absent)), True)
        return True

    def _roll(self, since: float | None = None) -> None:
        """Start the transport: count-in or pre-roll, then the record point."""
        settings, playback = self._settings, self._playback
        timeline, _ = playback.time()
        begin = point = self._point
        if since is None and settings.start == recording.AFTER_COUNT_IN:
            begin = click.before(timeline, point, settings.count_in)
        if since is None and settings.pre_roll:
            sooner = click.before(timeline, point, settings.pre_roll)
            begin = min(begin, sooner)
        # Pre-roll plays what is there; a count-in is the click alone.
        quiet = point if begin < point and not settings.pre_roll else begin
        self._tell_journal()
        playback.roll(begin, quiet, since)
        self._turn(COUNTING if begin < point else RECORDING)

    def _tell_journal(self) -> None:
        """Note what a killed recording is rebuilt from."""
        timeline, _ = self._playback.time()
        self._noted_tempo = timeline
        inputs = [self._live_session.inputs[number] for number in self._armed()]
        settings, begun = self._settings, self._begun()
        note = {
            "record": begun.point, "pressed": begun.pressed, "start": begun.start, "early": begun.early,
            "by_hand": begun.by_hand, "pre_roll": begun.pre_roll, "timeline": timeline_json(timeline),
            "inputs": [input_json(replace(one, source=None)) for one in inputs],
            "delay": self._delay(), "knew_time": self._knew_time(),
            "only_last": settings.rounds == recording.REPLACE,
        }  # fmt: skip
        self._note(note)

    def _echo(self, on: bool) -> None:
        """Whether the player lets what is played sound in the next round, also while this window stands still."""
        if self._live_session.player is not None:
            self._live_session.player.echo(on)

    def _note(self, what: dict[str, Any]) -> None:
        """Keep something with what was played."""
        if self._live_session.player is not None:
            self._live_session.player.note(what)

    def _delay(self) -> float:
        return -(self._settings.in_delay + self._settings.out_delay) / 1000.0

    def _turn(self, state: str) -> None:
        self.state = state
        if state == RECORDING:
            self._echo(self._playback.looping and self._settings.rounds == recording.LAYER)
        if state in (COUNTING, RECORDING):
            self._preview.start()
        self.changed.emit()

    # While it runs

    def _receive(self, records: list[Record]) -> None:
        if self._records is None:
            return
        self._records += records
        if self.state == WAITING and not self._for_master:
            armed = self._armed()
            first = next((r for r in records if messages.is_note_on(r.data) and self._is_for(r, armed)), None)
            if first is not None:
                self._roll(since=first.at)

    def _is_for(self, record: Record, armed: list[int]) -> bool:
        """Whether a message is playing for an armed input."""
        names = self._live_session.port_names
        port = names[record.port] if record.port < len(names) else ""
        return bool(set(self._live_session.inputs_for(record)) & set(armed)) and not self.is_control(port, record.data)

    def _moved(self, moves: list[tuple[float, dict[str, Any]]]) -> None:
        timeline, _ = self._playback.time()
        for at, what in moves:
            kind = what.get("move")
            if kind is None:
                continue
            if kind == recorded.PLAY:
                self._moves = []
            beat = float(timeline.seconds_to_beats(np.array([what["seconds"]]))[0])
            tempo = timeline if kind == recorded.MOVED else None
            self._moves.append(Move(at, kind, beat, float(what["speed"]), tempo))
            if tempo is not None and self.running and tempo != self._noted_tempo:
                # A clock that is followed changes the speed many times, and the tempo never.
                self._noted_tempo = tempo
                self._note({"timeline": timeline_json(tempo)})
            if kind == recorded.ROUND and self.state == RECORDING:
                QTimer.singleShot(max(0, round(1000 * (at - self._live_session.now())) + 20), self._begin_round)
            if kind in (recorded.PLAY, recorded.ROUND) and self.running:
                self._prepare_round(at, float(what["seconds"]), float(what["speed"]))

    def _prepare_round(self, at: float, second: float, speed: float) -> None:
        """Shortly before a round ends, hand over what was played in it: its first beat is to sound in the next one."""
        span = self._playback.loop_span()
        if span is not None:
            _, shift = self._playback.time()
            end = at + (span[1] - shift - second) / max(0.05, speed)
            QTimer.singleShot(max(0, round(1000 * (end - BEFORE_ROUND - self._live_session.now()))), self._begin_round)

    def _begin_round(self) -> None:
        if self.state == RECORDING and self._playback.looping:
            self._show(anew=True)
            self._playback.new_round()

    def _watch_click(self, state: dict[str, Any]) -> None:
        """Offer a louder click where most of it is drowned."""
        if self.state != RECORDING or self._clicks is None or "clicks" not in state:
            return
        played, drowned = (now - before for now, before in zip(state["clicks"], self._clicks, strict=True))
        if played >= CLICKS_JUDGED and drowned > 0.6 * played:
            self._clicks = None
            self.click_drowned.emit()

    def _follow_playback(self) -> None:
        """When the transport is stopped, so is the recording; where another program starts it, it begins."""
        if self.state == WAITING and self._for_master and self._playback.playing:
            self._by_hand, self._pressed = True, self._live_session.now()
            self._point = self._playback.beat_of(self._playback.heard_now())
            self._tell_journal()
            self._turn(RECORDING)
            return
        if self.state in (COUNTING, RECORDING) and not self._playback.playing:
            self.end()

    def undo_pass(self) -> bool:
        """Take the last pass with anything in it out of the recording while it goes on. False: there is none."""
        layout = self._layout()
        if layout is None or not layout.passes or self._records is None:
            return False
        on = self._note_ons(layout)
        for number in range(len(layout.passes) - 1, -1, -1):
            one = layout.passes[number]
            if number not in self._off and bool(((on >= one.begin) & (on < one.end)).any()):
                self._off.add(number)
                self._note({"off": sorted(self._off)})
                self._show(anew=True)
                self._playback.new_round()
                self.told.emit(tr("Pass {n} is out. Its card brings it back.", n=number + 1), False)
                return True
        return False

    @property
    def round(self) -> int:
        """Which round of the loop is being played, from 1; 0 without a loop."""
        now = self._live_session.now()
        rounds = sum(move.kind == recorded.ROUND and move.at <= now for move in self._moves)
        return rounds + 1 if self._playback.looping else 0

    def _played(self) -> list[Record]:
        """The messages recorded, without those that control the program."""
        names = self._live_session.port_names
        return [
            r for r in self._records or () if not self.is_control(names[r.port] if r.port < len(names) else "", r.data)
        ]

    def _note_ons(self, layout: Layout) -> np.ndarray:
        """Seconds of the material of every note-on."""
        rows = self._played()
        return np.array([r.at + self._delay() - layout.begin for r in rows if messages.is_note_on(r.data)])

    def _layout(self, stop: float | None = None) -> Layout | None:
        """Where what has been recorded lies, up to now."""
        # Delays are in the times of what arrives, so that the moves stay what they were.
        moves = self._moves
        if not moves and self._settings.start == recording.AT_ONCE and stop is not None:
            # Stopped before the transport was up: what was played at once is there all the same.
            moves = [Move(self._pressed, recorded.PLAY, self._point)]
        return recorded.layout_of(self._begun(), moves, self._playback.time()[0], stop)

    def _begun(self) -> Begun:
        settings = self._settings
        return Begun(self._point, self._pressed, settings.start, settings.early, self._by_hand, bool(settings.pre_roll))

    def _show(self, anew: bool = False) -> None:
        """Show the takes as they grow, in their places."""
        playback = self._playback
        if self.state == COUNTING and playback.beat_of(playback.place) >= self._point - 1e-3:
            self._turn(RECORDING)
        settings = self._settings
        if settings.punch and playback.span is not None and not playback.looping and playback.place >= playback.span[1]:
            self.end()
            return
        if self._records is None or (not anew and len(self._records) == self._shown):
            return
        begun = time.perf_counter()
        # Nothing can be shown before it is known when the transport began.
        self._shown = len(self._records) if self._moves else -1
        self._playback.recorded_until = self._live_session.read_at + LEAVES_WITHIN
        layout = self._layout()
        if layout is not None:
            self._workbench.show_open(self._takes(layout, open_one=True))
        self._cost = time.perf_counter() - begun
        # A large session takes longer to lay out: the picture comes less often, and the window stays quick.
        self._preview.setInterval(max(PREVIEW_MS, round(4000 * self._cost)))

    # Ending

    def end(self, again: bool = False) -> None:
        """Make takes of what was recorded. Does nothing if recording is off. again: they are out of the result."""
        if self._records is None or not self.running:
            return
        self._live_session.read_now()
        waiting, by_hand = self.state == WAITING, self._by_hand
        self._echo(False)
        stop = self._live_session.now()
        self.state = IDLE
        self._preview.stop()
        if not waiting and self._playback.playing and not by_hand:
            self._playback.stop()
        else:
            self._playback.end_roll()
        self._live_session.read_now()
        self._note({"record_end": stop})
        layout = None if waiting else self._layout(stop)
        made = [] if layout is None else self._takes(layout)
        self._records = None
        self.placed = None if layout is None else (layout.begin, layout.beat)
        self._made = len(made)
        if made:
            if again:
                made = [(take, replace(ref, is_in=False)) for take, ref in made]
            instead = self._settings.rounds == recording.REPLACE
            self._workbench.add_recorded(
                made, tr("record take"), instead and not again, () if again else self._attempts
            )
        else:
            self._workbench.show_open(())
            if not waiting:
                self.told.emit(tr("Nothing was played while recording; what came before is on the strip below."), False)
        self.changed.emit()

    def _armed(self) -> list[int]:
        return [i for i, one in enumerate(self._live_session.inputs) if one.armed and one.port]

    def _takes(self, layout: Layout, open_one: bool = False) -> list[tuple[Take, TakeRef]]:
        """A take for each armed input at which something arrived, with its place."""
        bench, names = self._workbench, self._live_session.port_names
        inputs = [self._live_session.inputs[number] for number in self._armed()]
        idents = [f"open{n}" for n in range(len(inputs))] if open_one else bench.store.free_idents(len(inputs))
        end = self._live_session.now() if not np.isfinite(layout.end) else layout.end
        if self._settings.punch and self._playback.span is not None and not layout.passes:
            timeline, _ = self._playback.time()
            last = self._playback.beat_of(self._playback.span[1])
            a, b = timeline.beats_to_seconds(np.array([layout.beat, last])).tolist()
            end = min(end, layout.begin + b - a)
        arrived = [(r.at, names[r.port], r.data) for r in self._records or () if r.port < len(names)]
        made = recorded_takes.takes_of(
            arrived, layout, inputs, idents, len(bench.session.takes) + 1, self._delay(), None if open_one else end,
            self._off, self._settings.rounds == recording.REPLACE, self.is_control,
        )  # fmt: skip
        return [(one.take, self._ref_of(one)) for one in made]

    def _ref_of(self, one: Recorded) -> TakeRef:
        ref = replace(self._workbench.ref_for(one.take, one.played_on.source, one.played_on), beat=one.beat)
        return replace(
            ref,
            grid=one.grid if self._knew_time() else ref.grid,
            passes=one.passes,
            delay=one.delay,
            verdicts=one.verdicts,
        )

    def _knew_time(self) -> bool:
        """Whether the players heard where the beats are: a click, or something that played along."""
        clicked = self._settings.click.when != recording.NEVER
        return clicked or any(ref.is_in for ref in self._workbench.session.takes)
