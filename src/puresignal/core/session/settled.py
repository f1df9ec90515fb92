"""Corrects a sung take by its recorded sound: compares what was heard live with what the whole recording shows.

Live, a note is named within a few hundredths of a second of its onset. The whole phrase knows better: which pitch the
steady part of a note has, where it began, that a dip in level was no new note, and that a soft one was.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from puresignal.core.harmony import scales
from puresignal.core.midi.messages import KIND, NOTE_ON
from puresignal.core.path.note_edits import Edit
from puresignal.core.path.several_takes import Placed
from puresignal.core.session import note_editing
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DrawnNote, TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.core.touch.voice import CHANNEL, VoiceSettings

WITHIN = 0.15
"""Seconds between a note heard live and the same note in the sound."""
SURE = 0.5
"""Confidence from which the sound is believed against what was heard live."""
FARTHEST = 12
"""Semitones by which a note is corrected at most."""
LATE = 0.02
"""Seconds by which the onsets may differ before the live one is moved."""


@dataclass(frozen=True)
class Settled:
    """Corrections. Numbers are rows of the two hearings.

    moved    semitones up of live notes; shifted: seconds later of live notes
    gone     live notes that the sound has not
    missed   notes of the sound that were not heard live
    """

    moved: dict[int, int]
    shifted: dict[int, float]
    gone: tuple[int, ...]
    missed: tuple[int, ...]

    def __bool__(self) -> bool:
        return bool(self.moved or self.shifted or self.gone or self.missed)


def compare(live: np.ndarray, heard: np.ndarray) -> Settled:
    """Compare the two hearings of one recording.

    live   (n, 2) onset in seconds and note, by onset
    heard  (m, 4) onset and end in the same seconds, note as it would have been sent, confidence

    Each heard note goes with the nearest live one within WITHIN; the same pitch comes before the same moment. Nothing
    is said of what lies before or after all that was heard in the sound.
    """
    if not len(heard):
        return Settled({}, {}, (), ())
    pairs: dict[int, int] = {}
    taken: set[int] = set()
    for _, i, j in sorted(_near(live, heard)):
        if i not in pairs and j not in taken:
            pairs[i] = j
            taken.add(j)
    moved, shifted = {}, {}
    for i, j in sorted(pairs.items()):
        if heard[j, 3] < SURE:
            continue
        up, later = int(heard[j, 2] - live[i, 1]), float(heard[j, 0] - live[i, 0])
        if up and abs(up) <= FARTHEST:
            moved[i] = up
        if abs(later) > LATE:
            shifted[i] = later
    begin, end = heard[:, 0].min() - WITHIN, heard[:, 1].max() + WITHIN
    gone = tuple(i for i in range(len(live)) if i not in pairs and begin <= live[i, 0] <= end)
    missed = tuple(j for j in range(len(heard)) if j not in taken and heard[j, 3] >= SURE)
    return Settled(moved, shifted, gone, missed)


def corrected(
    session: Session, ref: TakeRef, placed: Placed, timeline: Timeline, rows: Sequence[Sequence[float]],
    voice: VoiceSettings, name: str,
) -> tuple[Session, Settled]:  # fmt: skip
    """A session in which a sung take is as its sound has it, and what was corrected.

    placed  the take, and timeline: where it stands
    rows    of the sound, in seconds of the timeline (see heard_take.made); with a reason they are left out
    voice   with which it was sung; name: of the take that notes are added to
    """
    events = placed.take.events
    on = np.flatnonzero((events.status & KIND == NOTE_ON) & (events.data2 > 0))
    live = np.column_stack((placed.seconds(events.arrived[on], timeline), events.data1[on].astype(float)))
    scale = scales.scale_of(voice.key)
    sent = [(row, scales.held(int(row[3]), scale) + voice.shift) for row in rows if not row[6]]
    kept = [(row, note) for row, note in sent if 0 <= note <= 127]
    heard = np.array([(row[0], row[1], note, row[5]) for row, note in kept], float).reshape(-1, 4)
    found = compare(live, heard)
    alike: dict[tuple[int, float], list[int]] = {}
    for i in sorted({*found.moved, *found.shifted}):
        alike.setdefault((found.moved.get(i, 0), round(found.shifted.get(i, 0.0), 3)), []).append(i)
    for (up, later), which in alike.items():
        session = note_editing.with_edit(session, {ref.ident: on[which]}, Edit(up=up, seconds=later))
    if found.gone:
        session = note_editing.erased(session, {ref.ident: on[list(found.gone)]})
    begin, end = (timeline.seconds_to_beats(heard[:, k]).tolist() for k in (0, 1))
    added = [
        DrawnNote(0, begin[j], end[j] - begin[j], kept[j][1], voice.velocity(int(kept[j][0][4])), CHANNEL)
        for j in found.missed
    ]
    return note_editing.with_drawn(session, ref, added, name), found


def _near(live: np.ndarray, heard: np.ndarray) -> list[tuple[float, int, int]]:
    """Pairs that may belong together: how badly, live note, heard note."""
    order = np.argsort(heard[:, 0], kind="stable")
    onset = heard[order, 0]
    first = np.searchsorted(onset, live[:, 0] - WITHIN, side="left")
    last = np.searchsorted(onset, live[:, 0] + WITHIN, side="right")
    return [
        (abs(live[i, 0] - heard[j, 0]) + (WITHIN if live[i, 1] != heard[j, 2] else 0.0), i, int(j))
        for i in range(len(live)) for j in order[first[i] : last[i]]
    ]  # fmt: skip
