"""The onsets of a take, as the beat finder needs them."""

from __future__ import annotations

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.timing.onsets import Onsets, onsets_of


def onsets_in(outcome: Outcome) -> Onsets:
    """The onsets of a take in its own seconds: without what was removed, and with drums told apart."""
    played = outcome.input_notes.take(np.isin(outcome.input_notes.origin, outcome.output_notes.origin))
    drums = np.array([*(drum_of(name) for name in outcome.vocabulary), ""])
    drum = drums[played.articulation]
    crash = np.char.startswith(drum.astype(str), "crash")
    return onsets_of(
        played.start, played.velocity, played.note, played.end, drum == "kick", drum == "snare", drum == "", crash
    )
