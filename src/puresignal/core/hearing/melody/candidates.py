"""One voice to notes: pitch candidates per frame, the cheapest path through notes, and notes from the path.

Candidates are the dips of the cumulative mean normalised difference (yin.py). The path runs through notes instead
of pitches, with silence as one more state: vibrato is not penalised, a new note is, less so where a network hears
an onset (onset.py). A second network says which notes may sound at all (multipitch.py); it keeps octaves right where
the period is ambiguous.

Source  probabilistic YIN: M. Mauch and S. Dixon, 2014
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
"""Hops of sound compared with the sound one period later."""
CANDIDATES = 5
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class MelodyAnalysis:
    """The analysis of a recording, kept for all decisions.

    pitch    (frames, CANDIDATES) semitones; NaN for missing candidates
    dip      (frames, CANDIDATES) aperiodicity of each candidate, 0..1
    level    (frames,) decibels
    begins   (frames,) probability of an onset
    sounds   (frames, multipitch.PITCHES) probability that each note sounds
    starts   (frames, multipitch.PITCHES) probability that each note begins, 0..255
    envelope for exact onsets
    """

    pitch: np.ndarray
    dip: np.ndarray
    level: np.ndarray
    begins: np.ndarray
    sounds: np.ndarray
    starts: np.ndarray
    envelope: Envelope
    paths: dict[tuple[float, ...], np.ndarray] = field(default_factory=dict, init=False)
    """The last path found, by the settings it depends on."""
    _costs: dict[bool, np.ndarray] = field(default_factory=dict, init=False)

    def costs(self, beneath: bool) -> np.ndarray:
        """(frames, multipitch.PITCHES) cost of each note in the path search, independent of the other settings."""
        if beneath not in self._costs:
            self._costs[beneath] = _note_costs(self, slice(None), beneath)
        return self._costs[beneath]

    @cached_property
    def tuned(self) -> float:
        """The player's tuning relative to 440 Hz, in semitones."""
        return tuning(self.pitch, self.dip)

    @cached_property
    def near(self) -> np.ndarray:
        """(frames,) probability of an onset near each frame."""
        return windowed_sum(self.begins, 4)[: len(self.begins)]

    @cached_property
    def loud(self) -> float:
        """Level of the loud moments in decibels."""
        return float(np.quantile(self.level, 0.98))

    def part(self, own: slice, fine: slice) -> MelodyAnalysis:
        """A range of its frames and of the frames of its envelope."""
        return MelodyAnalysis(
            self.pitch[own], self.dip[own], self.level[own], self.begins[own], self.sounds[own], self.starts[own],
            Envelope(self.envelope.level[fine], self.envelope.step),
        )  # fmt: skip


@dataclass(frozen=True)
class MelodySettings:
    """sensitivity 0..1; shortest note in s; floor in dB below the loudest; range in MIDI notes; beneath: in a mix."""

    sensitivity: float = 0.5
    shortest: float = 0.07
    floor: float = 38.0
    low: float = 28.0
    high: float = 96.0
    beneath: bool = False


FINE_HOP, FINE_REACH = 22, 220


def analyse(begin: ConvNet, tone: Network, source: Source, progress: Progress | None = None) -> MelodyAnalysis:
    """Analyse a recording at RATE, all at once or in blocks, with the networks of onset.py and multipitch.py."""
    # Both in one pass over the recording.
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
    """Analyse samples at once. against, loud: levels of the loud moments (multipitch.loud, SPECTROGRAM.loud)."""
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
    """The inputs of the onset and multipitch networks. Windows of one size are transformed once for both."""
    look = beginnings.SPECTROGRAM
    seldom, short = spectra.powers(
        flat, multipitch.SHORT, multipitch.HOP, look.bands_of(multipitch.SHORT), multipitch.SHORT_BANDS
    )
    picture = look.levels(flat, loud, {multipitch.SHORT: seldom})
    return picture, multipitch.levels_of(multipitch.long_powers(flat), short, against)


