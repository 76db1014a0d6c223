"""The web process is started anew while people go on asking."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest
from cryptography.fernet import Fernet

from openlatch.client import CallFailed, Client, Unreachable
from openlatch.processes import free_port
from tests.waiting import until


@pytest.fixture
def served(app_url: str) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    """A web process on a fresh database."""
    port = free_port()
    environment = {
        **os.environ,
        "OPENLATCH_DATABASE_URL": app_url,
        "OPENLATCH_BIND": f"127.0.0.1:{port}",
        "OPENLATCH_SECRET_KEY": Fernet.generate_key().decode(),
    }
    environment.pop("OPENLATCH_CONFIG", None)
    child = subprocess.Popen([sys.executable, "-m", "openlatch", "serve"], env=environment)
    address = f"http://127.0.0.1:{port}"
    try:
        until(lambda: httpx.get(f"{address}/healthz", timeout=20).is_success, httpx.TransportError)
        yield address, child
    finally:
        child.terminate()
        child.wait(40)


class Askers:
    """Programs that go on asking, in threads: what was answered, and what was not."""

    def __init__(self, address: str) -> None:
        self.address = address
        self.over = threading.Event()
        self.answered = Counter[str]()
        self.lost: list[str] = []
        work = [(self.connect_each_time, ())] * 2 + [(self.keep_the_connection, (m,)) for m in ("GET", "POST")]
        self.threads = [threading.Thread(target=target, args=given) for target, given in work]

    def connect_each_time(self) -> None:
        while not self.over.is_set():
            try:
                self.answered[f"fresh {httpx.get(f'{self.address}/healthz', timeout=30).status_code}"] += 1
            except httpx.TransportError as error:
                self.lost.append(repr(error))

    def keep_the_connection(self, method: str) -> None:
        with Client(self.address) as client:
            while not self.over.is_set():
                try:
                    client._transport.call(method, "/me/proof" if method == "POST" else "/me", json={"password": "x"})
                except CallFailed as error:
                    self.answered[f"kept {method} {error.status}"] += 1
                except Unreachable as error:
                    self.lost.append(error.detail)


def test_a_restart_loses_no_request(served: tuple[str, subprocess.Popen[bytes]]) -> None:
    """Neither of programs that connect each time, nor of the client, which keeps its connection."""
    address, child = served
    askers = Askers(address)
    for thread in askers.threads:
        thread.start()
    try:
        for _ in range(3):
            time.sleep(2)
            child.send_signal(signal.SIGHUP)
        time.sleep(5)
    finally:
        askers.over.set()
        for thread in askers.threads:
            thread.join()
    assert askers.lost == []
    assert set(askers.answered) == {"fresh 200", "kept GET 401", "kept POST 401"}
    assert min(askers.answered.values()) >= 10


SLOW = """
import time
def app(environ, start_response):
    time.sleep(0.8)
    start_response("200 OK", [("Content-Length", "4"), ("Content-Type", "text/plain")])
    return [b"done"]
"""


def test_more_than_can_be_answered_is_refused_at_once_and_the_rest_is_answered(tmp_path: Path) -> None:
    """Whoever would have waited too long is told when to ask again. Pages, their files and signs of life are given."""
    (tmp_path / "slow.py").write_text(SLOW)
    port = free_port()
    command = [sys.executable, "-m", "gunicorn", "--bind", f"127.0.0.1:{port}", "--threads", "1"]
    command += ["--worker-class", "openlatch.runtime.gunicorn_worker.Worker", "--no-control-socket", "slow:app"]
    process = subprocess.Popen(command, cwd=tmp_path, start_new_session=True)
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=20) as client:
            until(lambda: client.get("/healthz").is_success, httpx.TransportError)
            with ThreadPoolExecutor(9) as pool:
                asked = [pool.submit(client.post, "/api/any", content=b"x" * 500_000) for _ in range(6)]
                time.sleep(0.2)
                others = [pool.submit(client.get, path) for path in ("/healthz", "/assets/console.js", "/people")]
                answers = [one.result() for one in asked]
            assert [one.result().status_code for one in others] == [200, 200, 200]
            refused = [one for one in answers if one.status_code == 503]
            assert len(answers) - len(refused) in (2, 3)
            for one in refused:
                assert one.headers["Retry-After"] in "123"
                assert one.headers["Content-Type"] == "application/problem+json"
                assert one.json()["type"].endswith(":busy")
            assert client.get("/again").status_code == 200
    finally:
        process.terminate()
        process.wait(20)
