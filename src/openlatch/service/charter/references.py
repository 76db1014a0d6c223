"""Whom and what a charter names, and the one way in which a charter of the register names them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from uuid import UUID

from sqlalchemy import Text, func, or_, select

from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.unit import Unit
from openlatch.store.lists.columns import among
from openlatch.store.tables import Account, Person, PersonAddress, System, Team


def person_names(unit: Unit, idents: Iterable[UUID]) -> dict[UUID, str]:
    """How a charter names people: by their address, or by their name where they have none."""
    rows = unit.db.execute(select(Person.id, Person.address, Person.name).where(among(Person.id, set(idents))))
    return {ident: address or name for ident, address, name in rows}


def people(unit: Unit, names: Iterable[str]) -> dict[str, list[UUID]]:
    """Everybody who is meant by an address (any of theirs) or a name, by that in small letters.

    Somebody who has left is meant by their address only.
    """
    wanted = {name.casefold() for name in names}
    found: dict[str, list[UUID]] = {}
    if not wanted:
        return found
    lowered = tuple(func.lower(column, type_=Text) for column in (Person.address, Person.name, PersonAddress.address))
    rows = unit.db.execute(
        select(Person.id)
        .add_columns(Person.standing, *lowered)
        .outerjoin(PersonAddress, PersonAddress.person_id == Person.id)
        .where(or_(*(among(one, wanted) for one in lowered)), Person.merged_into_id.is_(None))
        .where(Person.erased_at.is_(None))
    )
    by_address: set[str] = set()
    for ident, standing, address, name, other in rows:
        for said in {address, other} & wanted:
            by_address.add(said)
            found[said] = [ident]
        if name in wanted - by_address and standing != Standing.LEFT and ident not in found.get(name, ()):
            found.setdefault(name, []).append(ident)
    return found


@dataclass
class References:
    """What a charter's names mean in the register.

    ``teams``, ``systems`` and ``accounts`` are by name in small letters; accounts with the name of their system, too.
    ``ids`` are those of the people whom ``person`` has named.
    """

    people: Mapping[str, list[UUID]]
    names: Mapping[UUID, str]
    teams: Mapping[str, tuple[UUID | None, str]]
    systems: Mapping[str, tuple[UUID, str]]
    accounts: Mapping[tuple[str, str], list[tuple[UUID, str]]]
    ids: dict[str, UUID] = field(default_factory=dict)
    faults: dict[str, str] = field(default_factory=dict)

    def person(self, said: str, where: str) -> str:
        """The name that the register's charter has for somebody; what nobody is called is noted as a fault."""
        ids = self.people.get(said.casefold(), [])
        if len(ids) != 1:
            self.faults[where] = f"{said!r} is {'nobody here' if not ids else 'more than one person'}"
            return said
        self.ids[self.names[ids[0]]] = ids[0]
        return self.names[ids[0]]

    def team(self, said: str, where: str) -> str:
        """A team's name as it is spelled."""
        return self._spelled(self.teams, said, where, "team")

    def system(self, said: str, where: str) -> str:
        """A system's name as it is spelled."""
        return self._spelled(self.systems, said, where, "system")

    def _spelled(self, known: Mapping[str, tuple[UUID | None, str]], said: str, where: str, noun: str) -> str:
        if said.casefold() not in known:
            self.faults[where] = f"there is no {noun} {said!r}"
            return said
        return known[said.casefold()][1]

    def account(self, said: str, system: str | None, where: str) -> tuple[UUID, str] | None:
        """The account of a name, with its name as it is spelled; without one, or with two, it is noted as a fault."""
        found = self.accounts.get((said.casefold(), (system or "").casefold()), [])
        if len(found) != 1:
            self.faults[where] = f"there is no account {said!r}" if not found else f"{said!r} is two: name the system"
            return None
        return found[0]

    def refuse(self) -> None:
        """BadInput that names every fault."""
        if self.faults:
            told = "; ".join(f"{where}: {what}" for where, what in list(self.faults.items())[:10])
            raise BadInput(f"The charter names what is not there: {told}.", "Correct the names.", self.faults)


def each_person(charter: JsonObject, name: Callable[[str, str], str]) -> None:
    """Replace everybody whom a charter names, by what ``name`` returns for them and where they stand."""
    for team in charter.get("teams") or ():
        if team["speaker"]:
            team["speaker"] = name(team["speaker"], f"teams, {team['name']}, speaker")
        for member in team["members"] or ():
            if member["person"]:
                member["person"] = name(member["person"], f"teams, {team['name']}, members")
    for schedule in charter.get("schedules") or ():
        for reviewer in schedule["reviewers"]:
            if reviewer["person"]:
                reviewer["person"] = name(reviewer["person"], f"schedules, {schedule['name']}, reviewers")


def people_of(charter: JsonObject) -> set[str]:
    """Everybody whom a charter names."""
    found: set[str] = set()

    def note(said: str, _where: str) -> str:
        found.add(said)
        return said

    each_person(charter, note)
    return found


def of(unit: Unit, charter: JsonObject) -> References:
    """What the names of a charter mean."""
    named = people(unit, people_of(charter))
    systems = {s.name.casefold(): (s.id, s.name) for s in unit.db.scalars(select(System))}
    in_system = dict(systems.values())
    accounts: dict[tuple[str, str], list[tuple[UUID, str]]] = {}
    said = {latch["account"].casefold() for latch in charter.get("latches") or () if latch["account"]}
    for row in unit.db.scalars(
        select(Account).where(among(func.lower(Account.name, type_=Text), said), Account.archived_at.is_(None))
    ):
        for system in ("", in_system[row.system_id].casefold()):
            accounts.setdefault((row.name.casefold(), system), []).append((row.id, row.name))
    rows = unit.db.execute(select(Team.id, Team.name).where(Team.archived_at.is_(None)))
    teams: dict[str, tuple[UUID | None, str]] = {name.casefold(): (ident, name) for ident, name in rows}
    for team in charter.get("teams") or ():
        old = next((o for o in (team["name"], *team["formerly"]) if o.casefold() in teams), "")
        teams[team["name"].casefold()] = (teams[old.casefold()][0] if old else None, team["name"])
    return References(named, person_names(unit, [i for ids in named.values() for i in ids]), teams, systems, accounts)
