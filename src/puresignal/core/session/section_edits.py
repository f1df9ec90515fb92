"""Edits of sections: named stretches of bars that are made shorter and longer, repeated, copied and put in order.

Shortening hides bars at a section's end; they stay where they are, silent, and come back first when it is made longer
again. Only what goes beyond them inserts bars, and everything behind moves.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from puresignal.core.path.several_takes import Placed
from puresignal.core.session import take_edits
from puresignal.core.session.arrangement import Alternatives, Loop, Section
from puresignal.core.session.playing_order import by_bar
from puresignal.core.session.session import Session, with_timeline
from puresignal.core.session.take_ref import Pass, TakeRef
from puresignal.core.timing.session_time import Timeline

EARLY = 0.6
"""Beats by which a take may begin before a bar and be one that begins with it: recordings take early hits along."""
MOST_REPEATS, MOST_BARS = 99, 9999
PlacedOf = Callable[[Session, TakeRef], Placed]
"""A take of a session at its place."""


def at_bar(session: Session, bar: int) -> Section | None:
    """The section that a bar lies in, hidden bars too."""
    return next((one for one in session.sections if one.bar <= bar < one.bar + one.bars + one.hidden), None)


def section(session: Session, ident: str) -> Section | None:
    return next((one for one in session.sections if one.ident == ident), None)


def _with(session: Session, ident: str, **changed: object) -> Session:
    sections = tuple(replace(one, **changed) if one.ident == ident else one for one in session.sections)  # type: ignore[arg-type]
    return replace(session, sections=sections)


def free_name(session: Session) -> str:
    """A letter that names no section yet."""
    used = {one.name for one in session.sections}
    letters = (chr(ord("A") + n) for n in range(26))
    return next((name for name in letters if name not in used), f"S{len(session.sections) + 1}")


def made(session: Session, bar: int, bars: int, name: str = "") -> Session:
    """With a new section. Where others stand already it has only the bars before the next of them.

    Raises ValueError if its first bar belongs to another, or it has no bars
    """
    if bars < 1 or at_bar(session, bar) is not None:
        raise ValueError(bar)
    following = [one.bar for one in session.sections if one.bar > bar]
    bars = min(bars, min(following) - bar) if following else bars
    used = {one.ident for one in session.sections}
    ident = next(f"s{n}" for n in range(1, len(used) + 2) if f"s{n}" not in used)
    sections = (*session.sections, Section(ident, name or free_name(session), bar, min(bars, MOST_BARS)))
    order = (*session.order, ident) if session.order else ()
    return replace(session, sections=tuple(sorted(sections, key=lambda one: one.bar)), order=order)


def removed(session: Session, ident: str) -> Session:
    """Without a section's bracket; its bars stay, hidden ones are heard again."""
    sections = tuple(one for one in session.sections if one.ident != ident)
    return replace(session, sections=sections, order=tuple(one for one in session.order if one != ident))


def renamed(session: Session, ident: str, name: str) -> Session:
    return _with(session, ident, name=name.strip()) if name.strip() else session


def with_repeats(session: Session, ident: str, repeats: int) -> Session:
    return _with(session, ident, repeats=max(1, min(MOST_REPEATS, repeats)))


def with_bars(session: Session, ident: str, bars: int, timeline: Timeline, placed_of: PlacedOf) -> Session:
    """With another length: shorter hides bars, longer brings them back and then inserts new ones."""
    one = section(session, ident)
    bars = max(1, min(MOST_BARS, bars))
    if one is None or bars == one.bars:
        return session
    whole = one.bars + one.hidden
    if bars > whole:
        session = inserted(session, one.bar + whole, bars - whole, timeline, placed_of)
        return _with(session, ident, bars=bars, hidden=0)
    return _with(session, ident, bars=bars, hidden=whole - bars)


def with_order(session: Session, order: tuple[str, ...]) -> Session:
    """Play sections in an order, each as often as it is in it; empty: as they stand."""
    known = {one.ident for one in session.sections}
    return replace(session, order=tuple(ident for ident in order if ident in known))


def inserted(session: Session, bar: int, count: int, timeline: Timeline, placed_of: PlacedOf) -> Session:
    """Insert bars before a bar, in the meter of the bar before it; what is behind moves, what lies over it parts."""
    if count < 1:
        return session
    here = timeline.bar_to_beats(bar)
    beats = count * timeline.meter_at(bar - 1).beats
    session = _parted(session, here, bar, timeline, placed_of)
    takes = tuple(
        _moved(ref, beats, bar, count) if _begins(ref, session, timeline, placed_of) >= here - EARLY else ref
        for ref in session.takes
    )
    now = session.timeline or timeline
    tempos = tuple(replace(p, beat=p.beat + beats) if p.beat >= here - 1e-9 and p.beat > 0 else p for p in now.tempos)
    meters = tuple(replace(m, bar=m.bar + count) if m.bar >= bar and m.bar > 1 else m for m in now.meters)
    sections = tuple(replace(s, bar=s.bar + count) if s.bar >= bar else s for s in session.sections)
    alternatives = tuple(_later(group, bar, count) for group in session.alternatives)
    loop = session.loop
    if loop is not None:
        loop = Loop(*(b + beats if b >= here - 1e-9 and b > 0 else b for b in (loop.begin, loop.end)))
    markers = tuple((beat + beats if beat >= here - 1e-9 else beat, text) for beat, text in session.markers)
    session = replace(session, takes=takes, sections=sections, alternatives=alternatives, loop=loop, markers=markers)
    return with_timeline(session, replace(now, tempos=tempos, meters=meters))


