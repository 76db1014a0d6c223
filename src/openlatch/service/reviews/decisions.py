"""Deciding items: one or many at once, with a second reviewer, questions, and undo."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.checks import require_count, require_words
from openlatch.core.register import Holder
from openlatch.core.reviews import decisions as core
from openlatch.core.reviews.assignment import About
from openlatch.core.time_windows import end_given, zone_of
from openlatch.core.vocabulary import Acts, HolderKind, ItemState, Reach, Standing, Subject, Verdict
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, OpenLatchError
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.notifications import notices
from openlatch.service.reviews import carry_out, reviewers, rounds
from openlatch.service.revocations import revoke
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.duplicate_people import possible_duplicates
from openlatch.store.tables import Account, App, Grant, Item, Level, Person, Question, Round, Team

MOST_AT_ONCE = 500


@dataclass(frozen=True, slots=True)
class Decision:
    """A decision. ``version`` is the item's version that was looked at."""

    verdict: Verdict
    reason: str = ""
    trim_level: UUID | None = None
    trim_until: datetime | None = None
    successor: UUID | None = None
    version: int | None = None
    trim_to_use: bool = False
    trim_last_day: date | None = None


def decide(unit: Unit, round_id: UUID, item_id: UUID, decision: Decision) -> schemas.ItemRow:
    """Decide an item. Where the round acts at once, ending or trimming starts now and can't be undone.

    A keep or a trim may wait for a second reviewer. NotAllowed for one's own access, for what one gave, or somebody
    else's item; Conflict when the round is closed, the decision is being carried out, or the item was changed
    meanwhile.
    """
    _before_changes(unit, decision)
    round_row, item = locked(unit, round_id, item_id, decision.version)
    _decide(unit, round_row, item, decision)
    _look_again(unit, [item.id])
    return rounds.item(unit, round_id, item_id)


def _before_changes(unit: Unit, decision: Decision) -> None:
    """Ending or trimming takes the access lock before any item is locked."""
    if decision.verdict is not Verdict.KEEP:
        locks.access(unit)


def locked(unit: Unit, round_id: UUID, item_id: UUID, version: int | None = None) -> tuple[Round, Item]:
    """An item to work on, locked, with its round, which can't close meanwhile."""
    round_row = unit.db.get(Round, round_id, with_for_update={"read": True}, populate_existing=True)
    item = unit.db.get(Item, item_id, with_for_update=True, populate_existing=True)
    mine = select(Item.id).where(Item.id == item_id, unit.sight.items())
    if round_row is None or item is None or item.round_id != round_id or unit.db.scalar(mine) is None:
        raise NotFound("There is no such item in this round, or it is not yours to decide.")
    if round_row.closed_at is not None:
        raise Conflict("The round is closed; nothing in it can change.", "Open a new round.")
    if version is not None and version != item.version:
        raise Conflict("Somebody else changed this item meanwhile.", "Look at it again, then decide.")
    return round_row, item


def _refuse_started(item: Item) -> None:
    if item.revocation_id is not None:
        raise Conflict("This decision is being carried out already.", "Look at its revocation.")
    if item.draft_id is not None:
        raise Conflict("This decision is being carried out already.", "Look at its draft of access rules.")
    if item.offer_id is not None or (item.done_at is not None and item.verdict != Verdict.KEEP):
        raise Conflict("This decision has been carried out already.", "Look at what came of it.")


def _about(unit: Unit, item: Item) -> About:
    """Whose access an item is, and who gave it: as frozen, and for teams with their present members."""
    facts, viewer = item.facts, unit.viewer.person
    kind = Subject(item.kind)
    if kind is Subject.ACCEPTANCE:
        by = facts.get("accepted_by") or {}
        gave = UUID(by["id"]) if by.get("id") else None
        return About(given_by=gave, duplicates=_duplicates(unit, gave))
    holder = facts.get("holder") or {}
    own = UUID(holder["id"]) if holder.get("id") and holder.get("kind", "person") == HolderKind.PERSON else None
    if kind in (Subject.EXPOSURE, Subject.LATCH):
        return About()
    given = facts.get("given_by") or {}
    owner = facts["account"].get("owner")
    insiders = frozenset({viewer}) if viewer and item.grant_id and own is None and _gets_in(unit, item) else None
    giver = UUID(given["id"]) if given.get("id") else None
    owned_by = UUID(owner) if owner else None
    return About(own, giver, owned_by, "", insiders or frozenset(), _duplicates(unit, own, giver))


