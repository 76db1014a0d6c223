"""What the service answers."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, Generic, Literal, TypeVar
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field

__all__ = [
    "AccountPage",
    "AccountRow",
    "AppPage",
    "AppRow",
    "Done",
    "FileLook",
    "FlagRow",
    "Flags",
    "GrantRow",
    "Holder",
    "ImportReport",
    "InsideOf",
    "JournalRow",
    "JournalVerdict",
    "LevelRow",
    "LineError",
    "Me",
    "Named",
    "Path",
    "Paths",
    "PermissionOf",
    "PersonPage",
    "PersonRow",
    "Preview",
    "Problem",
    "RevocationPage",
    "RevocationRow",
    "Rows",
    "SessionRow",
    "StepRow",
    "SystemRow",
    "TeamRow",
    "Token",
    "TreeHead",
    "TreeHeads",
    "ValueChange",
]

Row = TypeVar("Row", bound=BaseModel)


class Answer(BaseModel):
    """Answers may grow: a client reads what it knows and leaves the rest."""

    model_config = ConfigDict(extra="ignore")


class Problem(Answer):
    """A problem document by RFC 9457."""

    type: str = Field(examples=["urn:openlatch:problem:conflict"])
    title: str = Field(examples=["Not possible as things stand"])
    status: int = Field(examples=[409])
    detail: str = Field(examples=["The grant is ended and can't be revoked now."])
    remedy: str = Field("", description="What to do about it.")
    fields: dict[str, str] = Field(default_factory=dict, description="The parts at fault, each with its reason.")
    breaches: list[dict[str, str]] = Field(default_factory=list, description="The latches that hold, and why.")


class Done(Answer):
    """It was done."""

    done: bool = True


class Named(Answer):
    """Something by its id and name."""

    id: UUID
    name: str


class Holder(Answer):
    """Whoever a grant is for."""

    kind: str
    id: UUID
    name: str | None = None
    inside: bool | None = None
    standing: str | None = None


class AccountOf(Named):
    """The account that something is about."""

    sensitivity: int | None = None
    kind: str | None = None


class _SystemOf(Answer):
    id: UUID | None = None
    name: str | None = None
    kind: str


class Rows(Answer, Generic[Row]):
    """Some rows of a list, and the cursor of the next ones (empty at the end)."""

    rows: list[Row]
    next: str = ""
    count: int | None = None


class Organisation(Named):
    """The organisation of whoever is signed in."""

    time_zone: str


class InsideOf(Answer):
    """The account that somebody is switched into: whose it is, what they may do there, until when."""

    account: Named
    owner: Named | None
    levels: list[str]
    rights: list[str]
    parts: list[str]
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    reach: int


class Preferences(Answer):
    """How somebody wants times and dates written, and of what they want no mail."""

    time_zone: str | None = Field(description="Empty: the organisation's.")
    locale: str | None = Field(description="The language that dates are written in (BCP 47).")
    no_mail: list[str]


class Me(Answer):
    """Who is signed in, and as what."""

    person: Named
    organisation: Organisation
    administrator: bool
    auditor: bool = Field(description="Sees everything and changes nothing.")
    preferences: Preferences
    owner: bool
    reviewer: bool
    may_write: bool
    inside: InsideOf | None = Field(None, description="The account that you are switched into.")
    elsewhere: int = Field(
        0, description="At how many other organisations you have a sign-in that is linked with this."
    )
    as_partner: bool = Field(False, description="Whether you are here as somebody of a partner organisation.")
    notices: int = Field(0, description="How many notices you have not read.")
    csrf: str = Field("", description="To be sent as X-CSRF-Token with calls that change something.")


class Token(Answer):
    """An API token; it is shown only now."""

    id: UUID
    token: str
    expires_at: datetime


class AccountRow(Named):
    """An account in a list."""

    kind: str
    purpose: str
    sensitivity: int
    time_zone: str
    system: _SystemOf
    owner: Named | None
    grants: int
    holders: int = Field(description="How many people, teams, apps and accounts share it.")
    sessions: int
    open_flags: int
    emergency_hours: int | None
    is_closed: bool = Field(description="Whether nobody can be given anything on it.")
    archived: bool
    payer: str | None = Field(description="Who pays for it.")
    paid_until: datetime | None
    version: int


class Hop(Answer):
    """One step of a path, in words."""

    kind: str
    holder: Holder
    words: str
    grant_id: UUID | None


class Path(Answer):
    """One way from a holder to an account."""

    holder: Holder
    account: Named
    owns: bool
    level: str
    sentence: str
    reach: int
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    open_now: bool
    revoking: bool
    left: bool = Field(description="The holder has left; the system may let them in all the same.")
    words: str
    hops: list[Hop]
    grant_id: UUID | None
    given_by: str | None
    recorded_by: str | None = Field(description="Who wrote down by hand that the grant exists.")
    given_at: datetime | None
    last_used_at: datetime | None
    recorded: bool
    owed: str | None = Field(description="What its system still has to be brought to: give, change or take.")
    part: str | None = Field(None, description="The part of the account that it is limited to.")
    hours: str = Field("", description="The hours of the week in which it holds.")


class Paths(Answer):
    """By which paths somebody can act; none when they can't.

    Whoever has left can't by the register; the paths that their systems may still let them in by are marked ``left``.
    """

    can: bool
    paths: list[Path]
    count: int = Field(description="How many paths there are, also those left out by a limit.")
    ended: list[str] = Field(description="Access that ended here, where nothing shows that it is gone.")


Proof = Literal["confirmed", "stated", "unproved", "contradicted"]


class Proved(Answer):
    """How an end is known; without a proof while it goes on, and for what never was there."""

    proof: Proof | None = Field(
        description="confirmed: the system was asked again and shows it gone. stated: a named person says so. "
        "unproved: nothing shows it. contradicted: a later reading shows it."
    )
    proved_at: datetime | None = Field(description="Since when that is known.")
    proved_by: str = Field(description="The system or the person by whom it is known.")
    proof_words: str = Field(description="What they answered or said.")


class GrantRow(Proved):
    """A grant."""

    id: UUID
    state: str
    ended_as: str | None
    ended_at: datetime | None
    account: AccountOf
    system: _SystemOf
    holder: Holder
    level: str | None
    sentence: str | None
    part: str | None
    has_hours: bool | None
    reach: int | None
    since: datetime | None
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")
    given_at: datetime
    given_by: Named | None
    recorded_by: str | None = Field(description="Who wrote down by hand that it exists.")
    evidence: str = Field(description="How they know.")
    reason: str
    last_used_at: datetime | None
    recorded: bool
    seen_at: datetime | None
    missing_since: datetime | None
    drift: str | None = Field(description="unrecorded, missing or changed, where its system departs from it.")
    drift_accepted_until: datetime | None
    shown_level: str | None = Field(description="What its system gives instead of what is recorded.")
    emergency: bool
    owed: str | None
    owed_answer: str
    open_flags: int
    version: int


class PartOf(Named):
    """A resource, or a group of them, with how many share it."""

    kind: str
    group: bool
    public: bool
    resources: int
    holders: int


class OtherDelegate(Answer):
    """Somebody else who can act in an account."""

    name: str
    reach: int
    owns: bool


class Coverage(Answer):
    """What the last reading looked at, and what exists in such a system that it did not look at, with why."""

    looked_at: list[str] = Field(default_factory=list)
    not_looked_at: list[str] = Field(default_factory=list)
    unknown: list[str] = Field(default_factory=list, description="Of that, what it could not see.")


class AccountPage(AccountRow):
    """An account with everyone and everything that can reach it."""

    answers_for: bool = Field(description="Whether you answer for it; if not, only your own paths are here.")
    paths: list[Path] = Field(description="The first 500, the shortest and farthest reaching first.")
    path_count: int = Field(description="How many paths there are in all.")
    holder_count: int = Field(description="How many people and apps they start from.")
    app_count: int = Field(description="How many of those are apps.")
    not_in_force: list[GrantRow] = Field(description="Grants that give nothing now.")
    parts: list[PartOf] = Field(description="Its resources and groups.")
    others: list[OtherDelegate] = Field(description="Who else is there, for a delegate who is inside.")
    prerequisites: list[str]
    coverage: Coverage
    partial_since: datetime | None = Field(description="Since when readings could not understand all of it.")


class PersonRow(Named):
    """A person in a list."""

    address: str | None
    job: str
    inside: bool
    standing: str
    leaves_at: datetime | None
    leaves_on: date | None = Field(description="The last day, where the organisation is.")
    recognised: bool
    second_factor: bool
    version: int
    address_confirmed_at: datetime | None
    refuses_offers: bool
    grants: int
    sessions: int
    open_flags: int


class TeamOf(Named):
    """A team that a person belongs to."""

    since: datetime | None
    until: datetime | None


class PersonPage(PersonRow):
    """A person with everything that they can reach."""

    signs_in: bool | None = Field(description="Whether they have a sign-in; told to administrators and auditors.")
    teams: list[TeamOf]
    paths: list[Path]


class TeamRow(Named):
    """A team in a list."""

    partner: bool
    purpose: str
    speaker: Named | None
    members: int
    grants: int
    archived: bool
    version: int


class AppRow(Named):
    """A connected app in a list."""

    publisher: str
    home_page: str
    purpose: str
    links: int
    last_used_at: datetime | None
    open_flags: int
    archived: bool
    version: int


class AppPage(AppRow):
    """An app with its links, each a grant on an account."""

    grants: list[GrantRow]


class SessionRow(Proved):
    """A session."""

    id: UUID
    account: AccountOf
    system: _SystemOf
    holder: Holder
    device: str
    address: str
    place: str
    started_at: datetime
    last_seen_at: datetime
    ended_at: datetime | None
    ended_as: str | None


class Subject(Answer):
    """What a flag was raised on."""

    kind: str
    id: UUID


class FlagRow(Answer):
    """A flag: why it was raised, from which facts, with which score, and what to do."""

    id: UUID
    rule: str
    title: str
    remedy: str
    act: str = Field(description="What can be done about it at once: revoke, trim, end_session, or nothing.")
    state: str
    severity: int
    score: int
    parts: dict[str, int]
    sentence: str
    facts: dict[str, Any]
    subject: Subject
    account: AccountOf | None
    holder: Holder
    raised_at: datetime
    worse_at: datetime | None
    assigned_to: Named | None
    cleared_at: datetime | None
    accepted_by: Named | None
    accepted_reason: str | None
    accepted_until: datetime | None


class Flags(Answer):
    """Several flags."""

    flags: list[FlagRow]


class PermissionOf(Answer):
    """A permission in plain words."""

    key: str
    sentence: str
    reach: int


class Remaining(Answer):
    """A path that is left."""

    words: str
    level: str
    reach: int
    until: datetime | None
    last_day: date | None = Field(description="The last day, where it ends with one where the account is.")


class ChangeOf(Answer):
    """What becomes of one holder's rights in one account."""

    holder: Holder
    account: Named
    ends: list[PermissionOf]
    remains: list[Remaining]


