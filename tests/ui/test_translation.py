"""Every shown text passes the one translate function."""

from __future__ import annotations

import gettext
import re
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtWidgets import QAbstractButton, QCheckBox, QLabel, QPushButton

from puresignal import translation
from puresignal.demo import demo_session as demo
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import text_format

CHECK = Path(__file__).parent.parent.parent / "tools" / "check_texts.py"


class Backwards(gettext.NullTranslations):
    """A catalogue that puts every text in angle brackets."""

    def gettext(self, message: str) -> str:
        return f"‹{message}›"

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str:
        return f"‹{msgid1 if n == 1 else msgid2}›"


@pytest.fixture
def translated():
    translation.use(Backwards())
    yield
    translation.use(gettext.NullTranslations())


def test_values_are_filled_in_after_translating(translated):
    assert translation.tr("input {n}", n=3) == "‹input 3›"
    assert translation.count_tr("{n} hit", "{n} hits", 1) == "‹1 hit›"
    assert text_format.counted(1248, "note") == "‹1\N{NARROW NO-BREAK SPACE}248 notes›"


def test_every_button_of_the_window_is_translated(translated, demo_window, qtbot):
    from puresignal.ui.state.workbench import Workbench

    window = type(demo_window)(Workbench())
    qtbot.addWidget(window)
    for view in window.views:
        window.show_view(view)
    assert all((window.inputs.microphone, window.inputs.touch)), "made when asked for"
    texts = {w.text().replace("&", "") for kind in (QPushButton, QCheckBox) for w in window.findChildren(kind)}
    plain = {text for text in texts if any(c.isalpha() for c in text) and not text.startswith("‹")}
    # What a device, a map or a setting is called is data.
    assert plain <= {"0\N{NARROW NO-BREAK SPACE}", "A", "B", "A|B", "A / B"}, plain
    tips = [w.toolTip() for w in window.findChildren(QPushButton) if w.toolTip()]
    assert tips
    assert all("‹" in tip for tip in tips)


def test_the_lint_finds_a_text_that_passes_by(tmp_path):
    found = tmp_path / "view.py"
    found.write_text(
        'label = QLabel("Loop")\nfine = QLabel(tr("Loop"))\n'
        'error = BadFileError(f"{n} notes are missing", where, tr("Go."))\n'
        'raise ValueError("no such column here")\nkey = "take one"  # not shown\n'
    )
    done = subprocess.run([sys.executable, str(CHECK), str(found)], capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert done.stdout.splitlines() == [f"{found}:1: Loop", f"{found}:3: {{}} notes are missing"]


def po_messages():
    from babel.messages.pofile import read_po

    with (Path(__file__).parents[2] / "translations" / "de.po").open("rb") as file:
        return [message for message in read_po(file, locale="de") if message.id]


def test_the_german_texts_are_complete_compiled_and_hold_the_same_values():
    check = Path(__file__).parents[2] / "tools" / "texts.py"
    done = subprocess.run([sys.executable, check, "--check"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    for message in po_messages():
        given = message.id if isinstance(message.id, tuple) else (message.id,)
        made = message.string if isinstance(message.string, tuple) else (message.string,)
        assert len(made) == len(given)
        for one, other in zip(given, made, strict=True):
            values = [sorted(re.findall(r"\{[^{}]*\}", text)) for text in (one, other)]
            assert values[0] == values[1], message.id
            assert one.endswith((" ", "\n")) == other.endswith((" ", "\n")), message.id


@pytest.fixture
def german(monkeypatch, qapp):
    monkeypatch.setenv("LANGUAGE", "de")
    assert translation.begin() == "de"
    yield
    monkeypatch.delenv(translation.HANDED_ON)
    translation.use(gettext.NullTranslations())


def clipped(window):
    """(label, pixels it has, pixels it needs) of visible buttons and labels that do not fit."""
    rows = []
    for one in [*window.findChildren(QAbstractButton), *window.findChildren(QLabel)]:
        text = one.text()
        if not text or not one.isVisibleTo(window):
            continue
        need = one.sizeHint().width()
        if isinstance(one, QLabel):
            if one.wordWrap():
                continue
            need = max(one.fontMetrics().horizontalAdvance(line) for line in text.split("\n"))
        if need > one.width() + 3 or one.mapTo(window, one.rect().topRight()).x() > window.width():
            rows.append((text, one.width(), need))
    return rows


@pytest.mark.parametrize("view", ["Inputs", "Mapping", "Velocity", "Takes", "Outputs"])
def test_the_window_in_german_fits_a_small_screen(german, qtbot, view):
    bench = Workbench()
    bench.show_session(*demo.build())
    window = MainWindow(bench)
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    window.show_view(view)
    qtbot.wait(200)
    assert [action.text() for action in window.menuBar().actions()][:2] == ["&Datei", "&Bearbeiten"]
    # Names of drums and of takes are not texts of the program; nothing of it is cut off.
    assert clipped(window) == []


def test_plurals_and_the_language_that_is_asked_for(german, monkeypatch):
    assert translation.count_tr("{n} hit", "{n} hits", 1) == "1 Schlag"
    assert translation.count_tr("{n} hit", "{n} hits", 2) == "2 Schläge"
    monkeypatch.setenv("LANGUAGE", "fr:de")
    assert translation.begin() == "de"
    monkeypatch.setenv("LANGUAGE", "en_GB:de")
    assert translation.begin() == "en"
    monkeypatch.delenv("LANGUAGE")
    for name in ("LC_ALL", "LC_MESSAGES"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("LANG", "de_AT.UTF-8")
    assert translation.begin() == "de"
    assert translation.begin("en") == "en"


def test_the_command_line_speaks_the_preferred_language_and_so_do_its_processes(tmp_path, monkeypatch):
    from dataclasses import replace

    from puresignal.io import preferences

    preferences.write(replace(preferences.read(), language="de"))
    command = [
        sys.executable,
        "-m",
        "puresignal.cli",
        "clean",
        str(tmp_path / "no.mid"),
        "--out",
        str(tmp_path / "o.mid"),
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert "Diese Datei oder diesen Ordner gibt es nicht" in done.stderr
    monkeypatch.setenv(translation.HANDED_ON, "de")
    child = [sys.executable, "-c", "from puresignal.translation import tr; print(tr('Cancel'))"]
    assert subprocess.run(child, capture_output=True, text=True, check=True).stdout == "Abbrechen\n"
