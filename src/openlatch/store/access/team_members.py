"""Team members, cached between questions.

Most paths into an account end with the members of a team. There are many of them, the same in every question, and they
seldom change; reading them takes longer than everything else together. A trigger gives a team a new version whenever
its members change (migration 0011), in the same transaction, so whatever a transaction may see, committed or its own,
has its own version.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple
from uuid import UUID

from openlatch.core import register as core
from openlatch.store.access.cache import Kept
from openlatch.store.access.mapping import MEMBERSHIP, PERSON, membership_value, person_value
from openlatch.store.sql_types import AnyRow

# Some six hundred bytes each.
MOST_MEMBERS = 50_000
READ = f"""
    select {MEMBERSHIP}, {PERSON}
    from memberships m left join people p on p.id = m.person_id where m.team_id = any(%(teams)s)
"""  # noqa: S608  constants

Versions = Mapping[UUID, UUID | None]


class Roster(NamedTuple):
    """The members of one team, with the people among them."""

    members: tuple[core.Membership, ...]
    people: dict[UUID, core.Person]


_kept: Kept[tuple[UUID, UUID], Roster] = Kept(MOST_MEMBERS, lambda roster: 1 + len(roster.members))


def known(versions: Versions) -> dict[UUID, Roster]:
    """The cached members of teams in these versions."""
    found = _kept.some((team, version) for team, version in versions.items() if version is not None)
    return {team: roster for (team, _), roster in found.items()}


def _by_name(people: Mapping[UUID, core.Person]) -> Callable[[core.Membership], str]:
    def name(membership: core.Membership) -> str:
        person = people.get(membership.member.id)
        return "" if person is None else person.name

    return name


def made(rows: Iterable[AnyRow], teams: Iterable[UUID], versions: Versions) -> dict[UUID, Roster]:
    """The members of these teams from the rows of ``READ``, queried after the versions; cached."""
    members: dict[UUID, list[core.Membership]] = defaultdict(list)
    people: dict[UUID, dict[UUID, core.Person]] = defaultdict(dict)
    known: dict[UUID, core.Person] = {}
    for row in rows:
        membership, person = membership_value(row[:6]), row[6:]
        members[membership.team].append(membership)
        ident = person[0]
        if ident is not None:
            if ident not in known:
                known[ident] = person_value(person)
            people[membership.team][ident] = known[ident]
    # By name, which is how paths are sorted in the end: what is in order already is sorted sooner.
    found = {team: Roster(tuple(sorted(members[team], key=_by_name(known))), people[team]) for team in teams}
    _kept.put({(team, version): found[team] for team in found if (version := versions[team]) is not None})
    return found
