"""Connections and transactions. Every read and write happens in a transaction bound to one organisation."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar
from uuid import UUID

import orjson
import psycopg
from psycopg.conninfo import conninfo_to_dict, make_conninfo
from psycopg.pq import TransactionStatus
from psycopg.rows import tuple_row
from sqlalchemy import Connection, Engine, create_engine, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.orm import Session

from openlatch.errors import (
    Collision,
    Conflict,
    OpenLatchError,
    OutcomeUnknown,
    RegisterDown,
    ServerReadOnly,
    SystemDown,
)
from openlatch.json_values import JsonList, JsonView, SqlTuple
from openlatch.store import revisions

Begun = TypeVar("Begun")
# The option of an engine that holds the settings of each transaction.
_LOCAL = "openlatch_settings"
# How long a request waits for a connection while all are in use.
SECONDS_FOR_A_CONNECTION = 5
# How long a standby that does not answer is left alone, and how long one that is behind is waited for.
SECONDS_OF_REST = 10.0
WAITS_FOR_STANDBY = (0.002, 0.004, 0.008)
# Temporary tables are kept in memory up to a size, so that a large reading or file is not written to disk twice.
# How much can't be set any more once a connection has had one, so it is said at the beginning; it is taken as needed.
_SETTINGS = {
    "timezone": "UTC",
    "jit": "off",
    "random_page_cost": "1.1",
    "max_parallel_workers_per_gather": "0",
    "temp_buffers": "256MB",
}
# How a server that is gone without a word (a machine without power, say) is noticed within half a minute.
_LIVELY: dict[str, str | int] = {
    "connect_timeout": 10,
    "keepalives_idle": 10,
    "keepalives_interval": 5,
    "keepalives_count": 3,
    "tcp_user_timeout": 20_000,
}
# Behind a pool, a transaction may come to a session that has had temporary tables.
_ONCE_ONLY = {"temp_buffers"}


def lively(url: str) -> str:
    """An address, or what libpq takes for one, with the settings above where it has none of its own, and our name."""
    given = conninfo_to_dict(url)
    name = revisions.named(str(given.get("application_name", "")))
    return make_conninfo("", **{**_LIVELY, **given, "application_name": name})


def engine_for(url: str, pool_size: int = 8, statement_seconds: int = 0, behind_pool: bool = False) -> Engine:
    """An engine for an address as libpq takes it, through psycopg 3, with a statement timeout unless it is 0.

    The address goes to libpq as it is, so that it may name several servers and ``target_session_attrs``: a new
    connection then finds whichever of them is the primary.

    ``behind_pool``: it leads to a pool that gives a server's connection to each transaction. Nothing is then left to
    the session: settings are made in every transaction, and no statement is prepared.
    """
    settings = _SETTINGS | {"statement_timeout": str(statement_seconds * 1000)}
    options = "" if behind_pool else " ".join(f"-c {name}={value}" for name, value in settings.items())
    local = {name: value for name, value in settings.items() if behind_pool and name not in _ONCE_ONLY}

    def connect() -> psycopg.Connection[SqlTuple]:
        made = psycopg.connect(lively(url), options=options)
        if behind_pool:
            made.prepare_threshold = None
        return made

    return create_engine(
        "postgresql+psycopg://",
        creator=connect,
        execution_options={_LOCAL: local},
        pool_size=pool_size,
        max_overflow=pool_size,
        pool_timeout=SECONDS_FOR_A_CONNECTION,
        # Values can be secrets, and errors end up in logs.
        hide_parameters=True,
        # Compiling the rules would take the server far longer than carrying them out. A page read out of order costs
        # hardly more than the next one on today's disks; taken for more, small questions read whole tables. And
        # starting a helper takes longer than a small question; who asks a large one allows for helpers (``at_large``).
        json_deserializer=orjson.loads,
    )


# With it comes how often the organisation's rules were set, so that they have to be read only when they were.
_OPEN = """
    select set_config('openlatch.organisation', %(id)s, true),
        (select ruling_version from organisations where id = cast(nullif(%(id)s, '') as uuid))