class SessionOf(Answer):
    """A session that ends."""

    id: UUID
    holder: str
    account: str


class PlannedStep(Answer):
    """A step to come."""

    kind: str
    sentence: str


class StopOf(Answer):
    """What stops, or is left over: object, job, key of a machine, or what others do by it."""

    kind: str
    sentence: str


class Preview(Answer):
    """All that would come of a revocation."""

    title: str
    changes: list[ChangeOf]
    sessions: list[SessionOf]
    apps_that_stop: list[str]
    without_owner: list[str]
    stops: list[StopOf] = Field(default_factory=list, description="What stops, or is left over, besides.")
    unknown: list[str] = Field(default_factory=list, description="What readings of the accounts did not look at.")
    undo_alone: bool
    steps: list[PlannedStep]
    fingerprint: str = ""
    latches: list[dict[str, str]] = Field(default_factory=list, description="What latches say to it.")


class StepRow(Answer):
    """A step: its state, how often it was tried, what was last answered, when it is tried again."""

    id: UUID
    position: int
    kind: str
    sentence: str
    state: str
    tries: int
    answer: str
    next_try_at: datetime | None
    done_at: datetime | None
    done_by: str = Field(description="The person who did or skipped it, or the system that answered.")
    proof: Proof | None = Field(description="What it shows by itself; a system's answer counts once it was read again.")


