"""`pure-signal clean`: cleans MIDI files, one after another."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any

from puresignal.core.analysis import warnings
from puresignal.core.analysis.take_onsets import onsets_in
from puresignal.core.errors import BadFileError, FileAccessError, ProgramFaultError, PureSignalError
from puresignal.core.export import left_out
from puresignal.core.export.song_builder import build_song
from puresignal.core.kit.map_recognition import recognise
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, make_context, run
from puresignal.core.path.context import Context
from puresignal.core.path.several_takes import CLOCK, Placed, run_together
from puresignal.core.timing import beat_finder, found_grid
from puresignal.core.timing.session_time import FASTEST, SLOWEST, Timeline
from puresignal.io import (
    beat_model,
    file_access,
    file_kinds,
    json_file,
    limits,
    midi_reader,
    midi_writer,
    note_map_file,
    report,
)
from puresignal.io.log_file import log
from puresignal.translation import mark, tr

KEEP = "keep"
STANDARD = Path("-")
"""Standard input, or standard output."""


@dataclass(frozen=True)
class Job:
    """Options for cleaning each file.

    source  None: found from each file's hits
    target  None: notes keep their numbers
    bpm     tempo that the file states, None for its own, FIND for the one that was played; notes keep their seconds
    dry     nothing is written
    """

    source: NoteMap | None
    target: NoteMap | None
    path: CleaningPath
    force: bool = False
    bpm: float | None = None
    dry: bool = False


FIND = -1.0
"""In place of a tempo: that of the beats that are found in the playing."""


def tempo_of(text: str) -> float | None:
    """BPM of `--tempo`, None for KEEP, FIND for "find".

    Raises ValueError with what to write instead
    """
    if text == KEEP:
        return None
    if text == "find":
        return FIND
    try:
        bpm = float(text)
    except ValueError:
        bpm = 0.0
    if not SLOWEST <= bpm <= FASTEST:
        raise ValueError(
            tr(
                "{given!r}: write keep, find, or a number from {low:g} to {high:g}",
                given=text,
                low=SLOWEST,
                high=FASTEST,
            )
        )
    return bpm


def open_take(path: Path, ident: str = "take") -> Take:
    """A take from a MIDI file.

    Raises FileAccessError, or BadFileError if it is not a MIDI file or contains no notes
    """
    content = sys.stdin.buffer.read(limits.MIDI_BYTES + 1) if path == STANDARD else file_access.read_bytes(path)
    song = midi_reader.parse(content, path.name)
    if not song.note_count:
        raise BadFileError(tr("This file contains no notes"), path.name, tr("Choose a file with notes in it."))
    return to_take(song, ident, file_access.shown_name(path.stem), content)


def likely_map(take: Take, now: NoteMap) -> NoteMap:
    """The map that explains a take best, among all shipped and kept ones; `now` if none explains it better."""
    shipped = (note_map_file.shipped(ident) for ident in note_map_file.shipped_ids())
    best = recognise(take, dict.fromkeys((now, *note_map_file.own(), *shipped)))[0]
    # A file that no map explains is from an unknown kit, or from none at all.
    return best.note_map if best.explained > 0.5 * best.hits else now


def inputs(names: list[Path], out: Path) -> list[Path]:
    """The MIDI files that names stand for; a folder stands for the files in it and below, except results.

    Raises FileAccessError if a name is missing or a folder contains no MIDI file
    """
    found = []
    for name in names:
        if not name.is_dir():
            found.append(name)
            continue
        try:
            os.scandir(name).close()
            inside = sorted(
                path
                for path in name.rglob("*")
                if file_kinds.by_ending(path) is file_kinds.MIDI and path.is_file() and out not in path.parents
            )
        except OSError as error:
            raise file_access.access_error(error, name, "read") from error
        if not inside:
            raise FileAccessError(
                tr("There is no MIDI file in this folder"), str(name), tr("Choose a folder with .mid files.")
            )
        found += inside
    return found


def outputs(found: list[Path], names: list[Path], where: str, force: bool) -> list[Path]:
    """The file for each result; results of a folder keep its sub-folders.

    Raises FileAccessError if a result would overwrite something, another result or its own input, or there is no
    folder to write to
    """
    out = Path(where)
    into_folder = out.is_dir() or len(found) > 1 or any(n.is_dir() for n in names) or where.endswith("/")
    if out == STANDARD:
        if into_folder:
            raise FileAccessError(
                tr("Several results need a folder, not standard output"), where, tr("Give a folder for --out.")
            )
        return [STANDARD]
    if into_folder and out.exists() and not out.is_dir():
        raise FileAccessError(
            tr("Several results need a folder, but this is a file"), str(out), tr("Give a folder for --out.")
        )
    check_folder(out if into_folder else out.parent, into_folder)
    folders = [name for name in names if name.is_dir()]
    targets = [out / _below(path, folders).with_suffix(".mid") if into_folder else out for path in found]
    check_apart(found, targets, tr("Clean them one by one."))
    for target in targets:
        if target.exists() and not force:
            raise FileAccessError(tr("This file exists already"), str(target), tr("Give another name, or add --force."))
    return targets


def _below(path: Path, folders: list[Path]) -> Path:
    """A file's place below the folder it was found in, or its name."""
    folder = next((one for one in folders if one in path.parents), path.parent)
    return path.relative_to(folder)


