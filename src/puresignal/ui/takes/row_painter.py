"""Paints rows of notes as images from whole arrays, so that a hundred thousand notes cost as much as a hundred.

A row becomes one image in device pixels. Stems are columns as high as their velocity; where two share a column the
louder is visible. Marks and strokes are small pixel patterns set at all places together.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPen, QPolygonF

from puresignal.ui.takes.timeline_rows import Row

STEM = 4.0
"""Width of a stem in pixels."""
FOOT = 9.0
"""Pixels below the base line for the foot marks."""
TELLABLE, MARKED = 5.0, 9.0
"""Mean pixels between hits from which stems have full width, and from which they have marks."""

PLAYED, CLEAN, BOTH = "played", "clean", "both"


@dataclass(frozen=True)
class Frame:
    """The geometry of a row.

    left, width   pixels: the sheet's left edge in the view, and its width
    x0, scale     pixel of second 0 in the view, and pixels per second
    begin, end    visible seconds
    ratio         device pixels per pixel
    """

    left: float
    width: float
    x0: float
    scale: float
    begin: float
    end: float
    ratio: float


def stem_tops(velocity: np.ndarray, base: float, height: float) -> np.ndarray:
    """(n,) y of the stems' tops for velocities 1..127 on a base line."""
    tops: np.ndarray = base - np.maximum(2.0, velocity / 127.0 * height)
    return tops


def columns(x: np.ndarray, value: np.ndarray, width: int, reach: int = 1) -> np.ndarray:
    """(width,) the highest value in each pixel column, 0 for none.

    x      (n,) first pixel of each
    reach  width of each in pixels
    """
    highest = np.zeros(width, np.float32)
    place = x.astype(np.int64)
    for step in range(reach):
        here = place + step
        inside = (here >= 0) & (here < width)
        np.maximum.at(highest, here[inside], value[inside])
    return highest


def draw_row(
    painter: QPainter, row: Row, show: str, frame: Frame, base: float, height: float, colours: tuple[QColor, QColor]
) -> None:
    """Draw a row of stems.

    base, height  pixels: y of the base line, and height of the hardest stem
    colours       of the stems, and of the strokes through removed notes
    """
    ratio = frame.ratio
    wide = max(1, round(frame.width * ratio))
    above, below = round(height * ratio) + 1, round(FOOT * ratio)
    pixels = np.zeros((above + below, wide), np.uint32)
    colour, ink = (np.uint32(c.rgba()) for c in colours)
    played = _part(row.start, row.velocity, frame)
    clean = _part(row.clean_start, row.clean_velocity, frame)
    spacing = frame.width / max(1, len(played[0]), len(clean[0]))
    stem = max(1, round(STEM * ratio)) if spacing >= TELLABLE else max(1, round(ratio))
    marked = spacing >= MARKED
    if show != CLEAN:
        first, last = np.searchsorted(row.start, (frame.begin, frame.end))
        gone = row.gone[first:last]
        hollow = gone if show == BOTH else np.ones(len(gone), bool)
        _fill_hollow(pixels, played[0][hollow], played[1][hollow], above, stem, height * ratio, colour)
        if marked:
            _stamp(
                pixels, _mark(row.mark, ratio), played[0][hollow], np.full(int(hollow.sum()), above + 4 * ratio), colour
            )
    if show != PLAYED:
        _fill(pixels, clean[0], clean[1], above, stem, height * ratio, colour)
        if marked:
            _stamp(pixels, _mark(row.mark, ratio), clean[0], np.full(len(clean[0]), above + 4 * ratio), colour)
    if show == BOTH and gone.any():
        x, velocity = played[0][gone], played[1][gone]
        if spacing >= TELLABLE:
            middle = above - velocity / 127.0 * height * ratio / 2
            _stamp(pixels, _stroke(ratio), x, middle, ink)
        else:
            ticks = columns(x, np.ones(len(x), np.float32), wide) > 0
            pixels[above + round(2 * ratio) : above + round(7 * ratio), ticks] = ink
    image = QImage(pixels.data, wide, above + below, 4 * wide, QImage.Format.Format_ARGB32_Premultiplied)
    image.setDevicePixelRatio(ratio)
    painter.drawImage(QPointF(frame.left, base - above / ratio), image)


