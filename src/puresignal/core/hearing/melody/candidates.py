"""Pitch candidates of one voice per frame, and what each note would cost there.

Candidates are the dips of the cumulative mean normalised difference (yin.py). One network gives the probability of an
onset (onset.py); others say which notes may sound at all (PitchNetworks) and keep octaves right where the
period is ambiguous.

Source  probabilistic YIN: M. Mauch and S. Dixon, 2014
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from itertools import product

import numpy as np

from puresignal.core.hearing.dsp import spectra, yin
from puresignal.core.hearing.dsp.chunks import Progress, Source, excerpts, pieces
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.melody.note_judge import UNTAUGHT, NoteJudge
from puresignal.core.hearing.networks import multipitch, pitch_levels, single_pitch
from puresignal.core.hearing.networks import onset as beginnings
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network, windowed_sum
from puresignal.core.hearing.networks.harmonic import HarmonicNet

RATE, HOP = 22_050, 220
LOWEST, HIGHEST = 40.0, 2200.0
COMPARED = 7
"""Hops of sound compared with the sound one period later."""
CANDIDATES = 5
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class PitchNetworks:
    """The networks that say which notes may sound; each errs elsewhere, so they are mixed.

    wide      of single_pitch.py, trained on all kinds of voices; plain: of multipitch.py
    together  the one that hears chords, where others play beneath the voice
    judge     trees that judge the notes in the end
    """

    wide: Network
    plain: Network
    together: HarmonicNet | None = None
    judge: NoteJudge = UNTAUGHT

    def probability(
        self, seen: pitch_levels.Levels, changes: pitch_levels.Changes | None, among: np.ndarray
    ) -> np.ndarray:
        """(frames, multipitch.PITCHES, 2): probability that each note sounds, and begins.

        changes  only the one that hears chords looks at them
        among    the notes asked for
        """
        wide = single_pitch.probability(self.wide, seen, among)
        plain = multipitch.probability(self.plain, seen.long, seen.short, among)
        mixed = wide + PLAIN * (plain - wide)
        if self.together is not None and changes is not None:
            chords = self.together.probability(seen, changes) * among[:, :, None]
            mixed += TOGETHER * (chords - mixed)
        return np.asarray(mixed)


PLAIN, TOGETHER = 0.3, 0.4
"""Weights in the mix of the plain network, and then of the one that hears chords."""


@dataclass(frozen=True, eq=False)
class MelodyAnalysis:
    """The analysis of a recording, kept for all decisions.

    pitch    (frames, CANDIDATES) semitones; NaN for missing candidates
    dip      (frames, CANDIDATES) aperiodicity of each candidate, 0..1
    level    (frames,) decibels; formants: the same between some 900 and 2,800 Hz
    begins   (frames,) probability of an onset
    sounds   (frames, multipitch.PITCHES) probability that each note sounds
    starts   (frames, multipitch.PITCHES) probability that each note begins, 0..255
    envelope for exact onsets; judge: of the notes
    """

    pitch: np.ndarray
    dip: np.ndarray
    level: np.ndarray
    formants: np.ndarray
    begins: np.ndarray
    sounds: np.ndarray
    starts: np.ndarray
    envelope: Envelope
    judge: NoteJudge = UNTAUGHT
    paths: dict[tuple[float, ...], np.ndarray] = field(default_factory=dict, init=False)
    """The last path found, by the settings it depends on."""
    _costs: dict[bool, np.ndarray] = field(default_factory=dict, init=False)

    def costs(self, beneath: bool) -> np.ndarray:
        """(frames, multipitch.PITCHES) cost of each note in the path search, independent of the other settings."""
        if beneath not in self._costs:
            self._costs[beneath] = note_costs(self, slice(None), beneath)
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
            self.pitch[own], self.dip[own], self.level[own], self.formants[own], self.begins[own], self.sounds[own],
            self.starts[own], Envelope(self.envelope.level[fine], self.envelope.step), self.judge,
        )  # fmt: skip


FINE_HOP, FINE_REACH = 22, 220


def analyse(begin: ConvNet, tone: PitchNetworks, source: Source, progress: Progress | None = None) -> MelodyAnalysis:
    """Analyse a recording at RATE, all at once or in blocks, with the networks of onset.py and for pitches."""
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
    begin: ConvNet, tone: PitchNetworks, flat: np.ndarray, against: tuple[float, float], loud: np.ndarray
) -> MelodyAnalysis:
    """Analyse samples at once. against, loud: levels of the loud moments (multipitch.loud, SPECTROGRAM.loud)."""
    pitch, dip = _candidates(flat)
    level = spectra.decibels(spectra.loudness(flat, HOP, 2 * HOP))
    formants = spectra.decibels(spectra.loudness(_formant_range(flat), HOP, 2 * HOP))
    picture, seen = _pictures(flat, against, loud)
    changes = pitch_levels.changes(flat, against) if tone.together is not None else None
    begins = begin.probability(picture)[:, 0]
    place = np.clip(np.rint(np.arange(len(pitch)) * HOP / multipitch.HOP).astype(int), 0, max(0, len(seen) - 1))
    probability = tone.probability(seen, changes, _asked(pitch, dip, place, seen.long.max(axis=1)))
    coarse, starts = probability[:, :, 0].astype(np.float16), (255 * probability[:, :, 1]).astype(np.uint8)
    envelope = spectra.envelope(flat, RATE, FINE_HOP, FINE_REACH)
    return MelodyAnalysis(
        pitch.astype(np.float32), dip.astype(np.float32), level, formants, begins, coarse[place], starts[place],
        envelope, tone.judge,
    )  # fmt: skip


def _formant_range(flat: np.ndarray) -> np.ndarray:
    """(n,) samples minus those a little later: a comb whose first tooth is that range."""
    out = np.zeros_like(flat)
    if len(flat) > COMB:
        np.subtract(flat[:-COMB], flat[COMB:], out=out[COMB // 2 : -(COMB // 2)])
    return out


COMB = 6
"""Samples. The comb is loudest at RATE / 12, and 3 dB softer at half that and at one and a half times that."""


def _pictures(
    flat: np.ndarray, against: tuple[float, float], loud: np.ndarray
) -> tuple[np.ndarray, pitch_levels.Levels]:
    """The inputs of the onset and pitch networks. Windows of one size are transformed once for both."""
    look = beginnings.SPECTROGRAM
    seldom, short = spectra.powers(
        flat, multipitch.SHORT, multipitch.HOP, look.bands_of(multipitch.SHORT), multipitch.SHORT_BANDS
    )
    picture = look.levels(flat, loud, {multipitch.SHORT: seldom})
    return picture, pitch_levels.levels_of(flat, short, against)


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
            np.zeros(0),
            sounds,
            sounds.astype(np.uint8),
            Envelope(np.zeros(0), FINE_HOP / RATE),
        )
    columns = ((a.pitch, a.dip, a.level, a.formants, a.begins, a.sounds, a.starts, a.envelope.level) for a in parts)
    pitch, dip, level, formants, begins, sounds, starts, fine = (
        np.concatenate(each) for each in zip(*columns, strict=True)
    )
    return MelodyAnalysis(
        pitch, dip, level, formants, begins, sounds, starts, Envelope(fine, FINE_HOP / RATE), parts[0].judge
    )


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


REMEMBERED = 60_000
"""Frames (ten minutes) up to which note costs are computed once and kept for later decisions."""


def note_costs(analysis: MelodyAnalysis, part: slice, beneath: bool) -> np.ndarray:
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
TRUST = 0.6
"""Weight of the network against the candidates."""
