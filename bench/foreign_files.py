"""Files by other writers' habits (tests/io/foreign_files.py), cleaned and compared: `foreign_files.py --minutes N`.

What ran before is added up (build/bench/foreign_files.json); `--fresh` starts again.
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench.support.tally import Tally
from puresignal.io import midi_reader
from tests.io.foreign_files import make
from tests.io.test_foreign_files import cleaned, contents


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--fresh", action="store_true")
    options = parser.parse_args()
    end = time.monotonic() + 60 * options.minutes
    tally = Tally("foreign_files", options.fresh)
    with tempfile.TemporaryDirectory() as folder:
        while time.monotonic() < end:
            seed = random.randrange(1 << 40)
            content, expected = make(seed)
            written, _ = cleaned(content, Path(folder))
            (Path(folder) / "out.mid").unlink()
            notes, others = contents(midi_reader.parse(written, "out.mid"))
            same = notes == {key: counted for key, counted in expected.notes.items() if counted}
            same = same and others == {key: rows for key, rows in expected.others.items() if rows}
            tally.add("files")
            tally.add("notes", sum(sum(counted.values()) for counted in expected.notes.values()))
            tally.add("controllers, programs, bends", sum(map(len, expected.others.values())))
            tally.add("files that differ", not same)
            if not same:
                print(f"differs: seed {seed}", flush=True)
    tally.store()
    tally.print()


if __name__ == "__main__":
    main()
