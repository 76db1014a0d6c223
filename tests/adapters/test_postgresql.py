"""The PostgreSQL adapter against a real server; what it did is asked of the server itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import psycopg
import pytest

from openlatch.adapters import Reading
from openlatch.adapters.postgresql.adapter import PostgresqlAdapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.runtime.cluster import Cluster
from openlatch.test_systems import telemetry
from tests.conftest import ADAPTER_PASSWORD, telemetry_settings


@pytest.fixture(scope="module")
def server(make_telemetry: Callable[[str], Cluster]) -> Cluster:
    return make_telemetry("telemetry-adapter")


@pytest.fixture
def adapter(server: Cluster) -> PostgresqlAdapter:
    return PostgresqlAdapter(telemetry_settings(server), ADAPTER_PASSWORD)


@pytest.fixture
def sessions(server: Cluster) -> Iterator[telemetry.OpenSessions]:
    opened = telemetry.OpenSessions("127.0.0.1", server.port)
    yield opened
    opened.close()


def ask(server: Cluster, question: str, *values: Any) -> Any:
    """One value from the server, as its superuser."""
    with psycopg.connect(server.url(telemetry.DATABASE)) as db:
        row = db.execute(question, values).fetchone()  # type: ignore[call-overload]
    return row[0] if row else None


def statements(server: Cluster, word: str) -> int:
    """How often the server's log shows a statement with this word."""
    return server.log.read_text().count(f"statement: {word}")


def holdings(reading: Reading) -> dict[tuple[str, str], str]:
    return {(h.account, h.holder): h.level for h in reading.holdings}


def test_a_reading_shows_roles_members_ends_and_sessions(
    adapter: PostgresqlAdapter, sessions: telemetry.OpenSessions
) -> None:
    """Login roles as people or apps, shared roles as accounts; `valid until` ends a password and nothing else."""
    sessions.open([("m_oduya", "psql"), ("app_weather_sync", "weather sync")])
    reading = Reading.of(adapter.read())
    found = holdings(reading)
    assert found["weather_readings", "app_weather_sync"] == "reader"
    assert found["hut_sensors", "g_tresco"] == "operator"
    assert found["heating_control", "m_oduya"] == "keeper"
    nested = [h for h in reading.holdings if h.holder_is_account and h.account != "database:telemetry"]
    assert [(h.account, h.holder) for h in nested] == [("weather_readings", "hut_sensors")]
    assert {h.until for h in reading.holdings} == {None}
    assert any(kind == "password" for x in reading.logins if x.handle == "w_voss" for kind, _ in x.hangs)
    assert {login.handle for login in reading.logins if login.is_app} >= {"app_weather_sync", "app_probe_export"}
    assert telemetry.ADAPTER_LOGIN not in {login.handle for login in reading.logins}
    seen = {(p.login, p.device) for p in reading.presences}
    assert {("m_oduya", "psql"), ("app_weather_sync", "weather sync")} <= seen
    assert all(p.address == "127.0.0.1" and p.started_at.tzinfo for p in reading.presences)


def test_removing_a_membership_is_done_once_and_confirmed(adapter: PostgresqlAdapter, server: Cluster) -> None:
    """The second time it looks, finds it gone, and sends nothing."""
    detail = {"role": "hut_sensors", "member": "k_varley"}
    assert adapter.confirm(StepKind.REMOVE, detail) == "k_varley is still a member of hut_sensors"
    before = statements(server, "revoke")
    assert "Carried out" in adapter.apply(StepKind.REMOVE, detail)
    assert not ask(server, "select pg_has_role('k_varley', 'hut_sensors', 'member')")
    assert "already" in adapter.apply(StepKind.REMOVE, detail)
    assert statements(server, "revoke") == before + 1
    assert adapter.confirm(StepKind.REMOVE, detail) is None


def test_reducing_takes_the_right_to_let_others_in_and_leaves_the_rest(
    adapter: PostgresqlAdapter, server: Cluster
) -> None:
    """A keeper becomes an operator."""
    detail = {"role": "heating_control", "member": "c_abernethy", "level": "Operator"}
    assert adapter.can_reduce("keeper", "operator")
    assert not adapter.can_reduce("operator", "reader")
    adapter.apply(StepKind.REDUCE, detail)
    assert adapter.confirm(StepKind.REDUCE, detail) is None
    assert ask(server, "select pg_has_role('c_abernethy', 'heating_control', 'member')")
    assert holdings(Reading.of(adapter.read()))["heating_control", "c_abernethy"] == "operator"


def test_ending_a_session_ends_that_one_and_no_later_one_with_its_number(
    adapter: PostgresqlAdapter, server: Cluster, sessions: telemetry.OpenSessions
) -> None:
    """A process number is used again; the time at which it began is not."""
    sessions.open([("s_bakke", "psql")])
    (presence,) = [p for p in Reading.of(adapter.read()).presences if p.login == "s_bakke"]
    wrong = {**presence.handle, "started": "2020-01-01T00:00:00+00:00"}
    assert "already" in adapter.apply(StepKind.END_SESSIONS, wrong)
    assert ask(server, "select count(*) from pg_stat_activity where usename = 's_bakke'") == 1
    adapter.apply(StepKind.END_SESSIONS, presence.handle)
    assert ask(server, "select count(*) from pg_stat_activity where usename = 's_bakke'") == 0
    assert adapter.confirm(StepKind.END_SESSIONS, presence.handle) is None


