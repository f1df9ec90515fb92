"""Values kept alike in two processes: each is sent once, and named by a number from then on.

Both ends take turns. What is frozen stays the same object on either side, so that what was worked out for it by one
message still holds for the next. Of what no message of the last few has named both ends forget, at the same moment.
"""

from __future__ import annotations

import io
import os
import pickle
from multiprocessing.connection import Connection
from typing import Any

import numpy as np

from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.columns import Columns
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NoteEdits
from puresignal.core.path.verdicts import Verdicts
from puresignal.core.session.take_ref import TakeRef

KEPT_WHOLE = (Take, TakeRef, NoteMap, Verdicts, NoteEdits, HeardNotes, SeveralTakes, Outcome, Context, Columns)
"""Values that are the same object again when they are the same object here."""
LEAST_BYTES = 2048
"""Arrays from this size are kept; smaller ones are sent each time."""
KEPT_MESSAGES = 8
LONG_BYTES = 1 << 16
IN_HERE, IN_MEMORY = b"h", b"m"


class Mirror:
    """One end. The ends are numbered 0 and 1, so that they never give one number to two values.

    Long messages stand in memory that both ends have open: over a socket they would come in hundreds of pieces, for
    each of which a busy window would have to be waited for.
    """

    def __init__(self, connection: Connection, end: int, memory: tuple[int, int] = (-1, -1)):
        """memory: open files of what this end writes and what it reads; -1: there is none."""
        self._connection, self._memory = connection, memory
        self._next, self._message = end, 0
        self._values: dict[int, Any] = {}
        self._numbers: dict[int, int] = {}
        self._used: dict[int, int] = {}

    def send(self, value: object) -> None:
        """Send a value. Raises OSError if the other end is gone."""
        self._message += 1
        parts: list[tuple[int, bytes]] = []
        whole = self._packed(value, parts, None)
        self._put(pickle.dumps((parts, whole), protocol=5))
        self._forget()

    def _put(self, message: bytes) -> None:
        if self._memory[0] < 0 or len(message) < LONG_BYTES:
            self._connection.send_bytes(IN_HERE + message)
            return
        done = 0
        while done < len(message):
            done += os.pwrite(self._memory[0], memoryview(message)[done:], done)
        self._connection.send_bytes(IN_MEMORY + str(len(message)).encode())

    def _got(self) -> bytes:
        message = self._connection.recv_bytes()
        if message[:1] == IN_HERE:
            return message[1:]
        length, parts, done = int(message[1:]), [], 0
        while done < length:
            parts.append(os.pread(self._memory[1], length - done, done))
            done += len(parts[-1])
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def receive(self) -> Any:
        """The next value. Raises EOFError or OSError if the other end is gone."""
        parts, whole = pickle.loads(self._got())
        self._message += 1
        for number, packed in parts:
            value = _Reader(io.BytesIO(packed), self).load()
            # An array that only looks into what was received would be copied at each use.
            own = isinstance(value, np.ndarray) and value.base is not None
            self._keep(number, value.copy() if own else value)
        value = _Reader(io.BytesIO(whole), self).load()
        self._forget()
        return value

    def close(self) -> None:
        """Close what it was given."""
        self._connection.close()
        for file in self._memory:
            if file >= 0:
                os.close(file)

    def _packed(self, value: object, parts: list[tuple[int, bytes]], root: object) -> bytes:
        content = io.BytesIO()
        _Writer(content, self, parts, root).dump(value)
        return content.getvalue()

    def number_of(self, value: object, parts: list[tuple[int, bytes]]) -> int:
        """The number of a value that is kept; one that the other end has not is put among the parts."""
        number = self._numbers.get(id(value))
        if number is None:
            packed = self._packed(value, parts, value)
            number = self._next
            self._next += 2
            parts.append((number, packed))
            self._keep(number, value)
        self._used[number] = self._message
        return number

    def value_of(self, number: int) -> Any:
        self._used[number] = self._message
        return self._values[number]

    def _keep(self, number: int, value: Any) -> None:
        if isinstance(value, np.ndarray):
            value.flags.writeable = False
        self._values[number], self._numbers[id(value)] = value, number
        self._used[number] = self._message

    def _forget(self) -> None:
        for number in [one for one, last in self._used.items() if last <= self._message - KEPT_MESSAGES]:
            del self._numbers[id(self._values.pop(number))], self._used[number]


class _Writer(pickle.Pickler):
    def __init__(self, content: io.BytesIO, mirror: Mirror, parts: list[tuple[int, bytes]], root: object):
        super().__init__(content, protocol=5)
        self._mirror, self._parts, self._root = mirror, parts, root

    def persistent_id(self, obj: Any) -> int | None:
        if obj is self._root:
            return None
        if isinstance(obj, KEPT_WHOLE):
            return self._mirror.number_of(obj, self._parts)
        if isinstance(obj, np.ndarray) and obj.nbytes >= LEAST_BYTES and not obj.flags.writeable:
            return self._mirror.number_of(obj, self._parts)
        return None


class _Reader(pickle.Unpickler):
    def __init__(self, content: io.BytesIO, mirror: Mirror):
        super().__init__(content)
        self._mirror = mirror

    def persistent_load(self, pid: Any) -> Any:
        return self._mirror.value_of(pid)
