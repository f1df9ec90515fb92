"""Which lines notes were meant for: grids weighed beat by beat by how well they explain what was played.

Each beat has one of several subdivisions, which mostly stays from beat to beat. Given the subdivision, a stroke is a
line of it, the player's constant lean, and jitter. The share of each line is drawn to what this take does at that place
of its bars, drum by drum. Lean, jitter, swing and how often each subdivision occurs are fitted to the take. What comes
out is, for each note, how likely every line is: the likeliest is where it belongs, and a second one that is nearly as
likely makes it a note between two lines.

Source: a hidden Markov model over beats, smoothed forwards and backwards (Rabiner 1989), its parameters by expectation
and maximisation (Dempster, Laird and Rubin 1977).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.grids import Swing

SUBDIVISIONS = ("1/4", "1/8", "1/16", "1/32", "1/8t", "1/16t", "1/16q", "swung 1/8", "swung 1/16")
"""What a beat can be divided into."""
SWUNG_8, SWUNG_16 = 7, 8
STRAIGHT = np.array([0.17, 0.34, 0.32, 0.03, 0.10, 0.03, 0.006, 0.002, 0.002])
SWUNG_EIGHTHS = np.array([0.20, 0.02, 0.03, 0.005, 0.10, 0.02, 0.003, 0.62, 0.002])
SWUNG_SIXTEENTHS = np.array([0.10, 0.22, 0.02, 0.01, 0.05, 0.01, 0.003, 0.002, 0.585])
"""How often each is met in general, in takes that are played straight, or swung."""
SWING_COSTS = 14.0
"""By how much swing must explain a take better than straight playing, in log likelihood, to be taken for it."""
USUAL_BEATS = 12.0
"""Beats of a take that weigh as much as what is usual."""
STAYS = 0.82
"""How likely the subdivision of a beat is that of the one before."""
OFF = 0.004
"""Share of strokes that belong to no line."""
ROUNDS = 6
LEAST_JITTER, USUAL_JITTER, MOST_JITTER = 0.003, 0.012, 0.030
MOST_LEAN = 0.040
LINE_STROKES = 6.0
"""Strokes of a drum at a place of the bar that weigh as much as what is usual for the place."""
SWING_PARTS = np.round(np.arange(0.54, 0.7001, 0.02), 3)
FEWEST = 8
"""Notes from which on swing can be told."""
SAMPLE, SWING_SAMPLE = 5000, 1200
"""Notes of a long take to which the parameters are fitted, and by which swing is found."""
PIECE, OVERLAP = 192, 24
"""Beats of the pieces that a long take is done in, and by how much they overlap."""


@dataclass(frozen=True, eq=False)
class Explained:
    """What the strokes of a take were meant for.

    line        (n,) quarter notes: the likeliest line
    other       (n,) quarter notes: the second likeliest that is somewhere else
    sure        (n,) 0..1: how likely the first is
    beat        (b,) number of each beat that was weighed, rising
    subdivision (b,) the likeliest of SUBDIVISIONS for it
    share       (len(SUBDIVISIONS),) of the strokes that each explains
    lean        seconds by which the player is late, on the mean
    jitter      seconds
    seconds_a_beat  that a quarter note lasts, in the middle of the take
    feel            0: played straight; 8 or 16: eighths or sixteenths are swung
    swing_8, swing_16  where the second of a pair of eighths, of sixteenths, is; 0.5 where there is none
    """

    line: np.ndarray
    other: np.ndarray
    sure: np.ndarray
    beat: np.ndarray
    subdivision: np.ndarray
    share: np.ndarray
    lean: float
    jitter: float
    seconds_a_beat: float
    feel: int
    swing_8: Swing
    swing_16: Swing


@dataclass(frozen=True, eq=False)
class _Lines:
    """The lines of all subdivisions within a beat.

    at      (lines,) fraction of the beat, 0 to 1; the last one of each subdivision is the next beat
    of      (lines,) the subdivision
    usual   (lines,) how likely a stroke is on it
    place   (lines,) number of the place within the beat: lines at one fraction share it
    """

    at: np.ndarray
    of: np.ndarray
    usual: np.ndarray
    place: np.ndarray


_WEIGHTS = {
    1: (1.0,), 2: (0.55, 0.45), 3: (0.40, 0.26, 0.34), 4: (0.32, 0.18, 0.30, 0.20),
    5: (0.26, 0.18, 0.19, 0.19, 0.18), 6: (0.24, 0.13, 0.19, 0.13, 0.19, 0.12),
    8: (0.19, 0.10, 0.13, 0.10, 0.17, 0.10, 0.12, 0.09),
}  # fmt: skip


def _lines(part_8: float, part_16: float) -> _Lines:
    fractions = [
        [0.0], [0.0, 0.5], [0.0, 0.25, 0.5, 0.75], (np.arange(8) / 8).tolist(), [0.0, 1 / 3, 2 / 3],
        (np.arange(6) / 6).tolist(), (np.arange(5) / 5).tolist(), [0.0, part_8],
        [0.0, part_16 / 2, 0.5, 0.5 + part_16 / 2],
    ]  # fmt: skip
    at, of, usual = [], [], []
    for number, lines in enumerate(fractions):
        weights = _WEIGHTS[len(lines)]
        at += [*lines, 1.0]
        of += [number] * (len(lines) + 1)
        usual += [*weights, weights[0]]
    rounded = np.round(at, 4)
    _, place = np.unique(rounded, return_inverse=True)
    return _Lines(np.array(at), np.array(of), np.array(usual), place)


def lines_near(into: np.ndarray, subdivision: np.ndarray, part_8: float, part_16: float) -> np.ndarray:
    """(n,) the line nearest to a place within a beat, of what the beat is divided into."""
    lines = _lines(part_8, part_16)
    off = np.abs(into[:, None] - lines.at[None, :])
    off[lines.of[None, :] != subdivision[:, None]] = np.inf
    return np.asarray(lines.at[np.argmin(off, axis=1)])


def explain(beats: np.ndarray, seconds_a_beat: np.ndarray, key: np.ndarray) -> Explained:
    """Weigh the grids of a take, which is played straight, or with swung eighths or sixteenths, all of it.

    beats           (n,) quarter notes from bar 1, rising, of strokes: without grace notes, chords as one
    seconds_a_beat  (n,) seconds that a quarter note lasts there
    key             (n,) number of the drum or note
    """
    few = slice(0, SWING_SAMPLE)
    usual, part_8, part_16 = _feel(beats[few], seconds_a_beat[few], key[few])
    few = slice(0, SAMPLE)
    fitted = _fit(beats[few], seconds_a_beat[few], key[few], usual, part_8, part_16)
    if len(beats) > SAMPLE:
        whole = _Fit(beats, seconds_a_beat, key, usual, part_8, part_16)
        whole.lean, whole.jitter, whole.usual = fitted.lean, fitted.jitter, fitted.usual
        whole.turn()
        fitted = whole
    return fitted.explained(beats)


def _feel(beats: np.ndarray, long: np.ndarray, key: np.ndarray) -> tuple[np.ndarray, float, float]:
    """How often each subdivision is to be expected, and where swung eighths and sixteenths are."""
    even = STRAIGHT, 2 / 3, 2 / 3
    if len(beats) < FEWEST:
        return even
    best, found = _fit(beats, long, key, *even, 3).likely + SWING_COSTS, even
    for of, feel in ((8, SWUNG_EIGHTHS), (16, SWUNG_SIXTEENTHS)):

        def likely(part: float, of: int = of, feel: np.ndarray = feel) -> float:
            return _fit(beats, long, key, feel, part if of == 8 else 2 / 3, part if of == 16 else 2 / 3, 3).likely

        # Roughly, then around the best.
        part = max(SWING_PARTS.tolist(), key=likely)
        part = max((part - 0.01, part, part + 0.01), key=likely)
        if likely(part) > best:
            best, found = likely(part), (feel, part if of == 8 else 2 / 3, part if of == 16 else 2 / 3)
    return found


class _Fit:
    """Parameters fitted to a take, for a given swing.

    likely  log likelihood of the take
    """

    def __init__(
        self, beats: np.ndarray, long: np.ndarray, key: np.ndarray, usual: np.ndarray, part_8: float, part_16: float
    ):
        self.lines = _lines(part_8, part_16)
        self.part_8, self.part_16 = part_8, part_16
        self.lean, self.jitter = 0.0, USUAL_JITTER
        self._feel = usual
        self.usual = usual.copy()
        self._beats, self._long = beats, long
        self._keys, self._key = np.unique(key, return_inverse=True)
        self._shares: np.ndarray | None = None
        self.likely = -np.inf
        self.posterior = np.zeros((0, 0))

    def turn(self) -> None:
        """One round: how likely everything is with these parameters, and the parameters that follow from it."""
        lines = self.lines
        x = self._beats - self.lean / self._long
        beat = np.floor(x + 1e-9)
        into = x - beat
        sigma = self.jitter / self._long
        off = into[:, None] - lines.at[None, :]
        weight = lines.usual[None, :]
        density = np.exp(-0.5 * (off / sigma[:, None]) ** 2) / (sigma[:, None] * np.sqrt(2 * np.pi))
        joint = weight * density + OFF * weight
        count = len(SUBDIVISIONS)
        starts = np.flatnonzero(np.r_[True, np.diff(lines.of) > 0])
        by_sub = np.add.reduceat(joint, starts, axis=1)
        self.numbers, which = np.unique(beat, return_inverse=True)
        evidence = np.zeros((len(self.numbers), count))
        np.add.at(evidence, which, np.log(by_sub + 1e-300))
        gamma, self.likely = _smoothed(evidence, self.usual, np.diff(self.numbers))
        self.gamma = gamma
        self.posterior = joint / by_sub[:, lines.of] * gamma[which][:, lines.of]
        self._beat, self._off = beat, off
        # What follows for the parameters.
        seconds = off * self._long[:, None] + self.lean
        core = self.posterior * (np.abs(off) < 4 * sigma[:, None])
        total = core.sum() + 1e-9
        prior = 20.0
        self.lean = float(np.clip((core * seconds).sum() / (total + prior), -MOST_LEAN, MOST_LEAN))
        spread = ((core * (seconds - self.lean) ** 2).sum() + prior * USUAL_JITTER**2) / (total + prior)
        self.jitter = float(np.clip(np.sqrt(spread), LEAST_JITTER, MOST_JITTER))
        beats = gamma.sum(axis=0)
        self.usual = (beats + USUAL_BEATS * self._feel) / (beats.sum() + USUAL_BEATS)

    def explained(self, beats: np.ndarray) -> Explained:
        """The outcome."""
        lines = self.lines
        places = int(lines.place.max()) + 1
        at = np.zeros(places)
        at[lines.place] = lines.at
        likely = np.zeros((len(beats), places))
        for place in range(places):
            likely[:, place] = self.posterior[:, lines.place == place].sum(axis=1)
        first = np.argmax(likely, axis=1) if len(beats) else np.zeros(0, int)
        # Lines so near each other that they sound the same are no two places.
        apart = np.abs(at[None, :] - at[first][:, None]) * self._long[:, None] > 0.6 * self.jitter + 0.012
        others = np.where(apart, likely, -1.0)
        second = np.argmax(others, axis=1) if len(beats) else np.zeros(0, int)
        same = np.where(apart, 0.0, likely).sum(axis=1)
        share = self.gamma[np.searchsorted(self.numbers, self._beat)].sum(axis=0) / max(1, len(beats))
        return Explained(
            self._beat + at[first], self._beat + at[second], same, self.numbers.astype(np.int64),
            np.argmax(self.gamma, axis=1) if len(self.gamma) else np.zeros(0, int), share, self.lean, self.jitter,
            float(np.median(self._long)) if len(self._long) else 0.5,
            8 if self._feel is SWUNG_EIGHTHS else 16 if self._feel is SWUNG_SIXTEENTHS else 0,
            Swing(self.part_8, 8), Swing(self.part_16, 16),
        )  # fmt: skip


def _fit(
    beats: np.ndarray, long: np.ndarray, key: np.ndarray, usual: np.ndarray, part_8: float, part_16: float,
    rounds: int = ROUNDS,
) -> _Fit:  # fmt: skip
    made = _Fit(beats, long, key, usual, part_8, part_16)
    for _ in range(rounds):
        made.turn()
    return made


def _smoothed(evidence: np.ndarray, usual: np.ndarray, gaps: np.ndarray) -> tuple[np.ndarray, float]:
    """(b, s) how likely each subdivision of each beat is, and the log likelihood of all.

    evidence  (b, s) log likelihood of what is in each beat
    gaps      (b - 1,) beats from one to the next: over a longer one less is carried

    Long takes are done in pieces side by side, which overlap by more than a beat's influence reaches
    """
    count, size = evidence.shape
    if not count:
        return evidence, 0.0
    top = evidence.max(axis=1)
    scaled = np.exp(evidence - top[:, None])
    stays = np.r_[0.0, STAYS ** np.clip(gaps, 1, 16)]
    pieces = max(1, -(-count // PIECE))
    long = -(-count // pieces)
    # Each piece with what leads up to it and what follows; outside the take there is nothing to be learnt.
    rows = np.arange(-OVERLAP, long + OVERLAP)[None, :] + np.arange(pieces)[:, None] * long
    inside = (rows >= 0) & (rows < count)
    safe = np.clip(rows, 0, count - 1)
    seen = np.where(inside[:, :, None], scaled[safe], 1.0)
    kept = np.where(inside & (rows > 0), stays[safe], 0.0)
    width = rows.shape[1]
    forward = np.empty((pieces, width, size))
    sums = np.empty((pieces, width))
    now = np.broadcast_to(usual, (pieces, size))
    for i in range(width):
        now = (kept[:, i, None] * now + (1 - kept[:, i, None]) * usual) * seen[:, i]
        total = now.sum(axis=1, keepdims=True)
        sums[:, i] = total[:, 0]
        now = now / total
        forward[:, i] = now
    gamma = np.empty_like(forward)
    backward = np.ones((pieces, size))
    for i in range(width - 1, -1, -1):
        both = forward[:, i] * backward
        gamma[:, i] = both / both.sum(axis=1, keepdims=True)
        come = seen[:, i] * backward
        backward = kept[:, i, None] * come + (1 - kept[:, i, None]) * (come @ usual)[:, None]
        backward /= backward.max(axis=1, keepdims=True)
    core = slice(OVERLAP, OVERLAP + long)
    mine = inside[:, core]
    likely = float(np.log(sums[:, core][mine]).sum() + top.sum())
    return gamma[:, core][mine], likely
