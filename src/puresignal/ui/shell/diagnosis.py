"""Answers to questions about live input: "No sound?", "Heard twice?", and earlier playing."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from puresignal.core.diagnosis import double_sound, no_sound
from puresignal.core.errors import PureSignalError
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.io import jack_ports, journal
from puresignal.translation import tr
from puresignal.ui.inputs.inputs_view import InputsView
from puresignal.ui.inputs.journal_dialog import JournalDialog, KeptStretch
from puresignal.ui.shell.message_bar import MessageBar
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.workbench import Workbench


class Diagnosis(QObject):
    """Answers in the message bar, each with the button that helps."""

    def __init__(
        self, workbench: Workbench, listener: LiveSession, inputs: InputsView, notice: MessageBar,
        show_view: Callable[[str], None],
    ):  # fmt: skip
        super().__init__(inputs)
        self._workbench, self._listener = workbench, listener
        self._inputs, self._notice, self._show_view = inputs, notice, show_view
        self.dialog: JournalDialog | None = None
        inputs.live.why_silent_requested.connect(self.why_silent)
        inputs.live.why_twice_requested.connect(self.why_twice)
        inputs.live.journal_requested.connect(self.show_kept)

    def why_silent(self) -> None:
        """Follow the last hit from the port to the output, and offer help where it stops."""
        live = self._inputs.live
        situation, context = self._listener.situation()
        places = no_sound.follow(situation, context)
        number = self._listener.number_in_question
        cures = {
            "listen": (tr("Start"), tr("Starts live input on the chosen port."), live.listen.click),
            "ports": (
                tr("Look again"),
                tr("Stops live input and looks for ports again."),
                self._look_again,
            ),
            "learn": (tr("Learn it"), tr("Asks about the pad; hit it again."), self._learn),
            "maps": (
                tr("Go to Mapping"),
                tr("Shows the mapping of every note."),
                lambda: self._show_view("Mapping"),
            ),
            "channel": (
                tr("All channels"),
                tr("Listen to every channel on this input."),
                lambda: self._set_input(number, tr("choose input channel"), channel=0),
            ),
            "hear": (
                tr("Switch Monitor on"),
                tr("Sends what is played on at once."),
                lambda: self._set_input(number, tr("switch monitor"), monitor=True),
            ),
            "settings": (
                tr("Go to the path"),
                tr("Shows the settings of the stages, and what each of them removed."),
                lambda: self._show_view("Takes"),
            ),
        }
        way = " → ".join(p.name for p in places if p.passes)
        text = (
            f"{way} → ✕ {places[-1].name}\n{no_sound.verdict(places)}"
            if not places[-1].passes
            else no_sound.verdict(places)
        )
        remedy = cures.get(places[-1].remedy) if not places[-1].passes else None
        if remedy is None:
            self._notice.tell(text, not places[-1].passes)
        else:
            self._notice.offer(text, *remedy)

    def why_twice(self) -> None:
        """Name every source that sounds for the last hit, and offer to mute the second."""
        scene = self._listener.scene()
        found = double_sound.sources(scene)
        text = double_sound.verdict(found, scene.hit is not None)
        second = next((source for source in found if source.remedy), None)
        if second is None:
            self._notice.tell(text, False)
        elif second.remedy == "hear":
            self._notice.offer(
                text, tr("Mute input {n}").format(n=second.number + 1), tr("It is still recorded."),
                lambda: self._set_input(second.number, tr("switch monitor"), monitor=False),
            )  # fmt: skip
        elif second.remedy == "wire":
            self._notice.offer(
                text, tr("Disconnect"), tr("Disconnects the two ports."),
                lambda: self._cut(second.wire),
            )  # fmt: skip
        else:
            self._notice.offer(
                text,
                tr("Go to Mapping"),
                tr("Shows the mapping of every note."),
                lambda: self._show_view("Mapping"),
            )

    def _cut(self, wire: tuple[str, str] | None) -> None:
        assert wire is not None
        try:
            jack_ports.cut(*wire)
        except PureSignalError as error:
            self._notice.tell(str(error), True)

    def _set_input(self, number: int, name: str, **changed: object) -> None:
        bench = self._workbench
        bench.do(name, edits.with_inputs(bench.session, with_input(bench.session.inputs, number, **changed)))

    def show_kept(self) -> None:
        """Offer what was played without recording."""
        dialog = JournalDialog(journal.sittings(self._listener.journal_folder().parent), self._inputs.window())
        dialog.chosen.connect(self._keep)
        self.dialog = dialog
        dialog.show()

    def _keep(self, kept: KeptStretch) -> None:
        bench = self._workbench
        name = tr("Kept, {when}").format(when=kept.when())
        take = journal.to_take(kept.rows(), (kept.port,), bench.store.free_ident(), name, TempoMap.steady(120))
        mine = next((one.source for one in bench.session.inputs if one.port == kept.port), None)
        bench.add_take(take, mine or bench.likely_map(take), tr("keep earlier playing"))

    def _learn(self) -> None:
        self._show_view("Inputs")
        learn = self._inputs.live.editors[self._listener.number_in_question].learn
        if not learn.isChecked():
            learn.click()

    def _look_again(self) -> None:
        self._listener.stop()
        self._show_view("Inputs")
        self._inputs.live.refresh()
