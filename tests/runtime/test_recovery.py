"""Continuous archiving: the register as it was at an instant inside a revocation, and what comes of that."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from uuid import UUID

import psycopg
import pytest
from cryptography.fernet import Fernet
from sqlalchemy import select

from openlatch.adapters import ADAPTERS, Adapter
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown
from openlatch.processes import unprivileged
from openlatch.runtime.cluster import Cluster, postgres_program
from openlatch.service import connections, doctor
from openlatch.service.identity import authentication
from openlatch.service.revocations import execute, prepare, revoke
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate
from openlatch.store.tables import Account, Grant, Handle
from openlatch.test_systems import telemetry
from tests.conftest import ADAPTER_PASSWORD, KEY, Clock, telemetry_settings
from tests.service.ending import carry_on

LEAVING = ("w_merrin", "w_voss")


class Archived(Cluster):
    """A server whose write-ahead log is archived; or one that begins as such a server was at an instant."""

    backup: Path | None = None

    def back_up(self, into: Path) -> None:
        """A base backup."""
        program = postgres_program("pg_basebackup")
        subprocess.run(
            [program, "-D", str(into), "-d", self.url("postgres"), "--wal-method=none", "--checkpoint=fast"],
            check=True,
            capture_output=True,
            cwd="/",
            **unprivileged(),
        )

    def _make(self) -> None:
        if self.backup is None:
            super()._make()
            return
        self.folder.mkdir()
        shutil.copy(self.backup.parent / "before" / "password", self.folder / "password")
        subprocess.run(["cp", "-a", str(self.backup), str(self.folder / "data")], check=True)
        (self.folder / "data" / "recovery.signal").touch()
        if os.getuid() == 0:
            shutil.chown(self.folder, **unprivileged())
            shutil.chown(self.folder / "data" / "recovery.signal", **unprivileged())


class Stopping:
    """The adapter of a server that goes away after so many changes."""

    def __init__(self, real: Adapter, changes: int) -> None:
        self._real, self._left = real, changes

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def apply(self, kind: StepKind, detail: dict[str, Any]) -> str:
        if not self._left:
            raise SystemDown("It went away.")
        self._left -= 1
        return self._real.apply(kind, detail)


@pytest.fixture
def place(folder: Path) -> Iterator[Path]:
    made = folder / "recovery"
    made.mkdir()
    made.chmod(0o755)
    (made / "wal").mkdir()
    if os.getuid() == 0:
        shutil.chown(made, **unprivileged())
        shutil.chown(made / "wal", **unprivileged())
    yield made
    shutil.rmtree(made, ignore_errors=True)


def test_a_register_of_an_instant_inside_a_revocation_ends_it_and_does_nothing_twice(
    place: Path, make_telemetry: Callable[[str], Cluster], clock: Clock
) -> None:
    """What was done there since is found by reading; nothing is done again, and nothing undone."""
    system = make_telemetry("archived")
    before = Archived(place / "before", settings=("archive_mode=on", f"archive_command=cp %p {place}/wal/%f"))
    after = Archived(place / "after")
    try:
        before.start()
        before.ensure_database("register")
        migrate(before.url("register"), Passwords("app-password"))
        service = _service(before, clock)
        viewer = authentication.make_organisation(service, "T", "t", "UTC", "Ada", "ada@example.org", "a long password")
        ident = connections.connect(
            service, viewer, "telemetry", "T", "postgresql", telemetry_settings(system), ADAPTER_PASSWORD
        )
        readings.read(service, viewer.organisation, ident)
        before.back_up(place / "backup")
        with service.unit(viewer) as unit:
            held = _held(unit)
            ending, other = [held[name] for name in LEAVING], held["b_noakes"]
            revocation = revoke.start(unit, prepare.Wish(grants=tuple(ending)), "The season is over.")
        stopping = {"postgresql": lambda settings, secret: Stopping(ADAPTERS["postgresql"](settings, secret), 1)}
        execute.carry_out(replace(service, adapters=stopping), viewer.organisation, revocation)
        instant = _instant(before)
        # After that instant: the rest of the plan, another end, and access that the server gave by itself.
        clock.forward(minutes=10)
        assert carry_on(service, viewer, clock, revocation) == "confirmed"
        with service.unit(viewer) as unit:
            later = revoke.start(unit, prepare.Wish(grants=(other,)), "They moved.")
        assert carry_on(service, viewer, clock, later) == "confirmed"
        with psycopg.connect(system.url(telemetry.DATABASE)) as db:
            db.execute("create role n_later login")
            db.execute("grant weather_readings to n_later")
        with psycopg.connect(before.url("postgres"), autocommit=True) as db:
            db.execute("select pg_switch_wal()")
        service.engine.dispose()
        before.stop()
        revokes = _revokes(system)
        assert len(revokes) == 3

        after.backup = place / "backup"
        after.settings = (
            f"restore_command=cp {place}/wal/%f %p",
            f"recovery_target_time={instant}",
            "recovery_target_action=promote",
        )
        after.start()
        _await_promotion(after)
        service = _service(after, clock)
        assert _wrong(service) == []
        with service.unit(viewer) as unit:
            assert [unit.db.get_one(Grant, one).state for one in ending] == ["revoking", "revoking"]
            assert unit.db.get_one(Grant, other).state == "active"
        assert carry_on(service, viewer, clock, revocation) == "confirmed"
        clock.forward(hours=1)
        readings.read(service, viewer.organisation, ident)
        with service.unit(viewer) as unit:
            assert [unit.db.get_one(Grant, one).ended_as for one in ending] == ["revoked", "revoked"]
            # Nobody recorded that these were given, so that it is the server that says what there is.
            assert unit.db.get_one(Grant, other).state == "ended"
            assert "n_later" in _held(unit)
        assert _revokes(system) == revokes
        assert _wrong(service) == []
        service.engine.dispose()
    finally:
        before.stop(at_once=True)
        after.stop(at_once=True)


def _service(cluster: Cluster, clock: Clock) -> Service:
    engine = engine_for(cluster.url("register", APP_ROLE, "app-password"), 4)
    return Service(engine, Fernet(KEY), clock, signing_seed=KEY, evidence_seed=KEY)


def _held(unit: Unit) -> dict[str, UUID]:
    """Who is in the shared role, by login."""
    held = (
        select(Handle.name, Grant.id)
        .join(Grant, Grant.holder_id == Handle.person_id)
        .join(Account, Account.id == Grant.account_id)
        .where(Account.handle == "weather_readings", Grant.state == "active")
    )
    return dict(unit.db.execute(held).all())


def _instant(cluster: Cluster) -> str:
    """The server's time, once everything before it is over."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        (now,) = db.execute("select clock_timestamp()::text").fetchone() or ("",)
        db.execute("select pg_sleep(0.2)")
    return str(now)


def _await_promotion(cluster: Cluster) -> None:
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        while db.execute("select pg_is_in_recovery()").fetchone() == (True,):
            time.sleep(0.05)


def _revokes(system: Cluster) -> list[str]:
    """The ends that the server was asked for, as it logged them."""
    return re.findall(r'statement: REVOKE "weather_readings" FROM "(\w+)"', system.log.read_text(), re.IGNORECASE)


def _wrong(service: Service) -> list[str]:
    return [one for check in doctor.examine(service) for one in check.wrong]
