"""A new stage appears in the window by its own description alone."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.path import note_selection
from puresignal.core.path.tally import Action
from puresignal.core.session import session as edits
from puresignal.demo import demo_session
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from tests.core.path.extra_stage import BRUSHED, LongerPath


@pytest.fixture
def longer(qtbot):
    session, takes = demo_session.build()
    bench = Workbench()
    bench.show_session(edits.with_path(session, LongerPath()), takes)
    made = MainWindow(bench, "Takes")
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    return made


def test_a_new_stage_has_its_switch_slider_count_and_words(longer, qtbot):
    panel, bench = longer.takes.path, longer.workbench
    box, slider = panel.boxes["brushed"], panel.controls["brushed", "least"]
    assert box.box.text() == "Remove brushed hits"
    assert slider.value() == 9.0
    slider.slider.setValue(40)
    assert bench.session.path.brushed.least == 40.0
    assert bench.history.undo_name == "set least"
    gone = bench.shown.outcome.tally.removed()[BRUSHED]
    assert gone > 20
    assert box.figure.text() == str(gone)
    figure = longer.strip.figures[Action.REMOVED, BRUSHED]
    assert figure.text() == f"brushed  {gone}"
    assert "only brushed" in figure.toolTip()
    qtbot.mouseClick(figure, Qt.MouseButton.LeftButton)
    assert len(longer.takes.timeline.selected) == gone
    origin = note_selection.removed(bench.shown.outcome, BRUSHED)[:1]
    longer.takes.timeline.select(origin)
    assert "brushes: removed as brushed" in longer.takes.trace.story.text()
    choice = panel.controls["brushed", "how"]
    qtbot.keyClick(choice, Qt.Key.Key_Down)
    assert bench.session.path.brushed.how == "above"
    qtbot.mouseClick(box.box, Qt.MouseButton.LeftButton, pos=box.box.rect().center() - box.box.rect().center() / 1.2)
    assert not bench.session.path.brushed.on
    assert not slider.isEnabled()
    assert (Action.REMOVED, BRUSHED) not in longer.strip.figures


def test_the_trace_names_a_changed_velocity(longer):
    bench = longer.workbench
    longer.velocity._set("offset", 3.0, "one")
    outcome = bench.shown.outcome
    changed = np.flatnonzero(outcome.output_notes.velocity > 10)[0]
    longer.takes.timeline.select(outcome.output_notes.origin[changed : changed + 1])
    longer.show_view("Takes")
    after = int(outcome.output_notes.velocity[changed])
    assert f"velocity: velocity {after - 3} → {after}, shaped" in longer.takes.trace.story.text()
