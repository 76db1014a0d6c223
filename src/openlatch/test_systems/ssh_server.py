"""A real OpenSSH server on loopback, by which one key has one program run."""

from __future__ import annotations

import os
import pwd
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from openlatch.test_systems.server import Server


@dataclass
class SshServer(Server):
    """An sshd of our own, for whoever runs it. The key of Open Latch can do nothing there but ask about ``root``."""

    program = "sshd"
    package = "openssh-server"
    as_we_are = True

    root: Path = Path("/")
    # The program of Open Latch that its key has run.
    host_program: Path = Path("/usr/local/sbin/open-latch-host")

    @property
    def user(self) -> str:
        """Whom it lets in: an sshd that is not root can let in only its own user."""
        return pwd.getpwuid(os.getuid()).pw_name

    def belong(self, folder: Path) -> None:
        """Everything stays with whoever runs it: sshd takes keys from nobody else."""

    def write(self) -> None:
        """Write its configuration, and keys of the host, of Open Latch and of an authority."""
        if os.getuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        for name in ("host", "open-latch", "authority"):
            if not (self.folder / name).exists():
                self._keygen("-t", "ed25519", "-N", "", "-C", name, "-f", str(self.folder / name))
        command = f"{sys.executable} -I {self.host_program} --root {self.root}"
        key = (self.folder / "open-latch.pub").read_text()
        (self.folder / "authorized_keys").write_text(f'command="{command}",restrict {key}')
        (self.folder / "principals").write_text(f'command="{command}",restrict open-latch\n')
        (self.folder / "sshd_config").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.folder / 'host'}\nUsePAM no\n"
            f"StrictModes no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin yes\n"
            f"PidFile {self.folder / 'pid'}\nAuthorizedKeysFile {self.folder / 'authorized_keys'}\n"
            f"TrustedUserCAKeys {self.folder / 'authority.pub'}\n"
            f"AuthorizedPrincipalsFile {self.folder / 'principals'}\n"
        )

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground."""
        return ["-D", "-e", "-f", str(self.folder / "sshd_config")]

    def public(self, name: str) -> str:
        """The public key of the host, of Open Latch or of the authority."""
        return (self.folder / f"{name}.pub").read_text().strip()

    def private(self, name: str) -> str:
        """A private key."""
        return (self.folder / name).read_text()

    def certificate(self, principal: str, validity: str = "+1h") -> str:
        """A certificate for another key, which the host does not know, signed by the authority: the key and it."""
        key = self.folder / f"visitor-{principal}"
        if not key.exists():
            self._keygen("-t", "ed25519", "-N", "", "-C", principal, "-f", str(key))
        authority = str(self.folder / "authority")
        self._keygen("-s", authority, "-I", principal, "-n", principal, "-V", validity, f"{key}.pub")
        return (self.folder / f"visitor-{principal}-cert.pub").read_text()

    def _keygen(self, *arguments: str) -> None:
        subprocess.run(["ssh-keygen", "-q", *arguments], check=True)  # noqa: S607  Debian's


def usual(server: SshServer) -> dict[str, str | int]:
    """How the adapter reaches it."""
    return {"address": "127.0.0.1", "port": server.port, "user": server.user, "host_key": server.public("host")}
