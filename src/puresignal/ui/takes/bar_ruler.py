"""Bars and beats over a take: the lines drawn at a zoom, and the ruler with bar numbers."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt
from PySide6.QtGui import QFont, QPainter, QPen

from puresignal.core.midi.tempo_map import TempoMap
from puresignal.ui.widgets import theme

MARKS, HANDLES, RULER = 22, 38, 58
"""Pixels from the top: of the marks for tempo and meter, of the chosen take's handle, and the height of the ruler."""
GRID_APART = 9
"""Least distance in pixels of the lines of the grid that notes are pulled to."""
APART, BARS_APART, WHISKERS_APART, NUMBERS_APART = 18, 22, 26, 34
"""Least distance in pixels of beat subdivisions, bars, sixteenths with whiskers, and bar numbers."""


def lines(tempo: TempoMap, begin: float, end: float, scale: float) -> tuple[np.ndarray, np.ndarray]:
    """(n,) seconds of the visible lines and their ranks: 0 subdivision, 1 beat, 2 bar. scale: pixels per second."""
    quarter = scale * 60 / tempo.bpm_at(begin)
    # As many subdivisions as there is room for; zoomed out, every second, fourth .. bar.
    parts = next((p for p in (4, 2, 1) if quarter / p >= APART), 0)
    if parts:
        return tempo.grid(begin, end, parts)
    meter = tempo.meter_at(float(tempo.seconds_to_ticks(np.array([begin]))[0]))
    bar, every = quarter * 4 * meter.numerator / meter.denominator, 1
    while bar * every < BARS_APART and every < 1 << 20:
        every *= 2
    bars = tempo.bar_lines(begin, end, every)
    return bars, np.full(len(bars), 2, np.int8)


def with_grid(
    found: tuple[np.ndarray, np.ndarray], grid: np.ndarray, begin: float, end: float, scale: float
) -> tuple[np.ndarray, np.ndarray]:
    """The lines with those of a grid in place of the subdivisions, if they are far enough apart.

    found, scale  as in lines(); grid: (k,) seconds, rising
    """
    times, ranks = found
    first, last = np.searchsorted(grid, (begin, end))
    inside = grid[first:last]
    kept = ranks > 0
    times, ranks = times[kept], ranks[kept]
    if len(inside) < 2 or float(np.median(np.diff(inside))) * scale < GRID_APART:
        return found
    return np.concatenate([inside, times]), np.concatenate([np.zeros(len(inside), np.int8), ranks])


def sixteenths(tempo: TempoMap, begin: float, end: float, scale: float) -> np.ndarray:
    """The sixteenths that whiskers are drawn to, if they are far enough apart."""
    if scale * 60 / tempo.bpm_at(begin) / 4 < WHISKERS_APART:
        return np.zeros(0)
    return tempo.grid(max(0.0, begin - 1), end + 1, 4)[0]


def paint_ruler(
    painter: QPainter, width: float, name: str, tempo: TempoMap, found: tuple[np.ndarray, np.ndarray],
    place: tuple[float, float, float], stretch: tuple[float, float] | None, bars_before: int = 0,
) -> None:  # fmt: skip
    """found: the result of lines(); place: pixels left of the notes, the second there, and pixels per second.

    bars_before  bars of the tempo map before bar 1
    """
    current = theme.current()
    left, begin, scale = place
    painter.fillRect(QRectF(0, 0, width, RULER), current.colour("shade"))
    painter.setPen(QPen(current.colour("edge"), 1))
    painter.drawLine(QLineF(0, RULER - 0.5, width, RULER - 0.5))
    if stretch is not None:
        first, last = (left + (second - begin) * scale for second in stretch)
        first = max(left, first)
        painter.fillRect(QRectF(first, 2, max(0.0, last - first), MARKS - 3), current.colour("chosen"))
    times, ranks = found
    painter.setFont(theme.font(9, QFont.Weight.Bold))
    painter.setPen(current.colour("faint"))
    painter.drawText(QRectF(14, 0, left - 26, MARKS), Qt.AlignmentFlag.AlignVCenter, name)
    numbered = -1e9
    for second in times[ranks == 2].tolist():
        x = left + (second - begin) * scale
        if x < left - 1:
            continue
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(round(x) + 0.5, MARKS - 9, round(x) + 0.5, MARKS))
        if x - numbered >= NUMBERS_APART:
            painter.setPen(current.colour("ink"))
            bar, _, _ = tempo.position(second)
            painter.drawText(QRectF(x + 4, 0, 60, MARKS - 3), Qt.AlignmentFlag.AlignVCenter, str(bar - bars_before))
            numbered = x
    painter.setPen(QPen(current.colour("edge"), 1))
    beats = left + (times[ranks == 1] - begin) * scale
    painter.drawLines([QLineF(round(a) + 0.5, MARKS - 5, round(a) + 0.5, MARKS) for a in beats.tolist() if a >= left])
