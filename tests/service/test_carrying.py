"""Ending access in a real system: killed workers, systems that are down or lie, two at once, time that runs out."""

from __future__ import annotations

import signal
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any
from uuid import UUID

import psycopg
import pytest
from sqlalchemy import func, select

from openlatch import schemas
from openlatch.adapters import NOTHING, Adapter, Found, Reading
from openlatch.adapters.postgresql.adapter import PostgresqlAdapter
from openlatch.core.journal import chain
from openlatch.core.register import Holder
from openlatch.core.vocabulary import GrantState, HolderKind, StepKind, Verdict
from openlatch.errors import BadInput, Conflict
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service import connections
from openlatch.service.changes import changes
from openlatch.service.grants import change_types, lifecycle, provisioning
from openlatch.service.reviews import close_round, decisions, open_round
from openlatch.service.reviews.plans import Review
from openlatch.service.revocations import execute, prepare, steps
from openlatch.service.revocations import revoke as revoke_access
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store import journal
from openlatch.store.tables import (
    Account,
    Flag,
    Grant,
    Handle,
    Item,
    JournalEntry,
    Level,
    Revocation,
    Session,
    Step,
    System,
    Term,
)
from openlatch.test_systems import telemetry
from openlatch.worker import tasks
from tests.conftest import ADAPTER_PASSWORD, KEY, Clock, telemetry_settings


@dataclass
class World:
    """A register that has read a real system once."""

    service: Service
    viewer: Viewer
    server: Cluster
    system: UUID
    clock: Clock

    def ask(self, question: str, *values: Any) -> Any:
        """One value from the system, as its superuser."""
        with psycopg.connect(self.server.url(telemetry.DATABASE)) as db:
            row = db.execute(question, values).fetchone()  # type: ignore[call-overload]
        return row[0] if row else None

    def is_member(self, member: str, role: str) -> bool:
        return bool(self.ask("select pg_has_role(%s, %s, 'member')", member, role))

    def give(self, member: str, role: str) -> None:
        with psycopg.connect(self.server.url(telemetry.DATABASE)) as db:
            db.execute(psycopg.sql.SQL("grant {} to {}").format(*map(psycopg.sql.Identifier, (role, member))))

    def revokes(self) -> int:
        return self.server.log.read_text().count("statement: revoke ")

    def grant(self, member: str, role: str) -> UUID:
        """The live grant of a login on a shared role."""
        with self.service.unit(self.viewer) as unit:
            found = unit.db.scalars(
                select(Grant.id)
                .join(Account, Account.id == Grant.account_id)
                .where(Account.handle == role, Grant.handle["member"].astext == member, Grant.state != "ended")
            )
            return found.one()

    def read(self) -> readings.Outcome | None:
        return readings.read(self.service, self.viewer.organisation, self.system)

    def start(self, *grants: UUID, **wish: Any) -> UUID:
        with self.service.unit(self.viewer) as unit:
            return revoke_access.start(unit, prepare.Wish(grants=grants, **wish), "The season is over.")

    def carry_out(self, revocation: UUID) -> Any:
        return execute.carry_out(self.service, self.viewer.organisation, revocation)

    def page(self, revocation: UUID) -> schemas.RevocationPage:
        with self.service.unit(self.viewer) as unit:
            return steps.page(unit, revocation)

    def state(self, grant: UUID) -> tuple[str, str | None]:
        with self.service.unit(self.viewer) as unit:
            row = unit.db.get_one(Grant, grant)
            return row.state, row.ended_as

    def is_sound(self) -> bool:
        with self.service.unit(self.viewer) as unit:
            return chain.verify(journal.export(unit.db, self.viewer.organisation), journal.head(unit.db)).sound

    def rules_on(self, grant: UUID) -> set[str]:
        with self.service.unit(self.viewer) as unit:
            return set(unit.db.scalars(select(Flag.rule).where(Flag.subject_id == grant, Flag.state == "open")))


@pytest.fixture(scope="module")
def server(make_telemetry: Callable[[str], Cluster]) -> Cluster:
    return make_telemetry("telemetry-carrying")


@pytest.fixture
def world(service: Service, organisation: Viewer, server: Cluster, clock: Clock) -> World:
    for role, member in (("weather_readings", "w_voss"), ("weather_readings", "w_merrin"), ("hut_sensors", "k_varley")):
        with psycopg.connect(server.url(telemetry.DATABASE)) as db:
            db.execute(f"grant {role} to {member}")  # type: ignore[call-overload]
    system = connections.connect(
        service, organisation, "telemetry", "Telemetry", "postgresql", telemetry_settings(server), ADAPTER_PASSWORD
    )
    made = World(service, organisation, server, system, clock)
    made.read()
    return made


