"""A small register with people, accounts and grants, in which use cases are tried."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import event, inspect, select
from sqlalchemy.orm import Session

from openlatch.core.flags import RULES
from openlatch.runtime.cluster import Cluster
from openlatch.service import imports
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.identity import authentication
from openlatch.service.lists import register
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.flags import evaluate_many
from openlatch.store.flags.sql_expressions import ROOM
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Account, Flag, Grant, Level, Mail, Membership, Notice, Organisation, Person
from tests.adapters.worlds import WORLDS, World
from tests.conftest import Clock, clone, make_organisation, service_on

PASSWORD = "a lake behind the hut"
FILES = {
    "people": "key,name,address,inside,standing,leaves_on\n"
    "ines,Ines,ines@example.org,yes,current,\n"
    "mara,Mara,mara@example.org,yes,current,\n"
    "owen,Owen,owen@example.net,no,current,\n"
    "edda,Edda,edda@example.org,yes,left,2026-01-31\n",
    "teams": "key,name\nwardens,Wardens\n",
    "memberships": "team,member\nwardens,mara\nwardens,owen\n",
    "accounts": "key,name,system,sensitivity,owner\n"
    "box,Box,Mail,3,ines\nledger,Ledger,Books,4,mara\nrota,Rota,Mail,1,edda\n",
    "levels": "system,key,name,sentence,permissions\n"
    "Mail,read,Read,Can read.,mail.read|Read it|observe\n"
    "Mail,run,Run,Can run it.,mail.read|Read it|observe//mail.share|Let others in|steward\n"
    "Books,pay,Pay,Can pay.,books.pay|Send money|spend\n",
    "apps": "key,name\nsync,Sync\n",
    "grants": "account,holder_kind,holder,level,until,given_by,given_at,last_used_at,state\n"
    "box,team,wardens,read,2026-09-30,ines,2026-01-01,2026-03-08,active\n"
    "box,person,mara,run,,ines,2026-01-01,2026-03-08,active\n"
    "box,person,edda,read,,ines,2025-01-01,2026-01-30,active\n"
    "box,app,sync,read,,ines,2026-03-01,,active\n"
    "box,person,owen,run,,ines,2026-03-01,,pending\n"
    "ledger,account,box,pay,,mara,2026-01-01,2026-03-01,active\n"
    "rota,person,owen,read,,edda,2025-12-01,2026-03-01,suspended\n",
    "sessions": "key,account,holder,device,started_at\n"
    "s1,box,mara,Phone,2026-03-09T08:00:00Z\ns2,ledger,mara,Phone,2026-02-01T08:00:00Z\n",
}


@dataclass
class Small:
    """The register, and its people as viewers."""

    service: Service
    itself: Viewer
    clock: Clock

    def as_(self, key: str) -> Viewer:
        with self.service.unit(self.itself) as unit:
            person = unit.db.scalars(select(Person).where(Person.key == key)).one()
            return Viewer(self.itself.organisation, person.name, person.id)

    def signed_in(self, key: str) -> Viewer:
        """Somebody as they come by a browser's session, with a sign-in of their own."""
        who = self.as_(key)
        with self.service.unit(self.itself) as unit:
            person = unit.db.get_one(Person, who.person)
            assert person.address is not None
            authentication.make_sign_in(unit.db, who.organisation, person.id, person.address, PASSWORD)
        known = authentication.check_password(self.service, person.address, PASSWORD, "test")
        opened = authentication.open_session(self.service, known, "Test", "test")
        return authentication.viewer_of_session(self.service, opened.token, None)

    def grant(self, key: str) -> UUID:
        with self.service.unit(self.itself) as unit:
            return unit.db.scalars(select(Grant.id).where(Grant.key == key)).one()

    def grant_of(self, holder: str, account: str) -> UUID:
        """The grant of a person on an account, by their keys."""
        with self.service.unit(self.itself) as unit:
            of = select(Grant.id).where(
                Grant.person_id == self.person(holder), Grant.account_id == self.account(account)
            )
            return unit.db.scalars(of).one()

    def names(self, viewer: Viewer, kind: str, **query: Any) -> set[str]:
        """What a list shows to a viewer."""
        with self.service.unit(viewer) as unit:
            rows = register.page(unit, kind, ListQuery(limit=100, **query)).rows
        return {row.get("name") or f"{row['holder']['name']} on {row['account']['name']}" for row in rows}

    def open_flags(self, rule: str = "") -> set[str]:
        with self.service.unit(self.itself) as unit:
            statement = select(Flag.sentence).where(Flag.state == "open")
            return set(unit.db.scalars(statement.where(Flag.rule == rule) if rule else statement))

    @contextmanager
    def acting(self, key: str) -> Iterator[Unit]:
        """A transaction as one of the people."""
        with self.service.unit(self.as_(key)) as unit:
            yield unit

    @contextmanager
    def acting_as_administrator(self, key: str) -> Iterator[Unit]:
        """A transaction as one of the people, who administers the organisation."""
        with self.service.unit(replace(self.as_(key), administrator=True)) as unit:
            yield unit

    def id(self, table: Any, key: str) -> UUID:
        """The id of something by its key."""
        with self.service.unit(self.itself) as unit:
            return unit.db.scalars(select(table.id).where(table.key == key)).one()

    def account(self, key: str) -> UUID:
        return self.id(Account, key)

    def level(self, key: str) -> UUID:
        return self.id(Level, key)

    def person(self, key: str) -> UUID:
        return self.id(Person, key)

    def state(self, grant: UUID) -> str:
        with self.service.unit(self.itself) as unit:
            row = unit.db.get_one(Grant, grant)
            return row.ended_as or row.state

    def told(self, key: str) -> list[str]:
        """What somebody was told, oldest first."""
        with self.service.unit(self.itself) as unit:
            mine = select(Notice.sentence).where(Notice.person_id == self.person(key)).order_by(Notice.id)
            return list(unit.db.scalars(mine))


