"""The mapping as a flow diagram: three columns of names, and ribbons between them as thick as their hits."""

from __future__ import annotations

import time
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFont,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QToolTip, QWidget

from puresignal.core.analysis.mapping_flow import Flows, Ribbon
from puresignal.core.kit.articulations import family_of, spoken
from puresignal.translation import tr
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.accessible_parts import AccessibleParts
from puresignal.ui.widgets.plain_text import plain_tip

ARRIVING, MEANING, LEAVING = range(3)
RUN_SECONDS = 0.22
"""Seconds that a hit takes along each of its two ribbons."""
FRAME_MS = 16
MOST_RUNNING = 64
"""Hits drawn in motion at once: more would blur."""
HEAD, GAP, LEAST, MOST = 34.0, 7.0, 27.0, 66.0
"""Pixels: column heads, gap between nodes, smallest node, ribbons of the busiest node."""


@dataclass(frozen=True)
class Node:
    """One name in a column. place: its index in the column of the flows."""

    column: int
    place: int
    box: QRectF
    label: str
    detail: str
    hits: int
    family: str
    unmapped: bool


@dataclass(frozen=True)
class Band:
    """One ribbon. left: 0 between arrives and articulation, 1 between articulation and leaves; place: index in the
    flows.

    path  its outline; line: its centre line
    """

    left: int
    place: int
    path: QPainterPath
    line: QPainterPath
    thick: float
    family: str
    hits: int
    stand_in: bool


