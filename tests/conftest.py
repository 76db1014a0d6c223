"""What tests share: real PostgreSQL servers, a service on a fresh database, and the whole demo running."""

from __future__ import annotations

import atexit
import functools
import itertools
import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pytest
from argon2 import PasswordHasher
from cryptography.fernet import Fernet
from hypothesis import HealthCheck, Phase, settings
from sqlalchemy import Engine

from openlatch.client import Client
from openlatch.demo import loader
from openlatch.runtime.cluster import Cluster
from openlatch.runtime.demo import Demo
from openlatch.service.identity import authentication
from openlatch.service.itself.adapter import among_systems
from openlatch.service.unit import Service, Viewer
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate
from openlatch.test_systems import telemetry

KEY = Fernet.generate_key()
ADAPTER_PASSWORD = "adapter password of the tests"
_numbers = itertools.count(1)

# How many examples property tests try: some dozen in a usual run, ten thousand by `make test-nightly`.
_SHARED = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow, HealthCheck.function_scoped_fixture]}
settings.register_profile("quick", max_examples=60, **_SHARED)
settings.register_profile("nightly", max_examples=10_000, **_SHARED)
# Mutation testing only has to know that something failed.
settings.register_profile("first", max_examples=60, phases=[Phase.explicit, Phase.generate], **_SHARED)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "quick"))


ROOMS = ("core", "store", "adapters", "service", "api", "cli", "console", "demo", "runtime")


def pytest_configure(config: pytest.Config) -> None:
    """A marker for each folder: ``pytest -m core`` takes some seconds."""
    for room in ROOMS:
        config.addinivalue_line("markers", f"{room}: the tests of {room}")
    # What they read is English, whatever the language of the terminal.
    os.environ["OPENLATCH_LANGUAGE"] = "en"
    # A hash as it is for real takes a tenth of a second.
    authentication._HASHER = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    # Each of the tests' own calls would read all certificate authorities, which none of them asks.
    httpx._transports.default.create_ssl_context = functools.cache(httpx.create_ssl_context)


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Each test is marked by its folder. Tests that share a running demo go to the same process: the browser's have
    one, all others have another. The marks have to be there before xdist looks at them.
    """
    for item in items:
        room = Path(item.path).relative_to(Path(__file__).parent).parts[0]
        if room in ROOMS:
            item.add_marker(room)
        if "stack" in getattr(item, "fixturenames", ()):
            item.add_marker(pytest.mark.xdist_group("console" if "console" in item.nodeid else "demo"))
    # What takes longest comes first, so that no process ends long after the others. What does all that the how-tos
    # show, and what ends access and changes settings at random, come after all others that share their demo.
    items.sort(key=lambda item: (_LONG.get(_group(item), len(_LONG)), *(name in item.nodeid for name in _LAST)))


# Groups of tests, and tests, by how long they take.
_LONG = {"console": 0, "demo": 1, "installed": 2, "test_bench": 3, "test_three_machines": 4, "test_conformance": 5}
_LAST = ("test_fuzz", "test_how_tos")


def _group(item: pytest.Item) -> str:
    marked = item.get_closest_marker("xdist_group")
    return str(marked.args[0]) if marked is not None else Path(item.path).stem


def pytest_collection_finish(session: pytest.Session) -> None:
    """Tests that belong together have to go to one process: otherwise each starts a demo of its own."""
    if session.config.getoption("loadgroup", False):
        lost = [
            item.nodeid for item in session.items if item.get_closest_marker("xdist_group") and "@" not in item.nodeid
        ]
        if lost:
            raise pytest.UsageError(f"pytest-xdist does not see that these belong together: {lost[:3]}")


def _in_memory() -> str | None:
    """A file system in memory with room for some thousand databases, where there is one: copies of them are quick."""
    memory = Path("/dev/shm")
    has_room = memory.is_dir() and os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > 8 << 30
    return str(memory) if has_room else None


@pytest.fixture(scope="session")
def folder() -> Iterator[Path]:
    """A folder that the user PostgreSQL runs as can come to."""
    made = Path(tempfile.mkdtemp(prefix="openlatch-tests-", dir=_in_memory()))
    made.chmod(0o755)
    yield made
    shutil.rmtree(made, ignore_errors=True)


@pytest.fixture(scope="session")
def cluster(folder: Path) -> Iterator[Cluster]:
    """A PostgreSQL server with a migrated template to clone databases from."""
    made = Cluster(folder / "register", settings=("fsync=off", "full_page_writes=off"))
    made.start()
    made.ensure_database("template_openlatch")
    migrate(made.url("template_openlatch"), Passwords("app-password"))
    yield made
    made.stop()


@functools.cache
def _owner_at(address: str) -> psycopg.Connection[Any]:
    """A connection of a cluster's owner, which is kept: a new one for each test costs as much as a small test."""
    made = psycopg.connect(address, autocommit=True)
    atexit.register(made.close)
    return made


