"""Things that can become an input, beneath the computer keyboard: the ports found, and what plays without any."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import note_map_file, ports
from puresignal.io.ports import MidiPort
from puresignal.translation import tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea


def kit_for(port: str) -> NoteMap | None:
    """The note map that a new input on a port begins with; None for a port of pitched notes."""
    if port in (ports.COMPUTER_KEYBOARD, ports.SCREEN_PADS):
        return own_map()
    if port in (ports.KEYBOARD, ports.MIC_MELODY, ports.TOUCH):
        return None
    return note_map_file.shipped(
        {ports.DRUM_MODULE: "practice-five", ports.PAD_BOX: "lantern-pads"}.get(port, "general-midi")
    )


def add_input(services: Services, port: str) -> None:
    """Make a port an input of its own, listen to it, and show its face."""
    services.live_session.listen_to(port, kit_for(port))
    services.chosen_input.choose_port(port)
    services.requests.view_requested.emit("Inputs")


def offered(services: Services) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Ports that can be added: (where it is, ports), without what is an input already."""
    used = {port for one in services.workbench.session.inputs for port, _ in one.listens}

    def names(there: tuple[MidiPort, ...]) -> tuple[str, ...]:
        found = (p.name for p in there if p.gives and (p.system == ports.OWN or not p.name.startswith(ports.OWN_NAME)))
        return tuple(name for name in dict.fromkeys(found) if name not in used)

    return (
        (tr("Ports"), names((*services.port_watch.ports, *ports.virtual()))),
        (tr("On screen"), tuple(name for name in ports.FED_BY_WINDOW if name not in used)),
        (tr("Microphone"), tuple(name for name in ports.HEARD if name not in used)),
        (tr("Simulated"), tuple(name for name in ports.SIMULATED_DEVICES if name not in used)),
    )


def add_menu(services: Services, parent: QWidget) -> QMenu:
    """A menu of what can be added."""
    menu = QMenu(parent)
    services.port_watch.start()
    for title, names in offered(services):
        heading = menu.addAction(title)
        heading.setEnabled(False)
        for name in names:
            menu.addAction(tr(name)).triggered.connect(lambda _=False, n=name: add_input(services, n))
        if not names:
            menu.addAction(tr("none")).setEnabled(False)
    menu.addAction(tr("Generators")).setEnabled(False)
    for kind in services.generators.kinds():
        menu.addAction(tr(kind.title)).triggered.connect(lambda _=False, k=kind.kind: add_generator(services, k))
    return menu


def add_generator(services: Services, kind: str) -> None:
    """Add a generator, and show what it makes."""
    services.generators.add(kind)
    services.requests.view_requested.emit("Takes")


class FoundPorts(QFrame):
    """A line for each port that was found, with a button that makes it an input."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self._services = services
        self.buttons: dict[str, QPushButton] = {}
        self._made_of: object = None
        title = PlainLabel(tr("What else can be played"))
        title.setObjectName("section")
        self._list = QVBoxLayout()
        self._list.setSpacing(4)
        inner = QWidget()
        inner.setLayout(self._list)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(8)
        column.addWidget(title)
        column.addWidget(VerticalScrollArea(inner), 1)
        services.port_watch.changed.connect(lambda *_: self.show_ports())
        services.workbench.changed.connect(self.show_ports)
        self.show_ports()

    def show_ports(self) -> None:
        """Show what was found, ports first."""
        groups = offered(self._services)
        if groups == self._made_of:
            return
        self._made_of = groups
        while self._list.count():
            item = self._list.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.buttons = {}
        for title, names in groups:
            for name in names:
                self._list.addWidget(self._line(title, name))
        if not groups[0][1]:
            none = PlainLabel(tr("No MIDI port was found yet. Plug a device in: it appears here by itself."))
            none.setObjectName("faint")
            self._list.insertWidget(0, none)
        self._list.addStretch()

    def _line(self, where: str, name: str) -> QWidget:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        label = PlainLabel(tr(name))
        place = PlainLabel(where)
        place.setObjectName("faint")
        place.setFixedWidth(90)
        use = QPushButton(tr("Use"))
        use.setObjectName("small")
        use.setAccessibleName(tr("Use {port}", port=name))
        use.setToolTip(plain_tip(tr("Makes {port} an input, and shows what it sends.", port=name)))
        use.clicked.connect(lambda: add_input(self._services, name))
        self.buttons[name] = use
        row.addWidget(place)
        row.addWidget(label, 1)
        row.addWidget(use, 0, Qt.AlignmentFlag.AlignRight)
        return line
