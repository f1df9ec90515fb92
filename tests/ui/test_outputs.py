"""Changing tracks one by one and several at once; the clip on the clipboard."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import mido
import numpy as np
import pytest
from PySide6.QtCore import QItemSelectionModel, QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QFileDialog

from puresignal.core.session import session as edits
from puresignal.io import audio_file, ports, sample_kits
from tests.ui.test_window import choose


@pytest.fixture
def outputs(demo_window):
    demo_window.show_view("Outputs")
    return demo_window.outputs


def pick(outputs, *titles):
    chosen = outputs.table.selectionModel()
    chosen.clearSelection()
    for row in range(outputs.model.rowCount()):
        if outputs.model.track(row).title in titles:
            flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
            chosen.select(outputs.model.index(row, 0), flags)


def titles(outputs):
    return [outputs.model.track(r).title for r in range(outputs.model.rowCount())]


def saved(window, tmp_path):
    window.files.save_midi_to(tmp_path / "x.mid")
    return mido.MidiFile(tmp_path / "x.mid")


def test_many_tracks_get_a_channel_at_once(outputs, demo_window, tmp_path):
    pick(outputs, "Kick", "Snare")
    choose(outputs.channel, "channel 3")
    song = saved(demo_window, tmp_path)
    channels = {t.name: {m.channel for m in t if m.type == "note_on"} for t in song.tracks[1:]}
    assert channels["Kick"] == channels["Snare"] == {2}
    assert channels["Ride"] == {9}
    demo_window.workbench.undo()
    assert outputs.model.track(0).channel is None


def test_tracks_are_moved_and_the_file_follows(outputs, demo_window, qtbot, tmp_path):
    pick(outputs, "Snare", "Hi-hat")
    qtbot.mouseClick(outputs.track_tools[2], Qt.MouseButton.LeftButton)
    assert titles(outputs)[:3] == ["Snare", "Hi-hat", "Kick"]
    assert outputs.chosen_keys() == ["snare", "hat"]
    assert [t.name for t in saved(demo_window, tmp_path).tracks[1:4]] == ["Snare", "Hi-hat", "Kick"]


def test_a_track_is_excluded_by_its_tick(outputs, demo_window, tmp_path):
    model = outputs.model
    assert model.setData(model.index(1, 2), Qt.CheckState.Unchecked.value, Qt.ItemDataRole.CheckStateRole)
    assert "Snare" not in [t.name for t in saved(demo_window, tmp_path).tracks]
    assert "8 named tracks" in outputs.contents.text()


def test_a_colour_shows_in_takes_too(outputs, demo_window):
    pick(outputs, "Kick")
    choose(outputs.colour, "green")
    demo_window.show_view("Takes")
    group = next(g for g, _, _, _ in demo_window.takes.timeline.row_layout.rows() if g.title == "Kick")
    assert group.family == "percussion"


def test_without_tempo_and_meter(outputs, demo_window, qtbot, tmp_path):
    assert {"set_tempo", "time_signature"} <= {m.type for m in saved(demo_window, tmp_path).tracks[0]}
    qtbot.mouseClick(outputs.with_tempo, Qt.MouseButton.LeftButton, pos=outputs.with_tempo.rect().center() * 0.1)
    assert not demo_window.workbench.session.delivery.with_tempo
    assert not {"set_tempo", "time_signature"} & {m.type for m in saved(demo_window, tmp_path).tracks[0]}
    assert "BPM" not in outputs.contents.text()


def clipboard_file() -> Path:
    urls = QApplication.clipboard().mimeData().urls()
    assert len(urls) == 1
    return Path(urls[0].toLocalFile())


def test_the_clip_is_copied_as_a_file(outputs, demo_window, qtbot):
    qtbot.mouseClick(outputs.copy_button, Qt.MouseButton.LeftButton)
    assert clipboard_file().read_bytes() == demo_window.workbench.midi_bytes()
    pick(outputs, "Snare")
    choose(outputs.what, "selected tracks")
    outputs.handle.setFocus()
    qtbot.keyClick(outputs.handle, Qt.Key.Key_Return)
    assert [t.name for t in mido.MidiFile(clipboard_file()).tracks[1:]] == ["Snare"]
    assert "Snare" in clipboard_file().name


def test_a_clip_that_is_dropped_somewhere_is_not_changed_by_the_next(outputs, demo_window):
    first = outputs.clip_file()
    content = first.read_bytes()
    pick(outputs, "Kick")
    choose(outputs.channel, "channel 5")
    second = outputs.clip_file()
    assert second != first
    assert first.read_bytes() == content


def test_without_a_selection_there_is_nothing_to_drag(outputs):
    choose(outputs.what, "selected bars")
    assert not outputs.handle.isEnabled()
    assert outputs.clip() is None


def test_a_folder_of_recordings_becomes_the_kit(demo_window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    folder = tmp_path / "Harbour"
    folder.mkdir()
    stroke = (0.5 * np.sin(np.arange(9000) / 9) * np.exp(-np.arange(9000) / 2000)).astype(np.float32)
    audio_file.write_wav(folder / "kick.wav", stroke, 48_000)
    (folder / "lampshade.wav").write_bytes(b"RIFF")
    window = demo_window
    bench, panel = window.workbench, window.view("Outputs").sound
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(folder))
    window.show_view("Outputs")
    panel.kit.setCurrentIndex(panel.kit.count() - 1)
    panel.kit.activated.emit(panel.kit.count() - 1)
    assert bench.session.sound.kit == "Harbour"
    assert panel.kit.currentText() == "Harbour"
    assert "lampshade.wav" in window.notice.text
    # The kit is a copy: the folder may go.
    shutil.rmtree(folder)
    assert sample_kits.load("Harbour", 48_000).strokes
    bench.undo()
    assert panel.kit.currentText() != "Harbour"
    # A session from elsewhere names what is not here.
    bench.do("kit", edits.with_sound(bench.session, replace(bench.session.sound, kit="Quay")))
    assert panel.kit.currentText() == "Quay (missing)"


def test_several_tracks_are_named_by_a_pattern_and_locked_as_one_step(demo_window):
    outputs, bench = demo_window.outputs, demo_window.workbench
    outputs.rename_all(["kick", "snare", "hat"], "Ferry # *")
    assert [bench.session.delivery.track(key).title for key in ("kick", "snare", "hat")] == [
        "Ferry 1 Kick", "Ferry 2 Snare", "Ferry 3 Hi-hat",
    ]  # fmt: skip
    assert demo_window.menus.undo.text() == "Undo: rename tracks"
    bench.undo()
    assert bench.session.delivery.track("kick").title == ""
    outputs._choose_keys(["kick", "snare"])
    menu = outputs.menu()
    next(action for action in menu.actions() if action.text() == "Lock").trigger()
    assert [bench.session.delivery.track(key).locked for key in ("kick", "snare", "hat")] == [True, True, False]


def test_a_recording_dropped_on_a_drum_is_that_drum_and_what_was_there_is_kept(demo_window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    stroke = (0.5 * np.sin(np.arange(9000) / 9) * np.exp(-np.arange(9000) / 2000)).astype(np.float32)
    for name in ("thud", "clack"):
        audio_file.write_wav(tmp_path / f"{name}.wav", stroke * (1.0 if name == "thud" else 0.2), 48_000)
    window = demo_window
    bench, panel = window.workbench, window.view("Outputs").sound
    window.show_view("Outputs")
    pick(window.outputs, "Snare")

    def drop(path):
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(path))])
        event = QDropEvent(
            QPointF(20, 20), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )  # fmt: skip
        panel.dropEvent(event)
        return event.isAccepted()

    assert drop(tmp_path / "thud.wav")
    name = bench.session.sound.kit
    assert name == "My kit 1"
    assert "Snare of My kit 1 is thud.wav now." in window.notice.text
    first = sample_kits.stamp(name)
    assert [s.articulation for s in sample_kits.load(name, 48_000).strokes] == ["snare.head"]
    told = []
    monkeypatch.setattr(window.services.live_session, "follow_sound", lambda: told.append(True))
    panel.kit_changed.connect(lambda: told.append(True))
    assert drop(tmp_path / "clack.wav")
    assert told
    assert sample_kits.stamp(name) != first
    (loud,) = sample_kits.load(name, 48_000).strokes.values()
    assert np.abs(loud).max() == pytest.approx(0.1, rel=0.05)
    assert [p.name for p in (sample_kits.folder() / name / "before").iterdir()] == ["snare.wav"]
    (tmp_path / "words.txt").write_text("no sound")
    assert not drop(tmp_path / "words.txt")


def test_what_the_receiver_cannot_play_is_counted_below_the_tracks(demo_window):
    bench, outputs = demo_window.workbench, demo_window.outputs
    demo_window.show_view("Outputs")
    assert outputs.left_out.isHidden()
    target = bench.session.target
    pads = tuple(pad for pad in target.pads if not pad.articulation.startswith("crash2"))
    bench.do("map", edits.with_target(bench.session, replace(target, pads=pads)))
    assert not outputs.left_out.isHidden()
    assert outputs.left_out.text().startswith("The receiver has no sound for crash 2")


def test_a_clipboard_that_refuses_is_told_and_a_sandbox_hands_the_file_over_by_key(outputs, demo_window, monkeypatch):
    from puresignal.io import file_transfer
    from puresignal.ui.outputs import clip_export

    outputs.copy()
    assert demo_window.notice.text.startswith("Copied")
    with monkeypatch.context() as patch:
        # As where another program holds on to it.
        patch.setattr(type(QApplication.clipboard()), "setMimeData", lambda *_: QApplication.clipboard().clear())
        outputs.copy()
        assert "did not take the clip" in demo_window.notice.text
    path = outputs.clip_file()
    assert not clip_export.mime_data(path).hasFormat(file_transfer.MIME)
    monkeypatch.setattr(file_transfer, "sandboxed", lambda: True)
    monkeypatch.setattr(file_transfer, "key_of", lambda path: b"key-7")
    assert bytes(clip_export.mime_data(path).data(file_transfer.MIME)) == b"key-7"


def test_a_sound_gets_a_name_by_typing_it_and_only_in_a_destination(outputs, demo_window, qtbot):
    bench, told = demo_window.workbench, []
    bench.message_shown.connect(lambda text, _: told.append(text))
    outputs.side.setCurrentIndex(1)

    def type_name(text):
        edit = outputs.play.sound.lineEdit()
        edit.setFocus()
        edit.selectAll()
        qtbot.keyClicks(edit, text)
        qtbot.keyClick(edit, Qt.Key.Key_Return)

    bench.do(
        "to", edits.with_tracks(bench.session, [replace(bench.session.delivery.track("kick"), program=17, bank=3)])
    )
    pick(outputs, "Kick")
    type_name("Wooden quay")
    assert "named in a destination" in told[-1]
    bench.do("rack", edits.with_destination(bench.session, edits.Destination("Rack", ports.RECEIVER)))
    bench.do("to", edits.with_tracks(bench.session, [replace(bench.session.delivery.track("kick"), port="Rack")]))
    pick(outputs, "Kick")
    assert outputs.play.sound.currentText() == "not in the list"
    type_name("Wooden quay")
    names = bench.session.destination("Rack").sounds
    assert names.sounds[names.place(3, 17)].name == "Wooden quay"
    assert outputs.play.sound.currentText() == "Wooden quay"
    # Chosen by that name, another track is sent the same.
    bench.do("to", edits.with_tracks(bench.session, [replace(bench.session.delivery.track("snare"), port="Rack")]))
    pick(outputs, "Snare")
    type_name("Wooden quay")
    own = bench.session.delivery.track("snare")
    assert (own.bank, own.program) == (3, 17)
