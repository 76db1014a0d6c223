"""Telling others: from a revocation to the signal at a receiver, and webhooks to one that fails at random."""

from __future__ import annotations

import json
import os
import random
import signal
import statistics
import subprocess
import sys
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import timedelta
from http.client import HTTPConnection
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import urlsplit
from uuid import UUID

import jwt
from sqlalchemy import func, select

from bench.measures import ROUNDS, Bench, Result, _service_environment, timed
from bench.scale import scaled
from openlatch import schemas
from openlatch.core import sent_signals
from openlatch.service import signing_keys
from openlatch.service.revocations import prepare, revoke
from openlatch.service.signals import receivers, streams
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.service.webhooks import deliver, manage
from openlatch.store.tables import Delivery, Grant
from openlatch.worker.queue import Queue

DELIVERIES = scaled(10_000)
# One in so many calls is refused by the receiver, and one in as many breaks off after it was taken.
FAILS = 10
# Seconds to wait for what has to come: more than a worker takes to start on a busy machine.
SECONDS = 120.0
REST = 0.1


@contextmanager
def _listening(take: Callable[[dict[str, str], bytes], int]) -> Iterator[str]:
    """A receiver on loopback; ``take`` gives its status, 0 to break off without an answer."""

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            status = take(dict(self.headers), self.rfile.read(int(self.headers["Content-Length"])))
            if status:
                self.send_response(status)
                self.send_header("Content-Length", "0")
                self.end_headers()
            self.close_connection = True

        def log_message(self, *_: object) -> None:
            """Nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/events"
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def _worker(bench: Bench) -> Iterator[Service]:
    """The service with a real worker process beside it, which may call this machine."""
    environment = {**os.environ, **_service_environment(bench), "OPENLATCH_PRIVATE_RECEIVERS": "127.0.0.1"}
    log = (bench.folder / "worker.log").open("wb")
    process = subprocess.Popen([sys.executable, "-m", "openlatch", "worker"], env=environment, stdout=log, stderr=log)
    queue = Queue(environment["OPENLATCH_DATABASE_URL"])
    try:
        yield replace(bench.service, wake=queue.wake, private_receivers=("127.0.0.1",))
    finally:
        queue.close()
        process.send_signal(signal.SIGTERM)
        process.wait(30)
        log.close()


def from_revoke_to_signal(bench: Bench) -> Result:
    """From the commit of a revocation to its event at a receiver, against a commit and a signed POST by hand."""
    came = threading.Event()
    at = [0.0]

    def take(headers: dict[str, str], body: bytes) -> int:
        at[0] = time.perf_counter()
        came.set()
        return 202

    with _listening(take) as url, _worker(bench) as service:
        with service.unit(bench.viewer) as unit:
            made = receivers.add(unit, schemas.AddSignalReceiver(name="Bench"))
            grants = iter(_of_people(unit))
        who = Viewer(bench.viewer.organisation, "Bench")
        with service.unit(who) as unit:
            delivery = {"method": sent_signals.PUSH, "endpoint_url": url}
            streams.make(unit, made.receiver.id, {"delivery": delivery})
        # As strong a key as the service's own.
        key = signing_keys.token_keys(service)[0]
        known = bench.owner("floor")
        known.execute("create table if not exists said (words text)")

        def by_hand() -> None:
            known.execute("insert into said values ('revoked')")
            known.commit()
            token = jwt.encode({"events": {sent_signals.SESSION_REVOKED: {}}}, key, "RS256")
            _post(url, token.encode())

        whole, after, floors = [], [], []
        for _ in range(ROUNDS):
            came.clear()
            began = time.perf_counter()
            with service.unit(bench.viewer) as unit:
                revoke.start(unit, prepare.Wish(grants=(next(grants),)), "Bench.")
            committed = time.perf_counter()
            if not came.wait(SECONDS):
                raise RuntimeError(
                    f"No event came within {SECONDS} s: {(bench.folder / 'worker.log').read_text()[-2000:]}"
                )
            whole.append(at[0] - began)
            after.append(at[0] - committed)
            # What the worker does besides is over by then; and the floor is as seldom asked as the service.
            time.sleep(REST)
            floors.append(timed(by_hand))
            time.sleep(REST)
        floor = statistics.median(floors)
        known.close()
    ratio = statistics.median(after) / floor
    notes = [
        f"from the call on, with all that revoking does before: {statistics.median(whole) / floor:.1f} of the floor; "
        f"the slowest of {ROUNDS}: {max(whole) / floor:.1f}; the floor is {floor * 1000:.1f} ms",
    ]
    name = "from a revocation's commit to the signal at a receiver"
    return Result(name, ratio, 3.0, "a commit and a signed POST by hand", notes)


def _of_people(unit: Unit) -> list[UUID]:
    wanted = select(Grant.id).where(Grant.state == "active", Grant.person_id.is_not(None))
    return list(unit.db.scalars(wanted.limit(ROUNDS)))


def webhooks_to_one_that_fails(bench: Bench) -> Result:
    """10,000 deliveries to a receiver that fails at random: none lost, none with another id, in order by subject."""
    got: Counter[str] = Counter()
    order: dict[str, list[int]] = defaultdict(list)
    chance = random.Random(7)
    lock = threading.Lock()

    def take(headers: dict[str, str], body: bytes) -> int:
        event = json.loads(body)
        with lock:
            luck = chance.random() * FAILS
            if luck < 1:
                return chance.choice((400, 500, 503, 429))
            got[event["id"]] += 1
            order[event["data"]["subject"]["id"]].append(event["data"]["position"])
            return 0 if luck < 2 else 204

    service = replace(bench.service, private_receivers=("127.0.0.1",))
    subjects = [UUID(int=n) for n in range(1, 101)]
    with _listening(take) as url:
        with service.unit(bench.viewer) as unit:
            hook = manage.add(unit, schemas.SetWebhook(name="Fails", url=url, actions=["bench"])).webhook.id
        for start in range(0, DELIVERIES, 500):
            with service.unit(bench.viewer) as unit:
                for n in range(start, min(start + 500, DELIVERIES)):
                    unit.record("bench.happened", "grant", subjects[n % len(subjects)], "Something")
        moved = [service.clock()]
        ahead = replace(service, clock=lambda: moved[0])

        def work() -> None:
            while _waits(ahead, bench, hook):
                deliver.deliver(ahead, bench.viewer.organisation, hook, deliver.ENTRIES)
                # What a receiver that is down has to wait for.
                moved[0] += timedelta(seconds=30)

        taken = timed(work)
        with _listening(lambda *_: 204) as other:
            single = [timed(lambda: _post(other, _SAMPLE)) for _ in range(200)]
    twice = sum(1 for count in got.values() if count > 1)
    firsts = [list(dict.fromkeys(each)) for each in order.values()]
    faults = DELIVERIES - len(got), sum(each != sorted(each) for each in firsts)
    notes = [f"{faults[0]} lost, {faults[1]} subjects out of order, {twice} came again with the id that they had"]
    return Result(
        f"{DELIVERIES:,} webhooks to a receiver that fails at random",
        taken / DELIVERIES / statistics.median(single),
        5.0,
        "a POST by hand for each",
        notes,
    )


_SAMPLE = json.dumps({"id": "none", "data": {"subject": {"id": "none"}, "position": 0}}).encode()


def _post(url: str, body: bytes) -> None:
    """A POST by hand, over a connection of its own."""
    parts = urlsplit(url)
    there = HTTPConnection(parts.netloc)
    there.request("POST", parts.path, body, {"Content-Type": "application/json"})
    there.getresponse().read()
    there.close()


def _waits(service: Service, bench: Bench, hook: UUID) -> bool:
    with service.unit(bench.viewer) as unit:
        waiting = select(func.count(Delivery.id)).where(Delivery.webhook_id == hook, Delivery.state == "waiting")
        return bool(unit.db.scalar(waiting)) or hook in deliver.due(unit, deliver.ENTRIES)
