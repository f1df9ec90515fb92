"""Accuracy of the ear, on recordings it was not trained on (support/evaluation_clips.py).

`hearing.py [KIND ...] [--each] [--errors] [--calibration] [--reference]`: melodies, orchestra, singing, voices,
manners, speakers, people, loops, kits, cymbals, beats, mouths, people_mouths, strangers, settings, harmony, chords,
leads; all by default.
`hearing.py --minutes N` hears one long recording of each kind by the command: its speed and its memory.

Counted as usual for transcription: onset within 50 ms, pitch within half a semitone, each note matched at most once;
ends within a fifth of the length or 50 ms. Where librosa is installed, its pitch tracker with a plain segmenter and
its onset detector with rules by band stand beside it. `--each` lists every clip, `--errors` counts the kinds of error
in 1,000 notes, `--calibration` says how many of the notes of each confidence are right. `--music=FOLDER` has chords
that others wrote, from the files of training/collect_music.py, instead of our own.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections import Counter, defaultdict
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import soxr
from support import evaluation_clips
from support.evaluation_clips import Clip

from puresignal.commands import transcribe
from puresignal.core.hearing import calibration
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.percussion import drum_transcription, example_classifier, stroke_features
from puresignal.core.hearing.polyphony import note_decisions
from puresignal.io.models import (
    attention_nets,
    chord_confidence,
    chord_network,
    conv_net,
    feature_space,
    pitch_networks,
)
from puresignal.sim import beatbox, instrument_synthesis, random_kits, singer

Row = tuple[Any, ...]
"""Start, end, what, and for notes heard also confidence, and whether no removal is proposed."""
KINDS_OF_ERROR = (
    "missed", "late or early", "other octave", "semitone off", "other pitch", "cut in two", "octave added", "added",
)  # fmt: skip


def matched(truth: list[Row], heard: list[Row], ends: bool = False) -> list[tuple[int, int]]:
    """Maximum matching, by augmenting paths."""
    fits: list[list[int]] = []
    for start, end, what, *_ in truth:
        own = []
        for j, (s, e, w, *_) in enumerate(heard):
            same = w == what if isinstance(what, str) else abs(float(w) - float(what)) < 0.5
            if abs(s - start) <= 0.05 and same and (not ends or abs(e - end) <= max(0.05, 0.2 * (end - start))):
                own.append(j)
        fits.append(own)
    taken: dict[int, int] = {}

    def find(i: int, seen: set[int]) -> bool:
        for j in fits[i]:
            if j not in seen:
                seen.add(j)
                if j not in taken or find(taken[j], seen):
                    taken[j] = i
                    return True
        return False

    for i in range(len(truth)):
        find(i, set())
    return [(i, j) for j, i in taken.items()]


def score(truth: list[Row], heard: list[Row], ends: bool = False) -> float:
    return 2 * len(matched(truth, heard, ends)) / max(1, len(truth) + len(heard))


def moments(rows: list[Row]) -> list[Row]:
    """Onsets of any kind; simultaneous ones count once."""
    out: list[Row] = []
    for start, *_ in sorted(rows, key=lambda r: r[0]):
        if not out or start - out[-1][0] > 0.03:
            out.append((start, start, 0))
    return out


def at(clip: Clip, rate: int) -> np.ndarray:
    return np.asarray(soxr.resample(clip.samples, clip.rate, rate), np.float32)


def pitched(heard: Any) -> list[Row]:
    columns = (heard.start, heard.end, heard.pitch, heard.confidence, heard.removal_reason)
    return [(s, e, round(p), c, r == 0) for s, e, p, c, r in zip(*(each.tolist() for each in columns), strict=True)]


def struck(heard: Any, names: Any) -> list[Row]:
    columns = (heard.start, heard.kind, heard.confidence, heard.removal_reason)
    return [(s, s, names[k], c, r == 0) for s, k, c, r in zip(*(each.tolist() for each in columns), strict=True)]


def errors_of(truth: list[Row], heard: list[Row]) -> dict[str, int]:
    """How many notes went wrong in which way; each note heard explains one that was played, at most."""
    pairs = matched(truth, heard)
    missed = [truth[i] for i in sorted(set(range(len(truth))) - {i for i, _ in pairs})]
    more = [heard[j] for j in sorted(set(range(len(heard))) - {j for _, j in pairs})]
    count = dict.fromkeys(KINDS_OF_ERROR, 0)

    def explained(name: str, fits: Callable[[Row, Row], bool]) -> None:
        for one in list(more):
            wrong = next((row for row in missed if fits(row, one)), None)
            if wrong is not None:
                count[name] += 1
                missed.remove(wrong)
                more.remove(one)

    near = 0.05
    explained("other octave", lambda a, b: abs(a[0] - b[0]) <= near and (a[2] - b[2]) % 12 == 0)
    explained("semitone off", lambda a, b: abs(a[0] - b[0]) <= near and abs(a[2] - b[2]) == 1)
    explained("late or early", lambda a, b: abs(a[0] - b[0]) <= 3 * near and a[2] == b[2])
    explained("other pitch", lambda a, b: abs(a[0] - b[0]) <= near)
    for one in more:
        if any(row[2] == one[2] and row[0] < one[0] < row[1] + near for row in truth):
            count["cut in two"] += 1
        elif any(abs(row[2] - one[2]) in (12, 19, 24) and row[0] - near < one[0] < row[1] for row in truth):
            count["octave added"] += 1
        else:
            count["added"] += 1
    return count | {"missed": len(missed)}


def tell(name: str, clips: list[tuple[Clip, Callable[[], list[Row]]]], each: bool, curve: str = "") -> None:
    """A line of the table. curve: the kind of hearing, for calibration."""
    wrong: Counter[str] = Counter()
    told: list[tuple[float, bool]] = []
    f, with_ends, onsets, errors, worst = [], [], [], [], []
    again = again_found = 0
    spent = seconds = 0.0
    by_sort: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0])
    for clip, hear in clips:
        truth: list[Row] = [(s, e, w) for s, e, w, _ in clip.notes]
        began = time.perf_counter()
        everything = hear()
        heard = [row for row in everything if len(row) < 5 or row[4]]
        spent += time.perf_counter() - began
        seconds += len(clip.samples) / clip.rate
        pairs = matched(truth, heard)
        f.append(2 * len(pairs) / max(1, len(truth) + len(heard)))
        worst.append((f[-1], clip.name))
        with_ends.append(score(truth, heard, True))
        onsets.append(score(moments(truth), moments(heard)))
        errors += [abs(truth[i][0] - heard[j][0]) for i, j in pairs]
        if "--errors" in sys.argv and truth and not isinstance(truth[0][2], str):
            wrong.update(errors_of(truth, heard))
            wrong["played"] += len(truth)
        if "--calibration" in sys.argv and curve:
            known = {j for _, j in matched(truth, everything)}
            told += [(row[3], j in known) for j, row in enumerate(everything)]
        hit = {i for i, _ in pairs}
        for i in range(1, len(truth)):
            if truth[i][2] == truth[i - 1][2]:
                again += 1
                again_found += i in hit
        if truth and isinstance(truth[0][2], str):
            for i, row in enumerate(truth):
                by_sort[row[2]][0] += 1
                by_sort[row[2]][2] += i in hit
            for row in heard:
                by_sort[row[2]][1] += 1
        if each:
            print(f"  {clip.name:<24} {f[-1]:.2f}  ends {with_ends[-1]:.2f}  onset {onsets[-1]:.2f}  "
                  f"{len(truth)} played, {len(heard)} heard")  # fmt: skip
    bad = ", ".join(f"{n} {v:.2f}" for v, n in sorted(worst)[:4])
    struck = bool(by_sort)
    ends = "" if struck else f"with ends {np.mean(with_ends):.3f}, "
    print(
        f"{name}: F1 {np.mean(f):.3f}, {ends}onsets alone {np.mean(onsets):.3f}, "
        f"onset error {1000 * np.median(errors) if errors else 0:.1f} ms, repeated {again_found}/{again}, "
        f"{seconds / spent:.0f}x real time; worst {bad}"
    )
    for sort, (played, taken, right) in sorted(by_sort.items()):
        print(
            f"    {sort:<12} {played:4d} played, {taken:4d} heard, {right:4d} right: F1 "
            f"{2 * right / (played + taken):.2f}"
        )
    if wrong:
        print(
            "    in 1,000 played: " + ", ".join(f"{1000 * wrong[k] / wrong['played']:.0f} {k}" for k in KINDS_OF_ERROR)
        )
    if told:
        raw, was_right = np.array([row[0] for row in told]), np.array([row[1] for row in told])
        chance = chord_confidence().at(raw) if curve == "chords" else raw
        print(
            f"    calibration: mean error {calibration.error(raw, was_right):.3f} raw, "
            f"{calibration.error(chance, was_right):.3f} as told; "
            + ", ".join(f"at {a:.2f} {b:.2f} right ({n})" for a, b, n in calibration.curve(chance, was_right))
        )


def melodies(kind: str, each: bool) -> None:
    clips = list(getattr(evaluation_clips, kind)())

    def ours(clip: Clip) -> Callable[[], list[Row]]:
        samples = at(clip, candidates.RATE)
        return lambda: pitched(melody_notes.decide(candidates.analyse(conv_net("onset"), pitch_networks(), samples)))

    tell(kind, [(clip, ours(clip)) for clip in clips], each, "melody")
    if "--reference" in sys.argv:
        tell(f"{kind}, reference", [(c, lambda c=c: _pyin(at(c, candidates.RATE))) for c in clips], False)  # type: ignore[misc]


def _pyin(samples: np.ndarray) -> list[Row]:
    import librosa

    pitch, voiced, _ = librosa.pyin(samples, fmin=41, fmax=2093, sr=candidates.RATE, frame_length=2048, hop_length=256)
    number = np.where(voiced, np.rint(69 + 12 * np.log2(np.where(voiced, pitch, 440.0) / 440)), -1)
    cuts = [0, *(np.flatnonzero(np.diff(number)) + 1).tolist(), len(number)]
    step = 256 / candidates.RATE
    return [
        (a * step, b * step, int(number[a])) for a, b in pairwise(cuts)
        if number[a] >= 0 and (b - a) * step >= 0.07
    ]  # fmt: skip


def loops(kind: str, each: bool) -> None:
    clips = list(getattr(evaluation_clips, kind)())

    def ours(clip: Clip) -> Callable[[], list[Row]]:
        samples = at(clip, drum_transcription.RATE)

        def hear() -> list[Row]:
            found = drum_transcription.hits(
                drum_transcription.analyse(conv_net("drum_onset"), attention_nets(), samples)
            )
            return struck(found, names)

        return hear

    names = drum_transcription.KINDS
    if kind == "kits":
        names = tuple("tom" if name.startswith("tom") else name for name in names)

    known = [clip for clip in clips if clip.name.startswith(evaluation_clips.TRAINED_KITS)]
    other = [clip for clip in clips if not clip.name.startswith(evaluation_clips.TRAINED_KITS)]
    for name, some in ((f"{kind}, kits trained on", known), (f"{kind}, kits never trained on", other)):
        if some:
            tell(name, [(clip, ours(clip)) for clip in some], each, "drums")
    if "--reference" in sys.argv:
        tell(f"{kind}, reference", [(c, lambda c=c: _bands(at(c, 44_100))) for c in clips], False)  # type: ignore[misc]


def _bands(samples: np.ndarray) -> list[Row]:
    import librosa

    rows: list[Row] = []
    for moment in librosa.onset.onset_detect(y=samples, sr=44_100, units="time"):
        part = samples[round(moment * 44_100) :][:3000]
        spectrum = np.abs(np.fft.rfft(part, 4096)) ** 2
        low, middle, high = spectrum[:14].sum(), spectrum[14:185].sum(), spectrum[464:].sum()
        rows.append(
            (
                float(moment),
                0.0,
                "kick" if low > middle and low > high else "snare.head" if middle > high else "hat.closed",
            )
        )
    return rows


def beats(kind: str, each: bool) -> None:
    spoken: list[evaluation_clips.Spoken] = list(getattr(evaluation_clips, kind)())
    for count in (6, 3):
        clips = []
        for clip, examples in spoken:
            known = example_classifier.teach(
                feature_space(),
                {
                    name: [
                        example_classifier.example(np.asarray(soxr.resample(s, clip.rate, stroke_features.RATE)))
                        for s in said[:count]
                    ]
                    for name, said in examples.items()
                },
            )
            samples = at(clip, stroke_features.RATE)

            def hear(known: example_classifier.ExampleSet = known, samples: np.ndarray = samples) -> list[Row]:
                return struck(example_classifier.hits(known, stroke_features.analyse(samples)), known.names)

            clips.append((clip, hear))
        tell(f"{kind}, {count} examples each", clips, each, "hits")


def strangers() -> None:
    """False accepts: of a synthesised mouth's six sounds three are taught, the others should be rejected."""
    told = others = right = own = 0
    for seed in range(40):
        random = np.random.default_rng(7000 + seed)
        syllables = [beatbox.any_syllable(random) for _ in range(6)]
        takes = {
            f"{i}": [example_classifier.example(beatbox.say(s, 0.8, stroke_features.RATE, random)) for _ in range(4)]
            for i, s in enumerate(syllables[:3])
        }
        known = example_classifier.teach(feature_space(), takes)
        sound, truth = beatbox.beat(syllables, 8.0, stroke_features.RATE, random, breaths=0.0)
        analysis = stroke_features.analyse(sound)
        heard = example_classifier.hits(known, analysis).kept()
        for moment, which in truth:
            near = np.abs(heard.start - moment) < 0.03
            if which < 3:
                own += 1
                right += any(known.names[k] == str(which) for k in heard.kind[near].tolist())
            else:
                others += 1
                told += bool(near.any())
    print(f"strangers: {told} of {others} told as something; of what was taught {right} of {own} right")


