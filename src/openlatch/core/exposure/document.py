"""Access rules in their written form, read and written. ``docs/reference/rule-document.md`` explains it."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time
from typing import NoReturn
from zoneinfo import ZoneInfo

from pydantic import TypeAdapter, ValidationError
from pydantic_core import ErrorDetails

from openlatch.core.exposure import json_places
from openlatch.core.exposure.conditions import (
    AllOf,
    AnyOf,
    BeginsWith,
    Between,
    Condition,
    FromNetwork,
    InHours,
    Not,
    OneOf,
    PersonIs,
    ResourceIs,
    SecondFactor,
    Secure,
    Unknown,
    network,
    network_order,
)
from openlatch.core.exposure.form import (
    DAYS,
    FORM,
    KINDS,
    AllPart,
    AnyPart,
    AttributePart,
    BetweenPart,
    FromNetworkPart,
    GroupPlace,
    GuardPart,
    Hours,
    HoursPart,
    NonePart,
    ResourcePlace,
    RuleDocument,
    RulePart,
    SecondFactorPart,
    SecurePart,
    Span,
    UnknownPart,
    WhoPart,
)
from openlatch.core.exposure.rules import (
    ANYONE,
    INSIDE,
    SIGNED_IN,
    Effect,
    Place,
    Resource,
    Right,
    Rule,
    Terms,
    Who,
    WhoKind,
)
from openlatch.core.time_windows import WeeklyHours, Window, end_of_last_day
from openlatch.instants import bounded
from openlatch.json_values import JsonList, JsonObject

MOST_DEEP = 12
MOST_CONDITIONS = 500


@dataclass(frozen=True, slots=True)
class Problem:
    """What is wrong at one place of a document: a JSON pointer (RFC 6901), the line from 1, and a sentence."""

    pointer: str
    line: int
    message: str


class Unreadable(ValueError):
    """A document that can't be used, with all its problems."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        super().__init__("; ".join(f"line {p.line}: {p.message}" for p in problems[:5]))
        self.problems = tuple(problems)


@dataclass(frozen=True, slots=True)
class Document:
    """Rules, guards that refuse above all of them, and resources that are only planned."""

    rules: tuple[Rule, ...] = ()
    guards: tuple[Rule, ...] = ()
    resources: tuple[Resource, ...] = ()


def read(text: str, permissions: Mapping[str, Right], zone: ZoneInfo) -> Document:
    """The rules of a document. ``permissions`` are the system's, and last days end in ``zone``.

    Unreadable, with all problems and their lines, for an invalid document.
    """
    try:
        plain = json.loads(text, parse_constant=_no_constant, object_pairs_hook=_without_twins)
    except json.JSONDecodeError as error:
        raise Unreadable([Problem("", error.lineno, f"This is not JSON: {error.msg}.")]) from error
    except (ValueError, RecursionError) as error:
        raise Unreadable([Problem("", 1, f"This can't be read: {error}.")]) from error
    found = parsed(plain, permissions, zone)
    if isinstance(found, Document):
        return found
    where = json_places.lines(text)
    raise Unreadable([Problem(p.pointer, json_places.nearest(where, p.pointer), p.message) for p in found])


def parsed(plain: object, permissions: Mapping[str, Right], zone: ZoneInfo) -> Document | list[Problem]:
    """The rules of a document that is plain values already, or what is wrong with it."""
    try:
        document = RuleDocument.model_validate_json(json.dumps(plain))
    except ValidationError as error:
        return _problems(error.errors())
    except RecursionError:
        return [Problem("", 1, f"Conditions go at most {MOST_DEEP} deep.")]
    problems = list(_beyond_form(document, permissions))
    return problems or _as_values(document, zone)


def _as_values(document: RuleDocument, zone: ZoneInfo) -> Document:
    return Document(
        tuple(_rule(part, order, zone) for order, part in enumerate(document.rules)),
        tuple(_guard(part, order, zone) for order, part in enumerate(document.guards)),
        tuple(Resource(r.path, r.groups, r.attributes, r.inherits) for r in document.resources),
    )


