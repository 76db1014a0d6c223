"""Any service that speaks SCIM 2.0 (RFC 7643, RFC 7644): users, groups, entitlements and roles.

Each group, entitlement and role is a shared account, since each opens something; what exactly, SCIM does not say. Users
are logins, groups in groups are holders. Access is taken away from a resource by PATCH; where the service has none, the
resource is put as it was read without it, if nobody changed it meanwhile.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping

import httpx

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.json_http import all_rows, call, is_gone, not_understood, opened, segment, told
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemRefused
from openlatch.json_values import JsonList, JsonObject, JsonValue, JsonView

PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
MEMBER = FoundLevel(
    "member", "Member", "Has what the group opens.", (("belong", "Have what the group opens", Reach.OPERATE),)
)
HAS = FoundLevel("has", "Has it", "Has what it stands for.", (("have", "Have what it stands for", Reach.OPERATE),))
# Attributes of users with several values, each of which opens something: what one of them is called.
VALUES = {"entitlements": "entitlement", "roles": "role"}
_LOOKED_AT = ("users and whether they are active", "groups and their members", "entitlements", "roles")
_GAPS = (
    Gap("what a group, an entitlement or a role opens", Why.NOT_SUPPORTED),
    Gap("sessions and tokens", Why.NOT_SUPPORTED),
)


class ScimAdapter(Adapter):
    """Reads and changes one service. ``secret`` is a bearer token of it."""

    settings_taken = (Setting("address", "Where its SCIM begins, as https://service.example/scim/v2."),)
    can = Abilities(
        steps=frozenset({StepKind.GIVE, StepKind.REMOVE, StepKind.LOCK, StepKind.UNLOCK, StepKind.DROP}),
        rights=("to read users and groups", "to change members of groups, and users"),
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._address = str(settings["address"]).rstrip("/")
        self._secret = secret

    def check(self) -> None:
        """Ask what it can do, and for a user."""
        with opened(self._address, self._secret) as http:
            _config(http)
            call(http, "GET", "Users", params={"startIndex": 1, "count": 1})

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Every user, group, entitlement and role. What is not understood leaves its group, or all, partial."""
        with opened(self._address, self._secret) as http:
            users = {str(row["id"]): row for row in all_rows(http, "Users")}
            # Groups need not be there at all (RFC 7643, section 6).
            has_groups = not is_gone(call(http, "GET", "Groups", missing=True, params={"startIndex": 1, "count": 1}))
            groups = {str(row["id"]): row for row in all_rows(http, "Groups")} if has_groups else {}
        yield MEMBER
        yield HAS
        odd: list[Gap] = []
        yield from _groups(users, groups)
        yield from _values(users, odd)
        for ident, user in users.items():
            yield _login(ident, user)
        yield Coverage("", _LOOKED_AT, (*_GAPS, *odd))
        yield Whole()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Never: one belongs or does not."""
        return False

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """A group's member, or a user's value."""
        return {"account": account, "login": login}

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One move."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """GIVE and REMOVE change a group's members or a user's values, LOCK and UNLOCK whether a user is active, DROP
        deletes a user.
        """
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with opened(self._address, self._secret) as http:
            if kind is StepKind.DROP:
                call(http, "DELETE", f"Users/{segment(detail['login'])}", missing=True)
                return f"Deleted the user {detail['login']}."
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                is_active = kind is StepKind.UNLOCK
                _change(http, f"Users/{segment(detail['login'])}", "replace", "active", is_active)
                return f"Set the user {detail['login']} {'active' if is_active else 'inactive'}."
            path, name, ident = _where(detail)
            if kind is StepKind.GIVE:
                _change(http, path, "add", name, [{"value": ident}])
                return f"Added {ident} to {name} of {path}."
            _change(http, path, "remove", name, ident)
            return f"Removed {ident} from {name} of {path}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None when the service shows what the step wants; by the user's own groups, too, where it tells of them."""
        with opened(self._address, self._secret) as http:
            if kind in (StepKind.LOCK, StepKind.UNLOCK, StepKind.DROP):
                return _user_wrong(http, kind, detail["login"])
            path, name, ident = _where(detail)
            # Named, since a service may leave an attribute out that is not asked for (RFC 7643, section 7).
            answer = call(http, "GET", path, missing=True, params={"attributes": name})
            there = not is_gone(answer) and ident in _idents(told(answer), name, path)
            if kind is StepKind.GIVE:
                return None if there else f"{ident} is not in {name} of {path} yet"
            if there:
                return f"{ident} is still in {name} of {path}"
            return _still_told(http, detail) if name == "members" else None


def _where(detail: JsonView) -> tuple[str, str, str]:
    """Which resource a holding is in, in which attribute, and which value it is there."""
    kind, _, ident = str(detail["account"]).partition(":")
    if kind == "group":
        return f"Groups/{segment(ident)}", "members", str(detail["login"]).removeprefix("group:")
    name = next((name for name, one in VALUES.items() if one == kind), None)
    if name is None:
        raise SystemRefused(f"{detail['account']!r} is nothing that SCIM has.", "Have the system read again.")
    return f"Users/{segment(str(detail['login']))}", name, ident


def _idents(found: JsonView, name: str, path: str) -> set[str]:
    """The values in an attribute. SystemRefused for what is not understood: that never counts as absent."""
    rows = found.get(name) or []
    if not isinstance(rows, list) or not all(isinstance(row, dict) and "value" in row for row in rows):
        raise not_understood(path)
    return {str(row["value"]) for row in rows}


