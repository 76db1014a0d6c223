"""Migrating a database: our own tables by Alembic, the queue's by procrastinate."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from procrastinate import App, SyncPsycopgConnector
from psycopg import sql
from psycopg.errors import LockNotAvailable
from sqlalchemy import Connection, text
from sqlalchemy.exc import OperationalError

from openlatch.errors import BadInput, Conflict
from openlatch.store import partitions, revisions
from openlatch.store.database import owner_engine

# Alembic is imported where it migrates: the servers, which only ask for the newest revision, start without it.
if TYPE_CHECKING:
    from alembic.config import Config

# The role of commands that an administrator of the server runs, and those of the two processes, which may less.
APP_ROLE, WEB_ROLE, WORKER_ROLE = "openlatch_app", "openlatch_web", "openlatch_worker"


# How long a migration waits for a table that others use: whoever comes meanwhile waits behind it.
LOCK_SECONDS = 10


@dataclass(frozen=True, slots=True)
class Passwords:
    """The passwords of the three roles. An empty one is left unchanged; a role without one can't sign in."""

    app: str
    web: str = ""
    worker: str = ""


def migrate(url: str, passwords: Passwords) -> None:
    """Migrate the database at ``url`` (as its owner), and let the service's roles sign in.

    Idempotent; a second process at the same time waits for the first. BadInput when a role could bypass row-level
    security; Conflict when a table is held for longer than LOCK_SECONDS, or when an older program is connected that
    can't do with a further step: what was migrated until then stays, and migrating again goes on from there.
    """
    try:
        with owner_engine(url) as engine, engine.connect() as connection:
            connection.execute(text("select pg_advisory_lock(hashtext('openlatch migrate'))"))
            connection.execute(text(f"set lock_timeout = '{LOCK_SECONDS}s'"))
            connection.commit()
            _migrate(connection, url, passwords)
    except OperationalError as error:
        if not isinstance(error.orig, LockNotAvailable):
            raise
        raise Conflict(
            f"A table was in use for more than {LOCK_SECONDS} s and could not be changed.",
            "Stop the service, or whatever else uses the table, and migrate again; it goes on where it stopped.",
        ) from None


def _migrate(connection: Connection, url: str, passwords: Passwords) -> None:
    with connection.begin():
        for role, password in ((APP_ROLE, passwords.app), (WEB_ROLE, passwords.web), (WORKER_ROLE, passwords.worker)):
            _make_role(connection, role, password)
    _upgrade(connection)
    has_queue = connection.scalar(text("select to_regclass('procrastinate_jobs') is not null"))
    connection.commit()
    if not has_queue:
        _make_queue(url)
    with connection.begin():
        partitions.make(connection, datetime.now(UTC))
        for statement in _rights(connection):
            connection.execute(text(statement))


# A program that does not say which it is counts as older than all.
_CONNECTED = """
    select case when application_name !~ '^openlatch [0-9]{4}' then 'openlatch 0000'
        else application_name end
    from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()
        and usename in ('openlatch_app', 'openlatch_web', 'openlatch_worker')
"""


def _upgrade(connection: Connection) -> None:
    """Make each migration that is missing. Conflict before one that a program that is connected can't do with."""
    from alembic import command
    from alembic.migration import MigrationContext
    from alembic.script import ScriptDirectory

    config = config_for(connection)
    present = MigrationContext.configure(connection).get_current_revision() or "base"
    missing = list(ScriptDirectory.from_config(config).iterate_revisions("head", present))[::-1]
    connection.commit()
    for before, script in itertools.pairwise([None, *missing]):
        needs = getattr(script.module, "needs", "") if script else ""
        if not needs or script is None:
            continue
        if before is not None:
            command.upgrade(config, before.revision)
        # Before the step: broken off between the two, the tables would serve a program that they no longer do.
        need(connection, needs)
        command.upgrade(config, script.revision)
    command.upgrade(config, "head")


def need(connection: Connection, needs: str) -> None:
    """From now on the database serves no program older than ``needs``. Conflict while one is connected."""
    running = revisions.programs(connection.scalars(text(_CONNECTED)))
    if running and running[0] < needs:
        connection.rollback()
        raise Conflict(
            f"A program of an older version uses the database (of {running[0]}; the next step needs {needs}).",
            "Stop every web process and worker of that version (0000: one that does not say), and try again.",
        )
    revision_and_comment = connection.execute(text(revisions.STATE)).one()
    if revisions.oldest(revision_and_comment[1]) < needs:
        connection.execute(text(f"comment on table alembic_version is '{revisions.OLDEST}{needs}'"))
    connection.commit()


