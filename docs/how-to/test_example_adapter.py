"""The worked example, held to what any adapter has to do: run ``pytest test_example_adapter.py`` beside it."""

from pathlib import Path

import pytest
from example_adapter import RotaAdapter

from openlatch.conformance import World
from openlatch.conformance.suite import *  # noqa: F403


@pytest.fixture
def world(tmp_path: Path) -> World:
    """A rota with two holders, asked by reading its file."""
    file = tmp_path / "rota.csv"
    file.write_text("account,holder,level,until\nhut,ann@example.org,planner,2026-09-30\nhut,bob,reader,\n")

    def asked(who: str) -> str:
        return " ".join(line for line in file.read_text().splitlines() if f",{who}," in line)

    return World(
        RotaAdapter,
        {"file": str(file)},
        account="hut",
        goes="ann@example.org",
        stays="bob",
        asked=asked,
        unreachable={"file": str(tmp_path / "nowhere" / "rota.csv")},
    )
