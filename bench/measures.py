"""What is measured, each with its floor in the same run."""

from __future__ import annotations

import itertools
import operator
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from uuid import UUID

import httpx
import psycopg
from sqlalchemy import delete, insert, select

from bench import by_hand, world
from bench.scale import scaled
from openlatch.core.access import paths as access_paths
from openlatch.core.access import what_if
from openlatch.core.addresses import FREE_MAIL
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind
from openlatch.demo import loader
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service import connections
from openlatch.service import imports as importing_service
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.revocations import execute, prepare
from openlatch.service.revocations import revoke as revoke_access
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.access import subgraph
from openlatch.store.database import driver_of
from openlatch.store.flags import evaluate_many
from openlatch.store.flags.sources import SOURCES
from openlatch.store.migrate import APP_ROLE
from openlatch.store.tables import Account, Finding, Grant
from openlatch.test_systems import telemetry

ROUNDS = scaled(60, 3)


@dataclass
class Result:
    """A ratio to a floor."""

    work: str
    ratio: float
    aim: float
    floor: str
    notes: list[str] = field(default_factory=list)


@dataclass
class Bench:
    """What the measures work on."""

    size: world.Size
    folder: Path
    cluster: Cluster
    service: Service
    viewer: Viewer
    key: str
    results: list[Result] = field(default_factory=list)

    def owner(self, database: str = "bench") -> psycopg.Connection[Any]:
        """A bare connection as the owner, whom row-level security does not slow down."""
        return psycopg.connect(self.cluster.url(database))


