"""The journal: every incoming message goes to disk at once, one per line; a kill costs at most the last line.

A line is seconds, number of the input, bytes in hex: `12.34568 0 99265a`. The first line of a file names the inputs.
What the transport does stands among them as JSON: `12.34568 @ {"move":"round","seconds":4.0,"speed":1.0}`.
Full files are closed, and old ones are deleted when enough is kept (docs/formats.md).
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import re
import shutil
import threading
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, FileAccessError
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid
from puresignal.io import file_access
from puresignal.translation import tr

LINES = 50_000
"""Messages per file."""
KEPT_MESSAGES, KEPT_SECONDS = 200_000, 30 * 60
"""At least this many messages, and at least those of this many seconds, are kept."""
KEPT_BYTES = 500_000_000
"""Older sittings are deleted as soon as all of them take more room."""
SITTING_KEPT_SECONDS = 14 * 24 * 3600
"""Journals of sittings that ended longer ago are deleted."""
MOST_SECONDS = 1e9
"""No machine runs for longer: times of the monotonic clock beyond it are damage."""
TAIL = 4096
"""Messages at the end of a journal that a recorder may have written without noting its position."""

_HEAD = re.compile(r"# pure-signal journal [12] (.*)\Z")


class Writer:
    """Appends to the journal of one sitting.

    Raises FileAccessError if the folder is not writable; a disk that refuses while writing is noted in `refused` and
    retried with the next messages
    """

    def __init__(self, folder: Path, inputs: tuple[str, ...]):
        self.folder = folder
        self._inputs = inputs
        self._lines = 0
        self._number = 0
        self._file = -1
        self._owed = b""
        self._changing = threading.Lock()
        self.written = 0
        self.refused: OSError | None = None
        file_access.make_private(folder)
        existing = sorted(folder.glob("*.journal"))
        self._number = int(existing[-1].stem) + 1 if existing and existing[-1].stem.isdigit() else 1

    def add(self, messages: Iterable[tuple[float, int, bytes]]) -> None:
        """Write messages. On return the system has them, and they survive our death."""
        self._add([f"{at:.5f} {port} {data.hex()}\n".encode() for at, port, data in messages])

    def add_moves(self, moves: Iterable[tuple[float, int, bytes]]) -> None:
        """Write what the transport did: JSON, which has no line breaks."""
        self._add([f"{at:.6f} @ ".encode() + data + b"\n" for at, _, data in moves])

    def _add(self, rows: list[bytes]) -> None:
        if not rows and not self._owed:
            return
        # Kept in memory until the disk accepts it; the messages of a sitting are small.
        self._owed += b"".join(rows)
        try:
            # Never in the middle of a line that the disk took only a part of.
            if self._file < 0 or (self._lines >= LINES and self.refused is None):
                self._next_file()
            while self._owed:
                written = os.write(self._file, self._owed)
                self._owed = self._owed[written:]
                self.written += written
            self.refused = None
        except OSError as error:
            self.refused = error
        self._lines += len(rows)

    def _next_file(self) -> None:
        with self._changing:
            if self._file >= 0:
                with contextlib.suppress(OSError):
                    os.fdatasync(self._file)
                os.close(self._file)
                self._file = -1
        path = self.folder / f"{self._number:08d}.journal"
        names = "\t".join(name.replace("\t", " ").replace("\n", " ") for name in self._inputs)
        head = f"# pure-signal journal 2 {names}\n".encode()
        file = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        try:
            if os.write(file, head) != len(head):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        except OSError:
            # Without its first line nobody could read it.
            os.close(file)
            with contextlib.suppress(OSError):
                path.unlink()
            raise
        self._file = file
        self._number += 1
        self._lines = 0
        self._tidy()

    def _tidy(self) -> None:
        """Delete old files, as long as enough messages and a long enough time are kept."""
        full = sorted(self.folder.glob("*.journal"))[:-1]
        spare = len(full) - -(-KEPT_MESSAGES // LINES)
        now = time.time()
        for path in full[: max(0, spare)]:
            if now - path.stat().st_mtime > KEPT_SECONDS:
                path.unlink()

    def sync(self) -> None:
        """Wait until the disk has what was written. Raises OSError"""
        # A descriptor of its own: the file may be closed for the next one meanwhile.
        with self._changing:
            file = os.dup(self._file) if self._file >= 0 else -1
        if file >= 0:
            try:
                os.fdatasync(file)
            finally:
                os.close(file)

    def close(self) -> None:
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


class Syncer:
    """Has the disk itself keep what was written, at least once a second, so that a power cut costs no more than that.

    On a thread of its own: a disk may take its time, and what arrives is to be written meanwhile
    """

    EVERY = 0.5

    def __init__(self, writer: Writer):
        self._writer, self._ended = writer, threading.Event()
        self._thread = threading.Thread(target=self._sync, daemon=True)
        self._thread.start()

    def _sync(self) -> None:
        synced = 0
        while not self._ended.wait(self.EVERY):
            written = self._writer.written
            if written != synced:
                # A disk that refuses is noticed by the next write.
                with contextlib.suppress(OSError):
                    self._writer.sync()
                    synced = written

    def end(self) -> None:
        self._ended.set()
        self._thread.join(5.0)


def read(paths: Iterable[Path]) -> tuple[tuple[str, ...], list[tuple[float, int, bytes]]]:
    """The inputs and messages of journal files, in order. A line cut off by a crash is skipped.

    Raises FileAccessError, or BadFileError if a file is not a journal
    """
    inputs: tuple[str, ...] = ()
    rows = []
    for path in paths:
        lines = file_access.read_bytes(path).decode("utf-8", "replace").split("\n")
        head = _HEAD.match(lines[0])
        if head is None:
            raise BadFileError(tr("This is not a journal of Pure Signal"), path.name, tr("Choose a .journal file."))
        inputs = tuple(head.group(1).split("\t"))
        # Text after the last newline was being written when the program stopped.
        for line in lines[1:-1]:
            parts = line.split(" ")
            if len(parts) == 3 and parts[1].isdigit():
                try:
                    at, data = float(parts[0]), bytes.fromhex(parts[2])
                except ValueError:
                    continue
                # A damaged line is passed over like one that was cut off.
                if 0 <= at < MOST_SECONDS and len(parts[1]) < 6 and data:
                    rows.append((at, int(parts[1]), data))
    return inputs, rows


def read_moves(paths: Iterable[Path]) -> list[tuple[float, dict[str, Any]]]:
    """Moves of the transport in journal files, in order: (seconds, what transport_log.py says). Damage is skipped.

    Raises FileAccessError
    """
    found = []
    for path in paths:
        for line in file_access.read_bytes(path).decode("utf-8", "replace").split("\n")[1:-1]:
            at, sign, text = line.partition(" @ ")
            if sign:
                try:
                    seconds, what = float(at), json.loads(text)
                except (ValueError, RecursionError):
                    continue
                if 0 <= seconds < MOST_SECONDS and isinstance(what, dict):
                    found.append((seconds, what))
    return found


@dataclass(frozen=True)
class Sitting:
    """The contents of one sitting's journal.

    rows   (seconds, input, bytes), in order
    ended  wall clock time of the last row, seconds since 1970
    """

    folder: Path
    inputs: tuple[str, ...]
    rows: list[tuple[float, int, bytes]]
    ended: float


def _folders_in(folder: Path) -> list[Path]:
    try:
        return list(folder.iterdir())
    except OSError:
        return []


def sittings(folder: Path) -> list[Sitting]:
    """The non-empty sittings under a folder, newest first; unreadable files are skipped."""
    found = []
    for one in _folders_in(folder):
        inputs: tuple[str, ...] = ()
        rows: list[tuple[float, int, bytes]] = []
        ended = 0.0
        for path in sorted(one.glob("*.journal")):
            try:
                named, more = read([path])
                ended = max(ended, path.stat().st_mtime)
            except (FileAccessError, BadFileError, OSError):
                continue
            # Inputs may have changed within the sitting: in the result each name has one number.
            inputs = tuple(dict.fromkeys((*inputs, *named)))
            number = [inputs.index(name) for name in named]
            rows += [(at, number[port], data) for at, port, data in more if port < len(number)]
        if rows:
            found.append(Sitting(one, inputs, rows, ended))
    return sorted(found, key=lambda s: -s.ended)


def last_rows(folder: Path) -> list[tuple[float, int, bytes]]:
    """The messages of a folder's newest file; none if there is no readable file."""
    paths = sorted(folder.glob("*.journal"))
    try:
        return read(paths[-1:])[1]
    except (FileAccessError, BadFileError):
        return []


