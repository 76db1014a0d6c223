"""Names and meaning of rights in a PostgreSQL server: privileges, role attributes, predefined roles.

See https://www.postgresql.org/docs/15/ chapters 5.7 (privileges), 5.8 (row security), 22.2 (attributes) and
22.5 (predefined roles).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import LiteralString

from openlatch.adapters.contract import FoundLevel
from openlatch.core.vocabulary import Reach

# By the attribute's column in pg_roles: the keyword that sets it, the permission, its reach.
ATTRIBUTES: dict[str, tuple[LiteralString, str, Reach]] = {
    "rolsuper": ("superuser", "Do everything on the server, whatever else is set", Reach.STEWARD),
    "rolcreaterole": ("createrole", "Create roles, and grant membership in them", Reach.STEWARD),
    "rolcreatedb": ("createdb", "Create databases", Reach.OPERATE),
    "rolreplication": ("replication", "Replicate the whole server", Reach.OBSERVE),
    "rolbypassrls": ("bypassrls", "Bypass row security: see and change all rows", Reach.OPERATE),
}
_NAMES = {
    "superuser": "Superuser",
    "createrole": "Can create roles",
    "createdb": "Can create databases",
    "replication": "Replication",
    "bypassrls": "Bypasses row security",
}
# By privilege: what it allows, and its reach.
PRIVILEGES: dict[str, tuple[str, Reach]] = {
    "select": ("Read what is in it", Reach.OBSERVE),
    "insert": ("Add rows", Reach.OPERATE),
    "update": ("Change what is in it", Reach.OPERATE),
    "delete": ("Delete rows", Reach.OPERATE),
    "truncate": ("Empty it in one go", Reach.OPERATE),
    "references": ("Refer to it from other tables", Reach.OPERATE),
    "trigger": ("Create triggers on it", Reach.OPERATE),
    "maintain": ("Vacuum, analyse and lock it", Reach.OPERATE),
    "usage": ("Use it", Reach.OBSERVE),
    "create": ("Create objects in it", Reach.OPERATE),
    "connect": ("Connect to the database", Reach.OBSERVE),
    "temporary": ("Create temporary tables", Reach.OBSERVE),
    "execute": ("Execute it", Reach.OPERATE),
    "set": ("Set it for a session", Reach.OPERATE),
    "alter system": ("Set it for the whole server", Reach.STEWARD),
}
OWNER = FoundLevel(
    "owner",
    "Owner",
    "Can do everything with it, and gives rights on it to others.",
    (("owner", "Do everything with it, and give rights on it", Reach.STEWARD),),
)
EVERYONE = FoundLevel(
    "everyone", "Everyone", "Has what every login has.", (("everyone", "Have what every login has", Reach.OBSERVE),)
)
_SEE = ("see", "See the data in its tables", Reach.OBSERVE)
_CHANGE = ("change", "Add, change and delete data in its tables", Reach.OPERATE)
_ADMIT = ("admit", "Let others in and put them out", Reach.STEWARD)
MEMBERSHIPS = (
    FoundLevel("reader", "Reader", "Can see the data, and change nothing.", (_SEE,)),
    FoundLevel("operator", "Operator", "Can see and change the data.", (_SEE, _CHANGE)),
    FoundLevel("keeper", "Keeper", "Can see and change the data, and let others in.", (_SEE, _CHANGE, _ADMIT)),
)
_CHANGES = ("delete", "insert", "select", "update")
# Sets with a name; every other set is named by its privileges.
_KNOWN = {
    ("select",): "Can read",
    _CHANGES: "Can read and change",
    ("connect",): "Can connect",
    ("connect", "temporary"): "Can connect",
    ("create", "usage"): "Can use it and create objects",
    ("create",): "Can create objects",
    ("usage",): "Can use it",
    ("execute",): "Can execute it",
}
# What membership in each predefined role allows, and its reach. Others are shown by their name.
PREDEFINED: dict[str, tuple[str, Reach]] = {
    "pg_read_all_data": ("Read all tables, views and sequences of every database", Reach.OBSERVE),
    "pg_write_all_data": ("Add, change and delete rows in every table of every database", Reach.OPERATE),
    "pg_database_owner": ("Own the database that one is connected to", Reach.STEWARD),
    "pg_read_all_settings": ("Read all settings, with those that only superusers see", Reach.OBSERVE),
    "pg_read_all_stats": ("Read what others run", Reach.OBSERVE),
    "pg_stat_scan_tables": ("Run monitoring that locks tables", Reach.OPERATE),
    "pg_monitor": ("Read settings, statistics and what others run", Reach.OBSERVE),
    "pg_signal_backend": ("Cancel statements and end sessions of others", Reach.OPERATE),
    "pg_read_server_files": ("Read any file that the server can read: amounts to superuser", Reach.STEWARD),
    "pg_write_server_files": ("Write any file that the server can write: amounts to superuser", Reach.STEWARD),
    "pg_execute_server_program": ("Run programs as the server does: amounts to superuser", Reach.STEWARD),
    "pg_checkpoint": ("Have the server write a checkpoint", Reach.OPERATE),
    "pg_use_reserved_connections": ("Connect where ordinary logins find no room", Reach.OBSERVE),
    "pg_create_subscription": ("Create subscriptions to other servers", Reach.OPERATE),
    "pg_maintain": ("Vacuum, analyse and lock every table", Reach.OPERATE),
}


def attribute_level(names: list[str]) -> FoundLevel:
    """The level of a role with these attributes."""
    of = {word: (word, sentence, reach) for word, sentence, reach in ATTRIBUTES.values()}
    said = ", ".join(_small(of[name][1]) for name in names)
    return FoundLevel(
        f"is {'+'.join(names)}", ", ".join(_NAMES[n] for n in names), f"Can {said}.", tuple(of[name] for name in names)
    )


def predefined_level(role: str, admits: bool) -> FoundLevel:
    """What a member of a predefined role may do; one who admits may make others members of it, too."""
    sentence, reach = PREDEFINED.get(role, (f"Do what the predefined role {role} may", Reach.STEWARD))
    permissions = ((role, sentence, reach), *((_ADMIT,) if admits else ()))
    more = ", and let others in" if admits else ""
    return FoundLevel(
        f"{role}{'*' if admits else ''}", f"Member of {role}{more}", f"Can {_small(sentence)}{more}.", permissions
    )


def rights_level(key: str) -> FoundLevel:
    """The level of a set of privileges, by ``key_of``."""
    if key == OWNER.key:
        return OWNER
    rights = key.split("+")
    plain = tuple(sorted(right.rstrip("*") for right in rights))
    permissions = [
        (f"may {right}", *PRIVILEGES.get(right, (f"Have the right {right}", Reach.OPERATE))) for right in plain
    ]
    starred = [right.rstrip("*") for right in rights if right.endswith("*")]
    name = _KNOWN.get(plain, "Has " + ", ".join(plain))
    said = ", ".join(_small(sentence) for _, sentence, _ in permissions)
    if starred:
        on = "them" if len(starred) == len(plain) else ", ".join(starred)
        name, said = f"{name}, and can give {on} on", f"{said}, and give {on} on to others"
        permissions.append(("may give on", f"Give {on} on to others", Reach.STEWARD))
    return FoundLevel(key, name, f"Can {said}.", tuple(permissions))


def key_of(rights: Iterable[tuple[str, bool]]) -> str:
    """A set of privileges as a key: sorted, with an asterisk where they can be given on (the grant option)."""
    return "+".join(sorted({f"{right.lower()}{'*' if admits else ''}" for right, admits in rights}))


def rights_of(key: str) -> dict[str, bool]:
    """By privilege, in capitals, whether it can be given on; the inverse of ``key_of``."""
    return {right.rstrip("*").upper(): right.endswith("*") for right in key.split("+")}


def _small(sentence: str) -> str:
    return sentence[0].lower() + sentence[1:]
