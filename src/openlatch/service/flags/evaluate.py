"""Evaluating the rules for what a change touches, and for everything."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from uuid import UUID

from sqlalchemy import delete, select

from openlatch.core.flags import BOOKS, RULES, Settings
from openlatch.core.flags import evaluate as put_before
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.flags import evaluate_many, evaluate_one
from openlatch.store.flags import findings as store
from openlatch.store.flags.evaluate_many import Asked, Looked, Own, Ruling
from openlatch.store.flags.sql_expressions import ROOM
from openlatch.store.tables import Account, Finding, Organisation, OwnRule

CHUNK = 5_000


MOST_MEMBERS = 200


MOST_TOUCHED = 500


BUILT_IN = {rule.key: rule for rule in RULES}
# What is done with subjects of one kind and what was found on them.
Judge = Callable[[Unit, str, Iterable[Looked]], None]


def ruling(unit: Unit) -> Ruling:
    """The organisation's rule settings and own rules, cached by their version."""
    if unit.ruling is None:
        organisation, version = unit.viewer.organisation, unit.db.info.get("ruling_version")
        known = unit.service.rulings.get(organisation)
        if known is not None and known[0] == version:
            unit.ruling = known[1]
            return known[1]
        stored = unit.db.scalar(select(Organisation.settings).where(Organisation.id == unit.viewer.organisation))
        rows = unit.db.scalars(select(OwnRule).where(OwnRule.live).order_by(OwnRule.number))
        unit.ruling = Ruling(
            Settings.kept((stored or {}).get("rules", {}), unit.zone), tuple(own_of(row) for row in rows)
        )
        if version is not None:
            unit.service.rulings[organisation] = (version, unit.ruling)
    return unit.ruling


def own_of(row: OwnRule) -> Own:
    """An own rule's row as a plain value."""
    return Own(row.number, row.key, row.subject, row.title, row.about, row.filter, row.says, row.remedy, row.urgency)


def evaluate(
    unit: Unit,
    grants: Sequence[UUID] = (),
    sessions: Sequence[UUID] = (),
    accounts: Sequence[UUID] = (),
    people: Sequence[UUID] = (),
    offers: Sequence[UUID] = (),
    noted: Sequence[UUID] = (),
    judge: Judge | None = None,
) -> None:
    """Evaluate the rules for these subjects and update their flags, in the transaction that changed them.

    With grants come their accounts and holders, the people behind a team or an account that holds them, and the
    accounts reached further on; with a session the other sessions of its holder. A few are evaluated here, many by the
    worker soon after. ``noted`` are grants of which only metadata changed (last used, last seen, reviewed), which
    affects no other subject. A ``judge`` gets what was found in the place of the flags, which stay as they are then.
    """
    judge = judge or _judge
    unit.db.flush()
    _look_at(unit, [Asked("grant", sorted(set(noted) - set(grants)))], judge)
    named = {"session": _with_others(unit, sessions), "account": accounts, "person": people, "offer": offers}
    asked = [Asked(subject, sorted(set(ids))) for subject, ids in named.items()]
    if len(grants) == 1:
        _look_around(unit, grants[0], judge)
    elif grants:
        ids = sorted(set(grants))
        asked += [Asked("grant", ids), *(Asked(subject, ids, of_grants=True) for subject in ("account", "person"))]
    _look_at(unit, asked, judge)
    if len(grants) > 1:
        _look_at_people_behind(unit, grants, judge)
        _look_further_on(unit, judge, grants)


def _look_at(unit: Unit, asked: Sequence[Asked], judge: Judge) -> None:
    """Evaluate subjects: a kind with a single subject by itself, all others together."""
    several = [each for each in asked if len(each.ids) > 1 or (each.ids and each.of_grants)]
    for each in asked:
        if len(each.ids) == 1 and not each.of_grants:
            _look_beside(unit, (each.subject,), each.ids[0], judge)
    if several:
        for each, seen in zip(several, evaluate_many.look_at(unit.db, ruling(unit), several, unit.now), strict=True):
            judge(unit, each.subject, seen)


def _with_others(unit: Unit, sessions: Sequence[UUID]) -> Sequence[UUID]:
    """Sessions with the other sessions of their holders; when these are many, the worker evaluates them."""
    if not sessions:
        return sessions
    others = evaluate_many.of_same_holders(unit.db, sessions, MOST_TOUCHED)
    if len(others) > MOST_TOUCHED:
        unit.wake("evaluate")
        return sessions
    return [*sessions, *others]


def evaluate_person(unit: Unit, person: UUID, reached: Sequence[UUID]) -> None:
    """Evaluate the rules for somebody who left or came back, and for everything that depends on whether they are there.

    ``reached`` are the accounts that they can, or could, act in; those that they pay for are added. When these are
    many, the worker evaluates them.
    """
    unit.db.flush()
    paid = unit.db.scalars(select(Account.id).where(Account.payer_person_id == person))
    reached = list(dict.fromkeys([*reached, *paid]))
    grants, sessions = evaluate_many.of_person(unit.db, person, reached, MOST_TOUCHED)
    if max(len(grants), len(sessions), len(reached)) > MOST_TOUCHED:
        unit.wake("evaluate")
        evaluate(unit, people=[person])
    else:
        evaluate(unit, grants, sessions, reached, [person])


