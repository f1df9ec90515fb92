"""The program's folders, by the XDG base directory specification."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

NAME = "pure-signal"


def _base(variable: str, default: str) -> Path:
    named = os.environ.get(variable, "")
    # The specification says to ignore paths that are not absolute.
    return (Path(named) if named.startswith("/") else _home() / default) / NAME


def _home() -> Path:
    """The player's home folder; without one, a folder for this user among the temporary files."""
    try:
        return Path.home()
    except RuntimeError:
        return Path(tempfile.gettempdir()) / f"{NAME}-{os.getuid()}"


def state() -> Path:
    """Work in progress and logs."""
    return _base("XDG_STATE_HOME", ".local/state")


def config() -> Path:
    """Preferences."""
    return _base("XDG_CONFIG_HOME", ".config")


def data() -> Path:
    """The player's own note maps, grooves, voices, chord books and templates."""
    return _base("XDG_DATA_HOME", ".local/share")


def cache() -> Path:
    """Clips dragged out of the window."""
    return _base("XDG_CACHE_HOME", ".cache")