def _duplicates(unit: Unit, *people: UUID | None) -> frozenset[UUID]:
    found = possible_duplicates(unit.db, [person for person in people if person is not None])
    return frozenset[UUID]().union(*found.values())


def _gets_in(unit: Unit, item: Item) -> bool:
    """Whether the viewer gets in by the grant that an item is about."""
    assert unit.viewer.person is not None
    me = Holder(HolderKind.PERSON, unit.viewer.person)
    paths = access_paths.everything_reached(subgraph.around_holder(unit.db, me), me, unit.now)
    return any(item.grant_id in path.grants for path in paths)


def undecided_of(unit: Unit, item: Item) -> core.Undecided:
    """The data of an item that deciding needs."""
    return core.Undecided(
        Subject(item.kind),
        _about(unit, item),
        Reach(item.reach) if item.reach else None,
        carry_out.lives_until(item),
        item.severity,
    )


def _decide(unit: Unit, round_row: Round, item: Item, decision: Decision) -> None:
    _refuse_started(item)
    _put(unit, item, decision)
    seconds = item.needs_second and decision.verdict is not Verdict.REVOKE
    item.state = ItemState.SECONDING if seconds else ItemState.DECIDED
    item.decided_by_id, item.decided_at, item.version = unit.viewer.person, unit.now, item.version + 1
    item.seconded_by_id = item.seconded_at = item.done_at = None
    _note(unit, "item.decided", item, round_row, verdict=item.verdict, reason=item.reason)
    if item.state == ItemState.SECONDING:
        sentence = f"{unit.viewer.name} decided to {item.verdict} {words(item)}; you are asked to agree."
        seconds_asked = [item.second_id] if item.second_id else notices.administrators(unit) - {unit.viewer.person}
        notices.tell(unit, seconds_asked, "review", sentence, f"/rounds/{round_row.id}")
    else:
        _carry_out(unit, round_row, item)
    unit.db.flush()


def _put(unit: Unit, item: Item, decision: Decision) -> None:
    """Check a decision and write it into an item."""
    level = unit.db.get(Level, decision.trim_level) if decision.trim_level else None
    if decision.trim_level and level is None:
        raise BadInput("There is no such level.", "Choose another.", {"trim_level": "unknown"})
    reach = Reach(level.reach) if level else None
    if decision.successor is not None and not _may_name(unit, item, decision.successor):
        raise BadInput("There is no such person, or you may not see them.", "Choose another.", {"successor": "unknown"})
    account = unit.db.get_one(Account, item.account_id) if item.account_id else None
    until = end_given(decision.trim_until, decision.trim_last_day, zone_of(account.time_zone) if account else unit.zone)
    choice = core.Choice(decision.verdict, decision.reason, reach, until, decision.successor, decision.trim_to_use)
    core.refuse_unfit(undecided_of(unit, item), choice, unit.viewer.person, unit.now)
    if (
        Subject(item.kind) is Subject.EXPOSURE
        and decision.verdict is Verdict.REVOKE
        and not carry_out.wish_of(unit, item)
    ):
        raise Conflict(
            "Nothing of it can be ended here: whoever outside reaches it has more than this part.",
            "Decide on their grants, and keep this item.",
        )
    item.verdict, item.reason = decision.verdict, decision.reason.strip()
    item.trim_level_id, item.trim_until = decision.trim_level, until
    item.trim_to_use = decision.trim_to_use
    item.successor_id = decision.successor


def _look_again(unit: Unit, items: Sequence[UUID]) -> None:
    """Update flags after a decision: what is kept again and again without use is flagged."""
    kept = select(Item.grant_id).where(Item.id.in_(items), Item.grant_id.is_not(None))
    evaluate_flags.evaluate(unit, noted=[ident for ident in unit.db.scalars(kept) if ident is not None])


def _carry_out(unit: Unit, round_row: Round, item: Item) -> None:
    if item.verdict == Verdict.KEEP:
        return
    if round_row.acts == Acts.WHEN_DECIDED:
        carry_out.act(unit, round_row, item)
    else:
        carry_out.try_out(unit, item)


