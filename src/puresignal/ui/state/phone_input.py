"""Phones that play the touch surface: the page's server, what its cells show, and its touches on our clock."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtNetwork import QAbstractSocket, QNetworkInterface

from puresignal.core.errors import PureSignalError
from puresignal.core.touch import phone, surface
from puresignal.core.touch.phone import Touch
from puresignal.io.phone_server import PORT, PhoneServer
from puresignal.ui.state.touch_input import TouchInput
from puresignal.ui.widgets import theme

FIRST_FINGER, FINGERS = 2000, 1 << 20
"""Numbers of the first phone's fingers among those of the surface, and how many each phone has."""
THIS_COMPUTER = "127.0.0.1"


def networks() -> list[tuple[str, str]]:
    """The networks that this machine is in: (name of the interface, address). This computer itself comes last."""
    found = [
        (one.humanReadableName(), entry.ip().toString())
        for one in QNetworkInterface.allInterfaces()
        if one.flags() & QNetworkInterface.InterfaceFlag.IsUp
        and not one.flags() & QNetworkInterface.InterfaceFlag.IsLoopBack
        for entry in one.addressEntries()
        if entry.ip().protocol() == QAbstractSocket.NetworkLayerProtocol.IPv4Protocol
    ]  # fmt: skip
    # Networks at home before those of containers and virtual machines, which are in the 172s.
    return [*sorted(found, key=lambda row: row[1].startswith(("172.", "169.254."))), ("", THIS_COMPUTER)]


class PhoneInput(QObject):
    """Off until somebody switches it on; off at the end of the program.

    changed  it was switched on or off, a phone came or went, an offer was used
    """

    changed = Signal()
    _told = Signal(int, object, float)
    _moved = Signal()

    def __init__(self, touch: TouchInput, parent: QObject | None = None):
        super().__init__(parent)
        self._touch = touch
        self._server: PhoneServer | None = None
        self._face = ""
        # From the server's thread into ours.
        self._told.connect(self._play)
        self._moved.connect(self.changed)
        touch.changed.connect(self.show_face)
        touch.held_changed.connect(self._light)

    @property
    def server(self) -> PhoneServer | None:
        """The page's server while it is switched on."""
        return self._server

    @property
    def on(self) -> bool:
        return self._server is not None

    def switch_on(self, address: str, port: int = PORT) -> str:
        """Serve the page on one of this machine's addresses. Returns what went wrong, empty if nothing did."""
        self.switch_off()
        self._face = self.face()
        try:
            self._server = PhoneServer(address, self._face, self._told.emit, self._moved.emit, port)
        except PureSignalError as error:
            return str(error)
        self.changed.emit()
        return ""

    def switch_off(self) -> None:
        """Lift the phones' fingers and let go of the address."""
        server, self._server = self._server, None
        if server is not None:
            server.close()
            self.changed.emit()

    def renew(self) -> None:
        """Show a new code, for one more phone."""
        if self._server is not None:
            self._server.renew()
            self.changed.emit()

    def face(self) -> str:
        """The message that fills the page like the surface in the window."""
        player, current = self._touch.player, theme.current()
        pictured = self._touch.settings.way in (surface.BOOK, surface.LATTICE)
        # A phone's cells are low: the ladder spans only what there is.
        notes = [note for cell in player.cells for note in cell.notes]
        low, high = (min(notes) - 1, max(notes) + 1) if notes else surface.LADDER
        rows: list[dict[str, object]] = [
            {
                "row": cell.row, "column": cell.column, "label": cell.label, "below": cell.below, "root": cell.root,
                "pale": cell.pale, "colour": current.family(cell.family).name(),
                "ladder": [
                    round((note - low) / (high - low), 3) for note in cell.notes if pictured
                ],
            }
            for cell in player.cells
        ]  # fmt: skip
        colours = {
            "desk": current.paper, "sheet": current.sheet, "ink": current.ink, "line": current.line,
            "shade": current.shade, "faint": current.faint, "bar": current.family("tom").name(),
        }  # fmt: skip
        return phone.face(player.rows, player.columns, rows, colours)

    def show_face(self) -> None:
        """Show the surface as it is now, in the colours of the theme."""
        if self._server is not None and (face := self.face()) != self._face:
            self._face = face
            self._server.show(face)

    def _light(self) -> None:
        if self._server is not None:
            self._server.light([(*place, velocity) for place, velocity in self._touch.player.held.items()])

    def _play(self, number: int, touches: tuple[Touch, ...], at: float) -> None:
        for one in touches:
            finger = FIRST_FINGER + number * FINGERS + one.finger % FINGERS
            if one.doing == phone.DOWN:
                self._touch.press(finger, one.x, one.y, one.pressure, at)
            elif one.doing == phone.MOVED:
                self._touch.move(finger, one.x, one.y, one.pressure, at)
            else:
                self._touch.lift(finger, at)
