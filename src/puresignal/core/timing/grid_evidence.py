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
"""Divisions of a beat."""
SWUNG_8, SWUNG_16 = 7, 8
STRAIGHT = np.array([0.17, 0.34, 0.32, 0.03, 0.10, 0.03, 0.006, 0.002, 0.002])
SWUNG_EIGHTHS = np.array([0.20, 0.02, 0.03, 0.005, 0.10, 0.02, 0.003, 0.62, 0.002])
SWUNG_SIXTEENTHS = np.array([0.10, 0.22, 0.02, 0.01, 0.05, 0.01, 0.003, 0.002, 0.585])
"""How often each is met in general, in takes that are played straight, or swung."""
FEELS = {0: STRAIGHT, 8: SWUNG_EIGHTHS, 16: SWUNG_SIXTEENTHS}
SWING_COSTS = 14.0
"""By how much swing must explain a take better than straight playing, in log likelihood, to be taken for it."""
USUAL_BEATS = 12.0
"""Beats of a take that weigh as much as what is usual."""
STAYS = 0.82
"""How likely the subdivision of a beat is that of the one before."""
OFF = 0.004
"""Share of strokes that belong to no line."""
ROUNDS, SETTLED = 16, 0.05
"""Rounds of fitting at most; it ends when the likelihood rises by less than this."""
LEAST_JITTER, USUAL_JITTER, MOST_JITTER = 0.003, 0.012, 0.030
MOST_LEAN = 0.040
PRIOR_STROKES = 20.0
"""Strokes that weigh as much as the usual jitter, and as no lean."""
FEEL_ROUNDS = 3
"""Rounds of fitting after which candidates of feel and swing are compared."""
SWING_PARTS = np.round(np.arange(0.54, 0.7001, 0.02), 3)
FEWEST = 8
"""Notes from which on swing can be told."""
SAMPLE, SWING_SAMPLE = 5000, 600
"""Notes of a long take to which the parameters are fitted, and by which swing is found."""
PIECE, OVERLAP = 48, 20
"""Beats of the pieces that a long take is done in, and by how much they overlap."""