@pytest.fixture
def sessions(server: Cluster) -> Iterator[telemetry.OpenSessions]:
    opened = telemetry.OpenSessions("127.0.0.1", server.port)
    yield opened
    opened.close()


def test_what_a_system_has_and_nobody_recorded_shows_and_is_flagged(world: World) -> None:
    """With its end, and again the same when it is read again."""
    grant = world.grant("old_admin", "heating_control")
    assert world.rules_on(grant) >= {"unrecorded", "no_end_date", "outsider_far_reach"}
    outcome = world.read()
    assert outcome is not None
    assert (outcome.newly_unrecorded, outcome.missing) == (0, 0)
    assert outcome.unrecorded == outcome.grants_seen > 10


def test_access_is_revoked_only_when_the_system_shows_that_it_is_gone(
    world: World, sessions: telemetry.OpenSessions
) -> None:
    """Membership and session gone in the system itself, flags cleared, proof in the journal."""
    sessions.open([("w_voss", "psql")])
    world.read()
    grant = world.grant("w_voss", "weather_readings")
    revocation = world.start(grant)
    assert world.state(grant) == ("revoking", None)
    assert world.is_member("w_voss", "weather_readings")
    world.carry_out(revocation)
    assert world.state(grant) == ("ended", "revoked")
    assert not world.is_member("w_voss", "weather_readings")
    assert world.ask("select count(*) from pg_stat_activity where usename = 'w_voss'") == 0
    assert world.rules_on(grant) == set()
    with world.service.unit(world.viewer) as unit:
        proof = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "revocation.confirmed")).one()
        assert proof.facts["proof"][-1]["answer"] == "Read again: it is gone."
        assert unit.db.scalars(select(Session.ended_as).where(Session.ended_at.is_not(None))).all() == ["revoked"]
    assert world.is_sound()


def test_the_preview_changes_nothing_and_an_outdated_one_is_refused(
    world: World, sessions: telemetry.OpenSessions
) -> None:
    """Whoever confirms has seen what will happen."""
    grant = world.grant("w_merrin", "weather_readings")
    wish = prepare.Wish(grants=(grant,))
    with world.service.unit(world.viewer) as unit:
        seen = revoke_access.preview(unit, wish)
    assert [s.kind for s in seen.steps] == [StepKind.REMOVE, StepKind.READ_AGAIN]
    assert world.state(grant) == ("active", None)
    sessions.open([("w_merrin", "psql")])
    world.read()
    with world.service.unit(world.viewer) as unit, pytest.raises(Conflict, match="has changed since"):
        revoke_access.start(unit, wish, "Season over.", fingerprint=seen.fingerprint)
    with world.service.unit(world.viewer) as unit:
        again = revoke_access.preview(unit, wish)
        assert len(again.sessions) == 1
        revoke_access.start(unit, wish, "Season over.", fingerprint=again.fingerprint)
    with world.service.unit(world.viewer) as unit, pytest.raises(Conflict, match="is revoking"):
        revoke_access.start(unit, wish, "Twice.")


def test_a_system_that_is_down_is_waited_for(world: World) -> None:
    """The step says so and is tried again, less and less often, until the system is back."""
    grant = world.grant("k_varley", "hut_sensors")
    revocation = world.start(grant)
    world.server.stop()
    try:
        back = world.carry_out(revocation)
        assert back == world.clock.now + timedelta(seconds=2)
        page = world.page(revocation)
        assert page.state == "waiting"
        assert "did not answer" in page.step_list[0].answer
        assert world.carry_out(revocation) == back
        assert world.page(revocation).step_list[0].tries == 1
        world.clock.forward(seconds=2)
        assert world.carry_out(revocation) == world.clock.now + timedelta(seconds=4)
        assert world.read() is None
        with world.service.unit(world.viewer) as unit:
            assert unit.db.get_one(System, world.system).down_since is not None
            assert unit.db.scalar(select(func.count(Grant.id)).where(Grant.missing_since.is_not(None))) == 0
    finally:
        world.server.start()
    assert world.state(grant) == ("revoking", None)
    with world.service.unit(world.viewer) as unit:
        steps.retry(unit, revocation)
    world.carry_out(revocation)
    assert world.state(grant) == ("ended", "revoked")
    assert not world.is_member("k_varley", "hut_sensors")


