"""The rings of what arrives and of the transport's moves, in files that outlive a killed program.

The recorder copies them into the journal within some hundredths of a second, if it gets the processor. Should it and
everything else be killed before, the next start finds the files and writes into the journal what is missing there. The
third ring is of what the window's own inputs send, until the router fetches it. They are in the user's folder in
memory; where there is none, the rings are in memory of the processes alone.

A file is in use while anybody holds its lock; all processes inherit it, so it is free only when all have ended.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.engine import ring, unused_file
from puresignal.io import file_access, journal, ports, xdg_folders
from puresignal.io.log_file import log

PREFIX = "arrived-"
RING, MOVES, OWN, ABOUT = "ring", "moves", "own", "about.json"
MOST_ABOUT = 1 << 16


@dataclass(frozen=True)
class KeptRings:
    """Three rings. arrived, moves, own: descriptors; folder: of their files, None if they are in memory alone."""

    arrived: int
    moves: int
    own: int
    folder: Path | None

    def name_journal(self, journal_folder: Path, inputs: tuple[str, ...]) -> None:
        """Note where what arrives is written, and the inputs' names."""
        if self.folder is None:
            return
        part = self.folder / f"{ABOUT}.part"
        with contextlib.suppress(OSError, PureSignalError):
            # A journal without a folder is one that was thrown away; this one's recorder may not be up yet.
            file_access.make_private(journal_folder)
            part.write_text(json.dumps({"journal": str(journal_folder), "inputs": inputs}), "utf-8")
            part.replace(self.folder / ABOUT)

    def close(self, all_written: bool) -> None:
        """Let go of them; the files stay for the next start if the journal does not have everything."""
        for one in (self.arrived, self.moves, self.own):
            os.close(one)
        if all_written and self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)


def _place() -> Path | None:
    """The user's folder in memory: a file on a disk could make the port's callback wait."""
    runtime = os.environ.get("XDG_RUNTIME_DIR", "")
    return Path(runtime) / xdg_folders.NAME if runtime.startswith("/") else None


def make(kept: bool) -> KeptRings:
    """New rings; kept: in files, where that can be done."""
    place = _place() if kept else None
    if place is not None:
        folder, made = None, []
        try:
            place.mkdir(mode=0o700, parents=True, exist_ok=True)
            folder = Path(tempfile.mkdtemp(prefix=PREFIX, dir=place))
            for name in (RING, MOVES, OWN):
                made.append(os.open(folder / name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600))
                fcntl.flock(made[-1], fcntl.LOCK_EX | fcntl.LOCK_NB)
                # Room now, so that a full memory is noticed here and not by the port's callback.
                os.posix_fallocate(made[-1], 0, ring.SIZE)
            return KeptRings(made[0], made[1], made[2], folder)
        except OSError:
            log.exception("no rings that outlive the program in %s", place)
            for one in made:
                os.close(one)
            if folder is not None:
                shutil.rmtree(folder, ignore_errors=True)
    return KeptRings(ring.make(), ring.make(), ring.make(), None)


def rescue() -> int:
    """Write into their journals what killed programs left unwritten. Returns how many messages that were."""
    place, rescued = _place(), 0
    if place is None:
        return 0
    with contextlib.suppress(OSError):
        for folder in sorted(place.glob(f"{PREFIX}*")):
            rescued += _rescued(folder)
    return rescued


def _rescued(folder: Path) -> int:
    names = (RING, MOVES, OWN)
    taken = {name: found for name in names if (found := unused_file.take(folder / name, ring.SIZE)) is not None}
    try:
        if len(taken) < len(names):
            # In use, or begun and killed before all three were whole: then nothing is in them.
            if all(name in taken or unused_file.is_free(folder / name) for name in names):
                shutil.rmtree(folder, ignore_errors=True)
            return 0
        target = _journal_of(folder)
        arrived, moves, own = taken.values()
        count = _copied(arrived, moves, own, *target) if target is not None else 0
        shutil.rmtree(folder, ignore_errors=True)
        return count
    except (OSError, PureSignalError):
        # Stays for the next start: the disk may be full.
        log.exception("what arrived last could not be written from %s", folder)
        return 0
    finally:
        for one in taken.values():
            # A mapping of the file that is not yet collected would keep the lock.
            fcntl.flock(one, fcntl.LOCK_UN)
            os.close(one)


def _journal_of(folder: Path) -> tuple[Path, tuple[str, ...]] | None:
    """The journal's folder and the inputs' names; None if nothing was to be kept, or the journal was thrown away."""
    try:
        with (folder / ABOUT).open("rb") as file:
            about = json.loads(file.read(MOST_ABOUT))
        where, inputs = Path(about["journal"]), tuple(map(str, about["inputs"]))
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None
    return (where, inputs) if where.is_dir() else None


def _copied(arrived: int, moves: int, own: int, where: Path, inputs: tuple[str, ...]) -> int:
    """Write what the journal does not have. Returns how many messages. Raises OSError, PureSignalError"""
    records, steps, fed = (ring.Reader(one, keeps_place=True).read() for one in (arrived, moves, own))
    # The recorder may have been killed between writing and noting its place.
    records = records[journal.already_written(records, journal.last_rows(where)) :]
    names = [ports.FED[one.port] if one.port < len(ports.FED) else "" for one in fed]
    records += [one._replace(port=inputs.index(name)) for one, name in zip(fed, names, strict=True) if name in inputs]
    written = {at for at, _ in journal.read_moves(sorted(where.glob("*.journal"))[-1:])}
    steps = [one for one in steps if round(one.at, 6) not in written]
    if not records and not steps:
        return 0
    writer = journal.Writer(where, inputs)
    try:
        # First what the transport did: a hit is of use only with the round that it fell into.
        writer.add_moves(steps)
        writer.add(records)
        if writer.refused is not None:
            raise writer.refused
        writer.sync()
    finally:
        writer.close()
    return len(records)
