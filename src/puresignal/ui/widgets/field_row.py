"""Widgets beside each other, as one field of a form."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QWidget


def field_row(*widgets: QWidget) -> QWidget:
    """A row in which lines of text take the room there is; without any, the widgets stand at the left."""
    holder = QWidget()
    row = QHBoxLayout(holder)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(8)
    for widget in widgets:
        row.addWidget(widget, 1 if isinstance(widget, QLineEdit) else 0)
    if not any(isinstance(widget, QLineEdit) for widget in widgets):
        row.addStretch()
    return holder
