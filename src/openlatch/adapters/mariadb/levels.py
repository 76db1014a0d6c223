"""Names and meaning of what somebody can have in a MariaDB server.

See https://mariadb.com/kb/en/grant/ (privileges) and https://mariadb.com/kb/en/roles_overview/.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from openlatch.adapters.contract import FoundLevel
from openlatch.adapters.mariadb.grants import ALL
from openlatch.core.vocabulary import Reach

# Those that change nothing. What is in none of the lists changes data or objects.
_SEES = {"select", "show view", "show databases", "process", "binlog monitor", "slave monitor", "show create routine"}
# Those by which somebody can become, or let in, others.
_LEADS_ON = {
    *("create user", "super", "set user", "connection admin", "read_only admin", "federated admin", "file", ALL),
    *("binlog admin", "binlog replay", "replication master admin", "replication slave admin", "grant option"),
}
_SAID = {
    "select": "Read what is in it",
    "insert": "Add rows",
    "update": "Change rows",
    "delete": "Delete rows",
    "delete history": "Delete the history of rows",
    "create": "Create databases and tables",
    "drop": "Drop databases and tables",
    "references": "Refer to it from other tables",
    "index": "Make and drop indexes",
    "alter": "Change how tables are built",
    "create view": "Make views",
    "show view": "See how views are built",
    "trigger": "Make triggers",
    "create temporary tables": "Create temporary tables",
    "lock tables": "Lock tables",
    "create routine": "Make routines",
    "alter routine": "Change and drop routines",
    "execute": "Call routines",
    "event": "Make events that run by themselves",
    "create user": "Make logins, and change those of others",
    "super": "Change settings, and end what others run",
    "set user": "Make objects that run as somebody else",
    "file": "Read and write files of the server",
    "process": "See what others run",
    "reload": "Flush tables, logs and privileges",
    "shutdown": "Shut the server down",
    "replication slave": "Copy all that is written",
    "connection admin": "End the connections of others",
    ALL: "Do everything there",
}
MEMBER = FoundLevel("member", "Member", "Has what the role has.", (("be", "Have what the role has", Reach.OPERATE),))
ADMIN = FoundLevel(
    "admin",
    "Member with admin option",
    "Has what the role has, and lets others in.",
    (("be", "Have what the role has", Reach.OPERATE), ("admit", "Let others in and put them out", Reach.STEWARD)),
)
EVERYBODY = FoundLevel(
    "everybody", "Everybody", "Has what everybody has.", (("be", "Have what everybody has", Reach.OPERATE),)
)
PROXY = FoundLevel("proxy", "Proxy", "Signs in as this login.", (("act", "Sign in as this login", Reach.STEWARD),))
PROXY_ADMIN = FoundLevel(
    "proxy*",
    "Proxy with grant option",
    "Signs in as this login, and lets others do so.",
    (*PROXY.permissions, ("admit", "Let others sign in as it", Reach.STEWARD)),
)
FIXED = (MEMBER, ADMIN, EVERYBODY, PROXY, PROXY_ADMIN)


def key_of(rights: Iterable[str], gives_on: bool) -> str:
    """A set of rights as a key: sorted, with an asterisk where they can be given on."""
    return "+".join(sorted(rights)) + ("*" if gives_on else "")


def rights_of(key: str) -> tuple[frozenset[str], bool]:
    """The inverse of ``key_of``."""
    return frozenset(one for one in key.rstrip("*").split("+") if one), key.endswith("*")


def level(key: str) -> FoundLevel:
    """The level of a set of rights."""
    rights, gives_on = rights_of(key)
    permissions = [
        (f"may {right}", _SAID.get(right, f"Have the right {right}"), _reach(right)) for right in sorted(rights)
    ]
    said = ", ".join(sentence[0].lower() + sentence[1:] for _, sentence, _ in permissions)
    name = "Has " + ", ".join(sorted(rights)) if rights else "Gives rights on"
    if gives_on:
        permissions.append(("may give on", "Give these rights on to others", Reach.STEWARD))
        said = f"{said}, and give that on to others" if said else "give rights on to others"
        name = f"{name}, and gives them on" if rights else name
    return FoundLevel(key, name, f"Can {said}.", tuple(permissions))


def _reach(right: str) -> Reach:
    return Reach.OBSERVE if right in _SEES else Reach.STEWARD if right in _LEADS_ON else Reach.OPERATE


def all_rights(given: Mapping[str, tuple[str, ...]]) -> tuple[frozenset[str], dict[str, set[str]]]:
    """Those for the whole place, and by column those that are only for it."""
    columns: dict[str, set[str]] = {}
    for right, names in given.items():
        for name in names:
            columns.setdefault(name, set()).add(right)
    return frozenset(right for right, names in given.items() if not names), columns
