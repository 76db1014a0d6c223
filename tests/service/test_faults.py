"""Everything that can fail while access is taken away, at every point where it can: the plan ends, and ends once."""

from __future__ import annotations

import os
import signal
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from uuid import UUID

import psycopg
import pytest
from cryptography.fernet import Fernet
from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError

from openlatch.adapters import ADAPTERS, Adapter
from openlatch.adapters.cloud import adapter as cloud
from openlatch.adapters.directory import adapter as directory
from openlatch.adapters.mail import adapter as mailboxes
from openlatch.adapters.mail import sessions
from openlatch.adapters.postgresql import adapter as postgresql
from openlatch.adapters.webdav import adapter as dav
from openlatch.core.journal import chain
from openlatch.core.vocabulary import StepKind
from openlatch.errors import RegisterDown, SystemDown, SystemRefused
from openlatch.runtime.cluster import Cluster
from openlatch.service.grants import provisioning
from openlatch.service.identity import authentication
from openlatch.service.revocations import execute, prepare, revoke, steps
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate
from openlatch.store.tables import Grant, JournalEntry, Revocation, Step, System
from tests.adapters.worlds import WORLDS, World
from tests.conftest import KEY, Clock
from tests.service.ending import carry_on, connect, grant_of, start_ending


class Watched:
    """An adapter that tells when it is about to change or read its system, and what came of it."""

    def __init__(self, real: Adapter, told: Callable[[str], None]) -> None:
        self._real, self._told = real, told

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        self._told(f"before {kind} {detail}")
        answer = self._real.apply(kind, detail)
        self._told(f"after {kind} {detail} -> {answer}")
        return answer

    def confirm(self, kind: StepKind, detail: dict[str, Any]) -> str | None:
        self._told(f"reading {kind} {detail}")
        return self._real.confirm(kind, detail)


def watched(service: Service, told: Callable[[str], None]) -> Service:
    def make(kind: str) -> Callable[[dict[str, Any], str], Any]:
        return lambda settings, secret: Watched(ADAPTERS[kind](settings, secret), told)

    return replace(service, adapters={kind: make(kind) for kind in ADAPTERS})


@contextmanager
def telling_of_commits(told: Callable[[str], None]) -> Iterator[None]:
    """Before each transaction of a unit commits, and after it has."""
    real, number = Unit.seal, iter(range(1_000))

    def seal(unit: Unit) -> None:
        turn = next(number)
        unit.db.flush()
        told(f"before commit {turn}")
        real(unit)
        unit.afterwards.insert(0, lambda: told(f"after commit {turn}"))

    Unit.seal = seal  # type: ignore[method-assign]
    try:
        yield
    finally:
        Unit.seal = real  # type: ignore[method-assign]


@dataclass
class Points:
    """The points that were come to, and at each that is new the ``fault``, once."""

    fault: Callable[[], None]
    met: list[str] = field(default_factory=list)
    out: int | None = None

    def __call__(self, point: str) -> None:
        fresh = point not in self.met
        self.met.append(point)
        if self.out is not None:
            os.write(self.out, f"{point}\n".encode())
        if fresh:
            self.fault()


def die_at_each_point(work: Callable[[Points], None]) -> list[str]:
    """Run work in processes of its own, each killed at the next point, until one comes to its end; gives all points."""
    met: list[str] = []
    for _ in range(200):
        out, into = os.pipe()
        child = os.fork()
        if child == 0:
            code = 1
            try:
                work(Points(lambda: os.kill(os.getpid(), signal.SIGKILL), list(met), into))
                code = 0
            finally:
                os._exit(code)
        os.close(into)
        with os.fdopen(out) as told:
            met += told.read().splitlines()
        _, status = os.waitpid(child, 0)
        if os.WIFEXITED(status):
            assert os.WEXITSTATUS(status) == 0
            return met
    raise AssertionError("It never came to its end.")


def assert_ended_once(service: Service, viewer: Viewer, grant: UUID, revocation: UUID) -> None:
    """The plan is confirmed, its entries stand once, and the journal verifies."""
    with service.unit(viewer) as unit:
        assert (unit.db.get_one(Grant, grant).state, unit.db.get_one(Grant, grant).ended_as) == ("ended", "revoked")
        assert steps.page(unit, revocation).state == "confirmed"
        assert set(unit.db.scalars(select(Step.state).where(Step.revocation_id == revocation))) == {"done"}
        for action in ("grant.revoked", "revocation.confirmed"):
            assert unit.db.scalar(select(func.count()).where(JournalEntry.action == action)) == 1
        assert chain.verify(journal.export(unit.db, viewer.organisation), journal.head(unit.db)).sound