def timed(work: Callable[[], Any]) -> float:
    """How many seconds it takes."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def alternating(*works: Callable[[], Any], rounds: int = ROUNDS) -> tuple[float, ...]:
    """The median of each, taken in turn so that noise falls on all."""
    for work in works:
        work()
    times = [[timed(work) for work in works] for _ in range(rounds)]
    return tuple(map(statistics.median, zip(*times, strict=True)))


_TABLES = ("people", "teams", "memberships", "systems", "accounts", "levels", "apps", "grants", "terms", "journal")


def importing(bench: Bench) -> Result:
    """Import the grants with all checks and the journal, against COPY of the same rows into the same tables."""
    taken = 0.0
    for kind, write in world.FILES.items():
        path = bench.folder / f"{kind}.csv"
        with path.open("w") as file:
            file.writelines(write(bench.size, world.today()))

        def bring(kind: str = kind, path: Path = path) -> None:
            with path.open("rb") as source, bench.service.unit(bench.viewer) as unit:
                report = importing_service.bring(unit, kind, "csv", source, keep_good=False, try_only=False)
            assert report.kept, report.errors[:3]

        seconds = timed(bring)
        taken = seconds if kind == "grants" else taken
    with bench.owner() as db:
        bounds = "select min(position), max(position) from journal where subject_kind = 'grant'"
        positions = db.execute(bounds).fetchone()
        db.commit()
        db.autocommit = True
        db.execute("vacuum analyze")
    assert positions is not None
    return Result(
        "import grants, checked and journalled",
        taken / _copy_again(bench, *positions),
        2.0,
        "COPY of the same rows into the same tables",
    )


def _copy_again(bench: Bench, first: int, last: int) -> float:
    """Seconds to COPY the rows that the import made into the same tables of another database."""
    total = 0.0
    with bench.owner() as source, bench.owner("floor") as target:
        _copy_organisations(source, target)
        for table in _TABLES:
            columns = _columns(source, table)
            where = f"where position between {first} and {last}" if table == "journal" else ""
            path = bench.folder / "floor.bin"
            with (
                path.open("wb") as file,
                source.cursor().copy(f"copy (select {columns} from {table} {where}) to stdout (format binary)") as copy,
            ):
                for block in copy:
                    file.write(block)

            def load(path: Path = path, table: str = table, columns: str = columns) -> None:
                with (
                    path.open("rb") as file,
                    target.cursor().copy(f"copy {table} ({columns}) from stdin (format binary)") as copy,
                ):
                    while block := file.read(1 << 20):
                        copy.write(block)
                target.commit()

            seconds = timed(load)
            total += seconds if table in ("grants", "terms", "journal") else 0.0
            path.unlink()
    return total


def _copy_organisations(source: psycopg.Connection[Any], target: psycopg.Connection[Any]) -> None:
    reading = source.cursor().copy("copy organisations to stdout")
    with reading as out, target.cursor().copy("copy organisations from stdin") as into:
        for block in out:
            into.write(block)
    target.commit()


def _columns(db: psycopg.Connection[Any], table: str) -> str:
    rows = db.execute(
        "select column_name from information_schema.columns where table_name = %s and is_generated = 'NEVER' "
        "and table_schema = 'public' order by ordinal_position",
        [table],
    )
    return ", ".join(f'"{name}"' for (name,) in rows)


# So many grants are still put before every rule one by one; above, what was found is only kept for comparing.
WHOLE_FIRST_TIME = 200_000


def every_rule(bench: Bench) -> Result:
    """Evaluate every rule over everything, with what was found before kept, against the same matches by hand.

    The hand-written statements count what each rule matches; both run with the same memory to work in, and the floor
    is the better of with and without compiling.
    """
    notes = []
    organisation = bench.viewer.organisation
    if bench.size.grants <= WHOLE_FIRST_TIME:
        first = timed(lambda: evaluate_flags.evaluate_all(bench.service, organisation))
    else:
        first = timed(lambda: _keep_found(bench))
    before = _resident_now()
    ours = min(timed(lambda: evaluate_flags.evaluate_all(bench.service, organisation)) for _ in range(3))
    grown = _resident_now() - before
    named = {"free": sorted(FREE_MAIL), "organisation": organisation}
    floors, counted = [], 0
    with bench.owner() as db:
        db.execute("set work_mem = '128MB'")
        for jit in ("on", "off", "off"):
            db.execute(f"set jit = {jit}")
            started = time.perf_counter()
            counted = sum(sum(row) for s in by_hand.EVERYTHING if (row := db.execute(s, named).fetchone()) is not None)
            floors.append(time.perf_counter() - started)
        kept = db.execute("select sum(cardinality(found)) from findings").fetchone()
    assert kept is not None
    floor = min(floors)
    notes.append(f"{kept[0]:,} findings, by hand {counted:,}; memory grew by {max(grown, 0) // 1024} MiB")
    what = "writing their flags and journal" if bench.size.grants <= WHOLE_FIRST_TIME else "keeping what was found"
    notes.append(f"the first time, {what}: {first / floor:.1f}")
    return Result("every rule over the whole register", ours / floor, 1.5, "the same matches by hand, in SQL", notes)


def _keep_found(bench: Bench) -> None:
    """Keep what the rules find, without the flags: what a first evaluation leaves to compare with."""
    with bench.service.unit(Viewer.itself(bench.viewer.organisation)) as unit:
        for subject in SOURCES:
            for ids in batched(
                evaluate_many.differing(unit.db, evaluate_flags.ruling(unit), subject, unit.now), 20_000
            ):
                seen = evaluate_many.look(unit.db, evaluate_flags.ruling(unit), subject, ids, unit.now)
                rows = [
                    {
                        "subject_id": s.id,
                        "organisation_id": bench.viewer.organisation,
                        "kind": subject,
                        "found": s.found,
                        "words": 0,
                    }
                    for s in seen
                ]
                unit.db.execute(delete(Finding).where(Finding.subject_id.in_(ids)))
                unit.db.execute(insert(Finding), rows)


def batched(rows: list[UUID], size: int) -> Iterator[list[UUID]]:
    """Rows some at a time."""
    for start in range(0, len(rows), size):
        yield rows[start : start + size]


def _resident_now() -> int:
    """Kilobytes that this process holds."""
    status = Path("/proc/self/status").read_text()
    return int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1])


_NOTE = "update grants set version = version + 1, recorded = %s where id = %s"
_GIVE = "update terms set until = '2031-01-01'::timestamptz + random() * interval '1 day' where grant_id = %s"


_ONE_COMMIT = "one single-row commit"


def one_change(bench: Bench) -> Result:
    """Looking anew at what noting something of one grant touches, against noting it in a commit of its own.

    It is what a change of the service takes longer with it than without. Most changes raise and clear nothing; in the
    notes also one that does each time, and what all of it takes.
    """
    ids = _active(bench)
    turn = itertools.cycle(ids)

    def change(recorded: bool, looks: bool = True) -> None:
        _change_one(bench, next(turn), (_NOTE, [recorded]), "noted" if looks else "")

    # Each once, so that what was found before is put into words.
    for _ in ids:
        change(True)
    with psycopg.connect(bench.cluster.url("bench")) as db:

        def floor() -> None:
            db.execute(_NOTE, [True, next(turn)], prepare=True)
            db.commit()

        taken, without, least = alternating(
            lambda: change(True), lambda: change(True, looks=False), floor, rounds=2 * ROUNDS
        )
        raised = statistics.median(timed(lambda: change(False)) for _ in range(ROUNDS))
    for _ in ids:
        change(True)
    notes = [_in_all(taken, without, least), f"with a flag raised each time and its entry {raised / least:.1f}"]
    return Result("flags anew after something was noted", (taken - without) / least, 3.0, _ONE_COMMIT, notes)


def one_change_of_what_is_given(bench: Bench) -> Result:
    """The same for a change of what a grant gives, which touches its account and its holder too."""
    ids = _active(bench)
    turn = itertools.cycle(ids)

    def change(looks: bool = True) -> None:
        _change_one(bench, next(turn), (_GIVE, []), "grants" if looks else "")

    for _ in ids:
        change()
    with psycopg.connect(bench.cluster.url("bench")) as db:

        def floor() -> None:
            db.execute(_GIVE, [next(turn)], prepare=True)
            db.commit()

        taken, without, least = alternating(change, lambda: change(looks=False), floor, rounds=2 * ROUNDS)
    notes = [_in_all(taken, without, least)]
    return Result("flags anew after what is given changed", (taken - without) / least, 3.0, _ONE_COMMIT, notes)


def _in_all(taken: float, without: float, least: float) -> str:
    return f"the transaction, the change and its journal {without / least:.1f}; with the flags {taken / least:.1f}"


def _active(bench: Bench) -> list[UUID]:
    with bench.owner() as db:
        return [row[0] for row in db.execute("select id from grants where state = 'active' limit 300")]


def _change_one(bench: Bench, ident: UUID, change: tuple[str, list[Any]], looked_at_as: str) -> None:
    """Change one grant in a transaction of the service, with its entry in the journal."""
    statement, values = change
    with bench.service.unit(bench.viewer) as unit:
        driver_of(unit.db).execute(statement, [*values, ident], prepare=True)
        unit.record("grant.changed", "grant", ident, "bench")
        if looked_at_as:
            named: Any = {looked_at_as: [ident]}
            evaluate_flags.evaluate(unit, **named)


_REACHING = """
    with recursive reaching(kind, id, name, there, path, words, level, since, until) as (
        select g.holder_kind, g.holder_id, coalesce(p.name, ap.name),
            g.app_id is not null or p.standing = 'current' or p.leaves_at > now(), array[g.id],
            coalesce(p.name, tm.name, ap.name) || ' holds ' || l.name, l.name, t.since, t.until
        from grants g join terms t on t.grant_id = g.id join levels l on l.id = t.level_id
        left join people p on p.id = g.person_id left join teams tm on tm.id = g.team_id
        left join apps ap on ap.id = g.app_id
        where g.account_id = %(account)s and g.state in ('active', 'revoking')
            and (t.since is null or t.since <= now()) and (t.until is null or t.until > now())
        union all
        select case when m.person_id is null then 'team' else 'person' end, m.member_id, p.name,
            p.standing = 'current' or p.leaves_at > now(), m.id || r.path,
            coalesce(p.name, tm.name) || ' belongs, ' || r.words, r.level, greatest(r.since, m.since),
            least(r.until, m.until)
        from reaching r cross join lateral (
            select * from memberships n where r.kind = 'team' and n.team_id = r.id
                and n.organisation_id = %(organisation)s
                and (n.since is null or n.since <= now()) and (n.until is null or n.until > now())
        ) m left join people p on p.id = m.person_id left join teams tm on tm.id = m.member_team_id
        where not m.id = any(r.path)
    )
    select kind, id, name, path, words, level, since, until from reaching where kind <> 'team' and there
    union all
    select 'person', a.owner_id, p.name, array[]::uuid[], p.name || ' owns', 'Owner', null, null
    from accounts a join people p on p.id = a.owner_id where a.id = %(account)s
