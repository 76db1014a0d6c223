"""WebDAV and CalDAV servers with access control (RFC 4918, RFC 3744, RFC 4791).

Each collection just below the address is an account; it, the collections in it, and whatever else has a list of its
own, are its parts. PROPFIND finds them with their lists, the ACL method changes a list. What is open is determined
by requests without a sign-in that change nothing.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, unquote, urlsplit
from xml.etree.ElementTree import Element

import httpx

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundPart,
    Holding,
    Login,
    Setting,
    SharedAccount,
    Whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.adapters.limits import CALL_SECONDS, CONNECT_SECONDS, READING_SECONDS, asked
from openlatch.adapters.webdav.exposure import ITSELF, MANNER, Tried, open_rules
from openlatch.adapters.webdav.lists import CALDAV, DAV, OPEN, Containment, Entry, entries, key, level, parsed, written
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, JsonView
from openlatch.tls import trusted

_XML = {"Content-Type": "application/xml; charset=utf-8"}
_PROPERTIES = (
    f"{DAV}acl",
    f"{DAV}displayname",
    f"{DAV}resourcetype",
    f"{DAV}owner",
    f"{DAV}current-user-principal",
    f"{DAV}supported-privilege-set",
)
_OF_PRINCIPALS = (f"{DAV}displayname", f"{CALDAV}calendar-user-address-set", f"{DAV}group-member-set")
# Removing a property that isn't there is no error and no change (RFC 4918, section 14.23).
_CHANGES_NOTHING = (
    b'<?xml version="1.0"?><D:propertyupdate xmlns:D="DAV:"><D:remove><D:prop>'
    b'<nothing xmlns="urn:openlatch:nothing"/></D:prop></D:remove></D:propertyupdate>'
)
_TAKEN_TIMES = (
    b'<?xml version="1.0"?><C:free-busy-query xmlns:C="urn:ietf:params:xml:ns:caldav">'
    b'<C:time-range start="20260101T000000Z" end="20260102T000000Z"/></C:free-busy-query>'
)
# What is listed to us and not found without a sign-in is closed to anonymous clients.
_REFUSED = (401, 403, 404)
# Collections that hold a person's messages and not their own data (RFC 6638, section 2).
_SCHEDULING = {f"{CALDAV}schedule-inbox", f"{CALDAV}schedule-outbox"}
_LOOKED_AT = ("named principals", "all, authenticated and unauthenticated", "asking without signing in")


@dataclass(frozen=True, slots=True)
class Thing:
    """A collection or another resource of the server, with its list."""

    path: str
    name: str
    kinds: frozenset[str]
    owner: str
    ourselves: str
    entries: tuple[Entry, ...]
    containment: Containment = field(compare=False)
    is_shown: bool = True
    """Whether the server shows its list; what is not shown is not absent."""

    @property
    def is_collection(self) -> bool:
        """Whether it can contain other resources."""
        return f"{DAV}collection" in self.kinds

    @property
    def kind(self) -> str:
        """Its kind as a part of an account."""
        return "calendar" if f"{CALDAV}calendar" in self.kinds else "folder" if self.is_collection else "file"

    @property
    def has_own_list(self) -> bool:
        """Whether it has entries of its own, besides inherited and protected ones."""
        return any(entry.own for entry in self.entries)


class DavAdapter(Adapter):
    """Reads and changes the lists below one address. ``secret`` is the password of ``user``."""

    settings_taken = (
        Setting("address", "where the collections are, as https://dav.internal/calendars/office/"),
        Setting("user", "the login that Open Latch signs in with: the owner, or one who may read and write the lists"),
        Setting("domain", "what turns a principal's name into an address, where the server tells none", ""),
        Setting(
            "refusals", "“first” for a server where a denial counts wherever it stands, else “as written”", "as written"
        ),
    )
    can = Abilities(
        frozenset({StepKind.REMOVE, StepKind.REDUCE, StepKind.GIVE, StepKind.CLOSE}),
        rights=("DAV:read-acl and DAV:write-acl on every collection",),
        rules=MANNER,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._address = str(settings["address"]).rstrip("/") + "/"
        self._user, self._secret = str(settings["user"]), secret
        self._domain = str(settings.get("domain") or "")
        self._refusals_win = settings.get("refusals") == "first"

    def check(self) -> None:
        """Sign in, and check that the server has access control and shows its lists to this login."""
        with self._signed_in() as http:
            answer = asked(http, "OPTIONS", self._address)
            if "access-control" not in answer.headers.get("DAV", ""):
                raise SystemRefused(
                    "The server has no access control (RFC 3744) there.", "Give the address of the collections."
                )
            if not self._things(http, self._root, "1"):
                raise SystemRefused("There is nothing at the address.", "Give the address of the collections.")

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Every collection with its lists, and what is accessible without a sign-in."""
        with self._signed_in() as http, _nobody() as outside:
            above = {thing.path: thing for thing in self._things(http, self._root, "1")}
            yield Coverage(
                "",
                ("collections below the address",),
                (
                    Gap("logins in no list", Why.NOT_SUPPORTED),
                    Gap("inboxes and outboxes", Why.NOT_SUPPORTED),
                ),
            )
            seen: dict[str, Thing] = {}
            levels: dict[str, Containment] = {}
            for path in sorted(above):
                top = above[path]
                if path == self._root or not top.is_collection or top.kinds & _SCHEDULING:
                    continue
                account = self._handle(path)
                yield SharedAccount(account, top.name, top.kind)
                yield from self._account(http, outside, account, top, seen, levels)
            yield from (level(one, containment) for one, containment in sorted(levels.items()))
            yield from self._logins(http, seen)
            yield Whole()

    def _account(
        self,
        http: httpx.Client,
        outside: httpx.Client,
        account: str,
        top: Thing,
        seen: dict[str, Thing],
        levels: dict[str, Containment],
    ) -> Iterator[Found]:
        """One account: its parts, their holders, and what is open."""
        gaps: list[Gap] = []
        held: dict[str, dict[str, set[str]]] = {}
        parts: dict[str, str] = {}
        for thing, inside in self._within(http, top, gaps):
            part = f"{ITSELF}{account}" if thing.path == top.path else self._handle(thing.path)
            parts[thing.path] = part
            yield FoundPart(account, part, thing.name, thing.kind)
            tried = _tried(outside, self._url, thing, inside)
            yield from open_rules(
                account, part, thing.path, thing.entries, thing.containment, tried, self._refusals_win
            )
            if not thing.is_shown:
                gaps.append(Gap("its list", Why.NOT_PERMITTED, unquote(thing.path)))
            for entry in thing.entries:
                gaps += _unclear(entry, thing)
                if entry.grants and entry.who and entry.who not in OPEN and not entry.inverted:
                    held.setdefault(entry.who, {}).setdefault(thing.path, set()).update(entry.privileges)
                    seen.setdefault(entry.who, thing)
        for who, by_path in sorted(held.items()):
            rights = {path: key(names) for path, names in by_path.items()}
            levels.update(dict.fromkeys(rights.values(), top.containment))
            yield _holding(account, who, rights, parts)
        yield Coverage(account, _LOOKED_AT, tuple(dict.fromkeys(gaps)))

    def _within(self, http: httpx.Client, top: Thing, gaps: list[Gap]) -> Iterator[tuple[Thing, list[Thing]]]:
        """A collection and what is in it that has a list of its own, each with what is directly inside."""
        waiting, done, until = [top], set[str](), time.monotonic() + READING_SECONDS
        while waiting:
            thing = waiting.pop()
            if thing.path in done:
                continue
            done.add(thing.path)
            inside: list[Thing] = []
            if thing.is_collection:
                if time.monotonic() > until:
                    raise SystemDown("The server takes too long to tell everything.", "It will be tried again.")
                try:
                    inside = [one for one in self._things(http, thing.path, "1") if one.path != thing.path]
                except SystemRefused as error:
                    gaps.append(Gap("what is inside", _why(error), thing.path))
                hidden = [one for one in inside if not (one.is_shown or one.is_collection)]
                gaps += [Gap("a list", Why.NOT_PERMITTED, unquote(one.path)) for one in hidden]
            yield thing, inside
            waiting += [one for one in inside if one.is_collection or one.has_own_list]

    def _logins(self, http: httpx.Client, seen: Mapping[str, Thing]) -> Iterator[Login]:
        """Everybody named in a list, with what the server says about them."""
        for who in sorted(seen):
            try:
                answered = self._propfind(http, who, "0", _OF_PRINCIPALS)
            except SystemRefused:
                answered = {}
            told = answered.get(_path(who), {})
            name = _text(told.get(f"{DAV}displayname")) or who.rstrip("/").rpartition("/")[2]
            addresses = told.get(f"{CALDAV}calendar-user-address-set")
            hrefs = [_text(one) for one in addresses.iter(f"{DAV}href")] if addresses is not None else []
            mail = next((h.removeprefix("mailto:") for h in hrefs if h.startswith("mailto:")), "")
            if not mail and self._domain:
                mail = f"{unquote(who.rstrip('/').rpartition('/')[2])}@{self._domain}"
            yield Login(who, name, False, {"address": mail} if mail else {})

    def can_reduce(self, level: str, lower: str) -> bool:
        """Whether the second set of privileges is in the first."""
        containment = Containment({})
        within = containment.known(level.split()) | set(level.split())
        return set(lower.split()) <= within and key(lower.split()) != key(level.split())

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """An entry in the list of an account's own collection."""
        path = self._path_of(account)
        return {"who": login, "paths": [path], "given": {path: level}}

    def again(self, handle: JsonObject) -> JsonObject | None:
        """The entries as they were."""
        return handle if "given" in handle else None

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One step for each list, inner ones first."""
        paths = sorted(detail["paths"], key=len, reverse=True)
        return tuple(
            Move(kind, {**detail, "paths": [path]}, "" if path == paths[-1] else f"the list of {unquote(path)} first")
            for path in paths
        )

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """Write each list without, or with less of, what is to be removed; other entries stay."""
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        who = detail["who"]
        with self._signed_in() as http:
            for path in detail["paths"]:
                thing = self._thing(http, path)
                if who == thing.ourselves:
                    raise SystemRefused(
                        "That is the login that Open Latch signs in with.", "Connect with another login first."
                    )
                kept = _changed(kind, thing, detail)
                body = written(kept, thing.ourselves)
                answer = asked(http, "ACL", self._url(path), content=body, headers=_XML)
                if not answer.is_success:
                    raise _refusal(answer, f"the list of {unquote(path)}")
        what = "Gave" if kind is StepKind.GIVE else "Took"
        return f"{what} the entry of {_called(who)} on {', '.join(unquote(path) for path in detail['paths'])}."

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None if the lists are as the step wants them; what should be closed is requested without a sign-in."""
        with self._signed_in() as http, _nobody() as outside:
            for path in detail["paths"]:
                thing = self._thing(http, path)
                wrong = _wrong(kind, thing, detail)
                if wrong is not None:
                    return wrong
                if kind is StepKind.CLOSE:
                    inside = [one for one in self._things(http, path, "1") if one.path != thing.path]
                    tried = _tried(outside, self._url, thing, inside, always=True)
                    if tried.reads or tried.sees_times or tried.changes:
                        return f"{unquote(path)} still opens without signing in"
        return None

    @property
    def _root(self) -> str:
        return _path(self._address)

    def _url(self, path: str) -> str:
        base = urlsplit(self._address)
        return f"{base.scheme}://{base.netloc}{path}"

    def _handle(self, path: str) -> str:
        """The handle of a path below the address: without their common prefix."""
        return unquote(path.removeprefix(self._root)).strip("/")

    def _path_of(self, account: str) -> str:
        return f"{self._root}{quote(account)}/"

    def _thing(self, http: httpx.Client, path: str) -> Thing:
        """One resource with its list. SystemRefused if the server does not show it: that does not count as gone."""
        found = {thing.path: thing for thing in self._things(http, path, "0")}
        if path not in found:
            raise SystemRefused(
                f"The server does not show {unquote(path)} any more: it is gone, renamed or hidden from us.",
                "Look whether it is there. Nothing is taken for gone.",
            )
        if not found[path].is_shown:
            raise SystemRefused(
                f"The server does not show the list of {unquote(path)}.", "Give Open Latch's login DAV:read-acl there."
            )
        return found[path]

    def _things(self, http: httpx.Client, path: str, depth: str) -> list[Thing]:
        answered = self._propfind(http, path, depth, _PROPERTIES)
        return [self._made(path, told) for path, told in answered.items() if path.startswith(self._root)]

    def _made(self, path: str, told: Mapping[str, Element]) -> Thing:
        """A resource as reported. One without properties counts as a collection whose list is hidden."""
        acl = told.get(f"{DAV}acl")
        ourselves = _href(told.get(f"{DAV}current-user-principal"))
        owner = _href(told.get(f"{DAV}owner"))
        types = told.get(f"{DAV}resourcetype")
        unknown = [f"{DAV}collection"] if path.endswith("/") else []
        kinds = frozenset(unknown if types is None else [kind.tag for kind in types])
        name = _text(told.get(f"{DAV}displayname")) or unquote(path.rstrip("/").rpartition("/")[2])
        return Thing(
            path,
            name,
            kinds,
            owner,
            ourselves,
            () if acl is None else tuple(entries(acl, ourselves, owner)),
            Containment.of(told.get(f"{DAV}supported-privilege-set")),
            acl is not None,
        )

    def _propfind(
        self, http: httpx.Client, path: str, depth: str, names: tuple[str, ...]
    ) -> dict[str, dict[str, Element]]:
        """Properties by path, as far as the server has them. SystemRefused with its answer if it refuses."""
        wanted = "".join(f'<{name.rpartition("}")[2]} xmlns="{name[1:].partition("}")[0]}"/>' for name in names)
        body = f'<?xml version="1.0"?><propfind xmlns="DAV:"><prop>{wanted}</prop></propfind>'.encode()
        answer = asked(http, "PROPFIND", self._url(path), content=body, headers={**_XML, "Depth": depth})
        if answer.status_code != 207:
            raise _refusal(answer, f"PROPFIND {unquote(path)}")
        found: dict[str, dict[str, Element]] = {}
        for response in parsed(answer.content, f"PROPFIND {unquote(path)}").findall(f"{DAV}response"):
            given = {
                node.tag: node
                for propstat in response.findall(f"{DAV}propstat")
                if " 200 " in f"{_text(propstat.find(f'{DAV}status'))} "
                for node in propstat.findall(f"{DAV}prop/*")
            }
            # What is named without properties exists all the same.
            found[_path(_text(response.find(f"{DAV}href")))] = given
        return found

    @contextmanager
    def _signed_in(self) -> Iterator[httpx.Client]:
        try:
            with httpx.Client(auth=(self._user, self._secret), timeout=_timeout(), verify=trusted()) as http:
                yield http
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise SystemDown(
                f"The server did not answer: {error}", "It will be tried again; look whether it can be reached."
            ) from error


