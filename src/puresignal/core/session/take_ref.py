"""A take of the session: a use of some material, with its place and settings."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NO_EDITS, NoteEdits
from puresignal.core.path.several_takes import BEATS, CLOCK
from puresignal.core.path.verdicts import NO_VERDICTS, Verdicts
from puresignal.core.session.backing_track import Backing
from puresignal.core.timing.session_time import Timeline

PLAYED, IMPORTED, SOUND, GENERATED, DRAWN = "played", "imported", "sound", "generated", "drawn"
KINDS = (PLAYED, IMPORTED, SOUND, GENERATED, DRAWN)


@dataclass(frozen=True)
class DrawnNote:
    """A note that was drawn or entered step by step.

    number    its own, never used again within the take
    beat      quarter notes from the take's beginning
    beats     its length
    velocity  1..127
    channel   1..16
    """

    number: int
    beat: float
    beats: float
    note: int
    velocity: float
    channel: int = 1


@dataclass(frozen=True)
class Pass:
    """One round of a loop while recording: a stretch of the take's material, laid at the beginning of the loop.

    begin, end  seconds of the material
    beat        where its beginning stands: beats from bar 1
    is_in       whether it belongs to the result
    track       key of the track that all its notes go to; empty: their own
    bars        (first bar, bar after the last): only what lies in there; None: all
    """

    begin: float
    end: float
    beat: float
    is_in: bool = True
    track: str = ""
    bars: tuple[int, int] | None = None


@dataclass(frozen=True)
class TakeRef:
    """A take.

    ident     its own key, never used again
    source    note map of the kit it was played on, or None if unknown
    verdicts  the player's decisions on single notes
    beat      where second 0 of its material stands: beats from bar 1
    follows   BEATS or CLOCK of several_takes.py; empty: the beats for a take with a grid of its own, else the clock
    is_in     whether it belongs to the result of all takes
    kind      one of KINDS
    material  key of its material in the take store; two takes may use one; empty: `ident`
    begin     seconds of the material before which nothing is used, or None
    end       seconds of the material from which nothing is used, or None
    number    its own, from 1, never used again: notes of all takes are told apart by it
    input     ident of the input that it was played on, or empty
    own       what the keys of its kit's tracks begin with, and `channels` those of its other channels (see Wiring)
    grid      beats of the material by its seconds, where they are known apart from the file's own
    passes    rounds of a loop; none: the material is one stretch
    drawn     the notes of a drawn take
    recipe    settings of a generated take, as JSON
    sound     the file of a recorded sound
    is_open   it is being recorded: its events are in the journal
    edits     of single notes by hand
    heard     what the ear said of its notes, where they were heard in a recording
    rings     whether notes that sound at `end` go on to their own end, and are not cut there
    lyrics    (event that starts a note, or number of a drawn one; its syllable), rising
    delay     seconds that its input and output needed when it was recorded; it stands earlier by so much
    """

    ident: str
    name: str
    source: NoteMap | None = None
    verdicts: Verdicts = NO_VERDICTS
    beat: float = 0.0
    follows: str = ""
    is_in: bool = True
    kind: str = PLAYED
    material: str = ""
    begin: float | None = None
    end: float | None = None
    number: int = 0
    input: str = ""
    own: str = ""
    channels: str = ""
    grid: Timeline | None = None
    passes: tuple[Pass, ...] = ()
    drawn: tuple[DrawnNote, ...] = ()
    recipe: str = ""
    sound: Backing | None = None
    is_open: bool = False
    delay: float = 0.0
    edits: NoteEdits = NO_EDITS
    heard: HeardNotes | None = None
    rings: bool = False
    lyrics: tuple[tuple[int, str], ...] = ()

    def __post_init__(self) -> None:
        if not self.material:
            object.__setattr__(self, "material", self.ident)

    @property
    def has_grid(self) -> bool:
        """Whether its beats are known: a file states them, a recording may have been played to them."""
        return self.grid is not None or self.kind in (IMPORTED, DRAWN, GENERATED)

    @property
    def follows_beats(self) -> bool:
        return (self.follows or (BEATS if self.has_grid else CLOCK)) == BEATS
