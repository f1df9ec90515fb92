"""Settings for the processes, made from a session: inputs and outputs of the router, and the built-in sound."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from puresignal.core.export import whole_session
from puresignal.core.generators.recipe import to_text
from puresignal.core.kit.articulations import STANDARD, drum_of
from puresignal.core.kit.note_map import to_json
from puresignal.core.session import sync
from puresignal.core.session.live_input import outputs_of, ports_of
from puresignal.core.session.session import Session
from puresignal.core.timing.session_time import Timeline
from puresignal.engine.router_config import LiveTrack, RouterConfig, TrackRoute
from puresignal.io import ports, sample_kits
from puresignal.io.preferences import SoundOut

DRUMS = tuple(dict.fromkeys(drum_of(name) for name in STANDARD))


def setup_of(session: Session, listening: bool = True, played_to: tuple[str, ...] = (), block: int = 0) -> RouterConfig:
    """The router's configuration for a session. played_to: ports that playback needs; block: frames wanted."""
    inputs = [one for one in session.inputs if one.listens and listening]
    names = ports_of(inputs)
    clock = session.sync.port if session.sync.follow == sync.CLOCK else ""
    if clock and clock not in names:
        names = (*names, clock)
    delivery = whole_session.delivery_of(session)
    own = [
        track
        for track in delivery.tracks
        if not track.out or track.channel or track.port or track.offset or track.gain != 1
    ]
    elsewhere = [track.port for track in own if track.port]
    sent_to = [session.destination(name).port for name in outputs_of(inputs)]
    outputs = tuple(dict.fromkeys((*sent_to, *(elsewhere if inputs else ()), *played_to)))
    if ports.HELD in outputs:
        outputs = tuple(dict.fromkeys((*outputs, held_to(session))))
    wait = live_wait(session)
    tracks = []
    for one in inputs:
        to = session.destination(one.output or "")
        routes = tuple(
            TrackRoute(
                t.key,
                t.out,
                t.channel or to.channel or 0,
                outputs.index(t.port) if t.port in outputs else -1,
                max(0.0, t.offset + (0.0 if t.port else to.offset) + wait) / 1000.0,
                t.gain,
            )
            for t in own
        )
        (port, channel), *more = one.listens
        tracks.append(
            LiveTrack(
                names.index(port),
                channel,
                one.source,
                (outputs.index(to.port),) if to.port else (),
                one.monitor,
                one.takes,
                routes,
                tuple((names.index(port), channel) for port, channel in more),
                to.target,
                to.channel or 0,
                whole_session.wiring_of(session, one.ident, one.tracks, f"{one.ident}:"),
                max(0.0, to.offset + wait) / 1000.0,
            )
        )
    if clock and not tracks:
        # The clock's port is listened to, and what else comes from it is not played.
        tracks.append(LiveTrack(names.index(clock), monitor=False))
    follows = session.sync.follow == sync.TRANSPORT
    return RouterConfig(
        names, outputs, None, session.target, session.path, ("Pure Signal"), tuple(tracks), block, follows
    )


def held_to(session: Session) -> str:
    """The port that the generator on held keys goes to; what would lead back into it goes to the built-in sound."""
    port = session.destination(session.held.to).port if session.held.to else ports.SOUND
    return ports.SOUND if port in ("", ports.HELD) else port


def held_keys(session: Session, outputs: tuple[str, ...]) -> dict[str, Any] | None:
    """Settings for the player of the generator on held keys; None where nothing is sent to it."""
    to = held_to(session)
    if ports.HELD not in outputs or to not in outputs:
        return None
    channel = session.destination(session.held.to).channel if session.held.to else None
    recipe = session.held.recipe
    return {
        "from": outputs.index(ports.HELD), "to": outputs.index(to), "channel": channel or recipe.channel,
        "recipe": to_text(recipe), "bar": (session.timeline or Timeline()).meter_at(0).beats,
    }  # fmt: skip


def live_wait(session: Session) -> float:
    """Milliseconds by which everything live leaves later, so that what is to be early can be."""
    delivery = whole_session.delivery_of(session)
    if not delivery.early_live:
        # What is played live cannot leave before it was played.
        return 0.0
    homes = [session.destination(one.output or "").offset for one in session.inputs if one.listens]
    # A track with a destination of its own has that one's offset in its own already.
    tracks = [t.offset + (0.0 if t.port else min([0.0, *homes])) for t in delivery.tracks if t.out]
    return max(0.0, -min([0.0, *homes, *tracks]))


def sound_settings(session: Session, outputs: tuple[str, ...], out: SoundOut) -> dict[str, Any]:
    """Settings of the built-in sound (see engine/sound_process.py). outputs: names of the router's, in order."""
    sound, font, click = (outputs.index(n) if n in outputs else -1 for n in (ports.SOUND, ports.FONT, ports.CLICK))
    return {
        "map": None if session.target is None else to_json(session.target),
        "output": sound,
        "font_output": font,
        "click_output": click,
        "click": session.recording.click.level,
        "font": session.sound.font,
        "kit": session.sound.kit,
        "kit_stamp": sample_kits.stamp(session.sound.kit),
        "drums": {name: asdict(drum) for name, drum in session.sound.drums},
        "level": session.sound.level,
        **asdict(out),
        "muted": sorted(name for name in DRUMS if not session.delivery.heard(name)),
    }
