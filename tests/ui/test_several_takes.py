"""Several takes on one timeline: seen, heard, placed, cropped, switched and saved together, by pointer and keys."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QImage

from puresignal import cli
from puresignal.demo import demo_session as demo
from puresignal.io import midi_reader
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes.bar_ruler import HANDLES, RULER
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme


@pytest.fixture
def trio(qtbot) -> MainWindow:
    """The window on the whole demo session: drums, their first try, which is out, and a bass line."""
    bench = Workbench()
    bench.show_session(*demo.trio())
    made = MainWindow(bench, "Takes")
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    qtbot.waitExposed(made)
    return made


def written(bench):
    """(beat from bar 1, channel, note, velocity) of every note of the file."""
    song, found = midi_reader.parse(bench.midi_bytes(), "out.mid"), []
    for track in song.tracks:
        rows = track.messages
        on = (rows.status & 0xF0 == 0x90) & (rows.data2 > 0)
        columns = (
            (rows.tick[on] / song.tempo.ppq).round(2),
            (rows.status[on] & 15) + 1,
            rows.data1[on],
            rows.data2[on],
        )
        found += zip(*(column.tolist() for column in columns), strict=True)
    return sorted(found)


def bass_of(bench):
    return [row for row in written(bench) if row[1] == 2]


def card(window, ident):
    return next(card for card in window.rail.cards if card.ident == ident)


def drag(window, qtbot, begin, end):
    """Drag over the timeline's ruler from one point to another."""
    view = window.takes.timeline.viewport()
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=begin)
    for part in (0.25, 0.5, 0.75, 1.0):
        qtbot.mouseMove(view, QPoint(round(begin.x() + part * (end.x() - begin.x())), end.y()))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=end)


def x_of(window, beat):
    heard = window.workbench.heard
    return round(window.takes.timeline.axis.x_of(heard.several.second_of(beat)))


def test_two_players_are_one_file_one_tally_and_one_picture(trio, tmp_path):
    bench = trio.workbench
    rows = written(bench)
    drums, bass = [r for r in rows if r[1] == 10], [r for r in rows if r[1] == 2]
    assert len(drums) > 500
    assert len(bass) > 100
    tally = bench.seen.outcome.tally
    assert tally.balances()
    assert tally.left == len(rows)
    labels = {row.label for row in trio.takes.timeline.row_layout.picture.rows if row.pitched}
    assert {"D2", "A2"} <= labels
    # The command writes what the window writes.
    path, out = tmp_path / "ferry.puresignal", tmp_path / "ferry.mid"
    bench.save_session(path)
    assert cli.main(["export", str(path), "--out", str(out)]) == 0
    assert out.read_bytes() == bench.midi_bytes()


def test_the_box_of_a_card_brings_a_take_in_and_out(trio, qtbot):
    bench = trio.workbench
    assert card(trio, "take3").box.isChecked()
    assert not card(trio, "take2").box.isChecked()
    qtbot.mouseClick(card(trio, "take3").box, Qt.MouseButton.LeftButton)
    assert bass_of(bench) == []
    assert bench.history.undo_name == "take out of the result"
    bench.undo()
    assert len(bass_of(bench)) > 100
    assert card(trio, "take3").box.isChecked()


def test_a_take_that_is_out_is_seen_and_heard_alone_when_it_is_chosen_and_is_not_in_the_file(trio, qtbot):
    bench, before = trio.workbench, written(trio.workbench)
    qtbot.mouseClick(card(trio, "take2"), Qt.MouseButton.LeftButton)
    assert bench.is_alone
    assert bench.seen.several.idents == ("take2",)
    assert trio.takes.tools.alone.isChecked()
    assert written(bench) == before
    # To choose is to look: there is nothing to undo.
    assert bench.history.past == ()


def test_one_key_hears_the_chosen_take_alone(trio, qtbot):
    bench = trio.workbench
    qtbot.mouseClick(card(trio, "take3"), Qt.MouseButton.LeftButton)
    trio.takes.timeline.setFocus()
    qtbot.keyClick(trio.takes.timeline, Qt.Key.Key_O)
    assert bench.heard.outcome.tally.arrived == len(bass_of(bench))
    qtbot.keyClick(trio.takes.timeline, Qt.Key.Key_O)
    assert bench.heard.outcome.tally.arrived > 600
    assert bench.history.past == ()