def _still_told(http: httpx.Client, detail: JsonView) -> str | None:
    """What the user's own list of groups says: somebody may be in a group by another one that is in it."""
    if str(detail["login"]).startswith("group:"):
        return None
    path = f"Users/{segment(str(detail['login']))}"
    answer = call(http, "GET", path, missing=True)
    if is_gone(answer):
        return None
    group = str(detail["account"]).partition(":")[2]
    rows = told(answer).get("groups") or []
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise not_understood(path)
    still = [row for row in rows if str(row.get("value")) == group and row.get("type") != "indirect"]
    return f"the user still has the group {group}" if still else None


def _user_wrong(http: httpx.Client, kind: StepKind, login: str) -> str | None:
    path = f"Users/{segment(login)}"
    answer = call(http, "GET", path, missing=True)
    if is_gone(answer):
        return "there is no such user" if kind is StepKind.UNLOCK else None
    if kind is StepKind.DROP:
        return f"the user {login} is still there"
    # Without the attribute a service does not say: RFC 7643 leaves what that means to it.
    active = told(answer).get("active")
    if not isinstance(active, bool):
        raise not_understood(path)
    if active is (kind is StepKind.UNLOCK):
        return None
    return f"the user {login} is {'still active' if active else 'not active'}"


def _config(http: httpx.Client) -> JsonObject:
    """What the service says that it can do."""
    return told(call(http, "GET", "ServiceProviderConfig"))


def _change(http: httpx.Client, path: str, how: str, name: str, value: JsonValue) -> None:
    """Change one attribute of a resource: by PATCH, or by putting all of it where there is no PATCH."""
    patch = _config(http).get("patch")
    if isinstance(patch, dict) and patch.get("supported") is False:
        _put(http, path, how, name, value)
        return
    operation: JsonObject = {"op": how, "path": name, "value": value}
    if how == "remove":
        operation = {"op": how, "path": f"{name}[value eq {json.dumps(value)}]"}
    call(http, "PATCH", path, json={"schemas": [PATCH], "Operations": [operation]})


def _put(http: httpx.Client, path: str, how: str, name: str, value: JsonValue) -> None:
    answer = call(http, "GET", path)
    found = told(answer)
    rows: JsonList = found.get(name) or []
    if how == "replace":
        found[name] = value
    elif how == "add":
        found[name] = [*rows, *value]
    else:
        found[name] = [row for row in rows if str(row.get("value")) != value]
    tag = answer.headers.get("ETag") or (found.get("meta") or {}).get("version")
    call(http, "PUT", path, json=found, headers={"If-Match": str(tag)} if tag else {})


def _groups(users: Mapping[str, JsonObject], groups: Mapping[str, JsonObject]) -> Iterator[Found]:
    for ident, group in groups.items():
        account = f"group:{ident}"
        yield SharedAccount(account, str(group.get("displayName") or ident), "group")
        gaps: list[Gap] = []
        rows = group.get("members") or []
        for row in rows if isinstance(rows, list) else ["?"]:
            who = str(row.get("value") or "") if isinstance(row, dict) else ""
            if who in users:
                yield Holding(account, who, False, MEMBER.key, None, {"account": account, "login": who})
            elif who in groups:
                login = f"group:{who}"
                yield Holding(account, login, True, MEMBER.key, None, {"account": account, "login": login})
            else:
                gaps.append(Gap("a member who is neither a user nor a group there", Why.NOT_UNDERSTOOD, who))
        # Some services leave members out of lists: then the group is not empty, but unknown.
        named = {who for who, user in users.items() if ident in _own_groups(user)}
        listed = {str(row.get("value")) for row in rows if isinstance(row, dict)} if isinstance(rows, list) else set()
        gaps += [Gap("a member that the group's list leaves out", Why.NOT_UNDERSTOOD, who) for who in named - listed]
        yield Coverage(account, _LOOKED_AT, tuple(gaps))


def _own_groups(user: JsonView) -> set[str]:
    """The groups that a user says to be in directly; unknown forms name none."""
    rows = user.get("groups")
    held = [row for row in rows if isinstance(row, dict)] if isinstance(rows, list) else []
    return {str(row.get("value")) for row in held if row.get("type") != "indirect"}


def _values(users: Mapping[str, JsonObject], odd: list[Gap]) -> Iterator[Found]:
    told_of: dict[str, str] = {}
    holdings: list[Holding] = []
    for ident, user in users.items():
        for name, kind in VALUES.items():
            rows = user.get(name) or []
            for row in rows if isinstance(rows, list) else [None]:
                if not isinstance(row, dict) or not isinstance(row.get("value"), str) or not row["value"]:
                    odd.append(Gap(f"{name} of a user", Why.NOT_UNDERSTOOD, ident))
                    continue
                account = f"{kind}:{row['value']}"
                told_of.setdefault(account, str(row.get("display") or row["value"]))
                holdings.append(Holding(account, ident, False, HAS.key, None, {"account": account, "login": ident}))
    for account, called in told_of.items():
        kind = account.partition(":")[0]
        yield SharedAccount(account, f"{kind.capitalize()} {called}", kind)
        yield Coverage(account, _LOOKED_AT)
    yield from holdings


def _login(ident: str, user: JsonView) -> Login:
    mails = [mail for mail in user.get("emails") or () if isinstance(mail, dict) and mail.get("value")]
    address = next((mail["value"] for mail in mails if mail.get("primary")), mails[0]["value"] if mails else "")
    extension = user.get(ENTERPRISE)
    employee = str(extension.get("employeeNumber") or "") if isinstance(extension, dict) else ""
    known = {"address": str(address), "employee": employee}
    marks = {mark: text for mark, text in known.items() if text}
    name = user.get("name")
    formatted = str(name.get("formatted") or "") if isinstance(name, dict) else ""
    called = str(user.get("displayName") or formatted or user.get("userName") or ident)
    return Login(ident, called, False, marks, user.get("active") is False)
