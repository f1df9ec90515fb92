"""Judges that know how a kit was put up and set, and nothing else: how well faults can be told at best.

They weigh the rate at which the known pads, stands and floor would send a note of that velocity at that moment against
the rate at which this player does, which is fitted to the take. They see what the module sent, never the truth.
"""

from __future__ import annotations

import numpy as np
from scipy.stats import norm

from puresignal.core.kit.note_map import NoteMap
from puresignal.sim.drum_module import Sent
from puresignal.sim.random_faults import KitFaults
from puresignal.sim.trigger_physics import PhysicalTake

REACH = 0.1
"""Seconds that a fault may lie after its cause, or before it."""
CABLE = 0.0005
"""Spread of what the cable adds to a time, in seconds."""
TOGETHER = 0.009
"""Spread of two hands that play for one moment, in seconds."""
ROUNDS = 6


class Judge:
    """Probabilities that the notes of a take are faults: `false`, one for each of `sent.hits`."""

    def __init__(self, sent: Sent, kit: NoteMap):
        events = sent.events
        rows = np.array([hit.event for hit in sent.hits], int)
        self.at, self.velocity = events.arrived[rows], events.data2[rows].astype(int)
        names = _names(kit)
        self.pad = [names[int(s) & 15, int(n)] for s, n in zip(events.status[rows], events.data1[rows], strict=True)]
        self._names = sorted(set(self.pad))
        self._number = np.array([self._names.index(name) for name in self.pad])
        self._pairs = self._all_pairs()
        self.false = np.full(len(self.at), 0.05)

    def _settle(self) -> None:
        for _ in range(ROUNDS):
            self.false = self._judged()

    def _faults(self, i: int, j: int) -> float:
        """Rate per second at which the stroke j would make note i, were it no stroke."""
        raise NotImplementedError

    def _all_pairs(self) -> list[tuple[int, int]]:
        """(note, other note near it) for all notes."""
        found = []
        for i, at in enumerate(self.at):
            low, high = np.searchsorted(self.at, [at - REACH, at + REACH])
            found += [(i, j) for j in range(low, high) if j != i]
        return found

    def _judged(self) -> np.ndarray:
        real = 1 - self.false
        loud = self._loudness(real)
        faults, played, rested = np.zeros(len(real)), np.zeros(len(real)), np.ones(len(real))
        together, fast = self._habits(real)
        for i, j in self._pairs:
            faults[i] += real[j] * self._faults(i, j)
            gap = self.at[i] - self.at[j]
            a, b = self._number[j], self._number[i]
            if a != b:
                played[i] += real[j] * together[a, b] * float(norm.pdf(gap, 0, TOGETHER)) * loud[i]
            elif gap > 0.01:
                part = np.log(self.velocity[i] / self.velocity[j])
                even = 0.8 * norm.pdf(part, 0, 0.28) + 0.2 * norm.pdf(part, np.log(0.45), 0.4)
                time = norm.pdf(np.log(gap), np.log(0.075), 0.4) / gap
                played[i] += real[j] * fast[b] * float(time * even) / self.velocity[i]
                # So soon after a stroke of the pad nothing is played but what is fast.
                rested[i] *= 1 - real[j]
        played += rested * self._base(real) * loud
        return np.asarray(faults / (faults + played + 1e-12))

    def _base(self, real: np.ndarray) -> np.ndarray:
        """Strokes per second of each note's pad."""
        count = np.bincount(self._number, real, len(self._names)) + 0.5
        return np.asarray(count[self._number] / (self.at[-1] - self.at[0] + 1))

    def _loudness(self, real: np.ndarray) -> np.ndarray:
        """The chance of each note's velocity among its pad's strokes."""
        found = np.zeros(len(real))
        scale = np.log(np.arange(1, 128))
        kernel = np.exp(-0.5 * ((scale[:, None] - scale[None, :]) / 0.12) ** 2)
        usual = np.exp(-0.5 * ((scale - np.log(75)) / 0.6) ** 2) / np.arange(1, 128)
        for number in range(len(self._names)):
            mine = self._number == number
            counts = np.bincount(self.velocity[mine], real[mine], 128)[1:]
            shape = kernel @ (counts / kernel.sum(axis=0)) + 3 * usual / usual.sum()
            found[mine] = (shape / shape.sum())[self.velocity[mine] - 1]
        return found

    def _habits(self, real: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(pads, pads) share of the first's strokes that one of the second's comes with; share that a fast one
        follows."""
        size = len(self._names)
        together, fast = np.zeros((size, size)), np.zeros(size)
        for i, j in self._pairs:
            gap, both = self.at[i] - self.at[j], real[i] * real[j]
            if self._number[i] != self._number[j] and abs(gap) < 2.5 * TOGETHER:
                together[self._number[j], self._number[i]] += both
            elif self._number[i] == self._number[j] and gap > 0.01:
                fast[self._number[i]] += both
        count = np.bincount(self._number, real, size)
        everyone = together.sum() / max(1.0, count.sum() * (size - 1))
        return (together + 4 * everyone) / (count[:, None] + 4), (fast + 0.4) / (count + 4)


class KnowingJudge(Judge):
    """One that knows how faults are computed."""

    def __init__(self, take: PhysicalTake):
        super().__init__(take.sent, take.kit)
        self._knobs = take.knobs
        # Before the cable and the scan.
        self._jolted = self.at - np.array([self._knobs.pads[name].scan for name in self.pad])
        self._edges = {name: self._levels(name) for name in self._names}
        self._level = np.array(
            [np.sqrt(np.prod(self._edges[name][v])) for name, v in zip(self.pad, self.velocity, strict=True)]
        )
        self._settle()

    def _levels(self, name: str) -> np.ndarray:
        """(128, 2) the levels between which a pad sends each velocity."""
        pad, floor = self._knobs.pads[name], self._knobs.floor
        edges = np.arange(129) - 0.5
        share = np.clip((edges - floor) / (127 - floor), 0, 1) ** (1 / pad.curve)
        level = pad.threshold + (1 - pad.threshold) * share
        level[:2], level[128] = pad.threshold, 1.4
        found = np.stack([level[:-1], np.maximum(level[1:], level[:-1] * 1.0001)], axis=1)
        return found

    def _sent_as(self, i: int, mean: float, spread: float) -> float:
        """The chance that a jolt of this log level is sent with the velocity of note i."""
        low, high = np.log(self._edges[self.pad[i]][self.velocity[i]])
        return float(norm.cdf((high - mean) / spread) - norm.cdf((low - mean) / spread))

    def _faults(self, i: int, j: int) -> float:
        """Rate per second at which the stroke j would make note i, were it no stroke."""
        knobs, gap = self._knobs, self._jolted[i] - self._jolted[j]
        if self.pad[i] != self.pad[j]:
            row = knobs.passes.get((self.pad[j], self.pad[i]))
            if row is None or row[0] <= 0:
                return 0.0
            spread = np.hypot(0.15 * row[1], CABLE)
            mean = np.log(row[0] * self._level[j] * knobs.pads[self.pad[i]].gain)
            return float(norm.pdf(gap, row[1], spread)) * self._sent_as(i, mean, row[2])
        if gap <= 0:
            return 0.0
        pad, rate = knobs.pads[self.pad[i]], 0.0
        ringing = np.log(pad.ring_level * self._level[j]) - gap / pad.ring_fall
        for k in range(1, 5):
            spread = np.hypot(0.058 * pad.ring_period * np.sqrt(k), CABLE)
            rate += float(norm.pdf(gap, k * pad.ring_period, spread)) * self._sent_as(i, ringing, 0.25)
        if pad.bounce[0] - CABLE <= gap <= pad.bounce[1] + CABLE:
            mean = np.log(pad.bounce_level * self._level[j])
            rate += pad.bounce_odds / (pad.bounce[1] - pad.bounce[0]) * self._sent_as(i, mean, 0.35)
        return rate


class DrawnJudge(Judge):
    """One that knows which faults were drawn for a kit."""

    def __init__(self, sent: Sent, kit: NoteMap, faults: KitFaults):
        super().__init__(sent, kit)
        self._known = faults
        self._note = sent.events.data1[np.array([hit.event for hit in sent.hits], int)].astype(int)
        self._settle()

    def _faults(self, i: int, j: int) -> float:
        """Rate per second at which the stroke j would make note i, were it no stroke."""
        gap, loud, rate = 1000 * (self.at[i] - self.at[j]), self.velocity[j], 0.0
        if self._note[i] == self._note[j]:
            if gap <= 0:
                return 0.0
            for echo in self._known.echoes[int(self._note[i])]:
                if loud >= echo.from_velocity:
                    time = norm.pdf(np.log(gap / echo.gap), 0, echo.gap_spread) / (gap / 1000)
                    rate += echo.odds * float(time) * self._sent_as(i, loud * echo.level, echo.level_spread)
            return rate
        row = self._known.passed.get((int(self._note[j]), int(self._note[i])))
        if row is None or loud < row.from_velocity:
            return 0.0
        level = loud * row.level * (loud / 100) ** row.rises
        time = 1000 * norm.pdf(gap, row.delay, row.delay_spread)
        return row.odds * float(time) * self._sent_as(i, level, row.level_spread)

    def _sent_as(self, i: int, usual: float, spread: float) -> float:
        """The chance of the velocity of note i."""
        low, high = np.log((self.velocity[i] + np.array([-0.5, 0.5])) / usual)
        return float(norm.cdf(high / spread) - norm.cdf(low / spread))


def _names(kit: NoteMap) -> dict[tuple[int, int], str]:
    """Articulations by channel from 0 and note; of several with one note the first."""
    found: dict[tuple[int, int], str] = {}
    for pad in kit.pads:
        found.setdefault(((kit.channel_of(pad) or 10) - 1, pad.note), pad.articulation)
    return found
