"""Ends what a killed program left sounding: `python -m puresignal.engine.release_left FILE...`."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from puresignal.engine import sounding_file
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig

WITHIN = 15.0
"""Seconds that the receivers have to be there. The file stays if they are not, for the next start."""
FREE_WITHIN = 5.0
"""Seconds that a router whose program was killed has to end by itself."""
CLIENT = "Pure Signal release"


def release(path: Path) -> bool:
    """End what a table says is sounding. Returns whether all of it was ended."""
    table = sounding_file.take(path)
    free_by = time.monotonic() + FREE_WITHIN
    while table is None and path.exists() and time.monotonic() < free_by:
        time.sleep(0.05)
        table = sounding_file.take(path)
    if table is None:
        return True
    if sounding_file.is_silent(table):
        sounding_file.close(table, path)
        return True
    outputs = sounding_file.read_outputs(table)
    router = RouterProcess(RouterConfig((), outputs, client=CLIENT), table=(table, path))
    end = time.monotonic() + WITHIN
    try:
        while time.monotonic() < end:
            router.read(0.1)
            if sounding_file.is_silent(table):
                return True
        return False
    finally:
        router.close()


def main() -> int:
    ended = [release(Path(name)) for name in sys.argv[1:]]
    return 0 if all(ended) else 1


if __name__ == "__main__":
    sys.exit(main())