@pytest.mark.parametrize(
    ("changed", "password", "error", "told"),
    [
        ({"port": 1}, ADAPTER_PASSWORD, SystemDown, "did not answer"),
        ({}, "wrong", SystemRefused, "password authentication failed"),
        ({"sslmode": "verify-full"}, ADAPTER_PASSWORD, SystemRefused, "SSL was required"),
        ({"user": "g_tresco"}, telemetry.LOGIN_PASSWORD, SystemRefused, "must have admin option"),
    ],
)
def test_a_server_that_is_down_or_refuses_is_told_apart(
    server: Cluster, changed: dict[str, Any], password: str, error: type[Exception], told: str
) -> None:
    """With what to look at; and nothing was changed."""
    adapter = PostgresqlAdapter({**telemetry_settings(server), **changed}, password)
    with pytest.raises(error, match=told):
        adapter.apply(StepKind.REMOVE, {"role": "weather_readings", "member": "w_merrin"})
    assert ask(server, "select pg_has_role('w_merrin', 'weather_readings', 'member')")


def test_names_can_not_smuggle_statements_in(adapter: PostgresqlAdapter, server: Cluster) -> None:
    """Names are quoted as identifiers, whatever stands in them."""
    name = 'x"; drop role m_oduya; --'
    with psycopg.connect(server.url(telemetry.DATABASE), autocommit=True) as db:
        quoted = psycopg.sql.Identifier(name)
        db.execute(psycopg.sql.SQL("create role {}").format(quoted))
        db.execute(psycopg.sql.SQL("grant rescue_feed to {}").format(quoted))
    adapter.apply(StepKind.REMOVE, {"role": "rescue_feed", "member": name})
    assert ask(server, "select 1 from pg_roles where rolname = 'm_oduya'") == 1
    assert (
        ask(
            server,
            "select count(*) from pg_auth_members m join pg_roles r on r.oid = m.member where rolname = %s",
            name,
        )
        == 0
    )


def test_rights_on_tables_and_of_roles_are_read_taken_away_and_put_back(
    adapter: PostgresqlAdapter, server: Cluster
) -> None:
    """By the server's own word; what needs more rights than the login has is refused, and said."""
    with psycopg.connect(server.url(telemetry.DATABASE)) as db:
        db.execute("create role t_direct login createdb")
        db.execute("grant select, insert on readings to t_direct")
        db.execute("grant select on beacons to t_direct with grant option")
        db.execute("grant create on schema public to t_direct")
        db.execute("alter table readings enable row level security")
        db.execute("create policy ridge on readings to t_direct using (hut = 'Ridge')")
        db.execute("alter default privileges grant select on tables to t_direct")
        db.execute("create role t_boss login superuser")
    found = Reading.of(adapter.read())
    held = {(h.account, h.holder): h for h in found.holdings}
    there = held["database:telemetry", "t_direct"]
    assert dict(there.parts) == {
        "table:public.beacons": "select*",
        "table:public.readings": "insert+select",
        "schema:public": "create",
    }
    assert held["server", "t_boss"].level == "is superuser"
    assert held["server", "t_direct"].level == "is createdb"
    names = {part.handle: part.name for part in found.parts}
    assert "only the rows that its policies show" in names["table:public.readings"]
    hangs = {login.handle: [words for _, words in login.hangs] for login in found.logins}["t_direct"]
    assert any("1 row policy" in words for words in hangs)
    assert any("gets select on whatever" in words for words in hangs)

    def may() -> bool:
        told = "has_table_privilege('t_direct', %s, %s)"
        return bool(ask(server, f"select {told} or {told}", "readings", "insert", "beacons", "select"))

    moves = adapter.plan(StepKind.REMOVE, {**there.handle, "places": ["table:public.beacons", "table:public.readings"]})
    assert may()
    for move in moves:
        adapter.apply(move.kind, move.detail)
        assert adapter.confirm(move.kind, move.detail) is None
        assert "already" in adapter.apply(move.kind, move.detail)
    assert not may()
    back = adapter.holding("table:public.readings", "t_direct", "insert+select")
    adapter.apply(StepKind.GIVE, back)
    assert adapter.confirm(StepKind.GIVE, back) is None
    assert may()
    with pytest.raises(SystemRefused, match="superuser"):
        adapter.apply(StepKind.REMOVE, {"holder": "t_boss", "attributes": ["superuser"]})
    with pytest.raises(SystemRefused):
        adapter.apply(StepKind.DROP, {"login": "t_direct"})
    assert ask(server, "select 1 from pg_roles where rolname = 't_direct'") == 1
