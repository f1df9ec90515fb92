"""Delivering: the file that a path's outcome becomes, the same from window and command line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.events import NO_EVENT, NOTE_OFF, NOTE_ON, PROGRAM, Controls, Notes, Take
from puresignal.core.path.context import PathTrack
from puresignal.core.path.path import Outcome
from puresignal.core.song import Messages, Song, SongTrack

TEXT, COPYRIGHT, TRACK_NAME, INSTRUMENT, LYRIC, MARKER, CUE, KEY_SIGNATURE = 1, 2, 3, 4, 5, 6, 7, 0x59
CARRIED = (TEXT, COPYRIGHT, LYRIC, MARKER, CUE, KEY_SIGNATURE)
"""Meta events of an imported file that belong to the music, not to its old tracks."""


@dataclass(frozen=True)
class FileTrack:
    """A track of the file to be: which of the outcome's tracks it is, and what it is called."""

    index: int
    track: PathTrack
    title: str


def file_tracks(outcome: Outcome, titles: dict[str, str] | None = None) -> tuple[FileTrack, ...]:
    """The tracks that a file will hold, in order: those with notes, and channels with controls alone.

    titles  names the player gave, by the track's key
    """
    titles = titles or {}
    used = set(np.unique(outcome.clean.track).tolist())
    # A channel of its own keeps its controls though it has no note; within a kit they go to a track that has some.
    used |= {int(t) for t in np.unique(outcome.controls.track) if "/" in outcome.tracks[int(t)].key}
    if not used and len(outcome.controls):
        used = {int(outcome.controls.track[0])}
    tracks = [outcome.tracks[i] for i in sorted(used)]
    return tuple(
        FileTrack(i, track, titles.get(track.key) or track.title) for i, track in zip(sorted(used), tracks, strict=True)
    )


def build_song(outcome: Outcome, take: Take, titles: dict[str, str] | None = None) -> Song:
    """A Type 1 song: first the tempo and texts, then a named track for each that holds something.

    Where the take was imported and a time was not changed, the file's own ticks are written.
    """
    tracks = file_tracks(outcome, titles)
    kept_controls = _rehomed(outcome.controls, outcome, tracks)
    starts = _ticks(take, outcome.clean.start, outcome.clean.origin)
    ends = _ticks(take, outcome.clean.end, outcome.clean.end_event)
    moments = _ticks(take, outcome.controls.at, outcome.controls.origin)
    length = max(take.end_tick, int(ends.max(initial=0)), int(moments.max(initial=0)))
    metas = tuple(m for m in take.metas if m.kind in CARRIED)
    songs = [SongTrack(take.name, Messages.empty(), metas, (), length)]
    for entry in tracks:
        notes = outcome.clean.track == entry.index
        controls = kept_controls == entry.index
        messages = _messages(
            outcome.clean.take(notes), starts[notes], ends[notes], outcome.controls.take(controls), moments[controls]
        )
        songs.append(SongTrack(entry.title, messages, (), (), length))
    return Song(1, take.tempo, tuple(songs))


def _rehomed(controls: Controls, outcome: Outcome, tracks: tuple[FileTrack, ...]) -> np.ndarray:
    """(controls,) the track that carries each control: its own, or the kit's first where its own has no notes."""
    present = np.zeros(len(outcome.tracks), bool)
    present[[t.index for t in tracks]] = True
    kit = [t.index for t in tracks if "/" not in t.track.key]
    home = np.arange(len(outcome.tracks))
    if kit:
        home[~present] = kit[0]
    return np.asarray(home[controls.track])


def _ticks(take: Take, seconds: np.ndarray, event: np.ndarray) -> np.ndarray:
    """Ticks of moments: the event's own where the moment is still the event's, else from the tempo map."""
    ticks = np.maximum(take.tempo.seconds_to_ticks(seconds), 0)
    if take.ticks is not None and len(take.ticks):
        known = event != NO_EVENT
        known &= take.events.arrived[event] == seconds
        ticks = np.where(known, take.ticks[event], ticks)
    return np.asarray(ticks)


def _messages(notes: Notes, starts: np.ndarray, ends: np.ndarray, controls: Controls, at: np.ndarray) -> Messages:
    """Messages by tick; at one tick first ends, then controls, then starts, so that every receiver agrees."""
    lasting = ends > starts
    # A repaired end may fall on its start's tick in a coarse file; only what had no length on purpose stays so.
    ends = np.where(~lasting & (notes.end > notes.start), starts + 1, np.maximum(ends, starts))
    zero = ends == starts
    velocity = np.clip(np.rint(notes.velocity), 1, 127)
    rank = np.concatenate([np.where(zero, 3, 0), np.where((controls.kind == PROGRAM), 1, 2), np.full(len(notes), 3)])
    seq = np.concatenate([notes.seq * 2 + 1, controls.seq * 2, notes.seq * 2])
    tick = np.concatenate([ends, at, starts])
    order = np.lexsort((seq, rank, tick))
    n = len(notes)
    status = np.concatenate([
        np.full(n, NOTE_OFF) | (notes.channel - 1), controls.kind | (controls.channel - 1),
        np.full(n, NOTE_ON) | (notes.channel - 1),
    ])  # fmt: skip
    data1 = np.concatenate([notes.note, controls.number, notes.note])
    data2 = np.concatenate([notes.release, controls.value, velocity])
    return Messages(tick[order], status[order], data1[order], data2[order], np.full(len(order), -1))