class FlowDiagram(QWidget):
    """Draws flows; names can be dragged onto names, ribbons clicked.

    chosen           (column, place) of a node
    joined           (from column, place, to column, place): one was dragged onto the other
    menu_requested   (column, place, global point)
    unmap_requested  (column, place)
    notes_requested  (left, place) of a clicked ribbon, or (column + 10, place) for a node's hits
    """

    OWN_KEYS = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_T)
    chosen = Signal(int, int)
    joined = Signal(int, int, int, int)
    menu_requested = Signal(int, int, QPoint)
    unmap_requested = Signal(int, int)
    notes_requested = Signal(int, int)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(tr("Mapping"))
        self.setToolTip(
            tr("Drag a name onto its destination. Arrow keys move, Enter lists destinations, Delete unmaps.")
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._flows = Flows((), (), (), (), ())
        self.nodes: tuple[Node, ...] = ()
        self._parts = AccessibleParts(self)
        self.bands: tuple[Band, ...] = ()
        self.selected: tuple[int, int] = (-1, -1)
        self._drag: tuple[Node, QPointF] | None = None
        self._pressed: QPointF | None = None
        self._over: object = None
        self._many_channels = False
        self._running: list[tuple[float, int, int]] = []
        self._frames = QTimer(self)
        self._frames.setInterval(FRAME_MS)
        self._frames.timeout.connect(self._move_hits)

    # Moving hits

    def run_hit(self, arriving: int, meaning: int) -> None:
        """Run a hit along its ribbons: from the note that arrived (its place) to its articulation (-1: none)."""
        if len(self._running) < MOST_RUNNING:
            self._running.append((time.monotonic(), arriving, meaning))
        self._frames.start()
        self.update()

    @property
    def running(self) -> tuple[tuple[int, int], ...]:
        """(arriving, articulation) of the hits in motion."""
        return tuple((arriving, meaning) for _, arriving, meaning in self._running)

    def _move_hits(self) -> None:
        now = time.monotonic()
        self._running = [hit for hit in self._running if now - hit[0] < 2 * RUN_SECONDS]
        if not self._running:
            self._frames.stop()
        self.update()

    def _paint_hits(self, painter: QPainter) -> None:
        now, current = time.monotonic(), theme.current()
        for began, arriving, meaning in self._running:
            part = (now - began) / RUN_SECONDS
            node = self.node(ARRIVING, arriving)
            if meaning < 0:
                if node is not None:
                    painter.fillRect(
                        QRectF(node.box.right(), node.box.center().y() - 3, 34 * min(1.0, part), 6),
                        current.colour("accent"),
                    )
                continue
            for band in self.bands:
                ribbon = (self._flows.named if band.left == 0 else self._flows.sent)[band.place]
                mine = (ribbon.first, ribbon.last) == (arriving, meaning) if band.left == 0 else ribbon.first == meaning
                head = part - band.left
                if mine and 0 <= head <= 1.2:
                    self._paint_hit(painter, band, head, current.colour("ink"))

    @staticmethod
    def _paint_hit(painter: QPainter, band: Band, head: float, colour: QColor) -> None:
        """A dash that follows the ribbon's centre line."""
        begin, end = min(1.0, max(0.0, head - 0.2)), min(1.0, head)
        if end <= begin:
            return
        dash = QPainterPath(band.line.pointAtPercent(begin))
        for i in range(1, 7):
            dash.lineTo(band.line.pointAtPercent(begin + (end - begin) * i / 6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(
            QPen(colour, min(14.0, max(4.0, band.thick * 0.6)), Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap)
        )
        painter.drawPath(dash)

    # Contents

    def show_flows(self, flows: Flows) -> None:
        self._flows = flows
        self._many_channels = len({a.channel for a in flows.arriving}) > 1
        self._arrange()

    def select(self, column: int, place: int) -> None:
        self.selected = (column, place)
        self.update()
        self.chosen.emit(column, place)

    def node(self, column: int, place: int) -> Node | None:
        return next((n for n in self.nodes if (n.column, n.place) == (column, place)), None)

    def sizeHint(self) -> QSize:
        bottom = max((n.box.bottom() for n in self.nodes), default=200.0)
        return QSize(600, round(bottom + 16))

    def minimumSizeHint(self) -> QSize:
        return QSize(480, self.sizeHint().height())

    def resizeEvent(self, event: QEvent) -> None:
        self._arrange()

    # Layout: from flows to boxes and paths

    def _arrange(self) -> None:
        flows = self._flows
        most = max((a.hits for a in flows.arriving), default=0)
        scale = MOST / most if most else 0.0
        thick_named = [self._thick(r.hits, scale) for r in flows.named]
        thick_sent = [self._thick(r.hits, scale) for r in flows.sent]

        def tall(side: list[tuple[int, float]], count: int) -> list[float]:
            sums = [0.0] * count
            for place, thick in side:
                sums[place] += thick
            return [max(LEAST, s + 6) for s in sums]

        named_first = [(r.first, t) for r, t in zip(flows.named, thick_named, strict=True)]
        named_last = [(r.last, t) for r, t in zip(flows.named, thick_named, strict=True)]
        sent_first = [(r.first, t) for r, t in zip(flows.sent, thick_sent, strict=True)]
        sent_last = [(r.last, t) for r, t in zip(flows.sent, thick_sent, strict=True)]
        count = len(flows.meanings)
        middle = [max(a, b) for a, b in zip(tall(named_last, count), tall(sent_first, count), strict=True)]
        nodes = self._column(ARRIVING, tall(named_first, len(flows.arriving)))
        nodes += self._column(MEANING, middle)
        nodes += self._column(LEAVING, tall(sent_last, len(flows.leaving)))
        self.nodes = tuple(nodes)
        self._parts.show([(self._say(node).replace("\n", ", "), node.box) for node in nodes])
        boxes = {(n.column, n.place): n.box for n in nodes}
        families = {(n.column, n.place): n.family for n in nodes}
        self.bands = tuple(
            self._bands(0, flows.named, thick_named, boxes, families)
            + self._bands(1, flows.sent, thick_sent, boxes, families)
        )
        self.setMinimumHeight(self.sizeHint().height())
        self.updateGeometry()
        self.update()

    @staticmethod
    def _thick(hits: int, scale: float) -> float:
        return max(2.0, hits * scale) if hits else 1.0

    def _column(self, column: int, heights: list[float]) -> list[Node]:
        width = float(self.width())
        spans = ((112.0, 0.17, 130.0), (150.0, 0.225, 190.0), (158.0, 0.26, 220.0))
        narrow, middle, last = (min(most, max(least, width * part)) for least, part, most in spans)
        # The middle column is centred so that both ribbons are equally long.
        left = (16.0, 16 + narrow + (width - 32 - narrow - middle - last) / 2, width - last - 16)[column]
        wide = (narrow, middle, last)[column]
        y, nodes = HEAD + 4, []
        for place, height in enumerate(heights):
            label, detail, hits, family, unmapped = self._words(column, place)
            nodes.append(Node(column, place, QRectF(left, y, wide, height), label, detail, hits, family, unmapped))
            y += height + GAP
        return nodes

    def _words(self, column: int, place: int) -> tuple[str, str, int, str, bool]:
        flows = self._flows
        if column == ARRIVING:
            a = flows.arriving[place]
            label = tr("note {note}").format(note=a.note)
            if self._many_channels and a.channel:
                label += tr(", ch {channel}").format(channel=a.channel)
            names = [flows.meanings[r.last].name for r in flows.named if r.first == place]
            return label, "", a.hits, family_of(names[0]) if names else "other", a.unmapped
        if column == MEANING:
            m = flows.meanings[place]
            # The drum is the same, so only the articulation needs saying.
            detail = tr("as {way}").format(way=spoken(m.stand_in).split(", ")[-1]) if m.stand_in else ""
            return spoken(m.name), detail, m.hits, family_of(m.name), m.unmapped
        e = flows.leaving[place]
        ways = [flows.meanings[r.first].name for r in flows.sent if r.last == place]
        name = e.names[0] if e.names else ways[0] if ways else ""
        return (
            tr("note {note}").format(note=e.note), spoken(name) if name else "", e.hits,
            family_of(ways[0] if ways else name), False,
        )  # fmt: skip

    def _bands(
        self,
        left: int,
        ribbons: tuple[Ribbon, ...],
        thick: list[float],
        boxes: dict[tuple[int, int], QRectF],
        families: dict[tuple[int, int], str],
    ) -> list[Band]:
        used: dict[tuple[int, int], float] = {}
        total: dict[tuple[int, int], float] = {}
        for ribbon, t in zip(ribbons, thick, strict=True):
            for key in ((left, ribbon.first), (left + 1, ribbon.last)):
                total[key] = total.get(key, 0.0) + t
        bands = []
        order = sorted(range(len(ribbons)), key=lambda i: (ribbons[i].first, ribbons[i].last))
        for i in order:
            ribbon, t = ribbons[i], thick[i]
            ends = []
            for key in ((left, ribbon.first), (left + 1, ribbon.last)):
                box = boxes[key]
                begin = box.center().y() - total[key] / 2 + used.get(key, 0.0)
                used[key] = used.get(key, 0.0) + t
                ends.append((box, begin))
            (a, y1), (b, y2) = ends
            x1, x2 = a.right(), b.left()
            bend = (x2 - x1) * 0.45
            path = QPainterPath(QPointF(x1, y1))
            path.cubicTo(x1 + bend, y1, x2 - bend, y2, x2, y2)
            path.lineTo(x2, y2 + t)
            path.cubicTo(x2 - bend, y2 + t, x1 + bend, y1 + t, x1, y1 + t)
            path.closeSubpath()
            line = QPainterPath(QPointF(x1, y1 + t / 2))
            line.cubicTo(x1 + bend, y1 + t / 2, x2 - bend, y2 + t / 2, x2, y2 + t / 2)
            family = families[1, ribbon.last if left == 0 else ribbon.first]
            bands.append(Band(left, i, path, line, t, family, ribbon.hits, ribbon.stand_in))
        return bands

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        current = theme.current()
        painter.fillRect(self.rect(), current.colour("sheet"))
        self._paint_heads(painter)
        lit = self._lit()
        for band in self.bands:
            self._paint_band(painter, band, lit is None or (band.left, band.place) in lit)
        if self._running:
            self._paint_hits(painter)
        for node in self.nodes:
            self._paint_node(painter, node)
        if self._drag is not None:
            node, at = self._drag
            start = QPointF(node.box.right(), node.box.center().y())
            painter.setPen(QPen(current.colour("accent"), 2.5, Qt.PenStyle.DashLine))
            painter.drawLine(start, at)

    def _lit(self) -> set[tuple[int, int]] | None:
        """Ribbons of the selected node, None if none is selected."""
        column, place = self.selected
        if self.node(column, place) is None:
            return None
        flows = self._flows
        if column == ARRIVING:
            named = {i for i, r in enumerate(flows.named) if r.first == place}
            means = {flows.named[i].last for i in named}
        elif column == MEANING:
            named, means = {i for i, r in enumerate(flows.named) if r.last == place}, {place}
        else:
            sent = {i for i, r in enumerate(flows.sent) if r.last == place}
            means = {flows.sent[i].first for i in sent}
            named = {i for i, r in enumerate(flows.named) if r.last in means}
            return {(0, i) for i in named} | {(1, i) for i in sent}
        sent = {i for i, r in enumerate(flows.sent) if r.first in means}
        return {(0, i) for i in named} | {(1, i) for i in sent} or None

    def _paint_heads(self, painter: QPainter) -> None:
        current = theme.current()
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        for column, text in enumerate((tr("arrives"), tr("articulation"), tr("leaves"))):
            box = next((n.box for n in self.nodes if n.column == column), None)
            if box is not None:
                painter.drawText(QRectF(box.left(), 6, box.width(), HEAD - 8), Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_band(self, painter: QPainter, band: Band, lit: bool) -> None:
        current = theme.current()
        colour = current.family(band.family)
        fill = QColor(colour)
        hovered = self._over is band or (isinstance(self._over, Band) and self._over == band)
        fill.setAlpha(190 if hovered else 110 if lit else 34)
        if not band.hits:
            painter.setPen(QPen(current.colour("line"), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(band.path)
            return
        painter.setBrush(fill)
        # A substitute is not what was played: its edge is dashed, whatever the colour.
        edge = QPen(colour, 1.2, Qt.PenStyle.DashLine) if band.stand_in and lit else Qt.PenStyle.NoPen
        painter.setPen(edge)
        painter.drawPath(band.path)

    def _paint_node(self, painter: QPainter, node: Node) -> None:
        current = theme.current()
        colour = current.colour("accent") if node.unmapped else current.family(node.family)
        chosen = self.selected == (node.column, node.place)
        over = isinstance(self._over, Node) and (self._over.column, self._over.place) == (node.column, node.place)
        painter.setPen(QPen(current.colour("ink" if chosen or over else "edge"), 2 if chosen else 1))
        painter.setBrush(current.colour("chosen") if chosen else current.colour("paper"))
        painter.drawRoundedRect(node.box.adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        if node.column != LEAVING:
            painter.fillRect(QRectF(node.box.right() - 5, node.box.top() + 1, 4, node.box.height() - 2), colour)
        if node.column != ARRIVING:
            painter.fillRect(QRectF(node.box.left() + 1, node.box.top() + 1, 4, node.box.height() - 2), colour)
        if node.unmapped:
            self._paint_loose_end(painter, node, colour)
        text = node.box.adjusted(12, 0, -12, 0)
        painter.setFont(theme.font(9))
        painter.setPen(current.colour("accent") if node.unmapped else current.colour("faint"))
        hits = text_format.count(node.hits) if node.hits else "–"
        painter.drawText(text, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, hits)
        room = text.width() - QFontMetricsF(painter.font()).horizontalAdvance(hits) - 10
        painter.setFont(theme.font(10, QFont.Weight.DemiBold))
        painter.setPen(colour if node.unmapped else current.colour("ink"))
        metrics = QFontMetricsF(painter.font())
        label = metrics.elidedText(node.label, Qt.TextElideMode.ElideRight, room)
        painter.drawText(text, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, label)
        if node.detail:
            used = metrics.horizontalAdvance(label) + 8
            if room - used < 26:
                return
            painter.setFont(theme.font(9))
            painter.setPen(current.colour("faint"))
            detail = QFontMetricsF(painter.font()).elidedText(
                node.detail, Qt.TextElideMode.ElideRight, max(0, room - used)
            )
            painter.drawText(text.adjusted(used, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, detail)

    def _paint_loose_end(self, painter: QPainter, node: Node, colour: QColor) -> None:
        """A frayed end for an unmapped note."""
        x, y = node.box.right(), node.box.center().y()
        painter.setPen(QPen(colour, 3))
        painter.drawLine(QPointF(x, y), QPointF(x + 22, y))
        painter.setPen(QPen(colour, 1.4))
        for rise in (-5, 0, 5):
            painter.drawLine(QPointF(x + 22, y), QPointF(x + 31, y + rise))

    # Pointer and keys

    def _hit(self, at: QPointF) -> Node | Band | None:
        for node in self.nodes:
            if node.box.contains(at):
                return node
        for band in reversed(self.bands):
            if band.path.contains(at) or band.path.intersects(QRectF(at.x() - 2, at.y() - 2, 4, 4)):
                return band
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        found = self._hit(event.position())
        self._pressed = event.position()
        if isinstance(found, Node):
            self.select(found.column, found.place)
        elif isinstance(found, Band):
            self.notes_requested.emit(found.left, found.place)
        else:
            self.select(-1, -1)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.buttons() & Qt.MouseButton.LeftButton and self._pressed is not None:
            node = self.node(*self.selected)
            far = (at - self._pressed).manhattanLength() > 6
            if node is not None and node.column != LEAVING and (far or self._drag is not None):
                self._drag = (node, at)
        self._over = self._hit(at)
        self.setCursor(Qt.CursorShape.PointingHandCursor if self._over else Qt.CursorShape.ArrowCursor)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, self._drag, self._pressed = self._drag, None, None
        self.update()
        if drag is None:
            return
        node, at = drag
        found = self._hit(at)
        if isinstance(found, Node) and found.column == node.column + 1:
            self.joined.emit(node.column, node.place, found.column, found.place)
        elif not (isinstance(found, Node) and found.column == node.column):
            # Dropped beside every name: the destination is not visible, so offer the list.
            self.menu_requested.emit(node.column, node.place, event.globalPosition().toPoint())

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        found = self._hit(event.position())
        if isinstance(found, Node):
            self.menu_requested.emit(found.column, found.place, event.globalPosition().toPoint())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        found = self._hit(QPointF(event.pos()))
        if isinstance(found, Node):
            self.select(found.column, found.place)
            self.menu_requested.emit(found.column, found.place, event.globalPos())

    def leaveEvent(self, event: QEvent) -> None:
        self._over = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        column, place = self.selected
        node = self.node(column, place)
        key = event.key()
        arrows = {Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1), Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0)}
        if key in arrows:
            self._move(node, *arrows[Qt.Key(key)])
        elif node is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.menu_requested.emit(column, place, self.mapToGlobal(node.box.bottomLeft().toPoint()))
        elif node is not None and key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.unmap_requested.emit(column, place)
        elif node is not None and key == Qt.Key.Key_T:
            self.notes_requested.emit(column + 10, place)
        else:
            super().keyPressEvent(event)

    def _move(self, node: Node | None, across: int, down: int) -> None:
        if node is None:
            if self.nodes:
                self.select(self.nodes[0].column, self.nodes[0].place)
            return
        if down:
            other = self.node(node.column, node.place + down)
        else:
            beside = [n for n in self.nodes if n.column == node.column + across]
            other = min(beside, key=lambda n: abs(n.box.center().y() - node.box.center().y()), default=None)
        if other is not None:
            self.select(other.column, other.place)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            QToolTip.showText(event.globalPos(), plain_tip(self._say(self._hit(QPointF(event.pos())))), self)
            return True
        return super().event(event)

    def _say(self, found: Node | Band | None) -> str:
        flows = self._flows
        if isinstance(found, Band):
            ribbon = (flows.named if found.left == 0 else flows.sent)[found.place]
            a = self.node(found.left, ribbon.first)
            b = self.node(found.left + 1, ribbon.last)
            assert a is not None
            assert b is not None
            way = tr("{a} → {b}: {hits}").format(a=a.label, b=b.label, hits=text_format.counted(found.hits, "hit"))
            if found.stand_in:
                way += tr("\nThe receiver lacks this articulation; this is the nearest of the same drum.")
            return way + tr("\nClick to show these hits in Takes.")
        if isinstance(found, Node):
            text = f"{found.label}: {text_format.counted(found.hits, 'hit')}"
            if found.unmapped:
                text += tr("\nUnmapped. Drag it onto its destination, or press Enter for a list.")
            return f"{text}\n{found.detail}" if found.detail else text
        return self.toolTip()
