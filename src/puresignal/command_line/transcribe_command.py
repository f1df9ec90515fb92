"""`pure-signal transcribe`: recordings to MIDI files."""

from __future__ import annotations

import argparse
from functools import partial
from pathlib import Path

from puresignal.command_line import arguments
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the command with its options."""
    transcribe = add_command(
        commands,
        "transcribe",
        tr("transcribe recordings to MIDI files"),
        "pure-signal transcribe hummed.wav --out hummed.mid --kind melody --key auto",
    )
    transcribe.add_argument("inputs", nargs="+", metavar="AUDIO", type=arguments.path, help=tr("audio files"))
    transcribe.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    transcribe.add_argument(
        "--kind", required=True, choices=("melody", "drums", "hits", "chords"), help=tr("what the recording contains")
    )
    transcribe.add_argument("--examples", metavar="DIR", type=arguments.path, help=tr("taught sounds, for --kind hits"))
    transcribe.add_argument("--key", default="none", metavar="none|auto|KEY", help=tr('key to snap to, like "D minor"'))
    transcribe.add_argument("--low", type=float, metavar="N", help=tr("lowest note (MIDI number)"))
    transcribe.add_argument("--high", type=float, metavar="N", help=tr("highest note (MIDI number)"))
    transcribe.add_argument("--pan", type=float, metavar="P", help=tr("pan position to extract, -1 left to 1 right"))
    transcribe.add_argument(
        "--settings", metavar="F.json", type=arguments.path, help=tr("sensitivity and other settings")
    )
    transcribe.add_argument("--report", metavar="F.json", type=arguments.path, help=tr("write a report, note by note"))
    transcribe.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(transcribe)
    transcribe.set_defaults(run=partial(_checked, transcribe))


def _check_transcribe(parser: argparse.ArgumentParser, options: argparse.Namespace) -> None:
    """Check for wrong usage before anything is read."""
    from puresignal.core.harmony import key_estimation

    if options.kind == "hits" and options.examples is None:
        parser.error("--kind hits needs --examples DIR")
    if options.key not in ("none", "auto"):
        try:
            key_estimation.parse(options.key)
        except ValueError:
            parser.error(f'--key {options.key!r} is not a key: use none, auto, or a name like "D minor"')
    if options.kind in ("drums", "hits") and (options.key, options.low, options.high) != ("none", None, None):
        parser.error(f"--key, --low and --high need pitched notes; --kind {options.kind} has none")
    for name in ("low", "high"):
        value = getattr(options, name)
        if value is not None and not 0 <= value <= 127:
            parser.error(f"--{name} is a MIDI number, 0 to 127")
    if options.low is not None and options.high is not None and options.low > options.high:
        parser.error("--low is above --high")
    if options.pan is not None and not -1 <= options.pan <= 1:
        parser.error("--pan is a position from -1 (left) to 1 (right)")


def _checked(parser: argparse.ArgumentParser, options: argparse.Namespace) -> int:
    _check_transcribe(parser, options)
    return _transcribe(options)


def _transcribe(options: argparse.Namespace) -> int:
    from puresignal.commands import clean, transcribe
    from puresignal.core.errors import FileAccessError
    from puresignal.io import json_file

    for path in options.inputs:
        if not path.exists():
            raise FileAccessError(tr("There is no such file or folder"), str(path), tr("Check the name."))
    job = transcribe.Job(options.kind, options.key, None, options.low, options.high, options.pan, force=options.force)
    if options.settings is not None:
        job = transcribe.with_settings(
            job, json_file.read(options.settings, tr("settings file")), options.settings.name
        )
    if options.kind == "hits":
        from dataclasses import replace

        job = replace(job, examples=transcribe.teach(options.examples))
    out = Path(options.out)
    several = len(options.inputs) > 1 or options.out.endswith("/") or out.is_dir()
    clean.check_folder(out if several else out.parent, several)
    targets = [out / f"{path.stem}.mid" if several else out for path in options.inputs]
    clean.check_apart(options.inputs, targets, tr("Transcribe them one by one, or rename one."))
    clean.check_told(options.inputs, targets, [options.report] if options.report else [], options.force)
    told = Results(options)
    if told.dry:
        for path, target in zip(options.inputs, targets, strict=True):
            told.planned(target, {"file": str(path), "target": str(target)})
        return told.end()
    if several:
        clean.make_folder(out)
    done = []
    for number, (path, target) in enumerate(zip(options.inputs, targets, strict=True)):
        name = tr("{number} of {count}: {name}", number=number + 1, count=len(options.inputs), name=path.name)

        def show(part: float, name: str = name) -> None:
            told.show_progress(f"{name} {100 * part:.0f} %")

        if told.progress:
            told.show_progress(name)
        item = transcribe.transcribe(path, target, job, show if told.progress else None)
        done.append(item)
        if told.progress:
            told.end_progress()
        row: dict[str, object] = {"file": str(path), "target": str(target)}
        if item.error is not None:
            told.fail(item.error, row)
            continue
        assert item.report is not None
        for warning in item.report["warnings"]:
            told.warn(f"{path.name}: {warning}")
        told.done(
            tr(
                "{target}: {notes} notes, {doubtful} of them doubtful",
                target=item.target,
                notes=item.notes,
                doubtful=item.report["sums"]["doubtful"],
            ),
            {**row, "notes": item.notes, "sums": item.report["sums"], "warnings": item.report["warnings"]},
        )
    reports = [(item, item.report) for item in done if item.report is not None]
    if options.report is not None and reports:
        from puresignal.io import file_access

        rows: object = reports[0][1]
        if len(options.inputs) > 1:
            rows = {"files": [{"file": str(item.source), **report} for item, report in reports]}
        file_access.write_bytes(options.report, json_file.to_bytes(rows))
    return told.end()
