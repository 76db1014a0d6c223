"""Signing in by an identity provider: from the browser's leaving until it is back, and out again.

What has to be known when it is back is in a sealed cookie of that browser, so that nobody else finishes what it began.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from uuid import UUID

from cryptography.fernet import InvalidToken
from sqlalchemy import delete, func, select

from openlatch.core.identity import claims
from openlatch.core.identity.claims import Claimed
from openlatch.core.vocabulary import Role, Standing
from openlatch.errors import Conflict, NotAllowed, NotSignedIn
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.identity import authentication, openid, providers, sign_ins, used_tokens
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import IdentityProvider, Person, ProviderSubject, SignIn, WebSession

FLOW_SECONDS = 600
# How old, in seconds, a provider's asking may be that counts as a proof.
FRESH_SECONDS = 300
_AGAIN = "Begin again on the page to sign in."


@dataclass(frozen=True, slots=True)
class Finished:
    """Somebody is back from their provider: who, where they wanted to go, and what their session there is.

    ``proves`` is the session here in which they were asked to prove who they are; None for signing in.
    """

    viewer: Viewer
    then: str
    provider: UUID
    session: str
    token: str
    proves: UUID | None


def begin(service: Service, ident: UUID, then: str, proves: Viewer | None = None) -> tuple[str, str]:
    """Where the browser goes, and what it keeps meanwhile, sealed. With ``proves`` somebody signed in proves again."""
    row = providers.get(service, ident)
    reading = providers.reading(row)
    begun = openid.begin(
        providers.spoken_with(service, row), _callback(service), " ".join(sorted(reading.acr)), proves is not None
    )
    kept = {
        "provider": str(ident),
        "state": begun.state,
        "nonce": begun.nonce,
        "verifier": begun.verifier,
        # Only a page of ours.
        "then": then if then.startswith("/") and not then.startswith(("//", "/\\")) else "/",
        "proves": str(proves.credential) if proves is not None else "",
    }
    return begun.address, service.cipher.encrypt(json.dumps(kept).encode()).decode()


def finish(service: Service, sealed: str, told: Mapping[str, str]) -> Finished:
    """Who has come back with these parameters. NotSignedIn when they did not sign in, or it is not what they began."""
    try:
        kept = json.loads(service.cipher.decrypt(sealed.encode(), ttl=FLOW_SECONDS))
    except (InvalidToken, UnicodeError):
        raise NotSignedIn("This sign-in was begun in another browser, or too long ago.", _AGAIN) from None
    if not hmac.compare_digest(str(kept["state"]).encode(), told.get("state", "").encode()):
        raise NotSignedIn("This is not the sign-in that was begun here.", _AGAIN)
    if "code" not in told:
        why = told.get("error_description") or told.get("error") or "it sent no code"
        raise NotSignedIn(f"The provider did not sign you in: {why}.", _AGAIN)
    row = providers.get(service, UUID(kept["provider"]))
    # RFC 9207: a code of another provider is not taken there.
    if told.get("iss", row.issuer).rstrip("/") != row.issuer:
        raise NotSignedIn("The answer comes from another provider.", _AGAIN)
    provider = providers.spoken_with(service, row)
    found, token = openid.redeem(provider, _callback(service), told["code"], kept["verifier"], kept["nonce"])
    claimed = claims.read(found, providers.reading(row))
    with service.unit(Viewer.itself(row.organisation_id)) as unit:
        # A role may change: before any row, and so that two administrators are never both taken for the other one.
        locks.access(unit)
        sign_in = _sign_in_of(unit, row, claimed)
        _refuse_missing_factor(unit, row, sign_in)
        _follow_role(unit, row, sign_in, claimed.role)
        ident = sign_in.id
    viewer = authentication.viewer_at(service, row.organisation_id, ident)
    proves = UUID(kept["proves"]) if kept["proves"] else None
    if proves is not None:
        _prove(service, viewer, proves, found)
    return Finished(viewer, kept["then"], row.id, claimed.session, token, proves)


def open_session(service: Service, finished: Finished, device: str, origin: str) -> authentication.Opened:
    """A session of somebody who came by a provider, and which ends when they sign out there."""
    opened = authentication.open_session(service, replace(finished.viewer, proved_at=service.clock()), device, origin)
    with transaction(service.engine, finished.viewer.organisation) as db:
        row = db.scalars(
            select(WebSession).where(WebSession.token_hash == hashlib.sha256(opened.token.encode()).digest())
        )
        session = row.one()
        session.provider_id, session.provider_session = finished.provider, finished.session
        session.provider_token = service.cipher.encrypt(finished.token.encode())
    return opened


def address_to_sign_out(service: Service, viewer: Viewer) -> str:
    """Where whoever came by a provider signs out there, too; empty for anybody else, and where it can't be done."""
    with transaction(service.engine, viewer.organisation) as db:
        wanted = select(WebSession.provider_id, WebSession.provider_token).where(WebSession.id == viewer.credential)
        found = db.execute(wanted).one_or_none()
    if found is None or found.provider_id is None:
        return ""
    token = service.cipher.decrypt(found.provider_token).decode() if found.provider_token else ""
    row = providers.get(service, found.provider_id)
    return openid.end_session_address(providers.spoken_with(service, row), token, f"{service.address}/sign-in")


