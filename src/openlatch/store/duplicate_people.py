"""Possible duplicates among people."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from uuid import UUID

from sqlalchemy import text
from sqlalchemy.orm import Session as Db

_PAIRS = """
    select a.id, b.id from people a
    join people b on lower(b.name) = lower(a.name) and b.id <> a.id
    where a.name <> '' and a.merged_into_id is null and b.merged_into_id is null {of_first}
    union
    select h.person_id, (c ->> 'person')::uuid from handles h, jsonb_array_elements(h.candidates) c
    where not h.settled and h.candidates <> '[]' and h.person_id is not null
"""


def possible_duplicates(db: Db, people: Iterable[UUID] | None = None) -> Mapping[UUID, frozenset[UUID]]:
    """Other records that may be of the same human being, by person: those with the same name, and unidentified
    logins with each person they may belong to. For some people, or for all.
    """
    ids = None if people is None else list(people)
    statement = _PAIRS.format(of_first="" if ids is None else "and a.id = any(:ids)")
    found: dict[UUID, set[UUID]] = defaultdict(set)
    for first, second in db.execute(text(statement), {} if ids is None else {"ids": ids}):
        found[first].add(second)
        found[second].add(first)
    return {one: frozenset(others) for one, others in found.items() if ids is None or one in ids}
