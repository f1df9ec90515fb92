"""The real window, driven by clicks and keys, checked by session, file and pixels."""

from __future__ import annotations

import json
import os
import sys
from importlib import resources

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QEvent, QMimeData, QObject, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QImage, QMouseEvent, QPainter, QWheelEvent
from PySide6.QtWidgets import QApplication, QFileDialog

from puresignal import cli
from puresignal.core.path.doubles import DOUBLE
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.tally import Action
from puresignal.io import note_map_file, session_json, work_folder
from puresignal.ui.takes import row_painter
from puresignal.ui.takes.bar_ruler import RULER
from puresignal.ui.takes.overview import OVERVIEW
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme
from tests import sine_soundfont


def choose(combo, text):
    """Choose an entry of a combo box as a click does."""
    index = combo.findText(text)
    combo.setCurrentIndex(index)
    combo.activated.emit(index)


def pixels(widget) -> np.ndarray:
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    data = np.frombuffer(image.constBits(), np.uint32).reshape(image.height(), image.bytesPerLine() // 4)
    return data[:, : image.width()] & 0xFFFFFF


def rgb(colour) -> int:
    return colour.rgb() & 0xFFFFFF


def test_painting_leaks_no_reference_to_none():
    """The pinned release of Qt's binding: a later one loses a reference in every void call and crashes the program."""
    image = QImage(10, 10, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    before = sys.getrefcount(None)
    for _ in range(1000):
        painter.drawPoint(1, 1)
    assert sys.getrefcount(None) >= before - 50
    painter.end()


def test_window_and_command_line_write_the_same_bytes(window, qtbot, kit_file, tmp_path, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(kit_file)], ""))
    qtbot.mouseClick(window.rail.open, Qt.MouseButton.LeftButton)
    choose(window.source, "Five-piece practice kit")
    choose(window.target, "Boathouse drum room")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "window.mid"), ""))
    window.show_view("Outputs")
    qtbot.mouseClick(window.outputs.save, Qt.MouseButton.LeftButton)
    out = tmp_path / "command.mid"
    maps = ["--source-map", "practice-five", "--target-map", "boathouse-room"]
    assert cli.main(["clean", str(kit_file), "--out", str(out), *maps]) == 0
    assert (tmp_path / "window.mid").read_bytes() == out.read_bytes()


def test_the_first_start_asks_nothing(window, qtbot):
    assert "Play anything" in window.inputs.title.text()
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    shown = window.workbench.shown
    assert shown.outcome.tally.arrived > 100
    window.mapping.as_table.click()
    assert window.mapping.table.arrivals.rowCount() > 5
    assert [c.ident for c in window.rail.cards] == ["take1"]
    first = shown.take
    qtbot.mouseClick(window.inputs.drummer.play, Qt.MouseButton.LeftButton)
    second = window.workbench.shown.take
    assert len(second.events) != len(first.events)
    qtbot.mouseClick(window.rail.cards[1], Qt.MouseButton.LeftButton)
    assert window.workbench.shown.take is first


def test_the_drummers_faults_are_switched_where_they_stand(window, qtbot):
    for box in window.inputs.drummer.faults.values():
        box.setChecked(False)
    qtbot.mouseClick(window.inputs.drummer.play, Qt.MouseButton.LeftButton)
    shown = window.workbench.shown
    assert not np.any(shown.take.events.status >= 0xF0)
    assert DOUBLE not in shown.outcome.tally.removed()


def test_the_first_take_has_the_keys_at_once(window, qtbot):
    window.show_view("Takes")
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    assert window.focusWidget() is window.takes.timeline