@pytest.mark.parametrize("kind", list(WORLDS))
def test_a_worker_killed_at_every_point_ends_the_plan_and_changes_nothing_twice(
    kind: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock, app_url: str
) -> None:
    """Before and after each change, each look and each commit; asked is the system itself."""
    world = make(kind)
    stays = world.asked(world.stays)
    connect(service, organisation, world)
    grant, revocation = start_ending(service, organisation, world, world.goes)

    def work(points: Points) -> None:
        own = replace(watched(service, points), engine=engine_for(app_url, 2))
        with telling_of_commits(points):
            execute.carry_out(own, organisation.organisation, revocation)

    met = die_at_each_point(work)
    assert len({point for point in met if "commit" in point}) >= 4
    changes = [point for point in met if " -> " in point and "already" not in point]
    assert len(set(changes)) == len(changes) > 0
    assert_ended_once(service, organisation, grant, revocation)
    assert (world.asked(world.goes), world.asked(world.stays)) == ("", stays)


def test_a_web_process_killed_at_every_point_starts_a_plan_once_or_not_at_all(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock, app_url: str
) -> None:
    """What was not committed is not there; what was needs no word to the worker, who finds it."""
    world = make("host")
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.goes).id

    def work(points: Points) -> None:
        own = replace(service, engine=engine_for(app_url, 2), wake=lambda *_: points("waking"))
        with telling_of_commits(points), own.unit(organisation) as unit:
            if unit.db.get_one(Grant, grant).state == "active":
                revoke.start(unit, prepare.Wish(grants=(grant,)), "The season is over.")

    # Killed before, killed after, and then there is nothing left to do.
    before, after = "before commit 0", "after commit 0"
    assert die_at_each_point(work) == [before, before, after, before, after]
    with service.unit(organisation) as unit:
        (revocation,) = execute.unfinished(unit)
        assert list(unit.db.scalars(select(Revocation.id))) == [revocation]
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert_ended_once(service, organisation, grant, revocation)


def test_a_database_killed_at_every_point_loses_no_step(
    make: Callable[[str], World], clock: Clock, folder: Path
) -> None:
    """SIGKILL to every process of the register's server; it comes back, and so does the plan."""
    register = Cluster(folder / f"killed-{os.urandom(4).hex()}", settings=("full_page_writes=off",))
    register.start()
    register.ensure_database("app")
    service = Service(engine_for(register.url("app", APP_ROLE, "app-password"), 4), Fernet(KEY), clock)
    try:
        migrate(register.url("app"), Passwords("app-password"))
        viewer = authentication.make_organisation(service, "T", "t", "UTC", "Ada", "ada@example.org", "a long password")
        world = make("host")
        connect(service, viewer, world)
        grant, revocation = start_ending(service, viewer, world, world.goes)

        def kill() -> None:
            assert register.process is not None
            os.killpg(register.process.pid, signal.SIGKILL)
            register.process.wait(10)
            register.start()

        points, failures = Points(kill), 0
        own = watched(service, points)
        for _ in range(50):
            try:
                with telling_of_commits(points):
                    execute.carry_out(own, viewer.organisation, revocation)
            except (OperationalError, psycopg.OperationalError, RegisterDown):
                failures += 1
                continue
            break
        assert failures
        assert len({point for point in points.met if "commit" in point}) >= 4
        assert_ended_once(service, viewer, grant, revocation)
        assert world.asked(world.goes) == ""
    finally:
        service.engine.dispose()
        register.stop(at_once=True)