class Lying(PostgresqlAdapter):
    """Says done, and does nothing, the first time."""

    lies = 1

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        if Lying.lies:
            Lying.lies -= 1
            return "Done."
        return super().apply(kind, detail)


def test_a_system_that_lies_is_found_out_by_reading_it_again(world: World) -> None:
    """The step is open again, the grant goes on reading *revoking*, and the journal tells."""
    lying = replace(world.service, adapters={"postgresql": Lying})
    grant = world.grant("w_voss", "weather_readings")
    revocation = world.start(grant)
    execute.carry_out(lying, world.viewer.organisation, revocation)
    page = world.page(revocation)
    assert page.confirmed_at is None
    assert "Contradicted by a read: w_voss is still a member" in page.step_list[0].answer
    assert world.state(grant) == ("revoking", None)
    world.clock.forward(minutes=1)
    execute.carry_out(lying, world.viewer.organisation, revocation)
    assert world.state(grant) == ("ended", "revoked")
    with world.service.unit(world.viewer) as unit:
        assert unit.db.scalar(select(func.count()).where(JournalEntry.action == "step.contradicted")) == 1


KILLED = """
import os, signal, sys
from uuid import UUID
from cryptography.fernet import Fernet
from openlatch.adapters.postgresql.adapter import PostgresqlAdapter
from openlatch.service.revocations import confirm, execute
from openlatch.service.unit import Service, Unit
from openlatch.store.database import engine_for

url, key, organisation, revocation, point = sys.argv[1:]
def die():
    os.kill(os.getpid(), signal.SIGKILL)

class Dying(PostgresqlAdapter):
    calls = 0
    def apply(self, kind, detail):
        Dying.calls += 1
        if point == f"before {Dying.calls}":
            die()
        answer = super().apply(kind, detail)
        if point == f"after {Dying.calls}":
            die()
        return answer
    def confirm(self, kind, detail):
        if point == "reading" and Dying.calls == 2:
            die()
        return super().confirm(kind, detail)

if point == "finishing":
    real = confirm.finish
    def finish(unit, row, steps):
        real(unit, row, steps)
        unit.db.flush()
        die()
    confirm.finish = finish
service = Service(engine_for(url, 2), Fernet(key), adapters={"postgresql": Dying})
execute.carry_out(service, UUID(organisation), UUID(revocation))
"""


@pytest.mark.parametrize("point", ["before 1", "after 1", "before 2", "after 2", "reading", "finishing"])
def test_a_worker_killed_between_any_two_steps_loses_nothing_and_does_nothing_twice(
    world: World, app_url: str, sessions: telemetry.OpenSessions, point: str
) -> None:
    """SIGKILL before and after each change, while reading again, and while writing the end down.

    The next worker carries on at once: no lock outlives the dead one. The system's own log shows one REVOKE.
    """
    sessions.open([("w_voss", "psql")])
    world.read()
    grant = world.grant("w_voss", "weather_readings")
    revocation = world.start(grant)
    before = world.revokes()
    killed = subprocess.run(
        [sys.executable, "-c", KILLED, app_url, KEY.decode(), str(world.viewer.organisation), str(revocation), point],
        capture_output=True,
        text=True,
        check=False,
    )
    assert killed.returncode == -signal.SIGKILL, killed.stderr
    assert world.state(grant) == ("revoking", None)
    with world.service.unit(world.viewer) as unit:
        assert execute.unfinished(unit) == [revocation] or point == "finishing"
    world.carry_out(revocation)
    assert world.state(grant) == ("ended", "revoked")
    assert not world.is_member("w_voss", "weather_readings")
    assert world.revokes() == before + 1
    assert world.is_sound()
    with world.service.unit(world.viewer) as unit:
        assert unit.db.scalar(select(func.count()).where(JournalEntry.action == "revocation.confirmed")) == 1
        assert set(unit.db.scalars(select(Step.state))) == {"done"}


def test_two_workers_at_once_do_it_once(world: World) -> None:
    """The second finds it taken and goes away."""
    grant = world.grant("w_merrin", "weather_readings")
    revocation = world.start(grant)
    before = world.revokes()
    workers = [threading.Thread(target=world.carry_out, args=(revocation,)) for _ in range(4)]
    for one in workers:
        one.start()
    for one in workers:
        one.join()
    assert world.state(grant) == ("ended", "revoked")
    assert world.revokes() == before + 1


