"""The result of a whole session: every take that is in, on one timeline, as one file."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.export.arranged import arranged
from puresignal.core.export.song_builder import KEY_SIGNATURE, build_song
from puresignal.core.harmony import keys
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Meta, Take
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.path.cleaning_path import Outcome, StageCache, in_round, run
from puresignal.core.path.context import Wiring
from puresignal.core.path.several_takes import BEATS, CLOCK, Placed, Round, run_together
from puresignal.core.session.destination import Destination
from puresignal.core.session.materials import material_of, numbers_of_drawn
from puresignal.core.session.playing_order import is_plain, pieces
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, TakeRef
from puresignal.core.session.track_settings import Delivery, TrackSettings
from puresignal.core.timing.session_time import MeterPoint, Timeline

USUAL_METER = (MeterPoint(1, 4, 4),)


@dataclass(frozen=True, eq=False)
class Result:
    """take: all takes as one, or the only one as it is."""

    outcome: Outcome
    take: Take
    names: tuple[str, ...]


def placed_takes(session: Session, takes: Mapping[str, Take], timeline: Timeline | None = None) -> list[Placed]:
    """The takes that are in, at their places."""
    timeline = timeline or timeline_of(session, takes)
    return [placed_take(session, ref, takes, timeline) for ref in session.takes if ref.is_in]


def placed_take(
    session: Session, ref: TakeRef, takes: Mapping[str, Take], timeline: Timeline, cache: StageCache | None = None
) -> Placed:
    """One take at its place."""
    rounds = tuple(
        Round(
            one.begin, one.end, one.beat, one.is_in, one.track,
            None if one.bars is None else (timeline.bar_to_beats(one.bars[0]), timeline.bar_to_beats(one.bars[1])),
        )
        for one in sorted(ref.passes, key=lambda one: one.begin)
    )  # fmt: skip
    return Placed(
        material_of(ref, takes),
        ref.source,
        target_of(session, ref.input),
        ref.verdicts,
        ref.beat,
        BEATS if ref.follows_beats else CLOCK,
        cache,
        ref.number,
        ref.begin,
        ref.end,
        ref.grid,
        rounds,
        _chosen(session, ref, timeline),
        wiring_of(
            session,
            ref.input,
            ref.own,
            ref.channels,
            (*(one.track for one in ref.passes if one.track), *ref.edits.tracks),
        ),
        _channel(session, ref.input),
        ref.edits,
        ref.heard,
        ref.rings,
        lyrics_of(ref),
    )


def lyrics_of(ref: TakeRef) -> tuple[tuple[int, str], ...]:
    """The syllables of a take's notes by the events that start them."""
    if ref.kind != DRAWN or not ref.lyrics:
        return ref.lyrics
    # Of a drawn note both events have its number: it begins with the first.
    numbers = numbers_of_drawn(ref).tolist()
    return tuple((numbers.index(number), text) for number, text in ref.lyrics if number in numbers)


def delivery_of(session: Session, keys: Iterable[str] = ()) -> Delivery:
    """The settings of the tracks with ports, channels and offsets in place of destinations.

    keys  of tracks of the result: one without a destination of its own has the offset of its input's
    """
    tracks = {}
    for track in session.delivery.tracks:
        to = session.destination(track.port)
        if track.port:
            offset = track.offset + to.offset
            channel = track.channel or to.channel
            track = replace(track, port=to.port, channel=channel, offset=offset, drives=to.drives)
        tracks[track.key] = track
    for key, homes in _homes(session, keys).items():
        track = tracks.get(key, TrackSettings(key))
        late = {0.0 if home is None else home.offset for home in homes}
        if not track.port and len(late) == 1 and late != {0.0}:
            tracks[key] = replace(track, offset=track.offset + late.pop())
    return replace(session.delivery, tracks=tuple(tracks.values()))


