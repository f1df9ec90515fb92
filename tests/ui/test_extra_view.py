"""A new view needs a file and a row: header, menus, keys and takes follow."""

from __future__ import annotations

from PySide6.QtCore import Qt

from puresignal.demo import demo_session
from puresignal.ui.shell import main_window, menus, views
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from tests.ui import extra_view


def test_a_new_view_is_in_header_and_menu_and_shows_the_take(qtbot, monkeypatch):
    longer = (*views.VIEWS, extra_view.SPEC)
    monkeypatch.setattr(main_window, "VIEWS", longer)
    monkeypatch.setattr(menus, "VIEWS", longer)
    bench = Workbench()
    bench.show_session(*demo_session.build())
    window = MainWindow(bench, "Takes")
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    button = window.header.buttons["Loudest"]
    assert button.toolTip().startswith("The hardest hit of the take.")
    assert "Loudest" not in window.views
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    view = window.views["Loudest"]
    hardest = f"{bench.shown.outcome.output_notes.velocity.max():.0f}"
    assert view.isVisible()
    assert view.told.text() == hardest
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    qtbot.keyClick(view, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
    assert window.notice.text == hardest
    qtbot.mouseClick(view.button, Qt.MouseButton.LeftButton)
    assert window.takes.isVisible()
    assert not view.isVisible()
