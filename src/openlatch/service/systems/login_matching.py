"""Matching a system's logins to people, and asking somebody where that is uncertain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from uuid import UUID

from sqlalchemy import func, insert, select, text, update

from openlatch import schemas
from openlatch.core.ids import new_id
from openlatch.core.people import login_matching as core
from openlatch.core.people.login_matching import Candidate, MarkKind
from openlatch.core.vocabulary import EndedAs, GrantState
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.latches import guard
from openlatch.service.unit import Unit
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import App, Grant, Handle, Person, Session, System

_NEW = """
    select distinct on (r.handle) r.* from reading_logins r
    where not exists (select from handles h where h.system_id = :system and h.name = r.handle)
    order by r.handle, r.n
"""
_FOLLOW = """
    update handles h set marks = r.marks, locked = r.locked, hangs = r.hangs from reading_logins r
    where h.system_id = :system and h.name = r.handle
        and (h.marks, h.locked, h.hangs) is distinct from (r.marks, r.locked, r.hangs)
"""
# A login dropped and made again under the same name counts as somebody else's until a person decides.
_MADE_ANEW = """
    update handles h set name = h.name || ' (until ' || to_char(:now at time zone 'utc', 'YYYY-MM-DD HH24:MI:SS') || ')'
    from reading_logins r where h.system_id = :system and h.name = r.handle
        and h.marks ->> 'identity' <> r.marks ->> 'identity'
    returning r.handle, h.person_id
"""
# Logins not yet matched to a person: the register may know them by now.
_UNNAMED = """
    select h.id, r.handle, r.comment, r.is_app, r.marks, h.candidates from handles h
    join people p on p.id = h.person_id and not p.recognised join reading_logins r on r.handle = h.name
    where h.system_id = :system and not h.settled and not r.is_app
        and (h.candidates <> '[]' or exists (select from bearers b where b.login = r.handle))
        and not exists (
            select from handles o where o.system_id = h.system_id and starts_with(o.name, h.name || ' (until '))
    order by h.name
"""
# People in the register with a mark that the reading reports for a login.
_BEARERS = """
    create temporary table bearers on commit drop as
    with told as (select handle, comment, marks from reading_logins where not is_app)
    select t.handle as login, 'address' as kind, lower(trim(t.marks ->> 'address')) as value, p.id as person
    from told t join people p on lower(p.address) = any (string_to_array(lower(trim(t.marks ->> 'address')), ' '))
    where p.recognised
    union all
    select t.handle, 'name', lower(p.name), p.id
    from told t join people p on lower(p.name) = lower(trim(t.comment)) where p.recognised
    union all
    select t.handle, k.kind, k.value, p.id from told t cross join lateral jsonb_each_text(t.marks) m
    join marks k on k.kind = m.key and k.value = trim(m.value) join people p on p.id = k.person_id and p.recognised
