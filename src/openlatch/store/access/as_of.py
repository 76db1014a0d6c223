"""The register as it was at one instant, as it was known at another.

Rows change when they are recorded, and the database keeps their earlier versions (``Version``). What a row says about
time itself (a window, when it was given or ended, when somebody left) is taken as known at the later of the two
instants, so corrections count. Rows recorded later count for earlier times only as far as they say so: a grant from
when it was given, a term or membership from its start.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import TextClause, text
from sqlalchemy.orm import Session as Db

from openlatch.core import register as core
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing
from openlatch.json_values import JsonList, JsonView
from openlatch.store.access.mapping import hours_value
from openlatch.store.archive import Archive, Versions, versions_since
from openlatch.store.sql_types import AnyRow

# Whoever was ever behind the holders named, also by what only the archive has. Nothing here looks at time: that is for
# whoever reads what is found.
_EVER_BEHIND = text(
    """
    with recursive archived(team_id, kind, member_id) as (
        select * from unnest(cast(:teams as uuid[]), cast(:member_kinds as text[]), cast(:members as uuid[]))
    ), met(kind, id) as (
        select cast(k as text), i from unnest(cast(:kinds as text[]), cast(:ids as uuid[])) as start(k, i)
        union
        select next.kind, next.id from met cross join lateral (
            select holder_kind as kind, holder_id as id from grants where met.kind = 'account' and account_id = met.id
            union all
            select case when person_id is null then 'team' else 'person' end, member_id from memberships
            where met.kind = 'team' and team_id = met.id
            union all
            select case when row ->> 'person_id' is null then 'team' else 'person' end, (row ->> 'member_id')::uuid
            from versions where kind = 'memberships' and met.kind = 'team' and row ->> 'team_id' = met.id::text
            union all
            select archived.kind, member_id from archived where met.kind = 'team' and team_id = met.id
        ) next
    )
    select kind, id from met
    """
)
_EVER_OUTWARD = text(
    """
    with recursive archived(team_id, kind, member_id) as (
        select * from unnest(cast(:teams as uuid[]), cast(:member_kinds as text[]), cast(:members as uuid[]))
    ), archived_owners(owner_id, account_id) as (
        select * from unnest(cast(:owners as uuid[]), cast(:accounts as uuid[]))
    ), met(kind, id) as (
        select cast(k as text), i from unnest(cast(:kinds as text[]), cast(:ids as uuid[])) as start(k, i)
        union
        select next.kind, next.id from met cross join lateral (
            select 'team' as kind, team_id as id from memberships where member_id = met.id
            union all
            select 'team', (row ->> 'team_id')::uuid from versions
            where kind = 'memberships' and row ->> 'member_id' = met.id::text
            union all
            select 'account', account_id from grants where holder_id = met.id
            union all
            select 'account', id from accounts where met.kind = 'person' and owner_id = met.id
            union all
            select 'account', id from versions
            where met.kind = 'person' and kind = 'accounts' and row ->> 'owner_id' = met.id::text
            union all
            select 'team', team_id from archived where member_id = met.id
            union all
            select 'account', account_id from archived_owners where met.kind = 'person' and owner_id = met.id
        ) next
    )
    select kind, id from met
    """
)
_TABLES = (
    "people",
    "teams",
    "apps",
    "accounts",
    "levels",
    "grants",
    "memberships",
    "terms",
    "resources",
    "resource_groups",
    "resources_in_groups",
    "access_rules",
)


@dataclass(frozen=True, slots=True)
class Moment:
    """An instant in the world, and one of the record: what was known then about it."""

    at: datetime
    believed: datetime


@dataclass(frozen=True, slots=True)
class Past:
    """A row as it was at the instant, and as last known. ``late``: recorded only afterwards."""

    was: JsonView
    known: JsonView
    late: bool


def around_accounts(db: Db, archive: Archive, accounts: Sequence[UUID], moment: Moment) -> core.Register:
    """The part that ``access.everyone_reaching`` needs for these accounts, as it was.

    ArchiveDown when that is in the archive, which can't be read.
    """
    reader = _Reader.at(db, archive, moment)
    return reader.register(reader.ever(_EVER_BEHIND, ["account"] * len(accounts), accounts), by_holder=False)


def around_holder(db: Db, archive: Archive, holder: core.Holder, moment: Moment) -> core.Register:
    """The part that ``access.everything_reached`` needs for one holder, as it was. ArchiveDown like above."""
    reader = _Reader.at(db, archive, moment)
    return reader.register(reader.ever(_EVER_OUTWARD, [holder.kind.value], [holder.id]), by_holder=True)


def rules_of_account(db: Db, archive: Archive, account: UUID, moment: Moment) -> tuple[list[Row], list[Row]]:
    """The access rules of an account, and its resources, as rows as they were.

    Rules first seen later are left out: nobody knows whether they were there before. ArchiveDown like above.
    """
    reader = _Reader.at(db, archive, moment)
    rules, resources = (reader.rows_of_account(table, account) for table in ("access_rules", "resources"))
    return rules, [row for row in resources if row["archived_at"] is None]


Row = JsonView


class _Reader:
    """Reads rows as they were at a moment."""

    def __init__(self, db: Db, moment: Moment, archived: Versions) -> None:
        self.db, self.moment, self.archived = db, moment, archived

    @classmethod
    def at(cls, db: Db, archive: Archive, moment: Moment) -> _Reader:
        """With what the archive has of versions that were valid at the moment or later."""
        return cls(db, moment, versions_since(db, archive, min(moment.at, moment.believed)))

    def ever(self, walk: TextClause, kinds: list[str], ids: Sequence[UUID]) -> list[tuple[HolderKind, UUID]]:
        """Whom a walk over all times meets."""
        teams, member_kinds, members = self.archived.joined()
        owners, accounts = self.archived.owned()
        told = {"teams": teams, "member_kinds": member_kinds, "members": members, "owners": owners}
        met = self.db.execute(walk, {"kinds": kinds, "ids": list(ids), "accounts": accounts, **told})
        return [(HolderKind(kind), ident) for kind, ident in met]

    def register(self, met: Iterable[tuple[HolderKind, UUID]], by_holder: bool) -> core.Register:
        ids: dict[HolderKind, list[UUID]] = {kind: [] for kind in HolderKind}
        for kind, ident in met:
            ids[kind].append(ident)
        everyone = [i for found in ids.values() for i in found]
        if by_holder:
            grants = self._rows("grants", "holder_id", everyone)
            memberships = self._rows("memberships", "member_id", everyone)
        else:
            grants = self._rows("grants", "account_id", ids[HolderKind.ACCOUNT])
            memberships = self._rows("memberships", "team_id", ids[HolderKind.TEAM])
        accounts = [self._account(row) for row in self._rows("accounts", "id", ids[HolderKind.ACCOUNT])]
        owners = {account.owner for account in accounts if account.owner is not None}
        people = self._rows("people", "id", [*{*ids[HolderKind.PERSON], *owners}])
        return core.Register.of(
            people=[self._person(row) for row in people],
            teams=[
                core.Team(_id(r.known["id"]), r.known["name"], r.known["partner"])
                for r in self._rows("teams", "id", ids[HolderKind.TEAM])
            ],
            apps=[core.App(_id(r.known["id"]), r.known["name"]) for r in self._rows("apps", "id", ids[HolderKind.APP])],
            accounts=accounts,
            grants=self._grants(grants),
            memberships=[m for row in memberships if (m := self._membership(row)) is not None],
        )

    def rows_of_account(self, table: str, account: UUID) -> list[Row]:
        """The rows of a table that belong to an account, as they were; none that was recorded only later."""
        return [past.was for past in self._rows(table, "account_id", [account]) if not past.late]

    def _rows(self, table: str, column: str, values: Iterable[UUID | str]) -> list[Past]:
        """Rows by a column that never changes, each as it was; without those that did not exist then."""
        assert table in _TABLES
        wanted = sorted({str(value) for value in values})
        if not wanted:
            return []
        # Grants are never taken out, and whatever can be has an index on what it belonged to.
        current = f"select id from {table} where {column} = any(cast(:ids as uuid[]))"  # noqa: S608  constants
        kept = {"id": "id = any(cast(:ids as uuid[]))"}.get(
            column, f"kind = '{table}' and row ->> '{column}' = any(:ids)"
        )
        archived_by, among = column, list(wanted)
        if table == "grants" or (table == "resources" and column == "account_id"):
            kept = f"id in ({current})"
            if self.archived.paths:
                archived_by = "id"
                among = [str(ident) for ident in self.db.scalars(text(current), {"ids": wanted})]
        rows = self.db.execute(
            text(
                f"select id, since, until, gone, row from versions where {kept} "  # noqa: S608  constants
                f"union all select id, recorded_at, null, false, to_jsonb(t) from {table} t "
                f"where {column} = any(cast(:ids as uuid[])) order by id, since, until"
            ),
            {"ids": wanted},
        ).all()
        history: dict[UUID, JsonList] = defaultdict(list)
        # Those in the archive are earlier than those in the database. What is yet to be dropped there is met twice, and
        # that makes no difference.
        for old in sorted(self.archived.of(table, archived_by, among), key=lambda one: (one.since, one.until)):
            history[old.id].append(old)
        for row in rows:
            history[row.id].append(row)
        return [past for versions in history.values() if (past := self._past(versions)) is not None]

    def _past(self, versions: Sequence[AnyRow]) -> Past | None:
        at, believed = min(self.moment.at, self.moment.believed), self.moment.believed
        known = [version for version in versions if version.since <= believed]
        if not known:
            return None
        last = known[-1]
        # A row changed after the belief is known as it was then; so is one that was taken out after it.
        was = next((v for v in reversed(known) if v.since <= at), None)
        if was is not None:
            gone = was.gone and was.until <= at
            return None if gone else Past(was.row, last.row, late=False)
        return None if last.gone and last.until <= believed else Past(known[0].row, last.row, late=True)

    def _person(self, row: Past) -> core.Person:
        leaves = _time(row.known["leaves_at"])
        standing = row.known["standing"] if leaves is not None else row.was["standing"]
        return core.Person(
            _id(row.known["id"]),
            row.known["name"],
            row.was["inside"],
            Standing(standing),
            leaves,
            row.was["second_factor"],
        )

    def _account(self, row: Past) -> core.Account:
        owner = None if row.late else row.was["owner_id"]
        return core.Account(
            _id(row.known["id"]), row.known["name"], _id(owner) if owner else None, ZoneInfo(row.known["time_zone"])
        )

    def _membership(self, row: Past) -> core.Membership | None:
        since, until = _time(row.known["since"]), _time(row.known["until"])
        if row.late and (since is None or since > self.moment.at):
            return None
        kind = HolderKind.TEAM if row.known["person_id"] is None else HolderKind.PERSON
        member = core.Holder(kind, _id(row.known["member_id"]))
        return core.Membership(_id(row.known["id"]), _id(row.known["team_id"]), member, Window(since, until))

    def _grants(self, rows: Sequence[Past]) -> list[core.Grant]:
        given = {row.known["id"]: row for row in rows if not row.late or self._given(row)}
        terms = self._rows("terms", "grant_id", given)
        levels = self._levels({row.was["level_id"] for row in terms})
        parts = self._parts({p for row in terms if (p := row.was["resource_id"] or row.was["group_id"])})
        held: dict[str, list[core.Term]] = defaultdict(list)
        for row in terms:
            if self._began(row, given[row.known["grant_id"]]):
                window = Window(_time(row.known["since"]), _time(row.known["until"]))
                part = parts.get(row.was["resource_id"] or row.was["group_id"])
                hours = hours_value(row.was["hours"])
                held[row.known["grant_id"]].append(core.Term(levels[row.was["level_id"]], window, hours, part))
        return [
            core.Grant(
                _id(ident),
                _id(row.known["account_id"]),
                core.Holder(HolderKind(row.known["holder_kind"]), _id(row.known["holder_id"])),
                self._state(row),
                tuple(held[ident]),
            )
            for ident, row in given.items()
        ]

    def _given(self, row: Past) -> bool:
        given = _time(row.known["given_at"])
        return given is not None and given <= self.moment.at

    def _began(self, term: Past, grant: Past) -> bool:
        """Whether a term existed: recorded then, or later with an earlier start."""
        if not term.late:
            return True
        if term.known["created_at"] == grant.known["created_at"]:
            return True
        since = _time(term.known["since"])
        return since is not None and since <= self.moment.at

    def _state(self, row: Past) -> GrantState:
        ended = _time(row.known["ended_at"])
        if row.known["state"] == GrantState.ENDED and ended is not None and ended <= self.moment.at:
            return GrantState.ENDED
        state = GrantState(row.was["state"])
        # Brought as history that was over by then: until its end it was in force.
        if row.late and state is GrantState.ENDED:
            return GrantState.ACTIVE if ended is not None else GrantState.ENDED
        return state

    def _levels(self, ids: Iterable[str]) -> dict[str, core.Level]:
        return {
            row.known["id"]: core.Level(
                _id(row.known["id"]),
                row.was["name"],
                row.was["sentence"],
                frozenset(
                    core.Permission(p["key"], p["sentence"], Reach.from_word(p["reach"]))
                    for p in row.was["permissions"]
                ),
            )
            for row in self._rows("levels", "id", ids)
        }

    def _parts(self, ids: Iterable[str]) -> dict[str | None, core.Part]:
        wanted = list(ids)
        found: dict[str | None, core.Part] = {}
        for row in self._rows("resources", "id", wanted):
            ident = _id(row.known["id"])
            found[row.known["id"]] = core.Part(ident, row.was["name"], frozenset({ident}))
        within: dict[str, set[UUID]] = defaultdict(set)
        for row in self._rows("resources_in_groups", "group_id", wanted):
            if not row.late:
                within[row.known["group_id"]].add(_id(row.known["resource_id"]))
        for row in self._rows("resource_groups", "id", wanted):
            ident = row.known["id"]
            found[ident] = core.Part(_id(ident), row.was["name"], frozenset(within[ident]))
        return found


def _id(value: str) -> UUID:
    return UUID(value)


def _time(value: str | None) -> datetime | None:
    return datetime.fromisoformat(value) if value else None
