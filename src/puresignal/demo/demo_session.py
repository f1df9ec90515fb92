"""The demo session: an evening in the practice room with the trio's new tune, "Quarter Past Ferry".

The simulated drummer plays the whole form on a kit that has seen some years; the note map of that first evening lacks
three of the kit's notes.
"""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.midi.events import Take
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session, with_take, with_target
from puresignal.core.session.take_ref import TakeRef
from puresignal.io import note_map_file, ports
from puresignal.sim import drum_module, drummer, grooves

BPM = 92
SEED = 1804
KIT = "practice-five"
RECEIVER = "boathouse-room"
MISSED = ("hat.half", "snare.side", "crash2.edge")
"""Articulations missing in the note map of the first evening."""

FAULTS = drum_module.Faults(doubles=0.05, crosstalk=0.12, hanging=0.01, no_length=0.03, stray=0.01)


def take(ident: str = "take1") -> Take:
    """The tune once through, about eighty seconds."""
    performance = drummer.play(grooves.QUARTER_PAST_FERRY, BPM, SEED)
    sent = drum_module.DrumModule(note_map_file.shipped(KIT), FAULTS, SEED).perform(performance)
    return drum_module.to_take(sent, ident, "Quarter Past Ferry, once through", BPM, "Practice kit (simulated)")


def build() -> tuple[Session, tuple[Take, ...]]:
    """The demo session and its takes."""
    kit = note_map_file.shipped(KIT)
    first_evening = replace(
        kit,
        name="Practice kit, first evening",
        pads=tuple(pad for pad in kit.pads if pad.articulation not in MISSED),
    )
    played = take()
    session = Session(name="Quarter Past Ferry", inputs=(LiveInput(source=kit, output=ports.SOUND),))
    session = with_target(session, note_map_file.shipped(RECEIVER))
    return with_take(session, TakeRef(played.ident, played.name, first_evening)), (played,)
