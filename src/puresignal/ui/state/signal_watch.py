"""The way of the last hit, for "No sound?" and "Heard twice?"."""

from __future__ import annotations

from PySide6.QtCore import QObject

from puresignal.core.diagnosis.double_sound import RoutingState
from puresignal.core.diagnosis.no_sound import SignalState
from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi import messages
from puresignal.core.path.context import Context
from puresignal.core.path.note_selection import reason_removed
from puresignal.engine.ring import Record
from puresignal.io import port_systems, ports
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.workbench import Workbench


class SignalWatch(QObject):
    """Counts what arrives and remembers the last hit.

    number  of the live input that was asked about last
    """

    def __init__(self, workbench: Workbench, live_session: LiveSession, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._live_session = workbench, live_session
        self.number = 0
        self._messages: dict[int, int] = {}
        self._notes: dict[int, int] = {}
        self._last: tuple[int, int, int] | None = None
        self._last_at = 0.0
        self._left_for_last = False
        live_session.started.connect(self._forget)
        live_session.messages_received.connect(self._receive)
        live_session.messages_sent.connect(self._send)

    def _forget(self) -> None:
        self._messages, self._notes, self._last = {}, {}, None

    def _receive(self, records: list[Record]) -> None:
        for record in records:
            port = record.port
            self._messages[port] = self._messages.get(port, 0) + 1
            if messages.is_note_on(record.data):
                self._notes[port] = self._notes.get(port, 0) + 1
                self._last = (port, messages.channel(record.data), record.data[1])
                self._last_at, self._left_for_last = record.at, False

    def _send(self, records: list[Record]) -> None:
        # What left before the last hit arrived, left for an earlier one.
        if any(messages.is_note_on(r.data) and r.at >= self._last_at - 1e-4 for r in records):
            self._left_for_last = True

    def signal_state(self, number: int = -1) -> tuple[SignalState, Context]:
        """The state of a live input for "No sound?"; by default of the one hit last, or the first."""
        live = self._live_session
        inputs = self._workbench.session.inputs
        number = min(number if number >= 0 else self._of_last_hit(), len(inputs) - 1)
        self.number = number
        one, names, state = inputs[number], live.port_names, live.state
        if not live.listening or one.port not in names:
            return SignalState(False, False, one.port or None, one.output, False, False, 0, 0, None), Context()
        port = names.index(one.port)
        outputs = state.get("outputs") or []
        output = live.outputs.index(one.output) if one.output in live.outputs else -1
        last = self._last if self._last is not None and self._last[0] == port else None
        context = live.context(number)
        problem, remedy = self._sound_problem(one.output, None if last is None else context.articulation_of(*last[1:]))
        found = SignalState(
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
            removed_as="" if self._left_for_last or last is None else self._removed_as(number),
            sound_problem=problem,
            sound_remedy=remedy,
        )
        return found, context

    def _removed_as(self, number: int) -> str:
        """Why the last hit at an input was removed, in a word or two; empty if it cannot be told."""
        shown = self._live_session.shown(number)
        if shown is None or not len(shown.outcome.input_notes):
            return ""
        why = reason_removed(shown.outcome, int(shown.outcome.input_notes.origin[-1]))
        return "" if why is None else tr(why.word)

    def _sound_problem(self, output: str | None, articulation: str | None) -> tuple[str, str]:
        """Why the built-in sound is silent although it gets the hit, and the key of what helps; empty if it is not."""
        if output != ports.SOUND:
            return "", ""
        session, sound = self._workbench.session, self._live_session.sound_state
        if sound and not sound.get("system"):
            return tr("The built-in sound has no output: {why}").format(why=sound.get("why", "")), "sound"
        if session.sound.level <= 0:
            return tr("The level of the built-in sound is 0."), "level"
        drum = drum_of(articulation) if articulation is not None else None
        if drum is not None and not session.delivery.heard(drum):
            return tr("This drum's track is muted, or another one is solo."), "tracks"
        return "", ""

    def _of_last_hit(self) -> int:
        """Number of the input that the last hit was for; failing that, the first on its port, or the first."""
        live = self._live_session
        if self._last is None or self._last[0] >= len(live.port_names):
            return 0
        port, channel, note = self._last
        found = live.inputs_for(Record(0.0, port, messages.note_on(channel, note, 1)))
        same = [i for i, one in enumerate(live.inputs) if one.port == live.port_names[port]]
        return next(iter((*found, *same)), 0)

    def routing(self) -> RoutingState:
        """The routing for "Heard twice?"."""
        live, session = self._live_session, self._workbench.session
        joined: dict[str, str | None] = {}
        for names, key in ((live.port_names, "inputs"), (live.outputs, "outputs")):
            joined.update(zip(names, live.state.get(key) or [None] * len(names), strict=False))
        hit = None
        if self._last is not None and self._last[0] < len(live.port_names):
            port, channel, note = self._last
            context = live.context_of(Record(0.0, port, messages.note_on(channel, note, 1)))
            hit = (live.port_names[port], channel, context.articulation_of(channel, note))
        return RoutingState(session.inputs, joined, port_systems.wires(), "Pure Signal", session.target, hit)
