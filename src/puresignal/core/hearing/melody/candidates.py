"""One voice to notes: several pitch candidates a frame, a path through them, notes from the path.

Candidates are the dips of the cumulative mean normalised difference (period.py); the path is the cheapest
through them, with silence as one more candidate, as in the probabilistic YIN of M. Mauch and S. Dixon (2014),
but through notes: a vibrato does not pay for steps, a new note does, less so where a network hears something
begin (begin.py). Another says which notes may sound at all (tones.py), which keeps octaves right where a
period is hard to tell.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise, product

import numpy as np

from puresignal.core.hearing.dsp import spectra, viterbi, yin
from puresignal.core.hearing.dsp.chunks import Progress, Source, excerpts, pieces
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks import onset as beginnings
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network, peaks, windowed_sum
from puresignal.core.hearing.transcribed import TranscribedNotes, far_from_others, removal_reasons, velocities

RATE, HOP = 22_050, 220
LOWEST, HIGHEST = 40.0, 2200.0
COMPARED = 7
"""Hops of sound that are compared with what comes a period later."""
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
    starts   (frames, tones.PITCHES) how likely each note begins, 0 .. 255
    envelope for the exact moment of a beginning
    """

    pitch: np.ndarray
    dip: np.ndarray
    level: np.ndarray
    begins: np.ndarray
    sounds: np.ndarray
    starts: np.ndarray
    envelope: Envelope
    paths: dict[tuple[float, ...], np.ndarray] = field(default_factory=dict, init=False)
    """The last path that was found, by what it depends on."""
    _costs: dict[bool, np.ndarray] = field(default_factory=dict, init=False)

    def costs(self, beneath: bool) -> np.ndarray:
        """(frames, tones.PITCHES) what each note costs in the search for the path, whatever the other settings."""
        if beneath not in self._costs:
            self._costs[beneath] = _note_costs(self, slice(None), beneath)
        return self._costs[beneath]

    @cached_property
    def tuned(self) -> float:
        """How far the player is tuned from concert pitch, in semitones."""
        return tuning(self.pitch, self.dip)

    @cached_property
    def near(self) -> np.ndarray:
        """(frames,) how likely something begins about each moment."""
        return windowed_sum(self.begins, 4)[: len(self.begins)]

    @cached_property
    def loud(self) -> float:
        """Decibels of the loud moments."""
        return float(np.quantile(self.level, 0.98))

    def part(self, own: slice, fine: slice) -> MelodyAnalysis:
        """Some of its frames, and of those of its envelope."""
        return MelodyAnalysis(
            self.pitch[own], self.dip[own], self.level[own], self.begins[own], self.sounds[own], self.starts[own],
            Envelope(self.envelope.level[fine], self.envelope.step),
        )  # fmt: skip


@dataclass(frozen=True)
class MelodySettings:
    """eagerness 0..1; shortest note s; floor dB below the loudest; range in MIDI numbers; beneath: others play too."""

    sensitivity: float = 0.5
    shortest: float = 0.07
    floor: float = 38.0
    low: float = 28.0
    high: float = 96.0
    beneath: bool = False


FINE_HOP, FINE_REACH = 22, 220


def analyse(begin: ConvNet, tone: Network, source: Source, progress: Progress | None = None) -> MelodyAnalysis:
    """The networks of begin.py and tones.py; the recording at RATE, all at once or in blocks."""
    # Both in one reading of it.
    loudness = [(multipitch.loudness(part), beginnings.SPECTROGRAM.loudness(part)) for part in excerpts(source)]
    against, loud = (
        multipitch.loud_of([a for a, _ in loudness]),
        beginnings.SPECTROGRAM.loud_of([b for _, b in loudness]),
    )
    parts = []
    for piece in pieces(source, progress):
        found = of_samples(begin, tone, piece.samples, against, loud)
        parts.append(found.part(piece.frames(HOP), piece.frames(FINE_HOP)))
    return joined(parts)


