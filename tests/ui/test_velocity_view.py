"""The Velocity view in the real window: dragged curves and changed settings change the output."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from puresignal.core.path import settings_json
from puresignal.core.path.velocity_curve import ALL, Shape
from puresignal.core.session import session as edits
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture
def view(demo_window):
    demo_window.show_view("Velocity")
    return demo_window.velocity


def leaving(window, drum):
    shown = window.workbench.shown
    track = next(t.index for t in shown.tracks if t.track.key == drum)
    return shown.outcome.output_notes.velocity[shown.outcome.output_notes.track == track]


def drag(plot, begin, end):
    points = [plot.at(*begin).toPoint(), plot.at(*end).toPoint()]
    QTest.mousePress(plot, Qt.MouseButton.LeftButton, pos=points[0])
    for part in (0.3, 0.6, 1.0):
        QTest.mouseMove(plot, points[0] + (points[1] - points[0]) * part)
    QTest.mouseRelease(plot, Qt.MouseButton.LeftButton, pos=points[1])


def test_a_curve_is_dragged_and_what_leaves_follows_in_one_step_of_undo(demo_window, view):
    plot = view.plots["snare"]
    before = leaving(demo_window, "snare").copy()
    drag(plot, (127, 127), (127, 64))
    after = leaving(demo_window, "snare")
    assert after.max() <= 66
    assert len(after) == len(before)
    assert demo_window.menus.undo.text() == "Undo: shape snare"
    assert view.key == "snare"
    demo_window.workbench.undo()
    assert np.array_equal(leaving(demo_window, "snare"), before)
    assert demo_window.workbench.session.path.velocity.shapes == ()


def test_a_double_click_adds_and_removes_a_point(demo_window, view):
    plot = view.plots["hat"]
    at = plot.at(64, 100).toPoint()
    QTest.mouseDClick(plot, Qt.MouseButton.LeftButton, pos=at)
    shape = dict(demo_window.workbench.session.path.velocity.shapes).get("hat", Shape())
    assert len(shape.curve) == 3
    x, y = shape.curve[1]
    drag(plot, (x, y), (x, 110))
    assert dict(demo_window.workbench.session.path.velocity.shapes)["hat"].curve[1][1] == pytest.approx(110, abs=2)
    x, y = dict(demo_window.workbench.session.path.velocity.shapes)["hat"].curve[1]
    QTest.mouseDClick(plot, Qt.MouseButton.LeftButton, pos=plot.at(x, y).toPoint())
    assert len(dict(demo_window.workbench.session.path.velocity.shapes).get("hat", Shape()).curve) == 2


def test_all_drums_follow_the_first_plot_until_one_has_its_own(demo_window, view, qtbot):
    view.choose(ALL)
    view.knobs["high"].slider.setValue(79)
    assert leaving(demo_window, "kick").max() <= 80
    assert leaving(demo_window, "ride").max() <= 80
    view.choose("kick")
    view.knobs["fixed"].slider.setValue(111)
    assert set(leaving(demo_window, "kick").tolist()) == {111.0}
    assert "own shape" in view.about.text()
    assert leaving(demo_window, "ride").max() <= 80
    qtbot.mouseClick(view.reset, Qt.MouseButton.LeftButton)
    assert leaving(demo_window, "kick").max() <= 80
    view.on.click()
    assert leaving(demo_window, "kick").max() > 100


def test_a_threshold_removes_hits_and_the_tally_shows_it(demo_window, view):
    view.choose("snare")
    count = len(leaving(demo_window, "snare"))
    view.knobs["threshold"].slider.setValue(40)
    gone = count - len(leaving(demo_window, "snare"))
    assert gone > 10
    texts = [b.text() for b in demo_window.strip.figures.values()]
    assert any("too soft" in text and str(gone) in text for text in texts)


def test_match_pads_works_by_one_button_and_undo(demo_window, view, qtbot):
    def middles():
        return [float(np.median(leaving(demo_window, d))) for d in ("kick", "snare", "hat", "ride")]

    before = np.ptp(middles())
    qtbot.mouseClick(view.even, Qt.MouseButton.LeftButton)
    assert np.ptp(middles()) == before
    assert "snare" in demo_window.notice.text
    qtbot.mouseClick(demo_window.notice.act, Qt.MouseButton.LeftButton)
    assert np.ptp(middles()) < 0.35 * before
    assert demo_window.menus.undo.text() == "Undo: match pads"
    demo_window.workbench.undo()
    assert np.ptp(middles()) == before


def test_random_variation_is_repeatable_and_changes_on_request(demo_window, view, qtbot):
    view.choose("hat")
    view.knobs["amount"].slider.setValue(20)
    one = leaving(demo_window, "hat").copy()
    demo_window.workbench.undo()
    demo_window.workbench.redo()
    assert np.array_equal(leaving(demo_window, "hat"), one)
    qtbot.mouseClick(view.anew, Qt.MouseButton.LeftButton)
    assert not np.array_equal(leaving(demo_window, "hat"), one)


def test_hits_that_come_in_are_marked_on_their_drum_and_fade(window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window.inputs.drummer.play.click()
    window.show_view("Velocity")
    window.inputs.strike("snare.head", 90)
    plot = window.velocity.plots["snare"]
    qtbot.waitUntil(lambda: plot.marks > 0, timeout=6000)
    assert window.velocity.plots["*"].marks > 0
    assert window.velocity.plots["kick"].marks == 0
    with_mark = plot.grab().toImage()
    qtbot.waitUntil(lambda: plot.marks == 0, timeout=3000)
    assert plot.grab().toImage() != with_mark
    window.live_session.close()


def test_curves_bend_by_keyboard_too(demo_window, view, qtbot):
    plot = view.plots["kick"]
    plot.setFocus()
    for _ in range(4):
        qtbot.keyClick(plot, Qt.Key.Key_Up)
    shape = dict(demo_window.workbench.session.path.velocity.shapes)["kick"]
    assert shape.curve[1] == (64.0, 76.0)
    qtbot.keyClick(plot, Qt.Key.Key_Delete)
    assert dict(demo_window.workbench.session.path.velocity.shapes).get("kick", Shape()).plain
    assert isinstance(plot.at(1, 1).toPoint(), QPoint)


def test_fine_velocities_leave_where_asked_for(demo_window, view, qtbot):
    drag(view.plots["snare"], (127, 127), (127, 90))
    assert (leaving(demo_window, "snare") % 1 == 0).all()
    plain = demo_window.workbench.midi_bytes().count(b"\x58")
    qtbot.mouseClick(view.fine, Qt.MouseButton.LeftButton, pos=QPoint(8, view.fine.height() // 2))
    assert demo_window.workbench.session.path.target.fine
    finer = leaving(demo_window, "snare")
    assert (finer % 1 != 0).sum() > 50
    assert demo_window.workbench.midi_bytes().count(b"\x58") - plain >= (finer % 1 != 0).sum()
    demo_window.workbench.undo()
    assert not view.fine.isChecked()


def test_a_pitched_track_has_a_plot_figures_and_a_shape_of_its_own(trio, qtbot):  # noqa: F811
    bench = trio.workbench
    ref = next(one for one in bench.session.takes if one.name == "Bass line")
    bench.do("", edits.with_current(bench.session, ref.ident))
    trio.show_view("Velocity")
    view = trio.velocity
    [key] = [key for key in view.plots if key.startswith("track:")]
    view.choose(key)
    assert view.title.text() == "Bass"
    assert "hits" in view.about.text()
    before = bench.whole.outcome.output_notes
    drag(view.plots[key], (127, 127), (127, 40))
    after = bench.whole.outcome.output_notes
    mine = after.track == next(i for i, one in enumerate(bench.whole.outcome.tracks) if "track:" + one.key == key)
    assert after.velocity[mine].max() <= 45
    assert np.array_equal(after.velocity[~mine], before.velocity[~mine])
    assert settings_json.from_json(settings_json.to_json(bench.session.path), "x") == bench.session.path
    view.knobs["amount"].slider.setValue(20)
    assert not np.array_equal(bench.whole.outcome.output_notes.velocity[mine], after.velocity[mine])
    qtbot.mouseClick(view.reset, Qt.MouseButton.LeftButton)
    assert np.array_equal(bench.whole.outcome.output_notes.velocity, before.velocity)
