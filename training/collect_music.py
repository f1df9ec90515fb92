"""Music by others as MIDI files of one meter each: `collect_music.py FOLDER [--songs NAME=PATH] [--scores NAME=PATH]`.

What bench/tempo.py and bench/faults.py measure with, and what the finder of beats learns from beside our own patterns.
FOLDER gets a folder for each NAME, and in it a file for each piece, one track for each part. --songs: MIDI files in
PATH and below, also inside game data (WAD files), as some games in Debian have them; --scores: scores that the Python
package music21 can read, such as a folder of its own corpus (look at what each allows). Both may be given several
times.
"""

from __future__ import annotations

import argparse
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))

from support.note_pairs import notes_of

from puresignal.core.midi import messages
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.io import midi_reader, midi_writer

PPQ = 480
UNMARKED = 80
"""Velocity of what is written without dynamics."""


@dataclass(frozen=True)
class Part:
    """Rows of (quarter notes from the first bar line, MIDI note, velocity, quarter notes long), and a channel 1..16."""

    rows: list[tuple[float, int, int, float]]
    channel: int


def written(parts: list[Part], meter: tuple[int, int], bpm: float) -> bytes:
    """A MIDI file of some parts."""
    tracks = []
    for part in parts:
        events = []
        for at, note, velocity, long in part.rows:
            begin, end = round(at * PPQ), max(round(at * PPQ) + 1, round((at + long) * PPQ))
            events += [(begin, 1, messages.NOTE_ON, note, velocity), (end, 0, messages.NOTE_OFF, note, 0)]
        events.sort()
        tick, _, kind, note, velocity = (np.array(column) for column in zip(*events, strict=True))
        rows = Messages(
            tick.astype(np.int64), (kind | (part.channel - 1)).astype(np.uint8), note.astype(np.uint8),
            velocity.astype(np.uint8), np.full(len(tick), -1, np.int32),
        )  # fmt: skip
        tracks.append(SongTrack("", rows, end_tick=int(tick.max())))
    tempo = TempoMap(PPQ, (Tempo(0, round(60e6 / bpm)),), (Meter(0, *meter),))
    return midi_writer.to_bytes(Song(1, tempo, tuple(tracks)))


def lumps(path: Path) -> Iterator[tuple[str, bytes]]:
    """Names and contents of the MIDI files inside a WAD file."""
    whole = path.read_bytes()
    count, at = struct.unpack("<II", whole[4:12])
    for i in range(count):
        begin, size, name = struct.unpack("<II8s", whole[at + 16 * i : at + 16 * i + 16])
        if whole[begin : begin + 4] == b"MThd":
            yield name.strip(b"\0").decode(), whole[begin : begin + size]


def songs(folder: Path) -> Iterator[tuple[str, bytes]]:
    """The longest stretch of one meter of every MIDI file, by name."""
    seen: set[bytes] = set()
    for path in sorted(folder.rglob("*")):
        if path.suffix.lower() not in (".mid", ".midi", ".wad"):
            continue
        found = lumps(path) if path.suffix.lower() == ".wad" else [(path.stem, path.read_bytes())]
        for name, content in found:
            if content in seen:
                continue
            seen.add(content)
            try:
                made = one_meter(midi_reader.parse(content, name))
            except (ValueError, OSError) as trouble:
                print(f"{name}: {trouble}")
                continue
            if made:
                yield name, made


