"""The result of a whole session: every take that is in, on one timeline, as one file."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from puresignal.core.export.song_builder import KEY_SIGNATURE, build_song
from puresignal.core.midi.events import Take
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.path.cleaning_path import Outcome, make_context, run
from puresignal.core.path.several_takes import BEATS, CLOCK, Placed, run_together
from puresignal.core.session.session import Session, TakeRef
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True, eq=False)
class Result:
    """take: all takes as one, or the only one as it is."""

    outcome: Outcome
    take: Take
    names: tuple[str, ...]


def placed_takes(session: Session, takes: dict[str, Take]) -> list[Placed]:
    """The takes that are in, at their places."""
    return [_placed(session, ref, takes[ref.ident]) for ref in session.takes if ref.is_in]


def _placed(session: Session, ref: TakeRef, take: Take) -> Placed:
    follows = ref.follows or (BEATS if take.ticks is not None else CLOCK)
    return Placed(take, ref.source, session.target, dict(ref.verdicts), ref.beat, follows)


def timeline_of(session: Session, takes: dict[str, Take]) -> Timeline:
    """The session's tempo and meters: its own, else those of the first take that is in."""
    if session.timeline is not None:
        return session.timeline
    first = next((takes[ref.ident] for ref in session.takes if ref.is_in), None)
    return Timeline() if first is None else Timeline.from_tempo_map(first.tempo)


def result(session: Session, takes: dict[str, Take], ppq: int | None = None) -> Result:
    """What the takes that are in come to.

    takes  by ident
    ppq    ticks a quarter note, None for as many as keep every take's
    """
    placed = placed_takes(session, takes)
    names = tuple(ref.name for ref in session.takes if ref.is_in)
    alone = placed[0] if len(placed) == 1 else None
    if alone is not None and session.timeline is None and not alone.beat and ppq in (None, alone.take.tempo.ppq):
        # A take alone at its own tempo: its file says more than a timeline does, and none of it is lost.
        context = make_context(alone.take, alone.source, alone.target, session.path, alone.verdicts)
        return Result(run(alone.take, session.path, context), alone.take, names)
    outcome, take = run_together(placed, session.path, timeline_of(session, takes)).for_file(session.name, ppq)
    return Result(outcome, take, names)


def song_of(session: Session, made: Result, with_key: bool = True) -> Song:
    """The file of a result: a named track for each of its tracks."""
    song = build_song(made.outcome, made.take, session.delivery)
    if with_key:
        return song
    tracks = tuple(
        replace(track, metas=tuple(meta for meta in track.metas if meta.kind != KEY_SIGNATURE)) for track in song.tracks
    )
    return replace(song, tracks=tracks)


def as_type_0(song: Song) -> Song:
    """The same in a single track, for devices that read no other: names of tracks and their ports have no place."""
    messages = Messages.join([track.messages for track in song.tracks])
    order = messages.tick.argsort(kind="stable")
    metas = sorted((meta for track in song.tracks for meta in track.metas), key=lambda meta: meta.tick)
    payloads: tuple[bytes, ...] = ()
    end = max((track.end_tick for track in song.tracks), default=0)
    name = song.tracks[0].name if song.tracks else ""
    return replace(song, format=0, tracks=(SongTrack(name, messages.take(order), tuple(metas), payloads, end),))


def checked(refs: Iterable[TakeRef], names: list[str]) -> tuple[TakeRef, ...]:
    """The takes with only those of these names in; all of them as they are if there are no names.

    Raises KeyError with a name that no take has
    """
    refs = tuple(refs)
    if not names:
        return refs
    for name in names:
        if all(ref.name != name for ref in refs):
            raise KeyError(name)
    return tuple(replace(ref, is_in=ref.name in names) for ref in refs)
