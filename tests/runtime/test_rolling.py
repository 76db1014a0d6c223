"""Upgrading without a stop: the tables are migrated while web process and worker of the version before serve."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import psycopg
import pytest
from alembic.config import Config
from sqlalchemy import Connection

from openlatch.client import Client
from openlatch.errors import Conflict
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.service.unit import Service, Viewer
from openlatch.store import figures, revisions
from openlatch.store import migrate as store_migrate
from openlatch.store.migrate import Passwords, migrate
from tests.conftest import KEY
from tests.waiting import until

# What later versions might do: two that only add, and one that takes away what their program has not used.
LATER = {
    "9001": """
    op.add_column("people", sa.Column("later_note", sa.Text(), nullable=True))
    op.add_column("grants", sa.Column("later_mark", sa.Integer(), server_default="0", nullable=False))
    op.create_table("later", sa.Column("id", sa.Uuid(), primary_key=True))
    op.execute("alter table later enable row level security")
""",
    "9002": """
    online.create_index("ix_later_mark", "grants", ["later_mark"])
""",
    "9003": """
    op.drop_column("people", "later_note")
""",
}


@pytest.fixture
def later(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The migrations of a version to come."""
    before = revisions.newest()
    for revision, work in LATER.items():
        needs = 'needs = "9002"\n' if "drop" in work else ""
        (tmp_path / f"{revision}.py").write_text(
            "import sqlalchemy as sa\nfrom alembic import op\nfrom openlatch.store.migrations import online\n"
            f'revision, down_revision = "{revision}", "{before}"\n{needs}\ndef upgrade():{work}'
        )
        before = revision
    config_for = store_migrate.config_for

    def with_later(connection: Connection) -> Config:
        config = config_for(connection)
        ours = Path(store_migrate.__file__).parent / "migrations" / "versions"
        config.set_main_option("path_separator", "os")
        config.set_main_option("version_locations", os.pathsep.join((str(ours), str(tmp_path))))
        return config

    monkeypatch.setattr(store_migrate, "config_for", with_later)


@contextmanager
def processes(app_url: str, folder: Path) -> Iterator[tuple[str, Path]]:
    """A web process and a worker of this version; gives the address of the first and the log of the second."""
    port = free_port()
    environment = {
        **os.environ,
        "OPENLATCH_DATABASE_URL": app_url,
        "OPENLATCH_BIND": f"127.0.0.1:{port}",
        "OPENLATCH_SECRET_KEY": KEY.decode(),
        "OPENLATCH_WEB_PROCESSES": "1",
    }
    environment.pop("OPENLATCH_CONFIG", None)
    with ExitStack() as stack:
        for name in ("serve", "worker"):
            log = stack.enter_context((folder / name).open("wb"))
            child = subprocess.Popen([sys.executable, "-m", "openlatch", name], env=environment, stdout=log, stderr=log)
            stack.callback(child.wait, 60)
            stack.callback(child.terminate)
        address = f"http://127.0.0.1:{port}"
        until(lambda: httpx.get(f"{address}/readyz", timeout=20).is_success, httpx.TransportError)
        yield address, folder / "worker"


def test_a_database_is_migrated_while_the_version_before_serves(
    service: Service,
    organisation: Viewer,
    cluster: Cluster,
    database: str,
    app_url: str,
    later: None,
    tmp_path: Path,
) -> None:
    """No call fails, no task either; a step that the older program can't do with waits until that is gone."""
    owner, passwords = cluster.url(database), Passwords("app-password")
    told: Counter[int] = Counter()
    over = threading.Event()
    with processes(app_url, tmp_path) as (address, log), psycopg.connect(owner, autocommit=True) as db:
        with Client(address) as client:
            token = client.make_token("ada@example.org", "a long password").token

        def ask(number: int) -> None:
            with httpx.Client(base_url=address, headers={"Authorization": f"Bearer {token}"}, timeout=60) as http:
                while not over.is_set():
                    name = {"name": f"Later {number} {sum(told.values())}"}
                    told[http.post("/api/v1/people", json=name).status_code] += 1
                    told[http.get("/api/v1/people?limit=5").status_code] += 1
                    told[http.get("/readyz").status_code] += 1

        askers = [threading.Thread(target=ask, args=(number,)) for number in range(3)]
        for asker in askers:
            asker.start()
        try:
            until(lambda: told.total() > 30)
            with pytest.raises(Conflict, match=f"{revisions.newest()}; the next step needs 9002"):
                migrate(owner, passwords)
            seen = told.total()
            until(lambda: told.total() > seen + 30)
            worked = "select count(*) from procrastinate_jobs where status = 'succeeded'"
            before = db.execute(worked).fetchone()
            until(lambda: db.execute(worked).fetchone() != before)
        finally:
            over.set()
            for asker in askers:
                asker.join()
        assert set(told) <= {200, 201}, told
        assert db.execute("select version_num from alembic_version").fetchone() == ("9002",)
        assert db.execute("select count(*) from procrastinate_jobs where status = 'failed'").fetchone() == (0,)
        assert db.execute("select count(*) from grants where later_mark = 0").fetchone() is not None
        assert "error" not in log.read_text()
    # Of this version there is only this process, which is no program that serves.
    service.engine.dispose()
    until(lambda: not _programs(owner))
    with psycopg.connect(app_url), pytest.raises(Conflict, match="of 0000"):
        migrate(owner, passwords)
    until(lambda: not _programs(owner))
    migrate(owner, passwords)
    assert figures.why_not_ready(service.engine).startswith("The database needs programs from 9002 on")
    service.engine.dispose()


def _programs(owner: str) -> list[str]:
    with psycopg.connect(owner) as db:
        return revisions.programs(name for (name,) in db.execute(store_migrate._CONNECTED).fetchall())
