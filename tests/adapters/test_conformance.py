"""Each adapter, held to what any has to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from openlatch.conformance import World
from openlatch.conformance.suite import *  # noqa: F403
from openlatch.runtime.cluster import Cluster
from tests.adapters.worlds import ALL_WORLDS


@pytest.fixture(params=list(ALL_WORLDS))
def world(
    request: pytest.FixtureRequest,
    tmp_path_factory: pytest.TempPathFactory,
    make_telemetry: Callable[[str], Cluster],
    folder: Path,
) -> Iterator[World]:
    place = folder / f"{request.param}-{tmp_path_factory.mktemp('world').name}"
    place.mkdir()
    place.chmod(0o755)
    made = ALL_WORLDS[request.param](place, make_telemetry)
    yield made
    made.stop()