def joined(parts: list[MelodyAnalysis]) -> MelodyAnalysis:
    """Several analyses, one after the other, as one."""
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
    """(frames, multipitch.PITCHES) bool: the notes that candidates suggest, and their neighbours. loud: (frames,)
    log10.

    Where one note rings into the next, the best period is common to both and neither is a candidate; both are among
    its harmonics, so these are included.
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
    # A low plucked note may have no clear period; then all notes are included.
    vague = np.zeros(len(loud), bool)
    vague[place] = ~(dip[:, 0] < VAGUE)
    beside[vague & (loud > LOUD)] = True
    return beside


VAGUE, LOUD = 0.45, -1.7
"""Aperiodicity of the best candidate above which no period is clear; level (log10, relative to the loud moments)
above which all notes are then included.
"""


HARMONICS, SHARED = (12, 19, 24), 0.1
"""Semitones from a common period to the two notes that may share it; largest aperiodicity of such a period."""


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
    """The deepest dips of each row, into `pitch` and `dip`; interpolated between lags by a parabola."""
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
    """The player's tuning relative to 440 Hz in semitones, -0.5..0.5, from clearly pitched frames."""
    first = np.where(dip < 0.25, pitch, np.nan)[:, 0]
    steady = first[1:][np.abs(np.diff(first)) < 0.15]
    if len(steady) < 8:
        return 0.0
    turn = np.exp(2j * np.pi * steady).mean()
    return float(np.angle(turn) / (2 * np.pi)) if np.abs(turn) > 0.15 else 0.0


