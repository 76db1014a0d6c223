"""What is built is installed into a fresh environment; the guide for a server of one's own is done as it is written."""

from __future__ import annotations

import re
import shutil
import ssl
import sys
import sysconfig
import time
import tomllib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import psycopg
import pytest

from openlatch import schemas
from openlatch.client import Client
from openlatch.processes import free_port
from openlatch.runtime.cluster import Cluster
from openlatch.test_systems.mail import MailServer
from tests.runtime.units import answers, call, certificate, clean, proxied, running

# Both want the wheel, which takes a while to build.
pytestmark = pytest.mark.xdist_group("installed")
ROOT = Path(__file__).parents[2]
GUIDE = (ROOT / "docs/how-to/run-it.md").read_text().partition("## On a database server of your own")[2]
BLOCKS = re.findall(r"^```(\w+)\n(.*?)^```", GUIDE, re.DOTALL | re.MULTILINE)
PASSWORD = "quiet lanterns over moss"


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel, built from a copy of the source as `make wheel` does."""
    source = tmp_path_factory.mktemp("source")
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        if (ROOT / name).exists():
            shutil.copy(ROOT / name, source / name)
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("*.egg-info", "__pycache__"))
    call(
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "--quiet",
        "--no-index",
        "--no-deps",
        "--no-build-isolation",
        "--wheel-dir",
        source / "dist",
        source,
    )
    (built,) = (source / "dist").glob("openlatch-*.whl")
    return built


def borrow(environment: Path) -> None:
    """Let an environment have the packages of the lock file from here, instead of from a registry: tests have no
    network. The source of this project is not among them.
    """
    (place,) = environment.glob("lib/python*/site-packages")
    (place / "borrowed.pth").write_text(sysconfig.get_path("purelib") + "\n")


def test_the_wheel_alone_runs_the_whole_service(wheel: Path, folder: Path) -> None:
    """From a fresh environment, with the console inside; started again out of the same folder nothing is lost."""
    environment, data, port = folder / "installed", folder / "installed-data", free_port()
    call(sys.executable, "-m", "venv", environment)
    borrow(environment)
    call(environment / "bin/pip", "install", "--quiet", "--no-index", "--no-deps", wheel, env=clean())
    program = environment / "bin/openlatch"
    where = call(
        environment / "bin/python", "-c", "import openlatch; print(openlatch.__file__)", env=clean(), cwd=folder
    )
    assert where.startswith(str(environment))
    unit = call(program, "run", "--data", data, "--bind", f"127.0.0.1:{port}", "--unit", env=clean(), cwd=folder)
    assert f"ExecStart={program} run --data {data} --bind 127.0.0.1:{port}" in unit
    address, code = f"http://127.0.0.1:{port}", ""
    for again in (False, True):
        with running(unit, folder) as (child, said):
            answers(address, child)
            if again:
                with Client(address) as client:
                    token = client.make_token("ada@larch.example.org", PASSWORD).token
                with Client(address, token) as client:
                    assert [row.name for row in client.list("people").rows] == ["Ada Larch"]
            else:
                page = httpx.get(address, timeout=10).text
                script = re.findall(r'src="(/assets/[^"]+\.js)"', page)[0]
                assert httpx.get(address + script, timeout=10).status_code == 200
                code = re.findall(r"\S+$", said().strip().splitlines()[1])[0]
                with Client(address) as client:
                    client.set_up(
                        schemas.SetUp(
                            code=code,
                            organisation="Larch Path Club",
                            time_zone="Europe/London",
                            name="Ada Larch",
                            address="ada@larch.example.org",
                            password=PASSWORD,
                        )
                    )
    assert (data / "keys.json").stat().st_mode & 0o077 == 0


class Reader:
    """Does what the guide says, in its order, with its own folders, ports and words in place of the guide's."""

    def __init__(self, folder: Path, cluster: Cluster, wheel: Path) -> None:
        self.folder, self.cluster, self.wheel = folder, cluster, wheel
        self.port, self.tls_port = free_port(), free_port()
        self.words = {
            "/opt/openlatch": str(folder / "opt"),
            "/etc/openlatch": str(folder / "etc"),
            "/var/backups/openlatch": str(folder / "backups"),
            "/etc/ssl": str(folder / "ssl"),
            "127.0.0.1/openlatch": f"127.0.0.1:{cluster.port}/openlatch",
            "127.0.0.1:8620": f"127.0.0.1:{self.port}",
            "listen 443": f"listen 127.0.0.1:{self.tls_port}",
            "FIRST_PASSWORD": PASSWORD,
            **{
                name: f"{name.lower()}-of-the-guide"
                for name in re.findall(r"\b[A-Z]+_PASSWORD\b", GUIDE)
                if name not in ("FIRST_PASSWORD", "OPENLATCH_PASSWORD") and not name.startswith("OPENLATCH")
            },
        }
        for name in ("opt", "etc", "backups", "ssl"):
            (folder / name).mkdir(parents=True)

    def written(self, text: str) -> str:
        """A block with what is the reader's own in it."""
        # The names of environment variables stay.
        text = re.sub(r"OPENLATCH_(\w+)=", r"OPENLATCH~\1=", text)
        for word, own in self.words.items():
            text = re.sub(rf"(?<![\w~]){re.escape(word)}", own, text)
        return text.replace("OPENLATCH~", "OPENLATCH_")

    def section(self, number: int) -> list[tuple[str, str]]:
        """The blocks of a section."""
        text = re.findall(rf"^### {number}\. .*?(?=^### |\Z)", GUIDE, re.DOTALL | re.MULTILINE)[0]
        return re.findall(r"^```(\w+)\n(.*?)^```", text, re.DOTALL | re.MULTILINE)

    def sql(self, text: str) -> None:
        """As the database server's administrator."""
        with psycopg.connect(self.cluster.url("postgres"), autocommit=True) as db:
            for statement in self.written(text).strip().split(";"):
                if statement.strip():
                    db.execute(statement)  # type: ignore[call-overload]

    def shell(self, text: str) -> str:
        """Where the source is, with the wheel built; packages come from here instead of from a registry."""
        lines = []
        for line in self.written(text).splitlines():
            if "--require-hashes" in line:
                borrow(self.folder / "opt/.venv")
                continue
            if line.rstrip().endswith("-m venv " + str(self.folder / "opt/.venv")):
                call(*line.split())
                continue
            lines.append(
                line.replace("pip install", "pip install --no-index").replace("dist/openlatch-*.whl", str(self.wheel))
            )
        return call("bash", "-euo", "pipefail", "-c", "\n".join(lines), env=clean(), cwd=ROOT)

    def files(self, number: int) -> None:
        """Each block of a section that begins with its path, written there."""
        for kind, text in self.section(number):
            if kind == "toml":
                path = Path(self.written(text.splitlines()[0]).removeprefix("# "))
                path.write_text(self.written(text))
                assert tomllib.loads(path.read_text())

    def unit(self, name: str) -> str:
        """A unit that the guide has one copy."""
        assert any(f"deploy/{name}" in text for _, text in BLOCKS)
        text = self.written((ROOT / "deploy" / name).read_text())
        return f"{text}\nEnvironment=OPENLATCH_BIND=127.0.0.1:{self.port}\n"

    @contextmanager
    def service(self) -> Iterator[None]:
        """Both processes, as their units start them."""
        with ExitStack() as stack:
            child, _ = stack.enter_context(running(self.unit("openlatch-web.service"), self.folder))
            stack.enter_context(running(self.unit("openlatch-worker.service"), self.folder))
            answers(f"http://127.0.0.1:{self.port}", child)
            yield

    @contextmanager
    def proxy(self) -> Iterator[str]:
        """The proxy with the guide's block, and a certificate that nobody else knows."""
        (block,) = [text for kind, text in self.section(6) if kind == "nginx"]
        certificate(self.folder / "ssl")
        with proxied(self.folder, self.written(block), f"https://127.0.0.1:{self.tls_port}") as address:
            yield address


