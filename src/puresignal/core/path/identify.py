"""Identification: the articulation of each note, by the source map and, on a hat, the pedal."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import NO_ARTICULATION, Controls, Notes
from puresignal.core.midi.messages import CONTROL, POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.opening import CLOSED, Opening, at_hits, splashes, zones
from puresignal.core.path.removal import USED_TO_CONTROL
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

UNMAPPED_NOTE = Reason(mark("unmapped"), mark("Hits on notes that are not in the source map."))
PEDAL = Reason(mark("by the pedal"))


@dataclass(frozen=True)
class Identify:
    """Names each hit.

    unmapped   "drop" removes notes that the map lacks, "keep" passes them on
    tremble    jitter of a pedal that is held still, as a fraction of its travel
    splash_ms  a foot that opens the hat again this soon after its note played a splash; 0: never. Deciding takes
               that long, so splashes are not detected live (see `as_live`)
    """

    unmapped: str = setting("drop", mark('"keep" passes unmapped notes on'), choices=("drop", "keep"))
    tremble: float = setting(
        0.04,
        mark("a pedal this near to an edge, in parts of its travel, changes the opening only if it stays for 80 ms"),
        high=0.15,
    )
    splash_ms: float = setting(
        90.0,
        mark("a foot close whose pedal opens again this soon is a splash, in files; 0 turns splashes off"),
        unit="ms",
        high=200.0,
    )

    stage: ClassVar[Stage] = Stage(
        "identify",
        word=mark("identified"),
        title=mark("Drop unmapped notes"),
        tip=mark("When off, notes that are not in the source map pass through unchanged."),
        switch=Switch("unmapped", "drop", "keep", others=("target",)),
        reasons=(PEDAL, UNMAPPED_NOTE, USED_TO_CONTROL),
        counted=(UNMAPPED_NOTE,),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        controlled = notes.origin[:0]
        if len(context.controlled):
            worked = among(notes.origin, context.controlled)
            controlled, notes = notes.origin[worked], notes.take(~worked)
        code = context.source_table[notes.channel, notes.note].astype(np.int16)
        decides = np.where(code >= 0, context.pedal_decides[code], 0)
        foot = (code == context.code["hat.pedal"]) & (self.splash_ms > 0)
        closedness, opening, splashed = self._pedal(notes, controls, context, foot)
        asked = np.flatnonzero((decides > 0) | splashed)
        before = code[asked].copy()
        code = np.where(decides > 0, context.openings[decides, opening], code).astype(np.int16)
        code[splashed] = context.code["hat.splash"]
        told, codes = context.told_articulation
        by_hand = among(notes.origin, told)
        code[by_hand] = codes[np.searchsorted(told, notes.origin[by_hand])]
        notes = notes.but(articulation=code, closedness=closedness)

        unmapped = (code == NO_ARTICULATION) & context.mapped_channels[notes.channel]
        written = [
            entries(self.stage, Action.REMOVED, USED_TO_CONTROL, controlled),
            entries(
                self.stage, Action.CHANGED, PEDAL, notes.origin[asked], field=NoteField.ARTICULATION,
                before=before, after=code[asked], confidence=1.0,
            )
        ]  # fmt: skip
        if self.unmapped == "drop":
            unmapped &= ~among(notes.origin, context.kept_by_hand)
            written.append(entries(self.stage, Action.REMOVED, UNMAPPED_NOTE, notes.origin[unmapped]))
            notes = notes.take(~unmapped)
            controls = controls.take(~_unmapped_pressure(controls, context))
        return Result(notes, controls, tuple(written))

    def _pedal(
        self, notes: Notes, controls: Controls, context: Context, foot: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(notes,) closedness at each hit, its zone, and whether it is a foot note that splashed.

        Closedness is NaN before the pedal's first value and outside the hat's channels.
        """
        closedness = np.full(len(notes), np.nan, np.float32)
        opening, splashed = np.full(len(notes), CLOSED, np.int8), np.zeros(len(notes), bool)
        hat = context.source.hat if context.source is not None else None
        if hat is None:
            return closedness, opening, splashed
        zone_of, sure_of = zones(hat, self.tremble)
        pedal = np.flatnonzero(
            (controls.kind == CONTROL) & (controls.number == hat.controller) & context.hat_channels[controls.channel]
        )
        lane = context.devices[controls.port[pedal]] * 17 + controls.channel[pedal]
        note_lane = context.devices[notes.port] * 17 + notes.channel
        scale = np.array([hat.closedness(value) for value in range(128)], np.float32)
        for one in distinct(lane):
            moves = pedal[lane == one]
            mine = np.flatnonzero(note_lane == one)
            place = np.searchsorted(controls.seq[moves], notes.seq[mine])
            heard = place > 0
            values, at = controls.value[moves], controls.at[moves]
            closedness[mine[heard]] = scale[values[place[heard] - 1]]
            opening[mine] = at_hits(at, zone_of[values], sure_of[values], place, notes.start[mine])
            feet = foot[mine]
            splashed[mine[feet]] = splashes(
                at, zone_of[values], place[feet], notes.start[mine[feet]], self.splash_ms / 1000
            )
        return closedness, opening, splashed

    def live(self, context: Context) -> LiveStage:
        return _LiveIdentify(self, context)