def already_written(records: Sequence[tuple[float, int, bytes]], tail: list[tuple[float, int, bytes]]) -> int:
    """How many of the first records the journal already ends with."""
    first = [(round(at, 5), port, bytes(data)) for at, port, data in records[:TAIL]]
    most = min(len(first), len(tail))
    return next((n for n in range(most, 0, -1) if tail[-n:] == first[:n]), 0)


def forget_old(sittings: Path, but: Path, most_bytes: int = KEPT_BYTES) -> None:
    """Delete the journals of sittings that ended long ago, and the oldest of those that take too much room."""
    now = time.time()
    rows: list[tuple[float, int, Path]] = []
    for folder in _folders_in(sittings):
        with contextlib.suppress(OSError):
            stats = [path.stat() for path in folder.glob("*.journal")]
            ended = max((one.st_mtime for one in stats), default=0.0)
            rows.append((ended, sum(one.st_size for one in stats), folder))
    room = most_bytes
    for ended, size, folder in sorted(rows, reverse=True):
        room -= size
        if folder != but and (now - ended > SITTING_KEPT_SECONDS or room < 0):
            shutil.rmtree(folder, ignore_errors=True)


def to_take(
    rows: list[tuple[float, int, bytes]], inputs: tuple[str, ...], ident: str, name: str, tempo: TempoMap,
    since: float | None = None, one_device: bool = False,
) -> Take:  # fmt: skip
    """A take made of messages; its time starts at the first of them, or at `since`, which is not later.

    one_device  the inputs are one player's, who has a kit on several ports
    """
    if not rows:
        raise FileAccessError(tr("Nothing has arrived"), name, tr("Play something, and look at the input's lamp."))
    begin = float(on_arrival_grid(np.array([rows[0][0] if since is None else since]))[0])
    channel = [len(d) <= 3 and d[:1] != b"\xf0" for _, _, d in rows]
    padded = [(d + b"\0\0")[:3] if c else bytes((d[0], 0, 0)) for (_, _, d), c in zip(rows, channel, strict=True)]
    data = np.frombuffer(b"".join(padded), np.uint8).reshape(-1, 3)
    long_ones = ~np.array(channel)
    events = Events(
        arrived=on_arrival_grid(np.maximum.accumulate([max(0.0, at - begin) for at, _, _ in rows])),
        port=np.array([min(port, len(inputs) - 1) for _, port, _ in rows]),
        status=data[:, 0],
        data1=data[:, 1] & 0x7F,
        data2=data[:, 2] & 0x7F,
        payload=np.where(long_ones, np.cumsum(long_ones) - 1, -1),
    )
    payloads = tuple(d[1:] for (_, _, d), c in zip(rows, channel, strict=True) if not c)
    ports = tuple(Port(n, 0 if one_device else i) for i, n in enumerate(inputs))
    return Take(ident, name, events, ports, tempo, payloads, begun=begin)