def _no_constant(name: str) -> NoReturn:
    raise ValueError(f"{name} is not a value of JSON")


def _without_twins(pairs: Sequence[tuple[str, object]]) -> JsonObject:
    found = dict(pairs)
    if len(found) < len(pairs):
        twice = next(key for key, _ in pairs if sum(key == other for other, _ in pairs) > 1)
        raise ValueError(f"“{twice[:60]}” stands twice in one place, and only one of the two would count")
    return found


def _problems(errors: Sequence[ErrorDetails]) -> list[Problem]:
    """Problems as reported by the models, without those that only follow from others."""
    found = [_problem(error) for error in errors]
    inner = {problem.pointer.rpartition("/")[0] for problem in found}
    return [
        problem
        for problem, error in zip(found, errors, strict=True)
        if error["type"] != "too_short" or not any(each.startswith(problem.pointer) for each in inner)
    ]


def _problem(error: ErrorDetails) -> Problem:
    steps = list(error["loc"])
    kept = [step for at, step in enumerate(steps) if not _is_alternative(step, steps[:at])]
    pointer = "".join(f"/{str(step).replace('~', '~0').replace('/', '~1')}" for step in kept)
    last = str(kept[-1])[:60] if kept else ""
    text = str(error["msg"]).removeprefix("Value error, ")
    expected = re.sub(r"'([^']*)'", r"“\1”", str(error.get("ctx", {}).get("expected", "")))
    message = _MESSAGES.get(error["type"], "{text}").format(last=last, text=text, expected=expected)
    return Problem(pointer, 1, f"{message[:1].upper()}{message[1:]}.")


_MESSAGES = {
    "extra_forbidden": "“{last}” means nothing here",
    "missing": "“{last}” is missing",
    "string_pattern_mismatch": "write letters, digits and . _ : @ / + - here, no spaces, at most 200",
    "too_short": "give at least one",
    "literal_error": "this can be {expected}",
    "bool_type": "write true or false",
    "tuple_type": "write a list here, in square brackets",
    "model_type": "write an object here, in curly brackets",
    "string_type": "write a text here, in quotes",
    "date_parsing": "write a date as 2027-03-31",
    "datetime_parsing": "write an instant as 2027-03-31T18:00:00Z",
    "date_from_datetime_parsing": "write a date as 2027-03-31",
    "datetime_from_date_parsing": "write an instant as 2027-03-31T18:00:00Z",
}


_TAGS = frozenset({"word", "organisation", "holder", "link", "network", "attribute", "group", "resource", *KINDS})


def _is_alternative(step: object, before: Sequence[object]) -> bool:
    """Whether a step of an error's place is the name of an alternative and no member."""
    if not isinstance(step, str):
        return False
    chosen = bool(before) and (isinstance(before[-1], int) or before[-1] == "set_on")
    return (chosen and step in _TAGS) or step in ("date", "datetime") or "[" in step


def _beyond_form(document: RuleDocument, permissions: Mapping[str, Right]) -> Iterable[Problem]:
    """Checks that no schema makes: unique keys, the system's own permissions, limits of conditions."""
    known = {*permissions, *(right.value for right in Right)}
    of_all: list[tuple[str, str, RulePart | GuardPart]] = [
        *((f"/rules/{n}", part.rule, part) for n, part in enumerate(document.rules)),
        *((f"/guards/{n}", part.guard, part) for n, part in enumerate(document.guards)),
    ]
    seen: set[str] = set()
    for pointer, key, part in of_all:
        if key in seen:
            yield Problem(f"{pointer}", 1, f"There are two rules “{key}”. Give each a key of its own.")
        seen.add(key)
        for n, permission in enumerate(part.to):
            if permission not in known:
                able = ", ".join(sorted(known)[:20])
                yield Problem(
                    f"{pointer}/to/{n}", 1, f"The system has no permission “{permission[:60]}”. It has: {able}."
                )
        if _depth(part.while_) > MOST_DEEP or _count(part.while_) > MOST_CONDITIONS:
            limits = f"Conditions go at most {MOST_DEEP} deep, and a rule has at most {MOST_CONDITIONS}."
            yield Problem(f"{pointer}/while", 1, limits)


