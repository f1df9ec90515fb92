""" "Heard twice?": every source that sounds for one hit, so that the second one can be named and muted."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.articulations import canonical, spoken
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.session.live_input import LiveInput
from puresignal.translation import mark, tr


@dataclass(frozen=True)
class Source:
    """Something that sounds for the hit.

    message  what sounds, as a sentence
    remedy   "" if it is wanted or cannot be changed here; "hear": switch off monitoring of input `number`;
             "wire": remove the connection; "maps": change the map
    """

    message: str
    remedy: str = ""
    number: int = -1
    wire: tuple[str, str] | None = None


@dataclass(frozen=True)
class RoutingState:
    """The routing at the time of the question.

    inputs   the live inputs
    joined   full name of the port behind each port name, None if it is absent
    wires    every connection of the port system: (source port, destination port)
    client   prefix of our own port names
    target   the target map
    hit      (port, channel, articulation or None) of the last hit, or None
    """

    inputs: tuple[LiveInput, ...]
    joined: dict[str, str | None]
    wires: frozenset[tuple[str, str]]
    client: str
    target: NoteMap | None
    hit: tuple[str, int, str | None] | None


def sources(scene: RoutingState) -> tuple[Source, ...]:
    """Every source that sounds for the last hit; the wanted one first."""
    if scene.hit is None:
        return ()
    port, channel, articulation = scene.hit
    found: list[Source] = []
    receivers: set[str] = set()
    for number, one in enumerate(scene.inputs):
        if not (one.monitor and one.output and one.listens_to(port, messages.note_on(channel, 0, 0))):
            continue
        where = tr("Input {number} sends it to {output}.", number=number + 1, output=one.output)
        found.append(Source(where, "hear" if found else "", number))
        receiver = scene.joined.get(one.output) or one.output
        receivers.add(receiver)
    found += _wired(scene, port, receivers)
    if articulation is not None and scene.target is not None:
        pad = next((p for p in scene.target.pads if canonical(p.articulation) == canonical(articulation)), None)
        if pad is not None and pad.also:
            notes = ", ".join(map(str, (pad.note, *pad.also)))
            found.append(
                Source(
                    tr(
                        "The target map sends {articulation} as notes {notes}.",
                        articulation=spoken(articulation),
                        notes=notes,
                    ),
                    "maps",
                )
            )
    return tuple(found)


def _wired(scene: RoutingState, port: str, receivers: set[str]) -> list[Source]:
    """Connections that bypass the program, and connections from its outputs to a second receiver."""
    found = []
    given = scene.joined.get(port) or port
    for gives, takes in sorted(scene.wires):
        if gives == given and not takes.startswith(scene.client):
            found.append(
                Source(
                    tr("{gives} is connected directly to {takes}, bypassing this program.", gives=gives, takes=takes),
                    "wire",
                    -1,
                    (gives, takes),
                )
            )
        elif gives.startswith(scene.client) and takes not in receivers and not takes.startswith(scene.client):
            found.append(
                Source(tr("The output is also connected to {takes}.", takes=takes), "wire", -1, (gives, takes))
            )
    return found


LOCAL = mark("If the kit makes sound of its own, turn that down at the kit: it cannot be seen from here.")


def verdict(found: tuple[Source, ...], any_hit: bool) -> str:
    """The answer, one line per source."""
    if not any_hit:
        return tr("Hit a pad first, then ask again.")
    if len(found) < 2:
        one = found[0].message if found else tr("None of it is sent.")
        return tr("One hit sounds once here. {one} {local}", one=one, local=LOCAL) if found else f"{one} {LOCAL}"
    return "\n".join(f"{i + 1}. {source.message}" for i, source in enumerate(found))
