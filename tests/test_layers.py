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
