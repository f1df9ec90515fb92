"""The command line. Heavy imports happen inside the commands that need them."""

from __future__ import annotations

import argparse
import json
import math
import os
import re
import sys
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from puresignal import __version__
from puresignal.commands.terminal import prepare, printable, say
from puresignal.core.errors import PureSignalError
from puresignal.translation import count_tr, tr

if TYPE_CHECKING:
    from puresignal.core.path.cleaning_path import CleaningPath

COMMANDS = (
    "demo",
    "clean",
    "transcribe",
    "route",
    "record",
    "play",
    "ports",
    "maps",
    "doctor",
    "export",
    "render",
    "generate",
    "install",
    "uninstall",
)
CLEAR_LINE = "\r\x1b[K"
"""Clears a line of progress on a terminal before something else is said."""


def _path(text: str) -> Path:
    if not text:
        raise argparse.ArgumentTypeError(tr("the name is empty"))
    return Path(text)


def _bpm(text: str) -> float:
    from puresignal.core.timing.session_time import FASTEST, SLOWEST

    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not SLOWEST <= value <= FASTEST:
        raise argparse.ArgumentTypeError(tr("{given!r} is no tempo in beats per minute", given=text))
    return value


def _meter(text: str) -> tuple[int, int]:
    above, _, below = text.partition("/")
    if not (above.isdigit() and 1 <= int(above) <= 32 and below in ("1", "2", "4", "8", "16", "32")):
        raise argparse.ArgumentTypeError(tr("{given!r} is no meter like 4/4 or 7/8", given=text))
    return int(above), int(below)


def _bars(text: str) -> int:
    if not (text.isdigit() and int(text) <= 4):
        raise argparse.ArgumentTypeError(tr("{given!r} is no number of bars from 0 to 4", given=text))
    return int(text)


def _bars_to_record(text: str) -> int:
    if not (text.isdigit() and 1 <= int(text) <= 10_000):
        raise argparse.ArgumentTypeError(tr("{given!r} is no number of bars from 1 to 10000", given=text))
    return int(text)


def _bar_range(text: str) -> tuple[int, int]:
    match = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", text)
    first, last = (int(match[1]), int(match[2] or match[1])) if match else (0, 0)
    if not 1 <= first <= last:
        raise argparse.ArgumentTypeError(tr("{given!r} is no range of bars like 3-10", given=text))
    return first, last


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        self.print_usage(sys.stderr)
        self.exit(2, f"{self.prog}: {message}\n")


def main(arguments: list[str] | None = None) -> int:
    """Run a command. Returns its exit code: 0 done, 1 could not do it, 2 wrong usage."""
    arguments = sys.argv[1:] if arguments is None else arguments
    prepare()
    try:
        if arguments and arguments[0] in COMMANDS:
            code = _command(arguments)
        else:
            code = _window(arguments)
        sys.stdout.flush()
        return code
    except PureSignalError as error:
        say(f"pure-signal: {error}", sys.stderr)
        return 1
    except BrokenPipeError:
        # The reader of our output is gone, as with `pure-signal maps | head`.
        _give_up_output()
        return 0
    except OSError as error:
        if isinstance(error.filename, (str, bytes)):
            from puresignal.io.file_access import access_error

            say(f"pure-signal: {access_error(error, Path(os.fsdecode(error.filename)), tr('open'))}", sys.stderr)
            return 1
        # An error without a file comes from writing to standard output.
        _give_up_output()
        say(f"pure-signal: {tr('standard output')}: {error.strerror or error}", sys.stderr)
        return 1
    except KeyboardInterrupt:
        print(tr("pure-signal: stopped"), file=sys.stderr)
        return 1


