"""Edits on where takes stand: moved, cropped, repeated, duplicated. Material is never touched."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from puresignal.core.kit.map_lookup import mapped_channels
from puresignal.core.path.several_takes import BEATS, Placed
from puresignal.core.session.session import Session, with_changed
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import Timeline


def span(placed: Placed, timeline: Timeline) -> tuple[float, float]:
    """Where a take begins and ends, in beats from bar 1: its range, or all of its material."""
    if placed.rounds:
        ends = [one.beat + _beats_long(placed, one.begin, one.end, one.beat, timeline) for one in placed.rounds]
        return min(one.beat for one in placed.rounds), max(ends)
    begin = 0.0 if placed.begin is None else placed.begin
    end = placed.take.length if placed.end is None else placed.end
    first, last = beats_of(placed, np.array([begin, max(begin, end)]), timeline).tolist()
    return first, last


def beats_of(placed: Placed, seconds: np.ndarray, timeline: Timeline) -> np.ndarray:
    """Beats from bar 1 of (n,) seconds of a take's material."""
    return timeline.seconds_to_beats(placed.seconds(seconds, timeline))


def _beats_long(placed: Placed, begin: float, end: float, beat: float, timeline: Timeline) -> float:
    own = placed.own_beats(np.array([begin, end]))
    if placed.follows == BEATS:
        return float(own[1] - own[0])
    at = timeline.beats_to_seconds(np.array([beat]))
    return float(timeline.seconds_to_beats(at + (end - begin))[0]) - beat


def plays_kit(placed: Placed) -> bool:
    """Whether any note of a take is on a channel that its kit's map speaks of."""
    if placed.source is None:
        return False
    status = placed.take.events.status
    channels = (status[(status & 0xF0) == 0x90] & 0x0F).astype(np.int64) + 1
    return bool(mapped_channels(placed.source)[channels].any())


def instead(
    session: Session, added: tuple[str, ...], spans: Mapping[str, tuple[float, float]], drums: Mapping[str, bool]
) -> Session:
    """Take out what new takes stand in place of: another take of the same kit's tracks at the same time.

    Two grooves of one drummer over each other are nobody's wish; a bass line beside a groove is.

    spans, drums  by ident: where each take begins and ends, and whether it plays its kit's tracks
    """
    for ident in added:
        new = session.take(ident)
        if new is None or not drums.get(ident):
            continue
        for other in session.takes:
            if other.ident in added or other.ident not in spans or not drums[other.ident] or other.own != new.own:
                continue
            (begin, end), (first, last) = spans[ident], spans[other.ident]
            if begin < last and first < end:
                session = with_changed(session, other.ident, is_in=False)
    return session


def moved_by(session: Session, ident: str, beats: float) -> Session:
    """Move a take later or, with negative beats, earlier. Its passes move along."""
    ref = session.take(ident)
    if ref is None:
        return session
    passes = tuple(replace(one, beat=one.beat + beats) for one in ref.passes)
    return with_changed(session, ident, beat=ref.beat + beats, passes=passes)


def moved_to_bar(session: Session, ident: str, placed: Placed, timeline: Timeline, bar: int) -> Session:
    """Move a take so that its beginning stands on a bar line."""
    return moved_by(session, ident, timeline.bar_to_beats(bar) - span(placed, timeline)[0])


def with_note_on_bar(
    session: Session, ident: str, placed: Placed, timeline: Timeline, second: float, bar: int
) -> Session:
    """Move a take so that a note of it, given by its second in the material, falls on a bar line."""
    wanted = timeline.bar_to_beats(bar)
    if placed.follows == BEATS:
        return moved_by(session, ident, wanted - float(beats_of(placed, np.array([second]), timeline)[0]))
    # By the clock: where tempo changes, beats before the note are not those after it.
    at = float(timeline.beats_to_seconds(np.array([wanted]))[0]) - second
    beat = float(timeline.seconds_to_beats(np.array([at]))[0])
    ref = session.take(ident)
    return session if ref is None else moved_by(session, ident, beat - ref.beat)


def cropped_to_bars(session: Session, ident: str, placed: Placed, timeline: Timeline, first: int, last: int) -> Session:
    """Use only what lies from bar `first` to the end of bar `last`. Nothing moves, and nothing is lost."""
    begin, end = (timeline.bar_to_beats(bar) for bar in (first, last + 1))
    return cropped_to_beats(session, ident, placed, timeline, begin, end)


