"""The Inputs view: the face of the chosen input in the middle, its settings at the right."""

from __future__ import annotations

from PySide6.QtCore import QSize
from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QTabWidget, QVBoxLayout, QWidget

from puresignal.core.errors import PureSignalError
from puresignal.core.kit.note_map import to_json
from puresignal.core.touch.computer_keyboard import Keyboard, own_map
from puresignal.engine.ring import Record
from puresignal.io import note_map_file, ports
from puresignal.translation import tr
from puresignal.ui.inputs.diagnosis import Diagnosis
from puresignal.ui.inputs.drummer_panel import DrummerPanel
from puresignal.ui.inputs.found_ports import FoundPorts
from puresignal.ui.inputs.held_dialog import HeldDialog
from puresignal.ui.inputs.keyboard_panel import KeyboardPanel
from puresignal.ui.inputs.live_panel import LivePanel
from puresignal.ui.inputs.message_list import MessageList
from puresignal.ui.inputs.microphone_face import MicrophoneFace
from puresignal.ui.inputs.pad_sheet import PadSheet
from puresignal.ui.inputs.port_face import PortFace
from puresignal.ui.inputs.setup_dialog import SetupDialog
from puresignal.ui.inputs.touch_face import TouchFace
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import View
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

DRUMMER_WIDE = 300


