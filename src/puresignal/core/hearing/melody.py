"""One voice to notes: several pitch candidates a frame, a path through them, notes from the path.

Candidates are the dips of the cumulative mean normalised difference (A. de Cheveigne and H. Kawahara,
YIN, 2002); the path is the cheapest through them, with silence as one more candidate, as in the
probabilistic YIN of M. Mauch and S. Dixon (2014), but through notes: a vibrato does not pay for steps,
a new note does, less so where a network hears something begin (begin.py). Another says which notes may
sound at all (tones.py), which keeps octaves right where a period is hard to tell.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from puresignal.core.hearing import begin as beginnings
from puresignal.core.hearing import frames, tones
from puresignal.core.hearing.frames import Envelope
from puresignal.core.hearing.heard import Heard, velocities
from puresignal.core.hearing.network import Network, gathered, peaks
from puresignal.core.hearing.pieces import Progress, Source, pieces

RATE, HOP, SIZE = 22_050, 220, 2048
LOWEST, HIGHEST = 40.0, 2200.0
CANDIDATES = 5
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class MelodyAnalysis:
    """The slow part, kept.

    pitch    (frames, CANDIDATES) semitones of the candidates, NaN where there are fewer
    dip      (frames, CANDIDATES) how imperfect their periods are, 0 .. 1
    level    (frames,) decibels
    begins   (frames,) how likely something begins, 0 .. 1
    sounds   (frames, tones.PITCHES) how likely each note sounds, 0 .. 1
    envelope for the exact moment of a beginning
    """

    pitch: np.ndarray
    dip: np.ndarray
    level: np.ndarray
    begins: np.ndarray
    sounds: np.ndarray
    envelope: Envelope


@dataclass(frozen=True)
class MelodySettings:
    """eagerness 0..1; shortest note s; floor dB below the loudest; range in MIDI numbers."""

    eagerness: float = 0.5
    shortest: float = 0.07
    floor: float = 38.0
    low: float = 28.0
    high: float = 96.0


FINE_HOP, FINE_REACH = 22, 220


def analyse(begin: Network, tone: Network, source: Source, progress: Progress | None = None) -> MelodyAnalysis:
    """The networks of begin.py and tones.py; the recording at RATE, all at once or in blocks."""
    against, loud = tones.loud(source), beginnings.LOOK.loud(source)
    parts: list[tuple[np.ndarray, ...]] = []
    for piece in pieces(source, progress):
        flat, own, fine = piece.samples, piece.frames(HOP), piece.frames(FINE_HOP)
        pitch, dip = _candidates(flat)
        level = frames.decibels(frames.loudness(flat, HOP, 2 * HOP))
        begins = beginnings.LOOK.likely(begin, beginnings.LOOK.levels(flat, loud))[:, 0]
        coarse = tones.likely(tone, *tones.levels(flat, against))[:, :, 0].astype(np.float16)
        place = np.clip(np.rint(np.arange(len(pitch)) * HOP / tones.HOP).astype(int), 0, max(0, len(coarse) - 1))
        envelope = frames.envelope(flat, RATE, FINE_HOP, FINE_REACH).level[fine]
        parts.append(
            (
                pitch[own].astype(np.float32),
                dip[own].astype(np.float32),
                level[own],
                begins[own],
                coarse[place][own],
                envelope,
            )
        )
    if not parts:
        nothing = np.zeros((0, CANDIDATES), np.float32)
        sounds = np.zeros((0, tones.PITCHES), np.float16)
        return MelodyAnalysis(
            nothing, nothing, np.zeros(0), np.zeros(0), sounds, Envelope(np.zeros(0), FINE_HOP / RATE)
        )
    pitch, dip, level, begins, sounds, fine_level = (np.concatenate(each) for each in zip(*parts, strict=True))
    return MelodyAnalysis(pitch, dip, level, begins, sounds, Envelope(fine_level, FINE_HOP / RATE))


def _candidates(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    longest, shortest = int(RATE / LOWEST), max(2, int(RATE / HIGHEST))
    padded = np.pad(samples, (SIZE // 2, SIZE + longest))
    count = 1 + len(samples) // HOP
    view = np.lib.stride_tricks.sliding_window_view(padded, SIZE)[::HOP][:count]
    pitch = np.full((len(view), CANDIDATES), np.nan)
    dip = np.ones((len(view), CANDIDATES))
    half = SIZE - longest
    for begin in range(0, len(view), 256):
        block = view[begin : begin + 256]
        spectrum = np.fft.rfft(block)
        # The first part reaches no further than the window with any lag, so nothing wraps round.
        head = np.fft.rfft(block[:, :half], SIZE)
        # Correlation of the first part with the whole, for every lag at once.
        correlation = np.fft.irfft(spectrum * np.conj(head), SIZE)[:, : longest + 1]
        power = np.cumsum(np.pad(block.astype(np.float64) ** 2, ((0, 0), (1, 0))), axis=1)
        lags = np.arange(longest + 1)
        energy = power[:, lags + half] - power[:, lags]
        difference = np.maximum(0, energy[:, :1] + energy - 2 * correlation)
        total = np.cumsum(difference[:, 1:], axis=1)
        mean = np.ones_like(difference)
        mean[:, 1:] = difference[:, 1:] * lags[1:] / np.maximum(total, 1e-12)
        _pick(mean, shortest, pitch[begin : begin + 256], dip[begin : begin + 256])
    return pitch, dip


def _pick(mean: np.ndarray, shortest: int, pitch: np.ndarray, dip: np.ndarray) -> None:
    """The deepest dips of each row, into `pitch` and `dip`; between lags by a parabola."""
    inner = mean[:, 1:-1]
    low = (inner < mean[:, :-2]) & (inner <= mean[:, 2:]) & (inner < 0.7)
    low[:, : shortest - 1] = False
    # A longer period fits as well as the true one, so each octave down must fit a little better.
    lags = np.arange(1, mean.shape[1] - 1)
    cost = np.where(low, inner + 0.04 * np.log2(lags / shortest), np.inf)
    order = np.argsort(cost, axis=1)[:, :CANDIDATES]
    rows = np.arange(len(mean))[:, None]
    found = np.isfinite(cost[rows, order])
    lag = order + 1
    before, here, after = mean[rows, lag - 1], mean[rows, lag], mean[rows, lag + 1]
    bend = before - 2 * here + after
    shift = np.where(np.abs(bend) > 1e-9, 0.5 * (before - after) / np.where(np.abs(bend) > 1e-9, bend, 1), 0)
    exact = lag + np.clip(shift, -0.5, 0.5)
    pitch[:] = np.where(found, 69 + 12 * np.log2(RATE / exact / 440), np.nan)
    dip[:] = np.where(found, np.clip(here, 0, 1) + 0.04 * np.log2(lag / shortest), 1)


def tuning(pitch: np.ndarray, dip: np.ndarray) -> float:
    """How far the player is tuned from concert pitch, in semitones, -0.5..0.5: by what is plainly pitched."""
    first = np.where(dip < 0.25, pitch, np.nan)[:, 0]
    steady = first[1:][np.abs(np.diff(first)) < 0.15]
    if len(steady) < 8:
        return 0.0
    turn = np.exp(2j * np.pi * steady).mean()
    return float(np.angle(turn) / (2 * np.pi)) if np.abs(turn) > 0.15 else 0.0


def track(analysis: MelodyAnalysis, settings: MelodySettings) -> np.ndarray:
    """(frames,) the note of each frame as its MIDI number, -1 where nobody sings: the cheapest path through the notes.

    A frame costs by how far its candidates are from the note and how imperfect they are, and by how unlikely the
    network holds that the note sounds; a change costs, less so where something begins.
    """
    count = len(analysis.pitch)
    low, high = max(tones.LOWEST, int(np.ceil(settings.low))), min(tones.HIGHEST, int(np.floor(settings.high)))
    if not count or high < low:
        return np.full(count, -1)
    numbers = np.arange(low, high + 1, dtype=np.float32)
    shift = np.float32(tuning(analysis.pitch, analysis.dip))
    quiet = analysis.level < np.quantile(analysis.level, 0.98) - settings.floor
    near = gathered(analysis.begins, 3)[:count]
    changes, enters = (3.4 - 2.6 * near).tolist(), (1.9 - 1.5 * near).tolist()
    best, rest = np.zeros(len(numbers), np.float32), 0.0
    back = np.full((count, len(numbers) + 1), -1, np.int8)
    own_place = np.arange(len(numbers))
    for begin in range(0, count, 4096):
        part = slice(begin, min(count, begin + 4096))
        cost, silent = _costs(analysis, part, numbers, shift, quiet[part], settings)
        silences = silent.tolist()
        for i, t in enumerate(range(part.start, part.stop)):
            cheapest = int(np.argmin(best))
            least = float(best[cheapest])
            change, enter = least + changes[t], rest + enters[t]
            new, source = (change, cheapest) if change <= enter else (enter, -1)
            stays = best <= new
            back[t, :-1] = np.where(stays, own_place, source)
            leave = least + LEAVES
            back[t, -1] = cheapest if leave < rest else -1
            rest = min(rest, leave) + silences[i]
            best = np.where(stays, best, new) + cost[i]
    state = int(np.argmin(best)) if best.min() < rest else -1
    out = np.full(count, -1)
    for t in range(count - 1, -1, -1):
        out[t] = low + state if state >= 0 else -1
        state = int(back[t, state])
    return out


def _costs(
    analysis: MelodyAnalysis, part: slice, numbers: np.ndarray, shift: np.float32, quiet: np.ndarray,
    settings: MelodySettings,
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """(frames, notes) what each note costs, and (frames,) what silence does."""
    pitch, dip = analysis.pitch[part] - shift, 2.2 * analysis.dip[part]
    cost = np.full((len(pitch), len(numbers)), NO_CANDIDATE, np.float32)
    for k in range(CANDIDATES):
        off = np.minimum(1.3, np.abs(pitch[:, k, None] - numbers))
        own = dip[:, k, None] + off * np.sqrt(off)
        np.fmin(cost, own, out=cost)
    first = round(float(numbers[0])) - tones.LOWEST
    sounds = analysis.sounds[part, first : first + len(numbers)].astype(np.float32)
    cost -= TRUST * np.log(np.clip(sounds, 0.02, 1.0))
    cost[quiet] = 20.0
    unlikely = -np.log(np.clip(1 - sounds.max(axis=1), 0.05, 1.0))
    return cost, np.where(quiet, 0.0, 0.9 + 0.6 * settings.eagerness + TRUST * unlikely)


NO_CANDIDATE = 3.6
"""What a frame costs whose candidates are all far from a note."""
TRUST = 0.3
"""How much the network's word counts against the candidates'."""
LEAVES = 0.5
"""What falling silent costs."""


def decide(analysis: MelodyAnalysis, settings: MelodySettings | None = None) -> Heard:
    """The notes, from what was analysed."""
    settings = settings or MelodySettings()
    states = track(analysis, settings)
    if not len(states):
        return Heard.empty()
    limit = 0.65 - 0.5 * (settings.eagerness - 0.5)
    places = _plain(peaks(gathered(analysis.begins, 4), LEAST, 6), analysis, limit)
    _bridge(states)
    cuts = _moved_to_beginnings(np.flatnonzero(np.diff(states)) + 1, states, places)
    notes: list[tuple[int, int, int]] = []
    for first, last in pairwise([0, *cuts.tolist(), len(states)]):
        if first < last and states[first] >= 0:
            notes += _articulated((first, last, int(states[first])), places)
    return _finish(notes, analysis, settings)


def _plain(places: np.ndarray, analysis: MelodyAnalysis, limit: float) -> np.ndarray:
    """Of the places where something may begin those that are likely enough, the less so the deeper the level dips."""
    likely = gathered(analysis.begins, 4)
    kept = []
    for place in places.tolist():
        at = round(place)
        before, dip = analysis.level[max(0, at - 18) : at + 1], analysis.level[max(0, at - 8) : at + 3]
        after = analysis.level[at : at + 13]
        if not len(after) or not len(before):
            continue
        deep = min(float(after.max()), float(before.max())) - float(dip.min())
        if likely[min(at, len(likely) - 1)] > limit - DEEP * float(np.clip(deep - 2.0, 0.0, 6.0)):
            kept.append(place)
    return np.array(kept)


LEAST, DEEP = 0.15, 0.04
"""A place less likely than this is none, however deep the level dips there; what a decibel of that counts."""


def _bridge(states: np.ndarray) -> None:
    """A moment's silence between two notes is the beginning of the second, where its pitch is hard to tell."""
    edges = [0, *(np.flatnonzero(np.diff(states)) + 1).tolist(), len(states)]
    for first, last in pairwise(edges):
        if states[first] < 0 and first > 0 and last < len(states) and last - first <= MOMENT:
            states[first:last] = states[last]