def check_folder(folder: Path, made: bool) -> None:
    """Check that results can go to a folder; one that is made for them may be missing, but not what it stands in.

    Raises FileAccessError
    """
    there = folder.parent if made and not folder.exists() else folder
    if not there.is_dir():
        raise FileAccessError(tr("There is no such folder"), str(there), tr("Check the name after --out, or make it."))


def check_apart(found: list[Path], targets: list[Path], cure: str) -> None:
    """Check that results overwrite neither inputs nor each other.

    cure    what to do about two that would
    Raises  FileAccessError
    """
    seen: dict[Path, Path] = {}
    for path, target in zip(found, targets, strict=True):
        if target in seen:
            raise FileAccessError(
                tr("{name} and {name2} would become the same file", name=seen[target].name, name2=path.name),
                str(target),
                cure,
            )
        seen[target] = path
        _check_kept(found, target)


def check_told(found: list[Path], targets: list[Path], told: list[Path], force: bool) -> None:
    """Check the files of reports and summaries.

    Raises FileAccessError if one would overwrite something, an input or a result
    """
    for number, path in enumerate(told):
        _check_kept(found, path)
        if path in [*targets, *told[:number]]:
            raise FileAccessError(
                tr("Two outputs would become the same file"), str(path), tr("Give one of them another name.")
            )
        if path.exists() and not force:
            raise FileAccessError(tr("This file exists already"), str(path), tr("Give another name, or add --force."))


def _check_kept(found: list[Path], target: Path) -> None:
    if target.exists() and any(path.exists() and target.samefile(path) for path in found):
        raise FileAccessError(
            tr("This would replace the original recording"), str(target), tr("Give another name for the output.")
        )


@dataclass(frozen=True)
class FileResult:
    """The result of one file: its report, or the error. found_map: name of the source map found from the hits."""

    source: Path
    target: Path
    report: dict[str, Any] | None
    error: PureSignalError | None = None
    found_map: str = ""


def clean_files(
    found: list[Path], targets: list[Path], job: Job, rows: bool, page: SummaryPage | None = None
) -> Iterator[FileResult]:
    """Clean one file after another; an error in one does not stop the others.

    rows          whether reports list the notes
    page          summary that gets a section of each
    """
    for path, target in zip(found, targets, strict=True):
        try:
            take = open_take(path)
            source = job.source or likely_map(take, note_map_file.shipped("general-midi"))
            context = make_context(take, source, job.target, job.path)
            outcome = run(take, job.path, context)
            written, grid = _at_tempo(take, outcome, context, job)
            # What stages on the timeline did depends on the tempo.
            outcome = (
                replace(outcome, tally=written.tally) if written.tally.arrived == outcome.tally.arrived else outcome
            )
            content = midi_writer.to_bytes(build_song(written, grid))
            if job.dry:
                pass
            elif target == STANDARD:
                sys.stdout.buffer.write(content)
                sys.stdout.buffer.flush()
            else:
                make_folder(target.parent)
                file_access.write_bytes(target, content, new=not job.force)
            told = [*left_out.left_out(take, outcome), *warnings.warnings(take, outcome)]
            told += [tr(NO_BEATS)] if NO_BEATS in grid.notices else []
            if rows:
                result = report.report(outcome, context, take, told)
            else:
                result = {"sums": report.sums(outcome), "warnings": [*take.notices, *told]}
            if page is not None:
                page.add(_page_section(take, context, outcome, told))
            found_map = "" if job.source is not None else source.name
            yield FileResult(path, target, result, found_map=found_map)
        except PureSignalError as error:
            yield FileResult(path, target, None, error)
        except (BrokenPipeError, OSError) as error:
            if target == STANDARD:
                raise
            yield FileResult(path, target, None, file_access.access_error(error, path, "read"))
        except Exception as error:
            yield FileResult(path, target, None, program_fault(path, error))