"""


def meet(unit: Unit, system: System) -> None:
    """Store the logins of a reading (the table ``reading_logins``), matched to people by the system's matching
    rules.
    """
    named = {"system": system.id}
    renewed = unit.db.execute(text(_MADE_ANEW), {**named, "now": unit.now})
    anew: dict[str, UUID | None] = {row.handle: row.person_id for row in renewed}
    unit.db.execute(text(_FOLLOW), named)
    unit.db.execute(text(_BEARERS))
    unit.db.execute(text("create index on bearers (login)"))
    unit.db.execute(text("analyze bearers"))
    unnamed = unit.db.execute(text(_UNNAMED), named).all()
    new = unit.db.execute(text(_NEW), named).all()
    if not new and not unnamed:
        return
    rules = core.rules_of(system.matching)
    bearers: dict[tuple[MarkKind, str], list[UUID]] = {}
    for kind, value, person in unit.db.execute(
        text("select distinct kind, value, person from bearers order by person")
    ):
        bearers.setdefault((MarkKind(kind), value), []).append(person)
    for row in unnamed:
        found = core.match(_marks(row), rules, bearers)
        if found.person is not None or _kept(found.candidates) != row.candidates:
            _name_again(unit, system, unit.db.get_one(Handle, row.id), found)
    met = _Met(unit, system, _taken(unit, [row.comment or row.handle for row in new]))
    for row in new:
        found = core.Match(None) if row.is_app else core.match(_marks(row), rules, bearers)
        if row.handle in anew:
            found = _perhaps(anew[row.handle])
            unit.record("login.made_anew", "system", system.id, system.name, login=row.handle)
        met.meet(row, found)
    met.write()


def _marks(row: AnyRow) -> dict[MarkKind, str]:
    """What a system says about a login, including its name."""
    told = {MarkKind(kind): str(value) for kind, value in row.marks.items() if kind in set(MarkKind)}
    return {**told, MarkKind.NAME: row.comment}


def _taken(unit: Unit, names: Sequence[str]) -> set[str]:
    taken = text("select name from people where name = any(:names)")
    return set(unit.db.scalars(taken, {"names": list(names)}))


@dataclass(slots=True)
class _Met:
    """The logins of a reading that are new, with the people and apps who are new by them: written in few statements."""

    unit: Unit
    system: System
    taken: set[str]
    people: list[JsonObject] = field(default_factory=list)
    apps: list[JsonObject] = field(default_factory=list)
    handles: list[JsonObject] = field(default_factory=list)

    def meet(self, row: AnyRow, found: core.Match) -> None:
        """Add somebody who is new, or match them to a known person."""
        unit, base = self.unit, {"organisation_id": self.unit.viewer.organisation}
        handle = {**base, "id": new_id(), "system_id": self.system.id, "name": row.handle, "marks": row.marks}
        handle |= {"locked": row.locked, "hangs": row.hangs, "person_id": None, "app_id": None, "candidates": []}
        if found.person is not None:
            handle["person_id"] = found.person.person
            _record_match(unit, self.system, row.handle, found.person)
        elif row.is_app:
            handle["app_id"] = new_id()
            name, purpose = row.comment or row.handle, f"Met in {self.system.name}."
            self.apps.append({**base, "id": handle["app_id"], "name": name, "purpose": purpose})
            unit.record("app.found", "app", handle["app_id"], row.handle)
        else:
            name = row.comment or row.handle
            if name in self.taken and name != row.handle:
                # Kept apart from a person of that name until somebody confirms that they are the same.
                name = f"{name} ({row.handle})"
            self.taken.add(name)
            handle |= {"person_id": new_id(), "candidates": _kept(found.candidates)}
            new = {"id": handle["person_id"], "name": name, "inside": False, "recognised": False}
            self.people.append(base | new)
            unit.record("person.found", "person", handle["person_id"], row.handle)
        self.handles.append(handle)

    def write(self) -> None:
        """Write all of them: people and apps first, since logins refer to them."""
        for table, rows in ((Person, self.people), (App, self.apps), (Handle, self.handles)):
            if rows:
                self.unit.db.execute(insert(table), rows)
        self.unit.db.flush()


def _perhaps(person: UUID | None) -> core.Match:
    """Not certain; perhaps the person whose login of that name it was."""
    return core.Match(None, (Candidate(person, MarkKind.UID),) if person else ())


def _kept(candidates: Sequence[Candidate]) -> list[dict[str, str]]:
    return [{"person": str(one.person), "by": one.by.value} for one in candidates]


def _name_again(unit: Unit, system: System, handle: Handle, found: core.Match) -> None:
    """Match somebody found before, whom the register can identify now, or has other candidates for."""
    if found.person is not None:
        _take_over(unit, handle, found.person.person)
        handle.candidates = []
        _record_match(unit, system, handle.name, found.person)
    else:
        handle.candidates = _kept(found.candidates)


def _record_match(unit: Unit, system: System, login: str, found: Candidate) -> None:
    name = unit.db.get_one(Person, found.person).name
    unit.record("person.matched", "person", found.person, name, system=system.name, by=found.by.value, login=login)


def _take_over(unit: Unit, handle: Handle, person: UUID) -> None:
    """Everything found under a login belongs to this person from now on."""
    before = handle.person_id
    grants = unit.db.scalars(
        select(Grant).where(Grant.holder_id == before, Grant.state != GrantState.ENDED).with_for_update()
    ).all()
    for grant in grants:
        beside = select(Grant.id).where(
            Grant.account_id == grant.account_id, Grant.holder_id == person, Grant.state != GrantState.ENDED
        )
        if unit.db.scalars(beside).first() is not None:
            # They hold it already: merge the two, keeping the register's.
            grant.state, grant.ended_as, grant.ended_at = GrantState.ENDED, EndedAs.REPLACED, unit.now
            unit.record("grant.replaced", "grant", grant.id, handle.name, grant.account_id, person=str(person))
        else:
            grant.person_id = person
        grant.version += 1
    unit.db.execute(update(Session).where(Session.holder_id == before).values(person_id=person))
    handle.person_id = person
    unit.db.flush()
    evaluate_flags.evaluate(unit, grants=[grant.id for grant in grants], people=[person])


def set_rules(unit: Unit, ident: UUID, rules: Sequence[Sequence[object]]) -> None:
    """Set by which marks the people of a system are matched, in this order. BadInput for an unknown mark."""
    unit.sight.require_administrator()
    system = unit.db.get(System, ident, with_for_update=True)
    if system is None:
        raise NotFound("There is no such system.")
    core.rules_of(rules)
    system.matching = [[str(by), bool(sure)] for by, sure in rules]
    unit.record("system.matching_set", "system", system.id, system.name, matching=system.matching)


def doubts(unit: Unit, system: UUID | None = None) -> list[schemas.Doubt]:
    """Logins that may be somebody's, each with the candidates, for a person to decide."""
    unit.sight.require_administrator()
    wanted = (
        select(Handle, System, Person)
        .join(System, System.id == Handle.system_id)
        .join(Person, Person.id == Handle.person_id)
        .where(Handle.candidates != [], ~Handle.settled)
        .order_by(System.name, Handle.name)
        .limit(500)
    )
    rows = unit.db.execute(wanted if system is None else wanted.where(System.id == system)).all()
    ids = {UUID(one["person"]) for handle, _, _ in rows for one in handle.candidates}
    named = {person.id: person for person in unit.db.scalars(select(Person).where(Person.id.in_(ids)))}
    counted = dict(
        unit.db.execute(
            select(Grant.person_id, func.count(Grant.id))
            .where(Grant.holder_id.in_([p.id for _, _, p in rows]), Grant.state != GrantState.ENDED)
            .group_by(Grant.person_id)
        ).all()
    )
    return [
        schemas.Doubt(
            id=handle.id,
            login=handle.name,
            called=met.name,
            system=schemas.Named(id=of.id, name=of.name),
            marks=handle.marks,
            locked=handle.locked,
            grants=counted.get(met.id, 0),
            candidates=[
                _candidate(named[UUID(one["person"])], one["by"])
                for one in handle.candidates
                if UUID(one["person"]) in named
            ],
        )
        for handle, of, met in rows
    ]