def settings(minutes: float = 4.0) -> None:
    """Time that a changed setting takes on an analysed recording."""
    clip, examples = next(iter(evaluation_clips.beats()))
    takes = {
        name: [example_classifier.example(soxr.resample(s, clip.rate, stroke_features.RATE)) for s in said]
        for name, said in examples.items()
    }
    known, samples = example_classifier.teach(feature_space(), takes), at(clip, stroke_features.RATE)
    analysis = stroke_features.analyse(np.tile(samples, round(minutes * 60 * stroke_features.RATE / len(samples))))
    took = []
    for sensitivity in (0.5, 0.4, 0.6, 0.5, 0.45):
        began = time.perf_counter()
        count = len(example_classifier.hits(known, analysis, sensitivity).start)
        took.append(time.perf_counter() - began)
    print(f"settings: {count} hits in {minutes:g} minutes decided anew in {1000 * np.median(took):.0f} ms")


def harmony(each: bool) -> None:
    clips = []
    for clip in evaluation_clips.harmony():
        clips.append((clip, partial(_chords_of, clip)))
    tell("harmony", clips, each, "chords")


def chords(each: bool) -> None:
    """Chords as hands play them, in two columns: kinds of instrument that were trained on, and others."""
    known: list[tuple[Clip, Callable[[], list[Row]]]] = []
    other: list[tuple[Clip, Callable[[], list[Row]]]] = []
    clips = evaluation_clips.played_chords()
    if folder := next((a.removeprefix("--music=") for a in sys.argv if a.startswith("--music=")), ""):
        clips = evaluation_clips.composed_chords(Path(folder))
    for clip, trained in clips:
        (known if trained else other).append((clip, partial(_chords_of, clip)))
    tell("chords, kinds trained on", known, each, "chords")
    tell("chords, kinds never trained on", other, each, "chords")


