"""The words of the register as types. Each word means one thing everywhere."""

from __future__ import annotations

from enum import IntEnum, StrEnum


class Reach(IntEnum):
    """How far a permission goes. Ordered: a higher reach can do more harm."""

    OBSERVE = 1
    OPERATE = 2
    SPEND = 3
    STEWARD = 4

    @property
    def word(self) -> str:
        """The word as it is written in files and answers."""
        return self.name.lower()

    @property
    def plain(self) -> str:
        """What it means, for somebody who does not know the word."""
        return _REACH_PLAIN[self]

    @classmethod
    def from_word(cls, word: str) -> Reach:
        """The reach of that name; ValueError for any other word."""
        try:
            return cls[word.strip().upper()]
        except KeyError:
            raise ValueError(f"not a reach: {word!r}") from None


_REACH_PLAIN = {
    Reach.OBSERVE: "can see",
    Reach.OPERATE: "can change",
    Reach.SPEND: "can commit money or other people's rights",
    Reach.STEWARD: "can decide who else gets in",
}


class HolderKind(StrEnum):
    """Whoever a grant can be for."""

    PERSON = "person"
    TEAM = "team"
    APP = "app"
    ACCOUNT = "account"


class Standing(StrEnum):
    """How a person stands with the organisation."""

    CURRENT = "current"
    LEAVING = "leaving"
    LEFT = "left"


class Role(StrEnum):
    """What somebody who signs in may do besides what the register says of them (owner, steward)."""

    ADMINISTRATOR = "administrator"
    AUDITOR = "auditor"
    REVIEWER = "reviewer"
    MEMBER = "member"


class GrantState(StrEnum):
    """Where a grant is in its life. *revoking* still gives rights: only a read of the system ends them."""

    PENDING = "pending"
    ACTIVE = "active"
    SUSPENDED = "suspended"
    REVOKING = "revoking"
    ENDED = "ended"


class Proof(StrEnum):
    """How the end of access is known, from the surest to the least sure.

    *confirmed*: the system was asked again, and by its answer the access is gone. *stated*: a named person says that
    they removed it. *unproved*: skipped, unreadable, or not understood. *contradicted*: a later reading shows it.
    """

    CONFIRMED = "confirmed"
    STATED = "stated"
    UNPROVED = "unproved"
    CONTRADICTED = "contradicted"

    @property
    def mark(self) -> str:
        """A sign for it that needs no colour."""
        return _PROOF_MARKS[self]

    @property
    def plain(self) -> str:
        """What it means, in a few words."""
        return _PROOF_PLAIN[self]


_PROOF_MARKS = {Proof.CONFIRMED: "✓", Proof.STATED: "“”", Proof.UNPROVED: "?", Proof.CONTRADICTED: "✗"}
_PROOF_PLAIN = {
    Proof.CONFIRMED: "the system was asked again and shows it gone",
    Proof.STATED: "a person says that they removed it",
    Proof.UNPROVED: "nothing shows that it is gone",
    Proof.CONTRADICTED: "a later reading of the system shows it",
}


class EndedAs(StrEnum):
    """How a grant came to its end.

    A revocation ends as *revoked* only when it is confirmed; otherwise as what is known instead (``Proof``).
    """

    REVOKED = "revoked"
    STATED = "stated"
    UNPROVED = "unproved"
    CONTRADICTED = "contradicted"
    EXPIRED = "expired"
    DECLINED = "declined"
    WITHDRAWN = "withdrawn"
    GIVEN_UP = "given_up"
    REPLACED = "replaced"


class Severity(IntEnum):
    """How much a flag matters."""

    LOW = 1
    MEDIUM = 2
    HIGH = 3
    CRITICAL = 4

    @property
    def word(self) -> str:
        """The word as it is written in answers."""
        return self.name.lower()


class FlagState(StrEnum):
    """A flag is open, accepted until a day, or cleared because its facts changed."""

    OPEN = "open"
    ACCEPTED = "accepted"
    CLEARED = "cleared"


class Verdict(StrEnum):
    """What a reviewer decides on an item."""

    KEEP = "keep"
    TRIM = "trim"
    REVOKE = "revoke"


class Subject(StrEnum):
    """What an item of a review is about. A *link* is a grant of an app; an *acceptance* is an accepted flag."""

    GRANT = "grant"
    LINK = "link"
    SESSION = "session"
    EXPOSURE = "exposure"
    OWNERSHIP = "ownership"
    LATCH = "latch"
    ACCEPTANCE = "acceptance"


