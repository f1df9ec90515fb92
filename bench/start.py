"""Time from `pure-signal demo` to a responsive window: a new process each time, offscreen."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time

PROBE = """
import sys, time
from PySide6.QtCore import QTimer
from puresignal import cli
from puresignal.ui.shell import app
show = app._show
def shown(application, window):
    window.show()
    application.processEvents()
    window.grab()
    print(time.time())
    return 0
app._show = shown
cli.main(["demo"])
"""


def main() -> None:
    times = []
    for _ in range(7):
        began = time.time()
        done = subprocess.run(
            [sys.executable, "-c", PROBE], capture_output=True, text=True, check=True,
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        )  # fmt: skip
        times.append(float(done.stdout.split()[-1]) - began)
    print(
        f"window usable after {statistics.median(times[1:]):.2f} s "
        f"(median of {len(times) - 1}; worst {max(times[1:]):.2f})"
    )


if __name__ == "__main__":
    main()
