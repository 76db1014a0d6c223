"""Reconciling a reading with the register: set-based in the database, and only differences one by one.

What only the system has becomes unrecorded access, shown at once and flagged. What only the register has is marked as
missing; what is more, less or other in the system as different.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import cast
from uuid import UUID

import orjson
from sqlalchemy import CursorResult, Table, bindparam, func, insert, select, text, update

from openlatch.adapters import Coverage
from openlatch.core.exposure.paths import path_of
from openlatch.core.ids import new_id
from openlatch.core.states import GRANTS, move
from openlatch.core.vocabulary import EndedAs, GrantState, Proof, SystemKind
from openlatch.json_values import JsonObject, SqlTuple
from openlatch.service.exposure import access_rules, evaluate, system_guards
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.latches import guard
from openlatch.service.revocations import confirm
from openlatch.service.systems import login_matching, sessions_and_use
from openlatch.service.systems.staging import BLOCK, Spool, batches, instant
from openlatch.service.unit import Unit
from openlatch.store.database import at_large
from openlatch.store.sql_types import AnyRow, Expression
from openlatch.store.tables import Account, Grant, Level, Organisation, Resource, System, Term

# The sensitivity of accounts that a reading finds, until somebody sets it.
SENSITIVITY_OF_THE_UNKNOWN = 3
# With more changes than this, flags are left to the next pass over everything, which is faster then.
MOST_AT_ONCE = 5_000
# With more differences than this, rows are not looked up one by one.
MANY = 50_000

_LIVE = f"('{GrantState.ACTIVE}', '{GrantState.SUSPENDED}', '{GrantState.REVOKING}')"
# Holdings and grants that are not each other's as at the last reading. A grant keeps the digest of what was shown of it
# until it changes here: as long as it has one, and the same is shown, nothing differs.
APART = f"""
    create temporary table apart on commit drop as
    with kept as (
        select g.id, g.shown from grants g join accounts a on a.id = g.account_id
        where a.system_id = :system and g.state in {_LIVE} and g.holder_kind <> 'team'
            and not exists (select from reading_unchanged u where u.account = a.handle)
    )
    select r.n, k.id as grant_id from reading_shown r full join kept k on k.shown = r.digest
    where r.n is null or k.id is null
"""  # noqa: S608  constants
# Of those, what differs: a second holding of what is as it was (two logins of one person, say) does not.
DIFFERENCES = f"""
    create temporary table differences on commit drop as
    with shown as (
        select r.n, r.account, r.holder, r.by_account, r.level, r.until, r.parts, r.handle, r.digest,
            a.id as account_id, coalesce(b.id, h.person_id, h.app_id) as holder_id, h.person_id, h.app_id,
            b.id as holder_account_id
        from reading_holdings r
        join accounts a on a.system_id = :system and a.handle = r.account
        left join handles h on not r.by_account and h.system_id = :system and h.name = r.holder
        left join accounts b on r.by_account and b.system_id = :system and b.handle = r.holder
        where num_nonnulls(b.id, h.person_id, h.app_id) > 0
    ), kept as (
        select g.id, g.account_id, g.holder_id, g.state, g.recorded, g.version, g.missing_since, g.owed, a.handle,
            exists (select from apart x where x.grant_id = g.id) as apart
        from (
            select grant_id as id from apart where grant_id is not null
            union select o.id from shown s join grants o on o.account_id = s.account_id and o.holder_id = s.holder_id
        ) met cross join lateral (select * from grants one where one.id = met.id {{each}}) g
        join accounts a on a.id = g.account_id
        where g.state in {_LIVE}
    )
    select s.*, k.id as grant_id, k.state, k.recorded, k.version, k.missing_since,
        coalesce(s.account_id, k.account_id) as on_account
    from shown s full join kept k on k.account_id = s.account_id and k.holder_id = s.holder_id
    where k.id is null
        or (k.apart and s.n is not null)
        or (k.apart and k.state = '{GrantState.ACTIVE}' and k.missing_since is null and k.owed is null
            and exists (select from reading_accounts l where l.handle = k.handle)
            and not exists (select from reading_partial q where q.account in ('', k.handle)))
"""  # noqa: S608  constants
# A reading that began before a revocation was confirmed may show what is gone by now.
_NEW = f"""
    select distinct on (d.account_id, d.holder_id) d.* from differences d
    where d.grant_id is null and d.n is not null and not exists (
        select from grants e where e.account_id = d.account_id and e.holder_id = d.holder_id
            and e.state = '{GrantState.ENDED}' and e.ended_at >= :begun)
    order by d.account_id, d.holder_id, d.n
