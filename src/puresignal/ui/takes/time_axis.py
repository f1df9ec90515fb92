"""The time axis of Takes: which second stands at which pixel, and the zoom."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from puresignal.ui.takes.row_labels import GUTTER

NARROWEST, WIDEST = 2.0, 4000.0
"""Pixels per second: limits of the zoom beyond fit, and in."""


class TimeAxis:
    """Seconds from left to right, beginning at the gutter.

    begin   second at its left end; scale: pixels per second
    length  seconds that it must be able to show
    """

    def __init__(self, width: Callable[[], float]):
        """width: pixels right of the gutter."""
        self._width = width
        self.begin, self.scale, self.length = 0.0, 100.0, 1.0

    @property
    def width(self) -> float:
        """Pixels right of the gutter, at least a few."""
        return max(50.0, self._width())

    @property
    def place(self) -> tuple[float, float, float]:
        """Pixel of its left end, the second there, and pixels per second."""
        return GUTTER, self.begin, self.scale

    def seconds_in_view(self) -> tuple[float, float]:
        return self.begin, self.begin + self.width / self.scale

    def x_of_all(self, seconds: np.ndarray) -> np.ndarray:
        """Pixels of (n,) seconds."""
        return np.asarray(GUTTER + (seconds - self.begin) * self.scale)

    def x_of(self, second: float) -> float:
        return GUTTER + (second - self.begin) * self.scale

    def second_at(self, x: float) -> float:
        return self.begin + (x - GUTTER) / self.scale

    def zoom(self, factor: float, about: float | None = None) -> None:
        """Zoom around a pixel, by default the middle."""
        about = GUTTER + self.width / 2 if about is None else max(float(GUTTER), about)
        second = self.second_at(about)
        self.scale = float(np.clip(self.scale * factor, NARROWEST / 4, WIDEST))
        self.begin = second - (about - GUTTER) / self.scale
        self.hold()

    def show(self, begin: float, seconds: float) -> None:
        """Show some seconds from `begin` on, with a little before them."""
        self.begin = max(0.0, begin - 0.02 * seconds)
        self.scale = self.width / max(0.5, min(seconds, self.length or seconds))

    def show_all(self) -> None:
        """Show everything."""
        self.begin, self.scale = 0.0, self.width / max(0.5, self.length * 1.02)
        self.hold()

    def move_by(self, seconds: float) -> None:
        self.begin += seconds
        self.hold()

    def turn_page(self, second: float) -> bool:
        """Show what follows a second that is out of view. Returns whether it was."""
        begin, end = self.seconds_in_view()
        if begin <= second < end:
            return False
        self.begin = max(0.0, second - 0.02 * (end - begin))
        self.hold()
        return True

    def bring_into_view(self, second: float) -> None:
        """Move so that a second is well in view, if it is not."""
        begin, end = self.seconds_in_view()
        if not begin + 0.05 * (end - begin) <= second <= end - 0.05 * (end - begin):
            self.begin = second - 0.3 * (end - begin)
            self.hold()

    def centre(self, second: float) -> None:
        begin, end = self.seconds_in_view()
        self.begin = second - (end - begin) / 2
        self.hold()

    def hold(self) -> None:
        """Keep zoom and position within limits."""
        length = max(1.0, self.length)
        self.scale = float(np.clip(self.scale, min(NARROWEST, 0.9 * self.width / length), WIDEST))
        self.begin = float(np.clip(self.begin, 0.0, max(0.0, length - 0.5 * self.width / self.scale)))
