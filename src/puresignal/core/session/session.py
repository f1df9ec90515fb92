"""The session: what the player set, as one frozen value, and the edits on it.

An edit is a plain function from a session to a session. Takes themselves are
not in it, only their idents: they live in a store that undo never touches.
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


@dataclass(frozen=True)
class TakeRef:
    """A take of the session and what was said about it.

    ident     in the take store
    source    note map of the kit it was played on; None: nothing is known of it
    verdicts  the player's word on single notes, by origin, rising
    """

    ident: str
    name: str
    source: NoteMap | None = None
    verdicts: tuple[tuple[int, Verdict], ...] = ()


@dataclass(frozen=True)
class Session:
    """Everything that undo goes back over.

    current  ident of the take that is looked at, None when there is none
    target   note map of the receiver
    delivery  how the tracks leave
    inputs    what is listened to live
    sound     the built-in sound
    backing   an audio file that plays along
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

    def take(self, ident: str | None = None) -> TakeRef | None:
        """A take by ident, the current one by default."""
        wanted = self.current if ident is None else ident
        return next((take for take in self.takes if take.ident == wanted), None)


def with_name(session: Session, name: str) -> Session:
    return replace(session, name=name.strip() or session.name)


def with_take(session: Session, take: TakeRef) -> Session:
    """The take added at the end and looked at."""
    return replace(session, takes=(*session.takes, take), current=take.ident)


def without_take(session: Session, ident: str) -> Session:
    """The take no longer in the session; the store keeps it. The one before it is looked at."""
    places = [i for i, take in enumerate(session.takes) if take.ident == ident]
    left = tuple(take for take in session.takes if take.ident != ident)
    current = session.current
    if current == ident:
        current = left[max(0, places[0] - 1)].ident if left else None
    return replace(session, takes=left, current=current)


def with_current(session: Session, ident: str) -> Session:
    return replace(session, current=ident) if session.take(ident) else session


def with_source(session: Session, ident: str, source: NoteMap | None) -> Session:
    """What the kit of a take sends."""
    takes = tuple(replace(take, source=source) if take.ident == ident else take for take in session.takes)
    return replace(session, takes=takes)


def with_target(session: Session, target: NoteMap | None) -> Session:
    """What the receiver expects."""
    return replace(session, target=target)


def with_inputs(session: Session, inputs: tuple[LiveInput, ...]) -> Session:
    """What is listened to live; there is always a place to choose a port."""
    return replace(session, inputs=inputs or (LiveInput(),))


def with_backing(session: Session, backing: Backing | None) -> Session:
    """Another audio file to play along, or none."""
    return replace(session, backing=backing)


def with_sound(session: Session, sound: SoundSettings) -> Session:
    """The built-in sound's settings."""
    return replace(session, sound=sound)


def with_path(session: Session, path: CleaningPath) -> Session:
    return replace(session, path=path)


def with_split(session: Session, by: str) -> Session:
    """A track for each "drum", each "family", or "one" for all."""
    return replace(session, path=replace(session.path, split=replace(session.path.split, by=by)))


def with_title(session: Session, key: str, title: str) -> Session:
    """A track's name; an empty one gives it its own name back."""
    return with_tracks(session, [replace(session.delivery.track(key), title=title.strip())])


def with_tracks(session: Session, changed: list[TrackSettings]) -> Session:
    """What was set about some tracks."""
    delivery = session.delivery
    for settings in changed:
        delivery = with_track(delivery, settings)
    return replace(session, delivery=delivery)


def with_track_order(session: Session, keys: tuple[str, ...]) -> Session:
    """The tracks in another order."""
    return replace(session, delivery=with_order(session.delivery, keys))


def with_tempo_written(session: Session, written: bool) -> Session:
    """Whether files carry tempo and meter."""
    return replace(session, delivery=replace(session.delivery, with_tempo=written))


def with_verdicts(session: Session, ident: str, origins: Iterable[int], verdict: Verdict | None) -> Session:
    """The player's word on several notes alike; None takes it back."""
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
    """The player's word on one note; None takes it back."""
    return with_verdicts(session, ident, (origin,), verdict)
