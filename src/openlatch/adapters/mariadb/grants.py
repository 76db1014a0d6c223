"""What SHOW GRANTS says, read: the server's own word of what somebody has, on every level, as statements.

See https://mariadb.com/kb/en/grant/ and https://mariadb.com/kb/en/show-grants/.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from openlatch.errors import SystemRefused

PUBLIC = "PUBLIC"
EVERYTHING = "*.*"
ALL = "all privileges"
_NAME = r"`(?:[^`]|``)*`"
_WHOM = rf"{_NAME}@{_NAME}|{_NAME}|{PUBLIC}"
# A place: everything, a database or databases by a pattern, a table, a routine.
_PLACE = re.compile(rf"(?:(PROCEDURE|FUNCTION|PACKAGE BODY|PACKAGE) )?({_NAME}|\*)\.({_NAME}|\*)")
_ON = re.compile(
    rf"GRANT (?P<rights>.+?) ON (?P<place>{_PLACE.pattern}) TO (?P<whom>{_WHOM})(?P<rest>.*)",
    re.DOTALL,
)
_PROXY = re.compile(rf"GRANT PROXY ON (?P<as>{_NAME}@{_NAME}) TO (?P<whom>{_WHOM})(?P<rest>.*)", re.DOTALL)
_ROLE = re.compile(rf"GRANT (?P<role>{_NAME}) TO (?P<whom>{_WHOM})(?P<rest>.*)", re.DOTALL)
_DEFAULT = re.compile(r"SET DEFAULT ROLE .*", re.DOTALL)
_RIGHT = re.compile(rf"([A-Z][A-Z ]*[A-Z])(?: \(({_NAME}(?:, {_NAME})*)\))?(?:, |$)")


@dataclass(frozen=True, slots=True)
class Rights:
    """What somebody has on a place: each right with the columns that it is for, none for the whole place."""

    place: str
    rights: Mapping[str, tuple[str, ...]]
    gives_on: bool


@dataclass(frozen=True, slots=True)
class Held:
    """All that somebody has: rights by place, roles, and whom they may act as; each with whether they give it on.

    What is ``unknown`` may give anything.
    """

    places: Mapping[str, Rights] = field(default_factory=dict)
    roles: Mapping[str, bool] = field(default_factory=dict)
    proxied: Mapping[str, bool] = field(default_factory=dict)
    unknown: tuple[str, ...] = ()


def quoted(name: str) -> str:
    """A name as statements have it."""
    return "`" + name.replace("`", "``") + "`"


def account(handle: str) -> str:
    """A login (name@host), or a role (role:name), as statements have it."""
    if handle.startswith("role:"):
        name = handle.removeprefix("role:")
        return PUBLIC if name == PUBLIC else quoted(name)
    name, _, host = handle.rpartition("@")
    return f"{quoted(name)}@{quoted(host)}"


def _plain(written: str) -> str:
    return written[1:-1].replace("``", "`")


def handle_of(written: str) -> str:
    """The handle of whom a statement names."""
    if written == PUBLIC:
        return f"role:{PUBLIC}"
    parts = re.fullmatch(rf"({_NAME})(?:@({_NAME}))?", written)
    assert parts is not None
    name, host = parts.groups()
    return f"role:{_plain(name)}" if host is None else f"{_plain(name)}@{_plain(host)}"


def place_of(written: str) -> tuple[str, str, str]:
    """The kind, the database and the object of a place; an asterisk for all. SystemRefused for what is none."""
    parts = _PLACE.fullmatch(written)
    if parts is None:
        raise SystemRefused(f"{written!r} is no place in a MariaDB server.", "Have the server read again.")
    kind, database, what = parts.groups()
    names = [one if one == "*" else _plain(one) for one in (database, what)]
    if kind:
        return kind.lower(), names[0], names[1]
    return ("server" if names[0] == "*" else "database" if what == "*" else "table"), names[0], names[1]


def read(lines: Iterable[str], whom: str) -> Held:
    """What the statements give to somebody."""
    places: dict[str, Rights] = {}
    roles: dict[str, bool] = {}
    proxied: dict[str, bool] = {}
    unknown: list[str] = []
    for line in lines:
        proxy, on, role = _PROXY.fullmatch(line), _ON.fullmatch(line), _ROLE.fullmatch(line)
        found = proxy or on or role
        given = _rights(on["rights"]) if on and not proxy else {}
        if found is None or given is None:
            if not _DEFAULT.fullmatch(line):
                # Without the digest of a password.
                unknown.append(line.partition(" IDENTIFIED")[0][:200])
            continue
        if handle_of(found["whom"]) != whom:
            # What a role has that they have: it is read with the role.
            continue
        gives_on = "WITH GRANT OPTION" in found["rest"] or "WITH ADMIN OPTION" in found["rest"]
        if proxy:
            proxied[handle_of(proxy["as"])] = gives_on
        elif role:
            roles[_plain(role["role"])] = gives_on
        elif on and (given or gives_on):
            places[on["place"]] = Rights(on["place"], given, gives_on)
    return Held(places, roles, proxied, tuple(unknown))


def _rights(written: str) -> dict[str, tuple[str, ...]] | None:
    """Each right with its columns, but for USAGE, which is none; None when one of them is not understood."""
    found: dict[str, tuple[str, ...]] = {}
    at = 0
    while at < len(written):
        part = _RIGHT.match(written, at)
        if part is None:
            return None
        columns = tuple(sorted(_plain(one) for one in re.findall(_NAME, part[2]))) if part[2] else ()
        name = part[1].lower()
        # For the whole place, and besides for some columns.
        found[name] = columns if columns and found.get(name, columns) else ()
        at = part.end()
    found.pop("usage", None)
    return found


def written(rights: Mapping[str, Iterable[str]]) -> str:
    """Rights as a statement has them. SystemRefused for what is none."""
    return ", ".join(_each(rights))


def _each(rights: Mapping[str, Iterable[str]]) -> Iterator[str]:
    for name, of in sorted(rights.items()):
        if not re.fullmatch(r"[a-z][a-z ]*[a-z]", name):
            raise SystemRefused(f"{name!r} is no right in a MariaDB server.", "Have the server read again.")
        columns = ", ".join(map(quoted, of))
        yield f"{name} ({columns})" if columns else name
