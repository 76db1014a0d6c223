"""Links between a partner organisation and a client on the same server: the partner's people act at the client in a
team.

The link is one row that both see. ``at_client`` applies it at the client: people in the partner's team, with sign-ins
linked to those at the partner.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import ColumnElement, func, or_, select

from openlatch import schemas
from openlatch.core.counts import counted
from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.notifications import notices
from openlatch.service.partners import at_client, sign_in_links
from openlatch.service.revocations.preview import with_fingerprint
from openlatch.service.unit import Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import (
    Organisation,
    PartnerLink,
    Person,
    SignIn,
    Team,
)

MOST_PEOPLE = 200
# Within a day.
MOST_OFFERS = 20
PAGE = "/partners"


def offer(unit: Unit, client: str, words: str, people: list[UUID]) -> schemas.PartnerLinkRow:
    """Offer a client organisation on this server, by its short name, to be linked. For the partner's administrators.

    Nothing reveals whether there is such an organisation: an offer to an unknown one stays unanswered.
    """
    unit.sight.require_administrator()
    unit.require_proof("Offering a link to another organisation")
    # Of two at the same time, the second finds the first.
    locks.access(unit)
    slug = client.strip().lower()
    with transaction(unit.service.engine, None) as db:
        found = db.execute(select(Organisation.id, Organisation.name).where(Organisation.slug == slug)).first()
    if found is not None and found.id == unit.viewer.organisation:
        raise BadInput("That is your own organisation.", "Name a client.", {"client": "is your own"})
    same = select(PartnerLink.id).where(
        PartnerLink.partner_id == unit.viewer.organisation,
        PartnerLink.client_slug == slug,
        PartnerLink.ended_at.is_(None),
    )
    if unit.db.scalar(same) is not None:
        raise Conflict("There is an offer or a link to this client already.", "Look at it, or end it first.")
    _refuse_many(unit)
    home = unit.db.get_one(Organisation, unit.viewer.organisation)
    row = PartnerLink(
        partner_id=home.id,
        partner_name=home.name,
        client_id=found.id if found else None,
        client_slug=slug,
        client_name=slug,
        words=words.strip(),
        people=_staff(unit, people),
        offered_at=unit.now,
        offered_by=unit.viewer.name,
    )
    unit.db.add(row)
    unit.db.flush()
    unit.record("partner.offered", "partner", row.id, slug, people=len(row.people))
    if found is not None:
        _tell_other_side(unit, found.id, f"{home.name} offers to act for you as a partner.")
    return shown(unit, row)


def _refuse_many(unit: Unit) -> None:
    """Limit offers, since each notifies all administrators of a client who did not ask for it."""
    of_today = select(func.count(PartnerLink.id)).where(
        PartnerLink.partner_id == unit.viewer.organisation, PartnerLink.offered_at > unit.now - timedelta(days=1)
    )
    if (unit.db.scalar(of_today) or 0) >= MOST_OFFERS:
        raise Conflict(f"{MOST_OFFERS} links were offered within a day.", "Offer further ones tomorrow.")


def _staff(unit: Unit, people: list[UUID]) -> list[JsonObject]:
    """The partner's people that a link may name: only who signs in at the partner can act elsewhere."""
    wanted = select(Person, SignIn).join(SignIn, SignIn.person_id == Person.id)
    rows = unit.db.execute(
        wanted.where(Person.id.in_(people), Person.standing != Standing.LEFT).order_by(Person.name)
    ).all()
    if len(rows) != len(set(people)) or len(rows) > MOST_PEOPLE:
        raise BadInput(
            "Some of them have no sign-in here, or have left.",
            "Invite them to one first.",
            {"people": "without sign-in"},
        )
    return [
        {"person": str(person.id), "sign_in": str(sign_in.id), "name": person.name, "address": sign_in.address}
        for person, sign_in in rows
    ]


def _tell_other_side(unit: Unit, organisation: UUID, sentence: str) -> None:
    service = unit.service

    def tell() -> None:
        with service.unit(Viewer.itself(organisation)) as there:
            notices.tell_and_write(there, notices.administrators(there), "partner", sentence, PAGE)

    unit.afterwards.append(tell)


def every(unit: Unit) -> schemas.PartnerLinks:
    """The links of the viewer's organisation, as partner and as client."""
    unit.sight.require_administrator()
    rows = unit.db.scalars(select(PartnerLink).where(_ours(unit)).order_by(PartnerLink.offered_at.desc())).all()
    return schemas.PartnerLinks(links=[shown(unit, row) for row in rows])


def _ours(unit: Unit) -> ColumnElement[bool]:
    here = unit.viewer.organisation
    return or_(PartnerLink.partner_id == here, PartnerLink.client_id == here)


