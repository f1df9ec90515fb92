"""Warnings about a take and its result, as sentences."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import SYSEX, Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.tally import Reason


def warnings(take: Take, outcome: Outcome) -> list[str]:
    """What was removed or looks wrong, each with what to do about it."""
    sentences = []
    tally = outcome.tally
    removed = tally.removed()
    unmapped = removed.get(Reason.UNMAPPED, 0)
    nowhere = removed.get(Reason.NO_TARGET, 0)
    if not tally.arrived:
        sentences.append("There is no note in this take.")
    if unmapped:
        sentences.append(
            f"{_count(unmapped, 'hit')} unmapped: not in the kit's map. Add the note to it, or keep unmapped notes."
        )
    if nowhere:
        sentences.append(
            f"{_count(nowhere, 'hit')} unmapped: the receiver has no such drum. Map it, or keep unmapped notes."
        )
    if tally.arrived and unmapped == tally.arrived:
        sentences.append("None of the notes is in the kit's map. Check that it is the right map.")
    system = int(np.count_nonzero(take.events.status >= SYSEX))
    if system:
        sentences.append(f"{_count(system, 'system message')} of the device dropped: they are not playing.")
    if tally.strays:
        sentences.append(f"{_count(tally.strays, 'note-off')} without a note-on dropped.")
    return sentences


def _count(number: int, noun: str) -> str:
    return f"{number:,} {noun}{'' if number == 1 else 's'}".replace(",", "\N{NARROW NO-BREAK SPACE}")
