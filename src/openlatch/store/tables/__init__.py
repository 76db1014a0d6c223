"""The tables. Every row belongs to one organisation, and row-level security keeps it there."""

from openlatch.store.tables.accounts import Account, App, Resource, ResourceGroup, ResourceInGroup
from openlatch.store.tables.acting import Visit
from openlatch.store.tables.base import Base, Organisation
from openlatch.store.tables.charter import AdoptedCharter
from openlatch.store.tables.exposure import (
    AccessRule,
    EvaluatedAccount,
    EvaluatedRule,
    ExpectedExposure,
    Exposure,
    ExposureGuard,
    OutsideUse,
    RuleDraft,
    SystemGuard,
)
from openlatch.store.tables.flags import ActionEffect, Comment, Finding, Flag, OwnRule, Postponement
from openlatch.store.tables.grants import EndReminder, Grant, LargeChange, Level, Session, Term, Use
from openlatch.store.tables.identity import (
    AddressProof,
    ApiToken,
    DeviceRequest,
    IdempotencyKey,
    IdentityProvider,
    Invitation,
    Passkey,
    PasswordReset,
    ProviderSubject,
    RecoveryCode,
    SetUpCode,
    SignIn,
    SignInAttempt,
    SignInLink,
    UsedToken,
    WebSession,
)
from openlatch.store.tables.journal import (
    JournalEntry,
    JournalHead,
    PublishedKey,
    SyslogPosition,
    TokenKey,
    TreeHead,
    Version,
)
from openlatch.store.tables.latches import Breach, Latch
from openlatch.store.tables.lists import FileMatching, FilterMail, SavedFilter
from openlatch.store.tables.notifications import Mail, Notice
from openlatch.store.tables.offers import Offer
from openlatch.store.tables.partners import PartnerLink
from openlatch.store.tables.people import Membership, Merge, Person, PersonAddress, Roster, Team
from openlatch.store.tables.requests import AccessRequest
from openlatch.store.tables.reviews import Calendar, EvidenceBundle, Item, Occurrence, Question, Round, Schedule
from openlatch.store.tables.revocations import Revocation, RevocationTarget, Step
from openlatch.store.tables.scim import ScimRecord
from openlatch.store.tables.signals import ReceivedSignal, SignalSource, SignalStream
from openlatch.store.tables.systems import Handle, HandTask, Mark, Place, System, SystemTrial
from openlatch.store.tables.webhooks import Delivery, Webhook

__all__ = [
    "AccessRequest",
    "AccessRule",
    "Account",
    "ActionEffect",
    "AddressProof",
    "AdoptedCharter",
    "ApiToken",
    "App",
    "Base",
    "Breach",
    "Calendar",
    "Comment",
    "Delivery",
    "DeviceRequest",
    "EndReminder",
    "EvaluatedAccount",
    "EvaluatedRule",
    "EvidenceBundle",
    "ExpectedExposure",
    "Exposure",
    "ExposureGuard",
    "FileMatching",
    "FilterMail",
    "Finding",
    "Flag",
    "Grant",
    "HandTask",
    "Handle",
    "IdempotencyKey",
    "IdentityProvider",
    "Invitation",
    "Item",
    "JournalEntry",
    "JournalHead",
    "LargeChange",
    "Latch",
    "Level",
    "Mail",
    "Mark",
    "Membership",
    "Merge",
    "Notice",
    "Occurrence",
    "Offer",
    "Organisation",
    "OutsideUse",
    "OwnRule",
    "PartnerLink",
    "Passkey",
    "PasswordReset",
    "Person",
    "PersonAddress",
    "Place",
    "Postponement",
    "ProviderSubject",
    "PublishedKey",
    "Question",
    "ReceivedSignal",
    "RecoveryCode",
    "Resource",
    "ResourceGroup",
    "ResourceInGroup",
    "Revocation",
    "RevocationTarget",
    "Roster",
    "Round",
    "RuleDraft",
    "SavedFilter",
    "Schedule",
    "ScimRecord",
    "Session",
    "SetUpCode",
    "SignIn",
    "SignInAttempt",
    "SignInLink",
    "SignalSource",
    "SignalStream",
    "Step",
    "SyslogPosition",
    "System",
    "SystemGuard",
    "SystemTrial",
    "Team",
    "Term",
    "TokenKey",
    "TreeHead",
    "Use",
    "UsedToken",
    "Version",
    "Visit",
    "WebSession",
    "Webhook",
]