@pytest.fixture
def reader(folder: Path, wheel: Path) -> Iterator[Reader]:
    place = folder / "guide"
    cluster = Cluster(place / "server", "administrator")
    place.mkdir()
    place.chmod(0o755)
    cluster.start()
    try:
        yield Reader(place, cluster, wheel)
    finally:
        cluster.stop()


def test_the_guide_for_a_server_of_ones_own_is_followed(reader: Reader) -> None:
    """Users, environment, configuration, tables, the first sign-in, the proxy, mail, backup and restore, upgrade."""
    for number in (1, 2):
        for kind, text in reader.section(number):
            if kind == "sql":
                reader.sql(text)
            elif kind == "sh":
                reader.shell(text)
    program = reader.folder / "opt/.venv/bin/openlatch"
    reader.words |= {
        name: call(program, "new-key", env=clean()).strip() for name in ("SECRET_KEY", "SYSTEMS_KEY", "EVIDENCE_KEY")
    }
    reader.files(3)
    for number in (4, 5):
        for kind, text in reader.section(number):
            if kind == "sh":
                reader.shell(text)
    with reader.service(), reader.proxy() as address:
        _signs_in_through(address)
        _mail_goes_out(reader)
    dump, restore, examine = [text for kind, text in reader.section(8) if kind == "sh"]
    beside, rename = [text for kind, text in reader.section(8) if kind == "sql"]
    reader.shell(dump)
    with psycopg.connect(reader.cluster.url("openlatch")) as db:
        db.execute("update people set name = 'Somebody Else'")
    reader.sql(beside)
    reader.shell(restore)
    reader.sql(rename)
    assert "WRONG" not in reader.shell(examine)
    for kind, text in reader.section(9):
        if kind == "sh":
            reader.shell(text)
    with reader.service(), signed_in(reader) as client:
        assert [row.name for row in client.list("people").rows] == ["Your Name"]
        assert client.verify_journal().sound


