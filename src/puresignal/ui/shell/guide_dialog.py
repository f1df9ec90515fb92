"""The user guide: chapters at the left, searched as one types, and the chosen one at the right."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, Qt, QUrl
from PySide6.QtGui import QImage, QTextDocument
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from puresignal.io import guide
from puresignal.translation import tr

WIDTH = 640
"""Pixels of a picture in a chapter."""
NAME = Qt.ItemDataRole.UserRole
HEADING = Qt.ItemDataRole.UserRole + 1


class Chapter(QTextBrowser):
    """A chapter with its pictures."""

    def loadResource(self, kind: int, name: QUrl | str) -> object:
        url = QUrl(name)
        if kind == QTextDocument.ResourceType.ImageResource.value:
            image = QImage.fromData(QByteArray(guide.picture(url.fileName())))
            if not image.isNull():
                return image.scaledToWidth(WIDTH, Qt.TransformationMode.SmoothTransformation)
        return super().loadResource(kind, url)


class GuideDialog(QDialog):
    """Stays open beside the work."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("User guide"))
        self.resize(1040, 740)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search"))
        self.search.setClearButtonEnabled(True)
        self.search.setAccessibleName(tr("Search the guide"))
        self.search.textChanged.connect(self._list)
        self.search.returnPressed.connect(self._open_first)
        self.chapters = QListWidget()
        self.chapters.setAccessibleName(tr("Chapters"))
        self.chapters.setWordWrap(True)
        self.chapters.setFixedWidth(290)
        self.chapters.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.chapters.currentItemChanged.connect(lambda item, _: self._open(item))
        self.back = QPushButton(tr("Back"))
        self.back.setToolTip(tr("To the chapter before."))
        self.back.setEnabled(False)
        self.back.setAutoDefault(False)
        self.back.clicked.connect(self._go_back)
        self.text = Chapter()
        self.text.setAccessibleName(tr("Chapter"))
        self.text.setOpenLinks(False)
        self.text.document().setDocumentMargin(18)
        self.text.anchorClicked.connect(self._follow)
        self._before: list[str] = []
        self._now = ""
        left = QVBoxLayout()
        left.addWidget(self.search)
        left.addWidget(self.chapters, 1)
        left.addWidget(self.back, 0, Qt.AlignmentFlag.AlignLeft)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 12, 12, 12)
        row.setSpacing(12)
        row.addLayout(left)
        row.addWidget(self.text, 1)
        self._list("")
        self.show_page(guide.FIRST)

    def _list(self, text: str) -> None:
        """List the chapters, or what was found in them."""
        self.chapters.blockSignals(True)
        self.chapters.clear()
        if text.strip():
            found = guide.search(text)
            for one in found:
                item = QListWidgetItem(f"{one.heading}\n{one.snippet}")
                item.setData(NAME, one.page.ident)
                item.setData(HEADING, one.heading)
                self.chapters.addItem(item)
            if not found:
                nothing = QListWidgetItem(tr("Nothing in the guide has these words."))
                nothing.setFlags(Qt.ItemFlag.NoItemFlags)
                self.chapters.addItem(nothing)
        else:
            for group, names in guide.GROUPS:
                head = QListWidgetItem(tr(group).upper())
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                self.chapters.addItem(head)
                for name in names:
                    item = QListWidgetItem(f"  {guide.pages()[name].title}")
                    item.setData(NAME, name)
                    self.chapters.addItem(item)
            self._mark()
        self.chapters.blockSignals(False)

    def _mark(self) -> None:
        for i in range(self.chapters.count()):
            if self.chapters.item(i).data(NAME) == self._now:
                self.chapters.setCurrentRow(i)

    def _open(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(NAME):
            self.show_page(item.data(NAME), item.data(HEADING) or "")

    def _open_first(self) -> None:
        if self.search.text().strip() and self.chapters.count():
            self.chapters.setCurrentRow(0)
            self._open(self.chapters.item(0))

    def show_page(self, name: str, heading: str = "", keep: bool = True) -> None:
        """Show a chapter, from one of its headings on."""
        page = guide.pages().get(name)
        if page is None:
            return
        if keep and self._now and self._now != name:
            self._before.append(self._now)
        self.back.setEnabled(bool(self._before))
        if self._now != name:
            self._now = name
            self.text.setMarkdown(page.text)
        if heading and heading != page.title:
            self.text.moveCursor(self.text.textCursor().MoveOperation.Start)
            self.text.find(heading)
            self.text.ensureCursorVisible()
        if not self.search.text().strip():
            self.chapters.blockSignals(True)
            self._mark()
            self.chapters.blockSignals(False)

    @property
    def page(self) -> str:
        """The name of the chapter that is shown."""
        return self._now

    def _go_back(self) -> None:
        if self._before:
            self.show_page(self._before.pop(), keep=False)

    def _follow(self, link: QUrl) -> None:
        self.show_page(link.fileName().removesuffix(".md"))