def _parts(part: object) -> tuple[object, ...]:
    for kind in (AllPart, AnyPart, NonePart):
        if isinstance(part, kind):
            found: tuple[object, ...] = next(iter(part.__dict__.values()))
            return found
    return ()


def _depth(parts: Iterable[object]) -> int:
    return max((1 + _depth(_parts(part)) for part in parts), default=0)


def _count(parts: Iterable[object]) -> int:
    return sum(1 + _count(_parts(part)) for part in parts)


def _rule(part: RulePart, order: int, zone: ZoneInfo) -> Rule:
    effect = Effect.ADMIT if part.admit is not None else Effect.REFUSE
    place, of = _place(part.set_on)
    terms = _terms(part, effect, part.admit or part.refuse or (), zone)
    return Rule(part.rule, terms, part.on, place, of, order, part.name, part.because)


def _guard(part: GuardPart, order: int, zone: ZoneInfo) -> Rule:
    terms = _terms(part, Effect.REFUSE, part.refuse, zone)
    return Rule(part.guard, terms, part.on, Place.SYSTEM, "", order, "", part.because)


def _terms(part: RulePart | GuardPart, effect: Effect, who: Iterable[object], zone: ZoneInfo) -> Terms:
    who, but = (frozenset(map(_who, several)) for several in (who, part.but))
    return Terms(effect, who, frozenset(part.to), _all(part.while_, zone), but)


def _place(plain: str | GroupPlace | ResourcePlace) -> tuple[Place, str]:
    match plain:
        case GroupPlace():
            return Place.GROUP, plain.group
        case ResourcePlace():
            return Place.RESOURCE, plain.resource
        case _:
            return Place[str(plain).upper()], ""


_WORDS = {"anyone": ANYONE, "signed in": SIGNED_IN, "inside": INSIDE}


def who_of(plain: object) -> Who:
    """Whom a plain value of a document names. Unreadable when it names nobody."""
    try:
        return _who(_WHO.validate_json(json.dumps(plain)))
    except ValidationError as error:
        raise Unreadable(_problems(error.errors())) from error


_WHO: TypeAdapter[object] = TypeAdapter(WhoPart)


def _who(part: object) -> Who:
    if isinstance(part, str):
        return _WORDS[part]
    ((kind, name),) = part.__dict__.items()
    return Who(WhoKind(kind), name)


def _all(parts: Sequence[object], zone: ZoneInfo) -> Condition:
    found = tuple(_condition(part, zone) for part in parts)
    return found[0] if len(found) == 1 else AllOf(found)


def _condition(part: object, zone: ZoneInfo) -> Condition:  # noqa: C901  one case a kind
    match part:
        case BetweenPart():
            return Between(_window(part.between, zone))
        case HoursPart():
            return InHours(_weekly(part.hours))
        case FromNetworkPart():
            return FromNetwork(frozenset(map(network, part.from_network)))
        case SecondFactorPart():
            return SecondFactor() if part.second_factor else Not(SecondFactor())
        case SecurePart():
            return Secure() if part.secure else Not(Secure())
        case AttributePart():
            test = OneOf(frozenset(part.is_)) if part.is_ else BeginsWith(frozenset(part.begins_with or ()))
            return ResourceIs(part.resource, test) if part.resource else PersonIs(part.person or "", test)
        case UnknownPart():
            return Unknown(part.not_understood)
        case AllPart():
            return AllOf(tuple(_condition(each, zone) for each in part.all))
        case AnyPart():
            return AnyOf(tuple(_condition(each, zone) for each in part.any))
        case NonePart():
            inner = tuple(_condition(each, zone) for each in part.none)
            return Not(inner[0] if len(inner) == 1 else AnyOf(inner))
    raise TypeError(f"{part!r} is no condition")


def _weekly(part: Hours) -> WeeklyHours:
    return WeeklyHours(
        frozenset(map(DAYS.index, part.days)), time.fromisoformat(part.begins), time.fromisoformat(part.ends)
    )


