"""Scores that play beside the notes of the takes: the click, and what a loop's rounds carry over its edge."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from puresignal.core.export.playback_events import Score, score
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.midi.messages import NOTE_OFF, NOTE_ON
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.session.recorded import AHEAD_SECONDS
from puresignal.core.session.recording import ClickSettings
from puresignal.core.session.track_settings import Delivery
from puresignal.core.timing import click_beats as click
from puresignal.core.timing.session_time import Timeline

CLICK_SECONDS = 0.03
"""Seconds after which a click's note ends."""
CHANNEL = 9
"""Channel of the click's notes, from 0."""
NOTHING = Score(np.zeros(0), np.zeros((0, 4), np.uint8), ())


def click_score(
    timeline: Timeline, shift: float, begin: float, end: float, settings: ClickSettings, outputs: tuple[int, ...]
) -> Score:
    """The clicks from a beat on, before another, for some outputs. shift: seconds of the score before bar 1."""
    found = click.clicks(timeline, begin, end, settings.parts)
    at = timeline.beats_to_seconds(found.beat) + shift
    note = np.where(found.kind == click.FIRST, settings.first, settings.beat)
    velocity = np.array(click.VELOCITY)[found.kind]
    times, rows = [], []
    for output in outputs:
        number = np.full(len(at), output)
        times += [at, at + CLICK_SECONDS]
        rows.append(np.column_stack([number, np.full(len(at), NOTE_ON | CHANNEL), note, velocity]))
        rows.append(np.column_stack([number, np.full(len(at), NOTE_OFF | CHANNEL), note, np.full(len(at), 64)]))
    if not times:
        return NOTHING
    return Score(np.concatenate(times), np.concatenate(rows).astype(np.uint8), ())


def half_ahead(now: Outcome, after: Outcome, half: float) -> Outcome:
    """A round of a loop of which only what begins from `half` seconds on is to come yet; before it stands the next."""
    early, late = after.output_notes, now.output_notes
    return replace(now, output_notes=Notes.join([early.take(early.start < half), late.take(late.start >= half)]))


def carried_over(
    outcome: Outcome, several: SeveralTakes, delivery: Delivery, outputs: tuple[str, ...], sound: str,
    span: tuple[float, float],
) -> Score:  # fmt: skip
    """Notes that passes have a hair before the loop's beginning, where they sound: at its end. span: its seconds."""
    notes = outcome.output_notes
    early = (notes.start >= span[0] - AHEAD_SECONDS) & (notes.start < span[0] - 1e-6)
    mine = np.zeros(len(notes), bool)
    for ref in several.refs:
        if ref.passes:
            mine |= several.is_of(ref.ident, notes.origin)
    if not (early & mine).any():
        return NOTHING
    part = replace(outcome, output_notes=notes.take(early & mine), controls=Controls.empty())
    made = score(part, delivery, outputs, sound)
    return Score(made.at + (span[1] - span[0]), made.data, ())


def merged(*scores: Score) -> Score:
    """Several scores as one, in order of time; at one moment ends come first."""
    kept = [one for one in scores if len(one.at)]
    first = tuple(message for one in scores for message in one.first)
    if not kept:
        return Score(NOTHING.at, NOTHING.data, first)
    at, data = np.concatenate([one.at for one in kept]), np.concatenate([one.data for one in kept])
    ends = ((data[:, 1] & 0xF0) != NOTE_OFF).astype(np.int8)
    order = np.lexsort((np.arange(len(at)), ends, at))
    return Score(at[order], data[order], first)


def silent_before(made: Score, seconds: float) -> Score:
    """Without what is before a moment."""
    keep = made.at >= seconds - 1e-6
    return Score(made.at[keep], made.data[keep], made.first)
