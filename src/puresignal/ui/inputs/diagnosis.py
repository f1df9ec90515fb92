"""Answers to questions about live input: "No sound?", "Heard twice?", and earlier playing."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QObject

from puresignal.core.diagnosis import double_sound, no_sound
from puresignal.core.errors import PureSignalError
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.io import journal, port_systems
from puresignal.translation import tr
from puresignal.ui.inputs.journal_dialog import JournalDialog, KeptStretch
from puresignal.ui.inputs.live_panel import LivePanel
from puresignal.ui.state.services import Services


class Diagnosis(QObject):
    """Answers in the message bar, each with the button that helps."""

    def __init__(self, services: Services, panel: LivePanel):
        super().__init__(panel)
        self._workbench, self._live_session, self._watch = services.workbench, services.live_session, services.watch
        self._panel, self._notices, self._requests = panel, services.notices, services.requests
        self.dialog: JournalDialog | None = None
        panel.why_silent_requested.connect(self.why_silent)
        panel.why_twice_requested.connect(self.why_twice)
        panel.journal_requested.connect(self.show_kept)

    def why_silent(self) -> None:
        """Follow the last hit from the port to the output, and offer help where it stops."""
        situation, context = self._watch.signal_state()
        places = no_sound.follow(situation, context)
        number = self._watch.number
        cures = {
            "listen": (tr("Start listening"), tr("Starts live input on the chosen port."), self._panel.listen.click),
            "ports": (
                tr("Choose another"),
                tr("Stops live input and shows the ports that are there now."),
                self._look_again,
            ),
            "learn": (tr("Learn it"), tr("Asks about the pad; hit it again."), self._learn),
            "maps": (
                tr("Go to Mapping"),
                tr("Shows the mapping of every note."),
                lambda: self._requests.view_requested.emit("Mapping"),
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
            "sound": (
                tr("Go to Outputs"),
                tr("Shows the sound device."),
                lambda: self._requests.view_requested.emit("Outputs"),
            ),
            "tracks": (
                tr("Go to Outputs"),
                tr("Shows which tracks are muted or solo."),
                lambda: self._requests.view_requested.emit("Outputs"),
            ),
            "level": (tr("Turn it up"), tr("Sets the level of the built-in sound to 70 %."), self._turn_up),
            "settings": (
                tr("Go to the path"),
                tr("Shows the settings of the stages, and what each of them removed."),
                lambda: self._requests.view_requested.emit("Takes"),
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
            self._notices.tell(text, not places[-1].passes)
        else:
            self._notices.offer(text, *remedy)

    def why_twice(self) -> None:
        """Name every source that sounds for the last hit, and offer to mute the second."""
        routing = self._watch.routing()
        found = double_sound.sources(routing)
        text = double_sound.verdict(found, routing.hit is not None)
        second = next((source for source in found if source.remedy), None)
        if second is None:
            self._notices.tell(text, False)
        elif second.remedy == "hear":
            self._notices.offer(
                text, tr("Mute input {n}").format(n=second.number + 1), tr("It is still recorded."),
                lambda: self._set_input(second.number, tr("switch monitor"), monitor=False),
            )  # fmt: skip
        elif second.remedy == "wire":
            self._notices.offer(
                text, tr("Disconnect"), tr("Disconnects the two ports."),
                lambda: self._cut(second.wire),
            )  # fmt: skip
        else:
            self._notices.offer(
                text,
                tr("Go to Mapping"),
                tr("Shows the mapping of every note."),
                lambda: self._requests.view_requested.emit("Mapping"),
            )

    def _turn_up(self) -> None:
        bench = self._workbench
        sound = replace(bench.session.sound, level=0.7)
        bench.do(tr("set sound level"), edits.with_sound(bench.session, sound))

    def _cut(self, wire: tuple[str, str] | None) -> None:
        assert wire is not None
        try:
            port_systems.cut(*wire)
        except PureSignalError as error:
            self._notices.tell(str(error), True)

    def _set_input(self, number: int, name: str, **changed: object) -> None:
        bench = self._workbench
        bench.do(name, edits.with_inputs(bench.session, with_input(bench.session.inputs, number, **changed)))

    def show_kept(self) -> None:
        """Offer what was played without recording."""
        dialog = JournalDialog(journal.sittings(self._live_session.journal_folder().parent), self._panel.window())
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
        self._requests.view_requested.emit("Inputs")
        learn = self._panel.editors[self._watch.number].learn
        if not learn.isChecked():
            learn.click()

    def _look_again(self) -> None:
        self._live_session.stop()
        self._requests.view_requested.emit("Inputs")