# Columns that a process may not read, nor change; and tables of which it may do only so much.
_HIDDEN: dict[str, dict[str, tuple[str, ...]]] = {
    WEB_ROLE: {"systems": ("secret",), "system_trials": ("secret",)},
    WORKER_ROLE: {
        "sign_ins": ("password_hash", "factor_secret"),
        "recovery_codes": ("code_hash",),
        "identity_providers": ("client_secret",),
    },
    APP_ROLE: {},
}
_LIMITED: dict[str, dict[str, str]] = {
    WEB_ROLE: {
        **dict.fromkeys(("tree_heads", "evidence_bundles", "published_keys", "archived_parts"), "select"),
        # It asks the worker to erase.
        "archive_erasures": "select, insert",
    },
    WORKER_ROLE: {
        **dict.fromkeys(("web_sessions", "api_tokens"), "select, update, delete"),
        # It writes the links of forgotten passwords, and lets nobody in by an invitation.
        "invitations": "select, delete",
        "passkeys": "select, delete",
        "device_requests": "select, delete",
        "set_up_codes": "",
    },
    APP_ROLE: {},
}


def _rights(connection: Connection) -> Iterator[str]:
    """The privileges of each role; earlier ones that it should not have are revoked first."""
    everybody = f"{APP_ROLE}, {WEB_ROLE}, {WORKER_ROLE}"
    yield f"revoke all on all tables in schema public from {everybody}"
    yield f"grant select, insert, update, delete on all tables in schema public to {everybody}"
    yield f"grant usage on all sequences in schema public to {everybody}"
    # The journal can be added to and read, by anyone; nobody who serves requests can do more.
    yield f"revoke update, delete, truncate on journal from {everybody}"
    yield f"grant execute on function erase_from_journal(bigint, text, text, jsonb, bytea) to {everybody}"
    yield f"grant execute on function people_named(text, text, int), accounts_named(text, text, int) to {everybody}"
    yield f"grant execute on function service_figures() to {everybody}"
    yield f"grant execute on function erase_from_reviews(text, text) to {everybody}"
    yield f"grant execute on function erase_from_versions(text, text) to {everybody}"
    # Partitions are reached by way of their tables alone, whose policies and triggers guard them.
    for name in partitions.names(connection):
        yield f"revoke all on {name} from {everybody}"
    # Earlier versions of rows, and the versions of teams' members, are written by triggers alone.
    yield f"revoke insert, update, delete, truncate on versions, rosters from {everybody}"
    for role, tables in _HIDDEN.items():
        for table, hidden in tables.items():
            shown = ", ".join(column for column in _columns(connection, table) if column not in hidden)
            yield f"revoke select, update on {table} from {role}"
            yield f"grant select ({shown}), update ({shown}) on {table} to {role}"
    for role, limited in _LIMITED.items():
        for table, rights in limited.items():
            yield f"revoke all on {table} from {role}"
            if rights:
                yield f"grant {rights} on {table} to {role}"


def _columns(connection: Connection, table: str) -> list[str]:
    wanted = "select column_name from information_schema.columns where table_schema = 'public' and table_name = :table"
    return list(connection.scalars(text(wanted), {"table": table}))


def is_ours(name: str | None, kind: str, parents: object) -> bool:
    """Whether our models say what a table has to be: neither the queue's do, nor partitions have models."""
    tables = kind == "table" and name is not None
    return not (
        tables and re.match(rf"procrastinate|({'|'.join(partitions.TABLES)})_(before|default|\d{{4}}_q\d)$", str(name))
    )


def config_for(connection: Connection) -> Config:
    """Alembic's configuration for a connection of the database's owner."""
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def _make_role(connection: Connection, role: str, password: str) -> None:
    found = connection.execute(
        text("select rolsuper or rolbypassrls from pg_roles where rolname = :name"), {"name": role}
    ).first()
    if found is not None and found[0]:
        raise BadInput(
            f"The role {role} is a superuser or passes row-level security, so the database would keep nothing apart.",
            f"alter role {role} nosuperuser nobypassrls",
        )
    raw = connection.connection.driver_connection
    assert raw is not None
    if found is None:
        raw.execute(sql.SQL("create role {}").format(sql.Identifier(role)))
    if password:
        told = sql.SQL("alter role {} login password {}").format(sql.Identifier(role), sql.Literal(password))
        raw.execute(told)


def _make_queue(url: str) -> None:
    connector = SyncPsycopgConnector(conninfo=url)
    with App(connector=connector).open() as app:
        app.schema_manager.apply_schema()
