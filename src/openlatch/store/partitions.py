"""The partitions of the journal and of the earlier versions of rows, by quarters of a year in UTC.

They are the owner's: whoever serves requests reaches them by way of their tables alone. What comes for a time that has
no partition goes into the default one, and from there into its own when this is made.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from dateutil.relativedelta import relativedelta
from psycopg.errors import LockNotAvailable
from sqlalchemy import Connection, text
from sqlalchemy.exc import OperationalError

from openlatch.errors import Conflict

# The tables, and the column of time that each is partitioned by.
TABLES = {"journal": "at", "versions": "until"}
QUARTER = relativedelta(months=3)
# Until so long from now there are partitions.
AHEAD = relativedelta(months=6)
LOCK_SECONDS = 5
_BOUNDS = re.compile(r"FOR VALUES FROM \((?:MINVALUE|'([^']*)')\) TO \('([^']*)'\)")
_CHILDREN = """
    select c.relname as name, pg_get_expr(c.relpartbound, c.oid) as bounds
    from pg_inherits i join pg_class c on c.oid = i.inhrelid
    where i.inhparent = to_regclass(:table) order by c.relname
"""


@dataclass(frozen=True, slots=True)
class Partition:
    """A partition of a table with times from ``since`` (None: from the beginning) to ``until``, exclusive."""

    table: str
    name: str
    since: datetime | None
    until: datetime


def names(connection: Connection) -> list[str]:
    """The names of all partitions of all tables."""
    return [str(row.name) for table in TABLES for row in connection.execute(text(_CHILDREN), {"table": table})]


def of_table(connection: Connection, table: str) -> list[Partition]:
    """The partitions of a table in the order of time, without the default one."""
    connection.execute(text("set local timezone to 'UTC'"))
    found = []
    for row in connection.execute(text(_CHILDREN), {"table": table}):
        if met := _BOUNDS.fullmatch(row.bounds):
            since, until = (datetime.fromisoformat(one) if one else None for one in met.groups())
            assert until is not None
            found.append(Partition(table, row.name, since, until))
    return sorted(found, key=lambda one: one.until)


def make(connection: Connection, now: datetime) -> list[str]:
    """Make the partitions that are missing until ``AHEAD`` of now; returns their names. As the owner.

    Conflict when a table is in use for too long.
    """
    made = []
    for table in TABLES:
        if _missing(connection, table, now):
            with _taken(connection, table):
                # Somebody may have made them meanwhile.
                missing = _missing(connection, table, now)
                _make(connection, table, missing)
            made += [one.name for one in missing]
    return made


def _missing(connection: Connection, table: str, now: datetime) -> list[Partition]:
    missing, since = [], of_table(connection, table)[-1].until
    while since < now + AHEAD:
        quarter = f"{since.year}_q{since.month // 3 + 1}"
        missing.append(Partition(table, f"{table}_{quarter}", since, since + QUARTER))
        since += QUARTER
    return missing


def _make(connection: Connection, table: str, missing: list[Partition]) -> None:
    """What waits in the default partition goes into its own."""
    strays = f"{table}_strays"
    has_strays = connection.scalar(text(f"select exists (select from {table}_default)"))  # noqa: S608  our names
    if has_strays:
        connection.execute(text(f"alter table {table} detach partition {table}_default"))
        connection.execute(text(f"alter table {table}_default rename to {strays}"))
    for one in missing:
        assert one.since is not None
        bounds = f"from ('{one.since.isoformat()}') to ('{one.until.isoformat()}')"
        connection.execute(text(f"create table {one.name} partition of {table} for values {bounds}"))
        _guard(connection, table, one.name)
    if has_strays:
        # The earlier default partition keeps the names of its indexes until it is dropped.
        columns = ", ".join(_columns(connection, table))
        for name in connection.scalars(text("select indexname from pg_indexes where tablename = :t"), {"t": strays}):
            connection.execute(text(f'alter index "{name}" rename to "strays_{name}"'))
        connection.execute(text(f"create table {table}_default partition of {table} default"))
        _guard(connection, table, f"{table}_default")
        connection.execute(text(f"insert into {table} ({columns}) select {columns} from {strays}"))  # noqa: S608  same
        connection.execute(text(f"drop table {strays}"))


def _guard(connection: Connection, table: str, name: str) -> None:
    connection.execute(text(f"alter table {name} enable row level security"))
    if table == "journal":
        guarding = "before update or delete or truncate on {} for each statement execute function refuse_change()"
        connection.execute(text(f"create trigger only_added_to {guarding.format(name)}"))


def _columns(connection: Connection, table: str) -> list[str]:
    wanted = "select attname from pg_attribute where attrelid = to_regclass(:table) and attnum > 0 and not attisdropped"
    return list(connection.scalars(text(wanted), {"table": table}))


def counts(connection: Connection, one: Partition) -> dict[UUID, int]:
    """How many rows each organisation has in a partition."""
    found = connection.execute(text(f"select organisation_id, count(*) as rows from {one.name} group by 1 order by 1"))  # noqa: S608  our names
    return {row.organisation_id: row.rows for row in found}


# Of the journal the archive has all up to a position, whatever their times; of other tables all until a time.
_LEFT = {
    "journal": """
        select exists (select from {name} j where position > coalesce((
            select max(last) from archived_parts a where a.organisation_id = j.organisation_id), 0))
    """,
    "versions": """
        select exists (
            (select organisation_id, count(*) from {name} group by 1)
            except select organisation_id, rows from archived_parts where kind = 'versions' and until = :until)
    """,
}


def drop(connection: Connection, one: Partition) -> None:
    """Drop a partition, all of whose rows are in the archive. As the owner; Conflict says why it can't be."""
    with _taken(connection, one.table):
        left = _LEFT[one.table].format(name=one.name)
        if connection.scalar(text(left), {"until": one.until} if ":until" in left else {}):
            raise Conflict(f"{one.name} has rows that the archive has not.", "Try again.")
        connection.execute(text(f"alter table {one.table} detach partition {one.name}"))
        connection.execute(text(f"drop table {one.name}"))


@contextmanager
def _taken(connection: Connection, table: str) -> Iterator[None]:
    """Let nobody else use a table until the transaction ends. Whoever comes while this waits, waits as well."""
    connection.execute(text(f"set local lock_timeout = '{LOCK_SECONDS}s'"))
    try:
        connection.execute(text(f"lock table {table} in access exclusive mode"))
        yield
    except OperationalError as error:
        # It may also be the organisations, which a partition that is dropped refers to.
        if not isinstance(error.orig, LockNotAvailable):
            raise
        raise Conflict(f"The table {table} was in use for {LOCK_SECONDS} s.", "Try again.") from None
