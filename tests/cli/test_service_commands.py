"""The commands that run the service for real: from an empty database to a connected system."""

from __future__ import annotations

import json
import os
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import cast

import psycopg
import pytest

from openlatch.runtime.cluster import Cluster
from openlatch.store.migrate import APP_ROLE
from openlatch.test_systems import telemetry
from tests.cli.program import Program
from tests.conftest import ADAPTER_PASSWORD


@pytest.fixture
def program() -> Iterator[Program]:
    started = Program(dict(os.environ), "openlatch.runtime.assembly", "openlatch.service.connections")
    yield started
    started.stop()


def test_from_an_empty_database_to_a_connected_system(
    program: Program, cluster: Cluster, make_telemetry: Callable[[str], Cluster], tmp_path: Path
) -> None:
    """With a configuration file, as the how-to says; a missing setting and a wrong password are told."""

    def run(*arguments: str, **settings: str) -> subprocess.CompletedProcess[str]:
        given = {**os.environ, "COLUMNS": "160", **settings}
        return cast(subprocess.CompletedProcess[str], program.call(arguments, "", given))

    cluster.ensure_database("for_real")
    server = make_telemetry("telemetry-commands")
    key = run("new-key").stdout.strip()
    file = tmp_path / "openlatch.toml"
    file.write_text(
        f'database_url = "{cluster.url("for_real", APP_ROLE, "app-password")}"\n'
        f'owner_database_url = "{cluster.url("for_real")}"\nsecret_key = "{key}"\n'
    )
    configured = {"OPENLATCH_CONFIG": str(file), "OPENLATCH_APP_PASSWORD": "app-password"}
    assert run("migrate", **configured).returncode == 0
    assert run("migrate", **configured).stdout == "The database is up to date.\n"
    words = ("organisation", "Real", "real", "--administrator", "Ada", "--address", "ada@real.example.org")
    assert "Use at least 12" in run(*words, "--password", "short", **configured).stderr
    assert run(*words, "--password", "a long password", **configured).returncode == 0
    twice = run(*words, "--password", "a long password", **configured)
    assert (twice.returncode, "Traceback" in twice.stderr, "argon2" in twice.stderr) == (1, False, False), twice.stderr
    nowhere = run(
        *words[:2], "nowhere", *words[3:], "--time-zone", "Europe/Londn", "--password", "x" * 20, **configured
    )
    assert "There is no time zone" in nowhere.stderr
    told = {"host": "127.0.0.1", "port": server.port, "database": telemetry.DATABASE, "user": telemetry.ADAPTER_LOGIN}
    told["sslmode"] = "disable"
    reach = ("connect", "real", "Telemetry", *(w for n, v in told.items() for w in ("--set", f"{n}={v}")))
    lacking = run(*reach[:7], "--password", "x", **configured)
    assert (lacking.returncode, "Missing: database, user" in lacking.stderr) == (2, True), lacking.stderr
    unknown = run(*reach, "--set", "colour=red", "--password", "x", **configured)
    assert "There is no setting colour" in unknown.stderr
    wrong = run(*reach, "--password", "wrong", **configured)
    assert "password authentication failed" in " ".join(wrong.stderr.split())
    found = run(*reach, "--password", ADAPTER_PASSWORD, **configured)
    assert json.loads(found.stdout)["accounts"] == 7, found.stderr
    with psycopg.connect(cluster.url("for_real")) as db:
        assert db.execute("select count(*) from systems where kind = 'postgresql'").fetchone() == (1,)
        assert db.execute("select count(*) from procrastinate_jobs where task_name = 'read_system'").fetchone() == (1,)
    missing = run("worker", OPENLATCH_CONFIG="", OPENLATCH_DATABASE_URL="")
    assert (missing.returncode, "OPENLATCH_DATABASE_URL" in missing.stderr) == (1, True)
    file.write_text("shoe = 1\n")
    assert "unknown settings: shoe" in run("worker", **configured).stderr
