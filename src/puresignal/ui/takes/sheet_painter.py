"""Paints the sheet of Takes: the lines of bars and beats, and the rows with their names and notes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from puresignal.core.analysis.grid_picture import GridPicture
from puresignal.core.midi.columns import distinct
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.ui.takes import bar_ruler, row_painter
from puresignal.ui.takes.row_labels import GUTTER, NAMES, PAD, RowLabels
from puresignal.ui.takes.row_layout import GAP, PlacedRow, RowLayout
from puresignal.ui.takes.time_axis import TimeAxis
from puresignal.ui.takes.timeline_rows import Group, Row
from puresignal.ui.widgets import theme

MOST_CARETS = 250
"""Selected notes per row that get a pointer each."""
TITLE = 66.0
"""Height in pixels that a track's name may take beside low rows."""

Lines = tuple[np.ndarray, np.ndarray]
"""Seconds of lines, and the rank of each."""


class SheetPainter:
    """Paints what stands between the ruler and the overview.

    tempo     where bars and beats are
    grid      lines that notes are pulled to, and notes between two of them; None: the usual lines
    glowing   what was just struck on the pad beside its row
    """

    def __init__(self, layout: RowLayout, axis: TimeAxis):
        self._layout, self._axis = layout, axis
        self._names = RowLabels()
        self.tempo = TempoMap()
        self.grid: GridPicture | None = None
        self.glowing: str | None = None
        self._selected = np.zeros(0, bool)
        self._stands_out: Callable[[np.ndarray], np.ndarray] | None = None
        self._fronts: dict[int, tuple[Row | None, Row | None]] = {}

    def let_stand_out(self, stands_out: Callable[[np.ndarray], np.ndarray] | None) -> None:
        """stands_out: tells of (n,) origins which are not pale; None: none is pale"""
        self._stands_out, self._fronts = stands_out, {}

    def grid_lines(self) -> np.ndarray | None:
        """(k,) seconds of the lines that notes are pulled to; None for the usual ones."""
        return self.grid.lines if self.grid is not None and len(self.grid.lines) else None

    def lines_in_view(self) -> Lines:
        """The lines of bars, beats and subdivisions that are drawn."""
        begin, end = self._axis.seconds_in_view()
        found = bar_ruler.lines(self.tempo, begin, end, self._axis.scale)
        pulled = self.grid_lines()
        return found if pulled is None else bar_ruler.with_grid(found, pulled, begin, end, self._axis.scale)

    def paint(
        self, painter: QPainter, body: QRectF, found: Lines, stretch: tuple[float, float] | None, selected: np.ndarray
    ) -> None:
        """Paint into a box.

        found     result of lines_in_view(); stretch: the selected time range
        selected  a flag for each origin, empty for none
        """
        self._selected = selected
        self._paint_lines(painter, body, found)
        self._paint_stretch(painter, body, stretch)
        self._paint_rows(painter, body)

    def _paint_lines(self, painter: QPainter, body: QRectF, found: Lines) -> None:
        current = theme.current()
        times, ranks = found
        hair, strong = current.colour("line"), current.colour("edge")
        # Lines that notes are pulled to are to be seen; the usual subdivisions only guide the eye.
        fine = QPen(current.colour("shade"), 1)
        if self.grid_lines() is not None:
            fine = QPen(current.colour("line"), 1, Qt.PenStyle.DotLine)
        for rank, pen in ((0, fine), (1, QPen(hair, 1)), (2, QPen(strong, 1))):
            painter.setPen(pen)
            x = np.rint(self._axis.x_of_all(times[ranks == rank])) + 0.5
            painter.drawLines([QLineF(a, body.top(), a, body.bottom()) for a in x.tolist()])

    def _paint_stretch(self, painter: QPainter, body: QRectF, stretch: tuple[float, float] | None) -> None:
        if stretch is None:
            return
        left, right = max(float(GUTTER), self._axis.x_of(stretch[0])), self._axis.x_of(stretch[1])
        if right > left:
            tint = theme.current().colour("chosen")
            tint.setAlpha(120)
            painter.fillRect(QRectF(left, body.top(), right - left, body.height()), tint)

    def _paint_rows(self, painter: QPainter, body: QRectF) -> None:
        axis = self._axis
        begin, end = axis.seconds_in_view()
        ratio = painter.device().devicePixelRatioF()
        frame = row_painter.Frame(GUTTER, axis.width, axis.x_of(0.0), axis.scale, begin, end, ratio)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        lines = bar_ruler.sixteenths(self.tempo, begin, end, axis.scale)
        pulled = self.grid_lines()
        if pulled is not None and len(lines):
            lines = pulled
        previous = None
        for placed in self._layout.rows():
            if placed.group is not previous:
                self._paint_group(painter, placed.group, placed.top, body.right(), ratio)
                previous = placed.group
            if placed.top <= body.bottom() and placed.top + placed.height >= body.top():
                self._paint_row(painter, placed, frame, body, lines)
        painter.setPen(QPen(theme.current().colour("edge"), 1))
        painter.drawLine(QLineF(GUTTER - 0.5, body.top(), GUTTER - 0.5, body.bottom()))

    def _paint_row(
        self, painter: QPainter, placed: PlacedRow, frame: row_painter.Frame, body: QRectF, lines: np.ndarray
    ) -> None:
        current = theme.current()
        row, top, height = placed.row, placed.top, placed.height
        if row.articulation is not None and row.articulation == self.glowing:
            painter.fillRect(QRectF(GUTTER - PAD + 2, top + 3, PAD - 5, height - 7), current.colour("accent"))
        if row.gap:
            painter.fillRect(QRectF(GUTTER, top + 1, body.right() - GUTTER, 2), current.colour("line"))
        colour = current.colour("accent") if row.unmapped else current.family(row.family)
        painter.setPen(QPen(current.colour("line"), 1))
        painter.drawLine(QLineF(GUTTER, placed.base + 0.5, body.right(), placed.base + 0.5))
        painter.setClipRect(QRectF(GUTTER, body.top(), frame.width, body.height()))
        self._paint_notes(painter, placed, frame, colour, lines)
        if self.grid is not None and len(self.grid.between[0]):
            self._paint_between(painter, placed, frame, self.grid.between)
        self._paint_selected(painter, placed, frame)
        painter.setClipRect(body)
        down = GAP if row.gap else 0.0
        painter.drawImage(QPointF(NAMES, top + down), self._names.label(row, height - down, colour, frame.ratio))

    def _paint_notes(
        self, painter: QPainter, placed: PlacedRow, frame: row_painter.Frame, colour: QColor, lines: np.ndarray
    ) -> None:
        current, show = theme.current(), self._layout.show
        ink, pale = current.colour("ink"), current.colour("line")
        behind, front = self._in_front(placed.row)
        for part, tint, strike in ((behind, pale, pale), (front, colour, ink)):
            if part is None:
                continue
            if placed.row.pitched:
                faint = QColor(tint)
                faint.setAlpha(60)
                row_painter.draw_bars(painter, part, show, frame, placed.base, placed.tall, (tint, faint))
            else:
                row_painter.draw_row(painter, part, show, frame, placed.base, placed.tall, (tint, strike))
        if not placed.row.pitched and front is not None and len(lines):
            starts = front.start if show == row_painter.PLAYED else front.clean_start
            first, last = np.searchsorted(starts, (frame.begin, frame.end))
            row_painter.draw_whiskers(painter, starts[first:last], lines, frame, placed.base, ink)

    def _paint_between(
        self, painter: QPainter, placed: PlacedRow, frame: row_painter.Frame, between: tuple[np.ndarray, np.ndarray]
    ) -> None:
        """Both lines of the notes in a row that could belong to either."""
        row, (origins, both) = placed.row, between
        first, last = np.searchsorted(row.clean_start, (frame.begin - 1, frame.end + 1))
        place = np.searchsorted(origins, row.clean_origin[first:last])
        place = np.minimum(place, len(origins) - 1)
        known = origins[place] == row.clean_origin[first:last]
        accent = theme.current().colour("accent")
        row_painter.draw_between(painter, both[np.unique(place[known])], frame, placed.base, placed.tall, accent)

    def _in_front(self, row: Row) -> tuple[Row | None, Row | None]:
        """The notes of other takes, which are pale, and those of the chosen one; (None, row) where none is pale."""
        if self._stands_out is None:
            return None, row
        known = self._fronts.get(id(row))
        if known is None:
            mine, clean = self._stands_out(row.origin), self._stands_out(row.clean_origin)
            known = (None, row) if mine.all() else (row.part(~mine, ~clean), row.part(mine, clean))
            self._fronts[id(row)] = known
        return known

    def _paint_selected(self, painter: QPainter, placed: PlacedRow, frame: row_painter.Frame) -> None:
        if not len(self._selected):
            return
        seen = self._layout.seen(placed.row)
        first, last = np.searchsorted(seen.start, (frame.begin, frame.end))
        here = np.flatnonzero(self._selected[seen.origin[first:last]]) + first
        painter.setPen(Qt.PenStyle.NoPen)
        accent = theme.current().colour("accent")
        painter.setBrush(accent)
        if len(here) > MOST_CARETS:
            # Too many for single pointers: a line over them.
            places = distinct((frame.x0 + seen.start[here] * frame.scale).astype(np.int64))
            runs = np.split(places, np.flatnonzero(np.diff(places) > 3) + 1)
            high = placed.base - placed.tall - 4
            painter.drawRects([QRectF(run[0], high, run[-1] - run[0] + 2, 3) for run in runs])
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        tops = row_painter.stem_tops(seen.velocity[here], placed.base, placed.tall)
        for start, top in zip(seen.start[here].tolist(), tops.tolist(), strict=True):
            painter.drawPolygon(row_painter.caret(self._axis.x_of(start), top - 1))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _paint_group(self, painter: QPainter, group: Group, top: float, right: float, ratio: float) -> None:
        current = theme.current()
        height = sum(self._layout.height_of(row) for row in group.rows)
        unmapped = any(row.unmapped for row in group.rows)
        colour = current.colour("accent") if unmapped else current.family(group.family)
        painter.fillRect(QRectF(0, top, 5, height), colour)
        painter.setPen(QPen(current.colour("line"), 1))
        painter.drawLine(QLineF(0, top + height + 2.5, right, top + height + 2.5))
        ink = colour if unmapped else current.colour("ink")
        # Beside low rows of single pitches a name may take the height of several.
        tall = min(height, TITLE) if group.rows and group.rows[0].pitched else self._layout.plain_height
        painter.drawImage(QPointF(14, top + 2), self._names.title(group, tall, ink, ratio))
