"""Switching into an account and out again, and short-lived tokens by which a program acts there for somebody.

While somebody is inside, the journal records what they do as done on behalf of the account's owner. Tokens follow RFC
8693 (token exchange): the owner is the subject, and the ``act`` claim names who acts. Introspection (RFC 7662) checks
the access itself, so ending the access ends the token at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from uuid import UUID

import jwt
from sqlalchemy import select
from sqlalchemy.orm import Session as Db

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder, Register
from openlatch.core.time_windows import last_day
from openlatch.core.vocabulary import HolderKind, Standing
from openlatch.errors import BadInput, NotAllowed, NotFound, NotSignedIn
from openlatch.json_values import JsonObject
from openlatch.service import signing_keys
from openlatch.service.grants import usage
from openlatch.service.latches import guard
from openlatch.service.unit import Inside, Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.database import transaction
from openlatch.store.tables import Account, ApiToken, Person, SignIn, Visit, WebSession

TOKEN_LIFE = timedelta(minutes=5)


def _paths(unit: Unit, person: UUID, account: UUID) -> tuple[Register, list[access_paths.Path]]:
    holder = Holder(HolderKind.PERSON, person)
    register = subgraph.between(unit.db, holder, account)
    paths = access_paths.paths_to(register, holder, account, unit.now)
    return register, [path for path in paths if access_paths.open_now(register, path, unit.now)]


def rights(unit: Unit, there: Inside) -> schemas.InsideOf:
    """What the viewer may do inside an account, and until when."""
    assert unit.viewer.person is not None
    register, paths = _paths(unit, unit.viewer.person, there.account)
    ends = [path.window.until for path in paths]
    until = None if not ends or None in ends else max(e for e in ends if e is not None)
    return schemas.InsideOf(
        account=schemas.Named(id=there.account, name=there.account_name),
        owner=schemas.Named(id=there.owner, name=there.owner_name) if there.owner else None,
        levels=sorted({path.level.name for path in paths if path.level}),
        rights=sorted({p.sentence for p in access_paths.rights_of(paths)}),
        parts=sorted({path.part.name for path in paths if path.part}),
        until=until,
        last_day=last_day(until, register.accounts[there.account].zone),
        reach=int(max((path.reach for path in paths), default=0)),
    )


def inside_of(db: Db, visit: UUID | None) -> Inside | None:
    """The account of a visit, while the visit lasts."""
    row = db.get(Visit, visit) if visit else None
    if row is None or row.ended_at is not None:
        return None
    account = db.get_one(Account, row.account_id)
    owner = db.get(Person, row.owner_id) if row.owner_id else None
    scope = frozenset(row.scope.split()) if row.scope is not None else None
    return Inside(row.id, account.id, account.name, row.owner_id, owner.name if owner else "nobody", scope)


def enter(unit: Unit, ident: UUID) -> Unit:
    """Switch into an account that the viewer reaches as a delegate, leaving another one if necessary.

    Returns the unit as seen from inside.
    """
    if unit.viewer.person is None or not credentials(unit):
        raise NotAllowed("Only somebody who is signed in can switch.")
    leave(unit)
    unit = replace(unit, viewer=replace(unit.viewer, inside=None), _sight=None)
    visit = _begin(unit, ident, None)
    for held in credentials(unit):
        held.visit_id = visit.id
    return replace(unit, viewer=replace(unit.viewer, inside=inside_of(unit.db, visit.id)), _sight=None)


def _begin(unit: Unit, ident: UUID, runs_out: datetime | None) -> Visit:
    assert unit.viewer.person is not None
    account = unit.db.get(Account, ident)
    _, paths = _paths(unit, unit.viewer.person, ident)
    if account is None or not paths:
        raise NotFound("There is no such account that you can reach now.")
    if account.owner_id == unit.viewer.person:
        raise BadInput(f"{account.name} is your own.", "There is nobody on whose behalf to act there.")
    visit = Visit(
        organisation_id=unit.viewer.organisation,
        sign_in_id=unit.viewer.sign_in,
        person_id=unit.viewer.person,
        account_id=ident,
        owner_id=account.owner_id,
        by_token=runs_out is not None,
        began_at=unit.now,
        runs_out_at=runs_out,
    )
    unit.db.add(visit)
    unit.db.flush()
    usage.note(unit, (path.grants[-1] for path in paths if path.grants))
    owner = unit.db.get(Person, account.owner_id) if account.owner_id else None
    unit.record(
        "visit.began",
        "visit",
        visit.id,
        account.name,
        ident,
        on_behalf_of=owner.name if owner else None,
        by_token=visit.by_token,
    )
    return visit


def leave(unit: Unit) -> None:
    """Switch out again. Idempotent."""
    for held in credentials(unit):
        if held.visit_id is not None:
            visit = unit.db.get_one(Visit, held.visit_id)
            held.visit_id = None
            _end(unit, visit, "left")


def credentials(unit: Unit) -> list[WebSession | ApiToken]:
    """The session or token of the viewer; None for an exchanged token."""
    ident = unit.viewer.credential
    held = (unit.db.get(WebSession, ident), unit.db.get(ApiToken, ident)) if ident else ()
    return [row for row in held if row is not None]


def _end(unit: Unit, visit: Visit, how: str) -> None:
    if visit.ended_at is None:
        visit.ended_at, visit.ended_as = unit.now, how
        name = unit.db.get_one(Account, visit.account_id).name
        unit.record("visit.ended", "visit", visit.id, name, visit.account_id, how=how)


def end_those_without_access(unit: Unit) -> int:
    """End visits whose access or session is over, and tokens that ran out; gives how many. Called by the worker."""
    ended = 0
    carried = {
        *unit.db.scalars(select(WebSession.visit_id).where(WebSession.visit_id.is_not(None))),
        *unit.db.scalars(select(ApiToken.visit_id).where(ApiToken.visit_id.is_not(None))),
    }
    for visit in unit.db.scalars(select(Visit).where(Visit.ended_at.is_(None)).order_by(Visit.id).limit(1000)):
        if visit.runs_out_at is not None and visit.runs_out_at <= unit.now:
            _end(unit, visit, "run_out")
        elif not visit.by_token and visit.id not in carried:
            _end(unit, visit, "signed_out")
        elif not _paths(unit, visit.person_id, visit.account_id)[1]:
            _end(unit, visit, "access_over")
        else:
            continue
        ended += 1
    return ended


def others_inside(unit: Unit, account: UUID) -> list[schemas.OtherDelegate]:
    """The other delegates of the account that the viewer is inside, unless its latch keeps them unseen."""
    if guard.unseen(unit, account):
        return []
    register = subgraph.around_accounts(unit.db, [account])
    paths = access_paths.everyone_reaching(register, account, unit.now)
    found: dict[UUID, schemas.OtherDelegate] = {}
    for path in paths:
        if path.holder.kind is HolderKind.PERSON and path.holder.id != unit.viewer.person:
            row = schemas.OtherDelegate(
                name=register.name_of(path.holder), reach=int(path.reach), owns=path.level is None
            )
            found.setdefault(path.holder.id, row)
    return sorted(found.values(), key=lambda r: (not r.owns, r.name))


# Tokens.


@dataclass(frozen=True, slots=True)
class Exchanged:
    """An exchanged token: the token, its scope, its lifetime in seconds."""

    token: str
    scope: str
    seconds: int


class TooWide(BadInput):
    """The requested scope is more than the viewer has."""


def exchange(unit: Unit, account: UUID, scope: Sequence[str] | None = None) -> Exchanged:
    """A short-lived token by which a program acts in an account for the viewer (RFC 8693, section 2).

    With a ``scope``, only for these permissions. TooWide when the viewer does not have all of them.
    """
    if unit.viewer.inside is not None:
        raise NotAllowed("A token for an account can't be exchanged for another.", "Use your own token.")
    visit = _begin(unit, account, unit.now + TOKEN_LIFE)
    _, paths = _paths(unit, visit.person_id, account)
    has = {p.key for p in access_paths.rights_of(paths)}
    if scope is not None and not set(scope) <= has:
        lacking = ", ".join(sorted(set(scope) - has))
        raise TooWide(f"You have not {lacking} there.", f"There is: {' '.join(sorted(has))}.")
    given = " ".join(sorted(has if scope is None else set(scope)))
    visit.scope = given if scope is not None else None
    claims = {
        "iss": unit.service.address,
        "sub": str(visit.owner_id or account),
        "aud": str(account),
        "act": {"sub": str(visit.person_id), "name": unit.viewer.name},
        # Whoever asked for it, by the token of theirs that they showed (RFC 9068, section 2.2).
        "client_id": str(unit.viewer.credential or visit.person_id),
        "scope": given,
        "jti": str(visit.id),
        "org": str(unit.viewer.organisation),
        "iat": int(unit.now.timestamp()),
        "exp": int((unit.now + TOKEN_LIFE).timestamp()),
    }
    token = signing_keys.signed(unit.service, claims, "at+jwt")
    unit.record(
        "token.exchanged",
        "visit",
        visit.id,
        unit.viewer.name,
        account,
        levels=sorted({path.level.name for path in paths if path.level}),
    )
    return Exchanged(token, given, int(TOKEN_LIFE.total_seconds()))


def _claims(service: Service, token: str) -> JsonObject | None:
    try:
        claims = signing_keys.checked(service, token)
        # A token of another kind by the same key is no access token (RFC 9068, section 4).
        if jwt.get_unverified_header(token).get("typ", "").lower() not in ("at+jwt", "application/at+jwt"):
            return None
    # Its parts may be nested more deeply than can be read.
    except (jwt.PyJWTError, RecursionError):
        return None
    return claims if int(service.clock().timestamp()) < claims["exp"] else None


def introspect(unit: Unit, token: str) -> JsonObject:
    """Whether a token is active at this instant, and for what (RFC 7662, section 2.2)."""
    claims = _claims(unit.service, token)
    if claims is None or claims["org"] != str(unit.viewer.organisation):
        return {"active": False}
    visit = unit.db.get(Visit, UUID(claims["jti"]))
    if visit is None or visit.ended_at is not None:
        return {"active": False}
    _, paths = _paths(unit, visit.person_id, visit.account_id)
    if not paths:
        return {"active": False}
    has = {p.key for p in access_paths.rights_of(paths)}
    scope = " ".join(sorted(has if visit.scope is None else has & set(visit.scope.split())))
    told = ("iss", "sub", "aud", "act", "jti", "iat", "exp", "client_id")
    kept = {name: claims[name] for name in told if name in claims}
    return {"active": True, "token_type": "Bearer", "scope": scope, **kept}


def end_token(unit: Unit, token: str) -> None:
    """Revoke a token of one's own (RFC 7009). Unknown and expired tokens are ignored."""
    claims = _claims(unit.service, token)
    visit = unit.db.get(Visit, UUID(claims["jti"])) if claims else None
    if visit is not None and visit.person_id == unit.viewer.person:
        _end(unit, visit, "ended_by_program")


def viewer_of_exchanged(service: Service, token: str) -> Viewer:
    """Who acts by an exchanged token, inside its account. NotSignedIn when the token is not active."""
    claims = _claims(service, token)
    if claims is None:
        raise NotSignedIn("The token is not one of ours, or has run out.", "Exchange a new one.")
    with transaction(service.engine, UUID(claims["org"])) as db:
        visit = db.get(Visit, UUID(claims["jti"]))
        inside = inside_of(db, visit.id) if visit else None
        if visit is None or inside is None:
            raise NotSignedIn("This token has been ended.", "Exchange a new one.")
        person, sign_in = db.get_one(Person, visit.person_id), db.get_one(SignIn, visit.sign_in_id)
        if person.standing == Standing.LEFT:
            raise NotAllowed("This person has left the organisation; their sign-in is closed.")
        return Viewer(
            sign_in.organisation_id,
            person.name,
            person.id,
            sign_in.id,
            credential=visit.id,
            proved_at=datetime.fromtimestamp(0, UTC),
            inside=inside,
        )
