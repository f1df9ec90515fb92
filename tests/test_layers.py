"""What the core loads when it is imported. The order of the layers is guarded by import-linter (`./run lint`)."""

from __future__ import annotations

import subprocess
import sys

import pytest

PROBE = """import importlib, pkgutil, sys, puresignal.core as core
audio = ("puresignal.core.hearing", "puresignal.core.timing")
for m in pkgutil.walk_packages(core.__path__, core.__name__ + "."):
    if m.name.startswith(audio) == (sys.argv[1] == "audio"): importlib.import_module(m.name)
outside = ("PySide6", "rtmidi", "jack", "alsa_midi", "sounddevice", "soundfile", "soxr", sys.argv[2], "puresignal.io",
           "puresignal.sim", "puresignal.engine", "puresignal.ui", "puresignal.demo")
print(*(m for m in outside if m in sys.modules))"""


@pytest.mark.parametrize(("part", "slow"), [("all but audio", "scipy"), ("audio", "scipy.signal")])
def test_core_loads_neither_qt_nor_devices_nor_slow_libraries(part, slow):
    done = subprocess.run([sys.executable, "-c", PROBE, part, slow], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []


@pytest.mark.parametrize("module", ["puresignal.commands.clean", "puresignal.ui.state.take_tempo"])
def test_who_finds_beats_does_not_wait_for_the_ear(module):
    probe = f"import sys, {module}; print('puresignal.io.models' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", probe], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False"
