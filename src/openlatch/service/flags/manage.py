"""What people do with flags: accept them, reopen them, assign them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.checks import require_count, require_words
from openlatch.core.time_windows import end_given, zone_of
from openlatch.core.vocabulary import FlagState, Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.lists.register import FLAGS
from openlatch.store.tables import Account, Flag

MOST_AT_ONCE = 1_000


def accept(
    unit: Unit, ids: Sequence[UUID], reason: str, until: datetime | None, last_day: date | None = None
) -> list[schemas.FlagRow]:
    """Accept open flags until an instant, or to the end of a last day where each account is: until then they are not
    shown as open, unless they get worse.

    For the account's owner and administrators. BadInput without a reason or with an end that has passed; Conflict when
    a flag is not open.
    """
    found = _locked(unit, ids)
    require_words(reason, "Accepting a flag needs a reason.")
    zones = dict(unit.db.execute(select(Account.id, Account.time_zone).where(Account.id.in_(_accounts(found)))).all())
    for flag in found:
        zone = zone_of(zones[flag.account_id]) if flag.account_id else unit.zone
        end = end_given(until, last_day, zone)
        if end is None or end <= unit.now:
            raise BadInput("The end is missing, or has passed.", "Choose a day to come.", {"last_day": "is needed"})
        if flag.state != FlagState.OPEN:
            raise Conflict(f"The flag is {flag.state}, not open: {flag.sentence}", "Look at it again.")
        flag.state, flag.accepted_reason, flag.accepted_until = FlagState.ACCEPTED, reason.strip(), end
        flag.accepted_by_id, flag.accepted_severity = unit.viewer.person, flag.severity
        title = evaluate_flags.title_of(unit, flag.rule)
        unit.record("flag.accepted", "flag", flag.id, title, flag.account_id, reason=reason.strip(), until=end)
    return [shown(unit, ident) for ident in ids]


def _accounts(flags: Sequence[Flag]) -> set[UUID]:
    return {flag.account_id for flag in flags if flag.account_id}


def open_again(unit: Unit, ident: UUID) -> schemas.FlagRow:
    """Reopen an accepted flag. Conflict when the flag is not accepted."""
    (flag,) = _locked(unit, [ident])
    if flag.state != FlagState.ACCEPTED:
        raise Conflict(f"The flag is {flag.state}, not accepted.", "Look at it again.")
    flag.state, flag.accepted_until = FlagState.OPEN, None
    title = evaluate_flags.title_of(unit, flag.rule)
    unit.record("flag.reopened", "flag", flag.id, title, flag.account_id, rule=flag.rule, score=flag.score)
    return shown(unit, ident)


def assign(unit: Unit, ids: Sequence[UUID], person: UUID | None) -> list[schemas.FlagRow]:
    """Assign flags to a person, or to nobody. NotFound for an unknown person; Conflict for a flag that cleared."""
    found = _locked(unit, ids)
    who = unit.seen_person(person)
    if person is not None and (who is None or who.standing == Standing.LEFT):
        raise NotFound("There is no such person, or they have left.", "Choose somebody else.")
    for flag in found:
        if flag.state == FlagState.CLEARED:
            raise Conflict(f"The flag has cleared: {flag.sentence}", "Look at the list again.")
        flag.assigned_to_id = person
        title = evaluate_flags.title_of(unit, flag.rule)
        unit.record("flag.assigned", "flag", flag.id, title, flag.account_id, to=who.name if who else None)
    return [shown(unit, ident) for ident in ids]


def _locked(unit: Unit, ids: Sequence[UUID]) -> list[Flag]:
    """These flags, locked; all of them the viewer's to answer for."""
    require_count(len(ids), MOST_AT_ONCE, "flags", "flags")
    wanted = select(Flag).where(Flag.id.in_(ids), unit.sight.flags()).order_by(Flag.id).with_for_update()
    found = list(unit.db.scalars(wanted))
    if len(found) < len(set(ids)):
        raise NotFound("There is no such flag, or you may not see it.")
    for account in {flag.account_id for flag in found}:
        if account is None:
            unit.sight.require_administrator()
        else:
            unit.sight.require_answers_for(account)
    return found


def shown(unit: Unit, ident: UUID) -> schemas.FlagRow:
    """A flag's row. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = FLAGS.one(unit.db, ident, [unit.sight.flags()])
    if row is None:
        raise NotFound("There is no such flag, or you may not see it.")
    return with_title(unit, row)


def with_title(unit: Unit, row: JsonObject) -> schemas.FlagRow:
    """A flag's row with its rule's title and remedy, in words and as what can be done at once."""
    key = row["rule"]
    known = evaluate_flags.BUILT_IN.get(key)
    if known is not None:
        return schemas.FlagRow.model_validate(
            {**row, "title": known.title, "remedy": known.remedy.words, "act": known.remedy.act}
        )
    own = next((own for own in evaluate_flags.ruling(unit).own if own.key == key), None)
    return schemas.FlagRow.model_validate(
        {**row, "title": own.title if own else key, "remedy": own.remedy if own else "", "act": ""}
    )
