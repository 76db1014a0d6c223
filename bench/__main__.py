"""`python -m bench --grants N`: builds a register of that size and prints each ratio to its floor, in one run.

Ratios only: machines are shared and noisy. The floor of each line is measured beside it, on the same rows.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from cryptography.fernet import Fernet

from bench import measures, reviewing
from bench.measures import Bench, Result
from bench.world import Size
from openlatch.launch.cluster import Cluster
from openlatch.launch.serving import spare_the_collector
from openlatch.service import signing_in
from openlatch.service.context import Service
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, migrate

MEASURES: tuple[Callable[[Bench], Result], ...] = (
    measures.importing,
    measures.every_rule,
    measures.one_change,
    measures.who_reaches_an_account,
    measures.what_a_person_reaches,
    measures.the_matrix_of_an_account,
    measures.a_page_over_http,
    measures.revoke_until_confirmed,
    reviewing.opening_a_round,
    reviewing.a_page_of_items,
    reviewing.writing_while_it_closes,
    measures.memory,
)


def main() -> None:
    """Measure everything, and print a table of ratios."""
    parser = argparse.ArgumentParser(prog="python -m bench", description=__doc__)
    parser.add_argument("--grants", type=int, default=100_000, help="how many grants (default 100,000)")
    parser.add_argument("--only", default="", help="measure only what is named, with commas")
    chosen = parser.parse_args()
    spare_the_collector()
    folder = Path(tempfile.mkdtemp(prefix="openlatch-bench-"))
    folder.chmod(0o755)
    cluster = Cluster(folder / "register", settings=("shared_buffers=512MB", "max_wal_size=8GB"))
    try:
        cluster.start()
        cluster.ensure_database("bench")
        cluster.ensure_database("floor")
        for name in ("bench", "floor"):
            migrate(cluster.url(name), "bench")
        key = Fernet.generate_key()
        service = Service(engine_for(cluster.url("bench", APP_ROLE, "bench")), Fernet(key))
        viewer = signing_in.make_organisation(
            service, "Bench", "bench", "UTC", "Ada", "ada@example.org", "a long password"
        )
        bench = Bench(Size(chosen.grants), folder, cluster, service, viewer, key.decode())
        print(f"{chosen.grants:,} grants, {os.cpu_count()} cores, Python {platform.python_version()}", flush=True)
        print(f"{'work':44} {'ratio':>8} {'aim':>6}  floor", flush=True)
        for measure in MEASURES:
            wanted = not chosen.only or any(name in measure.__name__ for name in chosen.only.split(","))
            if not wanted and measure is not measures.importing:
                continue
            result = measure(bench)
            print(f"{result.work:44} {result.ratio:8.2f} {result.aim:6.1f}  {result.floor}", flush=True)
            for note in result.notes:
                print(f"{'':61}{note}", flush=True)
            bench.results.append(result)
        kept = Path("bench/results")
        kept.mkdir(exist_ok=True)
        (kept / f"{chosen.grants}.json").write_text(json.dumps([r.__dict__ for r in bench.results], indent=2))
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
