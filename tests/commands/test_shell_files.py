"""Completion and the man page follow the parser, and the shell takes them."""

from __future__ import annotations

import re
import subprocess
from importlib import resources
from pathlib import Path

import pytest

from puresignal import cli
from tools import write_shell_files

ASSETS = resources.files("puresignal") / "ui" / "assets" / "shell"


@pytest.mark.parametrize(("name", "content"), write_shell_files.files().items())
def test_shipped_files_follow_the_parser(name, content):
    assert (ASSETS / name).read_text("utf-8") == content, "run tools/write_shell_files.py"


def completed(*words):
    script = (
        f"source {ASSETS}/pure-signal.bash; COMP_WORDS=({' '.join(words)}); COMP_CWORD={len(words) - 1};"
        f"COMP_LINE='{' '.join(words)}'; COMP_POINT=${{#COMP_LINE}};"
        "_shtab_pure_signal; printf '%s\\n' \"${COMPREPLY[@]}\""
    )
    done = subprocess.run(["bash", "-c", script], capture_output=True, text=True, timeout=20)
    return done.stdout.split()


def test_bash_completes_commands_options_and_choices():
    assert completed("pure-signal", "trans") == ["transcribe"]
    assert "--summary" in completed("pure-signal", "clean", "--su")
    assert completed("pure-signal", "transcribe", "--kind", "mel") == ["melody"]


def test_the_formats_page_has_every_option():
    page = (Path(__file__).parents[2] / "docs" / "formats.md").read_text("utf-8")
    block = re.search(r"## Command line\n\n```\n(.*?)```", page, re.DOTALL)[1]
    described = {
        found[1]: set(re.findall(r"--[a-z-]+", found[2]))
        for found in re.finditer(r"^pure-signal (\w+)\b(.*?)(?=^pure-signal|\Z)", block, re.DOTALL | re.MULTILINE)
    }
    _, by_name = cli.command_parser()
    known = {
        name: {o for action in command._actions for o in action.option_strings if o not in ("-h", "--help")}
        for name, command in by_name.items()
    }
    # What many commands share is told once, below.
    shared = {"--quiet", "--verbose", "--dry-run"}
    assert all(f"`{option}`" in page for option in (*shared, "--json"))
    writing = {name for name, options in known.items() if "--dry-run" in options}
    assert {name for name, options in known.items() if "--quiet" in options} == writing | {"route", "record", "play"}
    for name, options in known.items():
        options -= shared | ({"--json"} if name in writing else set())
    assert described == known


def test_the_man_page_has_every_option():
    page = write_shell_files.man_page()
    _, by_name = cli.command_parser()
    assert set(by_name) == set(cli.COMMANDS)
    for command in by_name.values():
        for action in command._actions:
            for option in action.option_strings:
                assert option in ("-h", "--help") or option.replace("-", "\\-") in page