@contextmanager
def signed_in(reader: Reader) -> Iterator[Client]:
    address = f"http://127.0.0.1:{reader.port}"
    with Client(address) as client:
        token = client.make_token("you@example.org", PASSWORD).token
    with Client(address, token) as client:
        yield client


def _signs_in_through(address: str) -> None:
    """Over TLS the cookie is only for TLS, and the stream of events is not held back."""
    trusting = ssl.create_default_context()
    trusting.check_hostname, trusting.verify_mode = False, ssl.CERT_NONE
    headers = {"Host": "latch.example.org"}
    with httpx.Client(base_url=address, verify=trusting, headers=headers, timeout=20) as http:
        answer = http.post("/api/v1/session", json={"address": "you@example.org", "password": PASSWORD})
        assert answer.status_code == 200, answer.text
        cookies = answer.headers.get_list("set-cookie")
        assert all("Secure" in cookie and "HttpOnly" in cookie for cookie in cookies)
        assert http.get("/").headers["content-type"].startswith("text/html")
        with http.stream("GET", "/api/v1/events") as events:
            assert next(events.iter_text())


def _mail_goes_out(reader: Reader) -> None:
    sink = MailServer(reader.folder / "mail", free_port(), free_port())
    sink.start()
    try:
        with signed_in(reader) as client:
            client.prove(PASSWORD)
            client.set_mail(
                schemas.SetMail(host="127.0.0.1", port=sink.smtp_port, sender="latch@example.org", starttls=False)
            )
            client.test_mail()
        for _ in range(300):
            if any((reader.folder / "mail").iterdir()):
                return
            time.sleep(0.1)
        pytest.fail("no mail came")
    finally:
        sink.stop()