class Faulty(Watched):
    """A system that does otherwise than it should the first times: see ``how``."""

    how = ""
    times = 0

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        if not Faulty.times:
            return self._real.apply(kind, detail)
        Faulty.times -= 1
        if Faulty.how == "hangs":
            raise SystemDown("It did not answer in time.", "It will be tried again.")
        if Faulty.how == "refuses":
            raise SystemRefused("It does not want to.", "Ask its owner.")
        if Faulty.how == "does it and says that it failed":
            self._real.apply(kind, detail)
            raise SystemDown("It broke off before it answered.", "It will be tried again.")
        if Faulty.how == "forgets":
            self._real.apply(kind, detail)
            back = self._real.again(detail) or self._real.holding(detail["role"], detail["member"], "keeper")
            self._real.apply(StepKind.GIVE, back)
        return "Done."


@pytest.mark.parametrize("kind", ["postgresql", "host"])
@pytest.mark.parametrize("how", ["hangs", "refuses", "lies", "forgets", "does it and says that it failed"])
def test_a_system_that_does_otherwise_is_brought_to_it(
    how: str, kind: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """It is never confirmed before the system shows it, and is in the end."""
    world = make(kind)
    connect(service, organisation, world)
    grant, revocation = start_ending(service, organisation, world, world.goes)
    Faulty.how, Faulty.times = how, 2
    made = {kind: lambda settings, secret: Faulty(ADAPTERS[kind](settings, secret), lambda point: None)}
    faulty = replace(service, adapters=made)
    execute.carry_out(faulty, organisation.organisation, revocation)
    with service.unit(organisation) as unit:
        assert unit.db.get_one(Grant, grant).state == "revoking"
        assert any(step.state == "waiting" for step in steps.page(unit, revocation).step_list)
    assert carry_on(faulty, organisation, clock, revocation) == "confirmed"
    assert_ended_once(service, organisation, grant, revocation)
    assert world.asked(world.goes) == ""


@pytest.fixture
def silent() -> Iterator[int]:
    """The port of a server that takes connections and never says anything."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        held: list[socket.socket] = []

        def take() -> None:
            while True:
                try:
                    held.append(server.accept()[0])
                except OSError:
                    return

        taker = threading.Thread(target=take, daemon=True)
        taker.start()
        yield server.getsockname()[1]
        server.shutdown(socket.SHUT_RDWR)
        taker.join(5)
        for one in held:
            one.close()


@pytest.mark.parametrize("kind", ["postgresql", "directory", "mailboxes", "cloud", "dav"])
def test_a_system_that_takes_the_call_and_never_answers_is_down(
    kind: str, silent: int, make: Callable[[str], World], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every call ends in time, by itself."""
    for module in (cloud, dav, directory, sessions, mailboxes):
        monkeypatch.setattr(module, "CALL_SECONDS", 1)
    monkeypatch.setattr(postgresql, "CONNECT_SECONDS", 2)
    world = make(kind)
    adapter = world.adapter(port=silent, address=f"http://127.0.0.1:{silent}")
    with pytest.raises(SystemDown):
        adapter.check()
    with pytest.raises(SystemDown):
        list(adapter.read())


def test_a_clock_that_is_put_back_or_on_holds_nothing_up(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """What waits until an instant that is a day off now is due; ends by time come at theirs, once."""
    world = make("host")
    system = connect(service, organisation, world)
    grant, revocation = start_ending(service, organisation, world, world.goes)
    Faulty.how, Faulty.times = "hangs", 1
    made = {"host": lambda settings, secret: Faulty(ADAPTERS["host"](settings, secret), lambda point: None)}
    assert execute.carry_out(replace(service, adapters=made), organisation.organisation, revocation) is not None
    with service.unit(organisation) as unit:
        assert execute.unfinished(unit) == []
        assert readings.due(unit) == []
        unit.db.get_one(Grant, grant).owed_next_try_at = clock.now + timedelta(seconds=4)
        # One that the register gave ends by it; what a reading has found never does.
        kept = grant_of(unit, world, world.stays)
        kept.ends_here = True
    clock.now -= timedelta(days=1)
    with service.unit(organisation) as unit:
        assert execute.unfinished(unit) == [revocation]
        assert readings.due(unit) == [system]
    execute.carry_out(service, organisation.organisation, revocation)
    assert_ended_once(service, organisation, grant, revocation)
    clock.now += timedelta(days=400)
    with service.unit(organisation) as unit:
        assert readings.due(unit) == [system]
        over = revoke.expired(unit)
        assert over == [grant_of(unit, world, world.stays).id]
        assert provisioning.due(unit) == []
        assert unit.db.get_one(System, system).read_at is not None
