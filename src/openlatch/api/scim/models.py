"""Users and groups as SCIM has them (RFC 7643): only the attributes that are kept, so that the schemas are true."""

# Without the future's annotations: the library reads what stands beside a type from the type itself.
from typing import Annotated, Any, ClassVar, Union
from uuid import UUID

from pydantic import EmailStr, Field
from scim2_models import (
    URN,
    ComplexAttribute,
    Extension,
    Meta,
    Mutability,
    Reference,
    Required,
    Resource,
    ResourceType,
    Schema,
    ServiceProviderConfig,
    Uniqueness,
)

from openlatch.api.scim import PREFIX
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.scim import groups, users

AnyResource = Resource[Any]
Held = users.Held | groups.Held
MOST_RESULTS = 200
MOST_OPERATIONS = 100
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
PARTS = ("family_name", "given_name", "middle_name", "honorific_prefix", "honorific_suffix")


class Name(ComplexAttribute):
    """The parts of a name."""

    family_name: str | None = None
    given_name: str | None = None
    middle_name: str | None = None
    honorific_prefix: str | None = None
    honorific_suffix: str | None = None


class Email(ComplexAttribute):
    """An address."""

    value: EmailStr | None = None
    display: str | None = None
    type: str | None = Field(None, examples=["work", "home", "other"])
    primary: bool | None = None


class GroupMembership(ComplexAttribute):
    """A group that somebody is in."""

    value: Annotated[str | None, Mutability.read_only] = None
    ref: Annotated[Reference["Group"] | None, Mutability.read_only] = Field(
        None, serialization_alias="$ref", validation_alias="$ref"
    )
    display: Annotated[str | None, Mutability.read_only] = None
    type: Annotated[str | None, Mutability.read_only] = None


class Manager(ComplexAttribute):
    """Whom somebody reports to."""

    value: Annotated[str | None, Required.true] = None
    ref: Reference["User"] | None = Field(None, serialization_alias="$ref", validation_alias="$ref")


class EnterpriseUser(Extension):
    """What the enterprise extension adds, of which we keep two things."""

    __schema__ = URN(ENTERPRISE)

    employee_number: str | None = None
    manager: Manager | None = None


class User(Resource[EnterpriseUser]):
    """A person."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:User")

    user_name: Annotated[str | None, Uniqueness.server, Required.true] = None
    name: Name | None = None
    # What is left out is taken from the name, and from what was before.
    display_name: Annotated[str | None, Required.true] = None
    title: str | None = None
    active: Annotated[bool | None, Required.true] = None
    emails: list[Email] | None = None
    groups: Annotated[list[GroupMembership] | None, Mutability.read_only] = None

    Emails: ClassVar[type[ComplexAttribute]] = Email


class GroupMember(ComplexAttribute):
    """One of a group."""

    value: Annotated[str | None, Mutability.immutable] = None
    ref: Annotated[Reference[Union["User", "Group"]] | None, Mutability.immutable] = Field(
        None, serialization_alias="$ref", validation_alias="$ref"
    )
    type: Annotated[str | None, Mutability.immutable] = Field(None, examples=["User", "Group"])


class Group(Resource[Any]):
    """A team."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:Group")

    display_name: Annotated[str | None, Required.true] = None
    members: list[GroupMember] | None = None

    Members: ClassVar[type[ComplexAttribute]] = GroupMember


def given_user(resource: User) -> users.User:
    """A person as a resource gives them. BadInput for a manager that is no id."""
    extension = resource[EnterpriseUser]
    manager = extension.manager.value if extension is not None and extension.manager is not None else None
    name = resource.name or Name()
    parts = {part: value for part in PARTS if (value := getattr(name, part))}
    return users.User(
        user_name=str(resource.user_name),
        name=str(resource.display_name).strip()[:200],
        external_id=resource.external_id,
        title=resource.title or "",
        active=bool(resource.active),
        emails=[
            users.Email(str(one.value), one.primary, one.type or "", one.display or "")
            for one in resource.emails or []
            if one.value
        ],
        parts=parts,
        employee_number=extension.employee_number if extension is not None else None,
        manager=_ident(manager, "manager") if manager else None,
    )


def completed(data: JsonObject, is_active: bool = True) -> JsonObject:
    """What a directory sends of a person, with a name and whether they are active where it leaves these out."""
    given = {str(name).lower(): value for name, value in data.items()}
    name = given.get("name")
    parts = {str(part).lower(): value for part, value in name.items()} if isinstance(name, dict) else {}
    words = [str(parts[part]) for part in ("givenname", "middlename", "familyname") if parts.get(part)]
    said = str(parts.get("formatted") or "") or " ".join(words) or str(given.get("username") or "")
    more = {} if given.get("displayname") else {"displayName": said}
    return {**data, **more, **({} if isinstance(given.get("active"), bool) else {"active": is_active})}


def given_group(resource: AnyResource) -> groups.Group:
    """A team as a resource gives it. BadInput for a member that is no id."""
    assert isinstance(resource, Group)
    members = [_ident(one.value, "members") for one in resource.members or [] if one.value]
    return groups.Group(str(resource.display_name), resource.external_id, members)


