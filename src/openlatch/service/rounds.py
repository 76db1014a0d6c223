"""Review rounds: opening one over a filter, deciding its items, closing it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlalchemy import func, select, update
from sqlalchemy.orm import aliased

from openlatch.core import review as core
from openlatch.core.words import HolderKind, Reach, Severity, Verdict
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service import revocations
from openlatch.service.context import Unit
from openlatch.service.jsonable import jsonable
from openlatch.store.lists import GRANTS, ITEMS, LIVE, ROUNDS
from openlatch.store.tables import Account, Flag, Grant, Item, Level, Person, Round, Schedule

MOST_ITEMS = 50_000


@dataclass(frozen=True, slots=True)
class Opening:
    """How a round is to be opened. ``acts``: when_decided or at_close."""

    name: str
    scope: str
    days: int = 14
    reviewer: UUID | None = None
    acts: str = "when_decided"
    schedule: UUID | None = None


def open_round(unit: Unit, opening: Opening) -> UUID:
    """Open a round over the live grants that a filter matches, freezing each with its facts.

    BadInput when the filter matches nothing, or too much.
    """
    unit.sight.require_administrator()
    if not opening.name.strip():
        raise BadInput("The round has no name.", "Give it one.", {"name": "is missing"})
    if not 1 <= opening.days <= 365:
        raise BadInput(f"{opening.days} days to decide is out of range.", "Use 1 to 365.", {"days": "out of range"})
    named = _reviewer(unit, opening.reviewer)
    grants = GRANTS.all(unit.db, opening.scope, [Grant.state.in_(LIVE)], MOST_ITEMS + 1)
    # What was opened in an emergency is in the next review, whatever its scope.
    urgent = GRANTS.all(unit.db, "", [Grant.state.in_(LIVE), Grant.for_review.is_(True)])
    found = {grant["id"] for grant in grants}
    grants += [grant for grant in urgent if grant["id"] not in found]
    if not grants:
        raise BadInput("No live grant matches this filter.", "Widen it.", {"scope": "matches nothing"})
    if len(grants) > MOST_ITEMS:
        raise BadInput(f"More than {MOST_ITEMS} grants match.", "Narrow the filter.", {"scope": "matches too much"})
    row = Round(
        organisation_id=unit.viewer.organisation,
        name=opening.name.strip(),
        scope=opening.scope,
        acts=opening.acts,
        opened_at=unit.now,
        opened_by_id=unit.viewer.person,
        schedule_id=opening.schedule,
        due_at=unit.now + timedelta(days=opening.days),
    )
    unit.db.add(row)
    unit.db.flush()
    _freeze(unit, row, grants, named)
    unit.db.execute(update(Grant).where(Grant.for_review, Grant.state.in_(LIVE)).values(for_review=False))
    unit.record("round.opened", "round", row.id, row.name, scope=row.scope, items=len(grants), acts=row.acts)
    return row.id


def _reviewer(unit: Unit, ident: UUID | None) -> UUID | None:
    if ident is not None and unit.db.get(Person, ident) is None:
        raise BadInput("There is no such person to review.", "Choose a person.", {"reviewer": "unknown"})
    return ident


def _freeze(unit: Unit, row: Round, grants: list[dict[str, Any]], named: UUID | None) -> None:
    owner = aliased(Person)
    accounts = {grant["account"]["id"] for grant in grants}
    owners = dict(
        unit.db.execute(
            select(Account.id, Account.owner_id)
            .join(owner, owner.id == Account.owner_id)
            .where(Account.id.in_(accounts), owner.standing != "left")
        ).all()
    )
    flagged = _flags_on(unit, [grant["id"] for grant in grants])
    ordered = sorted(
        grants, key=lambda g: (-_worst(flagged.get(g["id"], [])), g["account"]["name"], g["holder"]["name"])
    )
    for position, grant in enumerate(ordered, 1):
        facts = {**_frozen(grant), "flags": flagged.get(grant["id"], [])}
        reviewer = core.assign(_undecided(grant, facts, None), owners.get(grant["account"]["id"]), named)
        unit.db.add(
            Item(
                organisation_id=unit.viewer.organisation,
                round_id=row.id,
                grant_id=grant["id"],
                position=position,
                reviewer_id=reviewer,
                facts=facts,
            )
        )
    unit.db.flush()


def _worst(flags: list[dict[str, Any]]) -> int:
    return max((flag["score"] for flag in flags), default=-1)


def _flags_on(unit: Unit, grants: list[UUID]) -> dict[UUID, list[dict[str, Any]]]:
    found: dict[UUID, list[dict[str, Any]]] = {}
    statement = select(Flag).where(Flag.subject_id.in_(grants), Flag.state == "open").order_by(Flag.score.desc())
    for flag in unit.db.scalars(statement):
        shown = {"rule": flag.rule, "severity": flag.severity, "score": flag.score, "sentence": flag.sentence}
        found.setdefault(flag.subject_id, []).append(shown)
    return found


_KEPT = (
    "state", "account", "system", "holder", "level", "sentence", "reach", "since", "until", "given_at", "given_by",
    "reason", "last_used_at", "recorded", "part", "emergency",
)  # fmt: skip


def _frozen(grant: dict[str, Any]) -> dict[str, Any]:
    frozen: dict[str, Any] = jsonable({name: grant[name] for name in _KEPT})
    return frozen


def _undecided(grant: dict[str, Any], facts: dict[str, Any], reviewer: UUID | None) -> core.Undecided:
    given_by = grant["given_by"]
    until = grant["until"]
    return core.Undecided(
        HolderKind(grant["holder"]["kind"]),
        UUID(str(grant["holder"]["id"])),
        UUID(str(given_by["id"])) if given_by else None,
        Reach(grant["reach"]),
        datetime.fromisoformat(until) if isinstance(until, str) else until,
        reviewer,
        sum(1 for flag in facts["flags"] if flag["severity"] >= Severity.HIGH),
    )


def page(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A round with its progress. NotFound when the viewer has nothing to do in it."""
    unit.db.flush()
    row = ROUNDS.one(unit.db, ident, [unit.sight.rounds()])
    if row is None:
        raise NotFound("There is no such round, or nothing in it is yours to decide.")
    mine = select(func.count(Item.id)).where(Item.round_id == ident, Item.reviewer_id == unit.viewer.person)
    per_reviewer = unit.db.execute(
        select(
            Person.name,
            func.count(Item.id).label("items"),
            func.count(Item.verdict).label("decided"),
            func.count(Item.id).filter(Item.verdict == "keep").label("kept"),
        )
        .select_from(Item)
        .outerjoin(Person, Person.id == Item.reviewer_id)
        .where(Item.round_id == ident, unit.sight.items())
        .group_by(Person.name)
        .order_by(Person.name)
    )
    return {
        **row,
        "mine": unit.db.scalar(mine) or 0,
        "mine_left": unit.db.scalar(mine.where(Item.verdict.is_(None))) or 0,
        "reviewers": [dict(r) for r in per_reviewer.mappings()],
    }


