"""The microphone: the live ear, a player's voice profile, and the sound that is kept while recording."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.diagnosis.no_voice import VoiceState, problem
from puresignal.core.errors import PureSignalError
from puresignal.engine.process_clients import EarProcess
from puresignal.io import audio_file, ports, profiles, xdg_folders
from puresignal.io.profiles import Profile
from puresignal.translation import tr
from puresignal.ui.state.background import Background
from puresignal.ui.state.capture import Capture
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.preference_store import PreferenceStore
from puresignal.ui.state.workbench import Workbench

LOOK_MS = 40
SECONDS = 4.0
"""Seconds over which the loudest moment, and clipping, are told."""
QUIET_SECONDS, LOUD_SECONDS = 2.0, 3.5
ABOVE_FLOOR = 8.0
"""Decibels above the floor at which the gate is set."""
LEFT_MS, LEFT_SECONDS = 1500, 5.0
"""When recordings that were left are looked for, and how long nobody must have written to them."""
IDLE, QUIET, LOUD = "", "quiet", "loud"  # not shown
USUAL = "Voice"


def recordings_folder() -> Path:
    """Where the sound of the microphone is kept."""
    return xdg_folders.state() / "recordings"


class Microphone(QObject):
    """Runs the ear while an input listens to it.

    changed     the ear's state, the profile, or the calibration changed
    told        what to say to the player: (text, whether it is a problem)
    left_behind  a recording that a killed program left was saved: its path
    kept        the sound of a recording became a take: its path, and its beat from bar 1
    """

    changed = Signal()
    told = Signal(str, bool)
    left_behind = Signal(object)
    kept = Signal(object, float)

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, capture: Capture, preferences: PreferenceStore,
        background: Background, parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._live_session, self._capture = workbench, live_session, capture
        self._preferences, self._background = preferences, background
        self.profile: Profile = profiles.read(preferences.now.voice or USUAL)
        self.state: dict[str, Any] = {}
        self.calibrating = IDLE
        self._ear: EarProcess | None = None
        self._levels: deque[tuple[float, float, int, int]] = deque()
        self._measured: list[float] = []
        self._until = 0.0
        self._spool: Path | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        workbench.changed.connect(self._follow)
        live_session.started.connect(self._follow)
        live_session.stopped.connect(self._follow)
        live_session.ending.connect(self._end)
        capture.changed.connect(self._follow_capture)
        QTimer.singleShot(LEFT_MS, self, self._save_left)

    def _save_left(self) -> None:
        """Save the sound of recordings that a killed program left."""
        try:
            old = time.time() - LEFT_SECONDS
            left = [one for one in recordings_folder().glob("*.wav") if one.stat().st_mtime < old]
        except OSError:
            return
        for path in left:
            # Nobody writes to it any more.
            self._background.run(
                str(path), partial(audio_file.as_flac, path), self.left_behind.emit,
                lambda error: self.told.emit(str(error), True),
            )  # fmt: skip

    # The ear

    def wanted(self) -> tuple[bool, bool]:
        """Whether sung notes, and taught sounds, are listened to by any input."""
        listened = {port for one in self._workbench.session.inputs for port, _ in one.listens}
        return ports.MIC_MELODY in listened, ports.MIC_HITS in listened

    @property
    def running(self) -> bool:
        return self._ear is not None

    def _follow(self) -> None:
        wanted, router = self.wanted(), self._live_session.router
        if not any(wanted) or not self._live_session.listening or router is None:
            self._end()
            return
        if self._ear is None:
            self._ear = EarProcess(router)
            self._tell_profile()
            self._timer.start()
        self._ear.tell(listens=list(wanted))

    def _end(self) -> None:
        ear, self._ear = self._ear, None
        if ear is None:
            return
        self._timer.stop()
        self.state = {}
        self._live_session.end_beside(ear)
        self.calibrating = IDLE
        self.changed.emit()

    def _tell_profile(self) -> None:
        ear, own = self._ear, self.profile
        if ear is None:
            return
        ear.tell(settings=asdict(own.settings))
        ear.tell(sounds=str(profiles.sounds_of(own.name)))
        block = self._live_session.sound_out.block
        ear.tell(source=own.source, block=block, bpm=self._workbench.timeline.bpm_at(0.0))

    def _look(self) -> None:
        if self._ear is None:
            return
        state = self._ear.read()
        if state is None:
            return
        before, self.state = self.state, state
        now = time.monotonic()
        self._levels.append((now, state["level"], state["clipped"], state["lost"]))
        while self._levels and now - self._levels[0][0] > SECONDS:
            self._levels.popleft()
        if self.calibrating:
            self._measured.append(state["level"])
            if now >= self._until:
                self._measure()
        if self._spool is not None and before.get("spooling") and not state["spooling"]:
            self._keep_sound(state["spool"])
        self.changed.emit()

    def voice_state(self) -> VoiceState:
        """Facts for saying why nothing is heard."""
        state, own = self.state, self.profile.settings
        loudest = max((level for _, level, *_ in self._levels), default=-120.0)
        clipped, lost = 0, 0
        if self._levels:
            first, last = self._levels[0], self._levels[-1]
            clipped, lost = last[2] - first[2], last[3] - first[3]
        return VoiceState(
            self._live_session.listening, state.get("system", ""), state.get("why", ""), state.get("level", -120.0),
            loudest, state.get("floor", -120.0), own.gate, max(0, clipped), state.get("pitch"), own.low, own.high,
            self.wanted()[0], len(state.get("taught", {})), state.get("heard", 0),
            bool(state.get("several", False)), max(0, lost),
        )  # fmt: skip

    def problem(self) -> str:
        """The first thing that is wrong, in a sentence; empty if nothing is."""
        return problem(self.voice_state())

    # The profile

    def change(self, **changed: Any) -> None:
        """Change settings of the voice."""
        self._use(replace(self.profile, settings=replace(self.profile.settings, **changed)))
        if self._ear is not None:
            self._ear.tell(settings=asdict(self.profile.settings))

    def set_source(self, source: str) -> None:
        """Listen to another device, or to a simulated voice."""
        self._use(replace(self.profile, source=source))
        self._tell_profile()

    def set_delay(self, milliseconds: float) -> None:
        """Take another delay off what is recorded from now on."""
        self._use(replace(self.profile, delay=milliseconds))

    def choose(self, name: str) -> None:
        """Use another player's profile; one that is not there yet is made."""
        self._use(profiles.read(name))
        self._preferences.change(voice=name)
        self._tell_profile()

    def share(self, path: Path) -> None:
        """Write the profile with its sounds as one file."""
        try:
            profiles.share(self.profile.name, path)
        except PureSignalError as error:
            self.told.emit(str(error), True)

    def take_in(self, path: Path) -> None:
        """Use a profile that somebody shared."""
        try:
            self.choose(profiles.take_in(path).name)
        except PureSignalError as error:
            self.told.emit(str(error), True)

    def _use(self, profile: Profile) -> None:
        self.profile = profile
        try:
            profiles.write(profile)
        except PureSignalError as error:
            self.told.emit(str(error), True)
        self.changed.emit()

    def listen_for_claps(self, on: bool) -> None:
        """Note when claps begin, in the state's "claps"."""
        if self._ear is not None:
            self._ear.tell(claps=on)

    # Teaching

    @property
    def teaching(self) -> str:
        """The drum whose sound is being taught, empty for none."""
        return str(self.state.get("teaching", ""))

    def taught(self) -> dict[str, int]:
        """Number of examples by drum."""
        return dict(self.state["taught"]) if self.state.get("taught") else profiles.taught(self.profile.name)

    def teach(self, drum: str | None) -> None:
        """Keep every sound from now on as an example of a drum; None: teach no more."""
        if self._ear is not None:
            self._ear.tell(teach=drum)

    def forget(self, drum: str) -> None:
        """Forget the examples of a drum."""
        profiles.forget(self.profile.name, drum)
        if self._ear is not None:
            self._ear.tell(sounds=str(profiles.sounds_of(self.profile.name)))
        self.changed.emit()

    # Calibration

    def calibrate(self) -> None:
        """Measure the quiet room first, then the voice."""
        if self._ear is None:
            self.told.emit(self.problem(), True)
            return
        self.calibrating, self._measured = QUIET, []
        self._until = time.monotonic() + QUIET_SECONDS
        self.changed.emit()

    def _measure(self) -> None:
        levels = np.array(self._measured)
        if self.calibrating == QUIET:
            self.change(gate=float(round(np.quantile(levels, 0.9) + ABOVE_FLOOR)))
            self.calibrating, self._measured = LOUD, []
            self._until = time.monotonic() + LOUD_SECONDS
            return
        self.calibrating = IDLE
        loudest, gate = float(levels.max()), self.profile.settings.gate
        if loudest < gate + 6:
            self.told.emit(
                tr("Your voice is hardly louder than the room. Come closer, or turn the microphone up, and try again."),
                True,
            )
        else:
            self.told.emit(
                tr("Calibrated: nothing below {gate:.0f} dB is heard; your voice reaches {loudest:.0f} dB.").format(
                    gate=gate, loudest=loudest
                ),
                False,
            )
        self.changed.emit()

    # Sound while recording

    def _follow_capture(self) -> None:
        armed = any(
            one.armed and any(port in ports.HEARD for port, _ in one.listens)
            for one in self._workbench.session.inputs
        )  # fmt: skip
        if self._capture.running and self._spool is None and armed and self._ear is not None:
            place = recordings_folder()
            with contextlib.suppress(OSError):
                place.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._spool = place / time.strftime("%Y-%m-%d %H-%M-%S.wav")
            self._ear.tell(spool=str(self._spool))
        elif not self._capture.running and self._spool is not None and self._ear is not None:
            self._ear.tell(spool=None)
            if not self.state.get("spooling"):
                # Nothing was written yet.
                QTimer.singleShot(400, self, self._drop_empty)

    def _drop_empty(self) -> None:
        if self._spool is not None and not self.state.get("spooling") and not self._capture.running:
            spool = self.state.get("spool")
            if spool:
                self._keep_sound(spool)
            else:
                self._spool = None

    def _keep_sound(self, spool: list[float]) -> None:
        """The sound of a recording becomes a take of its own, in its place."""
        path, self._spool = self._spool, None
        placed = self._capture.placed
        if path is None or placed is None:
            return
        begin, beat = placed
        timeline = self._workbench.timeline
        delay = self.profile.delay / 1000
        second = float(timeline.beats_to_seconds(np.array([beat]))[0]) + spool[0] - begin - delay
        at = float(timeline.seconds_to_beats(np.array([second]))[0])
        self._background.run(str(path), lambda: audio_file.as_flac(path), lambda made: self._add_sound(made, at))

    def _add_sound(self, path: Path, beat: float) -> None:
        try:
            self._workbench.add_recording(path, beat)
        except PureSignalError as error:
            self.told.emit(str(error), True)
            return
        self.kept.emit(path, beat)
        text = tr("The sound of the microphone is kept as a take of its own; its notes can be heard again.")
        self.told.emit(text, False)
