"""Builds the MIDI file of a result, the same for window and command line."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import NO_EVENT, Controls, Meta, Notes, Take
from puresignal.core.midi.messages import CONTROL, LYRIC, MARKER, NOTE_OFF, NOTE_ON
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.midi.tempo_map import Tempo, TempoMap
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import PathTrack
from puresignal.core.path.pair import FINE
from puresignal.core.session.track_settings import Delivery, TrackSettings
from puresignal.translation import tr

TEXT, COPYRIGHT, TRACK_NAME, INSTRUMENT, CUE, KEY_SIGNATURE = 1, 2, 3, 4, 7, 0x59
PROGRAM_NAME, DEVICE, CHANNEL_PREFIX, SMPTE_OFFSET, SEQUENCER = 8, 9, 0x20, 0x54, 0x7F
CARRIED = (TEXT, COPYRIGHT, LYRIC, MARKER, CUE, KEY_SIGNATURE, SMPTE_OFFSET)
"""Meta events of an imported file that belong to the music and not to its old tracks."""
OF_TRACK = (INSTRUMENT, PROGRAM_NAME, DEVICE, CHANNEL_PREFIX, SEQUENCER)
"""Meta events that belong to a track: kept where that track is one of the file too."""


@dataclass(frozen=True)
class FileTrack:
    """A track of the file to be written.

    index    its index in the outcome's tracks
    title    its name
    colour   the family whose colour it has
    channel  channel of all its notes, None if each keeps its own
    out      whether it is written
    """

    index: int
    track: PathTrack
    title: str
    colour: str
    channel: int | None = None
    out: bool = True
    settings: TrackSettings = field(default_factory=lambda: TrackSettings(""))


@dataclass(frozen=True)
class Clip:
    """A part of a take: some of its tracks, a time range, or both.

    keys        of the tracks, None for all that are written
    begin, end  seconds; selects the notes that start in between, extended to whole bars
    """

    keys: frozenset[str] | None = None
    begin: float | None = None
    end: float | None = None


def file_tracks(outcome: Outcome, delivery: Delivery | None = None) -> tuple[FileTrack, ...]:
    """The tracks of the file in order: those with notes, and channels that have only controls."""
    delivery = delivery or Delivery()
    used = set(distinct(outcome.output_notes.track).tolist())
    # A channel without notes keeps its controls on its own track; within a kit they go to a track that has notes.
    used |= {int(t) for t in distinct(outcome.controls.track) if "/" in outcome.tracks[int(t)].key}
    of_kit = {int(t) for t in distinct(outcome.controls.track) if "/" not in outcome.tracks[int(t)].key}
    if of_kit and not any("/" not in outcome.tracks[t].key for t in used):
        # A kit's channel without a single note: its programs and controllers have no other place.
        used.add(min(of_kit))
    place = {key: i for i, key in enumerate(delivery.order)}
    rows = []
    for index in sorted(used, key=lambda i: (place.get(outcome.tracks[i].key, len(place)), i)):
        track = outcome.tracks[index]
        own = delivery.track(track.key)
        title, colour = own.title or track.title, own.colour or track.family
        rows.append(FileTrack(index, track, title, colour, own.channel, own.out, own))
    return tuple(rows)


def build_song(outcome: Outcome, take: Take, delivery: Delivery | None = None, clip: Clip | None = None) -> Song:
    """Build a Type 1 song: a tempo track with the texts, then a named track for each that holds something.

    Events of an imported take keep the file's own ticks wherever their time is unchanged.
    """
    clip = clip or Clip()
    every = file_tracks(outcome, delivery)
    tracks = tuple(t for t in every if t.out and (clip.keys is None or t.track.key in clip.keys))
    kept_controls = _rehomed(outcome.controls, outcome, every)
    notes_out, moves = levelled(outcome.output_notes, every), outcome.controls
    late, late_moves = _late(every, outcome, notes_out.track), _late(every, outcome, kept_controls)
    starts = _ticks(take, notes_out.start, notes_out.origin, late)
    ends = _ticks(take, notes_out.end, notes_out.end_event, late)
    moments = _ticks(take, moves.at, moves.origin, late_moves)
    length = max(take.end_tick, int(ends.max(initial=0)), int(moments.max(initial=0)))
    begin, stop = _stretch(take.tempo, clip, length)
    in_time = (starts >= begin) & (starts < stop)
    in_time_too = (moments >= begin) & (moments < stop)
    length = min(length, stop) - begin
    metas = tuple(
        Meta(max(0, m.tick - begin), m.kind, m.data)
        for m in take.metas
        if m.kind in CARRIED and m.event == NO_EVENT and begin <= m.tick < stop
    )
    sung = _sung(take, notes_out, starts)
    songs = [SongTrack(_title(take), Messages.empty(), metas, (), length)]
    homes = homes_of_metas(tracks)
    note_ports, control_ports = _midi_ports(take, outcome.output_notes.port), _midi_ports(take, outcome.controls.port)
    for entry in tracks:
        mine = (outcome.output_notes.track == entry.index) & in_time
        controls_too = (kept_controls == entry.index) & in_time_too
        metas = tuple(
            replace(m, tick=max(0, m.tick - begin))
            for m in take.metas
            if m.kind in OF_TRACK and begin <= m.tick < stop and homes.get(m.port) == entry.index
        )
        words = (Meta(m.tick - begin, m.kind, m.data) for m in sung.get(entry.index, ()) if begin <= m.tick < stop)
        metas = tuple(sorted((*metas, *words), key=lambda m: m.tick))
        # A file has a track for each MIDI port: kits on two of them stay apart.
        ports = sorted({*distinct(note_ports[mine]).tolist(), *distinct(control_ports[controls_too]).tolist()}) or [0]
        for port in ports:
            notes, controls = mine & (note_ports == port), controls_too & (control_ports == port)
            messages = _messages(
                notes_out.take(notes),
                starts[notes] - begin,
                ends[notes] - begin,
                outcome.controls.take(controls),
                moments[controls] - begin,
                entry.channel,
            )
            messages = _after(entry, outcome.output_notes.channel[notes], messages)
            title = entry.title if port == ports[0] else tr("{name}, port {n}", name=entry.title, n=port + 1)
            songs.append(SongTrack(title, messages, metas if port == ports[0] else (), (), length, port))
    return Song(1, _from(take.tempo, begin), tuple(songs))


def levelled(notes: Notes, tracks: tuple[FileTrack, ...]) -> Notes:
    """The notes, louder and softer by the level of their track where that is a velocity."""
    gain = {entry.index: entry.settings.gain for entry in tracks if entry.settings.gain != 1.0}
    if not gain:
        return notes
    velocity = notes.velocity.astype(float)
    for index, factor in gain.items():
        mine = notes.track == index
        own = velocity[mine]
        scaled = own * factor
        velocity[mine] = np.clip(np.where(own == np.rint(own), np.rint(scaled), scaled), 1, 127)
    return notes.but(velocity=velocity)


def _sung(take: Take, notes: Notes, starts: np.ndarray) -> dict[int, list[Meta]]:
    """Syllables where their notes begin, by the track of these. starts: (n,) ticks"""
    words = {meta.event: meta for meta in take.metas if meta.event != NO_EVENT}
    found: dict[int, list[Meta]] = {}
    for row in np.flatnonzero((notes.branch == 0) & np.isin(notes.origin, list(words))).tolist() if words else ():
        meta = replace(words[int(notes.origin[row])], tick=int(starts[row]))
        found.setdefault(int(notes.track[row]), []).append(meta)
    return found


def _title(take: Take) -> str:
    """The name of the first track: that of the imported piece, if its first track held nothing else, or the take's."""
    if take.ticks is not None and take.ports[0].name and not np.any(take.events.port == 0):
        return take.ports[0].name
    return take.name