def _at_tempo(take: Take, outcome: Outcome, context: Context, job: Job) -> tuple[Outcome, Take]:
    """The notes that the file is written from: the result as it is, or with its seconds at another tempo."""
    if job.bpm is None:
        return outcome, take
    timeline, beat = Timeline.steady(max(SLOWEST, job.bpm)), 0.0
    if job.bpm == FIND:
        found = beat_finder.find(onsets_in(outcome), beat_model.shipped())
        if found.confidence < beat_finder.LEAST:
            return outcome, replace(take, notices=(*take.notices, NO_BEATS))
        timeline, beat = found_grid.timeline_of(found)
    placed = Placed(take, context.source, context.target, beat=beat, follows=CLOCK)
    return run_together([placed], job.path, timeline).for_file(take.name, take.tempo.ppq)


NO_BEATS = mark("No steady beat was found; the file keeps its own tempo.")


def program_fault(path: Path, error: Exception) -> ProgramFaultError:
    """An error that nobody thought of, for one file of many: logged with its place, told in a sentence."""
    log.error("on %s", path, exc_info=error)
    what = tr("The program failed on this file: {error}", error=f"{type(error).__name__}: {error}")
    return ProgramFaultError(what, path.name, tr("Please report it; the other files are not affected."))


def _page_section(take: Take, context: Context, outcome: Outcome, told: list[str]) -> str:
    from puresignal.core.export import summary_html

    return summary_html.section(take, context, outcome, told)


def make_folder(folder: Path) -> None:
    """Create a folder for results.

    Raises FileAccessError if the system refuses
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise file_access.access_error(error, folder, "write") from error


def write_report(path: Path, done: list[FileResult]) -> None:
    """Write the report file: of one take, or of several joined, each row with its file."""
    good = [d for d in done if d.report is not None]
    if len(done) == 1 and good:
        data: dict[str, Any] = dict(good[0].report or {})
    else:
        data = {"sums": {}, "files": [], "notes": [], "unmapped": [], "warnings": []}
        for item in good:
            result = item.report or {}
            data["files"].append({"file": str(item.source), "sums": result["sums"]})
            _add_up(data["sums"], result["sums"])
            for name in ("notes", "unmapped"):
                data[name] += [{"file": str(item.source), **row} for row in result[name]]
            data["warnings"] += result["warnings"]
        data["warnings"] += [str(d.error) for d in done if d.error is not None]
    file_access.write_bytes(path, json_file.to_bytes(data))


class SummaryPage:
    """The summary page of many takes. Its sections wait in a temporary file: they are larger than the takes."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - as long as the page
        self._ends = [0]

    def add(self, section: str) -> None:
        """Add the section of one take."""
        self._file.write(section.encode())
        self._ends.append(self._file.tell())

    def _sections(self) -> Iterator[str]:
        self._file.seek(0)
        for begin, end in pairwise(self._ends):
            yield self._file.read(end - begin).decode()

    def write(self, path: Path) -> None:
        """Write the page, if there is anything on it.

        Raises FileAccessError if the system refuses
        """
        from puresignal.core.export import summary_html

        if len(self._ends) > 1:
            file_access.write_bytes(path, (part.encode() for part in summary_html.page_parts(self._sections())))


def _add_up(total: dict[str, Any], more: dict[str, Any]) -> None:
    for key, value in more.items():
        if isinstance(value, dict):
            _add_up(total.setdefault(key, {}), value)
        else:
            total[key] = total.get(key, 0) + value
