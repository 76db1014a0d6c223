"""The identity providers of an organisation: who may change them, and which of them somebody can sign in by."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from sqlalchemy import delete, func, select
from sqlalchemy.orm import undefer

from openlatch import schemas
from openlatch.core.checks import require_name
from openlatch.core.identity import claims
from openlatch.core.vocabulary import Role
from openlatch.errors import BadInput, NotFound, Outdated, SystemDown
from openlatch.service.identity import openid
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit
from openlatch.store.database import transaction
from openlatch.store.tables import IdentityProvider, Organisation, ProviderSubject, WebSession

CALLBACK = "/oidc/callback"
BACK_CHANNEL = "/oidc/logout"
PAGE = "/sign-ins"


def rows(unit: Unit) -> list[schemas.ProviderOf]:
    """The providers of the organisation, for administrators."""
    unit.sight.require_administrator()
    used = (
        select(func.count(ProviderSubject.id))
        .where(ProviderSubject.provider_id == IdentityProvider.id)
        .correlate(IdentityProvider)
        .scalar_subquery()
    )
    found = unit.db.execute(select(IdentityProvider, used).order_by(IdentityProvider.name))
    return [_shown(unit.service, row, count) for row, count in found]


def _shown(service: Service, row: IdentityProvider, used: int) -> schemas.ProviderOf:
    read = reading(row)
    return schemas.ProviderOf(
        id=row.id,
        name=row.name,
        issuer=row.issuer,
        client_id=row.client_id,
        callback=f"{service.address}{CALLBACK}",
        back_channel=f"{service.address}{BACK_CHANNEL}",
        start=f"{service.address}/oidc/start/{row.id}",
        people=used,
        version=row.version,
        address_claim=read.address,
        roles_claim=read.roles_claim,
        roles={value: role.value for value, role in read.roles.items()},
        acr=sorted(read.acr),
        amr=sorted(read.amr),
    )


def choices(service: Service, slug: str) -> list[schemas.ProviderChoice]:
    """The providers by which somebody can sign in at an organisation; at the only one there is, when none is named."""
    with transaction(service.engine, None) as db:
        organisations = list(db.scalars(select(Organisation.id).limit(2)))
        wanted = select(IdentityProvider).join(Organisation, Organisation.id == IdentityProvider.organisation_id)
        wanted = wanted.where(Organisation.slug == slug.strip().lower()) if slug.strip() else wanted
        is_told = bool(slug.strip()) or len(organisations) == 1
        found = db.scalars(wanted.order_by(IdentityProvider.name)) if is_told else ()
        return [schemas.ProviderChoice(id=row.id, name=row.name) for row in found]


def add(unit: Unit, wish: schemas.SetProvider) -> schemas.ProviderOf:
    """Let people sign in by a provider, which is asked for what it says of itself first."""
    unit.sight.require_administrator()
    unit.require_proof("Adding an identity provider")
    row = IdentityProvider(organisation_id=unit.viewer.organisation)
    _write(unit, row, wish)
    unit.db.add(row)
    unit.db.flush()
    unit.record("provider.added", "provider", row.id, row.name, issuer=row.issuer, client_id=row.client_id)
    _tell(unit, f"{unit.viewer.name} lets people sign in by {row.name} ({row.issuer}).")
    return _shown(unit.service, row, 0)


def change(unit: Unit, ident: UUID, wish: schemas.SetProvider, version: int | None) -> schemas.ProviderOf:
    """Change a provider. Another issuer knows nobody yet: whose subjects are whose is then forgotten."""
    row = _locked(unit, ident, "Changing an identity provider")
    if version is not None and row.version != version:
        raise Outdated("The provider was changed meanwhile.", "Look at it again.", {"version": str(row.version)})
    before = (row.issuer, row.client_id)
    _write(unit, row, wish)
    if before != (row.issuer, row.client_id):
        _forget(unit, row.id)
    row.version += 1
    unit.db.flush()
    unit.record("provider.changed", "provider", row.id, row.name, issuer=row.issuer, **row.reading)
    _tell(unit, f"{unit.viewer.name} changed how people sign in by {row.name}.")
    return next(one for one in rows(unit) if one.id == ident)


def remove(unit: Unit, ident: UUID) -> None:
    """Remove a provider. Sessions that it has opened end; whoever has no password asks for a link to set one."""
    row = _locked(unit, ident, "Removing an identity provider")
    _forget(unit, ident)
    unit.db.delete(row)
    unit.db.flush()
    unit.record("provider.removed", "provider", ident, row.name, issuer=row.issuer)
    _tell(unit, f"{unit.viewer.name} removed {row.name}: nobody signs in by it any more.")


def spoken_with(service: Service, row: IdentityProvider) -> openid.Provider:
    """The provider as it is spoken with, its secret in clear."""
    secret = service.cipher.decrypt(row.client_secret).decode() if row.client_secret else ""
    return openid.Provider(row.issuer, row.client_id, secret)


def reading(row: IdentityProvider) -> claims.Reading:
    """How its claims are read."""
    held = row.reading
    roles = {str(value): Role(role) for value, role in held.get("roles", {}).items()}
    return claims.Reading(
        address=held.get("address_claim") or "email",
        roles_claim=held.get("roles_claim", ""),
        roles=roles,
        acr=frozenset(held.get("acr", ())),
        amr=frozenset(held.get("amr", ())),
    )


def get(service: Service, ident: UUID) -> IdentityProvider:
    """A provider with its secret, whosever it is. NotFound when there is none."""
    with transaction(service.engine, None) as db:
        row = db.get(IdentityProvider, ident, options=[undefer(IdentityProvider.client_secret)])
    if row is None:
        raise NotFound("There is no such identity provider.", "Begin on the page to sign in.")
    return row


def _write(unit: Unit, row: IdentityProvider, wish: schemas.SetProvider) -> None:
    name = require_name(wish.name, "The provider has no name.", "Give the one that people know it by.")
    taken = select(IdentityProvider.id).where(IdentityProvider.name == name, IdentityProvider.id != row.id)
    if unit.db.scalar(taken) is not None:
        raise BadInput(f"There is a provider called {name} already.", "Give another name.", {"name": "is taken"})
    if bool(wish.roles) != bool(wish.roles_claim):
        raise BadInput(
            "Roles need a claim, and which of its values stands for which.", "Give both.", {"roles": "is missing"}
        )
    issuer = wish.issuer.strip().rstrip("/")
    openid.forget(issuer)
    try:
        openid.metadata(issuer)
    except SystemDown as error:
        raise BadInput(error.detail, "Check the address of the issuer.", {"issuer": "does not answer"}) from error
    row.name, row.issuer, row.client_id = name, issuer, wish.client_id.strip()
    if wish.client_secret is not None:
        row.client_secret = unit.service.cipher.encrypt(wish.client_secret.encode()) if wish.client_secret else None
    row.reading = wish.model_dump(mode="json", include={"address_claim", "roles_claim", "roles", "acr", "amr"})


def _locked(unit: Unit, ident: UUID, why: str) -> IdentityProvider:
    unit.sight.require_administrator()
    unit.require_proof(why)
    row = unit.db.get(IdentityProvider, ident, with_for_update=True)
    if row is None:
        raise NotFound("There is no such identity provider.")
    return row


def _forget(unit: Unit, ident: UUID) -> None:
    unit.db.execute(delete(WebSession).where(WebSession.provider_id == ident))
    unit.db.execute(delete(ProviderSubject).where(ProviderSubject.provider_id == ident))


def _tell(unit: Unit, sentence: str) -> None:
    told: Iterable[UUID] = notices.administrators(unit) - {unit.viewer.person}
    notices.tell_and_write(unit, list(told), "sign_in", sentence, PAGE)