def shown(unit: Unit, row: PartnerLink) -> schemas.PartnerLinkRow:
    """A link as one side sees it: the partner learns only the client's name, once it has accepted."""
    is_client = row.client_id == unit.viewer.organisation
    state: schemas.LinkState = (
        "ended" if row.ended_at else "linked" if row.accepted_at else "declined" if row.declined_at else "offered"
    )
    other = row.partner_name if is_client else row.client_name
    return schemas.PartnerLinkRow(
        id=row.id,
        state=state,
        we_are="client" if is_client else "partner",
        other=other,
        words=row.words,
        offered_at=row.offered_at,
        offered_by=row.offered_by,
        accepted_at=row.accepted_at,
        ended_at=row.ended_at,
        ended_by=row.ended_by,
        people=_people(unit, row, is_client),
        team=_team_of(unit, row) if is_client else None,
    )


def _people(unit: Unit, row: PartnerLink, is_client: bool) -> list[schemas.PartnerPerson]:
    """The partner's people; for the client also who really used it, and when last."""
    if not is_client:
        return [schemas.PartnerPerson(id=one["person"], name=one["name"], address=one["address"]) for one in row.people]
    there = [UUID(one["there"]) for one in row.people if one.get("there")]
    last = select(SignIn.person_id, SignIn.last_seen_at).where(SignIn.person_id.in_(there))
    seen: dict[UUID | None, datetime | None] = dict(unit.db.execute(last).all())
    visits = sign_in_links.count_visits(unit, there)
    found = []
    for one in row.people:
        ident = UUID(one["there"]) if one.get("there") else None
        found.append(
            schemas.PartnerPerson(
                id=ident,
                name=one["name"],
                address=one["address"],
                is_in=ident is not None,
                here=_here(unit, one) if one.get("known_here") else None,
                is_held=bool(one.get("held")),
                last_seen_at=seen.get(ident),
                visits=visits.get(ident, 0) if ident else 0,
            )
        )
    return found


def _here(unit: Unit, one: JsonObject) -> schemas.Named | None:
    """The client's person with that address, if they have no sign-in that they could link themselves."""
    people = unit.db.scalars(
        select(Person).where(func.lower(Person.address) == one["address"].lower(), Person.standing != Standing.LEFT)
    ).all()
    if len(people) != 1 or unit.db.scalar(select(SignIn.id).where(SignIn.person_id == people[0].id)) is not None:
        return None
    return schemas.Named(id=people[0].id, name=people[0].name)


def confirm_same(unit: Unit, ident: UUID, person: UUID) -> schemas.PartnerLinkRow:
    """Confirm at the client that one of its people without a sign-in is whom the partner names by the same address."""
    row = _locked(unit, ident, "Letting a partner's people in")
    if row.client_id != unit.viewer.organisation or row.accepted_at is None or row.ended_at is not None:
        raise Conflict("Only the client of a link confirms who is who.", "Look at it again.")
    locks.access(unit)
    known = {there.id: one for one in row.people if one.get("known_here") and (there := _here(unit, one))}
    if person not in known:
        raise NotFound("Nobody of this partner waits to be confirmed as them.", "Look at the link again.")
    row.people = [
        {**one, "known_here": False, "same": str(person)} if one is known[person] else one for one in row.people
    ]
    unit.record("partner.confirmed", "person", person, known[person]["name"], partner=row.partner_name)
    at_client.carry_out(unit, row)
    return shown(unit, row)


def _team_of(unit: Unit, row: PartnerLink) -> schemas.Named | None:
    team = unit.db.get(Team, row.team_id) if row.team_id else None
    return schemas.Named(id=team.id, name=team.name) if team is not None else None


def _locked(unit: Unit, ident: UUID, why: str) -> PartnerLink:
    unit.sight.require_administrator()
    row = unit.db.scalars(
        select(PartnerLink)
        .where(PartnerLink.id == ident, _ours(unit))
        .with_for_update()
        .execution_options(populate_existing=True)
    ).first()
    if row is None:
        raise NotFound("There is no such link.")
    unit.require_proof(why)
    return row


