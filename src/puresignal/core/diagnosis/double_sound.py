"""Why is it heard twice? Every source that sounds for one hit, so that the second one can be named and muted."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.articulations import canonical, spoken
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.session.live_input import LiveInput


@dataclass(frozen=True)
class Source:
    """Something that sounds for the hit.

    told  what sounds, in a sentence
    cure  "" where it is wanted or cannot be cured here; "hear": the input `number` shall not be heard;
          "wire": the wire shall be taken out; "maps": the map says so
    """

    told: str
    remedy: str = ""
    number: int = -1
    wire: tuple[str, str] | None = None


@dataclass(frozen=True)
class RoutingState:
    """What is known when somebody wonders.

    inputs   the live inputs
    joined   full name of the port behind each port's name, None where it is absent
    wires    every connection of the port system: (port that gives, port that takes)
    client   beginning of the names of our own ports
    target   the receiver's map
    hit      (port, channel, articulation or None) of the last hit, None where there was none
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
        if not (one.monitor and one.output and one.listens_to(port, bytes((0x8F + channel, 0, 0)))):
            continue
        where = f"Input {number + 1} sends it to {one.output}."
        found.append(Source(where, "hear" if found else "", number))
        receiver = scene.joined.get(one.output) or one.output
        receivers.add(receiver)
    found += _wired(scene, port, receivers)
    if articulation is not None and scene.target is not None:
        pad = next((p for p in scene.target.pads if canonical(p.articulation) == canonical(articulation)), None)
        if pad is not None and pad.also:
            notes = ", ".join(map(str, (pad.note, *pad.also)))
            found.append(Source(f"The receiver's map sends {spoken(articulation)} as notes {notes}.", "maps"))
    return tuple(found)


def _wired(scene: RoutingState, port: str, receivers: set[str]) -> list[Source]:
    """Wires past the program, and wires from its outputs to a second receiver."""
    found = []
    given = scene.joined.get(port) or port
    for gives, takes in sorted(scene.wires):
        if gives == given and not takes.startswith(scene.client):
            found.append(
                Source(f"{gives} is wired straight to {takes}, past this program.", "wire", -1, (gives, takes))
            )
        elif gives.startswith(scene.client) and takes not in receivers and not takes.startswith(scene.client):
            found.append(Source(f"What leaves is wired to {takes} too.", "wire", -1, (gives, takes)))
    return found


LOCAL = "If the kit makes sound of its own, turn that down there: it cannot be seen from here."


def verdict(found: tuple[Source, ...], any_hit: bool) -> str:
    """The answer, a line for each source."""
    if not any_hit:
        return "Hit a pad first, then ask again."
    if len(found) < 2:
        one = found[0].told if found else "Nothing of it leaves."
        return f"One hit sounds once here. {one} {LOCAL}" if found else f"{one} {LOCAL}"
    return "\n".join(f"{i + 1}. {source.told}" for i, source in enumerate(found))
