"""Changing grants, one or many: suspend, resume, move the end, change the level, hand to a successor, end.

A preview is the change itself, made and taken back again, so that the two can't differ. Each item of a change stands
alone: one that is refused holds up no other.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from enum import StrEnum
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch.core import register as core
from openlatch.core.latches import Breach
from openlatch.core.register import Holder
from openlatch.core.windows import Window
from openlatch.core.words import GrantState, HolderKind, Owed, Reach
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError, ProofNeeded
from openlatch.service import flags, giving, latching, offers, revocations, telling
from openlatch.service.context import Unit
from openlatch.store import cut, lists
from openlatch.store.tables import Account as AccountRow
from openlatch.store.tables import Grant, JournalEntry, Level, Person, System, Term

MOST = 1000


class ChangeKind(StrEnum):
    """What can be done to a grant."""

    SUSPEND = "suspend"
    RESUME = "resume"
    SET_END = "set_end"
    SET_LEVEL = "set_level"
    REPLACE = "replace"
    END = "end"
    ADOPT = "adopt"
    RESTORE = "restore"


@dataclass(frozen=True, slots=True)
class Change:
    """What is to be done, to the grants named or to all that a filter matches. Versions are those looked at."""

    kind: ChangeKind
    reason: str
    grants: tuple[UUID, ...] = ()
    filter: str = ""
    versions: dict[UUID, int] = field(default_factory=dict)
    until: datetime | None = None
    last_day: date | None = None
    no_end: bool = False
    level: UUID | None = None
    successor: UUID | None = None


class _TakeBack(Exception):
    """A preview has seen what it wanted."""


def preview(unit: Unit, change: Change) -> dict[str, Any]:
    """What a change would do to each grant, without doing it."""
    lines = [_tried(unit, change, ident, keep=False) for ident in _selection(unit, change)]
    shown = {"lines": lines, "changed": sum(line["refused"] is None for line in lines)}
    return {**shown, "needs_proof": _needs_proof(unit, change, lines), "fingerprint": offers.fingerprint(shown)}


def carry_out(unit: Unit, change: Change, seen: str = "") -> dict[str, Any]:
    """Do it, with a line for each grant. Conflict when it would do something else than what was ``seen``."""
    if len(change.reason.strip()) < 3:
        raise BadInput("A change needs a reason.", "Say in a few words why.", {"reason": "is missing"})
    if seen:
        shown = preview(unit, change)
        if seen != shown["fingerprint"]:
            raise Conflict("What this would do has changed since it was shown.", "Look at the preview again.")
    ids = _selection(unit, change)
    if change.kind is ChangeKind.END and len(ids) > revocations.BULK:
        unit.require_proof(f"Ending {len(ids)} grants at once")
    single = len(ids) == 1
    lines = [_tried(unit, change, ident, keep=True, raising=single) for ident in ids]
    return {"lines": lines, "changed": sum(line["refused"] is None for line in lines)}


def _selection(unit: Unit, change: Change) -> list[UUID]:
    """The grants that a change is to, in one order, so that two changes at once can't wait for each other."""
    if bool(change.grants) == bool(change.filter.strip()):
        raise BadInput("Name grants, or give a filter.", "One of the two.", {"grants": "or filter"})
    if change.grants:
        ids = sorted(set(change.grants))
    else:
        rows = lists.GRANTS.all(unit.db, change.filter, [unit.sight.grants(), Grant.state.in_(lists.LIVE)], MOST + 1)
        ids = sorted(row["id"] for row in rows)
    if not ids:
        raise BadInput("No live grant matches.", "Widen the filter.", {"filter": "matches nothing"})
    if len(ids) > MOST:
        raise BadInput(f"More than {MOST} grants match.", "Narrow the filter.", {"filter": "matches too much"})
    return ids


def _needs_proof(unit: Unit, change: Change, lines: list[dict[str, Any]]) -> bool:
    if change.kind is ChangeKind.END:
        return len(lines) > revocations.BULK
    level = unit.db.get(Level, change.level) if change.level else None
    return any(line["steward"] for line in lines) or (level is not None and level.reach == Reach.STEWARD)


