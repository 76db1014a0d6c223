"""Rule settings: limits, weights, rules that are off; what a change would raise and clear; own rules."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from uuid import UUID

from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.flags import BOOKS, LIMITS, RULES, Rule, Settings, Weights
from openlatch.core.flags import custom_rules as core
from openlatch.core.flags.reference import limits_of
from openlatch.core.flags.rule import facts_of, said_of
from openlatch.core.vocabulary import FlagState
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.flags import evaluate_many
from openlatch.store.flags.evaluate_many import LISTS, Effect, Own, Ruling
from openlatch.store.flags.sources import SOURCES
from openlatch.store.tables import Flag, Organisation, OwnRule

ATTRIBUTES = {subject: LISTS[subject].attributes for subject in SOURCES}
NAMES = {book.subject: said_of(book.facts) for book in BOOKS}
MOST = 1_000_000


@dataclass(frozen=True, slots=True)
class Wish:
    """Wanted rule settings. None leaves a setting as it is."""

    limits: Mapping[str, Sequence[int | None]] | None = None
    weights: Weights | None = None
    off: Sequence[str] | None = None
    never_together: Sequence[tuple[str, str]] | None = None
    known_publishers: Sequence[str] | None = None


def page(unit: Unit) -> schemas.RulesPage:
    """Every rule with what it looks for, the limits and weights, and how many open flags each has.

    For everybody: nobody is judged by rules that they can't read.
    """
    stands = evaluate_flags.ruling(unit)
    counted = (
        select(Flag.rule, func.count()).where(Flag.state == FlagState.OPEN, unit.sight.flags()).group_by(Flag.rule)
    )
    counts: dict[str, int] = dict(unit.db.execute(counted).all())
    own = [rule for subject in SOURCES for rule in stands.rules(subject)[len(_book(subject)) :]]
    return schemas.RulesPage(
        rules=[_shown(rule, stands, counts) for rule in (*RULES, *own)],
        limits=[
            schemas.LimitOf(
                name=kind.name,
                unit=kind.unit,
                about=kind.about,
                usual=list(kind.usual),
                values=list(stands.settings.of(kind.name)),
            )
            for kind in LIMITS.values()
        ],
        weights=schemas.WeightsOf.model_validate(asdict(stands.settings.weights)),
        never_together=[list(pair) for pair in stands.settings.never_together],
        known_publishers=sorted(stands.settings.known_publishers),
    )


def _book(subject: str) -> Sequence[Rule]:
    return next(book.rules for book in BOOKS if book.subject == subject)


def _shown(rule: Rule, stands: Ruling, counts: Mapping[str, int]) -> schemas.RuleOf:
    return schemas.RuleOf(
        key=rule.key,
        subject=rule.subject,
        title=rule.title,
        about=rule.about,
        remedy=rule.remedy.words,
        limits=limits_of(rule),
        off=rule.key in stands.settings.off,
        own=rule.number >= core.FIRST_NUMBER,
        open=counts.get(rule.key, 0),
    )


def _wanted(unit: Unit, wish: Wish) -> Settings:
    """The resulting settings. BadInput naming what is wrong."""
    held = evaluate_flags.ruling(unit).settings
    faults: dict[str, str] = {}
    limits = dict(held.limits)
    for name, four in (wish.limits or {}).items():
        if name not in LIMITS:
            faults[f"limits.{name}"] = "is not a limit"
        elif len(four) != 4 or any(n is not None and not 0 <= n <= MOST for n in four):
            faults[f"limits.{name}"] = f"has to be four numbers from 0 to {MOST}, or none"
        else:
            limits[name] = (four[0], four[1], four[2], four[3])
    keys = {rule.key for rule in RULES} | {own.key for own in evaluate_flags.ruling(unit).own}
    for key in set(wish.off or ()) - keys:
        faults["off"] = f"there is no rule {key!r}"
    for pair in wish.never_together or ():
        if len(set(pair)) != 2 or not all(key.strip() for key in pair):
            faults["never_together"] = "has to be pairs of two different permissions"
    if faults:
        told = "; ".join(f"{where} {what}" for where, what in faults.items())
        raise BadInput(f"The rules can't be set so: {told}.", "Look at what is named.", faults)
    pairs = [(a.strip(), b.strip()) for a, b in wish.never_together or ()]
    publishers = frozenset(p.strip() for p in wish.known_publishers or () if p.strip())
    return replace(
        held,
        limits=limits,
        weights=wish.weights or held.weights,
        off=held.off if wish.off is None else frozenset(wish.off),
        never_together=held.never_together if wish.never_together is None else tuple(pairs),
        known_publishers=held.known_publishers if wish.known_publishers is None else publishers,
    )


def preview(unit: Unit, wish: Wish) -> schemas.RuleEffects:
    """What other settings would raise and clear, by rule, with the first few of each."""
    unit.sight.require_administrator()
    before = evaluate_flags.ruling(unit)
    return schemas.RuleEffects(effects=_effects(unit, before, replace(before, settings=_wanted(unit, wish))))


def change(unit: Unit, wish: Wish) -> schemas.RulesPage:
    """Set the rules. Flags follow in the background."""
    unit.sight.require_administrator()
    settings = _wanted(unit, wish)
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    row.settings = {**row.settings, "rules": settings.stored}
    row.ruling_version += 1
    unit.record("rules.set", "organisation", row.id, row.name, **settings.stored)
    unit.db.flush()
    unit.db.info["ruling_version"] = None
    unit.ruling = None
    unit.wake("evaluate")
    return page(unit)


def _effects(unit: Unit, before: Ruling, after: Ruling) -> list[schemas.RuleEffect]:
    found = []
    for subject in SOURCES:
        if before.settings == after.settings and before.rules(subject) == after.rules(subject):
            continue
        rules = {rule.number: rule for rule in (*before.rules(subject), *after.rules(subject))}
        for effect in evaluate_many.changing(unit.db, subject, before, after, unit.now):
            rule = rules[effect.rule]
            found.append(
                schemas.RuleEffect(
                    rule=rule.key,
                    title=rule.title,
                    raised=effect.raised,
                    cleared=effect.cleared,
                    rescored=effect.rescored,
                    examples=_examples(unit, subject, rule, effect, before, after),
                )
            )
    return sorted(found, key=lambda e: (-e.raised - e.cleared, e.title))


def _examples(
    unit: Unit, subject: str, rule: Rule, effect: Effect, before: Ruling, after: Ruling
) -> list[schemas.RuleExample]:
    told = []
    for ids, stands, what in ((effect.first_raised, after, "raised"), (effect.first_cleared, before, "cleared")):
        if ids:
            for seen in evaluate_many.look(unit.db, stands, subject, ids, unit.now, everything=True):
                finding = rule.find(seen.facts, stands.settings)
                if finding is not None:
                    told.append(schemas.RuleExample(what=what, sentence=finding.sentence, score=finding.score.total))
    return told


# Own rules.


def check(unit: Unit, text: str) -> schemas.OwnRulesChecked:
    """What a file of own rules says: the rules, the examples that fail, and what they would raise now.

    BadInput when the file can't be read.
    """
    unit.sight.require_administrator()
    rules = _read(text)
    failures = core.try_out(rules)
    before = evaluate_flags.ruling(unit)
    effects = [] if failures else _effects(unit, before, replace(before, own=_with(unit, before.own, rules)))
    return schemas.OwnRulesChecked(
        rules=[schemas.OwnRuleNamed(key=rule.key, on=rule.on, title=rule.title) for rule in rules],
        failures=[schemas.RuleFailure.model_validate(asdict(failure)) for failure in failures],
        effects=effects,
    )


def _read(text: str) -> list[core.OwnRule]:
    rules = core.read(text, ATTRIBUTES, NAMES)
    taken = {rule.key for rule in RULES}
    for rule in rules:
        if rule.key in taken:
            raise BadInput(f"{rule.key} is a rule that is built in.", "Give yours another key.", {rule.key: "is taken"})
    return rules


def _with(unit: Unit, held: Sequence[Own], rules: Iterable[core.OwnRule]) -> tuple[Own, ...]:
    """The own rules with these added; one with the same key replaces the earlier one."""
    numbers: dict[str, int] = dict(unit.db.execute(select(OwnRule.key, OwnRule.number)).all())
    last = max([core.FIRST_NUMBER - 1, *numbers.values()])
    found = {own.key: own for own in held}
    for rule in rules:
        if rule.key not in numbers:
            last += 1
            numbers[rule.key] = last
        found[rule.key] = Own(
            numbers[rule.key],
            rule.key,
            rule.on,
            rule.title,
            rule.about,
            rule.when,
            rule.says,
            rule.remedy,
            rule.urgency,
        )
    return tuple(sorted(found.values(), key=lambda own: own.number))


def keep(unit: Unit, text: str) -> schemas.RulesPage:
    """Activate the rules of a file. Conflict, naming them, when examples fail."""
    unit.sight.require_administrator()
    rules = _read(text)
    failures = core.try_out(rules)
    if failures:
        told = "; ".join(f"{f.rule}, example {f.example}: {f.why}" for f in failures[:5])
        raise Conflict(f"Examples do not come out as the file says. {told}", "Mend the rules or their examples.")
    # Serialised, so that no number is used twice.
    _set_anew(unit)
    named = {rule.key: rule for rule in rules}
    rows = {row.key: row for row in unit.db.scalars(select(OwnRule))}
    for own in _with(unit, (), rules):
        row = rows.get(own.key)
        if row is None:
            row = OwnRule(organisation_id=unit.viewer.organisation, number=own.number, key=own.key)
            unit.db.add(row)
        row.subject, row.title, row.about, row.filter = own.subject, own.title, own.about, own.filter
        row.says, row.remedy, row.urgency, row.source = own.says, own.remedy, own.urgency, text
        row.live, row.made_by_id = True, unit.viewer.person
        unit.db.flush()
        unit.record("rule.kept", "rule", row.id, row.title, key=row.key, when=named[own.key].when)
    return _changed(unit)


def drop(unit: Unit, key: str) -> schemas.RulesPage:
    """Deactivate an own rule; its flags clear. NotFound for an unknown key."""
    unit.sight.require_administrator()
    row = unit.db.scalars(select(OwnRule).where(OwnRule.key == key, OwnRule.live).with_for_update()).first()
    if row is None:
        raise NotFound(f"There is no own rule {key!r}.")
    _set_anew(unit)
    row.live = False
    unit.record("rule.dropped", "rule", row.id, row.title, key=row.key)
    return _changed(unit)


def _set_anew(unit: Unit) -> None:
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    row.ruling_version += 1


def _changed(unit: Unit) -> schemas.RulesPage:
    unit.db.flush()
    unit.db.info["ruling_version"] = None
    unit.ruling = None
    unit.wake("evaluate")
    return page(unit)


def source(unit: Unit, key: str) -> schemas.OwnRuleSource:
    """The file of an own rule."""
    unit.sight.require_administrator()
    row = unit.db.scalars(select(OwnRule).where(OwnRule.key == key)).first()
    if row is None:
        raise NotFound(f"There is no own rule {key!r}.")
    return schemas.OwnRuleSource(key=row.key, source=row.source)


# The facts about somebody.


def about(unit: Unit, subject: str, ids: Sequence[UUID]) -> list[schemas.FactsOf]:
    """The facts about some subjects, and what each rule makes of them."""
    stands = evaluate_flags.ruling(unit)
    rules = stands.rules(subject)
    facts = facts_of(next(book.facts for book in BOOKS if book.subject == subject))
    found = []
    for seen in evaluate_many.look(unit.db, stands, subject, ids, unit.now, everything=True):
        findings = {rule.key: finding for rule in rules if (finding := rule.find(seen.facts, stands.settings))}
        found.append(
            schemas.FactsOf(
                subject=schemas.Subject(kind=subject, id=seen.id),
                holder=seen.facts["holder"],
                account=seen.facts["account"],
                facts=[
                    schemas.FactOf(name=name, about=fact.about, value=_plain(seen.facts[name]))
                    for name, fact in facts.items()
                ],
                rules=[
                    schemas.RuleLooking(
                        key=rule.key,
                        title=rule.title,
                        about=rule.about,
                        found=rule.key in findings,
                        sentence=findings[rule.key].sentence if rule.key in findings else "",
                    )
                    for rule in rules
                    if rule.key not in stands.settings.off
                ],
            )
        )
    return found


def _plain(value: object) -> object:
    return value.isoformat() if hasattr(value, "isoformat") else value
