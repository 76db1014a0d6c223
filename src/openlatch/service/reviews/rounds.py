"""Reading a round: its progress, its groups, and what changed about its items since they were frozen."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.reviews.decisions import pace
from openlatch.core.time_windows import day_in_words, ends_on
from openlatch.core.vocabulary import FlagState, ItemState, Reach, Subject, Verdict
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import ListQuery, Page
from openlatch.store.lists.reviews import ITEMS, ROUNDS
from openlatch.store.reviews import population
from openlatch.store.tables import Flag, Item, Organisation, Person, Round, Team

GROUPS = {
    "account": Item.account,
    "holder": Item.holder,
    "level": Item.level,
    "recommended": Item.recommended,
    "kind": Item.kind,
}
MOST_GROUPS = 200
MOST_ACCOUNTS = 30


def page(unit: Unit, ident: UUID) -> schemas.RoundPage:
    """A round with its progress by reviewer. NotFound when the viewer has nothing to do in it."""
    unit.db.flush()
    row = ROUNDS.one(unit.db, ident, [unit.sight.rounds()])
    if row is None:
        raise NotFound("There is no such round, or nothing in it is yours to decide.")
    mine = select(func.count(Item.id)).where(Item.round_id == ident, unit.sight.my_items())
    stored = unit.db.get_one(Round, ident)
    return schemas.RoundPage.model_validate(
        {
            **row,
            "mine": unit.db.scalar(mine) or 0,
            "mine_left": unit.db.scalar(mine.where(Item.state == ItemState.UNDECIDED)) or 0,
            "reviewers_progress": _by_reviewer(unit, ident),
            "population": stored.population,
            "items_hash": stored.items_hash.hex() if stored.items_hash else None,
        }
    )


def _by_reviewer(unit: Unit, ident: UUID) -> list[schemas.ReviewerProgress]:
    """How far each reviewer is, how fast they went and how much they kept.

    The decider is credited, not the assignee; nobody is credited for items settled by default.
    """
    name = func.coalesce(Person.name, Team.name)
    theirs = Item.decided_by_id == Item.reviewer_id
    assigned = unit.db.execute(
        select(
            Item.reviewer_id,
            name.label("name"),
            func.count(Item.id).label("items"),
            func.count(Item.id).filter(Item.state == ItemState.UNDECIDED).label("left"),
            func.count(Item.id).filter(Item.fate.is_not(None)).label("by_default"),
            func.count(Item.id).filter(Item.decided_by_id.is_not(None), theirs.is_not(True)).label("by_others"),
        )
        .select_from(Item)
        .outerjoin(Person, Person.id == Item.reviewer_id)
        .outerjoin(Team, Team.id == Item.reviewer_team_id)
        .where(Item.round_id == ident, unit.sight.items())
        .group_by(name, Item.reviewer_id)
    ).mappings()
    found = {(row["reviewer_id"], row["name"]): dict(row) for row in assigned}
    decisions: dict[tuple[UUID, str], list[tuple[datetime, bool]]] = defaultdict(list)
    decided = unit.db.execute(
        select(Person.id, Person.name, Item.decided_at, Item.verdict == Verdict.KEEP)
        .join(Person, Person.id == Item.decided_by_id)
        .where(Item.round_id == ident, Item.decided_at.is_not(None), unit.sight.items())
    )
    for who, called, at, keeps in decided:
        assert at is not None
        decisions[who, called].append((at, bool(keeps)))
    none = {"items": 0, "left": 0, "by_default": 0, "by_others": 0}
    rows = []
    for who, called in sorted(found.keys() | decisions.keys(), key=lambda pair: (pair[1] is None, pair[1] or "")):
        own = decisions.get((who, called), []) if who is not None else []
        kept = sum(1 for _, keeps in own if keeps)
        counts = {**none, **{key: value for key, value in found.get((who, called), {}).items() if key in none}}
        speed = pace([at for at, _ in own], kept)
        rows.append(
            schemas.ReviewerProgress.model_validate(
                {
                    "id": who,
                    "name": called,
                    **counts,
                    "decided": len(own),
                    "kept": kept,
                    "share_kept": kept / len(own) if own else None,
                    "seconds_between": speed.seconds,
                }
            )
        )
    return rows


def progress(unit: Unit, ident: UUID) -> schemas.RoundProgress:
    """The progress of a round by reviewer, account and day, and what is late. For administrators."""
    unit.sight.require_administrator()
    found = page(unit, ident)
    zone = unit.db.get_one(Organisation, unit.viewer.organisation).time_zone
    day = func.date(func.timezone(zone, Item.decided_at))
    days = unit.db.execute(
        select(day, func.count(Item.id), func.count(Item.id).filter(Item.verdict == Verdict.KEEP))
        .where(Item.round_id == ident, Item.decided_at.is_not(None))
        .group_by(day)
        .order_by(day)
    )
    accounts = unit.db.execute(
        select(
            Item.account.label("name"),
            func.count(Item.id).label("items"),
            func.count(Item.id).filter(Item.state == ItemState.DECIDED).label("decided"),
        )
        .where(Item.round_id == ident)
        .group_by(Item.account)
        .order_by(
            (func.count(Item.id) - func.count(Item.id).filter(Item.state == ItemState.DECIDED)).desc(), Item.account
        )
        .limit(MOST_ACCOUNTS)
    ).mappings()
    late = found.due_at <= unit.now and found.closed_at is None
    return schemas.RoundProgress(
        by_reviewer=found.reviewers_progress,
        by_account=[schemas.AccountProgress.model_validate(row) for row in accounts],
        by_day=[schemas.DayProgress(day=at.isoformat(), decided=count, kept=kept) for at, count, kept in days],
        late=found.items - found.decided if late else 0,
        opened_at=found.opened_at,
        due_at=found.due_at,
        items=found.items,
    )


def require(unit: Unit, ident: UUID) -> None:
    """NotFound when there is no such round, or the viewer has nothing to do in it."""
    if unit.db.scalar(select(Round.id).where(Round.id == ident, unit.sight.rounds())) is None:
        raise NotFound("There is no such round, or nothing in it is yours to decide.")


def groups(unit: Unit, ident: UUID, by: str) -> list[schemas.Group]:
    """The viewer's items, counted by account, holder, level, recommended or kind; the largest groups first."""
    require(unit, ident)
    column = GROUPS.get(by)
    if column is None:
        raise BadInput(f"Items are not grouped by {by!r}.", f"Use one of: {', '.join(GROUPS)}.", {"by": "unknown"})
    left = func.count(Item.id).filter(Item.state == ItemState.UNDECIDED)
    rows = unit.db.execute(
        select(
            column.label("name"),
            func.count(Item.id).label("items"),
            left.label("undecided"),
            func.count(Item.id).filter(Item.flagged > 0, Item.state == ItemState.UNDECIDED).label("flagged"),
        )
        .where(Item.round_id == ident, unit.sight.items())
        .group_by(column)
        .order_by(left.desc(), column)
        .limit(MOST_GROUPS)
    ).mappings()
    return [schemas.Group.model_validate(row) for row in rows]


