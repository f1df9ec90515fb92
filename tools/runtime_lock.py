"""Print the part of requirements.lock that the program needs to run, without what its developers use."""

from __future__ import annotations

import re
import sys
import tomllib
from pathlib import Path

ROOT = Path(__file__).parent.parent


def plain(name: str) -> str:
    """A package's name as indexes compare it (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def blocks(lock: str) -> dict[str, tuple[str, list[str]]]:
    """By package: its lines, and the packages that ask for it."""
    found: dict[str, tuple[str, list[str]]] = {}
    for block in re.split(r"(?m)^(?=[A-Za-z0-9])", lock):
        name = re.match(r"[A-Za-z0-9._-]+(?===)", block)
        if name is None:
            continue
        told = block.partition("# via")[2].replace("#", " ")
        askers = [plain(word) for word in re.findall(r"[A-Za-z0-9._-]+", told)]
        lines = [line for line in block.splitlines() if not line.lstrip().startswith("#") and line.strip()]
        found[plain(name[0])] = "\n".join(lines), askers
    return found


def runtime(lock: str, project: dict[str, object]) -> list[str]:
    """The blocks of the packages that the program needs, and of those that they need."""
    found = blocks(lock)
    wanted = {plain(re.match(r"[A-Za-z0-9._-]+", text)[0]) for text in project["dependencies"]}  # type: ignore[index,attr-defined]
    while True:
        more = {name for name, (_, askers) in found.items() if wanted & set(askers)} - wanted
        if not more:
            return [found[name][0] for name in sorted(wanted)]
        wanted |= more


if __name__ == "__main__":
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    sys.stdout.write("\n".join(runtime((ROOT / "requirements.lock").read_text("utf-8"), project)) + "\n")
