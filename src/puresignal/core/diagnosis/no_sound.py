""" "No sound?": follows one hit from the port to the output and names the first place where it stops."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.articulations import spoken
from puresignal.core.path.context import MIDDLE_OPEN, Context
from puresignal.translation import tr


@dataclass(frozen=True)
class SignalState:
    """The state of a live input at the time of the question.

    listening       live input is switched on
    server          the port system answers
    input, output   names of the chosen ports; output None for none
    input_there, output_there   they are connected
    messages        messages since live input was switched on; notes: note-ons among them
    last            (channel, note) of the last note-on, or None
    channel         the channel listened to, 0 for all
    monitor         the input is monitored
    left            something was sent for the last hit
    removed_as      why it was removed, in a word or two; empty if that is not known
    sound_problem   why the built-in sound is silent although it gets the hit, and sound_remedy the key of what helps
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
    monitor: bool = True
    left: bool = True
    removed_as: str = ""
    sound_problem: str = ""
    sound_remedy: str = ""


@dataclass(frozen=True)
class Checkpoint:
    """A place on the way of a hit.

    message  what it means that the hit stops here
    remedy   key of the action that helps: "listen", "ports", "channel", "learn", "maps", "hear", "settings",
             "sound", "level", "tracks", or ""
    """

    name: str
    passes: bool
    message: str = ""
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
    drum = spoken(name) if name else tr("such drum")
    rows = (
        (tr("listening"), s.listening, tr("Live input is off. Choose a port and press Start listening."), "listen"),
        (tr("port system"), s.server, tr("There is no JACK server. Start it; the program will connect by itself."), ""),
        (
            tr("input"),
            s.input_there,
            tr("{input} is unavailable. Plug it in, or choose another port.", input=s.input),
            "ports",
        ),
        (
            tr("messages"),
            s.messages > 0,
            tr("Nothing arrives from {input}. Hit a pad; check its cable and settings.", input=s.input),
            "",
        ),
        (tr("notes"), s.notes > 0, tr("Messages arrive, but no notes. Switch on sending notes at the device."), ""),
        (
            tr("listening channel"),
            s.last is None or s.channel in (0, channel),
            tr(
                "The hit arrived on channel {channel}, but this input listens to channel {wanted} only.",
                channel=channel,
                wanted=s.channel,
            ),
            "channel",
        ),
        (
            tr("channel"),
            spoken_of,
            tr(
                "The hit arrived on channel {channel}; the source map expects {expected}. Change one of them.",
                channel=channel,
                expected=expected,
            ),
            "learn",
        ),
        (tr("known note"), known, tr("Note {note} is unmapped: it is not in the source map.", note=note), "learn"),
        (tr("receiver's drum"), goes, tr("The receiver has no {drum}. Send it to another note.", drum=drum), "maps"),
        (tr("monitor"), s.monitor, tr("This input is recorded but not monitored. Switch Monitor on."), "hear"),
        (tr("output"), s.output is not None, tr("No output is chosen, so nothing is sent. Choose a port."), "ports"),
        (
            tr("receiver"),
            s.output_there,
            tr("{output} is unavailable. Start the receiver, or choose another.", output=s.output),
            "ports",
        ),
        (
            tr("kept"),
            s.left,
            tr("It was removed: {why}. See the settings of the path.", why=s.removed_as)
            if s.removed_as
            else tr("The path removed it. See the settings of the path."),
            "settings",
        ),
        (tr("built-in sound"), not s.sound_problem, s.sound_problem, s.sound_remedy),
    )
    return [Checkpoint(*row) for row in rows]


def verdict(places: tuple[Checkpoint, ...]) -> str:
    """The answer as a sentence."""
    last = places[-1]
    if last.passes:
        return tr(
            "Every hit is sent to the receiver. If you still hear nothing, check the receiver's volume and channel."
        )
    return last.message