def _tried(unit: Unit, change: Change, ident: UUID, keep: bool, raising: bool = False) -> dict[str, Any]:
    """One line: the change made, and kept or taken back; or why it is refused."""
    row = lists.GRANTS.one(unit.db, ident, [unit.sight.grants()])
    if row is None:
        raise NotFound("There is no such grant, or you may not see it.")
    line = {
        "grant_id": ident,
        "holder": row["holder"],
        "account": row["account"],
        "level": row["level"],
        "until": row["until"],
        "state": row["state"],
        "does": "",
        "refused": None,
        "remedy": "",
        "latches": [],
        "revocation_id": None,
        "steward": False,
    }
    try:
        with _attempt(unit, keep):
            done = _make(unit if keep else _trusted(unit), change, ident)
            # A revocation that is taken back again has no id worth telling.
            line |= done if keep else {**done, "revocation_id": None}
    except OpenLatchError as error:
        if raising or isinstance(error, ProofNeeded):
            raise
        line |= {"refused": error.detail, "remedy": error.remedy}
    return line


def _trusted(unit: Unit) -> Unit:
    """For a preview, which asks for no proof: nothing comes of it."""
    return replace(unit, viewer=replace(unit.viewer, credential=None))


@contextmanager
def _attempt(unit: Unit, keep: bool) -> Iterator[None]:
    """A savepoint: what fails in it, or is only tried, leaves no trace, in the journal or anywhere."""
    entries, afterwards = len(unit.entries), len(unit.afterwards)
    try:
        with unit.db.begin_nested():
            yield
            unit.db.flush()
            if not keep:
                raise _TakeBack
    except _TakeBack:
        del unit.entries[entries:], unit.afterwards[afterwards:]
        unit.db.expire_all()
    except OpenLatchError:
        del unit.entries[entries:], unit.afterwards[afterwards:]
        unit.db.expire_all()
        raise


def _make(unit: Unit, change: Change, ident: UUID) -> dict[str, Any]:
    grant = unit.db.get(Grant, ident, with_for_update=True, populate_existing=True)
    assert grant is not None
    unit.sight.require_answers_for(grant.account_id)
    refuse_outdated(unit, grant, change.versions.get(ident))
    makers = {
        ChangeKind.SUSPEND: _suspend,
        ChangeKind.RESUME: _resume,
        ChangeKind.SET_END: _set_end,
        ChangeKind.SET_LEVEL: _set_level,
        ChangeKind.REPLACE: _replace,
        ChangeKind.END: _end,
        ChangeKind.ADOPT: _adopt,
        ChangeKind.RESTORE: _restore,
    }
    return makers[change.kind](unit, change, grant)


def refuse_outdated(unit: Unit, grant: Grant, version: int | None) -> None:
    """Conflict that tells what somebody else did to a grant since it was looked at."""
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


@contextmanager
def _guarded(unit: Unit, grant: Grant) -> Iterator[list[Breach]]:
    accounts = {grant.account_id, *cut.onward(unit.db, [Holder(HolderKind.ACCOUNT, grant.account_id)])}
    with latching.guarded(unit, accounts) as warned:
        yield warned


def _line(unit: Unit, does: str, warned: Sequence[Breach] = (), **more: Any) -> dict[str, Any]:
    return {"does": does, "latches": [latching.shown(breach) for breach in warned], **more}


def _note(unit: Unit, action: str, grant: Grant, change: Change, **facts: Any) -> None:
    name = unit.db.get_one(AccountRow, grant.account_id).name
    unit.record(action, "grant", grant.id, name, grant.account_id, reason=change.reason.strip(), **facts)


def _tell_holder(unit: Unit, grant: Grant, sentence: str) -> None:
    if grant.person_id != unit.viewer.person:
        telling.tell(unit, [grant.person_id], "grant", sentence, "/mine")


