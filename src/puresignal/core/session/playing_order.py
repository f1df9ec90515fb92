"""In what order the bars of a session are played: its sections with their repeats, without the bars that are hidden."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from puresignal.core.session.arrangement import Section
from puresignal.core.session.session import Session


@dataclass(frozen=True)
class Piece:
    """Bars that are played in a row.

    first, after  first bar, and the bar after the last
    section       ident of the section, or empty
    round         which of its rounds this is, from 0; random draws differ by it
    """

    first: int
    after: int
    section: str = ""
    round: int = 0


def is_plain(session: Session) -> bool:
    """Whether the bars are played as they stand."""
    return not session.order and all(one.repeats == 1 and not one.hidden for one in session.sections)


def by_bar(session: Session) -> list[Section]:
    """The sections in the order in which they stand."""
    return sorted(session.sections, key=lambda one: one.bar)


def pieces(session: Session, last_bar: int, order: Sequence[tuple[str, int]] | None = None) -> list[Piece]:
    """The pieces that are played, in order.

    last_bar  the last bar in which there is anything
    order     (ident of a section, times); None: the session's order, or as they stand with their repeats
    """
    sections = {one.ident: one for one in session.sections}
    if order is None and session.order:
        order = [(ident, sections[ident].repeats) for ident in session.order if ident in sections]
    found: list[Piece] = []
    if order is not None:
        rounds: dict[str, int] = {}
        for ident, times in order:
            for _ in range(times):
                found.append(_piece(sections[ident], rounds.setdefault(ident, 0)))
                rounds[ident] += 1
        return found
    bar = min([1, *(one.bar for one in session.sections)])
    for one in by_bar(session):
        if one.bar > bar:
            found.append(Piece(bar, one.bar))
        found += [_piece(one, number) for number in range(one.repeats)]
        bar = max(bar, one.bar + one.bars + one.hidden)
    if last_bar >= bar or not found:
        found.append(Piece(bar, max(bar, last_bar) + 1))
    return found


def as_it_is(session: Session) -> list[tuple[str, int]] | None:
    """The session's order as (ident, times); None where there are no sections."""
    sections = {one.ident: one for one in session.sections}
    names = session.order or tuple(one.ident for one in by_bar(session))
    return [(ident, sections[ident].repeats) for ident in names if ident in sections] or None


def _piece(section: Section, number: int) -> Piece:
    return Piece(section.bar, section.bar + section.bars, section.ident, number)


def parsed(session: Session, text: str) -> list[tuple[str, int]]:
    """An order like "verse,chorus*2" as (ident, times). Names are compared without case.

    Raises KeyError with the name that is no section, ValueError with the part that makes no sense
    """
    idents: dict[str, str] = {}
    for one in by_bar(session):
        idents.setdefault(one.name.casefold(), one.ident)
        idents.setdefault(one.ident.casefold(), one.ident)
    found = []
    for part in text.split(","):
        name, star, times = part.strip().rpartition("*")
        if not star:
            name, times = part.strip(), "1"
        if not name or not times.strip().isdigit() or not 1 <= int(times) <= 999:
            raise ValueError(part.strip())
        found.append((idents[name.strip().casefold()], int(times)) if name.strip().casefold() in idents else (name, -1))
    unknown = next((name for name, times in found if times < 0), None)
    if unknown is not None:
        raise KeyError(unknown)
    return found
