"""The guide for several machines is done as it is written, with three folders of this machine in place of three."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import psycopg
import pytest

from openlatch.client import Client
from openlatch.processes import free_port, unprivileged
from openlatch.runtime.cluster import Cluster, postgres_program
from tests.runtime.units import answers, call, certificate, clean, proxied, running
from tests.waiting import until

ROOT = Path(__file__).parents[2]
DEPLOY = ROOT / "deploy"
GUIDE = (ROOT / "docs/how-to/several-machines.md").read_text()
PASSWORD = "quiet lanterns over moss"
MACHINES = ("a", "b", "c")


@dataclass
class Machine:
    """A folder, with a database server on two of them."""

    name: str
    folder: Path
    cluster: Cluster
    port: int = field(default_factory=free_port)

    @property
    def data(self) -> Path:
        return self.cluster.folder / "data"


class Administrator:
    """Types what the guide says. Here, the servers' configuration stands in the data folder, there is no TLS between
    machines, and each is known by a port.
    """

    def __init__(self, folder: Path) -> None:
        self.folder, self.stack = folder, ExitStack()
        self.machines = {
            name: Machine(name, folder / name, Cluster(folder / name / "server", "postgres")) for name in MACHINES
        }
        self.tls_port = free_port()
        self.processes: dict[str, list[subprocess.Popen[str]]] = {name: [] for name in MACHINES}
        words = re.findall(r"\b[A-Z]+_PASSWORD\b", GUIDE)
        self.words = {word: f"{word.lower()}-of-the-guide" for word in words if not word.startswith("OPENLATCH")}
        self.words["FIRST_PASSWORD"] = PASSWORD
        for name in ("SECRET_KEY", "SYSTEMS_KEY", "EVIDENCE_KEY"):
            self.words[name] = call(sys.executable, "-m", "openlatch", "new-key").strip()
        for machine in self.machines.values():
            (machine.folder / "etc").mkdir(parents=True)
            machine.folder.chmod(0o755)
        for name in ("a", "b"):
            self.machines[name].cluster.start()
            self._as_debian_has_it(self.machines[name])

    def _as_debian_has_it(self, machine: Machine) -> None:
        (machine.data / "conf.d").mkdir(exist_ok=True)
        with (machine.data / "postgresql.conf").open("a") as conf:
            conf.write("include_dir 'conf.d'\n")

    def own(self, machine: Machine, text: str) -> str:
        """A text of the guide, or a file of its folder, with what is this machine's own in it."""
        servers = ",".join(f"127.0.0.1:{self.machines[name].cluster.port}" for name in ("a", "b"))
        text = text.replace("@a,b/", f"@{servers}/").replace("0.0.0.0:8620", f"127.0.0.1:{machine.port}")
        for name, other in self.machines.items():
            text = text.replace(f"host={name} ", f"host=127.0.0.1 port={other.cluster.port} ")
            text = text.replace(f"server {name}:8620", f"server 127.0.0.1:{other.port}")
        # Names of environment variables stay.
        text = re.sub(r"OPENLATCH_(\w+)=", r"OPENLATCH~\1=", text)
        for word, mine in {
            **self.words,
            "/etc/openlatch": str(machine.folder / "etc"),
            "/etc/postgresql/15/main": str(machine.data),
            "/var/lib/postgresql/15/main": str(machine.data),
            "/opt/openlatch/.venv/bin/openlatch": f"{sys.executable} -m openlatch",
            "/etc/ssl": str(self.folder / "ssl"),
            "listen 443": f"listen 127.0.0.1:{self.tls_port}",
        }.items():
            text = re.sub(rf"(?<![\w~]){re.escape(word)}", mine, text)
        return text.replace("OPENLATCH~", "OPENLATCH_")

    def section(self, title: str) -> None:
        """Type every command of a section, on the machine that it names."""
        text = re.findall(rf"^## {re.escape(title)}$.*?(?=^## |\Z)", GUIDE, re.DOTALL | re.MULTILINE)[0]
        for block in re.findall(r"^```sh\n(.*?)^```", text, re.DOTALL | re.MULTILINE):
            where, _, commands = block.partition("\n")
            machine = self.machines[where.removeprefix("# on ")]
            typed = re.sub(r"\\\n\s*", "", commands).splitlines()
            left = [command for command in typed if not self._of_the_server(machine, command)]
            if left:
                script = self.own(machine, "\n".join(left))
                call("bash", "-euo", "pipefail", "-c", script, env=clean(), cwd=ROOT)

    def _of_the_server(self, machine: Machine, command: str) -> bool:
        """Carry out what concerns the database server, as it is done here."""
        if command.startswith("systemctl"):
            _, what, _ = command.split()
            if what != "start":
                machine.cluster.stop()
            if what != "stop":
                machine.cluster.start()
        elif command.startswith("sudo -u postgres psql"):
            arguments = shlex.split(self.own(machine, command))[4:]
            call(postgres_program("psql"), *arguments, machine.cluster.url("postgres"), env=clean())
        elif command.startswith("sudo -u postgres pg_basebackup"):
            _, _, _, program, *arguments = shlex.split(self.own(machine, command))
            subprocess.run([postgres_program(program), *arguments], check=True, timeout=240, cwd="/", **unprivileged())
            # The administrator's password here is that of the server that was copied.
            first = self.machines["a"].cluster.password
            (machine.cluster.folder / "password").write_text(first)
        elif command.startswith("rm -rf"):
            shutil.rmtree(machine.data)
        elif command.startswith("install") and command.endswith("openlatch.conf"):
            _, _, _, source, place = shlex.split(self.own(machine, command))
            # On which addresses it listens is said where the server is started.
            shutil.copy(ROOT / source, place)
        elif command.startswith("cat deploy"):
            lines = (DEPLOY / "three-machines/pg_hba.conf").read_text().replace("hostssl", "host")
            lines = re.sub(r" [abc] scram", " 127.0.0.1/32 scram", lines)
            with (machine.data / "pg_hba.conf").open("a") as conf:
                conf.write(lines)
        else:
            return False
        return True

    def configure(self) -> None:
        """The files of each machine."""
        for machine in self.machines.values():
            for name in ("web.toml", "worker.toml", "admin.toml"):
                written = self.own(machine, (DEPLOY / "three-machines" / name).read_text())
                (machine.folder / "etc" / name).write_text(written)

    def start(self) -> None:
        """Both processes on each machine, as their units have it."""
        for machine in self.machines.values():
            for name in ("openlatch-web.service", "openlatch-worker.service"):
                unit = self.own(machine, (DEPLOY / name).read_text())
                child, _ = self.stack.enter_context(running(unit, machine.folder))
                self.processes[machine.name].append(child)
        for machine in self.machines.values():
            answers(f"http://127.0.0.1:{machine.port}")

    def proxy(self) -> str:
        """The proxy in front of them; gives its address."""
        (self.folder / "ssl").mkdir()
        certificate(self.folder / "ssl")
        block = self.own(self.machines["c"], (DEPLOY / "three-machines/nginx.conf").read_text())
        return self.stack.enter_context(proxied(self.folder, block, f"https://127.0.0.1:{self.tls_port}"))

    def lose(self, name: str) -> None:
        """A machine without power."""
        for child in self.processes[name]:
            child.kill()
            child.wait(20)
        server = self.machines[name].cluster.process
        assert server is not None
        os.killpg(server.pid, signal.SIGKILL)
        server.wait(20)

    def follows(self, name: str) -> bool:
        """Whether a standby of a server has everything that it commits."""
        with psycopg.connect(self.machines[name].cluster.url("postgres")) as db:
            found = db.execute("select sync_state from pg_stat_replication").fetchall()
        return found == [("sync",)]