def played_back_by(session: Session, delivery: Delivery, keys: Iterable[str], sound: str) -> Delivery:
    """The settings of tracks with the port that each is played back to, named even where nothing was chosen.

    A track without a destination of its own goes where the input that it was played on sends what is played, so that a
    take sounds as it did; `sound` is for tracks of several inputs, and of takes that were not played on one.
    """
    keys = tuple(keys)
    homes = _homes(session, keys)
    tracks = {track.key: track for track in delivery.tracks}
    for key in keys:
        track = tracks.get(key, TrackSettings(key))
        there = {sound if home is None else home.port for home in homes.get(key, ())}
        if not track.port:
            tracks[key] = replace(track, port=there.pop() if len(there) == 1 else sound)
    return replace(delivery, tracks=tuple(tracks.values()))


def _homes(session: Session, keys: Iterable[str]) -> dict[str, set[Destination | None]]:
    """Where the inputs of a track's takes send what is played, by the track's key; None: nowhere of their own."""
    keys = tuple(keys)
    homes: dict[str, set[Destination | None]] = {}
    for ref in session.takes if keys else ():
        one = session.input(ref.input) if ref.input and ref.is_in else None
        home = session.destination(one.output) if one is not None and one.output else None
        for key in keys:
            if _is_of(session, ref, key):
                homes.setdefault(key, set()).add(home)
    return homes


def _is_of(session: Session, ref: TakeRef, key: str) -> bool:
    """Whether a take's notes go to a track by themselves."""
    own = {one.own for one in session.takes if one.own} | {one.channels for one in session.takes if one.channels}
    mine = [begin for begin in (ref.own, ref.channels) if begin]
    if any(key.startswith(begin) for begin in mine):
        return True
    return not ref.own and not any(key.startswith(begin) for begin in own)


def _channel(session: Session, ident: str) -> int:
    """The channel that an input's destination wants for everything, 0 for none."""
    one = session.input(ident) if ident else None
    return (session.destination(one.output).channel or 0) if one is not None and one.output else 0


def target_of(session: Session, ident: str) -> NoteMap | None:
    """The note map that an input's notes leave by: its destination's, else the session's."""
    one = session.input(ident) if ident else None
    own = session.destination(one.output).target if one is not None and one.output else None
    return own or session.target


def wiring_of(session: Session, ident: str, own: str, channels: str, further: tuple[str, ...] = ()) -> Wiring:
    """The tracks that notes of a take or an input go to. further: keys of tracks that its passes go to."""
    one = session.input(ident) if ident else None
    title = (one.title if one is not None else "") or own.rstrip(":")
    targets = tuple(
        (track.key, target)
        for track in session.delivery.tracks
        if track.port and (target := session.destination(track.port).target) is not None
    )
    sends = (*session.sends, ("", tuple(dict.fromkeys(further)))) if further else session.sends
    return Wiring(own, title if own else "", channels, sends, targets)


def _chosen(session: Session, ref: TakeRef, timeline: Timeline) -> tuple[tuple[float, float], ...] | None:
    """The beats between which a take is used, where it is one of several of the same thing."""
    group = next((one for one in session.alternatives if ref.ident in one.takes), None)
    if group is None:
        return None
    points = [(-math.inf, group.takes[0])]
    points += [(timeline.bar_to_beats(bar), ident) for bar, ident in sorted(group.choice)]
    ends = [beat for beat, _ in points[1:]] + [math.inf]
    return tuple((beat, end) for (beat, ident), end in zip(points, ends, strict=True) if ident == ref.ident)


def timeline_of(session: Session, takes: Mapping[str, Take]) -> Timeline:
    """The session's tempo and meters: its own, else those of the first take that is in and knows its own."""
    if session.timeline is not None:
        return session.timeline
    first = next((ref for ref in session.takes if ref.is_in and ref.has_grid), None)
    if first is None:
        return Timeline()
    if first.grid is not None:
        return replace(first.grid, start=0.0)
    return Timeline.from_tempo_map(material_of(first, takes).tempo)


