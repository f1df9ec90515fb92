"""Names from outside that look like markup are shown as they are: nothing in them is read, loaded or run."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QAbstractItemView, QLabel, QWidget

from puresignal.core.export import summary_html
from puresignal.core.midi.events import Port
from puresignal.core.session import session as edits
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.track_settings import TrackSettings
from puresignal.demo import demo_session
from puresignal.io import preferences
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench

EVIL = "<img src='/dev/zero'><b>loud</b>"


@pytest.fixture
def evil(qtbot):
    """A window on a session in which everything that has a name is called EVIL."""
    session, takes = demo_session.build()
    takes = tuple(
        replace(take, name=EVIL, ports=tuple(Port(EVIL, p.device) for p in take.ports), notices=(EVIL,))
        for take in takes
    )
    kit = replace(session.takes[0].source, name=EVIL)
    refs = tuple(replace(ref, name=EVIL, source=kit) for ref in session.takes)
    session = replace(session, name=EVIL, takes=refs, target=replace(session.target, name=EVIL))
    session = edits.with_inputs(session, (LiveInput(port=EVIL, source=kit, output=EVIL),))
    session = edits.with_backing(session, Backing(f"/nowhere/{EVIL}.wav"))
    bench = Workbench()
    bench.show_session(session, takes)
    titles = [TrackSettings(key, title=EVIL) for key in ("kick", "snare", "hat")]
    bench.do("titles", edits.with_tracks(bench.session, titles))
    window = MainWindow(bench)
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    store = window.services.preferences
    store.use(preferences.with_recent(store.now, Path(f"/{EVIL}")))
    return window


def shown_texts(window) -> list[str]:
    """Every text that Qt would read as markup, with where it is."""
    found = []
    for widget in window.findChildren(QWidget):
        plain = not isinstance(widget, QLabel) or widget.textFormat() == Qt.TextFormat.PlainText
        # Labels of form rows are the program's own words.
        if not plain and "<" in widget.text():
            found.append(f"label {widget.objectName()} {widget.text()!r} may be read as markup")
        tips = [widget.toolTip()]
        if isinstance(widget, QAbstractItemView) and widget.model() is not None:
            model = widget.model()
            for row in range(min(model.rowCount(), 50)):
                for column in range(model.columnCount()):
                    tips.append(str(model.index(row, column).data(Qt.ItemDataRole.ToolTipRole) or ""))
        found += [f"{type(widget).__name__} tip {tip!r}" for tip in tips if "<img" in tip]
    found += [f"action tip {a.toolTip()!r}" for a in window.findChildren(QAction) if "<img" in a.toolTip()]
    return found


def test_markup_in_names_is_plain_text_in_every_view(evil, qtbot):
    evil.files.fill_recent(evil.menus.recent)
    assert all((evil.inputs.microphone, evil.inputs.touch)), "made when asked for"
    for view in evil.view_names:
        evil.show_view(view)
        evil.view(view).prepare_screenshot()
        evil.services.notices.offer(EVIL, EVIL, EVIL, lambda: None)
        qtbot.wait(30)
        assert not shown_texts(evil), "\n".join(shown_texts(evil))
    assert EVIL in evil.notice.text


def test_markup_in_names_is_plain_text_on_the_printed_page(evil):
    own = evil.workbench.own
    page = summary_html.page([summary_html.section(own.take, own.context, own.outcome, [EVIL])])
    assert "<img" not in page
    assert "&lt;img" in page