"""


def who_reaches_an_account(bench: Bench) -> Result:
    """Everyone who reaches an account, with paths, against a bare recursive query that gives the same paths."""
    with bench.owner() as db:
        db.execute("set jit = off")
        db.execute("set random_page_cost = 1.1")
        rows = db.execute("select account_id from grants group by 1 order by count(*) desc").fetchall()
        middle = [row[0] for row in rows[len(rows) // 2 :][:ROUNDS]]
        turn, again = itertools.cycle(middle), itertools.cycle(middle)
        paths = [0, 0]

        with bench.service.unit(bench.viewer) as unit:

            def ours() -> None:
                account = next(turn)
                paths[0] += len(
                    access_paths.everyone_reaching(subgraph.around_accounts(unit.db, [account]), account, unit.now)
                )

            def floor() -> None:
                named = {"account": next(again), "organisation": bench.viewer.organisation}
                paths[1] += len(db.execute(_REACHING, named, prepare=True).fetchall())

            # Each account is met once before, so that neither pays for the other's reading from the disk.
            for _ in middle:
                floor()
            paths[1] = 0
            # The first time the members of teams are read, and kept. Both are said: the second is what people meet.
            rounds = min(ROUNDS, len(middle))
            first = operator.truediv(*alternating(ours, floor, rounds=rounds))
            taken, least = alternating(ours, floor, rounds=rounds)
            each = tuple(paths)
            times, bare = (sorted(timed(work) for _ in range(10 * ROUNDS)) for work in (ours, floor))
    slowest, by_hand = (found[len(found) * 99 // 100] * 1000 for found in (times, bare))
    note = f"the first time {first:.2f}; slowest of a hundred {slowest:.1f} ms, by hand {by_hand:.1f} ms"
    note += f"; {each[0]} paths, by hand {each[1]}"
    work = "who can do what in one account, with paths"
    return Result(work, taken / least, 1.5, "a bare recursive query in psycopg, same paths", [note])


_CAN = """
    with recursive up(kind, id, path, words, since, until) as (
        select 'person', p.id, array[]::uuid[], '', null::timestamptz, null::timestamptz
        from people p where p.id = %(person)s and (p.standing = 'current' or p.leaves_at > now())
        union all
        select 'team', m.team_id, u.path || m.id, u.words || 'belongs to ' || t.name || ', ',
            greatest(u.since, m.since), least(u.until, m.until)
        from up u join memberships m on m.member_id = u.id join teams t on t.id = m.team_id
        where not m.id = any(u.path) and (m.since is null or m.since <= now()) and (m.until is null or m.until > now())
    )
    select u.path || g.id, u.words || 'holds ' || l.name, l.name, greatest(u.since, t.since), least(u.until, t.until)
    from up u join grants g on g.holder_id = u.id and g.account_id = %(account)s and g.state in ('active', 'revoking')
    join terms t on t.grant_id = g.id join levels l on l.id = t.level_id
    where (t.since is null or t.since <= now()) and (t.until is null or t.until > now())
