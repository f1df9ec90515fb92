"""Makes a take of the notes heard in a recording: events, and how sure the ear was of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from puresignal.core.hearing.sound_outline import SoundOutline
from puresignal.core.midi import messages
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NO_EDITS
from puresignal.core.path.verdicts import NO_VERDICTS
from puresignal.core.session.session import Session, with_changed
from puresignal.core.session.take_ref import TakeRef

SAME_SECONDS = 0.03
"""Distance up to which two candidates of one note are the same."""
MODEL = "2026.12"
"""Names the networks that ship; kept with what they heard."""


def made(
    ident: str, name: str, kind: str, recording: str, rows: Sequence[Sequence[float]],
    names: Sequence[tuple[float, float, str]] = (), outline: SoundOutline | None = None, path: str = "",
) -> tuple[Take, HeardNotes]:  # fmt: skip
    """A take of heard notes.

    rows  (start, end, channel, note, velocity, confidence, reason, place in the stereo picture) of each, by start; the
          last may be missing
    """
    events: list[tuple[float, int, int, int, int, int]] = []
    for number, (start, end, channel, note, velocity, *_) in enumerate(rows):
        on = messages.status(messages.NOTE_ON, int(channel))
        off = messages.status(messages.NOTE_OFF, int(channel))
        begin = max(0.0, float(start))
        events.append((begin, 1, number, on, int(note), max(1, min(127, int(velocity)))))
        events.append((max(float(end), begin + 0.001), 0, number, off, int(note), 64))
    events.sort(key=lambda row: row[:3])
    columns = np.array([row[3:] for row in events], np.int64).reshape(-1, 3)
    arrived = on_arrival_grid(np.array([row[0] for row in events]))
    made_of = Events(
        np.maximum.accumulate(arrived) if len(arrived) else arrived, np.zeros(len(events)), columns[:, 0],
        columns[:, 1], columns[:, 2], np.full(len(events), -1),
    )  # fmt: skip
    origin = np.array([i for i, row in enumerate(events) if row[1] == 1], np.int64)
    which = [row[2] for row in events if row[1] == 1]
    sure = np.array([rows[i][5] for i in which], np.float64)
    reason = np.array([int(rows[i][6]) for i in which], np.int64)
    take = Take(ident, name, made_of, (Port(recording),), TempoMap.steady(120))
    heard = HeardNotes(
        kind,
        recording,
        MODEL,
        origin,
        sure.round(4),
        reason,
        tuple((float(a), float(b), str(c)) for a, b, c in names),
        outline,
        path,
        np.array([float(rows[i][7]) if len(rows[i]) > 7 else 0.0 for i in which]),
    )
    return take, heard


def heard_further(session: Session, ref: TakeRef, before: Take, take: Take, heard: HeardNotes) -> Session:
    """The session with a take's notes heard anew: what was decided about them, and edited, stays with the same notes.

    before, take  its material until now, and from now on
    """
    old, new = _ons(before), _ons(take)
    order = np.lexsort((new[1], new[2]))
    place = np.full(len(before.events), -1, np.int64)
    for origin, at, note in zip(*(column.tolist() for column in old), strict=True):
        same = order[(new[2][order] == note) & (np.abs(new[1][order] - at) <= SAME_SECONDS)]
        if len(same):
            place[origin] = new[0][same[np.argmin(np.abs(new[1][same] - at))]]
    verdicts, edits = NO_VERDICTS, NO_EDITS
    for origin, verdict in ref.verdicts.items():
        if place[origin] >= 0:
            verdicts = verdicts.with_verdict([int(place[origin])], verdict)
    for edit, origins in ref.edits.by_kind():
        moved = place[origins]
        edits = edits.with_edit(moved[moved >= 0], edit)
    return with_changed(session, ref.ident, material=take.ident, heard=heard, verdicts=verdicts, edits=edits)


def _ons(take: Take) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Events that begin notes, their seconds, and their notes."""
    events = take.events
    on = np.flatnonzero(((events.status & messages.KIND) == messages.NOTE_ON) & (events.data2 > 0))
    return on, events.arrived[on], events.data1[on]
