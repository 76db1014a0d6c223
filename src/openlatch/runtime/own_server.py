"""The whole service for a small organisation in one folder: a private PostgreSQL, the web process, the worker, keys,
rotated logs, and a daily backup that is tested by restoring it.
"""

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
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import FrameType
from typing import Any
from urllib.parse import unquote, urlsplit

import psycopg
from cryptography.fernet import Fernet
from psycopg import sql

from openlatch.errors import BadInput
from openlatch.languages.terminal import say
from openlatch.private_files import appended, private_folder
from openlatch.processes import CantStart, is_free
from openlatch.runtime.cluster import Cluster, postgres_program
from openlatch.store.migrate import APP_ROLE, WEB_ROLE, WORKER_ROLE, Passwords, migrate

DATABASE = "openlatch"
START_SECONDS = 90
BACKUPS_KEPT = 14
LARGEST_LOG = 20 * 1024 * 1024
LOGS_KEPT = 5
LOOK_EVERY = 60.0
# How archiving ends when something could not be moved yet.
NOT_YET = 4
# Backups leave out the queue: pending work is found again in our own tables.
_LEFT_OUT = ("procrastinate_*",)


class Stop(Exception):
    """The process was asked to stop."""


@dataclass(frozen=True, slots=True)
class Keys:
    """The keys and passwords of a folder. They are stored apart from the database and its backups."""

    secret_key: str
    systems_key: str
    evidence_key: str
    app_password: str
    web_password: str
    worker_password: str

    @classmethod
    def of(cls, folder: Path) -> Keys:
        """The keys stored in a folder, generated on its first start; only their owner can read them."""
        kept = folder / "keys.json"
        if not kept.exists():
            made = {name: Fernet.generate_key().decode() for name in ("secret_key", "systems_key", "evidence_key")}
            made |= {name: secrets.token_urlsafe(24) for name in ("app_password", "web_password", "worker_password")}
            number = os.open(kept, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(number, "w") as file:
                json.dump(made, file, indent=2)
        if kept.stat().st_mode & 0o077:
            raise CantStart(f"{kept} can be read by others.", f"chmod 600 {kept}")
        return cls(**json.loads(kept.read_text()))


class OwnServer:
    """The service run from one folder."""

    def __init__(self, folder: Path, bind: str, public_address: str, trusted_proxies: int) -> None:
        self.folder = folder
        self.bind = bind
        self.public_address = public_address.rstrip("/") or f"http://{bind}"
        self.trusted_proxies = trusted_proxies
        self.cluster = Cluster(folder / "database")
        self.children: dict[str, subprocess.Popen[bytes]] = {}

    def prepare(self) -> Keys:
        """Start the database and migrate it; returns the keys."""
        self.folder.mkdir(parents=True, exist_ok=True)
        keys = Keys.of(self.folder)
        private_folder(self.folder / "logs")
        private_folder(self.folder / "backups")
        self.cluster.start()
        self.cluster.ensure_database(DATABASE)
        migrate(self.cluster.url(DATABASE), Passwords(keys.app_password, keys.web_password, keys.worker_password))
        return keys

    def start(self) -> None:
        """Start everything, and wait until the console answers. CantStart says what did not."""
        host, _, port = self.bind.rpartition(":")
        if host in ("127.0.0.1", "localhost") and not is_free(int(port)):
            raise CantStart(f"Something listens on {self.bind} already.", "Choose another address with --bind.")
        keys = self.prepare()
        for name, environment in self.environments(keys).items():
            with appended(self._log(name)) as log:
                self.children[name] = subprocess.Popen(
                    [sys.executable, "-m", "openlatch", name],
                    env={**_clean(os.environ), **environment},
                    stdin=subprocess.DEVNULL,
                    stdout=log,
                    stderr=log,
                    start_new_session=True,
                )
        self._await_web()

    def environments(self, keys: Keys) -> dict[str, dict[str, str]]:
        """The environment of each process: the web process gets neither the systems' key nor the evidence key."""
        shared = {
            "OPENLATCH_SECRET_KEY": keys.secret_key,
            "OPENLATCH_BIND": self.bind,
            "OPENLATCH_PUBLIC_ADDRESS": self.public_address,
            "OPENLATCH_TRUSTED_PROXIES": str(self.trusted_proxies),
            "OPENLATCH_TREE_HEADS_FILE": str(self.folder / "tree-heads.jsonl"),
            "OPENLATCH_ARCHIVE_FOLDER": str(self.folder / "archive"),
        }
        return {
            "serve": {
                **shared,
                "OPENLATCH_DATABASE_URL": self.cluster.url(DATABASE, WEB_ROLE, keys.web_password),
            },
            "worker": {
                **shared,
                "OPENLATCH_DATABASE_URL": self.cluster.url(DATABASE, WORKER_ROLE, keys.worker_password),
                "OPENLATCH_SYSTEMS_KEY": keys.systems_key,
                "OPENLATCH_EVIDENCE_KEY": keys.evidence_key,
            },
        }

    def _log(self, name: str) -> Path:
        return self.folder / "logs" / f"{name}.log"

    def _await_web(self) -> None:
        port = self.bind.rpartition(":")[2]
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline:
            self.refuse_dead()
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}/healthz", timeout=2):
                    return
            except (urllib.error.URLError, ConnectionError, TimeoutError):
                time.sleep(0.1)
        raise CantStart(f"The web process did not answer within {START_SECONDS} s.\n{self._end_of('serve')}")

    def refuse_dead(self) -> None:
        """Raise CantStart, with the end of its log, if one of our processes has exited."""
        for name, child in self.children.items():
            if child.poll() is not None:
                raise CantStart(f"{name} ended by itself with {child.returncode}.\n{self._end_of(name)}")

    def _end_of(self, name: str) -> str:
        return "\n".join(self._log(name).read_text(errors="replace").splitlines()[-25:])

    def code(self) -> str:
        """The line with the set-up code that the web process printed; empty if an organisation exists."""
        lines = self._log("serve").read_text(errors="replace").splitlines()
        return next((line for line in reversed(lines) if "give this code" in line), "")

    def stop(self) -> None:
        """Stop every process that was started, by its id, and wait until it has exited."""
        for child in self.children.values():
            child.terminate()
        for child in self.children.values():
            try:
                child.wait(40)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait(5)
        self.children.clear()
        self.cluster.stop()

    def look_after(self, now: datetime) -> None:
        """Rotate large logs, and make the daily backup when it is due."""
        for log in (*(self.folder / "logs").glob("*.log"), self.cluster.log):
            rotate(log)
        last = max((backup.stat().st_mtime for backup in self.backups()), default=0.0)
        if now - datetime.fromtimestamp(last, UTC) >= timedelta(days=1):
            self.back_up(now)
            self.archive()

    def archive(self) -> None:
        """Move what is old into the archive. CantStart, with the end of its log, when that failed.

        What can't be moved yet is in the log, and tried again the next day.
        """
        keys = Keys.of(self.folder)
        owner = {"OPENLATCH_OWNER_DATABASE_URL": self.cluster.url(DATABASE)}
        with appended(self._log("archive")) as log:
            done = subprocess.run(
                [sys.executable, "-m", "openlatch", "archive"],
                env={**_clean(os.environ), **self.environments(keys)["worker"], **owner},
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                check=False,
            )
        if done.returncode not in (0, NOT_YET):
            raise CantStart(f"Archiving ended with {done.returncode}.\n{self._end_of('archive')}")

    def backups(self) -> list[Path]:
        """The existing backups, oldest first."""
        return sorted((self.folder / "backups").glob("*.dump"))

    def back_up(self, now: datetime) -> Path:
        """Make a backup and test it: it counts once it has been restored into a second database with the same journal.

        The keys are not in it. CantStart if it can't be made or can't be restored.
        """
        made = self.folder / "backups" / f"openlatch-{now:%Y-%m-%dT%H%M%SZ}.dump"
        partial = made.with_suffix(".partial")
        number = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(number, "wb") as file:
            leave = [f"--exclude-table-data={pattern}" for pattern in _LEFT_OUT]
            _run(["pg_dump", "--format=custom", *leave], self.cluster.url(DATABASE), stdout=file)
        trial = f"restored_{now:%Y%m%d%H%M%S}"
        try:
            restore_into(self.cluster, trial, partial)
            restored = _heads(self.cluster.url(trial))
            if restored != _heads(self.cluster.url(DATABASE), restored):
                raise CantStart("The backup was restored, and its journal is not the one that was backed up.")
        finally:
            _drop(self.cluster, trial)
        partial.rename(made)
        for old in self.backups()[:-BACKUPS_KEPT]:
            old.unlink()
        return made


