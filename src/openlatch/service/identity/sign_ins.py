"""Administering sign-ins: roles, suspension, ending sessions and tokens, removal.

There is always an administrator. Every change needs a fresh proof, and all administrators are notified.
"""

from __future__ import annotations

from typing import cast
from uuid import UUID

from sqlalchemy import ColumnElement, ScalarSelect, delete, func, or_, select

from openlatch import schemas
from openlatch.core.vocabulary import Role, Standing
from openlatch.errors import Conflict, NotFound
from openlatch.service import locks
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.tables import (
    ApiToken,
    DeviceRequest,
    IdempotencyKey,
    Passkey,
    PasswordReset,
    Person,
    ProviderSubject,
    RecoveryCode,
    SignIn,
    SignInLink,
    Visit,
    WebSession,
)

PAGE = "/sign-ins"


def rows(unit: Unit) -> list[schemas.SignInOf]:
    """Every sign-in: who, in which role, when last seen, and how many sessions and tokens are open."""
    unit.sight.require_administrator()
    sessions = _counted(WebSession, WebSession.expires_at > unit.now)
    tokens = _counted(ApiToken, ApiToken.expires_at > unit.now)
    found = unit.db.execute(
        select(SignIn, Person, sessions, tokens).join(Person, Person.id == SignIn.person_id).order_by(Person.name)
    )
    return [_shown(row, person, open_sessions, open_tokens) for row, person, open_sessions, open_tokens in found]


def _counted(table: type[WebSession | ApiToken], *where: ColumnElement[bool]) -> ScalarSelect[int]:
    return select(func.count(table.id)).where(table.sign_in_id == SignIn.id, *where).correlate(SignIn).scalar_subquery()


def _shown(row: SignIn, person: Person, sessions: int, tokens: int) -> schemas.SignInOf:
    return schemas.SignInOf(
        id=row.id,
        person=schemas.Named(id=person.id, name=person.name),
        address=row.address,
        role=cast("schemas.RoleName", row.role),
        standing=person.standing,
        suspended_at=row.suspended_at,
        second_factor=row.has_factor,
        last_seen_at=row.last_seen_at,
        sessions=sessions,
        tokens=tokens,
    )


