"""A folder of files of about 2,000 notes, cleaned as the window does it: seconds, and memory at its end and its most.

`--files N` (500 by default). The files are twenty takes of the simulated drummer with a worn kit, many times.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from puresignal.core.export.song_builder import build_song
from puresignal.core.kit import note_map
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, as_played, make_context, run
from puresignal.io import midi_writer, note_map_file
from puresignal.sim import drum_module, drummer

KIT, GENERAL = (note_map_file.shipped(name) for name in ("practice-five", "general-midi"))
BARS, TAKES = 104, 20


def take_bytes(seed: int) -> tuple[bytes, int]:
    """A MIDI file of what a kit sent, and its number of notes."""
    bpm = 80.0 + 5 * seed
    module = drum_module.DrumModule(KIT, drum_module.Faults.usual(), seed)
    take = drum_module.to_take(module.perform(drummer.improvise(BARS, bpm, seed)), f"t{seed}", f"t{seed}", bpm, "kit")
    path = as_played(CleaningPath())
    outcome = run(take, path, make_context(take, KIT, None, path))
    return midi_writer.to_bytes(build_song(outcome, take)), len(outcome.output_notes)


def megabytes(pid: int, field: str) -> float:
    """VmRSS or VmHWM of a process."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1024 for line in lines if line.startswith(field))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--files", type=int, default=500)
    files = parser.parse_args().files
    made = [take_bytes(seed) for seed in range(TAKES)]
    print(f"{files} files of {min(n for _, n in made)} to {max(n for _, n in made)} notes")
    with tempfile.TemporaryDirectory() as here:
        source = Path(here) / "in"
        source.mkdir()
        for i in range(files):
            (source / f"{i:04}.mid").write_bytes(made[i % TAKES][0])
        job = {
            "inputs": [str(source)], "out": str(Path(here) / "out"), "source": None,
            "target": note_map.to_json(GENERAL), "settings": settings_json.to_json(CleaningPath()), "force": False,
            "summary": str(Path(here) / "out" / "summary.html"),
        }  # fmt: skip
        began, told, early = time.perf_counter(), 0, 0.0
        process = subprocess.Popen(
            [sys.executable, "-m", "puresignal.commands.batch_process"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert process.stdin is not None
        assert process.stdout is not None
        process.stdin.write(json.dumps(job) + "\n")
        process.stdin.flush()
        for line in process.stdout:
            said = json.loads(line)
            assert "error" not in said, said
            told += "file" in said
            if told == files // 10:
                early = megabytes(process.pid, "VmRSS")
            if said.get("ended"):
                late, most = megabytes(process.pid, "VmRSS"), megabytes(process.pid, "VmHWM")
                break
        seconds = time.perf_counter() - began
        process.stdin.close()
        print(
            f"{told} cleaned in {seconds:.1f} s; {early:.0f} MB after a tenth, {late:.0f} at the end, most {most:.0f}"
        )


if __name__ == "__main__":
    main()
