"""Opening a round: selecting its items, and freezing each with its present facts."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

import orjson
from sqlalchemy import Select, false, or_, select, update

from openlatch import schemas
from openlatch.core.ids import new_id
from openlatch.core.reviews import recommendations
from openlatch.core.reviews.assignment import About, Assigned, Colleague, Line, Place, Staff, assign
from openlatch.core.reviews.evidence_bundle import item_line
from openlatch.core.time_windows import day_in_words, end_in_words
from openlatch.core.vocabulary import HolderKind, Reach, Standing, Subject, Verdict
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.canonical_json import jsonable
from openlatch.service.notifications import notices
from openlatch.service.reviews import plans, reminders
from openlatch.service.reviews.plans import Review
from openlatch.service.reviews.reviewers import colleagues, members_now
from openlatch.service.unit import Unit
from openlatch.store.duplicate_people import possible_duplicates
from openlatch.store.lists.register import LIVE
from openlatch.store.lists.reviews import SCOPES
from openlatch.store.reviews import population as review_population
from openlatch.store.reviews.population import GrantRow, chosen
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, Grant, Level, Membership, Person, Round, SignIn, Team

# A round is opened in one transaction, and its evidence is one document.
MOST_ITEMS = 250_000
MOST_NAMES = 20


# The values of an item, in the order of its columns.
ItemValues = tuple[object, ...]


@dataclass(frozen=True, slots=True)
class Reason:
    """Why a round opens by itself: the schedule, and what happened.

    ``scopes`` narrow what each kind of item covers; ``grants`` are added, even ended ones.
    """

    schedule: UUID | None = None
    event: str = ""
    scopes: Mapping[Subject, str] | None = None
    grants: Sequence[UUID] = ()


def open_round(unit: Unit, review: Review, reason: Reason | None = None) -> UUID:
    """Open a round over what its scope matches, freezing each item with its facts.

    BadInput when the scope matches nothing, or too much.
    """
    unit.sight.require_administrator()
    plans.refuse_unfit(unit, review)
    reason = reason or Reason()
    scopes = dict.fromkeys(map(Subject, review.covers), review.scope) if reason.scopes is None else reason.scopes
    population = review_population.choose(unit.db, unit.viewer.organisation, scopes, reason.grants)
    count = sum(p.matched + p.urgent for p in population)
    if not count:
        raise BadInput("Nothing that can be reviewed matches.", "Widen the filter.", {"scope": "matches nothing"})
    if count > MOST_ITEMS:
        raise BadInput(
            f"{count:,} items match, and a round has at most {MOST_ITEMS:,}.",
            'Open one round for each system, as in: system.name eq "…".',
            {"scope": "matches too much"},
        )
    row = Round(
        organisation_id=unit.viewer.organisation,
        population=[p.stored for p in population],
        opened_at=unit.now,
        opened_by_id=unit.viewer.person,
        schedule_id=reason.schedule,
        event=reason.event,
        due_at=unit.now + timedelta(days=review.days),
    )
    plans.put(review, row)
    unit.db.add(row)
    unit.db.flush()
    freeze = _Freeze(unit, row, review)
    review_population.write(unit.db, freeze.items())
    row.items_hash = freeze.digest.digest()
    urgent = update(Grant).where(Grant.for_review, Grant.state.in_(LIVE))
    unit.db.execute(urgent.values(for_review=False).execution_options(synchronize_session=False))
    unit.record(
        "round.opened",
        "round",
        row.id,
        row.name,
        scope=row.scope,
        covers=row.covers,
        items=count,
        acts=row.acts,
        population=row.population,
        items_hash=row.items_hash.hex(),
        event=row.event,
    )
    reminders.tell_reviewers(unit, row)
    return row.id


def preview(unit: Unit, review: Review) -> schemas.Population:
    """How many items of each kind a round would have now, and which reviewers have no sign-in."""
    unit.sight.require_administrator()
    plans.refuse_unfit(unit, review)
    scopes = dict.fromkeys(map(Subject, review.covers), review.scope)
    population = [
        schemas.PopulationOf.model_validate(p.stored)
        for p in review_population.choose(unit.db, unit.viewer.organisation, scopes)
    ]
    people: Sequence[AnyRow] = unit.db.execute(_without_sign_in(unit, review, list(scopes)).limit(MOST_NAMES + 1)).all()
    named = [schemas.Named(id=ident, name=name) for ident, name in people]
    return schemas.Population(
        population=population,
        without_sign_in=named[:MOST_NAMES],
        more_without_sign_in=len(named) > MOST_NAMES,
    )


def _without_sign_in(unit: Unit, review: Review, kinds: Iterable[Subject]) -> Select[UUID, str]:
    """Reviewers whom the line can reach for the chosen items, and who can't sign in."""
    asked: list[Select[UUID | None]] = []
    line = list(review.reviewers)
    if all(place.account_kind for place in line):
        # The owner follows the line, and comes first where no place in it applies.
        line.append(Place(Line.OWNER))
    for place in line:
        if place.kind is Line.PERSON:
            asked.append(select(Person.id).where(Person.id == place.id))
        elif place.kind is Line.TEAM:
            asked.append(members_now(unit.now).where(Membership.team_id == place.id))
        elif place.kind is Line.MANAGER:
            held = select(Grant.person_id).join(chosen, chosen.c.id == Grant.id)
            asked.append(select(Person.manager_id).where(Person.id.in_(held)))
        else:
            asked += [select(Account.owner_id).where(Account.id.in_(accounts_of(kind))) for kind in kinds]
    can = select(SignIn.person_id).where(SignIn.suspended_at.is_(None))
    wanted = or_(*(Person.id.in_(some) for some in asked)) if asked else false()
    here = Person.standing != Standing.LEFT
    return select(Person.id, Person.name).where(wanted, here, Person.id.not_in(can)).order_by(Person.name, Person.id)