def one(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """One sign-in."""
    return next(row for row in rows(unit) if row.id == ident)


def _locked(unit: Unit, ident: UUID, why: str) -> tuple[SignIn, Person]:
    """A sign-in to be changed, locked, after a fresh proof."""
    unit.sight.require_administrator()
    # Serialised: two administrators removing each other's role would leave none.
    locks.access(unit)
    row = unit.db.get(SignIn, ident, with_for_update=True, populate_existing=True)
    if row is None:
        raise NotFound("There is no such sign-in.")
    unit.require_proof(why)
    return row, unit.db.get_one(Person, row.person_id)


def refuse_last(unit: Unit, row: SignIn, doing: str) -> None:
    """Conflict for the last administrator."""
    others = (
        select(func.count(SignIn.id))
        .join(Person, Person.id == SignIn.person_id)
        .where(SignIn.administrator.is_(True), SignIn.id != row.id, Person.standing != Standing.LEFT)
    )
    if row.administrator and not unit.db.scalar(others):
        raise Conflict(f"Nobody would administer the organisation after {doing}.", "Make somebody else one first.")


def refuse_none(unit: Unit) -> None:
    """Conflict when there was an administrator, and now there is none who has not left."""
    of = select(SignIn.person_id).where(SignIn.role == Role.ADMINISTRATOR)
    there = of.join(Person, Person.id == SignIn.person_id).where(
        SignIn.suspended_at.is_(None), Person.standing != Standing.LEFT
    )
    unit.db.flush()
    if unit.db.scalar(of.limit(1)) is not None and unit.db.scalar(there.limit(1)) is None:
        raise Conflict(
            "Nobody would administer the organisation any more.", "Make somebody else an administrator first."
        )


def _tell(unit: Unit, sentence: str, *also: UUID) -> None:
    told = (notices.administrators(unit) | set(also)) - {unit.viewer.person}
    notices.tell_and_write(unit, told, "sign_in", sentence, PAGE)


def set_role(unit: Unit, ident: UUID, role: Role) -> schemas.SignInOf:
    """Set the role of a sign-in. Conflict when no administrator would be left."""
    row, person = _locked(unit, ident, "Changing a role")
    if row.role != role:
        if role is not Role.ADMINISTRATOR:
            refuse_last(unit, row, f"{person.name} is {role}")
        before, row.role = row.role, role
        unit.db.flush()
        unit.record("sign_in.role_set", "sign_in", row.id, person.name, before=before, role=role)
        _tell(unit, f"{unit.viewer.name} made {person.name} {_article(role)} (before: {before}).", person.id)
        unit.db.refresh(row)
    return one(unit, ident)


def _article(role: Role) -> str:
    return f"an {role}" if role[0] in "aeiou" else f"a {role}"


def set_suspended(unit: Unit, ident: UUID, is_suspended: bool) -> schemas.SignInOf:
    """Suspend a sign-in, which ends its sessions and tokens at once, or resume it."""
    row, person = _locked(unit, ident, "Suspending a sign-in")
    if (row.suspended_at is not None) != is_suspended:
        if is_suspended:
            refuse_last(unit, row, f"{person.name} is suspended")
            close_all(unit, row)
            unit.wake("link_partners")
        row.suspended_at = unit.now if is_suspended else None
        unit.db.flush()
        how = "suspended" if is_suspended else "resumed"
        unit.record(f"sign_in.{how}", "sign_in", row.id, person.name)
        _tell(unit, f"{unit.viewer.name} {how} the sign-in of {person.name}.", person.id)
        unit.db.refresh(row)
    return one(unit, ident)


def end_sessions(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """End all sessions of a sign-in."""
    row, person = _locked(unit, ident, "Ending somebody's sessions")
    count = _end(unit, WebSession, WebSession.sign_in_id == row.id)
    unit.record("sign_in.sessions_ended", "sign_in", row.id, person.name, count=count)
    _tell(unit, f"{unit.viewer.name} ended the sessions of {person.name} ({count}).", person.id)
    return one(unit, ident)


def end_tokens(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """End all API tokens of a sign-in."""
    row, person = _locked(unit, ident, "Ending somebody's tokens")
    count = _end(unit, ApiToken, ApiToken.sign_in_id == row.id)
    _forget_devices(unit, row)
    unit.record("sign_in.tokens_ended", "sign_in", row.id, person.name, count=count)
    _tell(unit, f"{unit.viewer.name} ended the API tokens of {person.name} ({count}).", person.id)
    return one(unit, ident)


def _end(unit: Unit, table: type[WebSession | ApiToken], which: ColumnElement[bool]) -> int:
    return len(unit.db.scalars(delete(table).where(which).returning(table.id)).all())


def _forget_devices(unit: Unit, row: SignIn) -> None:
    unit.db.execute(delete(DeviceRequest).where(DeviceRequest.sign_in_id == row.id))


def close_all(unit: Unit, row: SignIn, but: UUID | None = None) -> None:
    """End every session and token of a sign-in, except ``but``, the one the viewer came by; nothing that it let in
    collects one after that.
    """
    _forget_devices(unit, row)
    for table in (WebSession, ApiToken):
        which = table.sign_in_id == row.id
        _end(unit, table, which if but is None else which & (table.id != but))


def end_other_sessions(unit: Unit, row: SignIn) -> int:
    """End every session of a sign-in except the viewer's own; returns how many."""
    return _end(unit, WebSession, (WebSession.sign_in_id == row.id) & (WebSession.id != unit.viewer.credential))


def reset_factor(unit: Unit, ident: UUID) -> schemas.SignInOf:
    """Remove somebody's second factor, passkeys and recovery codes, so that they can set up another."""
    row, person = _locked(unit, ident, "Resetting a second factor")
    if not row.has_factor:
        raise Conflict(f"{person.name} has no second factor.", "There is nothing to reset.")
    row.factor_secret, row.factor_since, row.factor_step, person.second_factor = None, None, None, False
    for table in (RecoveryCode, Passkey):
        unit.db.execute(delete(table).where(table.sign_in_id == row.id))
    unit.db.expire(row, ["has_passkey"])
    close_all(unit, row)
    unit.wake("evaluate")
    unit.record("factor.reset", "sign_in", row.id, person.name)
    _tell(unit, f"{unit.viewer.name} reset the second factor of {person.name}.", person.id)
    return one(unit, ident)


def remove(unit: Unit, row: SignIn) -> None:
    """Remove a sign-in with all that belongs to it. What was done with it stays in the journal."""
    close_all(unit, row)
    for table in (PasswordReset, RecoveryCode, Passkey, IdempotencyKey, ProviderSubject, Visit):
        unit.db.execute(delete(table).where(table.sign_in_id == row.id))
    unit.db.execute(delete(SignInLink).where(or_(SignInLink.one_id == row.id, SignInLink.other_id == row.id)))
    # Somebody of a partner no longer acts at its clients.
    unit.wake("link_partners")
    unit.db.delete(row)
    unit.db.flush()


def take_away(unit: Unit, ident: UUID) -> None:
    """Take a sign-in away. The person stays in the register; to sign in again they need an invitation."""
    row, person = _locked(unit, ident, "Taking a sign-in away")
    refuse_last(unit, row, f"the sign-in of {person.name} is taken away")
    remove(unit, row)
    person.second_factor = False
    unit.db.flush()
    unit.wake("evaluate")
    unit.record("sign_in.taken_away", "person", person.id, person.name, role=row.role)
    _tell(unit, f"{unit.viewer.name} took the sign-in of {person.name} away.", person.id)
