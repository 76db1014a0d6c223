"""What to do first: the fewest actions that take away most of the risk that somebody answers for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from fractions import Fraction
from uuid import UUID

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.flags.next_actions import ActionKind, Candidate, Doubts, choose, needed_for, risk_of
from openlatch.core.ids import new_id
from openlatch.core.time_windows import day_in_words, end_given, last_day, zone_of
from openlatch.core.vocabulary import FlagState
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonView
from openlatch.service.flags.evaluate import title_of
from openlatch.service.next_actions import work_out
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, ActionEffect, Flag, Postponement

MOST_SHOWN = 7
# Use within so many days makes taking something away dearer.
LATELY = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class _Action:
    """An action as it was worked out, and as a candidate."""

    row: ActionEffect
    candidate: Candidate


def page(unit: Unit, most: int = MOST_SHOWN, postponed: bool = False) -> schemas.NextActions:
    """The actions that take away most risk for their cost, in their order, with the flags that each would clear.

    They are about what the viewer answers for, as the worker worked them out. What they put off is left out until
    then, unless ``postponed`` actions are wanted, too.
    """
    flags = _open_flags(unit)
    risks = {ident: risk_of(flag.severity) for ident, flag in flags.items()}
    actions = _actions(unit, flags)
    chosen = choose((action.candidate for action in actions.values()), risks)
    later = _postponed(unit)
    total = sum(risks.values())
    shown = [each for each in chosen if postponed or each.candidate.key not in later][:most]
    worked_out = unit.db.scalar(select(func.min(ActionEffect.worked_out_at)))
    return schemas.NextActions(
        actions=[_shown(unit, actions[each.candidate.key], [flags[i] for i in each.clears], later) for each in shown],
        flags=len(flags),
        covered=len({flag for action in actions.values() for flag in action.candidate.clears} & flags.keys()),
        matters=len({(flag.account_id, flag.holder_id) for flag in flags.values()}),
        risk=total,
        clearable=sum(each.risk for each in chosen),
        half=needed_for(chosen, total, Fraction(1, 2)),
        nine_tenths=needed_for(chosen, total, Fraction(9, 10)),
        postponed=sum(each.candidate.key in later for each in chosen),
        as_of=worked_out,
        is_due=work_out.is_due(unit),
    )


def of_flags(unit: Unit, which: Sequence[ColumnElement[bool]]) -> list[schemas.NextAction]:
    """What could be done about the open flags that conditions say, the cheapest for its effect first."""
    flags = _open_flags(unit, *which)
    later = _postponed(unit)
    rows = []
    for action in _actions(unit, flags).values():
        clears = [flags[ident] for ident in action.candidate.clears if ident in flags]
        risk = sum(risk_of(flag.severity) for flag in clears)
        if risk > action.candidate.doubts.raises:
            rows.append((-risk / action.candidate.cost, action.candidate.key, _shown(unit, action, clears, later)))
    return [row for _, _, row in sorted(rows, key=lambda each: each[:2])]


def postpone(unit: Unit, key: str, reason: str, until: datetime | None, last: date | None) -> None:
    """Put an action off until an instant, or to the end of a last day, for the viewer alone.

    BadInput without a reason or with an end that has passed; NotFound for an action that is none of the viewer's.
    """
    require_words(reason, "Putting an action off needs a reason.")
    end = end_given(until, last, unit.zone)
    if end is None or end <= unit.now:
        raise BadInput("The end is missing, or has passed.", "Choose a day to come.", {"last_day": "is needed"})
    flags = _open_flags(unit)
    action = _actions(unit, flags).get(key)
    if action is None or unit.viewer.person is None:
        raise NotFound("There is no such action, or it is not yours to put off.", "Look at the list again.")
    flag = flags[min(action.candidate.clears & flags.keys())]
    values = {"until": end, "reason": reason.strip()}
    unit.db.execute(
        insert(Postponement)
        .values(id=new_id(), organisation_id=unit.viewer.organisation, person_id=unit.viewer.person, key=key, **values)
        .on_conflict_do_update(index_elements=["person_id", "key"], set_=values)
    )
    title = title_of(unit, flag.rule)
    unit.record("flag.postponed", "flag", flag.id, title, flag.account_id, reason=reason.strip(), until=end, what=key)


def matter_key(account: UUID | None, holder: UUID) -> str:
    """The key of the matter of a holder in an account, or of a holder alone."""
    return f"{account or '-'}~{holder}"


def _open_flags(unit: Unit, *which: ColumnElement[bool]) -> dict[UUID, Flag]:
    """Open flags by their ids that the viewer can do something about: of what they own, or all for an administrator."""
    mine = (
        [unit.sight.flags()] if unit.sight.everything else [unit.sight.flags(), Flag.account_id.in_(unit.sight.owned)]
    )
    return {flag.id: flag for flag in unit.db.scalars(select(Flag).where(*mine, Flag.state == FlagState.OPEN, *which))}


def _actions(unit: Unit, flags: Mapping[UUID, Flag]) -> dict[str, _Action]:
    """By key, the actions that clear any of these flags, and nothing that the viewer may not see."""
    found = {}
    for row in unit.db.scalars(select(ActionEffect).where(ActionEffect.clears.overlap(list(flags)))):
        if not unit.sight.everything and row.account_id not in unit.sight.owned:
            continue
        told = row.proposal
        used = told["used_at"] is not None and datetime.fromisoformat(told["used_at"]) > unit.now - LATELY
        doubts = Doubts(used, row.loses_path, bool(told["by_hand"]), bool(told["asks"]), row.raises)
        kind, _, subject = row.key.partition(".")
        candidate = Candidate(ActionKind(kind), UUID(subject), frozenset(row.clears), doubts)
        found[row.key] = _Action(row, candidate)
    return found


def _postponed(unit: Unit) -> dict[str, Postponement]:
    """By the keys of actions, what the viewer has put off until a time that is still to come."""
    if unit.viewer.person is None:
        return {}
    wanted = select(Postponement).where(Postponement.person_id == unit.viewer.person, Postponement.until > unit.now)
    return {row.key: row for row in unit.db.scalars(wanted)}


def _shown(
    unit: Unit, action: _Action, clears: Sequence[Flag], later: Mapping[str, Postponement]
) -> schemas.NextAction:
    row, told = action.row, action.row.proposal
    account = unit.db.get(Account, row.account_id) if row.account_id else None
    put_off = later.get(row.key)
    gravest = sorted(clears, key=lambda flag: (-flag.severity, -flag.score, flag.sentence))
    until = datetime.fromisoformat(told["until"]) if told["until"] else None
    return schemas.NextAction(
        key=row.key,
        kind=action.candidate.kind,
        title=told["title"],
        clears=[
            schemas.ClearedFlag(
                id=flag.id, title=title_of(unit, flag.rule), severity=flag.severity, sentence=flag.sentence
            )
            for flag in gravest
        ],
        risk=sum(risk_of(flag.severity) for flag in clears),
        raises=row.raises,
        notes=_notes(unit, action, told),
        account=schemas.Named(id=account.id, name=account.name) if account else None,
        matter=matter_key(gravest[0].account_id, gravest[0].holder_id),
        grants=told["grants"],
        sessions=told["sessions"],
        exposures=told["exposures"],
        level=told["level"],
        last_day=last_day(until, zone_of(account.time_zone) if account else unit.zone),
        until=until,
        successor=told["successor"],
        later_until=put_off.until if put_off else None,
        later_because=put_off.reason if put_off else None,
    )


def _notes(unit: Unit, action: _Action, told: JsonView) -> list[str]:
    """What speaks for an action and against it, in sentences."""
    doubts = action.candidate.doubts
    notes = []
    if told["checks_path"]:
        notes.append("They lose their last known path." if doubts.last_path else "They have another known path.")
    if doubts.used:
        notes.append(f"It was used on {day_in_words(datetime.fromisoformat(told['used_at']), unit.zone)}.")
    elif action.candidate.kind is ActionKind.END and told["checks_path"]:
        notes.append(f"No use is known of the last {LATELY.days} days.")
    if doubts.raises:
        notes.append("It would raise other flags.")
    if told["by_hand"]:
        notes.append(f"Somebody has to do it by hand in {told['by_hand']}.")
    if told["asks"]:
        notes.append(told["asks"])
    return notes