def of_samples(
    begin: ConvNet, tone: Network, flat: np.ndarray, against: tuple[float, float], loud: np.ndarray
) -> MelodyAnalysis:
    """Samples all at once, against what the loud moments of their recording are (tones.loud, LOOK.loud)."""
    pitch, dip = _candidates(flat)
    level = spectra.decibels(spectra.loudness(flat, HOP, 2 * HOP))
    picture, (long, short) = _pictures(flat, against, loud)
    begins = begin.probability(picture)[:, 0]
    place = np.clip(np.rint(np.arange(len(pitch)) * HOP / multipitch.HOP).astype(int), 0, max(0, len(long) - 1))
    probability = multipitch.probability(tone, long, short, _asked(pitch, dip, place, long.max(axis=1)))
    coarse, starts = probability[:, :, 0].astype(np.float16), (255 * probability[:, :, 1]).astype(np.uint8)
    envelope = spectra.envelope(flat, RATE, FINE_HOP, FINE_REACH)
    return MelodyAnalysis(
        pitch.astype(np.float32), dip.astype(np.float32), level, begins, coarse[place], starts[place], envelope
    )  # fmt: skip


def _pictures(
    flat: np.ndarray, against: tuple[float, float], loud: np.ndarray
) -> tuple[np.ndarray, tuple[np.ndarray, np.ndarray]]:
    """What the networks of begin.py and of tones.py look at. The windows of one size serve both."""
    look = beginnings.SPECTROGRAM
    seldom, short = spectra.powers(
        flat, multipitch.SHORT, multipitch.HOP, look.bands_of(multipitch.SHORT), multipitch.SHORT_BANDS
    )
    picture = look.levels(flat, loud, {multipitch.SHORT: seldom})
    return picture, multipitch.levels_of(multipitch.long_powers(flat), short, against)


def joined(parts: list[MelodyAnalysis]) -> MelodyAnalysis:
    """One after the other."""
    if not parts:
        nothing = np.zeros((0, CANDIDATES), np.float32)
        sounds = np.zeros((0, multipitch.PITCHES), np.float16)
        return MelodyAnalysis(
            nothing,
            nothing,
            np.zeros(0),
            np.zeros(0),
            sounds,
            sounds.astype(np.uint8),
            Envelope(np.zeros(0), FINE_HOP / RATE),
        )
    columns = ((a.pitch, a.dip, a.level, a.begins, a.sounds, a.starts, a.envelope.level) for a in parts)
    pitch, dip, level, begins, sounds, starts, fine = (np.concatenate(each) for each in zip(*columns, strict=True))
    return MelodyAnalysis(pitch, dip, level, begins, sounds, starts, Envelope(fine, FINE_HOP / RATE))


def _asked(pitch: np.ndarray, dip: np.ndarray, place: np.ndarray, loud: np.ndarray) -> np.ndarray:
    """(len(loud), tones.PITCHES) the notes that candidates speak for, and those beside them; loud (frames,) log10.

    Where one note rings into the next the best period is one that both share, and neither is a candidate: both are
    among its harmonics, so these are asked about too.
    """
    asked = np.zeros((len(loud), multipitch.PITCHES + 4), bool)
    near = (
        np.clip(np.nan_to_num(np.rint(pitch) - multipitch.LOWEST, nan=-9).astype(int), -3, multipitch.PITCHES + 2) + 2
    )
    for k in range(CANDIDATES):
        known = (near[:, k] >= 0) & (near[:, k] < multipitch.PITCHES + 4)
        asked[place[known], near[known, k]] = True
    beside = asked.copy()
    beside[:, 1:] |= asked[:, :-1]
    beside[:, :-1] |= asked[:, 1:]
    beside = beside[:, 2:-2]
    for k, harmonic in product(range(2), HARMONICS):
        note = near[:, k] - 2 + harmonic
        shared = np.flatnonzero((dip[:, k] > SHARED) & (near[:, k] >= 0) & (note < multipitch.PITCHES))
        beside[place[shared], note[shared]] = True
    # What is low and plucked may have no period to speak of; then all are asked about.
    vague = np.zeros(len(loud), bool)
    vague[place] = ~(dip[:, 0] < VAGUE)
    beside[vague & (loud > LOUD)] = True
    return beside


