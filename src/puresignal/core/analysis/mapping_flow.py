"""Where hits come from and where they go: the mapping of a take as nodes in three columns and flows between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.kit.articulations import HAT_EDGE_HALF, canonical, sort_key
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import MIDDLE_OPEN, Context, part_of


@dataclass(frozen=True)
class Arriving:
    """A note that arrives. channel is 0 for an unplayed pad of any channel."""

    channel: int
    note: int
    hits: int
    unmapped: bool


@dataclass(frozen=True)
class Meaning:
    """An articulation. unmapped: the receiver has no note for it. stand_in: the one it plays instead."""

    name: str
    hits: int
    unmapped: bool
    stand_in: str | None


@dataclass(frozen=True)
class Leaving:
    """A note that is sent. channel is 0 if each hit keeps its own. names: the receiver's articulations."""

    channel: int
    note: int
    hits: int
    names: tuple[str, ...]


@dataclass(frozen=True)
class Ribbon:
    """Hits that share one way. first, last: its nodes in the two columns; stand_in: the receiver plays a stand-in."""

    first: int
    last: int
    hits: int
    stand_in: bool = False


@dataclass(frozen=True)
class Flows:
    """The three columns, unmapped nodes first in each, and the flows between them."""

    arriving: tuple[Arriving, ...]
    meanings: tuple[Meaning, ...]
    leaving: tuple[Leaving, ...]
    named: tuple[Ribbon, ...]
    sent: tuple[Ribbon, ...]


def flows(outcome: Outcome, context: Context, whole: bool = False) -> Flows:
    """The mapping of a take.

    whole  include pads and notes of the maps that were not played
    """
    arrived = _arrived(outcome, context)
    means: dict[str, int] = {}
    for (_, _, name), hits in arrived.items():
        if name is not None:
            means[name] = means.get(name, 0) + hits
    if whole and context.source is not None:
        for pad in context.source.pads:
            name = canonical(pad.articulation)
            channel = context.source.channel_of(pad) or 0
            played = any((c, n) == (channel, pad.note) or (not channel and n == pad.note) for c, n, _ in arrived)
            if not played:
                arrived[channel, pad.note, name] = 0
            means.setdefault(name, 0)
    out = _sent(outcome, context, means)
    loose_means = {name for name in means if context.target_table is not None and not any(k[0] == name for k in out)}
    leaving_hits: dict[tuple[int, int], int] = {}
    for (_, channel, note), (hits, _) in out.items():
        leaving_hits[channel, note] = leaving_hits.get((channel, note), 0) + hits
    if whole and context.target is not None:
        for pad in context.target.pads:
            leaving_hits.setdefault((context.target.channel_of(pad) or 0, pad.note), 0)

    arriving = _arriving(arrived)
    meanings = tuple(
        Meaning(name, means[name], name in loose_means, _stand_in(name, context))
        for name in sorted(means, key=lambda n: (n not in loose_means, sort_key(n)))
    )
    leaving = _leaving(leaving_hits, context.target, [m.name for m in meanings], out)
    in_place = {(a.channel, a.note): i for i, a in enumerate(arriving)}
    mid_place = {m.name: i for i, m in enumerate(meanings)}
    out_place = {(e.channel, e.note): i for i, e in enumerate(leaving)}
    named = tuple(
        Ribbon(in_place[c, n], mid_place[name], hits) for (c, n, name), hits in arrived.items() if name is not None
    )
    sent = tuple(
        Ribbon(mid_place[name], out_place[c, n], hits, stand_in) for (name, c, n), (hits, stand_in) in out.items()
    )
    return Flows(arriving, meanings, leaving, named, sent)


