"""Corrects a take that a voice made by its recorded sound: what was heard live beside what the whole recording shows.

Live, a note is named within a few hundredths of a second of its onset. The whole phrase knows better: which pitch the
steady part of a note has, where it began, that a dip in level was no new note, and that a soft one was.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
from puresignal.core.touch.voice import CHANNEL, DRUMS, VoiceSettings

WITHIN = 0.15
"""Seconds between a note heard live and the same note in the sound."""
SURE = 0.5
"""Confidence from which the sound is believed against what was heard live."""
SURE_HIT = 0.5
"""The same for taught sounds."""
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


def compare(live: np.ndarray, heard: np.ndarray, farthest: int = FARTHEST, sure: float = SURE) -> Settled:
    """Compare the two hearings of one recording.

    live   (n, 2) onset in seconds and note, by onset
    heard  (m, 4) onset and end in the same seconds, note as it would have been sent, confidence
    farthest, sure  see FARTHEST and SURE

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
        if heard[j, 3] < sure:
            continue
        up, later = int(heard[j, 2] - live[i, 1]), float(heard[j, 0] - live[i, 0])
        if up and abs(up) <= farthest:
            moved[i] = up
        if abs(later) > LATE:
            shifted[i] = later
    begin, end = heard[:, 0].min() - WITHIN, heard[:, 1].max() + WITHIN
    gone = tuple(i for i in range(len(live)) if i not in pairs and begin <= live[i, 0] <= end)
    missed = tuple(j for j in range(len(heard)) if j not in taken and heard[j, 3] >= sure)
    return Settled(moved, shifted, gone, missed)


def corrected(
    session: Session, ref: TakeRef, placed: Placed, timeline: Timeline, rows: Sequence[Sequence[float]],
    voice: VoiceSettings, name: str, port: str,
) -> tuple[Session, Settled]:  # fmt: skip
    """A session in which a sung take is as its sound has it, and what was corrected.

    placed  the take, and timeline: where it stands
    rows    of the sound, in seconds of the timeline (see heard_take.made); with a reason they are left out
    voice   with which it was sung; name: of the take that notes are added to; port: that sung notes came from
    """
    on, live = _played(placed, timeline, port)
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


def corrected_hits(
    session: Session, ref: TakeRef, placed: Placed, timeline: Timeline, rows: Sequence[Sequence[float]],
    voice: VoiceSettings, name: str, port: str, drums: Mapping[int, str],
) -> tuple[Session, Settled]:  # fmt: skip
    """The same for taught sounds. drums: articulations by the note that they were sent as; port: of the hits"""
    on, live = _played(placed, timeline, port)
    kept = [row for row in rows if not row[6]]
    heard = np.array([(row[0], row[1], row[3], row[5]) for row in kept], float).reshape(-1, 4)
    found = compare(live, heard, 127, SURE_HIT)
    alike: dict[tuple[str, float], list[int]] = {}
    for i in sorted({*found.moved, *found.shifted}):
        drum = drums.get(int(live[i, 1]) + found.moved[i], "") if i in found.moved else ""
        alike.setdefault((drum, round(found.shifted.get(i, 0.0), 3)), []).append(i)
    for (drum, later), which in alike.items():
        session = note_editing.with_edit(session, {ref.ident: on[which]}, Edit(articulation=drum, seconds=later))
    if found.gone:
        session = note_editing.erased(session, {ref.ident: on[list(found.gone)]})
    begin = timeline.seconds_to_beats(heard[:, 0]).tolist()
    added = [
        DrawnNote(0, begin[j], 0.25, int(kept[j][3]), voice.velocity(int(kept[j][4])), DRUMS) for j in found.missed
    ]
    return note_editing.with_drawn(session, ref, added, name), found


def _played(placed: Placed, timeline: Timeline, port: str) -> tuple[np.ndarray, np.ndarray]:
    """Events of a take that begin a note and came from a port, and (n, 2) their seconds and notes."""
    events, ports = placed.take.events, [one.name for one in placed.take.ports]
    mine = np.isin(events.port, [i for i, one in enumerate(ports) if one == port])
    on = np.flatnonzero((events.status & KIND == NOTE_ON) & (events.data2 > 0) & mine)
    return on, np.column_stack((placed.seconds(events.arrived[on], timeline), events.data1[on].astype(float)))


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
