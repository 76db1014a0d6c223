"""Signing in: passwords by Argon2id, server-side sessions, API tokens, and a limit on tries.

Only hashes of tokens are stored. The parameters follow RFC 9106 (argon2-cffi's low-memory profile) and OWASP ASVS
5.0 chapters 6 and 7.
"""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import cache
from uuid import UUID

from argon2 import PasswordHasher, profiles
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.orm import Session as Db
from sqlalchemy.orm import undefer

from openlatch import schemas
from openlatch.core.identity import passwords
from openlatch.core.ids import new_id
from openlatch.core.states import RequestState
from openlatch.core.time_windows import zone_of
from openlatch.core.vocabulary import ItemState, Role, Standing, TokenScope
from openlatch.errors import BadInput, FactorNeeded, NotAllowed, NotFound, NotSignedIn, OrganisationNeeded, TooMany
from openlatch.service.acting import visits
from openlatch.service.identity import passkeys, recovery, second_factor, try_limits
from openlatch.service.identity.try_limits import Counted, Source
from openlatch.service.notifications import notices
from openlatch.service.unit import FRESH_PROOF, Service, Unit, Viewer
from openlatch.store import archive
from openlatch.store.database import transaction
from openlatch.store.tables import (
    AccessRequest,
    Account,
    ApiToken,
    ArchivedPart,
    IdentityProvider,
    Item,
    Notice,
    Organisation,
    PartnerLink,
    Passkey,
    Person,
    Round,
    SignIn,
    SignInLink,
    WebSession,
)

SESSION_HOURS = 12
TOKEN_DAYS = 90
TRIES = 10
# Resolution of when a session or token was last used.
NOTED_EVERY = timedelta(minutes=1)
# Most organisations at which one address can have a sign-in.
MOST_SIGN_INS = 5

_SLUG = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")
_HASHER = PasswordHasher.from_parameters(profiles.RFC_9106_LOW_MEMORY)


@cache
def _nobody() -> str:
    """A hash that no password fits, checked for unknown addresses so that the answer takes equally long."""
    return _HASHER.hash(secrets.token_urlsafe(16))


def warm_up() -> None:
    """Make what sign-ins need before the first of them, so that no answer takes longer than another."""
    _nobody()


@dataclass(frozen=True, slots=True)
class Factor:
    """What somebody gives besides their password: a code, a recovery code, or a passkey."""

    code: str = ""
    passkey: passkeys.Answer | None = None

    @property
    def is_given(self) -> bool:
        """Whether there is any."""
        return bool(self.code.strip()) or self.passkey is not None


NO_FACTOR = Factor()


@dataclass(frozen=True, slots=True)
class Opened:
    """A session just opened: its token, in clear only here, and when it ends."""

    token: str
    expires_at: datetime


