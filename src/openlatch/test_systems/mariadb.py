"""A real MariaDB server with users, roles, rights on every level, and proxies."""

from __future__ import annotations

import shutil
import socket
import subprocess
from collections.abc import Sequence
from typing import Any

import pymysql

from openlatch.processes import CantStart, unprivileged
from openlatch.test_systems.server import Server

OWNER, ADAPTER_LOGIN = "root", "open_latch"
LOGIN_PASSWORD = "made-up-for-the-demo"  # noqa: S105  every login of a demo server that listens on loopback only


class MariadbServer(Server):
    """A MariaDB of our own."""

    program = "mariadbd"
    package = "mariadb-server"

    def write(self) -> None:
        """Make its system tables, the first time; its own login for everything has a password."""
        data = self.folder / "data"
        first = f"set password for {OWNER}@'127.0.0.1' = password('{LOGIN_PASSWORD}');\n"
        # A login from a host's name is one that the server says nothing of, since it resolves no names.
        others = f"drop user if exists {OWNER}@'{socket.gethostname()}';\n"
        (self.folder / "first.sql").write_text(first + others)
        if data.exists():
            return
        maker = shutil.which("mariadb-install-db")
        if maker is None:
            raise CantStart("mariadb-install-db is not installed.", f"Install Debian's package {self.package}.")
        self.belong(self.folder)
        how = [
            "--no-defaults",
            f"--datadir={data}",
            f"--tmpdir={self.folder}",
            "--skip-test-db",
            "--auth-root-authentication-method=normal",
        ]
        made = subprocess.run([maker, *how], capture_output=True, text=True, check=False, cwd="/", **unprivileged())
        if made.returncode:
            raise CantStart(
                f"mariadb-install-db failed: {made.stdout[-2000:]}{made.stderr[-2000:]}", "Look at its words."
            )

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground, on loopback."""
        small = ["--innodb-buffer-pool-size=16M", "--innodb-log-file-size=8M", "--innodb-flush-log-at-trx-commit=0"]
        return [
            *("--no-defaults", f"--datadir={self.folder / 'data'}", f"--port={self.port}", "--bind-address=127.0.0.1"),
            *(f"--socket={self.folder / 'socket'}", f"--pid-file={self.folder / 'pid'}", "--skip-name-resolve", *small),
            # As it starts it deletes what others have left there, and what they have in use.
            f"--tmpdir={self.folder}",
            f"--init-file={self.folder / 'first.sql'}",
        ]

    def signed_in(self, user: str = OWNER, word: str = LOGIN_PASSWORD) -> pymysql.Connection[Any]:
        """A connection; the owner may do everything."""
        return pymysql.connect(host="127.0.0.1", port=self.port, user=user, password=word, autocommit=True)

    def run(self, *statements: str) -> list[tuple[Any, ...]]:
        """Run statements as the owner; gives the rows of the last."""
        with self.signed_in() as db, db.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
            return list(cursor.fetchall())

    def let_in(self, adapter_password: str) -> None:
        """Make Open Latch's login there, with what it needs, and the admin option for every role."""
        me = f"{ADAPTER_LOGIN}@'127.0.0.1'"
        self.run(
            f"create or replace user {me} identified by '{adapter_password}'",
            f"grant all privileges on *.* to {me} with grant option",
            f"grant proxy on ''@'' to {me} with grant option",
        )
        roles = self.run("select User from mysql.global_priv where json_value(Priv, '$.is_role') = 1")
        self.run("select 1", *(f"grant `{name}` to {me} with admin option" for (name,) in roles if name != "PUBLIC"))


def usual(server: MariadbServer) -> dict[str, str | int]:
    """How the adapter reaches it."""
    return {"host": "127.0.0.1", "port": server.port, "user": ADAPTER_LOGIN, "tls": "off", "app_prefix": "app_"}
