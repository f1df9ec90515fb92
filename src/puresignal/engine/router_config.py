"""The router's configuration: ports, live tracks, maps and settings as one JSON object. No session or file code."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from puresignal.core.kit import note_map
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Port
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath, LivePath, as_live
from puresignal.core.path.context import USUAL_WIRING, Context, Wiring
from puresignal.engine.router import Lane, Route

PANIC, RELEASE_PLAYED, UNPLUG, TRANSPORT = b"panic\n", b"release played\n", b"unplug ", b"transport "
"""Sent instead of a configuration: end every note at once; end what playback started; an input, by its number, has
gone, and its notes end; what JACK's transport is to do."""

ALL_INPUTS, ALL_CHANNELS = -1, 0


class TrackRoute(NamedTuple):
    """A setting of one of the path's tracks: whether it leaves, its channel (0: the notes' own), and the index of its
    output (-1: the input's); seconds by which it leaves later; the factor of its velocities.
    """

    key: str
    out: bool
    channel: int
    output: int
    late: float = 0.0
    gain: float = 1.0


@dataclass(frozen=True)
class LiveTrack:
    """One player's route through the router.

    input    index into the inputs, or ALL_INPUTS
    channel  1..16, or ALL_CHANNELS
    source   note map of the kit
    outputs  indices into the outputs
    takes    what of the input, see core/session/live_input.py
    routes   settings of the path's tracks that differ from the usual
    more     further inputs and their channels: a kit on two devices
    target   note map of its receiver where that is not the configuration's
    sends    channel of everything that no track gives a channel, 0 for each note's own
    wiring   the tracks that its notes go to
    late     seconds by which everything leaves later where no track says otherwise
    monitor  False: nothing is sent; it is still journalled
    """

    input: int = ALL_INPUTS
    channel: int = ALL_CHANNELS
    source: NoteMap | None = None
    outputs: tuple[int, ...] = (0,)
    monitor: bool = True
    takes: str = "all"
    routes: tuple[TrackRoute, ...] = ()
    more: tuple[tuple[int, int], ...] = ()
    target: NoteMap | None = None
    sends: int = 0
    wiring: Wiring = USUAL_WIRING
    late: float = 0.0


@dataclass(frozen=True)
class RouterConfig:
    """The ports to connect, and what happens between them.

    inputs, outputs  names as on the command line: exact, else the first that contains it
    source           note map of all inputs, if there are no tracks
    tracks           the tracks; empty: one track from every input to every output
    block            frames per block that PipeWire is asked for; 0 for the usual
    transport        whether JACK's transport is followed
    """

    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    source: NoteMap | None = None
    target: NoteMap | None = None
    path: CleaningPath = field(default_factory=CleaningPath)
    client: str = "Pure Signal"
    tracks: tuple[LiveTrack, ...] = ()
    block: int = 0
    transport: bool = False

    def live_tracks(self) -> tuple[LiveTrack, ...]:
        """The tracks, or a single one that listens to everything."""
        return self.tracks or (LiveTrack(source=self.source, outputs=tuple(range(len(self.outputs)))),)


def to_bytes(setup: RouterConfig) -> bytes:
    """The configuration as one line of JSON."""
    data = {
        "inputs": list(setup.inputs),
        "outputs": list(setup.outputs),
        "source": _map_to_json(setup.source),
        "target": _map_to_json(setup.target),
        "path": settings_json.to_json(setup.path),
        "client": setup.client,
        "block": setup.block,
        "transport": setup.transport,
        "tracks": [
            {
                "input": t.input, "channel": t.channel, "source": _map_to_json(t.source), "outputs": list(t.outputs),
                "monitor": t.monitor,
                "takes": t.takes,
                "routes": [list(route) for route in t.routes],
                "more": [list(pair) for pair in t.more],
                "target": _map_to_json(t.target),
                "sends": t.sends,
                "late": t.late,
                "wiring": {
                    "own": t.wiring.own, "own_title": t.wiring.own_title, "channels": t.wiring.channels,
                    "sends": t.wiring.sends, "targets": [[k, _map_to_json(m)] for k, m in t.wiring.targets],
                },
            }
            for t in setup.tracks
        ],
    }  # fmt: skip
    return json.dumps(data).encode() + b"\n"


def from_bytes(line: bytes) -> RouterConfig:
    """The inverse of to_bytes. The line comes from our own process, so errors in it are bugs."""
    data: dict[str, Any] = json.loads(line)
    tracks = tuple(
        LiveTrack(
            t["input"],
            t["channel"],
            _map_from_json(t["source"]),
            tuple(t["outputs"]),
            t["monitor"],
            t["takes"],
            tuple(TrackRoute(*row) for row in t["routes"]),
            tuple((port, channel) for port, channel in t["more"]),
            _map_from_json(t["target"]),
            t["sends"],
            _wiring(t["wiring"]),
            t["late"],
        )
        for t in data["tracks"]
    )
    path = settings_json.from_json(data["path"], "path")
    maps = [_map_from_json(data[key]) for key in ("source", "target")]
    return RouterConfig(
        tuple(data["inputs"]),
        tuple(data["outputs"]),
        maps[0],
        maps[1],
        path,
        data["client"],
        tracks,
        data["block"],
        data["transport"],
    )


def _wiring(data: dict[str, Any]) -> Wiring:
    targets = [(key, _map_from_json(one)) for key, one in data["targets"]]
    return Wiring(
        data["own"],
        data["own_title"],
        data["channels"],
        tuple((key, tuple(to)) for key, to in data["sends"]),
        tuple((key, one) for key, one in targets if one is not None),
    )


def _map_to_json(kit: NoteMap | None) -> object:
    return None if kit is None else note_map.to_json(kit)


def _map_from_json(data: object) -> NoteMap | None:
    return None if data is None else note_map.from_json(data, "map")


def lanes(setup: RouterConfig) -> list[Lane]:
    """The path of each monitored track, as it runs live: tables are made here, not while somebody plays."""
    every = tuple(Port(name, i) for i, name in enumerate(setup.inputs)) or (Port(""),)
    made = []
    for track in setup.live_tracks():
        if not track.monitor:
            continue
        # What one player has on several ports is one device: its pads share stands, pedal and cymbals.
        own = (track.input, *(number for number, _ in track.more))
        names = [setup.inputs[i] if 0 <= i < len(setup.inputs) else "" for i in own]
        ports = every if track.input == ALL_INPUTS else tuple(Port(name) for name in names)
        target = track.target or setup.target
        context = Context(track.source, target, ports, 0.0, setup.path.split.by, begun=0.0, wiring=track.wiring)
        outputs = tuple(o for o in track.outputs if o < len(setup.outputs))
        path = LivePath(as_live(setup.path), context)
        routes = _routes(track, context)
        made.append(Lane(path, track.input, track.channel, outputs, track.takes, routes, track.more, track.late))
    return made


def _routes(track: LiveTrack, context: Context) -> tuple[Route, ...]:
    """For each track of the path where it goes; empty if all are as usual."""
    by_key = {route.key: route for route in track.routes}
    if not by_key and not track.sends:
        return ()
    found = []
    for one in context.tracks:
        route = by_key.get(one.key, TrackRoute(one.key, True, track.sends, -1, track.late))
        found.append(
            Route(route.out, route.channel, None if route.output < 0 else (route.output,), route.late, route.gain)
        )
    return tuple(found)
