"""What is in Open Latch as one of its own systems: sign-ins by their roles, and programs that are told or trusted.

Sessions are browsers that are signed in, API tokens, and calendar addresses. Nothing secret is read.
"""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert

from openlatch.adapters import (
    Coverage,
    Found,
    FoundLevel,
    Gap,
    Holding,
    Login,
    Presence,
    SharedAccount,
    Used,
    Whole,
    Why,
)
from openlatch.core.ids import new_id
from openlatch.core.vocabulary import Reach, Role
from openlatch.service.unit import Unit
from openlatch.store.tables import (
    ApiToken,
    Calendar,
    Handle,
    IdentityProvider,
    Invitation,
    Organisation,
    Person,
    PublishedKey,
    SignalSource,
    SignIn,
    System,
    Webhook,
    WebSession,
)

ACCOUNT = "open-latch"
TOLD, TRUSTED, REPORTS, DIRECTORY, SIGNS = "told", "trusted", "reports", "directory", "signs"
_OWN = ("latch.own", "See your own", Reach.OBSERVE)
LEVELS = (
    FoundLevel(Role.MEMBER, "Member", "Sees and answers what is about them.", (_OWN,)),
    FoundLevel(Role.AUDITOR, "Auditor", "Sees everything.", (("latch.see", "See everything", Reach.OBSERVE),)),
    FoundLevel(
        Role.REVIEWER,
        "Reviewer",
        "Decides on access in reviews.",
        (_OWN, ("latch.review", "Decide in reviews", Reach.OPERATE)),
    ),
    FoundLevel(
        Role.ADMINISTRATOR,
        "Administrator",
        "Gives and takes all access, and changes every setting.",
        (
            ("latch.see", "See everything", Reach.OBSERVE),
            ("latch.review", "Decide in reviews", Reach.OPERATE),
            ("latch.administer", "Give and take all access", Reach.STEWARD),
        ),
    ),
    FoundLevel(
        TOLD,
        "Is told",
        "Is told what is journalled, or of security events.",
        (("latch.told", "Be told what happens", Reach.OBSERVE),),
    ),
    FoundLevel(
        TRUSTED,
        "Says who people are",
        "Signs people in, and may say in which role.",
        (("latch.sign_in", "Sign people in", Reach.STEWARD),),
    ),
    FoundLevel(
        REPORTS,
        "Reports about people",
        "Reports security events, which may flag or end what somebody has.",
        (("latch.report", "Report about people", Reach.STEWARD),),
    ),
    FoundLevel(
        DIRECTORY,
        "Keeps people",
        "Adds, changes and deactivates people and teams.",
        (("latch.people", "Keep people and teams", Reach.STEWARD),),
    ),
    FoundLevel(
        SIGNS, "Signs evidence", "Signs evidence and the journal's heads.", (("latch.sign", "Sign", Reach.OPERATE),)
    ),
)


_LOOKED_AT = (
    *("sign-ins", "roles", "invitations", "sessions", "tokens", "calendar addresses"),
    *("webhooks", "sources and receivers of signals", "identity providers", "directories", "signing keys"),
)


def found(unit: Unit) -> Iterator[Found]:
    """Everything, with ``Whole`` at the end."""
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation)
    yield SharedAccount(ACCOUNT, f"Open Latch at {organisation.name}", "register")
    yield from LEVELS
    yield from _sign_ins(unit)
    yield from _invitations(unit)
    yield from _programs(unit)
    yield from _sessions(unit)
    yield Coverage(
        "",
        _LOOKED_AT,
        (
            Gap("the syslog server and mail server that are configured", Why.NOT_SUPPORTED),
            Gap("whoever reaches the database or the machine itself", Why.NOT_SUPPORTED),
        ),
    )
    yield Whole()


def name_logins(unit: Unit, kind: str) -> None:
    """Say whose each login is: the register knows that of its own, whatever addresses they have."""
    system = unit.db.scalar(select(System.id).where(System.kind == kind).limit(1))
    people = {str(row.id): row.person_id for row in unit.db.scalars(select(SignIn))}
    people |= {f"invitation:{row.id}": row.person_id for row in unit.db.scalars(select(Invitation))}
    if system is None or not people:
        return
    known = {"organisation_id": unit.viewer.organisation, "system_id": system, "settled": True}
    values = [{**known, "id": new_id(), "name": login, "person_id": person} for login, person in people.items()]
    unit.db.execute(insert(Handle).values(values).on_conflict_do_nothing())


