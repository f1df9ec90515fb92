"""The real program as a process: killed, ended by the system, started twice; its window on a real X display."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QFileDialog

from puresignal.commands import desktop_entry
from puresignal.core.errors import FileAccessError
from puresignal.core.touch.computer_keyboard import Keyboard
from puresignal.io import file_access, log_file, preferences, session_file, work_folder, xdg_folders
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench


@pytest.fixture
def start():
    """Start the program; end whatever still runs after the test."""
    running = []

    def begin(*arguments: object) -> subprocess.Popen:
        program = subprocess.Popen(
            [sys.executable, "-m", "puresignal.cli", *map(str, arguments)],
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        running.append(program)
        return program

    yield begin
    for program in running:
        program.kill()
        program.wait(10)


def until(condition, seconds=20.0, what="it"):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = condition()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(f"{what} did not come about")


def stored_session() -> Path | None:
    found = list((Path(os.environ["XDG_STATE_HOME"]) / "pure-signal" / "work").glob("*/session.json"))
    return found[0] if found else None


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM, signal.SIGHUP], ids=lambda s: s.name)
def test_work_is_still_there_after_the_program_was_ended(how, kit_file, qtbot, start):
    program = start(kit_file)
    until(stored_session, what="the work folder")
    program.send_signal(how)
    code = program.wait(40)
    if how != signal.SIGKILL:
        assert code == 0
    assert [x.name for x in work_folder.leftovers()] == ["Untitled"]
    window = MainWindow(Workbench())
    qtbot.addWidget(window)
    window.show()
    window.files.offer_leftovers()
    assert "Unsaved work" in window.notice.text
    window.notice.act.click()
    assert window.workbench.shown.ref.name == "rehearsal"
    assert window.workbench.shown.take.original == kit_file.read_bytes()
    assert window.workbench.unsaved
    assert [x for x in work_folder.leftovers() if x.folder != window.keeper._folder.folder] == []


def test_killed_while_writing_leaves_the_last_whole_state(tmp_path, demo_window):
    demo_window.workbench.do("x", replace(demo_window.workbench.session, name="Renamed"))
    demo_window.keeper.store()
    folder = demo_window.keeper._folder.folder
    (folder / ".session.json.abc.part").write_text('{"half')
    demo_window.keeper._folder.let_go()
    [left] = work_folder.leftovers()
    assert work_folder.recover(left).session.name == "Renamed"


def test_saved_work_leaves_no_folder_behind(window, kit_file, tmp_path):
    window.open_files([kit_file])
    window.files.save_session_to(tmp_path / "a.puresignal")
    window.close()
    assert work_folder.leftovers() == ()
    assert stored_session() is None


@pytest.fixture
def full_disk(monkeypatch):
    """A switch for a disk that refuses everything."""
    real, state = file_access.write_bytes, {"full": True}

    def write(path, *arguments, **more):
        if state["full"]:
            raise FileAccessError("The disk is full", str(path), "Make room.")
        real(path, *arguments, **more)

    monkeypatch.setattr(file_access, "write_bytes", write)
    yield state
    state["full"] = False


def press(words, qtbot):
    """Press a button of the question that is about to be asked."""

    def now():
        box = QApplication.activeModalWidget()
        if box is None:
            QTimer.singleShot(20, now)
            return
        asked.append(box.text())
        next(one for one in box.buttons() if one.text().replace("&", "").startswith(words)).click()

    asked: list[str] = []
    QTimer.singleShot(20, now)
    return asked


def test_a_full_disk_does_not_stop_the_work_and_closing_asks(window, kit_file, full_disk, qtbot):
    window.open_files([kit_file])
    assert window.workbench.shown.ref.name == "rehearsal"
    asked = press("Stay", qtbot)
    window.close()
    assert "could not be stored" in asked[0]
    assert window.isVisible()
    full_disk["full"] = False
    window.close()
    assert not window.isVisible()
    [left] = work_folder.leftovers()
    assert [take.name for take in work_folder.recover(left).takes] == ["rehearsal"]


def test_what_cannot_be_stored_is_saved_elsewhere_on_closing(window, kit_file, full_disk, qtbot, tmp_path, monkeypatch):
    window.open_files([kit_file])
    target = tmp_path / "elsewhere.puresignal"

    def choose(*_):
        full_disk["full"] = False
        return str(target), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", choose)
    press("Save elsewhere", qtbot)
    window.close()
    assert not window.isVisible()
    assert [take.name for take in session_file.read(target).takes] == ["rehearsal"]


def test_the_only_copy_stays_until_its_successor_is_on_disk(window, kit_file, full_disk, qtbot):
    full_disk["full"] = False
    other = MainWindow(Workbench())
    qtbot.addWidget(other)
    other.open_files([kit_file])
    other.keeper.store()
    other.close()
    [left] = work_folder.leftovers()
    full_disk["full"] = True
    window.files.recover(left)
    assert "disk is full" in window.notice.text
    assert left.folder.exists()
    full_disk["full"] = False
    assert [one.folder for one in work_folder.leftovers()] == [left.folder]


def test_a_second_window_on_the_same_session_is_warned_and_harmless(demo_window, tmp_path, qtbot, start):
    path = tmp_path / "evening.puresignal"
    demo_window.files.save_session_to(path)
    demo_window.workbench.let_go()
    program = start(path)
    until(lambda: list((Path(os.environ["XDG_STATE_HOME"]) / "pure-signal" / "locks").glob("*")), what="the lock")
    window = MainWindow(Workbench())
    qtbot.addWidget(window)
    window.open_files([path])
    assert "open in another window" in window.notice.text
    before = path.read_bytes()
    window.files.save_session_to(path)
    assert path.read_bytes() == before
    program.terminate()
    program.wait(40)
    window.open_files([path])
    assert window.workbench.read_only is None


def test_recent_files_and_the_windows_place_are_remembered(window, kit_file, qtbot):
    window.open_files([kit_file])
    window.resize(1111, 777)
    window.close()
    kept = preferences.read()
    assert kept.recent == (str(kit_file),)
    other = MainWindow(Workbench())
    qtbot.addWidget(other)
    assert other.restoreGeometry(kept.geometry)
    other.files.fill_recent(other.menus.recent)
    other.menus.recent.actions()[0].trigger()
    assert other.workbench.shown.ref.name == "rehearsal"


@pytest.mark.parametrize(
    "content",
    ["", "{", "[]", '{"theme": 4, "recent": [1, "a\\u0000"], "geometry": "%%%"}', '{"keyboard": {"scale": []}}',
     '{"theme": [], "sound": {"rate": [], "block": {}}}', '{"keyboard": {"mode": {}, "drums": {"\u00b2": "kick"}}}'],
)  # fmt: skip
def test_damaged_preferences_fall_back_to_defaults_and_are_kept(content, qtbot):
    preferences.path().parent.mkdir(parents=True, exist_ok=True)
    preferences.path().write_text(content)
    window = MainWindow(Workbench())
    qtbot.addWidget(window)
    assert replace(window.services.preferences.now, keyboard=Keyboard()) == preferences.Preferences()
    aside = list((xdg_folders.state() / "aside").glob("*")) if (xdg_folders.state() / "aside").exists() else []
    if content in ("", "{", "[]"):
        window.show()
        qtbot.waitUntil(lambda: "preferences file" in window.notice.text)
        assert [one.read_text() for one in aside] == [content]
        assert str(aside[0]) in window.notice.text


def test_the_guide_the_keys_and_a_report_need_no_network(demo_window):
    demo_window.show_guide()
    assert demo_window._guide.page == "takes"
    demo_window.show_keys()
    table = demo_window._keys_dialog.table
    keys = {table.item(r, 1).text() for r in range(table.rowCount())}
    assert {"Ctrl+O", "F3", "D, Shift+D"} <= keys
    log_file.start()
    log_file.log.error("a thing for the log")
    demo_window.copy_report()
    assert demo_window.services.background.wait(30)
    text = QGuiApplication.clipboard().text()
    assert "Pure Signal: " in text
    assert "Real-time scheduling" in text
    assert "a thing for the log" in text
    for handler in list(log_file.log.handlers):
        log_file.log.removeHandler(handler)
        handler.close()
    sys.excepthook = sys.__excepthook__


def test_a_bug_is_reported_and_the_work_is_stored(window, kit_file):
    window.open_files([kit_file])
    window.told_bug("KeyError: 'x'")
    assert "Unexpected error" in window.notice.text
    assert stored_session() is not None


def test_install_and_uninstall_for_the_current_user(tmp_path, monkeypatch):
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    written = desktop_entry.install()
    entry = (tmp_path / "data/applications/pure-signal.desktop").read_text()
    assert "MimeType=application/x-pure-signal-session" in entry
    command = next(line for line in entry.splitlines() if line.startswith("Exec=")).split('"')[1]
    assert Path(command).is_file()
    version = subprocess.run([str(tmp_path / ".local/bin/pure-signal"), "--version"], capture_output=True, text=True)
    assert version.stdout.startswith("Pure Signal ")
    assert set(desktop_entry.uninstall()) == set(written)
    assert not any(p.exists() for p in written)
    (tmp_path / ".local/bin/pure-signal").write_text("somebody else's")
    assert desktop_entry.main(["install"]) == 1
    assert (tmp_path / ".local/bin/pure-signal").read_text() == "somebody else's"


def test_install_beside_a_link_that_an_installer_made(tmp_path, monkeypatch):
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    link = tmp_path / ".local/bin/pure-signal"
    link.parent.mkdir(parents=True)
    link.symlink_to(Path(sys.executable).with_name("pure-signal"))
    written = desktop_entry.install()
    assert link not in written
    assert (tmp_path / "data/bash-completion/completions/pure-signal").is_file()
    desktop_entry.uninstall()
    assert link.is_symlink()
    assert not any(p.exists() for p in written)


# On a real X display

RECEIVER = """
import sys
from PySide6.QtWidgets import QApplication, QWidget
class Target(QWidget):
    def dragEnterEvent(self, event): event.acceptProposedAction()
    def dragMoveEvent(self, event): event.acceptProposedAction()
    def dropEvent(self, event):
        path = event.mimeData().urls()[0].toLocalFile()
        print("GOT", path, open(path, "rb").read().hex(), flush=True)
        event.acceptProposedAction()
        app.quit()
