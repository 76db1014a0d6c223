"""One's own access: what one can reach, who can reach one's accounts, offers to oneself, notices."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import func, select, update

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.time_windows import last_day
from openlatch.core.vocabulary import GrantState, HolderKind, Standing
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.service.access.path_rows import grants_on, path_row
from openlatch.service.identity import try_limits
from openlatch.service.notifications import notices
from openlatch.service.offers import answer
from openlatch.service.offers import send as send_offer
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.database import transaction
from openlatch.store.lists import register
from openlatch.store.lists.columns import not_among
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import AddressProof, Grant, Notice, Person, PersonAddress

PROOF_LIFE = timedelta(hours=24)


def _person(unit: Unit) -> Person:
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who is signed in has a page of their own.")
    return unit.db.get_one(Person, unit.viewer.person)


def page(unit: Unit) -> schemas.Mine:
    """What the viewer can reach, who can reach their accounts, the offers that wait for them, and their settings."""
    person = _person(unit)
    me = Holder(HolderKind.PERSON, person.id)
    known = subgraph.around_holder(unit.db, me)
    paths = access_paths.everything_reached(known, me, unit.now)
    grants = grants_on(unit, (grant for path in paths for grant in path.grants))
    direct = set(unit.db.scalars(select(Grant.id).where(Grant.holder_id == person.id)))
    rows = [
        schemas.MineReach.model_validate(
            {
                **dict(path_row(unit, known, path, grants)),
                "own": len(path.hops) == 1 and path.grants[-1:] != () and path.grants[-1] in direct,
            }
        )
        for path in paths
    ]
    in_force = {grant for path in paths for grant in path.grants}
    mine = [Grant.holder_id == person.id, Grant.state != GrantState.ENDED, not_among(Grant.id, in_force)]
    idle = register.GRANTS.page(unit.db, ListQuery(limit=200), [unit.sight.grants(), *mine])
    owned = [path.account for path in paths if path.level is None and len(path.hops) == 1]
    return schemas.Mine(
        reach=[row for row in rows if row.account.id not in owned],
        not_in_force=[schemas.GrantRow.model_validate(row) for row in idle.rows],
        mine=[_reached_by(unit, account) for account in owned],
        offers=answer.mine(unit),
        settings=schemas.MySettings(
            address=person.address,
            address_confirmed_at=person.address_confirmed_at,
            second_factor=person.second_factor,
            refuses_offers=person.refuses_offers,
        ),
    )


def _reached_by(unit: Unit, account: UUID) -> schemas.MyAccount:
    known = subgraph.around_accounts(unit.db, [account])
    by_holder = access_paths.by_holder(known.as_held(), account, unit.now)
    place = known.accounts[account]
    others = [
        schemas.MyHolder(
            kind=holder.kind,
            id=holder.id,
            name=known.name_of(holder),
            reach=int(max(p.reach for p in paths)),
            levels=sorted({p.level.name for p in paths if p.level}),
            until=(until := _latest(paths)),
            last_day=last_day(until, place.zone),
        )
        for holder, paths in by_holder.items()
        if not any(p.level is None and len(p.hops) == 1 for p in paths)
    ]
    return schemas.MyAccount(
        account=schemas.Named(id=account, name=place.name),
        holders=sorted(others, key=lambda h: (-h.reach, h.name)),
    )


def _latest(paths: Sequence[access_paths.Path]) -> datetime | None:
    ends = [path.window.until for path in paths]
    return None if None in ends else max(end for end in ends if end is not None)


def set_offers(unit: Unit, refuses: bool) -> None:
    """Set whether one can be sent offers."""
    person = _person(unit)
    if person.refuses_offers != refuses:
        person.refuses_offers = refuses
        unit.record("person.offers_set", "person", person.id, person.name, refuses=refuses)


def ask_for_proof(unit: Unit) -> None:
    """Send the viewer a link by which to confirm their address."""
    person = _person(unit)
    if not person.address:
        raise BadInput("No address is recorded for you.", "Ask an administrator to.")
    token = secrets.token_urlsafe(32)
    unit.db.add(
        AddressProof(
            organisation_id=unit.viewer.organisation,
            person_id=person.id,
            address=person.address,
            token_hash=send_offer.digest(token),
            runs_out_at=unit.now + PROOF_LIFE,
        )
    )
    letter = notices.Letter(
        "Confirm your address",
        (f"Hello {person.name},", "Confirm that this address is yours by opening the link. It works once, for a day."),
        f"{unit.service.address}/confirm#{token}",
        "Confirm the address",
    )
    notices.write(unit, person.address, letter)
    unit.record("address.proof_asked", "person", person.id, person.name)


def confirm_address(service: Service, token: str, origin: str) -> str:
    """Confirm an address by the link that was sent to it; gives the person's name. NotFound for any other link."""
    guess = try_limits.count_guess(service, "proof", origin)
    with transaction(service.engine, None) as db:
        row = db.scalars(select(AddressProof).where(AddressProof.token_hash == send_offer.digest(token))).first()
    if row is None or row.runs_out_at <= service.clock():
        raise NotFound("This link opens nothing.", "It may have been used or have run out; ask for a new one.")
    try_limits.forgive(service, guess)
    with service.unit(Viewer.itself(row.organisation_id)) as unit:
        proof = unit.db.get(AddressProof, row.id, with_for_update=True)
        if proof is None:
            raise NotFound("This link was used already.", "There is nothing more to do.")
        person = unit.db.get_one(Person, row.person_id)
        unit.db.delete(proof)
        if person.address == row.address:
            person.address_confirmed_at = unit.now
        else:
            _keep_address(unit, person, row.address)
        unit.record("address.confirmed", "person", person.id, person.name)
        return person.name


def _keep_address(unit: Unit, person: Person, address: str) -> None:
    """Store another address that somebody has just confirmed."""
    whose = select(PersonAddress).where(func.lower(PersonAddress.address) == address.lower())
    held = unit.db.scalars(whose).first()
    first = select(Person.id).where(func.lower(Person.address) == address.lower(), Person.standing != Standing.LEFT)
    if unit.db.scalar(first) is not None or (held is not None and held.person_id != person.id):
        raise Conflict("This address is somebody else's by now.", "Ask an administrator.")
    if held is None:
        held = PersonAddress(organisation_id=person.organisation_id, person_id=person.id, address=address)
        unit.db.add(held)
    held.confirmed_at = unit.now


def read_notices(unit: Unit, ids: list[UUID]) -> int:
    """Mark one's notices as read, all of them if none is named; returns how many are unread."""
    mine = Notice.person_id == unit.viewer.person
    which = mine & Notice.read_at.is_(None)
    unit.db.execute(update(Notice).where(which & Notice.id.in_(ids) if ids else which).values(read_at=unit.now))
    return unit.db.scalar(select(func.count(Notice.id)).where(mine, Notice.read_at.is_(None))) or 0
