"""What packages are made of: the part of the lock that the program needs, and the icons."""

from __future__ import annotations

import importlib.metadata
import os
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
sys.path.insert(0, str(ROOT / "tools"))
import runtime_lock  # noqa: E402


def needed(name: str) -> set[str]:
    """A package and all that it needs on this machine, by what was installed."""
    from packaging.requirements import Requirement

    found, left = set(), [name]
    while left:
        one = runtime_lock.plain(left.pop())
        if one in found:
            continue
        found.add(one)
        for text in importlib.metadata.requires(one) or ():
            asked = Requirement(text)
            if asked.marker is None or asked.marker.evaluate({"extra": ""}):
                left.append(asked.name)
    return found


def test_the_runtime_lock_is_what_the_program_needs_and_nothing_else():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    rows = runtime_lock.runtime((ROOT / "requirements.lock").read_text("utf-8"), project)
    names = {runtime_lock.plain(re.match(r"[A-Za-z0-9._-]+", row)[0]) for row in rows}
    assert names == set().union(*(needed(re.match(r"[A-Za-z0-9._-]+", text)[0]) for text in project["dependencies"]))
    assert all("--hash=sha256:" in row for row in rows)
    assert not names & {"pytest", "mypy", "ruff", "babel"}


def test_the_toolkit_is_a_range_without_the_version_that_crashes():
    from packaging.requirements import Requirement

    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    [asked] = [Requirement(text) for text in project["dependencies"] if text.startswith("PySide6")]
    assert asked.specifier.contains("6.11.3")
    assert asked.specifier.contains("6.9.0")
    assert not asked.specifier.contains("6.12.0")


def test_icons_are_those_that_the_drawing_gives(qapp):
    import write_icons

    for size in write_icons.SIZES:
        from PySide6.QtGui import QImage

        kept = QImage(str(write_icons.ICONS / f"pure-signal-{size}.png"))
        assert (kept.width(), kept.height()) == (size, size)
        assert kept.convertToFormat(QImage.Format.Format_ARGB32) == write_icons.draw(size)


@pytest.mark.parametrize(
    ("tool", "given"),
    [
        ("appstreamcli", ["validate", "--no-net", "src/puresignal/ui/assets/desktop/pure-signal.metainfo.xml"]),
        ("desktop-file-validate", ["src/puresignal/ui/assets/desktop/pure-signal.desktop"]),
    ],
)
def test_descriptions_are_valid_where_their_tools_are(tool, given):
    if shutil.which(tool) is None:
        if os.environ.get("CI"):
            pytest.fail(f"{tool} is missing; ./run test installs it")
        pytest.skip(f"needs {tool}, which ./run test installs where it may")
    done = subprocess.run([tool, *given], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
