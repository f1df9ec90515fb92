"""Fit the curve that turns the confidence of notes of chords into chances: `calibrate.py [--clips N]`.

Writes src/puresignal/models/calibration.npz from recordings of the training's kinds with seeds that no network has
seen. bench/hearing.py --calibration says how they hold on kinds never trained on.
"""

from __future__ import annotations

import sys
from multiprocessing import Pool

import numpy as np
import train_chords

from puresignal.core.hearing import calibration
from puresignal.core.hearing.polyphony import note_decisions
from puresignal.core.hearing.transcribed import TranscribedNotes
from puresignal.io import models

SEED = 90_000_000
WITHIN = 0.05
Judged = list[tuple[float, bool]]
"""Confidence of each note heard, and whether it is right."""


def judged(truth: list[tuple[float, float]], heard: list[tuple[float, float, float]]) -> Judged:
    """The nearest note of the same pitch takes each that was played; (start, what) and (start, what, confidence)."""
    taken: set[int] = set()
    out = []
    for start, what, confidence in sorted(heard, key=lambda row: -row[2]):
        near = [
            i for i, (at, same) in enumerate(truth) if same == what and abs(at - start) <= WITHIN and i not in taken
        ]
        best = min(near, key=lambda i: abs(truth[i][0] - start)) if near else None
        taken |= set() if best is None else {best}
        out.append((confidence, best is not None))
    return out


def chords(seed: int) -> Judged:
    sound, notes, _ = train_chords.clip(seed)
    found = note_decisions.decide(note_decisions.analyse(models.chord_network(), sound))
    return judged([(n[0], n[2]) for n in notes], _pitched(found))


def _pitched(found: TranscribedNotes) -> list[tuple[float, float, float]]:
    columns = (found.start.tolist(), np.rint(found.pitch).tolist(), found.confidence.tolist())
    return list(zip(*columns, strict=True))


def main() -> None:
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 160
    with Pool() as pool:
        rows = [row for each in pool.imap(chords, range(SEED, SEED + clips)) for row in each]
    confidence, right = np.array([row[0] for row in rows]), np.array([row[1] for row in rows])
    curve = calibration.fitted(confidence, right)
    before, after = (calibration.error(each, right) for each in (confidence, curve.at(confidence)))
    print(f"{len(rows)} notes, {right.mean():.2f} right, error {before:.3f}, fitted {after:.3f}")
    arrays = {"chords_raw": np.float32(curve.raw), "chords_chance": np.float32(curve.chance)}
    np.savez(train_chords.MODELS / "calibration.npz", **arrays)


if __name__ == "__main__":
    main()
