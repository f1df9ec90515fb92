"""`pure-signal render`: sessions to audio files."""

from __future__ import annotations

import argparse
import math
from pathlib import Path

from puresignal.command_line import arguments
from puresignal.command_line.parser import Commands, add_command, add_output_options
from puresignal.command_line.results import Results
from puresignal.translation import tr


def add(commands: Commands) -> None:
    """Add the command with its options."""
    render = add_command(
        commands,
        "render",
        tr("render sessions to audio files, through the built-in sound"),
        "pure-signal render evening.puresignal --out stems --per tracks",
    )
    render.add_argument("inputs", nargs="+", metavar="SESSION", type=arguments.path, help=tr("session files"))
    render.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    render.add_argument(
        "--per", choices=("mix", "tracks", "sections", "takes"), default="mix", help=tr("one file for each of these")
    )
    render.add_argument(
        "--format", choices=("wav16", "wav24", "wav32f", "flac", "ogg", "mp3"), dest="kind",
        help=tr("usually by the file's ending, else wav24"),
    )  # fmt: skip
    render.add_argument("--rate", type=int, choices=(44_100, 48_000, 88_200, 96_000), default=48_000, help=tr("Hz"))
    render.add_argument("--bars", type=arguments.bar_range, metavar="3-10", help=tr("only these bars"))
    render.add_argument("--normalise", action="store_true", help=tr("raise each file to 0.3 dB below full scale"))
    render.add_argument("--without-tail", action="store_true", help=tr("end with the last note or bar"))
    render.add_argument("--trim", action="store_true", help=tr("leave out silence before the first sound"))
    render.add_argument("--without-dither", action="store_true", help=tr("no dither in files of 16 bits"))
    render.add_argument(
        "--names", default="{session} - {name}", metavar="PATTERN",
        help=tr("names of several files, with {{session}}, {{name}} and {{number}}"),
    )  # fmt: skip
    render.add_argument(
        "--through", default="", metavar="SOUND",
        help=tr("let the tracks' ports play in real time, and record what comes back from this program or device"),
    )  # fmt: skip
    render.add_argument(
        "--delay", type=float, metavar="MS", help=tr("way through the instruments; found by itself otherwise")
    )
    render.add_argument("--force", action="store_true", help=tr("overwrite existing files"))
    add_output_options(render)
    render.set_defaults(run=_render)


def _render(options: argparse.Namespace) -> int:
    from puresignal.commands import clean, rendering
    from puresignal.core.errors import FileAccessError, PureSignalError
    from puresignal.io import session_file

    out = Path(options.out)
    several = len(options.inputs) > 1 or options.out.endswith("/") or out.is_dir() or options.per != "mix"
    clean.check_folder(out if several else out.parent, several)
    endings = {".wav": "wav24", ".flac": "flac", ".ogg": "ogg", ".mp3": "mp3"}
    kind = options.kind or ("wav24" if several else endings.get(out.suffix.lower(), "wav24"))
    job = rendering.RenderJob(
        options.per, kind, options.rate, options.normalise, not options.without_dither, not options.without_tail,
        options.trim, options.bars, options.names, (), options.through,
        None if options.delay is None else max(0.0, options.delay) / 1000,
    )  # fmt: skip
    told = Results(options)
    for path in options.inputs:
        try:
            opened = session_file.read(path)
            takes = {take.ident: take for take in opened.takes}
            found = rendering.parts(opened.session, takes, job)
            names = rendering.names(opened.session, found, job)
            targets = [out / name for name in names] if several else [out]
            for target in targets:
                if target.exists() and not options.force:
                    raise FileAccessError(
                        tr("This file exists already"), str(target), tr("Give another name, or add --force.")
                    )
            if told.dry:
                for target in targets:
                    told.planned(target, {"file": str(path), "target": str(target)})
                continue
            if several:
                clean.make_folder(out)
            renderer = rendering.Renderer(opened.session, takes, job)
            for part, target in zip(found, targets, strict=True):
                made = renderer.render(part, target)
                peak = round(20 * math.log10(max(made.peak, 1e-6)), 1)
                row = {"file": str(path), "target": str(target), "seconds": round(made.seconds, 3), "peak": peak}
                told.done(
                    f"{target}: {made.seconds:.1f} s, {tr('peak')} {peak:.1f} dB",
                    {**row, "warnings": list(made.warnings)},
                )
                for warning in made.warnings:
                    told.warn(f"pure-signal: {warning}")
        except PureSignalError as error:
            told.fail(error, {"file": str(path)})
    return told.end()
