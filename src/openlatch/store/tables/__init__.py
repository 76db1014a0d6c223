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
    IdempotencyKey,
    JournalEntry,
    JournalHead,
    SignIn,
    SignInAttempt,
    WebSession,
)
from openlatch.store.tables.register import (
    Account,
    App,
    Flag,
    Grant,
    Handle,
    Level,
    Membership,
    Person,
    Session,
    System,
    Team,
    Term,
    Use,
)
from openlatch.store.tables.working import (
    Calendar,
    Item,
    Occurrence,
    Question,
    Revocation,
    RevocationTarget,
    Round,
    Schedule,
    Step,
)

__all__ = [
    "AccessRequest", "Account", "AddressProof", "ApiToken", "App", "Base", "Calendar", "Flag", "Grant", "Handle",
    "IdempotencyKey", "Item", "JournalEntry", "JournalHead", "Latch", "Level", "Mail", "Membership", "Notice",
    "Occurrence", "Offer", "Organisation", "Person", "Question", "Resource", "ResourceGroup", "ResourceInGroup",
    "Revocation", "RevocationTarget", "Round", "Schedule", "Session", "SignIn", "SignInAttempt", "Step", "System",
    "Team", "Term", "Use", "Visit", "WebSession",
]  # fmt: skip