def one_meter(song: Song) -> bytes | None:
    """The longest stretch of one meter, from its first bar line."""
    size = song.tempo.ppq
    last = max((int(t.messages.tick.max()) for t in song.tracks if len(t.messages)), default=0)
    meters = list(song.tempo.meters) or [Meter(0, 4, 4)]
    ends = [meter.tick for meter in meters[1:]] + [last]
    longest = int(np.argmax([end - meter.tick for end, meter in zip(ends, meters, strict=True)]))
    meter, begin, end = meters[longest], meters[longest].tick, ends[longest]
    rows: dict[int, list[tuple[float, int, int, float]]] = {}
    for track in song.tracks:
        for one in notes_of(track.messages):
            if begin <= one.begin < end:
                row = (one.begin - begin) / size, one.note, one.velocity, (one.end - one.begin) / size
                rows.setdefault(one.channel, []).append(row)
    tempos = [tempo for tempo in song.tempo.tempos if tempo.tick <= begin]
    bpm = tempos[-1].bpm if tempos else 120.0
    parts = [Part(sorted(found), channel) for channel, found in sorted(rows.items())]
    return written(parts, (meter.numerator, meter.denominator), bpm) if parts else None


def scores(folder: Path) -> Iterator[tuple[str, bytes]]:
    """The scores of one meter in a folder, by name."""
    from music21 import converter

    for path in sorted(folder.rglob("*")):
        if path.suffix not in (".mxl", ".xml", ".krn", ".abc", ".musicxml"):
            continue
        tunes = [path.read_text(errors="replace")]
        if path.suffix == ".abc":
            tunes = ["X:" + tune for tune in ("\n" + tunes[0]).split("\nX:")[1:]]
        for i, tune in enumerate(tunes):
            try:
                score = converter.parseData(tune, format="abc") if path.suffix == ".abc" else converter.parse(path)
                made = of_score(score)
            except Exception as trouble:
                print(f"{path.name} {i}: {trouble}")
                continue
            if made:
                yield f"{path.parent.name}-{path.stem}-{i}", made


def of_score(score: object) -> bytes | None:
    """A MIDI file of a score of one meter; a pick-up comes at the end of the first bar."""
    from music21 import harmony

    bars: list[float] = []
    meters: set[str] = set()
    found: list[list[tuple[float, int, int, float]]] = []
    for part in score.stripTies().parts:  # type: ignore[attr-defined]
        own = list(part.getElementsByClass("Measure"))
        for measure in own:
            meters |= {each.ratioString for each in measure.getElementsByClass("TimeSignature")}
        bars = max(bars, [float(measure.offset) for measure in own], key=len)
        rows = [
            (float(note.offset), int(pitch.midi), UNMARKED, float(note.quarterLength))
            for note in part.flatten().notes
            if not isinstance(note, harmony.ChordSymbol) and not note.duration.isGrace
            for pitch in note.pitches
        ]
        if rows:
            found.append(sorted(rows))
    if len(meters) != 1 or len(bars) < 10 or not found:
        return None
    numerator, denominator = (int(each) for each in meters.pop().split("/"))
    long = 4 * numerator / denominator
    if np.mean(np.abs((np.array(bars[1:]) - bars[1]) % long) < 0.01) < 0.95:
        return None
    first = bars[1] - long
    parts = [
        Part([(at - first, *rest) for at, *rest in rows], 1 + i % 9)  # type: ignore[misc]
        for i, rows in enumerate(found)
    ]
    return written(parts, (numerator, denominator), 120.0)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--songs", action="append", default=[], metavar="NAME=PATH")
    parser.add_argument("--scores", action="append", default=[], metavar="NAME=PATH")
    options = parser.parse_args()
    sources: dict[str, Iterator[tuple[str, bytes]]] = {}
    for given, read in ((options.songs, songs), (options.scores, scores)):
        for each in given:
            name, _, path = each.partition("=")
            if not Path(path).is_dir() or not path:
                parser.error(f"{each}: NAME=PATH is needed, and PATH must be a folder")
            sources[name] = read(Path(path))
    for name, pieces in sources.items():
        (options.folder / name).mkdir(parents=True, exist_ok=True)
        count = 0
        for piece, content in pieces:
            (options.folder / name / f"{piece}.mid").write_bytes(content)
            count += 1
        print(f"{name}: {count} pieces", flush=True)


if __name__ == "__main__":
    main()
