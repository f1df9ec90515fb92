"""Live input: runs router and recorder, and passes on what they report as signals."""

from __future__ import annotations

import json
import os
import threading
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.export import whole_session
from puresignal.core.kit.articulations import STANDARD, drum_of, resolve, spoken
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.midi.events import Port
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.context import Context
from puresignal.core.path.crosstalk_model import KitModel
from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput, with_input
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND
from puresignal.engine import pulse
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import EarProcess, PlayerProcess, SoundProcess
from puresignal.engine.ring import Reader, Record
from puresignal.engine.router_config import RouterConfig
from puresignal.engine.session_setup import held_keys, setup_of, sound_settings
from puresignal.io import journal, log_file, ports, xdg_folders
from puresignal.io.preferences import SoundOut
from puresignal.translation import tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench

LOOK_MS = 20
"""Milliseconds between reads of what arrived: a lamp that is later than this looks late."""

RECENT = 12_000
"""Messages from which the live mapping is computed; the journal keeps all."""
LISTENING, AUDITION = "listening", "audition"
AUDITION_MS = 60_000
"""Milliseconds that the sound is kept after a drum was auditioned, so that the next one sounds at once."""
DRUMS = tuple(dict.fromkeys(drum_of(name) for name in STANDARD))
SITTING = os.urandom(6).hex()
"""This sitting's name among the journals."""


def _close_all(running: Sequence[PlayerProcess | RouterProcess | SoundProcess | EarProcess]) -> None:
    for one in running:
        try:
            one.close()
        except Exception:
            log_file.log.exception("while ending %s", type(one).__name__)


