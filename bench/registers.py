"""A register to measure on, in a database server of its own: kept for further runs, or gone afterwards."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from cryptography.fernet import Fernet

from bench.measures import Bench
from bench.world import Size
from openlatch.runtime.assembly import spare_the_collector
from openlatch.runtime.cluster import Cluster
from openlatch.service.identity import authentication
from openlatch.service.unit import Service, Viewer
from openlatch.store.archive import Archive
from openlatch.store.database import engine_for
from openlatch.store.migrate import APP_ROLE, Passwords, migrate


@contextmanager
def register(size: Size, keep: Path | None = None) -> Iterator[tuple[Bench, bool]]:
    """What to measure on, in the folder ``keep`` if there is one, and whether it was filled before."""
    spare_the_collector()
    folder = keep or Path(tempfile.mkdtemp(prefix="openlatch-bench-"))
    folder.mkdir(exist_ok=True)
    folder.chmod(0o755)
    filled = folder / "filled"
    cluster = Cluster(folder / "register", settings=("shared_buffers=512MB", "max_wal_size=8GB"))
    try:
        cluster.start()
        for name in ("bench", "floor"):
            cluster.ensure_database(name)
            migrate(cluster.url(name), Passwords("bench"))
        key = filled.read_bytes() if filled.exists() else Fernet.generate_key()
        engine = engine_for(cluster.url("bench", APP_ROLE, "bench"))
        service = Service(engine, Fernet(key), archive=Archive(folder / "archive"))
        viewer = _administrator(service, known=filled.exists())
        yield Bench(size, folder, cluster, service, viewer, key.decode()), filled.exists()
        engine.dispose()
    finally:
        cluster.stop()
        if not keep:
            shutil.rmtree(folder, ignore_errors=True)


def _administrator(service: Service, *, known: bool) -> Viewer:
    """Who measures: of a new organisation, or of the one that was kept."""
    if not known:
        return authentication.make_organisation(
            service, "Bench", "bench", "UTC", "Ada", "ada@example.org", "a long password"
        )
    return authentication.check_password(service, "ada@example.org", "a long password", "bench")
