"""What starting other programs takes: a port that is free, and a user who is not root."""

from __future__ import annotations

import os
import pwd
import random
import socket
from pathlib import Path
from typing import Any

from openlatch.errors import OpenLatchError


class CantStart(OpenLatchError):
    """A server could not be started; the end of its log is in the message."""


def free_port() -> int:
    """A port on loopback that nobody listens on, below those that the kernel gives to outgoing connections.

    One that the kernel chose itself could be taken by anybody's connection before the server that wants it has started.
    """
    # Not from the seeded generator: processes that share a seed would all choose the same ports.
    chance = random.SystemRandom()
    for _ in range(1000):
        port = chance.randrange(10_000, 30_000)
        if is_free(port):
            return port
    raise CantStart("No port between 10000 and 30000 is free on this machine.")


def is_free(port: int) -> bool:
    """Whether nobody listens on a port on loopback."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def usual_port(folder: Path) -> int:
    """The port of the last start in a folder if nobody else has it now, so that addresses stay; else a free one."""
    note = folder / "port"
    usual = int(note.read_text()) if note.exists() else 0
    port = usual if usual and is_free(usual) else free_port()
    note.write_text(str(port))
    return port


def runner() -> pwd.struct_passwd:
    """The user that PostgreSQL runs as when we are root: Debian's own for it, or nobody."""
    for name in ("postgres", "nobody"):
        try:
            return pwd.getpwnam(name)
        except KeyError:
            continue
    raise CantStart("There is no user to run PostgreSQL as.", "Install Debian's package postgresql.")


def unprivileged() -> dict[str, Any]:
    """How to start a program so that it does not run as root."""
    if os.getuid() != 0:
        return {}
    user = runner()
    return {"user": user.pw_uid, "group": user.pw_gid}
