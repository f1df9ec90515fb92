"""Music by others, played without a click: takes for measuring and teaching the finder of beats that were not written
for it.

The files are those of training/collect_music.py: one folder for each source, one meter in each file. A take is some
bars of one part, or of all pitched parts together, with a hand's wander and faults (played_free). What was written
without dynamics gets accents, and a tempo at which it can be played.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from support.note_pairs import notes_of
from support.played_free import CRASH, KICK, SNARE, WAYS, Kind, Played, Row, play

from puresignal.core.midi.standard_midi_file import Messages
from puresignal.io import midi_reader

BEAT = {
    (2, 4): 1.0, (3, 4): 1.0, (4, 4): 1.0, (5, 4): 1.0, (6, 4): 1.0, (7, 4): 1.0, (2, 2): 2.0, (6, 8): 1.5,
    (9, 8): 1.5, (12, 8): 1.5, (3, 8): 0.5, (5, 8): 0.5, (7, 8): 0.5,
}  # fmt: skip
"""Quarter notes of a beat in each meter."""
TAUGHT = "learn-"
"""Folders that are learnt from begin like this; all others are only measured."""
DRUMS = 10
PLAYED_AS = {35: KICK, 40: SNARE, 57: CRASH, 55: CRASH, 52: CRASH}
"""Other notes for the same drums."""
ON_GRID = 0.8
"""Share of the notes that must lie on twelfths of a quarter note: where fewer do, the bars were not played to."""
SLOWEST, FASTEST = 50.0, 190.0
"""Beats in a minute."""
FEWEST_BARS = 6


@dataclass(frozen=True, eq=False)
class Piece:
    """rows: (n, 4) quarter notes, MIDI note, velocity, quarter notes long; bpm: None where none is given."""

    name: str
    source: str
    meter: tuple[int, int]
    rows: np.ndarray
    drums: bool
    bpm: float | None


def pieces(folder: Path) -> list[Piece]:
    """The parts that can be played by themselves, and of each file all pitched parts together.

    Ends the program if there are none: a figure of nothing would look like one of something.
    """
    found: list[Piece] = []
    for path in sorted(folder.glob("*/*.mid")):
        song = midi_reader.read(path)
        first = song.tempo.meters[0] if song.tempo.meters else None
        meter = (first.numerator, first.denominator) if first else (4, 4)
        if meter not in BEAT:
            continue
        parts: dict[int, np.ndarray] = {}
        for track in song.tracks:
            channel, rows = _notes(track.messages, song.tempo.ppq)
            if len(rows):
                parts[channel] = np.concatenate([parts[channel], rows]) if channel in parts else rows
        if not parts:
            continue
        every = np.concatenate(list(parts.values()))
        off = np.abs(every[:, 0] * 12 - np.rint(every[:, 0] * 12))
        if np.mean(off < 0.2) < ON_GRID:
            continue
        flat = len(np.unique(every[:, 2])) == 1
        bpm = None if flat else song.tempo.bpm_at(0.0)
        source, name = path.parent.name, f"{path.parent.name}/{path.stem}"
        pitched = [rows for channel, rows in parts.items() if channel != DRUMS]
        for channel, rows in parts.items():
            if len(parts) > 1 and len(rows) > 0.6 * every[:, 0].max():
                kind = "drums" if channel == DRUMS else "part"
                found.append(Piece(f"{name}/{channel}", f"{source}, {kind}", meter, rows, channel == DRUMS, bpm))
        if pitched:
            rows = np.concatenate(pitched)
            rows = rows[np.argsort(rows[:, 0], kind="stable")]
            found.append(Piece(name, f"{source}, all" if len(parts) > 1 else source, meter, rows, False, bpm))
    if not found:
        raise SystemExit(f"{folder}: no music in it (training/collect_music.py makes such a folder)")
    return found


def _notes(columns: Messages, ppq: int) -> tuple[int, np.ndarray]:
    """Channel and rows of a track whose messages are all of one channel."""
    notes = notes_of(columns)
    rows = [(one.begin / ppq, one.note, one.velocity, (one.end - one.begin) / ppq) for one in notes]
    return (notes[0].channel if notes else 1), np.array(sorted(rows)).reshape(-1, 4)


def take(piece: Piece, seed: int) -> Played | None:
    """Some bars of a piece as somebody plays them; None if hardly anything is played in those that were drawn."""
    chance = np.random.default_rng([seed, zlib.crc32(piece.name.encode())])
    long, beat = 4 * piece.meter[0] / piece.meter[1], BEAT[piece.meter]
    total, bars = int(piece.rows[-1, 0] // long) + 1, int(chance.integers(10, 24))
    for _ in range(20):
        first = int(chance.integers(0, max(1, total - bars)))
        begin = first * long
        rows = piece.rows[(piece.rows[:, 0] >= begin - 1e-6) & (piece.rows[:, 0] < begin + bars * long - 1e-6)]
        if len(rows) > 0.5 * bars * long:
            break
    else:
        return None
    bars = min(bars, total - first)
    if bars < FEWEST_BARS:
        return None
    at, loud = rows[:, 0] - first * long, rows[:, 2]
    if piece.bpm is None:
        loud = _accents(rows, at, long, beat, chance)
    table: list[list[Row]] = [[] for _ in range(bars)]
    for where, note, velocity, length in zip(at, rows[:, 1].astype(int).tolist(), loud, rows[:, 3], strict=True):
        bar = int((where + 1e-6) // long)
        number = PLAYED_AS.get(note, note) if piece.drums else note
        table[bar].append((float(where - bar * long), number, int(velocity), float(length)))
    bpm = _tempo(piece, len(np.unique(at.round(2))) / (bars * long), beat, chance)
    if not SLOWEST < bpm / beat < FASTEST:
        return None
    kind = Kind(piece.name, piece.meter, beat, lambda bar, _: table[bar], piece.drums, False)
    way = WAYS[int(chance.integers(len(WAYS)))]
    return play(kind, way, int(chance.integers(1 << 30)), bars, marks=False, bpm=bpm)


def _accents(rows: np.ndarray, at: np.ndarray, long: float, beat: float, chance: np.random.Generator) -> np.ndarray:
    """Velocities for what was written without any: a little more on bar lines and beats, or by pitch, or neither."""
    deep = chance.uniform(0, 16)
    half = 0.6 * chance.uniform(0, deep)
    on_line, on_beat = np.abs(at % long) < 0.01, np.abs(at / beat % 1) < 0.01
    loud = 70 + np.where(on_line, deep, np.where(on_beat, half, 0.0))
    if chance.random() < 0.3:
        loud = loud + chance.uniform(0.1, 0.5) * (rows[:, 1] - rows[:, 1].mean())
    return np.asarray(np.clip(loud, 25, 120))


def _tempo(piece: Piece, onsets: float, beat: float, chance: np.random.Generator) -> float:
    """Quarter notes in a minute: near the file's, or one at which 1.2 to 8 of the onsets come in a second.

    onsets  in a quarter note
    """
    if piece.bpm is not None:
        return piece.bpm * float(np.exp(chance.normal(0, 0.08)))
    bpm = 0.0
    for _ in range(50):
        bpm = float(chance.uniform(66, 176))
        if 1.2 < onsets * bpm / 60 < 8 and SLOWEST < bpm / beat < FASTEST:
            break
    return bpm