def _lets_in(row: Any) -> bool:
    """Whether what is about to be written can let somebody in."""
    if isinstance(row, Grant):
        changed = inspect(row).attrs.state.history
        # What was being trimmed goes on with less.
        return row.state == "active" and changed.has_changes() and "revoking" not in (changed.deleted or ())
    if isinstance(row, Account):
        return inspect(row).attrs.owner_id.history.has_changes() and inspect(row).persistent
    return isinstance(row, Membership) and inspect(row).pending


def _watch(session: Session, *_: Any) -> None:
    if not session.info.get("guarded"):
        found = [row for row in (*session.new, *session.dirty) if _lets_in(row)]
        assert not found, f"Somebody is let in without the guard of latches: {found}"


@pytest.fixture
def nobody_gets_in_unguarded() -> Iterator[None]:
    """No use case writes what lets somebody in but within the guard of latches."""
    event.listen(Session, "before_flush", _watch)
    yield
    event.remove(Session, "before_flush", _watch)


@pytest.fixture
def make(
    folder: Path, tmp_path_factory: pytest.TempPathFactory, make_telemetry: Callable[[str], Cluster]
) -> Iterator[Callable[[str], World]]:
    made: list[World] = []

    def start(kind: str) -> World:
        place = folder / f"service-{kind}-{tmp_path_factory.mktemp('world').name}"
        place.mkdir()
        place.chmod(0o755)
        made.append(WORLDS[kind](place, make_telemetry))
        return made[-1]

    yield start
    for world in made:
        world.stop()


@pytest.fixture(scope="session")
def small_template(cluster: Cluster) -> str:
    """A database that holds the small register, made once and copied for each test."""
    name = clone(cluster, "template_openlatch", "template_small")
    service = service_on(cluster, name, Clock())
    organisation = make_organisation(service)
    for kind, written in FILES.items():
        with service.unit(organisation) as unit:
            report = imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False)
        assert report.kept, report.errors
    evaluate_flags.evaluate_all(service, organisation.organisation)
    with service.unit(organisation) as unit:
        unit.db.scalars(select(Person).where(Person.name == "Ada Admin")).one().key = "ada"
    service.engine.dispose()
    return name


@pytest.fixture
def template(request: pytest.FixtureRequest) -> str:
    """Tests that use the small register start from a copy of it."""
    if "small" in request.fixturenames:
        return str(request.getfixturevalue("small_template"))
    return "template_openlatch"


@pytest.fixture
def organisation(request: pytest.FixtureRequest, service: Service) -> Viewer:
    """The organisation, seen by the service itself; empty unless the test uses the small register."""
    if "small" not in request.fixturenames:
        return make_organisation(service)
    with transaction(service.engine, None) as db:
        return Viewer.itself(db.scalars(select(Organisation.id)).one())


@pytest.fixture
def small(service: Service, organisation: Viewer, clock: Clock) -> Small:
    return Small(service, organisation, clock)


def lagging(unit: Unit) -> list[str]:
    """The flags that a pass over everything would raise, clear or change now: they do not stand as they should."""
    unit.db.flush()
    keys = {rule.number: rule.key for rule in RULES}

    def said(found: list[int]) -> list[str]:
        return [f"{keys[number // ROOM]} {number % ROOM}" for number in found]

    stands = evaluate_flags.ruling(unit)
    return [
        f"{subject}: {said(seen.before)} should be {said(seen.found)} for {dict(seen.facts)}"
        for subject in evaluate_many.LISTS
        for seen in evaluate_many.look(
            unit.db, stands, subject, evaluate_many.differing(unit.db, stands, subject, unit.now), unit.now
        )
    ]


def mailed(service: Service, organisation: UUID) -> list[tuple[str, str, str]]:
    """What waits in the outbox: to whom, the subject, and all of its text."""
    with service.unit(Viewer.itself(organisation)) as unit:
        rows = unit.db.scalars(select(Mail).where(Mail.state == "waiting").order_by(Mail.id)).all()
        return [(r.recipient, r.subject, service.cipher.decrypt(r.content or b"").decode()) for r in rows]


def link_to(service: Service, organisation: UUID, address: str) -> str:
    """The token of the link that was last written to an address."""
    texts = [text for to, _, text in mailed(service, organisation) if to == address and "#" in text]
    return re.findall(r"#([\w-]{20,})", texts[-1])[-1]
