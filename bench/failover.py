"""`python -m bench.failover --times N`: the primary database is killed again and again while revocations are under way.

Two servers hold the register, one the synchronous standby of the other; a web process and two workers know both. Each
time a plan of revocations is begun, people are added without a pause, the primary is killed at an odd moment, and the
standby is promoted. In the end everything that was answered has to be there once, and the system's own log has to show
each revocation once.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID, uuid4

import psycopg
from cryptography.fernet import Fernet

from openlatch.client import CallFailed, Client, Unreachable
from openlatch.demo import loader
from openlatch.processes import CantStart, free_port, unprivileged
from openlatch.runtime.cluster import Cluster, postgres_program
from openlatch.service import connections, doctor
from openlatch.service.identity import authentication
from openlatch.service.systems import readings
from openlatch.service.unit import Service
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate
from openlatch.test_systems import telemetry

DATABASE = "register"
WORD = "a long password"
IN_ONE_PLAN = 4
SECONDS_TO_RECOVER = 120


class Standby(Cluster):
    """A server that begins as a standby of another."""

    primary: Cluster | None = None

    def _make(self) -> None:
        if self.primary is None:
            super()._make()
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        shutil.copy(self.primary.folder / "password", self.folder / "password")
        if os.getuid() == 0:
            user = unprivileged()
            for path in (self.folder, self.folder / "password"):
                os.chown(path, user["user"], user["group"])
        made = subprocess.run(
            [
                postgres_program("pg_basebackup"),
                *("-D", str(self.folder / "data"), "-d", self.primary.url("postgres")),
                *("--write-recovery-conf", "--wal-method=stream", "--checkpoint=fast"),
            ],
            capture_output=True,
            text=True,
            cwd="/",
            **unprivileged(),
        )
        if made.returncode:
            raise CantStart(f"The standby could not be made:\n{made.stdout}{made.stderr}")


class Pair:
    """A primary with its synchronous standby. Nothing counts as committed that only one of them has."""

    def __init__(self, folder: Path) -> None:
        self.primary, self.standby = (Standby(folder / name, settings=("fsync=off",)) for name in ("one", "other"))

    def start(self) -> None:
        """Start both, with empty tables of the register."""
        self.primary.start()
        self.primary.ensure_database(DATABASE)
        migrate(self.primary.url(DATABASE), Passwords("app-password"))
        self._follow()
        with psycopg.connect(self.primary.url("postgres"), autocommit=True) as db:
            db.execute("alter system set synchronous_standby_names = '*'")
            db.execute("select pg_reload_conf()")

    def _follow(self) -> None:
        """Make the standby anew from the primary, and wait until it follows."""
        shutil.rmtree(self.standby.folder / "data", ignore_errors=True)
        self.standby.primary = self.primary
        self.standby.start()
        with psycopg.connect(self.primary.url("postgres"), autocommit=True) as db:
            while not db.execute("select true from pg_stat_replication where state = 'streaming'").fetchone():
                time.sleep(0.05)

    def fail_over(self) -> None:
        """Kill the primary, and promote the standby. What is committed then waits until there is a standby again."""
        assert self.primary.process is not None
        os.killpg(self.primary.process.pid, signal.SIGKILL)
        self.primary.process.wait(10)
        with psycopg.connect(self.standby.url("postgres"), autocommit=True) as db:
            assert db.execute("select pg_promote()").fetchone() == (True,)
        self.primary, self.standby = self.standby, self.primary
        self._follow()

    @property
    def url(self) -> str:
        """The address of whichever of them is the primary, as libpq takes it."""
        ports = sorted(one.port for one in (self.primary, self.standby))
        hosts = ",".join(f"127.0.0.1:{port}" for port in ports)
        return f"postgresql://{APP_ROLE}:app-password@{hosts}/{DATABASE}?target_session_attrs=read-write"

    def stop(self) -> None:
        """Stop both."""
        self.standby.stop(at_once=True)
        self.primary.stop(at_once=True)


@dataclass
class Writer:
    """Adds people through the API without a pause, and keeps in mind what it was answered."""

    address: str
    token: str
    answered: list[str] = field(default_factory=list)
    unanswered: list[str] = field(default_factory=list)
    problems: Counter[str] = field(default_factory=Counter)
    longest: float = 0.0
    over: threading.Event = field(default_factory=threading.Event)

    def run(self) -> None:
        """Write until it is over."""
        with Client(self.address, self.token, patience=SECONDS_TO_RECOVER) as client:
            while not self.over.is_set():
                name, began = f"Person {uuid4().hex}", time.monotonic()
                try:
                    client.make_record("people", {"name": name})
                    self.answered.append(name)
                except (CallFailed, Unreachable) as error:
                    self.unanswered.append(name)
                    self.problems[str(error)[:80]] += 1
                self.longest = max(self.longest, time.monotonic() - began)


class Nodes:
    """The processes of the service: one that answers, and workers."""

    def __init__(self, folder: Path, url: str, key: str, workers: int = 2) -> None:
        self.address = f"http://127.0.0.1:{free_port()}"
        environment = {
            **os.environ,
            "OPENLATCH_DATABASE_URL": url,
            "OPENLATCH_SECRET_KEY": key,
            "OPENLATCH_BIND": self.address.removeprefix("http://"),
            "OPENLATCH_WEB_PROCESSES": "1",
        }
        self.logs = [folder / f"{name}.log" for name in ("serve", *(f"worker{n}" for n in range(workers)))]
        self._processes = []
        for log in self.logs:
            command = [sys.executable, "-m", "openlatch", log.stem.rstrip("0123456789")]
            with log.open("wb") as file:
                self._processes.append(
                    subprocess.Popen(command, env=environment, stdout=file, stderr=file, start_new_session=True)
                )

    def died(self) -> list[str]:
        """Which of them have ended by themselves."""
        pairs = zip(self.logs, self._processes, strict=True)
        return [log.stem for log, process in pairs if process.poll() is not None]

    def faults(self) -> tuple[str, ...]:
        """What broke a request in a way that nothing provides for: the last line of each."""
        lines = (json.loads(line) for line in self.logs[0].read_text().splitlines() if line.startswith("{"))
        return tuple(line["exception"].strip()[-300:] for line in lines if line["event"] == "request.failed")

    def stop(self) -> None:
        """Stop all."""
        for process in self._processes:
            process.terminate()
        for process in self._processes:
            try:
                process.wait(30)
            except subprocess.TimeoutExpired:
                process.kill()


@dataclass(frozen=True, slots=True)
class Outcome:
    """What was seen: how often, whether anything was lost or doubled, and how long somebody waited for an answer."""

    times: int
    revocations: int
    answered: int
    lost: int
    doubled: int
    revoked_twice: int
    not_revoked: int
    died: tuple[str, ...]
    wrong: tuple[str, ...]
    problems: Counter[str]
    faults: tuple[str, ...]
    longest_wait: float


def rehearse(folder: Path, times: int, chance: random.Random) -> Outcome:
    """Fail over so many times."""
    pair, key = Pair(folder), Fernet.generate_key()
    system = Cluster(folder / "system", "telemetry_owner", ("fsync=off", "log_statement=ddl"))
    nodes, writer, closing = None, None, ExitStack()
    try:
        pair.start()
        service = Service(engine_for(pair.url), Fernet(key), signing_seed=key)
        closing.callback(service.engine.dispose)
        viewer = authentication.make_organisation(service, "T", "t", "UTC", "Ada", "ada@example.org", WORD)
        names = _prepare(system, times * IN_ONE_PLAN)
        settings = {"host": "127.0.0.1", "port": system.port, "database": telemetry.DATABASE}
        settings |= {"user": telemetry.ADAPTER_LOGIN, "sslmode": "disable"}
        ident = connections.connect(service, viewer, "telemetry", "Telemetry", "postgresql", settings, "bench")
        readings.read(service, viewer.organisation, ident)
        nodes = Nodes(folder, pair.url, key.decode())
        client = closing.enter_context(_signed_in(nodes.address))
        grants = _grants(client, names)
        writer = Writer(nodes.address, client.make_token("ada@example.org", WORD).token)
        thread = threading.Thread(target=writer.run)
        thread.start()
        begun: list[UUID] = []
        for n in range(times):
            mine = grants[n * IN_ONE_PLAN : (n + 1) * IN_ONE_PLAN]
            begun.append(client.revoke("Bench.", grants=mine).id)
            time.sleep(chance.random() * 1.5)
            pair.fail_over()
            print(f"{n + 1} of {times}", end="\r", flush=True)
        _await(client, begun)
        writer.over.set()
        thread.join(SECONDS_TO_RECOVER)
        people = Counter(
            name
            for (name,) in psycopg.connect(pair.primary.url(DATABASE)).execute("select name from people").fetchall()
        )
        revokes = Counter(re.findall(r'REVOKE "?hut_sensors"? FROM "?(b_\d+)"?', system.log.read_text(), re.I))
        checks = list(doctor.examine(service))
        return Outcome(
            times,
            len(names),
            len(writer.answered),
            sum(people[name] == 0 for name in writer.answered),
            sum(people[name] > 1 for name in (*writer.answered, *writer.unanswered)),
            sum(revokes[name] > 1 for name in names),
            sum(revokes[name] == 0 for name in names),
            tuple(nodes.died()),
            tuple(said for check in checks for said in check.wrong),
            writer.problems,
            nodes.faults(),
            writer.longest,
        )
    finally:
        if writer is not None:
            writer.over.set()
        closing.close()
        if nodes is not None:
            nodes.stop()
        system.stop(at_once=True)
        pair.stop()


def _prepare(system: Cluster, count: int) -> list[str]:
    """Start a system with so many logins that hold a role."""
    system.start()
    system.ensure_database(telemetry.DATABASE)
    url, names = system.url(telemetry.DATABASE), [f"b_{n}" for n in range(count)]
    telemetry.prepare(url, loader.telemetry_plan(), datetime.now(UTC), "bench")
    with psycopg.connect(url) as db:
        for name in names:
            db.execute(f"create role {name} login")
            db.execute(f"grant hut_sensors to {name}")
    return names


def _signed_in(address: str) -> Client:
    """A client that waits for as long as a failover may take."""
    deadline = time.monotonic() + SECONDS_TO_RECOVER
    with Client(address, patience=SECONDS_TO_RECOVER) as client:
        while True:
            try:
                token = client.make_token("ada@example.org", WORD).token
                return Client(address, token, patience=SECONDS_TO_RECOVER)
            except Unreachable:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.2)


def _grants(client: Client, names: Sequence[str]) -> list[UUID]:
    held = {row.holder.name: row.id for row in client.every("grants", filter='holder.name sw "b_"')}
    return [held[name] for name in names]


def _await(client: Client, begun: Sequence[UUID]) -> None:
    """Wait until all are confirmed."""
    deadline = time.monotonic() + SECONDS_TO_RECOVER
    left = set(begun)
    while left:
        left = {ident for ident in left if client.revocation(ident).state != "confirmed"}
        if time.monotonic() > deadline:
            raise TimeoutError(f"{len(left)} revocations are not confirmed.")
        time.sleep(0.5)


def main() -> None:
    """Rehearse it, and print what was seen; exit code 1 if anything was lost, done twice or not done."""
    parser = argparse.ArgumentParser(prog="python -m bench.failover", description=__doc__)
    parser.add_argument("--times", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="openlatch-failover-"))
    folder.chmod(0o755)
    try:
        seen = rehearse(folder, chosen.times, random.Random(chosen.seed))
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{seen.times} failovers, {seen.revocations} revocations, {seen.answered:,} people added and answered")
    print(f"lost: {seen.lost}; doubled: {seen.doubled}; revoked twice: {seen.revoked_twice}; not: {seen.not_revoked}")
    print(f"longest wait for an answer: {seen.longest_wait:.1f} s; ended by themselves: {seen.died}")
    for fault in seen.faults:
        print(f"a request broke: {fault}")
    print(f"what writers were told: {dict(seen.problems)}; the doctor says: {seen.wrong or 'all well'}")
    bad = (seen.lost, seen.doubled, seen.revoked_twice, seen.not_revoked, seen.died, seen.wrong, seen.faults)
    sys.exit(1 if any(bad) or not seen.answered else 0)


if __name__ == "__main__":
    main()
