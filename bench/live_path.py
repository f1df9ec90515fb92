"""The live path: microseconds per event, over a million events."""

from __future__ import annotations

import gc
import time

import numpy as np
from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, make_context, messages
from puresignal.io import midi_reader, note_map_file


def main() -> None:
    take = to_take(midi_reader.parse(kit_file(100_000), "bench.mid"), "t", "t")
    path = CleaningPath()
    context = make_context(take, note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room"), path)
    rows = list(messages(take.events))
    run_live = LivePath(path, context)
    gc.freeze()
    gc.disable()
    costs = []
    for _ in range(4):
        for row in rows:
            began = time.perf_counter_ns()
            run_live.message(*row)
            costs.append(time.perf_counter_ns() - began)
        run_live.finish(take.length)
    us = np.array(costs) / 1000
    print(
        f"{len(us)} events: median {np.median(us):.1f} us, 99.9 % {np.percentile(us, 99.9):.1f} us, "
        f"state {run_live.held()}"
    )


if __name__ == "__main__":
    main()
