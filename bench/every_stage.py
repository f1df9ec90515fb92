"""The whole path with every stage switched on, over 100,000 notes: all of it, stage by stage, and a moved setting."""

from __future__ import annotations

import statistics
import time
from dataclasses import replace

from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, StageCache, run
from puresignal.core.path.scoped import Scoped
from puresignal.core.timing.session_time import Timeline
from puresignal.io import midi_reader, note_map_file

NOTES, RUNS = 100_000, 5


def every_stage() -> CleaningPath:
    """A path in which each stage has something to do."""
    path = CleaningPath()
    for stage in path.stages():
        if stage.stage.switch is not None:
            path = path.switched(stage.stage.key, True)
    return replace(
        path,
        vary=replace(path.vary, amount=Scoped(8.0)),
        probability=replace(path.probability, chance=Scoped(0.95)),
        timing=replace(path.timing, strength=Scoped(0.7), loose_ms=4.0),
        length=replace(path.length, least_ms=Scoped(40.0), legato=Scoped(0.2), gap_ms=Scoped(5.0)),
        chords=replace(path.chords, strum_ms=Scoped(8.0)),
    )


def main() -> None:
    content = kit_file(NOTES)
    take = to_take(midi_reader.parse(content, "bench.mid"), "t", "t", content)
    source, target = (note_map_file.shipped(name) for name in ("practice-five", "boathouse-room"))
    path, whole, moved = every_stage(), [], []
    for _ in range(RUNS):
        cache = StageCache()
        context = cache.context(take, source, target, path, {})
        begun = time.perf_counter()
        run(take, path, context, cache)
        whole.append(time.perf_counter() - begun)
        other = path.with_setting("timing", "strength", Scoped(0.5))
        begun = time.perf_counter()
        run(take, other, cache.context(take, source, target, other, {}), cache)
        moved.append(time.perf_counter() - begun)
    print(f"{NOTES:,} notes, every stage: {statistics.median(whole):.2f} s", end="; ")
    print(f"a moved strength {statistics.median(moved):.3f} s")
    cache = StageCache()
    context = cache.context(take, source, target, path, {})
    paired = cache.paired(take)
    notes, controls, within = paired.notes, paired.controls, context
    for number, stage in enumerate(path.stages()):
        if stage.stage.on_timeline and within is context:
            within = cache.on_timeline(context, Timeline.from_tempo_map(take.tempo))
        begun = time.perf_counter()
        result = cache.apply(number, stage, notes, controls, context, within)
        notes, controls = result.notes, result.controls
        print(f"  {stage.stage.key:12} {1000 * (time.perf_counter() - begun):6.1f} ms")


if __name__ == "__main__":
    main()
