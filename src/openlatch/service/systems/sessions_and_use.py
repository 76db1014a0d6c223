"""Storing sessions and use from a reading."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from uuid import UUID

from sqlalchemy import select, text
from sqlalchemy.dialects.postgresql import insert

from openlatch.core.ids import new_id
from openlatch.core.vocabulary import Proof
from openlatch.service.grants import usage
from openlatch.service.revocations import confirm
from openlatch.service.systems.staging import batches
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import not_among
from openlatch.store.tables import Account, Session, System

# A login has one session for everything it holds, counted where it reaches furthest.
_PRESENT = """
    select distinct on (p.key) p.*, h.person_id, h.app_id, g.account_id
    from reading_presences p join handles h on h.system_id = :system and h.name = p.login
    join grants g on g.holder_id = coalesce(h.person_id, h.app_id) and g.state in ('active', 'suspended', 'revoking')
    join accounts a on a.id = g.account_id and a.system_id = :system
    left join lateral (
        select max(l.reach) as reach from terms t join levels l on l.id = t.level_id where t.grant_id = g.id
    ) t on true
    order by p.key, t.reach desc nulls last, a.handle desc, p.n
"""
_USED = """
    select g.id, u.permission, u.day
    from reading_used u join accounts a on a.system_id = :system and u.account in ('', a.handle)
    join handles h on h.system_id = :system and h.name = u.holder
    join grants g on g.account_id = a.id and g.holder_id = coalesce(h.person_id, h.app_id)
        and g.state in ('active', 'suspended', 'revoking')
    order by g.id, u.day
"""
# When a grant was used last is only put off.
_USED_LATER = """
    update grants g set last_used_at = u.at
    from unnest(cast(:grants as uuid[]), cast(:ends as timestamptz[])) u(id, at)
    where g.id = u.id and (g.last_used_at is null or g.last_used_at < u.at)
"""


def follow(unit: Unit, system: System, begun: datetime) -> tuple[set[UUID], set[UUID]]:
    """Update sessions from a reading; those it does not show have ended.

    A session that had ended before the reading began, and is shown, is contradicted.
    """
    seen: set[UUID] = set()
    there: list[UUID] = []
    for rows in batches(unit.db, _PRESENT, {"system": system.id}):
        made = [
            {
                "id": new_id(),
                "organisation_id": system.organisation_id,
                "key": f"{system.key}:{row.key}",
                "account_id": row.account_id,
                "person_id": row.person_id,
                "app_id": row.app_id,
                "started_at": row.started_at,
                "device": row.device,
                "address": row.address,
                "last_seen_at": row.last_seen_at,
                "handle": {**row.handle, "login": row.login},
            }
            for row in rows
        ]
        statement = insert(Session)
        new = {name: statement.excluded[name] for name in ("device", "address", "last_seen_at", "handle")}
        upsert = statement.on_conflict_do_update(index_elements=["organisation_id", "key"], set_=new)
        for ident, ended_at in unit.db.execute(upsert.returning(Session.id, Session.ended_at), made):
            seen.add(ident)
            if ended_at is not None and ended_at < begun:
                there.append(ident)
    if there:
        confirm.contradict_sessions(unit, there, system.name)
    mine = select(Session).join(Account, Account.id == Session.account_id).where(Account.system_id == system.id)
    gone = mine.where(Session.ended_at.is_(None), Session.handle != {}, not_among(Session.id, seen))
    ended = unit.db.scalars(gone).all()
    for session in ended:
        session.ended_at, session.ended_as = unit.now, session.ended_as or "signed_out"
        session.proof, session.proved_at, session.proved_by = Proof.CONFIRMED, unit.now, system.name
        session.proof_words = "A reading does not show it any more."
        unit.record("session.ended", "session", session.id, session.device, session.account_id)
    return seen, {session.id for session in ended}


def keep_use(unit: Unit, system: System) -> set[UUID]:
    """Store days of use; returns the grants that were used."""
    used: set[UUID] = set()
    for rows in batches(unit.db, _USED, {"system": system.id}):
        last: dict[UUID, date] = {}
        for ident, _, day in rows:
            last[ident] = max(day, last.get(ident, day))
        ends = [min(datetime.combine(day, time(), UTC) + timedelta(days=1), unit.now) for day in last.values()]
        unit.db.execute(text(_USED_LATER), {"grants": list(last), "ends": ends})
        usage.keep(unit, [(ident, permission, day) for ident, permission, day in rows])
        used |= set(last)
    return used
