"""Notes chosen by a condition, as a sentence with blanks says it: "snare, softer than 40, every 2nd"."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from puresignal.core.errors import SettingsError
from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi.events import Notes
from puresignal.core.path.stage_description import Stage
from puresignal.core.timing.quantise import Bars
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import tr

ANY, SOFTER, LOUDER, SHORTER, LONGER = "any", "softer than", "louder than", "shorter than", "longer than"  # not shown
MEASURES = (ANY, SOFTER, LOUDER, SHORTER, LONGER)
ANYWHERE, ON_BEAT, OFF_BEAT, OFF_GRID = "anywhere", "on the beat", "off the beat", "off the grid by"  # not shown
PLACES = (ANYWHERE, ON_BEAT, OFF_BEAT, OFF_GRID)
NEAR = 0.125
"""Quarter notes from a beat within which a note is on it."""
MOST_EVERY, MOST_AMOUNT = 64, 100_000.0


@dataclass(frozen=True)
class Condition:
    """Which notes are meant.

    what     a track's key, an articulation, a drum ("snare") or empty for everything
    measure  one of MEASURES, `amount` a velocity, or milliseconds for lengths
    place    one of PLACES, `distance` milliseconds from the nearest sixteenth for OFF_GRID
    every, first  every n-th of what is left, beginning with which, from 1
    between  seconds of the file; None: everywhere
    doubtful only notes that were decided narrowly
    stage    only notes that the stage of this key changed; empty: all
    round    only notes of this pass of a loop, from 1; 0: all
    """

    what: str = ""
    measure: str = ANY
    amount: float = 64.0
    place: str = ANYWHERE
    distance: float = 10.0
    every: int = 1
    first: int = 1
    between: tuple[float, float] | None = None
    doubtful: bool = False
    stage: str = ""
    round: int = 0

    @property
    def is_of_notes(self) -> bool:
        """Whether notes alone tell if it holds, so that a stage can use it for its settings."""
        return self.between is None and not self.doubtful and not self.stage and not self.round


def every_nth(rows: np.ndarray, condition: Condition) -> np.ndarray:
    """Every n-th of rows that fit otherwise."""
    return np.asarray(rows[max(0, condition.first - 1) :: max(1, condition.every)])


def holds(
    notes: Notes, keys: tuple[str, ...], vocabulary: tuple[str, ...], timeline: Timeline, shift: float,
    condition: Condition,
) -> np.ndarray:  # fmt: skip
    """(n,) whether notes are what, as loud or long, and where the condition says; not counting every n-th.

    keys   of the tracks
    shift  seconds before bar 1
    """
    good = np.ones(len(notes), bool)
    if condition.what:
        tracks = [i for i, key in enumerate(keys) if key == condition.what]
        codes = [i for i, one in enumerate(vocabulary) if condition.what in (one, drum_of(one))]
        good &= np.isin(notes.track, tracks) | np.isin(notes.articulation, codes)
    long = 1000 * (np.nan_to_num(notes.end, nan=1e9) - notes.start)
    measures = {
        SOFTER: notes.velocity < condition.amount, LOUDER: notes.velocity > condition.amount,
        SHORTER: long < condition.amount, LONGER: long > condition.amount,
    }  # fmt: skip
    good &= measures.get(condition.measure, np.ones(len(notes), bool))
    if condition.place != ANYWHERE and len(notes):
        beat = timeline.seconds_to_beats(notes.start - shift)
        bars = Bars.of(timeline, beat)
        into = beat - bars.begin[bars.bar(beat)]
        on = np.abs(into - np.round(into)) <= NEAR
        off = np.round(into * 4) / 4 - into
        long_beat = timeline.beats_to_seconds(beat + 0.5) - timeline.beats_to_seconds(beat - 0.5)
        places = {ON_BEAT: on, OFF_BEAT: ~on, OFF_GRID: np.abs(off) * long_beat * 1000 > condition.distance}
        good &= places[condition.place]
    return good


def to_json(condition: Condition) -> dict[str, Any]:
    """The plain form: what differs from a sentence without anything in its blanks."""
    usual = Condition()
    found = {one.name: getattr(condition, one.name) for one in fields(Condition)}
    return {name: value for name, value in found.items() if value != getattr(usual, name)}


def from_json(data: object, label: str, where: str) -> Condition:
    """A condition from its plain form.

    Raises SettingsError that names the field
    """

    def number(value: object, low: float, high: float) -> bool:
        return isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high

    def whole(value: object, low: int, high: int) -> bool:
        return isinstance(value, int) and number(value, low, high)

    def span(value: object) -> bool:
        return isinstance(value, list) and len(value) == 2 and all(number(one, -1e6, 1e6) for one in value)

    right: dict[str, Callable[[Any], bool]] = {
        "what": lambda v: isinstance(v, str) and len(v) < 300,
        "measure": lambda v: v in MEASURES,
        "amount": lambda v: number(v, 0, MOST_AMOUNT),
        "place": lambda v: v in PLACES,
        "distance": lambda v: number(v, 0, MOST_AMOUNT),
        "every": lambda v: whole(v, 1, MOST_EVERY),
        "first": lambda v: whole(v, 1, MOST_EVERY),
        "between": lambda v: v is None or span(v),
        "doubtful": lambda v: isinstance(v, bool),
        "stage": lambda v: v == "" or (isinstance(v, str) and Stage.is_known(v)),
        "round": lambda v: whole(v, 0, 10_000),
    }
    if not isinstance(data, dict):
        raise SettingsError(tr("{label} is no selection", label=label), where, tr("Write a JSON object there."))
    for name, value in data.items():
        if name not in right or not right[name](value):
            raise SettingsError(
                tr('{label}: "{name}" is {value}', label=label, name=name, value=repr(value)[:60]), where,
                tr("Known are: {names}.", names=", ".join(right)),
            )  # fmt: skip
    made: dict[str, Any] = {**data}
    if made.get("between") is not None:
        made["between"] = tuple(made["between"])
    return Condition(**made)


SCHEMA: dict[str, Any] = {
    "type": "object",
    "additionalProperties": False,
    "properties": {
        "what": {"type": "string"},
        "measure": {"enum": list(MEASURES)},
        "amount": {"type": "number", "minimum": 0, "maximum": MOST_AMOUNT},
        "place": {"enum": list(PLACES)},
        "distance": {"type": "number", "minimum": 0, "maximum": MOST_AMOUNT},
        "every": {"type": "integer", "minimum": 1, "maximum": MOST_EVERY},
        "first": {"type": "integer", "minimum": 1, "maximum": MOST_EVERY},
        "between": {"type": ["array", "null"], "items": {"type": "number"}, "minItems": 2, "maxItems": 2},
        "doubtful": {"type": "boolean"},
        "stage": {"type": "string"},
        "round": {"type": "integer", "minimum": 0},
    },
}
