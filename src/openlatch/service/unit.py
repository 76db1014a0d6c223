"""What every use case works in: the service as a whole, who is asking, and one transaction."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from itertools import chain
from pathlib import Path
from uuid import UUID
from zoneinfo import ZoneInfo

from cryptography.fernet import Fernet, MultiFernet
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from sqlalchemy import Engine, select, text
from sqlalchemy.orm import Session as Db
from structlog import get_logger

from openlatch.adapters import ADAPTERS, Adapter, Maker
from openlatch.core.journal.syslog import Server as SyslogServer
from openlatch.errors import ProofNeeded, ReadOnly, RegisterDown, ServerReadOnly
from openlatch.json_values import JsonObject
from openlatch.service.call_slots import Rooms
from openlatch.service.permissions import Sight
from openlatch.store import journal
from openlatch.store.archive import Archive
from openlatch.store.database import Standby, told_apart, transaction
from openlatch.store.flags.evaluate_many import Ruling
from openlatch.store.tables import Organisation, Person

log = get_logger()
CHANNEL = "openlatch_changes"
FRESH_PROOF = timedelta(minutes=10)
Wake = Callable[[str, dict[str, str], datetime | None], None]


def utc_now() -> datetime:
    """The time, in UTC."""
    return datetime.now(UTC)


def no_wake(task: str, arguments: dict[str, str], at: datetime | None) -> None:
    """Wake nobody; the worker's periodic rounds find what is due."""


@dataclass(frozen=True, slots=True)
class Waking:
    """Waking the worker for a task. Two for the same are equal, so that it is woken once."""

    wake: Wake
    task: str
    arguments: tuple[tuple[str, str], ...]
    at: datetime | None

    def __call__(self) -> None:
        """Wake it."""
        self.wake(self.task, dict(self.arguments), self.at)


@dataclass(frozen=True)
class Service:
    """The service: its database, its clock, the key for secrets, how to wake the worker, the adapters.

    ``address`` is where people reach the console; links in mail begin with it. From ``signing_seed`` the key is made
    that signs short-lived tokens, from ``evidence_seed`` the one that signs evidence and heads of the journal. These
    heads go to ``tree_heads_file``, and are stamped by ``timestamp_authority``, where these are set.

    ``syslog`` is the server that journals are forwarded to. Webhooks go into private networks only to the hosts named
    by ``private_receivers``. Reads are answered by the ``standby`` of the database, where there is one. What is older
    than the database keeps is in the ``archive``.

    ``itself`` makes the adapter by which it reads and changes itself, for an organisation (``service.itself``).

    The secrets of systems have a key of their own, ``systems_cipher``, where one is set. What answers people does not
    open them: it ``holds_secrets`` of no system, calls none, and has no ``evidence_seed``.
    """

    engine: Engine
    cipher: Fernet
    clock: Callable[[], datetime] = utc_now
    wake: Wake = no_wake
    adapters: Mapping[str, Maker] = field(default_factory=lambda: ADAPTERS)
    address: str = "http://127.0.0.1:8620"
    signing_seed: bytes = b""
    evidence_seed: bytes = b""
    systems_seed: bytes = b""
    tree_heads_file: Path | None = None
    timestamp_authority: str = ""
    systems_cipher: Fernet | MultiFernet | None = None
    private_receivers: tuple[str, ...] = ()
    syslog: SyslogServer | None = None
    holds_secrets: bool = True
    itself: Callable[[Service, UUID], Adapter] | None = None
    rulings: dict[UUID, tuple[int, Ruling]] = field(default_factory=dict)
    token_keys: list[RSAPrivateKey] = field(default_factory=list)
    standby: Standby | None = None
    rooms: Rooms = field(default_factory=Rooms)
    archive: Archive = field(default_factory=Archive)

    @contextmanager
    def reading(self, viewer: Viewer, what: str) -> Iterator[Unit | None]:
        """What only reads, on the standby; None where that does not do, and ``unit`` has to.

        ``what`` names it: once it has turned out to write, it is not tried there again.
        """
        standby = self.standby
        if standby is None or what in standby.writing:
            yield None
            return
        try:
            with told_apart(), standby.transaction(self.engine, viewer.organisation) as db:
                yield None if db is None else Unit(self, db, viewer, self.clock())
        except ServerReadOnly:
            standby.writing.add(what)
            raise
        except RegisterDown:
            standby.rest()
            raise

    @contextmanager
    def unit(self, viewer: Viewer) -> Iterator[Unit]:
        """One use case in one transaction. The journal is sealed and the change announced as it commits.

        Collision when others changed the same at the same time, Conflict when they made the same thing.
        """
        with told_apart(), transaction(self.engine, viewer.organisation) as db:
            unit = Unit(self, db, viewer, self.clock())
            yield unit
            unit.seal()
        for after in dict.fromkeys(unit.afterwards):
            try:
                after()
            except Exception as error:
                # It is committed, and whoever asked must not be told otherwise. What is due is found by the rounds;
                # what somebody was to be told is lost but for this line.
                log.exception("unit.not_followed_up", error=str(error))


