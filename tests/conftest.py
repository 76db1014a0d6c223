"""What tests share: real PostgreSQL servers, a service on a fresh database, and the whole demo running."""

from __future__ import annotations

import itertools
import json
import shutil
import tempfile
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest
from cryptography.fernet import Fernet

from openlatch.client import Client
from openlatch.demo import loader
from openlatch.launch.cluster import Cluster
from openlatch.launch.demo import Demo
from openlatch.service import signing_in
from openlatch.service.context import Service, Viewer
from openlatch.standins import telemetry
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, migrate

KEY = Fernet.generate_key()
ADAPTER_PASSWORD = "adapter password of the tests"
_numbers = itertools.count(1)


@pytest.fixture(scope="session")
def folder() -> Iterator[Path]:
    """A folder that the user PostgreSQL runs as can come to."""
    made = Path(tempfile.mkdtemp(prefix="openlatch-tests-"))
    made.chmod(0o755)
    yield made
    shutil.rmtree(made, ignore_errors=True)


@pytest.fixture(scope="session")
def cluster(folder: Path) -> Iterator[Cluster]:
    """A PostgreSQL server with a migrated template to clone databases from."""
    made = Cluster(folder / "register", settings=("fsync=off", "full_page_writes=off"))
    made.start()
    made.ensure_database("template_openlatch")
    migrate(made.url("template_openlatch"), "app-password")
    yield made
    made.stop()


@pytest.fixture
def database(cluster: Cluster) -> str:
    """The name of a fresh database."""
    name = f"test_{next(_numbers)}"
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        db.execute(f"create database {name} template template_openlatch")  # type: ignore[call-overload]
    return name


@pytest.fixture
def app_url(cluster: Cluster, database: str) -> str:
    """The address of a fresh database for the service's own role."""
    return cluster.url(database, APP_ROLE, "app-password")


class Clock:
    """A clock that stands still until it is moved."""

    def __init__(self) -> None:
        self.now = datetime(2026, 3, 10, 12, tzinfo=UTC)

    def __call__(self) -> datetime:
        return self.now

    def forward(self, **span: float) -> None:
        """Move it on."""
        self.now += timedelta(**span)


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def service(app_url: str, clock: Clock) -> Iterator[Service]:
    """The service on a fresh database, with a clock that stands still."""
    made = Service(engine_for(app_url, pool_size=4), Fernet(KEY), clock, signing_seed=KEY)
    yield made
    made.engine.dispose()


@pytest.fixture
def organisation(service: Service) -> Viewer:
    """An organisation without anything in it, seen by the service itself."""
    return signing_in.make_organisation(
        service, "Test", "test", "Europe/London", "Ada Admin", "ada@example.org", "a long password"
    )


@pytest.fixture(scope="session")
def make_telemetry(folder: Path) -> Iterator[Callable[[str], Cluster]]:
    """Starts hut telemetry databases by name; all are stopped at the end."""
    made: dict[str, Cluster] = {}

    def make(name: str) -> Cluster:
        if name not in made:
            cluster = Cluster(folder / name, "telemetry_owner", ("fsync=off", "log_statement=ddl"))
            made[name] = cluster
            cluster.start()
            cluster.ensure_database(telemetry.DATABASE)
            day = datetime.now(UTC)
            telemetry.prepare(cluster.url(telemetry.DATABASE), loader.telemetry_plan(), day, ADAPTER_PASSWORD)
        return made[name]

    yield make
    for cluster in made.values():
        cluster.stop()


def telemetry_settings(cluster: Cluster) -> dict[str, Any]:
    """How the adapter reaches a telemetry database."""
    return {
        "host": "127.0.0.1",
        "port": cluster.port,
        "database": telemetry.DATABASE,
        "user": telemetry.ADAPTER_LOGIN,
        "app_prefix": "app_",
    }


@pytest.fixture(scope="session")
def stack(folder: Path) -> Iterator[Demo]:
    """The whole demo, running: two servers, the web process, the worker."""
    demo = Demo(folder / "demo", 0)
    try:
        demo.start()
        yield demo
    finally:
        demo.stop()


ROLES = {
    "administrator": "ines.calder@hollinfell.example.org",
    "owner": "tobias.renn@hollinfell.example.org",
    "reviewer": "lene.marsh@hollinfell.example.org",
    "delegate": "fenna.aldous@wardens.example.net",
    "stranger": "rhea.tarn@tarnvalley.example.org",
}


@pytest.fixture(scope="session")
def tokens(stack: Demo) -> dict[str, str]:
    """An API token for each kind of sign-in, and for a member of the second organisation."""
    with Client(stack.address) as client:
        return {role: client.make_token(address, loader.PASSWORD).token for role, address in ROLES.items()}


@pytest.fixture
def client(stack: Demo, tokens: dict[str, str]) -> Iterator[Client]:
    """The client library as the administrator of the demo."""
    with Client(stack.address, tokens["administrator"]) as made:
        yield made


def lines(*rows: dict[str, Any]) -> bytes:
    """Rows as JSON Lines."""
    return "".join(json.dumps(row) + "\n" for row in rows).encode()
