"""Selecting the items of a review: what a scope matches, with the facts about each at that moment.

Everything runs in the transaction that opens the round: ids go into a temporary table, and each kind of fact is queried
once for all of them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import NamedTuple
from uuid import UUID

from sqlalchemy import Select, Subquery, Uuid, and_, column, func, insert, literal, select, table, text
from sqlalchemy import Text as SqlText
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session as Db

from openlatch.core.access import paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import FlagState, HolderKind, ItemState, Standing, Subject
from openlatch.json_values import JsonObject
from openlatch.store.access import subgraph
from openlatch.store.database import driver_of
from openlatch.store.lists import register as register_lists
from openlatch.store.lists.reviews import SCOPES
from openlatch.store.tables import (
    Account,
    App,
    Flag,
    Grant,
    Item,
    Level,
    Person,
    Round,
    System,
    Team,
    Term,
    Use,
)

chosen = table("chosen", column("kind", SqlText()), column("id", Uuid()))
ACCOUNTS_AT_ONCE = 500
ROWS_AT_ONCE = 2_000


@dataclass(frozen=True, slots=True)
class Population:
    """How the items of one kind were selected: how many live ones there were, how many matched, how many were
    ``urgent``.
    """

    kind: Subject
    live: int
    matched: int
    urgent: int

    @property
    def stored(self) -> JsonObject:
        """As it is stored: the counts add up to the items."""
        return {
            "kind": self.kind.value,
            "live": self.live,
            "matched": self.matched,
            "not_matched": self.live - self.matched,
            "urgent": self.urgent,
            "items": self.matched + self.urgent,
        }


def choose(db: Db, organisation: UUID, scopes: Mapping[Subject, str], extra: Iterable[UUID] = ()) -> list[Population]:
    """Put the ids of what is to be reviewed into the table ``chosen``; returns the counts.

    Emergency grants are included whatever the scope, and so are the grants in ``extra``.
    """
    db.execute(text("drop table if exists chosen"))
    db.execute(text("create temporary table chosen (kind text, id uuid, primary key (kind, id)) on commit drop"))
    found = []
    for kind, scope in scopes.items():
        place = SCOPES[kind]
        mine = place.listing.of(organisation)
        ids = place.listing.matching(scope, [mine, place.live])
        matched = _take(db, kind, ids)
        ident = place.listing.columns["id"].expression
        live = db.scalar(select(func.count(ident)).where(mine, place.live))
        found.append(Population(kind, live or 0, matched, 0))
    named = list(extra)
    urgent = select(Grant.id).where(
        Grant.organisation_id == organisation,
        (and_(Grant.state.in_(register_lists.LIVE), Grant.for_review)) | Grant.id.in_(named),
        Grant.id.not_in(select(chosen.c.id)),
    )
    for kind in (Subject.GRANT, Subject.LINK):
        is_app = Grant.app_id.is_not(None) if kind is Subject.LINK else Grant.app_id.is_(None)
        taken = _take(db, kind, urgent.where(is_app))
        if taken:
            held = next((p for p in found if p.kind is kind), Population(kind, 0, 0, 0))
            found = [p for p in found if p.kind is not kind]
            found.append(Population(kind, held.live, held.matched, taken))
    db.execute(text("analyze chosen"))
    return found


def _take(db: Db, kind: Subject, ids: Select[UUID]) -> int:
    """Add ids to the chosen ones; returns how many."""
    before = select(func.count()).select_from(chosen)
    had = db.scalar(before) or 0
    rows = ids.subquery()
    db.execute(insert(chosen).from_select(["kind", "id"], select(literal(kind.value), rows.c.id)))
    return (db.scalar(before) or 0) - had


class GrantRow(NamedTuple):
    """A grant or link with its frozen facts. A named tuple, since there can be tens of thousands."""

    kind: str
    id: UUID
    state: str
    account_id: UUID
    account: str
    sensitivity: int
    account_kind: str
    owner_id: UUID | None
    system_id: UUID
    system: str
    holder_kind: str
    holder_id: UUID
    holder: str
    inside: bool
    standing: str | None
    job: str | None
    levels: list[UUID]
    level: str | None
    sentence: str | None
    reach: int | None
    part: str | None
    since: datetime | None
    until: datetime | None
    given_at: datetime
    giver_id: UUID | None
    giver: str | None
    reason: str
    last_used_at: datetime | None
    recorded: bool
    emergency: bool
    worst: int
    severity: int
    flagged: int


def _flag_counts() -> Subquery:
    return (
        select(
            Flag.subject_id,
            func.max(Flag.score).label("score"),
            func.max(Flag.severity).label("severity"),
            func.count().label("count"),
        )
        .join(chosen, chosen.c.id == Flag.subject_id)
        .where(Flag.state == FlagState.OPEN)
        .group_by(Flag.subject_id)
        .subquery()
    )


def grant_rows(db: Db) -> Iterator[list[GrantRow]]:
    """The chosen grants and links, the worst flagged first, in batches of thousands."""
    term = (
        select(Term.grant_id, func.array_agg(Term.level_id).label("levels"), *register_lists.TERM_COLUMNS)
        .select_from(register_lists.TERM_SOURCE.join(chosen, chosen.c.id == Term.grant_id))
        .group_by(Term.grant_id)
        .subquery()
    )
    flags = _flag_counts()
    worst = func.coalesce(flags.c.score, -1)
    statement = (
        select(
            chosen.c.kind,
            Grant.id,
            Grant.state,
            Account.id,
            Account.name,
            Account.sensitivity,
            Account.kind,
            Account.owner_id,
            System.id,
            System.name,
            Grant.holder_kind,
            Grant.holder_id,
            register_lists.holder_name,
            register_lists.holder_inside,
            Person.standing,
            Person.job,
            func.coalesce(term.c.levels, []),
            term.c.level,
            term.c.sentence,
            term.c.reach,
            term.c.part,
            term.c.since,
            term.c.until,
            Grant.given_at,
            register_lists.giver.id,
            register_lists.giver.name,
            Grant.reason,
            Grant.last_used_at,
            Grant.recorded,
            Grant.emergency,
            worst,
            func.coalesce(flags.c.severity, 0),
            func.coalesce(flags.c.count, 0),
        )
        .select_from(chosen)
        .join(Grant, Grant.id == chosen.c.id)
        .join(Account, Account.id == Grant.account_id)
        .join(System, System.id == Account.system_id)
        .outerjoin(term, term.c.grant_id == Grant.id)
        .outerjoin(flags, flags.c.subject_id == Grant.id)
        .outerjoin(Person, Person.id == Grant.person_id)
        .outerjoin(Team, Team.id == Grant.team_id)
        .outerjoin(App, App.id == Grant.app_id)
        .outerjoin(register_lists.holder_account, register_lists.holder_account.id == Grant.holder_account_id)
        .outerjoin(register_lists.giver, register_lists.giver.id == Grant.given_by_id)
        .where(chosen.c.kind.in_((Subject.GRANT.value, Subject.LINK.value)))
        .order_by(worst.desc(), Account.name, register_lists.holder_name, Grant.id)
    )
    for rows in db.execute(statement).partitions(ROWS_AT_ONCE):
        yield [GrantRow._make(row) for row in rows]


def other_rows(db: Db, kind: Subject) -> list[JsonObject]:
    """The chosen ones of another kind, as their lists show them."""
    listing = SCOPES[kind].listing
    ident = listing.columns["id"].expression
    wanted = ident.in_(select(chosen.c.id).where(chosen.c.kind == kind.value))
    return listing.all(db, "", [wanted])


@dataclass(slots=True)
class Ways:
    """Other paths to where a grant leads, and who gets in by it."""

    others: list[str] = field(default_factory=list)
    people: dict[UUID, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Known:
    """Facts about the chosen ones besides their own rows, each by the id that it concerns."""

    flags: dict[UUID, list[JsonObject]]
    decided: dict[tuple[str, UUID], JsonObject]
    uses: dict[UUID, dict[str, tuple[date, int]]]
    observed: dict[UUID, date]
    jobs: dict[str, int]
    peers: dict[tuple[UUID, str], int]
    levels: dict[UUID, Level]
    ways: dict[UUID, Ways]


def known(db: Db, now: datetime) -> Known:
    """All facts about the chosen ones."""
    return Known(_flags(db), _decided(db), _uses(db), _observed(db), _jobs(db), _peers(db), _levels(db), _ways(db, now))


def _flags(db: Db) -> dict[UUID, list[JsonObject]]:
    found: dict[UUID, list[JsonObject]] = defaultdict(list)
    rows = db.execute(
        select(Flag.subject_id, Flag.rule, Flag.severity, Flag.score, Flag.sentence)
        .where(Flag.state == FlagState.OPEN, Flag.subject_id.in_(select(chosen.c.id)))
        .order_by(Flag.score.desc(), Flag.rule)
    )
    for subject, rule, severity, score, sentence in rows:
        found[subject].append({"rule": rule, "severity": severity, "score": score, "sentence": sentence})
    return found


def _decided(db: Db) -> dict[tuple[str, UUID], JsonObject]:
    """The last decisions about them, by whom and why; by kind, since an account can be several of them."""
    rows = db.execute(
        select(
            Item.kind, Item.subject_id, Item.verdict, Item.reason, Item.fate, Person.name, Item.decided_at, Round.name
        )
        .join(chosen, and_(chosen.c.id == Item.subject_id, chosen.c.kind == Item.kind))
        .join(Round, Round.id == Item.round_id)
        .outerjoin(Person, Person.id == Item.decided_by_id)
        .where(Item.state == ItemState.DECIDED, Round.closed_at.is_not(None))
        .order_by(Item.kind, Item.subject_id, Item.decided_at.desc())
        .ext(distinct_on(Item.kind, Item.subject_id))
    )
    return {
        (kind, subject): {"verdict": verdict, "reason": reason, "fate": fate, "by": by, "at": at, "round": name}
        for kind, subject, verdict, reason, fate, by, at, name in rows
    }


def _uses(db: Db) -> dict[UUID, dict[str, tuple[date, int]]]:
    found: dict[UUID, dict[str, tuple[date, int]]] = defaultdict(dict)
    spans = func.unnest(Use.days).column_valued("span")
    days = select(func.sum(func.upper(spans) - func.lower(spans))).scalar_subquery()
    rows = db.execute(
        select(Use.grant_id, Use.permission, func.upper(Use.days) - 1, days)
        .join(chosen, chosen.c.id == Use.grant_id)
        .where(Use.permission != "")
    )
    for grant, permission, last, count in rows:
        found[grant][permission] = (last, count)
    return found


def _observed(db: Db) -> dict[UUID, date]:
    """Since when use has been watched, by system."""
    rows = db.execute(
        select(Account.system_id, func.min(func.lower(Use.days)))
        .join(Grant, Grant.id == Use.grant_id)
        .join(Account, Account.id == Grant.account_id)
        .where(Use.permission != "")
        .group_by(Account.system_id)
    )
    return dict(rows.all())


def _jobs(db: Db) -> dict[str, int]:
    rows = db.execute(
        select(Person.job, func.count())
        .where(Person.standing == Standing.CURRENT, Person.job != "")
        .group_by(Person.job)
    )
    return dict(rows.all())


def _peers(db: Db) -> dict[tuple[UUID, str], int]:
    """How many people with a job hold something on an account, by account and job."""
    accounts = select(Grant.account_id).join(chosen, chosen.c.id == Grant.id).distinct()
    rows = db.execute(
        select(Grant.account_id, Person.job, func.count(func.distinct(Person.id)))
        .join(Person, Person.id == Grant.person_id)
        .where(
            Grant.account_id.in_(accounts),
            Grant.state.in_(register_lists.LIVE),
            Person.job != "",
            Person.standing == Standing.CURRENT,
        )
        .group_by(Grant.account_id, Person.job)
    )
    return {(account, job): count for account, job, count in rows}


def _levels(db: Db) -> dict[UUID, Level]:
    systems = db.scalars(
        select(Account.system_id)
        .join(Grant, Grant.account_id == Account.id)
        .join(chosen, chosen.c.id == Grant.id)
        .distinct()
    ).all()
    return {row.id: row for row in db.scalars(select(Level).where(Level.system_id.in_(systems)))}


def _ways(db: Db, now: datetime) -> dict[UUID, Ways]:
    """For every chosen grant: the holder's other paths into the account, and the people that it lets in.

    Most holders have no second path. So who gets in by teams and accounts is found first, and paths are followed only
    for those who also hold something themselves.
    """
    found: dict[UUID, Ways] = {}
    rows = db.execute(
        select(Grant.account_id, Grant.id, Grant.holder_kind, Grant.holder_id)
        .join(chosen, chosen.c.id == Grant.id)
        .order_by(Grant.account_id)
    ).all()
    by_account: dict[UUID, list[tuple[UUID, Holder]]] = defaultdict(list)
    for account, grant, kind, holder in rows:
        by_account[account].append((grant, Holder(HolderKind(kind), holder)))
    accounts = list(by_account)
    for start in range(0, len(accounts), ACCOUNTS_AT_ONCE):
        some = {account: by_account[account] for account in accounts[start : start + ACCOUNTS_AT_ONCE]}
        _note_ways(db, found, some, now)
    return found


_THEMSELVES = (HolderKind.PERSON, HolderKind.APP)


def _note_ways(
    db: Db, found: dict[UUID, Ways], some: Mapping[UUID, Sequence[tuple[UUID, Holder]]], now: datetime
) -> None:
    register = subgraph.indirect(db, list(some))
    crowds: dict[Holder, tuple[frozenset[Holder], dict[UUID, str]]] = {}
    twice: dict[UUID, set[Holder]] = defaultdict(set)
    for account, grants in some.items():
        owner = register.accounts[account].owner
        inside: set[Holder] = {Holder(HolderKind.PERSON, owner)} if owner else set()
        for grant in register.by_account.get(account, ()):
            known = crowds.get(grant.holder)
            if known is None:
                crowd = paths.behind(register, grant.holder, now)
                people = {h.id: register.people[h.id].name for h in crowd if h.kind is HolderKind.PERSON}
                known = crowds[grant.holder] = crowd, people
            inside |= known[0]
            found[grant.id] = Ways([], known[1])
        for _, holder in grants:
            if holder in inside:
                twice[account].add(holder)
            # Met a second time, the same holder is met twice.
            inside.add(holder)
    named = {g: (account, h) for account, held in twice.items() for g, h in some[account] if h in held}
    whole = subgraph.with_grants(db, register, [g for g, (_, h) in named.items() if h.kind in _THEMSELVES])
    reached = {account: paths.paths_into(whole, holders, account, now) for account, holders in twice.items()}
    for grant_id, (account, holder) in named.items():
        others = [p.words for p in reached[account][holder] if grant_id not in p.grants]
        found.setdefault(grant_id, Ways()).others = list(dict.fromkeys(others))


# What an item is written as, each with its type: they go over in binary.
_COLUMNS = {
    "id": "uuid",
    "organisation_id": "uuid",
    "round_id": "uuid",
    "position": "int4",
    "kind": "text",
    "subject_id": "uuid",
    "grant_id": "uuid",
    "account_id": "uuid",
    "account": "text",
    "holder": "text",
    "level": "text",
    "reach": "int2",
    "recommended": "text",
    "flagged": "int2",
    "severity": "int2",
    "reviewer_id": "uuid",
    "reviewer_team_id": "uuid",
    "assigned_as": "text",
    "by_default": "bool",
    "needs_second": "bool",
    "second_id": "uuid",
    "facts": "text",
}


def write(db: Db, batches: Iterable[Sequence[tuple[object, ...]]]) -> int:
    """Write items, each a tuple of ``_COLUMNS``; returns how many.

    Row-level security allows no COPY into the table itself, so they go through a temporary one, in batches, since no
    query can run during a COPY.
    """
    raw = driver_of(db)
    names = ", ".join(_COLUMNS)
    raw.execute("drop table if exists frozen")
    raw.execute(f"create temporary table frozen on commit drop as select {names} from items limit 0")  # noqa: S608
    raw.execute("alter table frozen alter column facts type text")
    said = ", ".join("facts::jsonb" if name == "facts" else name for name in _COLUMNS)
    count = 0
    for rows in batches:
        with raw.cursor() as cursor, cursor.copy(f"copy frozen ({names}) from stdin (format binary)") as copy:
            copy.set_types(list(_COLUMNS.values()))
            for row in rows:
                copy.write_row(row)
        raw.execute(f"insert into items ({names}) select {said} from frozen")  # noqa: S608  constants
        raw.execute("truncate frozen")
        count += len(rows)
    return count


def current_rows(db: Db, kind: Subject, ids: Sequence[UUID]) -> dict[UUID, JsonObject]:
    """The present rows of some subjects, by their ids."""
    listing = SCOPES[kind].listing
    rows = listing.all(db, "", [listing.columns["id"].expression.in_(ids)])
    return {row["id"]: row for row in rows}
