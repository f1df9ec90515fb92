"""Live input: runs router and recorder, and passes on what they report as signals."""

from __future__ import annotations

import secrets
from collections import deque
from dataclasses import asdict
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.diagnosis.double_sound import RoutingState
from puresignal.core.diagnosis.no_sound import SignalState
from puresignal.core.errors import PureSignalError
from puresignal.core.kit.articulations import STANDARD, drum_of, spoken
from puresignal.core.kit.map_learning import MapLearning, choose, note_received, pedal_moved
from puresignal.core.kit.note_map import NoteMap, to_json
from puresignal.core.midi.events import Port, Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.context import Context
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput, outputs_of, ports_of, with_input
from puresignal.core.session.session import Session
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess, SoundProcess
from puresignal.engine.ring import Reader, Record
from puresignal.engine.router_config import ALL_INPUTS, LiveTrack, RouterConfig
from puresignal.io import jack_ports, journal, note_map_file, ports, xdg_folders
from puresignal.io.preferences import SoundOut
from puresignal.translation import tr
from puresignal.ui.state.workbench import Shown, Workbench

LOOK_MS = 25
"""Milliseconds between reads of what arrived: a lamp that is later than this looks late."""

PREVIEW_MS = 120
RECENT = 12_000
"""Messages from which the live mapping is computed; the journal keeps all."""
LISTENING = "listening"
DRUMS = tuple(dict.fromkeys(drum_of(name) for name in STANDARD))
SITTING = secrets.token_hex(6)
"""This sitting's name among the journals."""


def setup_of(session: Session, listening: bool = True, played_to: tuple[str, ...] = ()) -> RouterConfig:
    """The router's configuration for a session. played_to: ports that playback needs."""
    inputs = [one for one in session.inputs if one.port and listening]
    names = ports_of(inputs)
    outputs = tuple(dict.fromkeys((*outputs_of(inputs), *played_to)))
    tracks = tuple(
        LiveTrack(
            names.index(one.port) if one.port else ALL_INPUTS,
            one.channel,
            one.source,
            (outputs.index(one.output),) if one.output else (),
            one.monitor,
        )
        for one in inputs
    )
    return RouterConfig(names, outputs, None, session.target, session.path, tracks=tracks)


