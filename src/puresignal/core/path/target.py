"""The target map: each articulation is sent on the note, or notes, that the receiver expects."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.midi.messages import CONTROL, POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.context import MIDDLE_OPEN, PARTS, Context, TargetTable, among, part_of
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, Entries, NoteField, entries
from puresignal.translation import mark

NO_TARGET = Reason(mark("no target"), mark("Hits on drums that the receiver does not have."))
ALSO_SENT = Reason(mark("also sent"), mark("Further notes sent for one hit."))
MAPPED = Reason(mark("mapped"))
STAND_IN = Reason(mark("stand-in"))


@dataclass(frozen=True)
class Target:
    """Maps articulations to notes, and sends whole velocities.

    unmapped  "drop" removes what the receiver lacks, "keep" passes it on
    fine      whether velocities have more than 127 steps, by the prefix of controller 88
    """

    unmapped: str = setting("drop", mark('"keep" passes on what the receiver does not have'), choices=("drop", "keep"))
    fine: bool = setting(
        False,
        mark("send velocities in more than 127 steps, as a controller 88 before the note; it is always read"),
        later=True,
    )

    stage: ClassVar[Stage] = Stage(
        "target",
        word=mark("receiver"),
        title=mark("Map to receiver"),
        tip=mark("Each drum goes to the note that the receiver expects."),
        reasons=(NO_TARGET, ALSO_SENT, MAPPED, STAND_IN),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        notes = notes if self.fine else _whole_velocities(notes)
        if not context.wiring.targets:
            return self._to_one(notes, controls, context)
        number, contexts = context.by_receiver
        parts = [
            self._to_one(notes.take(number[notes.track] == i), controls.take(number[controls.track] == i), one)
            for i, one in enumerate(contexts)
        ]
        all_notes, all_controls = Notes.join([p.notes for p in parts]), Controls.join([p.controls for p in parts])
        order = np.lexsort((all_notes.branch, all_notes.seq))
        return Result(
            all_notes.take(order),
            all_controls.take(np.argsort(all_controls.seq, kind="stable")),
            tuple(written for part in parts for written in part.entries),
        )

    def _to_one(self, notes: Notes, controls: Controls, context: Context) -> Result:
        table = context.target_table
        if table is None:
            return Result(notes, controls)
        nearer = part_of(notes.closedness)
        code = np.maximum(notes.articulation, 0)
        mapped = notes.articulation >= 0
        count = np.where(mapped, table.count[nearer, code], 1)
        nowhere = count == 0
        written: list[Entries] = []
        stays = nowhere if self.unmapped == "keep" else nowhere & among(notes.origin, context.kept_by_hand)
        written.append(entries(self.stage, Action.REMOVED, NO_TARGET, notes.origin[nowhere & ~stays]))
        mapped, count = mapped & ~stays, np.where(stays, 1, count)

        single = bool(np.all(count == 1))
        rows = np.arange(len(notes)) if single else np.repeat(np.arange(len(notes)), count)
        branch = np.zeros(len(rows), np.int64)
        if not single:
            branch = np.arange(len(rows)) - np.repeat(np.cumsum(count) - count, count)
        place = np.where(mapped[rows], table.first[nearer[rows], code[rows]] + branch, 0)
        note, channel = notes.note[rows], notes.channel[rows]
        if len(table.notes):
            note = np.where(mapped[rows], table.notes[place], note)
            given = table.channels[place]
            channel = np.where(mapped[rows] & (given > 0), given, channel)
        leaving = notes if single else notes.take(rows)
        stands_in = table.stand_in[nearer[rows], code[rows]]
        reason = np.where(stands_in >= 0, STAND_IN, MAPPED)
        written.append(
            entries(
                self.stage,
                Action.ADDED,
                ALSO_SENT,
                leaving.origin[branch > 0],
                branch=(leaving.branch + branch)[branch > 0],
            )
        )
        for field, before, after in (
            (NoteField.NOTE, leaving.note, note),
            (NoteField.CHANNEL, leaving.channel, channel),
        ):
            other = (before != after) & (branch == 0)
            written.append(
                entries(
                    self.stage, Action.CHANGED, reason[other], leaving.origin[other], field=field,
                    branch=leaving.branch[other], before=before[other], after=after[other],
                )
            )  # fmt: skip
        leaving = leaving.but(note=note, channel=channel, branch=leaving.branch + branch)
        return Result(leaving, self._controls(controls, context), tuple(written))

    def _controls(self, controls: Controls, context: Context) -> Controls:
        outputs = ControlOutputs(context, self.unmapped)
        pressure = np.flatnonzero(controls.kind == POLY_PRESSURE)
        plain = controls.take(~outputs.special(controls))
        # Channel-wide messages follow the kit to the channel of its notes.
        parts = [plain.but(channel=outputs.general_channel[plain.channel])]
        pedal = np.flatnonzero(outputs.is_pedal(controls))
        if len(pedal) and outputs.pedal_number >= 0:
            moved = controls.take(pedal)
            parts.append(
                moved.but(
                    number=np.full(len(pedal), outputs.pedal_number),
                    value=outputs.pedal_values[moved.value],
                    channel=outputs.pedal_channel[moved.channel],
                )
            )
        spoken = pressure[context.mapped_channels[controls.channel[pressure]]]
        # A row for each note of the pad: as many passes as the largest pad has notes.
        targets = [
            outputs.pressure_targets(int(c), int(n))
            for c, n in zip(controls.channel[spoken], controls.number[spoken], strict=True)
        ]
        widest = max((len(t) for t in targets), default=0)
        for i in range(widest):
            rows = [k for k, t in enumerate(targets) if i < len(t)]
            chosen = controls.take(spoken[rows])
            parts.append(
                chosen.but(
                    number=np.array([targets[k][i][0] for k in rows]),
                    channel=np.array([targets[k][i][1] for k in rows]),
                )
            )
        everything = Controls.join(parts)
        return everything.take(np.argsort(everything.seq, kind="stable"))

    def live(self, context: Context) -> LiveStage:
        return _LiveTargets(self, context) if context.wiring.targets else _LiveTarget(self, context)


def _whole_velocities(notes: Notes) -> Notes:
    whole = np.rint(notes.velocity)
    if np.array_equal(whole, notes.velocity):
        return notes
    return notes.but(velocity=np.clip(whole, 1, 127))


class ControlOutputs:
    """How controls are sent: tables shared by the batch and the live form.

    pedal_number    controller that the receiver expects for the hat, -1 if none
    pedal_values    (128,) value in the receiver's polarity for each of the kit's
    pedal_channel   (17,) channel of the pedal's controller
    general_channel (17,) channel of channel-wide messages
    """

    def __init__(self, context: Context, unmapped: str):
        self._context = context
        self._keep = unmapped == "keep"
        self._source_hat = context.source.hat if context.source is not None else None
        target = context.target
        same = np.arange(17)
        self.general_channel = same.copy()
        self.pedal_channel = same.copy()
        self.pedal_number = -1
        self.pedal_values = np.arange(128, dtype=np.uint8)
        if target is not None:
            if target.channel is not None:
                self.general_channel[context.mapped_channels] = target.channel
            if self._source_hat is not None and target.hat is not None:
                self.pedal_number = target.hat.controller
                self.pedal_values = np.array(
                    [target.hat.value(self._source_hat.closedness(value)) for value in range(128)], np.uint8
                )
                pad = next((p for p in target.pads if p.articulation.startswith("hat")), None)
                channel = target.channel_of(pad) if pad is not None else target.channel
                if channel is not None:
                    self.pedal_channel[:] = channel

    def is_pedal(self, controls: Controls) -> np.ndarray:
        hat = self._source_hat
        if hat is None:
            return np.zeros(len(controls), bool)
        return np.asarray(
            (controls.kind == CONTROL)
            & (controls.number == hat.controller)
            & self._context.hat_channels[controls.channel]
        )

    def special(self, controls: Controls) -> np.ndarray:
        """Which controls do not pass unchanged: the pedal, and pressure on the kit's channels."""
        pressure = (controls.kind == POLY_PRESSURE) & self._context.mapped_channels[controls.channel]
        return np.asarray(self.is_pedal(controls) | pressure)

    def pressure_targets(self, channel: int, note: int) -> list[tuple[int, int]]:
        """(note, channel) pairs that receive a pad's key pressure."""
        code = int(self._context.source_table[channel, note])
        table = self._context.target_table
        if table is None or code < 0:
            return [(note, channel)] if table is None or self._keep else []
        pairs = table_outputs(table, MIDDLE_OPEN, code, channel)
        return pairs or ([(note, channel)] if self._keep else [])