class LiveSession(QObject):
    """The session's live inputs while live input is on.

    hit_received          a note arrived: (number of the live input, its name, velocity, whether it is unmapped)
    messages_received     messages arrived: the records, in order
    transport_moved       the transport did something: [(seconds of the clock, what transport_log.py says)]
    messages_sent         messages were sent: the records, in order; their port is the number of the output
    status_changed        status in words: (text, whether all is well)
    router_state_changed  a new state report of the router
    started, stopped      live input was switched on or off
    ending                the router is about to end: what feeds it ends first
    stopping              live input is about to be switched off
    sound_state_changed   a new state report of the built-in sound
    """

    hit_received = Signal(int, str, int, bool)
    messages_received = Signal(list)
    messages_sent = Signal(list)
    transport_moved = Signal(list)
    status_changed = Signal(str, bool)
    router_state_changed = Signal(object)
    started = Signal()
    stopping = Signal()
    stopped = Signal()
    sound_state_changed = Signal(object)
    ending = Signal()

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._router: RouterProcess | None = None
        self._reader: Reader | None = None
        self._sent: Reader | None = None
        self._needs: set[str] = set()
        self._played_to: dict[str, tuple[str, ...]] = {}
        self._refused = 0
        # Up to when everything that arrived has been read: seconds of the clock.
        self.read_at = 0.0
        self._sound: SoundProcess | None = None
        self._sound_told: dict[str, Any] = {}
        self.sound_state: dict[str, Any] = {}
        self.sound_out = SoundOut()
        self.balance = 0.0
        self.player: PlayerProcess | None = None
        self._inputs: tuple[LiveInput, ...] = ()
        self._contexts: tuple[Context, ...] = ()
        self._setup: RouterConfig | None = None
        self._kit_model: KitModel | None = None
        self._frozen: list[dict[str, Any]] = []
        self._restarts = 0
        # The next processes start when these have ended, so that ports and sound device are free.
        self._ending: threading.Thread | None = None
        self._recent: deque[Record] = deque(maxlen=RECENT)
        self._recently_sent: deque[Record] = deque(maxlen=RECENT)
        self.playing: set[str] = set()
        self.state: dict[str, Any] = {}
        self._said = ""
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._auditioned = QTimer(self)
        self._auditioned.setSingleShot(True)
        self._auditioned.setInterval(AUDITION_MS)
        self._auditioned.timeout.connect(lambda: self.need_no_more(AUDITION))
        workbench.changed.connect(self._follow)

    @property
    def listening(self) -> bool:
        return LISTENING in self._needs

    @property
    def inputs(self) -> tuple[LiveInput, ...]:
        """The live inputs that have a port."""
        return self._inputs

    def recent(self, sent: bool = False) -> list[Record]:
        """The latest messages that arrived, or were sent, since live input started."""
        return list(self._recently_sent if sent else self._recent)

    def start_or_tell(self) -> bool:
        """Listen, or tell the player why that cannot be. Returns whether live input runs."""
        if not self.listening:
            try:
                self.start()
            except (PureSignalError, OSError) as error:
                self._workbench.message_shown.emit(str(error), True)
                return False
        return True

    def start(self) -> None:
        """Start every live input of the session.

        Raises PureSignalError if none has a port
        """
        self.stop()
        session = self._workbench.session
        if not any(one.port for one in session.inputs):
            raise PureSignalError(tr("No port is chosen"), tr("Live inputs"), tr("Choose a port to listen to."))
        self._recent.clear()
        self._recently_sent.clear()
        self._said = ""
        self.need(LISTENING)
        self.started.emit()

    def need(self, who: str, played_to: tuple[str, ...] = ()) -> None:
        """Request the router: for live input, or for playback to some ports."""
        self._needs.add(who)
        if played_to:
            self._played_to[who] = played_to
        self._take_up(self._workbench.session)
        assert self._setup is not None
        if self._router is not None:
            self._router.change(self._setup)
            self.follow_sound()
            return
        self._router = RouterProcess(self._setup, self.journal_folder(), self._ending)
        self.player = PlayerProcess(self._router)
        self._reader, self._sent = self._router.arrived, self._router.left
        self._restarts, self.state = 0, {}
        self.follow_sound()
        self._timer.start()

    def needed_by(self, who: str) -> bool:
        """Whether somebody needs the router, and it runs."""
        return who in self._needs and self._router is not None

    def transport(self, what: str) -> None:
        """Ask JACK's transport for something (engine/client.py)."""
        if self._router is not None:
            self._router.transport(what)

    def transport_state(self) -> tuple[int, int]:
        """JACK's transport as it was when it last changed: state and frame."""
        return self._router.transport_state() if self._router is not None else (0, 0)

    @property
    def router(self) -> RouterProcess | None:
        return self._router

    def end_beside(self, process: EarProcess) -> None:
        """End a process without waiting for it; the next router waits."""
        before = self._ending

        def end() -> None:
            _close_all([process])
            if before is not None:
                before.join()

        self._ending = threading.Thread(target=end, name="ending the ear")  # not shown
        self._ending.start()

    def need_no_more(self, who: str) -> None:
        """Withdraw a request; the router ends when nobody needs it."""
        self._needs.discard(who)
        self._played_to.pop(who, None)
        if self._router is None:
            return
        if self._needs:
            self._take_up(self._workbench.session)
            assert self._setup is not None
            self._router.change(self._setup)
            return
        self.ending.emit()
        self._timer.stop()
        self.playing.clear()
        running = [one for one in (self.player, self._router, self._sound) if one is not None]
        before = self._ending

        def end() -> None:
            if before is not None:
                before.join()
            _close_all(running)

        self._ending = threading.Thread(target=end, name="ending")
        self._ending.start()
        self._router = self._reader = self._sent = self._sound = self.player = None
        self.sound_state = {}
        self.sound_state_changed.emit({})

    def set_sound_out(self, out: SoundOut) -> None:
        """Use another sound device, rate or block size."""
        self.sound_out = out
        self._follow()

    @property
    def port_names(self) -> tuple[str, ...]:
        """The ports listened to now, by number."""
        return self._setup.inputs if self._setup is not None else ()

    @property
    def outputs(self) -> tuple[str, ...]:
        """The ports sent to now, by number."""
        return self._setup.outputs if self._setup is not None else ()

    def follow_sound(self) -> None:
        """Start the built-in sound if something is sent to it, and send it changed settings."""
        session, setup = self._workbench.session, self._setup
        if self._router is None or setup is None or self.player is None:
            return
        self.player.hold(held_keys(session, setup.outputs))
        own = (ports.SOUND, ports.FONT, ports.CLICK)
        if not set(own) & set(setup.outputs) and session.backing is None and not self._frozen:
            return
        told = sound_settings(session, setup.outputs, self.sound_out)
        told |= {"along": self._along(), "balance": self.balance}
        if self._sound is None:
            self._sound, self._sound_told = SoundProcess(self._router, self.player), {}
        changed = {key: value for key, value in told.items() if self._sound_told.get(key, told) != value}
        if changed:
            self._sound_told = told
            self._sound.tell(**changed)

    def _along(self) -> list[dict[str, Any]]:
        """The recorded sounds that play along, with their places in what is heard."""
        bench = self._workbench
        several = None if bench.heard is None else bench.heard.several
        found = []
        for ref in bench.session.takes:
            wanted = ref.ident == bench.session.current if bench.session.display.alone else ref.is_in
            if ref.kind == SOUND and ref.sound is not None and wanted:
                place = 0.0 if several is None else several.second_of(ref.beat)
                found.append({**asdict(ref.sound), "offset": ref.sound.offset + place, "bent": bench.bent(ref)})
        return found + self._frozen

    def play_frozen(self, rows: list[dict[str, Any]]) -> None:
        """Let renderings of tracks play along. rows: see core/export/frozen.along"""
        if rows != self._frozen:
            self._frozen = rows
            self.follow_sound()

    def set_balance(self, balance: float) -> None:
        """The balance: -1 only recordings, 0 both, 1 only notes. It is the listener's, not the session's."""
        self.balance = max(-1.0, min(1.0, balance))
        self.follow_sound()

    def set_kit_model(self, model: KitModel | None) -> None:
        """Let the live path know the kit by another model than the session's; None: the session's."""
        if model != self._kit_model:
            self._kit_model = model
            self._follow()

    def _take_up(self, session: Session) -> None:
        """Apply the session's inputs to the router and to the names of hits."""
        if self._kit_model is not None:
            path = session.path.with_setting("crosstalk", "kit_model", self._kit_model)
            session = replace(session, path=path)
        played_to = tuple(name for names in self._played_to.values() for name in names)
        self._setup = setup_of(session, self.listening, (*played_to, *self._ready_to_record()), self.sound_out.block)
        self._inputs = session.inputs
        self._contexts = tuple(
            Context(one.source, whole_session.target_of(session, one.ident), (Port(one.port),))
            for one in session.inputs
        )

    def _ready_to_record(self) -> tuple[str, ...]:
        """Where the click goes. That is open before Record is pressed: a port system whose graph changes may
        drop a block, and with it the first hit."""
        session = self._workbench.session
        if not self.listening or not any(one.armed and one.port for one in session.inputs):
            return ()
        clicks = session.recording.click
        if clicks.when == recording.NEVER:
            return ()
        return (*((ports.CLICK,) if clicks.sounds else ()), *((clicks.port,) if clicks.port else ()))

    @staticmethod
    def journal_folder() -> Path:
        """The folder of this sitting's messages."""
        return xdg_folders.state() / "journal" / SITTING

    def stop(self) -> None:
        """Stop live input; sounding notes are released, and a running recording becomes a take."""
        if not self.listening:
            return
        self.stopping.emit()
        for port in tuple(self.playing):
            self.device(stop=port)
        self.need_no_more(LISTENING)
        self.stopped.emit()

    def close(self) -> None:
        """Stop live input and playback."""
        self.stop()
        for who in tuple(self._needs):
            self.need_no_more(who)

    def absent_ports(self) -> set[str]:
        """The ports listened to that are not there now."""
        found = self.state.get("inputs", ())
        return {name for name, there in zip(self.port_names, found, strict=False) if not there}

    def context(self, number: int) -> Context:
        """The context of an input, by its number."""
        return self._contexts[number]

    def context_of(self, record: Record) -> Context:
        """The context for a message: that of the input that listens to it."""
        return next((self._contexts[i] for i in self.inputs_for(record)), Context())

    def inputs_for(self, record: Record) -> list[int]:
        """Numbers of the live inputs that a message is for."""
        if self._setup is None or record.port >= len(self._setup.inputs):
            return []
        port = self._setup.inputs[record.port]
        return [i for i, one in enumerate(self._inputs) if one.listens_to(port, record.data)]

    def port_within(self, number: int, port: int) -> int:
        """Which of an input's own ports one of the router's inputs is."""
        names = self.port_names
        return self._inputs[number].port_number(names[port]) if port < len(names) else 0

    # Playing from within the program

    def play(self, port: str, message: bytes, at: float | None = None) -> None:
        """Send a message of the computer keyboard, the on-screen pads or the touch surface.

        at  seconds of the monotonic clock, now by default
        """
        if self._router is not None:
            self._router.play(port, message, at)

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
        rows = [r for r in self._recent if number in self.inputs_for(r)]
        if not rows:
            return None
        told = [(at, self.port_within(number, port), data) for at, port, data in rows]
        ports = tuple(port for port, _ in self._inputs[number].listens)
        take = journal.to_take(told, ports, "live", tr("Live"), TempoMap.steady(120), one_device=True)
        return self._workbench.work_out_apart(take, self._inputs[number].source)

    def panic(self) -> None:
        """End every note at the receiver, at once."""
        if self._router is not None:
            self._router.panic()

    # Ready to play

    def listen_to(self, port: str, kit: NoteMap | None) -> None:
        """Make sure that a port is a live input with a kit's map, and that live input is on."""
        bench = self._workbench
        inputs = bench.session.inputs
        number = next((i for i, one in enumerate(inputs) if one.port == port), None)
        if number is None:
            number = next((i for i, one in enumerate(inputs) if not one.port), len(inputs))
            if number == len(inputs):
                inputs = (*inputs, LiveInput(output=inputs[-1].output or ports.SOUND))
        output = inputs[number].output
        if not inputs[number].port:
            # An input that was never set up goes where it can be heard at once.
            output = output or ports.SOUND
        changed = with_input(inputs, number, port=port, source=kit, output=output)
        if changed != bench.session.inputs:
            bench.do(tr("listen to {port}").format(port=port), edits.with_inputs(bench.session, changed))
        if not self.listening:
            try:
                self.start()
            except (PureSignalError, OSError) as error:
                self.status_changed.emit(str(error), False)

    def audition(self, articulation: str, velocity: int) -> None:
        """Sound a drum of the target map once; nothing is recorded, journalled or sent to a port."""
        target = self._workbench.session.target
        pad = target.pad_for(resolve(articulation, target.articulations()) or "") if target is not None else None
        if pad is None:
            return
        self.need(AUDITION, (ports.SOUND,))
        assert self._sound is not None
        self._sound.strike(pad.note, velocity)
        self._auditioned.start()

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
        self.follow_sound()

    def now(self) -> float:
        """Seconds of the clock by which what arrives is timed."""
        return self._router.now() if self._router is not None else time.monotonic()

    def read_now(self) -> None:
        """Deliver what has arrived up to now."""
        self._look()

    def _watch_disk(self, refused: int) -> None:
        """Say at once that the disk takes nothing more, and when it does again."""
        if refused == self._refused:
            return
        self._refused, before = refused, self._refused
        if refused and not before:
            text = tr("The disk refuses what is played ({why}). It is kept in memory: make room, and do not close the "
                      "program until this message is gone.")  # fmt: skip
            self._workbench.message_shown.emit(text.format(why=os.strerror(refused)), True)
        elif not refused:
            self._workbench.message_shown.emit(tr("What was played is on disk again."), False)

    def _look(self) -> None:
        router, reader, sent = self._router, self._reader, self._sent
        if router is None or reader is None or sent is None:
            return
        router.watch_recorder()
        self._watch_disk(router.pulses.said(pulse.REFUSED))
        router.watch_devices()
        if self.player is not None:
            self.player.watch()
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
        moves = [(at, json.loads(data)) for at, _, data in router.moved.read()]
        if moves:
            self.transport_moved.emit(moves)
        self.read_at = self.now()
        records, leaving = reader.read(), sent.read()
        self._recent.extend(records)
        self._recently_sent.extend(leaving)
        # The lamp shows the last hit of a batch; the list shows all.
        for record in records[-8:]:
            self._hear(record)
        if records:
            self.messages_received.emit(records)
        if leaving:
            self.messages_sent.emit(leaving)

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
            text = tr(
                "{port} is unavailable, and neither JACK nor PipeWire runs. It will connect when it appears."
            ).format(port=absent[0])
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
        if messages.is_note_on(data):
            channel = messages.channel(data)
            for number in self.inputs_for(record):
                context = self._contexts[number]
                name = context.articulation_of(channel, data[1])
                unmapped = name is None and bool(context.mapped_channels[channel])
                words = spoken(name) if name else tr("note {note}").format(note=data[1])
                self.hit_received.emit(number, words, data[2], unmapped)
