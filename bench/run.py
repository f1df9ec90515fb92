"""Run the named benchmarks, or all of them."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).parent


def main() -> int:
    known = sorted(p.stem for p in HERE.glob("*.py") if p.stem != "run")
    for name in sys.argv[1:] or known:
        if name not in known:
            print(f"There is no benchmark {name}. Known are: {', '.join(known)}", file=sys.stderr)
            return 2
        print(f"== {name}", flush=True)
        subprocess.run([sys.executable, str(HERE / f"{name}.py")], check=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
