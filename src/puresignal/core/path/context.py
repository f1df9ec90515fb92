"""Constant input of the stages: maps as tables, tracks, and the player's verdicts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

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
from puresignal.translation import tr

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
class Verdict:
    """The player's decision on one note.

    keep          True: never remove it. False: remove it. None: undecided
    articulation  its true articulation where the map is wrong, else None
    """

    keep: bool | None = None
    articulation: str | None = None


@dataclass(frozen=True)
class PathTrack:
    """A destination of notes.

    key     stable name: a drum or family, `unmapped`, or `port/channel` for channels outside the map
    title   name to show
    family  for colour and grouping
    """

    key: str
    title: str
    family: str


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
    any_shared  whether any stand has pads of two drums
    """

    names: tuple[tuple[int, int], ...]
    pad: np.ndarray
    group: np.ndarray
    drum: np.ndarray
    ghosts: np.ndarray
    any_shared: bool


@dataclass(frozen=True, eq=False)
class Context:
    """Everything a stage needs besides its own settings.

    source, target  maps; without a source nothing is identified, without a target notes keep their numbers
    ports           of the take
    length          seconds; held notes on channels outside the map end there
    split_by        "drum", "family" or "one"
    verdicts        by note origin
    apart           the devices are the MIDI ports of a file: each has a receiver of its own
    """

    source: NoteMap | None = None
    target: NoteMap | None = None
    ports: tuple[Port, ...] = (Port(""),)
    length: float = 0.0
    split_by: str = "drum"
    verdicts: Mapping[int, Verdict] = field(default_factory=dict)
    apart: bool = False

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        """Articulations by code."""
        names = vocabulary(self.source, self.target)
        told = [canonical(v.articulation) for v in self.verdicts.values() if v.articulation]
        return tuple(dict.fromkeys((*names, *told)))

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
        shared = any(len({d for g, d in zip(group, drum, strict=True) if g == one}) > 1 for one in range(len(groups)))
        ghosts = np.array([GHOSTS.get(family_of(pad.articulation), FEW_GHOSTS) for pad in pads])
        return Stands(tuple(names), table, np.array([*group, -1]), np.array([*drum, -1]), ghosts, shared)

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
        drums = list(dict.fromkeys(drum_of(name) for name in sorted(self.vocabulary, key=sort_key)))
        if self.split_by == "one":
            kit = [PathTrack("kit", "Drums", "other")]
        elif self.split_by == "family":
            kit = [PathTrack(family, family.capitalize(), family) for family in FAMILIES]
        else:
            kit = [PathTrack(drum, drum_title(drum), family_of(drum)) for drum in drums]
        rest = []
        for number, port in enumerate(self.ports or (Port(""),)):
            for channel in range(1, 17):
                name = (
                    tr("{name}, channel {channel}", name=port.name, channel=channel)
                    if port.name
                    else tr("Channel {channel}", channel=channel)
                )
                rest.append(PathTrack(f"{number}/{channel}", name, "other"))
        return (*kit, PathTrack("unmapped", "Unmapped", "other"), *rest)

    @cached_property
    def unmapped_track(self) -> int:
        return next(i for i, track in enumerate(self.tracks) if track.key == "unmapped")

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
        return np.array([index[key] for key in keys], np.int16)

    def articulation_of(self, channel: int, note: int) -> str | None:
        """The articulation of a note before the pedal is considered, or None if the source map lacks it."""
        code = int(self.source_table[channel, note])
        return self.vocabulary[code] if code >= 0 else None

    def channel_track(self, port: int, channel: int) -> int:
        """Index of the track of a channel outside the source map."""
        return self.unmapped_track + 1 + port * 16 + channel - 1

    @cached_property
    def kept_by_hand(self) -> np.ndarray:
        """Origins that no stage may remove, sorted."""
        return np.array(sorted(o for o, v in self.verdicts.items() if v.keep is True), np.int64)

    @cached_property
    def dropped_by_hand(self) -> np.ndarray:
        """Origins that the player removed, sorted."""
        return np.array(sorted(o for o, v in self.verdicts.items() if v.keep is False), np.int64)

    @cached_property
    def told_articulation(self) -> tuple[np.ndarray, np.ndarray]:
        """Origins, sorted, and the articulations that the player gave them."""
        told = sorted((o, self.code[canonical(v.articulation)]) for o, v in self.verdicts.items() if v.articulation)
        return np.array([o for o, _ in told], np.int64), np.array([c for _, c in told], np.int16)


def among(origins: np.ndarray, rising: np.ndarray) -> np.ndarray:
    """(n,) bool: which origins are in a sorted list."""
    if not len(rising):
        return np.zeros(len(origins), bool)
    place = np.minimum(np.searchsorted(rising, origins), len(rising) - 1)
    return np.asarray(rising[place] == origins)
