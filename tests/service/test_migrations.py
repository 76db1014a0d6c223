"""Migrations of a database with records in it: from every version, while others use it, and back."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest
from alembic import command
from alembic.migration import MigrationContext
from alembic.operations import Operations
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine, text

from openlatch.errors import Conflict
from openlatch.runtime.cluster import Cluster
from openlatch.store import migrate as store_migrate
from openlatch.store.migrate import Passwords, config_for, migrate
from openlatch.store.migrations import online
from tests.service.conftest import Small

COUNTED = ("people", "teams", "accounts", "grants", "terms", "levels", "apps", "journal", "systems")


@pytest.fixture
def engine(cluster: Cluster, database: str) -> Iterator[Engine]:
    """As the database's owner."""
    made = create_engine(cluster.url(database).replace("postgresql:", "postgresql+psycopg:"))
    yield made
    made.dispose()


def _counts(connection: Connection) -> dict[str, int]:
    return {table: connection.scalar(text(f"select count(*) from {table}")) or 0 for table in COUNTED}


def test_records_outlive_the_way_back_and_up_again_from_every_version(small: Small, engine: Engine) -> None:
    """Each migration is taken back and made again with records in the tables; none of the register is lost. One
    that can't be taken back says so.
    """
    with engine.connect() as connection:
        before = _counts(connection)
        revisions = [row.revision for row in ScriptDirectory.from_config(config_for(connection)).walk_revisions()]
    gone_back = 0
    for revision in revisions[1:]:
        try:
            with engine.begin() as connection:
                command.downgrade(config_for(connection), revision)
        except NotImplementedError:
            break
        gone_back += 1
        with engine.begin() as connection:
            command.upgrade(config_for(connection), "head")
            assert _counts(connection) == before, revision
    assert gone_back > 15
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(text("select count(*) from grants where state = 'active'"))


def test_a_table_that_is_held_stops_the_migration_and_nobody_else(
    cluster: Cluster, database: str, engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It says what to do; what was migrated before stays, and the next try goes on."""
    monkeypatch.setattr(store_migrate, "LOCK_SECONDS", 1)
    with engine.begin() as connection:
        command.downgrade(config_for(connection), "0030")
    with psycopg.connect(cluster.url(database)) as holder:
        holder.execute("lock table items in share mode")
        with pytest.raises(Conflict, match="in use"):
            migrate(cluster.url(database), Passwords("app-password"))
    migrate(cluster.url(database), Passwords("app-password"))
    with engine.connect() as connection:
        head = ScriptDirectory.from_config(config_for(connection)).get_current_head()
        assert MigrationContext.configure(connection).get_current_revision() == head


def test_an_index_is_made_while_others_write(engine: Engine, cluster: Cluster, database: str) -> None:
    """One that was begun and broken off is made anew."""
    with engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"transaction_per_migration": True})
        with Operations.context(context):
            for _ in range(2):
                online.create_index("ix_people_job", "people", ["job"])
            found = "select indisvalid from pg_index where indexrelid = 'ix_people_job'::regclass"
            assert connection.scalar(text(found))
            connection.commit()
            online.drop_index("ix_people_job")
        assert connection.scalar(text("select to_regclass('ix_people_job')")) is None
