"""The contract between Open Latch and a system: say what it can, read, plan, apply one step, confirm one step.

An adapter is made from a system's settings and its secret. It keeps no state between calls. Every call ends in
time: SystemDown when the system does not answer, SystemRefused when it says no. How to write one is in
``docs/how-to/write-an-adapter.md``; ``tests/adapters/test_conformance.py`` is what every one of them has to pass.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from datetime import date, datetime
from types import MappingProxyType
from typing import Any, ClassVar, Protocol

from openlatch.adapters.coverage import Coverage
from openlatch.core.exposure.rules import Combining, Right
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Reach, StepKind
from openlatch.errors import SystemDown, SystemRefused

# What can hang on a login: objects that it owns, jobs that nobody attends to, keys that machines come in by, what
# others do, or have done for them, by its consent, and a password that ends while other ways of signing in go on.
HANGS = ("object", "job", "key", "others", "password")

NOTHING: Mapping[str, str] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class RuleManner:
    """How a system decides by access rules: how they combine, and its permissions with the rights they come to.

    ``logins_known`` says whether nobody can sign in there but by a login that a reading tells of.
    """

    combining: Combining
    permissions: Mapping[str, Right]
    logins_known: bool = True


@dataclass(frozen=True, slots=True)
class Abilities:
    """What an adapter can do besides reading and taking grants away, and the rights that it needs in the system.

    ``steps`` are the kinds of steps that it carries out. ``sessions`` and ``use`` say whether a reading tells of them;
    ``sessions_first`` that access ends by ending sessions and tokens before anything else, since a session that goes
    on would give itself what is taken away; ``secret`` whether it needs a password or key; ``stamps`` whether a reading
    need not tell again what has not changed; ``rules`` how it decides by access rules, where a reading tells of them;
    ``sets_rules`` whether it can be given all rules of an account, ``sets_guards`` whether guards over all of them.
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
    """One thing that an adapter has to be told; without a ``usual`` value it has to be given."""

    name: str
    about: str
    usual: str | int | None = None


@dataclass(frozen=True, slots=True)
class FoundLevel:
    """A level that the system knows: key, name, sentence, and its permissions as (key, sentence, reach)."""

    key: str
    name: str
    sentence: str
    permissions: tuple[tuple[str, str, Reach], ...]


@dataclass(frozen=True, slots=True)
class FoundPart:
    """A part of a shared account that can be shared alone.

    ``path`` is how access rules name it, the handle where it is empty. ``above`` are the keys of groups above it, from
    the nearest; without ``inherits`` it has rules of its own only.
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

    A condition that is not understood is told as such in it. ``handle`` is how a step that closes names it; it is empty
    where the adapter can't take it away.
    """

    account: str
    rule: Mapping[str, Any]
    handle: Mapping[str, Any] = field(default_factory=dict)
    is_guard: bool = False

    @property
    def key(self) -> str:
        """Its key, one within the account."""
        return str(self.rule["guard" if self.is_guard else "rule"])


@dataclass(frozen=True, slots=True)
class UsedOutside:
    """That somebody used a right on a part of an account on a day by its access rules; by nobody in particular where
    ``who`` is empty.
    """

    account: str
    part: str
    right: Right
    day: date
    who: str = ""
    address: str = ""


@dataclass(frozen=True, slots=True)
class SharedAccount:
    """A shared account by the name that the system has for it.

    ``stamp`` is the system's own mark of its present state, where it has one: as long as it is the same, so is what
    is held in it.
    """

    handle: str
    comment: str
    kind: str = "role"
    stamp: str = ""


@dataclass(frozen=True, slots=True)
class Unchanged:
    """That what is held in an account is as its stamp of the last reading says; it is not told again."""

    account: str


