"""The holders of sudo rules on a host: users, groups, or everyone."""

from __future__ import annotations

from collections.abc import Iterator

from openlatch.adapters.coverage import Gap, Why
from openlatch.adapters.unix_host.people import DOOR, People
from openlatch.adapters.unix_host.rules import Rule, Rules, without
from openlatch.json_values import JsonObject


def holders(host: People, found: Rules, rule: Rule) -> list[str]:
    """The holders of a rule: users, groups with a percent sign, or everyone.

    Exclusions are resolved one by one, since the last matching name counts.
    """
    named = [one for one in found.named(rule) if "undefined" not in one]
    if any(one["negated"] for one in named):
        return [f"user:{name}" for name in host.users if _is_named(host, named, name)]
    holders = []
    for one in named:
        if one.get("username") == "ALL":
            holders.append(DOOR)
        elif "username" in one:
            holders.append(f"user:{one['username']}")
        elif "userid" in one:
            holders.append(f"user:{host.user_of(str(one['userid']))}")
        elif "usergroup" in one:
            holders.append(f"%{one['usergroup']}")
        elif "usergid" in one:
            holders.append(f"%{host.group_of(str(one['usergid']))}")
    return list(dict.fromkeys(holders))


def _is_named(host: People, named: list[JsonObject], user: str) -> bool:
    fields, is_named = host.users[user], False
    primary = host.group_of(fields[3])
    groups = {primary, *(group for group, (_, members) in host.groups.items() if user in members)}
    numbers = {fields[3], *(str(host.groups[group][0]) for group in groups if group in host.groups)}
    for one in named:
        if (
            one.get("username") in ("ALL", user)
            or str(one.get("userid")) == fields[2]
            or one.get("usergroup") in groups
            or str(one.get("usergid")) in numbers
        ):
            is_named = not one["negated"]
    return is_named


def left(host: People, rule: Rule, who: str) -> str | None:
    """A rule's line without somebody; None if that has to be done by hand."""
    name = who.removeprefix("user:").removeprefix("%")
    if who == DOOR:
        written = {"ALL"}
    elif who.startswith("%"):
        number = host.groups.get(name, (None, ()))[0]
        written = {who, f"%#{number}", f"%#{name.removeprefix('gid:')}"}
    else:
        fields = host.users.get(name)
        written = {name, f"#{fields[2] if fields else name.removeprefix('uid:')}"}
    rest = without(rule, written)
    return None if rest is None else rest.decode("latin-1")


def not_told(found: Rules) -> Iterator[Gap]:
    """Names in rules that a host's own files don't know."""
    for rule in found.rules:
        for one in found.named(rule):
            for what in one.keys() & {"netgroup", "nonunixgroup", "nonunixgid"}:
                yield Gap(f"a {what} that a sudo rule names: {one[what]}", Why.NOT_SUPPORTED, rule.file)