def _give_up_output() -> None:
    """Write nothing more to standard output: the interpreter would try again at exit, and complain."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.close(nowhere)


def _window(arguments: list[str]) -> int:
    if arguments and not Path(arguments[0]).exists():
        import difflib

        meant = difflib.get_close_matches(arguments[0], COMMANDS, 1)
        if meant:
            text = tr(
                "There is no command or file “{name}”. Did you mean “{meant}”?", name=arguments[0], meant=meant[0]
            )
            say(f"pure-signal: {text}", sys.stderr)
            return 2
    parser = _Parser(
        prog="pure-signal",
        description=tr("Turns playing into clean MIDI: notes mapped, faults removed, a track for each drum."),
        epilog=tr(
            "Commands: clean, transcribe, export, render, generate, route, record, play, ports, maps, doctor, demo, "
            "install, uninstall. "
            "See 'pure-signal COMMAND --help'."
        ),
    )
    parser.add_argument("files", nargs="*", metavar="FILE", type=_path, help=tr("sessions and MIDI files to open"))
    parser.add_argument("--version", action="version", version=f"Pure Signal {__version__}")
    options = parser.parse_args(arguments)
    from puresignal.ui.shell import app

    return app.run(options.files)


def _command(arguments: list[str]) -> int:
    parser, by_name = command_parser(bool({"--help", "-h"} & set(arguments)))
    options = parser.parse_args(arguments)
    if options.command == "transcribe":
        _check_transcribe(by_name["transcribe"], options)
    if options.command == "export" and options.ppq is not None and not 24 <= options.ppq <= 32_767:
        by_name["export"].error("--ppq is a number from 24 to 32767")
    run = {
        "demo": _demo, "clean": _clean, "transcribe": _transcribe, "route": _route, "ports": _ports, "maps": _maps,
        "doctor": _doctor, "export": _export, "render": _render, "generate": _generate,
        "record": _record, "play": _play, "install": _desktop, "uninstall": _desktop,
    }[options.command]  # fmt: skip
    return run(options)


def command_parser(
    helping: bool = False,
) -> tuple[argparse.ArgumentParser, dict[str, argparse.ArgumentParser]]:
    """The parser of all commands, and that of each by name. helping: whether help on a command was asked for"""
    parser = _Parser(prog="pure-signal")
    commands = parser.add_subparsers(dest="command", required=True)

    demo = commands.add_parser("demo", help=tr("open the demo session"))
    demo.add_argument("--shots", metavar="DIR", type=_path, help=tr("render every main view to DIR and exit"))

    clean = commands.add_parser(
        "clean", help=tr("clean MIDI files: map, remove faults, split to tracks"),
        formatter_class=argparse.RawDescriptionHelpFormatter,
        epilog=_settings_help() if helping else None,
    )  # fmt: skip
    clean.add_argument("inputs", nargs="+", metavar="IN", type=_path, help=tr("MIDI files, or folders of them"))
    clean.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    _path_options(clean)
    clean.add_argument(
        "--report", metavar="F.json", type=_path, help=tr("write a report of what was done, note by note")
    )
    clean.add_argument(
        "--tempo",
        default="keep",
        metavar="keep|find|BPM",
        type=_tempo,
        help=tr("tempo that the file states; notes keep their seconds"),
    )
    _refining_options(clean)
    clean.add_argument("--summary", metavar="F.html", type=_path, help=tr("write a summary page for printing"))
    clean.add_argument("--force", action="store_true", help=tr("overwrite existing files"))

    transcribe = commands.add_parser("transcribe", help=tr("transcribe recordings to MIDI files"))
    transcribe.add_argument("inputs", nargs="+", metavar="AUDIO", type=_path, help=tr("audio files"))
    transcribe.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    transcribe.add_argument(
        "--kind", required=True, choices=("melody", "drums", "hits", "chords"), help=tr("what the recording contains")
    )
    transcribe.add_argument("--examples", metavar="DIR", type=_path, help=tr("taught sounds, for --kind hits"))
    transcribe.add_argument("--key", default="none", metavar="none|auto|KEY", help=tr('key to snap to, like "D minor"'))
    transcribe.add_argument("--low", type=float, metavar="N", help=tr("lowest note (MIDI number)"))
    transcribe.add_argument("--high", type=float, metavar="N", help=tr("highest note (MIDI number)"))
    transcribe.add_argument("--pan", type=float, metavar="P", help=tr("pan position to extract, -1 left to 1 right"))
    transcribe.add_argument("--settings", metavar="F.json", type=_path, help=tr("sensitivity and other settings"))
    transcribe.add_argument("--report", metavar="F.json", type=_path, help=tr("write a report, note by note"))
    transcribe.add_argument("--force", action="store_true", help=tr("overwrite existing files"))

    route = commands.add_parser("route", help=tr("map and clean live, from one MIDI port to another"))
    route.add_argument("--in", required=True, metavar="PORT", dest="source_port", help=tr("port to listen to"))
    route.add_argument(
        "--out", required=True, metavar="PORT", dest="target_port", help=tr("port to send clean MIDI to")
    )
    _path_options(route)

    record = commands.add_parser("record", help=tr("record MIDI ports to a click, as a session or a MIDI file"))
    record.add_argument(
        "--in", required=True, nargs="+", action="extend", metavar="PORT", dest="ports",
        help=tr("ports to record, each as a take of its own"),
    )  # fmt: skip
    record.add_argument(
        "--out", required=True, metavar="FILE|DIR", help=tr("a .puresignal or .mid file, or a folder for a session")
    )
    record.add_argument("--tempo", type=_bpm, default=120.0, metavar="BPM", help=tr("tempo of the click, usually 120"))
    record.add_argument("--meter", type=_meter, default=(4, 4), metavar="4/4", help=tr("meter, usually 4/4"))
    record.add_argument(
        "--count-in",
        type=_bars,
        default=1,
        metavar="BARS",
        help=tr("bars of click before it begins, 0 to 4, usually 1"),
    )
    record.add_argument(
        "--bars", type=_bars_to_record, metavar="N", help=tr("end after so many bars; with --loop, the loop's length")
    )
    record.add_argument("--loop", action="store_true", help=tr("record round and round; each round is a pass"))
    record.add_argument(
        "--click",
        default="sound",
        metavar="PORT|sound|none",
        help=tr("where the click goes, usually the built-in sound"),
    )
    _path_options(record)
    record.add_argument("--raw", action="store_true", help=tr("write what arrived, neither mapped nor cleaned"))
    record.add_argument("--force", action="store_true", help=tr("overwrite existing files"))

    play = commands.add_parser("play", help=tr("play a session or a MIDI file to a MIDI port"))
    play.add_argument("input", metavar="IN", type=_path, help=tr("a session or a MIDI file"))
    play.add_argument("--out", required=True, metavar="PORT", dest="port", help=tr("port to play to"))
    play.add_argument("--from", type=int, default=1, metavar="BAR", dest="bar", help=tr("bar to begin at"))
    play.add_argument("--loop", action="store_true", help=tr("play it again and again"))

    generate = commands.add_parser("generate", help=tr("make chords, arpeggios, bass lines or drum patterns"))
    generate.add_argument("kind", choices=("chords", "arpeggio", "bass", "drums"), help=tr("what is made"))
    generate.add_argument("--out", required=True, metavar="F.mid", type=_path, help=tr("the result"))
    generate.add_argument("--source", metavar="F.mid", type=_path, help=tr("chords that an arpeggio or a bass plays"))
    generate.add_argument("--bars", type=_bars_to_record, default=8, metavar="N", help=tr("length in bars, usually 8"))
    generate.add_argument("--seed", type=int, default=1, metavar="N", help=tr("another number makes other notes"))
    generate.add_argument("--key", default="", metavar="KEY", help=tr('key of chords, like "D minor"'))
    generate.add_argument("--tempo", type=_bpm, default=120.0, metavar="BPM", help=tr("tempo, usually 120"))
    generate.add_argument("--meter", type=_meter, default=(4, 4), metavar="4/4", help=tr("meter, usually 4/4"))
    generate.add_argument(
        "--set", action="append", default=[], metavar="NAME=VALUE", help=tr("a setting, like kicks=4 or rate=1/16")
    )
    generate.add_argument("--force", action="store_true", help=tr("overwrite existing files"))

    render = commands.add_parser("render", help=tr("render sessions to audio files, through the built-in sound"))
    render.add_argument("inputs", nargs="+", metavar="SESSION", type=_path, help=tr("session files"))
    render.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    render.add_argument(
        "--per", choices=("mix", "tracks", "sections", "takes"), default="mix", help=tr("one file for each of these")
    )
    render.add_argument(
        "--format", choices=("wav16", "wav24", "wav32f", "flac", "ogg", "mp3"), dest="kind",
        help=tr("usually by the file's ending, else wav24"),
    )  # fmt: skip
    render.add_argument("--rate", type=int, choices=(44_100, 48_000, 88_200, 96_000), default=48_000, help=tr("Hz"))
    render.add_argument("--bars", type=_bar_range, metavar="3-10", help=tr("only these bars"))
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

    export = commands.add_parser("export", help=tr("write the MIDI files of sessions: every take that is in as one"))
    export.add_argument("inputs", nargs="+", metavar="SESSION", type=_path, help=tr("session files"))
    export.add_argument("--out", required=True, metavar="FILE|DIR", help=tr("the result, or a folder for several"))
    export.add_argument(
        "--type", type=int, choices=(0, 1), default=1, help=tr("0: one track; 1: a track for each drum")
    )
    export.add_argument("--ppq", type=int, metavar="N", help=tr("ticks per quarter note, 24 to 32767"))
    export.add_argument("--take", action="append", default=[], metavar="NAME", help=tr("only this take, or these"))
    export.add_argument("--without-tempo", action="store_true", help=tr("leave out tempo and meter"))
    how = export.add_mutually_exclusive_group()
    how.add_argument("--sections", metavar="ORDER", help=tr('sections in playing order, like "verse,chorus*2"'))
    how.add_argument("--per-section", action="store_true", help=tr("a file for each section, into a folder"))
    export.add_argument("--rounds", type=_bars_to_record, default=1, metavar="N", help=tr("play all of it N times"))
    export.add_argument("--without-key", action="store_true", help=tr("leave out key signatures"))
    export.add_argument("--running-status", action="store_true", help=tr("leave out status bytes that repeat"))
    export.add_argument("--zero-ends", action="store_true", help=tr("end notes by a note-on of velocity 0"))
    export.add_argument("--report", metavar="F.json", type=_path, help=tr("write a report of what was done"))
    export.add_argument("--force", action="store_true", help=tr("overwrite existing files"))

    ports = commands.add_parser("ports", help=tr("list the MIDI ports"))
    ports.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))

    maps = commands.add_parser("maps", help=tr("list the shipped note maps"))
    maps.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))

    doctor = commands.add_parser("doctor", help=tr("what this machine offers, what is missing, and what helps"))
    doctor.add_argument("--json", action="store_true", help=tr("as JSON, for scripts"))

    commands.add_parser("install", help=tr("put the program into your desktop: menu entry, file types, completion"))
    commands.add_parser("uninstall", help=tr("take it out again; sessions, note maps and settings stay"))
    return parser, dict(commands.choices)


def _settings_help() -> str:
    """Every setting that --settings may hold, made from what the stages declare."""
    from puresignal.core.path import settings_json

    lines = [tr("settings of --settings F.json, each with its usual value and range:")]
    for name, usual, allowed, meaning in settings_json.table():
        lines.append(f"  {name} = {usual}{f'  ({allowed})' if allowed else ''}\n      {meaning}")
    return "\n".join(lines)


def _path_options(parser: argparse.ArgumentParser) -> None:
    """Options shared by the cleaning commands."""
    parser.add_argument(
        "--source-map", default="auto", metavar="M|auto",
        help=tr("note map of the player's kit: file, id, or name of a kept one; auto finds it from the hits"),
    )  # fmt: skip
    parser.add_argument(
        "--target-map", metavar="M", help=tr("note map of the receiver; without one, notes keep their numbers")
    )
    parser.add_argument("--faults", choices=("remove", "keep"), help=tr("double triggers, crosstalk, bad note ends"))
    parser.add_argument("--unmapped", choices=("drop", "keep"), help=tr("notes that are not in the maps"))
    parser.add_argument("--settings", metavar="F.json", type=_path, help=tr("settings of the stages"))


def _refining_options(parser: argparse.ArgumentParser) -> None:
    """Options of the stages on the timeline."""
    parser.add_argument(
        "--quantise", default=None, metavar="off|auto|GRID", type=_grid,
        help=tr("pull notes to a grid, like 1/16 or 1/8t; auto takes for each bar what explains it best"),
    )  # fmt: skip
    parser.add_argument("--strength", metavar="0..100", type=_percent, help=tr("how far notes are pulled, in percent"))
    parser.add_argument(
        "--swing", metavar="50..75[@1/8]", type=_swing,
        help=tr("where the second of each pair of eighths (or quarters, sixteenths) comes, in percent"),
    )  # fmt: skip
    parser.add_argument("--key", metavar="none|auto|KEY", type=_key, help=tr('hold notes to a key, like "D minor"'))


def _wrong(text: str, right: str) -> argparse.ArgumentTypeError:
    return argparse.ArgumentTypeError(tr("{given!r}: write {right}", given=text, right=right))


def _grid(text: str) -> str:
    from puresignal.core.timing import grids

    if text in ("off", "auto"):
        return text
    try:
        return grids.grid_of(text).name
    except ValueError as error:
        raise _wrong(text, tr("off, auto, or a grid from 1/1 to 1/64 with t, d or q behind it")) from error


def _percent(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 100:
        raise _wrong(text, tr("a number from 0 to 100"))
    return value / 100.0


def _swing(text: str) -> tuple[float, str]:
    part, at, of = text.partition("@")
    try:
        value = float(part) / 100.0
    except ValueError:
        value = 0.0
    of = of if at else "1/8"
    if not 0.5 <= value <= 0.75 or of not in ("1/4", "1/8", "1/16"):
        raise _wrong(text, tr("50 to 75, and @1/4, @1/8 or @1/16 behind it"))
    return value, of


def _key(text: str) -> str:
    from puresignal.core.harmony import key_estimation, keys

    if text in ("none", "auto"):
        return text
    try:
        return keys.named(*key_estimation.parse(text))
    except ValueError as error:
        raise _wrong(text, tr('none, auto, or a name like "D minor"')) from error


def _refined(path: CleaningPath, options: argparse.Namespace) -> CleaningPath:
    """The path with what the refining options say."""
    from dataclasses import replace

    from puresignal.core.path.scoped import Scoped

    if options.quantise is not None:
        grid = path.timing.grid if options.quantise == "off" else options.quantise
        path = replace(path, timing=replace(path.timing, on=options.quantise != "off", grid=grid))
    if options.strength is not None:
        path = replace(path, timing=replace(path.timing, strength=Scoped(options.strength)))
    if options.swing is not None:
        part, of = options.swing
        path = replace(path, timing=replace(path.timing, swing=part, swung=of))
    if options.key is not None:
        key = path.key.key if options.key == "none" else options.key
        path = replace(path, key=replace(path.key, on=options.key != "none", key=key))
    return path


def _path_of(options: argparse.Namespace) -> CleaningPath:
    """The path for the options, which override a settings file where they are given."""
    from puresignal.core.path import cleaning_path as paths
    from puresignal.core.path import settings_json
    from puresignal.io import json_file

    path = paths.CleaningPath()
    if options.settings is not None:
        path = settings_json.from_json(json_file.read(options.settings, tr("settings file")), options.settings.name)
    if options.faults is not None:
        path = paths.with_faults(path, options.faults == "remove")
    if options.unmapped is not None:
        path = paths.with_unmapped(path, options.unmapped)
    return path


def _tempo(text: str) -> float | None:
    from puresignal.commands import clean

    try:
        return clean.tempo_of(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from error


def _demo(options: argparse.Namespace) -> int:
    from puresignal.ui.shell import app

    return app.run_demo(options.shots)


def _clean(options: argparse.Namespace) -> int:
    from puresignal.commands import clean
    from puresignal.io import note_map_file

    job = clean.Job(
        None if options.source_map == "auto" else note_map_file.find_source(options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map),
        _refined(_path_of(options), options),
        options.force,
        options.tempo,
    )
    found = clean.inputs(options.inputs, Path(options.out))
    targets = clean.outputs(found, options.inputs, options.out, options.force)
    clean.check_told(found, targets, [path for path in (options.report, options.summary) if path], options.force)

    done = []
    progress = sys.stderr.isatty() and len(found) > 1
    page = None if options.summary is None else clean.SummaryPage()
    for item in clean.clean_files(found, targets, job, options.report is not None, page):
        done.append(item)
        if progress:
            print(
                tr("\r{count} of {count2} files", count=len(done), count2=len(found)),
                end="",
                file=sys.stderr,
                flush=True,
            )
        if progress:
            print(end=CLEAR_LINE, file=sys.stderr)
        if item.error is not None:
            say(f"pure-signal: {item.error}", sys.stderr)
            continue
        assert item.report is not None
        if item.found_map:
            say(tr("{name}: source map {found}", name=item.source.name, found=item.found_map), sys.stderr)
        for warning in item.report["warnings"]:
            say(f"{item.source.name}: {warning}", sys.stderr)
        # Standard output may be the MIDI file itself.
        said = sys.stderr if item.target == clean.STANDARD else sys.stdout
        say(f"{item.target}: {_sentence(item.report['sums'])}", said, flush=True)
    if options.report is not None and any(d.report is not None for d in done):
        clean.write_report(options.report, done)
    if page is not None:
        page.write(options.summary)
    return 1 if any(d.error is not None for d in done) else 0


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


def _show_progress(name: str, part: float) -> None:
    print(f"\r{printable(name)} {100 * part:.0f} %", end="", file=sys.stderr, flush=True)


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
    if several:
        clean.make_folder(out)
    done = []
    progress = sys.stderr.isatty()
    for number, (path, target) in enumerate(zip(options.inputs, targets, strict=True)):
        name = tr("{number} of {count}: {name}", number=number + 1, count=len(options.inputs), name=path.name)
        if progress:
            print(
                "\r" + printable(name),
                end="",
                file=sys.stderr,
                flush=True,
            )
        item = transcribe.transcribe(
            path, target, job,
            partial(_show_progress, name) if progress else None,
        )  # fmt: skip
        done.append(item)
        if progress:
            print(end=CLEAR_LINE, file=sys.stderr)
        if item.error is not None:
            say(f"pure-signal: {item.error}", sys.stderr)
            continue
        assert item.report is not None
        for warning in item.report["warnings"]:
            say(f"{path.name}: {warning}", sys.stderr)
        say(
            tr(
                "{target}: {notes} notes, {doubtful} of them doubtful",
                target=item.target,
                notes=item.notes,
                doubtful=item.report["sums"]["doubtful"],
            )
        )
    reports = [(item, item.report) for item in done if item.report is not None]
    if options.report is not None and reports:
        from puresignal.io import file_access

        rows: object = reports[0][1]
        if len(options.inputs) > 1:
            rows = {"files": [{"file": str(item.source), **report} for item, report in reports]}
        file_access.write_bytes(options.report, json_file.to_bytes(rows))
    return 1 if any(item.error is not None for item in done) else 0


def _sentence(sums: dict[str, object]) -> str:
    removed, added = sums["removed"], sums["added"]
    assert isinstance(removed, dict)
    assert isinstance(added, dict)
    parts = [f" + {word} {count}" for word, count in removed.items()]
    parts += [f" - {word} {count}" for word, count in added.items()]
    return tr("in {in_} = out {out}{names}", in_=sums["in"], out=sums["out"], names="".join(parts))


def _route(options: argparse.Namespace) -> int:
    import signal

    from puresignal.engine.client import RouterProcess
    from puresignal.engine.router_config import RouterConfig
    from puresignal.io import alsa_ports, jack_ports, note_map_file

    setup = RouterConfig(
        (options.source_port,),
        (options.target_port,),
        note_map_file.find_source("general-midi" if options.source_map == "auto" else options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map),
        _path_of(options),
    )
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended: list[int] = []
    router = RouterProcess(setup)

    def end(number: int, _: object) -> None:
        ended.append(number)
        router.hang_up()

    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, end)
    said: list[str] = []
    restarts = 0
    while not ended:
        state = router.read(0.1)
        if router.restarts != restarts:
            restarts = router.restarts
            print(tr("pure-signal: the router died and was restarted; nothing was left sounding"), file=sys.stderr)
            said = []
        if state is None:
            continue
        now = _route_state(state, options)
        for line in now:
            if line not in said:
                say(line, sys.stderr, flush=True)
        said = now
    router.close()
    return 0


def _until_signalled() -> list[int]:
    """A list that gets the number of the signal that asks the program to end."""
    import signal

    ended: list[int] = []
    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, lambda number, _: ended.append(number))
    return ended


def _record(options: argparse.Namespace) -> int:
    from puresignal.commands import record
    from puresignal.io import alsa_ports, jack_ports, note_map_file

    target = record.target_of(options.out, options.force)
    wanted = record.Options(
        tuple(dict.fromkeys(options.ports)), options.tempo, options.meter, options.count_in, options.bars, options.loop,
        options.click, None if options.source_map == "auto" else note_map_file.find_source(options.source_map),
        None if options.target_map is None else note_map_file.find(options.target_map), _path_of(options), options.raw,
    )  # fmt: skip
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended = _until_signalled()
    progress = sys.stderr.isatty()

    def show(text: str) -> None:
        print(f"\r{printable(text)}\x1b[K", end="", file=sys.stderr, flush=True)

    recording = record.Recording(wanted, lambda line: say(line, sys.stderr, flush=True))
    try:
        if not recording.wait(lambda: bool(ended)):
            return 0
        recording.start()
        recording.run(lambda: bool(ended), show if progress else None)
        session, takes = recording.end()
    finally:
        recording.close()
        if progress:
            print(end=CLEAR_LINE, file=sys.stderr)
    done = record.write(target, session, takes, options.raw)
    passes = tr(", {n} passes", n=done.passes) if done.passes else ""
    say(f"{done.target}: {', '.join(done.names)}{passes}: {_sentence(done.sums)}")  # not shown
    return 0


def _play(options: argparse.Namespace) -> int:
    from puresignal.commands import play
    from puresignal.core.errors import FileAccessError
    from puresignal.io import alsa_ports, jack_ports

    if not options.input.exists():
        raise FileAccessError(tr("There is no such file or folder"), str(options.input), tr("Check the name."))
    if not alsa_ports.DEVICE.exists():
        jack_ports.check_library()
    ended = _until_signalled()
    playing = play.Playing(options.input, options.port, options.bar, options.loop)
    try:
        if playing.wait(lambda: bool(ended), lambda line: say(line, sys.stderr, flush=True)):
            playing.run(lambda: bool(ended))
    finally:
        playing.close()
    return 0


def _route_state(state: dict[str, Any], options: argparse.Namespace) -> list[str]:
    """The router's state in words, one line each."""
    if not state["server"] and not (state["inputs"][0] and state["outputs"][0]):
        return [tr("waiting for the JACK server")]
    lines = [tr("loop detected: our output comes back in; what comes back is dropped")] if state["loops"] else []
    for what, name, found in (
        ("input", options.source_port, state["inputs"][0]),
        ("output", options.target_port, state["outputs"][0]),
    ):
        lines.append(
            f"{what}: {found}" if found else tr("waiting for a port called {name!r} ({what})", name=name, what=what)
        )
    return lines


