"""Why a microphone plays nothing, as far as it can be told: one sentence and what helps."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.translation import tr

TOO_SOFT, NEAR_FLOOR, HUM = -55.0, 9.0, -42.0
"""dBFS of the loudest moment below which nothing can be heard; decibels that must lie between floor and voice; and a
floor that is not a quiet room's."""
LOST = 4
"""Blocks of sound lost within some seconds above which notes may be missing."""


@dataclass(frozen=True)
class VoiceState:
    """The state of a microphone.

    listening  live input is on; system: where its sound comes from, empty for nowhere; why: the system's own reason
    level      dBFS now; loudest: of the last seconds; floor: of the quiet moments; gate: below which nothing is heard
    clipped    blocks at full scale in the last seconds
    pitch      MIDI number or None; low, high: the range that is listened to
    melody     sung notes are listened for, else taught sounds
    taught     number of taught drums; heard: notes and hits so far
    several    two people are heard at once
    lost       blocks of sound that were lost in the last seconds
    """

    listening: bool
    system: str
    why: str
    level: float
    loudest: float
    floor: float
    gate: float
    clipped: int
    pitch: float | None
    low: int
    high: int
    melody: bool
    taught: int
    heard: int
    several: bool = False
    lost: int = 0


def problem(state: VoiceState) -> str:
    """The first thing that is wrong, in a sentence with what to do; empty if nothing is."""
    if not state.listening:
        return tr("Live input is off. Press Start listening at the right.")
    if not state.system:
        return state.why or tr("The microphone is being opened…")
    if not state.melody and not state.taught:
        return tr("Nothing is taught yet. Press Teach beside a drum, and make its sound six times.")
    if state.loudest < -100:
        return tr("The microphone sends silence. Is it switched on, and is it the right channel?")
    if state.loudest < TOO_SOFT:
        return tr("It is too soft: {level:.0f} dB at the loudest. Turn the microphone up, or come closer.").format(
            level=state.loudest
        )
    if state.lost > LOST:
        return tr(
            "The computer is too busy and loses sound. Close other programs, or choose a larger block in "
            "Preferences, Sound."
        )
    if state.clipped > 4:
        return tr("It is too loud and clips. Turn the microphone down until the bar stays below the end.")
    if state.loudest < state.gate:
        return tr("What is heard lies below the threshold of {gate:.0f} dB. Calibrate once more.").format(
            gate=state.gate
        )
    if state.floor > HUM and state.loudest - state.floor < NEAR_FLOOR:
        return tr("There is hum or noise at {floor:.0f} dB, as loud as what is played. Move away from it.").format(
            floor=state.floor
        )
    if state.melody and state.pitch is not None and not state.low - 0.5 <= state.pitch <= state.high + 0.5:
        return tr("This is outside the range that is listened to. Widen the range below.")
    if state.melody and state.several:
        return tr("Two voices are heard at once. One microphone hears one singer: give each one of their own.")
    return ""