@dataclass(frozen=True, slots=True)
class Inside:
    """The account that somebody is switched into, and whose it is; with a ``scope``, for these permissions only."""

    visit: UUID
    account: UUID
    account_name: str
    owner: UUID | None
    owner_name: str
    scope: frozenset[str] | None = None


@dataclass(frozen=True, slots=True)
class Viewer:
    """Who is asking. The worker asks as the service itself, which has no person.

    ``credential`` is the row that they came by: a web session, an API token, or the visit of an exchanged token.
    An ``auditor`` sees everything and changes nothing. While they are switched into an account, ``inside`` says into
    which, and on whose behalf they act there.
    """

    organisation: UUID
    name: str
    person: UUID | None = None
    sign_in: UUID | None = None
    administrator: bool = False
    auditor: bool = False
    may_write: bool = True
    credential: UUID | None = None
    proved_at: datetime | None = None
    inside: Inside | None = None

    @classmethod
    def itself(cls, organisation: UUID) -> Viewer:
        """The service acting by itself."""
        return cls(organisation, "Open Latch", administrator=True)


@dataclass
class Unit:
    """One transaction of one viewer, with the journal entries that it will write.

    While it is ``trying``, everything is rolled back at the end (``service.attempt``).
    """

    service: Service
    db: Db
    viewer: Viewer
    now: datetime
    entries: list[JsonObject] = field(default_factory=list)
    kinds: set[str] = field(default_factory=set)
    bulk: list[Iterable[JsonObject]] = field(default_factory=list)
    afterwards: list[Callable[[], None]] = field(default_factory=list)
    ruling: Ruling | None = None
    trying: bool = False
    _sight: Sight | None = None
    _zone: ZoneInfo | None = None

    @property
    def sight(self) -> Sight:
        """What the viewer may see."""
        if self._sight is None:
            there = self.viewer.inside
            inside = (there.account, there.scope) if there else None
            self._sight = Sight.of(
                self.db, self.viewer.person, self.viewer.administrator or self.viewer.auditor, self.now, inside
            )
        return self._sight

    @property
    def zone(self) -> ZoneInfo:
        """The organisation's time zone."""
        if self._zone is None:
            held = select(Organisation.time_zone).where(Organisation.id == self.viewer.organisation)
            self._zone = ZoneInfo(self.db.scalars(held).one())
        return self._zone

    def seen_person(self, ident: UUID | None) -> Person | None:
        """The person, when there is one whom the viewer may see: others can't be named by their ids."""
        if ident is None:
            return None
        return self.db.scalars(select(Person).where(Person.id == ident, self.sight.people())).first()

    def as_service(self) -> Unit:
        """A copy of this unit with service-level permissions, for what somebody may decide but not do themselves.

        The journal still names the viewer.
        """
        return replace(self, _sight=Sight(True, self.viewer.person, now=self.now))

    def record(
        self, action: str, kind: str, ident: UUID | None, name: str, account: UUID | None = None, **facts: object
    ) -> None:
        """Add a journal entry. It is written with all others when the unit commits."""
        self.entries.append(self._draft(action, kind, ident, name, account, facts))
        self.kinds.add(kind)

    def record_many(self, kind: str, happened: Iterable[tuple[str, UUID, str, UUID | None]]) -> None:
        """Add many journal entries of one kind: action, id, name, account.

        They are built only while they are written, so a million of them need no memory.
        """
        self.bulk.append(self._draft(a, kind, ident, name, account, {}) for a, ident, name, account in happened)
        self.kinds.add(kind)

    def _draft(
        self, action: str, kind: str, ident: UUID | None, name: str, account: UUID | None, facts: Mapping[str, object]
    ) -> JsonObject:
        actor = (self.viewer.person, self.viewer.name)
        if self.viewer.inside is not None:
            there = self.viewer.inside
            behalf = {"id": there.owner, "name": there.owner_name, "account": there.account_name}
            facts = {**facts, "on_behalf_of": behalf}
        return journal.draft(self.viewer.organisation, self.now, actor, action, (kind, ident, name), account, facts)

    def marks(self) -> tuple[int, int, int, frozenset[str]]:
        """How far the unit has come, for ``back_to``."""
        return len(self.entries), len(self.bulk), len(self.afterwards), frozenset(self.kinds)

    def back_to(self, marks: tuple[int, int, int, frozenset[str]]) -> None:
        """Forget what was recorded, announced and woken since."""
        entries, bulk, afterwards, kinds = marks
        del self.entries[entries:], self.bulk[bulk:], self.afterwards[afterwards:]
        self.kinds.intersection_update(kinds)

    @property
    def has_written(self) -> bool:
        """Whether something is to be journalled, announced or done once this is committed."""
        return bool(self.entries or self.bulk or self.kinds or self.afterwards)

    def announce(self, kind: str) -> None:
        """Tell open consoles that something of a kind changed, without a journal entry."""
        self.kinds.add(kind)

    def _announce(self) -> None:
        position, _ = journal.head(self.db)
        note = {"organisation": str(self.viewer.organisation), "position": position, "kinds": sorted(self.kinds)}
        self.db.execute(text("select pg_notify(:channel, :note)"), {"channel": CHANNEL, "note": json.dumps(note)})

    def require_proof(self, why: str) -> None:
        """ProofNeeded unless the viewer has proved within the last ten minutes that it is them."""
        viewer = self.viewer
        if viewer.person is None or viewer.credential is None:
            return
        if viewer.proved_at is None or viewer.proved_at < self.now - FRESH_PROOF:
            raise ProofNeeded(f"{why} needs a fresh proof that it is you.")

    def wake(self, task: str, at: datetime | None = None, **arguments: UUID) -> None:
        """Wake the worker for a task once this unit has committed, once for the same."""
        given = {"organisation": str(self.viewer.organisation), **{k: str(v) for k, v in arguments.items()}}
        self.afterwards.append(Waking(self.service.wake, task, tuple(given.items()), at))

    def seal(self) -> None:
        """Add the entries to the journal, and tell open consoles what kinds of things changed; the commit follows."""
        if not self.entries and not self.bulk:
            if self.kinds:
                self._announce()
            return
        if not self.viewer.may_write:
            raise ReadOnly("This token may only read.", "Use a token with the scope write.")
        self.db.flush()
        many = bool(self.bulk) or len(self.entries) > journal.FEW
        entries = chain(*self.bulk, self.entries)
        organisation = self.viewer.organisation

        def note(position: int) -> str:
            return json.dumps({"organisation": str(organisation), "position": position, "kinds": sorted(self.kinds)})

        journal.append(self.db, organisation, entries, many, CHANNEL, note)