class InputsView(View):
    """A face for each kind of input: pads and messages of a port, the keyboard, the pads on screen, the drummer."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        workbench, live_session = services.workbench, services.live_session
        self._workbench = workbench
        self._live_session, self._chosen = live_session, services.chosen_input
        self.live = LivePanel(services)
        self._seed = 0
        self.title = PlainLabel()
        self.title.setObjectName("title")
        self.facts = PlainLabel()
        self.facts.setObjectName("faint")
        self.facts.setWordWrap(True)
        self.drummer = DrummerPanel(workbench)
        self.drummer.take_played.connect(lambda take, kit: workbench.add_take(take, kit, tr("play a take")))
        self.drummer.kit.failed.connect(lambda text: services.notices.tell(text, True))
        self.questions = Diagnosis(services, self.live)
        self.live.device_switched.connect(self.play_device)
        self._setup: SetupDialog | None = None
        self.live.setup_requested.connect(self.set_up)
        self.live.mapping_requested.connect(services.requests.mapping_requested)
        self._held: HeldDialog | None = None
        self.live.generator_requested.connect(self.show_generator)
        self.drummer.streaming_switched.connect(lambda on: self.play_device(ports.DRUM_MODULE, on))
        self.drummer.pad_played.connect(self.strike)
        live_session.stopped.connect(lambda: self.drummer.show_streaming(False))
        self.keys = KeyboardPanel(services.keyboard, live_session)
        self.keys.settings_changed.connect(self._set_keyboard)
        self.pads = PadSheet(services.pads)
        self.face = PortFace()
        self.messages, self.leaving = MessageList(live_session), MessageList(live_session, leaving=True)
        self.flow = QTabWidget()
        self.flow.setAccessibleName(tr("Messages of the live inputs"))
        self.flow.addTab(self.messages, tr("Messages in"))
        self.flow.addTab(self.leaving, tr("Messages out"))
        self.found = FoundPorts(services)
        # The drummer is an input like any other: its kit's pads stand beside what it is asked to play.
        self.drummer_side = VerticalScrollArea(self.drummer)
        self.heard = QWidget()
        beside = QHBoxLayout(self.heard)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.setSpacing(12)
        beside.addWidget(self.drummer_side)
        pads_and_messages = QVBoxLayout()
        pads_and_messages.setSpacing(10)
        pads_and_messages.addWidget(self.face, 3)
        pads_and_messages.addWidget(self.flow, 2)
        beside.addLayout(pads_and_messages, 1)
        keyboard = QWidget()
        below = QVBoxLayout(keyboard)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(10)
        below.addWidget(self.keys)
        below.addWidget(self.found, 1)
        self._keyboard = keyboard
        self.pages = QStackedWidget()
        self._microphone: MicrophoneFace | None = None
        self._touch: TouchFace | None = None
        for page in (self.heard, keyboard, self.pads):
            self.pages.addWidget(page)
        self.pages.currentChanged.connect(self._turn)
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(self.title)
        left.addWidget(self.facts)
        left.addWidget(self.pages, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 14, 8, 12)
        row.setSpacing(16)
        row.addLayout(left, 1)
        inner = QWidget()
        side = QVBoxLayout(inner)
        side.setContentsMargins(0, 0, 0, 0)
        side.addWidget(self.live)
        side.addStretch()
        self.side = VerticalScrollArea(inner)
        row.addWidget(self.side)
        self._shown_port: str | None = None
        self._chosen.changed.connect(self.show_face)
        live_session.messages_received.connect(self._hear)
        live_session.started.connect(self._began)
        live_session.stopped.connect(self._began)
        live_session.router_state_changed.connect(lambda _: self._tell())
        self.show_face()

    def _turn(self, _: int) -> None:
        # Hitting a pad starts listening to it; an input that does so already keeps its kit.
        used = {port for one in self._workbench.session.inputs for port, _ in one.listens}
        if self.pages.currentWidget() is self.pads and self.isVisible() and ports.SCREEN_PADS not in used:
            self._live_session.listen_to(ports.SCREEN_PADS, own_map())

    # The face

    @property
    def microphone(self) -> MicrophoneFace:
        """The face of a microphone, made on first use: most players have none."""
        if self._microphone is None:
            self._microphone = MicrophoneFace(self._services)
            self.pages.addWidget(self._microphone)
        return self._microphone

    @property
    def touch(self) -> TouchFace:
        """The face of a touch surface, made on first use."""
        if self._touch is None:
            self._touch = TouchFace(self._services)
            self.pages.addWidget(self._touch)
        return self._touch

    def _page(self, port: str) -> QWidget:
        if port in ports.HEARD:
            return self.microphone
        if port == ports.TOUCH:
            return self.touch
        if port == ports.SCREEN_PADS:
            return self.pads
        return self._keyboard if port in ("", ports.COMPUTER_KEYBOARD) else self.heard

    def show_face(self) -> None:
        """Show the face of the chosen input."""
        one = self._chosen.input
        port = one.port
        if port in ports.HEARD and port != self._shown_port:
            self.microphone.show_input(port)
        self.pages.setCurrentWidget(self._page(port))
        self.drummer_side.setVisible(port == ports.DRUM_MODULE)
        if port != self._shown_port:
            self._shown_port = port
            self._began()
        self._tell()

    def _began(self) -> None:
        """Nothing was heard yet."""
        port = self._chosen.input.port
        if port == ports.DRUM_MODULE:
            says = tr("Press Play live, or hit one pad: what the kit sends shows here.")
        elif not self._live_session.listening:
            says = tr(
                "Press Start listening at the right, then play: each pad and key shows here with how hard it was hit."
            )
        else:
            says = tr("Play: each pad and key shows here with how hard it was hit.")
        self.face.clear(says)
        self._hear(self._live_session.recent())
        self._tell()

    def _tell(self) -> None:
        """The input in words."""
        one = self._chosen.input
        self.title.setText(one.title or tr("Play anything; what sounds becomes an input."))
        if not one.port:
            self.facts.setText(
                tr("The keys below play at once (Ctrl+K). A device is one click away: choose it beneath the keys.")
            )
            return
        channel = tr("all channels") if not one.channel else tr("channel {n}").format(n=one.channel)
        more = "".join(f", {port}" for port, _ in one.more)
        kit = one.source.name if one.source is not None else tr("no kit: notes stay as they are")
        self.facts.setText(f"{one.port}{more} · {channel} · {kit}")

    def _hear(self, records: list[Record]) -> None:
        """Show the messages of the chosen input."""
        number = self._chosen.number
        if self.pages.currentWidget() is not self.heard:
            return
        mine = [record for record in records if number in self._live_session.inputs_for(record)]
        if mine and number < len(self._live_session.inputs):
            self.face.hear(mine, self._live_session.context(number))

    def sizeHint(self) -> QSize:
        return QSize(900, 600)

    def first_focus(self) -> QWidget:
        page = self.pages.currentWidget()
        return self.keys.picture if page is self._keyboard else self.live.listen

    def setup_dialog(self) -> SetupDialog:
        """The one-minute set-up, made on first use."""
        if self._setup is None:
            self._setup = SetupDialog(self._services, self)
        return self._setup

    def set_up(self, number: int | None = None) -> None:
        """Ask an input, or the chosen one, for one pad after the other."""
        number = self._chosen.number if number is None else number
        if number >= len(self._workbench.session.inputs) or not self._workbench.session.inputs[number].port:
            self._services.notices.tell(tr("Choose an input with a port first: the set-up listens to it."), True)
            return
        try:
            self.setup_dialog().ask(number)
        except (PureSignalError, OSError) as error:
            self._services.notices.tell(str(error), True)

    def set_up_from_take(self) -> None:
        """Propose what the chosen take suggests."""
        if not self.setup_dialog().ask_take():
            self._services.notices.tell(tr("There is no take to set up from: play or open one first."), True)

    def play_take(self) -> None:
        """Let the simulated drummer play a take, as it is set up here."""
        self.drummer.play.click()

    def _set_keyboard(self, keyboard: Keyboard) -> None:
        self._services.keyboard.set_keyboard(keyboard)
        self._services.preferences.change(keyboard=keyboard)

    # Live playing of the simulated devices

    def play_device(self, port: str, on: bool) -> None:
        """Start or stop a simulated device; its port becomes a live input."""
        if port == ports.DRUM_MODULE:
            self.drummer.show_streaming(on)
        if not on:
            self._services.players.stop(port)
            self.live.show_inputs()
            return
        kits = {ports.DRUM_MODULE: self.drummer.kit_now, ports.PAD_BOX: note_map_file.shipped("lantern-pads")}
        kit = kits.get(port)
        self._live_session.listen_to(port, kit)
        self._chosen.choose_port(port)
        self._seed += 1
        self._services.players.play(
            port, kit=None if kit is None else to_json(kit), bpm=self.drummer.tempo.value(),
            faults=self.drummer.chosen_faults(), seed=self._seed,
        )  # fmt: skip
        self.live.show_inputs()

    def strike(self, articulation: str, velocity: int) -> None:
        """Hit a pad of the simulated module once."""
        kit = self.drummer.kit_now
        self._live_session.listen_to(ports.DRUM_MODULE, kit)
        self._chosen.choose_port(ports.DRUM_MODULE)
        self._live_session.device(hit=ports.DRUM_MODULE, kit=to_json(kit), articulation=articulation, velocity=velocity)

    def show_generator(self) -> None:
        """Show the generator on held keys."""
        if self._held is None:
            self._held = HeldDialog(self._services, self)
        self._held.show_session()
        self._held.show()
        self._held.raise_()

    def set_compact(self, compact: bool) -> None:
        """Use narrower columns in a small window."""
        self.live.setFixedWidth(246 if compact else 268)
        # Leaves room for a scroll bar, so that nothing jumps when one appears.
        self.side.setFixedWidth(260 if compact else 282)
        self.drummer.setFixedWidth(DRUMMER_WIDE - (40 if compact else 16))
        self.drummer_side.setFixedWidth(DRUMMER_WIDE - (24 if compact else 0))

    def show_take(self, shown: Shown | None) -> None:
        """Inputs are those of the session, whatever take is chosen."""
        self.show_face()
