"""What documents say of tests."""

from __future__ import annotations

import json
import re
from pathlib import Path

from click.testing import CliRunner

from openlatch.api import metrics, published
from openlatch.cli.main import cli
from openlatch.core import glossary

ROOT = Path(__file__).parents[1]


def test_what_is_said_to_be_met_has_a_test_of_that_name() -> None:
    """In the pages about security and standards: every name is one, and no row is met without."""
    written = (ROOT / "docs" / "explanation" / "security.md").read_text()
    standards = (ROOT / "docs" / "reference" / "standards.md").read_text()
    known = set()
    for path in (*(ROOT / "tests").rglob("test_*.py"), ROOT / "src/openlatch/conformance/suite.py"):
        known |= {path.name, *re.findall(r"def (test_\w+)\(", path.read_text())}
    named = set(re.findall(r"`(test_\w+(?:\.py)?)`", written + standards))
    assert named <= known
    rows = [line for line in written.splitlines() if line.startswith("| ") and "| met |" in line]
    assert len(rows) > 80
    assert [row for row in rows if not re.search(r"\| `test_\w+` \|$", row)] == []
    spoken = [line for line in standards.splitlines() if line.startswith("| ") and "| yes" in line]
    assert len(spoken) > 50
    assert [row for row in spoken if not re.search(r"`test_\w+` \|$", row)] == []


def test_the_published_openapi_document_is_that_of_the_service() -> None:
    same = (ROOT / "docs" / "reference" / "openapi.json").read_text() == published.text()
    # Not compared by the assertion itself, which would print the two documents.
    assert same, "write it anew: python -m openlatch.api.published > docs/reference/openapi.json"


def test_the_glossary_is_that_of_the_program() -> None:
    """The document, ``openlatch explain`` and the console have the same words."""
    assert (ROOT / "docs" / "reference" / "words.md").read_text() == glossary.document()


def test_what_the_console_links_to_is_a_document() -> None:
    pages = [path.read_text() for path in (ROOT / "console" / "src").rglob("*.vue")]
    named = {name for text in pages for name in re.findall(r'(?: docs="|/docs/)([a-z-]+/[a-z-]+)', text)}
    assert len(named) > 8
    assert [name for name in named if not (ROOT / "docs" / f"{name}.md").exists()] == []


def test_what_the_console_explains_is_in_the_glossary() -> None:
    pages = [path.read_text() for path in (ROOT / "console" / "src").rglob("*Page.vue")]
    named = {word for text in pages for given in re.findall(r':words="\[(.*?)\]"', text) for word in given.split(",")}
    assert len(named) > 20
    assert {word.strip(" '") for word in named} - set(glossary.WORDS) == set()


def test_alerts_and_the_dashboard_ask_for_figures_that_there_are() -> None:
    rules = re.findall("expr: (.*)", (ROOT / "deploy" / "alerts.yml").read_text())
    panels = json.loads((ROOT / "deploy" / "dashboard.json").read_text())["panels"]
    asked = [*rules, *(one["expr"] for panel in panels for one in panel["targets"])]
    named = {name for written in asked for name in re.findall(r"openlatch_\w+", written)}
    assert named == {f"openlatch_{name}" for name in metrics.MEANINGS} | {
        f"openlatch_request_seconds_{part}" for part in ("count", "bucket")
    }


def test_what_the_readme_links_to_is_there() -> None:
    """The links among documents are checked where their pages are built."""
    written = (ROOT / "README.md").read_text() + (ROOT / "CONTRIBUTING.md").read_text()
    linked = [link.partition("#")[0] for link in re.findall(r"\]\(([^)\s]+)\)", written)]
    assert [link for link in linked if not link.startswith("https:") and not (ROOT / link).exists()] == []


def test_manual_pages_say_what_help_says(tmp_path: Path) -> None:
    """Every command has one, and nothing in it is taken for an instruction of the page."""
    done = CliRunner().invoke(cli, ["manual", "--write", str(tmp_path)], catch_exceptions=False)
    assert done.exit_code == 0
    pages = {path.name: path.read_text() for path in tmp_path.iterdir()}
    assert {"openlatch.1", "openlatch-grant.1", "openlatch-next.1"} <= pages.keys()
    assert ".SS openlatch grant end [OPTIONS] [GRANTS]..." in pages["openlatch-grant.1"]
    for text in pages.values():
        starts = {line.split()[0] for line in text.splitlines() if line.startswith((".", "'"))}
        assert starts <= {".TH", ".SH", ".SS", ".TP", ".PP", ".B"}