def _clean(environment: Mapping[str, str]) -> dict[str, str]:
    """The environment without settings meant for another instance of the service."""
    return {name: value for name, value in environment.items() if not name.startswith("OPENLATCH_")}


def _run(command: list[str], database: str, **more: Any) -> None:
    """Run a PostgreSQL program on a database. The password is not passed on the command line, where others could see
    it.
    """
    parts = urlsplit(database)
    named = f"{parts.scheme}://{parts.username}@{parts.hostname}:{parts.port or 5432}{parts.path}"
    done = subprocess.run(
        [postgres_program(command[0]), *command[1:], "--dbname", named],
        env={**os.environ, "PGPASSWORD": unquote(parts.password or "")},
        stderr=subprocess.PIPE,
        check=False,
        **more,
    )
    if done.returncode:
        raise CantStart(f"{command[0]} failed: {done.stderr.decode(errors='replace')[-2000:]}")


def _heads(url: str, at: Mapping[str, bytes] | None = None) -> dict[str, bytes]:
    """The hash of each organisation's last journal entry, or of the entries at the positions ``at``."""
    with psycopg.connect(url) as db:
        if at is None:
            rows = db.execute("select organisation_id::text, position, hash from journal_heads").fetchall()
            return {f"{organisation} {position}": bytes(known) for organisation, position, known in rows}
        found = {}
        for key in at:
            organisation, position = key.split()
            row = db.execute(
                "select hash from journal where organisation_id = %s and position = %s", (organisation, int(position))
            ).fetchone()
            if row is not None:
                found[key] = bytes(row[0])
        return found