def clone(cluster: Cluster, template: str, name: str = "") -> str:
    """The name of a new database with what is in a template."""
    name = name or f"test_{next(_numbers)}"
    _owner_at(cluster.url("postgres")).execute(f"create database {name} template {template} strategy file_copy")  # type: ignore[call-overload]
    return name


@pytest.fixture
def template() -> str:
    """The database that each test has a copy of: tables without rows, unless a test wants more."""
    return "template_openlatch"


@pytest.fixture
def database(cluster: Cluster, template: str) -> Iterator[str]:
    """The name of a fresh database, which is dropped again: more than a thousand would fill the memory."""
    made = clone(cluster, template)
    yield made
    _owner_at(cluster.url("postgres")).execute(f"drop database {made} with (force)")  # type: ignore[call-overload]


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


def service_on(cluster: Cluster, database: str, clock: Clock) -> Service:
    """The service on a database, with a clock of the tests."""
    engine = engine_for(cluster.url(database, APP_ROLE, "app-password"), pool_size=4)
    _share_compiled(engine)
    return among_systems(Service(engine, Fernet(KEY), clock, signing_seed=KEY, evidence_seed=KEY))


# The engine of the first test of this process.
_first: list[Engine] = []


def _share_compiled(engine: Engine) -> None:
    """Statements are compiled once for all tests: every engine has the dialect and the cache of the first."""
    if _first:
        engine.dialect, engine._compiled_cache = _first[0].dialect, _first[0]._compiled_cache
    else:
        _first.append(engine)


@pytest.fixture
def service(cluster: Cluster, database: str, clock: Clock) -> Iterator[Service]:
    """The service on a fresh database, with a clock that stands still."""
    made = service_on(cluster, database, clock)
    yield made
    made.engine.dispose()


def make_organisation(service: Service) -> Viewer:
    """An organisation without anything in it, seen by the service itself."""
    return authentication.make_organisation(
        service, "Test", "test", "Europe/London", "Ada Admin", "ada@example.org", "a long password"
    )


@pytest.fixture
def organisation(service: Service) -> Viewer:
    return make_organisation(service)


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
        "sslmode": "disable",
    }


@pytest.fixture(scope="session")
def stack(folder: Path) -> Iterator[Demo]:
    """The whole demo, running, which most tests share: two database servers, the web process, the worker."""
    demo = Demo(folder / "demo", 0)
    # The tests keep the machine busy all the time, which is no reason to refuse them anything.
    os.environ["OPENLATCH_SECONDS_IN_LINE"] = "60"
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
# Seconds after which a proof is renewed; the service takes one for ten minutes.
FRESH = 240


@pytest.fixture(scope="session")
def tokens(stack: Demo) -> dict[str, str]:
    """An API token for each kind of sign-in, and for a member of the second organisation."""
    with Client(stack.address) as client:
        return {role: client.make_token(address, loader.PASSWORD).token for role, address in ROLES.items()}


@pytest.fixture(scope="session")
def proved_at() -> dict[str, float]:
    """When the holders of the tokens last proved that it is them, by the monotonic clock."""
    return {}


@pytest.fixture(autouse=True)
def fresh_proofs(request: pytest.FixtureRequest, proved_at: dict[str, float]) -> None:
    """Proofs are renewed before they run out, so that no test depends on when in the run it comes."""
    if "tokens" not in request.fixturenames:
        return
    tokens, address = request.getfixturevalue("tokens"), request.getfixturevalue("stack").address
    proved = proved_at.setdefault("all", time.monotonic())
    if time.monotonic() - proved > FRESH:
        for token in tokens.values():
            with Client(address, token) as client:
                client.prove(loader.PASSWORD)
        proved_at["all"] = time.monotonic()


@pytest.fixture
def client(stack: Demo, tokens: dict[str, str]) -> Iterator[Client]:
    """The client library as the administrator of the demo."""
    with Client(stack.address, tokens["administrator"]) as made:
        yield made


def lines(*rows: dict[str, Any]) -> bytes:
    """Rows as JSON Lines."""
    return "".join(json.dumps(row) + "\n" for row in rows).encode()
