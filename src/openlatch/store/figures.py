"""Figures about the whole service: what waits in it, and for how long. They say nothing about any organisation."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Engine, text
from sqlalchemy.exc import SQLAlchemyError

from openlatch.store import revisions


@dataclass(frozen=True, slots=True)
class Figure:
    """A number with its name; ``label`` is the state or severity that it is for, else empty."""

    name: str
    label: str
    value: float


def read(engine: Engine) -> list[Figure]:
    """All figures, as of now. An age is absent where nothing waits."""
    with engine.connect() as connection:
        rows = connection.execute(text("select name, label, value from service_figures() where value is not null"))
        return [Figure(*row) for row in rows]


def why_not_ready(engine: Engine) -> str:
    """Why requests can't be answered: the database does not answer, or has tables of another
    version that do not serve this one; empty when they can.
    """
    try:
        with engine.connect() as connection:
            revision, comment = connection.execute(text(revisions.STATE)).one()
    except SQLAlchemyError:
        return "The database does not answer."
    return revisions.unserved(revision, comment)
