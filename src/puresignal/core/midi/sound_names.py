"""The sounds of a receiver by name: what bank and program each is reached by."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from puresignal.core.errors import BadFileError
from puresignal.core.midi.general_midi import PROGRAMS
from puresignal.translation import tr

FORMAT = "pure-signal/sounds"
MOST_SOUNDS = 20_000
MOST_BANK = 16_383


@dataclass(frozen=True)
class Sound:
    """bank: 0..16383, None if none is sent; program: 0..127"""

    name: str
    program: int
    bank: int | None = None


@dataclass(frozen=True)
class SoundNames:
    """The sounds of one receiver, in its order."""

    name: str
    sounds: tuple[Sound, ...]

    def place(self, bank: int | None, program: int | None) -> int | None:
        """Place of the sound in the list; that of another bank only where the list knows none."""
        exact = (i for i, one in enumerate(self.sounds) if (one.bank, one.program) == (bank, program))
        loose = (i for i, one in enumerate(self.sounds) if one.bank is None and one.program == program)
        return next(exact, None if bank is not None else next(loose, None))


def with_name(names: SoundNames, name: str, bank: int | None, program: int) -> SoundNames:
    """A list in which a sound has a name; it is added if the list does not have it."""
    sound = Sound(name, program, bank)
    rows = [sound if (one.bank, one.program) == (bank, program) else one for one in names.sounds]
    if sound not in rows:
        rows.append(sound)
    return SoundNames(names.name, tuple(rows))


GENERAL_MIDI = SoundNames("General MIDI", tuple(Sound(name, i) for i, name in enumerate(PROGRAMS)))  # not shown


def to_json(names: SoundNames) -> dict[str, Any]:
    """The plain form of a list."""
    rows = [
        {"name": one.name, "program": one.program, **({} if one.bank is None else {"bank": one.bank})}
        for one in names.sounds
    ]
    return {"format": FORMAT, "version": 1, "name": names.name, "sounds": rows}


def from_json(data: object, where: str) -> SoundNames:
    """A list of sounds.

    Raises BadFileError with the name of the field that is wrong
    """

    def wrong(field: str) -> BadFileError:
        return BadFileError(
            tr("This list of sounds has a wrong {field}", field=field), where, tr("Mend it, or choose another file.")
        )

    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise wrong("format")
    name, rows = data.get("name"), data.get("sounds")
    if not isinstance(name, str) or not name.strip() or len(name) > 200:
        raise wrong("name")
    if not isinstance(rows, list) or not 0 < len(rows) <= MOST_SOUNDS:
        raise wrong("sounds")
    found = []
    for i, row in enumerate(rows):
        title, program, bank = (row.get(k) if isinstance(row, dict) else None for k in ("name", "program", "bank"))
        if not isinstance(title, str) or len(title) > 200:
            raise wrong(f"sounds[{i}].name")
        if type(program) is not int or not 0 <= program <= 127:
            raise wrong(f"sounds[{i}].program")
        if bank is not None and (type(bank) is not int or not 0 <= bank <= MOST_BANK):
            raise wrong(f"sounds[{i}].bank")
        found.append(Sound(title, program, bank))
    return SoundNames(name.strip(), tuple(found))