def result(
    session: Session, takes: Mapping[str, Take], ppq: int | None = None, order: Sequence[tuple[str, int]] | None = None
) -> Result:
    """The result of the takes that are in, in the order in which the sections are played.

    takes  materials by ident
    ppq    ticks a quarter note, None for as many as keep every take's
    order  (ident of a section, times), None: the session's
    """
    timeline = timeline_of(session, takes)
    placed = placed_takes(session, takes, timeline)
    names = tuple(ref.name for ref in session.takes if ref.is_in)
    sounding = [one for one in placed if len(one.take.events)]
    alone = sounding[0] if len(sounding) == 1 else None
    plain = order is None and is_plain(session)
    if (
        plain
        and not session.markers
        and alone is not None
        and ppq in (None, alone.take.tempo.ppq)
        and is_as_it_came(alone, timeline)
    ):
        # A take alone at its own tempo: its file says more than a timeline does, and none of it is lost.
        context = alone.context(session.path)
        return Result(run(alone.take, session.path, context, edits=alone.edits), alone.with_lyrics, names)
    whole = run_together(placed, session.path, timeline)
    outcome, take = whole.for_file(session.name, ppq, session.markers)
    if not plain:
        wanted = pieces(session, last_bar(outcome, take, timeline, whole.bars_before), order)

        def of_round(number: int) -> Outcome:
            path = in_round(session.path, number)
            return run_together(placed, path, timeline).for_file(session.name, ppq)[0]

        outcome, take, _, _ = arranged(
            outcome, take, whole.context, timeline, whole.bars_before, wanted, of_round if varies(session) else None
        )
    return Result(outcome, take, names)


def varies(session: Session) -> bool:
    """Whether anything is drawn by chance, so that each round of a section differs."""
    path = session.path
    return path.probability.on or not path.vary.plain


def last_bar(outcome: Outcome, take: Take, timeline: Timeline, bars_before: int) -> int:
    """The last bar in which anything begins. outcome, take: in the time of their file"""
    shift = 0.0
    if bars_before:
        shift = float(take.tempo.ticks_to_seconds(np.array([take.tempo.bar_start(bars_before + 1)]))[0])
    last = max(outcome.output_notes.start.max(initial=0.0), outcome.controls.at.max(initial=0.0))
    beat = float(timeline.seconds_to_beats(np.array([last - shift]))[0])
    return max(1, timeline.beats_to_bar(beat + 1e-6)[0])


def is_as_it_came(placed: Placed, timeline: Timeline) -> bool:
    """Whether a take stands where its file has it, at the tempo that its file states."""
    own = Timeline.from_tempo_map(placed.take.tempo)
    as_file = placed.is_whole and not placed.beat and _alike(timeline, own)
    return as_file and (placed.grid is None or _alike(placed.grid, own))


def _alike(one: Timeline, other: Timeline) -> bool:
    """Whether two say the same, but for tempos that a file holds as whole microseconds."""
    if one == other:
        return True
    if len(one.tempos) != len(other.tempos) or (one.meters or USUAL_METER) != (other.meters or USUAL_METER):
        return False
    return all(
        a.beat == b.beat and a.glides == b.glides and abs(a.bpm - b.bpm) < 0.001
        for a, b in zip(one.tempos, other.tempos, strict=True)
    )


def song_of(session: Session, made: Result, with_key: bool = True) -> Song:
    """The file of a result: a named track for each of its tracks."""
    delivery = delivery_of(session, [track.key for track in made.outcome.tracks])
    return with_session_key(build_song(made.outcome, made.take, delivery), session, with_key)


def with_session_key(song: Song, session: Session, with_key: bool = True) -> Song:
    """A song with the session's key in place of those of its takes, or without any."""
    signature = keys.signature(session.key) if with_key else None
    if with_key and signature is None:
        return song
    tracks = tuple(
        replace(track, metas=tuple(meta for meta in track.metas if meta.kind != KEY_SIGNATURE)) for track in song.tracks
    )
    if signature is not None and tracks:
        first = Meta(0, KEY_SIGNATURE, signature)
        tracks = (replace(tracks[0], metas=(first, *tracks[0].metas)), *tracks[1:])
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
