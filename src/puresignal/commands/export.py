"""`pure-signal export`: the MIDI files of sessions, every take that is in as one result."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.export import whole_session
from puresignal.core.midi.events import Take
from puresignal.core.session import playing_order
from puresignal.core.session.session import Session
from puresignal.io import file_access, midi_writer, report, session_file
from puresignal.translation import tr


@dataclass(frozen=True)
class Options:
    """How sessions are exported.

    kind   0 or 1, the type of the files
    ppq    ticks a quarter note, None for as many as keep every take's
    takes  names of the takes that are in, empty for those that the session says
    order  sections in playing order, like "verse,chorus*2"; None: as the session says
    only   ident of the one section that is written, empty for all
    rounds how often all of it is played
    running, zero_ends  as midi_writer.py has them; False: as the session says
    """

    kind: int = 1
    ppq: int | None = None
    with_tempo: bool = True
    with_key: bool = True
    takes: tuple[str, ...] = ()
    order: str | None = None
    only: str = ""
    rounds: int = 1
    running: bool = False
    zero_ends: bool = False


@dataclass(frozen=True)
class Exported:
    """One file: or the error that kept it from being written."""

    source: Path
    target: Path
    names: tuple[str, ...] = ()
    notes: int = 0
    report: dict[str, object] | None = None
    error: PureSignalError | None = None


def sections_of(source: Path) -> list[tuple[str, str]]:
    """(ident, name) of a session's sections, in the order in which they stand. Raises FileAccessError, BadFileError"""
    session = session_file.read(source).session
    if not session.sections:
        raise BadFileError(
            tr("This session has no sections"), source.name, tr("Make some in Takes, or leave out --per-section.")
        )
    return [(one.ident, one.name) for one in playing_order.by_bar(session)]


def _order(session: Session, takes: dict[str, Take], options: Options, source: Path) -> list[tuple[str, int]] | None:
    """The sections to play, as asked; None: as the session says. Raises BadFileError"""
    there = ", ".join(one.name for one in playing_order.by_bar(session)) or "-"
    order: list[tuple[str, int]] | None = None
    if options.only:
        order = [(options.only, 1)]
    elif options.order is not None:
        try:
            order = playing_order.parsed(session, options.order)
        except KeyError as error:
            raise BadFileError(
                tr("There is no section called {name!r}", name=str(error.args[0])), source.name,
                tr("Its sections are: {names}.", names=there),
            ) from error  # fmt: skip
        except ValueError as error:
            raise BadFileError(
                tr("{part!r} is no part of an order", part=str(error)), source.name,
                tr('Write it like "verse,chorus*2". Its sections are: {names}.', names=there),
            ) from error  # fmt: skip
    elif options.rounds > 1:
        order = playing_order.as_it_is(session)
        if order is None:
            raise BadFileError(
                tr("Rounds are of sections, and this session is not all sections"), source.name,
                tr("Give an order with --sections. Its sections are: {names}.", names=there),
            )  # fmt: skip
    return order if order is None else order * options.rounds


def export(source: Path, target: Path, options: Options) -> Exported:
    """Export one session. An error of one is returned, so that it stops no other."""
    try:
        opened = session_file.read(source)
        session, takes = opened.session, {take.ident: take for take in opened.takes}
        try:
            session = replace(session, takes=whole_session.checked(session.takes, list(options.takes)))
        except KeyError as error:
            there = ", ".join(ref.name for ref in session.takes) or "-"
            raise BadFileError(
                tr("There is no take called {name!r}", name=str(error.args[0])), source.name,
                tr("Its takes are: {names}.", names=there),
            ) from error  # fmt: skip
        if not any(ref.is_in for ref in session.takes):
            raise BadFileError(
                tr("No take of this session is in"), source.name, tr("Switch one in, or name one with --take.")
            )
        made = whole_session.result(session, takes, options.ppq, _order(session, takes, options, source))
        song = whole_session.song_of(session, made, options.with_key)
        if options.kind == 0:
            song = whole_session.as_type_0(song)
        form = session.delivery
        content = midi_writer.to_bytes(
            song, options.with_tempo and form.with_tempo, options.running or form.running,
            options.zero_ends or form.zero_ends,
        )  # fmt: skip
        file_access.write_bytes(target, content)
    except PureSignalError as error:
        return Exported(source, target, error=error)
    told: dict[str, object] = {
        "takes": list(made.names), "sums": report.sums(made.outcome), "notes": report.note_rows(made.outcome),
        "warnings": list(made.take.notices),
    }  # fmt: skip
    return Exported(source, target, made.names, song.note_count, told)
