"""The groove laid over the grid: none, one of ours, a kept one, or that of the chosen take or range."""

from __future__ import annotations

from PySide6.QtCore import QCoreApplication, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QInputDialog, QSizePolicy, QToolButton, QWidget

from puresignal.core.errors import PureSignalError
from puresignal.core.timing.groove import NONE, OWN, Groove
from puresignal.io import groove_file
from puresignal.translation import tr
from puresignal.ui.widgets.plain_text import PlainLabel

FROM_TAKE, FROM_RANGE = "from take", "from range"  # not shown


class GrooveRow(QWidget):
    """A list, and a button that keeps the present groove under a name.

    chosen    another groove
    asked     the groove of something: FROM_TAKE or FROM_RANGE
    told      what to say to the player: (text, whether it is a problem)
    """

    chosen = Signal(object)
    asked = Signal(str)
    told = Signal(str, bool)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._now: Groove = NONE
        self.combo = QComboBox()
        self.combo.setAccessibleName(tr("Groove"))
        self.combo.setToolTip(tr("How early or late each place of the bar is, laid over the grid."))
        self.combo.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.combo.activated.connect(self._choose)
        self.keep = QToolButton()
        self.keep.setText(tr("Keep"))
        self.keep.setToolTip(tr("Keep this groove under a name, for other sessions too."))
        self.keep.setAccessibleName(tr("Keep the groove"))
        self.keep.clicked.connect(lambda _: self.ask_name())
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(PlainLabel(tr("Groove")))
        row.addWidget(self.combo, 1)
        row.addWidget(self.keep)
        self.show_groove(NONE)

    def show_groove(self, groove: Groove) -> None:
        """Show the present groove among those to choose from."""
        self._now = groove
        self.combo.clear()
        self.combo.addItem(tr("none"), NONE)
        every = [*OWN, *groove_file.kept()]
        for one in every:
            self.combo.addItem(tr(one.name), one)
        if groove != NONE and groove not in every:
            self.combo.addItem(groove.name or tr("without a name"), groove)
        self.combo.setCurrentIndex(next(i for i in range(self.combo.count()) if self.combo.itemData(i) == groove))
        self.combo.insertSeparator(self.combo.count())
        self.combo.addItem(tr("Of the chosen take"), FROM_TAKE)
        self.combo.addItem(tr("Of the range on the ruler"), FROM_RANGE)
        self.keep.setEnabled(groove != NONE and groove not in every)

    def _choose(self) -> None:
        what = self.combo.currentData()
        if isinstance(what, Groove):
            self.chosen.emit(what)
        else:
            self.asked.emit(what)

    def ask_name(self) -> None:
        """Ask for a name, and keep the groove under it."""
        name, good = QInputDialog.getText(self, QCoreApplication.applicationName(), tr("Name"), text=self._now.name)
        if good and name.strip():
            self.keep_as(name.strip())

    def keep_as(self, name: str) -> None:
        """Keep the groove under a name."""
        groove = Groove(name, self._now.late, self._now.louder)
        try:
            groove_file.keep(groove)
        except PureSignalError as error:
            self.told.emit(str(error), True)
            return
        self.chosen.emit(groove)
