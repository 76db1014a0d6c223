"""The trust boundary: what counts as inside, as set by the organisation, and as used in answers."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from sqlalchemy import func, select

from openlatch.adapters import RuleManner
from openlatch.core.exposure.conditions import network
from openlatch.core.exposure.rules import Boundary, Holder
from openlatch.json_values import JsonObject
from openlatch.service.unit import Unit
from openlatch.store.tables import Handle, Organisation, Person


@dataclass(frozen=True, slots=True)
class Setting:
    """What the organisation counts as inside: domains, other organisations, networks, and systems in which only people
    inside can sign in.
    """

    domains: tuple[str, ...] = ()
    organisations: tuple[str, ...] = ()
    networks: tuple[str, ...] = ()
    systems: tuple[UUID, ...] = ()


def setting(unit: Unit) -> Setting:
    """The present setting."""
    held: JsonObject = unit.db.get_one(Organisation, unit.viewer.organisation).settings
    told = held.get("boundary", {})
    return Setting(
        tuple(held.get("inside_domains", ())),
        tuple(told.get("organisations", ())),
        tuple(told.get("networks", ())),
        tuple(UUID(ident) for ident in told.get("systems", ())),
    )


def of_system(unit: Unit, told: Setting, system: UUID | None, manner: RuleManner) -> Boundary:
    """The boundary within one system."""
    members_only = system is not None and (manner.logins_known or system in told.systems)
    return Boundary(
        frozenset((*told.domains, *told.organisations)),
        frozenset(map(network, told.networks)),
        members_only,
        members_only and system is not None and system not in told.systems and _has_outsiders(unit, system),
    )


def _has_outsiders(unit: Unit, system: UUID) -> bool:
    """Whether an outsider, or somebody not identified, has a login in a system."""
    logins = (
        select(func.count(Handle.id))
        .join(Person, Person.id == Handle.person_id)
        .where(Handle.system_id == system, ~Handle.locked, ~Person.inside)
    )
    return bool(unit.db.scalar(logins))


def known_holders(unit: Unit, system: UUID | None, names: frozenset[str]) -> dict[str, Holder]:
    """Those whom the rules of a system name, as known to the register."""
    if system is None or not names:
        return {}
    rows = unit.db.execute(
        select(Handle.name, Person.inside, Person.address)
        .join(Person, Person.id == Handle.person_id)
        .where(Handle.system_id == system, Handle.name.in_(names))
    ).all()
    return {name: Holder(name, inside, (address or "").rpartition("@")[2].lower()) for name, inside, address in rows}
