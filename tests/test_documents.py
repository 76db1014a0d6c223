"""What documents say of tests."""

from __future__ import annotations

import re
from pathlib import Path

from openlatch.api import published
from openlatch.core import glossary

ROOT = Path(__file__).parents[1]


def test_what_is_said_to_be_met_has_a_test_of_that_name() -> None:
    """In the page about security: every name is one, and no row is met without."""
    written = (ROOT / "docs" / "explanation" / "security.md").read_text()
    known = set()
    for path in (ROOT / "tests").rglob("test_*.py"):
        known |= {path.name, *re.findall(r"def (test_\w+)\(", path.read_text())}
    named = set(re.findall(r"`(test_\w+(?:\.py)?)`", written))
    assert named <= known
    rows = [line for line in written.splitlines() if line.startswith("| ") and "| met |" in line]
    assert len(rows) > 80
    assert [row for row in rows if not re.search(r"\| `test_\w+` \|$", row)] == []


def test_the_published_openapi_document_is_that_of_the_service() -> None:
    same = (ROOT / "docs" / "reference" / "openapi.json").read_text() == published.text()
    # Not compared by the assertion itself, which would print the two documents.
    assert same, "write it anew: python -m openlatch.api.published > docs/reference/openapi.json"


def test_the_glossary_is_that_of_the_program() -> None:
    """The document, ``openlatch explain`` and the console have the same words."""
    assert (ROOT / "docs" / "reference" / "words.md").read_text() == glossary.document()