def end_by_provider(service: Service, token: str) -> int:
    """End the sessions that a logout token names; returns how many. NotSignedIn for one that is none, or was used."""
    count, known = 0, _issuers_of(service, token)
    for row in known:
        found = openid.verify_logout(providers.spoken_with(service, row), token)
        with service.unit(Viewer.itself(row.organisation_id)) as unit:
            used_tokens.use_once(unit.db, row.organisation_id, unit.now, f"{row.id} {found['jti']}")
            count += _end_sessions(unit, row, str(found.get("sid") or ""), str(found.get("sub") or ""))
    if not known:
        raise NotSignedIn("No provider that is known here has made this token.", "Register this provider first.")
    return count


def _issuers_of(service: Service, token: str) -> list[IdentityProvider]:
    """The providers that a token says to come from; what it says is not trusted yet."""
    claimed = openid.unverified(token)
    audience = claimed.get("aud")
    clients = [str(one) for one in audience] if isinstance(audience, list) else [str(audience)]
    issuer = str(claimed.get("iss") or "").rstrip("/")
    with transaction(service.engine, None) as db:
        wanted = select(IdentityProvider.id).where(
            IdentityProvider.issuer == issuer, IdentityProvider.client_id.in_(clients)
        )
        idents = list(db.scalars(wanted))
    return [providers.get(service, ident) for ident in idents]


def _end_sessions(unit: Unit, row: IdentityProvider, session: str, subject: str) -> int:
    theirs = select(ProviderSubject.sign_in_id).where(
        ProviderSubject.provider_id == row.id, ProviderSubject.subject == subject
    )
    which = [WebSession.provider_id == row.id]
    # With a session it is that one; without, all of the subject's.
    which += [WebSession.provider_session == session] if session else []
    which += [WebSession.sign_in_id.in_(theirs)] if subject else []
    ended = list(unit.db.scalars(delete(WebSession).where(*which).returning(WebSession.sign_in_id)))
    for sign_in in sorted(set(ended)):
        person = unit.db.get_one(Person, unit.db.get_one(SignIn, sign_in).person_id)
        unit.record("sign_in.closed", "sign_in", sign_in, person.name, by=row.name, count=ended.count(sign_in))
    return len(ended)


def _callback(service: Service) -> str:
    return f"{service.address}{providers.CALLBACK}"


def _sign_in_of(unit: Unit, row: IdentityProvider, claimed: Claimed) -> SignIn:
    """Whose sign-in it is: by the subject, or the first time by the address that the provider has verified."""
    bound = select(SignIn).join(ProviderSubject, ProviderSubject.sign_in_id == SignIn.id)
    bound = bound.where(ProviderSubject.provider_id == row.id, ProviderSubject.subject == claimed.subject)
    found = unit.db.scalars(bound).one_or_none()
    if found is not None:
        return found
    if not claimed.address or not claimed.is_verified:
        raise NotSignedIn(
            f"{row.name} did not say which address is yours, or has not verified it.",
            "Have your address verified there, or sign in with a password.",
        )
    found = unit.db.scalars(select(SignIn).where(SignIn.address == claimed.address)).one_or_none()
    found = found or _made(unit, row, claimed)
    # Whoever signs in there with somebody's address later has another subject, and does not get in as them.
    taken = select(ProviderSubject.id).where(
        ProviderSubject.provider_id == row.id, ProviderSubject.sign_in_id == found.id
    )
    if unit.db.scalar(taken) is not None:
        raise NotSignedIn(
            f"{claimed.address} is known here as somebody else of {row.name}.",
            "Ask an administrator to remove your sign-in and invite you again.",
        )
    values = {"provider_id": row.id, "subject": claimed.subject, "sign_in_id": found.id}
    unit.db.add(ProviderSubject(organisation_id=row.organisation_id, **values))
    unit.db.flush()
    person = unit.db.get_one(Person, found.person_id)
    unit.record("provider.subject_bound", "sign_in", found.id, person.name, provider=row.name)
    notices.tell_and_write(
        unit, [found.person_id], "sign_in", f"You signed in by {row.name} for the first time.", "/me"
    )
    return found


