"""Texts for translators: `texts.py` brings translations/*.po up to the program's texts, and compiles them.

New texts come in empty, and texts that the program no longer has go. With `--check`, nothing is written, and the exit
status is 1 if something would be, or if a text is not translated.
"""

from __future__ import annotations

import argparse
import ast
import io
import sys
from datetime import UTC, datetime
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po, write_po

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "puresignal"
FOLDER, COMPILED = ROOT / "translations", PACKAGE / "translations"


def texts() -> Catalog:
    """Every text of the program that passes the translation."""
    found = Catalog(project="Pure Signal", charset="utf-8")
    for path in sorted(PACKAGE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            message = message_of(node)
            if message:
                # Without line numbers, which change with every edit.
                found.add(message, locations=[(str(path.relative_to(ROOT)), 0)])
    return found


def message_of(node: ast.AST) -> str | tuple[str, str]:
    """The text of a call that translates or marks one, or both of `count_tr`; empty for anything else."""
    if not isinstance(node, ast.Call):
        return ""
    name = getattr(node.func, "id", "")
    given = [one.value for one in node.args if isinstance(one, ast.Constant) and isinstance(one.value, str)]
    if name == "count_tr" and len(given) >= 2:
        return given[0], given[1]
    return given[0] if name in ("tr", "mark") and given else ""


def updated(path: Path) -> Catalog:
    """A language's catalogue with the texts of now."""
    with path.open("rb") as file:
        catalogue = read_po(file, locale=path.stem)
    catalogue.update(texts(), no_fuzzy_matching=True)
    catalogue.header_comment = f"# {catalogue.locale.english_name}: the texts of Pure Signal, under its licence."
    catalogue.obsolete.clear()
    return catalogue


def po_bytes(catalogue: Catalog) -> bytes:
    out = io.BytesIO()
    write_po(out, catalogue, width=120, omit_header=False, include_lineno=False, sort_by_file=True)
    # The time of writing would make each run another file; names and addresses are in the history.
    left_out = (b'"POT-Creation-Date', b'"PO-Revision-Date', b'"Report-Msgid', b'"Last-Translator', b'"Generated-By')
    keep = [line for line in out.getvalue().splitlines(keepends=True) if not line.startswith(left_out)]
    return b"".join(keep)


def mo_bytes(catalogue: Catalog) -> bytes:
    # Dates in the header would make each run another file.
    catalogue.creation_date = catalogue.revision_date = datetime(2026, 1, 1, tzinfo=UTC)
    out = io.BytesIO()
    write_mo(out, catalogue)
    return out.getvalue()


def missing(catalogue: Catalog) -> list[str]:
    """The texts that are not translated."""
    rows = []
    for message in catalogue:
        translated = message.string if isinstance(message.string, tuple) else (message.string,)
        if message.id and not all(translated):
            rows.append(message.id if isinstance(message.id, str) else message.id[0])
    return rows


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true")
    check = parser.parse_args().check
    wrong = False
    for path in sorted(FOLDER.glob("*.po")):
        catalogue = updated(path)
        left = missing(catalogue)
        for text in left:
            print(f"{path.stem}: not translated: {text!r}", file=sys.stderr)
        wrong = wrong or bool(left)
        for target, content in (
            (path, po_bytes(catalogue)), (COMPILED / path.stem / "LC_MESSAGES" / "puresignal.mo", mo_bytes(catalogue)),
        ):  # fmt: skip
            same = target.exists() and target.read_bytes() == content
            if check and not same:
                print(f"{target.relative_to(ROOT)} is not up to date: run ./run texts", file=sys.stderr)
                wrong = True
            elif not same:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(content)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
