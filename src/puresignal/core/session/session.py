"""The session as one frozen value, and the edits on it.

An edit is a plain function from a session to a session. Takes are not in it, only their idents: they live in
a store that undo never touches.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.context import Verdict
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.session.track_settings import Delivery, TrackSettings, with_order, with_track
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True)
class TakeRef:
    """A take of the session and its settings.

    ident     its key in the take store
    source    note map of the kit it was played on, or None if unknown
    verdicts  the player's decisions on single notes, sorted by origin
    beat      where its beginning stands: beats from bar 1
    follows   BEATS or CLOCK of several_takes.py; empty: the beats for an imported file, the clock for a played take
    is_in     whether it belongs to the result of all takes
    """

    ident: str
    name: str
    source: NoteMap | None = None
    verdicts: tuple[tuple[int, Verdict], ...] = ()
    beat: float = 0.0
    follows: str = ""
    is_in: bool = True


@dataclass(frozen=True)
class Session:
    """Everything that undo goes back over.

    current   ident of the chosen take, or None
    target    note map of the receiver
    delivery  settings of the tracks
    inputs    the live inputs
    sound     settings of the built-in sound
    backing   an audio file that plays along, or None
    timeline  tempo and meters; None: those of the first take that is in
    """

    name: str = "Untitled"
    takes: tuple[TakeRef, ...] = ()
    current: str | None = None
    target: NoteMap | None = None
    path: CleaningPath = field(default_factory=CleaningPath)
    delivery: Delivery = field(default_factory=Delivery)
    inputs: tuple[LiveInput, ...] = (LiveInput(),)
    sound: SoundSettings = field(default_factory=SoundSettings)
    backing: Backing | None = None
    timeline: Timeline | None = None

    def take(self, ident: str | None = None) -> TakeRef | None:
        """A take by ident, by default the current one."""
        wanted = self.current if ident is None else ident
        return next((take for take in self.takes if take.ident == wanted), None)


def with_name(session: Session, name: str) -> Session:
    return replace(session, name=name.strip() or session.name)


def with_take(session: Session, take: TakeRef) -> Session:
    """Add a take at the end and choose it."""
    return replace(session, takes=(*session.takes, take), current=take.ident)


def without_take(session: Session, ident: str) -> Session:
    """Remove a take from the session and choose the one before it. The store keeps it."""
    places = [i for i, take in enumerate(session.takes) if take.ident == ident]
    left = tuple(take for take in session.takes if take.ident != ident)
    current = session.current
    if current == ident:
        current = left[max(0, places[0] - 1)].ident if left else None
    return replace(session, takes=left, current=current)


def with_current(session: Session, ident: str) -> Session:
    return replace(session, current=ident) if session.take(ident) else session


def with_source(session: Session, ident: str, source: NoteMap | None) -> Session:
    """Set the note map of the kit that a take was played on."""
    takes = tuple(replace(take, source=source) if take.ident == ident else take for take in session.takes)
    return replace(session, takes=takes)


def with_placed(session: Session, ident: str, **changed: float | str | bool) -> Session:
    """Change where a take stands (`beat`), what it `follows`, or whether it `is_in`."""
    takes = tuple(replace(take, **changed) if take.ident == ident else take for take in session.takes)  # type: ignore[arg-type]
    return replace(session, takes=takes)


def with_timeline(session: Session, timeline: Timeline | None) -> Session:
    """Set tempo and meters of the session."""
    return replace(session, timeline=timeline)


def with_target(session: Session, target: NoteMap | None) -> Session:
    """Set the receiver's note map."""
    return replace(session, target=target)


def with_inputs(session: Session, inputs: tuple[LiveInput, ...]) -> Session:
    """Set the live inputs; there is always at least one, so that a port can be chosen."""
    return replace(session, inputs=inputs or (LiveInput(),))


def with_backing(session: Session, backing: Backing | None) -> Session:
    """Set or remove the backing track."""
    return replace(session, backing=backing)


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


def with_track_order(session: Session, keys: tuple[str, ...]) -> Session:
    """Reorder the tracks."""
    return replace(session, delivery=with_order(session.delivery, keys))


def with_tempo_written(session: Session, written: bool) -> Session:
    """Choose whether files contain tempo and meter."""
    return replace(session, delivery=replace(session.delivery, with_tempo=written))


def with_verdicts(session: Session, ident: str, origins: Iterable[int], verdict: Verdict | None) -> Session:
    """Set the player's verdict on several notes, or clear it with None."""
    takes = []
    for take in session.takes:
        if take.ident == ident:
            verdicts = dict(take.verdicts)
            for origin in origins:
                verdicts.pop(origin, None)
                if verdict is not None:
                    verdicts[origin] = verdict
            take = replace(take, verdicts=tuple(sorted(verdicts.items(), key=lambda item: item[0])))
        takes.append(take)
    return replace(session, takes=tuple(takes))


def with_verdict(session: Session, ident: str, origin: int, verdict: Verdict | None) -> Session:
    """Set the player's verdict on one note, or clear it with None."""
    return with_verdicts(session, ident, (origin,), verdict)
