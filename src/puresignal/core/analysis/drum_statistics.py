"""Statistics of each drum and pitched track: velocities before and after, and timing against the grid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.kit.articulations import drum_of, sort_key
from puresignal.core.midi.events import Notes
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.velocity_curve import TRACK
from puresignal.core.timing.session_time import Timeline

PARTS = 4
"""Grid lines per quarter note: sixteenths."""


@dataclass(frozen=True, eq=False)
class DrumStats:
    """One drum, or a pitched track under the key of its shape.

    arrived, left   velocities of its hits as played, and as sent
    early_ms        (hits,) distance of each hit from the nearest sixteenth in ms; negative is early
    """

    name: str
    arrived: np.ndarray
    left: np.ndarray
    early_ms: np.ndarray

    @property
    def middle(self) -> tuple[float, float]:
        """Medians of the velocities, before and after."""
        return tuple(float(np.median(v)) if len(v) else 0.0 for v in (self.arrived, self.left))  # type: ignore[return-value]

    @property
    def spread(self) -> tuple[float, float]:
        """Standard deviations of the velocities, before and after."""
        return tuple(float(np.std(v)) if len(v) else 0.0 for v in (self.arrived, self.left))  # type: ignore[return-value]

    @property
    def timing(self) -> tuple[float, float]:
        """Median distance from the grid, and half the width of the middle two thirds, in ms.

        Grace notes lie far from any line on purpose and would dominate a standard deviation.
        """
        late = self.early_ms
        if not len(late):
            return 0.0, 0.0
        low, middle, high = np.quantile(late, (1 / 6, 0.5, 5 / 6))
        return float(middle), float(high - low) / 2


def of_take(outcome: Outcome, grid: TempoMap | Timeline | None) -> tuple[DrumStats, ...]:
    """The statistics of every drum that was played, kick first. grid: its beats by its seconds, None if not known."""
    played, clean = outcome.input_notes, outcome.output_notes
    drums = np.array([drum_of(name) for name in outcome.vocabulary] or [""])
    lead = clean.branch == 0
    mine_of = np.where(played.articulation >= 0, drums[np.maximum(played.articulation, 0)], "")
    ours_of = np.where(clean.articulation >= 0, drums[np.maximum(clean.articulation, 0)], "")
    late, found = _late(clean, grid), []
    for name in sorted(set(mine_of[mine_of != ""].tolist()), key=sort_key):
        ours = lead & (ours_of == name)
        found.append(DrumStats(name, played.velocity[mine_of == name], clean.velocity[ours], late[ours]))
    return tuple(found)


def of_pitched(outcome: Outcome, grid: TempoMap | Timeline | None) -> tuple[DrumStats, ...]:
    """The same of every pitched track that was played, each under the key of its shape."""
    played, clean = outcome.input_notes, outcome.output_notes
    pitched, ours_pitched = played.articulation < 0, (clean.branch == 0) & (clean.articulation < 0)
    late, found = _late(clean, grid), []
    for index in np.unique(played.track[pitched]).tolist():
        key = outcome.tracks[index].key if index >= 0 else ""
        if "/" in key:
            ours = ours_pitched & (clean.track == index)
            arrived = played.velocity[pitched & (played.track == index)]
            found.append(DrumStats(TRACK + key, arrived, clean.velocity[ours], late[ours]))
    return tuple(found)


def _late(clean: Notes, grid: TempoMap | Timeline | None) -> np.ndarray:
    """(n,) milliseconds by which notes are behind the nearest line; NaN where beats are not known."""
    if grid is None:
        return np.full(len(clean), np.nan)
    nearest = grid.beats_to_seconds(np.rint(grid.seconds_to_beats(clean.start) * PARTS) / PARTS)
    return np.asarray(1000 * (clean.start - nearest))
