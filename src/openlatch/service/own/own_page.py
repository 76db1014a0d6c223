"""One's own sign-in: name, addresses, sessions, tokens, and how one wants to be notified."""

from __future__ import annotations

import re
import secrets
from collections.abc import Sequence
from typing import cast
from uuid import UUID

from sqlalchemy import delete, func, select

from openlatch import schemas
from openlatch.core.files.records import BadField
from openlatch.core.files.records import address as read_address
from openlatch.core.time_windows import zone_of
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.service.identity import passkeys, recovery, sign_ins
from openlatch.service.notifications import notices
from openlatch.service.offers import send as send_offer
from openlatch.service.own.my_access import PROOF_LIFE
from openlatch.service.unit import Unit
from openlatch.store.tables import AddressProof, ApiToken, Person, PersonAddress, SignIn, WebSession

MOST_ADDRESSES = 20
_LOCALE = re.compile(r"[a-z]{2,3}(-[A-Z][a-z]{3})?(-[A-Z]{2}|-[0-9]{3})?")


def _own(unit: Unit, lock: bool = False) -> tuple[SignIn, Person]:
    row = unit.db.get(SignIn, unit.viewer.sign_in, with_for_update=lock) if unit.viewer.sign_in else None
    if row is None:
        raise NotAllowed("Only somebody who signs in has a page of their own.")
    return row, unit.db.get_one(Person, row.person_id, with_for_update=lock)


def page(unit: Unit) -> schemas.OwnPage:
    """All of one's own sign-in, except its secrets."""
    row, person = _own(unit)
    others = select(PersonAddress).where(PersonAddress.person_id == person.id).order_by(PersonAddress.address)
    return schemas.OwnPage(
        name=person.name,
        role=cast("schemas.RoleName", row.role),
        sign_in_address=row.address,
        addresses=[
            *(
                [schemas.AddressOf(address=person.address, confirmed_at=person.address_confirmed_at, is_first=True)]
                if person.address
                else []
            ),
            *(
                schemas.AddressOf(address=one.address, confirmed_at=one.confirmed_at, is_first=False)
                for one in unit.db.scalars(others)
            ),
        ],
        second_factor_since=row.factor_since,
        passkeys=passkeys.rows(unit),
        recovery_codes_left=recovery.left(unit),
        password_set_at=row.password_set_at,
        sessions=sessions(unit),
        tokens=tokens(unit),
        time_zone=row.preferences.get("time_zone"),
        locale=row.preferences.get("locale"),
        no_mail=row.preferences.get("no_mail", []),
        wants_digest=person.wants_digest,
        wants_trends=person.wants_trends,
        refuses_offers=person.refuses_offers,
    )


def sessions(unit: Unit) -> list[schemas.OwnSession]:
    """One's open sessions, the last seen first; marks the present one."""
    mine = select(WebSession).where(WebSession.sign_in_id == unit.viewer.sign_in, WebSession.expires_at > unit.now)
    return [
        schemas.OwnSession(
            id=one.id,
            device=one.device,
            address=one.address,
            started_at=one.created_at,
            last_seen_at=one.last_seen_at,
            expires_at=one.expires_at,
            is_this=one.id == unit.viewer.credential,
        )
        for one in unit.db.scalars(mine.order_by(WebSession.last_seen_at.desc()))
    ]


def tokens(unit: Unit) -> list[schemas.OwnToken]:
    """One's API tokens, the newest first."""
    mine = select(ApiToken).where(ApiToken.sign_in_id == unit.viewer.sign_in, ApiToken.expires_at > unit.now)
    return [
        schemas.OwnToken(
            id=one.id,
            name=one.name,
            scope=cast("schemas.Scope", one.scope),
            made_at=one.created_at,
            last_used_at=one.last_used_at,
            expires_at=one.expires_at,
            is_this=one.id == unit.viewer.credential,
        )
        for one in unit.db.scalars(mine.order_by(ApiToken.created_at.desc()))
    ]


def end_session(unit: Unit, ident: UUID) -> None:
    """End one of one's own sessions. NotFound for any other."""
    row, _ = _own(unit)
    mine = delete(WebSession).where(WebSession.id == ident, WebSession.sign_in_id == row.id)
    if unit.db.scalar(mine.returning(WebSession.id)) is None:
        raise NotFound("You have no such session.")
    unit.record("sign_in.session_ended", "sign_in", row.id, unit.viewer.name)


def end_others(unit: Unit) -> int:
    """End all of one's sessions except the present one; returns how many."""
    row, _ = _own(unit)
    ended = sign_ins.end_other_sessions(unit, row)
    if ended:
        unit.record("sign_in.session_ended", "sign_in", row.id, unit.viewer.name, count=ended)
    return ended


