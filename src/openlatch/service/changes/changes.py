"""Changing grants, one or many: suspend, resume, set the end, set the level, replace, end, resolve drift.

A preview is the change itself, made in a savepoint and rolled back, so the two can't differ. Each grant is changed
independently: one refusal does not affect the others.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import asdict, replace
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import register as core
from openlatch.core.checks import require_words
from openlatch.core.register import Holder
from openlatch.core.time_windows import Window, end_in_words, with_end
from openlatch.core.vocabulary import Cause, GrantState, HolderKind, Owed, Reach, Standing, StepKind
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError, ProofNeeded, TooLarge
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle, terms
from openlatch.service.grants.change_types import (
    Change,
    ChangeKind,
    Made,
    guarded,
    line_of,
    note,
    refuse_ended,
    tell_holder,
    terms_of,
)
from openlatch.service.notifications import notices
from openlatch.service.offers import preview as offer_preview
from openlatch.service.revocations import prepare, revoke
from openlatch.service.systems import drift
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.lists import register
from openlatch.store.tables import Account as AccountRow
from openlatch.store.tables import Grant, JournalEntry, Level, Session, System

MOST = 1000
# Time limit of a call, since others wait for its locks.
SECONDS = 20


def preview(unit: Unit, change: Change) -> schemas.ChangePreview:
    """What a change would do to each grant. No reason is needed yet."""
    change = unexplained(change)
    lines = [tried(unit, change, ident, keep=False) for ident in in_time(selection(unit, change))]
    shown = schemas.ChangeResult(lines=lines, changed=sum(line.refused is None for line in lines))
    return schemas.ChangePreview(
        lines=lines,
        changed=shown.changed,
        needs_proof=_needs_proof(unit, change, lines),
        fingerprint=fingerprint(shown),
    )


def unexplained(change: Change) -> Change:
    """The change without its reason, for previews: the reason makes no difference to them."""
    return replace(change, reason="Only a preview.")


def carry_out(unit: Unit, change: Change, seen: str = "") -> schemas.ChangeResult:
    """Make the change; returns a line for each grant. Conflict when it would do something else than what was
    ``seen``.
    """
    require_words(change.reason, "A change needs a reason.")
    locks.access(unit)
    if seen:
        shown = preview(unit, change)
        if seen != shown.fingerprint:
            raise Conflict("What this would do has changed since it was shown.", "Look at the preview again.")
    ids = selection(unit, change)
    if change.kind is ChangeKind.END and len(ids) > revoke.BULK:
        unit.require_proof(f"Ending {len(ids)} grants at once")
    single = len(ids) == 1
    lines = [tried(unit, change, ident, keep=True, raising=single) for ident in in_time(ids)]
    return schemas.ChangeResult(lines=lines, changed=sum(line.refused is None for line in lines))


def in_time(ids: Sequence[UUID]) -> Iterator[UUID]:
    """Handle these one by one. TooLarge, and nothing is kept, when that takes longer than one call may."""
    until = time.monotonic() + SECONDS
    for place, ident in enumerate(ids):
        if time.monotonic() > until:
            raise TooLarge(
                f"That is too much for one call: {place} of {len(ids)} grants took {SECONDS} seconds.",
                fields={"filter": "matches too much"},
            )
        yield ident


def selection(unit: Unit, change: Change, most: int = MOST) -> list[UUID]:
    """The grants that a change concerns, always in the same order, so two changes at once can't deadlock.

    BadInput when nothing matches, TooLarge when more than ``most`` match.
    """
    if bool(change.grants) == bool(change.filter.strip()):
        raise BadInput("Name grants, or give a filter.", "One of the two.", {"grants": "or filter"})
    if change.kind is ChangeKind.SET_TERMS and len(change.grants) != 1:
        raise BadInput("Terms are changed one grant at a time.", "Name one grant.", {"grants": "more than one"})
    if change.grants:
        ids = sorted(set(change.grants))
    else:
        live = [register.GRANTS.of(unit.viewer.organisation), unit.sight.grants(), Grant.state.in_(register.LIVE)]
        ids = sorted(unit.db.scalars(register.GRANTS.matching(change.filter, live).limit(most + 1)))
    if not ids:
        raise BadInput("No live grant matches.", "Widen the filter.", {"filter": "matches nothing"})
    if len(ids) > most:
        raise TooLarge(f"More than {most} grants match.", fields={"filter": "matches too much"})
    return ids


def _needs_proof(unit: Unit, change: Change, lines: list[schemas.ChangeLine]) -> bool:
    if change.kind is ChangeKind.END:
        return len(lines) > revoke.BULK
    level = unit.db.get(Level, change.level) if change.level else None
    return any(line.steward for line in lines) or (level is not None and level.reach == Reach.STEWARD)


def tried(unit: Unit, change: Change, ident: UUID, keep: bool, raising: bool = False) -> schemas.ChangeLine:
    """The line of one grant: what the change does, or why it is refused."""
    row = register.GRANTS.one(unit.db, ident, [unit.sight.grants()])
    if row is None:
        raise NotFound("There is no such grant, or you may not see it.")
    line = schemas.ChangeLine(
        grant_id=ident,
        holder=row["holder"],
        account=row["account"],
        level=row["level"],
        until=row["until"],
        last_day=row["last_day"],
        state=row["state"],
        does="",
        refused=None,
        remedy="",
        latches=[],
        revocation_id=None,
        steward=False,
    )
    try:
        with attempt(unit, keep) as within:
            done = _make(within, change, ident)
            # A rolled-back revocation has no id.
            line = line.model_copy(update=asdict(done) if keep else {**asdict(done), "revocation_id": None})
    except OpenLatchError as error:
        if raising or isinstance(error, ProofNeeded):
            raise
        line = line.model_copy(update={"refused": error.detail, "remedy": error.remedy})
    return line


def _make(unit: Unit, change: Change, ident: UUID) -> Made:
    grant = unit.db.get(Grant, ident, with_for_update=True, populate_existing=True)
    assert grant is not None
    unit.sight.require_answers_for(grant.account_id)
    refuse_outdated(unit, grant, change.versions.get(ident))
    makers = {
        ChangeKind.SUSPEND: _suspend,
        ChangeKind.RESUME: _resume,
        ChangeKind.SET_END: _set_end,
        ChangeKind.SET_LEVEL: _set_level,
        ChangeKind.SET_TERMS: _set_terms,
        ChangeKind.REPLACE: _replace,
        ChangeKind.END: _end,
        ChangeKind.ADOPT: drift.adopt,
        ChangeKind.RESTORE: drift.restore,
        ChangeKind.ACCEPT: drift.accept,
    }
    return makers[change.kind](unit, change, grant)


def refuse_outdated(unit: Unit, grant: Grant, version: int | None) -> None:
    """Conflict that says what somebody else did to a grant since it was looked at."""
    if version is None or version == grant.version:
        return
    last = unit.db.scalars(
        select(JournalEntry)
        .where(JournalEntry.subject_id == grant.id, JournalEntry.subject_kind == "grant")
        .order_by(JournalEntry.position.desc())
        .limit(1)
    ).first()
    told = f": {last.action.replace('.', ' ').replace('_', ' ')}, by {last.actor_name}" if last else ""
    raise Conflict(f"Somebody changed this grant meanwhile{told}. It is {grant.state} now.", "Look at it again.")


def _suspend(unit: Unit, change: Change, grant: Grant) -> Made:
    if not prepare.can_be_given_again(unit, grant):
        place = unit.db.get_one(AccountRow, grant.account_id).name
        raise Conflict(
            f"What is taken away in {place} can't be given again from here, so it can't be suspended.",
            "End it, or wait until it is no longer needed.",
        )
    with guarded(unit, grant) as warned:
        lifecycle.set_state(grant, GrantState.SUSPENDED)
        note(unit, "grant.suspended", grant, change)
    lifecycle.owe(unit, grant, Owed.TAKE)
    place = unit.db.get_one(AccountRow, grant.account_id).name
    tell_holder(unit, grant, f"Your access to {place} is suspended: {change.reason.strip()}")
    evaluate_flags.evaluate(unit, grants=[grant.id])
    return line_of(unit, "is suspended: gives nothing until it is resumed", warned)


def _resume(unit: Unit, change: Change, grant: Grant) -> Made:
    if grant.state != GrantState.SUSPENDED:
        raise Conflict(f"The grant is {grant.state}, not suspended.", "There is nothing to resume.")
    lifecycle.refuse_closed(unit.db.get_one(AccountRow, grant.account_id))
    with guarded(unit, grant) as warned:
        lifecycle.set_state(grant, GrantState.ACTIVE)
        note(unit, "grant.resumed", grant, change)
    lifecycle.enter_into_force(unit, grant)
    place = unit.db.get_one(AccountRow, grant.account_id).name
    tell_holder(unit, grant, f"Your access to {place} goes on again.")
    return line_of(unit, "goes on again", warned)


def _set_end(unit: Unit, change: Change, grant: Grant) -> Made:
    refuse_ended(grant)
    account = unit.db.get_one(AccountRow, grant.account_id)
    if not change.no_end and change.until is None and change.last_day is None:
        raise BadInput("No end is given.", "Give an end, a last day, or say that there is none.", {"until": "missing"})
    end = None if change.no_end else lifecycle.end_of(account, change.until, change.last_day, unit.now)
    before = terms_of(unit, grant)
    windows = with_end([Window(term.since, term.until) for term in before], end)
    with guarded(unit, grant) as warned:
        for term, window in zip(before, windows, strict=True):
            if window.is_empty:
                raise BadInput("It would end before it begins.", "Choose a later end, or end it.", {"until": "early"})
            term.until = window.until
        grant.ends_here = True
        grant.version += 1
        unit.db.flush()
        note(unit, "grant.end_set", grant, change, until=end)
    evaluate_flags.evaluate(unit, grants=[grant.id])
    told = f"runs {end_in_words(end, ZoneInfo(account.time_zone))}" if end else "has no end any more"
    tell_holder(unit, grant, f"Your access to {account.name} {told}: {change.reason.strip()}")
    sooner = sum(window.until != end for window in windows)
    kept = f"; {sooner} of its {len(windows)} terms end{'s' * (sooner == 1)} sooner, as before" if sooner else ""
    return line_of(unit, told + kept, warned)


def _set_level(unit: Unit, change: Change, grant: Grant) -> Made:
    refuse_ended(grant)
    if change.level is None:
        raise BadInput("No level is given.", "Choose one.", {"level": "is missing"})
    account = unit.db.get_one(AccountRow, grant.account_id)
    value = lifecycle.terms_from(unit, account, lifecycle.Choice(levels=(change.level,)))[0].level
    held = [unit.db.get_one(Level, term.level_id) for term in terms_of(unit, grant)]
    if all(level.id == value.id for level in held):
        raise Conflict(f"It is “{value.name}” already.", "There is nothing to change.")
    if value.reach is Reach.STEWARD:
        unit.require_proof("Giving steward reach")
    if value.reach < max(level.reach for level in held):
        # Rights that go are removed in the system and proved, like a trim.
        wish = prepare.Wish((grant.id,), (), value.id, None)
        ident = revoke.start(unit, wish, change.reason)
        return line_of(unit, f"is reduced to “{value.name}”", revocation_id=ident)
    apart = offer_preview.apart(unit, Holder(HolderKind(grant.holder_kind), grant.holder_id), [core.Term(value)])
    with guarded(unit, grant) as warned:
        new: dict[tuple[object, ...], core.Term] = {}
        for old in mapping.terms_of(unit.db, [grant.id]).get(grant.id, []):
            key = (old.part.id if old.part else None, old.window, old.hours)
            new[key] = old._replace(level=value)
        for term in terms_of(unit, grant):
            unit.db.delete(term)
        unit.db.flush()
        lifecycle.write_terms(unit, grant.id, list(new.values()))
        grant.version += 1
        note(unit, "grant.level_changed", grant, change, level=value.name)
    if grant.state == GrantState.ACTIVE:
        lifecycle.enter_into_force(unit, grant, _to_change(grant))
    tell_holder(unit, grant, f"Your access to {account.name} becomes “{value.name}”: {change.reason.strip()}")
    line = line_of(unit, f"becomes “{value.name}”", warned, steward=value.reach is Reach.STEWARD)
    return replace(line, latches=[*line.latches, *apart])


def _to_change(grant: Grant) -> Owed:
    """What a system has to do for a grant that now gives more; a grant that it never got is given as it is now."""
    return Owed.GIVE if grant.owed == Owed.GIVE else Owed.CHANGE


def _set_terms(unit: Unit, change: Change, grant: Grant) -> Made:
    refuse_ended(grant)
    account = unit.db.get_one(AccountRow, grant.account_id)
    before, after = terms.held(unit, grant.id), terms.wanted(unit, account, grant.id, change.terms)
    steward = terms.require_proof_for(unit, before, after)
    gained = [term for term in after if terms.right(term) not in {terms.right(t) for t in before}]
    apart = offer_preview.apart(unit, Holder(HolderKind(grant.holder_kind), grant.holder_id), gained)
    told = terms.changes_in_words(before, after, ZoneInfo(account.time_zone))
    if terms.takes_away(before, after):
        words = lifecycle.terms_in_words(after, ZoneInfo(account.time_zone))
        wish = prepare.Wish((grant.id,), keep=tuple(after), keep_words=words)
        return line_of(unit, told, revocation_id=revoke.start(unit, wish, change.reason))
    with guarded(unit, grant) as warned:
        for term in terms_of(unit, grant):
            unit.db.delete(term)
        unit.db.flush()
        lifecycle.write_terms(unit, grant.id, after)
        grant.ends_here = True
        grant.version += 1
        note(unit, "grant.terms_changed", grant, change, changes=told)
    if grant.state == GrantState.ACTIVE and gained:
        lifecycle.enter_into_force(unit, grant, _to_change(grant))
    else:
        evaluate_flags.evaluate(unit, grants=[grant.id])
    tell_holder(unit, grant, f"Your access to {account.name} is changed: {told}. {change.reason.strip()}")
    line = line_of(unit, told, warned, steward=steward)
    return replace(line, latches=[*line.latches, *apart])


def _replace(unit: Unit, change: Change, grant: Grant) -> Made:
    """Give a successor a grant with the same terms, and end the old one as replaced."""
    refuse_ended(grant)
    person = unit.seen_person(change.successor)
    if person is None or person.standing == Standing.LEFT:
        raise BadInput("There is no such successor, or they have left.", "Choose another.", {"successor": "unknown"})
    if grant.holder_id == person.id:
        raise Conflict(f"{person.name} holds it already.", "Choose somebody else.")
    going_on = [t for t in terms.held(unit, grant.id) if t.window.until is None or t.window.until > unit.now]
    if not going_on:
        raise Conflict("Its time is over; there is nothing to take over.", "Give the successor access of their own.")
    steward = any(t.level.reach is Reach.STEWARD for t in going_on)
    if steward:
        unit.require_proof("Giving steward reach")
    account = unit.db.get_one(AccountRow, grant.account_id)
    apart = offer_preview.apart(unit, Holder(HolderKind.PERSON, person.id), going_on)
    with guarded(unit, grant) as warned:
        # Revoke the old one first, so that latches don't count both.
        ident = revoke.start(unit, prepare.Wish((grant.id,)), change.reason, cause=Cause.REPLACED)
        to, left = Holder(HolderKind.PERSON, person.id), lifecycle.taken_over(going_on, unit.now)
        given = lifecycle.new_grant(unit, account, to, left, GrantState.ACTIVE, reason=change.reason.strip())
        unit.record("grant.given", "grant", given.id, account.name, account.id, takes_over_from=grant.id)
    lifecycle.enter_into_force(unit, given)
    sentence = f"You take over access to {account.name}: {change.reason.strip()}"
    notices.tell_and_write(unit, {person.id} - {unit.viewer.person}, "grant", sentence, "/mine")
    line = line_of(unit, f"passes to {person.name}", warned, revocation_id=ident, steward=steward)
    return replace(line, latches=[*line.latches, *apart])


def _end(unit: Unit, change: Change, grant: Grant) -> Made:
    ident = revoke.start(unit, prepare.Wish((grant.id,)), change.reason)
    return line_of(unit, "ends", revocation_id=ident)


def give_up(unit: Unit, ident: UUID, reason: str) -> schemas.GivenUp:
    """Give up access of one's own. Nobody has to agree; it ends in the system like any other."""
    locks.access(unit)
    grant = unit.db.get(Grant, ident, with_for_update=True, populate_existing=True)
    if grant is None or grant.person_id is None or grant.person_id != unit.viewer.person:
        raise NotFound("You hold no such grant yourself.", "What a team gives you, its speaker can end.")
    place = unit.db.get_one(AccountRow, grant.account_id)
    said = reason.strip() or "Not needed any more."
    started = revoke.start(unit.as_service(), prepare.Wish((ident,)), said, cause=Cause.GIVEN_UP)
    sentence = f"{unit.viewer.name} gives up access to {place.name}: {said}"
    told = notices.answerers(unit, place.id) - {unit.viewer.person}
    notices.tell_and_write(unit, told, "grant", sentence, f"/accounts/{place.id}")
    return schemas.GivenUp(revocation_id=started, account=schemas.Named(id=place.id, name=place.name))


def end_own_session(unit: Unit, ident: UUID) -> schemas.GivenUp:
    """End a session of one's own in its system. Conflict where the system can't end sessions."""
    locks.access(unit)
    row = unit.db.get(Session, ident)
    if row is None or row.ended_at is not None or row.person_id is None or row.person_id != unit.viewer.person:
        raise NotFound("You have no such session.", "Look at your sessions; it may have ended.")
    place = unit.db.get_one(AccountRow, row.account_id)
    system = unit.db.get_one(System, place.system_id)
    if not prepare.can(unit, system, StepKind.END_SESSIONS):
        raise Conflict(f"Sessions in {system.name} can't be ended from here.", "Sign out there, on that device.")
    wish = prepare.Wish(sessions=(ident,))
    started = revoke.start(unit.as_service(), wish, f"{unit.viewer.name} ends a session of their own.")
    return schemas.GivenUp(revocation_id=started, account=schemas.Named(id=place.id, name=place.name))
