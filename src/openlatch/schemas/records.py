"""Records that are kept by hand: what a form holds, what depends on a record, and what came of an edit."""

from __future__ import annotations

from datetime import datetime
from functools import cache
from typing import Annotated, Generic, Literal, Optional, TypeVar
from uuid import UUID

from pydantic import (
    Field,
    StringConstraints,
    create_model,
)

from openlatch.json_values import JsonObject, JsonValue
from openlatch.languages.marks import Said
from openlatch.schemas.base import Address, Answer, Day, Holder, Instant, Name, Named, Request, Sentence
from openlatch.schemas.latches import Breach

__all__ = [
    "FORMS",
    "AccountForm",
    "AppForm",
    "Dependent",
    "EditMany",
    "EditManyPreview",
    "EditedLine",
    "EditedValue",
    "FileColumn",
    "FileField",
    "FileForm",
    "FileLook",
    "Form",
    "GroupForm",
    "ImportOptions",
    "ImportReport",
    "Line",
    "LineError",
    "LoginForm",
    "MarkForm",
    "MembershipForm",
    "MergeOf",
    "MergePreview",
    "MergeWish",
    "Merges",
    "PayerForm",
    "PersonForm",
    "Record",
    "RecordAccess",
    "RecordAccessLine",
    "RecordAccessPreview",
    "RecordedLine",
    "RegisterBrought",
    "ResourceForm",
    "TeamForm",
    "ValueChange",
    "ZoneName",
    "changes_of",
]


Line = Annotated[str, StringConstraints(max_length=300, strip_whitespace=True)]


ZoneName = Annotated[str, StringConstraints(min_length=1, max_length=60, strip_whitespace=True)]


class MarkForm(Request):
    """Something besides their address by which systems tell a person."""

    kind: Literal["uid", "fingerprint", "employee"]
    value: Annotated[str, StringConstraints(min_length=1, max_length=200, strip_whitespace=True)]


class LoginForm(Request):
    """The name by which a system knows a person or an app."""

    system: UUID
    name: Annotated[str, StringConstraints(min_length=1, max_length=300, strip_whitespace=True)]


class PersonForm(Request):
    """A person as somebody keeps their record."""

    name: Name
    address: Address | None = Field(None, description="Where mail goes to.")
    other_addresses: list[Address] = Field(default_factory=list, max_length=20)
    job: Line = ""
    inside: bool = Field(True, description="Whether they are inside the trust boundary.")
    standing: Literal["current", "leaving", "left"] = "current"
    leaves_on: Day | None = Field(None, description="Their last day, for whoever is leaving or has left.")
    manager: UUID | None = None
    marks: list[MarkForm] = Field(default_factory=list, max_length=50)
    logins: list[LoginForm] = Field(default_factory=list, max_length=200)


class TeamForm(Request):
    """A team, or a partner organisation."""

    name: Name
    partner: bool = False
    purpose: Sentence = ""
    speaker: UUID | None = Field(None, description="Who answers offers to it.")


class MembershipForm(Request):
    """That a person or a team belongs to a team, for a while."""

    team: UUID
    person: UUID | None = None
    member_team: UUID | None = None
    since: Instant | None = None
    last_day: Day | None = None


class PayerForm(Request):
    """Who pays for an account: a person, a partner or team, or another account."""

    kind: Literal["person", "team", "account"]
    id: UUID


class AccountForm(Request):
    """A shared account."""

    name: Name
    system: UUID
    kind: Annotated[str, StringConstraints(min_length=1, max_length=60, strip_whitespace=True)] = "account"
    sensitivity: int = Field(2, ge=1, le=4, description="1 (low) to 4 (critical).")
    owner: UUID | None = None
    time_zone: ZoneName | None = Field(None, description="Left out: the organisation's.")
    purpose: Sentence = ""
    handle: Line | None = Field(None, description="What its system calls it.")
    is_closed: bool = Field(False, description="Whether nobody can be given anything on it.")
    payer: PayerForm | None = None
    paid_until: Day | None = Field(None, description="The last day that is paid for.")


class ResourceForm(Request):
    """A part of an account that can be shared alone."""

    account: UUID
    name: Name
    kind: Annotated[str, StringConstraints(min_length=1, max_length=60, strip_whitespace=True)] = "part"


class GroupForm(Request):
    """Some resources of one account, given as one."""

    account: UUID
    name: Name
    resources: list[UUID] = Field(default_factory=list, max_length=1000)


class AppForm(Request):
    """A connected app."""

    name: Name
    publisher: Line = ""
    home_page: Annotated[str, StringConstraints(max_length=2000, strip_whitespace=True)] = ""
    purpose: Sentence = ""
    logins: list[LoginForm] = Field(default_factory=list, max_length=200)


FORMS: dict[str, type[Request]] = {
    "people": PersonForm,
    "teams": TeamForm,
    "memberships": MembershipForm,
    "accounts": AccountForm,
    "resources": ResourceForm,
    "groups": GroupForm,
    "apps": AppForm,
}


Form = TypeVar("Form")


@cache
def changes_of(form: type[Request]) -> type[Request]:
    """The model of an edit of a form, as a JSON merge patch (RFC 7396): what is left out stays as it is, null empties a
    field.
    """
    fields: JsonObject = {}
    for name, field in form.model_fields.items():
        kind = Annotated[field.annotation, *field.metadata] if field.metadata else field.annotation
        fields[name] = (Optional[kind], Field(None, description=field.description))  # noqa: UP045  kind is a value
    name, about = form.__name__.replace("Form", "Changes"), f"What to change of: {form.__doc__}"
    return create_model(name, __base__=Request, __doc__=about, **fields)


