"""What the web process and the worker may do in the database, and which keys each of them has."""

from __future__ import annotations

from pathlib import Path

import psycopg
import pytest
from cryptography.fernet import Fernet
from psycopg.errors import InsufficientPrivilege

from openlatch.errors import BadInput, NotAllowed
from openlatch.runtime import assembly, servers
from openlatch.runtime.cluster import Cluster
from openlatch.runtime.demo import Demo
from openlatch.runtime.settings import Settings
from openlatch.service import signing_keys
from openlatch.service.journal import signed_heads
from openlatch.service.unit import Service, Viewer
from openlatch.store.migrate import APP_ROLE, WEB_ROLE, WORKER_ROLE, Passwords, migrate
from openlatch.store.tables import Base

EVERYBODY = (APP_ROLE, WEB_ROLE, WORKER_ROLE)


@pytest.mark.parametrize(
    ("roles", "statement"),
    [
        ((WEB_ROLE,), "select secret from systems"),
        ((WEB_ROLE,), "select * from systems"),
        ((WEB_ROLE,), "update systems set secret = null"),
        ((WEB_ROLE,), "insert into tree_heads (size) values (1)"),
        ((WEB_ROLE,), "update evidence_bundles set content = ''"),
        ((WEB_ROLE,), "insert into published_keys (x) values ('mine')"),
        ((WORKER_ROLE,), "select password_hash from sign_ins"),
        ((WORKER_ROLE,), "select factor_secret from sign_ins"),
        ((WORKER_ROLE,), "update sign_ins set password_hash = ''"),
        ((WORKER_ROLE,), "insert into api_tokens (name) values ('mine')"),
        ((WORKER_ROLE,), "insert into web_sessions (device) values ('mine')"),
        (EVERYBODY, "update journal set action = 'x'"),
        (EVERYBODY, "delete from journal"),
        (EVERYBODY, "truncate journal"),
        (EVERYBODY, "insert into versions (kind) values ('grants')"),
        (EVERYBODY, "delete from rosters"),
        (EVERYBODY, "drop table notices"),
        (EVERYBODY, "alter table people disable row level security"),
    ],
)
def test_a_process_may_not(cluster: Cluster, database: str, roles: tuple[str, ...], statement: str) -> None:
    """The database refuses it, whatever the program has been made to ask for."""
    for role in roles:
        with psycopg.connect(cluster.url(database)) as db:
            db.execute(f"set role {role}")  # type: ignore[call-overload]
            with pytest.raises((InsufficientPrivilege, psycopg.errors.UndefinedColumn)) as refused:
                db.execute(statement)  # type: ignore[call-overload]
            assert isinstance(refused.value, InsufficientPrivilege), statement


def test_every_table_keeps_organisations_apart_for_every_role(cluster: Cluster, database: str) -> None:
    """By row-level security, but for those that have nothing of an organisation."""
    with psycopg.connect(cluster.url(database)) as db:
        secured = {row[0] for row in db.execute("select relname from pg_class where relrowsecurity").fetchall()}
        told = db.execute(
            "select rolname, rolsuper or rolbypassrls from pg_roles where rolname = any(%s)", [list(EVERYBODY)]
        )
        assert dict(told.fetchall()) == dict.fromkeys(EVERYBODY, False)
    assert set(Base.metadata.tables) - secured == {
        "published_keys",
        "set_up_codes",
        "sign_in_attempts",
        "token_keys",
    }


def test_a_role_that_passes_row_level_security_is_refused(cluster: Cluster, database: str) -> None:
    """Nothing is migrated then."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        db.execute(f"alter role {WORKER_ROLE} bypassrls")
    try:
        with pytest.raises(BadInput, match="passes row-level security"):
            migrate(cluster.url(database), Passwords("app-password"))
    finally:
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
            db.execute(f"alter role {WORKER_ROLE} nobypassrls")


def test_an_owner_who_is_no_superuser_migrates_and_does_it_again(cluster: Cluster) -> None:
    """As the how-to says: the owner may create roles, and nothing else besides."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        db.execute("create role plain_owner login createrole password 'plain'")
        db.execute("create database plain owner plain_owner")
    url = cluster.url("plain", "plain_owner", "plain")
    for _ in range(2):
        migrate(url, Passwords("app-password"))
    with psycopg.connect(url) as db:
        assert db.execute("select count(*) from organisations").fetchone() == (0,)


def closed_at_end(request: pytest.FixtureRequest, service: Service) -> Service:
    """A service as it is assembled, whose connections are given back when the test is over."""
    request.addfinalizer(service.engine.dispose)
    request.addfinalizer(service.wake.__self__.close)  # type: ignore[attr-defined]
    return service


def test_the_web_process_signs_no_evidence(request: pytest.FixtureRequest, app_url: str, organisation: Viewer) -> None:
    """Whatever its configuration has; the key is published by the worker, in the database."""
    keys = [Fernet.generate_key().decode() for _ in range(3)]
    settings = Settings(database_url=app_url, secret_key=keys[0], systems_key=keys[1], evidence_key=keys[2])
    web = closed_at_end(request, servers.web_app(settings).extensions["openlatch"])
    with pytest.raises(NotAllowed, match="does not sign that"):
        signing_keys.key(web, signing_keys.EVIDENCE)
    assert (web.systems_cipher, web.holds_secrets) == (None, False)
    worker = closed_at_end(request, assembly.assemble(settings))
    earlier = closed_at_end(request, assembly.assemble(settings.model_copy(update={"evidence_key": ""})))
    with earlier.unit(organisation) as unit:
        signed_heads.sign(unit)
    for _ in range(2):
        signing_keys.publish(worker)
    published = [key["x"] for key in signing_keys.published(web) if key["purpose"] == "evidence"]
    assert published == [signing_keys.public(one, signing_keys.EVIDENCE)["x"] for one in (worker, earlier)]
    assert len(set(published)) == 2


def test_each_process_of_the_demo_has_a_role_and_keys_of_its_own(stack: Demo) -> None:
    """In the database, and in the environment that it was started with."""
    with psycopg.connect(stack.register.url("openlatch")) as db:
        wanted = "select distinct usename from pg_stat_activity where datname = 'openlatch' and usename = any(%s)"
        assert {row[0] for row in db.execute(wanted, [list(EVERYBODY)]).fetchall()} == {WEB_ROLE, WORKER_ROLE}
    has = {
        name: {line.split("=")[0] for line in Path(f"/proc/{child.pid}/environ").read_text().split("\0")}
        for name, child in stack.children.items()
    }
    own = {"OPENLATCH_SYSTEMS_KEY", "OPENLATCH_EVIDENCE_KEY"}
    assert (own & has["serve"], own & has["worker"]) == (set(), own)
