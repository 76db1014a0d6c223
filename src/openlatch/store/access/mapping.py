"""Rows of the register as values for ``core``."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, time
from uuid import UUID

from sqlalchemy import select
from sqlalchemy.orm import Session as Db

from openlatch.core import register as core
from openlatch.core.time_windows import ALWAYS, WeeklyHours, Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing
from openlatch.json_values import JsonObject, SqlTuple
from openlatch.store.access.cache import Kept
from openlatch.store.lists.columns import among
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Level, Resource, ResourceGroup, ResourceInGroup, Term

_STANDINGS = {standing.value: standing for standing in Standing}
_STATES = {state.value: state for state in GrantState}
_KINDS = {kind.value: kind for kind in HolderKind}
_TEAM_OR_PERSON = {True: HolderKind.TEAM, False: HolderKind.PERSON}
# Levels by id and the version of their row: the same few are met again and again.
_levels: Kept[tuple[UUID, str], core.Level] = Kept(4_000)
# The columns, as statements select them, that the functions here take.
PERSON = "p.id, p.name, p.inside, p.standing, p.leaves_at, p.second_factor"
MEMBERSHIP = "m.id, m.team_id, m.person_id is null, m.member_id, m.since, m.until"
# What follows in the row is somebody else's.
GRANT_WITH_TERM = """
    g.id, g.account_id, g.holder_kind, g.holder_id, g.state, t.since, t.until, t.hours, t.resource_id, t.group_id,
    t.level_id, l.xmin::text || l.ctid::text
"""


def window_value(since: datetime | None, until: datetime | None) -> Window:
    """A window; the same object for all without an end."""
    return ALWAYS if since is None and until is None else Window(since, until)


def person_value(row: SqlTuple) -> core.Person:
    """A person from the columns ``PERSON``."""
    ident, name, inside, word, left, second = row
    return core.Person(ident, name, inside, _STANDINGS[word], left, second)


def membership_value(row: SqlTuple) -> core.Membership:
    """A membership from the columns ``MEMBERSHIP``."""
    ident, team, nested, member, since, until = row
    return core.Membership(ident, team, core.Holder(_TEAM_OR_PERSON[nested], member), window_value(since, until))


def kind_value(word: str) -> HolderKind:
    """The kind of holder for a word."""
    return _KINDS[word]


def grants_with_terms(db: Db, rows: Sequence[SqlTuple]) -> list[core.Grant]:
    """Grants from the columns ``GRANT_WITH_TERM``: one row for each term, rows of one grant together."""
    wanted = {(row[10], row[11]) for row in rows if row[10] is not None}
    levels = _levels.some(wanted)
    missing = wanted - levels.keys()
    if missing:
        stored = select(Level).where(Level.id.in_({ident for ident, _ in missing}))
        read = {row.id: level_value(row) for row in db.scalars(stored.execution_options(populate_existing=True))}
        fresh = {(ident, version): read[ident] for ident, version in missing}
        _levels.put(fresh)
        levels |= fresh
    parts = parts_of(db, {row[8] or row[9] for row in rows if row[8] or row[9]})
    found: list[core.Grant] = []
    last: UUID | None = None
    for row in rows:
        ident, account, kind, holder, state, since, until, hours, resource, group, level_id, version = row[:12]
        terms: tuple[core.Term, ...] = ()
        if level_id is not None:
            part = parts.get(resource or group) if parts else None
            terms = (core.Term(levels[level_id, version], window_value(since, until), hours_value(hours), part),)
        if ident == last:
            found[-1] = found[-1]._replace(terms=found[-1].terms + terms)
        else:
            found.append(core.Grant(ident, account, core.Holder(_KINDS[kind], holder), _STATES[state], terms))
        last = ident
    return found


def grant_value(row: AnyRow, terms: Sequence[core.Term]) -> core.Grant:
    """A grant's row, or the columns needed here, as a value."""
    holder = core.Holder(HolderKind(row.holder_kind), row.holder_id)
    return core.Grant(row.id, row.account_id, holder, GrantState(row.state), tuple(terms))


def terms_of(db: Db, grants: Sequence[UUID]) -> dict[UUID, list[core.Term]]:
    """The terms of grants, by grant."""
    if not grants:
        return {}
    found: dict[UUID, list[core.Term]] = {}
    rows = db.execute(
        select(Term.grant_id, Term.since, Term.until, Term.hours, Term.resource_id, Term.group_id, Term.level_id)
        .where(among(Term.grant_id, grants))
        .order_by(Term.id)
    ).all()
    parts = parts_of(db, {ident for row in rows if (ident := row.resource_id or row.group_id)})
    wanted = select(Level).where(Level.id.in_({row.level_id for row in rows}))
    levels = {level.id: level_value(level) for level in db.scalars(wanted)}
    for grant, since, until, hours, resource, group, level in rows:
        place = resource or group
        part = parts.get(place) if place else None
        term = core.Term(levels[level], Window(since, until), hours_value(hours), part)
        found.setdefault(grant, []).append(term)
    return found


def parts_of(db: Db, ids: Iterable[UUID | None]) -> dict[UUID, core.Part]:
    """Resources and groups by their ids, each with its resources."""
    wanted = [i for i in ids if i is not None]
    if not wanted:
        return {}
    single = db.execute(select(Resource.id, Resource.name).where(Resource.id.in_(wanted)))
    found = {i: core.Part(i, name, frozenset({i})) for i, name in single}
    groups = db.execute(
        select(ResourceGroup.id, ResourceGroup.name, ResourceInGroup.resource_id)
        .outerjoin(ResourceInGroup, ResourceInGroup.group_id == ResourceGroup.id)
        .where(ResourceGroup.id.in_(wanted))
    )
    for ident, name, resource in groups:
        held = found[ident].resources if ident in found else frozenset()
        found[ident] = core.Part(ident, name, held | ({resource} if resource else frozenset()))
    return found


def level_value(row: Level) -> core.Level:
    """A level's row as a value."""
    held = frozenset(core.Permission(p["key"], p["sentence"], Reach.from_word(p["reach"])) for p in row.permissions)
    return core.Level(row.id, row.name, row.sentence, held)


def hours_value(stored: JsonObject | None) -> WeeklyHours | None:
    """Stored weekly hours as a value."""
    if stored is None:
        return None
    begins, ends = time.fromisoformat(stored["begins"]), time.fromisoformat(stored["ends"])
    return WeeklyHours(frozenset(stored["days"]), begins, ends)
