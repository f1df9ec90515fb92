"""Exporting clips: files that live until the program ends, for dragging out or for the clipboard."""

from __future__ import annotations

import atexit
import re
import shutil
import tempfile
from pathlib import Path

from PySide6.QtCore import QEvent, QMimeData, QPoint, QRectF, QSize, Qt, QUrl, Signal
from PySide6.QtGui import QDrag, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from puresignal.io import file_access, file_transfer, xdg_folders
from puresignal.translation import tr
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.accessible_parts import AccessibleParts

_folder: Path | None = None


def folder() -> Path:
    """A folder of this run's own for clips; it goes when the program ends, not before.

    Raises FileAccessError when it cannot be made
    """
    global _folder
    if _folder is None or not _folder.is_dir():
        base = xdg_folders.cache() / "clips"
        try:
            base.mkdir(parents=True, exist_ok=True)
            _folder = Path(tempfile.mkdtemp(prefix="run-", dir=base))
        except OSError as error:
            raise file_access.access_error(error, base, "write") from error
        atexit.register(shutil.rmtree, _folder, ignore_errors=True)
    return _folder


def write(name: str, content: bytes) -> Path:
    """Write a clip to a file with a unique name.

    Raises FileAccessError if the system refuses
    """
    plain = re.sub(r"[/\\:*?\"<>|\x00-\x1f]+", " ", name).strip()[:120] or "clip"
    place, number = folder() / f"{plain}.mid", 2
    # An earlier clip may still be in use where it was dropped.
    while place.exists() and place.read_bytes() != content:
        place = folder() / f"{plain} {number}.mid"
        number += 1
    if not place.exists():
        file_access.write_bytes(place, content)
    return place


def mime_data(path: Path) -> QMimeData:
    """A file as drag or clipboard data."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    if file_transfer.sandboxed():
        key = file_transfer.key_of(path)
        if key is not None:
            data.setData(file_transfer.MIME, key)
    return data


class ClipHandle(QWidget):
    """A handle: dragging it drags the clip out of the window.

    drag_requested  a drag starts: the receiver calls `drag` with the clip's file
    copy_requested  Enter or Space: copy the clip to the clipboard
    """

    drag_requested = Signal()
    copy_requested = Signal()
    OWN_KEYS = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._label, self._detail = "", ""
        self._parts = AccessibleParts(self)
        self._pressed: QPoint | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setAccessibleName(tr("Clip to drag out"))
        self.setToolTip(tr("Drag this into your music program. Enter copies it as a file instead (Ctrl+Shift+C)."))
        self.setFixedHeight(74)

    def sizeHint(self) -> QSize:
        return QSize(230, 74)

    def show_clip(self, label: str, detail: str, enabled: bool) -> None:
        """Show the clip to be dragged."""
        self._label, self._detail = label, detail
        self._parts.show([(label, QRectF(self.rect())), (detail, QRectF(self.rect()))])
        self.setEnabled(enabled)
        self.update()

    def drag(self, path: Path) -> None:
        """Drag a file out of the window, as a copy."""
        drag = QDrag(self)
        drag.setMimeData(mime_data(path))
        picture = QPixmap(self.size() * self.devicePixelRatioF())
        picture.setDevicePixelRatio(self.devicePixelRatioF())
        self.render(picture)
        drag.setPixmap(picture)
        drag.exec(Qt.DropAction.CopyAction)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._pressed = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is not None and (event.position().toPoint() - self._pressed).manhattanLength() > 8:
            self._pressed = None
            self.drag_requested.emit()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None

    def keyPressEvent(self, event: QEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):  # type: ignore[attr-defined]
            self.copy_requested.emit()
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        current = theme.current()
        ink = current.colour("ink" if self.isEnabled() else "faint")
        painter.setPen(QPen(ink if self.hasFocus() else current.colour("edge"), 2 if self.hasFocus() else 1.3))
        painter.setBrush(current.colour("shade"))
        painter.drawRoundedRect(self.rect().adjusted(1, 1, -1, -1), 6, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("edge"))
        for row in range(4):
            for column in range(2):
                painter.drawEllipse(QPoint(15 + column * 7, 22 + row * 10), 2, 2)
        box = self.rect().adjusted(36, 12, -10, -10)
        painter.setPen(ink)
        painter.setFont(theme.font(10.5, QFont.Weight.Bold))
        label = painter.fontMetrics().elidedText(self._label, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, label)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(9))
        painter.drawText(
            box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap, self._detail
        )