@contextmanager
def _nobody() -> Iterator[httpx.Client]:
    """An anonymous client without cookies."""
    with httpx.Client(timeout=_timeout(), verify=trusted()) as http:
        yield http


def _timeout() -> httpx.Timeout:
    return httpx.Timeout(CALL_SECONDS / 2, connect=CONNECT_SECONDS)


def _path(address: str) -> str:
    """The normalised path of an address or href."""
    return quote(unquote(urlsplit(address).path))


def _href(node: Element | None) -> str:
    return _text(node.find(f"{DAV}href")) if node is not None else ""


def _text(node: Element | None) -> str:
    return (node.text or "").strip() if node is not None else ""


def _why(error: SystemRefused) -> Why:
    return Why.NOT_UNDERSTOOD if "not understood" in error.detail else Why.NOT_PERMITTED


def _refusal(answer: httpx.Response, what: str) -> SystemRefused:
    if answer.status_code == 401:
        return SystemRefused("The server refused the sign-in.", "Look at the name and the password.")
    said = " ".join(node.tag.rpartition("}")[2] for node in (parsed(answer.content, what) if _is_xml(answer) else ()))
    return SystemRefused(
        f"The server refused {what}: {answer.status_code} {said or answer.reason_phrase}".rstrip(),
        "Give Open Latch's login DAV:read-acl and DAV:write-acl there.",
    )


