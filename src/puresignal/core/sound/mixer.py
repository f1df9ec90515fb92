"""The built-in sound at run time: messages in, stereo blocks out. The same code plays live and renders to an array.

Drums are precomputed strokes (drums.py), mixed by one matrix product per block; pitched notes are computed as they
sound (tones.py).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from puresignal.core.kit.articulations import canonical, drum_of
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.sound import drums, tones
from puresignal.core.sound.drums import Drum, Kit
from puresignal.core.sound.sampled_kit import SampledKit

MOST = 96
"""Drum strokes that sound at once; the oldest is cut."""
CHOKE_SECONDS, CUT_SECONDS = 0.035, 0.006
"""Seconds of the fade after a choke, and after a stroke is replaced by another."""
CHOKE_PRESSURE = 64


class SampleBank:
    """Strokes ready for mixing: layers for each articulation of one kit.

    rate     samples per second
    kit      computed, or recorded: what a recorded one lacks is that of the first computed kit
    layers   by articulation: recordings that take turns, for each loudness from soft to hard
    """

    def __init__(self, rate: int, kit: Kit | SampledKit = drums.KITS[0], settings: Mapping[str, Drum] | None = None):
        self.rate, self.kit = rate, kit
        self.settings = dict(settings or {})
        self.layers: dict[str, list[list[np.ndarray]]] = {}

    def drum(self, articulation: str) -> Drum:
        """The settings of the drum of an articulation."""
        return self.settings.get(drum_of(articulation), drums.usual(articulation))

    def prepare(self, articulations: Iterable[str]) -> None:
        """Compute missing strokes, some tens of milliseconds each."""
        for articulation in articulations:
            name = canonical(articulation)
            if name not in self.layers:
                self.layers[name] = self._made(name)

    def _made(self, name: str) -> list[list[np.ndarray]]:
        kit, drum = self.kit, self.drum(name)
        if isinstance(kit, SampledKit):
            recorded = kit.layers(name, drum, self.rate)
            if recorded:
                return recorded
            kit = drums.KITS[0]
        return [[one] for one in drums.render(name, kit, drum, self.rate)]

    def stroke(self, name: str, velocity: float, turn: int) -> np.ndarray | None:
        """The samples of one stroke, None if it was not prepared. turn: number of the stroke on this articulation"""
        layers = self.layers.get(name)
        if layers is None:
            return None
        layer = layers[drums.layer_of(velocity, len(layers))]
        return layer[turn % len(layer)]

    def take_over(self, other: SampleBank) -> None:
        """Reuse strokes of another bank that would be computed alike."""
        if (other.rate, other.kit) != (self.rate, self.kit):
            return
        for name, layers in other.layers.items():
            a, b = self.drum(name), other.drum(name)
            if (a.tune, a.damping) == (b.tune, b.damping):
                self.layers[name] = layers


class Mixer:
    """The mixer.

    overs  blocks in which the limiter worked
    """

    def __init__(self, bank: SampleBank, note_map: NoteMap | None = None):
        """note_map: which note is which drum; other notes are pitched."""
        self.rate = bank.rate
        self.level = 0.7
        self.overs = 0
        self._fast_cut = max(1, round(CUT_SECONDS * bank.rate))
        self._choke = max(1, round(CHOKE_SECONDS * bank.rate))
        self._strokes: list[_Stroke] = []
        self._turns: dict[str, int] = {}
        self._voices = tones.Voices(bank.rate)
        self._tone_of_channel = [0] * 16
        self._volume = [1.0] * 16
        self._muted: frozenset[str] = frozenset()
        self._table: dict[int, str] = {}
        self._spoken: set[int] = set()
        self._gather = np.zeros((MOST, 0), np.float32)
        self._gains = np.zeros((2, MOST), np.float32)
        self._bank = bank
        self.use(bank, note_map)

    def use(self, bank: SampleBank, note_map: NoteMap | None) -> None:
        """Use another bank or map from the next stroke on; what sounds continues."""
        table: dict[int, str] = {}
        spoken: set[int] = set()
        for pad in reversed(note_map.pads if note_map is not None else ()):
            channel = note_map.channel_of(pad) if note_map is not None else None
            for one in range(16) if channel is None else (channel - 1,):
                spoken.add(one)
                for note in (pad.note, *pad.also):
                    table[one * 128 + note] = canonical(pad.articulation)
        self._bank, self._table, self._spoken = bank, table, spoken

    def mute(self, names: Iterable[str]) -> None:
        """Mute drums (`snare`); their strokes keep running, so that unmuting resumes in the middle."""
        self._muted = frozenset(names)

    def sounding(self) -> int:
        """Number of sounding strokes and notes."""
        return len(self._strokes) + self._voices.sounding()

    def silence(self) -> None:
        """Fade everything out at once."""
        for stroke in self._strokes:
            stroke.fade(self._fast_cut)
        self._voices.end_all()

    def render(self, count: int, messages: Iterable[tuple[int, bytes]]) -> np.ndarray:
        """The next block, (2, count) float32 within -1..1.

        messages  (offset in the block, MIDI message), rising by offset
        """
        for offset, message in messages:
            self._obey(offset, message)
        out = np.zeros((2, count), np.float32)
        if self._strokes:
            self._mix_strokes(out)
        self._voices.add_to(out)
        out *= self.level
        peak = float(np.abs(out).max()) if count else 0.0
        if peak > LIMIT_FROM:
            self.overs += 1
            _limit(out)
        return out

    def _obey(self, offset: int, message: bytes) -> None:
        if len(message) < 2:
            return
        kind, channel = message[0] & messages.KIND, message[0] & messages.CHANNEL
        first, second = message[1], message[2] if len(message) > 2 else 0
        if kind == messages.NOTE_ON and second:
            self._begin(offset, channel, first, second)
        elif kind in (messages.NOTE_OFF, messages.NOTE_ON):
            if channel not in self._spoken:
                self._voices.end(channel, first, offset)
        elif kind == messages.POLY_PRESSURE and second >= CHOKE_PRESSURE:
            name = self._table.get(channel * 128 + first)
            if name is not None:
                self._end_drum(drum_of(name), self._choke, offset)
        elif kind == messages.CONTROL and first == messages.VOLUME:
            self._volume[channel] = (second / 100) ** 2
        elif kind == messages.CONTROL and first in (messages.ALL_SOUND_OFF, messages.ALL_NOTES_OFF):
            self._voices.end_all(channel)
            if first == messages.ALL_SOUND_OFF and channel in self._spoken:
                for stroke in self._strokes:
                    stroke.fade(self._fast_cut, offset)
        elif kind == messages.PROGRAM:
            self._tone_of_channel[channel] = tones.tone_of(first)
        elif kind == messages.BEND:
            self._voices.bend(channel, messages.bend_amount(first, second) / 4096)

    def _begin(self, offset: int, channel: int, note: int, velocity: int) -> None:
        name = self._table.get(channel * 128 + note)
        if name is None:
            if channel not in self._spoken:
                self._voices.start(
                    channel, note, velocity, self._tone_of_channel[channel], offset, self._volume[channel]
                )
            return
        turn = self._turns.get(name, 0)
        samples = self._bank.stroke(name, velocity, turn)
        if samples is None:
            return
        self._turns[name] = turn + 1
        drum = self._bank.drum(name)
        if drum_of(name) == "hat":
            # One pair of cymbals: each stroke ends the one before.
            self._end_drum("hat", self._fast_cut, offset)
        if len(self._strokes) >= MOST:
            del self._strokes[0]
        gain = drums.gain_of(velocity) * 10 ** (drum.level / 20) * self._volume[channel]
        left, right = np.sqrt(0.5 - 0.5 * drum.place), np.sqrt(0.5 + 0.5 * drum.place)
        self._strokes.append(_Stroke(samples, float(gain * left), float(gain * right), offset, drum_of(name)))

    def _end_drum(self, drum: str, samples: int, offset: int) -> None:
        for stroke in self._strokes:
            if stroke.drum == drum:
                stroke.fade(samples, offset)

    def _mix_strokes(self, out: np.ndarray) -> None:
        count = out.shape[1]
        if self._gather.shape[1] != count:
            self._gather = np.zeros((MOST, count), np.float32)
        gather, gains, muted = self._gather, self._gains, self._muted
        left = []
        for i, stroke in enumerate(self._strokes):
            heard = stroke.drum not in muted
            gains[0, i], gains[1, i] = (stroke.left, stroke.right) if heard else (0.0, 0.0)
            if stroke.read(gather[i]):
                left.append(stroke)
        used = len(self._strokes)
        out += gains[:, :used] @ gather[:used]
        self._strokes = left


class _Stroke:
    """A sounding stroke: its position and fade."""

    __slots__ = ("_at", "_fade_at", "_fade_from", "_samples", "_wait", "drum", "left", "right")

    def __init__(self, samples: np.ndarray, left: float, right: float, offset: int, drum: str) -> None:
        self._samples, self._at, self._wait = samples, 0, offset
        self._fade_from, self._fade_at = -1, 0
        self.left, self.right, self.drum = left, right, drum

    def fade(self, samples: int, offset: int = 0) -> None:
        """Fade out within this many samples, starting `offset` samples into the next block."""
        begin = max(0, self._at + offset - self._wait)
        end = begin + samples
        if self._fade_from < 0 or end < self._fade_at:
            self._fade_from, self._fade_at = begin, end

    def read(self, into: np.ndarray) -> bool:
        """Read the next samples. Returns whether more follow."""
        count, wait = len(into), self._wait
        if not wait and self._fade_from < 0:
            end = self._at + count
            if end <= len(self._samples):
                into[:] = self._samples[self._at : end]
                self._at = end
                return end < len(self._samples)
        if wait:
            into[:wait] = 0
            self._wait = 0
        end = self._at + count - wait
        part = self._samples[self._at : end]
        into[wait : wait + len(part)] = part
        into[wait + len(part) :] = 0
        if self._fade_from >= 0 and end > self._fade_from:
            places = np.arange(self._at, end)
            span = max(1, self._fade_at - self._fade_from)
            into[wait:] *= np.clip((self._fade_at - places) / span, 0.0, 1.0).astype(np.float32)
        self._at = end
        return end < len(self._samples) and not (self._fade_from >= 0 and end >= self._fade_at)


LIMIT_FROM = 0.7
"""Level up to which sound passes unchanged; above, it is compressed and never reaches full scale."""


def _limit(out: np.ndarray) -> None:
    over = np.abs(out) > LIMIT_FROM
    loud = out[over]
    room = 1 - LIMIT_FROM
    out[over] = np.sign(loud) * (LIMIT_FROM + room * np.tanh((np.abs(loud) - LIMIT_FROM) / room) * 0.999)


def render_song(messages: Iterable[tuple[float, bytes]], seconds: float, mixer: Mixer, block: int = 512) -> np.ndarray:
    """Render a whole performance to (2, samples) float32.

    messages  (seconds, MIDI message), rising
    seconds   length of the result
    """
    total = round(seconds * mixer.rate)
    waiting = list(messages)
    place, parts = 0, []
    for begin in range(0, total, block):
        count = min(block, total - begin)
        here = []
        while place < len(waiting) and round(waiting[place][0] * mixer.rate) < begin + count:
            here.append((max(0, round(waiting[place][0] * mixer.rate) - begin), waiting[place][1]))
            place += 1
        parts.append(mixer.render(count, here))
    return np.concatenate(parts, axis=1) if parts else np.zeros((2, 0), np.float32)
