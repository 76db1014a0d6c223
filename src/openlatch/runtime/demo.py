"""The demo in the foreground: two PostgreSQL servers, the web process, the worker, and sample data."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from types import FrameType
from uuid import UUID

import psycopg
from cryptography.fernet import Fernet, MultiFernet
from sqlalchemy import select

from openlatch.demo import endings, loader
from openlatch.languages.terminal import say
from openlatch.private_files import appended
from openlatch.processes import CantStart, free_port, is_free
from openlatch.runtime.cluster import Cluster
from openlatch.runtime.surroundings import Surroundings
from openlatch.service import connections
from openlatch.service.itself import set_up as itself
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.database import engine_for, transaction
from openlatch.store.migrate import APP_ROLE, WEB_ROLE, WORKER_ROLE, Passwords, migrate
from openlatch.store.tables import Organisation, System
from openlatch.test_systems import telemetry
from openlatch.test_systems.mail import MailServer

DATABASE = "openlatch"
START_SECONDS = 60


class Stop(Exception):
    """The process was asked to stop."""


@dataclass(frozen=True, slots=True)
class Secrets:
    """Keys and passwords that the demo generates on its first start."""

    app_password: str
    secret_key: str
    systems_key: str
    evidence_key: str
    web_password: str
    worker_password: str
    adapter_password: str

    @classmethod
    def of(cls, folder: Path) -> Secrets:
        """The secrets stored in a folder; new ones where there are none."""
        kept = folder / "secrets.json"
        if not kept.exists():
            made = {
                "app_password": secrets.token_urlsafe(24),
                "secret_key": Fernet.generate_key().decode(),
                "adapter_password": secrets.token_urlsafe(24),
            }
            kept.touch(mode=0o600)
            kept.write_text(json.dumps(made))
        found = json.loads(kept.read_text())
        # Demos made before each process had its own keys and passwords get them now.
        lacking = {
            "systems_key": Fernet.generate_key().decode(),
            "evidence_key": Fernet.generate_key().decode(),
            "web_password": secrets.token_urlsafe(24),
            "worker_password": secrets.token_urlsafe(24),
        }
        if not lacking.keys() <= found.keys():
            found = lacking | found
            kept.write_text(json.dumps(found))
        return cls(**found)


def data_folder() -> Path:
    """Where the demo keeps its data: OPENLATCH_DATA, else .data in the present folder."""
    return Path(os.environ.get("OPENLATCH_DATA", ".data")).resolve()


class Demo:
    """The running demo."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder = folder
        self.port = port if port and is_free(port) else free_port()
        self.register = Cluster(folder / "register")
        self.telemetry = Cluster(folder / "telemetry", superuser="telemetry_owner", settings=("log_statement=ddl",))
        self.children: dict[str, subprocess.Popen[bytes]] = {}
        self.sessions: telemetry.OpenSessions | None = None
        self.mail = MailServer(folder / "mail", free_port(), free_port())
        self.around: Surroundings | None = None

    @property
    def address(self) -> str:
        """The console's address."""
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        """Start everything, and load the sample data on the first start."""
        self.mail.start()
        kept = Secrets.of(self.folder)
        self.register.start()
        self.register.ensure_database(DATABASE)
        self.telemetry.start()
        self.telemetry.ensure_database(telemetry.DATABASE)
        migrate(self.register.url(DATABASE), Passwords(kept.app_password, kept.web_password, kept.worker_password))
        url = self.register.url(DATABASE, APP_ROLE, kept.app_password)
        service = Service(
            engine_for(url, pool_size=2),
            Fernet(kept.secret_key),
            address=self.address,
            signing_seed=kept.secret_key.encode(),
            evidence_seed=kept.evidence_key.encode(),
            systems_cipher=MultiFernet([Fernet(kept.systems_key), Fernet(kept.secret_key)]),
        )
        self._prepare_telemetry(service, kept)
        organisation = self._load(service)
        with transaction(service.engine, None) as db:
            every = db.scalars(select(Organisation.id)).all()
        for each in every:
            itself.ensure(service, Viewer.itself(each))
        self._count_rows()
        self.around = Surroundings(self.folder / "systems", kept.adapter_password, _say)
        self.around.start(service)
        self._connect_telemetry(service, organisation, kept)
        self.around.let_sign_in(service, organisation)
        service.engine.dispose()
        self._start_children(kept)

    def _prepare_telemetry(self, service: Service, kept: Secrets) -> None:
        url, plan = self.telemetry.url(telemetry.DATABASE), loader.telemetry_plan()
        if not telemetry.is_prepared(url):
            telemetry.prepare(url, plan, loader.base_day(service.clock()), kept.adapter_password)
        # A login without any membership does not open sessions.
        wanted = [(login, program) for login, program in plan["sessions"] if login in telemetry.members(url)]
        self.sessions = telemetry.OpenSessions("127.0.0.1", self.telemetry.port)
        self.sessions.open(wanted)

    def _load(self, service: Service) -> UUID:
        if not loader.is_loaded(service):
            return loader.load(service)
        with transaction(service.engine, None) as db:
            return db.scalars(select(Organisation.id).where(Organisation.slug == "hollin-fell")).one()

    def _count_rows(self) -> None:
        """Let the server count what was loaded: it plans without numbers otherwise, until it looks by itself."""
        with psycopg.connect(self.register.url(DATABASE), autocommit=True) as db:
            db.execute("analyze")

    def _connect_telemetry(self, service: Service, organisation: UUID, kept: Secrets) -> None:
        settings = {
            "host": "127.0.0.1",
            "port": self.telemetry.port,
            "database": telemetry.DATABASE,
            "user": telemetry.ADAPTER_LOGIN,
            "app_prefix": "app_",
            "sslmode": "disable",
        }
        viewer = Viewer.itself(organisation)
        with service.unit(viewer) as unit:
            system = unit.db.scalars(select(System).where(System.key == loader.TELEMETRY)).one()
            is_known = system.settings == settings
        if not is_known:
            name, word = loader.TELEMETRY, kept.adapter_password
            connections.connect(service, viewer, name, name, "postgresql", settings, word)
        readings.read(service, organisation, system.id)
        assert self.around is not None
        self.around.connect(service, organisation)
        if not loader.has_played(service, organisation):
            loader.play(service, organisation)
            administrator = loader.administrator(service, organisation)
            endings.play(service, administrator, system.id, self.telemetry.url(telemetry.DATABASE))

    def _start_children(self, kept: Secrets) -> None:
        environment = {
            **os.environ,
            "OPENLATCH_SECRET_KEY": kept.secret_key,
            "OPENLATCH_BIND": f"127.0.0.1:{self.port}",
            "OPENLATCH_PUBLIC_ADDRESS": self.address,
            "OPENLATCH_SMTP_HOST": "127.0.0.1",
            "OPENLATCH_SMTP_PORT": str(self.mail.smtp_port),
            "OPENLATCH_MAIL_FROM": "access@hollinfell.example.org",
            # Whoever tries webhooks has a receiver on this machine.
            "OPENLATCH_PRIVATE_RECEIVERS": "127.0.0.1,localhost",
            "OPENLATCH_TREE_HEADS_FILE": str(self.folder / "tree-heads.jsonl"),
            "OPENLATCH_ARCHIVE_FOLDER": str(self.folder / "archive"),
        }
        for name in ("OPENLATCH_CONFIG", "OPENLATCH_SYSTEMS_KEY", "OPENLATCH_EVIDENCE_KEY"):
            environment.pop(name, None)
        own = {
            "serve": {"OPENLATCH_DATABASE_URL": self.register.url(DATABASE, WEB_ROLE, kept.web_password)},
            "worker": {
                "OPENLATCH_DATABASE_URL": self.register.url(DATABASE, WORKER_ROLE, kept.worker_password),
                "OPENLATCH_SYSTEMS_KEY": kept.systems_key,
                "OPENLATCH_EVIDENCE_KEY": kept.evidence_key,
            },
        }
        for name in own:
            with appended(self.folder / f"{name}.log") as log:
                self.children[name] = subprocess.Popen(
                    [sys.executable, "-m", "openlatch", name],
                    env=environment | own[name],
                    stdout=log,
                    stderr=log,
                    start_new_session=True,
                )
        self._await_web()

    def _await_web(self) -> None:
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline:
            self.refuse_dead()
            try:
                with urllib.request.urlopen(f"{self.address}/healthz", timeout=2):  # noqa: S310  our own loopback
                    return
            except (urllib.error.URLError, ConnectionError, TimeoutError):
                time.sleep(0.1)
        raise CantStart(f"The web process did not answer within {START_SECONDS} s.\n{self._end_of('serve')}")

    def refuse_dead(self) -> None:
        """Raise CantStart, with the end of its log, if one of our processes has exited."""
        for name, child in self.children.items():
            if child.poll() is not None:
                raise CantStart(
                    f"{name} ended by itself with {child.returncode}. The end of its log:\n{self._end_of(name)}"
                )

    def _end_of(self, name: str) -> str:
        lines = (self.folder / f"{name}.log").read_text(errors="replace").splitlines()
        return "\n".join(lines[-25:])

    def stop(self) -> None:
        """Stop every process that was started, by its id, and wait until it has exited."""
        for child in self.children.values():
            child.terminate()
        for child in self.children.values():
            try:
                child.wait(15)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait(5)
        if self.sessions is not None:
            self.sessions.close()
        if self.around is not None:
            self.around.stop()
        self.mail.stop()
        self.telemetry.stop()
        self.register.stop()


