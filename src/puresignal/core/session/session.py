"""The session as one frozen value, and the edits on it.

An edit is a plain function from a session to a session. Material is not in it, only its keys: it lives in a store
that undo never touches. What the player looks at is in `view`, which history does not go over.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session.arrangement import Alternatives, Loop, NamedSelection, Section
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.destination import Destination
from puresignal.core.session.held_generator import HeldGenerator
from puresignal.core.session.live_input import LiveInput, with_idents
from puresignal.core.session.recording import RecordingSettings
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.session.sync import Sync
from puresignal.core.session.take_ref import SOUND, TakeRef
from puresignal.core.session.track_settings import Delivery, TrackSettings, with_order, with_track
from puresignal.core.session.viewing import View
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True)
class Session:
    """Everything that belongs to a piece of work.

    target         note map of the receiver, where a destination has none of its own
    delivery       settings of the tracks
    inputs         the live inputs
    sound          settings of the built-in sound
    timeline       tempo and meters; None: those of the first take that is in and knows its own
    key            like "D minor"; empty: none was chosen
    sections       by bar
    order          idents of sections in the order in which they are played; empty: as they stand
    destinations   by name
    sends          (key of a track, keys of those that its notes go to instead)
    alternatives   takes of one thing
    selections     of notes, by name
    markers        (beats from bar 1, text), rising
    sync           whose time is followed, and who follows
    held           what plays while keys are held
    numbers        takes that were ever added
    view           what is looked at; not part of the history
    """

    name: str = "Untitled"
    takes: tuple[TakeRef, ...] = ()
    target: NoteMap | None = None
    path: CleaningPath = field(default_factory=CleaningPath)
    delivery: Delivery = field(default_factory=Delivery)
    inputs: tuple[LiveInput, ...] = (LiveInput(ident="in1"),)
    sound: SoundSettings = field(default_factory=SoundSettings)
    timeline: Timeline | None = None
    key: str = ""
    sections: tuple[Section, ...] = ()
    order: tuple[str, ...] = ()
    loop: Loop | None = None
    destinations: tuple[Destination, ...] = ()
    sends: tuple[tuple[str, tuple[str, ...]], ...] = ()
    alternatives: tuple[Alternatives, ...] = ()
    numbers: int = 0
    recording: RecordingSettings = field(default_factory=RecordingSettings)
    sync: Sync = field(default_factory=Sync)
    held: HeldGenerator = field(default_factory=HeldGenerator)
    selections: tuple[NamedSelection, ...] = ()
    markers: tuple[tuple[float, str], ...] = ()
    display: View = field(default_factory=View)

    def __post_init__(self) -> None:
        object.__setattr__(self, "inputs", with_idents(self.inputs))

    @property
    def current(self) -> str | None:
        """Ident of the chosen take."""
        return self.display.current

    @property
    def backing(self) -> Backing | None:
        """The chosen recorded sound, else the first."""
        ref = self.sound_take
        return None if ref is None else ref.sound

    @property
    def sound_take(self) -> TakeRef | None:
        """The chosen take of recorded sound, else the first."""
        sounds = [take for take in self.takes if take.kind == SOUND]
        return next((take for take in sounds if take.ident == self.current), sounds[0] if sounds else None)

    def take(self, ident: str | None = None) -> TakeRef | None:
        """A take by ident, by default the current one."""
        wanted = self.current if ident is None else ident
        return next((take for take in self.takes if take.ident == wanted), None)

    def destination(self, name: str) -> Destination:
        """A destination by name; the name of a port stands for the port."""
        return next((one for one in self.destinations if one.name == name), Destination(name, name))

    def input(self, ident: str) -> LiveInput | None:
        """An input by its ident."""
        return next((one for one in self.inputs if one.ident == ident), None)


def as_template(session: Session, name: str) -> Session:
    """Everything of a session that fits another tune: inputs, maps, destinations, tracks and settings, but no takes."""
    return replace(
        session, name=name, takes=(), sections=(), order=(), loop=None, alternatives=(), numbers=0, display=View(),
        markers=(),
        selections=tuple(one for one in session.selections if one.condition is not None),
    )  # fmt: skip


def with_marker(session: Session, beat: float, text: str, before: float | None = None) -> Session:
    """With a marker; one without text is none. before: beats of one that it stands in place of, in beats from bar 1"""
    gone = {beat, before}
    rows = [row for row in session.markers if row[0] not in gone]
    if text.strip():
        rows.append((beat, text.strip()))
    return replace(session, markers=tuple(sorted(rows)))


def with_lyrics(session: Session, ident: str, words: Mapping[int, str | None]) -> Session:
    """With syllables of a take's notes.

    words  by the event that starts a note, or the number of a drawn one. None takes one back; an empty one stands in
           place of what the take's file has there
    """
    ref = session.take(ident)
    if ref is None:
        return session
    rows: dict[int, str | None] = {**dict(ref.lyrics), **words}
    kept = tuple(sorted((key, text) for key, text in rows.items() if text is not None))
    return with_changed(session, ident, lyrics=kept)


def with_name(session: Session, name: str) -> Session:
    return replace(session, name=name.strip() or session.name)


def with_take(session: Session, take: TakeRef) -> Session:
    """Add a take at the end, give it a number and choose it."""
    number = session.numbers + 1
    if not take.number:
        # Channels of different takes are different tracks; the first take has the plain names.
        channels = take.channels or ("" if number == 1 else f"{number}.")
        take = replace(take, number=number, channels=channels)
    view = replace(session.display, current=take.ident)
    return replace(session, takes=(*session.takes, take), numbers=number, display=view)


def without_take(session: Session, ident: str) -> Session:
    """Remove a take from the session and choose the one before it. The store keeps its material."""
    places = [i for i, take in enumerate(session.takes) if take.ident == ident]
    left = tuple(take for take in session.takes if take.ident != ident)
    current = session.current
    if current == ident:
        current = left[max(0, places[0] - 1)].ident if left else None
    return replace(session, takes=left, display=replace(session.display, current=current))


def with_current(session: Session, ident: str) -> Session:
    """Choose a take. Only the view changes."""
    return replace(session, display=replace(session.display, current=ident)) if session.take(ident) else session


def with_alone(session: Session, alone: bool) -> Session:
    """Hear the chosen take alone, or all that are in. Only the view changes."""
    return replace(session, display=replace(session.display, alone=alone))


def with_in_order(session: Session, in_order: bool) -> Session:
    """See and hear the bars in playing order, or as they stand. Only the view changes."""
    return replace(session, display=replace(session.display, in_order=in_order))


def with_range(session: Session, begin: float, end: float) -> Session:
    """Select a range of beats on the ruler, or none where both are the same. Only the view changes."""
    if begin >= end:
        begin = end = 0.0
    return replace(session, display=replace(session.display, begin=begin, end=end))


def with_changed(session: Session, ident: str, **changed: object) -> Session:
    """Change fields of one take."""
    takes = tuple(replace(take, **changed) if take.ident == ident else take for take in session.takes)  # type: ignore[arg-type]
    return replace(session, takes=takes)


def with_source(session: Session, ident: str, source: NoteMap | None) -> Session:
    """Set the note map of the kit that a take was played on."""
    return with_changed(session, ident, source=source)


def with_placed(session: Session, ident: str, **changed: float | str | bool) -> Session:
    """Change where a take stands (`beat`), what it `follows`, or whether it `is_in`."""
    return with_changed(session, ident, **changed)


def with_take_name(session: Session, ident: str, name: str) -> Session:
    """Rename a take; an empty name leaves the old one."""
    return with_changed(session, ident, name=name.strip()) if name.strip() else session


def with_take_moved(session: Session, ident: str, by: int) -> Session:
    """Move a take up (-1) or down (1) in the list, as far as there is room."""
    row = list(session.takes)
    place = next((i for i, take in enumerate(row) if take.ident == ident), -1)
    other = place + by
    if place < 0 or not 0 <= other < len(row):
        return session
    row[place], row[other] = row[other], row[place]
    return replace(session, takes=tuple(row))


def with_timeline(session: Session, timeline: Timeline | None) -> Session:
    """Set tempo and meters of the session."""
    return replace(session, timeline=timeline)


def with_key(session: Session, key: str) -> Session:
    """Set the key, like "D minor", or none."""
    return replace(session, key=key)


def with_sync(session: Session, sync: Sync) -> Session:
    """Follow another program's time, or be followed."""
    return replace(session, sync=sync)


