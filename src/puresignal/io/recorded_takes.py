"""Takes made of what arrived: one for each input that listened, with its place on the session's time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.verdicts import CONTROLLED, NO_VERDICTS, Verdicts
from puresignal.core.session import recorded
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import Layout
from puresignal.core.session.take_ref import Pass
from puresignal.core.timing.session_time import Timeline
from puresignal.io import journal
from puresignal.translation import tr

LATE = 0.25
"""Seconds after the end within which the ends of notes still belong to a take."""

Message = tuple[float, str, bytes]
"""A message that arrived: seconds of the clock, name of the port, bytes."""


@dataclass(frozen=True, eq=False)
class Recorded:
    """A take of one input.

    beat    where its beginning stands, from bar 1
    grid    beats by its seconds, as the transport told them
    passes  rounds of the loop in which something was played
    delay     seconds by which it stands earlier than it arrived
    verdicts  on notes that controlled the program
    """

    take: Take
    played_on: LiveInput
    beat: float
    grid: Timeline
    passes: tuple[Pass, ...]
    delay: float = 0.0
    verdicts: Verdicts = NO_VERDICTS


def _is_note(data: bytes) -> bool:
    return len(data) == 3 and data[0] & messages.KIND in (messages.NOTE_ON, messages.NOTE_OFF)


def _never(port: str, data: bytes) -> bool:
    return False


def takes_of(
    arrived: Sequence[Message], layout: Layout, inputs: Sequence[LiveInput], idents: Iterable[str], numbered_from: int,
    delay: float = 0.0, end: float | None = None, off: Iterable[int] = (), only_last: bool = False,
    is_control: Callable[[str, bytes], bool] = _never,
) -> list[Recorded]:  # fmt: skip
    """A take for each input at which something arrived; of several inputs, only those with notes.

    arrived        in order of time
    inputs         those that are armed
    numbered_from  number of the first in its name
    delay          seconds that what arrived is moved by
    end            seconds of the clock after which nothing belongs to them, where the layout states none
    off            numbers of the layout's passes, from 0, that are out
    only_last      each round of the loop stands in place of those before it
    is_control     whether a message of a port controls the program: as a note it stays in the material, marked
    """
    begin = layout.begin - delay
    last = (layout.end if end is None else min(end, layout.end)) - delay
    found: list[Recorded] = []
    names = iter(idents)
    for one in inputs:
        # Times stay as they were: it is the material that begins later by the delay.
        rows = [
            (at, one.port_number(port), data)
            for at, port, data in arrived
            if begin <= at < last + LATE
            and one.listens_to(port, data)
            and (_is_note(data) or not is_control(port, data))
        ]
        # A note that begins after the end is not part of it; the ends of those before are.
        rows = [row for row in rows if row[0] < last or not messages.is_note_on(row[2])]
        worked = [messages.is_note_on(row[2]) and is_control(one.listens[row[1]][0], row[2]) for row in rows]
        played = [row for row, control in zip(rows, worked, strict=True) if not control]
        on = np.array([at - begin for at, _, data in played if messages.is_note_on(data)])
        if not any(messages.is_channel_message(data) for _, _, data in played):
            continue
        if not len(on) and len(inputs) > 1:
            continue
        if np.isfinite(last):
            rows += _ends(rows, max(last, rows[-1][0]))
        name = tr("Recorded, take {n}").format(n=numbered_from + len(found))
        ports = tuple(port for port, _ in one.listens)
        take = journal.to_take(rows, ports, next(names), name, TempoMap.steady(120), begin, one_device=True)
        passes = _passes(layout, on, frozenset(off), only_last)
        verdicts = Verdicts().with_verdict(np.flatnonzero(worked), CONTROLLED) if any(worked) else NO_VERDICTS
        found.append(Recorded(take, one, layout.beat, layout.grid, passes, -delay, verdicts))
    return found


def _ends(rows: Sequence[tuple[float, int, bytes]], at: float) -> list[tuple[float, int, bytes]]:
    """Ends for the notes that were still held when recording stopped."""
    held: dict[tuple[int, int, int], int] = {}
    for _, port, data in rows:
        if messages.is_note_on(data):
            held[port, data[0] & messages.CHANNEL, data[1]] = 1
        elif _is_note(data):
            held.pop((port, data[0] & messages.CHANNEL, data[1]), None)
    return [(at, port, bytes((messages.NOTE_OFF | channel, note, 64))) for port, channel, note in held]


def _passes(layout: Layout, on: np.ndarray, off: frozenset[int], only_last: bool) -> tuple[Pass, ...]:
    """The passes with anything in them. on: (n,) seconds of the material, of its note-ons."""
    if not layout.passes:
        return ()
    passes = tuple(replace(one, is_in=number not in off) for number, one in enumerate(layout.passes))
    kept = recorded.with_events_only(passes, on)
    if not only_last or not kept:
        return kept
    last = max((i for i, one in enumerate(kept) if one.is_in), default=-1)
    return tuple(replace(one, is_in=one.is_in and i == last) for i, one in enumerate(kept))
