"""Run the named benchmarks, or all of them: `run.py [NAME...]`, or one with its own options: `run.py NAME --minutes 2`.

The processors are kept awake meanwhile (tools/keep_awake.py says why).
"""

from __future__ import annotations

import subprocess
import sys
from itertools import takewhile
from pathlib import Path

HERE = Path(__file__).parent
KEEP_AWAKE = HERE.parent / "tools" / "keep_awake.py"


def main() -> int:
    known = sorted(p.stem for p in HERE.glob("*.py") if p.stem != "run")
    names = list(takewhile(lambda word: not word.startswith("-"), sys.argv[1:]))
    options = sys.argv[1 + len(names) :]
    if options and len(names) != 1:
        print("Options belong to one benchmark: name just that one before them", file=sys.stderr)
        return 2
    for name in names or known:
        if name not in known:
            print(f"There is no benchmark {name}. Known are: {', '.join(known)}", file=sys.stderr)
            return 2
        print(f"== {name}", flush=True)
        command = [sys.executable, str(KEEP_AWAKE), sys.executable, str(HERE / f"{name}.py"), *options]
        subprocess.run(command, check=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
