"""Migrations of a database with records in it: from every version, while others use it, and back."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator

import psycopg
import pytest
from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.operations import Operations
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine, text

from openlatch.errors import Conflict
from openlatch.runtime.cluster import Cluster
from openlatch.store import migrate as store_migrate
from openlatch.store.migrate import Passwords, config_for, migrate
from openlatch.store.migrations import online
from tests.service.compatibility import Tables
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


def _go(engine: Engine, way: Callable[[Config, str], None], revision: str) -> None:
    with engine.connect() as connection:
        way(config_for(connection), revision)


def test_records_outlive_the_way_back_and_up_again_from_every_version(small: Small, engine: Engine) -> None:
    """Each migration is taken back and made again with records in the tables; none of the register is lost. One
    that can't be taken back says so.
    """
    with engine.connect() as connection:
        before = _counts(connection)
        revisions = [row.revision for row in ScriptDirectory.from_config(config_for(connection)).walk_revisions()]
    gone_back = 0
    # From each version down, up and down again, and from the last one that can be reached all the way up.
    for above, revision in itertools.pairwise(revisions):
        try:
            _go(engine, command.downgrade, revision)
        except NotImplementedError:
            break
        gone_back += 1
        _go(engine, command.upgrade, above)
        _go(engine, command.downgrade, revision)
    _go(engine, command.upgrade, "head")
    with engine.connect() as connection:
        assert _counts(connection) == before
    assert gone_back > 15
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(text("select count(*) from grants where state = 'active'"))


# Before it, no version was released whose programs could still run.
FIRST_WITH_OLDER_PROGRAMS = "0045"


def test_older_programs_can_do_with_every_migration_or_it_says_which_can_not(engine: Engine) -> None:
    """From one revision to the next nothing is missed, unless the migration names the oldest program (``needs``)."""
    with engine.connect() as connection:
        config = config_for(connection)
        scripts = [
            script
            for script in ScriptDirectory.from_config(config).walk_revisions()
            if script.revision >= FIRST_WITH_OLDER_PROGRAMS
        ]
    for script in scripts:
        with engine.connect() as connection:
            after = Tables.of(connection)
            connection.commit()
            command.downgrade(config_for(connection), str(script.down_revision))
            missed = Tables.of(connection).missed(after)
        assert not missed or getattr(script.module, "needs", "") < script.revision, missed


@pytest.mark.parametrize(
    ("change", "missed"),
    [
        ("alter table people drop column job cascade", ["people.job is gone"]),
        ("alter table people add column shoe int not null", ["people.shoe has to be given"]),
        (
            "alter table items alter column reason type varchar(9)",
            ["items.reason is character varying(9) instead of text"],
        ),
        ("alter table teams add check (name <> 'x')", ["demanded: teams: CHECK ((name <> 'x'::text))"]),
        ("drop function service_figures()", ["service_figures() is gone"]),
        ("alter table people add column shoe int not null default 40", []),
        ("create table shoes (number int primary key)", []),
        ("create index on people (job)", []),
    ],
)
def test_what_older_programs_can_not_do_with_is_seen(engine: Engine, change: str, missed: list[str]) -> None:
    with engine.connect() as connection:
        before = Tables.of(connection)
        connection.execute(text(change))
        assert before.missed(Tables.of(connection)) == missed
        connection.rollback()


def test_a_table_that_is_held_stops_the_migration_and_nobody_else(
    cluster: Cluster, database: str, engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It says what to do; what was migrated before stays, and the next try goes on."""
    monkeypatch.setattr(store_migrate, "LOCK_SECONDS", 1)
    with engine.connect() as connection:
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
