"""Requests: a wish for access put to an account's owner, and what the owner makes of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import and_, func, or_, select

from openlatch.core.register import Holder, Term
from openlatch.core.states import REQUESTS, RequestState, move
from openlatch.core.time_windows import Window, end_in_words, end_of_last_day
from openlatch.core.vocabulary import GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, TooMany
from openlatch.service import locks
from openlatch.service.changes import changes
from openlatch.service.grants import lifecycle, terms
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import preview
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import offers
from openlatch.store.tables import AccessRequest, Account, Grant, Level, Person, Team

STANDS_FOR = timedelta(days=14)
TOLD_AGAIN_AFTER = timedelta(days=1)
MOST_PENDING = 20


@dataclass(frozen=True, slots=True)
class Wish:
    """What somebody asks for: of an account by its id or exact name, or of an owner by address."""

    reason: str
    account: UUID | None = None
    account_name: str = ""
    owner_address: str = ""
    level: UUID | None = None
    parts: tuple[UUID, ...] = ()
    until: datetime | None = None
    last_day: date | None = None
    emergency: bool = False
    extends: UUID | None = None


def ask(unit: Unit, wish: Wish) -> dict[str, Any]:
    """Ask for access. The same again, while it waits for an answer, changes the request that is there.

    Whether an owner's address is one is not told: a request to an address that no owner has goes to the
    administrators. An emergency opens access at once where the account allows it.
    """
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who is signed in can ask.")
    if len(wish.reason.strip()) < 3:
        raise BadInput("A request needs a reason.", "Say in a few words why.", {"reason": "is missing"})
    if wish.emergency:
        locks.access(unit)
    extended = _to_extend(unit, wish)
    account = lifecycle.account_of(unit, extended.account_id) if extended is not None else _account(unit, wish)
    if account is not None and account.owner_id == unit.viewer.person:
        raise BadInput(f"{account.name} is your own.", "There is nobody to ask.", {"account": "is your own"})
    if wish.level is not None and account is None:
        raise BadInput("A level is chosen, but no account.", "Say in words what you want to do.", {"level": "unknown"})
    if account is not None and (wish.level is not None or wish.parts):
        _refuse_unfit(unit, account, wish)
    wish = _with_end(unit, account, extended, wish)
    if wish.emergency:
        return _emergency(unit, account, wish)
    row, fresh = _put(unit, account, wish)
    what = account.name if account else f"access ({wish.account_name or wish.reason.strip()})"
    unit.record("request.made", "request", row.id, what, account.id if account else None, reason=row.reason)
    if fresh:
        wanted = f"access to {account.name}" if account else "access"
        if extended is not None:
            wanted = f"more time for {wanted}"
        named = f" ({row.wanted})" if account is None and row.wanted else ""
        sentence = f"{unit.viewer.name} asks for {wanted}{named}: {row.reason.rstrip('.')}."
        notices.tell_and_write(unit, _answerers(unit, row), "request", sentence, "/requests")
    return one(unit, row.id)


def _to_extend(unit: Unit, wish: Wish) -> Grant | None:
    """The grant that more time is asked for: the asker's own, or of a team that they speak for. Nobody else's."""
    if wish.extends is None:
        return None
    teams = select(Team.id).where(Team.speaker_id == unit.viewer.person)
    mine = or_(Grant.person_id == unit.viewer.person, Grant.team_id.in_(teams))
    grant = unit.db.scalars(select(Grant).where(Grant.id == wish.extends, mine)).first()
    if grant is None:
        raise NotFound("You hold no such grant.", "Ask for more time on access of your own.")
    if grant.state not in (GrantState.ACTIVE, GrantState.SUSPENDED):
        raise Conflict(f"It is {grant.state} by now.", "Ask for access anew.")
    if wish.level is not None or wish.parts or wish.emergency:
        raise BadInput(
            "More time is asked for on what is held already.",
            "Leave level, parts and emergency out.",
            {"extends": "with more"},
        )
    return grant


def _with_end(unit: Unit, account: Account | None, extended: Grant | None, wish: Wish) -> Wish:
    """The wish with its end as an instant. BadInput for an end that has passed, or is no later than what there is."""
    zone = ZoneInfo(account.time_zone) if account is not None else unit.zone
    if wish.until is not None and wish.last_day is not None:
        raise BadInput("Both an end and a last day are given.", "Give one of them.", {"last_day": "is one too many"})
    until = end_of_last_day(wish.last_day, zone) if wish.last_day is not None else wish.until
    if until is not None and until <= unit.now:
        raise BadInput("That end has passed.", "Choose a later one.", {"until": "has passed"})
    if extended is not None:
        end = _end_of(unit, extended)
        if end is None:
            raise Conflict("It has no end.", "There is nothing to extend.")
        if until is not None and until <= end:
            raise BadInput(f"It runs {end_in_words(end, zone)} already.", "Ask for a later day.", {"until": "is early"})
    return replace(wish, until=until)


def _end_of(unit: Unit, grant: Grant) -> datetime | None:
    ends = {term.window.until for term in mapping.terms_of(unit.db, [grant.id]).get(grant.id, [])}
    return None if None in ends or not ends else max(end for end in ends if end is not None)


def _account(unit: Unit, wish: Wish) -> Account | None:
    if wish.account is not None:
        # One that may not be seen is asked for by its exact name: its id alone tells nothing.
        seen = select(Account.id).where(Account.id == wish.account, unit.sight.accounts())
        if unit.db.scalar(seen) is None:
            raise NotFound("There is no such account, or you may not see it.", "Ask for it by its exact name.")
        return lifecycle.account_of(unit, wish.account)
    if wish.account_name.strip():
        named = select(Account).where(func.lower(Account.name) == wish.account_name.strip().lower())
        found = unit.db.scalars(named).first()
        if found is not None:
            return found
        if not wish.owner_address:
            raise NotFound("There is no account of exactly that name.", "Ask its owner by address instead.")
    if not wish.owner_address.strip():
        raise BadInput("No account and no owner is named.", "Give one of them.", {"account": "is missing"})
    return None


def _refuse_unfit(unit: Unit, account: Account, wish: Wish) -> None:
    if wish.level is None:
        raise BadInput("Parts are chosen, but no level.", "Choose a level.", {"level": "is missing"})
    lifecycle.terms_from(unit, account, Choice(levels=(wish.level,), parts=wish.parts))


def _put(unit: Unit, account: Account | None, wish: Wish) -> tuple[AccessRequest, bool]:
    """The request, new or renewed, and whether whoever answers is to be told."""
    address = wish.owner_address.strip().lower() if account is None else ""
    own = select(AccessRequest).where(
        AccessRequest.person_id == unit.viewer.person, AccessRequest.state == RequestState.PENDING
    )
    same = AccessRequest.account_id == account.id if account else AccessRequest.owner_address == address
    same = and_(same, AccessRequest.extends_id.is_not_distinct_from(wish.extends))
    row = unit.db.scalars(own.where(same).with_for_update()).first()
    fresh = row is None or unit.now - row.asked_at > TOLD_AGAIN_AFTER
    if row is None:
        if len(unit.db.scalars(own).all()) >= MOST_PENDING:
            raise TooMany(f"{MOST_PENDING} of your requests wait for an answer.", "Withdraw one first.", wait=3600)
        row = AccessRequest(
            organisation_id=unit.viewer.organisation,
            person_id=unit.viewer.person,
            account_id=account.id if account else None,
            owner_address=address,
            extends_id=wish.extends,
            reason="",
            asked_at=unit.now,
            runs_out_at=unit.now,
        )
        unit.db.add(row)
    else:
        row.times_asked, row.version = row.times_asked + 1, row.version + 1
    row.wanted, row.level_id, row.resources = wish.account_name.strip(), wish.level, [str(p) for p in wish.parts]
    row.until, row.reason, row.asked_at = wish.until, wish.reason.strip(), unit.now
    row.runs_out_at = unit.now + STANDS_FOR
    unit.db.flush()
    return row, fresh


def _answerers(unit: Unit, row: AccessRequest) -> set[UUID]:
    if row.account_id is None:
        owner = unit.db.scalar(
            select(Person.id)
            .join(Account, Account.owner_id == Person.id)
            .where(Person.address == row.owner_address)
            .limit(1)
        )
        return {owner} if owner else notices.administrators(unit)
    return notices.answerers(unit, row.account_id)


def _emergency(unit: Unit, account: Account | None, wish: Wish) -> dict[str, Any]:
    """Open access at once, for no longer than the account allows, and tell everyone who decides about it."""
    if account is None or account.emergency_hours is None:
        raise NotAllowed("This account opens to nobody in an emergency.", "Ask in the ordinary way.")
    if wish.level is None:
        raise BadInput("An emergency needs a level.", "Choose the least that will do.", {"level": "is missing"})
    latest = unit.now + timedelta(hours=account.emergency_hours)
    end = min(wish.until, latest) if wish.until else latest
    given = lifecycle.terms_from(unit, account, Choice(levels=(wish.level,), parts=wish.parts, until=end))
    if any(term.level.reach is Reach.STEWARD for term in given):
        raise NotAllowed("An emergency does not open steward reach.", "Choose a level that reaches less far.")
    assert unit.viewer.person is not None
    _refuse_open(unit, account)
    with guard.guarded(unit, guard.touched(unit, [account.id])):
        grant = lifecycle.new_grant(
            unit,
            account,
            Holder(HolderKind.PERSON, unit.viewer.person),
            given,
            GrantState.ACTIVE,
            reason=wish.reason.strip(),
            emergency=True,
            for_review=True,
        )
        unit.record("grant.emergency", "grant", grant.id, account.name, account.id, reason=grant.reason, until=end)
    row, _ = _put(unit, account, replace(wish, until=end))
    row.emergency, row.grant_id = True, grant.id
    lifecycle.enter_into_force(unit, grant)
    # Nobody has seen it open there yet: that is told when the system shows it, or a person says so.
    _answer(unit, row, RequestState.GRANTED, "Given at once, as an emergency; its system has yet to open it.")
    sentence = (
        f"{unit.viewer.name} took access to {account.name} in an emergency, {end_in_words(end, unit.zone)}: "
        f"{grant.reason.rstrip('.')}. Its system has yet to open it."
    )
    told = notices.stewards(unit, account.id) | notices.answerers(unit, account.id)
    notices.tell_and_write(unit, told - {unit.viewer.person}, "emergency", sentence, f"/accounts/{account.id}")
    return one(unit, row.id)


def _refuse_open(unit: Unit, account: Account) -> None:
    """What is open in an emergency is not opened a second time, and so not made longer."""
    # Two at once by the same person: the second waits here, and then finds what the first opened.
    unit.db.get_one(Person, unit.viewer.person, with_for_update=True)
    held = select(Grant.id).where(
        Grant.account_id == account.id,
        Grant.holder_id == unit.viewer.person,
        Grant.emergency,
        Grant.state == GrantState.ACTIVE,
    )
    if unit.db.scalar(held.limit(1)) is not None:
        raise Conflict(f"{account.name} is open to you already, in an emergency.", "Use it while it lasts; then ask.")


def one(unit: Unit, ident: UUID) -> dict[str, Any]:
    """A request. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = offers.REQUESTS.one(unit.db, ident, [unit.sight.requests()])
    if row is None:
        raise NotFound("There is no such request, or you may not see it.")
    return row


