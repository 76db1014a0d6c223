"""Adapters that packages of others bring: found, told apart from broken ones, and proved by the published suite."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from importlib.metadata import EntryPoint
from pathlib import Path

import pytest
from sqlalchemy import select

from openlatch import adapters
from openlatch.errors import SystemRefused
from openlatch.service import connections
from openlatch.service.systems import readings, setup
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import Account, Grant

HOW_TO = Path(__file__).parents[2] / "docs" / "how-to"
POINTS = """
[openlatch.adapters]
rota = example_adapter:RotaAdapter
broken = nowhere_at_all:Adapter
empty = json:JSONDecoder
postgresql = example_adapter:RotaAdapter
Bad-Name = example_adapter:RotaAdapter
"""
ASKED = """
import json, sys
from openlatch.adapters import ADAPTERS, class_of
from openlatch.errors import SystemRefused
from openlatch.service.systems import setup
def told(kind):
    try:
        return class_of(kind).__name__
    except SystemRefused as error:
        return error.detail
kinds = [one.kind for one in setup.adapters()]
print(json.dumps({kind: told(kind) for kind in ADAPTERS} | {"shown": kinds}))
"""


@pytest.fixture
def package(tmp_path: Path) -> Path:
    """A folder as pip leaves it, with a package that brings adapters."""
    place = tmp_path / "site"
    facts = place / "rota-1.0.dist-info"
    facts.mkdir(parents=True)
    (facts / "METADATA").write_text("Metadata-Version: 2.1\nName: rota\nVersion: 1.0\n")
    (facts / "entry_points.txt").write_text(POINTS)
    for name in ("example_adapter.py", "test_example_adapter.py"):
        shutil.copy(HOW_TO / name, place / name)
    return place


def test_packages_bring_further_kinds_and_none_takes_the_place_of_another(package: Path) -> None:
    """One that can't be loaded is told, and holds up nothing else."""
    environment = {**os.environ, "PYTHONPATH": str(package)}
    done = subprocess.run([sys.executable, "-c", ASKED], env=environment, capture_output=True, text=True, check=True)
    found = json.loads(done.stdout.splitlines()[-1])
    assert (found["rota"], found["postgresql"]) == ("RotaAdapter", "PostgresqlAdapter")
    assert "nowhere_at_all:Adapter" in found["broken"]
    assert "it has no settings_taken" in found["empty"]
    assert "Bad-Name" not in found
    assert {"rota", "postgresql"} < set(found["shown"])
    assert not {"broken", "empty"} & set(found["shown"])


def test_the_published_suite_passes_what_is_right_and_fails_what_is_not(package: Path) -> None:
    def tried() -> subprocess.CompletedProcess[str]:
        command = [
            sys.executable,
            "-m",
            "pytest",
            "-q",
            "-p",
            "no:cacheprovider",
            "-p",
            "no:randomly",
            "test_example_adapter.py",
        ]
        return subprocess.run(command, cwd=package, capture_output=True, text=True, check=False)

    right = tried()
    assert right.returncode == 0, right.stdout
    adapter = package / "example_adapter.py"
    source = adapter.read_text()
    for spoilt in (
        # What is not looked at is taken for gone.
        ("return f\"{detail['holder']} is still {level} of {detail['account']}\"", "return None"),
        # A reading that broke off would look whole.
        ("        yield Whole()\n", "        yield Whole()\n        yield Whole()\n"),
        ("rows = [row for row in self._rows() if not self._is(row, detail)]", "rows = []"),
    ):
        assert spoilt[0] in source
        adapter.write_text(source.replace(*spoilt))
        wrong = tried()
        assert wrong.returncode == 1, wrong.stdout
        # As pytest tells it, with the values.
        assert re.search(r"^E +(AssertionError: )?assert |DID NOT RAISE", wrong.stdout, re.MULTILINE), wrong.stdout


def test_a_system_of_a_further_kind_is_connected_and_read(
    package: Path, service: Service, organisation: Viewer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.syspath_prepend(str(package))
    point = EntryPoint("rota", "example_adapter:RotaAdapter", adapters.GROUP)
    monkeypatch.setitem(adapters._INSTALLED, "rota", point)
    monkeypatch.setitem(adapters.ADAPTERS, "rota", lambda settings, secret: adapters.class_of("rota")(settings, secret))
    file = package / "rota.csv"
    file.write_text("account,holder,level,until\nhut,ann@example.org,planner,2026-09-30\nhut,bob,reader,\n")
    settings = setup.checked("rota", {"file": str(file)})
    ident = connections.connect(service, organisation, "rota", "Rota", "rota", settings, "")
    readings.read(service, organisation.organisation, ident)
    with service.unit(organisation) as unit:
        assert list(unit.db.scalars(select(Account.name))) == ["hut"]
        assert len(unit.db.scalars(select(Grant)).all()) == 2


def test_an_adapter_whose_package_was_removed_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(adapters._INSTALLED, "gone", EntryPoint("gone", "gone_package:Gone", adapters.GROUP))
    with pytest.raises(SystemRefused, match="can't be loaded"):
        adapters.class_of("gone")
