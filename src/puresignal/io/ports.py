"""MIDI ports of every kind behind common names, and how to find one by name.

JACK, ALSA and simulated devices share these types; callers need not know which kind a port is.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from puresignal.translation import mark

JACK, PIPEWIRE, ALSA, SIMULATED, OWN = "JACK", "PipeWire", "ALSA", "simulated", "own"

EXACT_FRAMES, ANNOUNCES = "exact-frames", "announces"
"""Abilities of port systems: messages keep their frame of the block; ports that come and go are announced."""

COMPUTER_KEYBOARD, SCREEN_PADS = mark("Computer keyboard"), mark("Pads on screen")
DRUM_MODULE, PAD_BOX, KEYBOARD = mark("Simulated drum module"), mark("Simulated pad box"), mark("Simulated keyboard")
TOUCH = mark("Touch surface")
MIC_MELODY, MIC_HITS = mark("Microphone, melody"), mark("Microphone, hits")
RECEIVER = mark("Simulated receiver")
SOUND = mark("Built-in sound")
FONT = "SoundFont"
CLICK = mark("Click")
HELD = mark("Generator on held keys")
SOUND_CLIENT = "Pure Signal sound"
"""The built-in sound's client name on JACK."""
OWN_NAME = "Pure Signal"
"""Begins the names of our clients."""
BRIDGED = re.compile(r"^[^:]*:(.+?)[\s:]*(?:\[\d+\])?[\s:]*\((?:capture|playback)(?:_\d+)?\):?\s*(.*)$")  # not shown
"""A bridge puts the name on ALSA behind its own, with the direction, and perhaps a number, in brackets."""
VIRTUAL_IN, VIRTUAL_OUT = "Pure Signal in", "Pure Signal out"

FED = (COMPUTER_KEYBOARD, SCREEN_PADS, DRUM_MODULE, PAD_BOX, KEYBOARD, MIC_MELODY, MIC_HITS, TOUCH)
"""Inputs fed from within the program; a message in a feed carries its index into this list."""
FED_BY_WINDOW, SIMULATED_DEVICES, HEARD = (*FED[:2], TOUCH), FED[2:5], FED[5:7]
SIMULATED_SUFFIX = "(simulated)"
"""End of the port names of takes by the simulated drummer."""
TAKEN = (RECEIVER, SOUND, FONT, CLICK, HELD)
"""Outputs whose messages are read from the ring of sent messages."""


@dataclass(frozen=True)
class MidiPort:
    """A MIDI port.

    gives   True: a source of MIDI; False: a destination
    system  JACK, PIPEWIRE, ALSA, SIMULATED or OWN
    """

    name: str
    gives: bool
    system: str = JACK


def simulated() -> tuple[MidiPort, ...]:
    """The ports that always exist."""
    gives = [MidiPort(name, True, SIMULATED if name in SIMULATED_DEVICES else OWN) for name in FED]
    own = (MidiPort(SOUND, False, OWN), MidiPort(FONT, False, OWN), MidiPort(HELD, False, OWN))
    return (*gives, *own, MidiPort(RECEIVER, False, SIMULATED))


def virtual() -> tuple[MidiPort, ...]:
    """Our own ports to which other programs can connect."""
    return MidiPort(VIRTUAL_IN, True, OWN), MidiPort(VIRTUAL_OUT, False, OWN)


def kind_of_input(name: str) -> str:
    """The kind of port that a take came from, in a word or two; marked for translation."""
    if name in (DRUM_MODULE, PAD_BOX, KEYBOARD) or name.endswith(SIMULATED_SUFFIX):
        return mark("simulated")
    words = {
        COMPUTER_KEYBOARD: mark("computer keyboard"), SCREEN_PADS: mark("pads on screen"), MIC_MELODY: mark("sung"),
        MIC_HITS: mark("mouth drums"), TOUCH: mark("touch surface"),
    }  # fmt: skip
    return words.get(name, mark("played"))


def is_virtual(name: str) -> bool:
    return name in (VIRTUAL_IN, VIRTUAL_OUT)


def is_within(name: str) -> bool:
    """Whether a port belongs to the program and needs no port system."""
    return name in FED or name in TAKEN


def is_own(name: str) -> bool:
    """Whether a port, or a bridge's image of it, is one of the program's own."""
    bridged = BRIDGED.match(name)
    return name.startswith(OWN_NAME) or (bridged is not None and bridged[1].startswith(OWN_NAME))


def find(ports: tuple[MidiPort, ...], wanted: str, gives: bool) -> str | None:
    """The port with exactly this name, else the first that contains it, else None. Never one of our own."""
    names = [p.name for p in ports if p.gives == gives and not is_own(p.name)]
    if wanted in names:
        return wanted
    return next((name for name in names if wanted.casefold() in name.casefold()), None)


def newest_sound(ports: tuple[MidiPort, ...], port: str) -> str | None:
    """The built-in sound's port of this name: the newest, if the server has not noticed yet that another one died."""
    own = re.compile(rf"{SOUND_CLIENT}(-\d+)?:{port}")  # not shown
    return next((p.name for p in reversed(ports) if not p.gives and own.fullmatch(p.name)), None)


def device_of(name: str) -> tuple[str, str]:
    """Device and port, as far as the names of a port on JACK, PipeWire and ALSA have them in common.

    `bridge:Harbour Mesh [24] (capture): Harbour Mesh MIDI 1`, `bridge:Harbour Mesh:(capture_0) Harbour Mesh MIDI 1` and
    `Harbour Mesh:Harbour Mesh MIDI 1` are one.
    """
    bridged = BRIDGED.match(name)
    if bridged is not None:
        device, port = bridged[1], bridged[2]
    else:
        device, _, port = name.partition(":")
        if "/" in port:
            device, _, port = port.partition("/")
    plain = [" ".join(re.sub(r"[\W_]+", " ", part).casefold().split()) for part in (device, port)]
    return plain[0], plain[1].removeprefix(plain[0]).strip()


def merged(first: tuple[MidiPort, ...], second: tuple[MidiPort, ...]) -> tuple[MidiPort, ...]:
    """Both lists as one, each device once: entries of the first list win."""
    seen = {(device_of(p.name), p.gives) for p in first}
    return (*first, *(p for p in second if (device_of(p.name), p.gives) not in seen))
