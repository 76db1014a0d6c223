"""Reads answered by a standby: never older than what was committed, and by the primary where it can't."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest
from cryptography.fernet import Fernet
from flask.testing import FlaskClient
from sqlalchemy import event

from bench.failover import DATABASE, Pair
from openlatch.api.app import make_app
from openlatch.service.identity import authentication
from openlatch.service.unit import Service
from openlatch.store.database import Standby, engine_for
from openlatch.store.migrate import APP_ROLE
from tests.conftest import KEY


@pytest.fixture
def pair(folder: Path) -> Iterator[Pair]:
    place = folder / "standby"
    place.mkdir()
    place.chmod(0o755)
    made = Pair(place)
    made.start()
    yield made
    made.stop()
    shutil.rmtree(place)


def test_a_standby_answers_what_only_reads_and_nothing_is_older_than_what_was_committed(pair: Pair) -> None:
    """With the standby up to date, behind, and away; what is written meanwhile is seen by the next read."""
    asked: Counter[str] = Counter()
    engines = {
        name: engine_for(one.url(DATABASE, APP_ROLE, "app-password"))
        for name, one in (("primary", pair.primary), ("standby", pair.standby))
    }
    for name, engine in engines.items():

        def note(_: object, __: object, statement: str, *___: object, name: str = name) -> None:
            asked[name] += "pg_is_in_recovery" not in statement

        event.listen(engine, "before_cursor_execute", note)
    service = Service(engines["primary"], Fernet(KEY), signing_seed=KEY, standby=Standby(engines["standby"]))
    authentication.make_organisation(service, "T", "t", "UTC", "Ada", "ada@example.org", "a long password")
    client = make_app(service, "").test_client()
    body = {"address": "ada@example.org", "password": "a long password"}
    headers = {"Authorization": f"Bearer {client.post('/api/v1/tokens', json=body).json['token']}"}

    def write_and_read(times: int) -> None:
        for _ in range(times):
            made = client.post("/api/v1/people", json={"name": "Somebody"}, headers=headers)
            assert made.status_code == 201
            assert client.get(f"/api/v1/people/{made.json['id']}/record", headers=headers).status_code == 200
            newest = client.get("/api/v1/journal?limit=1", headers=headers).json["rows"][0]
            assert newest["subject"]["id"] == made.json["id"]

    write_and_read(10)
    assert asked["standby"] > 10
    with psycopg.connect(pair.standby.url("postgres"), autocommit=True) as db:
        db.execute("select pg_wal_replay_pause()")
        before = asked["standby"]
        write_and_read(3)
        db.execute("select pg_wal_replay_resume()")
    assert asked["standby"] == before
    before = asked["standby"]
    write_and_read(3)
    assert asked["standby"] > before
    _every_list(client, headers, asked)
    # Changes wait for a standby unless it is given up.
    with psycopg.connect(pair.primary.url("postgres"), autocommit=True) as db:
        db.execute("alter system set synchronous_standby_names = ''")
        db.execute("select pg_reload_conf()")
    pair.standby.stop(at_once=True)
    write_and_read(3)
    for engine in engines.values():
        engine.dispose()


def _every_list(client: FlaskClient, headers: dict[str, str], asked: Counter[str]) -> None:
    """Whatever only reads, and what writes something although it is a GET, gets its answer."""
    document: dict[str, Any] = client.get("/api/v1/openapi.json").json
    paths = [path for path, calls in document["paths"].items() if "get" in calls and "{" not in path]
    assert len(paths) > 60
    for path in paths:
        if not path.endswith(("/events", "/export")):
            answer = client.get(path, headers=headers)
            assert answer.status_code < 500, (path, answer.data[:300])
            answer.close()
    assert asked["standby"] > len(paths)