def accounts_of(kind: Subject) -> Select[UUID | None]:
    """The accounts that the chosen items of a kind are about."""
    listing = SCOPES[kind].listing
    ids = select(listing.columns["account.id"].expression).select_from(listing.source)
    wanted = select(chosen.c.id).where(chosen.c.kind == kind.value)
    return ids.where(listing.columns["id"].expression.in_(wanted))


class _Freeze:
    """The items of one round while it is opened."""

    def __init__(self, unit: Unit, row: Round, review: Review) -> None:
        self.unit, self.row, self.now = unit, row, unit.now
        self.line = tuple(review.reviewers)
        self.second_from = review.second_from
        self.known = review_population.known(unit.db, unit.now)
        self.staff = staff_for(unit, self.line)
        self.duplicates = possible_duplicates(unit.db)
        self.digest = hashlib.sha256()
        self.account_parts: dict[UUID, orjson.Fragment] = {}
        self.held: dict[tuple[UUID, ...], frozenset[str]] = {}
        self.choices = {ident: _choice(level) for ident, level in self.known.levels.items()}
        self.by_system: dict[UUID, list[recommendations.LevelChoice]] = {}
        for level in self.known.levels.values():
            if not level.single:
                self.by_system.setdefault(level.system_id, []).append(self.choices[level.id])

    def items(self) -> Iterator[list[ItemValues]]:
        """Every item as a row, in order, some thousands at a time.

        While the database stores one batch, a thread that makes no queries prepares the next.
        """
        position = 0
        with ThreadPoolExecutor(1) as beside:
            waiting: Future[list[ItemValues]] | None = None
            for rows in review_population.grant_rows(self.unit.db):
                following = beside.submit(self._grants, position, rows)
                position += len(rows)
                if waiting is not None:
                    yield waiting.result()
                waiting = following
            if waiting is not None:
                yield waiting.result()
        for kind in (Subject.SESSION, Subject.EXPOSURE, Subject.OWNERSHIP, Subject.LATCH, Subject.ACCEPTANCE):
            if kind.value in self.row.covers:
                owners = self._owners(kind)
                others = review_population.other_rows(self.unit.db, kind)
                yield [self._other(n, kind, other, owners) for n, other in enumerate(others, position + 1)]
                position += len(others)

    def _grants(self, before: int, rows: Sequence[GrantRow]) -> list[ItemValues]:
        return [self._grant(number, row) for number, row in enumerate(rows, before + 1)]

    def _grant(self, position: int, row: GrantRow) -> ItemValues:
        known = self.known
        subject = Subject(row.kind)
        flags = known.flags.get(row.id, [])
        ways = known.ways.get(row.id)
        uses = known.uses.get(row.id, {})
        held = self._held(tuple(row.levels))
        observed = known.observed.get(row.system_id)
        since = max(observed, row.given_at.date()) if observed is not None else None
        evidence = recommendations.Evidence(
            subject,
            [flag["rule"] for flag in flags],
            row.last_used_at,
            Reach(row.reach) if row.reach else None,
            held,
            {key: last for key, (last, _) in uses.items()},
            since,
            row.until,
        )
        recommended = recommendations.recommend(evidence, self.by_system.get(row.system_id, ()), self.now)
        people = ways.people if ways else {}
        facts = {
            "state": row.state,
            "account": self._account_part(row),
            "system": {"id": row.system_id, "name": row.system},
            "holder": {
                "kind": row.holder_kind,
                "id": row.holder_id,
                "name": row.holder,
                "inside": row.inside,
                "standing": row.standing,
                "job": row.job or "",
            },
            "level": row.level or "",
            "sentence": row.sentence or "",
            "reach": row.reach,
            "part": row.part,
            "since": row.since,
            "until": row.until,
            "given_at": row.given_at,
            "given_by": {"id": row.giver_id, "name": row.giver} if row.giver_id else None,
            "reason": row.reason,
            "last_used_at": row.last_used_at,
            "recorded": row.recorded,
            "emergency": row.emergency,
            "flags": flags,
            "path": f"{row.holder} holds “{row.level or ''}” on {row.account}",
            "others": ways.others[:MOST_NAMES] if ways else [],
            "people": {"count": len(people), "names": sorted(people.values())[:MOST_NAMES]},
            "use": {
                "held": len(held),
                "used": len(uses),
                "observed_since": since,
                "permissions": {key: {"last": last, "days": days} for key, (last, days) in uses.items()},
            },
            "last_decision": known.decided.get((row.kind, row.id)),
            "peers": self._peers(row),
            "recommendation": _shown(recommended),
        }
        holder = row.holder_id if row.holder_kind == HolderKind.PERSON else None
        about = About(
            holder,
            row.giver_id,
            row.owner_id,
            row.account_kind,
            frozenset(people),
            self._duplicates(holder, row.giver_id),
        )
        texts = (row.account, row.holder, row.level or "")
        return self._row(
            position,
            subject,
            row.id,
            row.id,
            row.account_id,
            texts,
            row.reach,
            recommended.verdict,
            flags,
            about,
            facts,
        )

    def _duplicates(self, *people: UUID | None) -> frozenset[UUID]:
        found = [self.duplicates[person] for person in people if person is not None and person in self.duplicates]
        return frozenset[UUID]().union(*found)

    def _held(self, levels: tuple[UUID, ...]) -> frozenset[str]:
        """The permissions of some levels, cached: there are few combinations."""
        known = self.held.get(levels)
        if known is None:
            known = self.held[levels] = frozenset[str]().union(*(self.choices[i].permissions for i in levels))
        return known

    def _account_part(self, row: GrantRow) -> orjson.Fragment:
        """The frozen facts of an account, computed once for all of its items."""
        known = self.account_parts.get(row.account_id)
        if known is None:
            shown = {
                "id": row.account_id,
                "name": row.account,
                "sensitivity": row.sensitivity,
                "kind": row.account_kind,
                "owner": row.owner_id,
            }
            known = orjson.Fragment(orjson.dumps(shown, option=orjson.OPT_SORT_KEYS))
            self.account_parts[row.account_id] = known
        return known

    def _peers(self, row: GrantRow) -> JsonObject | None:
        if not row.job:
            return None
        have = self.known.peers.get((row.account_id, row.job), 0)
        return {"job": row.job, "people": self.known.jobs.get(row.job, 0), "have": have}

    def _owners(self, kind: Subject) -> dict[UUID, tuple[UUID | None, str]]:
        """Who owns the accounts that items of a kind are about, and what kind of account it is."""
        ids = accounts_of(kind)
        rows = self.unit.db.execute(select(Account.id, Account.owner_id, Account.kind).where(Account.id.in_(ids)))
        return {ident: (owner, of_kind) for ident, owner, of_kind in rows}

    def _other(
        self, position: int, kind: Subject, row: JsonObject, owners: Mapping[UUID, tuple[UUID | None, str]]
    ) -> ItemValues:
        account = row.get("account") or {"id": None, "name": f"all of the kind {row.get('account_kind')}"}
        owner, account_kind = owners.get(account["id"], (None, ""))
        flags = self.known.flags.get(row["id"], [])
        evidence = recommendations.Evidence(kind, [flag["rule"] for flag in flags])
        recommended = recommendations.recommend(evidence, (), self.now)
        holder = row.get("holder") or {}
        shown = {
            **jsonable(row),
            "account": jsonable({**account, "kind": account_kind, "owner": owner}),
            "sentence": _sentence(kind, row, account["name"], self.unit.zone),
            "flags": flags,
            "last_decision": self.known.decided.get((kind.value, row["id"])),
            "recommendation": _shown(recommended),
        }
        # Owners don't review their own ownership, nor people the flags they accepted.
        own = holder.get("id") if kind in (Subject.SESSION, Subject.OWNERSHIP) else None
        gave = (row.get("accepted_by") or {}).get("id") if kind is Subject.ACCEPTANCE else None
        about = About(own, gave, owner, account_kind, duplicates=self._duplicates(own, gave))
        texts = (account["name"], _holder_of(kind, row), _level_of(kind, row))
        return self._row(
            position, kind, row["id"], None, account["id"], texts, None, recommended.verdict, flags, about, shown
        )

    def _row(
        self,
        position: int,
        kind: Subject,
        subject: UUID,
        grant: UUID | None,
        account: UUID | None,
        texts: tuple[str, str, str],
        reach: int | None,
        recommended: Verdict,
        flags: Sequence[JsonObject],
        about: About,
        facts: JsonObject,
    ) -> ItemValues:
        assigned = assign(self.line, about, self.staff, self.now)
        severity = max((flag["severity"] for flag in flags), default=0)
        needs_second = self.second_from is not None and severity >= self.second_from
        second = self._second(about, assigned) if needs_second else None
        body = orjson.dumps(facts, option=orjson.OPT_SORT_KEYS)
        self.digest.update(item_line(position, kind, subject, orjson.Fragment(body)))
        return (
            new_id(),
            self.row.organisation_id,
            self.row.id,
            position,
            kind.value,
            subject,
            grant,
            account,
            *texts,
            reach,
            recommended.value,
            len(flags),
            severity,
            assigned.person,
            assigned.team,
            assigned.words,
            assigned.by_default,
            needs_second,
            second,
            body.decode(),
        )

    def _second(self, about: About, first: Assigned) -> UUID | None:
        """The next in line after the first reviewer."""
        line = [p for p in self.line if p.kind is not Line.TEAM or p.id != first.team]
        known = self.staff.people.get(first.person) if first.person else None
        manager = known.manager if known else None
        line += [Place(Line.PERSON, manager)] if manager else []
        return assign(line, about, self.staff, self.now, but=first.person).person