"""  # noqa: S608  constants
_CHANGED = """
    select distinct on (d.grant_id) d.* from differences d
    where d.grant_id is not null and d.n is not null order by d.grant_id, d.n
"""
_GONE = "select d.* from differences d where d.n is null order by d.grant_id"
# What had ended here and is there all the same is marked with when it was seen: the last one that was recorded, or that
# a revocation ended.
_SEE_ENDED = f"""
    update grants g set seen_at = :now from (
        select distinct on (e.account_id, e.holder_id) e.id
        from grants u join accounts a on a.id = u.account_id and a.system_id = :system
        join grants e on e.account_id = u.account_id and e.holder_id = u.holder_id
            and e.state = '{GrantState.ENDED}'
            and (e.recorded or exists (select from revocation_targets t where t.grant_id = e.id))
        where u.state in {_LIVE} and not u.recorded
        order by e.account_id, e.holder_id, e.ended_at desc nulls last
    ) last where g.id = last.id
    returning g.id, (g.proof is not null and g.proof <> 'contradicted' and g.ended_at < :begun) as newly
"""  # noqa: S608  constants
# Many rows in one statement, from arrays: ten times faster than one statement each.
_MAKE_GRANTS = """
    insert into grants (id, organisation_id, account_id, person_id, app_id, holder_account_id, given_at, recorded,
        ends_here, by_system, reason, seen_at, shown, handle)
    select i.id, :organisation, d.account_id, d.person_id, d.app_id, d.holder_account_id, :now,
        a.kind = 'everyone' or cast(:is_own as boolean), false, a.kind = 'everyone',
        case when a.kind = 'everyone' then 'It comes with signing in there.' else :reason end,
        :now, d.digest, d.handle::jsonb || jsonb_build_object('login', d.holder)
    from unnest(cast(:ids as uuid[]), cast(:ns as int[])) i(id, n) join differences d using (n)
        join accounts a on a.id = d.account_id
"""
_MAKE_TERMS = """
    insert into terms (id, organisation_id, grant_id, level_id, resource_id, until)
    select i.id, :organisation, i.grant_id, i.level_id, i.part_id, i.until
    from unnest(cast(:ids as uuid[]), cast(:grants as uuid[]), cast(:levels as uuid[]), cast(:parts as uuid[]),
        cast(:untils as timestamptz[])) i(id, grant_id, level_id, part_id, until)
"""


# A row of a comparison in SQL, with the columns that its statement names.
StagedRow = AnyRow


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a reading changed."""

    grants_seen: int
    unrecorded: int
    newly_unrecorded: int
    missing: int
    differing: int
    sessions_seen: int
    sessions_ended: int


