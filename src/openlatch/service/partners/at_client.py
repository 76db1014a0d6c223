"""What a partner link means at the client: who comes in, who goes out, and what else they have there.

Runs in the client's own transactions and is idempotent, so it may be cut off.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from uuid import UUID

from sqlalchemy import delete, func, select

from openlatch.core.counts import counted
from openlatch.core.register import Holder
from openlatch.core.vocabulary import Cause, GrantState, HolderKind, Standing
from openlatch.errors import Held
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.attempt import attempt
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import authentication, sign_ins
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.partners import sign_in_links
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import (
    Account,
    Grant,
    Membership,
    PartnerLink,
    Person,
    PersonAddress,
    SignIn,
)

PAGE = "/partners"


def _administers(unit: Unit, person: UUID) -> bool:
    return unit.db.scalar(select(SignIn.administrator).where(SignIn.person_id == person)) is True


def has_more(unit: Unit, row: PartnerLink, person: UUID) -> str:
    """What else somebody has at the client, which stays when the link ends. Empty for nothing."""
    holds = select(func.count(Grant.id)).where(Grant.person_id == person, Grant.state.in_(LIVE))
    owns = select(func.count(Account.id)).where(Account.owner_id == person)
    teams = select(func.count(Membership.id)).where(Membership.person_id == person, Membership.team_id != row.team_id)
    found = [
        *(["still administers here, and keeps their sign-in"] if _administers(unit, person) else []),
        *([f"keeps {counted(count, 'grant')} of their own"] if (count := unit.db.scalar(holds)) else []),
        *([f"still owns {counted(count, 'account')}"] if (count := unit.db.scalar(owns)) else []),
        *([f"stays in {counted(count, 'other team')}"] if (count := unit.db.scalar(teams)) else []),
    ]
    return ", ".join(found)


def grants_of(unit: Unit, row: PartnerLink) -> list[UUID]:
    """The grants of a partner's team that can be revoked."""
    live = select(Grant.id).where(
        Grant.team_id == row.team_id, Grant.state.in_((GrantState.ACTIVE, GrantState.SUSPENDED))
    )
    return list(unit.db.scalars(live.order_by(Grant.id))) if row.team_id else []


def bring_about(service: Service, organisation: UUID) -> int:
    """Apply the links of an organisation where it is the client; returns how many. Called by the worker."""
    with service.unit(Viewer.itself(organisation)) as unit:
        of_us = select(PartnerLink).where(PartnerLink.client_id == organisation, PartnerLink.accepted_at.is_not(None))
        rows = unit.db.scalars(of_us.with_for_update(skip_locked=True)).all()
        due = [row for row in rows if row.leaving or (row.ended_at is None and any(_waits(one) for one in row.people))]
        if due:
            locks.access(unit)
        for row in due:
            try:
                with attempt(unit) as within:
                    carry_out(within, row)
            except Held as held:
                _wait_for_latch(unit, row, held)
        return len(due)


def _wait_for_latch(unit: Unit, row: PartnerLink, held: Held) -> None:
    """Nobody comes in past a latch: the client's administrators are notified, and confirm them once it passes."""
    unit.db.refresh(row)
    names = ", ".join(one["name"] for one in row.people if _waits(one))
    row.people = [{**one, "held": True} if _waits(one) else one for one in row.people]
    sentence = (
        f"{row.partner_name} names {names}, who are not let in: {held.detail} "
        "Mend that, then ask the partner to name them again."
    )
    notices.tell_and_write(unit, notices.administrators(unit), "partner", sentence, PAGE)
    unit.db.flush()


def _waits(one: Mapping[str, object]) -> bool:
    return not one.get("there") and not one.get("known_here") and not one.get("held")


def drop_absent(service: Service, organisation: UUID) -> None:
    """Remove from links, where the organisation is the partner, people who can't sign in any more. Called by the
    worker.
    """
    with service.unit(Viewer.itself(organisation)) as unit:
        of_us = select(PartnerLink).where(PartnerLink.partner_id == organisation, PartnerLink.ended_at.is_(None))
        rows = unit.db.scalars(of_us.with_for_update(skip_locked=True)).all()
        named = {UUID(one["sign_in"]) for row in rows for one in row.people}
        open_ones = select(SignIn.id).join(Person, Person.id == SignIn.person_id)
        can = set(
            unit.db.scalars(
                open_ones.where(SignIn.id.in_(named), SignIn.suspended_at.is_(None), Person.standing != Standing.LEFT)
            )
        )
        for row in rows:
            gone = [one for one in row.people if UUID(one["sign_in"]) not in can]
            if gone:
                row.people = [one for one in row.people if one not in gone]
                row.leaving = [*row.leaving, *(one for one in gone if one.get("there"))]
                names = ", ".join(one["name"] for one in gone)
                unit.record("partner.people_set", "partner", row.id, row.client_name, gone=names)


