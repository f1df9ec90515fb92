"""Find shown texts that do not pass `puresignal.translation`: `check_texts.py [FILE ...]`.

A string literal counts as a text when it has two words or more, or when it is handed to a Qt method that shows it.
Texts inside `tr`, `count_tr` or `mark` are fine, as are docstrings, log messages and errors of programmers. A line that
ends in `# not shown` is left out. Prints FILE:LINE: TEXT for each find; exit status 1 if there is one.
"""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

TRANSLATED = {"tr", "count_tr", "mark"}
NOT_SHOWN = TRANSLATED | {
    "compile", "counted", "debug", "endswith", "error", "exception", "Formatter", "getLogger", "index", "info",
    "memfd_create",
    "open_client", "register", "create_port", "search", "match", "setObjectName", "setStyleSheet", "startswith",
    "strftime", "warning",
}  # fmt: skip
"""Calls whose arguments are never shown."""
SHOWN_BY_QT = {
    "QAction", "QCheckBox", "QLabel", "QPushButton", "QRadioButton", "addAction", "addItem", "addMenu", "addTab",
    "setAccessibleName", "setPlaceholderText", "setPrefix", "setSpecialValueText", "setSuffix", "setText", "setTitle",
    "setToolTip", "setWindowTitle",
}  # fmt: skip
BUGS = {"AssertionError", "PhoneError", "KeyError", "NotImplementedError", "RuntimeError", "TypeError", "ValueError"}
TWO_WORDS = re.compile(r"[A-Za-z]{2,}[,:;]? [A-Za-z“(]")
MARKUP = re.compile(
    r"^pure-signal [a-z{]|^\s*[<#]|^M\{|font-family|@page|^Pure Signal|DOCTYPE"
    r"|^\{\}?pure-signal: ?\{|^pure-signal: \{",
    re.S,
)
LEFT_OUT = ("src/puresignal/sim/", "src/puresignal/engine/", "src/puresignal/demo/", "src/puresignal/translation.py")


def name_of(call: ast.Call) -> str:
    function = call.func
    return function.attr if isinstance(function, ast.Attribute) else getattr(function, "id", "")


def text_of(node: ast.AST) -> str:
    if isinstance(node, ast.Constant):
        return str(node.value)
    assert isinstance(node, ast.JoinedStr)
    return "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values)


def untranslated(source: str) -> list[tuple[int, str]]:
    """(line, text) of each shown text that does not pass the translation."""
    tree = ast.parse(source)
    above = {child: node for node in ast.walk(tree) for child in ast.iter_child_nodes(node)}
    lines = source.splitlines()
    found = []
    for node in ast.walk(tree):
        literal = isinstance(node, ast.JoinedStr) or (isinstance(node, ast.Constant) and isinstance(node.value, str))
        if not literal or isinstance(above[node], (ast.JoinedStr, ast.FormattedValue, ast.Expr)):
            continue
        text = text_of(node)
        outer = above[node]
        qt = isinstance(outer, ast.Call) and name_of(outer) in SHOWN_BY_QT and re.search("[A-Za-z]{2}", text)
        if not (qt or TWO_WORDS.search(text.replace("{}", "x"))) or MARKUP.search(text):
            continue
        if not is_exempt(node, above) and "# not shown" not in lines[node.lineno - 1]:
            found.append((node.lineno, text))
    return sorted(found)


def is_exempt(node: ast.AST, above: dict[ast.AST, ast.AST]) -> bool:
    while node in above:
        outer = above[node]
        if isinstance(outer, ast.Call) and node is not outer.func and name_of(outer) in NOT_SHOWN:
            return True
        if isinstance(outer, ast.Raise) and isinstance(outer.exc, ast.Call) and name_of(outer.exc) in BUGS:
            return True
        if isinstance(outer, (ast.Assert, ast.Compare)) or (
            isinstance(outer, ast.AnnAssign) and node is outer.annotation
        ):
            return True
        node = outer
    return False


def main(names: list[str]) -> int:
    listed = subprocess.run(["git", "ls-files", "src/puresignal/*.py"], capture_output=True, text=True, check=True)
    paths = names or [name for name in listed.stdout.split() if not name.startswith(LEFT_OUT)]
    finds = [f"{path}:{line}: {text}" for path in paths for line, text in untranslated(Path(path).read_text())]
    print("\n".join(finds), end="\n" if finds else "")
    return 1 if finds else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