def staff_for(unit: Unit, line: Iterable[Place]) -> Staff:
    """Everybody who can become a reviewer of the chosen items."""
    teams = {place.id for place in line if place.kind is Line.TEAM and place.id}
    members = _members(unit, teams)
    administrators = sorted(notices.administrators(unit))
    wanted = {place.id for place in line if place.kind is Line.PERSON and place.id} | set(administrators)
    wanted |= {member for _, some in members.values() for member in some}
    wanted |= set(unit.db.scalars(select(Account.owner_id).where(Account.owner_id.is_not(None)).distinct()))
    if any(place.kind is Line.MANAGER for place in line):
        wanted |= set(unit.db.scalars(select(Grant.person_id).join(chosen, chosen.c.id == Grant.id).distinct()))
    people: dict[UUID, Colleague] = {}
    # Managers are loaded with the people they manage, deputies with those they stand in for.
    while missing := [i for i in wanted - set(people) if i is not None]:
        fetched = colleagues(unit, missing)
        people |= fetched
        wanted = {i for c in fetched.values() for i in (c.manager, c.deputy) if i is not None}
    return Staff(people, members, administrators)


def _members(unit: Unit, teams: Iterable[UUID]) -> dict[UUID, tuple[str, frozenset[UUID]]]:
    found = {}
    for ident, name in unit.db.execute(select(Team.id, Team.name).where(Team.id.in_(list(teams)))):
        members = unit.db.scalars(members_now(unit.now).where(Membership.team_id == ident))
        found[ident] = (name, frozenset(member for member in members if member is not None))
    return found


