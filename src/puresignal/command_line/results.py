"""Output of a command: lines or JSON, verbose, or errors only."""

from __future__ import annotations

import argparse
import json
import logging
import sys
from typing import TextIO

from puresignal.commands.terminal import printable, say
from puresignal.translation import tr

CLEAR_LINE = "\r\x1b[K"
"""Clears a line of progress on a terminal before something else is said."""


class Results:
    """Says results as the options want.

    failed  whether any of them failed
    dry     whether nothing is to be written
    """

    def __init__(self, options: argparse.Namespace):
        self._quiet, self._json = options.quiet, getattr(options, "json", False)
        self.dry = getattr(options, "dry_run", False)
        self.failed = False
        self._rows: list[dict[str, object]] = []
        self.verbose = options.verbose
        if options.verbose:
            log_to_terminal()

    @property
    def progress(self) -> bool:
        """Whether progress can be shown."""
        return sys.stderr.isatty() and not self._quiet

    def show_progress(self, text: str) -> None:
        """Show a line of progress in place of the one before."""
        print(f"\r{printable(text)}", end="", file=sys.stderr, flush=True)

    def show_line(self, text: str) -> None:
        """Show a line of progress whose length changes."""
        print(f"\r{printable(text)}\x1b[K", end="", file=sys.stderr, flush=True)

    def end_progress(self) -> None:
        """Clear the line of progress."""
        print(end=CLEAR_LINE, file=sys.stderr)

    def done(self, text: str, row: dict[str, object], file: TextIO | None = None) -> None:
        """Say one result. row: the same for JSON; file: other than standard output"""
        self._rows.append(row)
        if not self._quiet and not self._json:
            say(text, file, flush=True)

    def planned(self, target: object, row: dict[str, object]) -> None:
        """Say what would be written."""
        self.done(tr("{file} would be written", file=target), {**row, "written": False})

    def warn(self, text: str) -> None:
        """Say something about a result."""
        if not self._quiet:
            say(text, sys.stderr)

    def fail(self, error: Exception, row: dict[str, object]) -> None:
        """Say why there is no result."""
        self.failed = True
        self._rows.append({**row, "error": str(error)})
        say(f"pure-signal: {error}", sys.stderr)

    def end(self) -> int:
        """Write the results as JSON if that is wanted. Returns the exit code."""
        if self._json:
            print(json.dumps(self._rows, indent=2, ensure_ascii=False))
        return 1 if self.failed else 0


def log_to_terminal() -> None:
    """Say what is logged, on standard error."""
    log = logging.getLogger("puresignal")
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(logging.Formatter("%(levelname)s %(message)s"))
    log.addHandler(handler)
    log.setLevel(logging.DEBUG)


def sentence(sums: dict[str, object]) -> str:
    """The account of a take in one line: in = out + removed - added."""
    removed, added = sums["removed"], sums["added"]
    assert isinstance(removed, dict)
    assert isinstance(added, dict)
    parts = [f" + {word} {count}" for word, count in removed.items()]
    parts += [f" - {word} {count}" for word, count in added.items()]
    return tr("in {in_} = out {out}{names}", in_=sums["in"], out=sums["out"], names="".join(parts))
