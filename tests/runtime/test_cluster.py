"""Private PostgreSQL clusters: never as root, never in anybody's way, and honest when they fail."""

from __future__ import annotations

import os
import shutil
import signal
import socket
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from openlatch.errors import BadInput
from openlatch.processes import CantStart, is_free
from openlatch.runtime.cluster import Cluster
from openlatch.runtime.settings import Settings


@pytest.fixture
def own(folder: Path) -> Iterator[Cluster]:
    made = Cluster(folder / "own", settings=("fsync=off",))
    yield made
    made.stop()
    shutil.rmtree(made.folder, ignore_errors=True)


def test_it_runs_as_somebody_else_than_root_on_loopback_only(own: Cluster) -> None:
    """And its password is for its owner's eyes."""
    own.start()
    assert own.process is not None
    assert Path(f"/proc/{own.process.pid}").stat().st_uid != 0
    with psycopg.connect(own.url("postgres")) as db:
        assert db.execute("show listen_addresses").fetchone() == ("127.0.0.1",)
    assert (own.folder / "password").stat().st_mode & 0o077 == 0
    with pytest.raises(psycopg.OperationalError, match="authentication failed"):
        psycopg.connect(own.url("postgres", own.superuser, "guess"))


def test_the_same_folder_gives_the_same_data_on_the_same_port(own: Cluster) -> None:
    """Unless somebody else took the port meanwhile."""
    own.start()
    own.ensure_database("kept")
    port = own.port
    own.stop()
    own.start()
    assert own.port == port
    psycopg.connect(own.url("kept")).close()
    own.stop()
    with socket.socket() as taken:
        # Connections of the server that has just stopped are not in the way.
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        taken.bind(("127.0.0.1", port))
        taken.listen()
        assert not is_free(port)
        own.start()
    assert own.port != port


def test_a_server_forgotten_by_a_killed_start_is_stopped_first(own: Cluster) -> None:
    """Found by its own folder, so that nobody else's is touched."""
    own.start()
    assert own.process is not None
    forgotten = own.process
    again = Cluster(own.folder)
    again.start()
    assert forgotten.wait(10) == 0
    assert again.process is not None
    os.kill(again.process.pid, 0)
    again.stop()


def test_a_failing_start_shows_the_end_of_the_log(own: Cluster) -> None:
    """And leaves nothing running."""
    own.settings = ("shared_buffers=nonsense",)
    with pytest.raises(CantStart, match="shared_buffers") as failed:
        own.start()
    assert "invalid value" in failed.value.detail
    assert own.process is None or own.process.poll() is not None


def test_stopping_twice_is_harmless(own: Cluster) -> None:
    """Also after somebody else stopped it."""
    own.start()
    assert own.process is not None
    own.process.send_signal(signal.SIGQUIT)
    own.process.wait(10)
    own.stop()
    own.stop()


def test_settings_come_from_a_file_and_the_environment_wins(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Numbers are numbers; what is missing or unknown is named."""
    file = tmp_path / "openlatch.toml"
    file.write_text('bind = "0.0.0.0:1"\nweb_threads = 5\n')
    for name, value in (("CONFIG", str(file)), ("BIND", "127.0.0.1:2"), ("WEB_PROCESSES", "3"), ("DATA", "elsewhere")):
        monkeypatch.setenv(f"OPENLATCH_{name}", value)
    settings = Settings.load()
    assert (settings.bind, settings.web_threads, settings.web_processes) == ("127.0.0.1:2", 5, 3)
    for written, told in (
        ('web_threads = "many"', "web_threads"),
        ("colour = 1", "colour"),
        ("bind =", "can't be read"),
    ):
        file.write_text(written)
        with pytest.raises(BadInput, match=told):
            Settings.load()
    monkeypatch.setenv("OPENLATCH_CONFIG", str(tmp_path / "none"))
    with pytest.raises(BadInput, match="can't be read"):
        Settings.load()
    with pytest.raises(Exception, match="OPENLATCH_SECRET_KEY"):
        settings.require("secret_key")
    with pytest.raises(Exception, match="not a key"):
        settings.cipher()
