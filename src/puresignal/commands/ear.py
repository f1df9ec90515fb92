"""The ear as a process: `python -m puresignal.commands.ear`, with one job as a line of JSON on stdin.

The job: {"path": file, "kind": "melody", "drums", "hits", "chords" or "?", "examples": folder or null, "low", "high",
"pan": numbers or null}. It answers with lines of JSON: {"progress": 0..1} as it goes; {"beginning": as at the end} for
the first seconds of a long recording, which may still change; and at the end {"rows": [[start, end, channel, note,
velocity, confidence, reason, place from -1 left to 1 right], ...], "keys": [[name, likelihood, moves], ...], "names":
[[begin, end, chord], ...], "outline": {"level", "pitch"} or null, "warnings": [...]} or {"error": [what, where,
remedy]}. Every note is among the rows, also what the ear would leave out: its reason is an index into REMOVAL_REASONS.
It ends when stdin does. Asked for the kind "?", it answers {"kinds": [[kind, probability], ...]}, likeliest first.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.commands import transcribe
from puresignal.core.errors import PureSignalError
from puresignal.core.hearing import kind_of_recording
from puresignal.core.hearing.polyphony import note_decisions
from puresignal.core.hearing.transcribed import REMOVAL_REASONS
from puresignal.io import audio_file, heard_json, models
from puresignal.io.log_file import log

LONG, FIRST = 40.0, 20.0
"""Recordings longer than the first have this many seconds heard by themselves beforehand."""
EVERY = 0.1
"""Seconds between two words on the progress."""


def main() -> int:
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    job = json.loads(sys.stdin.readline() or "{}")
    # Whoever asked may be gone, or not want it any more.
    threading.Thread(target=_end_with_stdin, daemon=True).start()
    told = [0.0]

    def progress(part: float) -> None:
        now = time.monotonic()
        if now - told[0] >= EVERY:
            told[0] = now
            _say({"progress": min(1.0, part)})

    try:
        if job["kind"] != "?" and audio_file.facts(Path(job["path"])).seconds > LONG:
            # So that there is something to look at soon; what follows can change these notes.
            _say({"beginning": _heard(job, None, FIRST)})
        _say(_heard(job, progress))
    except PureSignalError as error:
        _say({"error": list(error.args[:3])})
        return 1
    except Exception as error:
        log.exception("while hearing %s", job.get("path"))
        _say({"error": [f"{type(error).__name__}: {error}", str(job.get("path", "")), ""]})
        return 1
    return 0


def _heard(job: dict[str, Any], progress: Any, most: float | None = None) -> dict[str, Any]:
    if job["kind"] == "?":
        return {"kinds": _kinds(Path(job["path"]))}
    examples = job.get("examples")
    wanted = transcribe.Job(
        job["kind"], low=job.get("low"), high=job.get("high"), pan=job.get("pan"), doubtful=True, outline=True,
        examples=transcribe.teach(Path(examples)) if examples else None, most=most,
    )  # fmt: skip
    found = transcribe.hear(Path(job["path"]), wanted, progress)
    places = transcribe.stereo_places(Path(job["path"]), found.rows)
    rows = [
        [*row[:6], REMOVAL_REASONS.index(row.removal_reason), place]
        for row, place in zip(found.rows, places, strict=True)
    ]
    outline = None if found.outline is None else heard_json.outline_to_json(found.outline)
    return {
        "rows": rows, "keys": found.keys, "names": found.names, "warnings": found.warnings, "outline": outline,
    }  # fmt: skip


def _kinds(path: Path) -> list[tuple[str, float]]:
    """The probable kind of a recording, from its beginning; nothing where it is silent."""
    parts, count, most = [], 0, round(kind_of_recording.SECONDS * note_decisions.RATE)
    for block in audio_file.blocks(path, note_decisions.RATE, audio_file.mono):
        parts.append(block[:, 0])
        count += len(block)
        if count >= most:
            break
    samples = np.concatenate(parts)[:most] if parts else np.zeros(0, np.float32)
    if not np.abs(samples).max(initial=0.0) > 1e-4:
        return []
    return kind_of_recording.kinds(*kind_of_recording.features(models.dense_net("multipitch"), samples))


def _say(what: dict[str, Any]) -> None:
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()


def _end_with_stdin() -> None:
    sys.stdin.read()
    os._exit(0)


if __name__ == "__main__":
    sys.exit(main())
