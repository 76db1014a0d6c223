"""The tables. Every row belongs to one organisation, and row-level security keeps it there."""

from openlatch.store.tables.base import Base, Organisation
from openlatch.store.tables.giving import (
    AccessRequest,
    AddressProof,
    Latch,
    Mail,
    Notice,
    Offer,
    Resource,
    ResourceGroup,
    ResourceInGroup,
    Visit,
)
from openlatch.store.tables.keeping import (
    ApiToken,
    EvidenceBundle,
    IdempotencyKey,
    JournalEntry,
    JournalHead,
    PublishedKey,
    SignIn,
    SignInAttempt,
    TreeHead,
    Version,
    WebSession,
)
from openlatch.store.tables.register import (
    Account,
    App,
    Breach,
    Finding,
    Flag,
    Grant,
    Handle,
    Level,
    Mark,
    Membership,
    OwnRule,
    Person,
    Place,
    Roster,
    Session,
    System,
    Team,
    Term,
    Use,
)
from openlatch.store.tables.working import (
    Calendar,
    Item,
    LargeChange,
    Occurrence,
    Question,
    Revocation,
    RevocationTarget,
    Round,
    Schedule,
    Step,
)

__all__ = [
    "AccessRequest", "Account", "AddressProof", "ApiToken", "App", "Base", "Breach", "Calendar", "EvidenceBundle",
    "Finding", "Flag", "Grant", "Handle",
    "IdempotencyKey", "Item", "JournalEntry", "JournalHead", "LargeChange", "Latch",
    "Level", "Mail", "Mark", "Membership", "Notice",
    "Occurrence", "Offer", "Organisation", "OwnRule", "Person", "Place", "PublishedKey", "Question", "Resource",
    "ResourceGroup", "ResourceInGroup",
    "Revocation", "RevocationTarget", "Roster", "Round", "Schedule", "Session", "SignIn", "SignInAttempt", "Step",
    "System", "Team", "Term", "TreeHead", "Use", "Version", "Visit", "WebSession",
]  # fmt: skip