def words(item: Item) -> str:
    """An item in a few words."""
    return f"{item.holder} on {item.account}" if item.holder else item.account


def _note(unit: Unit, action: str, item: Item, round_row: Round, **facts: object) -> None:
    unit.record(
        action,
        "item",
        item.id,
        words(item),
        item.account_id,
        round=round_row.name,
        round_id=round_row.id,
        position=item.position,
        **facts,
    )


def preview(unit: Unit, round_id: UUID, item_id: UUID, decision: Decision) -> schemas.DecisionPreview:
    """What a decision would do, without making it."""
    _, item = locked(unit, round_id, item_id)
    _refuse_started(item)
    with attempt(unit, keep=False) as within:
        _put(within, item, decision)
        item.state = ItemState.DECIDED
        unit.db.flush()
        return carry_out.preview(within, item)


def second(unit: Unit, round_id: UUID, item_id: UUID, agree: bool, reason: str, version: int | None) -> schemas.ItemRow:
    """Agree to a decision as second reviewer, or send it back with a reason.

    NotAllowed for whoever made it; Conflict when it does not wait for a second.
    """
    locks.access(unit)
    round_row, item = locked(unit, round_id, item_id, version)
    if item.state != ItemState.SECONDING:
        raise Conflict(f"The item is {item.state}; it does not wait for a second reviewer.", "Look at it again.")
    if item.decided_by_id == unit.viewer.person:
        raise NotAllowed("A second reviewer is somebody else.", "Ask another to agree, or pass it on.")
    if not (unit.sight.everything or item.second_id in (None, unit.viewer.person)):
        raise NotAllowed("Another is asked to agree to this.", "Leave it to them.")
    core.refuse_involved(_about(unit, item), unit.viewer.person)
    if not agree:
        require_words(reason, "Say why you don't agree.", "Write a few words.")
    item.version += 1
    first = item.decided_by_id
    if agree:
        item.state, item.seconded_by_id, item.seconded_at = ItemState.DECIDED, unit.viewer.person, unit.now
        _note(unit, "item.seconded", item, round_row, verdict=item.verdict, reason=reason.strip())
        _carry_out(unit, round_row, item)
    else:
        _note(unit, "item.sent_back", item, round_row, verdict=item.verdict, reason=reason.strip())
        _forget(item)
        sentence = f"{unit.viewer.name} does not agree about {words(item)}: {reason.strip()}"
        notices.tell(unit, [first], "review", sentence, f"/rounds/{round_row.id}")
    unit.db.flush()
    _look_again(unit, [item.id])
    return rounds.item(unit, round_id, item_id)


def _forget(item: Item) -> None:
    item.state, item.verdict, item.reason = ItemState.UNDECIDED, None, ""
    item.trim_level_id = item.trim_until = item.successor_id = None
    item.trim_to_use = False
    item.decided_by_id = item.decided_at = item.seconded_by_id = item.seconded_at = item.done_at = None
    item.outcome = ""


def undo(unit: Unit, round_id: UUID, item_id: UUID, version: int | None = None) -> schemas.ItemRow:
    """Undo a decision. Conflict when there is none, or it is being carried out."""
    round_row, item = locked(unit, round_id, item_id, version)
    if item.state == ItemState.UNDECIDED:
        raise Conflict("The item is undecided; there is nothing to take back.", "Decide it.")
    _refuse_started(item)
    _note(unit, "item.undone", item, round_row, verdict=item.verdict)
    _forget(item)
    item.version += 1
    unit.db.flush()
    _look_again(unit, [item.id])
    return rounds.item(unit, round_id, item_id)


