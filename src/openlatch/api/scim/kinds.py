"""Users and groups alike: how each is read, made, replaced, patched and deleted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from uuid import UUID

from scim2_models import Context, PatchOp
from sqlalchemy import ColumnElement, func
from sqlalchemy.orm import InstrumentedAttribute

from openlatch.api.scim import models
from openlatch.api.scim.answers import Versions, base
from openlatch.errors import NotFound, Outdated
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.scim import groups, users
from openlatch.service.unit import Unit
from openlatch.store.tables import Person, ScimRecord, Team

Where = Sequence[ColumnElement[bool]]


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of resource: its model, and what reads and deletes it. ``named`` are columns for its id and name."""

    name: str
    model: type[models.AnyResource]
    one: Callable[[Unit, UUID], models.Held]
    listed: Callable[[Unit, Where, int, int], tuple[int, Sequence[models.Held]]]
    delete: Callable[[Unit, UUID], None]
    named: tuple[InstrumentedAttribute[UUID], InstrumentedAttribute[str]]

    def equals(self, attribute: str, value: str) -> ColumnElement[bool] | None:
        """A comparison for equality, where the database can make it; None where it can't."""
        ident, name = self.named
        found: ColumnElement[bool] | None = None
        if attribute == "username" and self is USERS:
            found = users.named(value)
        elif attribute == "externalid":
            found = ScimRecord.external_id == value
        elif attribute == "displayname":
            found = func.lower(name) == value.lower()
        elif attribute == "id":
            with suppress(ValueError):
                found = ident == UUID(value)
        return found


USERS = Kind("User", models.User, users.one, users.listed, users.delete, (Person.id, Person.name))
GROUPS = Kind("Group", models.Group, groups.one, groups.listed, groups.delete, (Team.id, Team.name))
KINDS = {"Users": USERS, "Groups": GROUPS}


def kind_of(path: str) -> Kind:
    """The kind of resource at an address. NotFound for any other."""
    if path not in KINDS:
        raise NotFound(f"There is no {path} here.", "See ResourceTypes.")
    return KINDS[path]


def create(unit: Unit, kind: Kind, data: JsonObject) -> models.Held:
    """Make one of what a directory sends."""
    given = models.completed(data) if kind is USERS else data
    resource = kind.model.model_validate(given, scim_ctx=Context.RESOURCE_CREATION_REQUEST)
    if isinstance(resource, models.User):
        return users.create(unit, models.given_user(resource))
    return groups.create(unit, models.given_group(resource))


def replace(unit: Unit, kind: Kind, ident: UUID, data: JsonObject, versions: Versions) -> models.Held:
    """Replace one by what a directory sends; what it leaves out is taken away, but for who is active."""
    locks.access(unit)
    before = kind.one(unit, ident)
    given = models.completed(data, before.user.active) if isinstance(before, users.Held) else data
    resource = kind.model.model_validate(given, scim_ctx=Context.RESOURCE_REPLACEMENT_REQUEST)
    resource.replace(models.resource_of(before, base()))
    return _put(unit, ident, resource, versions)


def patch(unit: Unit, kind: Kind, ident: UUID, data: JsonObject, versions: Versions) -> models.Held:
    """Change parts of one."""
    # What the patch is made on is what is replaced, and nothing that came between.
    locks.access(unit)
    before = kind.one(unit, ident)
    resource = models.resource_of(before, base())
    operations = PatchOp[kind.model].model_validate(  # type: ignore[name-defined]
        data, scim_ctx=Context.RESOURCE_PATCH_REQUEST
    )
    if operations.patch(resource):
        return _put(unit, ident, resource, versions)
    if versions is not None and before.version not in versions:
        raise Outdated("It was changed meanwhile.", "Read it again.")
    return before


def _put(unit: Unit, ident: UUID, resource: models.AnyResource, versions: Versions) -> models.Held:
    if isinstance(resource, models.User):
        return users.replace(unit, ident, models.given_user(resource), versions)
    return groups.replace(unit, ident, models.given_group(resource), versions)


def delete(unit: Unit, kind: Kind, ident: UUID, versions: Versions) -> None:
    """Delete one. Outdated for other versions."""
    locks.access(unit)
    if versions is not None and kind.one(unit, ident).version not in versions:
        raise Outdated("It was changed meanwhile.", "Read it again.")
    kind.delete(unit, ident)
