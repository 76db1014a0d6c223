"""The charter as files, from the terminal."""

from __future__ import annotations

import json
from pathlib import Path

from openlatch import schemas
from tests.cli.conftest import Run

ROOT = Path(__file__).parents[2]


def test_files_are_written_compared_and_adopted(run: Run, tmp_path: Path) -> None:
    """What is written changes nothing; an edit shows, is adopted only as it was compared, and goes by the files."""
    folder = tmp_path / "charter"
    assert "teams.toml" in run("charter", "write", str(folder)).stdout
    assert run("charter", "compare", str(folder)).returncode == 0
    latches = folder / "latches.toml"
    first = latches.read_text()
    latches.write_text(first.replace("number = 10\n", "number = 11\n", 1))
    shown = run("charter", "compare", str(folder), "-o", "json")
    assert shown.returncode == 9
    found = json.loads(shown.stdout)
    assert [(v["field"], v["was"], v["will"]) for c in found["changes"] for v in c["values"]] == [("number", 10, 11)]
    other = run("charter", "adopt", str(folder), "--as-compared", "0" * 32)
    assert other.returncode == 1
    assert "something else now" in other.stderr
    assert run("charter", "adopt", str(folder), "--preview").returncode == 0
    assert run("charter", "compare", str(folder)).returncode == 9
    run("charter", "adopt", str(folder), "--as-compared", found["fingerprint"], "--source", "rev 9")
    told = run("charter", "status")
    assert told.returncode == 0
    assert "from rev 9" in told.stdout
    latches.write_text(first)
    assert "1 entry changed" in run("charter", "adopt", str(folder), "--yes").stdout


def test_what_files_can_not_be_is_named(run: Run, tmp_path: Path) -> None:
    """The file, the entry by its name, and the value."""
    file = tmp_path / "latches.toml"
    for text, fault in (
        ("latches = [", "is not TOML"),
        ("latches = []", 'does not begin with: format = "open-latch-charter/1"'),
        ('format = "open-latch-charter/1"\n[[teams]]\nname = "Desk"\nsize = 3', "teams, Desk, size: is not known here"),
        ('format = "open-latch-charter/1"\n[[teams]]\nname = "Desk"\nspeaker = "x@y.org"', "nobody here"),
    ):
        file.write_text(text)
        answer = run("charter", "compare", str(file))
        assert answer.returncode in (1, 2)
        assert fault in " ".join(answer.stderr.split())


def test_the_schema_is_that_of_the_program() -> None:
    """So that editors and other programs can check files."""
    written = json.loads((ROOT / "docs" / "reference" / "charter.schema.json").read_text())
    assert written == schemas.Charter.model_json_schema(), (
        "write it anew: openlatch charter schema > docs/reference/charter.schema.json"
    )
