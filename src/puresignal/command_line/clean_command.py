"""`pure-signal clean`: MIDI files mapped, faults removed, split to tracks."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from puresignal.command_line import arguments, path_options
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results, sentence
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the command with its options."""
    clean = add_command(
        commands, "clean", tr("clean MIDI files: map, remove faults, split to tracks"),
        "pure-signal clean take.mid --out clean.mid --target-map general-midi",
        path_options.settings_help() if {"-h", "--help"} & set(sys.argv) else "",
    )  # fmt: skip
    clean.add_argument(
        "inputs", nargs="+", metavar="IN", type=arguments.path, help=tr("MIDI files, or folders of them")
    )
    clean.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    path_options.add_path_options(clean)
    clean.add_argument(
        "--report", metavar="F.json", type=arguments.path, help=tr("write a report of what was done, note by note")
    )
    clean.add_argument(
        "--tempo",
        default="keep",
        metavar="keep|find|BPM",
        type=arguments.tempo,
        help=tr("tempo that the file states; notes keep their seconds"),
    )
    path_options.add_refining_options(clean)
    clean.add_argument("--summary", metavar="F.html", type=arguments.path, help=tr("write a summary page for printing"))
    clean.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(clean)
    clean.set_defaults(run=_clean)


def _clean(options: argparse.Namespace) -> int:
    from puresignal.commands import clean
    from puresignal.io import note_map_file

    job = clean.Job(
        None if options.source_map == "auto" else note_map_file.find_source(options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map),
        path_options.refined(path_options.path_of(options), options),
        options.force,
        options.tempo,
        options.dry_run,
    )
    found = clean.inputs(options.inputs, Path(options.out))
    targets = clean.outputs(found, options.inputs, options.out, options.force)
    clean.check_told(found, targets, [path for path in (options.report, options.summary) if path], options.force)

    done, told = [], Results(options)
    progress = told.progress and len(found) > 1
    page = None if options.summary is None or told.dry else clean.SummaryPage()
    for item in clean.clean_files(found, targets, job, options.report is not None, page):
        done.append(item)
        if progress:
            told.show_progress(tr("{count} of {count2} files", count=len(done), count2=len(found)))
            told.end_progress()
        row: dict[str, object] = {"file": str(item.source), "target": str(item.target)}
        if item.error is not None:
            told.fail(item.error, row)
            continue
        assert item.report is not None
        if item.found_map:
            told.warn(tr("{name}: source map {found}", name=item.source.name, found=item.found_map))
        for warning in item.report["warnings"]:
            told.warn(f"{item.source.name}: {warning}")
        sums = item.report["sums"]
        row |= {"map": item.found_map or None, "sums": sums, "warnings": item.report["warnings"]}
        if told.dry:
            told.done(tr("{file} would be written: {sums}", file=item.target, sums=sentence(sums)), row)
            continue
        # Standard output may be the MIDI file itself.
        told.done(f"{item.target}: {sentence(sums)}", row, sys.stderr if item.target == clean.STANDARD else None)
    if options.report is not None and not told.dry and any(d.report is not None for d in done):
        clean.write_report(options.report, done)
    if page is not None:
        page.write(options.summary)
    return told.end()