def _is_xml(answer: httpx.Response) -> bool:
    return "xml" in answer.headers.get("Content-Type", "")


def _called(who: str) -> str:
    return who if who in OPEN else unquote(who.rstrip("/").rpartition("/")[2])


def _unclear(entry: Entry, thing: Thing) -> Iterator[Gap]:
    """The parts of an entry that are not understood."""
    if not entry.who:
        yield Gap(f"an entry about {entry.said}", Why.NOT_UNDERSTOOD, unquote(thing.path))
    for name in thing.containment.unknown(entry.privileges):
        yield Gap(f"the privilege {name}", Why.NOT_SUPPORTED, unquote(thing.path))


def _holding(account: str, who: str, rights: Mapping[str, str], parts: Mapping[str, str]) -> Holding:
    """What somebody holds in an account: on all of its parts, or on some."""
    handle = {"who": who, "paths": sorted(rights), "given": dict(sorted(rights.items()))}
    alike = set(rights.values())
    if len(alike) == 1 and rights.keys() >= parts.keys():
        return Holding(account, who, False, alike.pop(), None, handle)
    held = tuple(sorted((parts[path], right) for path, right in rights.items()))
    return Holding(account, who, False, "", None, handle, held)


def _tried(
    outside: httpx.Client, url: Callable[[str], str], thing: Thing, inside: Sequence[Thing], always: bool = False
) -> Tried:
    """What is accessible of a resource without a sign-in; with ``always`` also what no entry of its list grants."""
    claimed = thing.containment.known(
        name
        for entry in thing.entries
        if entry.grants and (entry.who in OPEN or entry.inverted)
        for name in entry.privileges
    )
    at = url(thing.path)
    gets = [_opens(outside, "GET", url(one.path)) for one in inside if not one.is_collection][:1]
    gets.append(_opens(outside, "PROPFIND", at, headers={"Depth": "0"}))
    # Most servers answer 404 to GET on a collection, so that means nothing.
    alone = _opens(outside, "GET", at, () if thing.is_collection else _REFUSED)
    reads = True if alone or True in gets else False if False in (alone, *gets) else None
    times = changes = None
    if "read-free-busy" in claimed or always:
        times = _opens(outside, "REPORT", at, content=_TAKEN_TIMES, headers={**_XML, "Depth": "1"})
    if always or claimed - {"read", "read-free-busy", "read-current-user-privilege-set"}:
        changes = _opens(outside, "PROPPATCH", at, content=_CHANGES_NOTHING, headers=_XML)
    return Tried(reads, times, changes)


