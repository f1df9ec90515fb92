"""Draws the program's icon in the sizes that desktops ask for, from its SVG."""

from __future__ import annotations

import os
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

ICONS = Path(__file__).parent.parent / "src" / "puresignal" / "ui" / "assets" / "icons"
SIZES = (16, 24, 32, 48, 64, 128, 256, 512)


def draw(size: int) -> QImage:
    """The icon in one size."""
    image = QImage(size, size, QImage.Format.Format_ARGB32)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    QSvgRenderer(str(ICONS / "pure-signal.svg")).render(painter)
    painter.end()
    return image


if __name__ == "__main__":
    application = QGuiApplication([])
    for size in SIZES:
        draw(size).save(str(ICONS / f"pure-signal-{size}.png"))