"""


@contextmanager
def transaction(engine: Engine, organisation: UUID | None) -> Iterator[Session]:
    """One transaction, committed at the end or rolled back on an error.

    Row-level security restricts it to the rows of ``organisation``; with None it sees only what identifying the viewer
    needs. RegisterDown when the database does not answer, or goes away in between; OutcomeUnknown when it goes away
    during the commit.
    """
    with _fresh(engine, lambda: _opened(engine, organisation)) as session:
        try:
            yield session
            session.flush()
        except OpenLatchError:
            _leave_unchanged(session)
            raise
        except (DBAPIError, psycopg.Error) as error:
            if isinstance(_cause(error), psycopg.errors.ReadOnlySqlTransaction):
                # Connections to it would stay, and a new one finds the primary.
                engine.dispose()
                raise ServerReadOnly("The register's database server takes no changes.") from error
            if _is_gone(error):
                # Rolling back would fail as well, and that would be all that is told.
                session.invalidate()
                raise RegisterDown("The register's database went away.") from error
            raise
        try:
            session.commit()
        except (DBAPIError, psycopg.Error) as error:
            if _is_gone(error):
                session.invalidate()
                raise OutcomeUnknown("The register's database went away while this was being committed.") from error
            raise


def _leave_unchanged(session: Session) -> None:
    """End a transaction that was refused. One that has changed nothing is committed, which comes to the same: after a
    rollback the driver has the server forget all statements that were prepared on the connection.
    """
    raw: Driver = session.info["driver"]
    session.expunge_all()
    if raw.info.transaction_status is not TransactionStatus.INTRANS:
        return
    try:
        if raw.execute("select pg_current_xact_id_if_assigned() is null", prepare=True).fetchone() == (True,):
            session.commit()
    except (DBAPIError, psycopg.Error) as error:
        if not _is_gone(error):
            raise
        # What was refused is told all the same.
        session.invalidate()


def _opened(engine: Engine, organisation: UUID | None) -> Session:
    session = Session(engine, expire_on_commit=False)
    try:
        raw = session.connection().connection.driver_connection
        assert isinstance(raw, psycopg.Connection)
        session.info["driver"] = raw
        for name, value in engine.get_execution_options()[_LOCAL].items():
            raw.execute("select set_config(%s, %s, true)", [name, value])
        opened = raw.execute(_OPEN, {"id": str(organisation) if organisation else ""}, prepare=True)
        _, session.info["ruling_version"] = opened.fetchone() or (None, None)
    except BaseException:
        session.close()
        raise
    return session


def _fresh(engine: Engine, begin: Callable[[], Begun]) -> Begun:
    """Begin with a pooled connection, and if that was lost, with a new one.

    So a restart of the server costs no request, and connections need no test before use. RegisterDown when the server
    does not answer.
    """
    try:
        return begin()
    except (OperationalError, psycopg.OperationalError):
        engine.dispose()
    except PoolTimeout as error:
        raise RegisterDown("All connections to the register's database are in use.") from error
    try:
        return begin()
    except (OperationalError, psycopg.OperationalError, PoolTimeout) as error:
        raise RegisterDown("The register's database does not answer.") from error


# The server stops or starts: what came before in the transaction is undone.
_AWAY = (
    psycopg.errors.AdminShutdown,
    psycopg.errors.CrashShutdown,
    psycopg.errors.CannotConnectNow,
)


def _cause(error: DBAPIError | psycopg.Error) -> BaseException | None:
    """What the driver said."""
    return error.orig if isinstance(error, DBAPIError) else error


def _is_gone(error: DBAPIError | psycopg.Error) -> bool:
    """Whether the connection was lost, rather than a statement refused."""
    cause = _cause(error)
    lost = isinstance(cause, psycopg.OperationalError | psycopg.InterfaceError) and cause.sqlstate is None
    return lost or isinstance(cause, _AWAY)


# How far the primary has committed, and whether a standby has got there. A server that follows nobody may be the
# primary, or one that was: of that nothing is known here.
_COMMITTED = "select pg_current_wal_flush_lsn()::text"
_REPLAYED = "select pg_is_in_recovery() and pg_last_wal_replay_lsn() >= cast(:position as pg_lsn)"


@dataclass
class Standby:
    """A standby of the database that answers reads, as long as nothing committed is missing from it."""

    engine: Engine
    writing: set[str] = field(default_factory=set)
    """What turned out to change something, and so is asked of the primary."""
    rests_until: float = 0.0

    def rest(self) -> None:
        """Leave it alone for a while: it does not answer."""
        self.rests_until = time.monotonic() + SECONDS_OF_REST

    @contextmanager
    def transaction(self, primary: Engine, organisation: UUID) -> Iterator[Session | None]:
        """A transaction in which everything is seen that was committed when this was called.

        None when that would take longer than asking the primary.
        """
        if time.monotonic() < self.rests_until:
            yield None
            return
        with transaction(primary, organisation) as db:
            position = db.scalar(text(_COMMITTED))
        with transaction(self.engine, organisation) as db:
            for wait in WAITS_FOR_STANDBY:
                if db.scalar(text(_REPLAYED), {"position": position}):
                    yield db
                    return
                time.sleep(wait)
            yield None


_TAKE_SOME = """
    select name from unnest(cast(:names as text[])) name where pg_try_advisory_xact_lock(hashtextextended(name, 0))