def carry_out(unit: Unit, row: PartnerLink) -> None:
    """Let in people who should act and are missing, and put out those who should not. In the client's transaction."""
    if row.ended_at is None and row.team_id is not None:
        touched = guard.touched(unit, subgraph.onward(unit.db, [Holder(HolderKind.TEAM, row.team_id)]))
        with guard.guarded(unit, touched):
            row.people = [_let_in(unit, row, one) if _waits(one) else one for one in row.people]
            unit.db.flush()
    for one in row.leaving:
        _put_out(unit, row, UUID(one["there"]))
    row.leaving = []
    if row.ended_at is not None and (grants := grants_of(unit, row)):
        wish = prepare.Wish(grants=tuple(grants))
        revoke.start(unit.as_service(), wish, f"The link with {row.partner_name} has ended.", cause=Cause.LEFT)
    unit.db.flush()
    unit.wake("evaluate")


def _let_in(unit: Unit, row: PartnerLink, one: JsonObject) -> JsonObject:
    """Let one of a partner's people in as a new person of the client; returns how they are known there.

    Somebody at the client is never taken for the same person because of their address: only the partner says so.
    """
    address = one["address"]
    same = unit.db.get(Person, UUID(one["same"])) if one.get("same") else None
    if same is None and _is_known(unit, address):
        sentence = (
            f"{row.partner_name} names {one['name']} ({address}). Somebody here has this address already, so they are "
            "not let in until you confirm that it is the same person. Whoever has a sign-in here can link the two "
            "themselves."
        )
        notices.tell_and_write(unit, notices.administrators(unit), "partner", sentence, PAGE)
        return {**one, "known_here": True}
    person = same or Person(
        organisation_id=unit.viewer.organisation, name=one["name"], address=address, inside=False, recognised=True
    )
    if same is None:
        unit.db.add(person)
        unit.db.flush()
        unit.record("person.made", "person", person.id, person.name, partner=row.partner_name)
    member = select(Membership.id).where(Membership.team_id == row.team_id, Membership.person_id == person.id)
    if unit.db.scalar(member) is None:
        unit.db.add(Membership(organisation_id=person.organisation_id, team_id=row.team_id, person_id=person.id))
        unit.record("membership.made", "membership", None, f"{person.name} in {row.partner_name}")
    # A random password: they switch over from their own organisation.
    authentication.make_sign_in(unit.db, person.organisation_id, person.id, address, secrets.token_urlsafe(32))
    unit.db.flush()
    sign_in = unit.db.scalars(select(SignIn.id).where(SignIn.person_id == person.id)).one()
    unit.record("sign_in.made", "person", person.id, person.name, partner=row.partner_name)
    sign_in_links.join(unit, (unit.viewer.organisation, sign_in), (row.partner_id, UUID(one["sign_in"])))
    return {**one, "there": str(person.id)}


def _is_known(unit: Unit, address: str) -> bool:
    """Whether a person or a sign-in of the client has an address."""
    known = (
        select(Person.id).where(func.lower(Person.address) == address.lower()),
        select(PersonAddress.id).where(func.lower(PersonAddress.address) == address.lower()),
        select(SignIn.id).where(SignIn.address == address.lower()),
    )
    return any(unit.db.scalar(one.limit(1)) is not None for one in known)


def _put_out(unit: Unit, row: PartnerLink, ident: UUID) -> None:
    person = unit.db.get(Person, ident)
    if person is None:
        return
    ending = delete(Membership).where(Membership.team_id == row.team_id, Membership.person_id == ident)
    unit.db.execute(ending)
    sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == ident)).first()
    more = has_more(unit, row, ident)
    if sign_in is not None:
        sign_ins.close_all(unit, sign_in)
        sign_in_links.part(unit, sign_in.id, row.partner_id)
        if not sign_in.administrator:
            sign_ins.remove(unit, sign_in)
    if more:
        sentence = f"{person.name} no longer acts for {row.partner_name}, but {more}."
        notices.tell_and_write(unit, notices.administrators(unit), "partner", sentence, f"/people/{ident}")
    unit.record("partner.person_left", "person", ident, person.name, partner=row.partner_name, more=more)
    unit.db.flush()
    evaluate_flags.evaluate(unit, people=[ident])
