"""`pure-signal record`: records MIDI ports to a click, as takes of a session or as a clean MIDI file."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.commands import clean
from puresignal.core.errors import FileAccessError
from puresignal.core.export import transport_score, whole_session
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.path.cleaning_path import CleaningPath, with_faults, with_unmapped
from puresignal.core.session import recorded
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import Begun, Layout, Move
from puresignal.core.session.recording import (
    AFTER_COUNT_IN,
    AT_ONCE,
    NEVER,
    RECORDING,
    ClickSettings,
    RecordingSettings,
)
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing import click_beats as click
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.engine import pulse
from puresignal.engine.client import RouterProcess
from puresignal.engine.process_clients import PlayerProcess, SoundProcess
from puresignal.engine.session_setup import setup_of, sound_settings
from puresignal.io import (
    file_access,
    midi_writer,
    note_map_file,
    ports,
    recorded_takes,
    report,
    session_file,
    xdg_folders,
)
from puresignal.io.preferences import SoundOut
from puresignal.io.recorded_takes import Message
from puresignal.io.session_json import input_json, timeline_json
from puresignal.translation import tr

SESSION_ENDING, MIDI_ENDINGS = ".puresignal", (".mid", ".midi")
SOUND, NONE = "sound", "none"
AFTERWARDS = 0.35
"""Seconds after the stop in which ends of notes, and the transport's last moves, are still read."""
MOST_HOURS = 12
"""The click is made for so long; a recording goes on after it."""


@dataclass(frozen=True)
class Options:
    """The wishes for a recording.

    inputs   ports by name, or by a part of it
    bars     bars after which it ends, or the loop's length; None: until it is stopped
    click    SOUND, NONE or the name of a port
    source   note map of what is played; None: found from the hits
    raw      the MIDI file gets what arrived, neither mapped nor cleaned
    """

    inputs: tuple[str, ...]
    bpm: float = 120.0
    meter: tuple[int, int] = (4, 4)
    count_in: int = 1
    bars: int | None = None
    loop: bool = False
    click: str = SOUND
    source: NoteMap | None = None
    target: NoteMap | None = None
    path: CleaningPath = field(default_factory=CleaningPath)
    raw: bool = False


@dataclass(frozen=True)
class Done:
    """The files written: sums of the tally, names of the takes, number of passes."""

    target: Path
    names: tuple[str, ...]
    passes: int
    sums: dict[str, Any]


def target_of(out: str, force: bool) -> Path:
    """The file to write: a folder gets one named by the day and time. Raises FileAccessError"""
    path = Path(out)
    if out.endswith("/") or path.is_dir():
        clean.make_folder(path)
        path = path / (tr("Recorded {when}").format(when=time.strftime("%Y-%m-%d %H-%M-%S")) + SESSION_ENDING)
    if path.suffix.lower() not in (SESSION_ENDING, *MIDI_ENDINGS):
        raise FileAccessError(
            tr("Neither a session nor a MIDI file"), str(path), tr("Give a name that ends in .puresignal or .mid.")
        )
    if path.exists() and not force:
        raise FileAccessError(tr("This file exists already"), str(path), tr("Give another name, or add --force."))
    clean.check_folder(path.parent, False)
    return path


def session_for(options: Options) -> Session:
    """The session that is recorded into, without its takes."""
    clicks = ClickSettings(NEVER) if options.click == NONE else ClickSettings(RECORDING)
    if options.click not in (NONE, SOUND):
        clicks = replace(clicks, sounds=False, port=options.click)
    start = AFTER_COUNT_IN if options.count_in else AT_ONCE
    inputs = tuple(LiveInput(port, source=options.source) for port in options.inputs)
    session = Session(
        target=options.target, path=options.path,
        recording=RecordingSettings(start=start, count_in=options.count_in or 1, click=clicks),
    )  # fmt: skip
    numerator, denominator = options.meter
    timeline = Timeline((TempoPoint(0.0, options.bpm, False),), (MeterPoint(1, numerator, denominator),))
    return edits.with_timeline(edits.with_inputs(session, inputs), timeline)