def test_time_that_runs_out_ends_access_by_the_same_path(world: World) -> None:
    """Also when nobody was there at that instant."""
    grant = world.grant("w_merrin", "weather_readings")
    world.start(grant, trim_until=world.clock.now + timedelta(days=2))
    assert world.state(grant) == ("active", None)
    assert world.is_member("w_merrin", "weather_readings")
    woken: list[str] = []
    service = replace(
        world.service, wake=lambda task, given, at: woken.append(given["revocation"]) if "revocation" in given else None
    )
    tasks.look_round(service)
    assert woken == []
    world.clock.forward(days=30)
    tasks.look_round(service)
    assert len(set(woken)) == 1
    world.carry_out(UUID(woken[0]))
    assert world.state(grant) == ("ended", "expired")
    assert not world.is_member("w_merrin", "weather_readings")


def test_trimming_to_a_lower_level_happens_in_the_system_or_is_refused(world: World) -> None:
    """What this kind of system can't do is said before anything happens."""
    keeper = world.grant("m_oduya", "heating_control")
    with world.service.unit(world.viewer) as unit:
        levels = dict(unit.db.execute(select(Level.key, Level.id)).all())
    with pytest.raises(BadInput, match="takes nothing away"):
        world.start(keeper, trim_level=levels["keeper"])
    operator = world.grant("g_tresco", "heating_control")
    with pytest.raises(BadInput, match="can't reduce"):
        world.start(operator, trim_level=levels["reader"])
    world.carry_out(world.start(keeper, trim_level=levels["operator"]))
    assert world.state(keeper) == ("active", None)
    admits = "select bool_or(admin_option) from pg_auth_members where member = 'm_oduya'::regrole"
    assert world.ask(admits) is False
    with world.service.unit(world.viewer) as unit:
        held = select(Level.key).join(Term, Term.level_id == Level.id).where(Term.grant_id == keeper)
        assert unit.db.scalars(held).all() == ["operator"]
    with psycopg.connect(world.server.url(telemetry.DATABASE)) as db:
        db.execute("grant heating_control to m_oduya with admin option")


def test_a_decision_to_revoke_is_carried_out_in_the_system(world: World) -> None:
    """At once or at the close, as the round says; a closed round can't change."""
    grant = world.grant("survey_temp", "hut_sensors")
    with world.service.unit(world.viewer) as unit:
        ident = open_round.open_round(unit, Review("Survey", 'holder.name eq "survey_temp"', acts="at_close"))
        item = unit.db.scalars(select(Item.id).where(Item.round_id == ident)).one()
        revoke = decisions.Decision(Verdict.REVOKE, "The survey is over.", version=1)
        decisions.decide(unit, ident, item, revoke)
        assert unit.db.scalars(select(Revocation.id)).all() == []
    with world.service.unit(world.viewer) as unit, pytest.raises(Conflict, match="Somebody else changed"):
        decisions.decide(unit, ident, item, revoke)
    with world.service.unit(world.viewer) as unit:
        close_round.close(unit, ident)
    assert not close_round.carry_on(world.service, world.viewer, ident)
    with world.service.unit(world.viewer) as unit:
        revocation = unit.db.scalars(select(Revocation.id)).one()
    world.carry_out(revocation)
    assert world.state(grant) == ("ended", "revoked")
    assert not world.is_member("survey_temp", "hut_sensors")
    assert close_round.carry_on(world.service, world.viewer, ident)
    for change in (lambda u: decisions.decide(u, ident, item, revoke), lambda u: close_round.close(u, ident)):
        with world.service.unit(world.viewer) as unit, pytest.raises(Conflict, match="is closed"):
            change(unit)
    world.give("survey_temp", "hut_sensors")


def test_access_that_vanished_from_the_system_is_missing_not_ended(world: World) -> None:
    """And back when it is back."""
    grant = world.grant("w_voss", "weather_readings")
    with world.service.unit(world.viewer) as unit:
        unit.db.get_one(Grant, grant).recorded = True
    with psycopg.connect(world.server.url(telemetry.DATABASE)) as db:
        db.execute("revoke weather_readings from w_voss")
    outcome = world.read()
    assert outcome is not None
    assert outcome.missing == 1
    assert world.state(grant) == ("active", None)
    world.give("w_voss", "weather_readings")
    world.read()
    with world.service.unit(world.viewer) as unit:
        assert unit.db.get_one(Grant, grant).missing_since is None