def homes_of_metas(tracks: tuple[FileTrack, ...]) -> dict[int, int]:
    """For each track of an imported file the index of the track that carries what belonged to it, if there is one."""
    homes: dict[int, int] = {}
    for entry in tracks:
        if entry.track.port >= 0:
            homes.setdefault(entry.track.port, entry.index)
    return homes


def _midi_ports(take: Take, ports: np.ndarray) -> np.ndarray:
    """(n,) the MIDI port of each of a take's ports in an imported file, 0 in a recorded take."""
    devices = np.array([port.device if take.ticks is not None else 0 for port in take.ports], np.int64)
    return np.asarray(devices[ports])


def channels_of(entry: FileTrack, own: np.ndarray) -> list[int]:
    """The channels that a track uses, 1..16. own: channels of its notes."""
    return [entry.channel] if entry.channel is not None else sorted({int(c) for c in distinct(own)})


def _after(entry: FileTrack, own: np.ndarray, messages: Messages) -> Messages:
    """Put bank, program and level before everything else."""
    first = [m for channel in channels_of(entry, own) for m in entry.settings.first_messages(channel)]
    if not first:
        return messages
    rows = np.array([[*m, 0][:3] for m in first], np.int64)
    zeros = np.zeros(len(rows), np.int64)
    return Messages(
        np.concatenate([zeros, messages.tick]),
        np.concatenate([rows[:, 0], messages.status]),
        np.concatenate([rows[:, 1], messages.data1]),
        np.concatenate([rows[:, 2], messages.data2]),
        np.concatenate([zeros - 1, messages.payload]),
    )