@pytest.fixture
def administrator(folder: Path) -> Iterator[Administrator]:
    made = Administrator(folder / "machines")
    try:
        with made.stack:
            yield made
    finally:
        for machine in made.machines.values():
            machine.cluster.stop(at_once=True)


def test_the_guide_for_several_machines_is_followed(administrator: Administrator) -> None:
    """Until one is lost, the other database server takes over, and the lost one comes back as its standby."""
    administrator.section("1. The databases")
    until(lambda: administrator.follows("a"))
    administrator.configure()
    administrator.section("2. The service")
    administrator.start()
    address = administrator.proxy()

    def add(name: str) -> bool:
        made = http.post("/api/v1/people", json={"name": name}, headers={"Idempotency-Key": name})
        return made.status_code == 201

    def names() -> set[str]:
        return {row["name"] for row in http.get("/api/v1/people").raise_for_status().json()["rows"]}

    with httpx.Client(base_url=address, verify=False, timeout=60) as http:
        with Client(f"http://127.0.0.1:{administrator.machines['b'].port}") as client:
            token = client.make_token("you@example.org", PASSWORD).token
        http.headers["Authorization"] = f"Bearer {token}"
        assert add("Before")
        administrator.lose("a")
        administrator.section("When the primary is lost")
        until(lambda: add("After"), httpx.TransportError)
        assert names() == {"Your Name", "Before", "After"}
    until(lambda: administrator.follows("b"))
    backup = (DEPLOY / "three-machines/openlatch-base-backup.service").read_text()
    command = re.findall(r"^ExecStart=(.*)$", backup, re.MULTILINE)[0].replace("%%", "%")
    servers = [administrator.machines[name].cluster.port for name in ("a", "b")]
    hosts = (
        f"host=127.0.0.1,127.0.0.1 port={servers[0]},{servers[1]} password={administrator.words['REPLICATOR_PASSWORD']}"
    )
    place = administrator.machines["c"].cluster.folder
    call("install", "-d", "-m", "777", place)
    command = command.replace("host=a,b", hosts).replace("/srv/base", str(place))
    program = str(Path(postgres_program("pg_basebackup")).parent)
    subprocess.run(
        shlex.split(command), check=True, timeout=240, cwd="/", **{**unprivileged(), "env": {"PATH": f"{program}:/bin"}}
    )
    (made,) = place.iterdir()
    assert (made / "backup_manifest").exists()