def _opens(
    outside: httpx.Client, method: str, address: str, refused: Container[int] = _REFUSED, **given: Any
) -> bool | None:
    """Whether a request succeeds without a sign-in; None if the answer is inconclusive."""
    answer = asked(outside, method, address, **given)
    if answer.status_code == 207:
        states = [_text(node) for node in parsed(answer.content, f"{method} {address}").iter(f"{DAV}status")]
        return not states or any(" 401" not in state and " 403" not in state for state in states)
    if answer.is_success:
        return True
    return False if answer.status_code in (401, 403) or answer.status_code in refused else None


def _changed(kind: StepKind, thing: Thing, detail: JsonView) -> list[Entry]:
    """The entries of its own that a list should have after a step."""
    who = detail["who"]
    kept: list[Entry] = []
    for entry in thing.entries:
        if not entry.own:
            continue
        if not entry.who:
            raise SystemRefused(
                f"The list of {unquote(thing.path)} has an entry that is not understood: {entry.said}.",
                "Change it there; a list is written as a whole.",
            )
        is_meant = _is_about(entry, detail) and entry.grants
        if not is_meant or kind is StepKind.GIVE:
            kept.append(entry)
        elif kind is StepKind.REDUCE:
            left = thing.containment.known(entry.privileges) & set(detail["to"].split())
            kept += [Entry(who, frozenset(left))] if left else []
    if kind is StepKind.GIVE:
        kept.append(Entry(who, frozenset(detail["given"][thing.path].split())))
    return kept


def _is_about(entry: Entry, detail: JsonView) -> bool:
    """Whether an entry is the one meant by a step: about somebody, or about everyone but them."""
    return entry.who == detail["who"] and entry.inverted == bool(detail.get("inverted"))


def _wrong(kind: StepKind, thing: Thing, detail: JsonView) -> str | None:
    """What a list shows instead of what a step wants."""
    who, at = detail["who"], unquote(thing.path)
    held = frozenset[str]().union(*(e.privileges for e in thing.entries if _is_about(e, detail) and e.grants))
    if kind is StepKind.GIVE:
        lacking = set(detail["given"][thing.path].split()) - thing.containment.known(held) - held
        return f"{_called(who)} does not hold {' '.join(sorted(lacking))} on {at} yet" if lacking else None
    allowed = thing.containment.known(detail["to"].split()) if kind is StepKind.REDUCE else frozenset()
    left = (thing.containment.known(held) | held) - allowed
    if not left:
        return None
    is_own = any(e.own for e in thing.entries if _is_about(e, detail) and e.grants)
    return f"{_called(who)} still holds {key(left)} on {at}{'' if is_own else ', by what it inherits'}"
