"""The register itself: people, teams, systems, accounts, grants, apps, sessions, and flags on them."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Computed,
    Double,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, CIDR, DATEMULTIRANGE, JSONB
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.store.tables.base import Base, Keyed, Owned, Proved, Recorded, trigrams


class Person(Recorded, Keyed, Base):
    """A human being known to the organisation. ``recognised`` is false for one met only in a system; a record that was
    merged into another stays for what names it for ever, and is shown nowhere.
    """

    __tablename__ = "people"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("standing in ('current', 'leaving', 'left')", name="standing"),
        CheckConstraint("manager_id <> id and deputy_id <> id", name="somebody_else"),
        Index("ix_people_name", "organisation_id", "name", "id"),
        trigrams("people", "name"),
        trigrams("people", "address"),
        # One person for each address: whoever has left may have had one that somebody else has by now.
        Index(
            "uq_people_address",
            "organisation_id",
            text("lower(address)"),
            unique=True,
            postgresql_where=text("address is not null and standing <> 'left'"),
        ),
        Index("ix_people_same_name", "organisation_id", text("lower(name)")),
        Index("ix_people_deputy_id", "deputy_id", postgresql_where=text("deputy_id is not null")),
    )

    name: Mapped[str]
    address: Mapped[str | None]
    job: Mapped[str] = mapped_column(server_default="")
    inside: Mapped[bool]
    standing: Mapped[str] = mapped_column(server_default="current")
    leaves_at: Mapped[datetime | None]
    recognised: Mapped[bool] = mapped_column(server_default="true")
    address_confirmed_at: Mapped[datetime | None]
    second_factor: Mapped[bool] = mapped_column(server_default="false")
    refuses_offers: Mapped[bool] = mapped_column(server_default="false")
    manager_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    deputy_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    away_since: Mapped[datetime | None]
    away_until: Mapped[datetime | None]
    wants_digest: Mapped[bool] = mapped_column(server_default="true")
    erased_at: Mapped[datetime | None]
    merged_into_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    version: Mapped[int] = mapped_column(server_default="1")


class PersonAddress(Owned, Base):
    """Another address of a person, besides the one that mail goes to. It belongs to one person."""

    __tablename__ = "person_addresses"
    __table_args__ = (
        Index("uq_person_addresses_address", "organisation_id", text("lower(address)"), unique=True),
        Index("ix_person_addresses_person_id", "person_id"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    address: Mapped[str]
    confirmed_at: Mapped[datetime | None]


class Team(Recorded, Keyed, Base):
    """People and teams, or a partner organisation, treated as one holder."""

    __tablename__ = "teams"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), trigrams("teams", "name"))

    name: Mapped[str]
    partner: Mapped[bool] = mapped_column(server_default="false")
    purpose: Mapped[str] = mapped_column(server_default="")
    speaker_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Membership(Recorded, Owned, Base):
    """That a person or a team belongs to a team, for a while."""

    __tablename__ = "memberships"
    __table_args__ = (
        UniqueConstraint("organisation_id", "team_id", "member_id"),
        CheckConstraint("num_nonnulls(person_id, member_team_id) = 1", name="one_member"),
        CheckConstraint("member_team_id is null or member_team_id <> team_id", name="not_in_itself"),
        Index("ix_memberships_member_id", "member_id"),
        Index("ix_memberships_nested", "team_id", postgresql_where=text("member_team_id is not null")),
    )

    team_id: Mapped[UUID] = mapped_column(ForeignKey("teams.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    member_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    member_id: Mapped[UUID] = mapped_column(Computed("coalesce(person_id, member_team_id)", persisted=True))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Roster(Base):
    """That a team's members, and what counts of them on a path, are still those that they were: another ``version``
    each time they change (the database sees to it), so that they can be kept in memory.
    """

    __tablename__ = "rosters"

    team_id: Mapped[UUID] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    version: Mapped[UUID]


class System(Keyed, Base):
    """Where accounts really live. ``secret`` is encrypted with a key that is not in the database; the web process may
    not read it, and is told that there is one (``has_secret``). It is loaded when it is used.

    It is read every ``read_every`` minutes. ``stamps`` are what accounts looked like at the last read, by the system's
    own marks; ``matching`` says by what people are told there (core.matching). While it is read, ``reading_seen``
    counts.
    """

    __tablename__ = "systems"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("read_every between 1 and 10080", name="read_every"),
    )

    name: Mapped[str]
    kind: Mapped[str] = mapped_column(server_default="by_hand")
    settings: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    secret: Mapped[bytes | None] = mapped_column(deferred=True)
    has_secret: Mapped[bool] = mapped_column(Computed("secret is not null"))
    read_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    down_since: Mapped[datetime | None]
    read_every: Mapped[int] = mapped_column(server_default="10")
    next_read_at: Mapped[datetime | None]
    read_fully_at: Mapped[datetime | None]
    reading_since: Mapped[datetime | None]
    reading_seen: Mapped[int] = mapped_column(server_default="0")
    stamps: Mapped[dict[str, Any]] = mapped_column(server_default="{}", deferred=True)
    coverage: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    matching: Mapped[list[Any]] = mapped_column(server_default="[]")
    paused_at: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Account(Recorded, Keyed, Base):
    """A shared account in a system.

    ``coverage`` is what the last reading looked at and what it did not; ``partial_since``: since when readings could
    not understand all of it. ``is_closed``: it is not shared with anybody, and nobody can be given anything on it.
    """

    __tablename__ = "accounts"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("sensitivity between 1 and 4", name="sensitivity"),
        CheckConstraint("num_nonnulls(payer_person_id, payer_team_id, payer_account_id) <= 1", name="one_payer"),
        *(
            Index(f"ix_accounts_{column}", column, postgresql_where=text(f"{column} is not null"))
            for column in ("payer_person_id", "payer_team_id", "payer_account_id")
        ),
        Index("ix_accounts_name", "organisation_id", "name", "id"),
        trigrams("accounts", "name"),
        Index("ix_accounts_owner_id", "owner_id"),
    )

    name: Mapped[str]
    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    kind: Mapped[str] = mapped_column(server_default="account")
    sensitivity: Mapped[int] = mapped_column(SmallInteger)
    owner_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    time_zone: Mapped[str] = mapped_column(server_default="UTC")
    purpose: Mapped[str] = mapped_column(server_default="")
    handle: Mapped[str | None]
    coverage: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    partial_since: Mapped[datetime | None]
    emergency_hours: Mapped[int | None]
    prerequisites: Mapped[list[Any]] = mapped_column(server_default="[]")
    is_closed: Mapped[bool] = mapped_column(server_default="false")
    payer_person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    payer_team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    payer_account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    paid_until: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Level(Recorded, Keyed, Base):
    """A named set of permissions in one system. ``reach`` is kept beside them: the highest of theirs.

    A permission given alone is a level of one, with ``single``. The database sets ``grown_at`` when it gains some.
    """

    __tablename__ = "levels"
    __table_args__ = (UniqueConstraint("organisation_id", "system_id", "key"),)

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    sentence: Mapped[str]
    reach: Mapped[int] = mapped_column(SmallInteger)
    permissions: Mapped[list[Any]] = mapped_column(server_default="[]")
    single: Mapped[bool] = mapped_column(server_default="false")
    grown_at: Mapped[datetime | None]
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class App(Recorded, Keyed, Base):
    """Software that holds grants."""

    __tablename__ = "apps"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), trigrams("apps", "name"))

    name: Mapped[str]
    publisher: Mapped[str] = mapped_column(server_default="")
    home_page: Mapped[str] = mapped_column(server_default="")
    purpose: Mapped[str] = mapped_column(server_default="")
    merged_into_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    archived_at: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class Handle(Owned, Base):
    """The name by which a system knows a person or an app.

    ``marks`` are what it tells of them, ``hangs`` what hangs on this login there. ``candidates`` are people who may be
    meant; somebody has to say, and has when ``settled``.
    """

    __tablename__ = "handles"
    __table_args__ = (
        UniqueConstraint("organisation_id", "system_id", "name"),
        CheckConstraint("num_nonnulls(person_id, app_id) = 1", name="one_holder"),
    )

    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id"))
    name: Mapped[str]
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    marks: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    locked: Mapped[bool] = mapped_column(server_default="false")
    hangs: Mapped[list[Any]] = mapped_column(server_default="[]")
    candidates: Mapped[list[Any]] = mapped_column(server_default="[]")
    settled: Mapped[bool] = mapped_column(server_default="false")


class Mark(Owned, Base):
    """Something besides their address by which systems tell a person: a uid, a key's fingerprint, a staff number."""

    __tablename__ = "marks"
    __table_args__ = (
        UniqueConstraint("organisation_id", "kind", "value", "person_id"),
        CheckConstraint("kind in ('uid', 'fingerprint', 'employee')", name="kind"),
        Index("ix_marks_person_id", "person_id"),
    )

    person_id: Mapped[UUID] = mapped_column(ForeignKey("people.id"))
    kind: Mapped[str]
    value: Mapped[str]