class Comparison:
    """The reconciliation of one reading, which began at ``begun``, within one transaction."""

    def __init__(self, unit: Unit, system: System, spool: Spool, begun: datetime) -> None:
        self.unit, self.system, self.spool, self.begun = unit, system, spool, begun
        self.db, self.organisation = unit.db, unit.viewer.organisation
        self.named = {"system": system.id, "now": unit.now, "begun": begun}
        self.touched: set[UUID] = set()
        self.covered: set[UUID] = set()
        self.many = False
        self.happened: list[tuple[str, UUID, str, UUID]] = []

    def carry_out(self) -> Outcome:
        """Update the register from the reading, and evaluate the rules for every grant and session that changed."""
        self.look()
        accounts = set(self.db.scalars(text("select distinct on_account from differences")))
        new = sum(self._record(rows) for rows in batches(self.db, _NEW, self.named))
        for rows in batches(self.db, _CHANGED, self.named):
            self._follow(rows)
        missing = sum(self._miss(rows) for rows in batches(self.db, _GONE, self.named))
        with self._at_large():
            seen_ended = self.db.execute(text(_SEE_ENDED), self.named).all()
            seen, ended = sessions_and_use.follow(self.unit, self.system, self.begun)
            self.touched |= sessions_and_use.keep_use(self.unit, self.system)
            self.touched |= {row.id for row in seen_ended}
            unrecorded, differing = self._count(~Grant.recorded), self._count(Grant.differs.is_not(None))
        newly = [row.id for row in seen_ended if row.newly]
        if newly:
            confirm.contradict(self.unit, newly, self.system.name)
        self._journal()
        self._evaluate(seen | ended, accounts | self.found)
        if self.covered:
            evaluate_flags.evaluate(self.unit, accounts=sorted(self.covered))
        self._follow_rules()
        return Outcome(self.spool.counts["holdings"], unrecorded, new, missing, differing, len(seen), len(ended))

    def _follow_rules(self) -> None:
        """Update the access rules, and evaluate exposures where any rule differs."""
        followed = access_rules.follow(self.unit, self.system)
        for account, keys in sorted(followed.new.items()):
            confirm.contradict_rules(self.unit, account, keys, self.system.name)
        evaluate.changed(self.unit, followed.accounts)
        system_guards.watch(self.unit, self.system)

    def look(self) -> int:
        """Find differences, and store them in the table ``differences``; returns how many.

        Unknown levels, accounts, parts and logins are added to the register.
        """
        self.spool.load(self.db)
        self.levels = self._levels()
        self.found = self._accounts()
        self._cover()
        self.parts = self._parts()
        login_matching.meet(self.unit, self.system)
        at_large(self.db)
        self.db.execute(text(APART), self.named)
        wanted = self.db.scalars(text("select n from apart where n is not null")).all()
        self.spool.load_holdings(self.db, wanted)
        self.db.execute(text("create index on apart (grant_id)"))
        self.db.execute(text("analyze apart"))
        self.many = len(wanted) > MANY
        # Force index lookups for a few rows; not for many.
        look = text(DIFFERENCES.format(each="" if self.many else "offset 0"))
        with self._at_large():
            found = cast(CursorResult[SqlTuple], self.db.execute(look, self.named)).rowcount
        self.db.execute(text("create index on differences (n)"))
        self.db.execute(text("analyze differences"))
        return found

    @contextmanager
    def _at_large(self) -> Iterator[None]:
        """With many new rows, avoid nested loops: the planner has no statistics of them yet."""
        if self.many:
            self.db.execute(text("set local enable_nestloop = off"))
        yield
        self.db.execute(text("set local enable_nestloop = on"))

    def _evaluate(self, sessions: set[UUID], accounts: set[UUID]) -> None:
        self.db.flush()
        if len(self.touched) + len(sessions) > MOST_AT_ONCE:
            self.unit.wake("evaluate")
            return
        grants, found = sorted(self.touched), sorted(self.found)
        evaluate_flags.evaluate(self.unit, grants=grants, sessions=sorted(sessions), accounts=found)
        # Access that a system gives can't be refused here; broken latches are flagged.
        guard.evaluate(self.unit, accounts)

    def _count(self, which: Expression) -> int:
        live = (GrantState.ACTIVE, GrantState.SUSPENDED, GrantState.REVOKING)
        of_it = select(func.count(Grant.id)).join(Account, Account.id == Grant.account_id)
        return self.db.scalar(of_it.where(Account.system_id == self.system.id, Grant.state.in_(live), which)) or 0

    def _levels(self) -> dict[str, Level]:
        known = {str(x.key): x for x in self.db.scalars(select(Level).where(Level.system_id == self.system.id))}
        for level in self.spool.levels.values():
            if level.key not in known:
                known[level.key] = Level(
                    organisation_id=self.organisation,
                    system_id=self.system.id,
                    key=level.key,
                    name=level.name,
                    sentence=level.sentence,
                    permissions=[{"key": k, "sentence": s, "reach": r.word} for k, s, r in level.permissions],
                    reach=int(max(r for _, _, r in level.permissions)),
                )
                self.db.add(known[level.key])
        self.db.flush()
        return known

    def _accounts(self) -> set[UUID]:
        """Add unknown accounts. Those that a file brought get the system's key."""
        named = "update accounts a set handle = r.handle from reading_accounts r where a.system_id = :system "
        self.db.execute(text(named + "and a.handle is null and a.key = r.handle"), self.named)
        zone = self.db.get_one(Organisation, self.organisation).time_zone
        unknown = text(
            "select distinct on (r.handle) r.* from reading_accounts r where not exists "
            "(select from accounts a where a.system_id = :system and a.handle = r.handle) order by r.handle, r.n"
        )
        made: list[JsonObject] = [
            {
                "id": new_id(),
                "organisation_id": self.organisation,
                "system_id": self.system.id,
                "name": found.comment or f"{found.handle} in {self.system.name}",
                "kind": found.kind,
                "sensitivity": 1 if found.kind == "everyone" else SENSITIVITY_OF_THE_UNKNOWN,
                "time_zone": zone,
                "handle": found.handle,
            }
            for found in self.db.execute(unknown, self.named).all()
        ]
        if made:
            self.db.execute(insert(Account), made)
        for account in made:
            self.unit.record("account.found", "account", account["id"], account["name"], account["id"])
        return {account["id"] for account in made}

    def _cover(self) -> None:
        """Store with each account what the reading covered, and since when it has been read only in part."""
        everywhere = self.spool.coverage.get("", Coverage(""))
        self.system.coverage = everywhere.shown
        named = self.spool.coverage.keys() - {""}
        wanted = select(Account).where(Account.system_id == self.system.id, Account.handle.in_(named))
        for account in self.db.scalars(wanted):
            told = self.spool.coverage[account.handle or ""]
            if account.coverage != told.shown:
                account.coverage = told.shown
            is_partial = told.is_partial or everywhere.is_partial
            if is_partial != (account.partial_since is not None):
                account.partial_since = self.unit.now if is_partial else None
                action = "account.read_in_part" if is_partial else "account.read_whole"
                self.unit.record(action, "account", account.id, account.name, account.id, gaps=told.shown["unknown"])
                self.covered.add(account.id)
        self.db.flush()

    def _parts(self) -> dict[tuple[UUID, str], UUID]:
        """The parts of accounts, by account and the system's name for them."""
        rows = self.db.execute(
            text(
                "select distinct on (a.id, r.handle) a.id as account, r.handle, r.name, r.kind, r.path, r.attributes, "
                "r.above, r.inherits, p.id as part from reading_parts r "
                "join accounts a on a.system_id = :system and a.handle = r.account "
                "left join resources p on p.account_id = a.id and p.key = r.handle order by a.id, r.handle, r.n"
            ),
            self.named,
        ).all()
        made: list[JsonObject] = [
            {
                "organisation_id": self.organisation,
                "account_id": row.account,
                "key": row.handle,
                "name": row.name,
                "kind": row.kind,
                "path": row.path or path_of(row.handle),
                "attributes": row.attributes,
                "above": row.above,
                "inherits": row.inherits,
            }
            for row in rows
            if row.part is None
        ]
        if made:
            self.db.execute(insert(Resource), made)
        mine = select(Resource.account_id, Resource.key, Resource.id).join(Account, Account.id == Resource.account_id)
        found = self.db.execute(mine.where(Account.system_id == self.system.id, Resource.key.is_not(None)))
        return {(account, str(key)): part for account, key, part in found}

    # Grants.

    @property
    def is_own(self) -> bool:
        """Whether this is Open Latch itself: whoever is let in there was let in here, and roles are set there alone."""
        return self.system.kind == SystemKind.OPEN_LATCH

    def _is_kept(self, row: StagedRow) -> bool:
        """Whether the register says what should be there, and the system does not."""
        return bool(row.recorded) and not self.is_own

    def _record(self, rows: Sequence[StagedRow]) -> int:
        """Record access that nobody recorded as given."""
        if not rows:
            return 0
        made = [new_id() for _ in rows]
        reason = f"Found in {self.system.name}; nobody recorded that it was given."
        if self.is_own:
            reason = "Given in Open Latch itself."
        found = {"ids": made, "ns": [row.n for row in rows], "organisation": self.organisation, "reason": reason}
        self.db.execute(text(_MAKE_GRANTS), {**found, "now": self.unit.now, "is_own": self.is_own})
        self._write_terms(zip(made, rows, strict=True))
        for ident, row in zip(made, rows, strict=True):
            self._note("grant.found", ident, f"{row.holder} on {row.account}", row.account_id)
        self.touched |= set(made)
        return len(made)

    def _write_terms(self, grants: Iterable[tuple[UUID, object]]) -> None:
        # Ids in ascending order, so that they sort in the system's order.
        made = [(new_id(), ident, *term) for ident, row in grants for term in self._terms(row)]
        if made:
            names = ("ids", "grants", "levels", "parts", "untils")
            columns = dict(zip(names, map(list, zip(*made, strict=True)), strict=True))
            self.db.execute(text(_MAKE_TERMS), {**columns, "organisation": self.organisation})

    def _terms(self, row: StagedRow) -> list[tuple[UUID, UUID | None, datetime | None]]:
        """The terms of a holding: level, part (None for the whole account), and end."""
        until = instant(row.until)
        whole = [(self.levels[row.level].id, None, until)] if row.level else []
        some = orjson.loads(row.parts) if row.parts else ()
        return [*whole, *((self.levels[level].id, self.parts[row.account_id, part], until) for part, level in some)]

    def _follow(self, rows: Sequence[StagedRow]) -> None:
        """Update grants that the system shows otherwise than at the last reading, or again."""
        ids = [row.grant_id for row in rows]
        held: dict[UUID, list[tuple[UUID, UUID | None, datetime | None]]] = {ident: [] for ident in ids}
        terms = select(Term.grant_id, Term.level_id, Term.resource_id, Term.until).where(Term.grant_id.in_(ids))
        for ident, *term in self.db.execute(terms.order_by(Term.id)):
            held[ident].append(cast(tuple[UUID, UUID | None, datetime | None], tuple(term)))
        values, changed = [], []
        for row in rows:
            name = f"{row.holder} on {row.account}"
            if row.missing_since is not None:
                self._note("grant.back", row.grant_id, name, row.account_id)
            differs = self._differs(row, held[row.grant_id]) if self._is_kept(row) else None
            if not self._is_kept(row) and held[row.grant_id] != self._terms(row):
                changed.append((row.grant_id, row))
                self._note("grant.changed", row.grant_id, name, row.account_id)
            values.append(
                {
                    "grant": row.grant_id,
                    "new_missing_since": None,
                    "new_seen_at": self.unit.now,
                    "new_handle": _handle(row),
                    "new_shown": row.digest,
                    "new_differs": differs,
                }
            )
        if changed:
            self.db.execute(Term.__table__.delete().where(Term.grant_id.in_([ident for ident, _ in changed])))  # type: ignore[attr-defined]
            self._write_terms(changed)
        self._update(values)
        self.touched |= set(ids)

    def _update(self, rows: Sequence[dict[str, object]]) -> None:
        # Core insert: many rows in one statement.
        table = cast(Table, Grant.__table__)
        names = ("missing_since", "seen_at", "handle", "shown", "differs")
        values = {name: bindparam(f"new_{name}", type_=table.c[name].type) for name in names}
        if rows:
            self.db.connection().execute(update(table).where(table.c.id == bindparam("grant")).values(values), rows)

    def _differs(self, row: object, held: Sequence[tuple[UUID, UUID | None, datetime | None]]) -> JsonObject | None:
        """What the system has instead of what is recorded; None when it is the same.

        Ends are kept by the register. A recorded level that the system does not know is compared by its reach.
        """
        by_id = {level.id: level for level in self.levels.values()}
        there = {(level, part) for level, part, _ in self._terms(row)}
        here = {(level, part) for level, part, _ in held}
        known = {self.levels[key].id for key in self.spool.levels}
        if here == there or not here:
            return None
        if not {level for level, _ in here} <= known:
            reaches = [max((by_id[i].reach for i, _ in terms if i in by_id), default=0) for terms in (here, there)]
            if reaches[0] == reaches[1] or 0 in reaches:
                return None
        names = {part: name for name, part in ((key[1], ident) for key, ident in self.parts.items())}
        said = [f"{by_id[level].name}{f' on {names[part]}' if part else ''}" for level, part in sorted(there, key=str)]
        terms = [[str(level), str(part) if part else None] for level, part in sorted(there, key=str)]
        reach = max((by_id[level].reach for level, _ in there), default=0)
        return {"level": ", ".join(said), "reach": reach, "terms": terms}

    def _miss(self, rows: Sequence[StagedRow]) -> int:
        """Grants on accounts that were read, which the reading does not show."""
        recorded = [row.grant_id for row in rows if self._is_kept(row)]
        gone = [row.grant_id for row in rows if not self._is_kept(row)]
        if recorded:
            self.db.execute(update(Grant).where(Grant.id.in_(recorded)).values(missing_since=self.unit.now))
        if gone:
            # Unrecorded access has ended once the system no longer shows it.
            ended = move(GRANTS, "grant", GrantState.ACTIVE, GrantState.ENDED)
            over = {
                "state": ended,
                "ended_as": EndedAs.REVOKED,
                "ended_at": self.unit.now,
                "proof": Proof.CONFIRMED,
                "proved_at": self.unit.now,
                "proved_by": self.system.name,
                "proof_words": "A reading of the whole account does not show it any more.",
            }
            self.db.execute(update(Grant).where(Grant.id.in_(gone)).values(over))
        for row in rows:
            action = "grant.missing" if row.recorded else "grant.gone"
            self._note(action, row.grant_id, self.system.name, row.on_account)
        self.touched |= {row.grant_id for row in rows}
        return len(recorded)

    def _note(self, action: str, ident: UUID, name: str, account: UUID) -> None:
        self.happened.append((action, ident, name, account))

    def _journal(self) -> None:
        """Journal what happened to grants; many of them while they are written."""
        if len(self.happened) > BLOCK:
            self.unit.record_many("grant", self.happened)
            return
        for action, ident, name, account in self.happened:
            self.unit.record(action, "grant", ident, name, account)


def _handle(row: StagedRow) -> JsonObject:
    """How steps identify a grant in its system."""
    return {**orjson.loads(row.handle), "login": row.holder}