class Dependent(Answer):
    """Something that refers to a record, so that it can't be removed."""

    what: Said = Field(examples=["3 grants"])
    count: int


class Record(Answer, Generic[Form]):
    """A record with its values, as its form holds them."""

    id: UUID
    name: str
    version: int
    archived_at: datetime | None
    values: Form
    named: dict[str, str] = Field(description="The names of what the values name by an id.")
    dependents: list[Dependent] = Field(description="What refers to it. While something does, it can be archived only.")
    warnings: list[Breach] = Field(default_factory=list, description="What latches warn of, after an edit.")


class EditMany(Request, Generic[Form]):
    """The same change to several records."""

    ids: list[UUID] = Field(min_length=1, max_length=500)
    set: Form
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class EditedValue(Answer):
    """A value that changes."""

    field: str
    was: JsonValue
    will: JsonValue


class EditedLine(Answer):
    """What becomes of one record."""

    id: UUID
    name: str
    changes: list[EditedValue]
    refused: Said | None
    remedy: Said = ""


class EditManyPreview(Answer):
    """What changing several records does, or did."""

    lines: list[EditedLine]
    changed: int
    refused: int
    latches: list[Breach]
    fingerprint: str


class MergeWish(Request):
    """Two records that are one: which is kept, and which goes into it."""

    keep: UUID
    drop: UUID
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class MergePreview(Answer):
    """What merging two records does."""

    kept: Named
    gone: Named
    moves: list[Dependent] = Field(description="What refers to the kept record afterwards.")
    fills: list[EditedValue] = Field(description="What the kept record lacked, and has afterwards.")
    loses: list[EditedValue] = Field(description="Values of the other record that are not kept.")
    accounts: list[Named] = Field(description="Accounts in which the kept record can do more afterwards.")
    latches: list[Breach]
    fingerprint: str


class MergeOf(Answer):
    """A merge, which can be undone until ``undo_until``."""

    id: UUID
    kind: str
    kept: Named
    gone: Named
    merged_at: datetime
    merged_by: str
    undone_at: datetime | None
    undo_until: datetime


class Merges(Answer):
    """The latest merges."""

    merges: list[MergeOf]


class RecordAccessLine(Request):
    """Access that exists, as somebody knows of it."""

    account: UUID
    holder_kind: Literal["person", "team", "app", "account"] = "person"
    holder: UUID
    level: UUID
    resource: UUID | None = None
    since: Day | None = Field(None, description="Since when.")
    last_day: Day | None = Field(None, description="Until when; left out for no end.")
    given_by: UUID | None = Field(None, description="Who gave it, where that is known.")
    evidence: Sentence = Field("", description="How it is known.", examples=["Seen in the mailbox's list of members."])


class RecordAccess(Request):
    """Access that exists, to be written down without asking anybody."""

    lines: list[RecordAccessLine] = Field(min_length=1, max_length=500)
    fingerprint: str = Field("", max_length=64, description="The preview's, to be told if it has changed.")


class RecordedLine(Answer):
    """What becomes of one line."""

    line: int
    account: Named | None
    holder: Holder | None
    level: str
    does: str = Field(description="new, or the same as what is recorded already.")
    grant_id: UUID | None
    refused: Said | None
    remedy: Said = ""


class RecordAccessPreview(Answer):
    """What writing down access does, or did."""

    lines: list[RecordedLine]
    new: int
    same: int
    refused: int
    latches: list[Breach]
    fingerprint: str


class LineError(Answer):
    """One thing wrong with one line."""

    line: int
    field: str
    reason: Said


class ValueChange(Answer):
    """A value that a file would change in a record that is there already."""

    line: int
    key: str
    field: str
    was: str
    will: str


class ImportReport(Answer):
    """What came of an import; nothing was kept unless ``kept``."""

    kind: str
    encoding: str
    read: int
    added: int
    changed: int
    unchanged: int
    bad: int
    errors: list[LineError]
    kept: bool
    differences: list[ValueChange] = Field(
        default_factory=list, description="In a trial, each value that would change, up to a limit."
    )
    fresh: list[str] = Field(default_factory=list, description="In a trial, what would be added, up to a limit.")
    latches: list[Breach] = Field(default_factory=list, description="In a trial, what latches would say to it.")


class FileColumn(Answer):
    """A column of a file: some of its values, and the field that it is taken for."""

    name: str
    samples: list[str]
    field: str = Field(description="Empty when it is none of them.")
    by: str = Field(description="What tells so: kept, name or content.")


class FileField(Answer):
    """A field that a column can be."""

    name: str
    required: bool


class FileLook(Answer):
    """The columns of a file, and the fields that they can be."""

    kind: str
    columns: list[FileColumn]
    fields: list[FileField]


class RegisterBrought(Answer):
    """What came in with a whole register."""

    rows: dict[str, int] = Field(description="How many rows of each table.")
    lines: int


class ImportOptions(Request):
    """How a file is brought."""

    form: Literal["csv", "jsonl"] = "csv"
    keep_good: bool = Field(False, description="Keep the good lines when there are bad ones.")
    try_only: bool = Field(False, description="Check, and keep nothing.")
    matching: str = Field(
        "",
        max_length=20_000,
        examples=['{"E-mail": "address"}'],
        description="Which columns are which fields, as a JSON object; left out, they are called as the fields are.",
    )
    keep_matching: bool = Field(False, description="Keep the matching for files with the same columns.")


class FileForm(Request):
    """What form a file has."""

    form: Literal["csv", "jsonl"] = "csv"
    matching: str = Field("", max_length=20_000)