def _locked(unit: Unit, ident: UUID, version: int | None) -> AccessRequest:
    one(unit, ident)
    row = unit.db.get_one(AccessRequest, ident, with_for_update=True, populate_existing=True)
    if version is not None and version != row.version:
        raise Conflict(f"The request was changed meanwhile; it is {row.state} now.", "Look at it again.")
    return row


def _to_answer(unit: Unit, ident: UUID, version: int | None) -> AccessRequest:
    row = _locked(unit, ident, version)
    if row.account_id is not None:
        unit.sight.require_answers_for(row.account_id)
    elif not unit.sight.everything and row.person_id == unit.viewer.person:
        raise NotAllowed("Nobody answers their own request.", "Wait for the owner.")
    return row


def _answer(unit: Unit, row: AccessRequest, then: RequestState, words: str) -> None:
    row.state = move(REQUESTS, "request", RequestState(row.state), then)
    row.answered_at, row.answered_by_id, row.answer = unit.now, unit.viewer.person, words.strip()
    row.version += 1
    name = unit.db.get_one(Account, row.account_id).name if row.account_id else row.wanted
    unit.record(f"request.{then}", "request", row.id, name, row.account_id, answer=row.answer)


def grant(
    unit: Unit, ident: UUID, choice: Choice, words: str, account_id: UUID | None, version: int | None
) -> dict[str, Any]:
    """Grant a request: as it was asked, or less, or for a shorter time. Never more than was asked."""
    locks.access(unit)
    row = _to_answer(unit, ident, version)
    if row.person_id == unit.viewer.person:
        raise NotAllowed("Nobody grants their own request.", "Leave it to somebody else who answers for the account.")
    chosen = row.account_id or account_id
    if chosen is None:
        raise BadInput("The request names no account.", "Say which one you grant.", {"account": "is missing"})
    unit.sight.require_answers_for(chosen)
    account = lifecycle.account_of(unit, chosen)
    if row.extends_id is not None:
        return _extend(unit, row, account, choice, words)
    choice = _within(unit, row, choice)
    wanted = _no_longer(lifecycle.terms_from(unit, account, choice), row.until)
    if any(term.level.reach is Reach.STEWARD for term in wanted):
        unit.require_proof("Giving steward reach")
    holder = Holder(HolderKind.PERSON, row.person_id)
    apart = preview.apart(unit, holder, wanted)
    same = _held_alike(unit, account, row.person_id, wanted)
    if same is not None:
        return _make_longer(unit, row, account, same, wanted, words)
    # The state first: whoever comes second is told so, before anything is given.
    row.account_id = chosen
    _answer(unit, row, RequestState.GRANTED, words)
    with guard.guarded(unit, guard.touched(unit, [account.id])) as warned:
        given = lifecycle.new_grant(unit, account, holder, wanted, GrantState.ACTIVE, reason=row.reason)
        unit.record("grant.given", "grant", given.id, account.name, account.id, reason=row.reason, request=row.id)
    row.grant_id = given.id
    lifecycle.enter_into_force(unit, given)
    said = f" {words.strip()}" if words.strip() else ""
    sentence = f"{unit.viewer.name} granted your request for {account.name}.{said}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return {**one(unit, ident), "warnings": [*map(guard.shown, warned), *apart]}