class LiveSession(QObject):
    """The session's live inputs while live input is on.

    hit_received          a note arrived: (number of the live input, its name, velocity, whether it is unmapped)
    messages_received     messages arrived: the records, in order
    messages_sent         messages were sent: the records, in order; their port is the number of the output
    status_changed        status in words: (text, whether all is well)
    router_state_changed  a new state report of the router
    pad_queried           a pad needs an answer, or none any more: the MapLearning
    started, stopped      live input was switched on or off
    sound_state_changed   a new state report of the built-in sound
    """

    hit_received = Signal(int, str, int, bool)
    messages_received = Signal(list)
    messages_sent = Signal(list)
    status_changed = Signal(str, bool)
    router_state_changed = Signal(object)
    pad_queried = Signal(object)
    started = Signal()
    stopped = Signal()
    sound_state_changed = Signal(object)

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._router: RouterProcess | None = None
        self._reader: Reader | None = None
        self._sent: Reader | None = None
        self._needs: set[str] = set()
        self._played_to: tuple[str, ...] = ()
        self._sound: SoundProcess | None = None
        self._sound_told: dict[str, Any] = {}
        self.sound_state: dict[str, Any] = {}
        self.sound_out = SoundOut()
        self.player: PlayerProcess | None = None
        self._inputs: tuple[LiveInput, ...] = ()
        self._contexts: tuple[Context, ...] = ()
        self._setup: RouterConfig | None = None
        self._restarts = 0
        self._taken: list[Record] | None = None
        self._recent: deque[Record] = deque(maxlen=RECENT)
        self.playing: set[str] = set()
        self._shown = 0
        self.learning: MapLearning | None = None
        self.learning_of = self.number_in_question = 0
        self.state: dict[str, Any] = {}
        self._messages: dict[int, int] = {}
        self._notes: dict[int, int] = {}
        self._last: tuple[int, int, int] | None = None
        self._left_for_last = False
        self._said = ""
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._preview = QTimer(self)
        self._preview.setInterval(PREVIEW_MS)
        self._preview.timeout.connect(self._show_capture)
        workbench.changed.connect(self._follow)

    @property
    def listening(self) -> bool:
        return LISTENING in self._needs

    @property
    def capturing(self) -> bool:
        return self._taken is not None

    @property
    def inputs(self) -> tuple[LiveInput, ...]:
        """The live inputs that have a port."""
        return self._inputs

    def start(self) -> None:
        """Start every live input of the session.

        Raises PureSignalError if none has a port
        """
        self.stop()
        session = self._workbench.session
        if not any(one.port for one in session.inputs):
            raise PureSignalError(tr("No port is chosen"), tr("Live inputs"), tr("Choose a port to listen to."))
        self._messages, self._notes, self._last = {}, {}, None
        self._recent.clear()
        self._said = ""
        self.need(LISTENING)
        self.started.emit()

    def need(self, who: str, played_to: tuple[str, ...] = ()) -> None:
        """Request the router: for live input, or for playback to some ports."""
        self._needs.add(who)
        if played_to:
            self._played_to = played_to
        self._take_up(self._workbench.session)
        assert self._setup is not None
        if self._router is not None:
            self._router.change(self._setup)
            self._follow_sound()
            return
        self._router = RouterProcess(self._setup, self.journal_folder())
        self.player = PlayerProcess(self._router)
        self._reader, self._sent = Reader(self._router.ring), Reader(self._router.sent)
        self._restarts, self.state = 0, {}
        self._follow_sound()
        self._timer.start()

    def need_no_more(self, who: str) -> None:
        """Withdraw a request; the router ends when nobody needs it."""
        self._needs.discard(who)
        if self._router is None:
            return
        if self._needs:
            self._take_up(self._workbench.session)
            assert self._setup is not None
            self._router.change(self._setup)
            return
        self._timer.stop()
        self.playing.clear()
        if self.player is not None:
            self.player.close()
        self._router.close()
        if self._sound is not None:
            self._sound.close()
        self._router = self._reader = self._sent = self._sound = self.player = None
        self.sound_state = {}
        self.sound_state_changed.emit({})

    def set_sound_out(self, out: SoundOut) -> None:
        """Use another sound device, rate or block size."""
        self.sound_out = out
        self._follow_sound()

    @property
    def port_names(self) -> tuple[str, ...]:
        """The ports listened to now, by number."""
        return self._setup.inputs if self._setup is not None else ()

    @property
    def outputs(self) -> tuple[str, ...]:
        """The ports sent to now, by number."""
        return self._setup.outputs if self._setup is not None else ()

    def _follow_sound(self) -> None:
        """Start the built-in sound if something is sent to it, and send it changed settings."""
        session, setup = self._workbench.session, self._setup
        if self._router is None or setup is None or self.player is None:
            return
        if not {ports.SOUND, ports.FONT} & set(setup.outputs) and session.backing is None:
            return
        outputs = [setup.outputs.index(n) if n in setup.outputs else -1 for n in (ports.SOUND, ports.FONT)]
        told = {
            "map": None if session.target is None else to_json(session.target),
            "output": outputs[0],
            "font_output": outputs[1],
            "font": session.sound.font,
            "along": None if session.backing is None else asdict(session.backing),
            "kit": session.sound.kit,
            "drums": {name: asdict(drum) for name, drum in session.sound.drums},
            "level": session.sound.level,
            **asdict(self.sound_out),
            "muted": sorted(name for name in DRUMS if not session.delivery.heard(name)),
        }
        if self._sound is None:
            self._sound, self._sound_told = SoundProcess(self._router, self.player), {}
        changed = {key: value for key, value in told.items() if self._sound_told.get(key, told) != value}
        if changed:
            self._sound_told = told
            self._sound.tell(**changed)

    def _take_up(self, session: Session) -> None:
        """Apply the session's inputs to the router and to the names of hits."""
        self._setup = setup_of(session, self.listening, self._played_to)
        self._inputs = session.inputs
        self._contexts = tuple(Context(one.source, session.target, (Port(one.port),)) for one in session.inputs)

    @staticmethod
    def journal_folder() -> Path:
        """The folder of this sitting's messages."""
        return xdg_folders.state() / "journal" / SITTING

    def stop(self) -> None:
        """Stop live input; sounding notes are released, and a running recording becomes a take."""
        if not self.listening:
            return
        if self.capturing:
            self.end_capture()
        self.learning = None
        for port in tuple(self.playing):
            self.device(stop=port)
        self.need_no_more(LISTENING)
        self.stopped.emit()

    def close(self) -> None:
        """Stop live input and playback."""
        self.stop()
        for who in tuple(self._needs):
            self.need_no_more(who)

    def context_of(self, record: Record) -> Context:
        """The context for a message: that of the input that listens to it."""
        return next((self._contexts[i] for i in self._listeners(record)), Context())

    def _listeners(self, record: Record) -> list[int]:
        """Numbers of the live inputs that a message is for."""
        if self._setup is None or record.port >= len(self._setup.inputs):
            return []
        port = self._setup.inputs[record.port]
        return [i for i, one in enumerate(self._inputs) if one.listens_to(port, record.data)]

    # Playing from within the program

    def play(self, port: str, message: bytes) -> None:
        """Send a message of the computer keyboard or the on-screen pads."""
        if self._router is not None:
            self._router.play(port, message)

    def device(self, **command: Any) -> None:
        """Send a command to a simulated device (see puresignal.engine.device_process)."""
        if self._router is None:
            return
        self._router.devices(**command)
        if "play" in command:
            self.playing.add(command["play"])
        self.playing.discard(command.get("stop", ""))

    def shown(self, number: int) -> Shown | None:
        """Result of everything that arrived at an input since live input started, or None if nothing did."""
        if number >= len(self._inputs):
            return None
        rows = [r for r in self._recent if number in self._listeners(r)]
        if not rows:
            return None
        take = self._take_of(rows, "live", tr("Live"), number, rows[0].at)
        return self._workbench.work_out_apart(take, self._inputs[number].source)

    # Diagnosis

    def situation(self, number: int = -1) -> tuple[SignalState, Context]:
        """The state of a live input for "No sound?"; by default of the one hit last, or the first."""
        inputs = self._workbench.session.inputs
        number = min(number if number >= 0 else self._of_last_hit(), len(inputs) - 1)
        self.number_in_question = number
        one, setup, state = inputs[number], self._setup, self.state
        if not self.listening or setup is None or one.port not in setup.inputs:
            return SignalState(False, False, one.port or None, one.output, False, False, 0, 0, None), Context()
        port = setup.inputs.index(one.port)
        outputs = state.get("outputs") or []
        output = setup.outputs.index(one.output) if one.output in setup.outputs else -1
        last = self._last if self._last is not None and self._last[0] == port else None
        situation = SignalState(
            listening=True,
            # Signals that stay within the program need no server.
            server=bool(state.get("server")) or all(map(ports.is_within, filter(None, (one.port, one.output)))),
            input=one.port,
            output=one.output,
            input_there=port < len(state.get("inputs") or []) and state["inputs"][port] is not None,
            output_there=0 <= output < len(outputs) and outputs[output] is not None,
            messages=self._messages.get(port, 0),
            notes=self._notes.get(port, 0),
            last=None if last is None else last[1:],
            channel=one.channel,
            monitor=one.monitor,
            left=self._left_for_last or last is None,
        )
        return situation, self._contexts[number]

    def _of_last_hit(self) -> int:
        """Number of the input that the last hit was for; failing that, the first on its port, or the first."""
        if self._last is None or self._setup is None:
            return 0
        port, channel, note = self._last
        record = Record(0.0, port, bytes((0x8F + channel, note, 1)))
        found = self._listeners(record)
        same = [i for i, one in enumerate(self._inputs) if one.port == self._setup.inputs[port]]
        return next(iter((*found, *same)), 0)

    def scene(self) -> RoutingState:
        """The routing for "Heard twice?"."""
        session, setup, state = self._workbench.session, self._setup, self.state
        joined: dict[str, str | None] = {}
        if setup is not None:
            for names, key in ((setup.inputs, "inputs"), (setup.outputs, "outputs")):
                joined.update(zip(names, state.get(key) or [None] * len(names), strict=False))
        try:
            wires = jack_ports.all_wires()
        except PureSignalError:
            wires = frozenset()
        hit = None
        if self._last is not None and setup is not None:
            port, channel, note = self._last
            name = self.context_of(Record(0.0, port, bytes((0x8F + channel, note, 1)))).articulation_of(channel, note)
            hit = (setup.inputs[port], channel, name)
        return RoutingState(session.inputs, joined, wires, "Pure Signal", session.target, hit)

    # Learning

    def learn(self, on: bool, number: int = 0) -> None:
        """Ask about each pad that the map of an input lacks, or stop asking."""
        inputs = self._workbench.session.inputs
        source = inputs[number].source if number < len(inputs) else None
        self.learning_of = number
        self.learning = MapLearning(source or NoteMap(tr("My kit"), ())) if on and self.listening else None
        self.pad_queried.emit(self.learning)

    def choose(self, articulation: str) -> None:
        """Answer which articulation the queried pad is."""
        if self.learning is not None:
            self._learn(choose(self.learning, articulation))

    def _learn(self, learning: MapLearning) -> None:
        before, self.learning = self.learning, learning
        assert before is not None
        if learning.note_map is not before.note_map:
            bench = self._workbench
            inputs = with_input(bench.session.inputs, self.learning_of, source=learning.note_map)
            bench.do(tr("learn kit"), edits.with_inputs(bench.session, inputs), "learn kit")  # not shown
        if (learning.waiting, learning.note_map) != (before.waiting, before.note_map):
            self.pad_queried.emit(learning)

    def panic(self) -> None:
        """End every note at the receiver, at once."""
        if self._router is not None:
            self._router.panic()

    # Recording

    def begin_capture(self) -> None:
        """Record a take for each armed input from now on."""
        self._taken, self._shown = [], 0
        self._preview.start()

    def end_capture(self) -> None:
        """Make a take of what arrived at each armed input."""
        self._look()
        records, self._taken = self._taken or [], None
        self._preview.stop()
        bench, session = self._workbench, self._workbench.session
        made: list[tuple[Take, NoteMap | None]] = []
        armed = [i for i, one in enumerate(self._inputs) if one.armed and one.port]
        begin = records[0].at if records else 0.0
        for number in armed:
            rows = [r for r in records if number in self._listeners(r)]
            if not any(r.data and r.data[0] < 0xF0 for r in rows) and len(armed) > 1:
                continue
            name = tr("Recorded, take {n}").format(n=len(session.takes) + len(made) + 1)
            try:
                take = self._take_of(rows, bench.store.free_ident(len(made)), name, number, begin)
            except PureSignalError as error:
                bench.end_preview()
                self.status_changed.emit(str(error), False)
                return
            made.append((take, self._inputs[number].source))
        if not made:
            bench.end_preview()
            why = tr("Nothing has arrived at an armed input.") if armed else tr("No input is armed.")
            self.status_changed.emit(why, False)
            return
        bench.add_takes(made, tr("record take"))

    def _take_of(self, records: list[Record], ident: str, name: str, number: int, begin: float) -> Take:
        """A take of one input's messages. Takes of one recording share their start."""
        rows = [(at, 0, data) for at, _, data in records]
        alone = sum(one.armed and bool(one.port) for one in self._inputs) == 1
        since = None if alone else begin
        return journal.to_take(rows, (self._inputs[number].port,), ident, name, TempoMap.steady(120), since)

    def _show_capture(self) -> None:
        if not self._taken or len(self._taken) == self._shown:
            return
        self._shown = len(self._taken)
        armed = [i for i, one in enumerate(self._inputs) if one.armed and one.port]
        # With several players, the one who played last is shown.
        recent = [i for r in self._taken[-8:] for i in self._listeners(r) if i in armed]
        if not recent:
            return
        number = recent[-1]
        rows = [r for r in self._taken if number in self._listeners(r)]
        take = self._take_of(rows, "capture", tr("Recording"), number, self._taken[0].at)
        self._workbench.preview(take, self._inputs[number].source)

    # Reports of the router

    def _follow(self) -> None:
        """Follow a changed session: inputs and outputs change at once."""
        if self._router is None or self._setup is None:
            return
        before = self._setup
        self._take_up(self._workbench.session)
        if self.listening and not self._setup.inputs:
            self.stop()
        elif self._setup != before:
            self._router.change(self._setup)
        self._follow_sound()

    def _look(self) -> None:
        router, reader, sent = self._router, self._reader, self._sent
        if router is None or reader is None or sent is None:
            return
        router.watch_recorder()
        state = router.read(0.0)
        if router.restarts != self._restarts:
            self._restarts = router.restarts
            self._said = ""
            self.status_changed.emit(tr("The router died and was restarted. Nothing was left sounding."), False)
        if state is not None:
            self.state = state
            self._say(state)
            self.router_state_changed.emit(state)
        sound = self._sound.read() if self._sound is not None else None
        if sound is not None:
            self.sound_state = sound
            self.sound_state_changed.emit(sound)
        records, leaving = reader.read(), sent.read()
        self._recent.extend(records)
        for record in records:
            self._count(record)
        if any(r.data[0] & 0xF0 == 0x90 for r in leaving):
            self._left_for_last = True
        # The lamp shows the last hit of a batch; the list shows all.
        for record in records[-8:]:
            self._hear(record)
        if records:
            self.messages_received.emit(records)
        if leaving:
            self.messages_sent.emit(leaving)
        if self._taken is not None:
            self._taken += records

    def _count(self, record: Record) -> None:
        data, port = record.data, record.port
        self._messages[port] = self._messages.get(port, 0) + 1
        if len(data) == 3 and data[0] & 0xF0 == 0x90 and data[2]:
            self._notes[port] = self._notes.get(port, 0) + 1
            self._last = (port, (data[0] & 0x0F) + 1, data[1])
            self._left_for_last = False
        if self.learning is not None and len(data) == 3 and self.learning_of in self._listeners(record):
            if data[0] & 0xF0 == 0x90 and data[2]:
                channel = (data[0] & 0x0F) + 1
                self._learn(
                    note_received(self.learning, record.at, channel, data[1], note_map_file.shipped("general-midi"))
                )
            elif data[0] & 0xF0 == 0xB0:
                self._learn(pedal_moved(self.learning, record.at, data[1], data[2]))

    def _say(self, state: dict[str, Any]) -> None:
        assert self._setup is not None
        named = [
            *zip(self._setup.inputs, state["inputs"], strict=False),
            *zip(self._setup.outputs, state["outputs"], strict=False),
        ]
        absent = [name for name, found in named if not found]
        well = False
        if state["loops"]:
            text = tr("Loop detected: our output comes back in through {port}. What comes back is dropped.").format(
                port=self._setup.inputs[state["loops"][0]]
            )
        elif absent and not state["server"]:
            text = tr("There is no JACK server. Start it; the program will connect by itself.")
        elif absent:
            text = tr("{port} is unavailable; it will connect when it appears.").format(port=absent[0])
        else:
            text, well = tr("Listening"), True
        # An unchanged status is not repeated: it would hide a later message.
        if text != self._said:
            self._said = text
            self.status_changed.emit(text, well)

    def _hear(self, record: Record) -> None:
        data = record.data
        if len(data) == 3 and data[0] & 0xF0 == 0x90 and data[2]:
            channel = (data[0] & 0x0F) + 1
            for number in self._listeners(record):
                context = self._contexts[number]
                name = context.articulation_of(channel, data[1])
                unmapped = name is None and bool(context.mapped_channels[channel])
                words = spoken(name) if name else tr("note {note}").format(note=data[1])
                self.hit_received.emit(number, words, data[2], unmapped)