def _sign_ins(unit: Unit) -> Iterator[Found]:
    rows = unit.db.execute(
        select(SignIn, Person).join(Person, Person.id == SignIn.person_id).order_by(SignIn.created_at, SignIn.id)
    )
    for row, person in rows:
        login = str(row.id)
        marks = {"address": person.address} if person.address else {}
        yield Login(login, f"{person.name}, {row.address}", False, marks, locked=row.suspended_at is not None)
        yield Holding(ACCOUNT, login, False, row.role, None, {"kind": "sign_in", "login": login})
        if row.last_seen_at is not None:
            yield Used(ACCOUNT, login, row.last_seen_at.date())


def _invitations(unit: Unit) -> Iterator[Found]:
    still = Invitation.runs_out_at > unit.now
    rows = unit.db.execute(select(Invitation, Person).join(Person, Person.id == Invitation.person_id).where(still))
    for row, person in rows:
        login = f"invitation:{row.id}"
        marks = {"address": person.address} if person.address else {}
        yield Login(login, f"{person.name}, invited as {row.address}", False, marks)
        yield Holding(ACCOUNT, login, False, row.role, row.runs_out_at, {"kind": "invitation", "login": login})


def _programs(unit: Unit) -> Iterator[Found]:
    hooks = unit.db.scalars(select(Webhook).order_by(Webhook.id)).all()
    sources = unit.db.scalars(select(SignalSource).order_by(SignalSource.id))
    trusted = unit.db.scalars(select(IdentityProvider).order_by(IdentityProvider.id))
    wanted = select(ApiToken).where(ApiToken.scope == "scim", ApiToken.expires_at > unit.now).order_by(ApiToken.id)
    tokens = unit.db.scalars(wanted).all()
    used = {str(token.id): token.last_used_at for token in tokens if token.last_used_at is not None}
    keys = unit.db.scalars(select(PublishedKey.x).where(PublishedKey.purpose == "evidence").order_by(PublishedKey.x))
    programs = [
        *(("webhook", str(one.id), f"Webhook {one.name}", TOLD) for one in hooks if one.kind == "journal"),
        *(("receiver", str(one.id), f"Receiver of signals {one.name}", TOLD) for one in hooks if one.kind == "signals"),
        *(("source", str(one.id), f"Source of signals {one.name}", REPORTS) for one in sources),
        *(("provider", str(one.id), f"Identity provider {one.name}", TRUSTED) for one in trusted),
        *(("directory", str(one.id), f"Directory {one.name}", DIRECTORY) for one in tokens),
        *(("key", x, f"Signing key {x[:8]}", SIGNS) for x in keys),
    ]
    for kind, ident, name, level in programs:
        login = f"{kind}:{ident}"
        yield Login(login, name, True)
        yield Holding(ACCOUNT, login, False, level, None, {"kind": kind, "login": login})
        if ident in used:
            yield Used(ACCOUNT, login, used[ident].date())


def _sessions(unit: Unit) -> Iterator[Found]:
    for one in unit.db.scalars(select(WebSession).where(WebSession.expires_at > unit.now).order_by(WebSession.id)):
        handle = {"kind": "browser", "id": str(one.id)}
        yield Presence(
            f"browser:{one.id}", str(one.sign_in_id), one.device, one.address, one.created_at, one.last_seen_at, handle
        )
    tokens = select(ApiToken).where(ApiToken.scope != "scim", ApiToken.expires_at > unit.now).order_by(ApiToken.id)
    for token in unit.db.scalars(tokens):
        seen = token.last_used_at or token.created_at
        handle = {"kind": "token", "id": str(token.id)}
        may = "API token that may only read" if token.scope == "read" else "API token"
        yield Presence(
            f"token:{token.id}", str(token.sign_in_id), f"{may}, {token.name}", "", token.created_at, seen, handle
        )
    rows = unit.db.execute(
        select(Calendar, SignIn.id).join(SignIn, SignIn.person_id == Calendar.person_id).order_by(Calendar.id)
    )
    for calendar, sign_in in rows:
        seen = calendar.read_at or calendar.made_at
        handle = {"kind": "calendar", "id": str(calendar.id)}
        yield Presence(f"calendar:{calendar.id}", str(sign_in), "Calendar address", "", calendar.made_at, seen, handle)