def evaluate_owner(unit: Unit, account: UUID, owners: Iterable[UUID | None], judge: Judge | None = None) -> None:
    """Evaluate the rules for an account that changed hands, for its owners, and for what is reached through it."""
    evaluate(unit, accounts=[account], people=[owner for owner in owners if owner is not None], judge=judge)
    _look_further_on(unit, judge or _judge, accounts=[account])


def _look_around(unit: Unit, grant: UUID, judge: Judge) -> None:
    """Evaluate one grant, its account and its holder, and what else the grant touches."""
    seen = _look_beside(unit, evaluate_one.AROUND_A_GRANT, grant, judge)
    if seen is None or not seen.is_direct:
        _look_at_people_behind(unit, [grant], judge)
    if seen is not None and seen.leads_on:
        _look_further_on(unit, judge, [grant])


def _look_beside(unit: Unit, subjects: tuple[str, ...], ident: UUID, judge: Judge) -> Looked | None:
    """Evaluate one subject and those related to it; returns what was found on the first."""
    looked = evaluate_one.look(unit.db, ruling(unit), subjects, ident, unit.now)
    for kind, seen in zip(subjects, looked, strict=True):
        if seen is not None and seen.counts:
            judge(unit, kind, [seen])
    return looked[0]


def _look_further_on(unit: Unit, judge: Judge, grants: Sequence[UUID] = (), accounts: Sequence[UUID] = ()) -> None:
    further = evaluate_many.led_on(unit.db, grants, accounts, MOST_TOUCHED)
    if len(further) > MOST_TOUCHED:
        unit.wake("evaluate")
    elif further:
        noted, reached = zip(*further, strict=True)
        evaluate(unit, noted=noted, accounts=reached, judge=judge)


def _look_at_people_behind(unit: Unit, grants: Sequence[UUID], judge: Judge) -> None:
    people = evaluate_many.people_behind(unit.db, grants, unit.now, MOST_MEMBERS)
    if len(people) > MOST_MEMBERS:
        unit.wake("evaluate")
    elif people:
        evaluate(unit, people=people, judge=judge)


def _judge(unit: Unit, subject: str, subjects: Iterable[Looked]) -> None:
    """Update the flags of subjects to what was found on them."""
    stands = ruling(unit)
    rules = {rule.number: rule for rule in stands.rules(subject)}
    looked = []
    for seen in subjects:
        # Only the rules that the SQL found are evaluated for their sentences.
        spoken = [rules[number // ROOM] for number in seen.found]
        looked.append((seen, list(put_before(spoken, seen.facts, stands.settings))))
    _journal(unit, store.write(unit.db, unit.viewer.organisation, subject, looked, unit.now))


def forget(unit: Unit) -> None:
    """Forget all findings, and have the worker evaluate everything again."""
    unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True).ruling_version += 1
    unit.db.execute(delete(Finding))
    unit.wake("evaluate")


def evaluate_all(service: Service, organisation: UUID) -> None:
    """Evaluate the rules for everything in an organisation, since time passing raises flags too.

    One pass for each kind of subject finds those whose findings differ from before. Only these are evaluated one by
    one, in transactions of their own, so memory stays small and writers do not wait for the whole.
    """
    viewer = Viewer.itself(organisation)
    for book in BOOKS:
        with service.unit(viewer) as unit:
            ids = evaluate_many.differing(unit.db, ruling(unit), book.subject, unit.now)
        for start in range(0, len(ids), CHUNK):
            with service.unit(viewer) as unit:
                seen = evaluate_many.look(unit.db, ruling(unit), book.subject, ids[start : start + CHUNK], unit.now)
                _judge(unit, book.subject, seen)
    with service.unit(viewer) as unit:
        _record(unit, "flag.reopened", store.open_again(unit.db, unit.now))


def _journal(unit: Unit, difference: store.Difference) -> None:
    """Journal the differences."""
    _record(unit, "flag.raised", difference.raised)
    _record(unit, "flag.worse", difference.worse)
    _record(unit, "flag.reopened", difference.back)
    _record(unit, "flag.cleared", difference.cleared)


def _record(unit: Unit, action: str, flags: Iterable[store.Changed]) -> None:
    for flag in flags:
        title = title_of(unit, flag.rule)
        told = {"why": flag.sentence, "rule": flag.rule, "score": flag.score}
        unit.record(action, "flag", flag.id, title, flag.account, **told)


def title_of(unit: Unit, rule: str) -> str:
    """The title of a rule, built in or the organisation's own; its key when there is none any more."""
    known = BUILT_IN.get(rule)
    if known is not None:
        return known.title
    return next((own.title for own in ruling(unit).own if own.key == rule), rule)
