"""Rendering a session to audio files, faster than it plays: the mix, or a file per track, section or take."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, FileAccessError, PureSignalError, StoppedError
from puresignal.core.export import frozen, whole_session
from puresignal.core.export.playback_events import Score, score
from puresignal.core.export.session_result import SessionResult, SeveralTakes
from puresignal.core.export.song_builder import file_tracks
from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.session import playing_order, tempo_edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND, TakeRef
from puresignal.core.session.track_settings import Delivery
from puresignal.core.sound import drums
from puresignal.core.sound.mixer import Mixer, SampleBank
from puresignal.core.sound.sampled_kit import SampledKit
from puresignal.core.sound.time_stretch import TimeStretch
from puresignal.engine import outside_render
from puresignal.engine.outside_render import Returned
from puresignal.io import audio_file, file_access, ports, sample_kits, soundfont
from puresignal.translation import tr

MIX, TRACKS, SECTIONS, TAKES = "mix", "tracks", "sections", "takes"
PER = (MIX, TRACKS, SECTIONS, TAKES)
FORMATS = {
    "wav16": ("WAV", "PCM_16", ".wav"), "wav24": ("WAV", "PCM_24", ".wav"), "wav32f": ("WAV", "FLOAT", ".wav"),
    "flac": ("FLAC", "PCM_24", ".flac"), "ogg": ("OGG", "VORBIS", ".ogg"), "mp3": ("MP3", "MPEG_LAYER_III", ".mp3"),
}  # fmt: skip
RATES = (44_100, 48_000, 88_200, 96_000)
BLOCK = 2048
SILENT, TAIL_SECONDS = 10 ** (-80 / 20), 20.0
"""Level below which a tail has ended, and its longest length in seconds."""
FULL = 10 ** (-0.3 / 20)
"""Peak to which normalised files are raised: 0.3 dB below full scale."""
REAL_TIME_SHARE = 0.9
"""Part of the progress in which instruments outside play."""
PATTERN = "{session} - {name}"
LONGEST_NAME = 120


@dataclass(frozen=True)
class RenderJob:
    """The parts to render, and the settings.

    per        one of PER
    kind       one of FORMATS; rate: samples per second
    normalise  raise each file to 0.3 dB below full scale; a mix of several files then loses its balance
    dither     noise of one step in files of 16 bits, so that soft sound fades without distortion
    tail       let what sounds at the end fade out
    trim       leave out silence before the first sound
    bars       first and last bar; None: from the beginning to the end
    pattern    of file names: {session}, {name} and {number}
    through    program or device that the sound of instruments outside comes back from, who then play in real time;
               empty: the built-in sound stands in for them
    delay      seconds of the way through them, None: it is found
    only       keys of the tracks that are rendered, of a file per track; none: all of them
    """

    per: str = MIX
    kind: str = "wav24"
    rate: int = 48_000
    normalise: bool = False
    dither: bool = True
    tail: bool = True
    trim: bool = False
    bars: tuple[int, int] | None = None
    pattern: str = PATTERN
    only: tuple[str, ...] = ()
    through: str = ""
    delay: float | None = None


@dataclass(frozen=True)
class Part:
    """One file: its name, the takes in it, the one track of it (or None for all), and its first and last bar."""

    name: str
    number: int
    takes: tuple[str, ...]
    track: str | None = None
    bars: tuple[int, int] | None = None


@dataclass(frozen=True)
class Rendered:
    """A file that was written: its length and its peak, 0..1, before clipping; and what has to be said."""

    path: Path
    seconds: float
    peak: float
    warnings: tuple[str, ...] = ()


def parts(session: Session, takes: Mapping[str, Take], job: RenderJob) -> list[Part]:
    """The files that a job makes.

    Raises BadFileError if there is nothing to render
    """
    there = tuple(ref.ident for ref in session.takes if ref.is_in)
    if job.per == TAKES:
        found = [Part(ref.name, i, (ref.ident,), None, job.bars) for i, ref in enumerate(_in(session), 1)]
    elif job.per == SECTIONS:
        found = [
            Part(one.name, i, there, None, (one.bar, one.bar + one.bars - 1))
            for i, one in enumerate(playing_order.by_bar(session), 1)
        ]
    elif job.per == TRACKS:
        made = _together(session, takes, there)
        rows = file_tracks(made.outcome, whole_session.delivery_of(session))
        found = [
            Part(row.title, i, there, row.track.key, job.bars)
            for i, row in enumerate(rows, 1)
            if row.out and (not job.only or row.track.key in job.only)
        ]
        found += (
            []
            if job.only
            else [
                Part(ref.name, len(found) + i, (ref.ident,), None, job.bars)
                for i, ref in enumerate((ref for ref in _in(session) if ref.kind == SOUND), 1)
            ]
        )
    else:
        found = [Part(tr("mix"), 1, there, None, job.bars)] if there else []
    if not found:
        raise BadFileError(
            tr("There is nothing to render"), session.name,
            tr("Make sections in Takes first.") if job.per == SECTIONS else tr("Switch a take in."),
        )  # fmt: skip
    return found


def names(session: Session, found: list[Part], job: RenderJob) -> list[str]:
    """File names by the pattern, all different."""
    ending, used, made = FORMATS[job.kind][2], set[str](), []
    for part in found:
        values = {"session": session.name, "name": part.name, "number": f"{part.number:02d}"}
        text = re.sub(r"\{(session|name|number)\}", lambda m, v=values: v[m[1]], job.pattern)  # type: ignore[misc]
        plain = re.sub(r'[\x00-\x1f/\\:*?"<>|]+', "-", text).strip(" .-")[:LONGEST_NAME] or "sound"
        name, number = plain, 2
        while name.casefold() in used:
            name, number = f"{plain} {number}", number + 1
        used.add(name.casefold())
        made.append(name + ending)
    return made


class Renderer:
    """Renders the files of one job; what they have in common is worked out once."""

    def __init__(self, session: Session, takes: Mapping[str, Take], job: RenderJob):
        self.session, self.takes, self.job = session, takes, job
        self._made: dict[tuple[str, ...], SeveralTakes] = {}
        self.notices: tuple[str, ...] = ()
        self._returned: tuple[Part, Returned] | None = None
        kit: drums.Kit | SampledKit | None = next((kit for kit in drums.KITS if kit.name == session.sound.kit), None)
        if kit is None:
            try:
                kit = sample_kits.load(session.sound.kit, job.rate)
            except PureSignalError as error:
                kit, self.notices = drums.KITS[0], (str(error),)
        self._bank = SampleBank(job.rate, kit, dict(session.sound.drums))
        pads = session.target.pads if session.target is not None else ()
        self._bank.prepare(dict.fromkeys(pad.articulation for pad in pads))

    def made(self, idents: tuple[str, ...]) -> SeveralTakes:
        """Takes together."""
        if idents not in self._made:
            self._made[idents] = _together(self.session, self.takes, idents)
        return self._made[idents]

    def mixer(self, delivery: Delivery) -> Mixer:
        """The built-in sound as the session sets it up."""
        mixer = Mixer(self._bank, self.session.target)
        mixer.level = self.session.sound.level
        mixer.mute({drum_of(name) for name in self._bank.layers if not delivery.heard(drum_of(name))})
        return mixer

    def returned(
        self, part: Part, made: Score, outputs: tuple[str, ...], span: tuple[float, float],
        progress: Callable[[float], bool],
    ) -> Returned:  # fmt: skip
        """The sound that comes back from the instruments outside for a part; they play it once only."""
        if self._returned is None or self._returned[0] != part:
            job = self.job
            found = outside_render.record(made, outputs, job.through, span, job.delay, job.tail, progress)
            samples = found.samples
            if found.rate != job.rate and samples.shape[1]:
                import soxr

                samples = np.ascontiguousarray(soxr.resample(samples.T, found.rate, job.rate).T, np.float32)
            self._returned = part, replace(found, samples=samples)
        return self._returned[1]

    def render(self, part: Part, target: Path, progress: Callable[[float], bool] | None = None) -> Rendered:
        """Write one file (see render)."""
        return _render(self, part, target, progress)


def render(
    session: Session, takes: Mapping[str, Take], part: Part, job: RenderJob, target: Path,
    progress: Callable[[float], bool] | None = None,
) -> Rendered:  # fmt: skip
    """Write one file; it is there completely, or not at all.

    progress  told the part that is done, 0..1; False stops it
    Raises    FileAccessError, BadFileError, StoppedError
    """
    return _render(Renderer(session, takes, job), part, target, progress)


def _render(renderer: Renderer, part: Part, target: Path, progress: Callable[[float], bool] | None) -> Rendered:
    import soundfile

    job = renderer.job

    def played(part_done: float) -> bool:
        return progress is None or progress(REAL_TIME_SHARE * part_done)

    sound = _Sound(renderer, part, played)
    form, subtype, _ = FORMATS[job.kind]
    beside = target.with_name(f".{target.name[:200]}.part")
    total = max(1, sound.count)
    random = np.random.default_rng(0)
    gain = 1.0
    begun = REAL_TIME_SHARE if sound.returned is not None else 0.0
    done, share = begun, (1 - begun) * (0.5 if job.normalise else 1.0)

    def tell(part_done: float) -> None:
        if progress is not None and not progress(min(1.0, done + share * part_done)):
            raise StoppedError

    try:
        if job.normalise:
            peak = max((float(np.abs(block).max(initial=0.0)) for block in _told(sound, total, tell)), default=0.0)
            gain = FULL / peak if peak > 0 else 1.0
            done, sound = begun + share, _Sound(renderer, part, played)
        written, peak = 0, 0.0
        with beside.open("w+b") as raw, soundfile.SoundFile(raw, "w", job.rate, 2, subtype, format=form) as out:
            for block in _told(sound, total, tell):
                block = block * gain
                peak = max(peak, float(np.abs(block).max(initial=0.0)))
                if subtype == "PCM_16" and job.dither:
                    # Triangular noise of two steps, as usual before 16 bits.
                    block = block + (random.random(block.shape) - random.random(block.shape)) / 32768
                out.write(np.clip(block, -1.0, 1.0).T if subtype != "FLOAT" else block.T)
                written += block.shape[1]
        beside.replace(target)
    except OSError as error:
        raise file_access.access_error(error, target, "write") from error
    except soundfile.LibsndfileError as error:
        raise _no_room(beside, target, error) from error
    finally:
        with contextlib.suppress(OSError):
            beside.unlink(missing_ok=True)
    return Rendered(target, written / job.rate, peak, tuple(sound.warnings))


def _no_room(beside: Path, target: Path, error: Exception) -> PureSignalError:
    """The library says only that writing failed: what the system says of the folder tells why."""
    try:
        with beside.with_name(beside.name + "2").open("wb") as probe:
            probe.write(b"\0" * 65536)
        beside.with_name(beside.name + "2").unlink()
    except OSError as why:
        with contextlib.suppress(OSError):
            beside.with_name(beside.name + "2").unlink(missing_ok=True)
        return file_access.access_error(why, target, "write")
    return FileAccessError(tr("This file could not be written"), str(target), str(error))


def _told(sound: _Sound, total: int, tell: Callable[[float], None]) -> Iterator[np.ndarray]:
    done = 0
    for block in sound.blocks():
        tell(done / total)
        yield block
        done += block.shape[1]
    tell(1.0)


def _in(session: Session) -> tuple[TakeRef, ...]:
    return tuple(ref for ref in session.takes if ref.is_in)


def _together(session: Session, takes: Mapping[str, Take], idents: tuple[str, ...]) -> SeveralTakes:
    refs = tuple(ref for ref in session.takes if ref.ident in idents)
    return SessionResult().together(session, refs, takes)


class _Along:
    """A recording that plays along: at its own speed, or along the beats."""

    def __init__(self, path: str, rate: int, begin: float, level: float, bent: list[list[float]] | None):
        read = audio_file.read(Path(path), rate)
        self._samples = np.ascontiguousarray(read[:, [0, min(1, read.shape[1] - 1)]].T)
        self._rate, self._begin, self._gain = rate, begin, 10 ** (level / 20)
        self._bent = None if bent is None else (np.array(bent[0]), np.array(bent[1]))
        self._stretch = TimeStretch(self._samples, rate)

    @property
    def end(self) -> float:
        own: float = self._samples.shape[1] / self._rate
        if self._bent is None:
            return self._begin + own
        return self._begin + float(np.interp(own, self._bent[1], self._bent[0]))

    def add_to(self, block: np.ndarray, second: float, level: float) -> None:
        """Add the part from a second on."""
        count, own, speed = block.shape[1], second - self._begin, 1.0
        if self._bent is not None:
            own, speed = tempo_edits.bent_at(*self._bent, own)
        if abs(speed - 1) > 1e-3:
            block += level * self._gain * self._stretch.block(own * self._rate, count, speed)
            return
        place = round(own * self._rate)
        first, last = max(0, place), min(self._samples.shape[1], place + count)
        if last > first:
            block[:, first - place : last - place] += level * self._gain * self._samples[:, first:last]


class _Sound:
    """Everything that sounds in one file, block by block."""

    def __init__(self, renderer: Renderer, part: Part, played: Callable[[float], bool]):
        """played: told the part that instruments outside have played; False stops them"""
        session, takes, job = renderer.session, renderer.takes, renderer.job
        self._job = job
        self.warnings: list[str] = [*renderer.notices]
        made = renderer.made(part.takes)
        outcome = made.outcome
        keys = [track.key for track in outcome.tracks]
        delivery = whole_session.delivery_of(session, keys)
        delivery = whole_session.played_back_by(session, delivery, keys, ports.SOUND)
        outside = sorted({t.port for t in delivery.tracks if t.port not in (ports.SOUND, ports.FONT)} & self._used(
            outcome, delivery, part.track))  # fmt: skip
        beyond: Score | None = None
        if outside and job.through:
            mine = frozen.solo(delivery, part.track)
            beyond = score(outcome, mine, tuple(outside), ports.SOUND)
            gone = tuple(replace(t, out=t.out and t.port not in outside) for t in delivery.tracks)
            delivery = replace(delivery, tracks=gone)
        elif outside:
            self.warnings.append(
                tr("The built-in sound stands in for {ports}, which can only be rendered while they play.").format(
                    ports=", ".join(outside)
                )
            )
        outputs = (ports.SOUND, ports.FONT)
        delivery = frozen.alone(delivery, part.track, outputs)
        self._score: Score = score(outcome, delivery, outputs, ports.SOUND)
        self._level = session.sound.level
        self._mixer = renderer.mixer(delivery)
        self._font: Any = self._made_font(session, job.rate)
        self._along = [] if part.track is not None else self._recordings(session, takes, part, made)
        lasts = [float(one.at[-1]) for one in (self._score, beyond) if one is not None and len(one.at)]
        last = max(lasts, default=0.0)
        self._begin, self._end = 0.0, max([last, *(one.end for one in self._along)])
        if part.bars is not None:
            first, after = (made.timeline.bar_to_beats(bar) for bar in (part.bars[0], part.bars[1] + 1))
            self._begin, self._end = made.second_of(first), made.second_of(after)
        elif job.trim:
            sounds = []
            for one in (self._score, beyond):
                starts = [] if one is None else one.at[(one.data[:, 1] & 0xF0) == messages.NOTE_ON]
                sounds += [float(starts[0])] if len(starts) else []
            self._begin = max(0.0, min([*sounds, *(one._begin for one in self._along)], default=0.0))
        self.count = max(0, round((self._end - self._begin) * job.rate))
        self.returned: np.ndarray | None = None
        if beyond is not None:
            back = renderer.returned(part, beyond, tuple(outside), (self._begin, self._end), played)
            self.returned = back.samples
            self.warnings += back.warnings

    @staticmethod
    def _used(outcome: Any, delivery: Any, track: str | None) -> set[str]:
        """The ports of the tracks that are rendered."""
        rows = file_tracks(outcome, delivery)
        return {row.settings.port for row in rows if row.out and (track is None or row.track.key == track)}

    def _made_font(self, session: Session, rate: int) -> Any:
        if not session.sound.font or not bool((self._score.data[:, 0] == 1).any()):
            return None
        try:
            return soundfont.Font(Path(session.sound.font), rate)
        except PureSignalError as error:
            self.warnings.append(str(error))
            return None

    def _recordings(
        self, session: Session, takes: Mapping[str, Take], part: Part, made: SeveralTakes
    ) -> list[_Along]:  # fmt: skip
        found = []
        for ref in session.takes:
            if ref.kind != SOUND or ref.sound is None or ref.ident not in part.takes:
                continue
            try:
                bent = None
                if ref.grid is not None and ref.follows_beats:
                    placed = whole_session.placed_take(session, ref, takes, made.timeline)
                    bent = tempo_edits.bend(placed, made.timeline, audio_file.seconds_of(Path(ref.sound.path)))
                begin = ref.sound.offset + made.second_of(ref.beat)
                found.append(_Along(ref.sound.path, self._job.rate, begin, ref.sound.level, bent))
            except PureSignalError as error:
                self.warnings.append(str(error))
        return found

    def blocks(self) -> Iterator[np.ndarray]:
        """(2, n) float32 in turn, the tail last."""
        for output, message in self._score.first:
            self._play(0, [(0, message)], output)
        at, data = self._score.at, self._score.data
        # What began before the first bar that is wanted sounds on into it.
        before = int(np.searchsorted(at, self._begin - 1e-9))
        for i in range(before):
            if data[i, 1] & 0xF0 in (messages.CONTROL, messages.PROGRAM, messages.BEND):
                self._obey(0, i)
        place, row, rate = 0, before, self._job.rate
        while place < self.count:
            count = min(BLOCK, self.count - place)
            until = self._begin + (place + count) / rate
            rows = []
            while row < len(at) and at[row] < until:
                rows.append(row)
                row += 1
            yield self._block(count, rows, place)
            place += count
        if not self._job.tail:
            return
        # Everything still held ends here, so that its tail is one.
        rest, quiet = [], 0
        for i in range(row, len(at)):
            if data[i, 1] & 0xF0 == messages.NOTE_OFF:
                rest.append(i)
        for n in range(round(TAIL_SECONDS * rate / BLOCK)):
            block = self._block(BLOCK, rest if not n else [], place, along=False)
            place += BLOCK
            quiet = quiet + 1 if float(np.abs(block).max()) < SILENT else 0
            if quiet >= 4 and (self.returned is None or place >= self.returned.shape[1]):
                return
            yield block

    def _obey(self, offset: int, row: int) -> None:
        self._play(0, [(offset, self._message(row))], int(self._score.data[row, 0]))

    def _message(self, row: int) -> bytes:
        _, status, first, second = self._score.data[row].tolist()
        return bytes((status, first, second))[: messages.length(status)]

    def _play(self, count: int, sent: list[tuple[int, bytes]], output: int) -> None:
        if output == 0:
            self._mixer.render(count, sent)
        elif self._font is not None:
            self._font.render(count, sent)

    def _block(self, count: int, rows: list[int], place: int, along: bool = True) -> np.ndarray:
        rate, at, data = self._job.rate, self._score.at, self._score.data
        mine: list[tuple[int, bytes]] = []
        fonts: list[tuple[int, bytes]] = []
        for row in rows:
            offset = min(count - 1, max(0, round((at[row] - self._begin) * rate) - place))
            (mine if data[row, 0] == 0 else fonts).append((offset, self._message(row)))
        if not mine and not self._mixer.sounding():
            block = np.zeros((2, count), np.float32)
        else:
            block = self._mixer.render(count, mine)
        if self._font is not None:
            block += self._level * self._font.render(count, fonts)
        if self.returned is not None:
            back = self.returned[:, place : place + count]
            block[:, : back.shape[1]] += back
        if along:
            for one in self._along:
                one.add_to(block, self._begin + place / rate, self._level)
        return np.asarray(np.clip(block, -1.0, 1.0))
