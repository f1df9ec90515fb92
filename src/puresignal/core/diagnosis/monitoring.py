"""What sounds now, and why: the rules of monitoring, read off the session.

An input that is armed is heard unless it was switched off; hearing it never hides playback, and not
hearing it never stops a capture. A track is heard in playback unless it is muted, or others are solo.
"""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.export.song_builder import FileTrack
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session


def armed(one: LiveInput, on: bool) -> dict[str, object]:
    """What arming an input changes: it is heard from then on. Disarming leaves hearing as it is."""
    return {"armed": True, "monitor": True} if on else {"armed": False}


def armed_alone(inputs: tuple[LiveInput, ...], number: int) -> tuple[LiveInput, ...]:
    """Only this input armed, for those who want arming to follow their choice."""
    return tuple(
        replace(one, armed=i == number, monitor=one.monitor or i == number) if one.port else one
        for i, one in enumerate(inputs)
    )


def input_words(one: LiveInput, listening: bool) -> str:
    """What is heard of an input, and why not."""
    if not listening:
        return f"{one.port}: not heard, nobody listens"
    if not one.monitor:
        return f"{one.port}: not heard, switched off" + ("; captured all the same" if one.armed else "")
    if one.output is None:
        return f"{one.port}: not heard, it goes nowhere"
    return f"{one.port}: heard through {one.output}"


def track_words(entry: FileTrack, session: Session) -> str:
    """Whether a track is heard in playback: "yes", or why not."""
    settings = session.delivery.track(entry.track.key)
    if settings.muted:
        return "muted"
    if settings.solo:
        return "solo"
    if not entry.out:
        return "left out"
    return "yes" if session.delivery.heard(entry.track.key) else "others solo"


def lines(session: Session, tracks: tuple[FileTrack, ...], listening: bool, playing: str | None) -> tuple[str, ...]:
    """Everything that sounds now or does not, a line each.

    playing  "clean" or "played" while playback runs, else None
    """
    found = [input_words(one, listening) for one in session.inputs if one.port]
    if playing is None:
        found.append("Playback: stopped")
        return tuple(found)
    silent = [
        f"{t.title} ({track_words(t, session)})" for t in tracks if track_words(t, session) not in ("yes", "solo")
    ]
    found.append(f"Playback: the take as {playing}" + (f"; not heard: {', '.join(silent)}" if silent else ""))
    return tuple(found)
