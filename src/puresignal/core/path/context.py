"""Constant input of the stages: maps as tables, tracks, and the player's verdicts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np

from puresignal.core.kit import map_lookup
from puresignal.core.kit.articulations import (
    FAMILIES,
    HAT_EDGE_HALF,
    HAT_QUARTER,
    HAT_THREE_QUARTER,
    canonical,
    drum_of,
    drum_title,
    family_of,
    resolve,
    sort_key,
)
from puresignal.core.kit.note_map import NoteMap, vocabulary
from puresignal.core.midi.columns import numbered
from puresignal.core.midi.events import Port
from puresignal.core.path.crosstalk_model import FEW_GHOSTS, GHOSTS
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.verdicts import Verdict, Verdicts
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import tr

EVENT_BITS = 32
"""Bits of an origin for the event within its take; those above are the take's number. Together they stay below 2^53."""
PARTS = (0.45, 0.55, 0.65)
"""Closedness values that divide the half zone (0.35 to 0.75) into four: the first index of the target tables."""
OPEN, MIDDLE_OPEN, MIDDLE_CLOSED, CLOSED = range(4)
"""These parts: near open, half but nearer to open, half but nearer to closed, near closed."""
_PART_NAMES = (
    ("open", (HAT_THREE_QUARTER,)), ("open", ("hat.half", HAT_THREE_QUARTER)),
    ("closed", ("hat.half", HAT_QUARTER)), ("closed", (HAT_QUARTER,)),
)  # fmt: skip
"""For each part the end it is nearer to, and the names that a half-open hit may have at the receiver."""


def part_of(closedness: np.ndarray | float) -> np.ndarray:
    """The part of the half zone; without a pedal value it is half and nearer to open."""
    place = np.searchsorted(PARTS, closedness, side="right")
    return np.where(np.isnan(closedness), MIDDLE_OPEN, place)


@dataclass(frozen=True)
class PathTrack:
    """A destination of notes.

    key     stable name: a drum or family, `unmapped`, or `port/channel` for channels outside the map, all behind the
            name of an input or a take whose tracks are its own
    title   name to show
    family  for colour and grouping
    port    of a channel's track: index of its port in the take, else -1
    """

    key: str
    title: str
    family: str
    port: int = -1


@dataclass(frozen=True)
class Wiring:
    """Where the notes of a take or an input go, beyond one track for each of its drums and channels.

    own, own_title  what the keys and titles of the kit's tracks begin with, where an input has tracks of its own
    channels        what the keys of the tracks for channels outside the map begin with
    sends           (key of a track, keys of those that its notes go to instead): several are a layer
    targets         (key of a track, note map of its receiver) where that is not the usual one
    """

    own: str = ""
    own_title: str = ""
    channels: str = ""
    sends: tuple[tuple[str, tuple[str, ...]], ...] = ()
    targets: tuple[tuple[str, NoteMap], ...] = ()


USUAL_WIRING = Wiring()


@dataclass(frozen=True, eq=False)
class TargetTable:
    """The notes sent for each articulation. Arrays are indexed [part of the half zone, articulation].

    first, count  slice of `notes` and `channels`; count 0 if the receiver has no such drum
    stand_in      articulation that stands in, -1 if none is needed or there is none
    channels      1..16, 0 to keep the incoming one
    """

    first: np.ndarray
    count: np.ndarray
    stand_in: np.ndarray
    notes: np.ndarray
    channels: np.ndarray


@dataclass(frozen=True, eq=False)
class Stands:
    """The pads of the kit by stand.

    names       (channel, note) of each pad, by its number
    pad         (17, 128) number of the pad, -1 for none
    group       (pads + 1,) number of its stand, -1 if it shares none; the last entry means "no pad"
    drum        (pads + 1,) number of its drum
    ghosts      (pads,) usual share of ghost notes of each pad
    any_neighbours  whether the kit has two drums, of which one may shake the other
    """

    names: tuple[tuple[int, int], ...]
    pad: np.ndarray
    group: np.ndarray
    drum: np.ndarray
    ghosts: np.ndarray
    any_neighbours: bool