class End(Answer):
    """One end of a revocation, and how it is known; null while that is open."""

    kind: Literal["grant", "session", "exposure"]
    what: str
    proof: Proof | None
    proved_at: datetime | None
    proved_by: str
    words: str


class RevocationRow(Answer):
    """A revocation in a list."""

    id: UUID
    cause: str
    reason: str
    asked_by: Named | None
    created_at: datetime
    settled_at: datetime | None
    confirmed_at: datetime | None = Field(description="Only when each of its ends is confirmed.")
    state: str
    confirmed: int
    stated: int
    unproved: int
    contradicted: int
    title: str
    steps: int
    steps_done: int
    steps_skipped: int
    targets: int
    undone_at: datetime | None
    leaver: Named | None


class RevocationPage(RevocationRow):
    """A revocation with what was shown before, and its steps."""

    preview: Preview
    step_list: list[StepRow]
    ends: list[End]


class LevelRow(Named):
    """A level and what it permits."""

    key: str | None
    sentence: str
    reach: int
    permissions: list[dict[str, Any]]
    single: bool
    grants: int
    archived: bool
    version: int
    system: Named


class SystemRow(Named):
    """A system: when it was read, with what outcome, and since when it has not answered."""

    key: str | None
    kind: str
    read_at: datetime | None
    down_since: datetime | None
    answer: str
    read_every: int = Field(description="In minutes.")
    archived: bool
    paused_at: datetime | None
    version: int
    next_read_at: datetime | None
    reading_since: datetime | None
    reading_seen: int
    accounts: int
    handles: int
    unrecorded: int
    missing: int
    changed: int
    doubts: int
    matching: list[tuple[str, bool]]
    coverage: Coverage


