"""Items of a cloud service, and the access rules that open them to people outside.

Its rules are rule documents; the nearest and most specific rule decides, and the service's guard overrides it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

from openlatch.adapters.contract import Found, FoundPart, FoundRule, RuleManner, UsedOutside
from openlatch.core.exposure.paths import covers
from openlatch.core.exposure.rules import Combining, Right
from openlatch.json_values import JsonView

MANNER = RuleManner(
    Combining.MOST_SPECIFIC,
    {
        "list": Right.SEE,
        "fetch": Right.SEE,
        "upload": Right.CHANGE,
        "delete": Right.CHANGE,
        "publish": Right.ADMINISTER,
    },
    logins_known=False,
)


def parts(space: str, items: Iterable[JsonView]) -> Iterator[FoundPart]:
    """The items of a space."""
    for item in items:
        path = str(item["id"])
        yield FoundPart(
            space,
            path,
            str(item.get("name") or path),
            str(item.get("kind") or "file"),
            path,
            {name: str(value) for name, value in item.get("attributes", {}).items()},
            tuple(map(str, item.get("groups", ()))),
            item.get("inherits") is not False,
        )


def rules(space: str, told: JsonView, paths: Iterable[str]) -> Iterator[FoundRule]:
    """The rules of a space, and the service's guards, which are not the space's to take away.

    ``paths`` are its items: one that a rule covers is tried from outside once the rule is gone. ValueError, TypeError
    or KeyError for rules that are not understood.
    """
    known = list(paths)
    keys = [str(rule["rule"]) for rule in told["rules"]] + [str(guard["guard"]) for guard in told["guards"]]
    if len(set(keys)) < len(keys):
        raise ValueError("two rules have the same key")
    for rule in told["rules"]:
        fits = (path for path in known if any(covers(pattern, path) for pattern in rule.get("on", ["/**"])))
        tried = rule.get("set_on", {}).get("resource") if isinstance(rule.get("set_on"), dict) else None
        yield FoundRule(space, rule, {"space": space, "rule_key": rule["rule"], "try": tried or next(fits, "")})
    for guard in told["guards"]:
        yield FoundRule(space, guard, is_guard=True)


def used(rows: Iterable[JsonView]) -> Iterator[Found]:
    """What people outside did by access rules. ValueError, TypeError or KeyError for what is not understood."""
    for row in rows:
        day = date.fromisoformat(row["day"])
        yield UsedOutside(
            row["space"], row["path"], Right(row["right"]), day, row.get("who", ""), row.get("address", "")
        )
