"""Mutated files of every kind the program reads: MIDI, sessions, maps, settings, journals, preferences, audio.

`mutations.py [KIND ...] [--minutes N] [--fresh]`: each kind gets its share of the minutes (2 by default); what ran
before is added up (build/bench/mutations.json). A file may be read or refused with an error of our own; anything else,
more than 2 seconds, or more memory above the idle process than the limit counts as a failure.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench.support.tally import Tally
from puresignal.core.errors import PureSignalError
from puresignal.io import file_access, xdg_folders
from tests.io.mutations import KINDS, Kinds

SECONDS = 2.0
MEGABYTES = {"sessions": 300.0}
USUAL_MEGABYTES = 500.0


def peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000


def run(kind: str, seconds: float, tally: Tally, folder: Path, most: int = 1 << 60) -> None:
    kinds, draw = Kinds(folder), random.Random()
    seed_of_run = draw.randrange(1 << 40)
    draw.seed(seed_of_run)
    idle, end, count = peak(), time.monotonic() + seconds, 0
    while time.monotonic() < end and count < most:
        read = kinds.one(kind, draw)
        count += 1
        began = time.process_time()
        try:
            read()
            tally.add(f"{kind}: read")
        except PureSignalError:
            tally.add(f"{kind}: refused")
        except Exception as error:
            tally.add(f"{kind}: FAILED")
            print(f"{kind}, run {seed_of_run}, file {count}: {type(error).__name__}: {error}"[:300], flush=True)
        took = time.process_time() - began
        tally.most(f"{kind}: longest, s", round(took, 3))
        if took > SECONDS:
            print(f"{kind}, run {seed_of_run}, file {count}: {took:.1f} s", flush=True)
    tally.most(f"{kind}: memory above idle, MB", round(peak() - idle))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("kinds", nargs="*", default=KINDS)
    parser.add_argument("--minutes", type=float, default=2.0)
    parser.add_argument("--fresh", action="store_true")
    options = parser.parse_args()
    for kind in options.kinds:
        # Each kind in a process of its own, so that its memory is its own.
        child = os.fork()
        if not child:
            tally = Tally(f"mutations-{kind}", options.fresh)
            with tempfile.TemporaryDirectory() as name:
                for variable in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
                    os.environ[variable] = name
                assert str(xdg_folders.config()).startswith(name)
                file_access.make_private(xdg_folders.config())
                run(kind, 60 * options.minutes / len(options.kinds), tally, Path(name))
            tally.store()
            tally.print()
            sys.stdout.flush()
            os._exit(0)
        os.waitpid(child, 0)


if __name__ == "__main__":
    main()
