"""Frozen tracks: what a rendering was made of, and which tracks play from theirs."""

from __future__ import annotations

import hashlib
import math
from dataclasses import astuple, replace

from puresignal.core.export import whole_session
from puresignal.core.export.playback_events import Score, score
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.session.session import Session
from puresignal.core.session.track_settings import Delivery, Frozen

FRESH, STALE, GONE = "fresh", "stale", "gone"
"""States of a frozen track: its rendering is that of its notes; it was made of something else; its file is gone."""


def alone(delivery: Delivery, key: str | None, outputs: tuple[str, str]) -> Delivery:
    """The settings with one track alone (None: all that are heard), and the sound in place of ports of the outside.

    delivery  with a port for each track, see whole_session.played_back_by
    outputs   names of the built-in sound and of the SoundFont
    """
    tracks = solo(delivery, key).tracks
    return replace(delivery, tracks=tuple(t if t.port in outputs else replace(t, port=outputs[0]) for t in tracks))


def solo(delivery: Delivery, key: str | None) -> Delivery:
    """The settings with one track alone, where it goes; None: all that are heard."""
    if key is None:
        return delivery
    return replace(delivery, tracks=tuple(replace(t, solo=t.key == key, muted=False) for t in delivery.tracks))


def fingerprint(session: Session, outcome: Outcome, key: str, outputs: tuple[str, str]) -> str:
    """A short text that differs if a rendering of the track would. outputs: see alone"""
    keys = [track.key for track in outcome.tracks]
    delivery = whole_session.played_back_by(session, whole_session.delivery_of(session, keys), keys, outputs[0])
    made: Score = score(outcome, alone(delivery, key, outputs), outputs, outputs[0])
    found = hashlib.sha256(made.at.tobytes() + made.data.tobytes())
    sound = session.sound
    # The level of the whole sound is that of the moment, also for what is frozen.
    found.update(repr((made.first, sound.kit, sound.drums, sound.font)).encode())
    found.update(repr(None if session.target is None else astuple(session.target)).encode())
    return found.hexdigest()[:32]


def played_from(delivery: Delivery, keys: frozenset[str]) -> Delivery:
    """The settings with the notes of some tracks silent, since those play from their renderings."""
    return replace(delivery, tracks=tuple(replace(t, muted=t.muted or t.key in keys) for t in delivery.tracks))


def along(frozen: Frozen, shift: float) -> dict[str, object]:
    """A rendering as a recording that plays along (see engine/sound_process.py). shift: seconds before bar 1"""
    level = -20 * math.log10(max(frozen.level, 1e-3))
    return {"path": frozen.path, "level": level, "offset": frozen.begin + shift, "bent": None, "notes": True}