def with_held(session: Session, held: HeldGenerator) -> Session:
    """Set what plays while keys are held."""
    return replace(session, held=held)


def with_recording(session: Session, recording: RecordingSettings) -> Session:
    """Set how the session records, and its click."""
    return replace(session, recording=recording)


def with_loop(session: Session, loop: Loop | None) -> Session:
    return replace(session, loop=loop)


def with_destination(session: Session, destination: Destination, before: str = "") -> Session:
    """Add or replace a destination. before: its former name, which tracks and inputs then give up for the new one."""
    others = [one for one in session.destinations if one.name not in (destination.name, before)]
    session = replace(session, destinations=tuple(sorted((*others, destination), key=lambda one: one.name)))
    if before and before != destination.name:
        inputs = tuple(replace(one, output=destination.name) if one.output == before else one for one in session.inputs)
        tracks = [replace(t, port=destination.name) for t in session.delivery.tracks if t.port == before]
        session = with_tracks(replace(session, inputs=inputs), tracks)
    return session


def without_destination(session: Session, name: str) -> Session:
    """Remove a destination; what was sent to it goes to its port."""
    port = session.destination(name).port
    inputs = tuple(replace(one, output=port or None) if one.output == name else one for one in session.inputs)
    tracks = [replace(t, port=port) for t in session.delivery.tracks if t.port == name]
    left = tuple(one for one in session.destinations if one.name != name)
    return with_tracks(replace(session, inputs=inputs, destinations=left), tracks)