class ItemState(StrEnum):
    """Where an item is: *seconding* waits for a second reviewer to agree."""

    UNDECIDED = "undecided"
    SECONDING = "seconding"
    DECIDED = "decided"


class Fate(StrEnum):
    """What becomes of an item that nobody decided. What is kept so is flagged."""

    KEEP = "keep"
    SUSPEND = "suspend"
    REVOKE = "revoke"


class Happening(StrEnum):
    """What can open a small round of its own."""

    PERSON_LEAVES = "person_leaves"
    PERSON_MOVES = "person_moves"
    APP_GROWS = "app_grows"
    MORE_SENSITIVE = "more_sensitive"
    EMERGENCY_ENDED = "emergency_ended"


class Owed(StrEnum):
    """What a system still has to be brought to, for a grant."""

    GIVE = "give"
    CHANGE = "change"
    TAKE = "take"


class StepState(StrEnum):
    """Where a step of a revocation is. *skipped*: somebody said why it will not be done."""

    OPEN = "open"
    WAITING = "waiting"
    BY_HAND = "by_hand"
    DONE = "done"
    SKIPPED = "skipped"


class StepKind(StrEnum):
    """What a step does in the system where the account lives."""

    GIVE = "give"
    REMOVE = "remove"
    REDUCE = "reduce"
    END_SESSIONS = "end_sessions"
    LOCK = "lock"
    UNLOCK = "unlock"
    DROP = "drop"
    CLOSE = "close"
    BY_HAND = "by_hand"
    READ_AGAIN = "read_again"


SENSITIVITY_WORDS = {1: "low", 2: "medium", 3: "high", 4: "critical"}


class Cause(StrEnum):
    """Why a revocation began."""

    ASKED = "asked"
    REVIEW = "review"
    EXPIRED = "expired"
    GIVEN_UP = "given_up"
    REPLACED = "replaced"
    LEFT = "left"


class SystemKind(StrEnum):
    """The kinds of systems that there are adapters for, and systems that are changed by hand."""

    BY_HAND = "by_hand"
    POSTGRESQL = "postgresql"
    DIRECTORY = "directory"
    MAILBOXES = "mailboxes"
    HOST = "host"
    CLOUD = "cloud"
    WEBDAV = "dav"
    SCIM = "scim"
    MARIADB = "mariadb"
    OAUTH = "oauth"
    SSH_HOST = "ssh_host"
    OPEN_LATCH = "open_latch"


class OfferKind(StrEnum):
    """What is offered: access to an account, or its ownership."""

    ACCESS = "access"
    OWNERSHIP = "ownership"


class DraftState(StrEnum):
    """Where a draft of access rules is."""

    WAITING = "waiting"
    READY = "ready"
    REFUSED = "refused"
    APPLYING = "applying"
    APPLIED = "applied"
    FAILED = "failed"


class TrialState(StrEnum):
    """Where the trial of a connection to a system is."""

    WAITING = "waiting"
    GOOD = "good"
    REFUSED = "refused"


class ToldGuardState(StrEnum):
    """Where the telling of a guard to a system is that keeps guards itself."""

    WAITING = "waiting"
    SET = "set"
    OFF = "off"
    FAILED = "failed"


class Judgement(StrEnum):
    """What somebody decided about an exposure."""

    UNJUDGED = "unjudged"
    INTENDED = "intended"
    TO_CLOSE = "to_close"


class LargeChangeState(StrEnum):
    """Where a change to many grants is."""

    WAITING = "waiting"
    UNDER_WAY = "under_way"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"


class MailState(StrEnum):
    """Where a mail is on its way out."""

    WAITING = "waiting"
    SENT = "sent"
    FAILED = "failed"


class TokenScope(StrEnum):
    """What an API token may do."""

    READ = "read"
    WRITE = "write"
    # For a directory that keeps people and teams, and nothing else.
    SCIM = "scim"


class Acts(StrEnum):
    """When the decisions of a round are carried out."""

    WHEN_DECIDED = "when_decided"
    AT_CLOSE = "at_close"


class FileForm(StrEnum):
    """The forms of files that are read and written."""

    CSV = "csv"
    JSONL = "jsonl"