class LineError(Answer):
    """One thing wrong with one line."""

    line: int
    field: str
    reason: str


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
    latches: list[dict[str, str]] = Field(default_factory=list, description="In a trial, what latches would say to it.")


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


class _Actor(Answer):
    id: UUID | None
    name: str


class JournalSubject(Answer):
    """What an entry is about."""

    kind: str
    id: UUID | None
    name: str


class JournalRow(Answer):
    """An entry of the journal."""

    position: int
    at: datetime
    actor: _Actor | None
    action: str
    on_behalf_of: str | None = Field(description="On whose behalf, where somebody inside an account did it.")
    subject: JournalSubject | None
    account_id: UUID | None
    facts: dict[str, Any]
    hash: str
    previous: str


class Fault(Answer):
    """Something wrong with the journal."""

    position: int
    what: str


class JournalVerdict(Answer):
    """What a verification found. Note the position and the hash: they prove all up to there."""

    sound: bool = Field(description="Whether nothing is wrong, by all that the service itself has to compare with.")
    entries: int
    position: int
    hash: str
    faults: list[Fault]
    vouched: int = Field(description="Up to which position a noted hash or a signed tree head vouches for the entries.")
    head_position: int = Field(description="How far the journal goes by its own head, entries or not.")
    head_hash: str


class TreeHead(Answer):
    """A signed tree head (RFC 9162 hashing) over the journal's first entries; keep it where the database is not."""

    format: Literal["openlatch-tree-head"]
    version: Literal[1]
    organisation: UUID
    size: int
    root: str
    last: str
    at: str
    key: str = Field(description="The public key (x of its JSON Web Key) that it is signed with.")
    signature: str = Field(description="Ed25519 over the canonical JSON (RFC 8785) of the rest, in base64url.")


class TreeHeads(Answer):
    """All of them, oldest first."""

    heads: list[TreeHead]