def _extend(unit: Unit, row: AccessRequest, account: Account, choice: Choice, words: str) -> dict[str, Any]:
    """Give more time on the same grant, as was asked or less. Never a second grant beside it."""
    if choice.levels or choice.permissions or choice.parts:
        raise BadInput("Only more time was asked for.", "Give an end, or nothing.", {"levels": "were not asked for"})
    end = lifecycle.end_of(account, choice.until, choice.last_day, unit.now) or row.until
    if end is None:
        raise BadInput("No end was asked for.", "Say until when.", {"last_day": "is missing"})
    if row.until is not None and end > row.until:
        raise BadInput("That is longer than was asked for.", "Give as much or less.", {"until": "more than was asked"})
    assert row.extends_id is not None
    grant = unit.db.get_one(Grant, row.extends_id, with_for_update=True, populate_existing=True)
    return _answer_longer(unit, row, account, grant, end, words)


def _held_alike(unit: Unit, account: Account, person: UUID, wanted: Sequence[Term]) -> Grant | None:
    """A grant that gives the asker just these rights already: it is made longer, and no second one put beside it."""
    live = select(Grant).where(
        Grant.account_id == account.id,
        Grant.person_id == person,
        Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED)),
    )
    rights = {terms.right(term) for term in wanted}
    for grant in unit.db.scalars(live.order_by(Grant.id).with_for_update()):
        if {terms.right(term) for term in terms.held(unit, grant.id)} == rights:
            return grant
    return None


