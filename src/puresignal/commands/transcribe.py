"""`pure-signal transcribe`: recordings to MIDI files, one after another."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from puresignal.commands.clean import program_fault
from puresignal.core.errors import BadFileError, FileAccessError, PureSignalError, SettingsError
from puresignal.core.harmony import key_estimation
from puresignal.core.hearing.dsp import chunks, level_outline, spectra, stereo_place
from puresignal.core.hearing.dsp.chunks import Progress, Source
from puresignal.core.hearing.melody import candidates, pitch_bend, pitch_line, segmentation
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.networks import onset
from puresignal.core.hearing.percussion import drum_transcription, example_classifier, stroke_features
from puresignal.core.hearing.polyphony import chord_names, note_decisions, strums
from puresignal.core.hearing.sound_outline import SoundOutline
from puresignal.core.hearing.transcribed import REMOVAL_REASONS, TranscribedHits, TranscribedNotes
from puresignal.core.kit.articulations import canonical, resolve
from puresignal.core.midi import messages
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.timing import audio_beats
from puresignal.io import audio_file, file_access, file_kinds, midi_writer, models, note_map_file
from puresignal.io.audio_source import opened
from puresignal.translation import tr

KINDS = ("melody", "drums", "hits", "chords")
PPQ = 9600
"""Ticks per quarter note at 120 BPM: a tick is 52 µs, so times are exact whatever tempo is written."""
DRUM_SECONDS = 0.1
BEND_RANGE = 2.0
"""Semitones of a full pitch bend, as in General MIDI."""
DRUM_CHANNEL = 10


@dataclass(frozen=True)
class Job:
    """Options for transcribing each file.

    kind         one of KINDS
    key          "none", "auto" or a key name
    examples     folder of taught sounds, for kind "hits"
    low, high    MIDI notes, None for no limit; pan: -1..1, None for the whole picture
    bends        write glides and vibrato of a melody as pitch bend; beat: look for tempo and bars
    doubtful     also write notes proposed for removal
    outline      also say what the recording looks like
    most         only so many seconds from the beginning
    sensitivity  0..1; shortest: seconds; floor: dB below the loudest
    """

    kind: str
    key: str = "none"
    examples: example_classifier.ExampleSet | None = None
    low: float | None = None
    high: float | None = None
    pan: float | None = None
    bends: bool = False
    beat: bool = False
    doubtful: bool = False
    outline: bool = False
    sensitivity: float = 0.5
    shortest: float | None = None
    floor: float | None = None
    force: bool = False
    most: float | None = None


@dataclass(frozen=True)
class FileResult:
    """The result of one file: the number of notes, or the error."""

    source: Path
    target: Path
    notes: int = 0
    report: dict[str, Any] | None = None
    error: PureSignalError | None = None


def teach(folder: Path) -> example_classifier.ExampleSet:
    """The taught sounds of a folder: files named by articulation (`kick.wav`, `snare.head 2.flac`), or subfolders.

    Raises FileAccessError or BadFileError
    """
    if not folder.is_dir():
        raise FileAccessError(tr("There is no such folder"), str(folder), tr("Give the folder with the examples."))
    found: dict[str, list[stroke_features.StrokeAnalysis]] = {}
    for path in sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith(".")):
        if file_kinds.by_ending(path) is not file_kinds.AUDIO:
            continue
        name = path.stem if path.parent == folder else path.parent.name
        name = name.lower().rstrip("0123456789 _-()")
        found.setdefault(_articulation(name, path), []).append(
            example_classifier.example(_mono(path, stroke_features.RATE))
        )
    if not found:
        raise BadFileError(
            tr("There are no examples in this folder"), folder.name, tr("Name them kick.wav, snare.wav ...")
        )
    known = example_classifier.teach(models.feature_space(), found)
    missing = sorted(set(found) - set(known.names))
    if missing:
        raise BadFileError(
            tr("No stroke was found in the examples of {names}", names=", ".join(missing)),
            folder.name,
            tr("Record them louder."),
        )
    return known


def _articulation(name: str, path: Path) -> str:
    drum = canonical(name)
    if resolve(drum, note_map_file.shipped("general-midi").articulations(), "closed") is None:
        raise BadFileError(
            tr("The name of this example is not a drum"), path.name, tr("Name it kick.wav or hat.open.wav.")
        )
    return drum


def _mono(path: Path, rate: int) -> np.ndarray:
    return audio_file.mono(audio_file.read(path, rate))[:, 0]


def transcribe(source: Path, target: Path, job: Job, progress: Callable[[float], None] | None = None) -> FileResult:
    """Transcribe one file; errors become part of the result. progress: called with the fraction done, 0..1."""
    try:
        if target.exists() and not job.force:
            raise FileAccessError(tr("This file exists already"), str(target), tr("Give another name, or add --force."))
        found = hear(source, job, progress)
        song = _song(found, file_access.shown_name(source.stem), job)
        file_access.write_bytes(target, midi_writer.to_bytes(song), new=not job.force)
    except PureSignalError as error:
        return FileResult(source, target, error=error)
    except Exception as error:
        return FileResult(source, target, error=program_fault(source, error))
    return FileResult(source, target, len(found.rows), _report(found))


class NoteRow(NamedTuple):
    """A note. what: of a drum; removal_reason: why removal is proposed; played: its number before snapping to a key."""

    start: float
    end: float
    channel: int
    note: int
    velocity: int
    confidence: float
    what: str = ""
    removal_reason: str = ""
    played: int = -1


@dataclass(frozen=True)
class Transcription:
    """The transcribed notes in order of their starts, and remarks.

    proposed  notes proposed for removal
    bends     (seconds, semitones) of a melody; names: (start, end, name) of chords; strummed: which of them; beat: if
              requested
    keys      (name, probability, number of notes it would move) of the likeliest keys
    outline   level and pitch, if requested
    """

    rows: list[NoteRow]
    warnings: list[str]
    bends: list[tuple[float, float]] = field(default_factory=list)
    names: list[tuple[float, float, str]] = field(default_factory=list)
    strummed: list[strums.Strum] = field(default_factory=list)
    beat: audio_beats.Beat | None = None
    proposed: list[NoteRow] = field(default_factory=list)
    keys: list[tuple[str, float, int]] = field(default_factory=list)
    outline: SoundOutline | None = None


def hear(source: Path, job: Job, progress: Callable[[float], None] | None = None) -> Transcription:
    """The notes of a recording.

    Raises FileAccessError or BadFileError
    """
    rate = stroke_features.RATE if job.kind in ("drums", "hits") else candidates.RATE
    lowest = 0.75 * 440 * 2 ** ((job.low - 69) / 12) if job.kind == "melody" and job.low is not None else None
    recording = opened(source, rate, job.pan, lowest, job.most)
    warnings = []
    if recording.cut:
        warnings.append(tr("this file ends too early; the sound up to there was used. If there is more, copy it again"))
    if recording.spoilt:
        warnings.append(
            tr("{spoilt} of its samples are not numbers; they were treated as silence", spoilt=recording.spoilt)
        )
    if not recording.peak > 1e-5:
        return Transcription([], [*warnings, tr("this recording is silent")])
    if recording.channels > 1 and not recording.left > 1e-5:
        return Transcription(
            [], [*warnings, tr("its channels cancel each other out; export one of them as a file of its own")]
        )
    if recording.clipped > 0.005:
        warnings.append(tr("this recording is clipped; loud notes may be wrong"))
    if job.pan is not None and recording.channels < 2:
        warnings.append(tr("this recording is mono, so --pan has no effect"))
    if job.examples is not None:
        warnings += example_classifier.removal_reasons(job.examples)
    bends: list[tuple[float, float]] = []
    names: list[tuple[float, float, str]] = []
    keys: list[tuple[str, float, int]] = []
    lines: list[np.ndarray] = []
    listen: dict[str, Callable[[Source, Job, Progress | None], list[NoteRow]]] = {
        "melody": partial(_melody, bends=bends, keys=keys, lines=lines),
        "chords": partial(_chords, names=names, keys=keys), "drums": _drums, "hits": _hits,
    }  # fmt: skip
    total = max(1, recording.count)
    told = (lambda heard: progress(heard / total)) if progress else None
    heard = sorted(listen[job.kind](recording.source, job, told))
    rows, proposed = [r for r in heard if job.doubtful or not r.removal_reason], [r for r in heard if r.removal_reason]
    if not rows:
        warnings.append(tr("no notes were found in this recording"))
    beat = _beat(recording.source, rate) if job.beat else None
    outline = None
    if job.outline:
        line = lines[0] if lines else np.zeros(0, np.int16)
        outline = SoundOutline(level_outline.levels(recording.source, rate), line)
    strummed = []
    if job.kind == "chords":
        strummed = strums.found(np.array([row.start for row in rows]), np.array([row.note for row in rows]))
    return Transcription(rows, warnings, bends, names, strummed, beat, proposed, keys, outline)


def stereo_places(source: Path, rows: Sequence[NoteRow]) -> list[float]:
    """Where each note stands, from -1, left, to 1, right. rows: by start, as they were heard in this file."""
    if not rows or audio_file.facts(source).channels < 2:
        return [0.0] * len(rows)
    pitched = [440 * 2 ** ((row.note - 69) / 12) if row.channel != DRUM_CHANNEL else 0.0 for row in rows]
    notes = [(row.start, row.end, hz) for row, hz in zip(rows, pitched, strict=True)]
    return stereo_place.places(audio_file.blocks(source, candidates.RATE), candidates.RATE, notes)


def _beat(recording: Source, rate: int) -> audio_beats.Beat:
    """The beat of the first ten minutes."""
    parts, count = [], 0
    for block in chunks.blocks(recording):
        parts.append(block)
        count += len(block)
        if count > BEAT_SECONDS * rate:
            break
    whole = np.concatenate(parts)[: round(BEAT_SECONDS * rate)]
    samples = spectra.halved(whole) if rate != onset.RATE else whole
    begins = models.conv_net("onset").probability(onset.SPECTROGRAM.levels(samples))[:, 0]
    return audio_beats.beat(samples, begins)


BEAT_SECONDS = 600.0
"""Length of the part from which the tempo is taken."""


def _melody(
    source: Source, job: Job, progress: Progress | None, bends: list[tuple[float, float]],
    keys: list[tuple[str, float, int]], lines: list[np.ndarray],
) -> list[NoteRow]:  # fmt: skip
    usual = segmentation.MelodySettings()
    settings = replace(
        usual, sensitivity=job.sensitivity, low=usual.low if job.low is None else job.low,
        high=usual.high if job.high is None else job.high,
        shortest=usual.shortest if job.shortest is None else job.shortest,
        floor=usual.floor if job.floor is None else job.floor,
        beneath=job.low is not None or job.pan is not None,
    )  # fmt: skip
    analysis = candidates.analyse(models.conv_net("onset"), models.pitch_networks(settings.beneath), source, progress)
    found = melody_notes.decide(analysis, settings)
    if job.bends:
        bends += pitch_bend.bends(analysis, found.kept())
    if job.outline:
        lines.append(pitch_line.pitch_line(analysis, found))
    return _pitched(found, job, keys)


def _chords(
    source: Source, job: Job, progress: Progress | None, names: list[tuple[float, float, str]],
    keys: list[tuple[str, float, int]],
) -> list[NoteRow]:  # fmt: skip
    usual = note_decisions.ChordSettings()
    settings = replace(
        usual, sensitivity=job.sensitivity, low=usual.low if job.low is None else int(job.low),
        high=usual.high if job.high is None else int(job.high),
        shortest=usual.shortest if job.shortest is None else job.shortest,
        floor=usual.floor if job.floor is None else job.floor,
    )  # fmt: skip
    found = note_decisions.decide(note_decisions.analyse(models.chord_network(), source, progress), settings)
    names += chord_names.named(found.kept())
    return _pitched(found, job, keys)


def _pitched(heard: TranscribedNotes, job: Job, keys: list[tuple[str, float, int]]) -> list[NoteRow]:
    whole = np.rint(heard.pitch).astype(int)
    number, kept = whole, heard.kept()
    fits = key_estimation.fits(kept.pitch, kept.end - kept.start)
    keys += [(fit.key, fit.probability, fit.moved) for fit in fits]
    if job.key != "none" and fits:
        number = key_estimation.snapped(heard.pitch, key_estimation.best(fits).key if job.key == "auto" else job.key)
    sure = models.chord_confidence().at(heard.confidence) if job.kind == "chords" else heard.confidence
    columns = (heard.start, heard.end, number, heard.velocity, sure, heard.removal_reason, whole)
    return [
        NoteRow(
            start, end, 1, int(note), int(velocity), float(confidence), "", REMOVAL_REASONS[removal_reason], int(played)
        )
        for start, end, note, velocity, confidence, removal_reason, played in zip(
            *(c.tolist() for c in columns), strict=True
        )
        if 0 <= note <= 127
    ]


def _drums(source: Source, job: Job, progress: Progress | None) -> list[NoteRow]:
    found = drum_transcription.hits(
        drum_transcription.analyse(models.conv_net("drum_onset"), models.attention_nets(), source, progress),
        job.sensitivity,
    )
    names = [drum_transcription.KINDS[i] for i in found.kind.tolist()]
    return _struck(names, found)


def _hits(source: Source, job: Job, progress: Progress | None) -> list[NoteRow]:
    assert job.examples is not None
    analysis = stroke_features.analyse(source, progress)
    found = example_classifier.hits(job.examples, analysis, job.sensitivity)
    names = [job.examples.names[i] for i in found.kind.tolist()]
    return _struck(names, found)


def _struck(names: list[str], found: TranscribedHits) -> list[NoteRow]:
    general = note_map_file.shipped("general-midi")
    available = general.articulations()
    rows: list[NoteRow] = []
    goals = {name: resolve(name, available, "closed") for name in set(names)}
    pads = {name: general.pad_for(goal) if goal is not None else None for name, goal in goals.items()}
    columns = (found.start, found.velocity, found.confidence, found.removal_reason)
    for name, at, hard, probability, removal_reason in zip(names, *(c.tolist() for c in columns), strict=True):
        pad = pads[name]
        if pad is not None:
            rows.append(
                NoteRow(
                    at,
                    at + DRUM_SECONDS,
                    DRUM_CHANNEL,
                    pad.note,
                    int(hard),
                    float(probability),
                    name,
                    REMOVAL_REASONS[removal_reason],
                )
            )
    return rows


def _song(found: Transcription, title: str, job: Job) -> Song:
    """A file with one track; at one tick ends come before starts, and no note overlaps itself."""
    rows, beat = found.rows, found.beat
    bpm = beat.bpm if beat is not None and beat.bpm else 120.0
    map_of = TempoMap.steady(bpm, ppq=PPQ)
    ends: dict[tuple[int, int], float] = {}
    upcoming: dict[tuple[int, int], list[float]] = {}
    for start, _, channel, note, *_ in rows:
        upcoming.setdefault((channel, note), []).append(start)
    sounding: list[tuple[float, float, int, int, int]] = []
    for start, end, channel, note, velocity, *_ in rows:
        same = upcoming[channel, note]
        continuations = bisect_right(same, start)
        stop = min([end, *same[continuations : continuations + 1]])
        if ends.get((channel, note), -1.0) > start:
            continue
        ends[channel, note] = stop
        sounding.append((start, stop, channel, note, velocity))
    ticks = map_of.seconds_to_ticks(np.array([row[:2] for row in sounding]).reshape(-1, 2)).tolist()
    events: list[tuple[int, int, int, int, int]] = []
    for (first, last), (_, _, channel, note, velocity) in zip(ticks, sounding, strict=True):
        events.append((first, 1, messages.status(messages.NOTE_ON, channel), note, max(1, min(127, velocity))))
        events.append((max(first + 1, last), 0, messages.status(messages.NOTE_OFF, channel), note, 64))
    bent = map_of.seconds_to_ticks(np.array([at for at, _ in found.bends])).tolist()
    for at, (_, semitones) in zip(bent, found.bends, strict=True):
        value = round(np.clip(8192 + semitones / BEND_RANGE * 8191, 0, 16383))
        events.append((at, 0, messages.BEND, value & 0x7F, value >> 7))
    events.sort()
    columns = np.array(events, np.int64).reshape(-1, 5)
    body = Messages(columns[:, 0], columns[:, 2], columns[:, 3], columns[:, 4], np.full(len(columns), -1))
    length = int(columns[-1, 0]) if len(columns) else 0
    return Song(
        1, map_of, (SongTrack(title, Messages.empty(), (), (), length), SongTrack(job.kind, body, (), (), length))
    )


def _told(row: NoteRow) -> dict[str, Any]:
    told: dict[str, Any] = {
        "time": round(row.start, 5), "end": round(row.end, 5), "channel": row.channel, "note": row.note,
        "velocity": row.velocity, "confidence": round(row.confidence, 3),
    }  # fmt: skip
    if row.what:
        told["what"] = row.what
    if row.played not in (-1, row.note):
        told["played"] = row.played
    if row.removal_reason:
        told["removal"] = row.removal_reason
    return told


def _report(found: Transcription) -> dict[str, Any]:
    doubtful = sum(row.confidence < 0.6 for row in found.rows)
    told: dict[str, Any] = {
        "sums": {"heard": len(found.rows), "doubtful": doubtful, "proposed": len(found.proposed)},
        "notes": [_told(row) for row in found.rows], "proposed": [_told(row) for row in found.proposed],
        "warnings": found.warnings,
    }  # fmt: skip
    if found.keys:
        told["keys"] = [
            {"name": name, "likelihood": round(odds, 3), "moves": moved} for name, odds, moved in found.keys
        ]
    if found.names:
        told["chords"] = [
            {"time": round(start, 4), "end": round(end, 4), "name": name} for start, end, name in found.names
        ]
    if found.strummed:
        told["strums"] = [
            {
                "time": round(one.start, 4), "direction": "down" if one.direction > 0 else "up",
                "notes": one.notes.tolist(), "spread": round(one.spread, 4),
            }
            for one in found.strummed
        ]  # fmt: skip
    if found.beat is not None:
        told["beat"] = {
            "bpm": round(found.beat.bpm, 2), "meter": found.beat.meter, "confidence": round(found.beat.confidence, 3),
            "beats": np.round(found.beat.beats, 4).tolist(), "bars": np.round(found.beat.bars, 4).tolist(),
        }  # fmt: skip
    return told


def with_settings(job: Job, data: object, where: str) -> Job:
    """The job with values from a settings file: {"format": "pure-signal/hearing", "version": 1, "sensitivity": 0.5,
    ...}.

    Raises SettingsError that names the field
    """
    if not isinstance(data, dict) or data.get("format") != "pure-signal/hearing" or data.get("version") != 1:
        raise SettingsError(
            tr('"format" is not "pure-signal/hearing", version 1'), where, tr("Choose a settings file.")
        )
    ranges = {"sensitivity": (0.0, 1.0), "shortest": (0.02, 2.0), "floor": (6.0, 90.0)}
    switches = ("bends", "beat", "doubtful")
    known = {*ranges, *switches}
    for given, value in data.items():
        # Version 0.1.0 called the sensitivity "eagerness".
        name = "sensitivity" if given == "eagerness" else given
        if name in ("format", "version"):
            continue
        if name not in known:
            raise SettingsError(
                tr('There is no setting "{name}"', name=name),
                where,
                tr("Known are: {names}.", names=", ".join(sorted(known))),
            )
        if name in switches:
            if not isinstance(value, bool):
                raise SettingsError(
                    tr('"{name}" is {value!r}', name=name, value=value), where, tr("Write true or false.")
                )
            job = replace(job, **{name: value})  # type: ignore[arg-type]
            continue
        low, high = ranges[name]
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
            raise SettingsError(
                tr('"{name}" is {value!r}', name=name, value=value),
                where,
                tr("Write a number from {low:g} to {high:g}.", low=low, high=high),
            )
        job = replace(job, **{name: float(value)})  # type: ignore[arg-type]
    return job