def _chords_of(clip: Clip) -> list[Row]:
    samples = at(clip, note_decisions.RATE)
    return pitched(note_decisions.decide(note_decisions.analyse(chord_network(), samples)))


def leads(each: bool) -> None:
    """Lead melodies by the command itself, with the range alone and with range and pan."""
    for placed in (False, True):
        clips = []
        with tempfile.TemporaryDirectory() as folder:
            for clip, where, low, high in evaluation_clips.leads():
                path = Path(folder) / f"{clip.name}.wav"
                soundfile.write(path, clip.samples, clip.rate)
                job = transcribe.Job("melody", low=low, high=high, pan=where if placed else None)

                def hear(path: Path = path, job: transcribe.Job = job) -> list[Row]:
                    return [(row.start, row.end, row.note) for row in transcribe.hear(path, job).rows]

                clips.append((clip, hear))
            tell("leads, range and place" if placed else "leads, range", clips, each)


NAMED = ("kick", "snare.head", "hat.closed", "hat.open")
"""Articulations that the taught sounds stand for."""


def long(minutes: float) -> None:
    """Speed and memory of the command on a long recording, on one core."""
    random = np.random.default_rng(4)
    kit = random_kits.built_kit(random, 44_100)
    timbre = instrument_synthesis.any_timbre(random)
    made = {
        "melody": singer.perform(instrument_synthesis.a_line(random, 30, 50, 70), singer.SUNG, 44_100, 1),
        "drums": random_kits.groove(kit, 30, 44_100, random)[0],
        "chords": instrument_synthesis.play(instrument_synthesis.some_chords(random, 30), timbre, 44_100, 2),
    }
    syllables = [beatbox.any_syllable(random) for _ in range(4)]
    made["hits"] = beatbox.beat(syllables, 30, 44_100, random)[0]
    with tempfile.TemporaryDirectory() as folder:
        examples = Path(folder) / "examples"
        examples.mkdir()
        for i, syllable in enumerate(syllables):
            for take in range(6):
                said = beatbox.say(syllable, 0.8, 44_100, random)
                soundfile.write(examples / f"{NAMED[i]} {take + 1}.wav", said, 44_100)
        for kind, sound in made.items():
            path = Path(folder) / f"{kind}.wav"
            with soundfile.SoundFile(path, "w", 44_100, 1) as out:
                for _ in range(round(minutes * 60 * 44_100 / len(sound))):
                    out.write(0.5 * sound / np.abs(sound).max())
            command = ["transcribe", str(path), "--out", str(path.with_suffix(".mid")), "--kind", kind]
            command += ["--examples", str(examples)] if kind == "hits" else []
            began = time.perf_counter()
            child = subprocess.Popen(
                [sys.executable, "-m", "puresignal.cli", *command], stdout=subprocess.DEVNULL,
                env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
            )  # fmt: skip
            _, status, used = os.wait4(child.pid, 0)
            spent = time.perf_counter() - began
            if status:
                raise SystemExit(f"{kind}: the command failed")
            print(f"{minutes:g} minutes, {kind}: {60 * minutes / spent:.0f}x real time, {used.ru_maxrss / 1024:.0f} MB")
            path.unlink()


def main() -> None:
    if "--minutes" in sys.argv:
        long(float(sys.argv[sys.argv.index("--minutes") + 1]))
        return
    each = "--each" in sys.argv
    wanted = [a for a in sys.argv[1:] if not a.startswith("-")] or [
        "melodies",
        "orchestra",
        "singing",
        "voices",
        "manners",
        "speakers",
        "people",
        "loops",
        "kits",
        "cymbals",
        "beats",
        "mouths",
        "people_mouths",
        "strangers",
        "settings",
        "harmony",
        "chords",
        "leads",
    ]
    for kind in wanted:
        if kind in ("melodies", "orchestra", "singing", "voices", "manners", "speakers", "people"):
            melodies(kind, each)
        elif kind in ("beats", "mouths", "people_mouths"):
            beats(kind, each)
        elif kind in ("loops", "kits", "cymbals"):
            loops(kind, each)
        elif kind in ("strangers", "settings"):
            {"strangers": strangers, "settings": settings}[kind]()
        else:
            {"harmony": harmony, "chords": chords, "leads": leads}[kind](each)


if __name__ == "__main__":
    main()
