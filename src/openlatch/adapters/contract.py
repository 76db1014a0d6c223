"""The contract between Open Latch and a system: abilities, read, plan, apply a step, confirm a step.

An adapter is made from a system's settings and its secret, and keeps no state between calls. Every call ends in time:
SystemDown when the system does not answer, SystemRefused when it refuses. ``docs/how-to/write-an-adapter.md`` explains
how to write one; every adapter has to pass ``tests/adapters/test_conformance.py``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from datetime import date, datetime
from types import MappingProxyType
from typing import ClassVar, Protocol

from openlatch.adapters.coverage import Coverage
from openlatch.core.exposure.rules import Combining, Right
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonList, JsonObject, JsonView

# What can hang on a login: objects that it owns, jobs that nobody attends to, keys that machines come in by, what
# others do, or have done for them, by its consent, and a password that ends while other ways of signing in go on.
HANGS = ("object", "job", "key", "others", "password")

NOTHING: Mapping[str, str] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class RuleManner:
    """How a system evaluates access rules: how they combine, and its permissions with their rights.

    ``logins_known``: nobody can sign in there except by a login that a reading reports.
    """

    combining: Combining
    permissions: Mapping[str, Right]
    logins_known: bool = True


@dataclass(frozen=True, slots=True)
class Abilities:
    """What an adapter can do besides reading and removing grants, and the privileges that it needs.

    ``steps`` are the kinds of steps that it carries out. ``sessions`` and ``use``: whether a reading reports them;
    ``sessions_first``: sessions and tokens have to end before anything else, since an open session would renew what is
    removed; ``secret``: whether it needs a password or key; ``stamps``: whether a reading can skip what has not
    changed; ``rules``: how it evaluates access rules, if a reading reports them; ``sets_rules``: whether all rules of
    an account can be set; ``sets_guards``: whether guards over all of them can.
    """

    steps: frozenset[StepKind]
    rights: tuple[str, ...]
    sessions: bool = False
    use: bool = False
    sessions_first: bool = False
    secret: bool = True
    stamps: bool = False
    rules: RuleManner | None = None
    sets_rules: bool = False
    sets_guards: bool = False


@dataclass(frozen=True, slots=True)
class Setting:
    """A setting of an adapter; mandatory without a ``usual`` value."""

    name: str
    about: str
    usual: str | int | None = None


@dataclass(frozen=True, slots=True)
class FoundLevel:
    """A level of the system: key, name, sentence, and its permissions as (key, sentence, reach)."""

    key: str
    name: str
    sentence: str
    permissions: tuple[tuple[str, str, Reach], ...]


@dataclass(frozen=True, slots=True)
class FoundPart:
    """A part of a shared account that can be shared separately.

    ``path`` is how access rules name it, by default the handle. ``above`` are the keys of groups above it, from the
    nearest; without ``inherits`` only its own rules apply.
    """

    account: str
    handle: str
    name: str
    kind: str
    path: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)
    above: tuple[str, ...] = ()
    inherits: bool = True


@dataclass(frozen=True, slots=True)
class FoundRule:
    """An access rule of an account, in the form of a rule document; a guard refuses above all rules.

    Conditions that are not understood are reported as such. ``handle`` is how a closing step names the rule; empty if
    the adapter can't remove it.
    """

    account: str
    rule: JsonView
    handle: JsonView = field(default_factory=dict)
    is_guard: bool = False

    @property
    def key(self) -> str:
        """Its key, one within the account."""
        return str(self.rule["guard" if self.is_guard else "rule"])


@dataclass(frozen=True, slots=True)
class UsedOutside:
    """Somebody used a right on a part of an account on a day by its access rules; nobody in particular if ``who`` is
    empty.
    """

    account: str
    part: str
    right: Right
    day: date
    who: str = ""
    address: str = ""


@dataclass(frozen=True, slots=True)
class SharedAccount:
    """A shared account by the system's name for it.

    ``stamp`` is the system's change token for it, if there is one: while it is the same, its holdings are too.
    """

    handle: str
    comment: str
    kind: str = "role"
    stamp: str = ""


@dataclass(frozen=True, slots=True)
class Unchanged:
    """The holdings of an account are as at the last reading, by its stamp; they are not reported again."""

    account: str


@dataclass(frozen=True, slots=True)
class Login:
    """Somebody or something that can sign in.

    ``marks`` identify them elsewhere: address, uid, fingerprint, employee. ``locked``: the system lets them in nowhere.
    ``hangs`` is what depends on this login and stops, or is left over, without it: pairs of a kind (one of ``HANGS``)
    and a sentence.
    """

    handle: str
    comment: str
    is_app: bool
    marks: Mapping[str, str] = field(default_factory=dict)
    locked: bool = False
    hangs: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Holding:
    """A login, or another shared account, may act in a shared account, or in parts of it.

    ``level`` is for the whole account, and empty if only parts are held; ``parts`` are pairs of part and level.
    ``handle`` is how steps name it. If removing it takes something from others, its ``also_ends`` says so, in sentences
    for the preview.
    """

    account: str
    holder: str
    holder_is_account: bool
    level: str
    until: datetime | None
    handle: JsonObject
    parts: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Presence:
    """An open session."""

    key: str
    login: str
    device: str
    address: str
    started_at: datetime
    last_seen_at: datetime
    handle: JsonObject


@dataclass(frozen=True, slots=True)
class Used:
    """A login used a permission in an account on a day; an empty permission is unknown.

    Without an account it counts for everything that they hold there.
    """

    account: str
    holder: str
    day: date
    permission: str = ""


@dataclass(frozen=True, slots=True)
class Whole:
    """The reading is complete. Without this mark, what was not seen may exist all the same."""


Found = (
    FoundLevel
    | SharedAccount
    | Unchanged
    | FoundPart
    | FoundRule
    | Login
    | Holding
    | Presence
    | Used
    | UsedOutside
    | Coverage
    | Whole
)


def whole(found: Iterable[Found]) -> Iterator[Found]:
    """What was found, streamed. SystemDown if the reading breaks off before its end."""
    ended = False
    for thing in found:
        ended = ended or isinstance(thing, Whole)
        yield thing
    if not ended:
        raise SystemDown("The reading broke off half-way.", "Nothing was changed; it will be read again.")


@dataclass(frozen=True, slots=True)
class Reading:
    """A whole reading in memory, for small systems."""

    levels: tuple[FoundLevel, ...] = ()
    accounts: tuple[SharedAccount, ...] = ()
    unchanged: tuple[Unchanged, ...] = ()
    parts: tuple[FoundPart, ...] = ()
    rules: tuple[FoundRule, ...] = ()
    logins: tuple[Login, ...] = ()
    holdings: tuple[Holding, ...] = ()
    presences: tuple[Presence, ...] = ()
    used: tuple[Used, ...] = ()
    used_outside: tuple[UsedOutside, ...] = ()
    coverage: tuple[Coverage, ...] = ()

    @classmethod
    def of(cls, found: Iterable[Found]) -> Reading:
        """All that was found. SystemDown if the reading breaks off before its end."""
        sorted_out: dict[type, JsonList] = {}
        for thing in whole(found):
            sorted_out.setdefault(type(thing), []).append(thing)
        kinds = (
            FoundLevel,
            SharedAccount,
            Unchanged,
            FoundPart,
            FoundRule,
            Login,
            Holding,
            Presence,
            Used,
            UsedOutside,
            Coverage,
        )
        return cls(*(tuple(sorted_out.get(kind, ())) for kind in kinds))


class Adapter(Protocol):
    """What a kind of system has to be able to do; ``together`` and ``again`` have defaults."""

    settings_taken: ClassVar[tuple[Setting, ...]]
    """What it has to be told besides its secret."""
    can: ClassVar[Abilities]
    """What it can do, and what it needs for it."""

    def check(self) -> None:
        """Try the settings and the secret. SystemDown, or SystemRefused naming the missing privilege."""
        ...

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Everything in the system, streamed, with ``Whole`` at the end.

        ``since`` are the accounts' stamps at the last reading: an account with the same stamp may be reported as
        ``Unchanged``. ``Coverage`` says for each account, and for the whole system, what was covered and what not; what
        can't be understood is reported there, and never counts as absent.
        """
        ...

    def together(self) -> AbstractContextManager[None]:
        """Several calls in sequence, over one connection where that helps. Each is independent."""
        return nullcontext()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Whether a holding of one level can be reduced to the other, by their keys."""
        ...

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """How steps name a holding that does not exist yet: account and login by their handles, level by key."""
        ...

    def again(self, handle: JsonObject) -> JsonObject | None:
        """How exactly what a holding's handle names is given again; None where ``holding`` says it as well."""
        return None

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """The moves by which this system gets a holding removed or reduced, in the order that it insists on."""
        ...

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """Carry out one step, and say what was done. Idempotent: a second time it says that nothing was to be done."""
        ...

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """Check a step's effect: None if it is there, else what the system shows instead.

        Wherever possible the system is asked by the login's name for what it may do. SystemRefused when the answer is
        not understood: that never counts as absent.
        """
        ...

    def set_rules(self, account: str, rules: Sequence[JsonView], known: Sequence[JsonView]) -> str:
        """Set all access rules of an account, if it has those that are ``known``; say what was done.

        SystemRefused when it has others by now, so that no change is lost, or when it does not accept them. Equal rules
        are not written again.
        """
        raise SystemRefused("Access rules can't be set in such a system from here.", "Set them there.")

    def set_guards(self, guards: Sequence[JsonView], prefix: str) -> str:
        """Set exactly these guards over all accounts among those with this key prefix; others stay as they are."""
        raise SystemRefused("Such a system has no guard over all accounts.", "Close what is open one by one.")
