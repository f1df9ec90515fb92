"""Painting rows of notes: stems where they can be told apart, a skyline where they cannot."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPen, QPolygonF

from puresignal.ui.picture import Row

STEM = 4.0
"""Pixels: width of a stem."""
FOOT = 9.0
"""Pixels below the base line that the foot marks take."""
TELLABLE = 3.0
"""Mean pixels between stems from which each is drawn on its own."""

PLAYED, CLEAN, BOTH = "played", "clean", "both"


def stem_tops(velocity: np.ndarray, base: float, height: float) -> np.ndarray:
    """(n,) y of the stems' tops for velocities 1..127 on a base line."""
    tops: np.ndarray = base - np.maximum(2.0, velocity / 127.0 * height)
    return tops


def columns(x: np.ndarray, velocity: np.ndarray, width: int) -> np.ndarray:
    """(width,) the loudest velocity in each pixel column, 0 where there is none."""
    loudest = np.zeros(width, np.float32)
    place = x.astype(np.int64)
    inside = (place >= 0) & (place < width)
    np.maximum.at(loudest, place[inside], velocity[inside])
    return loudest


def skyline(loudest: np.ndarray, height: int, colour: QColor) -> QImage:
    """An image of columns as high as their velocity, clear elsewhere."""
    tall = np.ceil(loudest / 127.0 * height).astype(np.int64)
    rows = np.arange(height)[:, None]
    filled = rows >= height - tall[None, :]
    pixels = np.where(filled, np.uint32(colour.rgba()), np.uint32(0)).astype(np.uint32)
    image = QImage(pixels.tobytes(), len(loudest), height, 4 * len(loudest), QImage.Format.Format_ARGB32_Premultiplied)
    return image.copy()


def draw_mark(painter: QPainter, mark: str, x: float, y: float, colour: QColor) -> None:
    """One percussion mark, centred at a point."""
    painter.setPen(QPen(colour, 1.6))
    painter.drawLines(_mark_lines(mark, x, y))


def _mark_lines(mark: str, x: float, y: float) -> list[QLineF]:
    if mark == "cross":
        return [QLineF(x - 3, y - 3, x + 3, y + 3), QLineF(x - 3, y + 3, x + 3, y - 3)]
    if mark == "wedge":
        return [QLineF(x - 3.5, y + 3, x, y - 3), QLineF(x, y - 3, x + 3.5, y + 3)]
    if mark == "bracket":
        return [
            QLineF(x - 3.5, y - 2.5, x - 3.5, y + 2.5),
            QLineF(x - 3.5, y + 2.5, x + 3.5, y + 2.5),
            QLineF(x + 3.5, y + 2.5, x + 3.5, y - 2.5),
        ]
    return [QLineF(x - 4, y, x + 4, y)]


def draw_stems(
    painter: QPainter,
    row: Row,
    show: str,
    x0: float,
    seconds: tuple[float, float],
    scale: float,
    base: float,
    height: float,
    colour: QColor,
    ink: QColor,
) -> bool:
    """The stems of a row that fall into a stretch of time.

    x0, scale  pixel of second 0, and pixels a second
    Returns    False where they are too dense to be told apart; nothing is drawn then
    """  # fmt: skip
    first, last = np.searchsorted(row.start, seconds)
    width = (seconds[1] - seconds[0]) * scale
    if last - first > max(8.0, width / TELLABLE):
        return False
    part = slice(int(first), int(last))
    gone = row.gone[part]
    x = x0 + row.start[part] * scale
    top = stem_tops(row.velocity[part], base, height)
    marks: list[QLineF] = []
    if show != CLEAN:
        hollow = gone if show == BOTH else np.ones(len(x), bool)
        _draw_hollow(painter, x[hollow], top[hollow], base, colour)
        struck = gone if show == BOTH else np.zeros(len(x), bool)
        _draw_struck(painter, x[struck], top[struck], base, ink)
        for at in x[hollow].tolist():
            marks += _mark_lines(row.mark, at, base + 5)
    if show != PLAYED:
        first, last = np.searchsorted(row.clean_start, seconds)
        part = slice(int(first), int(last))
        x = x0 + row.clean_start[part] * scale
        top = stem_tops(row.clean_velocity[part], base, height)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(colour))
        painter.drawRects(
            [QRectF(a - STEM / 2, t, STEM, base - t) for a, t in zip(x.tolist(), top.tolist(), strict=True)]
        )
        for at in x.tolist():
            marks += _mark_lines(row.mark, at, base + 5)
    painter.setPen(QPen(colour, 1.5))
    painter.drawLines(marks)
    return True