def _part(start: np.ndarray, velocity: np.ndarray, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Device pixels from the sheet's left edge, and velocities, of the visible notes."""
    first, last = np.searchsorted(start, (frame.begin, frame.end))
    x = (frame.x0 - frame.left + start[first:last] * frame.scale) * frame.ratio
    return x, velocity[first:last]


def _heights(x: np.ndarray, velocity: np.ndarray, wide: int, stem: int, height: float) -> np.ndarray:
    tall = np.maximum(2.0, velocity / 127.0 * height)
    tops: np.ndarray = np.rint(columns(np.floor(x - stem / 2 + 0.5), tall.astype(np.float32), wide, stem))
    return tops


def _fill(
    pixels: np.ndarray, x: np.ndarray, velocity: np.ndarray, above: int, stem: int, height: float, colour: np.uint32
) -> None:
    """Solid stems up from the base line."""
    if not len(x):
        return
    tall = _heights(x, velocity, pixels.shape[1], stem, height).astype(np.int16)
    rows = np.arange(above, dtype=np.int16)[:, None]
    np.copyto(pixels[:above], colour, where=rows >= above - tall[None, :])


def _fill_hollow(
    pixels: np.ndarray, x: np.ndarray, velocity: np.ndarray, above: int, stem: int, height: float, colour: np.uint32
) -> None:
    """Stems as outlines one pixel thick; narrow ones are solid."""
    if not len(x):
        return
    edge = max(1, stem // 4)
    if stem < 3:
        _fill(pixels, x, velocity, above, stem, height, colour)
        return
    wide = pixels.shape[1]
    tall = _heights(x, velocity, wide, stem, height).astype(np.int16)
    inner = np.rint(
        columns(
            np.floor(x - stem / 2 + 0.5) + edge, np.maximum(2.0, velocity / 127.0 * height).astype(np.float32), wide,
            stem - 2 * edge,
        )
    ).astype(np.int16) - edge  # fmt: skip
    rows = np.arange(above, dtype=np.int16)[:, None]
    outline = (rows >= above - tall[None, :]) & ~((rows >= above - inner[None, :]) & (rows < above - edge))
    np.copyto(pixels[:above], colour, where=outline)


def _stamp(pixels: np.ndarray, pattern: np.ndarray, x: np.ndarray, y: np.ndarray, colour: np.uint32) -> None:
    """Sets a pattern of (dy, dx) pixels at many places."""
    if not len(x):
        return
    down = np.rint(y).astype(np.int64)[:, None] + pattern[None, :, 0]
    across = np.rint(x).astype(np.int64)[:, None] + pattern[None, :, 1]
    inside = (down >= 0) & (down < pixels.shape[0]) & (across >= 0) & (across < pixels.shape[1])
    pixels[down[inside], across[inside]] = colour


def _lines(mark: str) -> list[QLineF]:
    """A percussion mark as lines about its middle."""
    if mark == "cross":
        return [QLineF(-3, -3, 3, 3), QLineF(-3, 3, 3, -3)]
    if mark == "wedge":
        return [QLineF(-3.5, 3, 0, -3), QLineF(0, -3, 3.5, 3)]
    if mark == "bracket":
        return [QLineF(-3.5, -2.5, -3.5, 2.5), QLineF(-3.5, 2.5, 3.5, 2.5), QLineF(3.5, 2.5, 3.5, -2.5)]
    return [QLineF(-4, 0, 4, 0)]


def draw_mark(painter: QPainter, mark: str, x: float, y: float, colour: QColor) -> None:
    """One percussion mark, centred at a point."""
    painter.setPen(QPen(colour, 1.6))
    painter.drawLines([line.translated(x, y) for line in _lines(mark)])


@lru_cache(maxsize=64)
def _mark(mark: str, ratio: float) -> np.ndarray:
    """(k, 2) pixels (dy, dx) of a mark around its middle, in device pixels."""
    return _pixels_of(_lines(mark), 1.5, ratio)


@lru_cache(maxsize=8)
def _stroke(ratio: float) -> np.ndarray:
    """(k, 2) pixels of the stroke through removed notes."""
    return _pixels_of([QLineF(-5, 4, 5, -4)], 1.5, ratio)


def _pixels_of(lines: list[QLineF], thick: float, ratio: float) -> np.ndarray:
    half = round(7 * ratio)
    image = QImage(2 * half + 1, 2 * half + 1, QImage.Format.Format_ARGB32)
    image.fill(0)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(half + 0.5, half + 0.5)
    painter.scale(ratio, ratio)
    painter.setPen(QPen(QColor("black"), thick))
    painter.drawLines(lines)
    painter.end()
    alpha = np.frombuffer(image.constBits(), np.uint32).reshape(2 * half + 1, -1) >> 24
    return np.argwhere(alpha > 110) - half


def draw_bars(
    painter: QPainter, row: Row, show: str, frame: Frame, base: float, height: float, colours: tuple[QColor, QColor]
) -> None:
    """Draw pitched notes as bars of one height, with velocity as a filled edge at their start."""
    start, end, velocity, note = (
        (row.start, row.end, row.velocity, row.note)
        if show == PLAYED
        else (row.clean_start, row.clean_end, row.clean_velocity, row.clean_note)
    )
    if not len(row.note):
        return
    low, high = int(row.note.min()), int(row.note.max())
    step = min(12.0 if low == high else 8.0, height / (high - low + 1))
    longest = float((end - start).max()) if len(end) else 0.0
    first, last = np.searchsorted(start, (frame.begin - longest, frame.end))
    colour, faint = colours
    if last - first > 4 * frame.width / TELLABLE:
        _bars_image(painter, (start, end, note), slice(int(first), int(last)), low, step, frame, base, height, colour)
        return
    part = slice(int(first), int(last))
    x = frame.x0 + start[part] * frame.scale
    width = np.maximum(2.0, (end[part] - start[part]) * frame.scale)
    y = base - (note[part] - low + 1.0) * step
    thick = max(2.0, step - 1)
    painter.setPen(QPen(colour, 1.0))
    painter.setBrush(QBrush(faint))
    painter.drawRects([QRectF(a, b, w, thick) for a, b, w in zip(x.tolist(), y.tolist(), width.tolist(), strict=True)])
    painter.setBrush(QBrush(colour))
    edge = np.minimum(width, 1.0 + velocity[part] / 127.0 * 5.0)
    painter.drawRects([QRectF(a, b, w, thick) for a, b, w in zip(x.tolist(), y.tolist(), edge.tolist(), strict=True)])


def _bars_image(
    painter: QPainter,
    notes: tuple[np.ndarray, np.ndarray, np.ndarray],
    part: slice,
    low: int,
    step: float,
    frame: Frame,
    base: float,
    height: float,
    colour: QColor,
) -> None:
    """Bars too dense to be told apart: all pixels that any of them covers."""  # fmt: skip
    start, end, note = (column[part] for column in notes)
    wide, tall = max(1, round(frame.width)), max(1, round(height))
    filled = np.zeros((tall + 1, wide + 1), np.int32)
    x = np.clip(frame.x0 - frame.left + start * frame.scale, 0, wide - 1).astype(np.int64)
    stop = np.clip(frame.x0 - frame.left + end * frame.scale, x + 1, wide).astype(np.int64)
    line = np.clip(tall - (note - low + 1.0) * step, 0, tall - 1).astype(np.int64)
    np.add.at(filled, (line, x), 1)
    np.add.at(filled, (line, stop), -1)
    covered = np.cumsum(filled, axis=1)[:tall, :wide] > 0
    pixels = np.where(covered, np.uint32(colour.rgba()), np.uint32(0)).astype(np.uint32)
    image = QImage(pixels.data, wide, tall, 4 * wide, QImage.Format.Format_ARGB32_Premultiplied)
    painter.drawImage(QPointF(frame.left, base - tall), image)


def skyline(loudest: np.ndarray, height: int, colour: QColor) -> QImage:
    """An image of columns as high as their velocity, transparent elsewhere."""
    tall = np.ceil(loudest / 127.0 * height).astype(np.int64)
    filled = np.arange(height)[:, None] >= height - tall[None, :]
    pixels = np.where(filled, np.uint32(colour.rgba()), np.uint32(0)).astype(np.uint32)
    return QImage(
        pixels.tobytes(), len(loudest), height, 4 * len(loudest), QImage.Format.Format_ARGB32_Premultiplied
    ).copy()


def caret(x: float, y: float) -> QPolygonF:
    """A small pointer from above for a selected note."""
    return QPolygonF([QPointF(x - 4.5, y - 7), QPointF(x + 4.5, y - 7), QPointF(x, y)])


def draw_between(painter: QPainter, both: np.ndarray, frame: Frame, base: float, tall: float, accent: QColor) -> None:
    """Two short posts joined above, for a note that could belong to either line. both: (n, 2) seconds."""
    painter.setPen(QPen(accent, 1.4))
    top = base - tall - 1
    for one, other in both.tolist():
        a, b = sorted((frame.x0 + one * frame.scale, frame.x0 + other * frame.scale))
        painter.drawLines([QLineF(a, top, b, top), QLineF(a, top, a, top + 6), QLineF(b, top, b, top + 6)])


def draw_whiskers(
    painter: QPainter, starts: np.ndarray, lines: np.ndarray, frame: Frame, base: float, ink: QColor
) -> None:
    """Draw a line from each stem's foot to its grid line: how early or late it was.

    starts  (n,) seconds of the stems; lines: (k,) seconds of the grid, rising
    """
    if len(lines) < 2 or not len(starts):
        return
    place = np.clip(np.searchsorted(lines, starts), 1, len(lines) - 1)
    before, after = lines[place - 1], lines[place]
    nearest = np.where(starts - before <= after - starts, before, after)
    seen = np.abs(nearest - starts) * frame.scale > STEM / 2 + 0.5
    painter.setPen(QPen(ink, 2))
    painter.drawLines(
        [
            QLineF(frame.x0 + a * frame.scale, base + 1, frame.x0 + b * frame.scale, base + 1)
            for a, b in zip(starts[seen].tolist(), nearest[seen].tolist(), strict=True)
        ]
    )
