"""The report of a cleaned take as plain JSON data (docs/formats.md)."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np

from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.stage_description import Reason
from puresignal.core.path.tally import Action, NoteField
from puresignal.core.path.target import NO_TARGET

FIELDS = {
    NoteField.NOTE: "note", NoteField.CHANNEL: "channel", NoteField.END: "end", NoteField.ARTICULATION: "articulation",
    NoteField.VELOCITY: "velocity", NoteField.START: "start",
}  # fmt: skip
"""Words for what was changed; starts and ends are in seconds."""
_WHAT_WORDS = {Action.REMOVED: "removed", Action.ADDED: "added", Action.CHANGED: "changed"}


def sums(outcome: Outcome) -> dict[str, Any]:
    """In, out, and how many notes were removed, added and changed, by reason."""
    tally = outcome.tally

    def words(counts: dict[Reason, int]) -> dict[str, int]:
        return {reason.word: count for reason, count in counts.items()}

    return {
        "in": tally.arrived,
        "out": tally.left,
        "removed": words(tally.removed()),
        "added": words(tally.added()),
        "changed": words(tally.changed()),
    }


def note_rows(outcome: Outcome) -> list[dict[str, Any]]:
    """One row for each note that was removed, added, changed or unmapped, in playing order."""
    entries = outcome.tally.entries
    told = entries.action != Action.KEPT
    place = {int(origin): i for i, origin in enumerate(outcome.input_notes.origin.tolist())}
    reasons: dict[tuple[int, int], list[str]] = {}
    kinds: dict[tuple[int, int], Action] = {}
    sure: dict[tuple[int, int], float] = {}
    columns = (entries.origin, entries.branch, entries.action, entries.reason, entries.confidence)
    for origin, branch, action, reason, confidence in zip(*(c[told].tolist() for c in columns), strict=True):
        key = (place[origin], branch)
        word = Reason.of(reason).word
        if word not in reasons.setdefault(key, []):
            reasons[key].append(word)
        # A removed note is removed, whatever was changed about it before.
        if kinds.get(key) != Action.REMOVED:
            kinds[key] = Action(action) if Action(action) != Action.CHANGED or key not in kinds else kinds[key]
        sure[key] = min(sure.get(key, 1.0), confidence)
    changes = _changes(outcome, place)
    played = outcome.input_notes
    return [
        {
            "time": round(float(played.start[i]), 6),
            "channel": int(played.channel[i]),
            "note": int(played.note[i]),
            "velocity": round(float(played.velocity[i]), 3),
            "what": _WHAT_WORDS[kinds[i, branch]],
            "reason": ", ".join(reasons[i, branch]),
            "confidence": round(sure[i, branch], 3),
            **changes.get((i, branch), {}),
        }
        for i, branch in sorted(kinds)
    ]


def _changes(outcome: Outcome, place: dict[int, int]) -> dict[tuple[int, int], dict[str, Any]]:
    """By note and branch what was changed: field, from and to of the start or else of the last change, and all."""
    entries = outcome.tally.entries
    rows = entries.take((entries.action == Action.CHANGED) & (entries.field != NoteField.NONE))
    found: dict[tuple[int, int], list[dict[str, Any]]] = {}
    columns = (rows.origin, rows.branch, rows.field, rows.before, rows.after)
    for origin, branch, field, before, after in zip(*(column.tolist() for column in columns), strict=True):
        kind = NoteField(field)
        values: list[object] = [None if value != value else round(value, 6) for value in (before, after)]
        if kind == NoteField.ARTICULATION:
            values = [outcome.vocabulary[int(v)] if v == v and v >= 0 else None for v in (before, after)]
        change = {"field": FIELDS[kind], "from": values[0], "to": values[1]}
        found.setdefault((place[origin], branch), []).append(change)
    told = {}
    for key, several in found.items():
        main = next((one for one in several if one["field"] == "start"), several[-1])
        told[key] = {**main, **({"changes": several} if len(several) > 1 else {})}
    return told


def unmapped_rows(outcome: Outcome, context: Context) -> list[dict[str, int]]:
    """Unmapped notes, most frequent first: not in the source map, or not available at the receiver."""
    played = outcome.input_notes
    unmapped = context.mapped_channels[played.channel] & (played.articulation < 0)
    nowhere = np.isin(played.origin, outcome.tally.origins(Action.REMOVED, NO_TARGET))
    table = context.target_table
    if table is not None:
        # Kept on request, they are still unmapped.
        nowhere |= (played.articulation >= 0) & (table.count[0, np.maximum(played.articulation, 0)] == 0)
    rows = np.flatnonzero(unmapped | nowhere)
    counts = Counter(zip(played.channel[rows].tolist(), played.note[rows].tolist(), strict=True))
    return [{"channel": c, "note": n, "count": k} for (c, n), k in sorted(counts.items(), key=lambda i: (-i[1], i[0]))]


def report(outcome: Outcome, context: Context, take: Take, warnings: list[str]) -> dict[str, Any]:
    """The whole report of one take."""
    return {
        "sums": sums(outcome),
        "notes": note_rows(outcome),
        "unmapped": unmapped_rows(outcome, context),
        "warnings": [*take.notices, *warnings],
    }
