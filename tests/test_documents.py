"""Documents link only to files that are in the project, so that a reader finds every picture and page."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
DOCUMENTS = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: str(path.relative_to(ROOT)))
def test_every_link_of_a_document_leads_to_a_file(document):
    links = re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", document.read_text("utf-8"))
    inside = [link for link in links if "://" not in link and not link.startswith("mailto:")]
    assert [link for link in inside if not (document.parent / link).exists()] == []
    if (ROOT / ".git").exists():
        # On this disk is not enough: it has to be in the project.
        told = subprocess.run(["git", "check-ignore", *inside], cwd=document.parent, capture_output=True, text=True)
        assert told.stdout.split() == []