def _ident(value: str, field: str) -> UUID:
    try:
        return UUID(value)
    except ValueError:
        told = f"{value!r} is not one of our ids."
        raise BadInput(told, "Give the id of a user or group.", {field: "unknown"}) from None


def resource_of(held: Held, base: str) -> AnyResource:
    """A person or a team as a resource."""
    return _user_of(held, base) if isinstance(held, users.Held) else _group_of(held, base)


def location(held: Held, base: str) -> str:
    """The address of a resource."""
    return f"{base}/{'Users' if isinstance(held, users.Held) else 'Groups'}/{held.id}"


def _user_of(held: users.Held, base: str) -> User:
    user = held.user
    manager = {"value": str(user.manager), "$ref": f"{base}/Users/{user.manager}"}
    enterprise = _filled({"employeeNumber": user.employee_number, "manager": manager if user.manager else None})
    emails = [
        {**_filled({"value": one.value, "display": one.display, "type": one.kind}), "primary": one.primary}
        for one in user.emails
    ]
    teams = [
        {"value": str(ident), "$ref": f"{base}/Groups/{ident}", "display": name, "type": "direct"}
        for ident, name in held.teams
    ]
    return User.model_validate(
        {
            "schemas": [User.__schema__, *([ENTERPRISE] if enterprise else [])],
            "id": str(held.id),
            "userName": user.user_name,
            "active": user.active,
            "meta": _meta("User", held, base),
            **_filled(
                {
                    "externalId": user.external_id,
                    "displayName": user.name,
                    "name": Name.model_validate(dict(user.parts)) if user.parts else None,
                    "title": user.title,
                    "emails": emails,
                    "groups": teams,
                    ENTERPRISE: enterprise,
                }
            ),
        }
    )


def _group_of(held: groups.Held, base: str) -> Group:
    members = [
        {
            "value": str(one.id),
            "$ref": f"{base}/{'Groups' if one.is_team else 'Users'}/{one.id}",
            "type": "Group" if one.is_team else "User",
        }
        for one in held.members
    ]
    return Group.model_validate(
        {
            "schemas": [Group.__schema__],
            "id": str(held.id),
            "displayName": held.name,
            "meta": _meta("Group", held, base),
            **_filled({"externalId": held.external_id, "members": members}),
        }
    )


def _filled(given: JsonObject) -> JsonObject:
    return {name: value for name, value in given.items() if value not in (None, "", [], {}, False)}


def _meta(kind: str, held: Held, base: str) -> JsonObject:
    return {
        "resourceType": kind,
        "created": held.created_at,
        "lastModified": held.changed_at,
        "location": location(held, base),
        "version": etag(held.version),
    }


def etag(version: int) -> str:
    """The version of a resource, as HTTP has it."""
    return f'W/"{version}"'


def resource_types(base: str) -> list[ResourceType]:
    """What there is."""
    told: list[JsonObject] = [
        {
            "id": "User",
            "name": "User",
            "description": "People of the register",
            "endpoint": "/Users",
            "schema": User.__schema__,
            "schemaExtensions": [{"schema": ENTERPRISE, "required": False}],
        },
        {
            "id": "Group",
            "name": "Group",
            "description": "Teams of the register",
            "endpoint": "/Groups",
            "schema": Group.__schema__,
        },
    ]
    return [ResourceType.model_validate({**one, "meta": _described("ResourceType", base, one["id"])}) for one in told]


def schemas(base: str) -> list[Schema]:
    """The attributes of each: those that are kept, and no others."""
    found = [model.to_schema() for model in (User, EnterpriseUser, Group)]
    for one in found:
        one.meta = Meta.model_validate(_described("Schema", base, str(one.id)))
    return found


def config(base: str) -> ServiceProviderConfig:
    """What we can."""
    pages = {"cursor": False, "index": True, "defaultPageSize": MOST_RESULTS, "maxPageSize": MOST_RESULTS}
    scheme = {
        "type": "oauthbearertoken",
        "name": "Token for a directory",
        "description": "A bearer token that an administrator makes for the directory",
        "specUri": "https://www.rfc-editor.org/rfc/rfc6750",
        "primary": True,
    }
    return ServiceProviderConfig.model_validate(
        {
            "documentationUri": f"{base.removesuffix(PREFIX)}/docs/how-to/connect-a-directory.html",
            "patch": {"supported": True},
            "bulk": {"supported": True, "maxOperations": MOST_OPERATIONS, "maxPayloadSize": 1 << 20},
            "filter": {"supported": True, "maxResults": MOST_RESULTS},
            "changePassword": {"supported": False},
            "sort": {"supported": True},
            "etag": {"supported": True},
            "pagination": pages,
            "authenticationSchemes": [scheme],
            "meta": {"resourceType": "ServiceProviderConfig", "location": f"{base}/ServiceProviderConfig"},
        }
    )


def _described(kind: str, base: str, ident: str) -> JsonObject:
    return {"resourceType": kind, "location": f"{base}/{kind}s/{ident}"}
