"""The content of the views: a take or several, with everything made of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from puresignal.core.analysis import take_overview, warnings
from puresignal.core.export import left_out
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.export.song_builder import FileTrack, file_tracks
from puresignal.core.midi.events import Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.session.track_settings import Delivery
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True, eq=False)
class Shown:
    """A take, or several together, with everything that views show of them. A new one is made for each change.

    ref      the chosen take; of several, the one that stands out
    several  the takes, where they are of the session

    Parts that only some views need are computed on first use.
    """

    ref: TakeRef
    take: Take
    context: Context
    outcome: Outcome
    delivery: Delivery
    several: SeveralTakes | None = None

    @property
    def is_several(self) -> bool:
        """Whether it is more than one take, or one that does not stand as it came."""
        return self.several is not None and self.take.ident == "whole"

    @property
    def is_open(self) -> bool:
        """Whether the only take that it shows is being recorded."""
        return self.several is not None and all(ref.is_open for ref in self.several.refs)

    @property
    def grid(self) -> TempoMap | Timeline | None:
        """Beats by seconds of the take, None where they are not known."""
        if self.is_several:
            return self.take.tempo
        if self.ref.grid is not None:
            return self.ref.grid
        return self.take.tempo if self.ref.has_grid else None

    @cached_property
    def arrivals(self) -> tuple[take_overview.Arrival, ...]:
        return take_overview.arrivals(self.outcome, self.context)

    @cached_property
    def facts(self) -> take_overview.Facts:
        return take_overview.facts(self.take, self.outcome)

    @cached_property
    def tracks(self) -> tuple[FileTrack, ...]:
        return file_tracks(self.outcome, self.delivery)

    @cached_property
    def warnings(self) -> tuple[str, ...]:
        return (
            *self.take.notices,
            *left_out.left_out(self.take, self.outcome),
            *warnings.warnings(self.take, self.outcome),
        )

    @cached_property
    def row_of_origin(self) -> np.ndarray:
        """(events,) row of each input note by origin, -1 for an event that does not start a note."""
        rows = np.full(len(self.take.events), -1, np.int64)
        rows[self.outcome.input_notes.origin] = np.arange(len(self.outcome.input_notes))
        return rows

    def whose(self, origins: np.ndarray) -> dict[str, np.ndarray]:
        """The origins by the take that they are of, as events of that take."""
        return {self.ref.ident: origins} if self.several is None else self.several.whose(origins)

    def verdict_of(self, origin: int) -> Verdict | None:
        """The player's decision on a note, if there is one."""
        return self.ref.verdicts.get(origin) if self.several is None else self.several.verdict_of(origin)

    def stands_out(self, origins: np.ndarray) -> np.ndarray:
        """(n,) whether notes are of the chosen take."""
        if self.several is None or len(self.several.idents) < 2:
            return np.ones(len(origins), bool)
        return self.several.is_of(self.ref.ident, origins)