def pass_on(
    unit: Unit, round_id: UUID, item_id: UUID, to: UUID, reason: str, version: int | None = None
) -> schemas.ItemRow:
    """Pass an undecided item to a better reviewer, who is notified. NotAllowed when they hold or gave the access."""
    round_row, item = locked(unit, round_id, item_id, version)
    if item.state != ItemState.UNDECIDED:
        raise Conflict(f"The item is {item.state} already.", "Take the decision back first.")
    require_words(reason, "Say why they are the better reviewer.", "Write a few words.")
    person = reviewers.colleagues(unit, [to]).get(to)
    # Looked up in any case, so that the answer does not reveal whether the id exists.
    named = _may_name(unit, item, to)
    if person is None or person.gone or not named:
        raise BadInput("There is no such person, or they have left.", "Choose another.", {"to": "unknown"})
    if to == item.reviewer_id:
        raise BadInput(f"It is {person.name}'s already.", "Choose another.", {"to": "is the reviewer"})
    asked_for = _about_for(unit, item, to)
    core.refuse_involved(asked_for, to)
    item.second_id = None if item.second_id == to else item.second_id
    item.reviewer_id, item.reviewer_team_id, item.by_default = to, None, False
    item.assigned_as = f"Passed on by {unit.viewer.name}: {reason.strip()}"
    item.version += 1
    _note(unit, "item.passed_on", item, round_row, to=person.name, reason=reason.strip())
    sentence = f"{unit.viewer.name} passed {words(item)} on to you: {reason.strip()}"
    notices.tell_and_write(unit, [to], "review", sentence, f"/rounds/{round_row.id}")
    unit.db.flush()
    # Returned once more, although it is no longer the viewer's.
    return rounds.item(unit.as_service(), round_id, item_id)


def _may_name(unit: Unit, item: Item, person: UUID) -> bool:
    """Whether the viewer may name somebody by id: people they see, and those related to the item."""
    if unit.seen_person(person) is not None or person == item.reviewer_id:
        return True
    return person in {one.id for one in better_reviewers(unit, item.round_id, item.id)}


def _about_for(unit: Unit, item: Item, person: UUID) -> About:
    """The same as for the viewer, asked about somebody else."""
    return _about(replace(unit, viewer=replace(unit.viewer, person=person)), item)


def better_reviewers(unit: Unit, round_id: UUID, item_id: UUID) -> list[schemas.BetterReviewer]:
    """Who could decide an item instead: the account's owner and stewards, the holder's manager, the second reviewer."""
    row = rounds.item(unit, round_id, item_id)
    item = unit.db.get_one(Item, item_id)
    wanted: dict[UUID, str] = {}
    if item.account_id is not None:
        owner = unit.db.get_one(Account, item.account_id).owner_id
        wanted |= {owner: "owns the account"} if owner else {}
        for steward in sorted(notices.stewards(unit, item.account_id)):
            wanted.setdefault(steward, "decides who gets in")
    holder = unit.db.get(Person, UUID(str(row.facts["holder"]["id"]))) if row.facts.get("holder") else None
    if holder is not None and holder.manager_id:
        wanted.setdefault(holder.manager_id, "manages the holder")
    if item.second_id:
        wanted.setdefault(item.second_id, "is the second reviewer")
    found = []
    for ident, colleague in reviewers.colleagues(unit, wanted).items():
        fit = not colleague.gone and _about_for(unit, item, ident).refusal(ident) is None
        if fit and ident != item.reviewer_id:
            found.append(schemas.BetterReviewer(id=ident, name=colleague.name, why=wanted[ident]))
    return sorted(found, key=lambda person: str(person.name))


# Many at once.


@dataclass(frozen=True, slots=True)
class Picked:
    """A selected item, with the version that was looked at."""

    id: UUID
    version: int | None = None


def decide_many(unit: Unit, round_id: UUID, picked: Sequence[Picked], decision: Decision) -> list[schemas.DecidedLine]:
    """Decide many items alike; returns a line for each, with the refusal if any.

    BadInput, with the list, for keeping flagged items: these are decided one by one. Ending more than a few at once
    needs a fresh proof.
    """
    require_count(len(picked), MOST_AT_ONCE, "items", "items")
    _before_changes(unit, decision)
    rounds.require(unit, round_id)
    ids = [one.id for one in picked]
    flagged = unit.db.scalars(
        select(Item)
        .where(Item.round_id == round_id, Item.id.in_(ids), Item.flagged > 0, unit.sight.items())
        .order_by(Item.position)
    )
    core.refuse_waving_through(decision.verdict, (f"{item.position} {words(item)}" for item in flagged))
    if decision.verdict is Verdict.REVOKE and len(set(ids)) > revoke.BULK:
        unit.require_proof(f"Ending {len(set(ids))} grants at once")
    lines = [_one_of_many(unit, round_id, one, decision) for one in sorted(picked, key=lambda p: p.id)]
    _look_again(unit, ids)
    return lines


