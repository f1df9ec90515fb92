"""Singers made of speech: syllables of a speech synthesiser at other pitches and lengths.

Vowels, consonants and the voice's roughness are those of the synthesiser; the pitch is moved period by period. For
checking the ear with the eight SPEAKERS of espeak-ng and with recorded ones (recorded_speakers.py); the trees that
judge notes learnt from others (training/spoken_lines.py), whose pitch was moved in the same way.

Source  E. Moulines, F. Charpentier, Pitch-synchronous waveform processing techniques for text-to-speech synthesis, 1990
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

RATE = 44_100
SPEAKERS = ("en", "en+f3", "en+m5", "de", "it", "fr+f1", "en+f4", "es+m3")
SYLLABLES = (
    "[[la:]]", "[[mi:]]", "[[no:]]", "[[du:]]", "[[ba:]]", "[[so:]]", "[[re:]]", "[[ti:]]", "[[fa:]]", "[[ja:]]",
)  # fmt: skip
Notes = list[tuple[float, float, int, float]]
Say = Callable[[str, str], np.ndarray | None]
"""A syllable said by a speaker, (n,) at RATE; None where the voice is missing."""
UNEVEN = 0.1
"""Part of a period by which three in four differ from the one before, at most."""


class Syllable:
    """A syllable taken apart: what is said before the voice begins, and the voice's periods."""

    def __init__(self, sound: np.ndarray):
        self.sound = np.asarray(sound, float)
        self.marks = _marks(self.sound)

    @property
    def sings(self) -> bool:
        """Whether there is enough voice in it, with periods that could be followed."""
        if len(self.marks) < 12:
            return False
        periods = np.diff(self.marks)
        return bool(np.quantile(np.abs(np.diff(periods)) / periods[1:], 0.75) < UNEVEN)

    def sung(self, hertz: np.ndarray) -> tuple[np.ndarray, int]:
        """The syllable at these frequencies, one for each sample: (sound, sample at which the vowel begins).

        Consonants come before the beat, as singers place them.
        """
        marks = self.marks
        lead = self.sound[: marks[0]]
        # The vowel is held around its loudest place, evenly; its ends keep their own speed.
        periods = np.diff(marks, append=2 * marks[-1] - marks[-2])
        level = np.array([np.sqrt(np.mean(self.sound[m : m + p] ** 2)) for m, p in zip(marks, periods, strict=True)])
        smooth = np.convolve(level, np.ones(5) / 5, "same")
        middle = int(np.clip(smooth.argmax(), len(marks) // 4, 3 * len(marks) // 4))
        soft = np.flatnonzero(level[:middle] < 0.6 * level[middle])
        consonant = round((int(soft[-1]) + 1 if len(soft) else 0) * RATE / float(hertz[0]))
        hertz = np.concatenate([np.full(consonant, hertz[0]), hertz])
        count = len(hertz)
        out = np.zeros(len(lead) + count + 4000)
        out[: len(lead)] += lead
        begin, end = middle - 2, middle + 3
        even = np.where(np.abs(np.arange(len(marks)) - middle) <= 4, level[middle] / np.maximum(level, 1e-6), 1.0)
        at, done = 0.0, 0
        while at < count:
            left = count - at
            if done < begin:
                source = done
            elif left < 0.05 * RATE:
                source = min(len(marks) - 2, end + round((1 - left / (0.05 * RATE)) * min(6, len(marks) - 2 - end)))
            else:
                # To and fro, so that no edge is heard.
                span = max(2, end - begin)
                turn = (done - begin) % (2 * span)
                source = begin + (turn if turn < span else 2 * span - 1 - turn)
            mark, period = int(marks[source]), int(periods[source])
            first, last = max(0, mark - period), min(len(self.sound), mark + period)
            grain = (
                even[source]
                * self.sound[first:last]
                * np.hanning(2 * period)[first - mark + period : last - mark + period]
            )
            place = len(lead) + round(at) - (mark - first)
            if place >= 0:
                out[place : place + len(grain)] += grain[: len(out) - place]
            at += RATE / float(hertz[min(count - 1, int(at))])
            done += 1
        return out, len(lead) + consonant


def _marks(sound: np.ndarray) -> np.ndarray:
    """Samples of the voice's periods."""
    size, hop = 1800, 220
    frames = range(0, len(sound) - size, hop)
    lags = np.arange(RATE // 420, RATE // 65)
    period = np.zeros(len(frames))
    loud = np.abs(sound).max() + 1e-9
    for i, begin in enumerate(frames):
        part = sound[begin : begin + size]
        if np.abs(part).max() < 0.12 * loud:
            continue
        likeness = np.array(
            [
                part[:-lag] @ part[lag:] / np.sqrt((part[:-lag] @ part[:-lag]) * (part[lag:] @ part[lag:]) + 1e-9)
                for lag in lags
            ]
        )
        best = float(likeness.max())
        if best > 0.75:
            # The first lag that is nearly as good: not twice the period.
            period[i] = lags[np.flatnonzero(likeness > best - 0.06)[0]]
    voiced = np.flatnonzero(period)
    if len(voiced) < 4:
        return np.zeros(0, int)
    first, last = int(voiced[0]) * hop, min(len(sound) - 1, int(voiced[-1]) * hop + size)
    typical = float(np.median(period[voiced]))
    # Half or twice the period is no period.
    sure = voiced[np.abs(np.log2(period[voiced] / typical)) < 0.5]
    known = np.interp(np.arange(len(frames)), sure, period[sure])
    marks = [first + int(np.argmax(sound[first : first + round(typical)]))]
    padded = np.pad(sound, size)
    while True:
        own = known[min(len(known) - 1, marks[-1] // hop)]
        nearest, farthest, half = round(0.8 * own), round(1.25 * own), round(0.6 * own)
        if marks[-1] + farthest >= last:
            return np.array(marks)
        # The place most like the last one: the strongest swing of each period may be another one.
        here = padded[size + marks[-1] - half : size + marks[-1] + half]
        ahead = np.lib.stride_tricks.sliding_window_view(
            padded[size + marks[-1] + nearest - half : size + marks[-1] + farthest + half], 2 * half
        )
        alike = ahead @ here / np.sqrt((ahead**2).sum(axis=1) * (here @ here) + 1e-12)
        marks.append(marks[-1] + nearest + int(np.argmax(alike)))


def sing(notes: Notes, speaker: str, random: np.random.Generator, say: Say) -> tuple[np.ndarray, Notes] | None:
    """The notes sung by a speaker, a syllable for each that does not follow the one before; None without its voice.

    Returns (n,) float32 at RATE, and the notes, which begin with their vowels
    """
    known: list[Syllable] = []
    for text in SYLLABLES:
        said = say(text, speaker)
        if said is not None and (one := Syllable(said)).sings:
            known.append(one)
    return sung(notes, known, random) if known else None


def sung(notes: Notes, known: list[Syllable], random: np.random.Generator) -> tuple[np.ndarray, Notes]:
    """The notes sung on these syllables: (n,) float32 at RATE, and the notes."""
    out = np.zeros(round((notes[-1][1] + 1.0) * RATE))
    vibrato, late, speed = (float(random.uniform(*each)) for each in ((0.0, 0.5), (0.1, 0.4), (4.5, 6.5)))
    tuned, i = float(random.uniform(-0.3, 0.3)), 0
    while i < len(notes):
        # Notes that follow each other without a gap share a syllable, as a melisma does.
        j = i + 1
        while j < len(notes) and notes[j][0] - notes[j - 1][1] < 0.02 and notes[j][2] != notes[j - 1][2]:
            j += 1
        tied = notes[i:j]
        begin, end = tied[0][0], tied[-1][1]
        seconds = np.arange(round((end - begin) * RATE)) / RATE + begin
        pitch = np.full(len(seconds), float(tied[0][2]))
        for start, _, number, _ in tied:
            since = seconds - start
            aim = number + vibrato * np.sin(2 * np.pi * speed * since) * np.clip((since - late) / 0.25, 0, 1)
            if start == begin:
                pitch = aim - float(random.uniform(0, 0.7)) * np.exp(-since / 0.04)
            else:
                share = np.clip((since + 0.02) / 0.05, 0, 1)
                pitch = np.where(since > -0.02, pitch * (1 - share) + aim * share, pitch)
        wander = np.interp(
            seconds, np.arange(begin, end + 0.3, 0.2), random.normal(0, 0.08, len(np.arange(begin, end + 0.3, 0.2)))
        )
        hertz = 440 * 2 ** ((pitch + wander + tuned - 69) / 12)
        sound, lead = known[int(random.integers(len(known)))].sung(hertz)
        sound = sound[: lead + len(hertz)]
        fade = min(len(sound) - lead, round(0.03 * RATE))
        sound[len(sound) - fade :] *= np.linspace(1, 0, fade)
        sound *= tied[0][3] / (np.abs(sound).max() + 1e-9)
        place = round(begin * RATE) - lead
        if place < 0:
            sound, place = sound[-place:], 0
        # Whoever says a consonant has ended the vowel before it.
        fade = min(place, round(0.015 * RATE))
        out[place - fade : place] *= np.linspace(1, 0, fade)
        out[place:] = 0
        out[place : place + len(sound)] += sound[: len(out) - place]
        i = j
    return np.asarray(0.7 * out / (np.abs(out).max() + 1e-9), np.float32), notes