def set_profile(
    unit: Unit, name: str, time_zone: str | None, locale: str | None, no_mail: Sequence[str], wants_digest: bool
) -> schemas.OwnPage:
    """Set one's name and how one wants to be notified. BadInput for an unknown time zone or language."""
    row, person = _own(unit, lock=True)
    if not name.strip():
        raise BadInput("There is no name.", "Write it as others know you.", {"name": "is missing"})
    if time_zone:
        try:
            zone_of(time_zone)
        except ValueError:
            raise BadInput(
                f"There is no time zone {time_zone!r}.", "Write one like Europe/London.", {"time_zone": "unknown"}
            ) from None
    if locale and _LOCALE.fullmatch(locale) is None:
        raise BadInput(f"{locale!r} is no language.", "Write one like en-GB or de-AT.", {"locale": "unknown"})
    unknown = sorted(set(no_mail) - set(notices.OPTIONAL))
    if unknown:
        raise BadInput(
            f"Mail about {unknown[0]!r} can't be switched off.",
            f"Choose from {', '.join(notices.OPTIONAL)}.",
            {"no_mail": "unknown"},
        )
    if person.name != name.strip():
        unit.record("person.changed", "person", person.id, name.strip(), changed={"name": [person.name, name.strip()]})
        person.name = name.strip()
        unit.wake("evaluate")
    person.wants_digest = wants_digest
    row.preferences = {"time_zone": time_zone or None, "locale": locale or None, "no_mail": sorted(set(no_mail))}
    unit.db.flush()
    return page(unit)


def add_address(unit: Unit, written: str) -> None:
    """Request a link to another address of one's own, which counts once it is confirmed by that link."""
    _, person = _own(unit, lock=True)
    try:
        address = read_address(written, unit.zone)
    except BadField as fault:
        raise BadInput(f"The address {fault}.", "Write it as ada@example.org.", {"address": str(fault)}) from None
    held = select(func.count(PersonAddress.id)).where(PersonAddress.person_id == person.id)
    if (unit.db.scalar(held) or 0) >= MOST_ADDRESSES:
        raise Conflict(f"You have {MOST_ADDRESSES} addresses.", "Remove one first.")
    token = secrets.token_urlsafe(32)
    unit.db.add(
        AddressProof(
            organisation_id=unit.viewer.organisation,
            person_id=person.id,
            address=address,
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
    notices.write(unit, address, letter)
    unit.record("address.proof_asked", "person", person.id, person.name)


def remove_address(unit: Unit, address: str) -> schemas.OwnPage:
    """Remove one of one's other addresses. NotFound for one that is none of them."""
    _, person = _own(unit)
    mine = delete(PersonAddress).where(
        PersonAddress.person_id == person.id, func.lower(PersonAddress.address) == address.strip().lower()
    )
    if unit.db.scalar(mine.returning(PersonAddress.id)) is None:
        raise NotFound("That is not one of your other addresses.", "The first can be replaced by another one.")
    unit.record("address.removed", "person", person.id, person.name)
    return page(unit)


def make_first(unit: Unit, address: str) -> schemas.OwnPage:
    """Make another confirmed address the first: mail goes there, and one signs in with it."""
    row, person = _own(unit, lock=True)
    unit.require_proof("Changing the address that you sign in with")
    wanted = address.strip().lower()
    other = unit.db.scalars(
        select(PersonAddress)
        .where(PersonAddress.person_id == person.id, func.lower(PersonAddress.address) == wanted)
        .with_for_update()
    ).first()
    if other is None:
        raise NotFound("That is not one of your other addresses.", "Add it first.")
    if other.confirmed_at is None:
        raise Conflict("This address is not confirmed yet.", "Open the link that was sent to it.")
    taken = select(SignIn.id).where(SignIn.address == wanted, SignIn.id != row.id)
    if unit.db.scalar(taken) is not None:
        raise Conflict("Somebody else signs in with this address.", "Ask an administrator.")
    before, since = person.address, person.address_confirmed_at
    unit.db.delete(other)
    unit.db.flush()
    person.address, person.address_confirmed_at, row.address = wanted, other.confirmed_at, wanted
    if before:
        unit.db.add(
            PersonAddress(
                organisation_id=person.organisation_id, person_id=person.id, address=before, confirmed_at=since
            )
        )
    unit.record("address.made_first", "person", person.id, person.name)
    sentence = f"Mail goes to {wanted} from now on, and you sign in with it."
    notices.write(unit, before, notices.Letter("Your address was changed", (f"Hello {person.name},", sentence)))
    unit.db.flush()
    return page(unit)
