"""Organisations in two databases, each with services of its own, and the routes to them."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import pytest
from cryptography.fernet import Fernet

from openlatch.client import CallFailed, Client, Unreachable, service_at
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.store.migrate import APP_ROLE, Passwords, migrate
from tests.runtime.units import answers, clean, proxied

ROOT = Path(__file__).parents[2]
ADDRESS, PASSWORD = "ines@example.org", "quiet lanterns over moss"


@dataclass
class Service:
    """A database with a web process."""

    folder: Path
    cluster: Cluster
    port: int = field(default_factory=free_port)

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def environment(self) -> dict[str, str]:
        return {
            **clean(),
            "OPENLATCH_DATABASE_URL": self.cluster.url("openlatch", APP_ROLE, "app"),
            "OPENLATCH_SECRET_KEY": Fernet.generate_key().decode(),
            "OPENLATCH_BIND": f"127.0.0.1:{self.port}",
            "OPENLATCH_PUBLIC_ADDRESS": self.address,
            "OPENLATCH_WEB_PROCESSES": "1",
        }

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "openlatch", *words]
        return subprocess.run(command, env=self.environment, capture_output=True, text=True, check=False, timeout=120)


@pytest.fixture
def services(folder: Path) -> Iterator[tuple[Service, Service]]:
    place = folder / "databases"
    place.mkdir()
    place.chmod(0o755)
    made = tuple(Service(place / name, Cluster(place / name / "server")) for name in ("a", "b"))
    with ExitStack() as stack:
        for one in made:
            one.folder.mkdir()
            one.folder.chmod(0o755)
            one.cluster.start()
            stack.callback(one.cluster.stop, at_once=True)
            one.cluster.ensure_database("openlatch")
            migrate(one.cluster.url("openlatch"), Passwords("app"))
            child = subprocess.Popen([sys.executable, "-m", "openlatch", "serve"], env=one.environment)
            stack.callback(child.wait, 40)
            stack.callback(child.terminate)
        for one in made:
            answers(one.address)
        yield made[0], made[1]


def test_each_finds_their_own_organisation_and_nothing_of_the_others(
    services: tuple[Service, Service], tmp_path: Path
) -> None:
    """Through the one address that all know; one database that is away is the matter of its organisations alone."""
    routes = tmp_path / "routes"
    for one, (name, slug) in zip(services, (("Hollin Fell", "hollin-fell"), ("Other Huts", "other-huts")), strict=True):
        who = ("--administrator", "Ines", "--address", ADDRESS, "--password", PASSWORD)
        assert one.run("organisation", name, slug, *who).returncode == 0
        done = one.run("routes", str(routes))
        assert (done.returncode, done.stdout) == (0, f"1 organisation at {one.address}.\n")
    known = routes.read_text()
    assert known == "".join(
        f"/{slug} {one.address};\n" for slug, one in zip(("hollin-fell", "other-huts"), services, strict=True)
    )
    port = free_port()
    block = (ROOT / "deploy/several-databases/nginx.conf").read_text()
    block = re.sub(r"listen 443 ssl;", f"listen 127.0.0.1:{port};", block.replace("/etc/openlatch/routes", str(routes)))
    block = re.sub(r"\n +ssl_\w+ [^;]+;", "", block)
    with proxied(tmp_path, block, f"http://127.0.0.1:{port}") as front:
        for slug, one, name in zip(("hollin-fell", "other-huts"), services, ("Hollin Fell", "Other Huts"), strict=True):
            config = {**clean(), "XDG_CONFIG_HOME": str(tmp_path / slug)}
            login = ["login", "--url", f"{front}/{slug}", "--address", ADDRESS, "--password", PASSWORD]
            done = subprocess.run(
                [sys.executable, "-m", "openlatch", *login], env=config, capture_output=True, text=True, check=False
            )
            assert f"Signed in to {name} as Ines" in done.stdout, done.stderr
            with Client(one.address) as client:
                token = client.make_token(ADDRESS, PASSWORD)
            with Client(one.address, token.token) as client:
                assert client.me().organisation.name == name
            # What one gave is nothing at the other.
            (other,) = (each for each in services if each is not one)
            with Client(other.address, token.token) as client, pytest.raises(CallFailed, match="token is unknown"):
                client.me()
        assert httpx.get(f"{front}/HOLLIN-FELL").headers["Location"] == f"{services[0].address}/"
        with pytest.raises(CallFailed, match="404"):
            service_at(f"{front}/nobody")
        services[1].cluster.stop(at_once=True)
        with Client(service_at(f"{front}/hollin-fell"), patience=0) as client:
            assert client.make_token(ADDRESS, PASSWORD).token
        with Client(service_at(f"{front}/other-huts"), patience=0) as client, pytest.raises(CallFailed) as away:
            client.make_token(ADDRESS, PASSWORD)
        assert away.value.status == 503
        services[1].cluster.start()
    # What can't be put into it leaves it as it is.
    done = services[1].run("organisation", "Hollin Fell, too", "hollin-fell", *who)
    assert done.returncode == 0, done.stderr
    done = services[1].run("routes", str(routes))
    assert (done.returncode, f"hollin-fell is at {services[0].address} already" in done.stderr) == (1, True)
    assert routes.read_text() == known
    routes.write_text("hollin-fell\n")
    assert "Line 1" in services[0].run("routes", str(routes)).stderr
    done = services[0].run("routes", str(tmp_path / "nowhere" / "routes"))
    assert (done.returncode, "can't be read or written" in " ".join(done.stderr.split())) == (1, True)
    with pytest.raises(Unreachable):
        service_at(f"{front}/hollin-fell")
    assert service_at(front) == front
