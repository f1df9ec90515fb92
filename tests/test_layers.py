"""Each layer imports only what stands above it."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import puresignal

ROOT = Path(puresignal.__file__).parent
PROBE = """import importlib, pkgutil, sys, puresignal.core as core
for m in pkgutil.walk_packages(core.__path__, core.__name__ + "."):
    if m.name.startswith("puresignal.core.hearing") == (sys.argv[1] == "hearing"): importlib.import_module(m.name)
outside = ("PySide6", "rtmidi", "jack", "sounddevice", "soundfile", sys.argv[2], "puresignal.io", "puresignal.sim",
           "puresignal.ui", "puresignal.demo")
print(*(m for m in outside if m in sys.modules))"""
ORDER = ("core", "io", "sim", "engine", "ui", "demo")


@pytest.mark.parametrize(("part", "slow"), [("all but hearing", "scipy"), ("hearing", "scipy.signal")])
def test_core_loads_neither_qt_nor_devices_nor_slow_libraries(part, slow):
    done = subprocess.run([sys.executable, "-c", PROBE, part, slow], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []


def imports_of(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [f"{node.module}.{a.name}" for a in node.names]
        found.update(name for name in names if name.startswith("puresignal."))
    return found


def test_every_layer_imports_only_those_above_it():
    wrong = []
    for number, layer in enumerate(ORDER):
        below = tuple(f"puresignal.{name}." for name in ORDER[number + 1 :])
        if layer == "ui":
            below = ()  # the window opens the demo
        for path in (ROOT / layer).rglob("*.py"):
            wrong += [f"{path.name} imports {name}" for name in imports_of(path) if f"{name}.".startswith(below or "-")]
    assert wrong == []


def test_the_simulated_drummer_shares_nothing_with_the_path_that_cleans():
    for path in (ROOT / "sim").rglob("*.py"):
        assert not [
            name for name in imports_of(path) if name.startswith(("puresignal.core.path", "puresignal.core.path.tally"))
        ]


def test_only_the_window_uses_qt():
    users = {path.relative_to(ROOT).parts[0] for path in ROOT.rglob("*.py") if "PySide6" in path.read_text()}
    assert users == {"ui"}
