"""The face of a port: its pads and keys as they are heard, each with how hard it was hit last."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QFont, QFontMetricsF, QHelpEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from puresignal.core.harmony.keys import note_name
from puresignal.core.kit.articulations import family_of, sort_key, spoken
from puresignal.core.midi import messages
from puresignal.core.path.context import Context
from puresignal.engine.ring import Record
from puresignal.translation import tr
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

GLOW_MS = 180
WIDE, HIGH, APART = 138.0, 62.0, 8.0
"""Least width, height and distance of the tiles in pixels."""
MOST = 96


@dataclass
class Heard:
    """A pad or key: its words, its family, and what was heard of it."""

    words: str
    family: str
    order: tuple[Any, ...]
    hits: int = 0
    velocity: int = 0
    unmapped: bool = False


class PortFace(QWidget):
    """A tile for each pad that was heard; the one that is hit lights up."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.heard: dict[tuple[int, int], Heard] = {}
        self._lit: set[tuple[int, int]] = set()
        self._glow = QTimer(self)
        self._glow.setSingleShot(True)
        self._glow.setInterval(GLOW_MS)
        self._glow.timeout.connect(self._fade)
        self.says = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(int(HIGH + 2 * APART))
        self._name_it()

    def sizeHint(self) -> QSize:
        return QSize(600, 260)

    def clear(self, says: str) -> None:
        """Forget what was heard. says: what stands there until something is."""
        self.heard, self._lit, self.says = {}, set(), says
        self._name_it()
        self.update()

    def hear(self, records: list[Record], context: Context) -> None:
        """Show messages of the input."""
        for record in records:
            data = record.data
            if not messages.is_note_on(data):
                continue
            key = messages.channel(data), data[1]
            if key not in self.heard:
                if len(self.heard) >= MOST:
                    continue
                self.heard[key] = self._made(*key, context)
            one = self.heard[key]
            one.hits, one.velocity = one.hits + 1, data[2]
            self._lit.add(key)
        self._glow.start()
        self._name_it()
        self.update()

    @staticmethod
    def _made(channel: int, note: int, context: Context) -> Heard:
        name = context.articulation_of(channel, note)
        if name is not None:
            return Heard(spoken(name), family_of(name), (0, *sort_key(name)))
        if bool(context.mapped_channels[channel]):
            return Heard(tr("note {note}", note=note), "other", (-1, note), unmapped=True)
        return Heard(tr("{name}, channel {n}", name=note_name(note), n=channel), "other", (1, channel, note))

    def _name_it(self) -> None:
        told = ", ".join(f"{one.words} {one.velocity}" for one in self._ordered().values())
        self.setAccessibleName(tr("Pads heard: {pads}", pads=told or tr("none yet")))

    def _ordered(self) -> dict[tuple[int, int], Heard]:
        # Orders of one group are alike; those of two differ in their first number.
        return dict(sorted(self.heard.items(), key=lambda item: item[1].order))

    def boxes(self) -> list[tuple[QRectF, tuple[int, int], Heard]]:
        """Where the tiles are."""
        columns = max(1, int((self.width() - APART) // (WIDE + APART)))
        wide = (self.width() - APART * (columns + 1)) / columns
        found = []
        for i, (key, one) in enumerate(self._ordered().items()):
            row, column = divmod(i, columns)
            found.append((QRectF(APART + column * (wide + APART), APART + row * (HIGH + APART), wide, HIGH), key, one))
        return found

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            self._say(event)
            return True
        return super().event(event)

    def _say(self, event: QHelpEvent) -> None:
        at = QPointF(event.pos())
        found = next(((key, one) for box, key, one in self.boxes() if box.contains(at)), None)
        if found is not None:
            (channel, note), one = found
            text = tr("{what}: note {note}, channel {channel}, {hits} hits, last velocity {velocity}")
            said = text.format(what=one.words, note=note, channel=channel, hits=one.hits, velocity=one.velocity)
            QToolTip.showText(event.globalPos(), plain_tip(said), self)

    def _fade(self) -> None:
        self._lit.clear()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(current.colour("line"))
        painter.setBrush(current.colour("sheet"))
        painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        if not self.heard:
            painter.setPen(current.colour("faint"))
            painter.setFont(theme.font(11))
            where = QRectF(self.rect()).adjusted(24, 12, -24, -12)
            painter.drawText(where, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.says)
            return
        for box, key, one in self.boxes():
            lit = key in self._lit
            colour = current.colour("accent") if one.unmapped else current.family(one.family)
            painter.setPen(colour if lit else current.colour("edge"))
            painter.setBrush(current.colour("chosen") if lit else current.colour("paper"))
            painter.drawRoundedRect(box, 5, 5)
            painter.fillRect(QRectF(box.left() + 1, box.top() + 5, 4, box.height() - 10), colour)
            inside = box.adjusted(13, 7, -10, -8)
            painter.setPen(current.colour("accent") if one.unmapped else current.colour("ink"))
            painter.setFont(theme.font(10, QFont.Weight.DemiBold))
            words = QFontMetricsF(painter.font()).elidedText(
                one.words, Qt.TextElideMode.ElideRight, inside.width() - 34
            )
            painter.drawText(inside, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, words)
            painter.setFont(theme.font(12, QFont.Weight.Bold))
            painter.drawText(inside, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight, str(one.velocity))
            painter.setPen(current.colour("faint"))
            painter.setFont(theme.font(8.5))
            told = tr("unmapped") if one.unmapped else tr("note {note}", note=key[1])
            painter.drawText(inside.adjusted(0, 20, 0, 0), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, told)
            painter.drawText(
                inside.adjusted(0, 20, 0, 0),
                Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight,
                f"\N{MULTIPLICATION SIGN}{one.hits}",
            )
            bar = QRectF(inside.left(), inside.bottom() - 5, inside.width(), 5)
            painter.fillRect(bar, current.colour("line"))
            painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * one.velocity / 127, 5), colour)
