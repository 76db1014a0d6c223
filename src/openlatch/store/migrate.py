"""Bringing a database up to date: our own tables by Alembic, the queue's by procrastinate."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from procrastinate import App, SyncPsycopgConnector
from psycopg import sql
from sqlalchemy import Connection, text

from openlatch.store.database import engine_for

APP_ROLE = "openlatch_app"


def migrate(url: str, app_password: str) -> None:
    """Bring the database at ``url`` (as its owner) up to date, and let the service's role sign in.

    Safe to run again, and by two processes at once: the second waits for the first.
    """
    engine = engine_for(url, pool_size=1)
    try:
        with engine.begin() as connection:
            connection.execute(text("select pg_advisory_xact_lock(hashtext('openlatch migrate'))"))
            _make_role(connection, app_password)
            command.upgrade(config_for(connection), "head")
            has_queue = connection.scalar(text("select to_regclass('procrastinate_jobs') is not null"))
        if not has_queue:
            _make_queue(url)
        with engine.begin() as connection:
            connection.execute(
                text(f"grant select, insert, update, delete on all tables in schema public to {APP_ROLE}")
            )
            connection.execute(text(f"grant usage on all sequences in schema public to {APP_ROLE}"))
            # The journal can be added to and read, by anyone; nobody who serves requests can do more.
            connection.execute(text(f"revoke update, delete, truncate on journal from {APP_ROLE}"))
            # Earlier versions of rows, and the versions of teams' members, are written by triggers alone.
            connection.execute(text(f"revoke insert, update, delete, truncate on versions, rosters from {APP_ROLE}"))
    finally:
        engine.dispose()


def config_for(connection: Connection) -> Config:
    """What Alembic has to be told, over a connection of the database's owner."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    return config


def _make_role(connection: Connection, password: str) -> None:
    exists = connection.scalar(text("select 1 from pg_roles where rolname = :name"), {"name": APP_ROLE})
    verb = "alter" if exists else "create"
    raw = connection.connection.driver_connection
    assert raw is not None
    statement = sql.SQL("{verb} role {role} login nosuperuser nobypassrls password {password}").format(
        verb=sql.SQL(verb), role=sql.Identifier(APP_ROLE), password=sql.Literal(password)
    )
    raw.execute(statement)


def _make_queue(url: str) -> None:
    connector = SyncPsycopgConnector(conninfo=url)
    with App(connector=connector).open() as app:
        app.schema_manager.apply_schema()
