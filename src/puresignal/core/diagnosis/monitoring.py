"""Which inputs and tracks are heard, and why: the rules of monitoring, applied to the session.

Arming an input switches its monitoring on; the player may switch it off again. Monitoring never hides
playback, and a recording continues without it. A track is heard in playback unless it is muted or other
tracks are soloed.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

from puresignal.core.export.frozen import FRESH, GONE, STALE
from puresignal.core.export.song_builder import FileTrack
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.translation import mark, tr

NONE_FROZEN: Mapping[str, str] = MappingProxyType({})


def armed(one: LiveInput, on: bool) -> dict[str, object]:
    """The fields that arming changes: monitoring is switched on with it. Disarming leaves monitoring as it is."""
    return {"armed": True, "monitor": True} if on else {"armed": False}


def armed_alone(inputs: tuple[LiveInput, ...], number: int) -> tuple[LiveInput, ...]:
    """Only this input armed, for players who want arming to follow the selection."""
    return tuple(
        replace(one, armed=i == number, monitor=one.monitor or i == number) if one.port else one
        for i, one in enumerate(inputs)
    )


def input_words(one: LiveInput, listening: bool) -> str:
    """Whether an input is monitored, and if not, why."""
    if not listening:
        return tr("{port}: not monitored, live input is off", port=one.port)
    if not one.monitor:
        return tr("{port}: not monitored, Monitor is off", port=one.port) + (
            tr("; recorded all the same") if one.armed else ""
        )
    if one.output is None:
        return tr("{port}: not monitored, no output chosen", port=one.port)
    return tr("{port}: monitored through {output}", port=one.port, output=one.output)


YES = mark("yes")
FROZEN = {FRESH: mark("frozen"), STALE: mark("stale"), GONE: mark("rendering gone")}


def track_words(entry: FileTrack, session: Session, frozen: Mapping[str, str] = NONE_FROZEN) -> str:
    """Whether a track is heard in playback: "yes", or why not, or that it plays from its rendering.

    frozen  states of frozen tracks by key, see core/export/frozen.py
    """
    settings = session.delivery.track(entry.track.key)
    if settings.muted:
        return mark("muted")
    if settings.solo:
        return mark("solo")
    if not entry.out:
        return tr("not sent")
    if not session.delivery.heard(entry.track.key):
        return tr("other tracks are soloed")
    return tr(FROZEN[frozen[entry.track.key]]) if entry.track.key in frozen else YES


def lines(session: Session, tracks: tuple[FileTrack, ...], listening: bool, playing: str | None) -> tuple[str, ...]:
    """One line for everything that could sound now.

    playing  "clean" or "played" during playback, else None
    """
    found = [input_words(one, listening) for one in session.inputs if one.port]
    if playing is None:
        found.append(tr("Playback: stopped"))
        return tuple(found)
    silent = [
        f"{t.title} ({tr(track_words(t, session))})" for t in tracks if track_words(t, session) not in (YES, "solo")
    ]
    found.append(
        tr("Playback: the take, {playing}", playing=playing)
        + (tr("; silent: {names}", names=", ".join(silent)) if silent else "")
    )
    return tuple(found)