@dataclass(frozen=True, eq=False)
class Context:
    """Everything a stage needs besides its own settings.

    source, target  maps; without a source nothing is identified, without a target notes keep their numbers
    ports           of the take
    length          seconds; held notes on channels outside the map end there
    split_by        "drum", "family" or "one"
    verdicts        by note origin
    apart           the devices are the MIDI ports of a file: each has a receiver of its own
    begun           seconds of the clock at the take's start, on the 20 µs grid; None where it is not known
    wiring          the tracks that its notes go to
    heard           what the ear said of the notes, where they were heard in a recording
    number          of the take in its session, 0 for one that is in none
    timeline        what stages on the timeline count beats by; None before notes are laid on it
    """

    source: NoteMap | None = None
    target: NoteMap | None = None
    ports: tuple[Port, ...] = (Port(""),)
    length: float = 0.0
    split_by: str = "drum"
    verdicts: Mapping[int, Verdict] = field(default_factory=dict)
    apart: bool = False
    begun: float | None = None
    wiring: Wiring = USUAL_WIRING
    timeline: Timeline | None = None
    heard: HeardNotes | None = None
    number: int = 0

    def __getstate__(self) -> dict[str, Any]:
        """The fields that define it; values derived from them are not pickled."""
        return {one.name: getattr(self, one.name) for one in fields(self)}

    @cached_property
    def memo(self) -> dict[str, Any]:
        """Results that stages have worked out about the notes of this context, by name."""
        return {}

    @cached_property
    def on_other_line(self) -> np.ndarray:
        """Origins of notes that belong on the other of two lines, rising."""
        return self.decided.on_other_line()

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        """Articulations by code."""
        names = vocabulary(self.source, self.target)
        for _, other in self.wiring.targets:
            names = (*names, *vocabulary(None, other))
        return tuple(dict.fromkeys((*names, *map(canonical, self.decided.articulations()))))

    @cached_property
    def code(self) -> dict[str, int]:
        return {name: i for i, name in enumerate(self.vocabulary)}

    @cached_property
    def devices(self) -> np.ndarray:
        """(ports,) number of the device behind each port."""
        return np.array([port.device for port in self.ports] or [0], np.int64)

    @cached_property
    def receivers(self) -> np.ndarray:
        """(ports,) number of the receiver that each port's notes go to, from 0."""
        return numbered(self.devices)[1] if self.apart else np.zeros(len(self.devices), np.int64)

    @cached_property
    def source_table(self) -> np.ndarray:
        """(17, 128) articulation of each channel and note, -1 for none."""
        return map_lookup.articulation_table(self.source, self.code)

    @cached_property
    def stands(self) -> Stands:
        """The pads of the source map by stand."""
        pads = self.source.pads if self.source is not None else ()
        groups = sorted({pad.group for pad in pads if pad.group is not None})
        drums = sorted({drum_of(pad.articulation) for pad in pads})
        table = np.full((17, 128), -1, np.int64)
        names: list[tuple[int, int]] = []
        group: list[int] = []
        drum: list[int] = []
        for pad in pads:
            channel = self.source.channel_of(pad) if self.source is not None else None
            number = len(names)
            names.append((channel or 0, pad.note))
            group.append(groups.index(pad.group) if pad.group is not None else -1)
            drum.append(drums.index(drum_of(pad.articulation)))
            row = table[1:, pad.note] if channel is None else table[channel : channel + 1, pad.note]
            row[row < 0 if channel is None else row > -2] = number
        ghosts = np.array([GHOSTS.get(family_of(pad.articulation), FEW_GHOSTS) for pad in pads])
        stands, drums_of = np.array([*group, -1]), np.array([*drum, -1])
        return Stands(tuple(names), table, stands, drums_of, ghosts, len(set(drum)) > 1)

    @cached_property
    def mapped_channels(self) -> np.ndarray:
        """(17,) bool: channels that the source map covers."""
        return map_lookup.mapped_channels(self.source)

    @cached_property
    def hat_channels(self) -> np.ndarray:
        """(17,) bool: channels on which the hat's controller counts."""
        return map_lookup.hat_channels(self.source)

    @cached_property
    def pedal_decides(self) -> np.ndarray:
        """(vocabulary,) 0 where the note decides alone; 1 for a bow, 2 for an edge whose opening the pedal decides."""
        decides = np.zeros(len(self.vocabulary), np.int8)
        if self.source is not None and self.source.hat is not None and not self.source.hat.notes_follow_pedal:
            decides[self.code["hat.closed"]] = 1
            decides[self.code["hat.edge.closed"]] = 2
        return decides

    @cached_property
    def openings(self) -> np.ndarray:
        """(3, 3) articulation by [bow 1 or edge 2, closed 0, half 1, open 2]."""
        code = self.code
        return np.array(
            [
                [-1, -1, -1],
                [code["hat.closed"], code["hat.half"], code["hat.open"]],
                [code["hat.edge.closed"], code[HAT_EDGE_HALF], code["hat.edge.open"]],
            ],
            np.int16,
        )

    @cached_property
    def cymbal(self) -> np.ndarray:
        """(vocabulary,) number of the cymbal that a choke on this articulation silences, -1 for none."""
        drums = sorted({drum_of(n) for n in self.vocabulary if family_of(n) == "cymbal"})
        return np.array([drums.index(drum_of(n)) if drum_of(n) in drums else -1 for n in self.vocabulary], np.int64)

    @cached_property
    def target_table(self) -> TargetTable | None:
        """The notes sent for each articulation; None without a target map."""
        if self.target is None:
            return None
        size = (len(_PART_NAMES), len(self.vocabulary))
        first, count = np.zeros(size, np.int64), np.zeros(size, np.int64)
        stand_in = np.full(size, -1, np.int64)
        notes: list[int] = []
        channels: list[int] = []
        available = self.target.articulations()
        for end, (nearer, halves) in enumerate(_PART_NAMES):
            for code, name in enumerate(self.vocabulary):
                found = next((h for h in halves if name == "hat.half" and h in available), None)
                found = found or resolve(name, available, nearer)
                pad = self.target.pad_for(found) if found is not None else None
                if found is None or pad is None:
                    continue
                first[end, code] = len(notes)
                count[end, code] = 1 + len(pad.also)
                notes.extend((pad.note, *pad.also))
                channels.extend([self.target.channel_of(pad) or 0] * (1 + len(pad.also)))
                if canonical(found) != name:
                    stand_in[end, code] = self.code[canonical(found)]
        return TargetTable(first, count, stand_in, np.array(notes, np.uint8), np.array(channels, np.uint8))

    @cached_property
    def tracks(self) -> tuple[PathTrack, ...]:
        """Every track that a note could go to, in file order."""
        kit = kit_tracks(self.vocabulary, self.split_by, self.wiring.own, self.wiring.own_title)
        rest = []
        for number, port in enumerate(self.ports or (Port(""),)):
            for channel in range(1, 17):
                name = (
                    tr("{name}, channel {channel}", name=port.name, channel=channel)
                    if port.name
                    else tr("Channel {channel}", channel=channel)
                )
                rest.append(PathTrack(f"{self.wiring.channels}{number}/{channel}", name, "other", number))
        every = (
            *kit,
            PathTrack(f"{self.wiring.own}unmapped", _titled(self.wiring.own_title, "Unmapped"), "other"),
            *rest,
        )
        known = {track.key for track in every}
        further = dict.fromkeys(key for _, keys in self.wiring.sends for key in keys if key not in known)
        return (*every, *(PathTrack(key, key, "other") for key in further))

    @cached_property
    def unmapped_track(self) -> int:
        key = f"{self.wiring.own}unmapped"
        return next(i for i, track in enumerate(self.tracks) if track.key == key)

    @cached_property
    def copies(self) -> dict[int, tuple[int, ...]]:
        """For each track whose notes go elsewhere, or to several tracks: those tracks."""
        index = {track.key: i for i, track in enumerate(self.tracks)}
        return {index[key]: tuple(index[to] for to in keys) for key, keys in self.wiring.sends if key in index and keys}

    @cached_property
    def by_receiver(self) -> tuple[np.ndarray, tuple[Context, ...]]:
        """(tracks,) number of the receiver of each track, and for each a context whose `target` is its note map."""
        maps: list[NoteMap | None] = [self.target]
        own = dict(self.wiring.targets)
        numbers = np.zeros(len(self.tracks), np.int64)
        for i, track in enumerate(self.tracks):
            wanted = own.get(track.key, self.target)
            if wanted not in maps:
                maps.append(wanted)
            numbers[i] = maps.index(wanted)
        return numbers, (
            self,
            *(_ForReceiver(**{**vars_of(self), "target": one}, names=self.vocabulary) for one in maps[1:]),
        )

    @cached_property
    def track_of_articulation(self) -> np.ndarray:
        """(vocabulary,) index of the track of each articulation."""
        index = {track.key: i for i, track in enumerate(self.tracks)}
        if self.split_by == "one":
            keys = ["kit"] * len(self.vocabulary)
        elif self.split_by == "family":
            keys = [family_of(name) for name in self.vocabulary]
        else:
            keys = [drum_of(name) for name in self.vocabulary]
        return np.array([index[self.wiring.own + key] for key in keys], np.int16)

    def articulation_of(self, channel: int, note: int) -> str | None:
        """The articulation of a note before the pedal is considered, or None if the source map lacks it."""
        code = int(self.source_table[channel, note])
        return self.vocabulary[code] if code >= 0 else None

    def channel_track(self, port: int, channel: int) -> int:
        """Index of the track of a channel outside the source map."""
        return self.unmapped_track + 1 + port * 16 + channel - 1

    @cached_property
    def decided(self) -> Verdicts:
        return Verdicts.of(self.verdicts)

    @cached_property
    def kept_by_hand(self) -> np.ndarray:
        """Origins that no stage may remove, rising."""
        return self.decided.among(True)

    @cached_property
    def dropped_by_hand(self) -> np.ndarray:
        """Origins that the player removed, rising."""
        return self.decided.among(False)

    @cached_property
    def controlled(self) -> np.ndarray:
        """Origins of notes that controlled the program, rising."""
        return self.decided.controlled()

    @cached_property
    def told_articulation(self) -> tuple[np.ndarray, np.ndarray]:
        """Origins, rising, and the articulations that the player gave them."""
        origins, names = self.decided.told()
        return origins, np.array([self.code[canonical(name)] for name in names], np.int16)

    def draw_keys(self, start: np.ndarray, channel: np.ndarray, note: np.ndarray, origin: np.ndarray) -> np.ndarray:
        """(n,) what random draws of notes go by: the moment and the note, which are the same live and afterwards.

        Takes whose clock is not known - files, and takes of version 1 - go by the number of the event
        """
        if self.begun is None:
            return origin
        moment = np.rint((np.asarray(start) + self.begun) * 50_000).astype(np.int64)
        return np.asarray((moment << 11) + (np.asarray(channel, np.int64) << 7) + note)


