"""Why is it silent? One hit followed from the port to the output; the first place where it stops is named."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.articulations import spoken
from puresignal.core.path.context import MIDDLE_OPEN, Context


@dataclass(frozen=True)
class SignalState:
    """What is known of a live input while somebody wonders.

    listening       somebody pressed Listen
    server          the port system answers
    input, output   names of the ports that were chosen; output None for nowhere
    input_there, output_there   they are joined
    messages        how many came since listening began, notes how many of them started one
    last            (channel, note) of the last of these, None where there was none
    channel         the one that is listened to, 0 for all
    heard           the input is heard: what comes leaves at once
    left            something left for the last hit
    """

    listening: bool
    server: bool
    input: str | None
    output: str | None
    input_there: bool
    output_there: bool
    messages: int
    notes: int
    last: tuple[int, int] | None
    channel: int = 0
    heard: bool = True
    left: bool = True


@dataclass(frozen=True)
class Checkpoint:
    """A place on the way of a hit.

    told  what it means that the hit stops here
    cure  key of what helps: "listen", "ports", "channel", "learn", "maps", "hear", "settings", or empty
    """

    name: str
    passes: bool
    told: str = ""
    remedy: str = ""


def follow(situation: SignalState, context: Context) -> tuple[Checkpoint, ...]:
    """The places from the port to the output, up to the first where the hit stops."""
    s = situation
    found: list[Checkpoint] = []
    for place in _places(s, context):
        found.append(place)
        if not place.passes:
            break
    return tuple(found)


def _places(s: SignalState, context: Context) -> list[Checkpoint]:
    channel, note = s.last or (0, 0)
    name = context.articulation_of(channel, note) if s.last else None
    spoken_of = s.last is None or bool(context.mapped_channels[channel])
    table = context.target_table
    goes = name is None or table is None or int(table.count[MIDDLE_OPEN, context.code[name]]) > 0
    channels = sorted({c for c in range(1, 17) if context.mapped_channels[c]})
    expected = ", ".join(map(str, channels)) if channels else "none"
    known = name is not None or not spoken_of
    drum = spoken(name) if name else "such drum"
    rows = (
        ("listening", s.listening, "Nobody listens yet. Choose a port and press Listen.", "listen"),
        ("port system", s.server, "There is no JACK server. Start it; it is taken up by itself.", ""),
        ("input", s.input_there, f"{s.input} is not there. Plug it in, or choose another port.", "ports"),
        ("messages", s.messages > 0, f"Nothing comes from {s.input}. Hit a pad; look at its cable and settings.", ""),
        ("notes", s.notes > 0, "Messages come, but no notes. Switch note sending on at the device.", ""),
        (
            "listening channel",
            s.last is None or s.channel in (0, channel),
            f"It came on channel {channel}, and this input listens to channel {s.channel} only.",
            "channel",
        ),
        (
            "channel",
            spoken_of,
            f"It came on channel {channel}; the kit's map speaks of {expected}. Set either.",
            "learn",
        ),
        ("known note", known, f"Note {note} leads nowhere: the kit's map does not know it.", "learn"),
        ("receiver's drum", goes, f"The receiver has no {drum}. Send it to another note.", "maps"),
        ("heard", s.heard, "This input is captured but not heard. Switch Heard on.", "hear"),
        ("output", s.output is not None, "No output is chosen, so nothing leaves. Choose a port.", "ports"),
        ("receiver", s.output_there, f"{s.output} is not there. Start the receiver, or choose another.", "ports"),
        (
            "kept",
            s.left,
            "It was taken for a double trigger and left out. See the path's settings.",
            "settings",
        ),
    )
    return [Checkpoint(*row) for row in rows]


def verdict(places: tuple[Checkpoint, ...]) -> str:
    """The answer in a sentence."""
    last = places[-1]
    if last.passes:
        return "Every hit reaches the receiver. If it is still silent, look at the receiver's own volume and channel."
    return last.told
