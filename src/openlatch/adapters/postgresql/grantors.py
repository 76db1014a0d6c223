"""Dependent privileges: who else loses a right when it is revoked from its grantor.

What REVOKE … CASCADE also revokes, computed from access lists beforehand.
See https://www.postgresql.org/docs/15/sql-revoke.html, "dependent privileges".
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple


class Item(NamedTuple):
    """One entry of an access list. A grantee without a name is PUBLIC."""

    privilege: str
    grantee: str
    grantor: str
    admits: bool


def lost(items: Iterable[Item], owner: str, holder: str, taken: Iterable[str]) -> dict[str, list[str]]:
    """The privileges that each of the others loses when ``taken`` are taken from ``holder``, by their names.

    Whoever has the same privilege from another grantor keeps it, and what they granted with it.
    """
    found: dict[str, list[str]] = {}
    wanted = set(taken)
    listed = list(items)
    for privilege in sorted(wanted):
        before = [item for item in listed if item.privilege == privilege]
        left = [item for item in before if item.grantee != holder]
        while True:
            may_give = {item.grantee for item in left if item.admits} | {owner}
            kept = [item for item in left if item.grantor in may_give]
            if len(kept) == len(left):
                break
            left = kept
        for name in sorted({item.grantee for item in before} - {item.grantee for item in left} - {holder}):
            found.setdefault(name, []).append(privilege)
    return found


def sentences(given_on: Mapping[str, Mapping[str, list[str]]], holder: str) -> list[str]:
    """The sentences for the preview."""
    return [
        f"{name or 'every login'} loses {', '.join(privileges)} on {place.partition(':')[2]}, which {holder} gave on"
        for place, others in given_on.items()
        for name, privileges in others.items()
    ]


def is_known(now: Mapping[str, list[str]], known: Mapping[str, list[str]]) -> bool:
    """Whether nobody loses more than the preview said."""
    return all(set(privileges) <= set(known.get(name, ())) for name, privileges in now.items())
