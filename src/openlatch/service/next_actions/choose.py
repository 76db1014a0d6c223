"""What to do first: the fewest actions that take away most of the risk that somebody answers for.

What an action would clear is found out by running the rules: the register is changed as the action would leave it, the
rules are evaluated, and everything is rolled back.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from fractions import Fraction
from uuid import UUID

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.dialects.postgresql import insert

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.flags.next_actions import ActionKind, Candidate, Doubts, choose, needed_for, risk_of
from openlatch.core.ids import new_id
from openlatch.core.register import Holder
from openlatch.core.time_windows import day_in_words, end_given, last_day, zone_of
from openlatch.core.vocabulary import FlagState, HolderKind
from openlatch.errors import BadInput, NotFound
from openlatch.service.attempt import attempt
from openlatch.service.flags.evaluate import title_of
from openlatch.service.next_actions.proposals import OpenFlag, Proposal, proposals
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.tables import Account, Flag, Postponement

# The gravest open flags that are looked at; the answer says how many there are.
MOST_FLAGS = 600
MOST_SHOWN = 7
# Use within so many days makes taking something away dearer.
LATELY = timedelta(days=30)


def page(unit: Unit, most: int = MOST_SHOWN, postponed: bool = False) -> schemas.NextActions:
    """The actions that take away most risk for their cost, in their order, with the flags that each would clear.

    They are about what the viewer answers for. What they put off is left out until then, unless ``postponed`` actions
    are wanted, too.
    """
    flags = open_flags(unit)
    found = _worked_out(unit, flags)
    risks = {flag.id: risk_of(flag.severity) for flag in flags}
    chosen = choose((candidate for _, candidate in found), risks)
    by_key = {candidate.key: proposal for proposal, candidate in found}
    later = _postponed(unit)
    names = {flag.id: flag for flag in flags}
    total = sum(risks.values())
    shown = [each for each in chosen if postponed or each.candidate.key not in later][:most]
    return schemas.NextActions(
        actions=[
            _shown(unit, by_key[each.candidate.key], each.candidate, [names[i] for i in each.clears], later)
            for each in shown
        ],
        flags=_count(unit),
        looked_at=len(flags),
        matters=len({(flag.account, flag.holder) for flag in flags}),
        risk=total,
        clearable=sum(each.risk for each in chosen),
        half=needed_for(chosen, total, Fraction(1, 2)),
        nine_tenths=needed_for(chosen, total, Fraction(9, 10)),
        postponed=sum(each.candidate.key in later for each in chosen),
    )


def of_flags(unit: Unit, flags: Sequence[OpenFlag]) -> list[schemas.NextAction]:
    """What could be done about these flags, the cheapest for its effect first."""
    risks = {flag.id: risk_of(flag.severity) for flag in flags}
    names = {flag.id: flag for flag in flags}
    later = _postponed(unit)
    rows = []
    for proposal, candidate in _worked_out(unit, flags):
        clears = [names[ident] for ident in candidate.clears if ident in names]
        risk = sum(risks[flag.id] for flag in clears)
        if risk > candidate.doubts.raises:
            rows.append((risk / candidate.cost, _shown(unit, proposal, candidate, clears, later)))
    return [row for _, row in sorted(rows, key=lambda each: -each[0])]


def open_flags(unit: Unit, *which: ColumnElement[bool]) -> list[OpenFlag]:
    """Open flags that the viewer answers for, the gravest first, as far as conditions say ``which``."""
    wanted = (
        select(
            Flag.id,
            Flag.rule,
            Flag.subject_kind,
            Flag.subject_id,
            Flag.account_id,
            Flag.holder_id,
            Flag.severity,
            Flag.sentence,
        )
        .where(*_answered_for(unit), Flag.state == FlagState.OPEN, *which)
        .order_by(Flag.score.desc(), Flag.id)
        .limit(MOST_FLAGS)
    )
    return [OpenFlag(*row) for row in unit.db.execute(wanted)]


def postpone(unit: Unit, key: str, reason: str, until: datetime | None, last: date | None) -> None:
    """Put an action off until an instant, or to the end of a last day, for the viewer alone.

    BadInput without a reason or with an end that has passed; NotFound for an action that is none of the viewer's.
    """
    if len(reason.strip()) < 3:
        raise BadInput("Putting an action off needs a reason.", "Say in a few words why.", {"reason": "is missing"})
    end = end_given(until, last, unit.zone)
    if end is None or end <= unit.now:
        raise BadInput("The end is missing, or has passed.", "Choose a day to come.", {"last_day": "is needed"})
    flag = _flag_of(unit, key)
    if flag is None or unit.viewer.person is None:
        raise NotFound("There is no such action, or it is not yours to put off.", "Look at the list again.")
    values = {"until": end, "reason": reason.strip()}
    unit.db.execute(
        insert(Postponement)
        .values(id=new_id(), organisation_id=unit.viewer.organisation, person_id=unit.viewer.person, key=key, **values)
        .on_conflict_do_update(index_elements=["person_id", "key"], set_=values)
    )
    title = title_of(unit, flag.rule)
    unit.record("flag.postponed", "flag", flag.id, title, flag.account, reason=reason.strip(), until=end, what=key)


def _flag_of(unit: Unit, key: str) -> OpenFlag | None:
    """The gravest open flag that an action of this key is about; None where there is none."""
    kind, _, subject = key.partition(".")
    try:
        ident = UUID(subject)
    except ValueError:
        return None
    if kind not in set(ActionKind):
        return None
    about = or_(Flag.subject_id == ident, Flag.holder_id == ident, Flag.account_id == ident)
    return next(iter(open_flags(unit, about)), None)


def _answered_for(unit: Unit) -> list[ColumnElement[bool]]:
    """Flags that the viewer can do something about: of what they own, or of everything for an administrator."""
    sight = unit.sight
    return [sight.flags()] if sight.everything else [sight.flags(), Flag.account_id.in_(sight.owned)]


def _count(unit: Unit) -> int:
    return unit.db.scalar(select(func.count(Flag.id)).where(*_answered_for(unit), Flag.state == FlagState.OPEN)) or 0


def _postponed(unit: Unit) -> dict[str, Postponement]:
    """By the keys of actions, what the viewer has put off until a time that is still to come."""
    if unit.viewer.person is None:
        return {}
    wanted = select(Postponement).where(Postponement.person_id == unit.viewer.person, Postponement.until > unit.now)
    return {row.key: row for row in unit.db.scalars(wanted)}


def _worked_out(unit: Unit, flags: Sequence[OpenFlag]) -> list[tuple[Proposal, Candidate]]:
    """Every action on these flags, with all flags that it would clear, also beyond those."""
    return [(proposal, _candidate(unit, proposal)) for proposal in proposals(unit, flags)]


def _candidate(unit: Unit, proposal: Proposal) -> Candidate:
    if proposal.suppose is None:
        return Candidate(proposal.kind, proposal.subject, frozenset(proposal.flags))
    with attempt(unit.as_service(), keep=False) as within:
        begin = len(within.entries)
        proposal.suppose(within)
        changed = [entry for entry in within.entries[begin:] if entry["subject"]["kind"] == "flag"]
        cleared = {entry["subject"]["id"] for entry in changed if entry["action"] == "flag.cleared"}
        worse = [entry["subject"]["id"] for entry in changed if entry["action"] != "flag.cleared"]
        raises = sum(map(risk_of, within.db.scalars(select(Flag.severity).where(Flag.id.in_(worse))))) if worse else 0
        lost = proposal.loses is not None and not _has_path(within, *proposal.loses)
    used = proposal.used_at is not None and proposal.used_at > unit.now - LATELY
    doubts = Doubts(used, lost, bool(proposal.by_hand), bool(proposal.asks), raises)
    return Candidate(proposal.kind, proposal.subject, frozenset(map(_as_uuid, cleared)), doubts)


def _as_uuid(ident: UUID | str) -> UUID:
    return ident if isinstance(ident, UUID) else UUID(ident)


def matter_key(account: UUID | None, holder: UUID) -> str:
    """The key of the matter of a holder in an account, or of a holder alone."""
    return f"{account or '-'}~{holder}"


def _has_path(unit: Unit, person: UUID, account: UUID) -> bool:
    """Whether a person can still act in an account."""
    holder = Holder(HolderKind.PERSON, person)
    return bool(access_paths.paths_to(subgraph.between(unit.db, holder, account), holder, account, unit.now))


def _shown(
    unit: Unit,
    proposal: Proposal,
    candidate: Candidate,
    clears: Sequence[OpenFlag],
    later: Mapping[str, Postponement],
) -> schemas.NextAction:
    account = unit.db.get(Account, proposal.account) if proposal.account else None
    zone = zone_of(account.time_zone) if account else unit.zone
    put_off = later.get(candidate.key)
    gravest = sorted(clears, key=lambda flag: (-flag.severity, flag.sentence))
    return schemas.NextAction(
        key=candidate.key,
        kind=proposal.kind,
        title=proposal.title,
        because=[flag.sentence for flag in gravest],
        clears=[
            schemas.ClearedFlag(
                id=flag.id, title=title_of(unit, flag.rule), severity=flag.severity, sentence=flag.sentence
            )
            for flag in gravest
        ],
        risk=sum(risk_of(flag.severity) for flag in clears),
        raises=candidate.doubts.raises,
        notes=_notes(unit, proposal, candidate.doubts),
        account=schemas.Named(id=account.id, name=account.name) if account else None,
        matter=matter_key(gravest[0].account, gravest[0].holder),
        grants=list(proposal.grants),
        sessions=list(proposal.sessions),
        exposures=list(proposal.exposures),
        flags=[flag.id for flag in gravest],
        level=proposal.level,
        last_day=last_day(proposal.until, zone),
        until=proposal.until,
        successor=proposal.successor,
        later_until=put_off.until if put_off else None,
        later_because=put_off.reason if put_off else None,
    )


def _notes(unit: Unit, proposal: Proposal, doubts: Doubts) -> list[str]:
    """What speaks for an action and against it, in sentences."""
    notes = []
    if proposal.loses is not None:
        notes.append("They lose their last path." if doubts.last_path else "They keep another path.")
    if doubts.used and proposal.used_at is not None:
        notes.append(f"It was used on {day_in_words(proposal.used_at, unit.zone)}.")
    elif proposal.kind is ActionKind.END and proposal.loses is not None:
        notes.append(f"No use is known of the last {LATELY.days} days.")
    if doubts.raises:
        notes.append("It would raise other flags.")
    if proposal.by_hand:
        notes.append(f"Somebody has to do it by hand in {proposal.by_hand}.")
    if proposal.asks:
        notes.append(proposal.asks)
    return notes
