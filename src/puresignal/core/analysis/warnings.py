"""What a person should be told about a take and its result, in sentences."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import SYSEX, Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.tally import Reason


def warnings(take: Take, outcome: Outcome) -> list[str]:
    """What was left out or looks wrong, each with what to do about it."""
    told = []
    tally = outcome.tally
    removed = tally.removed()
    unmapped = removed.get(Reason.UNMAPPED, 0)
    nowhere = removed.get(Reason.NO_TARGET, 0)
    if not tally.arrived:
        told.append("There is no note in this take.")
    if unmapped:
        told.append(
            f"{_count(unmapped, 'hit')} led nowhere: the source map does not know the note. Map it, or keep it."
        )
    if nowhere:
        told.append(f"{_count(nowhere, 'hit')} led nowhere: the receiver has no such drum. Map it, or keep it.")
    if tally.arrived and unmapped == tally.arrived:
        told.append("Not one note was known: this looks like the wrong source map.")
    system = int(np.count_nonzero(take.events.status >= SYSEX))
    if system:
        told.append(f"{_count(system, 'system message')} of the device left out: they are not playing.")
    if tally.strays:
        told.append(f"{_count(tally.strays, 'note-off')} ended nothing and {_was(tally.strays)} left out.")
    return told


def _count(number: int, noun: str) -> str:
    return f"{number:,} {noun}{'' if number == 1 else 's'}".replace(",", "\N{NARROW NO-BREAK SPACE}")


def _was(number: int) -> str:
    return "was" if number == 1 else "were"
