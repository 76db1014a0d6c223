"""Connections and transactions. Nothing reads or writes outside a transaction bound to one organisation."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar
from uuid import UUID

import orjson
import psycopg
from psycopg.rows import tuple_row
from sqlalchemy import Connection, Engine, create_engine, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.orm import Session

from openlatch.errors import Collision, Conflict, SystemDown

Begun = TypeVar("Begun")
# Temporary tables are kept in memory up to a size, so that a large reading or file is not written to disk twice.
# How much can't be set any more once a connection has had one, so it is said at the beginning; it is taken as needed.
_SETTINGS = (
    "timezone=UTC",
    "jit=off",
    "random_page_cost=1.1",
    "max_parallel_workers_per_gather=0",
    "temp_buffers=256MB",
)


def engine_for(url: str, pool_size: int = 8, statement_seconds: int = 0) -> Engine:
    """An engine for a ``postgresql://`` address, through psycopg 3; with a limit for each statement, unless it is 0."""
    settings = (*_SETTINGS, f"statement_timeout={statement_seconds * 1000}")
    if url.startswith("postgresql://"):
        url = url.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(
        url,
        pool_size=pool_size,
        max_overflow=pool_size,
        # Values can be secrets, and errors end up in logs.
        hide_parameters=True,
        # Compiling the rules would take the server far longer than carrying them out. A page read out of order costs
        # hardly more than the next one on today's disks; taken for more, small questions read whole tables. And
        # starting a helper takes longer than a small question; who asks a large one allows for helpers (``at_large``).
        json_deserializer=orjson.loads,
        connect_args={"connect_timeout": 10, "options": " ".join(f"-c {setting}" for setting in settings)},
    )


# With it comes how often the organisation's rules were set, so that they have to be read only when they were.
_OPEN = """
    select set_config('openlatch.organisation', %(id)s, true),
        (select ruling_version from organisations where id = cast(nullif(%(id)s, '') as uuid))
"""


@contextmanager
def transaction(engine: Engine, organisation: UUID | None) -> Iterator[Session]:
    """One transaction, committed at the end or rolled back on an error.

    Row-level security shows it only the rows of ``organisation``; with None it sees no more than what finding
    out who is asking needs. SystemDown when the database does not answer.
    """
    with _fresh(engine, lambda: _opened(engine, organisation)) as session:
        yield session
        session.commit()


def _opened(engine: Engine, organisation: UUID | None) -> Session:
    session = Session(engine, expire_on_commit=False)
    try:
        raw = session.connection().connection.driver_connection
        assert isinstance(raw, psycopg.Connection)
        session.info["driver"] = raw
        opened = raw.execute(_OPEN, {"id": str(organisation) if organisation else ""}, prepare=True)
        _, session.info["ruling_version"] = opened.fetchone() or (None, None)
    except BaseException:
        session.close()
        raise
    return session


def _fresh(engine: Engine, begin: Callable[[], Begun]) -> Begun:
    """What begins with a connection that may have been lost since it was last used: then it begins with a new one.

    So that a restart of the server costs no request, and no connection has to be tried before each. SystemDown when the
    server does not answer.
    """
    try:
        return begin()
    except (OperationalError, psycopg.OperationalError):
        engine.dispose()
    try:
        return begin()
    except (OperationalError, psycopg.OperationalError) as error:
        raise SystemDown("The register's database does not answer.", "Try again in a moment.") from error


_TAKE_SOME = """
    select name from unnest(cast(:names as text[])) name where pg_try_advisory_lock(hashtextextended(name, 0))
"""
_GIVE_BACK = "select pg_advisory_unlock(hashtextextended(name, 0)) from unnest(cast(:names as text[])) name"


@contextmanager
def leases(engine: Engine, names: Sequence[str]) -> Iterator[list[str]]:
    """Those of these things that nobody else does now, among all processes, all on one connection.

    Never waits. They end with the connection, so that nobody has to break one.
    """
    if not names:
        yield []
        return

    def take() -> tuple[Connection, list[str]]:
        connection = engine.connect().execution_options(isolation_level="AUTOCOMMIT")
        try:
            return connection, list(connection.scalars(text(_TAKE_SOME), {"names": list(names)}))
        except BaseException:
            connection.close()
            raise

    connection, taken = _fresh(engine, take)
    with connection:
        try:
            yield taken
        finally:
            connection.execute(text(_GIVE_BACK), {"names": taken})


@contextmanager
def alone(engine: Engine, what: str) -> Iterator[bool]:
    """Whether we are the only ones who do this now, among all processes: a lease on one thing."""
    with leases(engine, [what]) as taken:
        yield bool(taken)


# What the database says when several transactions met, and which of its constraints means what.
_MET = (psycopg.errors.DeadlockDetected, psycopg.errors.SerializationFailure, psycopg.errors.LockNotAvailable)


@contextmanager
def told_apart() -> Iterator[None]:
    """Errors of the database that others caused, as our own: Collision to be tried again, Conflict for a twin."""
    try:
        yield
    except (DBAPIError, psycopg.Error) as error:
        cause = error.orig if isinstance(error, DBAPIError) else error
        if isinstance(cause, _MET):
            raise Collision("Somebody else was changing the same.") from error
        if isinstance(cause, psycopg.errors.QueryCanceled):
            raise SystemDown("The register took too long over that.", "Narrow it, or try again later.") from error
        if isinstance(cause, psycopg.errors.UniqueViolation):
            table = cause.diag.table_name or "records"
            what = "person" if table == "people" else table.replace("_", " ").rstrip("s")
            raise Conflict(f"There is such a {what} already, perhaps since a moment ago.", "Look again.") from error
        raise


def driver_of(db: Session) -> psycopg.Connection[Any]:
    """The driver's own connection of a transaction, with all changes so far sent over it."""
    db.flush()
    raw: psycopg.Connection[Any] = db.info["driver"]
    return raw


def at_large(db: Session) -> psycopg.Connection[Any]:
    """The connection, for questions about everything until the transaction ends: with helpers and memory to sort in."""
    raw = driver_of(db)
    raw.execute("set local work_mem = '128MB'")
    raw.execute("set local max_parallel_workers_per_gather = 2")
    return raw


Question = tuple[str, Mapping[str, Any]]


def ask(db: Session, questions: Sequence[Question], row_factory: Any = tuple_row, kept: bool = True) -> list[list[Any]]:
    """The rows that several small statements give, sent in one go.

    The server keeps one plan for each, whatever the values: planning them takes longer than carrying them out. With
    ``kept`` off it makes one for these values, as for a statement about many rows.
    """
    raw = driver_of(db)
    with raw.pipeline():
        if kept:
            raw.execute("set local plan_cache_mode = force_generic_plan", prepare=True)
        cursors = []
        for statement, named in questions:
            cursor = raw.cursor(row_factory=row_factory, binary=True)
            cursors.append(cursor.execute(statement, named, prepare=kept))
        if kept:
            raw.execute("set local plan_cache_mode = auto", prepare=True)
    return [cursor.fetchall() for cursor in cursors]


def take_your_time(db: Session) -> None:
    """Lift the limit for statements until the transaction ends: for what an administrator wants done in one go."""
    driver_of(db).execute("set local statement_timeout = 0")


def send(db: Session, statements: Sequence[Question]) -> None:
    """Carry out several small statements that give nothing back, sent in one go."""
    raw = driver_of(db)
    with raw.pipeline():
        for statement, named in statements:
            raw.execute(statement, named, prepare=True)