def _drop(cluster: Cluster, name: str) -> None:
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        db.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(name)))


def restore_into(cluster: Cluster, name: str, backup: Path) -> None:
    """Create a database from a backup. CantStart if the name is taken or the backup can't be read."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
        db.execute(sql.SQL("create database {}").format(sql.Identifier(name)))
    _run(["pg_restore", "--no-owner", "--exit-on-error", str(backup)], cluster.url(name))


def rotate(log: Path) -> None:
    """Copy a large log aside and truncate it; its writers keep writing to the same file."""
    if not log.exists() or log.stat().st_size < LARGEST_LOG:
        return
    for number in range(LOGS_KEPT - 1, 0, -1):
        older = log.with_suffix(f".log.{number}")
        if older.exists():
            older.rename(log.with_suffix(f".log.{number + 1}"))
    first = log.with_suffix(".log.1")
    shutil.copyfile(log, first)
    first.chmod(0o600)
    os.truncate(log, 0)
    beyond = log.with_suffix(f".log.{LOGS_KEPT + 1}")
    beyond.unlink(missing_ok=True)


def _on_signal(number: int, frame: FrameType | None) -> None:
    raise Stop


def run(folder: Path, bind: str, public_address: str, trusted_proxies: int) -> None:
    """Run the service from a folder until stopped."""
    signal.signal(signal.SIGTERM, _on_signal)
    signal.signal(signal.SIGINT, _on_signal)
    server = OwnServer(folder, bind, public_address, trusted_proxies)
    try:
        server.start()
        address = server.public_address
        _say(f"Open Latch is at {address}")
        if code := server.code():
            _say(code)
        _say(f"Data, keys, logs and backups: {folder}. Keep {folder / 'keys.json'} somewhere else as well.")
        looked = 0.0
        while True:
            if time.monotonic() - looked >= LOOK_EVERY:
                looked = time.monotonic()
                _looked_after(server)
            time.sleep(1)
            server.refuse_dead()
    except Stop:
        _say("Stopping.")
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        server.stop()


def _looked_after(server: OwnServer) -> None:
    """A failed backup does not stop the service; it is logged and tried again."""
    try:
        server.look_after(datetime.now(UTC))
    except (CantStart, OSError, psycopg.Error) as error:
        _say(f"The backup, or what follows it, failed: {error}")


def restore(folder: Path, backup: Path) -> None:
    """Restore a backup into a folder, while nothing runs there; the previous database is kept under another name."""
    cluster = Cluster(folder / "database")
    if not backup.exists():
        raise BadInput(f"There is no file {backup}.", "Name one of those in the folder backups.")
    if (folder / "database" / "data" / "postmaster.pid").exists():
        raise CantStart("Open Latch runs in this folder.", "Stop it first.")
    keys = Keys.of(folder)
    cluster.start()
    try:
        fresh, aside = "openlatch_restored", f"openlatch_before_{datetime.now(UTC):%Y%m%d%H%M%S}"
        _drop(cluster, fresh)
        cluster.ensure_database(DATABASE)
        # Roles belong to the server and not to a backup; a new server must have them before the backup is restored.
        migrate(cluster.url(DATABASE), Passwords(keys.app_password, keys.web_password, keys.worker_password))
        restore_into(cluster, fresh, backup)
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as db:
            for was, now in ((DATABASE, aside), (fresh, DATABASE)):
                db.execute(sql.SQL("alter database {} rename to {}").format(sql.Identifier(was), sql.Identifier(now)))
        migrate(cluster.url(DATABASE), Passwords(keys.app_password, keys.web_password, keys.worker_password))
    finally:
        cluster.stop()
    _say(f"{backup.name} is in place. What was there before is kept as the database {aside}.")


def move(folder: Path, to: str, configuration: Path) -> None:
    """Move the data to another database server, and write a configuration file for each process.

    ``to`` is the URL of an empty database there, as its owner, who may create roles. BadInput if it is not empty.
    """
    keys = Keys.of(folder)
    with psycopg.connect(to) as db:
        row = db.execute("select count(*) from pg_tables where schemaname = 'public'").fetchone()
    if row is None or row[0]:
        raise BadInput("The database there is not empty.", "Create a new one, owned by the user named in --to.")
    cluster = Cluster(folder / "database")
    cluster.start()
    passing = private_folder(folder / "backups") / "moving.dump"
    try:
        with passing.open("wb") as file:
            passing.chmod(0o600)
            plain = ("--no-owner", "--no-privileges")
            _run(["pg_dump", "--format=custom", *plain], cluster.url(DATABASE), stdout=file)
        _run(["pg_restore", *plain, "--exit-on-error", str(passing)], to)
        migrate(to, Passwords(keys.app_password, keys.web_password, keys.worker_password))
        expected, found = _heads(cluster.url(DATABASE)), _heads(to)
    finally:
        passing.unlink(missing_ok=True)
        cluster.stop()
    if expected != found:
        raise CantStart("The journal there is not the one that was moved.", "Make a fresh database, and try again.")
    archive = folder / "archive"
    _write_configuration(configuration, to, keys, archive if archive.exists() else None)
    _say(
        f"Everything is there. Configurations: {configuration}/web.toml, worker.toml, admin.toml. "
        f"What is in {folder} is as it was; run it no more."
    )
    if archive.exists():
        _say(f"The archive is still {archive}: move it, and set archive_folder in all three.")


def _write_configuration(folder: Path, to: str, keys: Keys, archive: Path | None) -> None:
    private_folder(folder)
    place = to.split("://", 1)[1].rpartition("@")[2]
    held = asdict(keys)
    shared = f'secret_key = "{keys.secret_key}"\n'
    if archive is not None:
        shared += f'archive_folder = "{archive}"\n'
    own = {
        "web": (WEB_ROLE, "web_password", ""),
        "worker": (WORKER_ROLE, "worker_password", "all"),
        "admin": (APP_ROLE, "app_password", "all"),
    }
    for name, (role, password, which) in own.items():
        written = f'database_url = "postgresql://{role}:{held[password]}@{place}"\n{shared}'
        if which:
            written += f'systems_key = "{keys.systems_key}"\nevidence_key = "{keys.evidence_key}"\n'
        if name == "admin":
            written += f'owner_database_url = "{to}"\n'
        number = os.open(folder / f"{name}.toml", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(number, "w") as file:
            file.write(written)


UNIT = """[Unit]
Description=Open Latch
After=network-online.target
Wants=network-online.target

[Service]
{user}ExecStart={program} run --data {folder} --bind {bind}{more}
Restart=on-failure
RestartSec=5
TimeoutStopSec=90
NoNewPrivileges=true
ProtectSystem=strict
ReadWritePaths={folder}
PrivateTmp=true
PrivateDevices=true
RestrictSUIDSGID=true
LockPersonality=true

[Install]
WantedBy=multi-user.target
"""


def unit(folder: Path, bind: str, public_address: str, trusted_proxies: int) -> str:
    """A systemd unit that runs the service from a folder, as the user who asks for it."""
    user = "" if os.getuid() == 0 else f"User={os.environ.get('USER', 'openlatch')}\n"
    more = f" --address {public_address}" if public_address else ""
    more += f" --trusted-proxies {trusted_proxies}" if trusted_proxies else ""
    program = Path(sys.argv[0]).resolve()
    return UNIT.format(user=user, program=program, folder=folder, bind=bind, more=more)


def _say(text: str) -> None:
    print(say(text), flush=True)