def _candidate(person: Person, by: str) -> schemas.Candidate:
    return schemas.Candidate(id=person.id, name=person.name, address=person.address, job=person.job, by=by)


def decide(unit: Unit, ident: UUID, person: UUID | None) -> None:
    """Decide whose a login is: a person of the register, or nobody known. Conflict when that was decided already."""
    unit.sight.require_administrator()
    locks.access(unit)
    handle = unit.db.get(Handle, ident, with_for_update=True)
    if handle is None:
        raise NotFound("There is no such login.")
    if handle.app_id is not None:
        raise BadInput("The login is an app's.", "Only people's logins can be matched.")
    met = unit.db.get_one(Person, handle.person_id)
    if met.recognised or handle.settled:
        raise Conflict(f"{handle.name} is {met.name}; that was said already.", "Look at the list again.")
    system = unit.db.get_one(System, handle.system_id)
    handle.settled, handle.candidates = True, []
    if person is None:
        unit.record("person.told_apart", "person", met.id, met.name, system=system.name, login=handle.name)
        return
    known = unit.db.get(Person, person)
    if known is None or not known.recognised:
        raise BadInput("There is no such person in the register.", "Choose another.", {"person": "unknown"})
    held = select(Grant.account_id).where(Grant.holder_id == met.id, Grant.state != GrantState.ENDED)
    # Whose a login is, is a fact: broken latches are flagged, not refused.
    with guard.guarded(unit, guard.touched(unit, unit.db.scalars(held).all()), refuses=False):
        _take_over(unit, handle, known.id)
    unit.record("person.matched", "person", known.id, known.name, system=system.name, by="asked", login=handle.name)
