"""Cloud services of the kind that ships as a stand-in: people by SCIM 2.0, tokens by OAuth 2.0, spaces and sessions.

SCIM 2.0 (RFC 7643, 7644) for people, RFC 7009 to revoke a token, RFC 7662 to see whether it is still good. Pages that
shift during a read are detected by SCIM's total count, and read again.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from urllib.parse import quote

import httpx

from openlatch.adapters.cloud import exposure
from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Presence,
    Setting,
    SharedAccount,
    Unchanged,
    Used,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.json_http import all_rows, call, is_gone, not_understood, opened, said, segment, told
from openlatch.adapters.limits import CALL_SECONDS
from openlatch.adapters.oauth import tokens
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemRefused
from openlatch.json_values import JsonObject, JsonView
from openlatch.tls import trusted

_SEE = ("see", "See what is in the space", Reach.OBSERVE)
_CHANGE = ("change", "Add, change and delete what is in the space", Reach.OPERATE)
_PAY = ("pay", "Order and pay for the space", Reach.SPEND)
_ADMIT = ("admit", "Let others in and put them out", Reach.STEWARD)
LEVELS = (
    FoundLevel("guest", "Guest", "Can see what is in the space, and is put out without being asked.", (_SEE,)),
    FoundLevel("viewer", "Viewer", "Can see what is in the space.", (_SEE,)),
    FoundLevel("editor", "Editor", "Can see and change what is in the space.", (_SEE, _CHANGE)),
    FoundLevel("full", "Full member", "Can do everything, pay, and let others in.", (_SEE, _CHANGE, _PAY, _ADMIT)),
)
_ORDER = {level.key: place for place, level in enumerate(LEVELS)}
_LOOKED_AT = ("people and whether they are switched on", "members of spaces", "tokens of apps", "sessions", "activity")
_NOT_LOOKED_AT = (
    Gap("items that members of a space share one by one", Why.NOT_SUPPORTED),
    Gap("how people sign in, and where else by the same way", Why.NOT_SUPPORTED),
)
_OF_TOKENS = ("space", "app", "scope", "person")
_OF_USE = ("space", "path", "right", "day", "who", "address")
_OF_SESSIONS = ("person", "device", "address", "started_at", "last_seen_at")
# What parsing a malformed answer raises.
_ODD = (KeyError, TypeError, ValueError, AttributeError)
SCOPES = {"read": _SEE, "write": _CHANGE, "pay": _PAY, "admit": _ADMIT}


class CloudAdapter(Adapter):
    """Reads and changes one service. ``secret`` is the API key that it issued for Open Latch."""

    settings_taken = (Setting("address", "The service's address, as https://service.example."),)
    can = Abilities(
        steps=frozenset(StepKind) - {StepKind.DROP, StepKind.BY_HAND, StepKind.READ_AGAIN},
        rights=(
            "to read people, spaces, tokens, sessions and activity",
            "to change members of spaces, end sessions, revoke tokens, and switch people off",
        ),
        sessions=True,
        use=True,
        sessions_first=True,
        stamps=True,
        rules=exposure.MANNER,
        sets_rules=True,
        sets_guards=True,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret

    def check(self) -> None:
        """Call each list that a reading needs."""
        with opened(self._settings["address"], self._secret) as http:
            for path in ("/scim/v2/Users", "/spaces", "/tokens", "/sessions", "/activity"):
                call(http, "GET", path, params={"startIndex": 1, "count": 1})

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Everybody, all spaces with their members, tokens, sessions and activity.

        A space's version changes with its members and tokens. What is not understood makes its space partial.
        """
        gaps: dict[str, list[Gap]] = {}
        with opened(self._settings["address"], self._secret) as http:
            people = {row["id"]: row for row in all_rows(http, "/scim/v2/Users")}
            spaces = all_rows(http, "/spaces")
            same = {s["id"] for s in spaces if s.get("version") and since.get(s["id"]) == s["version"]}
            members = {s["id"]: self._members(http, s["id"], gaps) for s in spaces if s["id"] not in same}
            issued = _complete(all_rows(http, "/tokens"), _OF_TOKENS, "a token", gaps)
            sessions = _complete(all_rows(http, "/sessions"), _OF_SESSIONS, "a session", gaps)
            activity = all_rows(http, "/activity", ("space", "who", "day", "permission"))
            open_ones = [found for s in spaces if s["id"] not in same for found in self._open(http, s["id"], gaps)]
            outside = list(_used(all_rows(http, "/outside-use", _OF_USE), gaps))
        yield from LEVELS
        yield from (
            _other_role(role) for role in sorted({r["role"] for m in members.values() for r in m} - set(_ORDER))
        )
        links = list(_links([token for token in issued if token["space"] not in same]))
        yield from (scopes_level(scopes) for scopes in sorted({link.level.partition(" ")[2] for link in links}))
        for space in spaces:
            yield SharedAccount(space["id"], str(space.get("name") or space["id"]), "space", space.get("version", ""))
            if space["id"] in same:
                yield Unchanged(space["id"])
            yield Coverage(space["id"], _LOOKED_AT, tuple(gaps.get(space["id"], ())))
        names = {space["id"]: str(space.get("name") or space["id"]) for space in spaces}
        for ident, person in people.items():
            address = next((mail["value"] for mail in person.get("emails", ()) if mail.get("value")), "")
            known = {"address": address, "employee": person.get("externalId", "")}
            marks = {mark: text for mark, text in known.items() if text}
            hangs = tuple(
                ("others", f"{t['app']} acts in {names.get(t['space'], t['space'])} by their consent: {t['scope']}")
                for t in issued
                if t["person"] == ident
            )
            called = str(person.get("displayName") or person.get("userName") or ident)
            yield Login(ident, called, False, marks, person.get("active") is False, hangs)
        for app in dict.fromkeys(token["app"] for token in issued):
            yield Login(f"app:{app}", app, True)
        for space, rows in members.items():
            for row in rows:
                handle = {"space": space, "person": row["id"], "role": row["role"]}
                yield Holding(space, row["id"], False, row["role"], None, handle)
        yield from links
        yield from open_ones
        yield from outside
        for session in sessions:
            yield _presence(session)
        for used in activity:
            who = used["who"] if used["who"] in people else f"app:{used['who']}"
            yield Used(used["space"], who, date.fromisoformat(used["day"]), used["permission"])
        yield Coverage("", _LOOKED_AT, (*_NOT_LOOKED_AT, *gaps.get("", ())))
        yield Whole()

    def _open(self, http: httpx.Client, space: str, gaps: dict[str, list[Gap]]) -> list[Found]:
        """The items of one space with their access rules. Rules that can't be read leave the space partial."""
        try:
            items = all_rows(http, f"/spaces/{segment(space)}/items")
            rules = told(call(http, "GET", f"/spaces/{segment(space)}/rules"))
            parts = list(exposure.parts(space, items))
            return [*parts, *exposure.rules(space, rules, [part.path for part in parts])]
        except SystemRefused as error:
            gaps.setdefault(space, []).append(Gap(f"access rules ({error.detail})", Why.NOT_PERMITTED))
        except _ODD:
            gaps.setdefault(space, []).append(Gap("access rules", Why.NOT_UNDERSTOOD))
        return []

    def _members(self, http: httpx.Client, space: str, gaps: dict[str, list[Gap]]) -> list[JsonObject]:
        """The members of one space. If they can't be read, other spaces are still read."""
        try:
            rows = all_rows(http, f"/spaces/{segment(space)}/members")
        except SystemRefused as error:
            gaps.setdefault(space, []).append(Gap(f"members ({error.detail})", Why.NOT_PERMITTED))
            return []
        return _complete([{**row, "space": space} for row in rows], ("role",), "a member", gaps)

    def can_reduce(self, level: str, lower: str) -> bool:
        """A role can be reduced to any lower one; a token's scopes can't be reduced, only revoked."""
        return level in _ORDER and lower in _ORDER and _ORDER[lower] < _ORDER[level]

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """A member of a space. SystemRefused for an app, which only its user can authorise."""
        if login.startswith("app:"):
            raise SystemRefused("An app is linked by whoever uses it.", "Have them link it, and read the service.")
        return {"space": account, "person": login, "role": level}

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """A member is made a guest before they are removed, since removing a guest needs nobody's consent.

        Tokens of an app are revoked one by one.
        """
        if "tokens" in detail:
            return tuple(Move(kind, {"token": token}, "revoke a token") for token in detail["tokens"])
        if kind is StepKind.REMOVE and detail.get("role") != "guest":
            return Move(StepKind.REDUCE, {**detail, "to": "guest"}, "make them a guest first"), Move(kind, detail)
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """One call; SystemRefused with what the service said."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        with opened(self._settings["address"], self._secret) as http:
            if kind is StepKind.CLOSE:
                path = f"/spaces/{segment(detail['space'])}/rules/{quote(detail['rule_key'], safe='')}"
                call(http, "DELETE", path)
                return f"Took the rule {detail['rule_key']} away."
            if "token" in detail:
                tokens.revoke(http, "/oauth/revoke", detail["token"])
                return "Revoked the token."
            if kind is StepKind.END_SESSIONS:
                call(http, "DELETE", f"/sessions/{segment(detail['session'])}")
                return f"Ended the session {detail['session']}."
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                on = kind is StepKind.UNLOCK
                body = {
                    "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
                    "Operations": [{"op": "replace", "path": "active", "value": on}],
                }
                call(http, "PATCH", f"/scim/v2/Users/{segment(detail['login'])}", json=body)
                return f"Switched {detail['login']} {'on' if on else 'off'}."
            path = f"/spaces/{segment(detail['space'])}/members/{segment(detail['person'])}"
            if kind is StepKind.REMOVE:
                answer = call(http, "DELETE", path)
                return (
                    "Removed." if answer.status_code == httpx.codes.NO_CONTENT else f"The service says: {said(answer)}"
                )
            role = detail["role"] if kind is StepKind.GIVE else detail["to"]
            call(http, "PUT", path, json={"role": role})
            return f"Made them {role}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None when the service shows what the step wants."""
        if kind is StepKind.CLOSE:
            return self._still_open(detail)
        with opened(self._settings["address"], self._secret) as http:
            if "token" in detail:
                about = tokens.introspected(http, "/oauth/introspect", detail["token"])
                return "the token is still good" if about["active"] else None
            if kind is StepKind.END_SESSIONS:
                there = any(row["id"] == detail["session"] for row in all_rows(http, "/sessions"))
                return f"the session {detail['session']} still goes on" if there else None
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                return self._switch_wrong(http, kind, detail["login"])
            rows = all_rows(http, f"/spaces/{segment(detail['space'])}/members")
        return _member_wrong(kind, detail, rows)

    def set_rules(self, account: str, rules: Sequence[JsonView], known: Sequence[JsonView]) -> str:
        """Set all rules of a space, conditional on the version that they replace."""
        path = f"/spaces/{segment(account)}/rules"
        with opened(self._settings["address"], self._secret) as http:
            answer = call(http, "GET", path)
            there, wanted = _list_in(answer, "rules"), [dict(rule) for rule in rules]
            if there == wanted:
                return "It was so already; nothing was changed."
            if there != [dict(rule) for rule in known]:
                raise SystemRefused(
                    "The service has other rules by now than were read.", "Have it read, and make the draft again."
                )
            call(http, "PUT", path, json={"rules": wanted}, headers={"If-Match": answer.headers.get("ETag", "")})
        return f"Set the rules of {account}: {len(wanted)} in all."

    def set_guards(self, guards: Sequence[JsonView], prefix: str) -> str:
        """Set the service's guards, which override the rules of all spaces."""
        with opened(self._settings["address"], self._secret) as http:
            answer = call(http, "GET", "/guards")
            there = _list_in(answer, "guards")
            others = [guard for guard in there if not str(guard.get("guard", "")).startswith(prefix)]
            wanted = [*others, *(dict(guard) for guard in guards)]
            if there == wanted:
                return "It was so already; nothing was changed."
            tag = {"If-Match": answer.headers.get("ETag", "")}
            call(http, "PUT", "/guards", json={"guards": wanted}, headers=tag)
        return f"Set the guards of Open Latch: {len(guards)} in all."

    def _switch_wrong(self, http: httpx.Client, kind: StepKind, login: str) -> str | None:
        """What the service shows instead of a login switched on or off; None if it is as wanted."""
        person = call(http, "GET", f"/scim/v2/Users/{segment(login)}", missing=True)
        active = not is_gone(person) and told(person).get("active")
        if not isinstance(active, bool):
            raise not_understood(f"/scim/v2/Users/{login}")
        if kind is StepKind.UNLOCK:
            return None if active else f"{login} is switched off"
        return f"{login} is still switched on" if active else None

    def _still_open(self, detail: JsonView) -> str | None:
        """What remains of a rule: in the space's own list, or in what it serves without a sign-in."""
        key = detail["rule_key"]
        with opened(self._settings["address"], self._secret) as http:
            rules = told(call(http, "GET", f"/spaces/{segment(detail['space'])}/rules"))
            try:
                there = any(rule["rule"] == key for rule in rules["rules"])
            except (KeyError, TypeError) as error:
                raise not_understood("/rules") from error
            if there:
                return f"the rule {key} is still there"
            if not detail.get("try"):
                return None
        path = f"/open/{segment(detail['space'])}{quote(detail['try'])}"
        with httpx.Client(base_url=self._settings["address"], timeout=CALL_SECONDS / 2, verify=trusted()) as anybody:
            answer = call(anybody, "GET", path, refused=True)
        if answer.status_code in (httpx.codes.UNAUTHORIZED, httpx.codes.FORBIDDEN, httpx.codes.NOT_FOUND):
            return None
        by = told(answer).get("by")
        if not isinstance(by, list):
            raise not_understood(path)
        return f"{detail['try']} is still open by the rule {key}" if key in by else None