def _stretch(tempo: TempoMap, clip: Clip, length: int) -> tuple[int, int]:
    """First tick of the clip and the tick after its last: whole bars."""
    if clip.begin is None or clip.end is None:
        return 0, length + 1
    first, _, _ = tempo.position(clip.begin)
    last, beat, rest = tempo.position(clip.end)
    return tempo.bar_start(first), tempo.bar_start(last + (1 if beat > 1 or rest > 0 else 0))


def _from(tempo: TempoMap, begin: int) -> TempoMap:
    """The tempo map from a tick on."""
    if not begin:
        return tempo
    tempos = [t for t in tempo.tempos if t.tick <= begin][-1:] + [t for t in tempo.tempos if t.tick > begin]
    meters = [m for m in tempo.meters if m.tick <= begin][-1:] + [m for m in tempo.meters if m.tick > begin]
    return TempoMap(
        tempo.ppq,
        tuple(Tempo(max(0, t.tick - begin), t.us_per_quarter) for t in tempos),
        tuple(replace(m, tick=max(0, m.tick - begin)) for m in meters),
    )


def _rehomed(controls: Controls, outcome: Outcome, tracks: tuple[FileTrack, ...]) -> np.ndarray:
    """(controls,) the track that carries each control: its own, or the kit's first if its own has no notes."""
    present = np.zeros(len(outcome.tracks), bool)
    present[[t.index for t in tracks]] = True
    kit = sorted(t.index for t in tracks if "/" not in t.track.key)
    home = np.arange(len(outcome.tracks))
    if kit:
        home[~present] = kit[0]
    return np.asarray(home[controls.track])


def _late(tracks: tuple[FileTrack, ...], outcome: Outcome, track: np.ndarray) -> np.ndarray:
    """(n,) seconds by which each row of a track leaves later. track: (n,) its number."""
    by_track = np.zeros(len(outcome.tracks) + 1)
    for entry in tracks:
        by_track[entry.index] = entry.settings.offset / 1000.0
    return np.asarray(by_track[track])


def _ticks(take: Take, seconds: np.ndarray, event: np.ndarray, late: np.ndarray) -> np.ndarray:
    """Ticks of moments: the event's own where the time is unchanged, else from the tempo map."""
    ticks = np.maximum(take.tempo.seconds_to_ticks(seconds + late), 0)
    if take.ticks is not None and len(take.ticks):
        known = (event != NO_EVENT) & (late == 0.0)
        known &= take.events.arrived[event] == seconds
        ticks = np.where(known, take.ticks[event], ticks)
    return np.asarray(ticks)


def fine_parts(velocity: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Whole velocities 1..127, the high-resolution prefixes, and the rows that have one."""
    whole = np.clip(np.rint(velocity), 1, 127)
    prefix = np.clip(np.rint((velocity - whole) * 128 + 63.5), 0, 127)
    return whole, prefix, np.flatnonzero(velocity != whole)


def _messages(
    notes: Notes, starts: np.ndarray, ends: np.ndarray, controls: Controls, at: np.ndarray, channel: int | None
) -> Messages:
    """Messages by tick; at one tick ends come first, then controls, then note-ons, so that every receiver agrees."""
    lasting = ends > starts
    # In a coarse file a repaired end may fall on its start's tick; only notes without length on purpose stay so.
    ends = np.where(~lasting & (notes.end > notes.start), starts + 1, np.maximum(ends, starts))
    zero = ends == starts
    velocity, prefix, exact = fine_parts(notes.velocity)
    # A prefix applies to the next note of its channel, so it comes right before its own.
    own_place = np.arange(len(notes)) * 2 + 1
    rank = np.concatenate([np.where(zero, 3, 0), np.full(len(controls), 2), np.full(len(notes) + len(exact), 3)])
    seq = np.concatenate([notes.seq * 2 + 1, controls.seq * 2, notes.seq * 2, notes.seq[exact] * 2])
    within = np.concatenate([own_place, np.zeros(len(controls), np.int64), own_place, own_place[exact] - 1])
    tick = np.concatenate([ends, at, starts, starts[exact]])
    order = np.lexsort((within, seq, rank, tick))
    n = len(notes)
    own, own_controls = notes.channel - 1, controls.channel - 1
    if channel is not None:
        own, own_controls = np.full(n, channel - 1), np.full(len(controls), channel - 1)
    status = np.concatenate(
        [np.full(n, NOTE_OFF) | own, controls.kind | own_controls, np.full(n, NOTE_ON) | own, CONTROL | own[exact]]
    )
    data1 = np.concatenate([notes.note, controls.number, notes.note, np.full(len(exact), FINE)])
    data2 = np.concatenate([notes.release, controls.value, velocity, prefix[exact]])
    return Messages(tick[order], status[order], data1[order], data2[order], np.full(len(order), -1))
