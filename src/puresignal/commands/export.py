"""`pure-signal export`: the MIDI files of sessions, every take that is in as one result."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.export import whole_session
from puresignal.io import file_access, midi_writer, report, session_file
from puresignal.translation import tr


@dataclass(frozen=True)
class Options:
    """How sessions are exported.

    kind   0 or 1, the type of the files
    ppq    ticks a quarter note, None for as many as keep every take's
    takes  names of the takes that are in, empty for those that the session says
    """

    kind: int = 1
    ppq: int | None = None
    with_tempo: bool = True
    with_key: bool = True
    takes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Exported:
    """One file: or the error that kept it from being written."""

    source: Path
    target: Path
    names: tuple[str, ...] = ()
    notes: int = 0
    report: dict[str, object] | None = None
    error: PureSignalError | None = None


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
        made = whole_session.result(session, takes, options.ppq)
        song = whole_session.song_of(session, made, options.with_key)
        if options.kind == 0:
            song = whole_session.as_type_0(song)
        content = midi_writer.to_bytes(song, options.with_tempo and session.delivery.with_tempo)
        file_access.write_bytes(target, content)
    except PureSignalError as error:
        return Exported(source, target, error=error)
    told: dict[str, object] = {
        "takes": list(made.names), "sums": report.sums(made.outcome), "notes": report.note_rows(made.outcome),
        "warnings": list(made.take.notices),
    }  # fmt: skip
    return Exported(source, target, made.names, song.note_count, told)