def track(analysis: MelodyAnalysis, settings: MelodySettings) -> np.ndarray:
    """(frames,) MIDI note of each frame, -1 for silence: the cheapest path through the notes.

    The cost of a frame grows with the distance of its candidates from the note, their aperiodicity, and the
    improbability of the note by the network; a change of note costs less where there is an onset.
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
    """(frames, notes) cost of each note, and (frames,) cost of silence."""
    own = slice(round(float(numbers[0])) - multipitch.LOWEST, round(float(numbers[-1])) - multipitch.LOWEST + 1)
    short = len(analysis.pitch) <= REMEMBERED
    beneath = settings.beneath
    cost = analysis.costs(beneath)[part, own].copy() if short else _note_costs(analysis, part, beneath)[:, own]
    cost[quiet] = 20.0
    # Non-negative half-precision floats have the same order as their bits; as integers they compare many times faster.
    likeliest = analysis.sounds[part, own].view(np.uint16).max(axis=1).view(np.float16).astype(np.float32)
    unlikely = -np.log(np.clip(1 - likeliest, 0.05, 1.0))
    return cost, np.where(quiet, 0.0, 0.9 + 0.6 * settings.sensitivity + TRUST * unlikely)


REMEMBERED = 60_000
"""Frames (ten minutes) up to which note costs are computed once and kept for later decisions."""


def _note_costs(analysis: MelodyAnalysis, part: slice, beneath: bool) -> np.ndarray:
    """(frames, multipitch.PITCHES) float32 cost of each note where there is sound, independent of other settings."""
    pitch = analysis.pitch[part] - np.float32(analysis.tuned)
    dip = 2.2 * analysis.dip[part]
    # Beyond some distance a candidate says nothing about a note.
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
    # Most probabilities are zero; only the others need a logarithm.
    sounds = analysis.sounds[part]
    if not beneath:
        # A low plucked note may have no clear period although its harmonics show it; so may notes of other players.
        held = np.nonzero(sounds > 0.5)
        cost[held] = np.minimum(cost[held], UNSEEN)
    cost -= np.float32(TRUST * np.log(LEAST_LIKELY))
    probability = np.nonzero(sounds > LEAST_LIKELY)
    cost[probability] -= TRUST * (np.log(sounds[probability].astype(np.float32)) - np.float32(np.log(LEAST_LIKELY)))
    return cost


FAR = 1.3
"""Semitones beyond which the distance of a candidate from a note no longer matters."""
LEAST_LIKELY = 0.02
"""Lowest probability of the network that is trusted."""
NO_CANDIDATE, UNSEEN = 3.6, 1.7
"""Cost of a frame without a candidate near the note; and its upper limit where the network hears the note."""
TRUST = 0.3
"""Weight of the network against the candidates."""


def decide(analysis: MelodyAnalysis, settings: MelodySettings | None = None) -> TranscribedNotes:
    """Decide the notes from an analysis."""
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
    """The possible onsets that are likely enough; the deeper the level dips, the less likely they need to be."""
    if not len(places):
        return places
    probability, steps = analysis.near, np.arange(-18, 13)
    at = np.minimum(np.rint(places).astype(int), len(probability) - 1)
    level, _ = spectra.windows(analysis.level, at, steps)
    high = np.minimum(level[:, steps >= 0].max(axis=1), level[:, steps <= 0].max(axis=1))
    deep = high - level[:, (steps >= -8) & (steps < 3)].min(axis=1)
    return np.asarray(places[probability[at] > limit - DEEP * np.clip(deep - 2.0, 0.0, 6.0)])


LEAST, DEEP = 0.15, 0.04
"""An onset less probable than LEAST is never accepted; DEEP is how much one decibel of dip counts."""


def _between(places: np.ndarray, low: float, high: float) -> np.ndarray:
    """Of sorted places, those above `low` and below `high`."""
    return places[places.searchsorted(low, side="right") : places.searchsorted(high)]


def _bridge(states: np.ndarray) -> None:
    """A short silence between two notes becomes the start of the second, whose pitch is not yet clear."""
    edges = [0, *(np.flatnonzero(np.diff(states)) + 1).tolist(), len(states)]
    for first, last in pairwise(edges):
        if states[first] < 0 and first > 0 and last < len(states) and last - first <= MOMENT:
            states[first:last] = states[last]


MOMENT = 3
"""Frames."""


def _attacks(states: np.ndarray, places: np.ndarray, analysis: MelodyAnalysis) -> None:
    """A note begins with its attack, even if that has no pitch yet or seems to have another.

    The sound must continue from the onset to the first clear pitch, without another onset in between.
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
"""Longest attack without a pitch and with a wrong one, in seconds; decibels it may be below its note."""


def _moved_to_beginnings(
    cuts: np.ndarray, states: np.ndarray, places: np.ndarray, probability: np.ndarray
) -> np.ndarray:
    """Changes of pitch moved to the onset just before: the old note still rings while the new one grows."""
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
"""Seconds a new note may need to be heard through the old one; probability its onset then needs."""
SWELLS, UNHEARD = 0.3, 0.3
"""The same in seconds for a change without an audible onset, that is, with an onset probability below UNHEARD."""