def _ports(options: argparse.Namespace) -> int:
    from puresignal.io import port_systems

    found, why = port_systems.listing()
    if why:
        say(f"pure-signal: {why}", sys.stderr)
    rows = [{"name": p.name, "direction": "in" if p.gives else "out", "system": p.system} for p in found]
    if options.json:
        print(json.dumps(rows, indent=2))
    else:
        for row in rows:
            say(f"{row['direction']:<4} {row['system']:<5} {row['name']}")
    return 0


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
        if item.error is not None:
            say(f"pure-signal: {item.error}", sys.stderr)
            continue
        assert item.report is not None
        sums = item.report["sums"]
        assert isinstance(sums, dict)
        say(f"{item.target}: {', '.join(item.names)}: {_sentence(sums)}")
    rows = [{"file": str(item.source), **item.report} for item in done if item.report is not None]
    if options.report is not None and rows:
        file_access.write_bytes(options.report, json_file.to_bytes(rows[0] if len(done) == 1 else {"files": rows}))
    return 1 if any(item.error is not None for item in done) else 0


def _generate(options: argparse.Namespace) -> int:
    from puresignal.commands import clean, generate
    from puresignal.core.errors import BadFileError, FileAccessError
    from puresignal.core.harmony import keys

    if options.key and options.key not in keys.NAMES:
        raise BadFileError(tr("{key!r} is no key", key=options.key), "--key", tr('Give it like "D minor".'))
    given = {"bars": str(options.bars), "seed": str(options.seed)}
    for text in options.set:
        name, found, value = text.partition("=")
        if not found:
            raise BadFileError(tr("{given!r} is no setting", given=text), "--set", tr("Give it like kicks=4."))
        given[name.strip()] = value.strip()
    recipe = generate.recipe_of(options.kind, given)
    clean.check_folder(options.out.parent, False)
    if options.out.exists() and not options.force:
        text = tr("Give another name, or add --force.")
        raise FileAccessError(tr("This file exists already"), str(options.out), text)
    count = generate.generate(recipe, options.out, options.tempo, options.meter, options.key, options.source)
    say(f"{options.out}: {count_tr('{n} note', '{n} notes', count)}")
    return 0


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
    failed = False
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
            if several:
                clean.make_folder(out)
            renderer = rendering.Renderer(opened.session, takes, job)
            for part, target in zip(found, targets, strict=True):
                made = renderer.render(part, target)
                say(f"{target}: {made.seconds:.1f} s, {tr('peak')} {20 * math.log10(max(made.peak, 1e-6)):.1f} dB")
                for warning in made.warnings:
                    say(f"pure-signal: {warning}", sys.stderr)
        except PureSignalError as error:
            failed = True
            say(f"pure-signal: {error}", sys.stderr)
    return 1 if failed else 0


def _desktop(options: argparse.Namespace) -> int:
    from puresignal.commands import desktop_entry

    return desktop_entry.main([options.command])


def _doctor(options: argparse.Namespace) -> int:
    from puresignal.commands import doctor

    return doctor.run(options.json)


def _maps(options: argparse.Namespace) -> int:
    from puresignal.io import note_map_file

    rows = []
    for ident in note_map_file.shipped_ids():
        note_map = note_map_file.shipped(ident)
        rows.append({"id": ident, "name": note_map.name, "channel": note_map.channel, "pads": len(note_map.pads)})
    if options.json:
        print(json.dumps(rows, indent=2))
    else:
        for row in rows:
            channel = tr("any channel") if row["channel"] is None else tr("channel {channel}", channel=row["channel"])
            print(
                tr(
                    "{id:<20} {name:<28} {pads:>3} pads, {channel}",
                    id=row["id"],
                    name=row["name"],
                    pads=row["pads"],
                    channel=channel,
                )
            )
    return 0


if __name__ == "__main__":
    sys.exit(main())
