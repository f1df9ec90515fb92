"""Writes what a shell knows of the command line, from its parser: completion for bash, zsh and fish, and the man page.

Run it after changing an option; a test fails while the files differ from the parser.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import shtab

from puresignal import __version__, cli

ASSETS = Path(__file__).parent.parent / "src" / "puresignal" / "ui" / "assets" / "shell"
EXAMPLES = (
    ("Clean a recorded take for a receiver that follows General MIDI:",
     "pure-signal clean take.mid --out clean.mid --target-map general-midi"),
    ("Clean a whole folder, with a page of what was done:",
     "pure-signal clean old-takes --out cleaned --target-map general-midi --summary cleaned.html"),
    ("Clean between two ports while playing:",
     'pure-signal route --in "drum module" --out "my synth" --source-map practice-five --target-map general-midi'),
    ("Hear the notes of a hummed line:",
     "pure-signal transcribe hummed.wav --out hummed.mid --kind melody --key auto"),
    ("Record sixteen bars to a click:",
     'pure-signal record --in "drum module" --out evening.puresignal --tempo 92 --bars 16'),
    ("Write each track of a session as audio:",
     "pure-signal render evening.puresignal --out stems --per tracks"),
)  # fmt: skip


def parser() -> argparse.ArgumentParser:
    """The parser of all commands; what takes a file is completed as one."""
    made, by_name = cli.command_parser()
    for command in by_name.values():
        for action in command._actions:
            if action.metavar and any(word in str(action.metavar) for word in ("F.", "FILE", "DIR", "IN", "AUDIO")):
                action.complete = shtab.FILE  # type: ignore[attr-defined]
    return made


def man_page() -> str:
    """The manual page, in the man macros that groff and mandoc read."""
    made, by_name = cli.command_parser()
    helps = {one.dest: one.help for action in made._subparsers._group_actions for one in action._choices_actions}  # type: ignore[union-attr]
    lines = [
        f'.TH PURE-SIGNAL 1 "" "Pure Signal {__version__}" "User Commands"',
        ".SH NAME", "pure-signal \\- turn playing into clean MIDI",
        ".SH SYNOPSIS", ".B pure-signal", "[\\fIFILE\\fR...]", ".br",
        ".B pure-signal", "\\fICOMMAND\\fR [\\fIOPTION\\fR...]",
        ".SH DESCRIPTION",
        "Without a command, opens the window with the sessions, MIDI files and recordings that are named.",
        "The commands do the same work without a window.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for name, command in by_name.items():
        lines += [f".SS {name}", _roff(f"{_sentence(helps[name] or '')}."), ".PP", _roff(_usage(command, name))]
        for action in command._actions:
            if action.dest == "help":
                continue
            lines += [".TP", _heading(action), _roff(action.help or "")]
    lines += [".SH EXIT STATUS", "0 if it was done, 1 if it could not be, 2 if it was asked wrongly.", ".SH EXAMPLES"]
    for text, line in EXAMPLES:
        lines += [".PP", _roff(text), ".PP", ".nf", ".RS", _roff(line), ".RE", ".fi"]
    lines += [
        ".SH FILES", ".TP", ".I ~/.config/pure-signal", "Preferences.",
        ".TP", ".I ~/.local/share/pure-signal", "Note maps, grooves, voices, chord books and templates of your own.",
        ".TP", ".I ~/.local/state/pure-signal", "Unsaved work, what was recorded, and the log.",
        ".SH SEE ALSO", "The user guide is in the Help menu of the window (F1).",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]


def _usage(command: argparse.ArgumentParser, name: str) -> str:
    needed = [_shown(action) for action in command._actions if action.required or not action.option_strings]
    return " ".join(["pure-signal", name, *needed, "[OPTION...]"])


def _shown(action: argparse.Action) -> str:
    what = str(action.metavar or (action.choices and "|".join(map(str, action.choices))) or action.dest.upper())
    return f"{action.option_strings[0]} {what}" if action.option_strings else what


def _heading(action: argparse.Action) -> str:
    names = ", ".join(f"\\fB{_roff(one)}\\fR" for one in action.option_strings)
    if action.option_strings and action.nargs == 0:
        return names
    what = _shown(action).removeprefix(action.option_strings[0] if action.option_strings else "").strip()
    return f"{names} \\fI{_roff(what)}\\fR".strip()


def _roff(text: str) -> str:
    """A text without what roff would take for its own."""
    # Where argparse fills in a default, two per cent signs stand for one.
    plain = text.replace("%%", "%").replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def files() -> dict[str, str]:
    """Content by file name."""
    made = parser()
    return {
        "pure-signal.bash": shtab.complete(made, "bash"),
        "_pure-signal": shtab.complete(made, "zsh"),
        "pure-signal.fish": shtab.complete(made, "fish"),
        "pure-signal.1": man_page(),
    }


if __name__ == "__main__":
    ASSETS.mkdir(exist_ok=True)
    for file_name, content in files().items():
        (ASSETS / file_name).write_text(content, "utf-8")
