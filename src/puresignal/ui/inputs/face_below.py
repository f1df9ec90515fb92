"""The face of the chosen input below the rows of Takes, so that hits are entered while looking at them."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QWidget

from puresignal.core.touch.computer_keyboard import own_map
from puresignal.engine.ring import Record
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.inputs.pad_sheet import PadSheet
from puresignal.ui.inputs.port_face import PortFace
from puresignal.ui.inputs.touch_face import Sheet
from puresignal.ui.state.services import Services

HEIGHT = 190


class FaceBelow(QWidget):
    """Touch surface and pads are played here; of a device the pads that it hits light up."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._services, self._chosen = services, services.chosen_input
        self.touch, self.pads, self.port = Sheet(services.touch), PadSheet(services.pads), PortFace()
        self.pages = QStackedWidget()
        for page in (self.pads, self.touch, self.port):
            self.pages.addWidget(page)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        row.addWidget(self.pages)
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName(tr("Face of the chosen input"))
        self._chosen.changed.connect(self.show_face)
        services.live_session.messages_received.connect(self._hear)
        self._shown_port: str | None = None
        self.show_face()

    def show_face(self) -> None:
        """Show the face of the chosen input; without one the pads."""
        port = self._chosen.input.port
        pages = {ports.TOUCH: self.touch, ports.SCREEN_PADS: self.pads, "": self.pads}
        self.pages.setCurrentWidget(pages.get(port, self.port))
        if port != self._shown_port:
            self._shown_port = port
            self.port.clear(tr("Play: each pad and key shows here with how hard it was hit."))

    def listen(self) -> None:
        """Be heard, where the pads or the surface are played here."""
        live, page = self._services.live_session, self.pages.currentWidget()
        used = {port for one in self._services.workbench.session.inputs for port, _ in one.listens}
        if page is self.pads and ports.SCREEN_PADS not in used:
            live.listen_to(ports.SCREEN_PADS, own_map())
        elif page is self.touch and ports.TOUCH not in used:
            live.listen_to(ports.TOUCH, None)

    def _hear(self, records: list[Record]) -> None:
        live, number = self._services.live_session, self._chosen.number
        if self.isVisible() and self.pages.currentWidget() is self.port and number < len(live.inputs):
            mine = [record for record in records if number in live.inputs_for(record)]
            if mine:
                self.port.hear(mine, live.context(number))