@dataclass(frozen=True, eq=False)
class _ForReceiver(Context):
    """A context for another receiver, with the articulations of the one that it belongs to."""

    names: tuple[str, ...] = ()

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        return self.names


def vars_of(context: Context) -> dict[str, Any]:
    """The fields that every context has."""
    return {one.name: getattr(context, one.name) for one in fields(Context)}


def kit_tracks(names: Iterable[str], split_by: str, own: str = "", own_title: str = "") -> tuple[PathTrack, ...]:
    """The tracks of a kit with these articulations. own, own_title: as in Context."""
    if split_by == "one":
        return (PathTrack(f"{own}kit", _titled(own_title, "Drums"), "other"),)
    if split_by == "family":
        return tuple(PathTrack(own + family, _titled(own_title, family.capitalize()), family) for family in FAMILIES)
    drums = dict.fromkeys(drum_of(name) for name in sorted(names, key=sort_key))
    return tuple(PathTrack(own + drum, _titled(own_title, drum_title(drum)), family_of(drum)) for drum in drums)


def _titled(whose: str, title: str) -> str:
    return f"{whose}: {title}" if whose else title


def among(origins: np.ndarray, rising: np.ndarray) -> np.ndarray:
    """(n,) bool: which origins are in a sorted list."""
    if not len(rising):
        return np.zeros(len(origins), bool)
    place = np.minimum(np.searchsorted(rising, origins), len(rising) - 1)
    return np.asarray(rising[place] == origins)
