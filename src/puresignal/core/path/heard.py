"""Notes heard in a recording: how sure the ear was of each, and the stage that leaves out what it doubted.

What was heard is kept whole with its take, so a moved setting answers at once, and a note left out can be put back. For
takes that were played it does nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.hearing.transcribed import REMOVAL_REASONS
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, entries
from puresignal.translation import mark

UNSURE = Reason(mark("heard unsurely"), mark("Notes that the ear was less sure of than wanted."))
PROPOSED = tuple(Reason(word) for word in REMOVAL_REASONS[1:])
OUT_OF_RANGE = Reason(mark("out of range"), mark("Heard notes below or above the range."))
ELSEWHERE = Reason(mark("elsewhere in stereo"), mark("Heard notes left or right of the part that was asked for."))
KEPT_DOUBTFUL = 0.6
"""Confidence below which a heard note is listed as doubtful."""


@dataclass(frozen=True)
class Heard:
    """Leaves out heard notes that are doubtful."""

    on: bool = setting(True, mark("drop heard notes that are unsure"))
    least: float = setting(
        0.0, mark("Heard notes that the ear is less sure of are left out."), label=mark("Minimum confidence"), unit="%",
        step=0.01,
    )  # fmt: skip
    shortest_ms: float = setting(
        0.0, mark("Shorter heard notes are left out."), label=mark("Shortest"), unit="ms", high=500.0, step=5.0
    )
    low: float = setting(0.0, mark("Lower heard notes are left out."), label=mark("Lowest note"), high=127.0)
    high: float = setting(127.0, mark("Higher heard notes are left out."), label=mark("Highest note"), high=127.0)

    softest: float = setting(
        0.0, mark("Softer heard notes are left out."), label=mark("Softest"), high=127.0, later=True
    )
    left: float = setting(
        -1.0, mark("Notes farther left in the stereo picture are left out; -1: none."), label=mark("From the left"),
        low=-1.0, step=0.05, later=True,
    )  # fmt: skip
    right: float = setting(
        1.0, mark("Notes farther right in the stereo picture are left out; 1: none."), label=mark("To the right"),
        low=-1.0, step=0.05, later=True,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "heard", word=mark("ear"), title=mark("Drop unsure notes"),
        tip=mark("Of notes heard in a recording: leaves out those that were too short, too soft, or unsure."),
        switch=Switch(), reasons=(UNSURE, OUT_OF_RANGE, ELSEWHERE, *PROPOSED), causal=False,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        heard = context.heard
        if heard is None or not len(notes):
            return Result(notes, controls)
        sure, why = heard.of(notes.origin)
        kept = among(notes.origin, context.kept_by_hand)
        gone, reason = np.zeros(len(notes), bool), np.zeros(len(notes), np.int64)
        if self.on:
            long = 1000 * np.nan_to_num(notes.end - notes.start, nan=1e9)
            outside = (notes.note < self.low) | (notes.note > self.high)
            place = heard.places(notes.origin)
            elsewhere = (place < self.left - 1e-9) | (place > self.right + 1e-9)
            unsure = (sure < self.least) | (long < self.shortest_ms) | (notes.velocity < self.softest)
            numbers = np.array([-1, *(int(one) for one in PROPOSED)])
            reason = np.select(
                [why > 0, outside & (notes.channel != DRUMS), elsewhere, unsure],
                [numbers[why], int(OUT_OF_RANGE), int(ELSEWHERE), int(UNSURE)], -1,
            )  # fmt: skip
            gone = (reason >= 0) & ~kept
        doubtful = ~gone & (sure < KEPT_DOUBTFUL)
        written = (
            entries(
                self.stage, Action.REMOVED, reason[gone], notes.origin[gone], branch=notes.branch[gone],
                confidence=(1 - sure[gone]).astype(np.float32),
            ),
            entries(
                self.stage, Action.KEPT, UNSURE, notes.origin[doubtful], branch=notes.branch[doubtful],
                confidence=sure[doubtful].astype(np.float32),
            ),
        )  # fmt: skip
        return Result(notes.take(~gone), controls, written)

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


DRUMS = 10
"""The channel of drums, whose numbers are no pitches."""
