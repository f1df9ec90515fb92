"""The parser of the commands, with the options that they share."""

from __future__ import annotations

import argparse
import sys
from typing import Any, NoReturn

from puresignal.translation import tr

Commands = Any
"""The object that argparse adds commands to; its type has no public name."""


class Parser(argparse.ArgumentParser):
    """Says what is wrong in one line, below the usage."""

    def error(self, message: str) -> NoReturn:
        self.print_usage(sys.stderr)
        self.exit(2, f"{self.prog}: {message}\n")


def add_command(commands: Commands, name: str, does: str, example: str, more: str = "") -> argparse.ArgumentParser:
    """Add a command.

    does     what it does, for the list of commands and its own help
    example  a line that can be typed; more: text behind it
    """
    epilog = "\n\n".join(part for part in (f"{tr('example:')}\n  {example}", more) if part)
    made: argparse.ArgumentParser = commands.add_parser(
        name, help=does, description=f"{does[:1].upper()}{does[1:]}.", epilog=epilog.replace("%", "%%"),
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    return made


def add_output_options(parser: argparse.ArgumentParser, writes: bool = True) -> None:
    """Options on what a command says. writes: it writes files, and so can say which without doing so"""
    parser.add_argument("--quiet", action="store_true", help=tr("say nothing but errors"))
    parser.add_argument("--verbose", action="store_true", help=tr("say more, with what is logged"))
    if writes:
        parser.add_argument("--json", action="store_true", help=tr("results as JSON on standard output"))
        parser.add_argument("--dry-run", action="store_true", help=tr("say what would be written, and write nothing"))
