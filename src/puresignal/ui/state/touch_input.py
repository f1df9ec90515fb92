"""The touch surface as an input, its settings, and the chord book on its cells."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.generators.recipe import RATES
from puresignal.core.harmony import chord_book
from puresignal.core.harmony.chord_book import BookChord, ChordBook
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.touch import pad_velocity
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.core.touch.surface import DRUMS, Sent, SurfacePlayer, SurfaceSettings, with_drum, with_way
from puresignal.engine.ring import Record
from puresignal.io import chord_books, ports
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.preference_store import PreferenceStore
from puresignal.ui.state.workbench import Workbench

QUICK = 0.75
"""Pressure, or part of the hardest velocity, above which a roll has twice as many strokes."""
USUAL_CHORDS = ((50, 57, 62, 65), (46, 53, 58, 62), (48, 55, 60, 64), (45, 52, 57, 61))
"""The chords of a new book: four from the trio's tune."""


class TouchInput(QObject):
    """Plays what fingers, pen, mouse and keys do on the surface.

    changed  settings or chords
    held_changed  cells that fingers are on; it comes with every touch, so little may hang on it
    told     what to say to the player: (text, whether it is a problem)
    """

    changed = Signal()
    held_changed = Signal()
    told = Signal(str, bool)

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, preferences: PreferenceStore,
        parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._live_session, self._preferences = workbench, live_session, preferences
        self.settings: SurfaceSettings = preferences.now.surface
        self.book = self._read_book(preferences.now.chord_book)
        self.chosen = 0
        self._played: list[tuple[float, int, int]] | None = None
        self._rolls: dict[int, int] = {}
        self._pressed: dict[int, int] = {}
        self.player = SurfacePlayer(self.settings, workbench.session.key or "", self.book.chords)
        workbench.changed.connect(self._follow)
        live_session.messages_received.connect(self._receive)
        live_session.stopped.connect(self.lift_all)

    @staticmethod
    def _read_book(name: str) -> ChordBook:
        there = chord_books.kept()
        usual = ChordBook(tr("My chords"), tuple(BookChord(notes) for notes in USUAL_CHORDS))
        return next((one for one in there if one.name == name), there[0] if there else usual)

    def _follow(self) -> None:
        self._fill()

    def _fill(self) -> None:
        self.player.use(self.settings, self._workbench.session.key or "", self.book.chords)
        self.changed.emit()

    # Playing

    def press(
        self, finger: int, x: float, y: float, pressure: float | None = None, at: float | None = None
    ) -> None:  # fmt: skip
        """A finger goes down.

        x, y  0..1 from the left and from the bottom
        at    seconds of the monotonic clock, now by default
        """
        live = self._live_session
        if ports.TOUCH not in live.port_names or not live.listening:
            live.listen_to(ports.TOUCH, self._kit())
        self._send(self.player.press(finger, x, y, pressure), at)
        if self.settings.way == DRUMS and self.settings.roll:
            self._roll_on(finger, pressure)

    def _kit(self) -> NoteMap | None:
        """The map of what the cells send: drums of our own, or notes as they are."""
        return own_map() if self.settings.way == DRUMS else None

    def _roll_on(self, finger: int, pressure: float | None) -> None:
        """Strike again after a step, while the finger is down. Pressure makes it quicker."""
        velocity = self.player.velocity_at(finger)
        if not velocity or not self.settings.roll:
            return
        part = (velocity / 127) if pressure is None else pressure
        bpm = self._workbench.timeline.bpm_at(0.0)
        step = RATES[self.settings.roll] * 60_000 / bpm / (2 if part > QUICK else 1)
        number = self._rolls[finger] = self._rolls.get(finger, 0) + 1

        def again() -> None:
            if self._rolls.get(finger) == number and self.player.velocity_at(finger):
                self._send(self.player.again(finger, self._pressed.get(finger, velocity)))
                self._roll_on(finger, pressure)

        timer = QTimer(self)
        timer.setTimerType(Qt.TimerType.PreciseTimer)
        timer.setSingleShot(True)
        timer.timeout.connect(again)
        timer.timeout.connect(timer.deleteLater)
        timer.start(round(step))

    def move(
        self, finger: int, x: float, y: float, pressure: float | None = None, at: float | None = None
    ) -> None:  # fmt: skip
        """A finger that is down moves."""
        if self.settings.way == DRUMS and (found := self.player.place(x, y)) is not None:
            # What a roll's next stroke is like.
            self._pressed[finger] = pad_velocity.velocity(found[1], found[2], pressure)
        self._send(self.player.move(finger, x, y), at)

    def lift(self, finger: int, at: float | None = None) -> None:
        """A finger goes up."""
        self._rolls[finger] = self._rolls.get(finger, 0) + 1
        self._pressed.pop(finger, None)
        self._send(self.player.lift(finger), at)

    def lift_all(self) -> None:
        """Every finger is gone."""
        self._send(self.player.lift_all())

    def _send(self, sent: Sent, at: float | None = None) -> None:
        for after, message in sent:
            if after <= 0:
                self._live_session.play(ports.TOUCH, message, at)
            else:
                QTimer.singleShot(round(1000 * after), self, lambda m=message: self._later(m))
        if sent:
            self.held_changed.emit()

    def _later(self, message: bytes) -> None:
        """A note of a strum, unless its chord has ended meanwhile."""
        if message[1] in self.player.sounding:
            self._live_session.play(ports.TOUCH, message)

    # Settings

    def set(self, **changed: Any) -> None:
        """Change how the surface is filled."""
        way = changed.pop("way", None)
        settings = self.settings if way is None else with_way(self.settings, way)
        self.settings = replace(settings, **changed)
        self._preferences.change(surface=self.settings)
        self._fill()
        if way is not None and ports.TOUCH in self._live_session.port_names:
            # Drums need their map, notes none.
            self._live_session.listen_to(ports.TOUCH, self._kit())

    def set_drum(self, row: int, column: int, drum: str) -> None:
        """Put another drum on a cell."""
        self.settings = with_drum(self.settings, row, column, drum)
        self._preferences.change(surface=self.settings)
        self._fill()

    # The chord book

    @property
    def chord(self) -> BookChord | None:
        """The chosen chord of the book."""
        return self.book.chords[self.chosen] if self.chosen < len(self.book.chords) else None

    def choose(self, place: int) -> None:
        """Choose a chord, to be edited."""
        self.chosen = max(0, min(place, len(self.book.chords) - 1))
        self.changed.emit()

    def set_chord(self, chord: BookChord | None) -> None:
        """Another chord in place of the chosen one; None takes it out."""
        self._keep(self.book.with_chord(self.chosen, chord if chord is None or chord.notes else None))

    def add_chords(self, chords: list[BookChord]) -> None:
        """Add chords behind the others."""
        book = self.book
        for one in chords:
            book = book.with_chord(len(book.chords), one)
        self.chosen = max(0, len(book.chords) - 1)
        self._keep(book)

    def move_chord(self, by: int) -> None:
        """Swap the chosen chord with its neighbour."""
        other = self.chosen + by
        if 0 <= other < len(self.book.chords):
            book = self.book.swapped(self.chosen, other)
            self.chosen = other
            self._keep(book)

    def use_book(self, name: str) -> None:
        """Use another book; one that is not there yet is made."""
        there = next((one for one in chord_books.kept() if one.name == name), None)
        self.chosen = 0
        self._keep(there or ChordBook(name))

    def names(self) -> list[str]:
        """The books that there are."""
        return list(dict.fromkeys((*(one.name for one in chord_books.kept()), self.book.name)))

    def share(self, path: Path) -> None:
        try:
            chord_books.write_file(self.book, path)
        except PureSignalError as error:
            self.told.emit(str(error), True)

    def take_in(self, path: Path) -> None:
        """Use a book that somebody shared; one of the same name is kept beside it."""
        try:
            book = chord_books.read_file(path)
        except PureSignalError as error:
            self.told.emit(str(error), True)
            return
        name, number, used = book.name, 2, set(self.names())
        while name in used:
            name, number = f"{book.name} {number}", number + 1
        self.chosen = 0
        self._keep(replace(book, name=name))

    def _keep(self, book: ChordBook) -> None:
        self.book = book
        try:
            chord_books.keep(book)
        except PureSignalError as error:
            self.told.emit(str(error), True)
        self._preferences.change(chord_book=book.name)
        self.chosen = max(0, min(self.chosen, len(book.chords) - 1))
        self._fill()

    # Playing chords in

    @property
    def playing_in(self) -> bool:
        return self._played is not None

    def play_in(self, on: bool) -> None:
        """Take chords from what is played on the other inputs, until it is switched off."""
        if on:
            self._played = []
            if any(one.port for one in self._workbench.session.inputs):
                self._live_session.start_or_tell()
        elif self._played is not None:
            played, self._played = self._played, None
            chords = [one for one in chord_book.from_played(played) if len(one.notes) > 1]
            if chords:
                self.add_chords(chords)
            else:
                self.told.emit(tr("No chord was played: two notes or more at once are one."), True)
        self.changed.emit()

    def from_take(self) -> None:
        """Add the chords of the chosen take."""
        own = self._workbench.own
        if own is None:
            self.told.emit(tr("Choose a take with chords first."), True)
            return
        notes = own.outcome.output_notes
        rows = sorted(zip(notes.start.tolist(), notes.note.tolist(), notes.velocity.tolist(), strict=True))
        found = chord_book.from_played([(at, int(note), int(velocity)) for at, note, velocity in rows])
        known = {one.notes for one in self.book.chords}
        new: dict[tuple[int, ...], BookChord] = {}
        for one in found:
            if len(one.notes) > 2 and one.notes not in known:
                new.setdefault(one.notes, one)
        if new:
            self.add_chords(list(new.values()))
        else:
            self.told.emit(tr("This take has no chords that are not in the book."), True)

    def _receive(self, records: list[Record]) -> None:
        if self._played is None:
            return
        names = self._live_session.port_names
        for record in records:
            own = record.port < len(names) and names[record.port] == ports.TOUCH
            if messages.is_note_on(record.data) and not own:
                self._played.append((record.at, record.data[1], record.data[2]))
        self.changed.emit()

    @property
    def played(self) -> int:
        """Chords played in so far."""
        return 0 if self._played is None else len(chord_book.from_played(self._played))
