"""Every shown text passes the one translate function."""

from __future__ import annotations

import gettext
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtWidgets import QCheckBox, QPushButton

from puresignal import translation
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