def _on_signal(number: int, frame: FrameType | None) -> None:
    raise Stop


def run(reset: bool, port: int) -> None:
    """Run the demo until Ctrl-C or SIGTERM."""
    folder = data_folder() / "demo"
    if reset:
        shutil.rmtree(folder, ignore_errors=True)
    signal.signal(signal.SIGTERM, _on_signal)
    signal.signal(signal.SIGINT, _on_signal)
    demo = Demo(folder, port)
    try:
        demo.start()
        _welcome(demo)
        while True:
            time.sleep(1)
            demo.refuse_dead()
    except Stop:
        _say("Stopping.")
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        demo.stop()


def _welcome(demo: Demo) -> None:
    _say("")
    _say(f"Open Latch is at {demo.address}")
    _say("")
    _say(f"Sign in with the password: {loader.PASSWORD}")
    for key, _, what in loader.SIGN_INS:
        _say(f"  {key + '@hollinfell.example.org' if '.aldous' not in key else key + '@wardens.example.net':44} {what}")
    for other in (loader.NEIGHBOUR, loader.AGENCY):
        _say(f"  {other[0]:44} {other[-1]}")
    if demo.around is not None and demo.around.provider is not None:
        _say("")
        _say(f"Or by an identity provider: {demo.address}/sign-in?organisation=hollin-fell")
    _say("")
    _say(f"The mail that is sent is at {demo.mail.address}")
    _say(f"The hut telemetry database is at 127.0.0.1:{demo.telemetry.port}.")
    for name, kind, settings in demo.around.connections if demo.around else ():
        place = settings.get("address") or settings.get("root") or f"{settings['host']}:{settings['port']}"
        _say(f"The {name[0].lower() + name[1:]} ({kind}) is at {place}.")
    _say(f"Logs and data: {demo.folder}")
    _say("Ctrl-C stops everything.")
    _say("")


def _say(text: object) -> None:
    print(say(str(text)), flush=True)