def cropped_to_beats(
    session: Session, ident: str, placed: Placed, timeline: Timeline, begin: float, end: float
) -> Session:
    """Use only what lies between two beats from bar 1. A side that lies outside the material is not cropped."""
    first, last = (second_at(placed, timeline, beat) for beat in (begin, end))
    whole = placed.take.length
    return cropped(session, ident, first if first > 0 else None, last if last <= whole else None)


def cropped(session: Session, ident: str, begin: float | None, end: float | None) -> Session:
    """Use only a range of the material's seconds; None: from its beginning, to its end."""
    if begin is not None and end is not None and end <= begin:
        return session
    return with_changed(session, ident, begin=begin, end=end)


def second_at(placed: Placed, timeline: Timeline, beat: float) -> float:
    """The second of a take's material that stands at a beat from bar 1."""
    if placed.follows != BEATS:
        at, zero = timeline.beats_to_seconds(np.array([beat, placed.beat])).tolist()
        return float(at - zero)
    grid = placed.grid if placed.grid is not None else placed.take.tempo
    return float(grid.beats_to_seconds(np.array([beat - placed.beat]))[0])


def duplicated(session: Session, ident: str, placed: Placed, timeline: Timeline, times: int = 1) -> Session:
    """Put copies of a take behind it, each a whole number of bars after the one before. They use the same material."""
    ref = session.take(ident)
    if ref is None or times < 1:
        return session
    begin, end = span(placed, timeline)
    first, _ = timeline.beats_to_bar(begin)
    last, into = timeline.beats_to_bar(max(begin, end - 1e-6))
    bars = max(1, last - first + (1 if into >= 0 else 0))
    takes = list(session.takes)
    at = takes.index(ref)
    number = session.numbers
    used = {take.ident for take in takes}
    for n in range(1, times + 1):
        number += 1
        shift = timeline.bar_to_beats(first + n * bars) - timeline.bar_to_beats(first)
        passes = tuple(replace(one, beat=one.beat + shift) for one in ref.passes)
        name = free_ident(ref.ident, used)
        used.add(name)
        takes.insert(at + n, replace(ref, ident=name, number=number, beat=ref.beat + shift, passes=passes))
    return replace(session, takes=tuple(takes), numbers=number)


def with_delay(session: Session, ident: str, timeline: Timeline, delay: float) -> Session:
    """Take off another delay, in seconds, than was known when the take was recorded: it moves by the difference."""
    ref = session.take(ident)
    if ref is None:
        return session
    grid = ref.grid if ref.follows_beats and ref.grid is not None else None
    if grid is not None:
        # What arrived at its beginning by its own tempo, which is the one that was heard.
        a, b = grid.seconds_to_beats(np.array([0.0, abs(delay - ref.delay)])).tolist()
        moved = (b - a) * (1 if delay < ref.delay else -1)
        return with_changed(session, ident, delay=delay, beat=ref.beat + moved, passes=tuple(
            replace(one, beat=one.beat + moved) for one in ref.passes
        ))  # fmt: skip
    start = float(timeline.beats_to_seconds(np.array([ref.beat]))[0])
    beat = float(timeline.seconds_to_beats(np.array([start + ref.delay - delay]))[0])
    return with_changed(session, ident, delay=delay, beat=beat)


def free_ident(ident: str, used: set[str]) -> str:
    """An ident like another one that none of these has."""
    stem = ident.split("-", maxsplit=1)[0]
    return next(name for n in itertools.count(2) if (name := f"{stem}-{n}") not in used)


def split_at(session: Session, ident: str, seconds: list[float], rings: bool = False) -> Session:
    """Several pieces of one sitting: a take for each stretch between these seconds, each in its place.

    rings  whether a note that sounds over a cut keeps its length
    """
    ref = session.take(ident)
    if ref is None:
        return session
    cuts = sorted(s for s in seconds if (ref.begin is None or s > ref.begin) and (ref.end is None or s < ref.end))
    if not cuts:
        return session
    edges: list[float | None] = [ref.begin, *cuts, ref.end]
    takes = list(session.takes)
    at = takes.index(ref)
    takes[at] = replace(ref, end=edges[1], rings=rings or ref.rings)
    number, used = session.numbers, {take.ident for take in takes}
    for n, (begin, end) in enumerate(itertools.pairwise(edges[1:]), 2):
        number += 1
        name = free_ident(ref.ident, used)
        used.add(name)
        last = end == ref.end
        piece: TakeRef = replace(
            ref, ident=name, name=f"{ref.name} {n}", number=number, begin=begin, end=end,
            rings=ref.rings or (rings and not last),
        )  # fmt: skip
        takes.insert(at + n - 1, piece)
    return replace(session, takes=tuple(takes), numbers=number)
