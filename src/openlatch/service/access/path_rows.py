"""Paths as rows of an answer, with details of their grants."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.access import paths
from openlatch.core.offers import wording
from openlatch.core.register import UTC_ZONE, Register
from openlatch.core.time_windows import last_day
from openlatch.service.unit import Unit
from openlatch.store.lists import register as register_lists
from openlatch.store.lists.columns import among
from openlatch.store.tables import Grant, Person


class GrantOnPath(NamedTuple):
    """What a path shows of its last grant."""

    id: UUID
    last_used_at: datetime | None
    given_at: datetime | None
    state: str
    owed: str | None
    recorded: bool
    given_by: str | None
    recorded_by: str | None


def grants_on(unit: Unit, ids: Iterable[UUID]) -> dict[UUID, GrantOnPath]:
    """Details of the grants of paths: who gave them, when they were used, their state."""
    wanted = list(dict.fromkeys(ids))
    if not wanted:
        return {}
    rows = unit.db.execute(
        select(
            Grant.id,
            Grant.last_used_at,
            Grant.given_at,
            Grant.state,
            Grant.owed,
            Grant.recorded,
            Person.name.label("given_by"),
            register_lists.recorder.name.label("recorded_by"),
        )
        .outerjoin(Person, Person.id == Grant.given_by_id)
        .outerjoin(register_lists.recorder, register_lists.recorder.id == Grant.recorded_by_id)
        .where(among(Grant.id, wanted))
    )
    return {row.id: GrantOnPath._make(row) for row in rows}


def path_row(
    unit: Unit, register: Register, path: paths.Path, grants: dict[UUID, GrantOnPath], asked_at: datetime | None = None
) -> schemas.Path:
    """A path as a row of an answer, now or at the instant asked about."""
    at = asked_at or unit.now
    last = grants.get(path.grants[-1]) if path.grants else None
    account = register.accounts.get(path.account)
    person = register.people.get(path.holder.id)
    return schemas.Path(
        holder=schemas.Holder(
            kind=path.holder.kind,
            id=path.holder.id,
            name=register.name_of(path.holder),
            inside=person.inside if person else True,
        ),
        account=schemas.Named(id=path.account, name=account.name if account else ""),
        owns=path.level is None,
        level="Owner" if path.level is None else path.level.name,
        sentence="Decides about the account itself." if path.level is None else path.level.sentence,
        reach=int(path.reach),
        since=path.window.since,
        until=path.window.until,
        last_day=last_day(path.window.until, account.zone if account else UTC_ZONE),
        open_now=paths.open_now(register, path, at),
        revoking=path.revoking,
        left=person is not None and person.is_gone(at),
        words=path.words,
        hops=[
            schemas.Hop(
                kind=hop.kind,
                holder=schemas.Holder(kind=hop.holder.kind, id=hop.holder.id, name=register.name_of(hop.holder)),
                words=hop.words,
                grant_id=hop.grant,
            )
            for hop in path.hops
        ],
        grant_id=path.grants[-1] if path.grants else None,
        given_by=last.given_by if last else None,
        recorded_by=last.recorded_by if last else None,
        given_at=last.given_at if last else None,
        last_used_at=last.last_used_at if last else None,
        recorded=last.recorded if last else True,
        owed=last.owed if last else None,
        part=path.part.name if path.part else None,
        hours="; ".join(wording.hours_in_words(hours) for hours in path.hours),
    )
