"""Makes a take of the notes heard in a recording: events, and how sure the ear was of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from puresignal.core.hearing.sound_outline import SoundOutline
from puresignal.core.midi import messages
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid
from puresignal.core.path.heard_notes import HeardNotes

MODEL = "2026.11"
"""Names the networks that ship; kept with what they heard."""


def made(
    ident: str, name: str, kind: str, recording: str, rows: Sequence[Sequence[float]],
    names: Sequence[tuple[float, float, str]] = (), outline: SoundOutline | None = None, path: str = "",
) -> tuple[Take, HeardNotes]:  # fmt: skip
    """A take of heard notes.

    rows  (start, end, channel, note, velocity, confidence, reason) of each, by start
    """
    events: list[tuple[float, int, int, int, int, int]] = []
    for number, (start, end, channel, note, velocity, _, _) in enumerate(rows):
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
    )
    return take, heard
