"""The computer keyboard as an instrument: keys are mapped by position, not by letter.

Keys are evdev scan codes, so every layout plays alike. Drums that are played together lie close together: both feet
under the thumbs, the snare under the left hand, the hat under the right, toms and cymbals above them.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from puresignal.core.kit.articulations import STANDARD
from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.core.midi import messages
from puresignal.translation import tr

NUMBERS, UPPER, HOME, LOWER = range(2, 14), range(16, 28), range(30, 41), range(44, 54)
"""Scan codes of the four rows, from the left."""
ROWS = (tuple(NUMBERS), tuple(UPPER), tuple(HOME), tuple(LOWER))
SHIFTED = (0.0, 0.5, 0.75, 1.25)
"""Horizontal offset of each row, in keys."""
GHOST_KEY = 41
"""Left of the number row: while held, strokes are ghost notes."""

DRUMS, CHROMATIC, SCALE = "drums", "chromatic", "scale"
MODES = (DRUMS, CHROMATIC, SCALE)

USUAL_DRUMS: dict[int, str] = {
    47: "kick", 48: "kick", 49: "hat.pedal", 50: "hat.splash",
    30: "snare.side", 31: "snare.rim", 32: "snare.head", 33: "snare.head", 34: "claps",
    36: "hat.closed", 37: "hat.closed", 38: "hat.half", 39: "hat.open", 40: "hat.edge.open",
    16: "tom4.head", 17: "tom3.head", 18: "tom2.head", 19: "tom1.head",
    22: "crash1.bow", 23: "crash1.edge", 24: "ride.bow", 25: "ride.bell", 26: "crash2.bow",
}  # fmt: skip

SCALES: dict[str, tuple[int, ...]] = {
    "major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10), "pentatonic": (0, 2, 4, 7, 9),
    "minor pentatonic": (0, 3, 5, 7, 10), "blues": (0, 3, 5, 6, 7, 10), "dorian": (0, 2, 3, 5, 7, 9, 10),  # not shown
}  # fmt: skip
NAMES = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
ACCENT, GHOST = 30, 0.4
"""Velocity added by an accent; fraction of the velocity that a ghost note has."""


@dataclass(frozen=True)
class Keyboard:
    """Settings of the computer keyboard.

    mode        DRUMS, CHROMATIC or SCALE
    octave      of the lowest key's C, 0..7
    root        0..11 from C; scale: a name of SCALES
    velocity    1..127 of a plain stroke
    randomness  0..40: variation of plain strokes, up or down
    drums       articulations by scan code
    """

    mode: str = DRUMS
    octave: int = 3
    root: int = 9
    scale: str = "minor pentatonic"  # not shown
    velocity: int = 92
    randomness: int = 6
    drums: tuple[tuple[int, str], ...] = field(default_factory=lambda: tuple(sorted(USUAL_DRUMS.items())))

    def drum(self, key: int) -> str | None:
        """The articulation on a key."""
        return dict(self.drums).get(key)

    def note(self, key: int) -> int | None:
        """The note on a key where notes are played, 0..127."""
        base = 12 * (self.octave + 1)
        if self.mode == CHROMATIC:
            found = _CHROMATIC.get(key)
            note = None if found is None else base + found
        else:
            row = next((i for i, keys in enumerate((LOWER, HOME, UPPER)) if key in keys), None)
            if row is None:
                return None
            steps = SCALES.get(self.scale, SCALES["major"])
            # Each row starts a fourth of the scale higher, so that vertical neighbours harmonise.
            degree = key - (LOWER, HOME, UPPER)[row].start + 3 * row
            note = base + self.root + 12 * (degree // len(steps)) + steps[degree % len(steps)]
        return note if note is not None and 0 <= note <= 127 else None

    def strike(self, count: int, accent: bool, ghost: bool) -> int:
        """The velocity of a stroke. count: number of strokes before it, which decides the variation."""
        level = self.velocity + ACCENT * accent
        if ghost:
            level = round(level * GHOST)
        if self.randomness:
            level += int(np.random.default_rng(count).integers(-self.randomness, self.randomness + 1))
        return max(1, min(127, level))


def _chromatic() -> dict[int, int]:
    """Two octaves laid out as on a piano: white keys in a row, black keys above the gaps."""
    white, places = (0, 2, 4, 5, 7, 9, 11), {}
    for row, above, shift in ((LOWER, HOME, 0), (UPPER, NUMBERS, 12)):
        for i, key in enumerate(row):
            octave, degree = divmod(i, 7)
            places[key] = shift + 12 * octave + white[degree]
            # The black key is above and to the right of the white one before it.
            if degree not in (2, 6) and i + 1 < len(row):
                places[above.start + i + 1] = shift + 12 * octave + white[degree] + 1
    return places


_CHROMATIC = _chromatic()


def with_drum(keyboard: Keyboard, key: int, articulation: str | None) -> Keyboard:
    """Assign another drum to a key, or none."""
    drums = {k: v for k, v in keyboard.drums if k != key}
    if articulation is not None:
        drums[key] = articulation
    return replace(keyboard, drums=tuple(sorted(drums.items())))


def name_of(note: int) -> str:
    """A note's name with its octave; middle C is C4."""
    return f"{NAMES[note % 12]}{note // 12 - 1}"


@dataclass
class Held:
    """The keys that are down and the notes each of them started, so that none is left hanging.

    most  largest number of keys down at once
    """

    down: dict[int, tuple[int, int]] = field(default_factory=dict)
    most: int = 0
    strokes: int = 0

    def press(self, key: int, channel: int, note: int, velocity: int) -> list[bytes]:
        """Messages for a key going down; none if it is down already (key repeat)."""
        if key in self.down:
            return []
        self.down[key] = (channel, note)
        self.most = max(self.most, len(self.down))
        self.strokes += 1
        return [messages.note_on(channel, note, velocity)]

    def release(self, key: int) -> list[bytes]:
        """Messages for a key coming up. A note that another key holds too continues."""
        found = self.down.pop(key, None)
        if found is None or found in self.down.values():
            return []
        channel, note = found
        return [messages.note_off(channel, note)]

    def release_all(self) -> list[bytes]:
        """Note-offs for everything that is down."""
        return [message for key in tuple(self.down) for message in self.release(key)]


PLAYABLE = (*STANDARD, "claps")
"""The articulations that keys and pads can play."""
LOWEST = 27
DRUM_CHANNEL, NOTE_CHANNEL = 10, 1


def own_map() -> NoteMap:
    """The note map of the computer keyboard and the on-screen pads: a note for each articulation, on channel 10."""
    return NoteMap(tr("Keys and pads"), tuple(Pad(name, LOWEST + i) for i, name in enumerate(PLAYABLE)), DRUM_CHANNEL)


def note_of(articulation: str) -> int:
    """The note of an articulation in that map.

    Raises ValueError for an articulation without one
    """
    return LOWEST + PLAYABLE.index(articulation)
