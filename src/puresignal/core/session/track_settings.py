"""Settings of the tracks: names, colours, channels, order, and the tempo in files."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

MOST_OFFSET = 500.0
"""Milliseconds by which a track or a destination can be early or late at most."""
BY_CONTROLLER, BY_VELOCITY = "controller", "velocity"
LEVELS = (BY_CONTROLLER, BY_VELOCITY)
"""How a destination gets the level of a track: as controller 7 before its notes, or as louder and softer notes."""
COLOURS = ("kick", "snare", "hat", "tom", "cymbal", "percussion", "other")
"""Colours that a track can have: those of the families, which the themes define."""


@dataclass(frozen=True)
class Frozen:
    """A rendering that a track plays from in place of its notes.

    path   of the file
    print  what the rendering was made of, see core/export/frozen.py
    begin  seconds of bar 1 at which it begins, negative for bars before
    level  of the built-in sound when it was made
    """

    path: str
    print: str
    begin: float
    level: float


@dataclass(frozen=True)
class TrackSettings:
    """Settings of one track; empty and None leave the default.

    key      of the path's track
    title    its name, in the file and everywhere
    colour   one of COLOURS
    channel  1..16, for all its notes
    out      whether it is written and sent at all
    port     destination of its playback; empty: the built-in sound
    bank     0..16383, program 0..127: sent before its notes
    level    0..127, None for none: see drives
    drives   one of LEVELS, as the track's destination has it. By velocity, 127 leaves velocities as they are
    muted, solo  for playback only: files contain the track regardless
    locked   its notes and settings are not changed by edits of several tracks
    offset   milliseconds by which its notes leave later, or earlier if negative, in files and in playback; live as
             Delivery.early_live says
    hidden   not listed with the tracks, until hidden ones are shown
    frozen   the rendering that it plays from; None: its notes
    """

    key: str
    title: str = ""
    colour: str = ""
    channel: int | None = None
    out: bool = True
    port: str = ""
    bank: int | None = None
    program: int | None = None
    level: int | None = None
    muted: bool = False
    solo: bool = False
    locked: bool = False
    offset: float = 0.0
    hidden: bool = False
    frozen: Frozen | None = None
    drives: str = BY_CONTROLLER

    @property
    def gain(self) -> float:
        """The factor of its velocities."""
        return self.level / 127 if self.level is not None and self.drives == BY_VELOCITY else 1.0

    def first_messages(self, channel: int) -> list[bytes]:
        """Bank, program and level messages on a channel 1..16."""
        out = []
        if self.bank is not None:
            out += [bytes((0xAF + channel, 0, self.bank >> 7)), bytes((0xAF + channel, 32, self.bank & 0x7F))]
        if self.program is not None:
            out.append(bytes((0xBF + channel, self.program)))
        if self.level is not None and self.drives == BY_CONTROLLER:
            out.append(bytes((0xAF + channel, 7, self.level)))
        return out


@dataclass(frozen=True)
class Delivery:
    """Settings of all tracks.

    tracks      sorted by key; tracks at their defaults are not listed
    order       keys in the player's order; other tracks follow in their own order
    with_tempo  whether files contain tempo and meter
    early_live  whether tracks and destinations with a negative offset are early live as well: since nothing leaves
                before it is played, all others leave later by as much
    running     whether files leave out a status byte that is the same as the one before
    zero_ends   whether notes end by a note-on of velocity 0 in files
    """

    tracks: tuple[TrackSettings, ...] = ()
    order: tuple[str, ...] = ()
    with_tempo: bool = True
    early_live: bool = False
    running: bool = False
    zero_ends: bool = False

    def heard(self, key: str) -> bool:
        """Whether playback includes a track: not muted, and soloed if any track is."""
        own = self.track(key)
        return not own.muted and (own.solo or not any(track.solo for track in self.tracks))

    def track(self, key: str) -> TrackSettings:
        """A track's settings, defaults if none were set."""
        return next((track for track in self.tracks if track.key == key), TrackSettings(key))


def with_track(delivery: Delivery, settings: TrackSettings) -> Delivery:
    """Replace one track's settings; defaults are not stored."""
    return with_tracks(delivery, [settings])


def with_tracks(delivery: Delivery, changed: Iterable[TrackSettings]) -> Delivery:
    """Replace the settings of some tracks; defaults are not stored."""
    tracks = {track.key: track for track in delivery.tracks}
    for settings in changed:
        tracks.pop(settings.key, None)
        if settings != TrackSettings(settings.key):
            tracks[settings.key] = settings
    return replace(delivery, tracks=tuple(tracks[key] for key in sorted(tracks)))


def with_order(delivery: Delivery, keys: tuple[str, ...]) -> Delivery:
    """Set the order of the tracks."""
    return replace(delivery, order=keys)


def moved(keys: tuple[str, ...], chosen: set[str], by: int) -> tuple[str, ...]:
    """Keys with the chosen ones moved one position up (-1) or down (1), as far as there is room."""
    row = list(keys)
    places = range(len(row)) if by < 0 else range(len(row) - 1, -1, -1)
    for place in places:
        other = place + by
        if row[place] in chosen and 0 <= other < len(row) and row[other] not in chosen:
            row[place], row[other] = row[other], row[place]
    return tuple(row)
