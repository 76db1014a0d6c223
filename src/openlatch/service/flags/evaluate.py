"""Evaluating the rules for what a change touches, and for everything."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
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


def ruling(unit: Unit) -> Ruling:
    """How the organisation's rules stand."""
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
) -> None:
    """Put these before every rule, and write what changed; with grants also the accounts and people they touch.

    Called with the ids that a change touched, in the change's own transaction. A team's grant touches the people in the
    team, a grant on an account as which one acts elsewhere those by which one does, and a session the others of its
    holder: a few are looked at here, a great many by the worker soon after. ``noted`` are grants that give what they
    gave before: something was noted of them (used, seen, recorded, reviewed), which touches nothing else.
    """
    unit.db.flush()
    _look_at(unit, [Asked("grant", sorted(set(noted) - set(grants)))])
    named = {"session": _with_others(unit, sessions), "account": accounts, "person": people, "offer": offers}
    asked = [Asked(subject, sorted(set(ids))) for subject, ids in named.items()]
    if len(grants) == 1:
        _look_around(unit, grants[0])
    elif grants:
        ids = sorted(set(grants))
        asked += [Asked("grant", ids), *(Asked(subject, ids, of_grants=True) for subject in ("account", "person"))]
    _look_at(unit, asked)
    if len(grants) > 1:
        _look_at_people_behind(unit, grants)
        _look_further_on(unit, grants)


def _look_at(unit: Unit, asked: Sequence[Asked]) -> None:
    """Look at subjects: at each of which there is one by itself, at all others together."""
    several = [each for each in asked if len(each.ids) > 1 or (each.ids and each.of_grants)]
    for each in asked:
        if len(each.ids) == 1 and not each.of_grants:
            _look_beside(unit, (each.subject,), each.ids[0])
    if several:
        for each, seen in zip(several, evaluate_many.look_at(unit.db, ruling(unit), several, unit.now), strict=True):
            _judge(unit, each.subject, seen)


def _with_others(unit: Unit, sessions: Sequence[UUID]) -> Sequence[UUID]:
    """Sessions with the others of their holders; when these are a great many, the worker looks at them."""
    if not sessions:
        return sessions
    others = evaluate_many.of_same_holders(unit.db, sessions, MOST_TOUCHED)
    if len(others) > MOST_TOUCHED:
        unit.wake("evaluate")
        return sessions
    return [*sessions, *others]


def evaluate_person(unit: Unit, person: UUID, reached: Sequence[UUID]) -> None:
    """Put somebody who left or came back before every rule, and all that is said of who is there and who is not.

    ``reached`` are the accounts that they can, or could, act in; to them come those that they pay for. When it is a
    great many, the worker looks at them.
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


def evaluate_owner(unit: Unit, account: UUID, owners: Iterable[UUID | None]) -> None:
    """Put an account that has changed hands before every rule, with its owners and what one acts in as it."""
    evaluate(unit, accounts=[account], people=[owner for owner in owners if owner is not None])
    _look_further_on(unit, accounts=[account])


def _look_around(unit: Unit, grant: UUID) -> None:
    """Look at one grant, with its account and its holder, and at whatever else it touches."""
    seen = _look_beside(unit, evaluate_one.AROUND_A_GRANT, grant)
    if seen is None or not seen.is_direct:
        _look_at_people_behind(unit, [grant])
    if seen is not None and seen.leads_on:
        _look_further_on(unit, [grant])


def _look_beside(unit: Unit, subjects: tuple[str, ...], ident: UUID) -> Looked | None:
    """Look at one subject and those beside it; gives what was seen of the first."""
    looked = evaluate_one.look(unit.db, ruling(unit), subjects, ident, unit.now)
    for kind, seen in zip(subjects, looked, strict=True):
        if seen is not None and seen.counts:
            _judge(unit, kind, [seen])
    return looked[0]


def _look_further_on(unit: Unit, grants: Sequence[UUID] = (), accounts: Sequence[UUID] = ()) -> None:
    further = evaluate_many.led_on(unit.db, grants, accounts, MOST_TOUCHED)
    if len(further) > MOST_TOUCHED:
        unit.wake("evaluate")
    elif further:
        noted, reached = zip(*further, strict=True)
        evaluate(unit, noted=noted, accounts=reached)


def _look_at_people_behind(unit: Unit, grants: Sequence[UUID]) -> None:
    people = evaluate_many.people_behind(unit.db, grants, unit.now, MOST_MEMBERS)
    if len(people) > MOST_MEMBERS:
        unit.wake("evaluate")
    elif people:
        evaluate(unit, people=people)


def _judge(unit: Unit, subject: str, subjects: Iterable[Looked]) -> None:
    stands = ruling(unit)
    rules = {rule.number: rule for rule in stands.rules(subject)}
    looked = []
    for seen in subjects:
        # Those that the pass found, put into words; what it found and what they say is the same rule.
        spoken = [rules[number // ROOM] for number in seen.found]
        looked.append((seen, list(put_before(spoken, seen.facts, stands.settings))))
    _put_down(unit, store.write(unit.db, unit.viewer.organisation, subject, looked, unit.now))


def forget(unit: Unit) -> None:
    """Forget what was found, so that the next evaluation, which is asked for, looks at everything anew."""
    unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True).ruling_version += 1
    unit.db.execute(delete(Finding))
    unit.wake("evaluate")


def evaluate_all(service: Service, organisation: UUID) -> None:
    """Put everything in an organisation before every rule, since time passing raises flags too.

    One pass for each kind of subject finds those on which something else is found than before; only they are put
    before the rules one by one, in transactions of their own: memory stays small, and nobody who writes waits for the
    whole.
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


def _put_down(unit: Unit, difference: store.Difference) -> None:
    """Put the differences down in the journal."""
    _record(unit, "flag.raised", difference.raised)
    _record(unit, "flag.worse", difference.worse)
    _record(unit, "flag.reopened", difference.back)
    _record(unit, "flag.cleared", difference.cleared)


def _record(unit: Unit, action: str, flags: Iterable[store.Changed]) -> None:
    for flag in flags:
        title = title_of(unit, flag.rule)
        unit.record(action, "flag", flag.id, title, flag.account, why=flag.sentence, rule=flag.rule)


def title_of(unit: Unit, rule: str) -> str:
    """The title of a rule, built in or the organisation's own; its key when there is none any more."""
    known = BUILT_IN.get(rule)
    if known is not None:
        return known.title
    return next((own.title for own in ruling(unit).own if own.key == rule), rule)