def _made(unit: Unit, row: IdentityProvider, claimed: Claimed) -> SignIn:
    """A sign-in for somebody of the register, without a password that anybody knows."""
    wanted = select(Person).where(func.lower(Person.address) == claimed.address, Person.standing != Standing.LEFT)
    people = list(unit.db.scalars(wanted.limit(2)))
    if len(people) != 1:
        raise NotSignedIn(
            f"Nobody here has the address {claimed.address}.",
            "Ask an administrator to record you, or which of your addresses is known here.",
        )
    (person,) = people
    if unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person.id)) is not None:
        raise NotSignedIn("You sign in here with another address.", "Sign in with it, or ask an administrator.")
    found = SignIn(
        organisation_id=row.organisation_id,
        person_id=person.id,
        address=claimed.address,
        password_hash=authentication.hashed(secrets.token_urlsafe(32)),
        role=Role.MEMBER,
    )
    unit.db.add(found)
    unit.db.flush()
    unit.record("sign_in.made", "sign_in", found.id, person.name, provider=row.name)
    return found


def _refuse_missing_factor(unit: Unit, row: IdentityProvider, sign_in: SignIn) -> None:
    """A second factor that somebody has set up here is not passed by."""
    asks_there = providers.reading(row).asks_for_second_factor
    if sign_in.has_factor and not asks_there:
        raise NotAllowed(
            f"Your sign-in has a second factor, and {row.name} is not set to ask for one.",
            "Sign in with your passkey, or password and code; or ask an administrator to have the provider ask.",
        )
    person = unit.db.get_one(Person, sign_in.person_id)
    if asks_there and not person.second_factor:
        person.second_factor = True
        unit.db.flush()
        unit.record("factor.seen", "sign_in", sign_in.id, person.name, provider=row.name)
        unit.wake("evaluate")


def _follow_role(unit: Unit, row: IdentityProvider, sign_in: SignIn, role: Role | None) -> None:
    """Give somebody the role that the provider says. The last administrator stays one."""
    if role is None or sign_in.role == role:
        return
    person = unit.db.get_one(Person, sign_in.person_id)
    try:
        if role is not Role.ADMINISTRATOR:
            sign_ins.refuse_last(unit, sign_in, f"{person.name} is {role}")
    except Conflict:
        sentence = f"{row.name} says that {person.name} is {role} now; they stay, since nobody else would administer."
        notices.tell_and_write(unit, list(notices.administrators(unit)), "sign_in", sentence, providers.PAGE)
        return
    before, sign_in.role = sign_in.role, role
    unit.db.flush()
    unit.record("sign_in.role_set", "sign_in", sign_in.id, person.name, before=before, role=role, by=row.name)


def _prove(service: Service, viewer: Viewer, session: UUID, found: JsonObject) -> None:
    """Note in a session here that somebody has proved just now who they are."""
    asked_at = found.get("auth_time")
    with service.unit(viewer) as unit:
        row = unit.db.get(WebSession, session)
        if row is None or row.sign_in_id != viewer.sign_in:
            raise NotSignedIn("Somebody else has signed in there.", "Sign in there as whoever you are here.")
        is_fresh = isinstance(asked_at, int) and unit.now.timestamp() - asked_at < FRESH_SECONDS
        if not is_fresh:
            raise NotAllowed("The provider has not asked you again who you are.", "Sign out there, and prove it again.")
        row.proved_at = unit.now
        unit.record("sign_in.proved", "sign_in", viewer.sign_in, viewer.name)
