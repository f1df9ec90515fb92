"""Fit the curves that turn the ear's confidence into chances: `calibrate.py [--clips N]`.

Writes src/puresignal/models/calibration.npz from recordings of the training's kinds with seeds that no network has
seen. bench/hearing.py --calibration says how they hold on kinds never trained on.
"""

from __future__ import annotations

import sys
from multiprocessing import Pool

import numpy as np
import soxr
import train_chords
import train_ear
import train_melody

from puresignal.core.hearing import calibration
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.percussion import drum_transcription, example_classifier, stroke_features
from puresignal.core.hearing.polyphony import note_decisions
from puresignal.core.hearing.transcribed import TranscribedNotes
from puresignal.io import models
from puresignal.sim import beatbox

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


def melody(seed: int) -> Judged:
    sound, notes, _, _ = train_melody.clip(seed)
    if not notes:
        return []
    found = melody_notes.decide(candidates.analyse(models.conv_net("onset"), models.pitch_networks(), sound))
    return judged([(n[0], n[2]) for n in notes], _pitched(found))


def chords(seed: int) -> Judged:
    sound, notes, _ = train_chords.clip(seed)
    found = note_decisions.decide(note_decisions.analyse(models.chord_networks(), sound))
    return judged([(n[0], n[2]) for n in notes], _pitched(found))


def _pitched(found: TranscribedNotes) -> list[tuple[float, float, float]]:
    columns = (found.start.tolist(), np.rint(found.pitch).tolist(), found.confidence.tolist())
    return list(zip(*columns, strict=True))


def drums(seed: int) -> Judged:
    sound, truth = train_ear.loop(np.random.default_rng(seed))
    samples = np.asarray(soxr.resample(sound, 44_100, drum_transcription.RATE), np.float32)
    found = drum_transcription.hits(
        drum_transcription.analyse(models.conv_net("drum_onset"), models.attention_nets(), samples)
    )
    names = list(drum_transcription.KINDS)
    heard = list(zip(found.start.tolist(), map(float, found.kind.tolist()), found.confidence.tolist(), strict=True))
    return judged([(at, float(names.index(name))) for at, name, _ in truth if name in names], heard)


def hits(seed: int) -> Judged:
    """Of a mouth's sounds, all but one are taught, with three to six examples."""
    random = np.random.default_rng(seed)
    syllables = [beatbox.any_syllable(random) for _ in range(int(random.integers(3, 6)))]
    takes = {
        str(i): [
            example_classifier.example(beatbox.say(one, 0.8, stroke_features.RATE, random))
            for _ in range(int(random.integers(3, 7)))
        ]
        for i, one in enumerate(syllables[:-1])
    }
    known = example_classifier.teach(models.feature_space(), takes)
    sound, truth = beatbox.beat(syllables, train_ear.SECONDS, stroke_features.RATE, random)
    found = example_classifier.hits(known, stroke_features.analyse(sound))
    heard = [
        (at, float(known.names[k]), sure)
        for at, k, sure in zip(found.start.tolist(), found.kind.tolist(), found.confidence.tolist(), strict=True)
    ]
    return judged([(at, float(which)) for at, which in truth], heard)


def main() -> None:
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 160
    arrays = {}
    for what in (melody, chords, drums, hits):
        with Pool() as pool:
            rows = [row for each in pool.imap(what, range(SEED, SEED + clips)) for row in each]
        confidence, right = np.array([row[0] for row in rows]), np.array([row[1] for row in rows])
        curve = calibration.fitted(confidence, right)
        before, after = (calibration.error(each, right) for each in (confidence, curve.at(confidence)))
        print(f"{what.__name__}: {len(rows)} notes, {right.mean():.2f} right, error {before:.3f}, fitted {after:.3f}")
        arrays[f"{what.__name__}_raw"], arrays[f"{what.__name__}_chance"] = curve.raw, curve.chance
    np.savez(train_ear.MODELS / "calibration.npz", **{name: np.float32(each) for name, each in arrays.items()})


if __name__ == "__main__":
    main()