VAGUE, LOUD = 0.45, -1.7
"""How imperfect the best period is where none tells; log10 against the loud moments of what is loud enough to ask."""


HARMONICS, SHARED = (12, 19, 24), 0.1
"""Semitones from a period that two notes share to what they may be; how imperfect it is if it is theirs."""


def _candidates(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    longest, shortest = int(RATE / LOWEST), max(2, int(RATE / HIGHEST))
    seen = COMPARED * HOP + longest
    padded = np.pad(samples, (seen // 2, seen - seen // 2))
    count = 1 + len(samples) // HOP
    pitch = np.full((count, CANDIDATES), np.nan)
    dip = np.ones((count, CANDIDATES))
    for begin in range(0, count, 256):
        rows = min(256, count - begin)
        mean = yin.normalised(padded[begin * HOP :][: (rows - 1) * HOP + seen], rows, HOP, COMPARED, longest)
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
    exact = lag + yin.between(before, here, after)
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
    low, high = (
        max(multipitch.LOWEST, int(np.ceil(settings.low))),
        min(multipitch.HIGHEST, int(np.floor(settings.high))),
    )
    if not count or high < low:
        return np.full(count, -1)
    asked = (settings.sensitivity, settings.floor, low, high, settings.beneath)
    if asked in analysis.paths:
        return analysis.paths[asked].copy()
    numbers = np.arange(low, high + 1, dtype=np.float32)
    quiet = analysis.level < analysis.loud - settings.floor
    near = windowed_sum(analysis.begins, 3)[:count]
    turns = np.stack([3.4 - 2.6 * near, 1.9 - 1.5 * near], axis=1)
    out = np.full(count, -1)
    for begin in range(0, count, viterbi.AT_ONCE * viterbi.STRETCH):
        end = min(count, begin + viterbi.AT_ONCE * viterbi.STRETCH)
        part = slice(max(0, begin - viterbi.LAP), min(count, end + viterbi.LAP))
        cost, silent = _costs(analysis, part, numbers, quiet[part], settings)
        state = viterbi.path(cost, silent, turns[part], begin - part.start, end - begin)
        out[begin:end] = np.where(state >= 0, low + state, -1)
    analysis.paths.clear()
    analysis.paths[asked] = out
    return out.copy()


def _costs(
    analysis: MelodyAnalysis, part: slice, numbers: np.ndarray, quiet: np.ndarray, settings: MelodySettings
) -> tuple[np.ndarray, np.ndarray]:
    """(frames, notes) what each note costs, and (frames,) what silence does."""
    own = slice(round(float(numbers[0])) - multipitch.LOWEST, round(float(numbers[-1])) - multipitch.LOWEST + 1)
    short = len(analysis.pitch) <= REMEMBERED
    beneath = settings.beneath
    cost = analysis.costs(beneath)[part, own].copy() if short else _note_costs(analysis, part, beneath)[:, own]
    cost[quiet] = 20.0
    # As whole numbers, halves of which none is negative have the same order and are compared many times as quickly.
    likeliest = analysis.sounds[part, own].view(np.uint16).max(axis=1).view(np.float16).astype(np.float32)
    unlikely = -np.log(np.clip(1 - likeliest, 0.05, 1.0))
    return cost, np.where(quiet, 0.0, 0.9 + 0.6 * settings.sensitivity + TRUST * unlikely)


REMEMBERED = 60_000
"""Frames, ten minutes, up to which what notes cost is worked out once and kept for the next decision."""


def _note_costs(analysis: MelodyAnalysis, part: slice, beneath: bool) -> np.ndarray:
    """(frames, tones.PITCHES) float32 what each note costs where it is not silent, whatever the other settings."""
    pitch = analysis.pitch[part] - np.float32(analysis.tuned)
    dip = 2.2 * analysis.dip[part]
    # A candidate that is far from a note speaks for it as little as any that is.
    far = np.minimum(NO_CANDIDATE, np.where(np.isnan(pitch), np.inf, dip).min(axis=1) + FAR * np.sqrt(FAR))
    cost = np.repeat(far.astype(np.float32)[:, None], multipitch.PITCHES, axis=1)
    frame = np.arange(len(pitch))
    for k in range(CANDIDATES):
        nearest = np.nan_to_num(np.rint(pitch[:, k]), nan=-999).astype(int)
        for number in (nearest - 1, nearest, nearest + 1):
            off = np.abs(pitch[:, k] - number)
            known = np.flatnonzero((off < FAR) & (number >= multipitch.LOWEST) & (number <= multipitch.HIGHEST))
            at = (frame[known], number[known] - multipitch.LOWEST)
            cost[at] = np.minimum(cost[at], dip[known, k] + off[known] * np.sqrt(off[known]))
    # Nearly all sound not at all, and only of the others a logarithm is needed.
    sounds = analysis.sounds[part]
    if not beneath:
        # What is low and plucked may have no period to speak of, and yet its harmonics tell. So do those of others.
        held = np.nonzero(sounds > 0.5)
        cost[held] = np.minimum(cost[held], UNSEEN)
    cost -= np.float32(TRUST * np.log(LEAST_LIKELY))
    probability = np.nonzero(sounds > LEAST_LIKELY)
    cost[probability] -= TRUST * (np.log(sounds[probability].astype(np.float32)) - np.float32(np.log(LEAST_LIKELY)))
    return cost


FAR = 1.3
"""Semitones from a note beyond which it is all one how far a candidate is."""
LEAST_LIKELY = 0.02
"""The network's word is not trusted to say less than this."""
NO_CANDIDATE, UNSEEN = 3.6, 1.7
"""What a frame costs whose candidates are all far from a note; and what one does at most where the network hears it."""
TRUST = 0.3
"""How much the network's word counts against the candidates'."""


def decide(analysis: MelodyAnalysis, settings: MelodySettings | None = None) -> TranscribedNotes:
    """The notes, from what was analysed."""
    settings = settings or MelodySettings()
    states = track(analysis, settings)
    if not len(states):
        return TranscribedNotes.empty()
    limit = 0.5 - 0.5 * (settings.sensitivity - 0.5)
    places = _plain(peaks(analysis.near, LEAST, 6), analysis, limit)
    _bridge(states)
    _attacks(states, places, analysis)
    cuts = _moved_to_beginnings(np.flatnonzero(np.diff(states)) + 1, states, places, analysis.near)
    notes: list[tuple[int, int, int]] = []
    for first, last in pairwise([0, *cuts.tolist(), len(states)]):
        if first < last and states[first] >= 0:
            number = int(states[first])
            own = _its_own(places, analysis.starts[:, number - multipitch.LOWEST]) if settings.beneath else places
            notes += _articulated((first, last, number), own)
    return _finish(_mended(notes, analysis), analysis, settings)


def _plain(places: np.ndarray, analysis: MelodyAnalysis, limit: float) -> np.ndarray:
    """Of the places where something may begin those that are likely enough, the less so the deeper the level dips."""
    if not len(places):
        return places
    probability, steps = analysis.near, np.arange(-18, 13)
    at = np.minimum(np.rint(places).astype(int), len(probability) - 1)
    level, _ = spectra.windows(analysis.level, at, steps)
    high = np.minimum(level[:, steps >= 0].max(axis=1), level[:, steps <= 0].max(axis=1))
    deep = high - level[:, (steps >= -8) & (steps < 3)].min(axis=1)
    return np.asarray(places[probability[at] > limit - DEEP * np.clip(deep - 2.0, 0.0, 6.0)])


LEAST, DEEP = 0.15, 0.04
"""A place less likely than this is none, however deep the level dips there; what a decibel of that counts."""


def _between(places: np.ndarray, low: float, high: float) -> np.ndarray:
    """Of rising places those above `low` and below `high`."""
    return places[places.searchsorted(low, side="right") : places.searchsorted(high)]


def _bridge(states: np.ndarray) -> None:
    """A moment's silence between two notes is the beginning of the second, where its pitch is hard to tell."""
    edges = [0, *(np.flatnonzero(np.diff(states)) + 1).tolist(), len(states)]
    for first, last in pairwise(edges):
        if states[first] < 0 and first > 0 and last < len(states) and last - first <= MOMENT:
            states[first:last] = states[last]


MOMENT = 3
"""Frames."""


def _attacks(states: np.ndarray, places: np.ndarray, analysis: MelodyAnalysis) -> None:
    """A note begins with its attack, where that has no pitch yet, or seems to have another.

    From where something plainly begins to where a pitch is first told it has to sound on, and nothing else to begin.
    """
    level, sounds = analysis.level, analysis.sounds
    for last in (np.flatnonzero(np.diff(states)) + 1).tolist():
        number = states[last]
        near = _between(places, last - LONGEST_ATTACK / STEP, last + 6)
        if number < 0 or not len(near) or near[-1] > last - 4:
            continue
        start = round(float(near[-1]))
        if level[start + 1 : last].min(initial=0.0) < level[last : last + 8].max() - FADES:
            continue
        between = states[start:last]
        if (between[4:] >= 0).any():
            wrong = np.flatnonzero(between >= 0)
            own = float(sounds[start + wrong, between[wrong] - multipitch.LOWEST].astype(np.float32).mean())
            aim = float(sounds[last : last + len(wrong), number - multipitch.LOWEST].astype(np.float32).mean())
            led = states[start - 4] == between[6] if start >= 4 and len(between) > 6 else False
            if len(wrong) > SHORT_ATTACK / STEP or own > aim - WRONG or led:
                continue
        states[start:last] = number


LONGEST_ATTACK, SHORT_ATTACK, FADES, WRONG = 0.4, 0.2, 14.0, 0.0
"""Seconds that an attack without a pitch, or with a wrong one, may last; decibels that it may be below its note."""


def _moved_to_beginnings(
    cuts: np.ndarray, states: np.ndarray, places: np.ndarray, probability: np.ndarray
) -> np.ndarray:
    """Changes of pitch moved to where something begins just before: the old note rings while the new one grows."""
    out = cuts.copy()
    for i, cut in enumerate(cuts.tolist()):
        if states[cut] < 0 or states[cut - 1] < 0:
            continue
        grows = GROWS if probability[cut] > UNHEARD else SWELLS
        first = max(cut - round(grows / STEP), (out[i - 1] if i else 0) + round(0.05 / STEP))
        near = _between(places, first, cut)
        if len(near):
            out[i] = round(float(near[-1]))
            states[out[i] : cut] = states[cut]
    return out


GROWS, WEAKEST = 0.15, 0.08
"""Seconds that a new note may need to be heard through the one that rings; how likely it has to begin there."""
SWELLS, UNHEARD = 0.3, 0.3
"""The same seconds where nothing is heard to begin as the pitch changes, less likely than this: it began before."""


def _its_own(places: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """Of the places where something begins those where this note does: others may begin beneath it."""
    near = [float(starts[max(0, round(p) - 4) : round(p) + 5].max(initial=0)) / 255 for p in places.tolist()]
    return places[np.array(near) > ITS_OWN] if len(places) else places


ITS_OWN = 0.15
"""How likely a note must begin itself, where others play beneath it, to be struck again."""


def _articulated(note: tuple[int, int, int], places: np.ndarray) -> list[tuple[int, int, int]]:
    """A note struck or sung again at one pitch is parted where something begins."""
    first, last, number = note
    inside = _between(places, first + 0.07 / STEP, last - 0.04 / STEP)
    edges = [first, *np.rint(inside).astype(int).tolist(), last]
    return [(a, b, number) for a, b in pairwise(edges)]


def _mended(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis) -> list[tuple[int, int, int]]:
    """A note that goes on where its pitch could not be told for a moment is one: where one begins it is heard to.

    So is one that seems to leap to a harmonic: at first it was taken for that, or for what it is a harmonic of.
    """
    out: list[tuple[int, int, int]] = []
    for first, last, number in notes:
        leaps = out and abs(out[-1][2] - number) in HARMONICS and first - out[-1][1] <= MOMENT
        if leaps and analysis.near[max(0, first - 5) : first + 6].max(initial=0.0) < SILENT:
            out[-1] = (out[-1][0], last, number)
            continue
        if out and out[-1][2] == number and 0 < first - out[-1][1] <= LOST / STEP:
            begins = analysis.near[max(0, out[-1][1] - 4) : first + 6].max(initial=0.0)
            around = min(analysis.level[out[-1][1] - 1], analysis.level[first : first + 8].max(initial=-100.0))
            if begins < SILENT and analysis.level[out[-1][1] : first].min() > around - FAINTER:
                out[-1] = (out[-1][0], last, number)
                continue
        out.append((first, last, number))
    return out


LOST, SILENT, FAINTER = 0.2, 0.12, 16.0
"""Seconds for which a pitch may be lost in a note; how likely no beginning is; decibels it may be softer meanwhile."""


def _finish(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis, settings: MelodySettings) -> TranscribedNotes:
    """Exact beginnings, loudness, how sure each note is, and which are too short or hardly there."""
    kept = [n for n in notes if (n[1] - n[0]) * STEP >= 0.5 * settings.shortest]
    if not kept:
        return TranscribedNotes.empty()
    ends = np.array([n[1] for n in kept]) * STEP
    exact, told = _begun(np.array([n[0] for n in kept]) * STEP, analysis)
    near_exact = analysis.envelope.rises(exact)
    exact = np.where(np.abs(near_exact - exact) < 0.02, near_exact, exact)
    for i in range(1, len(exact)):
        exact[i] = max(exact[i], exact[i - 1] + 0.02)
        ends[i - 1] = min(ends[i - 1], exact[i])
    ends = np.maximum(_let_go(analysis.level, exact, ends), exact + 0.03)
    first, last, number = np.array(kept).T
    level = _most(analysis.level, first, np.minimum(last, first + round(0.2 / STEP)))
    note, frame = _frames_of(first, last)
    sounding = analysis.sounds[frame, number[note] - multipitch.LOWEST].astype(np.float32)
    sounds = np.bincount(note, sounding, len(kept)) / np.maximum(1, np.bincount(note, minlength=len(kept)))
    length = ends - exact
    confidence = np.clip(0.1 + 0.35 * sounds + 0.25 * np.minimum(1, length / 0.15) + 0.3 * told, 0, 1)
    confidence *= np.clip(1 - (np.quantile(level, 0.9) - level - 24) / 20, 0.3, 1)
    pitch = _exact_pitch(number, note, frame, analysis)
    removal_reason = removal_reasons(
        length < settings.shortest, level < np.quantile(level, 0.9) - SOFT,
        far_from_others(pitch, exact, confidence), confidence < 0.62 - 0.4 * settings.sensitivity,
    )  # fmt: skip
    return TranscribedNotes(exact, ends, pitch, velocities(level), confidence, removal_reason)


def _begun(begins: np.ndarray, analysis: MelodyAnalysis) -> tuple[np.ndarray, np.ndarray]:
    """(notes,) the likeliest moment near which each note begins, in seconds, and how likely it is.

    A note is there, so it begins somewhere: what tells of it may be ever so weak.
    """
    strong = peaks(analysis.begins, WEAKEST, 3) * STEP
    probability = analysis.begins[np.rint(strong / STEP).astype(int)].tolist()
    moments, exact, told, before = strong.tolist(), begins.tolist(), [0.0] * len(begins), -1.06
    for i, begin in enumerate(begins.tolist()):
        # A period is found some time after a sound begins, the later the lower it is.
        first = bisect_right(moments, max(begin - GROWS, before + 0.06))
        near = range(first, bisect_left(moments, begin + 0.05))
        if near:
            best = max(near, key=lambda k: probability[k] - 2.0 * abs(moments[k] - begin))
            exact[i], told[i] = moments[best], probability[best]
        before = exact[i]
    return np.array(exact), np.array(told)


SOFT = 32.0
"""Decibels below the loud notes at which a note is too soft to be meant."""


def levels(analysis: MelodyAnalysis, notes: TranscribedNotes) -> np.ndarray:
    """(notes,) decibels of the loudest of each note's first moments."""
    first = np.rint(notes.start / STEP).astype(int)
    return _most(analysis.level, first, np.rint(np.minimum(notes.end, notes.start + 0.2) / STEP).astype(int))


def _most(level: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """(notes,) the loudest of each note's frames, one at least."""
    if not len(first):
        return np.zeros(0)
    steps = np.arange(max(1, int((last - first).max())))
    around, there = spectra.windows(level, first, steps)
    own = there & ((steps < (last - first)[:, None]) | (steps == 0))
    return np.asarray(np.where(own, around, -100.0).max(axis=1))


def _frames_of(first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All frames of some notes, one after the other: the number of the note of each, and the frame."""
    length = last - first
    note = np.repeat(np.arange(len(first)), length)
    return note, np.arange(len(note)) - np.repeat(np.cumsum(length) - length - first, length)


def _exact_pitch(number: np.ndarray, note: np.ndarray, frame: np.ndarray, analysis: MelodyAnalysis) -> np.ndarray:
    """(notes,) where in its semitone each note lies, against the player's own tuning; always nearest its number.

    note, frame  of each frame of the notes
    """
    off = analysis.pitch[frame] - analysis.tuned - number[note][:, None]
    row, column = np.nonzero(np.abs(off) < 0.7)
    own, value = note[row], off[row, column]
    value = value[np.lexsort((value, own))]
    count = np.bincount(own, minlength=len(number))
    some = np.flatnonzero(count)
    out = number.astype(float)
    out[some] += np.clip(value[(np.cumsum(count) - count + count // 2)[some]], -0.45, 0.45)
    return out


def _let_go(level: np.ndarray, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Where each note's last fall begins: what rings on after it was let go is not part of it."""
    last = np.minimum(len(level) - 1, np.rint(end / STEP).astype(int))
    reach = round(FALLS_IN / STEP)
    first = np.maximum(np.rint(start / STEP).astype(int) + 4, last - reach)
    length = last - first + 1
    steps = np.arange(reach + 1)
    part, _ = spectra.windows(level, first, steps)
    half = np.maximum(3, length // 2)
    early = steps < half[:, None]
    body = np.take_along_axis(np.sort(np.where(early, part, np.inf), axis=1), (half // 2)[:, None], 1)
    # What is plucked falls by itself all the time; what is let go falls quicker than that.
    off = np.where(early, steps - (half[:, None] - 1) / 2, 0.0)
    slope = (off * part).sum(axis=1) / np.maximum(1e-9, (off**2).sum(axis=1))
    slope = np.clip(slope, -RINGS * STEP, 0.0)[:, None]
    above = (part > body + slope * (steps - (half[:, None] - 1) / 2) - FALLS_BY) & (steps < length[:, None])
    falls = (first + len(steps) - above[:, ::-1].argmax(axis=1)) * STEP
    return np.where((length >= 5) & above.any(axis=1), np.minimum(end, falls), end)


FALLS_IN, FALLS_BY, RINGS = 0.35, 2.5, 25.0
"""Seconds and decibels of the fall after a note is let go; decibels a second that a held one may fall by itself."""
