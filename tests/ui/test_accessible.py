"""Every control has a name and a tooltip and is reached by keyboard; text can be read in both themes."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QTabBar,
    QWidget,
)  # fmt: skip

from puresignal.core.kit.articulations import FAMILIES
from puresignal.ui.mapping.flow_diagram import FlowDiagram
from puresignal.ui.outputs.clip_export import ClipHandle
from puresignal.ui.takes.timeline import Timeline
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.accessible_parts import AccessiblePart

CONTROLS = (
    QAbstractButton, QComboBox, QAbstractSlider, QAbstractSpinBox, QLineEdit, QAbstractItemView, Timeline, FlowDiagram,
    ClipHandle,
)  # fmt: skip


def controls(window) -> list[QWidget]:
    found = []
    for widget in window.findChildren(QWidget):
        inside = widget.parent()
        part_of_another = isinstance(inside, (QComboBox, QAbstractSpinBox, QTabBar)) or "qt_" in widget.objectName()
        scroll_part = isinstance(inside, QAbstractScrollArea) or (
            inside is not None
            and isinstance(inside.parent(), QAbstractScrollArea)
            and isinstance(widget, QAbstractSlider)
        )
        if isinstance(widget, CONTROLS) and widget.isVisible() and not part_of_another and not scroll_part:
            found.append(widget)
    return found


@pytest.mark.parametrize("view", ["Inputs", "Mapping", "Velocity", "Takes", "Outputs"])
def test_every_control_has_a_name_a_tooltip_and_the_keyboard(demo_window, view):
    demo_window.show_view(view)
    demo_window.mapping.ribbons.select(0, 4)
    found = controls(demo_window)
    assert len(found) > 10
    for widget in found:
        words = f"{type(widget).__name__} {widget.objectName()} {getattr(widget, 'text', str)()}"
        assert widget.accessibleName() or getattr(widget, "text", str)(), words
        if not isinstance(widget, (QAbstractItemView, Timeline)):
            assert widget.toolTip(), words
        if widget.isEnabled() and "tally" not in widget.objectName():
            assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus, words


@pytest.mark.parametrize("view", ["Inputs", "Mapping", "Velocity", "Takes", "Outputs"])
def test_tab_goes_round_all_of_them(demo_window, view, qtbot):
    demo_window.show_view(view)
    wanted = {w for w in controls(demo_window) if w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus}
    grouped = {w for w in wanted if isinstance(w, QAbstractButton) and w.group() is not None}
    demo_window.activateWindow()
    reached = set()
    widget = demo_window.focusWidget()
    for _ in range(3000):
        widget = widget.nextInFocusChain()
        reached.add(widget)
    assert wanted - grouped <= reached


def test_focus_can_be_seen(demo_window, qtbot):
    demo_window.show_view("Takes")
    for widget in (
        demo_window.rail.open, demo_window.takes.tools.show_buttons["both"], demo_window.takes.timeline,
        demo_window.takes.path.controls["doubles", "ratio"].slider, demo_window.header.buttons["Inputs"],
        demo_window.takes.tools.hear,
    ):  # fmt: skip
        demo_window.activateWindow()
        widget.clearFocus()
        QApplication.processEvents()
        before = widget.grab().toImage()
        widget.setFocus(Qt.FocusReason.TabFocusReason)
        qtbot.waitUntil(widget.hasFocus, timeout=2000)
        assert widget.grab().toImage() != before, widget.accessibleName()


def luminance(colour: QColor) -> float:
    parts = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in colour.getRgbF()[:3]]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def contrast(a: QColor, b: QColor) -> float:
    """WCAG 2.2 contrast ratio."""
    light, dark = sorted((luminance(a), luminance(b)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("current", [theme.LIGHT, theme.DIM], ids=lambda t: t.name)
def test_text_of_both_themes_passes_wcag_aa(current):
    for text in ("ink", "faint", "accent"):
        for feature_space in ("paper", "sheet", "shade", "chosen") if text != "accent" else ("paper", "sheet", "shade"):
            assert contrast(current.colour(text), current.colour(feature_space)) >= 4.5, (text, feature_space)
    assert contrast(current.colour("on_accent"), current.colour("accent")) >= 4.5
    assert contrast(current.colour("edge"), current.colour("sheet")) >= 3.0
    for family in FAMILIES:
        # Names stand in these colours, so they must do as text.
        assert contrast(current.family(family), current.colour("sheet")) >= 4.5, family
        assert contrast(current.family(family), current.colour("shade")) >= 4.5, family


def test_no_label_is_clipped(demo_window):
    for size in ((1280, 800), (1024, 700)):
        demo_window.resize(*size)
        for view in demo_window.views:
            demo_window.show_view(view)
            QApplication.processEvents()
            for label in demo_window.findChildren(QLabel):
                if label.isVisible() and not label.wordWrap() and label.text() and label is not demo_window.takes.said:
                    assert label.width() >= label.sizeHint().width() - 2, (size, view, label.text())
            for button in demo_window.findChildren(QAbstractButton):
                if button.isVisible() and button.text():
                    assert button.width() >= button.sizeHint().width() - 2, (size, view, button.text())
                    assert button.height() >= button.sizeHint().height() - 2, (size, view, button.text())


def test_the_theme_is_chosen_and_remembered(demo_window):
    from puresignal.io import preferences

    try:
        demo_window.choose_theme("dim")
        assert theme.current() is theme.DIM
        pixel = demo_window.grab().toImage().pixelColor(640, 795)
        assert luminance(pixel) < 0.1
        assert preferences.read().theme == "dim"
    finally:
        demo_window.choose_theme("light")
    assert theme.current() is theme.LIGHT


@pytest.mark.parametrize("name", ["light", "dim"])
def test_edges_of_controls_and_text_of_chosen_rows_stand_out(name):
    one = theme.THEMES[name]
    for ground in (one.paper, one.sheet, one.shade):
        assert contrast(QColor(one.edge), QColor(ground)) >= 3
    for text in (one.ink, one.faint, one.accent, *one.families.values()):
        assert contrast(QColor(text), QColor(one.chosen)) >= 4.5, text


def test_what_is_painted_has_accessible_children(demo_window):
    demo_window.show_view("Mapping")
    ribbons = demo_window.mapping.ribbons
    names = [child.accessibleName() for child in ribbons.findChildren(AccessiblePart)]
    assert len(names) == len(ribbons.nodes)
    assert any("hits" in name for name in names)
    demo_window.show_view("Velocity")
    plot = demo_window.velocity.plots["snare"]
    told = [child.accessibleName() for child in plot.findChildren(AccessiblePart)]
    assert told[0].endswith("out")
    assert "point: in 127, out 127" in told
    demo_window.show_view("Outputs")
    handle = [child.accessibleName() for child in demo_window.outputs.handle.findChildren(AccessiblePart)]
    assert handle == [demo_window.outputs.clip_name(), "Drag into your music program"]


@pytest.mark.parametrize("view", ["Inputs", "Mapping", "Velocity", "Takes", "Outputs"])
def test_the_window_works_on_a_small_screen(demo_window, view, qtbot):
    demo_window.show_view(view)
    demo_window.resize(1024, 576)
    assert (demo_window.width(), demo_window.height()) == (1024, 576)

    def fits():
        hint = demo_window.centralWidget().minimumSizeHint()
        return hint.width() <= 1024 and hint.height() + demo_window.menuBar().height() <= 576

    qtbot.waitUntil(fits, timeout=2000)


def test_sizes_follow_the_systems_font(demo_window):
    usual = theme.font(10).pointSizeF()
    try:
        theme.follow_system_font(15.0)
        assert theme.font(10).pointSizeF() == pytest.approx(usual * 15 / 11)
        assert "font-size: 20.4" in theme._scaled(theme._sheet(theme.LIGHT))
        theme.follow_system_font(10.0)
        assert theme.font(10).pointSizeF() == usual
    finally:
        theme.follow_system_font(9.0)
