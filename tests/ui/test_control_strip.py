"""Controllers drawn below the sheet; then the session, the file and its bytes."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest

from puresignal.core.session import session as edits
from puresignal.core.session.track_settings import TrackSettings
from puresignal.io import session_file
from puresignal.ui.state.control_lines import simplified
from puresignal.ui.takes.row_labels import GUTTER
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture

SHIFT, CTRL, NONE = (
    Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.NoModifier
)  # fmt: skip


@pytest.fixture
def strip(trio, qtbot):  # noqa: F811
    bench = trio.workbench
    ref = next(one for one in bench.session.takes if one.name == "Bass line")
    bench.do("choose", edits.with_current(bench.session, ref.ident))
    trio.show_view("Takes")
    trio.takes.toggle_controls()
    made = trio.takes.controls
    qtbot.waitUntil(lambda: made.isVisible() and made.line is not None, timeout=3000)
    made.window_ = trio
    return made


def choose(strip, kind, number):
    strip.what.setCurrentIndex(strip.what.findData(kind * 128 + number))
    strip.what.activated.emit(strip.what.currentIndex())


def draw(strip, places, modifier=NONE):
    """A drag over (pixels from the sheet's left, value)."""
    points = [QPoint(GUTTER + x, round(strip.y_of(value))) for x, value in places]
    QTest.mousePress(strip, Qt.MouseButton.LeftButton, modifier, points[0])
    for at in points[1:]:
        event = QMouseEvent(
            QMouseEvent.Type.MouseMove, at, strip.mapToGlobal(at), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton,
            modifier,
        )  # fmt: skip
        strip.mouseMoveEvent(event)
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, modifier, points[-1])


def written(window, what, channel=1):
    """(second, value) of messages in the file."""
    now, found = 0.0, []
    for message in mido.MidiFile(file=io.BytesIO(window.workbench.midi_bytes())):
        now += message.time
        if message.type == what and message.channel == channel:
            if what == "control_change" and message.control == 1:
                found.append((now, message.value))
            elif what == "pitchwheel":
                found.append((now, message.pitch))
            elif what == "program_change":
                found.append((now, message.program))
            elif what == "note_on" and message.velocity:
                found.append((now, message.note))
    return found


def test_a_straight_line_becomes_messages_in_the_file(strip, qtbot):
    window = strip.window_
    choose(strip, 0xB0, 1)
    bare = strip.grab().toImage()
    draw(strip, [(40, 0), (200, 60), (400, 120)], SHIFT)
    sent = written(window, "control_change")
    seconds = [window.takes.timeline.axis.second_at(GUTTER + x) for x in (40, 400)]
    assert sent[0] == (pytest.approx(seconds[0], abs=0.02), pytest.approx(0, abs=2))
    assert sent[-1] == (pytest.approx(seconds[1], abs=0.06), pytest.approx(120, abs=2))
    values = np.array([value for _, value in sent])
    assert (np.diff(values) > 0).all()
    middle = np.interp(sum(seconds) / 2, [at for at, _ in sent], values)
    assert middle == pytest.approx(60, abs=3)
    assert strip.grab().toImage() != bare
    bench = window.workbench
    opened = session_file.parse(session_file.to_bytes(bench.session, dict(bench.store.by_ident)), "s").session
    assert next(r for r in opened.takes if r.name == "Bass line").edits == bench.session.take().edits
    bench.undo()
    assert written(window, "control_change") == []


def test_what_is_drawn_again_replaces_what_was_there_and_delete_takes_the_range_away(strip, qtbot):
    window = strip.window_
    choose(strip, 0xB0, 1)
    draw(strip, [(40, 100), (440, 100)], SHIFT)
    draw(strip, [(200, 20), (300, 20)], SHIFT)
    assert {value for _, value in written(window, "control_change")} <= {99, 100, 101, 19, 20, 21}
    line = strip.line
    at = [window.takes.timeline.axis.second_at(GUTTER + x) for x in (180, 320)]
    inside = line.value[(line.at > at[0]) & (line.at < at[1])]
    assert set(inside.tolist()) <= {19.0, 20.0, 21.0}
    window.playback.set_span((at[0], at[1]))
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Delete)
    assert not [v for _, v in written(window, "control_change") if v < 50]


def test_a_bend_has_its_own_range_and_a_smooth_line_begins_slowly(strip, qtbot):
    window = strip.window_
    choose(strip, 0xE0, 0)
    draw(strip, [(40, 0), (440, 8000)], CTRL)
    sent = written(window, "pitchwheel")
    assert sent[-1][1] == pytest.approx(8000, abs=250)
    begin, end = sent[0][0], sent[-1][0]
    at, values = np.array([a for a, _ in sent]), np.array([v for _, v in sent])
    quarter = np.interp(begin + 0.25 * (end - begin), at, values)
    assert quarter < 0.2 * 8000