def _list_in(answer: httpx.Response, name: str) -> list[JsonObject]:
    """A list in an answer. SystemRefused if it is missing."""
    found = told(answer).get(name)
    if not isinstance(found, list) or not all(isinstance(each, dict) for each in found):
        raise not_understood(name)
    return found


def _member_wrong(kind: StepKind, detail: JsonView, rows: list[JsonObject]) -> str | None:
    """What the members of a space show instead of what a step wants."""
    role = next((str(row.get("role")) for row in rows if row["id"] == detail["person"]), None)
    if role is not None and role not in _ORDER:
        return f"they are still in the space, as {role}"
    if kind is StepKind.GIVE:
        there = role is not None and _ORDER[role] >= _ORDER[detail["role"]]
        return None if there else "they are not yet in the space as they should be"
    if role is None or (kind is StepKind.REDUCE and _ORDER[role] <= _ORDER[detail["to"]]):
        return None
    return f"they are still {role} in the space"


def _complete(
    rows: list[JsonObject], wanted: tuple[str, ...], what: str, gaps: dict[str, list[Gap]]
) -> list[JsonObject]:
    """The rows that have all wanted fields, as text; each of the others counts as a gap in its space."""
    found = []
    for row in rows:
        if all(isinstance(row.get(name), str) for name in wanted):
            found.append(row)
        else:
            gap = Gap(what, Why.NOT_UNDERSTOOD, str(row["id"]))
            gaps.setdefault(str(row.get("space") or ""), []).append(gap)
    return found


