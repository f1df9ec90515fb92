"""The split to tracks: one per drum or family, and one per channel outside the map."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, TypeVar

import numpy as np

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.midi.messages import CONTROL, POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

Sent = TypeVar("Sent", Notes, Controls)
LAYERED = Reason(mark("layered"), mark("Notes on further tracks for one hit."))
COPY = 256
"""Step between the numbers of a note's copies on further tracks: more than the notes of any pad at a receiver."""


@dataclass(frozen=True)
class Split:
    """Gives each note and control its track.

    by  "drum": a track per drum; "family": per family; "one": all drums on one track
    """

    by: str = setting("drum", mark("a track per drum, per family, or one for all"), choices=("drum", "family", "one"))

    stage: ClassVar[Stage] = Stage("split", word=mark("tracks"), reasons=(LAYERED,))

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        notes = self.assigned(notes, context)
        controls = controls.but(track=_control_tracks(controls, context))
        if not context.copies:
            return Result(notes, controls)
        notes, branch = _sent(notes, context)
        layered = branch > 0
        written = entries(self.stage, Action.ADDED, LAYERED, notes.origin[layered], branch=branch[layered])
        return Result(notes.but(branch=branch), _sent(controls, context)[0], (written,))

    def assigned(self, notes: Notes, context: Context) -> Notes:
        """Notes with their tracks before any is sent elsewhere, one row for each."""
        own = context.unmapped_track + 1 + notes.port.astype(np.int64) * 16 + notes.channel - 1
        unmapped = np.where(context.mapped_channels[notes.channel], context.unmapped_track, own)
        track = np.where(notes.articulation >= 0, context.track_of_articulation[notes.articulation], unmapped)
        return notes.but(track=track)

    def live(self, context: Context) -> LiveStage:
        return _LiveSplit(context)


def _sent(rows: Sent, context: Context) -> tuple[Sent, np.ndarray]:
    """Notes or controls where the session sends them, with a copy for each further track; and the copies' branches."""
    table = _ways(context)
    count = np.count_nonzero(table >= 0, axis=1)[rows.track]
    row = np.repeat(np.arange(len(rows)), count)
    copy = np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)
    return rows.take(row).but(track=table[rows.track[row], copy]), copy * COPY


def _ways(context: Context) -> np.ndarray:
    """(tracks, most) for each track those that its notes go to, and -1."""
    ways = [context.copies.get(i, (i,)) for i in range(len(context.tracks))]
    widest = max(len(way) for way in ways)
    return np.array([[*way, *(-1,) * (widest - len(way))] for way in ways], np.int64)


def _control_tracks(controls: Controls, context: Context) -> np.ndarray:
    """(controls,) a pad's pressure goes with its drum, the pedal with the hat, the rest to the kit's first track."""
    track = np.empty(len(controls), np.int64)
    spoken = context.mapped_channels[controls.channel]
    track[:] = context.unmapped_track + 1 + controls.port.astype(np.int64) * 16 + controls.channel - 1
    track[spoken] = general_track(context)
    pressure = spoken & (controls.kind == POLY_PRESSURE)
    code = context.source_table[controls.channel, controls.number & 0x7F]
    track[pressure] = np.where(
        code[pressure] >= 0, context.track_of_articulation[code[pressure]], context.unmapped_track
    )
    hat = context.source.hat if context.source is not None else None
    if hat is not None:
        pedal = (
            (controls.kind == CONTROL) & (controls.number == hat.controller) & context.hat_channels[controls.channel]
        )
        track[pedal] = hat_track(context)
    return track


def hat_track(context: Context) -> int:
    """Index of the track of the pedal's controller."""
    return int(context.track_of_articulation[context.code["hat.closed"]])


def general_track(context: Context) -> int:
    """Index of the track for messages that concern a kit's whole channel: the first track of the kit."""
    return 0


class _LiveSplit(LiveStage):
    """State: the tracks of sounding notes that are sent elsewhere."""

    def __init__(self, context: Context):
        self._context = context
        self._copies = context.copies
        self._layered: dict[int, tuple[int, ...]] = {}
        self._tracks = context.track_of_articulation.tolist()
        self._speaks = context.mapped_channels.tolist()
        self._hat = context.source.hat.controller if context.source is not None and context.source.hat else -1

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        context = self._context
        if event.kind == live.ON:
            if event.articulation >= 0:
                event.track = self._tracks[event.articulation]
            elif self._speaks[event.channel]:
                event.track = context.unmapped_track
            else:
                event.track = context.channel_track(event.port, event.channel)
        elif event.kind == live.CONTROL:
            event.track = self._control(event)
        return self._sent(event) if self._copies else [event]

    def _sent(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.OFF:
            to = self._layered.pop(event.origin, ())
        else:
            to = self._copies.get(event.track, ())
            if to and event.kind == live.ON:
                self._layered[event.origin] = to
        if not to:
            return [event]
        event.track = to[0]
        leaving = [event]
        for copy, track in enumerate(to[1:], 1):
            twin = event.copy()
            twin.track, twin.branch = track, copy * COPY
            leaving.append(twin)
            if event.kind == live.ON:
                self.account(Split.stage, Action.ADDED, LAYERED, event.origin, NoteField.NONE, np.nan, np.nan, 1.0)
        return leaving

    def held(self) -> int:
        return len(self._layered)

    def _control(self, event: LiveEvent) -> int:
        context = self._context
        if event.status == CONTROL and event.note == self._hat and context.hat_channels[event.channel]:
            return hat_track(context)
        if not self._speaks[event.channel]:
            return context.channel_track(event.port, event.channel)
        if event.status == POLY_PRESSURE:
            code = int(context.source_table[event.channel, event.note])
            return self._tracks[code] if code >= 0 else context.unmapped_track
        return general_track(context)
