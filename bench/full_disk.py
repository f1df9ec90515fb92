"""A disk that is full, or refuses, at every single write of a session of ten edits: `full_disk.py`.

Every call of the system that can fail for want of room (write, fsync, rename, link, open, mkdir) fails once, the first
one in the first run, the second in the second, and so on; then from that call on. Afterwards the last good copy has to
be whole, and the player has to have been told.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.io.full_disk import Disk, ten_edits


def main() -> None:
    argparse.ArgumentParser().parse_args()
    for lasting in (False, True):
        number, lost, untold = 0, 0, 0
        while True:
            number += 1
            with tempfile.TemporaryDirectory() as name:
                disk = Disk(number, lasting)
                outcome = ten_edits(Path(name), disk)
            if not disk.refused:
                break
            lost += not outcome.whole
            untold += not outcome.told
        how = "from that call on" if lasting else "once"
        print(f"refused {how}: {number - 1} calls tried, {lost} left no whole copy, {untold} were not told")


if __name__ == "__main__":
    main()
