"""Connections and transactions. Nothing reads or writes outside a transaction bound to one organisation."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from uuid import UUID

from sqlalchemy import Engine, create_engine, text
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from openlatch.errors import SystemDown


def engine_for(url: str, pool_size: int = 8) -> Engine:
    """An engine for a ``postgresql://`` address, through psycopg 3.

    Connections are tried before use, so that a restart of the server costs no request.
    """
    if url.startswith("postgresql://"):
        url = url.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(
        url,
        pool_size=pool_size,
        max_overflow=pool_size,
        pool_pre_ping=True,
        # Compiling the rules would take the server far longer than carrying them out.
        connect_args={"connect_timeout": 10, "options": "-c timezone=UTC -c jit=off"},
    )


# With it comes how often the organisation's rules were set, so that they have to be read only when they were.
_OPEN = text(
    "select set_config('openlatch.organisation', :id, true), "
    "(select ruling_version from organisations where id = cast(nullif(:id, '') as uuid)) as ruling_version"
)


@contextmanager
def transaction(engine: Engine, organisation: UUID | None) -> Iterator[Session]:
    """One transaction, committed at the end or rolled back on an error.

    Row-level security shows it only the rows of ``organisation``; with None it sees no more than what finding
    out who is asking needs. SystemDown when the database does not answer.
    """
    with Session(engine, expire_on_commit=False) as session:
        try:
            opened = session.execute(_OPEN, {"id": str(organisation) if organisation else ""}).one()
            session.info["ruling_version"] = opened.ruling_version
        except OperationalError as error:
            raise SystemDown("The register's database does not answer.", "Try again in a moment.") from error
        yield session
        session.commit()