@dataclass(frozen=True, eq=False)
class Explained:
    """The intended places of the strokes of a take.

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


def lines_of(subdivision: int, part_8: float, part_16: float) -> np.ndarray:
    """The lines of one subdivision within a beat, without the next beat."""
    lines = _lines(part_8, part_16)
    mine = lines.at[lines.of == subdivision]
    return np.asarray(mine[mine < 1.0])


def lines_near(into: np.ndarray, subdivision: np.ndarray, part_8: float, part_16: float) -> np.ndarray:
    """(n,) the line nearest to a place within a beat, of what the beat is divided into."""
    lines = _lines(part_8, part_16)
    off = np.abs(into[:, None] - lines.at[None, :])
    off[lines.of[None, :] != subdivision[:, None]] = np.inf
    return np.asarray(lines.at[np.argmin(off, axis=1)])


def explain(beats: np.ndarray, seconds_a_beat: np.ndarray) -> Explained:
    """Weigh the grids of a take, which is played straight, or with swung eighths or sixteenths, all of it.

    beats           (n,) quarter notes from bar 1, rising, of strokes: without grace notes, chords as one
    seconds_a_beat  (n,) seconds that a quarter note lasts there
    """
    few = slice(0, SWING_SAMPLE)
    feel, part_8, part_16 = _feel(beats[few], seconds_a_beat[few])
    few = slice(0, SAMPLE)
    fitted = _Fits(beats[few], seconds_a_beat[few], [feel], [part_8], [part_16])
    fitted.settle(ROUNDS)
    if len(beats) > SAMPLE:
        whole = _Fits(beats, seconds_a_beat, [feel], [part_8], [part_16])
        whole.lean, whole.jitter, whole.usual = fitted.lean, fitted.jitter, fitted.usual
        whole.turn()
        fitted = whole
    return fitted.explained()


def _feel(beats: np.ndarray, long: np.ndarray) -> tuple[int, float, float]:
    """The feel of a take, and where swung eighths and swung sixteenths are."""
    even = 2 / 3
    if len(beats) < FEWEST:
        return 0, even, even
    parts = SWING_PARTS.tolist()
    few = [(0, even, even), *((8, part, even) for part in parts), *((16, even, part) for part in parts)]
    best = few[_best(beats, long, few)]
    if best[0] == 0:
        return best
    # Around the best.
    near = [
        (best[0], best[1] + (by if best[0] == 8 else 0), best[2] + (by if best[0] == 16 else 0))
        for by in (-0.01, 0.0, 0.01)
    ]
    return near[_best(beats, long, near)]


def _best(beats: np.ndarray, long: np.ndarray, candidates: list[tuple[int, float, float]]) -> int:
    """Which feel and swing explain a take best; swing by so much more."""
    fits = _Fits(beats, long, *map(list, zip(*candidates, strict=True)))
    for _ in range(FEEL_ROUNDS):
        fits.turn()
    gains = fits.likely - np.array([SWING_COSTS if feel else 0.0 for feel, _, _ in candidates])
    return int(np.argmax(gains))


class _Fits:
    """Parameters fitted to a take, for several candidates of feel and swing side by side.

    likely  (c,) log likelihood of the take
    """

    def __init__(
        self, beats: np.ndarray, long: np.ndarray, feels: list[int], parts_8: list[float], parts_16: list[float]
    ):
        each = [_lines(a, b) for a, b in zip(parts_8, parts_16, strict=True)]
        self.lines = each[0]
        self.feels, self.parts_8, self.parts_16 = feels, parts_8, parts_16
        self._at = np.array([one.at for one in each])
        self._of_feel = np.array([FEELS[feel] for feel in feels])
        self.usual = self._of_feel.copy()
        self.lean, self.jitter = np.zeros(len(each)), np.full(len(each), USUAL_JITTER)
        self.likely = np.full(len(each), -np.inf)
        self._beats, self._long = beats, long
        self._starts = np.flatnonzero(np.r_[True, np.diff(self.lines.of) > 0])

    def settle(self, rounds: int) -> None:
        """Fit until nothing gets likelier."""
        for _ in range(rounds):
            before = self.likely
            self.turn()
            if (self.likely - before < SETTLED).all():
                break

    def turn(self) -> None:
        """One round: how likely everything is with these parameters, and the parameters that follow from it."""
        lines, count = self.lines, len(SUBDIVISIONS)
        x = self._beats[None, :] - self.lean[:, None] / self._long[None, :]
        beat = np.floor(x + 1e-9)
        sigma = (self.jitter[:, None] / self._long[None, :])[:, :, None]
        off = (x - beat)[:, :, None] - self._at[:, None, :]
        scaled = off / sigma
        joint = lines.usual * (np.exp(-0.5 * scaled**2) / (sigma * np.sqrt(2 * np.pi)) + OFF)
        by_sub = np.add.reduceat(joint, self._starts, axis=2)
        self.numbers, which = np.unique(beat, return_inverse=True)
        which = which.reshape(beat.shape)
        evidence = np.zeros((len(beat), len(self.numbers), count))
        np.add.at(evidence, (np.arange(len(beat))[:, None], which), np.log(by_sub + 1e-300))
        gamma, self.likely = _smoothed(evidence, self.usual, np.diff(self.numbers))
        self.gamma = gamma
        of_beat = np.take_along_axis(gamma, which[:, :, None], axis=1)
        self.posterior = joint * (of_beat / by_sub)[:, :, lines.of]
        self._beat = beat
        # What follows for the parameters.
        seconds = off * self._long[None, :, None] + self.lean[:, None, None]
        core = self.posterior * (np.abs(scaled) < 4)
        total = core.sum(axis=(1, 2)) + PRIOR_STROKES
        self.lean = np.clip((core * seconds).sum(axis=(1, 2)) / total, -MOST_LEAN, MOST_LEAN)
        spread = (core * (seconds - self.lean[:, None, None]) ** 2).sum(axis=(1, 2))
        self.jitter = np.clip(np.sqrt((spread + PRIOR_STROKES * USUAL_JITTER**2) / total), LEAST_JITTER, MOST_JITTER)
        beats = gamma.sum(axis=1)
        self.usual = (beats + USUAL_BEATS * self._of_feel) / (beats.sum(axis=1, keepdims=True) + USUAL_BEATS)

    def explained(self) -> Explained:
        """The outcome of the first candidate."""
        lines, posterior, gamma, beat = self.lines, self.posterior[0], self.gamma[0], self._beat[0]
        n = len(beat)
        places = int(lines.place.max()) + 1
        at = np.zeros(places)
        at[lines.place] = lines.at
        likely = np.zeros((n, places))
        for place in range(places):
            likely[:, place] = posterior[:, lines.place == place].sum(axis=1)
        first = np.argmax(likely, axis=1) if n else np.zeros(0, int)
        # Lines so near each other that they sound the same are no two places.
        jitter = float(self.jitter[0])
        apart = np.abs(at[None, :] - at[first][:, None]) * self._long[:, None] > 0.6 * jitter + 0.012
        # The other line that it could belong to is one of those beside it, however likely lines elsewhere are.
        off = np.abs(at[None, :] - (self._beats - self.lean[0] / self._long - beat)[:, None])
        beside = apart & (off <= 1.5 * np.where(apart, off, np.inf).min(axis=1, initial=np.inf)[:, None])
        second = np.argmax(np.where(beside, likely, -1.0), axis=1) if n else np.zeros(0, int)
        same = np.where(apart, 0.0, likely).sum(axis=1)
        share = gamma[np.searchsorted(self.numbers, beat)].sum(axis=0) / max(1, n)
        return Explained(
            beat + at[first], beat + at[second], same, self.numbers.astype(np.int64),
            np.argmax(gamma, axis=1) if len(gamma) else np.zeros(0, int), share, float(self.lean[0]), jitter,
            float(np.median(self._long)) if n else 0.5, self.feels[0], Swing(self.parts_8[0], 8),
            Swing(self.parts_16[0], 16),
        )  # fmt: skip


def _smoothed(evidence: np.ndarray, usual: np.ndarray, gaps: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(c, b, s) how likely each subdivision of each beat is, and the (c,) log likelihoods of all.

    evidence  (c, b, s) log likelihood of what is in each beat, for each candidate
    usual     (c, s) how often each is met
    gaps      (b - 1,) beats from one to the next: over a longer one less is carried

    It is done in pieces side by side, which overlap by more than a beat's influence reaches
    """
    candidates, count, size = evidence.shape
    if not count:
        return evidence, np.zeros(candidates)
    top = evidence.max(axis=2)
    scaled = np.exp(evidence - top[:, :, None])
    stays = np.r_[0.0, STAYS ** np.clip(gaps, 1, 16)]
    pieces = max(1, -(-count // PIECE))
    long = -(-count // pieces)
    # Each piece with what leads up to it and what follows; outside the take there is nothing to be learnt.
    rows = np.arange(-OVERLAP, long + OVERLAP)[None, :] + np.arange(pieces)[:, None] * long
    inside = (rows >= 0) & (rows < count)
    safe = np.clip(rows, 0, count - 1)
    seen = np.where(inside[None, :, :, None], scaled[:, safe], 1.0)
    kept = np.where(inside & (rows > 0), stays[safe], 0.0)[None, :, :, None]
    usual = usual[:, None, :]
    moves = (1 - kept) * usual[:, :, None, :]
    width = rows.shape[1]
    forward, gamma = np.empty_like(seen), np.empty_like(seen)
    sums = np.empty(seen.shape[:3])
    now = np.broadcast_to(usual, (candidates, pieces, size))
    for i in range(width):
        now = (kept[:, :, i] * now + moves[:, :, i]) * seen[:, :, i]
        total = now.sum(axis=2)
        sums[:, :, i] = total
        now = now / total[:, :, None]
        forward[:, :, i] = now
    backward = np.ones((candidates, pieces, size))
    for i in range(width - 1, -1, -1):
        gamma[:, :, i] = forward[:, :, i] * backward
        come = seen[:, :, i] * backward
        backward = kept[:, :, i] * come + (1 - kept[:, :, i]) * (come * usual).sum(axis=2, keepdims=True)
        backward /= backward.max(axis=2, keepdims=True)
    core = slice(OVERLAP, OVERLAP + long)
    mine = inside[:, core]
    likely = np.where(mine, np.log(sums[:, :, core]), 0.0).sum(axis=(1, 2)) + top.sum(axis=1)
    found = gamma[:, :, core][:, mine]
    return found / found.sum(axis=2, keepdims=True), np.asarray(likely)