def _begins(ref: TakeRef, session: Session, timeline: Timeline, placed_of: PlacedOf) -> float:
    """The beat at which what is used of a take begins."""
    if ref.passes:
        firsts = [timeline.bar_to_beats(one.bars[0]) if one.bars is not None else one.beat for one in ref.passes]
        return min(firsts)
    return take_edits.span(placed_of(session, ref), timeline)[0] if ref.begin is not None else ref.beat


def _moved(ref: TakeRef, beats: float, bar: int, count: int) -> TakeRef:
    passes = tuple(
        replace(
            one,
            beat=one.beat + beats,
            bars=None if one.bars is None else (one.bars[0] + count, one.bars[1] + count),
        )
        for one in ref.passes
    )
    return replace(ref, beat=ref.beat + beats, passes=passes)


def _later(group: Alternatives, bar: int, count: int) -> Alternatives:
    choice = tuple((first + count if first >= bar else first, ident) for first, ident in group.choice)
    return replace(group, choice=choice)


def _parted(session: Session, beat: float, bar: int, timeline: Timeline, placed_of: PlacedOf) -> Session:
    """Each take that lies over a beat becomes two uses of its material."""
    for ref in session.takes:
        placed = placed_of(session, ref)
        begin, end = take_edits.span(placed, timeline)
        if ref.passes:
            session = _with_parted_passes(session, ref, bar)
        elif begin < beat - EARLY and end > beat + 1e-6 and ref.kind not in ("sound", "drawn", "generated"):
            # What was played a hair before the bar belongs to it.
            at = take_edits.second_at(placed, timeline, beat) - AHEAD
            session = take_edits.split_at(session, ref.ident, [at], rings=True)
    return session


def _with_parted_passes(session: Session, ref: TakeRef, bar: int) -> Session:
    """A loop recording over a bar: one use of it before the bar, another from it on."""
    early = [_within(one, None, bar) for one in ref.passes]
    late = [_within(one, bar, None) for one in ref.passes]
    first, second = (tuple(one for one in part if one is not None) for part in (early, late))
    if not first or not second:
        return session
    ident = take_edits.free_ident(ref.ident, {one.ident for one in session.takes})
    takes = list(session.takes)
    place = takes.index(ref)
    number = session.numbers + 1
    takes[place] = replace(ref, passes=first)
    takes.insert(place + 1, replace(ref, ident=ident, number=number, name=f"{ref.name} 2", passes=second))
    return replace(session, takes=tuple(takes), numbers=number)


FAR = 1 << 30


def _within(one: Pass, first: int | None, after: int | None) -> Pass | None:
    """A pass in bars from one on, or before one; None if it has none there."""
    begin, end = one.bars or (-FAR, FAR)
    begin, end = max(begin, -FAR if first is None else first), min(end, FAR if after is None else after)
    return replace(one, bars=(begin, end)) if begin < end else None


def duplicated(session: Session, ident: str, timeline: Timeline, placed_of: PlacedOf) -> Session:
    """A copy of a section, with all it has, right behind it and under its name with a number."""
    one = section(session, ident)
    if one is None:
        return session
    behind, bars = one.bar + one.bars + one.hidden, one.bars
    begin, end = timeline.bar_to_beats(one.bar), timeline.bar_to_beats(one.bar + bars)
    session = inserted(session, behind, bars, timeline, placed_of)
    now = session.timeline or timeline
    moved = now.bar_to_beats(behind) - begin
    takes, number = list(session.takes), session.numbers
    used = {ref.ident for ref in takes}
    for ref in session.takes:
        placed = placed_of(session, ref)
        first, last = take_edits.span(placed, now)
        if last <= begin + 1e-6 or first >= end - 1e-6 or ref.kind in ("sound", "generated"):
            continue
        copy = ref
        if not ref.passes and ref.kind != "drawn":
            seconds = [take_edits.second_at(placed, now, beat) for beat in (begin, end)]
            lead = max(0.0, seconds[0] - AHEAD) if seconds[0] > 0 else None
            copy = replace(
                ref,
                begin=ref.begin if lead is None else max(lead, ref.begin or 0.0),
                end=min(seconds[1], ref.end if ref.end is not None else float("inf")),
            )
        elif ref.passes:
            parts = (_within(part, one.bar, one.bar + bars) for part in ref.passes)
            copy = replace(ref, passes=tuple(part for part in parts if part is not None))
        name = take_edits.free_ident(ref.ident, used)
        used.add(name)
        number += 1
        count = behind - one.bar
        takes.insert(takes.index(ref) + 1, _moved(replace(copy, ident=name, number=number), moved, behind, count))
    names = {other.name for other in session.sections}
    title = next(f"{one.name} {n}" for n in range(2, len(names) + 3) if f"{one.name} {n}" not in names)
    session = replace(session, takes=tuple(takes), numbers=number)
    return made(session, behind, bars, title)


AHEAD = 0.03
"""Seconds before its first bar that a copy of a section takes along."""


def written_out(session: Session, timeline: Timeline, placed_of: PlacedOf) -> Session:
    """Every repeat becomes a section of its own."""
    for one in by_bar(session)[::-1]:
        for _ in range(one.repeats - 1):
            session = duplicated(session, one.ident, session.timeline or timeline, placed_of)
        session = with_repeats(session, one.ident, 1)
    return session


def last_bar(session: Session, timeline: Timeline, placed_of: PlacedOf) -> int:
    """The last bar in which a take that is in has anything."""
    ends = [take_edits.span(placed_of(session, ref), timeline)[1] for ref in session.takes if ref.is_in]
    beat = max([*(end for end in ends if np.isfinite(end)), 0.0])
    bar, into = timeline.beats_to_bar(beat)
    return max(1, bar if into > 1e-6 else bar - 1)
