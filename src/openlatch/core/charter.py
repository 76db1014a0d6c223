"""What differs between a charter and the register, entry by entry, and in which order it is made so.

Both are charters in the same plain form, with everybody named alike. A part that the wanted one leaves out is left
alone; one that it has is the whole of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from openlatch.json_values import JsonObject, JsonValue, JsonView

# What is added or changed goes in this order, since latches and schedules name teams; what goes, the other way round.
PARTS = ("teams", "members", "levels", "latches", "rules", "own_rules", "schedules", "expected_exposures")
RULES = "The settings of rules"
_Entries = dict[str, dict[str, JsonObject]]


class Change(StrEnum):
    """What becomes of an entry."""

    ADD = "add"
    CHANGE = "change"
    REMOVE = "remove"


@dataclass(frozen=True, slots=True)
class Difference:
    """An entry that differs: each value that does, as the register has it and as the charter has it.

    ``held`` and ``wanted`` are the whole entries; empty for one that is not there.
    """

    part: str
    name: str
    change: Change
    held: JsonView
    wanted: JsonView

    @property
    def values(self) -> list[tuple[str, JsonValue, JsonValue]]:
        """Field, value in the register, value in the charter."""
        fields = [*self.wanted, *(field for field in self.held if field not in self.wanted)]
        both = [(field, self.held.get(field), self.wanted.get(field)) for field in fields]
        return [(field, was, will) for field, was, will in both if was != will]


def label(part: str, entry: JsonView) -> str:
    """What people call an entry; within its part there is only one of that name."""
    if part == "members":
        return f"{entry['member']} in {entry['team']}"
    if part == "levels":
        return f"{entry['key']} of {entry['system']}"
    if part == "latches":
        where = entry.get("account") or f"every {entry.get('account_kind')}"
        return f"{entry['kind']} on {where}" + (f" of {entry['system']}" if entry.get("system") else "")
    return RULES if part == "rules" else str(entry["key" if part == "own_rules" else "name"])


def twice(charter: JsonView) -> list[str]:
    """The entries that a charter has more than once, each as its part and name."""
    found: list[str] = []
    seen: set[tuple[str, str]] = set()
    for part, entry in _flat(charter):
        name = label(part, entry)
        if (part, name.casefold()) in seen:
            found.append(f"{part}: {name}")
        seen.add((part, name.casefold()))
    return found


def compare(held: JsonView, wanted: JsonView) -> list[Difference]:
    """What differs, in the order in which it can be made so."""
    renamed = _renamed(held, wanted)
    ours, theirs = _entries(wanted), _entries(held, renamed)
    governed = {team["name"].casefold() for team in wanted.get("teams") or () if team.get("members") is not None}
    named = {team["name"].casefold() for team in wanted.get("teams") or ()}
    found = []
    for part in PARTS:
        if wanted.get("teams" if part == "members" else part) is None:
            continue
        here, there = ours.get(part, {}), theirs.get(part, {})
        for key in [*here, *(key for key in there if key not in here)]:
            want, have = here.get(key, {}), there.get(key, {})
            team = have.get("team", "").casefold() if part == "members" else ""
            if part == "members" and not want and team in named and team not in governed:
                continue
            if part == "rules":
                have = {field: have.get(field) for field in want}
            if want != have:
                change = Change.CHANGE if want and have else Change.ADD if want else Change.REMOVE
                found.append(Difference(part, label(part, want or have), change, have, want))
    kept = [d for d in found if d.change is not Change.REMOVE]
    return kept + [d for d in reversed(found) if d.change is Change.REMOVE]


def _renamed(held: JsonView, wanted: JsonView) -> dict[str, str]:
    """How the charter calls teams of the register, by their old names."""
    names = {team["name"].casefold() for team in held.get("teams") or ()}
    kept = {team["name"].casefold() for team in wanted.get("teams") or ()}
    found = {team["name"].casefold(): team["name"] for team in wanted.get("teams") or ()}
    for team in wanted.get("teams") or ():
        if team["name"].casefold() not in names:
            for old in team.get("formerly", ()):
                if old.casefold() in names - kept and old.casefold() not in found:
                    found[old.casefold()] = team["name"]
                    break
    return found


def _entries(charter: JsonView, renamed: Mapping[str, str] | None = None) -> _Entries:
    """The entries by part and name. ``renamed`` teams go by their new names, and still have their old ones."""
    found: _Entries = {}
    for part, entry in _flat(charter):
        named = dict(entry)
        field = "team" if part == "members" else "name" if part == "teams" else ""
        if field and renamed:
            named[field] = renamed.get(str(entry[field]).casefold(), entry[field])
        key = label(part, named).casefold()
        found.setdefault(part, {})[key] = named if part == "members" else entry
    return found


def _flat(charter: JsonView) -> Iterable[tuple[str, JsonObject]]:
    for part in PARTS:
        if part == "rules":
            if charter.get(part) is not None:
                yield part, {field: value for field, value in charter[part].items() if value is not None}
            continue
        for entry in charter.get(part) or ():
            yield part, {field: value for field, value in entry.items() if field not in ("formerly", "members")}
            for member in entry.get("members") or () if part == "teams" else ():
                who = member.get("person") or member.get("team")
                yield (
                    "members",
                    {"team": entry["name"], "member": who, "kind": "person" if member.get("person") else "team"}
                    | {"last_day": member.get("last_day")},
                )
