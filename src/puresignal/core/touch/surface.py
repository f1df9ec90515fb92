"""The touch surface: places on it become notes, chords and hits; fingers slide, and everything that began ends.

Five ways to fill it: steps of a scale, rows tuned at an interval, a lattice of chords in thirds, a chord book, drums.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.harmony import scales, voice_leading
from puresignal.core.harmony.chord_book import BookChord
from puresignal.core.harmony.keys import note_name
from puresignal.core.kit.articulations import family_of, spoken
from puresignal.core.midi import messages
from puresignal.core.touch import computer_keyboard, pad_velocity
from puresignal.core.touch.computer_keyboard import DRUM_CHANNEL
from puresignal.translation import tr

STEPS, ROWS, LATTICE, BOOK, DRUMS = "steps", "rows", "lattice", "book", "drums"
WAYS = (STEPS, ROWS, LATTICE, BOOK, DRUMS)
STEP, BEND, STAY = "step", "bend", "stay"
SLIDES = (STEP, BEND, STAY)
CHANNEL = 1
PAGES = 8
USUAL_DRUMS = (
    ("kick", "snare.head", "hat.closed", "hat.open"), ("snare.side", "snare.rim", "hat.pedal", "claps"),
    ("tom4.head", "tom3.head", "tom2.head", "tom1.head"), ("ride.bow", "ride.bell", "crash1.bow", "crash2.bow"),
)  # fmt: skip
"""Drums of the first page, its lowest row first."""
NOTHING = "-"
HAT = "hat"
"""A cell that is a hat with its pedal: its lower end is closed, its upper end open, and a finger slides the pedal."""
PEDAL, PEDAL_VELOCITY = 4, 72
"""The foot controller of General MIDI, and how hard the pedal that a finger closes is trodden."""
SHUT, AJAR = 0.08, 0.3
"""Openness at which the foot is down, and that it must have left before it can come down again."""
BEND_CELLS = 2.0
"""Semitones either way of a bend."""
MAJOR_NUMERALS = ("I", "ii", "iii", "IV", "V", "vi", "vii°")
MINOR_NUMERALS = ("i", "ii°", "III", "iv", "v", "VI", "VII")
LADDER = (36, 84)
"""Notes between which a chord is drawn."""
THIRDS = (3, 5, 0, 2, 4, 6, 1)
"""Steps of the scale in thirds, with the first in the middle: neighbours share two notes."""


@dataclass(frozen=True)
class SurfaceSettings:
    """How the surface is filled.

    way       one of WAYS; rows, columns: of the grid
    low       lowest note
    key       empty: the session's
    apart     scale steps, or semitones, from one row to the next
    under     scale steps that one finger plays as a chord in thirds, 1 for the note alone
    slide     what a finger that moves does, one of SLIDES
    one_voice of each row one note at a time
    page      of drums, from 0
    drums     (page, row, column, articulation, a note's number, or NOTHING) where it is not as usual
    roll      length of a step of a roll while a finger is down, one of the generators' rates; empty for none
    strum     milliseconds over which a chord is spread, downwards if negative
    wide      voices of a chord that are opened
    """

    way: str = STEPS
    rows: int = 4
    columns: int = 8
    low: int = 48
    key: str = ""
    apart: int = 3
    under: int = 1
    slide: str = STEP
    one_voice: bool = False
    strum: float = 0.0
    wide: int = 0
    page: int = 0
    drums: tuple[tuple[int, int, int, str], ...] = ()
    roll: str = ""


@dataclass(frozen=True)
class Cell:
    """One place.

    notes  that it plays; label, and a second one below it; root: it is one of the key; pale: it lies outside the key
    classes  of a chord whose inversion depends on the chord before
    drum     articulation, or a note's number, of a cell of drums
    """

    row: int
    column: int
    notes: tuple[int, ...]
    label: str
    below: str = ""
    root: bool = False
    pale: bool = False
    classes: tuple[int, ...] = ()
    velocity: int = 0
    strum: float | None = None
    drum: str = ""
    channel: int = CHANNEL

    @property
    def family(self) -> str:
        """The family whose colour it has: its drum's; notes have two, one of them for roots."""
        if self.pale:
            return "other"
        return family_of(self.drum) if self.drum else "kick" if self.root else "hat"


def cells(settings: SurfaceSettings, key: str, book: tuple[BookChord, ...] = ()) -> list[Cell]:
    """The cells, row 0 at the bottom.

    key  the session's; book: the chords of the chord book
    """
    key = settings.key or key
    scale = scales.scale_of(key or "C major")
    if settings.way == ROWS:
        return _tuned(settings, scales.scale_of(key))
    if settings.way == LATTICE:
        return _lattice(settings, scale, (key or "C major").endswith("minor"))
    if settings.way == BOOK:
        return _book(settings, book)
    if settings.way == DRUMS:
        return _drums(settings)
    return _steps(settings, scale)


def size(settings: SurfaceSettings, book: tuple[BookChord, ...] = ()) -> tuple[int, int]:
    """Rows and columns."""
    if settings.way == LATTICE:
        return 3, 7
    if settings.way == BOOK:
        columns = min(settings.columns, max(1, len(book)))
        return max(1, -(-len(book) // columns)), columns
    return settings.rows, settings.columns


def _steps(settings: SurfaceSettings, scale: tuple[int, ...]) -> list[Cell]:
    found = []
    first = next(note for note in range(settings.low, settings.low + 12) if note % 12 == scale[0])
    for row in range(settings.rows):
        for column in range(settings.columns):
            octave, step = divmod(row * settings.apart + column, 7)
            note = first + 12 * octave + (scale[step] - scale[0]) % 12
            notes = scales.stacked(note, scale, settings.under) if settings.under > 1 else (note,)
            notes = tuple(one for one in notes if one <= 127)
            if notes:
                found.append(Cell(row, column, notes, note_name(note), str(step + 1), root=step == 0))
    return found


def _tuned(settings: SurfaceSettings, scale: tuple[int, ...]) -> list[Cell]:
    found = []
    for row in range(settings.rows):
        for column in range(settings.columns):
            note = settings.low + row * settings.apart + column
            if note <= 127:
                pale = bool(scale) and note % 12 not in scale
                root = bool(scale) and note % 12 == scale[0]
                found.append(Cell(row, column, (note,), note_name(note), root=root, pale=pale))
    return found


def _lattice(settings: SurfaceSettings, scale: tuple[int, ...], minor: bool) -> list[Cell]:
    """Triads in the middle row, sevenths above, those of the other mode below."""
    numerals, others = (MINOR_NUMERALS, MAJOR_NUMERALS) if minor else (MAJOR_NUMERALS, MINOR_NUMERALS)
    root = scale[0]
    other = tuple((root + step) % 12 for step in ((0, 2, 4, 5, 7, 9, 11) if minor else (0, 2, 3, 5, 7, 8, 10)))
    found = []
    for row, (own, names, count) in enumerate(((other, others, 3), (scale, numerals, 3), (scale, numerals, 4))):
        for column, step in enumerate(THIRDS):
            classes = tuple(own[(step + 2 * k) % 7] for k in range(count))
            notes = voice_leading.led(None, classes, settings.low, settings.low + 19)
            label = names[step] + ("7" if count == 4 else "")
            shown = note_name(classes[0] + 60).rstrip("0123456789")
            found.append(Cell(row, column, notes, label, shown, step == 0 and row == 1, row == 0, classes))
    return found


def _book(settings: SurfaceSettings, book: tuple[BookChord, ...]) -> list[Cell]:
    rows, columns = size(settings, book)
    return [
        Cell(
            rows - 1 - i // columns, i % columns, one.notes, one.name or str(i + 1),
            velocity=one.velocity, strum=one.strum,
        )
        for i, one in enumerate(book)
    ]  # fmt: skip


def drum_at(settings: SurfaceSettings, row: int, column: int) -> str:
    """The drum of a cell on the page that is shown; NOTHING for an empty one."""
    own = {one[:3]: one[3] for one in settings.drums}
    usual = NOTHING
    if settings.page == 0 and row < len(USUAL_DRUMS) and column < len(USUAL_DRUMS[row]):
        usual = USUAL_DRUMS[row][column]
    return own.get((settings.page, row, column), usual)


def with_drum(settings: SurfaceSettings, row: int, column: int, drum: str) -> SurfaceSettings:
    """With another drum on a cell of the page that is shown."""
    rows = {one[:3]: one[3] for one in settings.drums}
    rows[settings.page, row, column] = drum
    return replace(settings, drums=tuple(sorted((*place, name) for place, name in rows.items())))


def drum_note(drum: str) -> int | None:
    """The note that a drum of a cell is sent as; None for one that is none."""
    if drum == HAT:
        return computer_keyboard.note_of("hat.open")
    if drum.isdigit():
        return int(drum) if int(drum) <= 127 else None
    return computer_keyboard.note_of(drum) if drum in computer_keyboard.PLAYABLE else None


def _drums(settings: SurfaceSettings) -> list[Cell]:
    found = []
    for row in range(settings.rows):
        for column in range(settings.columns):
            drum = drum_at(settings, row, column)
            note = drum_note(drum)
            words = "" if note is None else tr("note {n}", n=note) if drum.isdigit() else spoken(drum)
            label, _, below = words.partition(", ")
            below = tr("pedal slide") if drum == HAT else below
            notes = () if note is None else (note,)
            found.append(Cell(row, column, notes, label, below, pale=note is None, drum=drum, channel=DRUM_CHANNEL))
    return found


Sent = list[tuple[float, bytes]]
"""Messages, each after so many seconds."""


@dataclass
class _Finger:
    cell: Cell
    notes: tuple[int, ...]
    velocity: int
    begun: float
    openness: float = -1.0
    ajar: bool = False


class SurfacePlayer:
    """Fingers on the surface. Every finger has a number; a pen or the mouse is one like another."""

    def __init__(self, settings: SurfaceSettings, key: str = "", book: tuple[BookChord, ...] = ()):
        self._fingers: dict[int, _Finger] = {}
        self._sounding: dict[tuple[int, int], int] = {}
        self._chord: tuple[int, ...] | None = None
        self._cymbals: set[int] = set()
        self.use(settings, key, book)

    def use(self, settings: SurfaceSettings, key: str, book: tuple[BookChord, ...] = ()) -> None:
        """Fill the surface anew. What is held goes on sounding until its finger lifts."""
        self.settings, self.book = settings, book
        self.cells = cells(settings, key, book)
        self._by_place = {(one.row, one.column): one for one in self.cells}
        self.rows, self.columns = size(settings, book)

    @property
    def held(self) -> dict[tuple[int, int], int]:
        """Velocity of each cell that a finger is on."""
        return {(one.cell.row, one.cell.column): one.velocity for one in self._fingers.values()}

    @property
    def sounding(self) -> tuple[int, ...]:
        """The notes that sound."""
        return tuple(sorted(note for (_, note), count in self._sounding.items() if count > 0))

    def place(self, x: float, y: float) -> tuple[Cell, float, float] | None:
        """The cell at a place, both 0..1 from the left and from the bottom, and where in it, -1..1 from its middle."""
        if not (0 <= x < 1 and 0 <= y < 1):
            return None
        column, row = int(x * self.columns), int(y * self.rows)
        cell = self._by_place.get((row, column))
        if cell is None:
            return None
        return cell, 2 * (x * self.columns - column) - 1, 2 * (y * self.rows - row) - 1

    def press(self, finger: int, x: float, y: float, pressure: float | None = None) -> Sent:
        """A finger goes down."""
        out = self.lift(finger) if finger in self._fingers else []
        found = self.place(x, y)
        if found is None:
            return out
        cell, across, up = found
        if cell.drum == HAT:
            return out + self._strike_hat(finger, cell, (up + 1) / 2, pad_velocity.velocity(across, 0.0, pressure))
        return out + self._begin(finger, cell, pad_velocity.velocity(across, up, pressure), x)

    def _begin(self, finger: int, cell: Cell, velocity: int, x: float) -> Sent:
        out: Sent = []
        if self.settings.one_voice and self.settings.way != DRUMS:
            for other in [n for n, one in self._fingers.items() if one.cell.row == cell.row]:
                out += self.lift(other)
        notes = cell.notes
        if cell.classes:
            held = next((one for one in self._fingers.values() if one.cell.classes), None)
            if held is not None:
                # A second chord while one is held: its root goes underneath.
                under = min(held.notes) - 1
                root = under - (under - cell.classes[0]) % 12
                notes = (root,) if root >= 0 else ()
            else:
                low = self.settings.low
                notes = voice_leading.led(self._chord, cell.classes, low, low + 19)
                self._chord = notes
                notes = voice_leading.spread(notes, self.settings.wide)
        strum = self.settings.strum if cell.strum is None else cell.strum
        loud = velocity if not cell.velocity else max(1, min(127, round(cell.velocity * velocity / 100)))
        self._fingers[finger] = _Finger(cell, notes, velocity, x)
        if self.settings.slide == BEND and self.settings.way != DRUMS:
            out.append((0.0, messages.bend(CHANNEL, 0)))
        row = sorted(notes, reverse=strum < 0)
        each = abs(strum) / 1000 / max(1, len(row) - 1)
        for i, note in enumerate(row):
            self._sounding[cell.channel, note] = self._sounding.get((cell.channel, note), 0) + 1
            out.append((i * each, messages.note_on(cell.channel, note, loud)))
        if family_of(cell.drum) == "cymbal":
            self._cymbals.update(row)
        return out

    def _strike_hat(self, finger: int, cell: Cell, openness: float, velocity: int) -> Sent:
        note = computer_keyboard.note_of(pad_velocity.hat_at(openness))
        self._fingers[finger] = own = _Finger(cell, (note,), velocity, 0.0, ajar=openness > AJAR)
        self._sounding[cell.channel, note] = self._sounding.get((cell.channel, note), 0) + 1
        return [*self._slide(own, openness), (0.0, messages.note_on(cell.channel, note, velocity))]

    def _slide(self, own: _Finger, openness: float) -> Sent:
        """The pedal moves. Closed from open it sounds by itself, and the other hand damps the cymbals with it."""
        before, own.openness = own.openness, max(0.0, min(1.0, openness))
        place = round(127 * (1 - own.openness))
        out: Sent = []
        if place != round(127 * (1 - before)):
            out.append((0.0, messages.control(own.cell.channel, PEDAL, place)))
        if own.openness > AJAR:
            own.ajar = True
        elif own.openness <= SHUT and own.ajar and before >= 0:
            own.ajar = False
            foot, channel = computer_keyboard.note_of("hat.pedal"), own.cell.channel
            out += self._silenced(own)
            out += [
                (0.0, messages.note_on(channel, foot, PEDAL_VELOCITY)), (0.0, messages.note_off(channel, foot)),
            ]  # fmt: skip
            for cymbal in sorted(self._cymbals):
                out += [(0.0, messages.poly_pressure(channel, cymbal, value)) for value in (127, 0)]
            self._cymbals.clear()
        return out

    def _silenced(self, own: _Finger) -> Sent:
        """The finger's note ends although it is down: what it struck does not ring any more."""
        out = self._ended(own)
        own.notes = ()
        return out

    def again(self, finger: int, velocity: int) -> Sent:
        """The next stroke of a roll: a drum whose finger is still down is struck once more."""
        own = self._fingers.get(finger)
        if own is None or not own.cell.drum:
            return []
        own.velocity = velocity
        channel = own.cell.channel
        ends = [(0.0, messages.note_off(channel, note)) for note in own.notes]
        return ends + [(0.0, messages.note_on(channel, note, velocity)) for note in own.notes]

    def velocity_at(self, finger: int) -> int:
        """The velocity of the last stroke of a finger that is down; 0 if it is not."""
        own = self._fingers.get(finger)
        return 0 if own is None else own.velocity

    def move(self, finger: int, x: float, y: float) -> Sent:
        """A finger that is down moves."""
        own = self._fingers.get(finger)
        if own is not None and own.cell.drum == HAT:
            return self._slide(own, y * self.rows - own.cell.row)
        if own is None or self.settings.slide == STAY or self.settings.way == DRUMS:
            return []
        if self.settings.slide == BEND and self.settings.way in (STEPS, ROWS):
            semitones = max(-BEND_CELLS, min(BEND_CELLS, (x - own.begun) * self.columns))
            return [(0.0, messages.bend(CHANNEL, round(semitones / BEND_CELLS * 8191)))]
        found = self.place(x, y)
        if found is None or found[0] == own.cell or self.settings.slide != STEP:
            return []
        # The new note begins before the old one ends, so that it is legato.
        before = self._fingers.pop(finger)
        out = self._begin(finger, found[0], before.velocity, x)
        return out + self._ended(before)

    def lift(self, finger: int) -> Sent:
        """A finger goes up."""
        own = self._fingers.pop(finger, None)
        return [] if own is None else self._ended(own)

    def _ended(self, own: _Finger) -> Sent:
        out: Sent = []
        for note in own.notes:
            key = own.cell.channel, note
            count = self._sounding.get(key, 0) - 1
            self._sounding[key] = max(0, count)
            if count <= 0:
                self._sounding.pop(key, None)
                out.append((0.0, messages.note_off(own.cell.channel, note)))
        return out

    def lift_all(self) -> Sent:
        """All fingers are gone: the window lost them, or the surface is put away."""
        return [sent for finger in list(self._fingers) for sent in self.lift(finger)]


def with_way(settings: SurfaceSettings, way: str) -> SurfaceSettings:
    """Another way to fill it, with the distance of rows that is usual there."""
    apart = {STEPS: 3, ROWS: 5}.get(way, settings.apart)
    columns = 4 if way == DRUMS and settings.way != DRUMS else settings.columns
    return replace(settings, way=way, apart=apart, columns=columns)
