"""The program's log: a rotating file in the state folder, with uncaught exceptions and crashes."""

from __future__ import annotations

import faulthandler
import logging
import logging.handlers
import platform
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Any

from puresignal import __version__
from puresignal.core.errors import PureSignalError
from puresignal.io import file_access, xdg_folders
from puresignal.translation import tr

LARGEST, KEPT, TOLD = 500_000, 3, 60
"""Bytes per log file, number of files kept, and lines quoted in a report."""

log = logging.getLogger("puresignal")
# Commands start no log: without this, Python would print what is logged to the terminal.
log.addHandler(logging.NullHandler())
_crash_file = None


def path() -> Path:
    return xdg_folders.state() / "log" / "pure-signal.log"


def start(on_bug: Callable[[str], None] | None = None) -> None:
    """Start logging; a disk that refuses costs the log, never the program.

    on_bug  called with the last line of an uncaught exception
    """
    global _crash_file
    try:
        file_access.make_private(path().parent)
        handler = logging.handlers.RotatingFileHandler(path(), maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8")
        _crash_file = path().with_name("crash.log").open("a")
        faulthandler.enable(_crash_file)
        for one in path().parent.iterdir():
            one.chmod(0o600)
    except (OSError, PureSignalError):
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    log.addHandler(handler)
    log.setLevel(logging.INFO)
    log.info("Pure Signal %s starts on Python %s", __version__, platform.python_version())

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        log.error("uncaught exception", exc_info=(kind, error, trace))
        sys.__excepthook__(kind, error, trace)
        if on_bug is not None:
            on_bug(f"{kind.__name__}: {error}")

    def caught_in_thread(args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None:
            caught(args.exc_type, args.exc_value, args.exc_traceback)

    def caught_in_callback(args: Any) -> None:
        # What Python itself could not pass on: errors in callbacks and finalisers.
        log.error("%s: %r", args.err_msg or "ignored exception", args.object, exc_info=args.exc_value)

    sys.excepthook = caught
    threading.excepthook = caught_in_thread
    sys.unraisablehook = caught_in_callback


def report(more: dict[str, str]) -> str:
    """A report for somebody who helps: versions, system, the last lines of the log."""
    import numpy

    facts = {
        "Pure Signal": __version__,
        "Python": platform.python_version(),
        "NumPy": numpy.__version__,
        **more,
        "System": platform.platform(),
    }
    lines = [f"{name}: {value}" for name, value in facts.items()]
    try:
        lines += ["", tr("Last lines of the log:"), *path().read_text("utf-8", "replace").splitlines()[-TOLD:]]
    except OSError:
        lines += ["", tr("There is no log.")]
    return "\n".join(lines) + "\n"
