"""Writes what follows from the stages' settings: the JSON schema, and the table in docs/formats.md.

Run it after changing a setting; a test fails while the files differ from what the stages declare.
"""

from __future__ import annotations

import json
import re
from pathlib import Path

from puresignal.core.path import settings_json

ROOT = Path(__file__).parent.parent
SCHEMA = ROOT / "src" / "puresignal" / "schemas" / "settings.schema.json"
FORMATS = ROOT / "docs" / "formats.md"
_PLACE = re.compile(r"(<!-- settings: [^\n]*-->\n).*?(\n<!-- end of settings -->)", re.DOTALL)


def schema_text() -> str:
    return json.dumps(settings_json.schema(), indent=2, ensure_ascii=False) + "\n"


def formats_text(now: str) -> str:
    table = settings_json.settings_table()
    return _PLACE.sub(lambda found: f"{found.group(1)}{table}{found.group(2)}", now)


if __name__ == "__main__":
    SCHEMA.write_text(schema_text(), "utf-8")
    FORMATS.write_text(formats_text(FORMATS.read_text("utf-8")), "utf-8")
