"""A command as a process: one job as a line of JSON on stdin, answers as lines of JSON, ended when stdin does."""

from __future__ import annotations

import json
import sys
import threading
from collections.abc import Callable
from typing import Any

from puresignal.core.errors import PureSignalError, StoppedError
from puresignal.io.log_file import log


def do_job(work: Callable[[dict[str, Any], threading.Event], None], doing: str) -> int:
    """Do the job, and answer {"ended": true} or {"error": [what, where, remedy]} at the end.

    work   does it; its event is cleared when nobody wants the result any more
    doing  for the log: "while ..."
    """
    asked = json.loads(sys.stdin.readline() or "{}")
    wanted = threading.Event()
    wanted.set()

    def watch() -> None:
        sys.stdin.read()
        wanted.clear()

    threading.Thread(target=watch, daemon=True).start()
    try:
        work(asked, wanted)
        say({"ended": True})
    except (StoppedError, BrokenPipeError):
        # Nobody is listening any more.
        return 0
    except PureSignalError as error:
        say({"error": list(error.args[:3])})
        return 1
    except Exception as error:
        log.exception("while %s", doing)
        say({"error": [f"{type(error).__name__}: {error}", "", ""]})
        return 1
    return 0


def say(what: dict[str, Any]) -> None:
    """Answer a line."""
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()