def test_the_handle_moves_the_take_by_beats_in_one_step(trio, qtbot):
    bench = trio.workbench
    qtbot.mouseClick(card(trio, "take3"), Qt.MouseButton.LeftButton)
    before, others = bass_of(bench), [row for row in written(bench) if row[1] != 2]
    y = (HANDLES + RULER) // 2
    start = x_of(trio, 4.0)
    drag(trio, qtbot, QPoint(start, y), QPoint(x_of(trio, 7.1), y))
    assert [(round(beat - 3, 2), *rest) for beat, *rest in bass_of(bench)] == before
    assert [row for row in written(bench) if row[1] != 2] == others
    assert "bar 1 + 3" in card(trio, "take3").accessibleName()
    bench.undo()
    assert bass_of(bench) == before


def test_its_ends_crop_it_and_nothing_is_lost(trio, qtbot):
    bench = trio.workbench
    qtbot.mouseClick(card(trio, "take3"), Qt.MouseButton.LeftButton)
    before, y = bass_of(bench), (HANDLES + RULER) // 2
    box = trio.takes.timeline.strip.handle_box(GUTTER, trio.takes.timeline.axis.begin, trio.takes.timeline.axis.scale)
    drag(trio, qtbot, QPoint(round(box.left()) + 3, y), QPoint(x_of(trio, 12.0), y))
    # The hand was early for some beats: what began a hair before bar 4 is cut off with bar 3.
    assert bass_of(bench) == [row for row in before if row[0] >= 12.0]
    assert bench.session.take("take3").begin is not None
    trio.services.take_actions.uncrop()
    assert bass_of(bench) == before


