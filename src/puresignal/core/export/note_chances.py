"""How likely each note sounds, for the eye: also of notes that this round has left out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.midi.events import Notes
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.probability import NOT_DRAWN
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.tally import Action


def probabilities(outcome: Outcome, several: SeveralTakes, chance: Scoped) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(n,) seconds, rising, of the notes that sound or would in another round; (n,) per cent; and (n,) origins.

    several  the takes that the outcome is of
    """
    sounding = outcome.output_notes.take(outcome.output_notes.branch == 0)
    left_out = np.isin(outcome.input_notes.origin, outcome.tally.origins(Action.REMOVED, NOT_DRAWN))
    notes = Notes.join([sounding, outcome.input_notes.take(left_out)])
    notes = notes.take(np.argsort(notes.start, kind="stable"))
    here = [(several.of_numbers(np.array(group, np.int64)), value) for group, value in chance.notes]
    own = replace(chance, notes=tuple((tuple(origins.tolist()), value) for origins, value in here))
    timed = replace(several.context, timeline=several.timeline)
    found = own.for_notes(notes.but(start=notes.start - several.shift, end=notes.end - several.shift), timed)
    return notes.start, 100.0 * found, notes.origin
