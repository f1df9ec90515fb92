"""The built-in sound: 64 voices in blocks of 128, and some minutes live beside a busy window.

`--minutes N` (10 by default) on the dummy driver at 128 frames.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.core.kit import note_map
from puresignal.core.sound.mixer import Mixer, SampleBank
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess, SoundProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import note_map_file, ports
from tests.engine.conftest import Peer, Server, until

RATE, BLOCK = 48_000, 128
GENERAL = note_map_file.shipped("general-midi")


def alone() -> None:
    bank = SampleBank(RATE)
    began = time.perf_counter()
    bank.prepare([pad.articulation for pad in GENERAL.pads])
    print(f"computing {len(bank.layers)} drums: {time.perf_counter() - began:.2f} s")
    random = np.random.default_rng(1)
    notes = [pad.note for pad in GENERAL.pads]
    for strokes, tones in ((64, 0), (48, 16)):
        mixer = Mixer(bank, GENERAL)
        for i in range(tones):
            mixer._voices.start(0, 36 + 3 * i, 90, 3, 0)
        times, voices = [], []
        for _ in range(20_000):
            messages = []
            while len(mixer._strokes) + len(messages) < strokes:
                messages.append((int(random.integers(BLOCK)), bytes((0x99, int(random.choice(notes)), 90))))
            before = time.perf_counter()
            mixer.render(BLOCK, sorted(messages))
            times.append(time.perf_counter() - before)
            voices.append(mixer.sounding())
        share = np.array(times[500:]) * RATE / BLOCK
        print(
            f"{np.mean(voices[500:]):.0f} voices ({tones} of them notes): {100 * share.mean():.1f} % of a core, "
            f"99.9 % of blocks within {100 * np.percentile(share, 99.9):.0f} % of their length, "
            f"worst {100 * share.max():.0f}"
        )


IDLE_CLIENT = """
import jack, sys
client = jack.Client(sys.argv[1], no_start_server=True)
client.midi_inports.register("in")
client.set_process_callback(lambda frames: None)
client.activate()
print("ready", flush=True)
sys.stdin.read()
"""


def busy_window() -> subprocess.Popen:
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": tempfile.mkdtemp()}
    window = subprocess.Popen(
        [sys.executable, str(Path(__file__).parent / "support" / "busy_window.py"), "--no-analysis"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment,
    )  # fmt: skip
    assert window.stdout is not None
    window.stdout.readline()
    return window


def floor(minutes: float) -> None:
    """Dropouts of the machine itself: three idle clients beside the same window."""
    server = started()
    import jack

    clients = [
        subprocess.Popen([sys.executable, "-c", IDLE_CLIENT, name], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        for name in ("one", "two", "three")
    ]
    for client in clients:
        assert client.stdout is not None
        client.stdout.readline()
    watcher = jack.Client("watcher", no_start_server=True)
    seen: list[float] = []
    watcher.set_xrun_callback(seen.append)
    watcher.activate()
    window = busy_window()
    seen.clear()
    time.sleep(60 * minutes)
    painted = window.communicate()[0].strip()
    print(f"clients that do nothing, beside a window at {painted}: {len(seen) / minutes:.0f} underruns a minute")
    watcher.close()
    for client in clients:
        client.communicate()
    server.stop()


def started() -> Server:
    os.environ["JACK_DEFAULT_SERVER"] = f"pure-signal-bench-{os.getpid()}"
    server = Server(os.environ["JACK_DEFAULT_SERVER"])
    server.start(BLOCK, sync=False)
    return server


def live(minutes: float) -> None:
    server = started()
    kit = Peer("kit")
    router = RouterProcess(RouterConfig(("kit:out",), (ports.SOUND,), GENERAL, GENERAL))
    player = PlayerProcess(router)
    sound = SoundProcess(router, player)
    sound.tell(map=note_map.to_json(GENERAL), output=0, kit="Boathouse", drums={}, level=0.5, muted=[])
    until(lambda: (sound.read() or {}).get("ready"), 20)
    window = busy_window()
    random = np.random.default_rng(2)
    notes = [pad.note for pad in GENERAL.pads]
    end = time.monotonic() + 60 * minutes
    underruns, loads, worst, voices = 0, [], 0.0, []
    first = None
    while time.monotonic() < end:
        for _ in range(40):
            hits = [(int(random.integers(BLOCK)), bytes((0x99, int(random.choice(notes)), 90))) for _ in range(2)]
            kit.todo += [sorted(hits), [], [], []]
        until(lambda: len(kit.todo) < 40, 20)
        state = sound.read()
        if state:
            first = state["underruns"] if first is None else first
            underruns = state["underruns"] - first
            loads.append(state["load"])
            worst = max(worst, state["worst"])
            voices.append(state["voices"])
    painted = window.communicate()[0].strip()
    print(
        f"{minutes:g} minutes live at {BLOCK} frames, {np.mean(voices):.0f} voices, beside a window at {painted}: "
        f"{100 * np.mean(loads):.0f} % of the time there is, worst block {100 * worst:.0f} %, "
        f"{underruns / minutes:.0f} underruns a minute"
    )
    player.close()
    sound.close()
    router.close()
    kit.close()
    server.stop()


def main() -> None:
    alone()
    minutes = float(sys.argv[sys.argv.index("--minutes") + 1]) if "--minutes" in sys.argv else 10
    if minutes:
        floor(min(1.0, minutes))
        live(minutes)


if __name__ == "__main__":
    main()
