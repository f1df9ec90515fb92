"""PipeWire's sinks and which of them is the default one, as they change.

JACK's interface does not tell either, so the monitors that come with PipeWire are read: `pw-dump` for the sinks, and
`pw-metadata` for the default, whose changes `pw-dump` keeps back until something else changes.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import subprocess
from typing import Any

from puresignal.io.log_file import log

SINK = "Audio/Sink"
DEFAULT = re.compile(r"update: .*key:'default\.audio\.sink' value:'(\{.*?\})'")


class _Monitor:
    """A program whose output is read as it comes; nothing if it is not installed, or there is no terminal for it."""

    def __init__(self, *command: str):
        self._process: subprocess.Popen[bytes] | None = None
        if shutil.which(command[0]) is None:
            return
        if shutil.which("setpriv") is not None:
            # It ends with this process, also when that is killed.
            command = ("setpriv", "--pdeathsig", "KILL", *command)
        # Into a pipe, it would keep small changes back until its buffer is full; into a terminal, it writes lines.
        try:
            self._terminal, theirs = os.openpty()
        except OSError:
            # As in a container without them. The sinks then stay unknown; sound goes to the first outputs.
            log.exception("no terminal for %s", command[-1])
            return
        os.set_blocking(self._terminal, False)
        try:
            self._process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=theirs, stderr=subprocess.DEVNULL
            )
        except OSError:
            log.exception("%s does not start", command[-1])
            os.close(self._terminal)
        finally:
            os.close(theirs)

    def read(self) -> str:
        """Its output since the last call. Never waits."""
        text = b""
        # It raises the same when there is nothing to read and when the program has ended.
        with contextlib.suppress(OSError):
            while self._process is not None and (data := os.read(self._terminal, 1 << 16)):
                text += data
        return text.decode("utf-8", "replace")

    def close(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            os.close(self._terminal)


class SinkWatch:
    """Takes up what has changed whenever `look` is called, which never waits.

    sinks    names that people see, as JACK's client names are on PipeWire
    default  the default one of them, empty if it is not known
    """

    def __init__(self) -> None:
        self.sinks: tuple[str, ...] = ()
        self.default = ""
        self._names: dict[int, tuple[str, str]] = {}
        self._default_name = ""
        self._objects, self._object_text = _Monitor("pw-dump", "--monitor", "--no-colors"), ""
        self._settings, self._setting_text = _Monitor("pw-metadata", "--monitor", "0"), ""

    def look(self) -> None:
        """Take up what has changed since the last call."""
        *lines, self._setting_text = (self._setting_text + self._settings.read()).split("\n")
        for line in lines:
            found = DEFAULT.search(line)
            if found is not None:
                with contextlib.suppress(ValueError):
                    self._default_name = str(json.loads(found[1]).get("name", ""))
        self._object_text += self._objects.read()
        decoder = json.JSONDecoder()
        while text := self._object_text.lstrip():
            try:
                rows, end = decoder.raw_decode(text)
            except ValueError:
                # The rest of it is still to come.
                break
            self._object_text = text[end:]
            for row in rows:
                self._take(row)
        self.sinks = tuple(sorted(title for title, _ in self._names.values()))
        self.default = next((title for title, name in self._names.values() if name == self._default_name), "")

    def _take(self, row: dict[str, Any]) -> None:
        info = row.get("info")
        if info is None:
            # An object that has gone has nothing but its number.
            self._names.pop(row.get("id", -1), None)
            return
        props = info.get("props") or {}
        if props.get("media.class") == SINK:
            name = str(props.get("node.name", ""))
            self._names[row["id"]] = str(props.get("node.description") or props.get("node.nick") or name), name

    def close(self) -> None:
        self._objects.close()
        self._settings.close()
