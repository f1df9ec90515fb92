"""The tally in one line at the bottom of the window: in = out + what was removed, by reason."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from puresignal.core.path.tally import Action, Tally
from puresignal.translation import tr
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel


class TallyBar(QWidget):
    """Shows a tally; each figure selects its notes.

    figure_pressed  (action, reason) of the pressed figure, or (-1, -1) when released
    """

    figure_pressed = Signal(int, int)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAccessibleName(tr("Tally"))
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(16, 6, 16, 6)
        self._row.setSpacing(4)
        self._row.addStretch()
        self.setFixedHeight(46)
        self._chosen = (-1, -1)
        self.figures: dict[tuple[int, int], QPushButton] = {}

    def show_tally(self, tally: Tally | None, doubtful: int = 0) -> None:
        """Show the sums of a take; without one, what the bar is for."""
        wanted = self._wanted(tally, doubtful) if tally is not None else {}
        if tally is not None and list(wanted) == list(self.figures):
            # The same figures with other numbers: while a setting moves, nothing is rebuilt.
            for key, (word, count, _) in wanted.items():
                self._say(self.figures[key], word, count)
            return
        while self._row.count():
            item = self._row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.figures = {}
        if tally is None:
            self._add_text(tr("Every note is accounted for here."), "faint")
            self._row.addStretch()
            return
        for key, (word, count, tip) in wanted.items():
            sign = {(-1, -2): "", (-1, -3): "=", (-1, -4): None}.get(
                key, "+" if key[0] == Action.REMOVED else "\N{MINUS SIGN}"
            )
            if sign is None:
                self._row.addStretch()
            elif sign:
                self._add_text(sign)
            self._add_figure(word, count, key, tip)
        if (-1, -4) not in wanted:
            self._row.addStretch()
        if self._chosen in self.figures:
            self.figures[self._chosen].setChecked(True)

    def _wanted(self, tally: Tally, doubtful: int) -> dict[tuple[int, int], tuple[str, int, str]]:
        """Word, count and meaning of each figure, in order."""
        figures = {
            (-1, -2): (tr("in"), tally.arrived, tr("Notes that arrived.")),
            (-1, -3): (tr("out"), tally.left, tr("Notes that leave.")),
        }
        for action, counts in ((Action.REMOVED, tally.removed()), (Action.ADDED, tally.added())):
            for reason, count in counts.items():
                figures[int(action), int(reason)] = (tr(reason.word), count, tr(reason.tip))
        if doubtful:
            tip = tr("Hits that were kept or removed only narrowly.")
            figures[-1, -4] = (tr("doubtful"), doubtful, tip)
        return figures

    @staticmethod
    def _say(button: QPushButton, word: str, count: int) -> None:
        button.setText(f"{word}  {text_format.count(count)}")
        button.setAccessibleName(f"{word} {count}")

    def _add_text(self, text: str, name: str = "faint") -> None:
        label = PlainLabel(text)
        label.setObjectName(name)
        self._row.addWidget(label)

    def _add_figure(self, word: str, count: int, key: tuple[int, int], tip: str) -> None:
        button = QPushButton()
        self._say(button, word, count)
        button.setObjectName("tally")
        button.setFont(self.font())
        button.setCheckable(True)
        button.setToolTip(f"{tip} {tr('Press to point at them.')}")
        button.clicked.connect(lambda on: self._press(key, on))
        self.figures[key] = button
        self._row.addWidget(button)

    def _press(self, key: tuple[int, int], on: bool) -> None:
        for other, button in self.figures.items():
            if other != key:
                button.setChecked(False)
        self._chosen = key if on else (-1, -1)
        self.figure_pressed.emit(*self._chosen)
