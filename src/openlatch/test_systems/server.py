"""Servers of other systems, each in its own folder, on loopback, on a free port; none but sshd is ever run as root."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from openlatch.private_files import appended
from openlatch.processes import CantStart, runner, unprivileged, usual_port

START_SECONDS = 30


@dataclass
class Server:
    """A server: its folder and, while it runs, its process and port. Subclasses say which program it is."""

    folder: Path
    port: int = 0
    process: subprocess.Popen[bytes] | None = None
    program: ClassVar[str] = ""
    package: ClassVar[str] = ""
    # Whether it runs as whoever starts it, also as root: it lets in only its own user.
    as_we_are: ClassVar[bool] = False

    @classmethod
    def installed(cls) -> str | None:
        """The program's path; None when its Debian package is not installed."""
        return shutil.which(cls.program, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")

    @property
    def log(self) -> Path:
        """The path of its log."""
        return self.folder / "server.log"

    @property
    def is_made(self) -> bool:
        """Whether it was started before and has its data."""
        return (self.folder / "made").exists()

    def start(self) -> None:
        """Start it, writing its files first. CantStart if it is not installed, or with its log if it fails."""
        program = self.installed()
        if program is None:
            raise CantStart(f"{self.program} is not installed.", f"Install Debian's package {self.package}.")
        self.folder.mkdir(parents=True, exist_ok=True)
        self.port = usual_port(self.folder)
        self.write()
        self.belong(self.folder)
        with appended(self.log) as log:
            how = {} if self.as_we_are else unprivileged()
            self.process = subprocess.Popen(
                [program, *self.arguments()], stdout=log, stderr=log, cwd="/", start_new_session=True, **how
            )
        self._await_ready()

    def write(self) -> None:
        """Write its configuration for this port."""
        raise NotImplementedError

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground."""
        raise NotImplementedError

    def belong(self, folder: Path) -> None:
        """Give everything in a folder to the user that the server runs as."""
        if os.getuid() == 0:
            user = runner()
            for path in (folder, *folder.rglob("*")):
                os.chown(path, user.pw_uid, user.pw_gid, follow_symlinks=False)

    def stop(self) -> None:
        """Stop the server that ``start`` started, and wait until it has exited."""
        if self.process is None or self.process.poll() is not None:
            return
        self.process.terminate()
        try:
            self.process.wait(15)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait(5)
        self.process = None

    def kill(self) -> None:
        """Kill it, as when a machine fails."""
        if self.process is not None:
            self.process.kill()
            self.process.wait(5)
            self.process = None

    def _await_ready(self) -> None:
        assert self.process is not None
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline and self.process.poll() is None:
            with socket.socket() as probe:
                probe.settimeout(1)
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.05)
        end = "\n".join(self.log.read_text(errors="replace").splitlines()[-20:])
        self.stop()
        raise CantStart(f"{self.program} did not start on {self.folder}. The end of its log:\n{end}")