def _digest(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def make_sign_in(
    db: Db, organisation: UUID, person: UUID, address: str, password: str, role: Role = Role.MEMBER
) -> None:
    """Make a sign-in for a person. BadInput for a password that is too weak, or an address that is taken."""
    known = (db.get_one(Person, person).name, db.get_one(Organisation, organisation).name, address)
    passwords.refuse_weak(password, known)
    taken = select(SignIn.id).where(SignIn.address == address.lower(), SignIn.organisation_id == organisation)
    if db.scalar(taken) is not None:
        raise BadInput("Somebody signs in with this address already.", "Sign in with it, or use another address.")
    db.add(
        SignIn(
            organisation_id=organisation,
            person_id=person,
            address=address.lower(),
            password_hash=_HASHER.hash(password),
            role=role,
        )
    )


def check_password(
    service: Service,
    address: str,
    password: str,
    origin: str,
    factor: Factor = NO_FACTOR,
    device: str = "",
    at: str = "",
) -> Viewer:
    """Whose address and password these are; ``at`` is an organisation's short name, for sign-ins at several.

    NotSignedIn when they do not match, with the same words and timing whichever is wrong; FactorNeeded when they match
    and the second ``factor`` is missing; OrganisationNeeded when they match at several organisations;
    TooMany while there are too many tries. A ``device`` that has signed in before, or a second factor, is not
    delayed by other people's tries.
    """
    address = address.strip().lower()
    known = _known(service, address, at)
    sources = [
        Source(f"address {address} from {origin}", TRIES),
        Source(f"address {address}", TRIES * 10),
        Source(f"origin {origin}", TRIES * 5),
    ]
    if any(_is_known(service, sign_in, device) for sign_in in known):
        sources = [Source(f"device {device}", TRIES)]
    counted = try_limits.count(service, sources)
    known = _with_factor(known, counted, factor)
    # Unknown addresses check a hash too, so that the answer takes equally long.
    fits = [sign_in for sign_in in known if _fits(sign_in.password_hash, password)]
    if not known:
        _fits(_nobody(), password)
    if not fits:
        if counted.wait:
            raise too_many(counted.wait)
        if counted.left == 0:
            for sign_in in known:
                _tell_of_tries(service, sign_in, origin)
        raise NotSignedIn("The address and the password do not fit together.", "Check both and try again.")
    sign_in = _only_one(service, fits, counted)
    if sign_in.has_factor:
        _check_factor(service, sign_in, factor, counted)
    try_limits.forgive(service, counted, sources[0])
    with transaction(service.engine, sign_in.organisation_id) as db:
        return replace(_viewer(db, sign_in.id, None, None, may_write=True), proved_at=service.clock())


def _only_one(service: Service, fits: Sequence[SignIn], counted: Counted) -> SignIn:
    """The one sign-in that matches. OrganisationNeeded when several do; not revealed to anyone who has to wait."""
    if len(fits) == 1:
        return fits[0]
    if counted.wait:
        raise too_many(counted.wait)
    try_limits.forgive(service, counted)
    raise _which(service, fits)


def check_passkey(service: Service, answer: passkeys.Answer, origin: str) -> Viewer:
    """Whose passkey this is, which has verified its owner. NotSignedIn for any other; TooMany after too many tries."""
    source = Source(f"origin {origin}", TRIES * 5)
    counted = try_limits.count(service, [source])
    if counted.wait:
        raise too_many(counted.wait)
    found = passkeys.check(service, answer, passkeys.Purpose.SIGN_IN)
    try_limits.forgive(service, counted)
    return replace(viewer_at(service, found.organisation_id, found.sign_in_id), proved_at=service.clock())


def _with_factor(known: Sequence[SignIn], counted: Counted, factor: Factor) -> list[SignIn]:
    """The sign-ins that may be tried: during a wait, only those that a password and a second factor open together."""
    if not counted.wait:
        return list(known)
    by_factor = [sign_in for sign_in in known if sign_in.has_factor and factor.is_given]
    if not by_factor:
        raise too_many(counted.wait)
    return by_factor


def _known(service: Service, address: str, at: str) -> list[SignIn]:
    """The sign-ins with an address: one for each organisation, or the one ``at`` it."""
    with transaction(service.engine, None) as db:
        wanted = select(SignIn).options(undefer(SignIn.password_hash)).where(SignIn.address == address)
        wanted = wanted.order_by(SignIn.id).limit(MOST_SIGN_INS)
        if at.strip():
            wanted = wanted.join(Organisation, Organisation.id == SignIn.organisation_id)
            wanted = wanted.where(Organisation.slug == at.strip().lower())
        return list(db.scalars(wanted))


def _which(service: Service, fits: Sequence[SignIn]) -> OrganisationNeeded:
    with transaction(service.engine, None) as db:
        there = Organisation.id.in_([sign_in.organisation_id for sign_in in fits])
        rows = db.execute(select(Organisation.name, Organisation.slug).where(there).order_by(Organisation.slug))
        named = ", ".join(f"{slug} ({name})" for name, slug in rows)
    return OrganisationNeeded("You have a sign-in at several organisations.", f"Say at which: {named}.")


def _check_factor(service: Service, sign_in: SignIn, factor: Factor, counted: Counted) -> None:
    if not factor.is_given:
        # The password was right, so this was not a guess; the second factor is asked for next.
        try_limits.forgive(service, counted)
        raise _factor_needed(service, sign_in)
    source = Source(f"code of {sign_in.id}", TRIES)
    guessed = try_limits.count(service, [source])
    if guessed.wait:
        raise too_many(counted.wait or guessed.wait)
    if factor.passkey is None:
        _check_code(service, sign_in, factor.code, counted, guessed)
        return
    try:
        passkeys.check(service, factor.passkey, passkeys.Purpose.FACTOR, sign_in.id)
    except NotSignedIn:
        # Whoever has to wait is not told that the password is right.
        if counted.wait:
            raise too_many(counted.wait) from None
        raise
    try_limits.forgive(service, guessed, source)


def _factor_needed(service: Service, sign_in: SignIn) -> FactorNeeded:
    asked = passkeys.ask_for(service, sign_in.organisation_id, sign_in.id, passkeys.Purpose.FACTOR)
    how = "Give the code that your second factor shows now, too."
    if sign_in.factor_since is None:
        how = "Use your passkey in a browser, or give a recovery code."
    elif asked is not None:
        how = "Give the code that your second factor shows now, or use your passkey."
    return FactorNeeded("The password is right.", how, asked.model_dump() if asked is not None else None)


def _check_code(service: Service, sign_in: SignIn, code: str, counted: Counted, guessed: Counted) -> None:
    with transaction(service.engine, sign_in.organisation_id) as db:
        row = db.get_one(SignIn, sign_in.id, with_for_update=True)
        now = service.clock()
        if second_factor.take(service.cipher, row, code, now) or recovery.take(db, row, code, now):
            try_limits.forgive(service, guessed, Source(f"code of {sign_in.id}", TRIES))
            return
    if counted.wait:
        raise too_many(counted.wait)
    raise NotSignedIn("The code does not fit.", "Wait for the next code, and give that one.")


def check_factor(service: Service, organisation: UUID, ident: UUID, factor: Factor) -> None:
    """Check the second factor of a sign-in that has one. NotSignedIn for a wrong one, FactorNeeded for none."""
    with transaction(service.engine, organisation) as db:
        sign_in = db.get_one(SignIn, ident)
    if sign_in.has_factor:
        _check_factor(service, sign_in, factor, Counted())


def viewer_at(service: Service, organisation: UUID, ident: UUID) -> Viewer:
    """The viewer of a sign-in, without a session yet. NotAllowed for a closed one."""
    with transaction(service.engine, organisation) as db:
        return _viewer(db, ident, None, None, may_write=True)


def too_many(wait: int) -> TooMany:
    """The error for somebody who has to wait, in seconds."""
    return TooMany(
        "Too many tries to sign in have failed.",
        f"Wait {wait} seconds, or sign in on a device on which you have before, or with your second factor.",
        wait=wait,
    )


def _tell_of_tries(service: Service, sign_in: SignIn, origin: str) -> None:
    """Tell somebody that their password is being guessed, once the free tries are used up."""
    with service.unit(Viewer.itself(sign_in.organisation_id)) as unit:
        sentence = f"Somebody has tried {TRIES} times to sign in as you, from {origin}, with passwords that do not fit."
        notices.tell_and_write(unit, [sign_in.person_id], "sign_in_tried", sentence, "/me")
        unit.record("sign_in.tried", "sign_in", sign_in.id, sign_in.address, origin=origin)


def device_of(service: Service, sign_in: SignIn, device: str = "") -> str:
    """The mark stored on a device on which somebody has signed in; a new one, or what ``device`` should be.

    It ends with the password.
    """
    named = device.partition(".")[0] or secrets.token_urlsafe(12)
    kept = f"{sign_in.id} {sign_in.password_hash} {named}".encode()
    return f"{named}.{hmac.new(service.signing_seed + b'device', kept, hashlib.sha256).hexdigest()}"


def _is_known(service: Service, sign_in: SignIn, device: str) -> bool:
    return hmac.compare_digest(device_of(service, sign_in, device).encode(), device.encode("utf-8", "replace"))


def remember_device(service: Service, viewer: Viewer) -> str:
    """The mark for the device on which somebody has just signed in."""
    with transaction(service.engine, viewer.organisation) as db:
        return device_of(service, db.get_one(SignIn, viewer.sign_in))


def prove(unit: Unit, password: str, factor: Factor, origin: str, device: str = "") -> datetime:
    """Prove again that the viewer is who they are; returns until when that counts."""
    row = unit.db.get(SignIn, unit.viewer.sign_in) if unit.viewer.sign_in else None
    if row is None or unit.viewer.credential is None:
        raise NotAllowed("This way of signing in can't prove anything.", "Sign in with your password.")
    if factor.passkey is not None and not password:
        passkeys.check(unit.service, factor.passkey, passkeys.Purpose.PROOF, row.id)
    else:
        slug = unit.db.get_one(Organisation, row.organisation_id).slug
        who = check_password(unit.service, row.address, password, origin, factor, device, slug)
        if who.person != unit.viewer.person:
            raise NotSignedIn("That is somebody else's password.", "Give your own.")
    for held in visits.credentials(unit):
        held.proved_at = unit.now
    unit.record("sign_in.proved", "sign_in", unit.viewer.sign_in, unit.viewer.name)
    return unit.now + FRESH_PROOF


def suggest_password() -> str:
    """A strong password that can be dictated: four groups of five letters and digits, about 100 bits."""
    letters = "abcdefghjkmnpqrstuvwxyz23456789"
    return "-".join("".join(secrets.choice(letters) for _ in range(5)) for _ in range(4))


def hashed(password: str) -> str:
    """The hash of a password."""
    return _HASHER.hash(password)


def _fits(stored: str, password: str) -> bool:
    try:
        return _HASHER.verify(stored, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


def _viewer(
    db: Db, sign_in: UUID, credential: WebSession | ApiToken | None, visit: UUID | None, may_write: bool
) -> Viewer:
    wanted = select(SignIn, Person).join(Person, Person.id == SignIn.person_id).where(SignIn.id == sign_in)
    known, person = db.execute(wanted).one()
    if person.standing == Standing.LEFT:
        raise NotAllowed("This person has left the organisation; their sign-in is closed.")
    if known.suspended_at is not None:
        raise NotAllowed("This sign-in is suspended.", "Ask an administrator of your organisation.")
    return Viewer(
        known.organisation_id,
        person.name,
        person.id,
        known.id,
        administrator=bool(known.administrator),
        auditor=known.role == Role.AUDITOR,
        may_write=may_write,
        credential=credential.id if credential else None,
        proved_at=credential.proved_at if credential else None,
        inside=visits.inside_of(db, visit),
    )


def open_session(service: Service, viewer: Viewer, device: str, origin: str, proved: bool = True) -> Opened:
    """A server-side session for somebody whose password was right, or who switched over without having ``proved``
    it.
    """
    opened = Opened(secrets.token_urlsafe(32), service.clock() + timedelta(hours=SESSION_HOURS))
    with service.unit(viewer) as unit:
        unit.db.add(
            WebSession(
                organisation_id=viewer.organisation,
                sign_in_id=viewer.sign_in,
                token_hash=_digest(opened.token),
                expires_at=opened.expires_at,
                device=device[:200],
                address=origin,
                proved_at=unit.now if proved else None,
            )
        )
        unit.db.execute(update(SignIn).where(SignIn.id == viewer.sign_in).values(last_seen_at=unit.now))
        unit.record("sign_in.opened", "sign_in", viewer.sign_in, viewer.name, device=device[:200], origin=origin)
    return opened


def viewer_of_session(service: Service, token: str, csrf: str | None) -> Viewer:
    """Who a session's token belongs to. NotSignedIn for an unknown or ended one.

    ``csrf`` is given for calls that change something, and has to be the session's own; None for reading.
    """
    with transaction(service.engine, None) as db:
        session = db.scalars(select(WebSession).where(WebSession.token_hash == _digest(token))).first()
    if session is None or session.expires_at <= service.clock():
        raise NotSignedIn("This session has ended.", "Sign in again.")
    if csrf is not None and not hmac.compare_digest(csrf_of(token).encode(), csrf.encode("utf-8", "replace")):
        raise NotAllowed("The call does not carry this session's token.", "Reload the page and try again.")
    _note_seen(service, session)
    with transaction(service.engine, session.organisation_id) as db:
        return _viewer(db, session.sign_in_id, session, session.visit_id, may_write=True)


def _note_seen(service: Service, held: WebSession | ApiToken) -> None:
    """Record that a session or token was used, to the minute, so that most requests write nothing."""
    now = service.clock()
    last = held.last_seen_at if isinstance(held, WebSession) else held.last_used_at
    if last is not None and last > now - NOTED_EVERY:
        return
    with transaction(service.engine, held.organisation_id) as db:
        if isinstance(held, WebSession):
            db.execute(update(WebSession).where(WebSession.id == held.id).values(last_seen_at=now))
        else:
            db.execute(update(ApiToken).where(ApiToken.id == held.id).values(last_used_at=now))
        db.execute(update(SignIn).where(SignIn.id == held.sign_in_id).values(last_seen_at=now))


def csrf_of(token: str) -> str:
    """The CSRF token of a session: readable by our pages, not by other sites."""
    return hmac.new(token.encode(), b"csrf", hashlib.sha256).hexdigest()


def close_session(service: Service, viewer: Viewer, token: str) -> None:
    """End a session, at once and everywhere."""
    with service.unit(viewer) as unit:
        unit.db.execute(delete(WebSession).where(WebSession.token_hash == _digest(token)))
        unit.record("sign_in.closed", "sign_in", viewer.sign_in, viewer.name)


def make_token(service: Service, viewer: Viewer, name: str, scope: str) -> tuple[UUID, str, datetime]:
    """An API token: its id, the token itself (shown only now), and when it runs out. ``scope``: read or write."""
    with service.unit(viewer) as unit:
        return make_token_in(unit, name, scope, TOKEN_DAYS)


def make_token_in(unit: Unit, name: str, scope: str, days: int) -> tuple[UUID, str, datetime]:
    """The same within a transaction, for so many days."""
    viewer = unit.viewer
    if not viewer.may_write:
        raise NotAllowed("A token that may only read can't make tokens.", "Sign in with your password.")
    if viewer.auditor and scope != TokenScope.READ:
        raise NotAllowed("An auditor changes nothing.", "Make a token with the scope read.")
    token = f"olt_{secrets.token_urlsafe(32)}"
    row = ApiToken(
        organisation_id=viewer.organisation,
        sign_in_id=viewer.sign_in,
        name=name,
        token_hash=_digest(token),
        scope=scope,
        expires_at=unit.now + timedelta(days=days),
        proved_at=viewer.proved_at,
    )
    unit.db.add(row)
    unit.db.flush()
    unit.record("token.made", "token", row.id, name, scope=scope, expires_at=row.expires_at)
    return row.id, token, row.expires_at


def viewer_of_token(service: Service, token: str) -> Viewer:
    """Who an API token belongs to. NotSignedIn for an unknown or run-out one."""
    with transaction(service.engine, None) as db:
        row = db.scalars(select(ApiToken).where(ApiToken.token_hash == _digest(token))).first()
    if row is None or row.expires_at <= service.clock():
        raise NotSignedIn("The token is unknown or has run out.", "Make a new one: openlatch login.")
    if row.scope == TokenScope.SCIM:
        raise NotSignedIn("This token is for a directory.", "It is good for /scim/v2 alone.")
    _note_seen(service, row)
    with transaction(service.engine, row.organisation_id) as db:
        return _viewer(db, row.sign_in_id, row, row.visit_id, may_write=row.scope == TokenScope.WRITE)


def viewer_of_directory(service: Service, token: str) -> Viewer:
    """The directory that a token was made for: it acts for the organisation, and nobody's name stands for it.

    NotSignedIn for any other token; NotAllowed when whoever made it does not administer any more.
    """
    with transaction(service.engine, None) as db:
        row = db.scalars(select(ApiToken).where(ApiToken.token_hash == _digest(token))).first()
    if row is None or row.expires_at <= service.clock() or row.scope != TokenScope.SCIM:
        raise NotSignedIn("This token is not one of a directory.", "Have an administrator make one.")
    _note_seen(service, row)
    with transaction(service.engine, row.organisation_id) as db:
        maker = _viewer(db, row.sign_in_id, row, None, may_write=True)
    if not maker.administrator:
        raise NotAllowed("Whoever made this token does not administer any more.", "Have an administrator make one.")
    return Viewer(row.organisation_id, f"Directory “{row.name}”", administrator=True)


def end_token(unit: Unit, ident: UUID) -> None:
    """End one of the viewer's own tokens. NotFound for any other."""
    row = unit.db.get(ApiToken, ident)
    if row is None or row.sign_in_id != unit.viewer.sign_in:
        raise NotFound("You have no such token.")
    unit.db.delete(row)
    unit.record("token.ended", "token", ident, row.name)


def end_token_itself(unit: Unit, token: str) -> None:
    """End one of the viewer's own API tokens, given as it is; nothing happens for one that is not."""
    row = unit.db.scalars(select(ApiToken).where(ApiToken.token_hash == _digest(token))).first()
    if row is not None and row.sign_in_id == unit.viewer.sign_in:
        end_token(unit, row.id)


def describe(unit: Unit) -> schemas.Me:
    """Who the viewer is and what they can do, for the console and ``openlatch whoami``."""
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation)
    items = select(func.count(Item.id)).where(Item.reviewer_id == unit.viewer.person)
    owned = select(func.count(Account.id)).where(Account.owner_id == unit.viewer.person)
    waiting = select(func.count(Item.id)).join(Round, Round.id == Item.round_id).where(unit.sight.my_items())
    waiting = waiting.where(Item.state == ItemState.UNDECIDED, Round.closed_at.is_(None))
    asked = select(func.count(AccessRequest.id)).where(
        unit.sight.requests(),
        AccessRequest.state == RequestState.PENDING,
        AccessRequest.person_id != unit.viewer.person,
    )
    unread = select(func.count(Notice.id)).where(unit.sight.notices(), Notice.read_at.is_(None))
    assert unit.viewer.person is not None
    return schemas.Me(
        person=schemas.Named(id=unit.viewer.person, name=unit.viewer.name),
        organisation=schemas.Organisation(id=organisation.id, name=organisation.name, time_zone=organisation.time_zone),
        administrator=unit.viewer.administrator and unit.viewer.inside is None,
        auditor=unit.viewer.auditor and unit.viewer.inside is None,
        preferences=_preferences(unit),
        owner=bool(unit.db.scalar(owned)),
        reviewer=bool(unit.db.scalar(items)),
        may_write=unit.viewer.may_write,
        inside=visits.rights(unit, unit.viewer.inside) if unit.viewer.inside else None,
        elsewhere=_elsewhere(unit),
        as_partner=_as_partner(unit),
        notices=unit.db.scalar(unread) or 0,
        to_decide=unit.db.scalar(waiting) or 0,
        to_answer=unit.db.scalar(asked) or 0,
        provider=_provider(unit),
        has_passkey=_has_passkey(unit),
        archived_until=_archived_until(unit),
    )


def _archived_until(unit: Unit) -> datetime | None:
    of_journal = select(func.max(ArchivedPart.until)).where(ArchivedPart.kind == archive.JOURNAL)
    return unit.db.scalar(of_journal)


def _has_passkey(unit: Unit) -> bool:
    mine = select(Passkey.id).where(Passkey.sign_in_id == unit.viewer.sign_in).limit(1)
    return unit.viewer.sign_in is not None and unit.db.scalar(mine) is not None


def _provider(unit: Unit) -> schemas.Named | None:
    """The identity provider by which the viewer's session was opened."""
    by = select(IdentityProvider.id, IdentityProvider.name).join(
        WebSession, WebSession.provider_id == IdentityProvider.id
    )
    found = unit.db.execute(by.where(WebSession.id == unit.viewer.credential)).one_or_none()
    return schemas.Named(id=found.id, name=found.name) if found is not None else None


def _elsewhere(unit: Unit) -> int:
    """At how many other organisations the viewer has a linked sign-in."""
    mine = unit.viewer.sign_in
    linked = select(func.count(SignInLink.id)).where(or_(SignInLink.one_id == mine, SignInLink.other_id == mine))
    return unit.db.scalar(linked) or 0


def _as_partner(unit: Unit) -> bool:
    """Whether the viewer is here as somebody of a partner organisation."""
    of_partner = select(PartnerLink.id).where(
        PartnerLink.client_id == unit.viewer.organisation,
        PartnerLink.ended_at.is_(None),
        PartnerLink.people.contains([{"there": str(unit.viewer.person)}]),
    )
    return unit.db.scalar(of_partner.limit(1)) is not None


def _preferences(unit: Unit) -> schemas.Preferences:
    row = unit.db.get(SignIn, unit.viewer.sign_in) if unit.viewer.sign_in else None
    held = row.preferences if row is not None else {}
    return schemas.Preferences(
        time_zone=held.get("time_zone"), locale=held.get("locale"), no_mail=held.get("no_mail", [])
    )


def service_viewer(service: Service, slug: str) -> Viewer:
    """The service itself as a viewer of the organisation with that short name. NotFound for an unknown one."""
    with transaction(service.engine, None) as db:
        ident = db.scalars(select(Organisation.id).where(Organisation.slug == slug)).first()
    if ident is None:
        raise NotFound(f"There is no organisation {slug!r}.")
    return Viewer.itself(ident)


def make_organisation(
    service: Service, name: str, slug: str, time_zone: str, administrator: str, address: str, password: str
) -> Viewer:
    """Make an organisation with its first administrator, who can sign in.

    BadInput for an unknown time zone, an invalid short name, and an address that is taken.
    """
    try:
        zone_of(time_zone)
    except ValueError as error:
        raise BadInput(f"There is no time zone {time_zone!r}.", "Write one like Europe/London.") from error
    if not _SLUG.fullmatch(slug) or not name.strip():
        raise BadInput(f"{slug!r} can't be a short name.", "Use small letters, digits and hyphens, up to 40.")
    viewer = Viewer.itself(new_id())
    with service.unit(viewer) as unit:
        unit.db.add(Organisation(id=viewer.organisation, name=name, slug=slug, time_zone=time_zone))
        unit.db.flush()
        person = Person(organisation_id=viewer.organisation, name=administrator, address=address.lower(), inside=True)
        unit.db.add(person)
        unit.db.flush()
        make_sign_in(unit.db, viewer.organisation, person.id, address, password, Role.ADMINISTRATOR)
        unit.record("organisation.made", "organisation", viewer.organisation, name, administrator=administrator)
    return viewer