def _one_of_many(unit: Unit, round_id: UUID, one: Picked, decision: Decision) -> schemas.DecidedLine:
    """Decide each item in a savepoint, so that one refusal does not affect the others."""
    try:
        with attempt(unit):
            round_row, item = locked(unit, round_id, one.id, one.version)
            _decide(unit, round_row, item, decision)
    except OpenLatchError as error:
        return schemas.DecidedLine(id=one.id, refused=f"{error.detail} {error.remedy}".strip())
    return schemas.DecidedLine(id=one.id, refused=None)


# Asking the holder.


def ask(unit: Unit, round_id: UUID, item_id: UUID, question: str) -> schemas.ItemRow:
    """Ask the holder a question; the answer is shown with the item. Conflict while one is open."""
    round_row, item = locked(unit, round_id, item_id)
    require_words(question, "There is no question.", "Write what you want to know.", "question")
    open_one = select(Question.id).where(Question.item_id == item_id, Question.answered_at.is_(None))
    if unit.db.scalar(open_one.limit(1)) is not None:
        raise Conflict("A question about this item is open already.", "Wait for the answer.")
    person = _to_ask(unit, item)
    row = Question(
        organisation_id=unit.viewer.organisation,
        item_id=item_id,
        person_id=person,
        asked_by_id=unit.viewer.person,
        asked_at=unit.now,
        question=question.strip(),
    )
    unit.db.add(row)
    unit.db.flush()
    asked = unit.db.get_one(Person, person).name
    _note(unit, "item.asked", item, round_row, question=row.question, of=asked)
    sentence = f"{unit.viewer.name} asks about your access to {item.account}: {row.question}"
    notices.tell_and_write(unit, [person], "review", sentence, "/mine#questions")
    return rounds.item(unit, round_id, item_id)


def _to_ask(unit: Unit, item: Item) -> UUID:
    """Who can say what it is needed for: the person, the team's speaker, who linked the app, the owner."""
    grant = unit.db.get(Grant, item.grant_id) if item.grant_id else None
    found: UUID | None = None
    if grant is not None:
        found = grant.person_id or (unit.db.get_one(Team, grant.team_id).speaker_id if grant.team_id else None)
        if grant.holder_account_id is not None:
            found = unit.db.get_one(Account, grant.holder_account_id).owner_id
        elif found is None:
            found = grant.given_by_id
    else:
        holder = item.facts.get("holder") or {}
        if holder.get("id") and unit.db.get(App, UUID(holder["id"])) is None:
            found = UUID(holder["id"])
        elif item.account_id is not None:
            found = unit.db.get_one(Account, item.account_id).owner_id
    person = unit.db.get(Person, found) if found else None
    if person is None or person.standing == Standing.LEFT:
        raise BadInput("There is nobody to ask about it.", "Decide it, or pass it on.")
    return person.id


def answer(unit: Unit, ident: UUID, text: str) -> JsonObject:
    """Answer a question to oneself. Conflict when it is answered or the round is closed."""
    row = unit.db.get(Question, ident, with_for_update=True)
    if row is None or row.person_id != unit.viewer.person:
        raise NotFound("There is no such question to you.")
    item = unit.db.get_one(Item, row.item_id)
    round_row = unit.db.get_one(Round, item.round_id, with_for_update={"read": True})
    if row.answered_at is not None or round_row.closed_at is not None:
        raise Conflict("The question is answered, or its round is closed.", "There is nothing more to do.")
    if not text.strip():
        raise BadInput("There is no answer.", "Write a few words.", {"answer": "is missing"})
    row.answer, row.answered_at = text.strip(), unit.now
    _note(unit, "item.answered", item, round_row, answer=row.answer)
    sentence = f"{unit.viewer.name} answered about {words(item)}: {row.answer}"
    notices.tell(unit, [row.asked_by_id], "review", sentence, f"/rounds/{round_row.id}")
    unit.db.flush()
    return {"id": row.id, "answer": row.answer, "answered_at": row.answered_at}
