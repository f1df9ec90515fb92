"""Hours of dense playing on JACK with journal: memory of router and recorder, and whether anything is lost.

`--minutes N` (60 by default), 3,000 events a second, 256 frames.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.engine.client import RouterProcess
from puresignal.engine.ring import Reader
from puresignal.engine.router_config import RouterConfig
from puresignal.io import note_map_file
from tests.engine.conftest import Peer, Server, until


def megabytes(pid: int) -> float:
    fields = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":" in line)
    return int(fields["VmRSS"].split()[0]) / 1024


def main() -> None:
    minutes = int(sys.argv[sys.argv.index("--minutes") + 1]) if "--minutes" in sys.argv else 60
    os.environ["JACK_DEFAULT_SERVER"] = f"pure-signal-soak-{os.getpid()}"
    server = Server(os.environ["JACK_DEFAULT_SERVER"])
    server.start(256)
    kit, synth = Peer("kit"), Peer("synth")
    folder = Path(tempfile.mkdtemp())
    kit_map, room = note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room")
    router = RouterProcess(RouterConfig(("kit:out",), ("synth:in",), kit_map, room), folder)
    until(lambda: synth.client.get_all_connections(synth.inp))
    reader = Reader(router.ring)
    time.sleep(1)
    random = np.random.default_rng(1)
    notes = [p.note for p in kit_map.pads]
    came = played = left = 0
    assert router._recorder is not None
    for minute in range(minutes + 1):
        size = sum(p.stat().st_size for p in folder.glob("*")) / 1e6
        print(
            f"{minute:3d} min: router {megabytes(router.process.pid):.1f} MB, recorder "
            f"{megabytes(router._recorder.pid):.1f} MB, journal {size:.0f} MB, "
            f"{played} played, {came} arrived, {left} left, {router.restarts} restarts",
            flush=True,
        )
        if minute == minutes:
            break
        for _ in range(60 * 48_000 // 256):
            # 16 events a block: eight hits, each ending a little later.
            block = []
            for note, velocity in zip(random.choice(notes, 8), random.integers(1, 128, 8), strict=True):
                at = int(random.integers(0, 120))
                block += [(at, bytes((0x99, int(note), int(velocity)))), (at + 120, bytes((0x89, int(note), 0)))]
            kit.todo.append(sorted(block))
            played += 16
            if len(kit.todo) > 400:
                until(lambda: len(kit.todo) < 200, 60)
                came += len(reader.read())
                left += len(synth.got)
                synth.got.clear()
                kit.sent.clear()
        until(lambda: not kit.todo, 60)
        time.sleep(0.3)
        came += len(reader.read())
        left += len(synth.got)
        synth.got.clear()
    router.close()
    for peer in (kit, synth):
        peer.close()
    server.stop()


if __name__ == "__main__":
    main()
