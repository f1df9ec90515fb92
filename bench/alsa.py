"""ALSA's sequencer for real, on an emulated machine: the contract of the ports, and the delay beside a pass-through.

The machine counts an instruction as a nanosecond, which makes it some twenty times slower than this one, so a delay
means something only beside the pass-through's. Its medians are the same in each run; single messages still wait for us.
--contract runs the contract alone, --figures the figures alone.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent
SECONDS = 900


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--contract", action="store_true", help="only the contract")
    parser.add_argument("--figures", action="store_true", help="only the figures")
    parser.add_argument("--messages", type=int, default=10_000)
    parser.add_argument("--rate", type=float, default=500)
    options = parser.parse_args()
    lines = ["export SLOW_MACHINE=60", f"export PYTHONPATH={ROOT / 'src'}:{ROOT}", f"cd {ROOT}"]
    # In the working copy's folder pytest could keep nothing; tests write into a folder of memory.
    contract = "-m pytest -q -p no:cacheprovider -p no:xdist tests/engine/test_port_contract.py -k ALSA"
    lines.append(f"{sys.executable} {contract}")
    if options.figures:
        del lines[-1]
    if not options.contract:
        figures = HERE / "support" / "alsa_figures.py"
        for mode in ("plain", "route", "plain", "route"):
            lines.append(f"{sys.executable} {figures} {mode} {options.messages} {options.rate}")
    begun = time.monotonic()
    folder = ROOT / "build" / "emulated-machine"
    with tempfile.NamedTemporaryFile("w", suffix=".sh") as script:
        script.write("\n".join(lines) + "\n")
        script.flush()
        command = ["bash", str(HERE / "support" / "emulated_machine.sh"), str(folder), script.name, str(SECONDS)]
        code = subprocess.run(command).returncode
    print(f"{time.monotonic() - begun:.0f} s in all")
    return code


if __name__ == "__main__":
    sys.exit(main())
