"""Answering requests for access: granting, declining, withdrawing, expiring."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.register import Holder, Term
from openlatch.core.states import RequestState
from openlatch.core.time_windows import Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotAllowed
from openlatch.service import locks
from openlatch.service.changes import changes
from openlatch.service.grants import lifecycle, terms
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import preview
from openlatch.service.requests import page as request_page
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRequest, Account, Grant, Level


def _to_answer(unit: Unit, ident: UUID, version: int | None) -> AccessRequest:
    row = request_page.locked(unit, ident, version)
    if row.account_id is not None:
        unit.sight.require_answers_for(row.account_id)
    elif not unit.sight.everything and row.person_id == unit.viewer.person:
        raise NotAllowed("Nobody answers their own request.", "Wait for the owner.")
    return row


def grant(
    unit: Unit, ident: UUID, choice: Choice, words: str, account_id: UUID | None, version: int | None
) -> schemas.RequestRow:
    """Grant a request: as asked, or less, or for a shorter time. Never more than was asked."""
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
    # Change the state first, so that a second answer conflicts before anything is given.
    row.account_id = chosen
    request_page.write_answer(unit, row, RequestState.GRANTED, words)
    with guard.guarded(unit, guard.touched(unit, [account.id])) as warned:
        given = lifecycle.new_grant(unit, account, holder, wanted, GrantState.ACTIVE, reason=row.reason)
        unit.record("grant.given", "grant", given.id, account.name, account.id, reason=row.reason, request=row.id)
    row.grant_id = given.id
    lifecycle.enter_into_force(unit, given)
    said = f" {words.strip()}" if words.strip() else ""
    sentence = f"{unit.viewer.name} granted your request for {account.name}.{said}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return request_page.one(unit, ident).model_copy(update={"warnings": [*map(guard.shown, warned), *apart]})


def _extend(unit: Unit, row: AccessRequest, account: Account, choice: Choice, words: str) -> schemas.RequestRow:
    """Extend the same grant, as asked or less. Never a second grant."""
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
    """A grant that already gives the asker exactly these rights, to be extended instead of adding a second one."""
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
) -> schemas.RequestRow:
    ends = {term.window.until for term in wanted}
    end = None if None in ends else max(end for end in ends if end is not None)
    before = request_page.end_of(unit, grant)
    if before is None or (end is not None and end <= before):
        raise Conflict("They have that already, for as long.", "Decline it with a word, or choose a later end.")
    row.account_id = account.id
    return _answer_longer(unit, row, account, grant, end, words)


def _answer_longer(
    unit: Unit, row: AccessRequest, account: Account, grant: Grant, end: datetime | None, words: str
) -> schemas.RequestRow:
    change = Change(ChangeKind.SET_END, words.strip() or row.reason, (grant.id,), until=end, no_end=end is None)
    request_page.write_answer(unit, row, RequestState.GRANTED, words)
    row.grant_id = grant.id
    unit.db.flush()
    line = changes.tried(unit.as_service(), change, grant.id, keep=True, raising=True)
    said = f" {words.strip()}" if words.strip() else ""
    sentence = f"{unit.viewer.name} granted your request: your access to {account.name} {line.does}.{said}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return request_page.one(unit, row.id).model_copy(update={"warnings": line.latches})


def _within(unit: Unit, row: AccessRequest, choice: Choice) -> Choice:
    """The choice, completed from the request; BadInput when it goes further."""
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
    """BadInput for a level or permission beyond the requested level."""
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
    """Terms cut to the requested end."""
    if until is None:
        return list(wanted)
    shorter = [term._replace(window=term.window.meet(Window(until=until))) for term in wanted]
    if any(term.window.is_empty for term in shorter):
        raise BadInput("It would begin when what was asked for is over.", "Let it begin earlier.", {"since": "is late"})
    return shorter


def decline(unit: Unit, ident: UUID, words: str, version: int | None) -> schemas.RequestRow:
    """Decline a request, with a word about why."""
    row = _to_answer(unit, ident, version)
    require_words(words, "A word about why is missing.", "Say it in a sentence; they will read it.", "words")
    request_page.write_answer(unit, row, RequestState.DECLINED, words)
    name = unit.db.get_one(Account, row.account_id).name if row.account_id else "what you asked for"
    sentence = f"{unit.viewer.name} declined your request for {name}: {words.strip()}"
    notices.tell_and_write(unit, [row.person_id], "request", sentence, "/mine")
    return request_page.one(unit, ident)


def withdraw(unit: Unit, ident: UUID, version: int | None) -> schemas.RequestRow:
    """Withdraw one's own request."""
    row = request_page.locked(unit, ident, version)
    if row.person_id != unit.viewer.person:
        raise NotAllowed("Only whoever asked can withdraw a request.", "Decline it instead.")
    request_page.write_answer(unit, row, RequestState.WITHDRAWN, "")
    return request_page.one(unit, ident)


def run_out(unit: Unit) -> int:
    """Let requests expire whose time is over; returns how many. Called by the worker."""
    due = select(AccessRequest).where(
        AccessRequest.state == RequestState.PENDING, AccessRequest.runs_out_at <= unit.now
    )
    rows = unit.db.scalars(due.order_by(AccessRequest.id).limit(500).with_for_update(skip_locked=True)).all()
    for row in rows:
        told = {row.person_id, *request_page.answerers(unit, row)}
        request_page.write_answer(unit, row, RequestState.RUN_OUT, "Nobody answered in time.")
        row.answered_by_id = None
        name = unit.db.get_one(Account, row.account_id).name if row.account_id else row.wanted or "access"
        notices.tell(unit, told, "request", f"The request for {name} has run out unanswered.", "/requests")
    return len(rows)