"""


@contextmanager
def owner_engine(url: str) -> Iterator[Engine]:
    """An engine with one connection of the database's owner. RegisterDown when it is not let in."""
    engine = engine_for(url, pool_size=1)
    try:
        try:
            engine.connect().close()
        except DBAPIError as error:
            raise RegisterDown(
                f"The database does not let its owner in: {str(error.orig).strip().splitlines()[0]}",
                "Look whether it runs, and whether owner_database_url is right.",
            ) from error
        yield engine
    finally:
        # Session-level locks end with the connection.
        engine.dispose()


@contextmanager
def leases(engine: Engine, names: Sequence[str]) -> Iterator[list[str]]:
    """Try to take PostgreSQL advisory locks for these names on one connection; yields those acquired.

    Never waits. The locks belong to a transaction that does nothing else, and so holds no snapshot: they end with it or
    with its connection, also behind a pool that gives a connection to each transaction.
    """
    if not names:
        yield []
        return

    def take() -> tuple[Connection, list[str]]:
        connection = engine.connect()
        try:
            connection.execute(text("set local idle_in_transaction_session_timeout = 0"))
            return connection, list(connection.scalars(text(_TAKE_SOME), {"names": list(names)}))
        except BaseException:
            connection.close()
            raise

    connection, taken = _fresh(engine, take)
    with connection:
        yield taken
        try:
            # After a rollback the driver would prepare all its statements anew.
            connection.commit()
        except DBAPIError as error:
            if not _is_gone(error):
                raise
            # The locks went with it.
            connection.invalidate()


@contextmanager
def alone(engine: Engine, what: str) -> Iterator[bool]:
    """Try to take a PostgreSQL advisory lock; yields whether it was acquired."""
    with leases(engine, [what]) as taken:
        yield bool(taken)


# What the database says when several transactions met, and which of its constraints means what.
_MET = (psycopg.errors.DeadlockDetected, psycopg.errors.SerializationFailure, psycopg.errors.LockNotAvailable)


@contextmanager
def told_apart() -> Iterator[None]:
    """Translate database errors caused by other transactions: Collision to be retried, Conflict for a duplicate."""
    try:
        yield
    except (DBAPIError, psycopg.Error) as error:
        cause = _cause(error)
        if isinstance(cause, _MET):
            raise Collision("Somebody else was changing the same.") from error
        if isinstance(cause, psycopg.errors.QueryCanceled):
            raise SystemDown("The register took too long over that.", "Narrow it, or try again later.") from error
        if isinstance(cause, psycopg.errors.UniqueViolation):
            table = cause.diag.table_name or "records"
            what = "person" if table == "people" else table.replace("_", " ").rstrip("s")
            raise Conflict(f"There is such a {what} already, perhaps since a moment ago.", "Look again.") from error
        raise


# A connection of the driver, whose rows are of the shape that each question asks for.
Driver = psycopg.Connection[SqlTuple]


def driver_of(db: Session) -> Driver:
    """The driver's connection of a transaction, with all pending changes flushed."""
    db.flush()
    raw: Driver = db.info["driver"]
    return raw


def at_large(db: Session) -> Driver:
    """Raise work_mem and allow parallel workers for the rest of this transaction; returns the driver's connection."""
    raw = driver_of(db)
    raw.execute("set local work_mem = '128MB'")
    raw.execute("set local max_parallel_workers_per_gather = 2")
    return raw


Question = tuple[str, JsonView]


def ask(db: Session, questions: Sequence[Question], row_factory: Any = tuple_row, kept: bool = True) -> list[JsonList]:
    """Execute several queries in one pipeline and return their rows.

    The server reuses one generic plan for each: planning takes longer than execution. With ``kept`` off it plans for
    these values, as for a query about many rows.
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
    """Lift the statement timeout for the rest of this transaction."""
    driver_of(db).execute("set local statement_timeout = 0")


def send(db: Session, statements: Sequence[Question]) -> None:
    """Execute several statements without results in one pipeline."""
    raw = driver_of(db)
    with raw.pipeline():
        for statement, named in statements:
            raw.execute(statement, named, prepare=True)