def test_unrecorded_access_that_vanished_has_ended(world: World) -> None:
    """Nobody vouched for it; the system is all that said it was there."""
    grant = world.grant("w_voss", "weather_readings")
    with psycopg.connect(world.server.url(telemetry.DATABASE)) as db:
        db.execute("revoke weather_readings from w_voss")
    outcome = world.read()
    assert outcome is not None
    assert outcome.missing == 0
    assert world.state(grant) == ("ended", "revoked")
    assert world.rules_on(grant) == set()


class Slow(PostgresqlAdapter):
    """Lets something happen after it has looked and before it answers."""

    meanwhile: Callable[[], Any] = staticmethod(lambda: None)

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        found = list(super().read(since))
        Slow.meanwhile()
        yield from found


def test_a_reading_that_is_older_than_a_revocation_does_not_bring_access_back(world: World) -> None:
    """What it shows was true when it began, and is gone by now."""
    grant = world.grant("w_merrin", "weather_readings")
    revocation = world.start(grant)
    Slow.meanwhile = lambda: world.carry_out(revocation)
    slow = replace(world.service, adapters={"postgresql": Slow})
    outcome = readings.read(slow, world.viewer.organisation, world.system)
    assert world.state(grant) == ("ended", "revoked")
    assert outcome is not None
    assert outcome.newly_unrecorded == 0


def test_the_secret_of_a_system_is_not_in_the_database(world: World) -> None:
    """Nor in the journal."""
    with world.service.unit(world.viewer) as unit:
        stored = unit.db.get_one(System, world.system)
        assert stored.secret is not None
        assert ADAPTER_PASSWORD.encode() not in stored.secret
        assert ADAPTER_PASSWORD not in str(list(journal.export(unit.db, world.viewer.organisation)))
        adapter: Adapter = connections.adapter_for(world.service, stored)
    assert Reading.of(adapter.read()).accounts


def test_access_that_is_given_is_given_in_the_system_and_taken_while_it_is_suspended(world: World) -> None:
    """Once each time, whoever asks for it how often; a system that is down is waited for."""
    world.read()
    with world.service.unit(world.viewer) as unit:
        account = unit.db.scalars(select(Account).where(Account.handle == "weather_readings")).one()
        handle = next(
            h
            for h in unit.db.scalars(select(Handle).where(Handle.person_id.is_not(None)).order_by(Handle.name))
            if not world.is_member(h.name, "weather_readings")
        )
        level = unit.db.scalars(select(Level.id).where(Level.key == "reader")).one()
        terms = lifecycle.terms_from(unit, account, lifecycle.Choice((level,)))
        assert handle.person_id is not None
        holder = Holder(HolderKind.PERSON, handle.person_id)
        grant = lifecycle.new_grant(unit, account, holder, terms, GrantState.ACTIVE).id
        lifecycle.enter_into_force(unit, unit.db.get_one(Grant, grant))

    def settle() -> Any:
        return provisioning.settle(world.service, world.viewer.organisation, grant)

    def grants() -> int:
        return world.server.log.read_text().count('statement: grant "weather_readings"')

    def change(kind: str) -> None:
        with world.service.unit(world.viewer) as unit:
            changes.carry_out(unit, change_types.Change(change_types.ChangeKind(kind), "For a week.", (grant,)))

    before = grants()
    with world.service.unit(world.viewer) as unit:
        system = unit.db.get_one(System, world.system)
        right, system.settings = system.settings, {**system.settings, "port": free_port()}
    again = settle()
    assert again > world.clock()
    assert not world.is_member(handle.name, "weather_readings")
    with world.service.unit(world.viewer) as unit:
        assert "did not answer" in unit.db.get_one(Grant, grant).owed_answer
        unit.db.get_one(System, world.system).settings = right
        assert provisioning.due(unit) == []
    world.clock.forward(minutes=15)
    tasks.look_round(world.service)
    assert settle() is None
    assert settle() is None
    assert world.is_member(handle.name, "weather_readings")
    assert grants() == before + 1
    world.read()
    assert world.state(grant) == ("active", None)
    change("suspend")
    assert settle() is None
    assert not world.is_member(handle.name, "weather_readings")
    world.read()
    assert world.state(grant) == ("suspended", None)
    change("resume")
    assert settle() is None
    assert world.is_member(handle.name, "weather_readings")
    revocation = world.start(grant)
    world.carry_out(revocation)
    assert world.state(grant) == ("ended", "revoked")
    assert not world.is_member(handle.name, "weather_readings")
    assert world.is_sound()
