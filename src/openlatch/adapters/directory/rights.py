"""Which changes a directory would refuse to our login, determined without changing anything.

LDAP has no operation for that. So we ask to delete a value that does not exist: whoever may change the attribute is
told that there is no such value, everybody else that access is denied (RFC 4511, appendix A.2).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import ldap3
from ldap3.core.results import (
    RESULT_INSUFFICIENT_ACCESS_RIGHTS,
    RESULT_NO_SUCH_ATTRIBUTE,
    RESULT_REFERRAL,
    RESULT_UNDEFINED_ATTRIBUTE_TYPE,
    RESULT_UNWILLING_TO_PERFORM,
)

from openlatch.json_values import JsonObject

# Groups tried in one read: access rules of directories apply to whole subtrees.
MOST = 100
_NOBODY = {"memberUid": "nobody-asks", "pwdAccountLockedTime": "19700101000000Z"}
_LOCK = "pwdAccountLockedTime"


def unable(
    directory: ldap3.Connection,
    groups: Iterable[tuple[str, Mapping[str, Sequence[str]]]],
    people: Sequence[str],
    attributes: Sequence[str],
) -> Iterator[str]:
    """What our login could not change, in groups or to lock people, and what it would need, as sentences."""
    refused: dict[tuple[str, str], list[str]] = {}
    for group, held in list(groups)[:MOST]:
        for attribute in attributes:
            if held.get(attribute) and (why := _refusal(directory, group, attribute)):
                refused.setdefault((attribute, why), []).append(group)
    for (attribute, why), names in refused.items():
        more = f" and {len(names) - 1} more" if len(names) > 1 else ""
        yield f"{attribute} of {names[0]}{more}: {why}"
    if people and (why := _refusal(directory, people[0], _LOCK)):
        yield f"locking people ({_LOCK}): {why}"


def _refusal(directory: ldap3.Connection, name: str, attribute: str) -> str:
    """Why an attribute can't be changed; empty if it can, or if that is unknown."""
    nobody = _NOBODY.get(attribute, "cn=nobody asks")
    directory.modify(name, {attribute: [(ldap3.MODIFY_DELETE, [nobody])]})
    result: JsonObject = directory.result
    return {
        RESULT_NO_SUCH_ATTRIBUTE: "",
        RESULT_INSUFFICIENT_ACCESS_RIGHTS: "give Open Latch's login the right to write it",
        RESULT_UNDEFINED_ATTRIBUTE_TYPE: "the directory has no password policy; switch it on",
        RESULT_UNWILLING_TO_PERFORM: "the directory takes no changes here; connect the one that does",
        RESULT_REFERRAL: "the directory takes no changes here; connect the one that does",
    }.get(result["result"], "")