@dataclass(frozen=True, slots=True)
class Login:
    """Somebody or something that can sign in.

    ``marks`` are what they can be told by elsewhere: address, uid, fingerprint, employee. ``locked`` when the system
    lets them in nowhere. ``hangs`` is what hangs on this login and stops, or is left over, without it: pairs of what
    it is (one of ``HANGS``) and a sentence.
    """

    handle: str
    comment: str
    is_app: bool
    marks: Mapping[str, str] = field(default_factory=dict)
    locked: bool = False
    hangs: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Holding:
    """That a login, or another shared account, may act in a shared account, or in parts of it.

    ``level`` is for the whole account, and empty when only parts are held; ``parts`` are pairs of part and level.
    ``handle`` is how steps name it. Where removing it takes something from others, ``also_ends`` in it says so, in
    sentences that a preview shows.
    """

    account: str
    holder: str
    holder_is_account: bool
    level: str
    until: datetime | None
    handle: dict[str, Any]
    parts: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Presence:
    """A session that is going on."""

    key: str
    login: str
    device: str
    address: str
    started_at: datetime
    last_seen_at: datetime
    handle: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Used:
    """That a login used what it holds in an account on a day; by none where the system does not say by which.

    Without an account it counts for all that they hold there.
    """

    account: str
    holder: str
    day: date
    permission: str = ""


@dataclass(frozen=True, slots=True)
class Whole:
    """That the reading has come to its end: without it, what was not seen may be there all the same."""


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
    """What was found, as it comes. SystemDown at the end when it broke off before its own."""
    ended = False
    for thing in found:
        ended = ended or isinstance(thing, Whole)
        yield thing
    if not ended:
        raise SystemDown("The reading broke off half-way.", "Nothing was changed; it will be read again.")


@dataclass(frozen=True, slots=True)
class Reading:
    """What a small system has, all of it, in memory: a reading is complete or is not made."""

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
        """The whole of what was found. SystemDown when it broke off before its end."""
        sorted_out: dict[type, list[Any]] = {}
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
    """What a kind of system has to be able to do; ``together`` and ``again`` need not be said again."""

    settings_taken: ClassVar[tuple[Setting, ...]]
    """What it has to be told besides its secret."""
    can: ClassVar[Abilities]
    """What it can do, and what it needs for it."""

    def check(self) -> None:
        """Try the settings and the secret. SystemDown, or SystemRefused with the right that is missing."""
        ...

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Everything that there is, as it comes, with ``Whole`` at the end.

        ``since`` are the stamps of accounts at the last reading: what is held in one whose stamp is the same need not
        be told again, only that it is ``Unchanged``. ``Coverage`` says of each account, and of the whole system, what
        was looked at and what was not; what can't be understood is told there, and never taken for absence.
        """
        ...

    def together(self) -> AbstractContextManager[None]:
        """Several calls one after the other, over one connection where that helps. Each stands by itself."""
        return nullcontext()

    def can_reduce(self, level: str, lower: str) -> bool:
        """Whether a holding of one level can be reduced to the other, by their keys."""
        ...

    def holding(self, account: str, login: str, level: str) -> dict[str, Any]:
        """How a holding that does not exist yet is named in steps: account and login by their handles, level by key."""
        ...

    def again(self, handle: dict[str, Any]) -> dict[str, Any] | None:
        """How just what a holding's handle names is given once more; None where ``holding`` says it as well."""
        return None

    def plan(self, kind: StepKind, detail: dict[str, Any]) -> tuple[Move, ...]:
        """The moves by which this system gets a holding removed or reduced, in the order that it insists on."""
        ...

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        """Carry one step out, and say what was done. Doing it again changes nothing and says so."""
        ...

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        """Look whether a step's effect is there: None when it is, else what the system shows instead.

        The system is asked by the name of the login for what it lets it do, wherever it can say that. SystemRefused
        when its answer is not understood: that is never taken for absence.
        """
        ...

    def set_rules(self, account: str, rules: Sequence[Mapping[str, Any]], known: Sequence[Mapping[str, Any]]) -> str:
        """Set all access rules of an account, where it has those that are ``known``; say what was done.

        SystemRefused when it has others by now, so that nobody's change is lost, or when it does not take them. What is
        so already is not written again.
        """
        raise SystemRefused("Access rules can't be set in such a system from here.", "Set them there.")

    def set_guards(self, guards: Sequence[Mapping[str, Any]], prefix: str) -> str:
        """Set just these guards over all accounts, of those whose keys begin so; others stay as they are."""
        raise SystemRefused("Such a system has no guard over all accounts.", "Close what is open one by one.")