def reviewers(unit: Unit, ident: UUID) -> dict[UUID, int]:
    """Who is to decide in a round, and how many items each."""
    counted = select(Item.reviewer_id, func.count(Item.id)).where(Item.round_id == ident, Item.reviewer_id.is_not(None))
    return {who: count for who, count in unit.db.execute(counted.group_by(Item.reviewer_id)) if who is not None}


@dataclass(frozen=True, slots=True)
class Decision:
    """A decision as it comes in. ``version`` is the item's version that was looked at."""

    verdict: Verdict
    reason: str = ""
    trim_level: UUID | None = None
    trim_until: datetime | None = None
    version: int | None = None


def decide(unit: Unit, round_id: UUID, item_id: UUID, decision: Decision) -> dict[str, Any]:
    """Decide an item. Where the round acts at once, ending or trimming starts now and can't be taken back.

    NotAllowed for one's own access or somebody else's item; Conflict when the round is closed, the decision is
    being carried out, or somebody else changed the item meanwhile.
    """
    round_row = unit.db.get(Round, round_id, with_for_update={"read": True})
    item = unit.db.get(Item, item_id, with_for_update=True)
    if round_row is None or item is None or item.round_id != round_id:
        raise NotFound("There is no such item in this round.")
    _refuse_stranger(unit, item)
    if round_row.closed_at is not None:
        raise Conflict("The round is closed; nothing in it can change.", "Open a new round.")
    if decision.version is not None and decision.version != item.version:
        raise Conflict("Somebody else changed this item meanwhile.", "Look at it again, then decide.")
    if item.revocation_id is not None:
        raise Conflict("This decision is being carried out already.", "Look at its revocation.")
    level = unit.db.get(Level, decision.trim_level) if decision.trim_level else None
    if decision.trim_level and level is None:
        raise BadInput("There is no such level.", "Choose another.", {"trim_level": "unknown"})
    choice = core.Choice(decision.verdict, decision.reason, Reach(level.reach) if level else None, decision.trim_until)
    undecided = _undecided(item.facts, item.facts, item.reviewer_id)
    core.refuse_unfit(undecided, choice, unit.viewer.person, unit.now)
    item.verdict, item.reason = decision.verdict, decision.reason.strip()
    item.trim_level_id, item.trim_until = decision.trim_level, decision.trim_until
    item.decided_by_id, item.decided_at, item.version = unit.viewer.person, unit.now, item.version + 1
    unit.record(
        "item.decided",
        "item",
        item.id,
        _words(item),
        UUID(item.facts["account"]["id"]),
        verdict=item.verdict,
        reason=item.reason,
        round=round_row.name,
    )
    if decision.verdict is not Verdict.KEEP:
        if round_row.acts == "when_decided":
            _act(unit, round_row, item)
        else:
            _try_out(unit, item)
    unit.db.flush()
    shown = ITEMS.one(unit.db, item_id)
    assert shown is not None
    return shown