def _unmapped_pressure(controls: Controls, context: Context) -> np.ndarray:
    """(controls,) bool: key pressure for notes that the source map lacks."""
    pressure = (controls.kind == POLY_PRESSURE) & context.mapped_channels[controls.channel]
    return np.asarray(pressure & (context.source_table[controls.channel, controls.number] < 0))


class _LiveIdentify(LiveStage):
    """State: the pedal position by device and channel, and the unmapped notes that sound."""

    def __init__(self, settings: Identify, context: Context):
        self._drop = settings.unmapped == "drop"
        self._table = context.source_table.tolist()
        self._speaks = context.mapped_channels.tolist()
        self._hat_channels = context.hat_channels.tolist()
        self._decides = context.pedal_decides.tolist()
        self._openings = context.openings.tolist()
        self._devices = context.devices.tolist()
        hat = context.source.hat if context.source is not None else None
        self._controller = hat.controller if hat is not None else -1
        self._scale = [float(np.float32(hat.closedness(v))) for v in range(128)] if hat is not None else []
        self._zone: list[int] = []
        self._sure: list[bool] = []
        if hat is not None:
            zone, confidence = zones(hat, settings.tremble)
            self._zone, self._sure = zone.tolist(), confidence.tolist()
        self._pedal: dict[int, float] = {}
        self._opening: dict[int, Opening] = {}
        self._gone: set[int] = set()

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            code = self._table[event.channel][event.note]
            if code < 0 and self._drop and self._speaks[event.channel]:
                self._gone.add(event.origin)
                self.account(
                    Identify.stage, Action.REMOVED, UNMAPPED_NOTE, event.origin, NoteField.NONE, np.nan, np.nan, 1.0
                )
                return []
            if self._pedal:
                event.closedness = self._pedal.get(self._devices[event.port] * 17 + event.channel, np.nan)
            if code >= 0 and self._decides[code]:
                pedal = self._opening.get(self._devices[event.port] * 17 + event.channel)
                opening = pedal.when(event.at) if pedal is not None else CLOSED
                before, code = code, self._openings[self._decides[code]][opening]
                self.account(
                    Identify.stage,
                    Action.CHANGED,
                    PEDAL,
                    event.origin,
                    NoteField.ARTICULATION,
                    before,
                    code,
                    1.0,
                )
            event.articulation = code
        elif event.kind == live.OFF:
            if event.origin in self._gone:
                self._gone.discard(event.origin)
                return []
        elif event.status == CONTROL:
            if event.note == self._controller and self._hat_channels[event.channel]:
                lane, value = self._devices[event.port] * 17 + event.channel, int(event.velocity)
                self._pedal[lane] = self._scale[value]
                opening_now = self._opening.get(lane)
                if opening_now is None:
                    opening_now = self._opening[lane] = Opening()
                opening_now.move(event.at, self._zone[value], self._sure[value])
        elif event.status == POLY_PRESSURE and self._is_unmapped(event):
            return []
        return [event]

    def _is_unmapped(self, event: LiveEvent) -> bool:
        return self._drop and self._speaks[event.channel] and self._table[event.channel][event.note] < 0

    def held(self) -> int:
        return len(self._gone) + len(self._pedal)