def _its_own(places: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """The onsets at which this note begins; other players' onsets may fall beneath it."""
    near = [float(starts[max(0, round(p) - 4) : round(p) + 5].max(initial=0)) / 255 for p in places.tolist()]
    return places[np.array(near) > ITS_OWN] if len(places) else places


ITS_OWN = 0.15
"""Probability with which a note must itself begin to count as repeated, in a mix."""


def _articulated(note: tuple[int, int, int], places: np.ndarray) -> list[tuple[int, int, int]]:
    """Split a note at onsets: struck or sung again at the same pitch."""
    first, last, number = note
    inside = _between(places, first + 0.07 / STEP, last - 0.04 / STEP)
    edges = [first, *np.rint(inside).astype(int).tolist(), last]
    return [(a, b, number) for a, b in pairwise(edges)]


def _mended(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis) -> list[tuple[int, int, int]]:
    """Join notes that continue where the pitch was lost for a moment: a new note would have an onset.

    Also join notes that seem to jump to a harmonic: one of the two was mistaken for the other.
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
"""Seconds for which the pitch may be lost within a note; highest onset probability; largest drop in level in dB."""


def _finish(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis, settings: MelodySettings) -> TranscribedNotes:
    """Exact onsets, levels, confidence, and which notes are too short or barely there."""
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
    """(notes,) seconds of the likeliest onset near the start of each note, and its probability.

    The note exists, so it has an onset somewhere, however weak.
    """
    strong = peaks(analysis.begins, WEAKEST, 3) * STEP
    probability = analysis.begins[np.rint(strong / STEP).astype(int)].tolist()
    moments, exact, told, before = strong.tolist(), begins.tolist(), [0.0] * len(begins), -1.06
    for i, begin in enumerate(begins.tolist()):
        # A period becomes clear some time after the onset, later for low notes.
        first = bisect_right(moments, max(begin - GROWS, before + 0.06))
        near = range(first, bisect_left(moments, begin + 0.05))
        if near:
            best = max(near, key=lambda k: probability[k] - 2.0 * abs(moments[k] - begin))
            exact[i], told[i] = moments[best], probability[best]
        before = exact[i]
    return np.array(exact), np.array(told)


SOFT = 32.0
"""Decibels below the loud notes at which a note counts as too soft."""


def levels(analysis: MelodyAnalysis, notes: TranscribedNotes) -> np.ndarray:
    """(notes,) level of the loudest of each note's first moments, in dB."""
    first = np.rint(notes.start / STEP).astype(int)
    return _most(analysis.level, first, np.rint(np.minimum(notes.end, notes.start + 0.2) / STEP).astype(int))


def _most(level: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """(notes,) level of each note's loudest frame; at least one frame is used."""
    if not len(first):
        return np.zeros(0)
    steps = np.arange(max(1, int((last - first).max())))
    around, there = spectra.windows(level, first, steps)
    own = there & ((steps < (last - first)[:, None]) | (steps == 0))
    return np.asarray(np.where(own, around, -100.0).max(axis=1))


def _frames_of(first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All frames of some notes, one note after the other: the number of the note, and the frame."""
    length = last - first
    note = np.repeat(np.arange(len(first)), length)
    return note, np.arange(len(note)) - np.repeat(np.cumsum(length) - length - first, length)


def _exact_pitch(number: np.ndarray, note: np.ndarray, frame: np.ndarray, analysis: MelodyAnalysis) -> np.ndarray:
    """(notes,) exact pitch of each note relative to the player's tuning; always rounds to its number.

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
    """The start of each note's final decay: the ring after release is not part of it."""
    last = np.minimum(len(level) - 1, np.rint(end / STEP).astype(int))
    reach = round(FALLS_IN / STEP)
    first = np.maximum(np.rint(start / STEP).astype(int) + 4, last - reach)
    length = last - first + 1
    steps = np.arange(reach + 1)
    part, _ = spectra.windows(level, first, steps)
    half = np.maximum(3, length // 2)
    early = steps < half[:, None]
    body = np.take_along_axis(np.sort(np.where(early, part, np.inf), axis=1), (half // 2)[:, None], 1)
    # A plucked note decays all the time; after release it decays faster.
    off = np.where(early, steps - (half[:, None] - 1) / 2, 0.0)
    slope = (off * part).sum(axis=1) / np.maximum(1e-9, (off**2).sum(axis=1))
    slope = np.clip(slope, -RINGS * STEP, 0.0)[:, None]
    above = (part > body + slope * (steps - (half[:, None] - 1) / 2) - FALLS_BY) & (steps < length[:, None])
    falls = (first + len(steps) - above[:, ::-1].argmax(axis=1)) * STEP
    return np.where((length >= 5) & above.any(axis=1), np.minimum(end, falls), end)


FALLS_IN, FALLS_BY, RINGS = 0.35, 2.5, 25.0
"""Seconds and decibels of the decay after release; decibels per second that a held note may decay."""
