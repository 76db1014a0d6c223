"""Doing what a guide for administrators says: units as systemd starts them, a proxy, commands."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

from openlatch.processes import free_port
from tests.waiting import until

NGINX = shutil.which("nginx", path=f"{os.environ['PATH']}:/usr/sbin")


def call(*words: str | Path, env: dict[str, str] | None = None, cwd: Path | None = None) -> str:
    done = subprocess.run(
        [str(word) for word in words], env=env, cwd=cwd, capture_output=True, text=True, check=False, timeout=480
    )
    assert done.returncode == 0, f"{words}: {done.stdout}{done.stderr}"
    return done.stdout


def clean() -> dict[str, str]:
    """The environment of somebody who has never heard of this source."""
    return {"PATH": os.environ["PATH"], "HOME": "/nonexistent", "LANG": "C.UTF-8"}


@contextmanager
def running(unit: str, folder: Path) -> Iterator[tuple[subprocess.Popen[str], Callable[[], str]]]:
    """What a systemd unit starts, until it is told to stop as systemd does."""
    command = re.findall(r"^ExecStart=(.*)$", unit, re.MULTILINE)[0].split()
    given = dict(line.split("=", 1) for line in re.findall(r"^Environment=(.*)$", unit, re.MULTILINE))
    log = folder / f"{Path(command[0]).name}-{command[1]}-{free_port()}.log"
    with log.open("w") as out:
        child = subprocess.Popen(command, env={**clean(), **given}, cwd=folder, stdout=out, stderr=out, text=True)
    try:
        yield child, log.read_text
    finally:
        # A machine may have been lost meanwhile.
        if child.poll() != -signal.SIGKILL:
            child.send_signal(signal.SIGTERM)
            assert child.wait(60) == 0, log.read_text()


def answers(address: str, child: subprocess.Popen[str] | None = None, verify: bool = True) -> None:
    def asked() -> bool:
        assert child is None or child.poll() is None, "the process has ended"
        return httpx.get(f"{address}/healthz", timeout=20, verify=verify).is_success

    until(asked, httpx.TransportError)


def certificate(folder: Path) -> None:
    """A certificate for the proxy, that nobody else knows."""
    call(
        *("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=latch.example.org"),
        *("-keyout", folder / "latch.key", "-out", folder / "latch.pem"),
    )


@contextmanager
def proxied(folder: Path, block: str, address: str) -> Iterator[str]:
    """The proxy with a block of its configuration; gives its address."""
    assert NGINX, "Install Debian's package nginx-light"
    kept = "\n".join(
        f"{name}_temp_path {folder}/tmp-{name};" for name in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    whole = (
        f"daemon off;\npid {folder}/nginx.pid;\nerror_log stderr;\nevents {{}}\n"
        f"http {{\naccess_log off;\n{kept}\n{block}\n}}\n"
    )
    place = folder / "nginx.conf"
    place.write_text(whole)
    child = subprocess.Popen([NGINX, "-c", str(place), "-p", str(folder)], env=clean())
    try:
        answers(address, verify=False)
        yield address
    finally:
        child.terminate()
        child.wait(20)
