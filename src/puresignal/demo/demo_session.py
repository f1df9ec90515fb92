"""The demo session: an evening in the practice room with the trio's new tune, "Quarter Past Ferry".

The simulated drummer plays the whole form on a kit that has seen some years; the note map of that first evening lacks
three of the kit's notes.
"""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.midi.events import Take
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import (
    Session,
    with_current,
    with_key,
    with_take,
    with_target,
    with_timeline,
    with_title,
)
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.io import note_map_file, ports
from puresignal.sim import bassist, drum_module, drummer, grooves

BPM = 92
SEED = 1804
KIT = "practice-five"
RECEIVER = "boathouse-room"
MISSED = ("hat.half", "snare.side", "crash2.edge")
"""Articulations missing in the note map of the first evening."""

FAULTS = drum_module.Faults(doubles=0.05, crosstalk=0.12, hanging=0.01, no_length=0.03, stray=0.01)


def take(ident: str = "take1", name: str = "Quarter Past Ferry, once through", seed: int = SEED) -> Take:
    """The tune once through, about eighty seconds."""
    performance = drummer.play(grooves.QUARTER_PAST_FERRY, BPM, seed)
    sent = drum_module.DrumModule(note_map_file.shipped(KIT), FAULTS, seed).perform(performance)
    return drum_module.to_take(sent, ident, name, BPM, "Practice kit (simulated)")


def trio() -> tuple[Session, tuple[Take, ...]]:
    """The whole demo session: the drummer's first try, which is out, the one that was kept, and the bass line."""
    session, (kept,) = build()
    first = take("take2", "Quarter Past Ferry, first try", SEED + 1)
    line = bassist.play(len(grooves.QUARTER_PAST_FERRY), BPM, SEED, "take3", "Bass line", "Ferry keys (simulated)")
    grid, source = Timeline.steady(BPM), session.takes[0].source
    session = with_take(session, TakeRef(first.ident, first.name, source, grid=grid, is_in=False))
    session = with_take(session, TakeRef(line.ident, line.name, grid=grid))
    session = with_title(session, f"{session.takes[-1].channels}0/2", "Bass")
    session = with_timeline(with_current(session, kept.ident), grid)
    return with_key(session, "D minor"), (kept, first, line)


def build() -> tuple[Session, tuple[Take, ...]]:
    """The drummer's part of the demo session alone."""
    kit = note_map_file.shipped(KIT)
    first_evening = replace(
        kit,
        name="Practice kit, first evening",
        pads=tuple(pad for pad in kit.pads if pad.articulation not in MISSED),
    )
    played = take()
    session = Session(name="Quarter Past Ferry", inputs=(LiveInput(source=kit, output=ports.SOUND),))
    session = with_target(session, note_map_file.shipped(RECEIVER))
    drums = TakeRef(played.ident, played.name, first_evening, grid=Timeline.steady(BPM))
    return with_take(session, drums), (played,)