class Recording:
    """A recording from its count-in to its stop, on the program's own router and player.

    told  says something to the player, one line
    """

    def __init__(self, options: Options, told: Callable[[str], None]):
        self._options, self._told = options, told
        self.session = session_for(options)
        assert self.session.timeline is not None
        self.timeline = self.session.timeline
        clicks = self.session.recording.click
        to = () if clicks.when == NEVER else (clicks.port or ports.CLICK,)
        self._setup = setup_of(self.session, played_to=to)
        self._folder = xdg_folders.state() / "journal" / os.urandom(6).hex()
        self._router = RouterProcess(self._setup, self._folder)
        self._player = PlayerProcess(self._router)
        self._sound: SoundProcess | None = None
        if ports.CLICK in self._setup.outputs:
            self._sound = SoundProcess(self._router, self._player)
            self._sound.tell(**sound_settings(self.session, self._setup.outputs, SoundOut()))
        self.messages: list[Message] = []
        self._moves: list[Move] = []
        self._names = list(self._setup.inputs)
        self._begun = Begun(0.0, 0.0, self.session.recording.start)
        self._said: set[str] = set()

    def wait(self, stopped: Callable[[], bool]) -> bool:
        """Wait until all ports are there, saying for which. Returns False if it was stopped before."""
        state: dict[str, Any] | None = None
        while not stopped():
            state = self._router.read(0.1) or state
            self._read()
            if state is None:
                continue
            found = state["inputs"]
            self._names = [here or name for here, name in zip(found, self._setup.inputs, strict=True)]
            missing = [name for here, name in zip(found, self._setup.inputs, strict=True) if not here]
            # Every port may be there without the one server that most ports belong to.
            lines = [tr("waiting for a port called {name!r} ({what})", name=one, what="input") for one in missing]
            if missing and not state["server"]:
                lines.insert(0, tr("waiting for the JACK server"))
            for line in lines:
                if line not in self._said:
                    self._said.add(line)
                    self._told(line)
            # Nothing is played yet that could get lost: what writes it down is up first.
            if not missing and self._router.pulses.beats(pulse.RECORDER):
                for name in self._names:
                    self._told(f"input: {name}")  # not shown
                return True
        return False

    def start(self) -> None:
        """Begin the count-in, or to record at once."""
        options, clicks = self._options, self.session.recording.click
        first = click.before(self.timeline, 0.0, options.count_in) if options.count_in else 0.0
        self._read()
        self.messages = []
        self._begun = replace(self._begun, pressed=self._router.now())
        self._player.note(self._noted())
        end = self._loop_end() if options.loop else MOST_HOURS * 60 * options.bpm
        score = transport_score.NOTHING
        if clicks.when != NEVER:
            score = transport_score.click_score(self.timeline, 0.0, first, end, clicks, (len(self._setup.outputs) - 1,))
            score = transport_score.merged(score)
        self._player.use(score.at, score.data)
        begin, loop_end = self.timeline.beats_to_seconds(np.array([first, self._loop_end()])).tolist()
        self._player.loop((0.0, loop_end) if options.loop else None)
        self._player.play(begin, [], endless=True)

    def _loop_end(self) -> float:
        bars = self._options.bars or 1
        return self.timeline.bar_to_beats(bars + 1)

    def _noted(self) -> dict[str, Any]:
        """The note that a killed recording is rebuilt from."""
        return {
            "record": 0.0, "pressed": self._begun.pressed, "start": self._begun.start, "early": self._begun.early,
            "by_hand": False, "pre_roll": False, "timeline": timeline_json(self.timeline), "delay": 0.0,
            "inputs": [input_json(replace(one, source=None)) for one in self.session.inputs],
            "knew_time": self._knew_time, "only_last": False,
        }  # fmt: skip

    @property
    def _knew_time(self) -> bool:
        return self.session.recording.click.when != NEVER

    def run(self, stopped: Callable[[], bool], progress: Callable[[str], None] | None = None) -> None:
        """Record until it is stopped, or its bars are over."""
        end = float(self.timeline.beats_to_seconds(np.array([self._loop_end()]))[0])
        restarts = 0
        while not stopped():
            self._router.read(0.05)
            self._player.watch()
            if self._sound is not None:
                self._sound.read()
            if self._router.restarts != restarts:
                restarts = self._router.restarts
                self._told(tr("the router died and was restarted; what was played is still recorded"))
            self._read()
            at = self._player.position()
            if progress is not None and at is not None:
                progress(self._place(at))
            if self._options.bars and not self._options.loop and at is not None and at >= end:
                break

    def _place(self, seconds: float) -> str:
        beat = float(self.timeline.seconds_to_beats(np.array([seconds]))[0])
        bar, into = self.timeline.beats_to_bar(beat + 1e-6)
        notes = sum(messages.is_note_on(data) for _, _, data in self.messages[-2000:])
        where = tr("count-in") if beat < 0 else tr("bar {bar}.{beat}", bar=bar, beat=int(into) + 1)
        return tr("{where}, {notes} notes", where=where, notes=notes)

    def _read(self) -> None:
        for record in self._router.arrived.read():
            if record.port < len(self._names):
                self.messages.append((record.at, self._names[record.port], record.data))
        for record in self._router.moved.read():
            what = json.loads(record.data)
            kind = what.get("move")
            if kind is not None:
                if kind == recorded.PLAY:
                    self._moves = []
                beat = float(self.timeline.seconds_to_beats(np.array([what["seconds"]]))[0])
                self._moves.append(Move(record.at, kind, beat, float(what["speed"])))

    def end(self) -> tuple[Session, dict[str, Any]]:
        """Stop, and make the session: (session, its takes by ident)."""
        stop = self._router.now()
        self._player.stop()
        self._player.note({"record_end": stop})
        until = time.monotonic() + AFTERWARDS
        while time.monotonic() < until:
            self._router.read(0.05)
            self._read()
        layout = recorded.layout_of(self._begun, self._moves, self.timeline, stop)
        return self._with_takes(layout)

    def _with_takes(self, layout: Layout | None) -> tuple[Session, dict[str, Any]]:
        inputs = tuple(replace(one, port=name) for one, name in zip(self.session.inputs, self._names, strict=True))
        session = edits.with_inputs(self.session, inputs)
        if layout is None:
            return session, {}
        idents = [f"take{n + 1}" for n in range(len(inputs))]
        general = note_map_file.shipped("general-midi")
        takes = {}
        for one in recorded_takes.takes_of(self.messages, layout, session.inputs, idents, 1):
            source = self._options.source or clean.likely_map(one.take, general)
            ref = TakeRef(
                one.take.ident, one.take.name, source, beat=one.beat, input=one.played_on.ident,
                own=one.played_on.tracks, channels=f"{one.played_on.ident}:" if len(inputs) > 1 else "",
                grid=one.grid if self._knew_time else None, passes=one.passes,
            )  # fmt: skip
            session = edits.with_take(session, ref)
            takes[one.take.ident] = one.take
        return session, takes

    def close(self) -> None:
        for one in (self._player, self._sound, self._router):
            if one is not None:
                one.close()


def write(target: Path, session: Session, takes: dict[str, Any], raw: bool) -> Done:
    """Write a recorded session, or its MIDI file. Raises FileAccessError, also if nothing was played"""
    if not takes:
        raise FileAccessError(
            tr("Nothing was played"), target.name, tr("Nothing is written. Play something, and look at the port.")
        )
    if raw:
        path = with_unmapped(with_faults(session.path, False), "keep")
        bare = tuple(replace(ref, source=None) for ref in session.takes)
        session = replace(session, target=None, path=path, takes=bare)
    made = whole_session.result(session, takes)
    if target.suffix.lower() == SESSION_ENDING:
        session_file.write(target, replace(session, name=target.stem), takes)
    else:
        file_access.write_bytes(target, midi_writer.to_bytes(whole_session.song_of(session, made)))
    passes = sum(len(ref.passes) for ref in session.takes)
    return Done(target, made.names, passes, report.sums(made.outcome))
