"""`pure-signal generate`: what a recipe makes, as a MIDI file."""

from __future__ import annotations

from dataclasses import fields, replace
from pathlib import Path

from puresignal.commands import clean
from puresignal.core.errors import BadFileError
from puresignal.core.export import whole_session
from puresignal.core.generators.recipe import DrumPattern, Recipe, from_text, kind_of, to_text
from puresignal.core.session import generated
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, TakeRef
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline
from puresignal.io import file_access, midi_writer, note_map_file
from puresignal.translation import tr


def recipe_of(kind: str, given: dict[str, str]) -> Recipe:
    """A recipe of a kind with some blanks filled in.

    given   values by the blank's name
    Raises  BadFileError for a name or a value that is none
    """
    made = kind_of(kind)
    known = {one.name: one.default for one in fields(made)}
    values = {}
    for name, text in given.items():
        if name not in known or name == "source":
            raise BadFileError(
                tr("{kind} has no setting {name!r}", kind=kind, name=name), "--set",
                tr("Its settings are: {names}.", names=", ".join(sorted(set(known) - {"source"}))),
            )  # fmt: skip
        usual = known[name]
        try:
            value: object = text
            if isinstance(usual, bool):
                value = {"yes": True, "no": False}[text]
            elif isinstance(usual, int | float):
                value = type(usual)(float(text))
        except (ValueError, KeyError, OverflowError) as error:
            raise BadFileError(
                tr("{value!r} is no value for {name}", value=text, name=name), "--set", tr("Give it like kicks=4.")
            ) from error
        values[name] = value
    wanted = replace(made(), **values)  # type: ignore[arg-type]
    brought = from_text(to_text(wanted))
    for name, value in values.items():
        if getattr(brought, name) != value:
            options = next((blank.options for blank in made.blanks if blank.field == name), ())
            blank = next((blank for blank in made.blanks if blank.field == name), None)
            there = ", ".join(value for value, _ in options) if options else (
                f"{blank.low:g}..{blank.high:g}" if blank is not None else "-")  # fmt: skip
            raise BadFileError(
                tr("{value!r} is out of range for {name}", value=given[name], name=name), "--set",
                tr("It can be: {values}.", values=there),
            )  # fmt: skip
    return brought


def generate(
    recipe: Recipe, target: Path, tempo: float, meter: tuple[int, int], key: str, source: Path | None = None
) -> int:
    """Write a MIDI file of what a recipe makes. Returns the number of notes.

    source  MIDI file that it listens to; its own notes are not written
    Raises  FileAccessError or BadFileError
    """
    timeline = Timeline((TempoPoint(0.0, tempo),), (MeterPoint(1, *meter),))
    session = edits.with_timeline(replace(Session(name=target.stem), key=key), timeline)
    takes = {}
    if source is not None:
        take = clean.open_take(source, "source")
        takes[take.ident] = take
        session = edits.with_take(session, TakeRef(take.ident, take.name, kind=IMPORTED, is_in=False))
        recipe = replace(recipe, source=take.ident)
    elif recipe.needs_source:
        raise BadFileError(
            tr("This generator needs something to listen to"), recipe.kind, tr("Give a MIDI file with --source.")
        )
    kit = note_map_file.shipped("general-midi") if isinstance(recipe, DrumPattern) else None
    session = replace(session, target=kit)
    session = generated.with_generator(session, recipe, tr(recipe.title), 0.0, kit)
    session = generated.refreshed(session, takes)
    if source is not None:
        session = edits.with_changed(session, "source", is_in=False)
    song = whole_session.song_of(session, whole_session.result(session, takes), True)
    file_access.write_bytes(target, midi_writer.to_bytes(song, True))
    return song.note_count
