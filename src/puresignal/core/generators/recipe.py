"""Recipes: what a generator is asked for. Each reads as a sentence whose blanks are its settings.

A recipe is a value: kind, settings, seed. The same recipe with the same source always makes the same notes.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, fields
from typing import Any, ClassVar

from puresignal.core.errors import BadFileError
from puresignal.core.harmony import keys
from puresignal.translation import mark, tr

FULL, PLAGAL, OPEN_END, NONE = "full", "plagal", "open", "none"
UP, DOWN, UP_DOWN, RANDOM, AS_HELD = "up", "down", "up and down", "random", "as held"  # not shown
RATES = {"1/2": 2.0, "1/4": 1.0, "1/8": 0.5, "1/16": 0.25, "1/8 triplet": 1 / 3, "1/16 triplet": 1 / 6, "1/32": 0.125}
ROOTS, FIFTHS, WALKING = "roots", "roots and fifths", "walking"  # not shown


@dataclass(frozen=True)
class Blank:
    """One setting in a sentence.

    options  (value, words) to choose from; for numbers none
    low, high, unit  of a number
    """

    field: str
    options: tuple[tuple[str, str], ...] = ()
    low: float = 0.0
    high: float = 0.0
    unit: str = ""


@dataclass(frozen=True)
class Recipe:
    """The base of all recipes.

    bars    its length; rounds: times it is played, 0 for endlessly within the session
    seed    another one makes other notes; fresh: each round is made anew
    source  ident of the take that it listens to, empty for none
    channel 1..16
    """

    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    sentence: ClassVar[str] = ""
    blanks: ClassVar[tuple[Blank, ...]] = ()
    needs_source: ClassVar[bool] = False

    bars: int = 8
    rounds: int = 1
    seed: int = 1
    fresh: bool = False
    source: str = ""
    channel: int = 1


_KEYS = (("", mark("the session's key")), *((name, name) for name in keys.NAMES))
LENGTH = (Blank("bars", (), 1, 256, mark("bars")), Blank("rounds", (), 1, 64, mark("times")))


@dataclass(frozen=True)
class ChordProgression(Recipe):
    """Chords of a key, led with the least movement.

    every    beats from one chord to the next
    far      0..100: how many chords are borrowed or lie far from the key
    sevenths 0..100
    ending   cadence: FULL, PLAGAL, OPEN_END or NONE
    low      lowest note; wide: voices that are opened
    """

    kind: ClassVar[str] = "chords"
    title: ClassVar[str] = mark("Chord progression")
    sentence: ClassVar[str] = mark(
        "Chords of {key}, one every {every}, {far} away from it, {sevenths} with sevenths, ending {ending}; "
        "from {low} up, {wide} voices opened."
    )
    blanks: ClassVar[tuple[Blank, ...]] = (
        Blank("key", _KEYS),
        Blank("every", (("1/1", mark("bar")), ("1/2", mark("half")), ("1/4", mark("beat")), ("2/1", mark("two bars")))),
        Blank("far", (), 0, 100, "%"),
        Blank("sevenths", (), 0, 100, "%"),
        Blank("ending", ((FULL, mark("at rest")), (PLAGAL, mark("softly at rest")), (OPEN_END, mark("open")),
                         (NONE, mark("as it comes")))),
        Blank("low", (), 36, 72, "note"),
        Blank("wide", (), 0, 2),
    )  # fmt: skip
    key: str = ""
    every: str = "1/1"
    far: float = 15.0
    sevenths: float = 20.0
    ending: str = FULL
    low: int = 52
    wide: int = 0


@dataclass(frozen=True)
class ChordsUnder(ChordProgression):
    """Chords that fit a melody: like ChordProgression, but chosen by the notes of the source."""

    kind: ClassVar[str] = "under"
    title: ClassVar[str] = mark("Chords under a melody")
    needs_source: ClassVar[bool] = True
    sentence: ClassVar[str] = mark(
        "Chords of {key} that fit {source}, one every {every}, {far} away from the key, {sevenths} with sevenths, "
        "ending {ending}; from {low} up, {wide} voices opened."
    )
    blanks: ClassVar[tuple[Blank, ...]] = (
        Blank("key", (("", mark("its key")), *_KEYS[1:])), Blank("source"), *ChordProgression.blanks[1:],
    )  # fmt: skip


@dataclass(frozen=True)
class Arpeggio(Recipe):
    """The notes of held chords one after the other.

    order    UP, DOWN, UP_DOWN, RANDOM or AS_HELD; octaves: how many it runs through
    rate     one of RATES; gate: percent of a step that a note sounds; swing: 50..75
    accent   each so many steps one is louder, 0 for none; rests: percent of steps that are silent
    """

    kind: ClassVar[str] = "arpeggio"
    title: ClassVar[str] = mark("Arpeggio")
    needs_source: ClassVar[bool] = True
    sentence: ClassVar[str] = mark(
        "Plays what {source} holds, {order}, over {octaves} octaves in {rate}, each note sounding {gate} of its step, "
        "swung {swing}, an accent every {accent} notes, {rests} of them silent."
    )
    blanks: ClassVar[tuple[Blank, ...]] = (
        Blank("source"),
        Blank("order", ((UP, mark("upwards")), (DOWN, mark("downwards")), (UP_DOWN, mark("up and down")),
                        (RANDOM, mark("at random")), (AS_HELD, mark("all together")))),
        Blank("octaves", (), 1, 4),
        Blank("rate", tuple((name, name) for name in RATES)),
        Blank("gate", (), 5, 100, "%"),
        Blank("swing", (), 50, 75, "%"),
        Blank("accent", (), 0, 16),
        Blank("rests", (), 0, 90, "%"),
    )  # fmt: skip
    order: str = UP
    octaves: int = 1
    rate: str = "1/8"
    gate: float = 80.0
    swing: float = 50.0
    accent: int = 4
    rests: float = 0.0


@dataclass(frozen=True)
class BassLine(Recipe):
    """A bass under chords.

    way       ROOTS, FIFTHS or WALKING; rate: one of RATES
    approach  percent of chord changes that are led to by a step
    rests     percent of notes off the beat that are left out; low: the lowest note
    """

    kind: ClassVar[str] = "bass"
    title: ClassVar[str] = mark("Bass line")
    needs_source: ClassVar[bool] = True
    sentence: ClassVar[str] = mark(
        "Plays {way} under {source} in {rate}, {approach} of the changes led to by a step, {rests} of the notes off "
        "the beat left out; not below {low}."
    )
    blanks: ClassVar[tuple[Blank, ...]] = (
        Blank("way", ((ROOTS, mark("roots")), (FIFTHS, mark("roots and fifths")), (WALKING, mark("a walking line")))),
        Blank("source"),
        Blank("rate", tuple((name, name) for name in ("1/2", "1/4", "1/8", "1/16"))),
        Blank("approach", (), 0, 100, "%"),
        Blank("rests", (), 0, 100, "%"),
        Blank("low", (), 24, 48, "note"),
    )  # fmt: skip
    way: str = FIFTHS
    rate: str = "1/8"
    approach: float = 50.0
    rests: float = 30.0
    low: int = 28
    channel: int = 2


@dataclass(frozen=True)
class DrumPattern(Recipe):
    """Drums as hands and feet play them.

    kicks, snares, hats  hits a bar
    off      0..100: how many of them lie off the beat
    ghosts   percent of places beside the snare that get a soft stroke
    fill     bars after which there is a fill, 0 for none
    """

    kind: ClassVar[str] = "drums"
    title: ClassVar[str] = mark("Drum pattern")
    sentence: ClassVar[str] = mark(
        "{kicks} kicks, {snares} snares and {hats} hats a bar, {off} off the beat, {ghosts} ghost strokes, "
        "a fill every {fill} bars."
    )
    blanks: ClassVar[tuple[Blank, ...]] = (
        Blank("kicks", (), 0, 12), Blank("snares", (), 0, 8), Blank("hats", (), 0, 16), Blank("off", (), 0, 100, "%"),
        Blank("ghosts", (), 0, 60, "%"), Blank("fill", (), 0, 32),
    )  # fmt: skip
    kicks: int = 3
    snares: int = 2
    hats: int = 8
    off: float = 30.0
    ghosts: float = 10.0
    fill: int = 8
    channel: int = 10


KINDS: tuple[type[Recipe], ...] = (ChordProgression, ChordsUnder, Arpeggio, BassLine, DrumPattern)


def kind_of(name: str) -> type[Recipe]:
    """The class of a kind. Raises KeyError."""
    return {one.kind: one for one in KINDS}[name]


def to_text(recipe: Recipe) -> str:
    """A recipe as JSON, the same for equal ones."""
    return json.dumps({"kind": recipe.kind, **asdict(recipe)}, sort_keys=True)


def from_text(text: str, where: str = "") -> Recipe:
    """A recipe from JSON; blanks that are out of range are brought into it, unknown ones left out.

    Raises BadFileError if it is none
    """
    try:
        data = json.loads(text)
        kind = kind_of(data["kind"])
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise BadFileError(
            tr("This generator's recipe cannot be read"), where, tr("Make the generator anew.")
        ) from error
    return kind(**{one.name: _value(kind, one.name, data.get(one.name)) for one in fields(kind)})


def _value(kind: type[Recipe], name: str, given: object) -> Any:
    """A value in the range of its blank; the default for one of another type."""
    usual = next(one.default for one in fields(kind) if one.name == name)
    if isinstance(usual, bool):
        return given if isinstance(given, bool) else usual
    if isinstance(usual, str):
        if not isinstance(given, str) or len(given) > 200:
            return usual
        options = next((blank.options for blank in kind.blanks if blank.field == name), ())
        return given if not options or given in {value for value, _ in options} else usual
    if isinstance(given, bool) or not isinstance(given, int | float) or given != given or abs(given) == float("inf"):
        return usual
    ranges: dict[str, tuple[float, float]] = {
        "bars": (1, 4096), "rounds": (1, 999), "seed": (0, 2**31 - 1), "channel": (1, 16),
    }  # fmt: skip
    low, high = ranges.get(name, (float("-inf"), float("inf")))
    for blank in kind.blanks:
        if blank.field == name and not blank.options and blank.high > blank.low:
            low, high = blank.low, blank.high
    given = min(high, max(low, given))
    return int(given) if isinstance(usual, int) else float(given)