def _choice(level: Level) -> recommendations.LevelChoice:
    keys = frozenset(p["key"] for p in level.permissions)
    return recommendations.LevelChoice(level.id, level.name, Reach(level.reach), keys)


def _shown(found: recommendations.Recommendation) -> JsonObject:
    level = {"id": found.level.id, "name": found.level.name} if found.level else None
    return {"verdict": found.verdict.value, "reason": found.reason, "level": level, "until": found.until}


def _holder_of(kind: Subject, row: JsonObject) -> str:
    if kind is Subject.EXPOSURE:
        if row["public"]:
            return "anyone at all"
        return "outsiders, by rules" if row["openings"] else f"{row['outsiders']} outside"
    holder = row.get("holder") or {}
    return str(holder.get("name") or ("everyone" if kind is Subject.LATCH else ""))


def _level_of(kind: Subject, row: JsonObject) -> str:
    if kind is Subject.SESSION:
        return str(row["device"] or "a session")
    if kind is Subject.EXPOSURE:
        return str(row["name"])
    if kind is Subject.LATCH:
        return f"{row['kind'].replace('_', ' ')}: {row['mode']}"
    return "owner" if kind is Subject.OWNERSHIP else str(row.get("rule", "")).replace("_", " ")


def _sentence(kind: Subject, row: JsonObject, account: str, zone: ZoneInfo) -> str:
    if kind is Subject.SESSION:
        since, seen = (day_in_words(row[name], zone) for name in ("started_at", "last_seen_at"))
        return f"Signed in to {account} since {since}, last seen {seen}."
    if kind is Subject.EXPOSURE:
        number = row["outsiders"]
        by_grants = f"People outside can reach “{row['name']}” in {account}, by {number} grant{'s' * (number != 1)}."
        return " ".join([*row["openings"], *([by_grants] if number else [])])
    if kind is Subject.OWNERSHIP:
        return f"Owns {account}, and decides who else gets in."
    if kind is Subject.LATCH:
        return f"Guards {account}: {row['kind'].replace('_', ' ')}, {row['mode']}."
    by, until = (row.get("accepted_by") or {}).get("name"), end_in_words(row["accepted_until"], zone)
    return f"{row['sentence']} Accepted by {by or 'somebody'} {until}: “{row['accepted_reason']}”"
