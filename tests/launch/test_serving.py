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

import httpx
import pytest
from cryptography.fernet import Fernet

from openlatch.client import CallFailed, Client
from openlatch.processes import free_port


@pytest.fixture
def served(app_url: str) -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    """A web process on a fresh database."""
    port = free_port()
    environment = {**os.environ, "OPENLATCH_DATABASE_URL": app_url, "OPENLATCH_BIND": f"127.0.0.1:{port}",
                   "OPENLATCH_SECRET_KEY": Fernet.generate_key().decode()}  # fmt: skip
    environment.pop("OPENLATCH_CONFIG", None)
    child = subprocess.Popen(
        [sys.executable, "-c", "from openlatch.cli.main import main; main()", "serve"], env=environment
    )
    address = f"http://127.0.0.1:{port}"
    try:
        for _ in range(300):
            try:
                httpx.get(f"{address}/healthz", timeout=2)
                break
            except httpx.TransportError:
                time.sleep(0.1)
        yield address, child
    finally:
        child.terminate()
        child.wait(40)


def test_a_restart_loses_no_request(served: tuple[str, subprocess.Popen[bytes]]) -> None:
    """Neither of programs that connect each time, nor of the client, which keeps its connection."""
    address, child = served
    over, answered, lost = threading.Event(), Counter[str](), list[str]()

    def connect_each_time() -> None:
        while not over.is_set():
            try:
                assert httpx.get(f"{address}/healthz", timeout=30).status_code == 200
                answered["fresh"] += 1
            except (httpx.TransportError, AssertionError) as error:
                lost.append(repr(error))

    def keep_the_connection(method: str) -> None:
        with Client(address) as client:
            while not over.is_set():
                try:
                    client._transport.call(method, "/me/proof" if method == "POST" else "/me", json={"password": "x"})
                except CallFailed as error:
                    answered[f"kept {method} {error.status}"] += 1
                except Exception as error:
                    lost.append(repr(error))

    workers = [threading.Thread(target=connect_each_time) for _ in range(2)]
    workers += [threading.Thread(target=keep_the_connection, args=(method,)) for method in ("GET", "POST") * 2]
    for worker in workers:
        worker.start()
    try:
        for _ in range(3):
            time.sleep(2)
            child.send_signal(signal.SIGHUP)
        time.sleep(5)
    finally:
        over.set()
        for worker in workers:
            worker.join()
    assert lost == []
    assert set(answered) == {"fresh", "kept GET 401", "kept POST 401"}
    assert min(answered.values()) >= 10