def items(unit: Unit, ident: UUID, query: ListQuery) -> Page:
    """A page of the viewer's items, each with what changed since it was frozen."""
    require(unit, ident)
    mine = ITEMS.of(unit.viewer.organisation)
    found = ITEMS.page(unit.db, query, [mine, Item.round_id == ident, unit.sight.items()])
    return Page(
        [shown(row).model_dump(exclude_unset=True) for row in _with_changes(unit, found.rows)], found.next, found.count
    )


def item(unit: Unit, round_id: UUID, ident: UUID) -> schemas.ItemRow:
    """One item, with what changed since it was frozen. NotFound when the viewer may not see it."""
    unit.db.flush()
    row = ITEMS.one(unit.db, ident, [Item.round_id == round_id, unit.sight.items()])
    if row is None:
        raise NotFound("There is no such item in this round, or it is not yours to decide.")
    return shown(_with_changes(unit, [row])[0])


def shown(row: JsonObject) -> schemas.ItemRow:
    """An item's row as an answer."""
    asked = {name: row.pop(name) for name in ("asked", "asked_of", "answer", "answered_at")}
    question = None
    if asked["asked"] is not None:
        question = schemas.AskedOf(
            question=asked["asked"],
            of=asked["asked_of"],
            answer=asked["answer"],
            answered_at=asked["answered_at"],
        )
    return schemas.ItemRow.model_validate({**row, "question": question})


def _with_changes(unit: Unit, rows: Sequence[JsonObject]) -> list[JsonObject]:
    """Changes are shown beside the frozen facts."""
    by_kind: dict[Subject, list[UUID]] = defaultdict(list)
    for row in rows:
        by_kind[Subject(row["kind"])].append(row["subject_id"])
    current = {kind: population.current_rows(unit.db, kind, ids) for kind, ids in by_kind.items()}
    flags: dict[UUID, set[str]] = defaultdict(set)
    ids = [row["subject_id"] for row in rows]
    for subject, rule in unit.db.execute(
        select(Flag.subject_id, Flag.rule).where(Flag.subject_id.in_(ids), Flag.state == FlagState.OPEN)
    ):
        flags[subject].add(rule)
    return [
        {
            **row,
            "changes": _changes(
                row, current[Subject(row["kind"])].get(row["subject_id"]), flags[row["subject_id"]], unit.zone
            ),
        }
        for row in rows
    ]


def _changes(item: JsonObject, now: JsonObject | None, flags: set[str], zone: ZoneInfo) -> list[str]:
    facts = item["facts"]
    if now is None:
        return ["It is not there any more."]
    found = []
    if "state" in facts and "state" in now and facts["state"] != now["state"]:
        found.append(f"It is {now.get('ended_as') or now['state']} now.")
    if "level" in now and facts.get("level") != (now["level"] or ""):
        found.append(f"The level is “{now['level']}” now.")
    if facts.get("reach") and now.get("reach") and facts["reach"] != now["reach"]:
        found.append(f"It reaches {Reach(now['reach']).word} now.")
    for name, words in (("until", "It ends"), ("last_used_at", "It was used")):
        before, after = _instant(facts.get(name)), now.get(name)
        if name in now and before != after:
            day = ends_on(after, zone) if after and name == "until" else after
            found.append(f"{words} {day_in_words(day, zone)}." if day else f"{words} no more on a set day.")
    if now.get("ended_at") is not None and "ended_at" in facts and facts["ended_at"] is None:
        found.append("It has ended.")
    owner = (facts.get("account") or {}).get("owner")
    if item["kind"] == Subject.OWNERSHIP and str((now.get("holder") or {}).get("id")) != str(owner):
        found.append(f"{now['holder']['name']} owns it now.")
    known = {flag["rule"] for flag in facts.get("flags", [])}
    found += [f"Flagged since: {rule.replace('_', ' ')}." for rule in sorted(flags - known)]
    found += [f"Not flagged any more: {rule.replace('_', ' ')}." for rule in sorted(known - flags)]
    return found


def _instant(stored: str | None) -> datetime | None:
    return datetime.fromisoformat(stored) if stored else None
