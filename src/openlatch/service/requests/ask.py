"""Asking for access: in the ordinary way, for more time, or in an emergency."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import and_, func, or_, select

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.register import Holder
from openlatch.core.states import RequestState
from openlatch.core.time_windows import end_in_words, end_of_last_day
from openlatch.core.vocabulary import GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, TooMany
from openlatch.service import locks
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.requests import page as request_page
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRequest, Account, Grant, Person, Team

STANDS_FOR = timedelta(days=14)


TOLD_AGAIN_AFTER = timedelta(days=1)


MOST_PENDING = 20


@dataclass(frozen=True, slots=True)
class Wish:
    """What somebody asks for: access to an account by id or exact name, or something of an owner by address."""

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


def ask(unit: Unit, wish: Wish) -> schemas.RequestRow:
    """Ask for access. While a request for the same is pending, that one is changed.

    Nothing reveals whether an address is an owner's: a request to any other address goes to the administrators. An
    emergency opens access at once where the account allows it.
    """
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who is signed in can ask.")
    require_words(wish.reason, "A request needs a reason.")
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
        notices.tell_and_write(unit, request_page.answerers(unit, row), "request", sentence, "/requests")
    return request_page.one(unit, row.id)


def _to_extend(unit: Unit, wish: Wish) -> Grant | None:
    """The grant to be extended: the asker's own, or of a team that they speak for."""
    if wish.extends is None:
        return None
    teams = select(Team.id).where(Team.speaker_id == unit.viewer.person)
    mine = or_(Grant.person_id == unit.viewer.person, Grant.team_id.in_(teams))
    grant = unit.db.scalars(select(Grant).where(Grant.id == wish.extends, mine)).first()
    if grant is None:
        raise NotFound("You hold no such grant.", "Ask for more time on access of your own.")
    if grant.state not in (GrantState.ACTIVE, GrantState.SUSPENDED):
        raise Conflict(f"It is {grant.state} by now.", "Ask for access again.")
    if wish.level is not None or wish.parts or wish.emergency:
        raise BadInput(
            "More time is asked for on what is held already.",
            "Leave level, parts and emergency out.",
            {"extends": "with more"},
        )
    return grant


def _with_end(unit: Unit, account: Account | None, extended: Grant | None, wish: Wish) -> Wish:
    """The wish with its end as an instant. BadInput for an end that has passed, or is no later than the present one."""
    zone = ZoneInfo(account.time_zone) if account is not None else unit.zone
    if wish.until is not None and wish.last_day is not None:
        raise BadInput("Both an end and a last day are given.", "Give one of them.", {"last_day": "is one too many"})
    until = end_of_last_day(wish.last_day, zone) if wish.last_day is not None else wish.until
    if until is not None and until <= unit.now:
        raise BadInput("That end has passed.", "Choose a later one.", {"until": "has passed"})
    if extended is not None:
        end = request_page.end_of(unit, extended)
        if end is None:
            raise Conflict("It has no end.", "There is nothing to extend.")
        if until is not None and until <= end:
            raise BadInput(f"It runs {end_in_words(end, zone)} already.", "Ask for a later day.", {"until": "is early"})
    return replace(wish, until=until)


def _account(unit: Unit, wish: Wish) -> Account | None:
    if wish.account is not None:
        # An invisible account can only be named exactly; its id reveals nothing.
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
    """The request, new or renewed, and whether to notify whoever answers."""
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


def _emergency(unit: Unit, account: Account | None, wish: Wish) -> schemas.RequestRow:
    """Open access at once, for no longer than the account allows, and notify everyone who decides about it."""
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
        unit.record(
            "grant.emergency",
            "grant",
            grant.id,
            account.name,
            account.id,
            reason=grant.reason,
            until=end,
        )
    row, _ = _put(unit, account, replace(wish, until=end))
    row.emergency, row.grant_id = True, grant.id
    lifecycle.enter_into_force(unit, grant)
    # Not confirmed yet: reported once the system shows it, or a person says so.
    request_page.write_answer(
        unit, row, RequestState.GRANTED, "Given at once, as an emergency; its system has yet to open it."
    )
    sentence = (
        f"{unit.viewer.name} took access to {account.name} in an emergency, {end_in_words(end, unit.zone)}: "
        f"{grant.reason.rstrip('.')}. Its system has yet to open it."
    )
    told = notices.stewards(unit, account.id) | notices.answerers(unit, account.id)
    notices.tell_and_write(unit, told - {unit.viewer.person}, "emergency", sentence, f"/accounts/{account.id}")
    return request_page.one(unit, row.id)


def _refuse_open(unit: Unit, account: Account) -> None:
    """Emergency access is not opened a second time, and so not extended."""
    # Two at once by one person: the second waits here, then finds what the first opened.
    unit.db.get_one(Person, unit.viewer.person, with_for_update=True)
    held = select(Grant.id).where(
        Grant.account_id == account.id,
        Grant.holder_id == unit.viewer.person,
        Grant.emergency,
        Grant.state == GrantState.ACTIVE,
    )
    if unit.db.scalar(held.limit(1)) is not None:
        raise Conflict(f"{account.name} is open to you already, in an emergency.", "Use it while it lasts; then ask.")