MOMENT = 4
"""Frames."""


def _moved_to_beginnings(cuts: np.ndarray, states: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Changes of pitch moved to where something begins just before: the old note rings while the new one grows."""
    out = cuts.copy()
    for i, cut in enumerate(cuts.tolist()):
        if states[cut] < 0 or states[cut - 1] < 0:
            continue
        first = max(cut - round(GROWS / STEP), (out[i - 1] if i else 0) + round(0.05 / STEP))
        near = places[(places > first) & (places < cut)]
        if len(near):
            out[i] = round(float(near[-1]))
            states[out[i] : cut] = states[cut]
    return out


GROWS = 0.13
"""Seconds that a new note may need to be heard through the one that rings."""


def _articulated(note: tuple[int, int, int], places: np.ndarray) -> list[tuple[int, int, int]]:
    """A note struck or sung again at one pitch is parted where something begins."""
    first, last, number = note
    inside = places[(places > first + 0.07 / STEP) & (places < last - 0.04 / STEP)]
    edges = [first, *np.rint(inside).astype(int).tolist(), last]
    return [(a, b, number) for a, b in pairwise(edges)]


def _finish(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis, settings: MelodySettings) -> Heard:
    """Exact beginnings, loudness, and how sure each note is; what is too short or hardly there is left out."""
    kept = [n for n in notes if (n[1] - n[0]) * STEP >= 0.5 * settings.shortest]
    if not kept:
        return Heard.empty()
    begins = np.array([n[0] for n in kept]) * STEP
    ends = np.array([n[1] for n in kept]) * STEP
    strong = peaks(analysis.begins, 0.2, 3) * STEP
    exact, told = begins.copy(), np.zeros(len(kept))
    for i, begin in enumerate(begins.tolist()):
        # A period is found some time after a sound begins, the later the lower it is.
        after = exact[i - 1] + 0.06 if i else -1.0
        near = strong[(strong > max(begin - 0.12, after)) & (strong < begin + 0.05)]
        if len(near):
            strength = analysis.begins[np.rint(near / STEP).astype(int)] - 2.0 * np.abs(near - begin)
            exact[i] = near[int(np.argmax(strength))]
            told[i] = analysis.begins[round(exact[i] / STEP)]
    near_exact = analysis.envelope.rises(exact)
    exact = np.where(np.abs(near_exact - exact) < 0.02, near_exact, exact)
    for i in range(1, len(exact)):
        exact[i] = max(exact[i], exact[i - 1] + 0.02)
        ends[i - 1] = min(ends[i - 1], exact[i])
    ends = np.array([_let_go(analysis.level, start, end) for start, end in zip(exact, ends, strict=True)])
    ends = np.maximum(ends, exact + 0.03)
    level = np.array([analysis.level[n[0] : max(n[0] + 1, min(n[1], n[0] + round(0.2 / STEP)))].max() for n in kept])
    sounds = np.array(
        [float(analysis.sounds[n[0] : n[1], n[2] - tones.LOWEST].astype(np.float32).mean()) for n in kept]
    )
    length = ends - exact
    sure = np.clip(0.1 + 0.35 * sounds + 0.25 * np.minimum(1, length / 0.15) + 0.3 * told, 0, 1)
    sure *= np.clip(1 - (np.quantile(level, 0.9) - level - 24) / 20, 0.3, 1)
    enough = (length >= settings.shortest) & (sure >= 0.62 - 0.4 * settings.eagerness)
    pitch = np.array([n[2] for n in kept], float)
    return Heard(exact, ends, pitch, velocities(level), sure).take(enough)


def _let_go(level: np.ndarray, start: float, end: float) -> float:
    """Where a note's last fall begins: what rings on after it was let go is not part of it."""
    last = min(len(level) - 1, round(end / STEP))
    first = max(round(start / STEP) + 4, last - round(FALLS_IN / STEP))
    if last - first < 4:
        return end
    part = level[first : last + 1]
    body = float(np.median(part[: max(3, len(part) // 2)]))
    above = np.flatnonzero(part > body - FALLS_BY)
    return min(end, (first + int(above[-1]) + 1) * STEP) if len(above) else end


FALLS_IN, FALLS_BY = 0.35, 3.5
"""Seconds and decibels of the fall after a note is let go."""


def bends(analysis: MelodyAnalysis, notes: Heard) -> list[tuple[float, float]]:
    """(seconds, semitones) of what the player did about each note: glides into it, vibrato, and back to 0 after it.

    Against the player's own tuning; a point where the pitch has moved by more than can be missed.
    """
    out: list[tuple[float, float]] = []
    shifted = analysis.pitch - tuning(analysis.pitch, analysis.dip)
    following = [*notes.start.tolist()[1:], np.inf]
    columns = (notes.start.tolist(), notes.end.tolist(), np.rint(notes.pitch).tolist(), following)
    for start, end, number, later in zip(*columns, strict=True):
        first, last = round(start / STEP), min(len(shifted), round(end / STEP))
        off = shifted[first:last] - number
        if not len(off):
            continue
        near = np.nanmin(np.where(np.isnan(off), np.inf, np.abs(off)), axis=1)
        chosen = np.nanargmin(np.where(np.isnan(off), np.inf, np.abs(off)), axis=1)
        curve = np.where(near < BENT, off[np.arange(len(off)), chosen], np.nan)
        known = np.flatnonzero(~np.isnan(curve))
        if not len(known):
            continue
        whole = np.interp(np.arange(len(curve)), known, curve[known])
        padded = np.pad(whole, 1, mode="edge")
        calm = np.median(np.stack([padded[:-2], padded[1:-1], padded[2:]]), axis=0)
        sent = np.inf
        for i, value in enumerate(calm.tolist()):
            if abs(value - sent) > HEARD:
                out.append((start + i * STEP if i else start, value))
                sent = value
        # Where another note follows at once, its own beginning says where the bend is.
        if later > end + STEP:
            out.append((end, 0.0))
    return out


BENT = 1.8
"""Semitones from a note at most that are its own glide."""
HEARD = 0.03
"""Semitones by which a pitch must have moved to be sent again."""