def _suspend(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    with _guarded(unit, grant) as warned:
        giving.set_state(grant, GrantState.SUSPENDED)
        _note(unit, "grant.suspended", grant, change)
    giving.owe(unit, grant, Owed.TAKE)
    place = unit.db.get_one(AccountRow, grant.account_id).name
    _tell_holder(unit, grant, f"Your access to {place} is suspended: {change.reason.strip()}")
    flags.evaluate(unit, grants=[grant.id])
    return _line(unit, "is suspended: gives nothing until it is resumed", warned)


def _resume(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    if grant.state != GrantState.SUSPENDED:
        raise Conflict(f"The grant is {grant.state}, not suspended.", "There is nothing to resume.")
    with _guarded(unit, grant) as warned:
        giving.set_state(grant, GrantState.ACTIVE)
        _note(unit, "grant.resumed", grant, change)
    giving.enter_into_force(unit, grant)
    place = unit.db.get_one(AccountRow, grant.account_id).name
    _tell_holder(unit, grant, f"Your access to {place} goes on again.")
    return _line(unit, "goes on again", warned)


def _set_end(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    _refuse_ended(grant)
    account = unit.db.get_one(AccountRow, grant.account_id)
    if not change.no_end and change.until is None and change.last_day is None:
        raise BadInput("No end is given.", "Give an end, a last day, or say that there is none.", {"until": "missing"})
    end = None if change.no_end else giving.end_of(account, change.until, change.last_day, unit.now)
    before = _terms(unit, grant)
    with _guarded(unit, grant) as warned:
        for term in before:
            if term.since is not None and end is not None and end <= term.since:
                raise BadInput("It would end before it begins.", "Choose a later end, or end it.", {"until": "early"})
            term.until = end
        grant.version += 1
        unit.db.flush()
        _note(unit, "grant.end_set", grant, change, until=end)
    flags.evaluate(unit, grants=[grant.id])
    told = f"runs {giving.end_in_words(end, ZoneInfo(account.time_zone))}" if end else "has no end any more"
    return _line(unit, told, warned)


def _set_level(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    _refuse_ended(grant)
    if change.level is None:
        raise BadInput("No level is given.", "Choose one.", {"level": "is missing"})
    account = unit.db.get_one(AccountRow, grant.account_id)
    value = giving.terms_from(unit, account, giving.Choice(levels=(change.level,)))[0].level
    held = [unit.db.get_one(Level, term.level_id) for term in _terms(unit, grant)]
    if all(level.id == value.id for level in held):
        raise Conflict(f"It is “{value.name}” already.", "There is nothing to change.")
    if value.reach is Reach.STEWARD:
        unit.require_proof("Giving steward reach")
    system = unit.db.get_one(System, account.system_id)
    if system.kind in unit.service.adapters and value.reach < max(level.reach for level in held):
        # Less than before, where a system has to be brought to it: the way of a trim.
        wish = revocations.Wish((grant.id,), (), value.id, None)
        ident = revocations.start(unit, wish, change.reason)
        return _line(unit, f"is reduced to “{value.name}”", revocation_id=ident)
    with _guarded(unit, grant) as warned:
        terms: dict[tuple[Any, ...], core.Term] = {}
        for old in cut.terms_of(unit.db, [grant.id]).get(grant.id, []):
            key = (old.part.id if old.part else None, old.window, old.hours)
            terms[key] = replace(old, level=value)
        for term in _terms(unit, grant):
            unit.db.delete(term)
        unit.db.flush()
        giving.write_terms(unit, grant.id, list(terms.values()))
        grant.version += 1
        _note(unit, "grant.level_changed", grant, change, level=value.name)
    if grant.state == GrantState.ACTIVE:
        giving.enter_into_force(unit, grant)
    return _line(unit, f"becomes “{value.name}”", warned, steward=value.reach is Reach.STEWARD)


def _replace(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    """A successor takes over: a grant with the same terms, and the old one ends as replaced."""
    _refuse_ended(grant)
    person = unit.db.get(Person, change.successor) if change.successor else None
    if person is None or person.standing == "left":
        raise BadInput("There is no such successor, or they have left.", "Choose another.", {"successor": "unknown"})
    if grant.holder_id == person.id:
        raise Conflict(f"{person.name} holds it already.", "Choose somebody else.")
    terms = cut.terms_of(unit.db, [grant.id]).get(grant.id, [])
    terms = [t for t in terms if t.window.until is None or t.window.until > unit.now]
    if not terms:
        raise Conflict("Its time is over; there is nothing to take over.", "Give the successor access of their own.")
    steward = any(t.level.reach is Reach.STEWARD for t in terms)
    if steward:
        unit.require_proof("Giving steward reach")
    account = unit.db.get_one(AccountRow, grant.account_id)
    with _guarded(unit, grant) as warned:
        # The old one is on its way out first, so that latches don't count both.
        ident = revocations.start(unit, revocations.Wish((grant.id,)), change.reason, cause="replaced")
        given = giving.new_grant(
            unit, account, Holder(HolderKind.PERSON, person.id), _shifted(terms, unit.now), GrantState.ACTIVE,
            reason=change.reason.strip(),
        )  # fmt: skip
        unit.record("grant.given", "grant", given.id, account.name, account.id, takes_over_from=grant.id)
    giving.enter_into_force(unit, given)
    telling.tell(unit, [person.id], "grant", f"You have taken over access to {account.name}.", "/mine")
    return _line(unit, f"passes to {person.name}", warned, revocation_id=ident, steward=steward)


def _shifted(terms: Sequence[core.Term], now: datetime) -> list[core.Term]:
    """A successor's terms begin now, or when the old ones would have."""
    return [
        replace(t, window=Window(t.window.since if t.window.since and t.window.since > now else None, t.window.until))
        for t in terms
    ]


def _end(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    ident = revocations.start(unit, revocations.Wish((grant.id,)), change.reason)
    return _line(unit, "ends", revocation_id=ident)


def _adopt(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    """What a system has and nobody recorded is vouched for from now on; an account can be given an owner with it."""
    _refuse_ended(grant)
    if grant.recorded:
        raise Conflict("The grant is recorded already.", "There is nothing to adopt.")
    levels = [unit.db.get_one(Level, term.level_id) for term in _terms(unit, grant)]
    steward = any(level.reach == Reach.STEWARD for level in levels)
    if steward:
        unit.require_proof("Vouching for steward reach")
    account = unit.db.get_one(AccountRow, grant.account_id)
    owned = _give_owner(unit, account, change) if change.successor is not None else ""
    with _guarded(unit, grant) as warned:
        grant.recorded, grant.given_by_id, grant.reason = True, unit.viewer.person, change.reason.strip()
        grant.version += 1
        unit.db.flush()
        _note(unit, "grant.adopted", grant, change)
    flags.evaluate(unit, grants=[grant.id])
    return _line(unit, f"is recorded as given by {unit.viewer.name}{owned}", warned, steward=steward)


def _give_owner(unit: Unit, account: AccountRow, change: Change) -> str:
    """An owner for an account that has none; gives it in words."""
    person = unit.db.get(Person, change.successor)
    if person is None or person.standing == "left" or not person.recognised:
        raise BadInput("There is no such owner, or they have left.", "Choose another.", {"successor": "unknown"})
    if account.owner_id == person.id:
        return ""
    if account.owner_id is not None:
        raise Conflict(f"{account.name} has an owner.", "Have it handed over instead.")
    unit.sight.require_administrator()
    account.owner_id = person.id
    account.version += 1
    unit.record("account.owned", "account", account.id, account.name, account.id, owner=person.name)
    telling.tell(unit, [person.id], "account", f"You own {account.name} from now on.", f"/accounts/{account.id}")
    return f"; {person.name} owns {account.name} from now on"


def _restore(unit: Unit, change: Change, grant: Grant) -> dict[str, Any]:
    """What the register has and its system has lost is given there again."""
    if grant.state != GrantState.ACTIVE or grant.missing_since is None:
        raise Conflict("The system has not lost this grant.", "There is nothing to restore.")
    if any(unit.db.get_one(Level, term.level_id).reach == Reach.STEWARD for term in _terms(unit, grant)):
        unit.require_proof("Giving steward reach")
    giving.owe(unit, grant, Owed.GIVE)
    if grant.owed is None:
        raise Conflict("Its system is changed by hand.", "Give it there, and say so in the register.")
    grant.version += 1
    _note(unit, "grant.restored", grant, change)
    return _line(unit, "is given in the system again")


def _refuse_ended(grant: Grant) -> None:
    if grant.state in (GrantState.ENDED, GrantState.REVOKING):
        word = "being revoked" if grant.state == GrantState.REVOKING else "ended"
        raise Conflict(f"The grant is {word}; nothing about it can change.", "Give access anew.")


def _terms(unit: Unit, grant: Grant) -> list[Term]:
    return list(unit.db.scalars(select(Term).where(Term.grant_id == grant.id).order_by(Term.id)))


def give_up(unit: Unit, ident: UUID, reason: str) -> dict[str, Any]:
    """Give up access that one holds oneself: it ends in the system like any other, without anyone's leave."""
    grant = unit.db.get(Grant, ident, with_for_update=True, populate_existing=True)
    if grant is None or grant.person_id is None or grant.person_id != unit.viewer.person:
        raise NotFound("You hold no such grant yourself.", "What a team gives you, its speaker can end.")
    place = unit.db.get_one(AccountRow, grant.account_id)
    said = reason.strip() or "Not needed any more."
    started = revocations.start(unit.as_service(), revocations.Wish((ident,)), said, cause="given_up")
    sentence = f"{unit.viewer.name} gives up access to {place.name}: {said}"
    told = telling.answerers(unit, place.id) - {unit.viewer.person}
    telling.tell_and_write(unit, told, "grant", sentence, f"/accounts/{place.id}")
    return {"revocation_id": started, "account": {"id": place.id, "name": place.name}}