def _make_longer(
    unit: Unit, row: AccessRequest, account: Account, grant: Grant, wanted: Sequence[Term], words: str
) -> dict[str, Any]:
    ends = {term.window.until for term in wanted}
    end = None if None in ends else max(end for end in ends if end is not None)
    before = _end_of(unit, grant)
    if before is None or (end is not None and end <= before):
        raise Conflict("They have that already, for as long.", "Decline it with a word, or choose a later end.")
    row.account_id = account.id
    return _answer_longer(unit, row, account, grant, end, words)


def _answer_longer(
    unit: Unit, row: AccessRequest, account: Account, grant: Grant, end: datetime | None, words: str
) -> dict[str, Any]:
    change = Change(ChangeKind.SET_END, words.strip() or row.reason, (grant.id,), until=end, no_end=end is None)
    _answer(unit, row, RequestState.GRANTED, words)
    row.grant_id = grant.id
    unit.db.flush()
    line = changes.tried(unit.as_service(), change, grant.id, keep=True, raising=True)
    said = f" {words.strip()}" if words.strip() else ""
    sentence = f"{unit.viewer.name} granted your request: your access to {account.name} {line['does']}.{said}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return {**one(unit, row.id), "warnings": line["latches"]}


def _within(unit: Unit, row: AccessRequest, choice: Choice) -> Choice:
    """What was chosen, filled up from what was asked; BadInput when it goes further than that."""
    levels = choice.levels or ((row.level_id,) if row.level_id and not choice.permissions else ())
    asked = unit.db.get(Level, row.level_id) if row.level_id else None
    if asked is not None:
        _refuse_more(unit, asked, levels, [single.key for single in choice.permissions])
    wanted = tuple(UUID(str(part)) for part in row.resources)
    parts = choice.parts or wanted
    if wanted and not set(parts) <= set(wanted):
        raise BadInput(
            "That is more of the account than was asked for.",
            "Grant what was asked, or less.",
            {"parts": "more than was asked"},
        )
    return replace(choice, levels=levels, parts=parts)


