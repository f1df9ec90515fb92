"""`pure-signal export`: the MIDI files of sessions."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from puresignal.command_line import arguments
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results, sentence
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the command with its options."""
    export = add_command(
        commands,
        "export",
        tr("write the MIDI files of sessions: every take that is in as one"),
        "pure-signal export evening.puresignal --out evening.mid",
    )
    export.add_argument("inputs", nargs="+", metavar="SESSION", type=arguments.path, help=tr("session files"))
    export.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    export.add_argument(
        "--type", type=int, choices=(0, 1), default=1, help=tr("0: one track; 1: a track for each drum")
    )
    export.add_argument("--ppq", type=arguments.ppq, metavar="N", help=tr("ticks per quarter note, 24 to 32767"))
    export.add_argument("--take", action="append", default=[], metavar="NAME", help=tr("only this take, or these"))
    export.add_argument("--without-tempo", action="store_true", help=tr("leave out tempo and meter"))
    how = export.add_mutually_exclusive_group()
    how.add_argument("--sections", metavar="ORDER", help=tr('sections in playing order, like "verse,chorus*2"'))
    how.add_argument("--per-section", action="store_true", help=tr("a file for each section, into a folder"))
    export.add_argument(
        "--rounds", type=arguments.bars_to_record, default=1, metavar="N", help=tr("play all of it N times")
    )
    export.add_argument("--without-key", action="store_true", help=tr("leave out key signatures"))
    export.add_argument("--running-status", action="store_true", help=tr("leave out status bytes that repeat"))
    export.add_argument("--zero-ends", action="store_true", help=tr("end notes by a note-on of velocity 0"))
    export.add_argument("--report", metavar="F.json", type=arguments.path, help=tr("write a report of what was done"))
    export.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(export)
    export.set_defaults(run=_export)


def _export(options: argparse.Namespace) -> int:
    from puresignal.commands import clean, export
    from puresignal.core.errors import FileAccessError
    from puresignal.io import file_access, json_file

    for path in options.inputs:
        if not path.exists():
            raise FileAccessError(tr("There is no such file or folder"), str(path), tr("Check the name."))
    out = Path(options.out)
    several = len(options.inputs) > 1 or options.out.endswith("/") or out.is_dir() or options.per_section
    clean.check_folder(out if several else out.parent, several)
    sources, only = list(options.inputs), [""] * len(options.inputs)
    targets = [out / f"{path.stem}.mid" if several else out for path in sources]
    if options.per_section:
        parts = [(path, *one) for path in options.inputs for one in export.sections_of(path)]
        sources, only = [path for path, _, _ in parts], [ident for _, ident, _ in parts]
        targets = [out / f"{path.stem} {file_access.as_file_name(name)}.mid" for path, _, name in parts]
    if not options.per_section:
        clean.check_apart(options.inputs, targets, tr("Export them one by one, or rename one."))
    elif len(set(targets)) < len(targets):
        raise FileAccessError(tr("Two sections have one name"), str(out), tr("Rename one of them in Takes."))
    clean.check_told(options.inputs, targets, [options.report] if options.report else [], options.force)
    for target in targets:
        if target.exists() and not options.force:
            raise FileAccessError(tr("This file exists already"), str(target), tr("Give another name, or add --force."))
    told = Results(options)
    if told.dry:
        for path, target in zip(sources, targets, strict=True):
            told.planned(target, {"file": str(path), "target": str(target)})
        return told.end()
    if several:
        clean.make_folder(out)
    wanted = export.Options(
        options.type, options.ppq, not options.without_tempo, not options.without_key, tuple(options.take),
        options.sections, rounds=options.rounds, running=options.running_status, zero_ends=options.zero_ends,
    )  # fmt: skip
    done = [
        export.export(path, target, replace(wanted, only=one))
        for path, target, one in zip(sources, targets, only, strict=True)
    ]
    for item in done:
        row: dict[str, object] = {"file": str(item.source), "target": str(item.target)}
        if item.error is not None:
            told.fail(item.error, row)
            continue
        assert item.report is not None
        sums = item.report["sums"]
        assert isinstance(sums, dict)
        told.done(
            f"{item.target}: {', '.join(item.names)}: {sentence(sums)}",
            {**row, "takes": list(item.names), "sums": sums},
        )
    rows = [{"file": str(item.source), **item.report} for item in done if item.report is not None]
    if options.report is not None and rows:
        file_access.write_bytes(options.report, json_file.to_bytes(rows[0] if len(done) == 1 else {"files": rows}))
    return told.end()