def _draw_hollow(painter: QPainter, x: np.ndarray, top: np.ndarray, base: float, colour: QColor) -> None:
    painter.setPen(QPen(colour, 1.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRects(
        [
            QRectF(a - STEM / 2 + 0.5, t + 0.5, STEM - 1, max(1.0, base - t - 1))
            for a, t in zip(x.tolist(), top.tolist(), strict=True)
        ]
    )


def _draw_struck(painter: QPainter, x: np.ndarray, top: np.ndarray, base: float, ink: QColor) -> None:
    painter.setPen(QPen(ink, 1.4))
    middle = (top + base) / 2
    painter.drawLines([QLineF(a - 5, m + 4, a + 5, m - 4) for a, m in zip(x.tolist(), middle.tolist(), strict=True)])


def draw_skyline(
    painter: QPainter,
    row: Row,
    show: str,
    x0: float,
    seconds: tuple[float, float],
    scale: float,
    left: int,
    width: int,
    base: float,
    height: float,
    colour: QColor,
    ink: QColor,
) -> None:
    """A dense row: the loudest hit of each pixel column, and a tick where hits were taken out."""  # fmt: skip
    start, velocity = (row.start, row.velocity) if show == PLAYED else (row.clean_start, row.clean_velocity)
    first, last = np.searchsorted(start, seconds)
    x = x0 + start[first:last] * scale - left
    image = skyline(columns(x, velocity[first:last], width), max(1, int(height)), colour)
    painter.drawImage(QPointF(left, base - image.height()), image)
    if show == BOTH and row.gone.any():
        first, last = np.searchsorted(row.start, seconds)
        x = x0 + row.start[first:last][row.gone[first:last]] * scale
        places = np.unique(x.astype(np.int64))
        painter.setPen(QPen(ink, 1.0))
        painter.drawLines([QLineF(a + 0.5, base + 2, a + 0.5, base + 7) for a in places.tolist()])


def draw_bars(
    painter: QPainter,
    row: Row,
    show: str,
    x0: float,
    seconds: tuple[float, float],
    scale: float,
    base: float,
    height: float,
    colour: QColor,
    faint: QColor,
) -> None:
    """Pitched notes as bars of one height, with velocity as a filled edge at their start."""  # fmt: skip
    start, end, velocity, note = (
        (row.start, row.end, row.velocity, row.note)
        if show == PLAYED
        else (row.clean_start, row.clean_end, row.clean_velocity, row.clean_note)
    )
    if not len(row.note):
        return
    low, high = int(row.note.min()), int(row.note.max())
    step = min(8.0, height / (high - low + 1))
    longest = float((end - start).max()) if len(end) else 0.0
    first, last = np.searchsorted(start, (seconds[0] - longest, seconds[1]))
    part = slice(int(first), int(last))
    x = x0 + start[part] * scale
    width = np.maximum(2.0, (end[part] - start[part]) * scale)
    y = base - (note[part] - low + 1.0) * step
    thick = max(2.0, step - 1)
    painter.setPen(QPen(colour, 1.0))
    painter.setBrush(QBrush(faint))
    painter.drawRects([QRectF(a, b, w, thick) for a, b, w in zip(x.tolist(), y.tolist(), width.tolist(), strict=True)])
    painter.setBrush(QBrush(colour))
    edge = np.minimum(width, 1.0 + velocity[part] / 127.0 * 5.0)
    painter.drawRects([QRectF(a, b, w, thick) for a, b, w in zip(x.tolist(), y.tolist(), edge.tolist(), strict=True)])


def caret(x: float, y: float) -> QPolygonF:
    """A small pointer from above, for what is picked out."""
    return QPolygonF([QPointF(x - 4.5, y - 7), QPointF(x + 4.5, y - 7), QPointF(x, y)])


def draw_whiskers(
    painter: QPainter,
    starts: np.ndarray,
    lines: np.ndarray,
    x0: float,
    scale: float,
    base: float,
    ink: QColor,
) -> None:
    """From each stem's foot a line to its grid line: how early or late it was.

    starts  (n,) seconds of the stems; lines: (k,) seconds of the grid, rising
    """
    if not len(lines) or not len(starts):
        return
    place = np.clip(np.searchsorted(lines, starts), 1, max(1, len(lines) - 1))
    before, after = lines[place - 1], lines[np.minimum(place, len(lines) - 1)]
    nearest = np.where(starts - before <= after - starts, before, after)
    away = np.abs(nearest - starts) * scale
    seen = away > STEM / 2 + 0.5
    painter.setPen(QPen(ink, 1.6))
    painter.drawLines(
        [
            QLineF(x0 + a * scale, base + 0.5, x0 + b * scale, base + 0.5)
            for a, b in zip(starts[seen].tolist(), nearest[seen].tolist(), strict=True)
        ]
    )