def with_sends(session: Session, key: str, tracks: tuple[str, ...]) -> Session:
    """Send the notes of a track to others, several for a layer; none or itself: to itself alone."""
    rows = dict(session.sends)
    rows.pop(key, None)
    if tracks and tracks != (key,):
        rows[key] = tracks
    return replace(session, sends=tuple(sorted(rows.items())))


def with_target(session: Session, target: NoteMap | None) -> Session:
    """Set the receiver's note map."""
    return replace(session, target=target)


def with_inputs(session: Session, inputs: tuple[LiveInput, ...]) -> Session:
    """Set the live inputs; there is always at least one, so that a port can be chosen."""
    return replace(session, inputs=inputs or (LiveInput(),))


def with_layer(session: Session, key: str, title: str) -> Session:
    """Send the notes of a track to a further track as well, under a title."""
    to = dict(session.sends).get(key, (key,))
    used = {track.key for track in session.delivery.tracks} | {one for _, keys in session.sends for one in keys}
    layer = next(name for n in range(1, len(used) + 2) if (name := f"layer{n}") not in used)
    session = with_tracks(session, [TrackSettings(layer, title=title)])
    return with_sends(session, key, (*to, layer))


def without_layer(session: Session, layer: str) -> Session:
    """Send nothing to a further track any more."""
    for key, to in session.sends:
        if layer in to:
            session = with_sends(session, key, tuple(one for one in to if one != layer) or (key,))
    return with_tracks(session, [TrackSettings(layer)])


def with_backing(session: Session, backing: Backing | None) -> Session:
    """Set or remove the chosen recorded sound, else the first."""
    there = session.sound_take
    if there is not None:
        return (
            without_take(session, there.ident) if backing is None else with_changed(session, there.ident, sound=backing)
        )
    return session if backing is None else with_sound_take(session, backing)


def with_sound_take(session: Session, backing: Backing, beat: float = 0.0) -> Session:
    """Add a recorded sound that starts at a beat from bar 1."""
    name = backing.path.rpartition("/")[2]
    chosen = session.display
    session = with_take(session, TakeRef(f"sound{session.numbers + 1}", name, kind=SOUND, sound=backing, beat=beat))
    return replace(session, display=chosen)


def with_sound(session: Session, sound: SoundSettings) -> Session:
    """Set the built-in sound's settings."""
    return replace(session, sound=sound)


def with_path(session: Session, path: CleaningPath) -> Session:
    return replace(session, path=path)


def with_split(session: Session, by: str) -> Session:
    """Split into a track per "drum" or per "family", or put all on "one" track."""
    return replace(session, path=replace(session.path, split=replace(session.path.split, by=by)))


def with_title(session: Session, key: str, title: str) -> Session:
    """Rename a track; an empty name restores its own."""
    return with_tracks(session, [replace(session.delivery.track(key), title=title.strip())])


def with_tracks(session: Session, changed: list[TrackSettings]) -> Session:
    """Replace the settings of some tracks."""
    delivery = session.delivery
    for settings in changed:
        delivery = with_track(delivery, settings)
    return replace(session, delivery=delivery)


def without_hidden_tracks(session: Session) -> Session:
    """Show every track again."""
    return with_tracks(session, [replace(track, hidden=False) for track in session.delivery.tracks if track.hidden])


def with_track_order(session: Session, keys: tuple[str, ...]) -> Session:
    """Reorder the tracks."""
    return replace(session, delivery=with_order(session.delivery, keys))


def with_tempo_written(session: Session, written: bool) -> Session:
    """Choose whether files contain tempo and meter."""
    return replace(session, delivery=replace(session.delivery, with_tempo=written))


def with_file_form(session: Session, running: bool, zero_ends: bool) -> Session:
    """How messages are written in files: with running status, and with ends as notes of velocity 0."""
    return replace(session, delivery=replace(session.delivery, running=running, zero_ends=zero_ends))


def with_early_live(session: Session, early: bool) -> Session:
    """Choose whether what is early is so live too, while all else waits."""
    return replace(session, delivery=replace(session.delivery, early_live=early))


def with_verdicts(
    session: Session, ident: str, origins: Iterable[int] | np.ndarray, verdict: Verdict | None
) -> Session:
    """Set the player's verdict on several notes, or clear it with None."""
    take = session.take(ident)
    if take is None:
        return session
    return with_changed(session, ident, verdicts=take.verdicts.with_verdict(origins, verdict))


def with_verdict(session: Session, ident: str, origin: int, verdict: Verdict | None) -> Session:
    """Set the player's verdict on one note, or clear it with None."""
    return with_verdicts(session, ident, (origin,), verdict)
