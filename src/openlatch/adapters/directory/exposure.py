"""What a directory shows, or lets be changed, without signing in: found out by trying it.

Access rules of directories are server settings outside of any standard, so they can't be removed from here. What
every login may read is not tried.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import ldap3
from ldap3.core.results import RESULT_NO_SUCH_ATTRIBUTE, RESULT_SUCCESS

from openlatch.adapters.contract import FoundRule, RuleManner
from openlatch.adapters.directory.names import dn
from openlatch.core.exposure.rules import Combining, Right
from openlatch.errors import SystemRefused

MANNER = RuleManner(Combining.REFUSE_WINS, {"read": Right.SEE, "write": Right.CHANGE}, logins_known=False)
PAGE = 500
# The attributes that show a group's members, and change them.
_WHO = ("member", "uniqueMember", "roleOccupant", "memberUid", "owner")
_NOBODY = {"memberUid": "nobody-asks"}


def tried(nobody: ldap3.Connection, base: str, what: str, known: Collection[str]) -> dict[str, frozenset[str]]:
    """By the name of a group, the permissions that anonymous clients have on it.

    All groups below the base are requested together; if the directory does not answer that in full, each ``known`` one
    is requested by its name.
    """
    seen = dict(_shown(nobody, base, what, ldap3.SUBTREE))
    if nobody.result["result"] != RESULT_SUCCESS:
        for name in known:
            if name not in seen:
                seen.update(_shown(nobody, name, what, ldap3.BASE))
    found: dict[str, frozenset[str]] = {}
    for name, (written, attributes) in seen.items():
        changes = any(_takes(nobody, written, attribute) for attribute in _WHO if attribute in attributes)
        found[name] = frozenset({"read", "write"} if changes else {"read"})
    return found


def _shown(
    nobody: ldap3.Connection, base: str, what: str, scope: str
) -> Iterator[tuple[str, tuple[str, Mapping[str, Sequence[bytes]]]]]:
    """Entries that are shown, by their names in one form, with the name as it is written and their attributes."""
    pages = nobody.extend.standard.paged_search(
        base, what, scope, attributes=list(_WHO), paged_size=PAGE, generator=True
    )
    for entry in pages:
        if entry.get("type") != "searchResEntry":
            continue
        try:
            yield dn(entry["dn"]), (entry["dn"], entry["raw_attributes"])
        except SystemRefused:
            # An entry with an invalid name is none of the groups that were read.
            continue


def _takes(nobody: ldap3.Connection, name: str, attribute: str) -> bool:
    """Whether an attribute could be changed, by asking to delete a value that does not exist."""
    nobody.modify(name, {attribute: [(ldap3.MODIFY_DELETE, [_NOBODY.get(attribute, "cn=nobody asks")])]})
    return bool(nobody.result["result"] == RESULT_NO_SUCH_ATTRIBUTE)


def rules(group: str, permissions: Collection[str]) -> Iterator[FoundRule]:
    """The rule of a group that is visible without a sign-in."""
    if permissions:
        told = {"rule": "without-sign-in", "because": "It was so when it was tried.", "admit": ["anyone"]}
        yield FoundRule(group, {**told, "to": sorted(permissions), "on": ["/"]})
