"""The recording that the chosen take's notes were heard in, along the time of the sheet."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.sound_outline import SoundOutline
from puresignal.core.path.tally import Action
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench

KNOTS = 256
"""Places between which time runs evenly."""


@dataclass(frozen=True, eq=False)
class SoundPicture:
    """The picture of one recording.

    seconds  (k,) of the recording, rising; shown: (k,) seconds of the sheet at which they stand
    onset    (n,) seconds of the recording; sure: (n,) 0..1; left_out: (n,) bool
    names    (begin, end, chord) in seconds of the recording
    path     of the file, for the closest views
    """

    outline: SoundOutline
    seconds: np.ndarray
    shown: np.ndarray
    onset: np.ndarray
    sure: np.ndarray
    left_out: np.ndarray
    names: tuple[tuple[float, float, str], ...]
    path: str


def sound_picture(workbench: Workbench, shown: Shown) -> SoundPicture | None:
    """The recording of the chosen take, None where its notes were played."""
    ref = workbench.session.take()
    heard = None if ref is None else ref.heard
    outline = None if heard is None else heard.outline
    if ref is None or heard is None or outline is None or ref.ident not in workbench.store.by_ident:
        return None
    own = workbench.own
    placed, timeline = workbench.placed(ref)
    seconds = np.linspace(0.0, max(0.1, outline.length), KNOTS)
    shift = 0.0 if shown.several is None else shown.several.shift
    arrived = placed.take.events.arrived
    origin = heard.origin[heard.origin < len(arrived)]
    removed = np.zeros(0, np.int64)
    if own is not None and own.ref.ident == ref.ident:
        removed = own.outcome.tally.origins(Action.REMOVED)
    return SoundPicture(
        outline, seconds, placed.seconds(seconds, timeline) + shift, arrived[origin],
        heard.confidence[: len(origin)], np.isin(origin, removed), heard.names, heard.path,
    )  # fmt: skip