def _window(span: Span, zone: ZoneInfo) -> Window:
    since: datetime | None = None
    if isinstance(span.from_, datetime):
        since = bounded(span.from_)
    elif span.from_ is not None:
        since = datetime.combine(span.from_, time(), zone).astimezone(UTC)
    if span.last_day is not None:
        return Window(since, end_of_last_day(span.last_day, zone))
    return Window(since, None if span.until is None else bounded(span.until))


def written(rules: Iterable[Rule], guards: Iterable[Rule] = ()) -> JsonObject:
    """A document with these rules, as plain values. Read again, it gives rules that say the same."""
    return {
        "form": FORM,
        "rules": [write_rule(rule) for rule in rules],
        "guards": [{"guard": rule.key, **_said(rule), **_while(rule)} for rule in guards],
    }


def write_rule(rule: Rule) -> JsonObject:
    """One rule of a document, as plain values."""
    place: dict[Place, JsonObject] = {Place.GROUP: {"group": rule.of}, Place.RESOURCE: {"resource": rule.of}}
    found: JsonObject = {"rule": rule.key}
    if rule.name:
        found["name"] = rule.name
    found |= _said(rule)
    if rule.place is not Place.ACCOUNT:
        found["set_on"] = place.get(rule.place, rule.place.name.lower())
    return found | _while(rule)


def _said(rule: Rule) -> JsonObject:
    terms = rule.terms
    found: JsonObject = {"because": rule.reason} if rule.reason else {}
    found[terms.effect.value] = write_who(terms.who)
    if terms.but:
        found["but"] = write_who(terms.but)
    return found | {"to": sorted(terms.permissions), "on": list(rule.on)}


def write_who(who: Iterable[Who]) -> JsonList:
    """Whom a rule is about, as plain values."""
    return [_write_who(each) for each in sorted(who, key=lambda w: (w.kind, w.name))]


def _write_who(who: Who) -> str | JsonObject:
    return next((word for word, each in _WORDS.items() if each == who), {who.kind.value: who.name})


def _while(rule: Rule) -> JsonObject:
    condition = rule.terms.condition
    parts = condition.parts if isinstance(condition, AllOf) else (condition,)
    return {"while": [write_condition(part) for part in parts]} if parts else {}


def write_condition(condition: Condition) -> JsonObject:  # noqa: C901  one case a kind
    """One condition, as plain values."""
    match condition:
        case Between(Window(None, None)):
            return {"all": []}
        case Between(window):
            span = {"from": write_instant(window.since), "until": write_instant(window.until)}
            return {"between": {name: at for name, at in span.items() if at is not None}}
        case InHours(hours):
            return {"hours": write_hours(hours)}
        case FromNetwork(networks):
            return {"from_network": [str(each) for each in sorted(networks, key=network_order)]}
        case SecondFactor():
            return {"second_factor": True}
        case Secure():
            return {"secure": True}
        case ResourceIs(attribute, test):
            return {"resource": attribute, **_write_test(test)}
        case PersonIs(attribute, test):
            return {"person": attribute, **_write_test(test)}
        case Unknown(text):
            return {"not_understood": text}
        case AllOf(parts):
            return {"all": [write_condition(part) for part in parts]}
        case AnyOf(parts):
            return {"any": [write_condition(part) for part in parts]}
        case Not(SecondFactor()):
            return {"second_factor": False}
        case Not(Secure()):
            return {"secure": False}
        case Not(part):
            return {"none": [write_condition(part)]}


def write_hours(hours: WeeklyHours) -> JsonObject:
    """Weekly hours, as plain values."""
    return {
        "days": [DAYS[day] for day in sorted(hours.days)],
        "begins": f"{hours.begins:%H:%M}",
        "ends": f"{hours.ends:%H:%M}",
    }


def _write_test(test: OneOf | BeginsWith) -> dict[str, list[str]]:
    return {"is": sorted(test.values)} if isinstance(test, OneOf) else {"begins_with": sorted(test.prefixes)}


def write_instant(at: datetime | None) -> str | None:
    """An instant as documents have it, in UTC; None for none."""
    return None if at is None else at.astimezone(UTC).isoformat().replace("+00:00", "Z")
