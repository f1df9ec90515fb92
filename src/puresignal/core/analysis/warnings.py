"""Warnings about a take and its result, as sentences."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import Take
from puresignal.core.midi.messages import SYSEX
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.tally import Action
from puresignal.core.path.target import NO_TARGET
from puresignal.translation import count_tr, tr


def warnings(take: Take, outcome: Outcome) -> list[str]:
    """Warnings about removed or suspicious data, each with what to do about it."""
    tally = outcome.tally
    unmapped, nowhere = (tally.removed().get(reason, 0) for reason in (UNMAPPED_NOTE, NO_TARGET))
    sentences = []
    if not tally.arrived:
        sentences.append(tr("There is no note in this take."))
    if unmapped:
        advice = tr("not in the source map. Add the note to it, or keep unmapped notes.")
        sentences.append(count_tr("{n} hit unmapped: {advice}", "{n} hits unmapped: {advice}", unmapped, advice=advice))
    if nowhere:
        advice = tr("the receiver has no such drum. Map it, or keep unmapped notes.")
        sentences.append(count_tr("{n} hit unmapped: {advice}", "{n} hits unmapped: {advice}", nowhere, advice=advice))
    if tally.arrived and unmapped == tally.arrived:
        sentences.append(tr("None of the notes is in the source map. Check that it is the right map."))
    system = int(np.count_nonzero(take.events.status >= SYSEX))
    if system:
        sentences.append(
            count_tr(
                "{n} system message of the device dropped: it is not playing.",
                "{n} system messages of the device dropped: they are not playing.",
                system,
            )
        )
    if tally.strays:
        sentences.append(
            count_tr(
                "{n} note-off without a note-on dropped.", "{n} note-offs without a note-on dropped.", tally.strays
            )
        )
    return sentences


def unplayable(outcome: Outcome) -> list[tuple[str, int]]:
    """The articulations that the receiver cannot play, with the number of their hits, the most frequent first."""
    played = outcome.input_notes
    nowhere = np.isin(played.origin, outcome.tally.origins(Action.REMOVED, NO_TARGET)) & (played.articulation >= 0)
    codes, counts = np.unique(played.articulation[nowhere], return_counts=True)
    rows = [(outcome.vocabulary[code], n) for code, n in zip(codes.tolist(), counts.tolist(), strict=True)]
    return sorted(rows, key=lambda row: (-row[1], row[0]))