def test_a_locked_track_stays_and_everything_goes_back_to_as_it_was_played(strip, qtbot):
    window = strip.window_
    bench = window.workbench
    choose(strip, 0xB0, 1)
    draw(strip, [(40, 64), (140, 64)])
    assert written(window, "control_change")
    services = window.services
    services.control_lines.undraw()
    assert written(window, "control_change") == []
    strip.show_line()
    bench.do("lock", edits.with_tracks(bench.session, [TrackSettings(strip.line.track, locked=True)]))
    draw(strip, [(40, 64), (140, 64)])
    assert written(window, "control_change") == []


def test_thinning_keeps_the_corners():
    at = np.arange(0, 10, 0.01)
    value = np.interp(at, [0, 3, 6, 10], [0, 100, 20, 20]) + 0.3 * np.sin(at * 50)
    points = simplified(at, value, 1.0)
    assert len(points) <= 8
    x, y = zip(*points, strict=True)
    assert np.abs(np.interp(at, x, y) - value).max() <= 1.0
    assert simplified(at[:2], value[:2], 1.0) == list(zip(at[:2].tolist(), value[:2].tolist(), strict=True))


def test_a_controller_is_listed_and_its_values_are_typed(strip, qtbot):
    window = strip.window_
    choose(strip, 0xB0, 1)
    draw(strip, [(40, 20), (400, 110)], SHIFT)
    before = written(window, "control_change")
    takes = window.takes
    takes.tools.below["list"].trigger()
    panel = takes.list
    panel.what.setCurrentIndex(panel.what.findData(0xB0 * 128 + 1))
    panel.what.activated.emit(panel.what.currentIndex())
    model = panel.table.model()
    assert model.rowCount() == len(before)
    assert panel.count.text() == f"{len(before)} values"
    typed = model.index(3, 4)
    assert typed.data() == str(before[3][1])
    assert model.setData(typed, "99", Qt.ItemDataRole.EditRole)
    after = written(window, "control_change")
    assert [value for _, value in after] == [*[v for _, v in before[:3]], 99, *[v for _, v in before[4:]]]
    assert window.menus.undo.text() == "Undo: set a controller's value"
    # To another place, and what is no place or too high is not taken.
    row = panel.table.model()
    assert row.setData(row.index(0, 0), "3.2.000", Qt.ItemDataRole.EditRole)
    assert len(written(window, "control_change")) == len(before)
    for column, text in ((0, "nowhere"), (4, "200"), (4, "loud"), (1, "-5")):
        assert not row.setData(row.index(0, column), text, Qt.ItemDataRole.EditRole)
    panel.what.setCurrentIndex(0)
    panel.what.activated.emit(0)
    assert panel.table.model() is panel.model
    assert panel.count.text().endswith("notes")


def test_sounds_are_changed_at_bar_lines_by_name_and_reach_notes_that_come_early(strip, qtbot):
    window, bench = strip.window_, strip.window_.workbench
    choose(strip, 0xC0, 0)
    assert strip.shows_sounds
    bare = strip.grab().toImage()
    several = bench.seen.several
    bar_two = several.second_of(several.timeline.bar_to_beats(2))
    x = round(float(window.takes.timeline.axis.x_of(np.array([bar_two]))[0]))

    def take(name, x):
        QTest.mouseClick(strip, Qt.MouseButton.LeftButton, NONE, QPoint(x, 50))
        assert strip.sounds.isVisible()
        place = strip.sounds.findText(name)
        strip.sounds.setCurrentIndex(place)
        strip.sounds.activated.emit(place)

    take("Fretless Bass", x + 12)
    sent = written(window, "program_change")
    assert [program for _, program in sent] == [35]
    notes = [at for at, _ in written(window, "note_on")]
    early = [at for at in notes if bar_two - 0.08 < at < bar_two]
    assert sent[0][0] <= min([bar_two, *early]) + 1e-6
    assert sent[0][0] > bar_two - 0.1
    assert strip.grab().toImage() != bare
    # The flag itself is asked again, and changed in its place.
    take("Slap Bass 1", round(float(window.takes.timeline.axis.x_of(np.array([sent[0][0]]))[0])) + 20)
    assert [program for _, program in written(window, "program_change")] == [36]
    assert strip._lines.name_of(strip.line, 0) == "37 Slap Bass 1"
    opened = session_file.parse(session_file.to_bytes(bench.session, dict(bench.store.by_ident)), "s").session
    assert next(r for r in opened.takes if r.name == "Bass line").edits == bench.session.take().edits
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Delete)
    assert written(window, "program_change") == []
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, NONE, QPoint(x, 50))
    QTest.keyClick(strip.sounds, Qt.Key.Key_Escape)
    assert not strip.sounds.isVisible()
    assert written(window, "program_change") == []
