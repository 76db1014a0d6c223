"""One human at several organisations: linked sign-ins, and switching between them.

Two sign-ins are linked when somebody proved both to be theirs, or when a client let a partner's people in. What one may
do at an organisation depends on the sign-in there and on nothing else.
"""

from __future__ import annotations

from dataclasses import replace
from uuid import UUID

from sqlalchemy import and_, delete, func, or_, select

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Standing
from openlatch.errors import BadInput, NotAllowed, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.identity import authentication
from openlatch.service.identity.authentication import Factor
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.tables import Organisation, PartnerLink, Person, SignIn, SignInLink, Visit

# Organisations shown with one's rights there; one can switch to any.
MOST = 200


def listed(unit: Unit) -> schemas.MyOrganisations:
    """The viewer's sign-ins at all organisations, each with counts of what they reach there."""
    mine = _sign_in(unit)
    linked = _linked(unit, mine)
    rows = [_at(unit.service, organisation, sign_in) for organisation, sign_in in linked[:MOST]]
    here = _at(unit.service, unit.viewer.organisation, mine)
    found = [row for row in (here, *rows) if row is not None]
    shown = [schemas.MyOrganisation.model_validate({**row, "is_current": row["sign_in"] == mine}) for row in found]
    return schemas.MyOrganisations(organisations=shown, more=max(len(linked) - MOST, 0))


def _sign_in(unit: Unit) -> UUID:
    if unit.viewer.sign_in is None or unit.viewer.inside is not None:
        raise NotAllowed("Only somebody who is signed in, and not inside an account, switches organisations.")
    return unit.viewer.sign_in


def _linked(unit: Unit, mine: UUID) -> list[tuple[UUID, UUID]]:
    """The organisations and sign-ins linked with the viewer's, in one step."""
    rows = unit.db.scalars(
        select(SignInLink).where(or_(SignInLink.one_id == mine, SignInLink.other_id == mine)).order_by(SignInLink.id)
    )
    return [
        (row.other_organisation_id, row.other_id) if row.one_id == mine else (row.one_organisation_id, row.one_id)
        for row in rows
    ]


def _at(service: Service, organisation: UUID | None, sign_in: UUID) -> JsonObject | None:
    """What a sign-in is and reaches at its organisation; None if it does not exist any more."""
    assert organisation is not None
    with service.unit(Viewer.itself(organisation)) as unit:
        row = unit.db.get(SignIn, sign_in)
        if row is None:
            return None
        person = unit.db.get_one(Person, row.person_id)
        holder = Holder(HolderKind.PERSON, person.id)
        paths = access_paths.everything_reached(subgraph.around_holder(unit.db, holder), holder, unit.now)
        home = unit.db.get_one(Organisation, organisation)
        partner = select(PartnerLink.id).where(
            PartnerLink.client_id == organisation,
            PartnerLink.ended_at.is_(None),
            PartnerLink.people.contains([{"there": str(person.id)}]),
        )
        names = {path.level.name for path in paths if path.level is not None}
        return {
            "sign_in": sign_in,
            "organisation": {"id": home.id, "name": home.name},
            "slug": home.slug,
            "person": person.name,
            "role": row.role,
            "is_closed": row.suspended_at is not None or person.standing == Standing.LEFT,
            "accounts": len({path.account for path in paths}),
            "levels": sorted(names)[:20],
            "as_partner": unit.db.scalar(partner.limit(1)) is not None,
        }


def link(unit: Unit, address: str, password: str, factor: Factor, at: str, origin: str) -> schemas.MyOrganisations:
    """Link a sign-in elsewhere with the viewer's, after proving that it is theirs."""
    mine = _sign_in(unit)
    unit.require_proof("Linking another sign-in")
    other = authentication.check_password(unit.service, address, password, origin, factor, at=at)
    if other.organisation == unit.viewer.organisation or other.sign_in is None:
        raise BadInput("That sign-in is at this organisation, too.", "Give one at another.", {"address": "is here"})
    join(unit, (unit.viewer.organisation, mine), (other.organisation, other.sign_in))
    unit.record("sign_in.linked", "sign_in", mine, unit.viewer.name)
    return listed(unit)


def join(unit: Unit, one: tuple[UUID | None, UUID], other: tuple[UUID | None, UUID]) -> None:
    """Link two sign-ins. Idempotent."""
    (one_at, one_id), (other_at, other_id) = sorted((one, other), key=lambda at: str(at[1]))
    same = select(SignInLink.id).where(SignInLink.one_id == one_id, SignInLink.other_id == other_id)
    if unit.db.scalar(same) is None:
        unit.db.add(
            SignInLink(one_organisation_id=one_at, one_id=one_id, other_organisation_id=other_at, other_id=other_id)
        )
        unit.db.flush()


def part(unit: Unit, sign_in: UUID, organisation: UUID) -> None:
    """Remove the links of a sign-in with another organisation."""
    there = or_(
        and_(SignInLink.one_id == sign_in, SignInLink.other_organisation_id == organisation),
        and_(SignInLink.other_id == sign_in, SignInLink.one_organisation_id == organisation),
    )
    unit.db.execute(delete(SignInLink).where(there))


def unlink(unit: Unit, sign_in: UUID) -> None:
    """Remove the link between the viewer's sign-in and one elsewhere."""
    mine = _sign_in(unit)
    both = or_(
        and_(SignInLink.one_id == mine, SignInLink.other_id == sign_in),
        and_(SignInLink.other_id == mine, SignInLink.one_id == sign_in),
    )
    if not unit.db.execute(delete(SignInLink).where(both)).rowcount:  # type: ignore[attr-defined]
        raise NotFound("You have no such sign-in elsewhere.")
    unit.record("sign_in.unlinked", "sign_in", mine, unit.viewer.name)


def switch(unit: Unit, sign_in: UUID, factor: Factor) -> Viewer:
    """Who the viewer is at another organisation, to be signed in there. NotFound for a sign-in that is not theirs.

    A second factor there is still asked for there.
    """
    mine = _sign_in(unit)
    at = next((organisation for organisation, ident in _linked(unit, mine) if ident == sign_in), None)
    if at is None:
        raise NotFound("You have no such sign-in elsewhere.", "Look at your organisations.")
    unit.record("sign_in.switched", "sign_in", mine, unit.viewer.name)
    authentication.check_factor(unit.service, at, sign_in, factor)
    # Not a fresh proof there.
    return replace(authentication.viewer_at(unit.service, at, sign_in), proved_at=None)


def count_visits(unit: Unit, people: list[UUID]) -> dict[UUID, int]:
    """How often each of some people switched into an account here."""
    rows = unit.db.execute(
        select(Visit.person_id, func.count(Visit.id)).where(Visit.person_id.in_(people)).group_by(Visit.person_id)
    )
    return dict(rows.all())