def test_files_dropped_on_the_window_are_opened(window, kit_file):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(kit_file))])
    event = QDropEvent(
        QPointF(500, 400), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    assert window.workbench.shown.ref.name == "rehearsal"


def test_a_file_is_read_by_the_map_that_explains_it(window, kit_file, tmp_path):
    window.open_files([kit_file])
    assert window.workbench.session.take().source == note_map_file.shipped("practice-five")
    assert window.source.currentText() == "Five-piece practice kit"
    melody = tmp_path / "melody.mid"
    notes = "".join(f"00 90 {n:02x} 50 60 80 {n:02x} 40 " for n in range(84, 96))
    body = bytes.fromhex(notes + "00 ff2f00")
    melody.write_bytes(bytes.fromhex("4d546864000000060000000101e0") + b"MTrk" + len(body).to_bytes(4, "big") + body)
    window.open_files([melody])
    assert window.workbench.session.take().source == note_map_file.shipped("practice-five")
    assert window.workbench.shown.outcome.tally.left == 12


def test_each_dropped_thing_opens_as_what_it_is(demo_window, kit_file, tmp_path):
    bench = demo_window.workbench
    recording = tmp_path / "ferry.wav"
    soundfile.write(recording, np.zeros(4000), 8000)
    font = tmp_path / "own.sf2"
    sine_soundfont.write(font)
    kit = tmp_path / "kit.json"
    note_map_file.write(kit, note_map_file.shipped("lantern-pads"))
    folder = tmp_path / "songs" / "deeper"
    folder.mkdir(parents=True)
    for name in ("a.mid", "b.mid"):
        (folder / name).write_bytes(kit_file.read_bytes())
    takes = len(bench.session.takes)
    demo_window.open_files([recording, font, kit])
    assert bench.session.backing.path == str(recording)
    assert bench.session.sound.font == str(font)
    assert bench.session.take().source.name == "Lantern pads"
    assert "source map of this take" in demo_window.notice.text
    demo_window.open_files([tmp_path / "songs"])
    assert [ref.name for ref in bench.session.takes[takes:]] == ["ferry.wav", "a", "b"]


def test_what_cannot_be_opened_is_refused_while_it_is_dragged(demo_window, tmp_path):
    letter, song = tmp_path / "letter.txt", tmp_path / "song.mid"
    letter.write_text("Dear all")
    song.write_bytes(b"MThd")
    for path, taken in ((letter, False), (song, True), (tmp_path, True)):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        event = QDragEnterEvent(QPoint(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier)  # fmt: skip
        event.ignore()
        demo_window.dragEnterEvent(event)
        assert event.isAccepted() == taken
    assert "letter.txt is of no kind that can be opened" in demo_window.notice.text


def test_a_pipe_is_refused_without_being_read(demo_window, tmp_path):
    pipe = tmp_path / "pipe.mid"
    os.mkfifo(pipe)
    before = demo_window.workbench.session
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(pipe))])
    event = QDragEnterEvent(QPoint(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                            Qt.KeyboardModifier.NoModifier)  # fmt: skip
    # Opening a pipe that nobody writes to waits for ever: pytest's limit would end this test.
    demo_window.dragEnterEvent(event)
    demo_window.open_files([pipe])
    assert demo_window.workbench.session is before
    assert "pipe.mid" in demo_window.notice.text


@pytest.mark.parametrize("content", [b"not music", b"", None])
def test_a_bad_file_is_told_and_leaves_the_session_unharmed(demo_window, tmp_path, content):
    path = tmp_path / "bad.mid"
    if content is not None:
        path.write_bytes(content)
    before = demo_window.workbench.session
    demo_window.open_files([path])
    assert demo_window.workbench.session is before
    assert demo_window.notice.isVisible()
    assert "bad.mid" in demo_window.notice.text


def test_a_wrong_map_is_reported_and_the_current_one_stays(demo_window, tmp_path):
    path = tmp_path / "wrong.json"
    path.write_text(json.dumps({"format": "pure-signal/note-map", "version": 1, "name": "x", "pads": 5}))
    before = demo_window.workbench.session
    demo_window.source.open_file(path)
    assert demo_window.workbench.session is before
    assert "pads" in demo_window.notice.text
    assert demo_window.source.currentText() == "Practice kit, first evening"


def test_a_map_from_a_file_is_used(demo_window, tmp_path):
    path = tmp_path / "mine.json"
    note_map_file.write(path, note_map_file.shipped("lantern-pads"))
    demo_window.source.open_file(path)
    assert demo_window.workbench.session.take().source == note_map_file.shipped("lantern-pads")


def test_choosing_the_right_map_maps_the_unmapped_and_undo_restores_them(demo_window, qtbot):
    bench = demo_window.workbench
    assert bench.shown.outcome.tally.removed()[UNMAPPED_NOTE] > 20
    choose(demo_window.source, "Five-piece practice kit")
    assert UNMAPPED_NOTE not in bench.shown.outcome.tally.removed()
    assert (Action.REMOVED, UNMAPPED_NOTE) not in demo_window.strip.figures
    assert "choose source map" in demo_window.menus.undo.text()
    qtbot.keyClick(demo_window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert bench.shown.outcome.tally.removed()[UNMAPPED_NOTE] > 20
    qtbot.keyClick(demo_window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert UNMAPPED_NOTE not in bench.shown.outcome.tally.removed()


def test_the_tally_adds_up_on_the_screen(demo_window):
    numbers = {key: int(b.text().split("  ")[1].replace("\N{NARROW NO-BREAK SPACE}", "")) for key, b in
               demo_window.strip.figures.items()}  # fmt: skip
    removed = sum(n for (what, _), n in numbers.items() if what == Action.REMOVED)
    assert numbers[-1, -2] == numbers[-1, -3] + removed
    assert numbers[-1, -2] == demo_window.workbench.shown.outcome.tally.arrived


def test_a_tally_figure_selects_its_notes(demo_window, qtbot):
    demo_window.show_view("Inputs")
    figure = demo_window.strip.figures[Action.REMOVED, DOUBLE]
    qtbot.mouseClick(figure, Qt.MouseButton.LeftButton)
    assert demo_window.stack.currentWidget() is demo_window.takes
    timeline = demo_window.takes.timeline
    timeline.show_all()
    accent = rgb(theme.current().colour("accent"))
    overview = pixels(timeline.viewport())[-OVERVIEW:]
    marked = np.count_nonzero((overview == accent).any(axis=0))
    assert marked >= 10
    qtbot.mouseClick(figure, Qt.MouseButton.LeftButton)
    assert len(demo_window.takes.timeline.selected) == 0


def test_views_by_key(demo_window, qtbot):
    for key, view in (
        (Qt.Key.Key_1, demo_window.inputs),
        (Qt.Key.Key_2, demo_window.mapping),
        (Qt.Key.Key_3, demo_window.velocity),
        (Qt.Key.Key_5, demo_window.outputs),
    ):
        qtbot.keyClick(demo_window, key, Qt.KeyboardModifier.ControlModifier)
        assert demo_window.stack.currentWidget() is view


class _Windows(QObject):
    """Notes which widgets are shown as windows."""

    def __init__(self):
        super().__init__()
        self.shown = []

    def eventFilter(self, watched, event):
        if event.type() == QEvent.Type.Show and watched.isWidgetType() and watched.isWindow():
            self.shown.append(type(watched).__name__)
        return False


def test_turning_to_a_view_shows_no_stray_window(window, qtbot, kit_file):
    watcher = _Windows()
    QApplication.instance().installEventFilter(watcher)
    window.files.open_files([kit_file])
    for name in window.view_names:
        window.show_view(name)
        qtbot.wait(50)
    QApplication.instance().removeEventFilter(watcher)
    assert watcher.shown == []


def test_a_take_is_removed_from_the_session_and_undo_restores_it(window, qtbot):
    for _ in range(2):
        qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    remove = [action for action in window.rail.menu("take2").actions() if action.text() == "Remove from the session"]
    remove[0].trigger()
    assert [c.ident for c in window.rail.cards] == ["take1"]
    assert window.workbench.shown.ref.ident == "take1"
    window.workbench.undo()
    assert [c.ident for c in window.rail.cards] == ["take2", "take1"]


def test_an_unnamed_session_takes_the_name_of_its_file(window, qtbot, tmp_path):
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    window.files.save_session_to(tmp_path / "Cellar evening.puresignal")
    assert window.header.name.text() == "Cellar evening"
    assert not window.workbench.unsaved


def test_another_session_leaves_unsaved_work_on_disk(window, qtbot, tmp_path, demo_window):
    path = tmp_path / "other.puresignal"
    demo_window.files.save_session_to(path)
    demo_window.workbench.let_go()
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    (tmp_path / "bad.puresignal").write_bytes(b"no")
    window.open_files([tmp_path / "bad.puresignal"])
    assert work_folder.leftovers() == (), "a session that cannot be opened changes nothing"
    window.open_files([path])
    assert window.workbench.session.name == "Quarter Past Ferry"
    [left] = work_folder.leftovers()
    window.files.recover(left)
    assert window.workbench.shown.ref.ident == "take1"
    assert window.workbench.unsaved


# Takes


def row_pixels(window, track, label):
    timeline = window.takes.timeline
    box = next(b for t, r, b in timeline.row_boxes() if (t, r) == (track, label))
    return pixels(timeline.viewport())[int(box.top()) : int(box.bottom()), GUTTER + 2 :]


def kick_colour():
    return rgb(theme.current().family("kick"))


def test_played_is_outline_clean_is_solid(demo_window, qtbot):
    buttons = demo_window.takes.tools.show_buttons
    solid = {}
    for show in (row_painter.CLEAN, row_painter.PLAYED):
        qtbot.mouseClick(buttons[show], Qt.MouseButton.LeftButton)
        solid[show] = np.count_nonzero(row_pixels(demo_window, "Kick", "kick") == kick_colour())
    assert solid[row_painter.CLEAN] > 1.4 * solid[row_painter.PLAYED] > 0


def test_stems_stand_where_and_as_high_as_they_were_played(demo_window):
    timeline = demo_window.takes.timeline
    outcome = demo_window.workbench.shown.outcome
    kicks = outcome.output_notes.start[outcome.output_notes.articulation == outcome.vocabulary.index("kick")]
    found = row_pixels(demo_window, "Kick", "kick") == kick_colour()
    for start in kicks[:6]:
        x = round(timeline.axis.x_of(float(start))) - GUTTER - 2
        assert found[:, x - 1 : x + 2].any()
    heights = {}
    for velocity in (20, 60, 120):
        heights[velocity] = 100.0 - row_painter.stem_tops(np.array([velocity]), 100.0, 80.0)[0]
    assert heights[20] < heights[60] < heights[120] <= 80


def test_ctrl_wheel_zooms_about_the_pointer(demo_window):
    timeline = demo_window.takes.timeline
    at = QPointF(GUTTER + 300, 300)
    second, before = timeline.axis.second_at(at.x()), timeline.axis.seconds_in_view()
    event = QWheelEvent(
        at, timeline.mapToGlobal(at), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.ControlModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(timeline.viewport(), event)
    after = timeline.axis.seconds_in_view()
    assert after[1] - after[0] < 0.75 * (before[1] - before[0])
    assert timeline.axis.second_at(at.x()) == pytest.approx(second, abs=1e-6)


def test_keys_move_zoom_and_show_all(demo_window, qtbot):
    timeline = demo_window.takes.timeline
    begin, end = timeline.axis.seconds_in_view()
    qtbot.keyClick(timeline, Qt.Key.Key_Right)
    assert timeline.axis.seconds_in_view()[0] == pytest.approx(begin + 0.1 * (end - begin))
    qtbot.keyClick(timeline, Qt.Key.Key_Plus)
    assert np.diff(timeline.axis.seconds_in_view())[0] < end - begin
    qtbot.keyClick(timeline, Qt.Key.Key_0)
    assert timeline.axis.seconds_in_view()[1] >= demo_window.workbench.shown.take.length
    qtbot.keyClick(timeline, Qt.Key.Key_Home)
    assert timeline.axis.seconds_in_view()[0] == 0.0


def test_dragging_the_overview_goes_there(demo_window, qtbot):
    timeline = demo_window.takes.timeline
    view = timeline.viewport()
    y = view.height() - OVERVIEW // 2
    x = GUTTER + (view.width() - GUTTER) // 2
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(GUTTER + 40, y))
    qtbot.mouseMove(view, QPoint(x, y))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
    begin, end = timeline.axis.seconds_in_view()
    length = demo_window.workbench.shown.take.length
    assert (begin + end) / 2 == pytest.approx(0.51 * length, rel=0.005)
    # The frame is drawn about the pointer, as far to the left as to the right.
    picture = view.grab().toImage()
    ratio = picture.devicePixelRatio()
    row = round((view.height() - OVERVIEW + 6) * ratio)
    inside = range(round(GUTTER * ratio), picture.width() - 3)
    sides = [k / ratio for k in inside if picture.pixelColor(k, row).lightness() < 110]
    assert (sides[0] + sides[-1]) / 2 == pytest.approx(x, abs=2)
    wide = (end - begin) / length / 1.02 * (view.width() - GUTTER)
    assert sides[-1] - sides[0] == pytest.approx(wide, abs=3)


def test_the_pointer_says_what_it_is_on(demo_window, qtbot):
    timeline = demo_window.takes.timeline
    row = next(r for g, r, _, _ in timeline.row_layout.rows() if r.label == "kick")
    box = next(b for t, r, b in timeline.row_boxes() if r == "kick")
    x = timeline.axis.x_of(float(row.start[0]))
    at = QPointF(round(x), box.center().y())
    move = QMouseEvent(
        QEvent.Type.MouseMove, at, timeline.viewport().mapToGlobal(at), Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(timeline.viewport(), move)
    said = demo_window.takes.said.text()
    assert said.startswith("kick")
    assert "bar 2, beat 1" in said
    assert "leaves as 5" in said


def test_a_dense_take_is_drawn_as_a_skyline(demo_window):
    demo_window.inputs.drummer.bars.setValue(300)
    demo_window.inputs.drummer.play.click()
    timeline = demo_window.takes.timeline
    timeline.show_all()
    row = next(r for _, r, _, _ in timeline.row_layout.rows() if r.label == "kick")
    filled = (row_pixels(demo_window, "Kick", "kick") == kick_colour()).any(axis=0)
    columns = np.unique((timeline.axis.x_of(0.0) + row.clean_start * timeline.axis.scale - GUTTER - 2).astype(int))
    columns = columns[(columns > 0) & (columns < len(filled) - 2)]
    assert len(columns) > 300
    assert filled[columns].all()


def test_the_ruler_numbers_bars(demo_window):
    top = pixels(demo_window.takes.timeline.viewport())[:RULER, GUTTER:]
    ink = rgb(theme.current().colour("ink"))
    assert np.count_nonzero(top == ink) > 30


# Outputs


def test_a_track_is_renamed_in_place_and_the_file_has_the_name(demo_window, tmp_path):
    demo_window.show_view("Outputs")
    model = demo_window.outputs.model
    assert model.setData(model.index(1, 1), "Snare, close", Qt.ItemDataRole.EditRole)
    demo_window.files.save_midi_to(tmp_path / "a.mid")
    assert b"Snare, close" in (tmp_path / "a.mid").read_bytes()
    demo_window.show_view("Takes")
    assert "Snare, close" in [t for t, _, _ in demo_window.takes.timeline.row_boxes()]


def test_splitting_goes_back_and_forth_without_loss(demo_window):
    demo_window.show_view("Outputs")
    before = demo_window.workbench.midi_bytes()
    for label, count in (("All on one track", 1), ("Track per family", 5), ("Track per drum", 9)):
        choose(demo_window.outputs.split, label)
        assert demo_window.outputs.model.rowCount() == count
    assert demo_window.workbench.midi_bytes() == before


def test_a_failed_save_is_reported(demo_window, tmp_path):
    demo_window.files.save_midi_to(tmp_path / "none" / "a.mid")
    assert "no such file or folder" in demo_window.notice.text
    assert demo_window.notice.objectName() == "problem"


# Sessions


def test_a_session_is_saved_and_opened_again(demo_window, window, tmp_path):
    path = tmp_path / "evening.puresignal"
    choose(demo_window.target, "General MIDI percussion")
    assert "*" in demo_window.windowTitle()
    demo_window.files.save_session_to(path)
    assert "*" not in demo_window.windowTitle()
    demo_window.workbench.let_go()
    window.open_files([path])
    assert window.workbench.session == demo_window.workbench.session
    assert window.workbench.midi_bytes() == demo_window.workbench.midi_bytes()


def test_a_session_of_a_later_version_is_not_overwritten(demo_window, window, tmp_path):
    import io
    import zipfile

    path = tmp_path / "late.puresignal"
    demo_window.files.save_session_to(path)
    demo_window.workbench.let_go()
    with zipfile.ZipFile(path) as archive:
        entries = {n: archive.read(n) for n in archive.namelist()}
    data = json.loads(entries["session.json"])
    data["version"] = session_json.VERSION + 1
    entries["session.json"] = json.dumps(data).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for name, content in entries.items():
            archive.writestr(name, content)
    path.write_bytes(buffer.getvalue())
    window.open_files([path])
    assert "later version" in window.notice.text
    assert window.workbench.shown.outcome.tally.arrived > 100
    window.files.save_session_to(path)
    assert "read-only" in window.notice.text
    assert path.read_bytes() == buffer.getvalue()
    window.files.save_session_to(tmp_path / "mine.puresignal")
    assert "Saved" in window.notice.text


def test_the_shipped_typeface_is_used_and_its_figures_line_up(demo_window):
    from PySide6.QtGui import QFontInfo, QFontMetricsF

    assert QFontInfo(theme.font()).family() == theme.FAMILY
    widths = {QFontMetricsF(theme.font(10)).horizontalAdvance(d * 4) for d in "0123456789"}
    assert len(widths) == 1
    licence = resources.files("puresignal") / "ui" / "assets" / "fonts" / "OFL.txt"
    assert "SIL OPEN FONT LICENSE" in licence.read_text().upper()


def test_open_offers_recordings_as_well(window, monkeypatch):
    asked = []

    def names(*arguments):
        asked.append(arguments[3])
        return [], ""

    monkeypatch.setattr(QFileDialog, "getOpenFileNames", names)
    window.files.ask_open()
    first = asked[0].split(";;")[0]
    assert {"*.mid", "*.puresignal", "*.wav", "*.flac"} <= set(first[first.index("(") + 1 : -1].split())