"""


def can_one_person(bench: Bench) -> Result:
    """Whether, and by which paths, one person can act in one account, against a bare recursive query for the same."""
    with bench.owner() as db:
        db.execute("set jit = off")
        rows = db.execute(
            "select person_id, account_id from grants where person_id is not null and state = 'active' "
            "order by md5(id::text) limit 500"
        ).fetchall()
        db.commit()
        turn, again = itertools.cycle(rows), itertools.cycle(rows)
        with bench.service.unit(bench.viewer) as unit:

            def ours() -> None:
                person, account = next(turn)
                holder = Holder(HolderKind.PERSON, person)
                access_paths.paths_to(subgraph.between(unit.db, holder, account), holder, account, unit.now)

            def floor() -> None:
                person, account = next(again)
                db.execute(_CAN, {"person": person, "account": account}, prepare=True).fetchall()
                db.commit()

            for _ in rows:
                floor()
                ours()
            taken, least = alternating(ours, floor, rounds=2 * ROUNDS)
            times = sorted(timed(ours) for _ in range(1_000))
    note = f"slowest of a hundred {times[990] * 1000:.1f} ms"
    return Result("can one person do it, with paths", taken / least, 1.5, "a bare recursive query in psycopg", [note])


def the_matrix_of_an_account(bench: Bench) -> Result:
    """Everyone in an account of 20,000 holders (or the largest below that) against everything, in seconds."""
    with bench.owner() as db:
        rows = db.execute("select account_id from grants group by 1 order by count(*) desc limit 400").fetchall()
    with bench.service.unit(bench.viewer) as unit:

        def holders(account: UUID) -> int:
            register = subgraph.around_accounts(unit.db, [account])
            return len(what_if.matrix(register, account, unit.now)[1])

        # Large accounts have more holders by their teams than by themselves: halved until one is small enough.
        least, most = 0, len(rows) - 1
        while least < most:
            middle = (least + most) // 2
            if holders(rows[middle][0]) > 20_000:
                least = middle + 1
            else:
                most = middle
        account = rows[least][0]
        found = holders(account)
        taken = min(timed(lambda: holders(account)) for _ in range(3))
    return Result(f"the matrix of an account of {found:,} holders", taken, 1.0, "one second")


_REACHED = """
    with recursive met(id, path) as (
        select %(person)s::uuid, array[]::uuid[]
        union all
        select m.team_id, met.path || m.id from met join memberships m on m.member_id = met.id
        where not m.id = any(met.path)
    )
    select g.account_id, a.name, l.name, l.reach, t.until, met.path || g.id
    from met join grants g on g.holder_id = met.id and g.state in ('active', 'revoking')
    join accounts a on a.id = g.account_id join terms t on t.grant_id = g.id join levels l on l.id = t.level_id
