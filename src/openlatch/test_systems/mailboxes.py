"""The huts' mail server: a real Dovecot with shared mailboxes, folders and access control lists."""

from __future__ import annotations

import grp
import imaplib
from collections.abc import Sequence
from dataclasses import dataclass, field

from openlatch.json_values import JsonObject
from openlatch.processes import runner, usual_port
from openlatch.test_systems.server import Server

ADAPTER_LOGIN = "open_latch"
LOGIN_PASSWORD = "made-up-for-the-demo"  # noqa: S105  every login of a demo server that listens on loopback only
PREFIX = "Shared/"
_SETTINGS = """
base_dir = {folder}/run
state_dir = {folder}/state
log_path = /dev/stderr
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
auth_username_chars =
default_internal_user = {user}
default_internal_group = {group}
default_login_user = {user}
first_valid_uid = 1
mail_max_userip_connections = 100
mail_location = maildir:{folder}/homes/%u
service imap-login {{
  chroot =
  inet_listener imap {{
    address = 127.0.0.1
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
service anvil {{
  chroot =
}}
service doveadm {{
  inet_listener http {{
    address = 127.0.0.1
    port = {sessions_port}
  }}
}}
doveadm_password = {secret}
passdb {{
  driver = passwd-file
  args = scheme=plain {folder}/logins
}}
userdb {{
  driver = static
  args = uid={user} gid={group} home={folder}/homes/%u
}}
namespace inbox {{
  inbox = yes
  separator = /
}}
namespace shared {{
  type = public
  separator = /
  prefix = {prefix}
  location = maildir:{folder}/shared:LAYOUT=fs
  subscriptions = no
  list = children
}}
{more}mail_plugins = acl
protocol imap {{
  mail_plugins = acl imap_acl
}}
plugin {{
  acl = vfile:{folder}/everywhere
  acl_anyone = allow
}}
"""


@dataclass
class MailboxServer(Server):
    """A Dovecot of our own. ``secret`` is the password of Open Latch's login and of the administration interface."""

    program = "dovecot"
    package = "dovecot-imapd"

    secret: str = ""
    sessions_port: int = 0
    more: tuple[str, ...] = ()
    """Prefixes of further shared namespaces."""
    signed_in: list[imaplib.IMAP4] = field(default_factory=list)

    def write(self) -> None:
        """Write its configuration, with the one entry that lets Open Latch's login read and change every list."""
        user = runner()
        for name in ("homes", "shared", "run", "state"):
            (self.folder / name).mkdir(exist_ok=True)
        (self.folder / "administration").mkdir(exist_ok=True)
        self.sessions_port = usual_port(self.folder / "administration")
        settings = _SETTINGS.format(
            folder=self.folder,
            user=user.pw_name,
            group=_group_of(user.pw_gid),
            port=self.port,
            prefix=PREFIX,
            sessions_port=self.sessions_port,
            secret=self.secret,
            more="".join(map(self._namespace, self.more)),
        )
        (self.folder / "dovecot.conf").write_text(settings)
        entries = [
            f"{prefix}{name} user={ADAPTER_LOGIN} {rights}"
            for prefix in (PREFIX, *self.more)
            for name, rights in (("*", "lrwstipekxa"), ("", "lk"))
        ]
        (self.folder / "everywhere").write_text("".join(f"{entry}\n".replace("/ user", " user") for entry in entries))
        (self.folder / "logins").touch()

    def _namespace(self, prefix: str) -> str:
        """The configuration of another shared namespace."""
        name = prefix.strip("/").lower()
        (self.folder / name).mkdir(exist_ok=True)
        return (
            f"namespace {name} {{\n  type = public\n  separator = /\n  prefix = {prefix}\n"
            f"  location = maildir:{self.folder}/{name}:LAYOUT=fs\n  subscriptions = no\n  list = children\n}}\n"
        )

    def arguments(self) -> Sequence[str]:
        """The command that runs it in the foreground with our configuration."""
        return ["-F", "-c", str(self.folder / "dovecot.conf")]

    def sign_in(self, logins: Sequence[str]) -> None:
        """Open sessions for these logins, until the server stops."""
        for login in logins:
            self.signed_in.append(imaplib.IMAP4("127.0.0.1", self.port))
            self.signed_in[-1].login(login, LOGIN_PASSWORD)

    def stop(self) -> None:
        """Close the open sessions, and stop the server."""
        while self.signed_in:
            self.signed_in.pop().shutdown()
        super().stop()

    def prepare(self, plan: JsonObject) -> None:
        """Create logins, shared mailboxes with their folders, and their access control lists."""
        logins = dict.fromkeys(plan["logins"], LOGIN_PASSWORD) | {ADAPTER_LOGIN: self.secret}
        (self.folder / "logins").write_text("".join(f"{name}:{word}\n" for name, word in logins.items()))
        with imaplib.IMAP4("127.0.0.1", self.port) as mail:
            mail.login(ADAPTER_LOGIN, self.secret)
            for box in plan["mailboxes"]:
                _expect(mail.create(f'"{PREFIX}{box}"'), box)
            for box in plan.get("elsewhere", ()):
                _expect(mail.create(f'"{box}"'), box)
            for box, who, rights in plan["lists"]:
                _expect(mail.setacl(f'"{PREFIX}{box}"', f'"{who}"', rights), f"{box} for {who}")
        (self.folder / "made").touch()


def _expect(answer: tuple[str, list[object]], what: str) -> None:
    if answer[0] != "OK":
        raise RuntimeError(f"{what}: {answer[1]}")


def _group_of(gid: int) -> str:
    return grp.getgrgid(gid).gr_name


def usual(server: MailboxServer) -> JsonObject:
    """The settings by which Open Latch connects to it."""
    return {
        "host": "127.0.0.1",
        "port": server.port,
        "tls": "none",
        "user": ADAPTER_LOGIN,
        "prefix": PREFIX,
        "sessions": f"http://127.0.0.1:{server.sessions_port}",
    }