def _other_role(role: str) -> FoundLevel:
    """An unknown role, which may be able to do anything."""
    does = (f"role {role}", f"Do whatever the role “{role}” stands for", Reach.STEWARD)
    return FoundLevel(role, role, f"Has the role “{role}”, which is not known here.", (does,))


def scopes_level(scope: str) -> FoundLevel:
    """The scopes of a token as a level, each scope a permission; an unknown scope may do anything."""
    names = scope.split()
    permissions = tuple(SCOPES.get(name, (name, f"Do what “{name}” stands for", Reach.STEWARD)) for name in names)
    does = ", ".join(sentence[0].lower() + sentence[1:] for _, sentence, _ in permissions)
    return FoundLevel(f"scopes {scope}", f"App: {scope}", f"The app can {does}.", permissions)


def _links(tokens: list[JsonObject]) -> Iterator[Holding]:
    """What apps hold: one link for each app and space, with all its tokens and all that they let it do together."""
    of: dict[tuple[str, str], list[JsonObject]] = {}
    for token in tokens:
        of.setdefault((token["space"], token["app"]), []).append(token)
    for (space, app), held in of.items():
        widest = max(held, key=lambda token: (len(token["scope"].split()), token["scope"]))
        scopes = widest["scope"].split()
        scopes += sorted({scope for token in held for scope in token["scope"].split()} - set(scopes))
        handle = {"tokens": sorted(token["id"] for token in held), "consented_by": widest["person"]}
        yield Holding(space, f"app:{app}", False, f"scopes {' '.join(scopes)}", None, handle)


def _used(rows: list[JsonObject], gaps: dict[str, list[Gap]]) -> Iterator[Found]:
    """Use by outsiders; a row that is not understood counts as a gap in its space."""
    for row in rows:
        try:
            yield from list(exposure.used([row]))
        except _ODD:
            gaps.setdefault(str(row.get("space") or ""), []).append(Gap("use by outsiders", Why.NOT_UNDERSTOOD))


def _presence(session: JsonObject) -> Presence:
    started, seen = (datetime.fromisoformat(session[name]) for name in ("started_at", "last_seen_at"))
    handle = {"session": session["id"]}
    return Presence(session["id"], session["person"], session["device"], session["address"], started, seen, handle)