"""


def what_a_person_reaches(bench: Bench) -> Result:
    """Everything that one person reaches, with paths, against a bare recursive query."""
    with bench.owner() as db:
        ids = [row[0] for row in db.execute("select id from people where standing = 'current' order by id limit 200")]
        turn = itertools.cycle(ids)

        def ours() -> None:
            with bench.service.unit(bench.viewer) as unit:
                holder = Holder(HolderKind.PERSON, next(turn))
                access_paths.everything_reached(subgraph.around_holder(unit.db, holder), holder, unit.now)

        def floor() -> None:
            db.execute(_REACHED, {"person": next(turn)}, prepare=True).fetchall()
            db.commit()

        taken, least = alternating(ours, floor)
    return Result("everything that one person reaches", taken / least, 1.5, "a bare recursive query in psycopg")


_BARE = """
import os, psycopg
from flask import Flask, Response
from psycopg_pool import ConnectionPool
app = Flask(__name__)
pool = ConnectionPool(os.environ["BENCH_URL"], min_size=4, open=True)
QUERY = '''
select coalesce(json_agg(r), '[]')::text from (
    select g.id, g.state, g.ended_as, g.ended_at,
        json_build_object('id', a.id, 'name', a.name, 'sensitivity', a.sensitivity) account,
        json_build_object('id', y.id, 'name', y.name, 'kind', y.kind) system,
        json_build_object('id', g.holder_id, 'kind', g.holder_kind, 'name', coalesce(p.name, t.name)) holder,
        l.name as level, l.sentence, l.reach, m.since, m.until, g.given_at,
        json_build_object('id', b.id, 'name', b.name) given_by, g.reason, g.last_used_at, g.recorded,
        (select count(*) from flags f where f.subject_id = g.id and f.state = 'open') open_flags
    from grants g join accounts a on a.id = g.account_id join systems y on y.id = a.system_id
    join terms m on m.grant_id = g.id join levels l on l.id = m.level_id
    left join people p on p.id = g.person_id left join teams t on t.id = g.team_id
    left join people b on b.id = g.given_by_id
    where g.organisation_id = (select id from organisations where slug = 'bench')
    and g.state = 'active' and a.sensitivity >= 3 order by g.given_at desc, g.id desc limit 50
) r
'''
@app.get("/")
def page():
    with pool.connection() as db:
        return Response(db.execute(QUERY).fetchone()[0], content_type="application/json")
