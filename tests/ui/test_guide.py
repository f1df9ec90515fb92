"""The user guide is true: its labels, keys and commands are the program's; and it is found, read and searched."""

from __future__ import annotations

import ast
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QKeySequence

from puresignal import cli
from puresignal.io import audio_file, guide
from puresignal.ui.shell.help_dialogs import _ELSEWHERE
from tests.ui.test_keys import ready  # noqa: F401 - fixture

PAGES = [name for _, names in guide.GROUPS for name in names if name != "formats"]
SOURCE = Path(guide.__file__).parent.parent


def texts():
    """Every text of the program, in small letters and without what stands for an accelerator or for more."""
    found = set()
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("tr", "mark", "count_tr"):
                found |= {
                    one.value for one in node.args if isinstance(one, ast.Constant) and isinstance(one.value, str)
                }
    return {text.replace("&", "").rstrip("….").lower() for text in found}


def labels(text):
    """What stands between single asterisks: names of controls; those of a menu and its entry are two."""
    text = re.sub(r"`[^`]*`", "", text)
    for match in re.finditer(r"(?<!\*)\*([^*\n][^*]*?)\*(?!\*)", text):
        label = " ".join(match[1].split())
        yield from [label] if label.rstrip("….").lower() in LABELS else re.split(r", | > ", label)


LABELS = texts()


@pytest.mark.parametrize("name", PAGES)
def test_every_label_key_option_link_and_picture_of_a_page_is_there(name, ready):  # noqa: F811
    text = guide.pages()[name].text.partition("| setting |")[0]
    wrong = [label for label in labels(text) if label.rstrip("….").lower() not in LABELS]
    assert wrong == []
    actions = ready.shortcuts.actions
    keys = {action.shortcut().toString() for action in actions.values()}
    elsewhere = " ".join(f"{where} {keys}" for _, where, keys in _ELSEWHERE)
    for label, given in re.findall(r"\*([^*]+)\* \(((?:Ctrl|Shift|Alt|F\d)[^)]*)\)", text):
        if label in actions:
            assert given == actions[label].shortcut().toString(), label
    for given in re.findall(r"\b((?:Ctrl\+|Shift\+|Alt\+)+(?:[A-Z]\b|F\d+|[0-9],|\.))", text):
        plain = QKeySequence(given).toString()
        assert plain in keys or given in elsewhere or given.startswith(("Ctrl+A", "Ctrl+C", "Ctrl+V", "Ctrl+D")), given
    _, by_name = cli.command_parser()
    for command, rest in re.findall(r"pure-signal ([a-z]+)([^`\n]*)", text):
        known = {option for action in by_name[command]._actions for option in action.option_strings}
        assert set(re.findall(r"--[a-z-]+", rest)) <= known, (command, rest)
    for target in re.findall(r"\]\(([^)]+)\)", text):
        if target.endswith(".png"):
            assert guide.picture(target.rpartition("/")[2])
        else:
            assert target.removesuffix(".md") in guide.pages(), target


def test_the_commands_of_the_guide_run_as_they_stand(tmp_path, kit_file, monkeypatch):
    from tests.ui.test_recordings import melody_file

    monkeypatch.chdir(tmp_path)
    shutil.copy(kit_file, tmp_path / "take.mid")
    (tmp_path / "old-takes").mkdir()
    shutil.copy(kit_file, tmp_path / "old-takes" / "one.mid")
    audio_file.write_wav(tmp_path / "hummed.wav", np.zeros((10, 1), np.float32), 48_000)
    melody_file(tmp_path).replace(tmp_path / "hummed.wav")
    ran = 0
    for name in PAGES:
        for block in re.findall(r"```sh\n(.*?)```", guide.pages()[name].text, re.DOTALL):
            for line in block.strip().splitlines():
                program, *given = shlex.split(line)
                assert program == "pure-signal"
                done = subprocess.run(
                    [sys.executable, "-m", "puresignal.cli", *given], capture_output=True, text=True, check=False
                )  # fmt: skip
                assert done.returncode == 0, (line, done.stderr)
                ran += 1
    assert ran >= 8
    assert (tmp_path / "cleaned.html").stat().st_size > 1000


def test_f1_opens_the_page_of_the_view_and_links_lead_on_and_back(ready, qtbot):  # noqa: F811
    ready.show_view("Velocity")
    qtbot.keyClick(ready, Qt.Key.Key_F1)
    dialog = ready._guide
    qtbot.waitUntil(dialog.isVisible)
    assert dialog.page == "velocity"
    dialog.show_page("first-minute")
    assert "From plugging in" in dialog.text.toPlainText()
    # The picture is drawn, at the width of the page.
    image = dialog.text.loadResource(2, QUrl("pictures/takes.png"))
    assert image.width() == 640
    dialog._follow(QUrl("drummer.md"))
    assert dialog.page == "drummer"
    qtbot.mouseClick(dialog.back, Qt.MouseButton.LeftButton)
    assert dialog.page == "first-minute"
    dialog._follow(QUrl("formats.md"))
    assert "Standard MIDI Files" in dialog.text.toPlainText()
    ready.show_view("Takes")
    ready.show_guide()
    assert dialog.page == "takes"


def test_the_guide_is_searched_as_one_types(ready, qtbot):  # noqa: F811
    ready.show_guide()
    dialog = ready._guide
    qtbot.keyClicks(dialog.search, "doubles.window_ms")
    assert dialog.chapters.count() >= 1
    qtbot.keyClick(dialog.search, Qt.Key.Key_Return)
    assert "doubles.window_ms" in dialog.text.toPlainText()
    dialog.search.clear()
    qtbot.keyClicks(dialog.search, "ghost notes")
    rows = [dialog.chapters.item(i).text().lower() for i in range(dialog.chapters.count())]
    assert rows
    assert all("ghost" in row or "note" in row for row in rows)
    dialog.search.clear()
    qtbot.keyClicks(dialog.search, "zzzz")
    assert "Nothing in the guide" in dialog.chapters.item(0).text()
    dialog.search.clear()
    titles = [dialog.chapters.item(i).text().strip() for i in range(dialog.chapters.count())]
    assert {"For drummers", "For singers and mouth drummers", "For old files", "Mapping"} <= set(titles)
