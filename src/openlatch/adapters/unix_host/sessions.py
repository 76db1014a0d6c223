"""Who is signed in to a Unix host: the records of utmp, the sessions of systemd, and the processes behind them."""

from __future__ import annotations

import os
import signal
import struct
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from openlatch.errors import SystemRefused

# One record of utmp as glibc writes it on Linux (utmp(5)): kind, process, line, ..., user, host, ..., seconds, ...
_UTMP = struct.Struct("<hxxi32s4s32s256shhiii4I20x")
_SIGNED_IN = 7
# The properties asked of systemd about each session (loginctl(1), org.freedesktop.login1(5)).
SHOWN = ("--property=Name", "--property=Leader", "--property=TTY", "--property=RemoteHost", "--property=Class")


@dataclass(frozen=True, slots=True)
class SignedIn:
    """One record of utmp: somebody who is signed in."""

    process: int
    line: str
    user: str
    host: str
    since: datetime


def signed_in(content: bytes) -> Iterator[SignedIn]:
    """Those whom a utmp file shows as signed in."""
    for start in range(0, len(content) - _UTMP.size + 1, _UTMP.size):
        kind, process, line, _, user, host, _, _, _, seconds, micro, *_ = _UTMP.unpack_from(content, start)
        if kind == _SIGNED_IN:
            since = datetime.fromtimestamp(seconds + micro / 1_000_000, UTC)
            yield SignedIn(process, _text(line), _text(user), _text(host), since)


def listed(text: str) -> list[str]:
    """The ids of the sessions listed by ``loginctl list-sessions``."""
    return [words[0] for line in text.splitlines() if (words := line.split())]


def told(text: str) -> Iterator[SignedIn]:
    """Users' sessions from ``loginctl show-session``: a paragraph for each, a property per line."""
    for paragraph in text.split("\n\n"):
        found = dict(line.split("=", 1) for line in paragraph.splitlines() if "=" in line)
        leader = found.get("Leader", "")
        since = _since(int(leader)) if leader.isdigit() else None
        if since is not None and found.get("Class") == "user":
            line, host = found.get("TTY", "") or "session", found.get("RemoteHost", "")
            yield SignedIn(int(leader), line, found.get("Name", ""), host, since)


def _since(process: int) -> datetime | None:
    """When a process started, in UTC; None if it does not exist."""
    ticks = began(process)
    booted = next(line for line in Path("/proc/stat").read_text().splitlines() if line.startswith("btime "))
    seconds = int(ticks) / os.sysconf("SC_CLK_TCK") if ticks is not None else 0
    return None if ticks is None else datetime.fromtimestamp(int(booted.split()[1]) + int(seconds), UTC)


def began(process: int) -> str | None:
    """When a process started, in ticks since boot (proc(5)); None if it does not exist or has ended."""
    try:
        fields = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[-1].split()
    except OSError:
        return None
    return None if fields[0] in "ZX" else fields[19]


def hang_up(process: int, since: str) -> str:
    """Send a session SIGHUP and wait until it is gone; one that ignores it is killed."""
    for number, seconds in ((signal.SIGHUP, 3), (signal.SIGKILL, 2)):
        try:
            os.kill(process, number)
        except ProcessLookupError:
            break
        except PermissionError as error:
            raise SystemRefused(f"Process {process} may not be signalled.", "Give the service CAP_KILL.") from error
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if began(process) != since:
                return f"Hung up process {process}."
            time.sleep(0.02)
    return f"Hung up process {process}; it has not gone yet."


def _text(raw: bytes) -> str:
    return raw.split(b"\0", 1)[0].decode("utf-8", "replace")
