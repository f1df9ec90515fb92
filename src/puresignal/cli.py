"""The command line: the window without a command, else one of the commands."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from puresignal import __version__, translation
from puresignal.command_line import (
    arguments,
    clean_command,
    export_command,
    generate_command,
    live_commands,
    machine_commands,
    render_command,
    transcribe_command,
)
from puresignal.command_line.parser import Parser
from puresignal.commands.terminal import prepare, say
from puresignal.core.errors import PureSignalError
from puresignal.translation import tr

MODULES = (
    machine_commands, clean_command, transcribe_command, export_command, render_command, generate_command,
    live_commands,
)  # fmt: skip
COMMANDS = (
    "demo", "clean", "transcribe", "export", "render", "generate", "route", "record", "play", "ports", "maps", "doctor",
    "install", "uninstall",
)  # fmt: skip


def main(given: list[str] | None = None) -> int:
    """Run a command. Returns its exit code: 0 done, 1 could not do it, 2 wrong usage."""
    given = sys.argv[1:] if given is None else given
    prepare()
    _speak()
    try:
        if given and given[0] in COMMANDS:
            code = _command(given)
        else:
            code = _window(given)
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


def _speak() -> None:
    """Speak the player's language: the preferred one, else that of the environment."""
    from puresignal.io import preferences

    try:
        wanted = preferences.read().language
    except PureSignalError:
        # The window says what is wrong with the file.
        wanted = ""
    translation.begin(wanted)


def _give_up_output() -> None:
    """Write nothing more to standard output: the interpreter would try again at exit, and complain."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.close(nowhere)


def _window(given: list[str]) -> int:
    if given and not Path(given[0]).exists():
        import difflib

        meant = difflib.get_close_matches(given[0], COMMANDS, 1)
        if meant:
            text = tr("There is no command or file “{name}”. Did you mean “{meant}”?", name=given[0], meant=meant[0])
            say(f"pure-signal: {text}", sys.stderr)
            return 2
    parser = Parser(
        prog="pure-signal",
        description=tr("Turns playing into clean MIDI: notes mapped, faults removed, a track for each drum."),
        epilog=tr(
            "Commands: clean, transcribe, export, render, generate, route, record, play, ports, maps, doctor, demo, "
            "install, uninstall. "
            "See 'pure-signal COMMAND --help'."
        ),
    )
    parser.add_argument(
        "files", nargs="*", metavar="FILE", type=arguments.path, help=tr("sessions and MIDI files to open")
    )
    parser.add_argument("--version", action="version", version=f"Pure Signal {__version__}")
    options = parser.parse_args(given)
    from puresignal.ui.shell import app

    return app.run(options.files)


def _command(given: list[str]) -> int:
    parser, _ = command_parser()
    options = parser.parse_args(given)
    code: int = options.run(options)
    return code


def command_parser() -> tuple[argparse.ArgumentParser, dict[str, argparse.ArgumentParser]]:
    """The parser of all commands, and that of each by name."""
    parser = Parser(prog="pure-signal")
    commands = parser.add_subparsers(dest="command", required=True)
    for module in MODULES:
        module.add(commands)
    return parser, dict(commands.choices)


if __name__ == "__main__":
    sys.exit(main())
