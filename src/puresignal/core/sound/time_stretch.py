"""A recording played slower or faster with its pitch kept, block by block.

Overlapping grains of the recording are laid one after another, each shifted a little so that it continues the one
before it: W. Verhelst and M. Roelands, "An overlap-add technique based on waveform similarity", ICASSP 1993. Attacks
are not doubled or moved: around each the recording runs at its own speed, and what lies between gives way, as in
J. Bonada, "Automatic technique in frequency domain for near-lossless time-scale modification of audio", ICMC 2000.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

HOP_SECONDS = 0.024
"""Seconds between grains, which are twice as long."""
SEARCH_SECONDS = 0.012
"""Seconds that a grain is shifted at most: half a period of the lowest string of a bass."""
COARSE = 3
"""Samples that the first search skips."""
AFTER_SECONDS = 0.012
"""Seconds after an attack that keep their own speed."""
LOOK_SECONDS = 0.003
"""Seconds of a frame in which attacks are looked for."""
RISE = 5.0
"""Rise of the energy of the differences, over the loudest of the frames just before, that is an attack."""
SOFTEST = 1e-4
"""Energy of the differences, of the loudest frame, below which nothing is an attack."""
APART_SECONDS = 0.06
"""Attacks closer than this stay together."""
AT_ONCE = 1 << 13
"""Frames that are looked at together."""
EARLIER = 8
"""Frames before an attack that it is compared with."""


class Mono:
    """The mean of the channels of a recording, worked out where it is looked at: a long one would take much memory."""

    def __init__(self, samples: np.ndarray):
        self._samples = samples

    @property
    def shape(self) -> tuple[int]:
        return (len(self),)

    def __len__(self) -> int:
        return int(self._samples.shape[1])

    def __getitem__(self, where: slice) -> np.ndarray:
        return np.asarray(self._samples[:, where].mean(axis=0, dtype=np.float32))


def attacks(mono: np.ndarray | Mono, rate: int, seen: Callable[[int], None] | None = None) -> np.ndarray:
    """Samples at which something is struck. mono: (n,) samples; seen: told how far it has looked, in samples."""
    size = max(1, round(LOOK_SECONDS * rate))
    count = len(mono) // size
    if count < EARLIER + 2:
        return np.zeros(0)

    def changes_of(first: int, last: int) -> np.ndarray:
        """(last - first, size) changes from sample to sample in frames."""
        piece = mono[max(0, first * size - 1) : last * size]
        made = np.diff(piece, prepend=piece[0]) if first == 0 else np.diff(piece)
        return made.reshape(last - first, size)

    energy = np.empty(count, np.float32)
    for first in range(0, count, AT_ONCE):
        changes = changes_of(first, min(count, first + AT_ONCE))
        energy[first : first + len(changes)] = np.einsum("ij,ij->i", changes, changes)
        if seen is not None:
            seen((first + len(changes)) * size)
    padded = np.concatenate([np.full(EARLIER, energy[0]), energy])
    before = np.lib.stride_tricks.sliding_window_view(padded, EARLIER)[:count].max(axis=1)
    floor = SOFTEST * float(energy.max())
    found = np.flatnonzero((energy > RISE * np.maximum(before, floor)) & (energy > floor))
    out: list[float] = []
    for frame in found.tolist():
        inside = np.abs(changes_of(frame, frame + 1)[0])
        at = frame * size + int(np.argmax(inside > 0.25 * inside.max()))
        if not out or at - out[-1] >= APART_SECONDS * rate:
            out.append(float(at))
    return np.array(out)


class TimeStretch:
    """Plays from a recording at any speed; blocks that follow one another are seamless.

    samples  (channels, n), not copied; rate: samples per second
    seen     told how far the recording has been looked through, in samples
    """

    def __init__(self, samples: np.ndarray, rate: int, seen: Callable[[int], None] | None = None):
        self._samples = samples
        self._mono = Mono(samples)
        self._hop = max(8, round(HOP_SECONDS * rate))
        self._search, self._after = round(SEARCH_SECONDS * rate), AFTER_SECONDS * rate
        self._window = np.hanning(2 * self._hop + 1)[:-1].astype(np.float32)
        self._attacks = attacks(self._mono, rate, seen)
        self._speed = 0.0
        self._played = self._wanted = np.zeros(0)
        self._next = 0.0
        self._at = 0
        self._grains: list[tuple[int, int]] = []

    def block(self, place: float, count: int, speed: float) -> np.ndarray:
        """(channels, count) samples from a place of the recording on, which it passes at a speed.

        place  in samples of the recording; only a jump or another speed begins anew
        """
        if speed != self._speed or not self._grains or abs(place - self._next) > self._search:
            self._begin(place, speed)
        # What the place says counts in the long run: clocks drift.
        origin = place - self._at * speed
        out = np.zeros((self._samples.shape[0], count), np.float32)
        last = self._at + count
        while self._grains[-1][0] + self._hop < last:
            self._lay(origin, speed)
        for begin, source in self._grains:
            one, other = max(self._at, begin), min(last, begin + 2 * self._hop)
            if other > one:
                piece = self._piece(self._samples, source + one - begin, source + other - begin)
                out[:, one - self._at : other - self._at] += piece * self._window[one - begin : other - begin]
        self._grains = [one for one in self._grains if one[0] + 2 * self._hop > last] or self._grains[-1:]
        self._at, self._next = last, place + count * speed
        return out

    def _begin(self, place: float, speed: float) -> None:
        if speed != self._speed:
            self._speed = speed
            self._bend(speed)
        self._at = 0
        # The first grain is at its middle already, so that nothing fades in.
        self._grains = [(-self._hop, round(self._source(place) - self._hop))]

    def _bend(self, speed: float) -> None:
        """Find how the recording gives way: (m,) samples played evenly, and (m,) samples that are played there."""
        played, wanted = [-1e12], [-1e12]
        room = 2.0 * self._hop
        for attack in self._attacks.tolist():
            before = min(room, (attack - played[-1]) / speed, attack - wanted[-1])
            if before < 0.25 * room:
                continue
            played += [attack - before * speed, attack + self._after * speed]
            wanted += [attack - before, attack + self._after]
        end = self._samples.shape[1] + 1e12
        self._played, self._wanted = np.array([*played, end]), np.array([*wanted, end])

    def _source(self, even: float) -> float:
        """The samples to play where, at an even speed, a sample would be."""
        return float(np.interp(even, self._played, self._wanted))

    def _lay(self, origin: float, speed: float) -> None:
        """Lay the next grain behind the last."""
        last_begin, last_source = self._grains[-1]
        begin = last_begin + self._hop
        even = origin + begin * speed
        # An attack within the grain decides its place.
        first, last = np.searchsorted(self._attacks, (even, even + 2 * self._hop * speed))
        if last > first:
            attack = float(self._attacks[first])
            source = round(attack - (attack - even) / speed)
        else:
            source = self._similar(self._source(even), last_source + self._hop)
        self._grains.append((begin, source))

    def _similar(self, wanted: float, natural: int) -> int:
        """The place near the wanted one that sounds most like the natural continuation of the last grain."""
        centre, reach = round(wanted), self._search
        previous = int(np.searchsorted(self._attacks, wanted + 1, side="right")) - 1
        low, high = -reach, reach
        if previous >= 0:
            # An attack that has sounded does not sound again.
            low = int(np.clip(self._attacks[previous] + 1 - centre, -reach, 0))
        following = previous + 1
        if following < len(self._attacks):
            high = int(np.clip(self._attacks[following] - 2 * self._hop - centre, 0, reach))
        model = self._piece(self._mono, natural, natural + self._hop)
        field = self._piece(self._mono, centre + low, centre + high + self._hop)
        if not model.any() or high == low:
            return centre
        rough = self._best(field[::COARSE], model[::COARSE]) * COARSE
        one, other = max(0, rough - COARSE), min(high - low, rough + COARSE)
        return centre + low + one + self._best(field[one : other + self._hop], model)

    @staticmethod
    def _best(field: np.ndarray, model: np.ndarray) -> int:
        """The shift at which a field is most like a model."""
        alike = np.correlate(field, model, "valid")
        power = np.cumsum(np.concatenate([[0.0], np.square(field, dtype=np.float64)]))
        loud = power[len(model) :] - power[: -len(model)]
        return int(np.argmax(alike / np.sqrt(np.maximum(loud[: len(alike)], 1e-9))))

    @staticmethod
    def _piece(samples: np.ndarray | Mono, first: int, last: int) -> np.ndarray:
        """Samples from first to last, silence outside the recording."""
        end = samples.shape[-1]
        one, other = min(max(0, first), end), min(max(0, last), end)
        inside = samples[one:other] if isinstance(samples, Mono) else samples[..., one:other]
        if other - one == last - first:
            return inside
        if other <= one:
            return np.zeros((*samples.shape[:-1], last - first), np.float32)
        widths = [(0, 0)] * (len(samples.shape) - 1) + [(one - first, last - other)]
        return np.pad(inside, widths)