def table_outputs(table: TargetTable, nearer: int, code: int, channel: int) -> list[tuple[int, int]]:
    """(note, channel) pairs of one articulation that arrived on a channel."""
    first, count = int(table.first[nearer, code]), int(table.count[nearer, code])
    return [(int(table.notes[i]), int(table.channels[i]) or channel) for i in range(first, first + count)]


class _LiveTarget(LiveStage):
    """State: the notes sent for each sounding hit."""

    def __init__(self, settings: Target, context: Context):
        self._drop, self._fine = settings.unmapped == "drop", settings.fine
        self._context = context
        self._outputs = ControlOutputs(context, settings.unmapped)
        self._sounding: dict[tuple[int, int], int] = {}
        self._ways: list[list[list[tuple[int, int]]]] = []
        if context.target_table is not None:
            table, codes = context.target_table, range(len(context.vocabulary))
            self._ways = [[table_outputs(table, end, code, 0) for code in codes] for end in range(len(table.first))]

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON and not self._fine and event.velocity != int(event.velocity):
            event.velocity = float(max(1, min(127, round(event.velocity))))
        if not self._ways:
            return [event]
        if event.kind == live.ON:
            return self._on(event)
        if event.kind == live.OFF:
            return self._branches(event, self._sounding.pop((event.origin, event.branch), 0))
        return self._control(event)

    def _on(self, event: LiveEvent) -> list[LiveEvent]:
        if event.articulation < 0:
            self._sounding[event.origin, event.branch] = 1
            return [event]
        known = event.closedness
        nearer = MIDDLE_OPEN if known != known else bisect_right(PARTS, known)
        ways = self._ways[nearer][event.articulation]
        if not ways:
            if self._drop:
                self.account(Target.stage, Action.REMOVED, NO_TARGET, event.origin, NoteField.NONE, np.nan, np.nan, 1.0)
                return []
            self._sounding[event.origin, event.branch] = 1
            return [event]
        self._sounding[event.origin, event.branch] = len(ways)
        leaving = self._branches(event, len(ways))
        for branch, (note, channel) in enumerate(ways):
            leaving[branch].note = note
            leaving[branch].channel = channel or event.channel
            if branch:
                self.account(Target.stage, Action.ADDED, ALSO_SENT, event.origin, NoteField.NONE, np.nan, note, 1.0)
        return leaving

    @staticmethod
    def _branches(event: LiveEvent, count: int) -> list[LiveEvent]:
        if count == 1:
            return [event]
        leaving = []
        for branch in range(count):
            twin = event.copy()
            twin.branch = event.branch + branch
            leaving.append(twin)
        return leaving

    def _control(self, event: LiveEvent) -> list[LiveEvent]:
        outputs, context = self._outputs, self._context
        hat = context.source.hat if context.source is not None else None
        if event.status == CONTROL and hat and event.note == hat.controller and context.hat_channels[event.channel]:
            if outputs.pedal_number < 0:
                return []
            event.note = outputs.pedal_number
            event.velocity = float(outputs.pedal_values[int(event.velocity)])
            event.channel = int(outputs.pedal_channel[event.channel])
            return [event]
        if event.status == POLY_PRESSURE and context.mapped_channels[event.channel]:
            leaving = []
            for note, channel in outputs.pressure_targets(event.channel, event.note):
                twin = event.copy()
                twin.note, twin.channel = note, channel
                leaving.append(twin)
            return leaving
        event.channel = int(outputs.general_channel[event.channel])
        return [event]

    def held(self) -> int:
        return len(self._sounding)


class _LiveTargets(LiveStage):
    """For tracks with receivers of their own: each event goes through that of its track.

    State: the receivers of sounding notes, since an end does not say its track
    """

    def __init__(self, settings: Target, context: Context):
        number, contexts = context.by_receiver
        self._number: list[int] = number.tolist()
        self._each = [_LiveTarget(settings, one) for one in contexts]
        self._went: dict[tuple[int, int], _LiveTarget] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        for one in self._each:
            one.account = self.account
        if event.kind == live.OFF:
            return self._went.pop((event.origin, event.branch), self._each[0]).feed(event)
        to = self._each[self._number[event.track]]
        if event.kind == live.ON:
            self._went[event.origin, event.branch] = to
            leaving = to.feed(event)
            if not leaving:
                del self._went[event.origin, event.branch]
            return leaving
        return to.feed(event)

    def held(self) -> int:
        return len(self._went) + sum(one.held() for one in self._each)