def _words(item: Item) -> str:
    return f"{item.facts['holder']['name']} on {item.facts['account']['name']}"


def _refuse_stranger(unit: Unit, item: Item) -> None:
    if unit.sight.everything or item.reviewer_id == unit.viewer.person:
        return
    raise NotFound("There is no such item in this round, or it is not yours to decide.")


def _wish(item: Item) -> revocations.Wish:
    return revocations.Wish((item.grant_id,), (), item.trim_level_id, item.trim_until)


def _try_out(unit: Unit, item: Item) -> None:
    """Refuse now what could not be carried out at the close."""
    revocations.preview(unit.as_service(), _wish(item))


def _act(unit: Unit, round_row: Round, item: Item) -> None:
    """Start what was decided. A grant that ended meanwhile by itself needs nothing more."""
    grant = unit.db.get_one(Grant, item.grant_id)
    if grant.state in ("ended", "revoking"):
        return
    # The reviewer decides; it is the service that carries it out, wherever the reviewer could not.
    reason = f"{item.reason} (review “{round_row.name}”)"
    item.revocation_id = revocations.start(unit.as_service(), _wish(item), reason, cause="review")


def close(unit: Unit, ident: UUID, undecided: str = "") -> dict[str, Any]:
    """Close a round: decisions not yet acted on are carried out, and nothing in it changes any more.

    ``undecided``: keep or revoke, for items without a decision; left out, it is what the round's schedule says, and
    without one such items are a Conflict.
    """
    unit.sight.require_administrator()
    row = unit.db.get(Round, ident, with_for_update=True)
    if row is None:
        raise NotFound("There is no such round.")
    items = unit.db.scalars(select(Item).where(Item.round_id == ident).order_by(Item.position).with_for_update()).all()
    schedule = unit.db.get(Schedule, row.schedule_id) if row.schedule_id else None
    undecided = undecided or (schedule.undecided if schedule else "")
    if undecided and row.closed_at is None:
        if undecided not in ("keep", "revoke"):
            raise BadInput(f"{undecided!r} can't become of undecided items.", "Use keep or revoke.")
        for item in items:
            if item.verdict is None:
                _settle(unit, item, Verdict(undecided))
    progress = core.count([Verdict(i.verdict) if i.verdict else None for i in items])
    core.refuse_close(progress, row.closed_at is not None)
    for item in items:
        if item.verdict != Verdict.KEEP and item.revocation_id is None:
            _act(unit, row, item)
    row.closed_at, row.closed_by_id = unit.now, unit.viewer.person
    unit.record(
        "round.closed",
        "round",
        row.id,
        row.name,
        items=progress.items,
        kept=progress.kept,
        trimmed=progress.trimmed,
        revoked=progress.revoked,
    )
    return page(unit, ident)


def _settle(unit: Unit, item: Item, verdict: Verdict) -> None:
    """What becomes of an item that nobody decided."""
    item.verdict, item.reason = verdict, "Undecided when the round was closed."
    item.decided_at, item.version = unit.now, item.version + 1
    account = UUID(item.facts["account"]["id"])
    unit.record("item.settled", "item", item.id, _words(item), account, verdict=verdict, reason=item.reason)
