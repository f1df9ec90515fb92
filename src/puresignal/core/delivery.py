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
    """

    key: str
    title: str = ""
    colour: str = ""
    channel: int | None = None
    out: bool = True


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
