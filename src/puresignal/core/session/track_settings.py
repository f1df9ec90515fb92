"""How the tracks leave: names, colours, channels, order, and what the file says about time."""

from __future__ import annotations

from dataclasses import dataclass, replace

COLOURS = ("kick", "snare", "hat", "tom", "cymbal", "percussion", "other")
"""Colours a track can have: the families' own, which the themes know."""


@dataclass(frozen=True)
class TrackSettings:
    """What the player set about one track; empty and None leave it as it comes.

    key      of the path's track
    title    name in the file and everywhere
    colour   one of COLOURS
    channel  1..16 on which all its notes leave
    out      whether it leaves at all
    port     that it is played to; empty: the built-in sound
    bank     0..16383, program 0..127: sent before its notes
    level    0..127 as controller 7, sent before its notes
    muted, solo  for listening only: files hold the track all the same
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

    def first_messages(self, channel: int) -> list[bytes]:
        """Bank, program and level as messages for a channel 1..16."""
        out = []
        if self.bank is not None:
            out += [bytes((0xAF + channel, 0, self.bank >> 7)), bytes((0xAF + channel, 32, self.bank & 0x7F))]
        if self.program is not None:
            out.append(bytes((0xBF + channel, self.program)))
        if self.level is not None:
            out.append(bytes((0xAF + channel, 7, self.level)))
        return out


@dataclass(frozen=True)
class Delivery:
    """What leaves, and how.

    tracks      settings by rising key; a track without any is not listed
    order       keys in the player's order; tracks not named follow in their own
    with_tempo  whether files carry tempo and meter
    """

    tracks: tuple[TrackSettings, ...] = ()
    order: tuple[str, ...] = ()
    with_tempo: bool = True

    def heard(self, key: str) -> bool:
        """Whether a track is heard: not muted, and one of the solo tracks where there are any."""
        own = self.track(key)
        return not own.muted and (own.solo or not any(track.solo for track in self.tracks))

    def track(self, key: str) -> TrackSettings:
        """A track's settings, plain ones where nothing was set."""
        return next((track for track in self.tracks if track.key == key), TrackSettings(key))


def with_track(delivery: Delivery, settings: TrackSettings) -> Delivery:
    """The delivery with one track's settings; plain ones are not kept."""
    tracks = {track.key: track for track in delivery.tracks}
    tracks.pop(settings.key, None)
    if settings != TrackSettings(settings.key):
        tracks[settings.key] = settings
    return replace(delivery, tracks=tuple(tracks[key] for key in sorted(tracks)))


def with_order(delivery: Delivery, keys: tuple[str, ...]) -> Delivery:
    """The delivery with its tracks in this order."""
    return replace(delivery, order=keys)


def moved(keys: tuple[str, ...], chosen: set[str], by: int) -> tuple[str, ...]:
    """Keys with the chosen ones one place up (-1) or down (1), as far as there is room."""
    row = list(keys)
    places = range(len(row)) if by < 0 else range(len(row) - 1, -1, -1)
    for place in places:
        other = place + by
        if row[place] in chosen and 0 <= other < len(row) and row[other] not in chosen:
            row[place], row[other] = row[other], row[place]
    return tuple(row)