class Grant(Recorded, Proved, Keyed, Base):
    """The fact that a holder may act in an account.

    ``owed`` is what its system still has to be brought to: ``give`` or ``take``; None when it is as it should be.
    ``shown`` is a digest of what the last read showed; the database forgets it when the grant changes. ``differs`` is
    what the system has instead of what is recorded. ``contradicted_at``: a read showed that it is not gone, though the
    system had said so. ``ends_here``: the register gave its end and keeps it. ``by_system``: it comes with signing in
    there, as for everybody, and nobody gave it. ``recorded_by_id`` is who wrote down by hand that it exists, with their
    ``evidence``: they did not give it.
    """

    __tablename__ = "grants"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("num_nonnulls(person_id, team_id, app_id, holder_account_id) = 1", name="one_holder"),
        CheckConstraint("state in ('pending', 'active', 'suspended', 'revoking', 'ended')", name="state"),
        CheckConstraint("(state = 'ended') = (ended_as is not null)", name="ended_as"),
        # With all that comparing a reading needs, so that it reads no grant that is as it was.
        Index(
            "ix_grants_account_id",
            "account_id",
            "state",
            postgresql_include=["organisation_id", "holder_kind", "shown", "id"],
        ),
        Index("ix_grants_holder_id", "holder_id"),
        Index("ix_grants_held_by_many", "account_id", postgresql_where=text("holder_kind in ('team', 'account')")),
        Index("ix_grants_given_by_id", "given_by_id"),
        Index("ix_grants_given_at", "organisation_id", "given_at", "id"),
        Index("ix_grants_last_used_at", "organisation_id", "last_used_at", "id"),
        Index("ix_grants_owed", "owed_next_try_at", postgresql_where=text("owed is not null")),
        Index(
            "ix_grants_drift",
            "account_id",
            postgresql_where=text(
                "state in ('active', 'suspended', 'revoking') "
                "and (not recorded or missing_since is not null or differs is not null)"
            ),
        ),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    team_id: Mapped[UUID | None] = mapped_column(ForeignKey("teams.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    holder_account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID] = mapped_column(
        Computed("coalesce(person_id, team_id, app_id, holder_account_id)", persisted=True)
    )
    holder_kind: Mapped[str] = mapped_column(
        Computed(
            "case when person_id is not null then 'person' when team_id is not null then 'team' "
            "when app_id is not null then 'app' else 'account' end",
            persisted=True,
        )
    )
    state: Mapped[str] = mapped_column(server_default="active")
    ended_as: Mapped[str | None]
    ended_at: Mapped[datetime | None]
    given_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    given_at: Mapped[datetime]
    reason: Mapped[str] = mapped_column(server_default="")
    recorded_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    evidence: Mapped[str] = mapped_column(server_default="")
    last_used_at: Mapped[datetime | None]
    credential_since: Mapped[datetime | None]
    recorded: Mapped[bool] = mapped_column(server_default="true")
    ends_here: Mapped[bool] = mapped_column(server_default="true")
    by_system: Mapped[bool] = mapped_column(server_default="false")
    seen_at: Mapped[datetime | None]
    missing_since: Mapped[datetime | None]
    shown: Mapped[UUID | None]
    differs: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    contradicted_at: Mapped[datetime | None]
    emergency: Mapped[bool] = mapped_column(server_default="false")
    for_review: Mapped[bool] = mapped_column(server_default="false")
    left_undecided_at: Mapped[datetime | None]
    owed: Mapped[str | None]
    owed_since: Mapped[datetime | None]
    owed_answer: Mapped[str] = mapped_column(server_default="")
    owed_next_try_at: Mapped[datetime | None]
    handle: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    version: Mapped[int] = mapped_column(server_default="1")


class Term(Recorded, Owned, Base):
    """One level on the whole account, a group or a resource, within one window, perhaps only in certain hours."""

    __tablename__ = "terms"
    __table_args__ = (
        CheckConstraint("num_nonnulls(resource_id, group_id) <= 1", name="one_part"),
        Index("ix_terms_grant_id", "grant_id"),
        Index("ix_terms_level_id", "level_id"),
        Index("ix_terms_until", "organisation_id", "until"),
        Index("ix_terms_steward_of", "steward_of", postgresql_where=text("steward_of is not null")),
    )

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    level_id: Mapped[UUID] = mapped_column(ForeignKey("levels.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    group_id: Mapped[UUID | None] = mapped_column(ForeignKey("resource_groups.id"))
    since: Mapped[datetime | None]
    until: Mapped[datetime | None]
    hours: Mapped[dict[str, Any] | None]
    # The account, where the level decides who else gets in. The database sees to it.
    steward_of: Mapped[UUID | None]


class Use(Owned, Base):
    """On which days a permission of a grant was used, as one compact set of days; under no permission, any of them.

    The database keeps its two longest pauses in days beside them.
    """

    __tablename__ = "uses"
    __table_args__ = (UniqueConstraint("grant_id", "permission"),)

    grant_id: Mapped[UUID] = mapped_column(ForeignKey("grants.id"))
    permission: Mapped[str]
    days: Mapped[Any] = mapped_column(DATEMULTIRANGE)
    pauses: Mapped[list[int]] = mapped_column(ARRAY(Integer), Computed("longest_pauses(days)", persisted=True))


class Session(Proved, Keyed, Base):
    """A signed-in presence of a person or an app in an account. The database finds where its address is."""

    __tablename__ = "sessions"
    __table_args__ = (
        UniqueConstraint("organisation_id", "key"),
        CheckConstraint("num_nonnulls(person_id, app_id) = 1", name="one_holder"),
        Index("ix_sessions_account_id", "account_id"),
        Index("ix_sessions_holder_id", "holder_id"),
        Index("ix_sessions_last_seen_at", "organisation_id", "last_seen_at", "id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    person_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    app_id: Mapped[UUID | None] = mapped_column(ForeignKey("apps.id"))
    holder_id: Mapped[UUID] = mapped_column(Computed("coalesce(person_id, app_id)", persisted=True))
    holder_kind: Mapped[str] = mapped_column(
        Computed("case when person_id is not null then 'person' else 'app' end", persisted=True)
    )
    device: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")
    place: Mapped[str] = mapped_column(server_default="")
    country: Mapped[str | None]
    latitude: Mapped[float | None] = mapped_column(Double)
    longitude: Mapped[float | None] = mapped_column(Double)
    started_at: Mapped[datetime]
    last_seen_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_as: Mapped[str | None]
    handle: Mapped[dict[str, Any]] = mapped_column(server_default="{}")


class Place(Owned, Base):
    """Where the addresses of a network are, as far as anyone knows."""

    __tablename__ = "places"
    __table_args__ = (
        UniqueConstraint("organisation_id", "network"),
        CheckConstraint("latitude between -90 and 90 and longitude between -180 and 180", name="on_earth"),
        Index("ix_places_network", "network", postgresql_using="gist", postgresql_ops={"network": "inet_ops"}),
    )

    network: Mapped[Any] = mapped_column(CIDR)
    place: Mapped[str]
    country: Mapped[str]
    latitude: Mapped[float] = mapped_column(Double)
    longitude: Mapped[float] = mapped_column(Double)


class Finding(Base):
    """What the rules found on a subject: a number for each finding, and a hash of what their sentences say.

    Only subjects on which something was found have a row. Looking at everything again means comparing with it.
    """

    __tablename__ = "findings"

    subject_id: Mapped[UUID] = mapped_column(primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    kind: Mapped[str]
    found: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    words: Mapped[int] = mapped_column(BigInteger)


class Breach(Base):
    """What breaks the latches of an account, as it was when somebody last looked: how much, and the first in words."""

    __tablename__ = "breaches"

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"), primary_key=True)
    organisation_id: Mapped[UUID] = mapped_column(ForeignKey("organisations.id"))
    broken: Mapped[int]
    firm: Mapped[bool]
    reach: Mapped[int] = mapped_column(SmallInteger)
    words: Mapped[str]


class OwnRule(Owned, Base):
    """A rule of the organisation's own, as it was brought in a file. ``number`` is its own for ever."""

    __tablename__ = "own_rules"
    __table_args__ = (UniqueConstraint("organisation_id", "key"), UniqueConstraint("organisation_id", "number"))

    number: Mapped[int]
    key: Mapped[str]
    subject: Mapped[str]
    title: Mapped[str]
    about: Mapped[str]
    filter: Mapped[str]
    says: Mapped[str]
    remedy: Mapped[str]
    urgency: Mapped[int] = mapped_column(SmallInteger)
    source: Mapped[str]
    live: Mapped[bool] = mapped_column(server_default="true")
    made_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))


class Flag(Owned, Base):
    """A concern raised by a rule; one on a person has no account. ``worse_at``: its severity rose since it was raised.

    An accepted flag keeps the severity that was accepted: with a higher one it opens again.
    """

    __tablename__ = "flags"
    __table_args__ = (
        CheckConstraint("state in ('open', 'accepted', 'cleared')", name="state"),
        Index(
            "uq_flags_live",
            "organisation_id",
            "rule",
            "subject_id",
            unique=True,
            postgresql_where=text("state <> 'cleared'"),
        ),
        Index("ix_flags_score", "organisation_id", "state", "score", "id"),
        Index("ix_flags_subject_id", "subject_id"),
        Index("ix_flags_account_id", "account_id"),
        Index("ix_flags_holder_id", "holder_id"),
    )

    rule: Mapped[str]
    subject_kind: Mapped[str]
    subject_id: Mapped[UUID]
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    holder_id: Mapped[UUID]
    state: Mapped[str] = mapped_column(server_default="open")
    assigned_to_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    severity: Mapped[int] = mapped_column(SmallInteger)
    score: Mapped[int] = mapped_column(SmallInteger)
    parts: Mapped[dict[str, Any]]
    facts: Mapped[dict[str, Any]]
    sentence: Mapped[str]
    raised_at: Mapped[datetime]
    worse_at: Mapped[datetime | None]
    cleared_at: Mapped[datetime | None]
    accepted_severity: Mapped[int | None] = mapped_column(SmallInteger)
    accepted_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    accepted_reason: Mapped[str | None]
    accepted_until: Mapped[datetime | None]