def _arrived(outcome: Outcome, context: Context) -> dict[tuple[int, int, str | None], int]:
    """Hits by (channel, note, articulation); None for a note that the map lacks."""
    played = outcome.input_notes
    mine = context.mapped_channels[played.channel]
    key = (played.channel[mine].astype(np.int64) * 128 + played.note[mine]) * 4096 + played.articulation[mine] + 1
    found, counts = np.unique(key, return_counts=True)
    rows: dict[tuple[int, int, str | None], int] = {}
    for one, hits in zip(found.tolist(), counts.tolist(), strict=True):
        place, code = divmod(one, 4096)
        rows[place // 128, place % 128, outcome.vocabulary[code - 1] if code else None] = hits
    return rows


def _sent(outcome: Outcome, context: Context, means: dict[str, int]) -> dict[tuple[str, int, int], tuple[int, bool]]:
    """(hits, stand-in) by (articulation, channel, note) as sent."""
    table, rows = context.target_table, {}  # type: ignore[var-annotated]
    if table is None:
        return {}
    played = outcome.input_notes
    for name, hits in means.items():
        code = context.code[name]
        nearer = {MIDDLE_OPEN: hits}
        if name in ("hat.half", HAT_EDGE_HALF):
            mine = played.closedness[played.articulation == code]
            counts = np.bincount(part_of(mine), minlength=len(table.first)).tolist()
            counts[MIDDLE_OPEN] += hits - len(mine)
            nearer = {end: n for end, n in enumerate(counts) if n}
        for end, count in nearer.items():
            first = int(table.first[end, code])
            for i in range(first, first + int(table.count[end, code])):
                key = (name, int(table.channels[i]), int(table.notes[i]))
                before = rows.get(key, (0, False))[0]
                rows[key] = (before + count, bool(table.stand_in[end, code] >= 0))
    return rows


def _stand_in(name: str, context: Context) -> str | None:
    table = context.target_table
    if table is None:
        return None
    code = int(table.stand_in[MIDDLE_OPEN, context.code[name]])
    return context.vocabulary[code] if code >= 0 else None


def _arriving(arrived: dict[tuple[int, int, str | None], int]) -> tuple[Arriving, ...]:
    nodes: dict[tuple[int, int], list[tuple[str | None, int]]] = {}
    for (channel, note, name), hits in arrived.items():
        nodes.setdefault((channel, note), []).append((name, hits))

    def order(item: tuple[tuple[int, int], list[tuple[str | None, int]]]) -> tuple[object, ...]:
        (channel, note), ways = item
        names = [name for name, _ in ways if name is not None]
        unmapped = not names
        first = min(map(sort_key, names)) if names else (0, "", 0, "")
        return (not unmapped, -sum(h for _, h in ways) if unmapped else 0, first, channel, note)

    return tuple(
        Arriving(channel, note, sum(h for _, h in ways), all(name is None for name, _ in ways))
        for (channel, note), ways in sorted(nodes.items(), key=order)
    )


def _leaving(
    hits: dict[tuple[int, int], int],
    target: NoteMap | None,
    means: list[str],
    out: dict[tuple[str, int, int], tuple[int, bool]],
) -> tuple[Leaving, ...]:
    names: dict[tuple[int, int], list[str]] = {}
    if target is not None:
        for pad in target.pads:
            for note in (pad.note, *pad.also):
                names.setdefault((target.channel_of(pad) or 0, note), []).append(pad.articulation)
    place = {name: i for i, name in enumerate(means)}
    # A note is placed beside the first articulation that leads to it, which keeps crossings few.
    first: dict[tuple[int, int], int] = {}
    for name, channel, note in out:
        first[channel, note] = min(first.get((channel, note), len(means)), place[name])

    def order(key: tuple[int, int]) -> tuple[object, ...]:
        own = names.get(key, [])
        return (first.get(key, len(means)), sort_key(own[0]) if own else (99, "", 0, ""), key)

    return tuple(Leaving(c, n, hits[c, n], tuple(names.get((c, n), ()))) for c, n in sorted(hits, key=order))


@dataclass(frozen=True, eq=False)
class HatPicture:
    """The hat pedal in a take.

    travel      (128,) how often each controller value occurred
    closedness  (n,) of each hat hit, 0 open .. 1 closed; NaN where no pedal value was received
    names       (n,) articulation of each hat hit
    lowest, highest  controller values reached, None without any
    """

    travel: np.ndarray
    closedness: np.ndarray
    names: tuple[str, ...]
    lowest: int | None
    highest: int | None


def hat_picture(outcome: Outcome, context: Context, events_values: np.ndarray) -> HatPicture:
    """The pedal's travel and the openings at which the hat was struck.

    events_values  (k,) values of the hat's controller in order of arrival
    """
    played = outcome.input_notes
    codes = [i for i, name in enumerate(outcome.vocabulary) if name.startswith("hat.")]
    mine = np.isin(played.articulation, codes)
    values = events_values.astype(np.int64)
    return HatPicture(
        travel=np.bincount(values, minlength=128)[:128],
        closedness=played.closedness[mine],
        names=tuple(outcome.vocabulary[c] for c in played.articulation[mine].tolist()),
        lowest=int(values.min()) if len(values) else None,
        highest=int(values.max()) if len(values) else None,
    )


def pedal_values(outcome_context: Context, status: np.ndarray, data1: np.ndarray, data2: np.ndarray) -> np.ndarray:
    """(k,) values of the hat's controller among a take's raw messages."""
    hat = outcome_context.source.hat if outcome_context.source is not None else None
    if hat is None:
        return np.zeros(0, np.int64)
    channel = messages.channels(status)
    mine = (
        (messages.kinds(status) == messages.CONTROL) & (data1 == hat.controller) & outcome_context.hat_channels[channel]
    )
    return np.asarray(data2[mine], np.int64)