def _refuse_more(unit: Unit, asked: Level, levels: Sequence[UUID], singles: Sequence[str]) -> None:
    """BadInput for a level or a permission that is not in the level that was asked for."""
    within = {permission["key"] for permission in asked.permissions}
    for ident in levels:
        level = unit.db.get(Level, ident)
        if level is not None and level.id != asked.id:
            more = {permission["key"] for permission in level.permissions} - within
            if level.reach > asked.reach or more:
                how = "reaches further than" if level.reach > asked.reach else "gives what is not in"
                raise BadInput(
                    f"“{level.name}” {how} “{asked.name}”, which was asked for.",
                    "Grant what was asked, or less.",
                    {"levels": "more than was asked"},
                )
    more = set(singles) - within
    if more:
        raise BadInput(
            f"{', '.join(sorted(more))} is not in “{asked.name}”, which was asked for.",
            "Grant what was asked, or less.",
            {"permissions": "more than was asked"},
        )


def _no_longer(wanted: Sequence[Term], until: datetime | None) -> list[Term]:
    """Terms that end when it was asked that they do, or before."""
    if until is None:
        return list(wanted)
    shorter = [term._replace(window=term.window.meet(Window(until=until))) for term in wanted]
    if any(term.window.is_empty for term in shorter):
        raise BadInput("It would begin when what was asked for is over.", "Let it begin earlier.", {"since": "is late"})
    return shorter


def decline(unit: Unit, ident: UUID, words: str, version: int | None) -> dict[str, Any]:
    """Decline a request, with a word about why."""
    row = _to_answer(unit, ident, version)
    if not words.strip():
        raise BadInput("A word about why is missing.", "Say it in a sentence; they will read it.", {"words": "missing"})
    _answer(unit, row, RequestState.DECLINED, words)
    name = unit.db.get_one(Account, row.account_id).name if row.account_id else "what you asked for"
    sentence = f"{unit.viewer.name} declined your request for {name}: {words.strip()}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return one(unit, ident)


def withdraw(unit: Unit, ident: UUID, version: int | None) -> dict[str, Any]:
    """Take one's own request back."""
    row = _locked(unit, ident, version)
    if row.person_id != unit.viewer.person:
        raise NotAllowed("Only whoever asked can withdraw a request.", "Decline it instead.")
    _answer(unit, row, RequestState.WITHDRAWN, "")
    return one(unit, ident)


def run_out(unit: Unit) -> int:
    """Let requests run out whose time is over; gives how many. Called by the worker."""
    due = select(AccessRequest).where(
        AccessRequest.state == RequestState.PENDING, AccessRequest.runs_out_at <= unit.now
    )
    rows = unit.db.scalars(due.order_by(AccessRequest.id).limit(500).with_for_update(skip_locked=True)).all()
    for row in rows:
        told = {row.person_id, *_answerers(unit, row)}
        _answer(unit, row, RequestState.RUN_OUT, "Nobody answered in time.")
        row.answered_by_id = None
        name = unit.db.get_one(Account, row.account_id).name if row.account_id else row.wanted or "access"
        notices.tell(unit, told, "request", f"The request for {name} has run out unanswered.", "/requests")
    return len(rows)
