"""`python -m bench.load`: what the service answers at its capacity, and what it does at three times that.

Readers and writers ask over HTTP on loopback, at a rate that does not depend on how soon they are answered. The
capacity is found first: seven tenths of what is answered to askers who never pause. Server, database and
those who ask share the machine, so only the shape of the table means anything.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from uuid import uuid4

import httpx
import psycopg
from cryptography.fernet import Fernet

from bench import world
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service import imports
from openlatch.service.identity import authentication
from openlatch.service.unit import Service
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate

WORD = "a long password"
# Of a hundred calls so many write.
WRITES = 10
READS = (
    '/api/v1/grants?filter=state eq "active"&limit=50',
    "/api/v1/accounts?limit=50",
    "/api/v1/people?limit=50&search=er",
    "/api/v1/flags?limit=50",
    "/api/v1/journal?limit=50",
)
PATIENCE = 30.0
# So many ask without a pause to find what can be answered; what comes by chance has to leave some of that free, since
# whatever comes while all is busy waits.
ASKERS, SHARE = 8, 0.7


@dataclass
class Seen:
    """What came of the calls of one stretch: the seconds of those answered, the statuses, what broke off."""

    seconds: list[float] = field(default_factory=list)
    statuses: Counter[int] = field(default_factory=Counter)
    broken: Counter[str] = field(default_factory=Counter)
    without_time: int = 0

    @property
    def refused(self) -> int:
        """Calls that were told to come again."""
        return self.statuses[503] + self.statuses[429]

    @property
    def failed(self) -> int:
        """Calls that were neither answered nor refused with a time."""
        bad = sum(count for status, count in self.statuses.items() if status >= 400 and status not in (429, 503))
        return bad + self.broken.total() + self.without_time

    def part(self, share: float) -> float:
        """The seconds within which such a share was answered."""
        return sorted(self.seconds)[min(int(share * len(self.seconds)), len(self.seconds) - 1)]


async def _ask(client: httpx.AsyncClient, headers: dict[str, str], chance: random.Random, seen: Seen) -> None:
    began = time.perf_counter()
    try:
        if chance.randrange(100) < WRITES:
            name = f"Person {uuid4().hex[:12]}"
            answer = await client.post("/api/v1/people", json={"name": name}, headers=headers)
        else:
            answer = await client.get(chance.choice(READS), headers=headers)
    except httpx.TransportError as error:
        seen.broken[type(error).__name__] += 1
        return
    seen.statuses[answer.status_code] += 1
    if answer.status_code < 400:
        seen.seconds.append(time.perf_counter() - began)
    elif answer.status_code in (429, 503) and "Retry-After" not in answer.headers:
        seen.without_time += 1


async def _stretch(address: str, tokens: list[str], rate: float, seconds: float) -> Seen:
    """Ask at a rate, whether or not the calls before were answered."""
    seen, chance = Seen(), random.Random(1)
    limits = httpx.Limits(max_connections=2000, max_keepalive_connections=200)
    async with httpx.AsyncClient(base_url=address, timeout=PATIENCE, limits=limits) as client:
        tasks = []
        begun = time.perf_counter()
        for number in range(int(rate * seconds)):
            await asyncio.sleep(max(begun + number / rate - time.perf_counter(), 0))
            headers = {"Authorization": f"Bearer {tokens[number % len(tokens)]}"}
            tasks.append(asyncio.ensure_future(_ask(client, headers, chance, seen)))
        await asyncio.gather(*tasks)
    return seen


def stretch(address: str, tokens: list[str], rate: float, seconds: float) -> Seen:
    """What came of asking at a rate for so long."""
    return asyncio.run(_stretch(address, tokens, rate, seconds))


async def _without_pause(address: str, tokens: list[str], seconds: float) -> Seen:
    """Ask by a few askers, each again as soon as it is answered."""
    seen, chance, ends = Seen(), random.Random(2), time.perf_counter() + seconds

    async def asker(client: httpx.AsyncClient, token: str) -> None:
        while time.perf_counter() < ends:
            await _ask(client, {"Authorization": f"Bearer {token}"}, chance, seen)

    async with httpx.AsyncClient(base_url=address, timeout=PATIENCE) as client:
        await asyncio.gather(*(asker(client, tokens[number % len(tokens)]) for number in range(ASKERS)))
    return seen


def capacity(address: str, tokens: list[str], seconds: float) -> float:
    """The rate that it can bear for long: a share of what it answers when it is never without a call."""
    return SHARE * len(asyncio.run(_without_pause(address, tokens, seconds)).seconds) / seconds


@contextmanager
def served(folder: Path, grants: int) -> Iterator[tuple[str, list[str], subprocess.Popen[bytes]]]:
    """A register of that size, served by two web processes and looked after by a worker; tokens of ten people."""
    cluster = Cluster(folder / "register", settings=("shared_buffers=512MB", "max_wal_size=4GB"))
    key, bind = Fernet.generate_key(), f"127.0.0.1:{free_port()}"
    processes = []
    try:
        cluster.start()
        cluster.ensure_database("load")
        migrate(cluster.url("load"), Passwords("load"))
        service = Service(engine_for(cluster.url("load", APP_ROLE, "load")), Fernet(key))
        viewer = authentication.make_organisation(service, "Load", "load", "UTC", "Ada", "ada@example.org", WORD)
        for kind, write in world.FILES.items():
            path = folder / f"{kind}.csv"
            with path.open("w") as file:
                file.writelines(write(world.Size(grants), world.today()))
            with path.open("rb") as source, service.unit(viewer) as unit:
                imports.bring(unit, kind, "csv", source, keep_good=False, try_only=False)
        with psycopg.connect(cluster.url("load"), autocommit=True) as db:
            # As the server does by itself within a minute: until then it plans without numbers.
            db.execute("vacuum analyze")
        environment = {
            **os.environ,
            "OPENLATCH_DATABASE_URL": cluster.url("load", APP_ROLE, "load"),
            "OPENLATCH_SECRET_KEY": key.decode(),
            "OPENLATCH_BIND": bind,
            "OPENLATCH_LOG_REQUESTS": "0",
        }
        for name in ("serve", "worker"):
            with (folder / f"{name}.log").open("wb") as log:
                command = [sys.executable, "-m", "openlatch", name]
                processes.append(subprocess.Popen(command, env=environment, stdout=log, stderr=log))
        address = f"http://{bind}"
        for _ in range(600):
            try:
                httpx.get(f"{address}/healthz")
                break
            except httpx.TransportError:
                time.sleep(0.1)
        body = {"address": "ada@example.org", "password": WORD}
        tokens = [httpx.post(f"{address}/api/v1/tokens", json=body, timeout=30).json()["token"] for _ in range(10)]
        yield address, tokens, processes[0]
    finally:
        for process in processes:
            process.terminate()
            process.wait(40)
        cluster.stop()


def _memory(master: int) -> float:
    """Megabytes of a process and its children, what they share counted once."""
    children = Path(f"/proc/{master}/task/{master}/children").read_text().split()
    rolled = [Path(f"/proc/{pid}/smaps_rollup").read_text() for pid in (master, *children)]
    pss = sum(int(line.split()[1]) for text in rolled for line in text.splitlines() if line.startswith("Pss:"))
    return pss / 1024


def main() -> None:
    """Find the capacity, ask at it, at three times of it, and at it again; print a table."""
    parser = argparse.ArgumentParser(prog="python -m bench.load", description=__doc__)
    parser.add_argument("--grants", type=int, default=10_000)
    parser.add_argument("--minutes", type=float, default=30, help="how long at the capacity (default 30)")
    chosen = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="openlatch-load-"))
    folder.chmod(0o755)
    try:
        with served(folder, chosen.grants) as (address, tokens, web):
            # The worker looks at all that was brought in first.
            time.sleep(30)
            asyncio.run(_without_pause(address, tokens, 20))
            found = capacity(address, tokens, 30)
            base = 0.0
            print(
                f"capacity: {found:.1f} calls a second, one in {100 // WRITES} of them writes; {os.cpu_count()} cores"
            )
            print(f"{'':26} {'asked':>8} {'answered':>9} {'refused':>8} {'failed':>7} {'p99/p50':>8} {'memory':>7}")
            overload = min(chosen.minutes, 2) * 60
            for name, rate, seconds in (
                ("at the capacity", found, chosen.minutes * 60),
                ("at three times that", 3 * found, overload),
                ("at the capacity, just after", found, 60),
            ):
                seen = stretch(address, tokens, rate, seconds)
                held = _memory(web.pid)
                base = base or held
                spread = seen.part(0.99) / seen.part(0.5)
                counted = f"{seen.statuses.total():8,} {len(seen.seconds):9,} {seen.refused:8,} {seen.failed:7,}"
                print(f"{name:26} {counted} {spread:8.1f} {held / base:7.2f}", flush=True)
                if seen.failed:
                    print(f"{'':26} {dict(seen.statuses)} {dict(seen.broken)} without a time: {seen.without_time}")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
