"""`pure-signal install` and `uninstall`: adds the program to the user's desktop, and removes it without a trace.

Only our own files are written and removed; the desktop's databases are refreshed if their tools are available.
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
from puresignal.translation import tr

_ASSETS = (
    ("desktop/pure-signal.desktop", "applications/pure-signal.desktop"),
    ("desktop/pure-signal-mime.xml", "mime/packages/pure-signal.xml"),
    ("desktop/pure-signal.metainfo.xml", "metainfo/pure-signal.metainfo.xml"),
    ("icons/pure-signal.svg", "icons/hicolor/scalable/apps/pure-signal.svg"),
    *(
        (f"icons/pure-signal-{size}.png", f"icons/hicolor/{size}x{size}/apps/pure-signal.png")
        for size in (16, 24, 32, 48, 64, 128, 256, 512)
    ),
    ("shell/pure-signal.bash", "bash-completion/completions/pure-signal"),
    ("shell/_pure-signal", "zsh/site-functions/_pure-signal"),
    ("shell/pure-signal.fish", "fish/vendor_completions.d/pure-signal.fish"),
    ("shell/pure-signal.1", "man/man1/pure-signal.1"),
)


def data_home() -> Path:
    named = os.environ.get("XDG_DATA_HOME", "")
    return Path(named) if named.startswith("/") else Path.home() / ".local/share"


def starter() -> Path:
    """The command that the desktop runs."""
    return Path.home() / ".local/bin/pure-signal"


def install() -> list[Path]:
    """Write starter, desktop entry, icon, MIME type and metadata. Returns what was written.

    Raises FileAccessError if the system refuses, or a starter of another program is in the way
    """
    program = Path(sys.executable).with_name("pure-signal")
    written = []
    # Where an installer has put a link to the program in this place, that is the starter.
    linked = starter().exists() and starter().resolve() == program.resolve()
    if not linked and (starter().exists() or starter().is_symlink()) and not _is_ours(starter()):
        raise FileAccessError(tr("Another program with this name exists"), str(starter()), tr("Move it away first."))
    for asset, place in _ASSETS:
        content = (resources.files("puresignal") / "ui" / "assets" / asset).read_bytes()
        if asset.endswith(".desktop"):
            # Not all desktops look into ~/.local/bin, so the entry has the full path.
            content = content.replace(b"Exec=pure-signal", b"Exec=" + _quoted(program).encode())
        written.append(_put(data_home() / place, content))
    script = (
        f'#!/bin/sh\n# Starts Pure Signal; written by its install command.\nexec {shlex.quote(str(program))} "$@"\n'
    )
    if not linked:
        written.append(_put(starter(), script.encode()))
        starter().chmod(0o755)
    _refresh()
    return written


def uninstall() -> list[Path]:
    """Remove what `install` wrote. Returns what was there. Sessions and note maps stay."""
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
    """A path quoted as the Desktop Entry Specification requires."""
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
    """Run `install` or `uninstall` and print what was done."""
    try:
        if arguments == ["install"]:
            for path in install():
                print(tr("wrote {path}", path=path))
        elif arguments == ["uninstall"]:
            for path in uninstall():
                print(tr("removed {path}", path=path))
            print(tr("Your sessions, note maps and settings were left alone."))
        else:
            print(tr("usage: install | uninstall"), file=sys.stderr)
            return 2
    except FileAccessError as error:
        print(f"pure-signal: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
