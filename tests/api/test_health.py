"""What whoever runs the service relies on: is it alive, can it answer, what waits, and which request was that."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from flask.testing import FlaskClient
from prometheus_client.parser import text_string_to_metric_families
from structlog.contextvars import merge_contextvars
from structlog.testing import capture_logs

from openlatch.api import request_ids
from openlatch.api.app import make_app
from openlatch.runtime.cluster import Cluster
from openlatch.service.unit import Service, Viewer
from openlatch.store import revisions
from openlatch.store.tables import Mail, System

TOKEN = "a token of the tests"


@pytest.fixture
def asked(service: Service, cluster: Cluster, database: str) -> FlaskClient:
    app = make_app(service, cluster.url(database), metrics_token=TOKEN, logs_requests=True)
    app.add_url_rule("/broken", "broken", lambda: 1 / 0)
    return app.test_client()


def figures(asked: FlaskClient) -> dict[tuple[str, str], float]:
    answer = asked.get("/metrics", headers={"Authorization": f"Bearer {TOKEN}"})
    assert answer.status_code == 200
    found = text_string_to_metric_families(answer.text)
    return {
        (one.name, ",".join(value for _, value in sorted(one.labels.items()))): one.value
        for family in found
        for one in family.samples
    }


def test_a_request_can_be_quoted_and_is_found_in_the_log(asked: FlaskClient) -> None:
    """Its id is in the answer, in the problem and in every line about it; nobody outside chooses it."""
    with capture_logs(processors=[merge_contextvars]) as written:
        answer = asked.get("/broken?secret=1", headers={request_ids.HEADER: "chosen-by-somebody"})
    ident = answer.headers[request_ids.HEADER]
    assert ident != "chosen-by-somebody"
    assert (answer.status_code, answer.json["request_id"]) == (500, ident)
    assert ident in answer.json["remedy"]
    assert [(line["event"], line["request_id"]) for line in written] == [
        ("request.failed", ident),
        ("request.answered", ident),
    ]
    assert (written[1]["rule"], written[1]["status"], "secret" in str(written[1])) == ("/broken", 500, False)
    assert asked.get("/healthz").headers[request_ids.HEADER] != ident


def test_a_proxy_that_is_trusted_names_requests(service: Service, cluster: Cluster, database: str) -> None:
    client = make_app(service, cluster.url(database), takes_request_ids=True).test_client()
    for given, is_taken in (("of-the-proxy:1", True), ("short", False), ("with a\tblank in it", False)):
        told = client.get("/healthz", headers={request_ids.HEADER: given}).headers[request_ids.HEADER]
        assert (told == given) is is_taken


def test_it_is_ready_when_the_database_answers_and_has_its_tables(
    asked: FlaskClient, cluster: Cluster, database: str
) -> None:
    assert (asked.get("/readyz").status_code, asked.get("/readyz").text) == (200, "ready\n")
    with psycopg.connect(cluster.url(database), autocommit=True) as db:
        db.execute("update alembic_version set version_num = '9999'")
        assert asked.get("/readyz").status_code == 200
        db.execute("update alembic_version set version_num = '0034'")
        answer = asked.get("/readyz")
        assert (answer.status_code, f"needs {revisions.newest()}" in answer.text) == (503, True)
        db.execute("revoke connect on database " + database + " from public")  # type: ignore[call-overload]
        db.execute("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'openlatch_app'")
    assert (asked.get("/readyz").status_code, asked.get("/healthz").status_code) == (503, 200)


def test_figures_are_for_whoever_has_the_token(
    asked: FlaskClient, service: Service, cluster: Cluster, database: str
) -> None:
    assert asked.get("/metrics").status_code == 403
    assert asked.get("/metrics", headers={"Authorization": "Bearer other"}).status_code == 403
    assert make_app(service, cluster.url(database)).test_client().get("/metrics").status_code == 404


def test_figures_say_how_calls_were_answered_and_what_waits(
    asked: FlaskClient, service: Service, organisation: Viewer
) -> None:
    before = figures(asked)
    assert ("openlatch_oldest_read_seconds", "") not in before
    with service.unit(organisation) as unit:
        hour = timedelta(hours=1)
        for name, more in (
            ("Books", {"read_at": service.clock() - hour}),
            ("Mail", {"down_since": service.clock()}),
            ("Gauges", {"paused_at": service.clock()}),
        ):
            unit.db.add(System(organisation_id=organisation.organisation, name=name, kind="postgresql", **more))
        row = Mail(recipient="ada@example.org", subject="Hello", content=b"", next_try_at=service.clock())
        row.organisation_id, row.created_at = organisation.organisation, datetime.now(UTC) - timedelta(minutes=5)
        unit.db.add(row)
    asked.get("/healthz")
    asked.get("/api/v1/grants")
    told = figures(asked)
    assert told["openlatch_request_seconds_count", "health,GET,200"] == 1
    assert told["openlatch_request_seconds_count", "list_grants,GET,401"] == 1
    assert (told["openlatch_systems", "read"], told["openlatch_systems", "down"]) == (1, 1)
    assert told["openlatch_oldest_read_seconds", ""] > 3600
    assert 300 <= told["openlatch_oldest_mail_seconds", ""] < 400
    assert told["openlatch_workers", ""] == 0
