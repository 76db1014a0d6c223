"""What systems show, and ending access there: comparing, reading many roles, many revocations in one plan."""

from __future__ import annotations

import csv
import statistics
from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import psycopg
from sqlalchemy import select

from bench.measures import Bench, Result, connected, telemetry_server, timed
from bench.scale import scaled
from openlatch.adapters import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    Holding,
    Login,
    Reading,
    SharedAccount,
    Whole,
)
from openlatch.adapters.postgresql.adapter import PostgresqlAdapter
from openlatch.core.vocabulary import Reach
from openlatch.service import connections
from openlatch.service.revocations import execute, prepare, revoke, steps
from openlatch.service.systems import readings
from openlatch.service.systems.comparison import Comparison
from openlatch.service.systems.staging import Spool
from openlatch.store.tables import Account, Grant, System
from openlatch.test_systems import telemetry

LEVELS = tuple(
    FoundLevel(key, key.title(), f"Can {key}.", ((key, key.title(), reach),))
    for key, reach in (("see", Reach.OBSERVE), ("do", Reach.OPERATE))
)
# Of a thousand holdings so many are otherwise the second time: gone, new, or at another level.
DIFFERING = 10
PLAN = scaled(1_000)
ROLES = scaled(100_000)


class Made:
    """A system that says what it is made to say: as many holdings, a few of them otherwise the second time."""

    settings_taken = ()
    can = Abilities(frozenset(), ())

    def __init__(self, grants: int) -> None:
        self.grants, self.later = grants, False
        self.accounts, self.people = max(grants // 100, 1), max(grants // 10, 1)

    def __call__(self, settings: Any, secret: str) -> Adapter:
        """Itself, for whatever settings."""
        return self  # type: ignore[return-value]

    def check(self) -> None:
        """All is well."""

    def rows(self) -> Iterator[tuple[str, str, str]]:
        """Account, holder and level of every holding."""
        for n in range(self.grants):
            otherwise = self.later and n % (1000 // DIFFERING) == 0
            if otherwise and n % 3 == 0:
                continue
            level = "do" if (n % 7 == 0) != (otherwise and n % 3 == 1) else "see"
            holder = f"p{n % self.people}" if not (otherwise and n % 3 == 2) else f"p{(n + 1) % self.people}"
            yield f"a{(n // self.people * 7919 + n) % self.accounts}", holder, level

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Everything."""
        yield from LEVELS
        yield from (SharedAccount(f"a{n}", f"Account {n}") for n in range(self.accounts))
        yield from (Login(f"p{n}", f"Person {n}", False) for n in range(self.people))
        for account, holder, level in self.rows():
            yield Holding(account, holder, False, level, None, {"a": account, "h": holder})
        yield Whole()


def _sorted(path: Path, made: Made) -> Path:
    with path.open("w", newline="") as file:
        csv.writer(file).writerows(sorted(made.rows()))
    return path


def _merge(one: Path, other: Path) -> int:
    """A merge join of two sorted files: how many lines differ."""
    differing = 0
    with one.open(newline="") as left, other.open(newline="") as right:
        lefts, rights = csv.reader(left), csv.reader(right)
        here, there = next(lefts, None), next(rights, None)
        while here is not None or there is not None:
            if there is None or (here is not None and here[:2] < there[:2]):
                differing += 1
                here = next(lefts, None)
            elif here is None or there[:2] < here[:2]:
                differing += 1
                there = next(rights, None)
            else:
                differing += here[2] != there[2]
                here, there = next(lefts, None), next(rights, None)
    return differing


def comparing(bench: Bench) -> Result:
    """A reading against a register of the same size, against a merge join of the two as sorted files."""
    made = Made(bench.size.grants)
    files = [_sorted(bench.folder / "one.csv", made)]
    service = replace(bench.service, adapters={"made": made})
    ident = connections.connect(service, bench.viewer, "made", "Made", "made", {}, "")
    first = timed(lambda: readings.read(service, bench.viewer.organisation, ident))
    made.later = True
    files.append(_sorted(bench.folder / "two.csv", made))
    found: list[int] = []
    ours, spooling = [], []
    with bench.owner() as owner:
        owner.autocommit = True
        owner.execute("vacuum analyze")
    for _ in range(3):
        with Spool() as spool:
            spooling.append(timed(lambda held=spool: held.take(made.read())))  # type: ignore[misc]
            with service.unit(bench.viewer) as unit:
                comparison = Comparison(unit, unit.db.get_one(System, ident), spool, unit.now)
                ours.append(timed(lambda at=comparison: found.append(at.look())))  # type: ignore[misc]
                unit.db.rollback()
    floor = [timed(lambda: found.append(_merge(*files))) for _ in range(3)]
    whole = timed(lambda: readings.read(service, bench.viewer.organisation, ident))
    notes = [
        f"{made.grants:,} against as many; {found[-1]:,} lines differ, {found[0]:,} differences found",
        f"first reading of all: {first / statistics.median(floor):.0f} of the floor; a reading with what differs "
        f"written: {whole / statistics.median(floor):.1f}; putting it on disk: {statistics.median(spooling):.1f} s",
    ]
    return Result(
        "comparing a reading with the register",
        statistics.median(ours) / statistics.median(floor),
        2.0,
        "a merge join of the two as sorted files",
        notes,
    )


def reading_many_roles(bench: Bench) -> Result:
    """The PostgreSQL adapter reads 100,000 roles, against the same catalogues fetched by a bare psycopg."""
    with telemetry_server(bench, "roles") as server:
        url = server.url(telemetry.DATABASE)
        with psycopg.connect(url) as db:
            db.execute(
                f"do $$ begin for n in 1..{ROLES} loop execute format('create role r%s login', n); "
                "if n % 2 = 0 then execute format('grant hut_sensors to r%s', n); end if; end loop; end $$"
            )
        adapter = PostgresqlAdapter(
            {
                "host": "127.0.0.1",
                "port": server.port,
                "database": telemetry.DATABASE,
                "user": telemetry.ADAPTER_LOGIN,
                "sslmode": "disable",
            },
            "bench",
        )

        def bare() -> None:
            with psycopg.connect(url) as db:
                db.execute("select rolname, rolcanlogin, rolvaliduntil::text from pg_roles").fetchall()
                db.execute(
                    "select r.rolname, m.rolname, a.admin_option from pg_auth_members a join pg_roles r "
                    "on r.oid = a.roleid join pg_roles m on m.oid = a.member"
                ).fetchall()

        ours = statistics.median(timed(lambda: Reading.of(adapter.read())) for _ in range(3))
        spooled = statistics.median(timed(lambda: _spool(adapter)) for _ in range(3))
        floor = statistics.median(timed(bare) for _ in range(3))
    return Result(
        f"reading {ROLES:,} roles",
        ours / floor,
        5.0,
        "both catalogues fetched by a bare psycopg",
        [f"onto disk, ready to be compared: {spooled / floor:.1f}"],
    )


def _spool(adapter: Adapter) -> None:
    with Spool() as spool:
        spool.take(adapter.read())


def a_large_plan(bench: Bench) -> Result:
    """1,000 revocations in one plan until all are confirmed, against the statements by hand and one read."""
    with telemetry_server(bench, "plan") as server:
        url = server.url(telemetry.DATABASE)
        names = [f"b_{n}" for n in range(2 * PLAN)]
        with psycopg.connect(url) as db:
            for name in names:
                db.execute(f"create role {name} login")
                db.execute(f"grant hut_sensors to {name}")
        system = connected(bench, server)
        with bench.service.unit(bench.viewer) as unit:
            held = select(Grant.id).join(Account, Account.id == Grant.account_id)
            mine = held.where(Account.system_id == system, Grant.handle["member"].astext.in_(names[:PLAN]))
            grants = tuple(unit.db.scalars(mine))
        begun = []

        def plan() -> None:
            with bench.service.unit(bench.viewer) as unit:
                begun.append(revoke.start(unit, prepare.Wish(grants=grants), "Bench."))

        def carry() -> None:
            execute.carry_out(bench.service, bench.viewer.organisation, begun[-1])

        def hand() -> None:
            with psycopg.connect(url, autocommit=True) as db:
                for name in names[PLAN:]:
                    db.execute(f"revoke hut_sensors from {name}")
                db.execute("select m.rolname from pg_auth_members a join pg_roles m on m.oid = a.member").fetchall()

        planning, carried, floor = timed(plan), timed(carry), timed(hand)
        with bench.service.unit(bench.viewer) as unit:
            assert steps.page(unit, begun[-1]).state == "confirmed"
    return Result(
        f"{PLAN:,} revocations in one plan",
        (planning + carried) / floor,
        10.0,
        "the same statements by hand, and one read",
        [f"planning {planning / floor:.1f}, carrying out and proving {carried / floor:.1f}"],
    )