"""


@contextmanager
def _gunicorn(
    bench: Bench, target: str, environment: dict[str, str], processes: int = 1
) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    bind = f"127.0.0.1:{free_port()}"
    command = [
        "gunicorn",
        "-b",
        bind,
        "-w",
        str(processes),
        "-k",
        "gthread",
        "--threads",
        "4",
        "--log-level",
        "warning",
    ]
    with _running(bench, bind, [*command, target], environment) as started:
        yield started


@contextmanager
def _running(
    bench: Bench, bind: str, command: list[str], environment: dict[str, str]
) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    """A module of Python that serves, once it answers."""
    process = subprocess.Popen([sys.executable, "-m", *command], env={**os.environ, **environment}, cwd=bench.folder)
    address = f"http://{bind}"
    try:
        for _ in range(200):
            try:
                httpx.get(address + "/healthz")
                break
            except httpx.TransportError:
                time.sleep(0.1)
        yield address, process
    finally:
        process.terminate()
        process.wait(40)


def _service_environment(bench: Bench) -> dict[str, str]:
    return {
        "OPENLATCH_DATABASE_URL": bench.cluster.url("bench", APP_ROLE, "bench"),
        "OPENLATCH_SECRET_KEY": bench.key,
    }


def _write_apps(bench: Bench) -> None:
    (bench.folder / "bare.py").write_text(_BARE)
    (bench.folder / "idle.py").write_text("from flask import Flask\napp = Flask(__name__)\n")
    (bench.folder / "ours.py").write_text(
        "from openlatch.runtime.servers import web_app\nfrom openlatch.runtime.settings import Settings\n"
        "app = web_app(Settings.load())\n"
    )


def a_page_over_http(bench: Bench) -> Result:
    """A page of 50 from a filtered list, against Flask and a bare query that builds the same JSON."""
    _write_apps(bench)
    with (
        _gunicorn(bench, "ours:app", _service_environment(bench)) as (address, _),
        _gunicorn(bench, "bare:app", {"BENCH_URL": bench.cluster.url("bench")}) as (bare, _),
        httpx.Client(timeout=120) as http,
    ):
        body = {"address": "ada@example.org", "password": "a long password"}
        token = http.post(f"{address}/api/v1/tokens", json=body).json()["token"]
        headers = {"Authorization": f"Bearer {token}"}
        params = {"filter": 'state eq "active" and account.sensitivity ge 3', "limit": "50"}

        def ours() -> None:
            http.get(f"{address}/api/v1/grants", params=params, headers=headers).raise_for_status()

        def floor() -> None:
            http.get(bare).raise_for_status()

        taken, least = alternating(ours, floor)
    return Result("a page of 50 from a filtered list over HTTP", taken / least, 1.3, "Flask and a bare psycopg query")


def revoke_until_confirmed(bench: Bench) -> Result:
    """Revoke in a real PostgreSQL system until confirmed, against the same statements by hand and one read."""
    with telemetry_server(bench, "telemetry") as server:
        url = server.url(telemetry.DATABASE)
        names = [f"b_{n}" for n in range(2 * ROUNDS + 4)]
        with psycopg.connect(url) as db:
            for name in names:
                db.execute(f"create role {name} login")
                db.execute(f"grant hut_sensors to {name}")
        system = connected(bench, server)
        ours, by_hand = names[: ROUNDS + 2], names[ROUNDS + 2 :]
        with bench.service.unit(bench.viewer) as unit:
            held = select(Grant.handle["member"].astext, Grant.id).join(Account, Account.id == Grant.account_id)
            grants: dict[str, UUID] = dict(
                unit.db.execute(held.where(Account.system_id == system, Account.handle == "hut_sensors")).all()
            )
        mine, theirs = iter(ours), iter(by_hand)

        def revoke() -> None:
            with bench.service.unit(bench.viewer) as unit:
                ident = revoke_access.start(unit, prepare.Wish(grants=(grants[next(mine)],)), "Bench.")
            execute.carry_out(bench.service, bench.viewer.organisation, ident)

        def hand() -> None:
            name = next(theirs)
            with psycopg.connect(url) as db:
                db.execute(f"revoke hut_sensors from {name}")
            with psycopg.connect(url) as db:
                db.execute(
                    "select 1 from pg_auth_members m join pg_roles r on r.oid = m.member where rolname = %s", [name]
                )

        taken, least = alternating(revoke, hand)
    return Result(
        "revoke until confirmed in a real PostgreSQL", taken / least, 2.0, "the same statements by hand, and one read"
    )


@contextmanager
def telemetry_server(bench: Bench, name: str) -> Iterator[Cluster]:
    """A PostgreSQL server as a system, with the roles of the demo's telemetry database."""
    server = Cluster(bench.folder / name, "telemetry_owner")
    server.start()
    try:
        server.ensure_database(telemetry.DATABASE)
        telemetry.prepare(server.url(telemetry.DATABASE), loader.telemetry_plan(), world.today(), "bench")
        yield server
    finally:
        server.stop()


