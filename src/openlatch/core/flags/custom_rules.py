"""An organisation's own rules: files in TOML (v1.0), with examples beside each rule that it must and must not match.

The form is ours, and described in docs/reference/own-rules.md. A rule's condition is a filter (RFC 7644 section
3.4.2.2) over the attributes of the list of its subjects.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from string import Formatter

from openlatch.core.filters import Attribute, Kind, Node, check, matches, names_in, parse
from openlatch.core.vocabulary import Reach
from openlatch.errors import BadFilter, BadInput
from openlatch.json_values import JsonObject, JsonValue, JsonView

FORMAT = "open-latch-rules/1"
FIRST_NUMBER = 1000
MOST_RULES = 100
_TEXTS = {"key": 60, "on": 20, "title": 120, "about": 1000, "when": 4000, "says": 500, "remedy": 500}
_NEEDED = ("key", "on", "title", "when", "says", "remedy")
_KNOWN = {*_TEXTS, "urgency", "matches", "misses"}


@dataclass(frozen=True, slots=True)
class OwnRule:
    """A rule as its file says it, with its filter checked."""

    key: str
    on: str
    title: str
    about: str
    when: str
    says: str
    remedy: str
    urgency: int
    node: Node
    matches: tuple[JsonView, ...] = ()
    misses: tuple[JsonView, ...] = ()


@dataclass(frozen=True, slots=True)
class Failure:
    """An example that does not come out as its file says."""

    rule: str
    example: int
    expected: bool
    why: str


@dataclass(slots=True)
class _Faults:
    found: dict[str, str] = field(default_factory=dict)

    def note(self, where: str, what: str) -> None:
        self.found.setdefault(where, what)


def read(
    text: str, attributes: Mapping[str, Mapping[str, Attribute]], names: Mapping[str, Sequence[str]]
) -> list[OwnRule]:
    """The rules of a file.

    ``attributes`` are those of each kind of subject that filters may use, ``names`` the facts that a sentence may name.
    BadInput, naming every rule and field at fault, when it can't be used.
    """
    try:
        found = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput(f"The file is not TOML: {error}.", "Look at the line that is named.") from None
    if found.get("format") != FORMAT:
        raise BadInput("The file does not say that it holds rules.", f'Begin it with: format = "{FORMAT}"')
    rows = found.get("rule", [])
    unknown = sorted(set(found) - {"format", "rule"})
    if unknown or not isinstance(rows, list) or not 1 <= len(rows) <= MOST_RULES:
        raise BadInput(
            f"The file holds {f'{unknown[0]!r}, which has no meaning' if unknown else 'no rules, or too many'}.",
            f"Write 1 to {MOST_RULES} rules, each under [[rule]].",
        )
    faults = _Faults()
    rules = [r for n, row in enumerate(rows, 1) if (r := _rule(row, n, attributes, names, faults)) is not None]
    keys = [rule.key for rule in rules]
    for key in {key for key in keys if keys.count(key) > 1}:
        faults.note(key, "is the key of two rules")
    if faults.found:
        told = "; ".join(f"{where}: {what}" for where, what in faults.found.items())
        raise BadInput(f"The rules can't be used: {told}.", "Look at the rules that are named.", faults.found)
    return rules


def _rule(
    row: object,
    place: int,
    attributes: Mapping[str, Mapping[str, Attribute]],
    names: Mapping[str, Sequence[str]],
    faults: _Faults,
) -> OwnRule | None:
    where = f"rule {place}"
    if not isinstance(row, dict):
        faults.note(where, "is not a table")
        return None
    where = str(row.get("key", where))[:60]
    before = len(faults.found)
    for name in sorted(set(row) - _KNOWN):
        faults.note(f"{where}.{name}"[:80], "has no meaning")
    texts = {name: _text(row, name, most, where, faults) for name, most in _TEXTS.items()}
    if texts["key"] and not re.fullmatch(r"[a-z][a-z0-9_]*", texts["key"]):
        faults.note(f"{where}.key", "has to be small letters, digits and _, such as agency_pays")
    urgency = row.get("urgency", 0)
    if not isinstance(urgency, int) or isinstance(urgency, bool) or not 0 <= urgency <= 100:
        faults.note(f"{where}.urgency", "has to be a whole number from 0 to 100")
    if texts["on"] not in attributes:
        faults.note(f"{where}.on", f"has to be one of {', '.join(attributes)}")
        return None
    node = _condition(texts["when"], attributes[texts["on"]], where, faults)
    _sentence(texts["says"], names[texts["on"]], where, faults)
    examples = {
        kind: _examples(row.get(kind, []), attributes[texts["on"]], f"{where}.{kind}", faults)
        for kind in ("matches", "misses")
    }
    if node is None or len(faults.found) > before:
        return None
    return OwnRule(
        texts["key"],
        texts["on"],
        texts["title"],
        texts["about"],
        texts["when"],
        texts["says"],
        texts["remedy"],
        urgency,
        node,
        examples["matches"],
        examples["misses"],
    )


def _text(row: JsonView, name: str, most: int, where: str, faults: _Faults) -> str:
    value = row.get(name, "")
    if not isinstance(value, str) or len(value) > most:
        faults.note(f"{where}.{name}", f"has to be text of at most {most} characters")
        return ""
    if any(not part.isprintable() for part in value.splitlines()):
        faults.note(f"{where}.{name}", "holds control characters")
        return ""
    if name in _NEEDED and not value.strip():
        faults.note(f"{where}.{name}", "is missing")
    return value.strip()


def _condition(when: str, attributes: Mapping[str, Attribute], where: str, faults: _Faults) -> Node | None:
    try:
        return check(parse(when), attributes) if when else None
    except BadFilter as error:
        faults.note(f"{where}.when", f"{error.detail} {error.remedy}".strip())
        return None


def _sentence(says: str, names: Sequence[str], where: str, faults: _Faults) -> None:
    try:
        used = [(name, spec, conversion) for _, name, spec, conversion in Formatter().parse(says) if name is not None]
    except ValueError as error:
        faults.note(f"{where}.says", str(error))
        return
    for name, spec, conversion in used:
        if name not in names or conversion or spec not in ("", "day"):
            faults.note(f"{where}.says", f"{{{name}}} is not a fact here; name one of {', '.join(names)}")


def _examples(rows: object, attributes: Mapping[str, Attribute], where: str, faults: _Faults) -> tuple[JsonView, ...]:
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        faults.note(where, "has to be a list of tables")
        return ()
    found = []
    for place, row in enumerate(rows, 1):
        values = {}
        for name, value in _flat(row).items():
            attribute = attributes.get(name)
            if attribute is None:
                faults.note(f"{where} {place}", f"{name!r} is not an attribute")
                continue
            try:
                values[name] = _value(value, attribute.kind)
            except (ValueError, TypeError):
                faults.note(f"{where} {place}", f"{name} can't be {value!r}")
        found.append(values)
    return tuple(found)


def _flat(row: Mapping[str, object], before: str = "") -> JsonObject:
    found: JsonObject = {}
    for name, value in row.items():
        if isinstance(value, Mapping):
            found |= _flat(value, f"{before}{name}.")
        else:
            found[f"{before}{name}"] = value
    return found


def _value(value: JsonValue, kind: Kind) -> JsonValue:
    """A value of an example as filters compare it."""
    if kind is Kind.REACH:
        return Reach.from_word(value)
    if kind is Kind.TIME:
        if isinstance(value, str):
            # JSON has no dates of its own: rules that come by it have them as text.
            value = datetime.fromisoformat(value)
        if isinstance(value, date) and not isinstance(value, datetime):
            value = datetime(value.year, value.month, value.day, tzinfo=UTC)
        if not isinstance(value, datetime):
            raise TypeError(value)
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC)
    wanted: dict[Kind, type | tuple[type, ...]] = {Kind.TRUTH: bool, Kind.NUMBER: (int, float)}
    if not isinstance(value, wanted.get(kind, str)):
        raise TypeError(value)
    return value


def try_out(rules: Sequence[OwnRule]) -> list[Failure]:
    """The examples that do not come out as their file says. What an example leaves out is taken to be missing."""
    found = []
    for rule in rules:
        names = set(names_in(rule.node))
        for expected, examples in ((True, rule.matches), (False, rule.misses)):
            for place, example in enumerate(examples, 1):
                row = {name: example.get(name) for name in names}
                if matches(rule.node, row) is not expected:
                    said = "should match, and does not" if expected else "should not match, and does"
                    left_out = sorted(names - set(example))
                    missing = f" It leaves out {', '.join(left_out)}." if left_out else ""
                    found.append(Failure(rule.key, place, expected, f"It {said}.{missing}"))
        if not rule.matches or not rule.misses:
            found.append(Failure(rule.key, 0, not rule.matches, "It needs one that must match and one that must not."))
    return found
