"""What is open to outsiders: access rules, the exposures that follow from them, guards, drafts, use by outsiders."""

from __future__ import annotations

from datetime import date, datetime
from uuid import UUID

from sqlalchemy import CheckConstraint, ForeignKey, Index, SmallInteger, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import Mapped, mapped_column

from openlatch.json_values import JsonList, JsonObject
from openlatch.store.tables.base import Base, Owned, Proved, Recorded


class AccessRule(Recorded, Owned, Base):
    """An access rule of an account, as read in its system or recorded by hand.

    ``plain`` is the rule in the form of a rule document. A guard of the system refuses above all rules. ``handle`` is
    how steps identify it in the system; one without can't be removed from here.
    """

    __tablename__ = "access_rules"
    __table_args__ = (
        UniqueConstraint("account_id", "key"),
        Index("ix_access_rules_organisation_id", "organisation_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    key: Mapped[str]
    position: Mapped[int] = mapped_column(server_default="0")
    is_guard: Mapped[bool] = mapped_column(server_default="false")
    by_hand: Mapped[bool] = mapped_column(server_default="false")
    plain: Mapped[JsonObject]
    handle: Mapped[JsonObject] = mapped_column(server_default="{}")


class EvaluatedRule(Owned, Base):
    """An access rule as it was when exposures were last evaluated: its version, and the places that it covers.

    ``recorded_at`` is that of the version. A rule without such a row is new; a row without a rule is of one that is
    gone.
    """

    __tablename__ = "evaluated_rules"
    __table_args__ = (
        UniqueConstraint("account_id", "key"),
        Index("ix_evaluated_rules_organisation_id", "organisation_id"),
        Index("ix_evaluated_rules_places", "places", postgresql_using="gin"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    key: Mapped[str]
    recorded_at: Mapped[datetime]
    places: Mapped[list[str]] = mapped_column(ARRAY(Text))


class EvaluatedAccount(Owned, Base):
    """Marks that the exposures of an account have been evaluated for everything recorded by then."""

    __tablename__ = "evaluated_accounts"
    __table_args__ = (
        UniqueConstraint("account_id"),
        Index("ix_evaluated_accounts_organisation_id", "organisation_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    recorded_at: Mapped[datetime]


class Exposure(Proved, Owned, Base):
    """A right that outsiders have on a resource of an account, or on the whole account if there is none.

    ``is_blocked`` ones are kept closed by a guard of the system; ``against`` are guards of the organisation that they
    break. A judgement is stored with the ways in that were judged, and holds as long as nothing goes beyond them.
    Exposures that are gone stay for their history.
    """

    __tablename__ = "exposures"
    __table_args__ = (
        CheckConstraint("judgement in ('unjudged', 'intended', 'to_close')", name="judgement"),
        Index(
            "uq_exposures_account_id_resource_id_right",
            "account_id",
            "resource_id",
            "right",
            "is_blocked",
            unique=True,
            postgresql_nulls_not_distinct=True,
        ),
        Index("ix_exposures_organisation_id", "organisation_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    right: Mapped[str]
    is_blocked: Mapped[bool] = mapped_column(server_default="false")
    audience: Mapped[int] = mapped_column(SmallInteger)
    is_open: Mapped[bool]
    is_entangled: Mapped[bool] = mapped_column(server_default="false")
    ways: Mapped[JsonList]
    admitted_by: Mapped[JsonList]
    narrowed_by: Mapped[JsonList]
    unknown: Mapped[JsonList]
    against: Mapped[JsonList] = mapped_column(server_default="[]")
    sentence: Mapped[str]
    digest: Mapped[UUID]
    since: Mapped[datetime]
    grew_at: Mapped[datetime | None]
    gone_at: Mapped[datetime | None]
    last_used_on: Mapped[date | None]
    judgement: Mapped[str] = mapped_column(server_default="unjudged")
    judged_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("people.id"))
    judged_at: Mapped[datetime | None]
    judged_reason: Mapped[str] = mapped_column(server_default="")
    judged_ways: Mapped[JsonList | None] = mapped_column(JSONB(none_as_null=True))
    judged_sensitivity: Mapped[int | None] = mapped_column(SmallInteger)
    expected_by_id: Mapped[UUID | None] = mapped_column(ForeignKey("expected_exposures.id"))
    intended_until: Mapped[datetime | None]
    version: Mapped[int] = mapped_column(server_default="1")


class ExpectedExposure(Owned, Base):
    """Expected exposures, as a filter over them: a press page is public. ``reason`` says why."""

    __tablename__ = "expected_exposures"
    __table_args__ = (Index("ix_expected_exposures_organisation_id", "organisation_id"),)

    name: Mapped[str]
    filter: Mapped[str]
    reason: Mapped[str]
    made_by: Mapped[str]


class ExposureGuard(Owned, Base):
    """A guard: whom it refuses, to do what, with which exceptions; on everything, a kind, an account or a resource.

    ``account_kind``, ``account_id`` and ``resource_id`` say on what; without any of them, on the whole organisation.
    """

    __tablename__ = "exposure_guards"
    __table_args__ = (
        CheckConstraint("num_nonnulls(account_kind, account_id, resource_id) <= 1", name="one_subject"),
        Index("ix_exposure_guards_organisation_id", "organisation_id"),
    )

    account_kind: Mapped[str | None]
    account_id: Mapped[UUID | None] = mapped_column(ForeignKey("accounts.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    refuses: Mapped[str]
    rights: Mapped[JsonList]
    but: Mapped[JsonList] = mapped_column(server_default="[]")
    reason: Mapped[str]
    made_by: Mapped[str]


class SystemGuard(Owned, Base):
    """A guard that was set in a system, which then enforces it.

    ``state`` is *waiting* to be set, *set* (a reading shows it), *off* (a reading no longer shows it: somebody switched
    it off), or *failed*.
    """

    __tablename__ = "system_guards"
    __table_args__ = (
        CheckConstraint("state in ('waiting', 'set', 'off', 'failed')", name="state"),
        UniqueConstraint("guard_id", "system_id"),
        Index("ix_system_guards_organisation_id", "organisation_id"),
        Index("ix_system_guards_system_id", "system_id"),
    )

    guard_id: Mapped[UUID] = mapped_column(ForeignKey("exposure_guards.id", ondelete="CASCADE"))
    system_id: Mapped[UUID] = mapped_column(ForeignKey("systems.id", ondelete="CASCADE"))
    state: Mapped[str] = mapped_column(server_default="waiting")
    words: Mapped[str] = mapped_column(server_default="")
    seen_at: Mapped[datetime | None]


class OutsideUse(Owned, Base):
    """An outsider used a right on a resource on a day, as reported by the system; an empty name is nobody in
    particular.
    """

    __tablename__ = "outside_uses"
    __table_args__ = (
        Index(
            "uq_outside_uses_account_id_resource_id_right_day_who_address",
            "account_id",
            "resource_id",
            "right",
            "day",
            "who",
            "address",
            unique=True,
            postgresql_nulls_not_distinct=True,
        ),
        Index("ix_outside_uses_organisation_id", "organisation_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    resource_id: Mapped[UUID | None] = mapped_column(ForeignKey("resources.id"))
    right: Mapped[str]
    day: Mapped[date]
    who: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str] = mapped_column(server_default="")


class RuleDraft(Owned, Base):
    """A draft of an account's access rules: the document, and what it would open and close.

    ``state`` is *waiting* for evaluation, *ready*, *refused* (the document can't be read), *applying*, *applied* (the
    system shows it), or *failed*.
    """

    __tablename__ = "rule_drafts"
    __table_args__ = (
        CheckConstraint("state in ('waiting', 'ready', 'refused', 'applied', 'applying', 'failed')", name="state"),
        Index("ix_rule_drafts_account_id", "account_id"),
    )

    account_id: Mapped[UUID] = mapped_column(ForeignKey("accounts.id"))
    made_by: Mapped[str]
    document: Mapped[str]
    state: Mapped[str] = mapped_column(server_default="waiting")
    result: Mapped[JsonObject] = mapped_column(server_default="{}")
    worked_out_at: Mapped[datetime | None]
    applied_at: Mapped[datetime | None]
    applied_by: Mapped[str] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