def connected(bench: Bench, server: Cluster) -> UUID:
    """Connect it with the service, and read it once."""
    settings = {
        "host": "127.0.0.1",
        "port": server.port,
        "database": telemetry.DATABASE,
        "user": telemetry.ADAPTER_LOGIN,
        "sslmode": "disable",
    }
    ident = connections.connect(
        bench.service, bench.viewer, str(server.port), "Telemetry", "postgresql", settings, "bench"
    )
    assert readings.read(bench.service, bench.viewer.organisation, ident) is not None
    return ident


def memory(bench: Bench) -> Result:
    """The web server's processes, two of which answer, after serving every list; against those of an idle Flask."""
    _write_apps(bench)
    bind = f"127.0.0.1:{free_port()}"
    environment = {**_service_environment(bench), "OPENLATCH_BIND": bind, "OPENLATCH_LOG_REQUESTS": "0"}
    with (
        _running(bench, bind, ["openlatch", "serve"], environment) as (address, ours),
        _gunicorn(bench, "idle:app", {}, processes=2) as (idle, idle_process),
    ):
        body = {"address": "ada@example.org", "password": "a long password"}
        token = httpx.post(f"{address}/api/v1/tokens", json=body).json()["token"]
        headers = {"Authorization": f"Bearer {token}"}
        for name in ("accounts", "people", "grants", "sessions", "flags", "journal", "today"):
            # Often enough that both processes have answered.
            for _ in range(8):
                httpx.get(f"{address}/api/v1/{name}", headers=headers, timeout=120).raise_for_status()
        for _ in range(8):
            httpx.get(idle)
        held, least = _proportional(ours.pid), _proportional(idle_process.pid)
    notes = [f"{held // 1024} MiB in all, what they share counted once"]
    return Result("memory of the web server", held / least, 3.0, "an idle Flask with as many processes", notes)


def _proportional(master: int) -> int:
    """Kilobytes of a process and its children: their own, and their share of what they have in common."""
    children = Path(f"/proc/{master}/task/{master}/children").read_text().split()
    rolled = [Path(f"/proc/{pid}/smaps_rollup").read_text() for pid in (master, *children)]
    return sum(int(line.split()[1]) for text in rolled for line in text.splitlines() if line.startswith("Pss:"))