def answer(unit: Unit, ident: UUID, accepts: bool, team: UUID | None) -> schemas.PartnerLinkRow:
    """Accept a partner, whose people come into a partner team (a new one if none is named), or decline it."""
    row = _locked(unit, ident, "Letting a partner's people in")
    if row.client_id != unit.viewer.organisation or row.accepted_at or row.declined_at or row.ended_at:
        raise Conflict("This offer can't be answered any more.", "Look at it again.")
    if not accepts:
        row.declined_at = unit.now
        unit.record("partner.declined", "partner", row.id, row.partner_name)
        _tell_other_side(unit, row.partner_id, "A client has declined your offer to act for it.")
        return shown(unit, row)
    locks.access(unit)
    known = unit.db.get(Team, team) if team is not None else None
    if team is not None and (known is None or not known.partner):
        raise BadInput(
            "There is no such partner organisation.", "Choose one of your partners, or none.", {"team": "is no partner"}
        )
    if known is None:
        known = Team(organisation_id=unit.viewer.organisation, name=row.partner_name, partner=True)
        unit.db.add(known)
        unit.db.flush()
        unit.record("team.made", "team", known.id, known.name)
    row.accepted_at, row.team_id = unit.now, known.id
    row.client_name = unit.db.get_one(Organisation, row.client_id).name
    unit.record("partner.accepted", "partner", row.id, row.partner_name, team=known.name)
    _tell_other_side(unit, row.partner_id, f"{row.client_name} has accepted your offer to act for it.")
    at_client.carry_out(unit, row)
    return shown(unit, row)


def set_people(unit: Unit, ident: UUID, people: list[UUID]) -> schemas.PartnerLinkRow:
    """Set which of the partner's people act for a client; applied at the client soon."""
    row = _locked(unit, ident, "Changing who acts for a client")
    if row.partner_id != unit.viewer.organisation or row.ended_at is not None:
        raise Conflict("Only the partner says who acts, while there is a link.", "Look at it again.")
    before = {one["person"]: one for one in row.people}
    row.people = [{**before.get(one["person"], {}), **one} for one in _staff(unit, people)]
    gone = [one for key, one in before.items() if key not in {p["person"] for p in row.people} and one.get("there")]
    row.leaving = [*row.leaving, *gone]
    unit.db.flush()
    unit.record("partner.people_set", "partner", row.id, row.client_name, people=len(row.people))
    unit.wake("link_partners")
    return shown(unit, row)


def preview_end(unit: Unit, ident: UUID) -> schemas.EndLinkPreview:
    """What ending a link would do on the viewer's side, with a fingerprint. Nothing happens."""
    unit.sight.require_administrator()
    row = unit.db.scalars(select(PartnerLink).where(PartnerLink.id == ident, _ours(unit))).first()
    if row is None:
        raise NotFound("There is no such link.")
    return with_fingerprint(_end_told(unit, row))


def _end_told(unit: Unit, row: PartnerLink) -> schemas.EndLinkPreview:
    is_client = row.client_id == unit.viewer.organisation
    grants = at_client.grants_of(unit, row) if is_client else []
    team = _team_of(unit, row) if is_client else None
    names = ", ".join(one["name"] for one in row.people if one.get("there"))
    out = f"{names} can no longer come over from the partner, and what they have open at the client ends."
    does = [out if names else "Nobody can come over from the partner any more."]
    if is_client:
        does += [f"{counted(len(grants), 'grant')} of {team.name} will be revoked."] if team and grants else []
        does += [f"{person.name} {why}. Decide about that on their page." for person, why in _who_stays(unit, row)]
    else:
        does.append("The client’s own register ends what it has given to your people and their team.")
    return schemas.EndLinkPreview(
        people=[one["name"] for one in row.people], does=does, grants=len(grants), fingerprint=""
    )


def _who_stays(unit: Unit, row: PartnerLink) -> list[tuple[Person, str]]:
    """Which of the partner's people have more at the client than comes from the partner, and what."""
    found = []
    for one in row.people:
        if one.get("there") and (person := unit.db.get(Person, UUID(one["there"]))) is not None:
            why = at_client.has_more(unit, row, person.id)
            found += [(person, why)] if why else []
    return found


def end(unit: Unit, ident: UUID, reason: str, seen: str = "") -> schemas.PartnerLinkRow:
    """End a link, from either side: at the client its people are out, and what their team holds is revoked.

    Conflict when it would do something else than what was ``seen``.
    """
    row = _locked(unit, ident, "Ending a link with another organisation")
    if row.ended_at is not None:
        raise Conflict("The link has ended.", "There is nothing more to end.")
    if row.client_id == unit.viewer.organisation:
        locks.access(unit)
    if seen and seen != with_fingerprint(_end_told(unit, row)).fingerprint:
        raise Conflict("What this does has changed since it was shown.", "Look at the preview again.")
    row.ended_at, row.ended_by = unit.now, unit.viewer.name
    row.leaving, row.people_at_end = [*row.leaving, *(one for one in row.people if one.get("there"))], len(row.people)
    unit.record("partner.ended", "partner", row.id, row.client_name, reason=reason.strip())
    if row.client_id == unit.viewer.organisation:
        at_client.carry_out(unit, row)
        _tell_other_side(unit, row.partner_id, f"{row.client_name} has ended the link with you.")
    elif row.client_id is not None and row.accepted_at is not None:
        unit.wake("link_partners")
        _tell_other_side(unit, row.client_id, f"{row.partner_name} has ended the link with you.")
    return shown(unit, row)
