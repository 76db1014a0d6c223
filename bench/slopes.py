"""`python -m bench.slopes --grants 10000,100000`: what grows with the register, and what does not.

A register of each size is filled, and what people do all day is measured on it, as a multiple of a round trip to the
database in the same run, so that sizes can be compared. Printed beside each row is its slope: 0 stays as it is, 1 grows
as the register does. Then all of the journal goes into the archive.
"""

from __future__ import annotations

import argparse
import dataclasses
import itertools
import json
import math
import os
import platform
import shutil
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import text

from bench import measures
from bench.measures import Bench, alternating, timed
from bench.registers import register
from bench.world import Size
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind
from openlatch.service.changes import changes
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.journal import archive, entries, signed_heads
from openlatch.service.lists import register as lists
from openlatch.store.access import as_of, subgraph
from openlatch.store.access.as_of import Moment
from openlatch.store.archive import Which
from openlatch.store.database import owner_engine
from openlatch.store.lists.engine import ListQuery

ROUNDS = 40
_SIZES = """
    select coalesce(p.relname, c.relname), sum(pg_total_relation_size(c.oid))::bigint from pg_class c
    left join pg_inherits i on i.inhrelid = c.oid left join pg_class p on p.oid = i.inhparent
    where c.relkind = 'r' and c.relnamespace = 'public'::regnamespace group by 1
"""
_JOURNAL = "copy (select * from journal) to stdout"
# As of the time at which partitions made by now are over.
LATER = timedelta(days=300)


def main() -> None:
    """Measure each size, and print the rows with their slopes."""
    parser = argparse.ArgumentParser(prog="python -m bench.slopes", description=__doc__)
    parser.add_argument("--grants", default="10000,100000", help="the sizes, with commas")
    chosen = parser.parse_args()
    sizes = [int(one) for one in chosen.grants.split(",")]
    print(f"{os.cpu_count()} cores, Python {platform.python_version()}", flush=True)
    found: list[dict[str, float]] = []
    for size in sizes:
        with register(Size(size)) as (bench, _):
            found.append(_measured(bench))
        print(f"measured {size:,}", flush=True)
    print(f"{'':52}" + "".join(f"{size:>14,}" for size in sizes) + f"{'slope':>8}")
    for name in found[0]:
        values = [one[name] for one in found]
        shown = "".join(f"{value:14,.1f}" for value in values)
        print(f"{name:52}{shown}{_slope(sizes, values):8.2f}")
    kept = Path("bench/results")
    kept.mkdir(parents=True, exist_ok=True)
    (kept / "slopes.json").write_text(json.dumps(dict(zip(sizes, found, strict=True)), indent=2))


def _slope(sizes: list[int], values: list[float]) -> float:
    """By how much the logarithm grows with that of the size, between the first and the last."""
    if len(sizes) < 2 or not values[0] or not values[-1]:
        return 0.0
    return math.log(values[-1] / values[0]) / math.log(sizes[-1] / sizes[0])


def _measured(bench: Bench) -> dict[str, float]:
    empty = _bytes(bench)
    measures.importing(bench)
    filled = _bytes(bench)
    found: dict[str, float] = {}
    for table in ("", *_LARGEST):
        name = f"  of them {table}" if table else "bytes of the database, for each grant"
        found[name] = (filled[table] - empty[table]) / bench.size.grants
    return found | _in_round_trips(bench) | _archived(bench)


_LARGEST = ("journal", "grants", "terms", "sessions", "people")


def _bytes(bench: Bench) -> dict[str, int]:
    """The size of each table with its indexes, and of all together by the name of nothing."""
    with bench.owner() as db:
        sizes = dict(db.execute(_SIZES).fetchall())
    return {**sizes, "": sum(sizes.values())}


def _in_round_trips(bench: Bench) -> dict[str, float]:
    """How many round trips to the database each takes."""
    with bench.service.unit(bench.viewer) as unit:
        some = unit.db.execute(
            text(
                "select id, account_id, person_id from grants where state = 'active' and person_id is not null "
                "order by md5(id::text) limit 200"
            )
        ).all()
        last = unit.db.scalar(text("select max(position) from journal")) or 0
        now = unit.now
    turn = itertools.cycle(some)

    def reading(work: Callable[[Any, Any], object]) -> float:
        with bench.service.unit(bench.viewer) as unit:
            taken, trip = alternating(
                lambda: work(unit, next(turn)), lambda: unit.db.execute(text("select 1")).all(), rounds=ROUNDS
            )
        return taken / trip

    def everyone(unit: Any, row: Any) -> object:
        found = subgraph.around_accounts(unit.db, [row.account_id])
        return access_paths.everyone_reaching(found, row.account_id, now)

    def everyone_then(unit: Any, row: Any) -> object:
        past = Moment(now - timedelta(days=30), now)
        found = as_of.around_accounts(unit.db, unit.service.archive, [row.account_id], past)
        return access_paths.everyone_reaching(found, row.account_id, past.at)

    def can(unit: Any, row: Any) -> object:
        holder = Holder(HolderKind.PERSON, row.person_id)
        return access_paths.paths_to(subgraph.between(unit.db, holder, row.account_id), holder, row.account_id, now)

    def further(unit: Any, _: Any) -> object:
        found = entries.every(unit.service, unit.db, bench.viewer.organisation, Which(after=last - 100), 50)
        return list(itertools.islice(found, 50))

    def change(_: Any, row: Any) -> object:
        with bench.service.unit(bench.viewer) as own:
            return changes.carry_out(own, Change(ChangeKind.SUSPEND, "Measured.", (row.id,)))

    return {
        "everyone who reaches an account, in round trips": reading(everyone),
        "  as it was 30 days ago": reading(everyone_then),
        "can one person do it": reading(can),
        "a page of 50 grants": reading(lambda unit, _: lists.page(unit, "grants", ListQuery(limit=50))),
        "50 entries of the journal": reading(further),
        "suspending one grant, with its commit": reading(change),
    }


def _archived(bench: Bench) -> dict[str, float]:
    """Moving all of the journal into the archive, checked, and reading it from there, against COPY of the same rows."""
    signing = dataclasses.replace(bench.service, evidence_seed=b"measured")
    with signing.unit(bench.viewer) as unit:
        signed_heads.sign(unit)
    later = dataclasses.replace(bench.service, clock=lambda: bench.service.clock() + LATER)
    rows = bench.folder / "journal.copy"

    def copied() -> None:
        with bench.owner() as db, rows.open("wb") as file, db.cursor().copy(_JOURNAL) as lines:
            for block in lines:
                file.write(block)

    def verified() -> int:
        with bench.service.unit(bench.viewer) as unit:
            return sum(1 for _ in entries.every(bench.service, unit.db, bench.viewer.organisation))

    least = timed(copied)
    size = rows.stat().st_size
    from_database = timed(verified)
    with owner_engine(bench.cluster.url("bench")) as owner:
        taken = timed(lambda: list(archive.move(later, owner, later.clock())))
    from_archive = timed(verified)
    folder = bench.service.archive.folder
    assert folder is not None
    files = sum(path.stat().st_size for path in folder.glob("*/journal-*"))
    shutil.rmtree(folder)
    return {
        "archiving the journal, checked; COPY of it is 1": taken / least,
        "reading all of it from the database": from_database / least,
        "reading all of it from the archive": from_archive / least,
        "bytes of its files, in hundredths of the text": 100 * files / size,
    }


if __name__ == "__main__":
    main()