def test_keys_move_duplicate_and_remove_the_chosen_take(trio, qtbot):
    bench = trio.workbench
    qtbot.mouseClick(card(trio, "take3"), Qt.MouseButton.LeftButton)
    before = bass_of(bench)
    timeline = trio.takes.timeline
    timeline.setFocus()
    qtbot.keyClick(timeline, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ShiftModifier)
    assert bass_of(bench) == [(round(beat + 4, 2), *rest) for beat, *rest in before]
    qtbot.keyClick(timeline, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    assert bass_of(bench) == [(round(beat + 3, 2), *rest) for beat, *rest in before]
    qtbot.keyClick(timeline, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    assert [ref.ident for ref in bench.session.takes] == ["take1", "take2", "take3", "take3-2"]
    assert len(bass_of(bench)) == 2 * len(before)
    one = card(trio, "take3-2")
    one.setFocus()
    qtbot.keyClick(one, Qt.Key.Key_Delete)
    assert len(bass_of(bench)) == len(before)
    # Both used one material: nothing of it is gone.
    assert bench.removed_takes() == []


def test_a_card_is_renamed_and_moved_where_it_stands(trio, qtbot):
    bench, one = trio.workbench, card(trio, "take3")
    one.setFocus()
    qtbot.keyClick(one, Qt.Key.Key_F2)
    one._editor.selectAll()
    qtbot.keyClicks(one._editor, "Bass, low end")
    qtbot.keyClick(one._editor, Qt.Key.Key_Return)
    assert bench.session.take("take3").name == "Bass, low end"
    assert [c.ident for c in trio.rail.cards] == ["take3", "take2", "take1"]
    card(trio, "take3").setFocus()
    qtbot.keyClick(card(trio, "take3"), Qt.Key.Key_Down, Qt.KeyboardModifier.AltModifier)
    assert [c.ident for c in trio.rail.cards] == ["take2", "take3", "take1"]
    bench.undo()
    assert [c.ident for c in trio.rail.cards] == ["take3", "take2", "take1"]


def test_a_long_name_takes_a_second_line_of_its_card_and_a_short_one_gives_it_back(trio):
    long = card(trio, "take1")
    assert long._name == "Quarter Past Ferry, once through"
    assert long._lines == ["Quarter Past Ferry, once", "through"]
    assert long.height() == card(trio, "take3").height() + 18
    picture = long.grab().toImage()
    ink = [
        any(picture.pixelColor(x, y).lightness() < 120 for x in range(20, picture.width() - 20))
        for y in range(30, picture.height() - 30)
    ]
    assert sum(ink[i] and not ink[i - 1] for i in range(1, len(ink))) >= 2
    trio.services.take_actions.rename("Once through", "take1")
    assert card(trio, "take1").height() == card(trio, "take3").height()


def dropped(window, path, at):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(at), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.takes.dropEvent(event)


def test_a_file_dropped_on_bar_5_begins_there_and_offers_its_tempo(trio, kit_file):
    bench, takes = trio.workbench, trio.takes
    at = takes.timeline.viewport().mapTo(takes, QPoint(x_of(trio, 16.4), 300))
    dropped(trio, kit_file, at)
    ref = bench.session.take()
    assert (ref.name, ref.beat, ref.is_in) == ("rehearsal", 16.0, True)
    # It plays the kit's tracks, and so stands in place of the groove; the bass line goes on.
    assert [other.ident for other in bench.session.takes if other.is_in] == ["take3", ref.ident]
    assert min(row[0] for row in written(bench) if row[1] == 10) >= 15.9
    assert bench.timeline.tempos[0].bpm == 92
    assert "104 BPM" in trio.notice.text
    trio.notice.act.click()
    assert bench.timeline.bpm_at(0.0) == pytest.approx(104, abs=0.01)


def pixels_of(window, colour):
    image = window.takes.timeline.viewport().grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    data = np.frombuffer(image.constBits(), np.uint32).reshape(image.height(), -1) & 0xFFFFFF
    return int((data[RULER + 2 :, GUTTER + 2 :] == (colour.rgb() & 0xFFFFFF)).sum())


def test_others_are_pale_behind_the_chosen_take(trio, qtbot):
    kick = theme.current().family("kick")
    qtbot.mouseClick(card(trio, "take3"), Qt.MouseButton.LeftButton)
    strong = pixels_of(trio, kick)
    assert strong > 100
    qtbot.mouseClick(trio.takes.tools.pale, Qt.MouseButton.LeftButton)
    assert pixels_of(trio, kick) == 0
    qtbot.mouseClick(card(trio, "take1"), Qt.MouseButton.LeftButton)
    assert pixels_of(trio, kick) == strong


def test_a_verdict_on_notes_of_two_takes_goes_to_each(trio):
    bench, takes = trio.workbench, trio.takes
    notes = bench.seen.outcome.output_notes
    bass = int(notes.origin[notes.channel == 2][5])
    drum = int(notes.origin[notes.channel == 10][50])
    takes.timeline.select(np.array([bass, drum]))
    takes.act("remove")
    counts = {ref.ident: len(ref.verdicts) for ref in bench.session.takes}
    assert counts == {"take1": 1, "take2": 0, "take3": 1}
    left = set(bench.seen.outcome.output_notes.origin.tolist())
    assert not {bass, drum} & left
    bench.undo()
    assert {bass, drum} <= set(bench.seen.outcome.output_notes.origin.tolist())


def test_a_take_dropped_where_it_is_changes_nothing(trio, qtbot):
    bench = trio.workbench
    y = (HANDLES + RULER) // 2
    drag(trio, qtbot, QPoint(x_of(trio, 4.0), y), QPoint(x_of(trio, 4.1), y))
    assert bench.history.past == ()


def test_a_layer_sounds_on_a_track_of_its_own_and_is_seen_saved_and_taken_away(trio, qtbot):
    bench, outputs = trio.workbench, trio.outputs
    trio.show_view("Outputs")
    keys = [outputs.model.track(row).track.key for row in range(outputs.model.rowCount())]
    outputs.table.selectRow(keys.index("snare"))
    snares = [row for row in written(bench) if row[1] == 10 and row[2] in (7, 8)]
    layer = next(action for action in outputs.menu().actions() if action.text() == "Layer on a further track")
    layer.trigger()
    song = midi_reader.parse(bench.midi_bytes(), "out.mid")
    assert "Snare, layer" in [track.name for track in song.tracks]
    assert len([row for row in written(bench) if row[1] == 10 and row[2] in (7, 8)]) == 2 * len(snares)
    assert bench.seen.outcome.tally.balances()
    trio.show_view("Takes")
    assert "Snare, layer" in [group.title for group in trio.takes.timeline.row_layout.picture.groups]
    keys = [outputs.model.track(row).track.key for row in range(outputs.model.rowCount())]
    trio.show_view("Outputs")
    outputs.table.selectRow(keys.index("layer1"))
    outputs.remove_layer()
    assert len([row for row in written(bench) if row[1] == 10 and row[2] in (7, 8)]) == len(snares)


def test_a_destination_is_made_renamed_and_used_and_its_channel_is_in_the_file(trio, qtbot):
    bench, outputs = trio.workbench, trio.outputs
    trio.show_view("Outputs")
    outputs.show_destinations()
    dialog = outputs._destinations
    qtbot.mouseClick(dialog.add, Qt.MouseButton.LeftButton)
    dialog.name.selectAll()
    qtbot.keyClicks(dialog.name, "Low synth")
    qtbot.keyClick(dialog.name, Qt.Key.Key_Return)
    dialog.channel.setCurrentIndex(dialog.channel.findData(6))
    dialog.channel.activated.emit(dialog.channel.currentIndex())
    assert [(one.name, one.channel) for one in bench.session.destinations] == [("Low synth", 6)]
    keys = [outputs.model.track(row).track.key for row in range(outputs.model.rowCount())]
    outputs.table.selectRow(len(keys) - 1)
    port = outputs.play.port
    port.setCurrentIndex(port.findData("Low synth"))
    port.activated.emit(port.currentIndex())
    assert bass_of(bench) == []
    assert len([row for row in written(bench) if row[1] == 6]) > 100
    qtbot.mouseClick(dialog.remove, Qt.MouseButton.LeftButton)
    assert bench.session.destinations == ()
    assert len(bass_of(bench)) > 100
    bench.undo()
    assert [one.name for one in bench.session.destinations] == ["Low synth"]


def test_a_sound_is_chosen_by_its_name_and_leaves_as_bank_and_program(trio, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    bench, outputs = trio.workbench, trio.outputs
    trio.show_view("Outputs")
    keys = [outputs.model.track(row).track.key for row in range(outputs.model.rowCount())]
    outputs.table.selectRow(len(keys) - 1)
    sound = outputs.play.sound
    assert sound.currentText() == "not sent"
    sound.lineEdit().selectAll()
    qtbot.keyClicks(sound.lineEdit(), "fretless")
    qtbot.keyClick(sound.completer().popup(), Qt.Key.Key_Down)
    qtbot.keyClick(sound.completer().popup(), Qt.Key.Key_Return)
    assert (bench.session.delivery.track(keys[-1]).bank, bench.session.delivery.track(keys[-1]).program) == (None, 35)
    # The next one by key.
    qtbot.keyClick(sound, Qt.Key.Key_Down)
    assert (sound.currentText(), bench.session.delivery.track(keys[-1]).program) == ("Slap Bass 1", 36)
    # A destination with names of its own.
    made = tmp_path / "lamp.json"
    made.write_text(
        '{"format": "pure-signal/sounds", "version": 1, "name": "Lamp", "sounds": '
        '[{"name": "Wet Rope", "program": 3, "bank": 130}]}'
    )
    outputs.show_destinations()
    dialog = outputs._destinations
    qtbot.mouseClick(dialog.add, Qt.MouseButton.LeftButton)
    dialog.use_sounds(tmp_path / "missing.midnam")
    assert "missing.midnam" in dialog.problem.text()
    dialog.use_sounds(made)
    assert dialog.sounds.currentText() == "Lamp"
    port = outputs.play.port
    port.setCurrentIndex(port.findData("Destination 1"))
    port.activated.emit(port.currentIndex())
    assert [sound.itemText(i) for i in range(sound.count())] == ["not sent", "Wet Rope"]
    assert sound.currentText() == "not in the list"
    sound.setCurrentIndex(1)
    sound.activated.emit(1)
    assert outputs.play.program.value() == 3
    track = bench.session.delivery.track(keys[-1])
    assert track.first_messages(2)[:3] == [b"\xb1\x00\x01", b"\xb1\x20\x02", b"\xc1\x03"]