app = QApplication([])
target = Target(); target.setAcceptDrops(True); target.setGeometry(1310, 100, 280, 300); target.show()
print("READY", flush=True)
app.exec()
"""

PROGRAM = """
import sys
from PySide6.QtCore import QTimer
from puresignal.ui.shell import app as program
from puresignal.ui.shell.demo_window import demo_window
application = program._application()
window = demo_window()
window.setGeometry(0, 0, 1280, 800)
window.show_view("Outputs")
window.show()
def tell():
    handle = window.outputs.handle
    at = handle.mapToGlobal(handle.rect().center())
    print("HANDLE", at.x(), at.y(), window.workbench.midi_bytes().hex(), flush=True)
QTimer.singleShot(800, tell)
application.exec()
"""


@pytest.fixture
def display(tmp_path):
    """A virtual screen of 1600 by 900."""
    if shutil.which("Xvfb") is None or shutil.which("xdotool") is None:
        pytest.skip("needs Xvfb and xdotool, which ./run test installs where it may")
    for number in range(100 + os.getpid() % 300, 600, 7):
        server = subprocess.Popen(
            ["Xvfb", f":{number}", "-screen", "0", "1600x900x24", "-nolisten", "tcp", "-noreset"],
            stderr=subprocess.DEVNULL,
        )
        probe = {"args": ["xdotool", "getmouselocation"], "env": {**os.environ, "DISPLAY": f":{number}"}}
        end = time.monotonic() + 10
        while server.poll() is None and time.monotonic() < end:
            if not subprocess.run(**probe, capture_output=True, check=False).returncode:
                yield f":{number}"
                server.terminate()
                server.wait(10)
                return
            time.sleep(0.1)
        # The number was taken, or the server did not come up: another one.
        server.kill()
        server.wait(10)
    pytest.fail("no virtual screen would start")


def test_the_clip_is_dragged_onto_another_program(display):
    env = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb"}
    receiver = subprocess.Popen([sys.executable, "-c", RECEIVER], env=env, stdout=subprocess.PIPE, text=True)
    program = subprocess.Popen([sys.executable, "-c", PROGRAM], env=env, stdout=subprocess.PIPE, text=True)
    try:
        assert receiver.stdout.readline().strip() == "READY"
        _, x, y, wanted = program.stdout.readline().split()

        def pointer(*words: object) -> None:
            subprocess.run(["xdotool", *map(str, words)], env=env, check=True)
            time.sleep(0.06)

        pointer("mousemove", x, y)
        pointer("mousedown", 1)
        for step in range(1, 13):
            pointer("mousemove", int(x) + (1450 - int(x)) * step // 12, int(y) + (250 - int(y)) * step // 12)
        time.sleep(0.4)
        pointer("mousemove", 1452, 252)
        pointer("mouseup", 1)
        receiver.wait(15)
        word, *path, content = receiver.stdout.readline().split()
        assert word == "GOT"
        assert " ".join(path).endswith(".mid")
        assert content == wanted
        assert Path(" ".join(path)).exists(), "the clip must stay until the program ends"
    finally:
        for process in (receiver, program):
            process.kill()
            process.communicate()


@pytest.mark.parametrize("scale", ["1.5", "2"])
def test_the_window_is_whole_at_other_scales(display, scale, tmp_path):
    code = (
        "from puresignal.ui.shell import app\nfrom puresignal.ui.shell.demo_window import demo_window\n"
        "a = app._application()\nw = demo_window()\nw.resize(1024, 700)\nw.show()\n"
        "for v in w.views:\n    w.show_view(v)\n    a.processEvents()\n"
        "g = w.grab()\nprint(g.width(), g.height(), g.devicePixelRatio())"
    )
    env = {**os.environ, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "QT_SCALE_FACTOR": scale}
    done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, timeout=60, check=True)
    width, _, ratio = done.stdout.split()
    assert float(ratio) == float(scale)
    assert int(width) == round(1024 * float(scale))


def test_a_session_file_contains_no_local_paths(demo_window, tmp_path):
    import zipfile

    demo_window.files.save_session_to(tmp_path / "a.puresignal")
    with zipfile.ZipFile(tmp_path / "a.puresignal") as archive:
        text = archive.read("session.json").decode()
    assert str(tmp_path) not in text
    assert json.loads(text)["version"] == 2
