"""Evaluating one subject after a change, and those related to it, in one statement.

The columns are gathered in SQL and the rules evaluated in Python: for a single row that is faster than having the
server do it. Expensive columns are fetched afterwards, only for subjects where they affect the result.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from uuid import UUID

from psycopg.rows import tuple_row
from sqlalchemy.orm import Session as Db

from openlatch.core.vocabulary import Subject
from openlatch.json_values import JsonObject
from openlatch.store.database import ask, driver_of
from openlatch.store.flags.evaluate_many import Looked, Ruling, columns_of, instants, is_scored, judged
from openlatch.store.flags.sources import SOURCES

# A grant with its account and the person who holds it: their tables are joined to it in any case.
AROUND_A_GRANT = ("grant", "account", "person")
_OF_EACH = ("id", "account_id", "holder_id", "wanted", "before", "words")
# Whether one acts elsewhere as the account of a grant: then what comes of a change does not end with it.
_LEADS_ON = "exists (select from grants h where h.holder_id = g.account_id and h.state <> 'ended')"


@dataclass(frozen=True, slots=True)
class _Gathering:
    """A statement that gathers what is near, and the names of the columns of each subject, one after another."""

    statement: str
    names: tuple[tuple[str, ...], ...]


def look(
    db: Db, ruling: Ruling, subjects: tuple[str, ...], ident: UUID, now: datetime, everything: bool = False
) -> list[Looked | None]:
    """One subject by its id, and related ones of other kinds; None for one that does not exist.

    A grant evaluated with others has the column ``leads_on``: whether its account holds grants elsewhere.
    """
    gathering = _near(subjects, ruling)
    cursor = driver_of(db).cursor(row_factory=tuple_row, binary=True)
    row = cursor.execute(gathering.statement, {**instants(now), "ids": ident}, prepare=True).fetchone()
    if row is None:
        return [None] * len(subjects)
    near: list[JsonObject] = []
    start = 0
    for names in gathering.names:
        near.append(dict(zip(names, row[start : start + len(names)], strict=True)))
        start += len(names)
    _add_what_is_far(db, ruling, subjects, near, now, everything)
    return [
        None if columns["id"] is None else judged(subject, ruling, columns, now, None if columns["wanted"] else [])
        for subject, columns in zip(subjects, near, strict=True)
    ]


@lru_cache(maxsize=64)
def _near(subjects: tuple[str, ...], ruling: Ruling) -> _Gathering:
    selected: list[str] = []
    names: list[tuple[str, ...]] = []
    joined: list[str] = []
    for subject in subjects:
        source = SOURCES[subject]
        columns = columns_of(source, ruling, bulk=False)
        near = {name: sql for name, sql in columns.items() if name not in source.far_columns}
        found = f"f_{subject}"
        selected += [source.ident, source.account, source.holder, source.wanted, f"{found}.found", f"{found}.words"]
        selected += near.values()
        names.append((*_OF_EACH, *near))
        if subject == Subject.GRANT and len(subjects) > 1:
            selected.append(_LEADS_ON)
            names[-1] += ("leads_on",)
        joined += [
            source.joins(ruling.settings, False, False),
            f"left join findings {found} on {found}.subject_id = {source.ident}",
        ]
    first = SOURCES[subjects[0]]
    statement = f"select {', '.join(selected)} from {first.table} {' '.join(joined)} where {first.ident} = %(ids)s"
    return _Gathering(statement, tuple(names))


def _add_what_is_far(
    db: Db, ruling: Ruling, subjects: Sequence[str], near: Sequence[dict[str, object]], now: datetime, everything: bool
) -> None:
    """Fetch the expensive columns where they affect the result; elsewhere they are missing."""
    counting = []
    for subject, columns in zip(subjects, near, strict=True):
        source = SOURCES[subject]
        scored = is_scored(subject, ruling, everything)
        if columns["wanted"] and source.counts(columns, ruling.settings, scored):
            counting.append((columns, subject, scored))
        else:
            columns |= dict.fromkeys(source.far_columns)
    if not counting:
        return
    questions = [
        (_far(subject, ruling, scored), {**instants(now), "ids": columns["id"]})
        for columns, subject, scored in counting
    ]
    for (columns, subject, _), rows in zip(counting, ask(db, questions), strict=True):
        columns |= dict(zip(SOURCES[subject].far_columns, rows[0], strict=True))


@lru_cache(maxsize=64)
def _far(subject: str, ruling: Ruling, scored: bool) -> str:
    source = SOURCES[subject]
    gathered = source.far_joins(ruling.settings, False, scored)
    columns = ", ".join(source.far_columns.values())
    return f"select {columns} from {source.table} {gathered} where {source.ident} = %(ids)s"
