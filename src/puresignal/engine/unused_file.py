"""Files of killed programs: one is in use while anybody holds its lock, and may be taken when nobody does."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path


def take(path: Path, size: int) -> int | None:
    """The descriptor of a file that nobody uses, now locked; None if somebody does, or it has not so many bytes."""
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except OSError:
        return None
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if os.fstat(descriptor).st_size == size:
            return descriptor
    except OSError:
        pass
    os.close(descriptor)
    return None


def is_free(path: Path) -> bool:
    """Whether nobody uses a file, whatever its size; also where there is none."""
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except FileNotFoundError:
        return True
    except OSError:
        return False
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return True
