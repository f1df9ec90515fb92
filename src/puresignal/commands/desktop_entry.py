"""Putting the program into the current user's desktop, and taking it out again without a trace.

Only files of our own are written and removed; the desktop's data bases are
refreshed where their tools are there.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

from puresignal.core.errors import FileAccessError
from puresignal.io import file_access

_ASSETS = (
    ("desktop/pure-signal.desktop", "applications/pure-signal.desktop"),
    ("desktop/pure-signal-mime.xml", "mime/packages/pure-signal.xml"),
    ("desktop/pure-signal.metainfo.xml", "metainfo/pure-signal.metainfo.xml"),
    ("icons/pure-signal.svg", "icons/hicolor/scalable/apps/pure-signal.svg"),
)


def data_home() -> Path:
    named = os.environ.get("XDG_DATA_HOME", "")
    return Path(named) if named.startswith("/") else Path.home() / ".local/share"


def starter() -> Path:
    """The command that the desktop starts."""
    return Path.home() / ".local/bin/pure-signal"


def install() -> list[Path]:
    """Writes the starter, desktop entry, icon, MIME type and metadata; returns what was written.

    Raises FileAccessError when the system refuses, or a starter of somebody else's is in the way
    """
    program = Path(sys.executable).with_name("pure-signal")
    written = []
    if (starter().exists() or starter().is_symlink()) and not _is_ours(starter()):
        raise FileAccessError("Another program of this name is there", str(starter()), "Move it away first.")
    for asset, place in _ASSETS:
        content = (resources.files("puresignal") / "ui" / "assets" / asset).read_bytes()
        if asset.endswith(".desktop"):
            # Desktops do not all look into ~/.local/bin, so the entry names the program in full.
            content = content.replace(b"Exec=pure-signal", b"Exec=" + _quoted(program).encode())
        written.append(_put(data_home() / place, content))
    script = (
        f'#!/bin/sh\n# Starts Pure Signal; written by its install command.\nexec {shlex.quote(str(program))} "$@"\n'
    )
    written.append(_put(starter(), script.encode()))
    starter().chmod(0o755)
    _refresh()
    return written


def uninstall() -> list[Path]:
    """Removes what `install` wrote; returns what was there. Sessions and note maps stay."""
    removed = []
    places = [data_home() / place for _, place in _ASSETS]
    if _is_ours(starter()):
        places.append(starter())
    for place in places:
        if place.exists():
            try:
                place.unlink()
            except OSError as error:
                raise file_access.access_error(error, place, "remove") from error
            removed.append(place)
    _refresh()
    return removed


def _is_ours(path: Path) -> bool:
    try:
        return b"Starts Pure Signal" in path.read_bytes()[:200]
    except OSError:
        return False


def _quoted(program: Path) -> str:
    """A path as the Desktop Entry Specification wants an argument quoted."""
    text = str(program)
    for sign in ("\\", '"', "`", "$"):
        text = text.replace(sign, "\\" + sign)
    return f'"{text}"'.replace("%", "%%")


def _put(path: Path, content: bytes) -> Path:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise file_access.access_error(error, path, "write") from error
    file_access.write_bytes(path, content)
    return path


def _refresh() -> None:
    home = data_home()
    for command in (
        ["update-mime-database", str(home / "mime")],
        ["update-desktop-database", str(home / "applications")],
        ["gtk-update-icon-cache", "-q", "-t", str(home / "icons/hicolor")],
    ):
        if shutil.which(command[0]):
            subprocess.run(command, check=False, capture_output=True, timeout=60)


def main(arguments: list[str]) -> int:
    """`install` or `uninstall`; says what was done."""
    try:
        if arguments == ["install"]:
            for path in install():
                print(f"wrote {path}")
        elif arguments == ["uninstall"]:
            for path in uninstall():
                print(f"removed {path}")
            print("Your sessions, note maps and settings are where they were.")
        else:
            print("usage: install | uninstall", file=sys.stderr)
            return 2
    except FileAccessError as error:
        print(f"pure-signal: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
