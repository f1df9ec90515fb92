"""Edits of alternatives: takes of one thing, of which one is used in each bar."""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.session.arrangement import Alternatives
from puresignal.core.session.session import Session


def group_of(session: Session, ident: str) -> Alternatives | None:
    """The alternatives that a take is one of."""
    return next((one for one in session.alternatives if ident in one.takes), None)


def take_at(group: Alternatives, bar: int) -> str:
    """The take that is used in a bar."""
    return next((ident for first, ident in reversed(group.choice) if first <= bar), group.takes[0])


def letter(group: Alternatives, ident: str) -> str:
    """The letter of a take among its alternatives: A, B, .. Z, AA, AB, .."""
    number, text = group.takes.index(ident), ""
    while number >= 0:
        text = chr(ord("A") + number % 26) + text
        number = number // 26 - 1
    return text


def grouped(session: Session, idents: tuple[str, ...], name: str) -> Session:
    """Makes takes alternatives of each other, together with those that they were alternatives of; all are in.

    The choice of the first group among them stays; a take that is new to it is used nowhere yet
    """
    groups = [one for one in session.alternatives if set(one.takes) & set(idents)]
    # What was used before is used still: of two new ones, the one that was in comes first.
    in_first = sorted(idents, key=lambda ident: not any(ref.ident == ident and ref.is_in for ref in session.takes))
    takes = tuple(dict.fromkeys((*(ident for one in groups for ident in one.takes), *in_first)))
    choice = groups[0].choice if groups else ()
    made = Alternatives(groups[0].name if groups else name, takes, choice)
    left = tuple(one for one in session.alternatives if one not in groups)
    refs = tuple(replace(ref, is_in=True) if ref.ident in takes else ref for ref in session.takes)
    return replace(session, alternatives=(*left, made), takes=refs)


def ungrouped(session: Session, ident: str) -> Session:
    """A take is no alternative any more; it is out, unless it was the only one that was used."""
    group = group_of(session, ident)
    if group is None:
        return session
    used = {take_at(group, bar) for bar in (-(1 << 30), *(bar for bar, _ in group.choice))}
    refs = session.takes
    if used != {ident}:
        refs = tuple(replace(ref, is_in=False) if ref.ident == ident else ref for ref in refs)
    else:
        refs = tuple(
            replace(ref, is_in=False) if ref.ident in group.takes and ref.ident != ident else ref for ref in refs
        )
    return replace(session, alternatives=_without(session, ident), takes=refs)


def _without(session: Session, ident: str) -> tuple[Alternatives, ...]:
    """The alternatives without a take; of what is left of two, there is nothing to choose."""
    left = []
    for group in session.alternatives:
        if ident in group.takes:
            takes = tuple(one for one in group.takes if one != ident)
            if len(takes) < 2:
                continue
            group = replace(group, takes=takes, choice=_tidy(takes, tuple(c for c in group.choice if c[1] != ident)))
        left.append(group)
    return tuple(left)


def forgotten(session: Session, ident: str) -> Session:
    """A take was removed: bars that used it use the one before."""
    return replace(session, alternatives=_without(session, ident))


def chosen(session: Session, group: Alternatives, first: int, after: int | None, ident: str) -> Session:
    """Use a take from a bar on, before another, or to the end; the bars around stay as they are."""
    before = tuple(one for one in group.choice if one[0] < first)
    behind: tuple[tuple[int, str], ...] = ()
    if after is not None:
        behind = ((after, take_at(group, after)), *(one for one in group.choice if one[0] > after))
    choice = _tidy(group.takes, (*before, (first, ident), *behind))
    alternatives = tuple(replace(one, choice=choice) if one == group else one for one in session.alternatives)
    return replace(session, alternatives=alternatives)


def _tidy(takes: tuple[str, ...], choice: tuple[tuple[int, str], ...]) -> tuple[tuple[int, str], ...]:
    """Without what changes nothing."""
    kept: list[tuple[int, str]] = []
    now = takes[0]
    for bar, ident in choice:
        if ident != now:
            kept.append((bar, ident))
            now = ident
    return tuple(kept)
