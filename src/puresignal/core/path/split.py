"""The split to tracks: one per drum or family, and one per channel outside the map."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.midi.messages import CONTROL, POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Stage
from puresignal.translation import mark


@dataclass(frozen=True)
class Split:
    """Gives each note and control its track.

    by  "drum": a track per drum; "family": per family; "one": all drums on one track
    """

    by: str = setting("drum", mark("a track per drum, per family, or one for all"), choices=("drum", "family", "one"))

    stage: ClassVar[Stage] = Stage("split", word=mark("tracks"))

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        own = context.unmapped_track + 1 + notes.port.astype(np.int64) * 16 + notes.channel - 1
        unmapped = np.where(context.mapped_channels[notes.channel], context.unmapped_track, own)
        track = np.where(notes.articulation >= 0, context.track_of_articulation[notes.articulation], unmapped)
        return Result(notes.but(track=track), controls.but(track=_control_tracks(controls, context)))

    def live(self, context: Context) -> LiveStage:
        return _LiveSplit(context)


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
    """No state."""

    def __init__(self, context: Context):
        self._context = context
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
        return [event]

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
