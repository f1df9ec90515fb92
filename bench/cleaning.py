"""Cleaning: the path alone, reading alone, and the whole command; 10,000, 100,000 and 1,000,000 notes."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from support.big_takes import kit_file

from puresignal.core.export.song_builder import build_song
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, make_context, run
from puresignal.io import midi_reader, midi_writer, note_map_file

MAPS = ("practice-five", "boathouse-room")


def timed(act: object, runs: int) -> float:
    """Median seconds of several runs."""
    times = []
    for _ in range(runs):
        began = time.perf_counter()
        act()  # type: ignore[operator]
        times.append(time.perf_counter() - began)
    return statistics.median(times)


def main() -> None:
    source, target = (note_map_file.shipped(name) for name in MAPS)
    print(f"{'notes':>9} {'read':>8} {'path':>8} {'write':>8} {'command':>8}   medians in seconds")
    for notes in (10_000, 100_000, 1_000_000):
        content = kit_file(notes)
        runs = 5 if notes < 1_000_000 else 3
        song = midi_reader.parse(content, "bench.mid")
        take = to_take(song, "t", "t", content)
        path = CleaningPath()
        outcome = run(take, path, make_context(take, source, target, path))
        read = timed(lambda c=content: midi_reader.parse(c, "bench.mid"), runs)
        walk = timed(lambda t=take, p=path: run(t, p, make_context(t, source, target, p)), runs)
        write = timed(lambda o=outcome, t=take: midi_writer.to_bytes(build_song(o, t)), runs)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "in.mid"
            file.write_bytes(content)
            command = [
                sys.executable, "-m", "puresignal.cli", "clean", str(file), "--out", f"{folder}/out.mid",
                "--source-map", MAPS[0], "--target-map", MAPS[1], "--force",
            ]  # fmt: skip
            whole = timed(lambda c=command: subprocess.run(c, check=True, capture_output=True), runs)
        print(f"{len(outcome.input_notes):>9} {read:8.3f} {walk:8.3f} {write:8.3f} {whole:8.3f}", flush=True)


if __name__ == "__main__":
    main()
