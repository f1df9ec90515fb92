"""Twenty takes with 100,000 notes together as one result: everything anew, then a late and an early setting moved."""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, StageCache
from puresignal.core.path.several_takes import Placed, run_together
from puresignal.core.timing.session_time import TempoPoint, Timeline
from puresignal.io import midi_reader, note_map_file

TAKES, EACH = 20, 5_000


def main() -> None:
    kit, room = note_map_file.shipped("practice-five"), note_map_file.shipped("boathouse-room")
    timeline = Timeline((TempoPoint(0, 92, True), TempoPoint(400, 120)))
    content = kit_file(EACH)
    takes = [to_take(midi_reader.parse(content, "big"), f"t{i}", f"t{i}") for i in range(TAKES)]
    placed = [Placed(take, kit, room, beat=4.0 * i, cache=StageCache()) for i, take in enumerate(takes)]
    path = CleaningPath()

    def timed(what: str, settings: CleaningPath, times: int = 5) -> None:
        seconds = []
        for _ in range(times):
            begun = time.perf_counter()
            whole = run_together(placed, settings, timeline)
            seconds.append(time.perf_counter() - begun)
        seconds.sort()
        median = seconds[len(seconds) // 2]
        print(f"{what}: median {1000 * median:.0f} ms; {len(whole.outcome.output_notes)} notes out", flush=True)

    timed("everything anew", path, 1)
    timed("nothing changed", path)
    for round_ in range(3):
        timed("a velocity setting", replace(path, velocity=replace(path.velocity, seed=2 + round_)), 1)
    timed("an early setting", replace(path, doubles=replace(path.doubles, on=False)), 1)


if __name__ == "__main__":
    main()
