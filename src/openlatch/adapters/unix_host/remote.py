"""Unix hosts elsewhere, through OpenSSH: the host's own program answers there, and the key can do nothing else.

Open Latch signs in with a key of its own, or with a certificate for it; the host proves who it is by the key that the
settings name, or by the certificate authority that signs for hosts. See ssh_config(5).
"""

from __future__ import annotations

import json
import re
import subprocess
import textwrap
import threading
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import cast

from openlatch.adapters.contract import NOTHING, Abilities, Adapter, Found, Setting
from openlatch.adapters.limits import CALL_SECONDS, CONNECT_SECONDS, MOST_BYTES, READING_SECONDS
from openlatch.adapters.unix_host import wire
from openlatch.adapters.unix_host.adapter import HostAdapter
from openlatch.adapters.unix_host.agent import SETTINGS, VERSION
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import StepKind
from openlatch.errors import SystemDown, SystemRefused
from openlatch.json_values import JsonObject, parsed

_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._-]*")
_ADDRESS = re.compile(r"[A-Za-z0-9][A-Za-z0-9.:-]*")
_KEY = re.compile(r"(@cert-authority )?(?:ssh|ecdsa|sk)-[a-z0-9@.-]+ [A-Za-z0-9+/=]+(?: .*)?")
_PRIVATE = re.compile(r"(-----BEGIN [A-Z ]*PRIVATE KEY-----)(.+)(-----END [A-Z ]*PRIVATE KEY-----)", re.DOTALL)
# What ssh says when the other side is somebody else, or lets us in no more.
_REFUSED = re.compile(
    r"verification failed|Permission denied|no matching host key|Too many authentication", re.IGNORECASE
)


class RemoteHostAdapter(Adapter):
    """Reads and changes one host through SSH. Its secret is the private key."""

    settings_taken = (
        Setting("address", "The host's name or address."),
        Setting("port", "The port of its SSH server.", 22),
        Setting("user", "Open Latch's login there.", "open-latch"),
        Setting(
            "host_key",
            "The host's public key, as ssh-keyscan shows it without the name (ssh-ed25519 AAAA…); or @cert-authority "
            "and the key of the authority that signs for hosts.",
        ),
        Setting("certificate", "The certificate for the key, where the host trusts an authority and not the key.", ""),
        *(setting for setting in HostAdapter.settings_taken if setting.name != "root"),
    )
    can = Abilities(
        steps=HostAdapter.can.steps,
        rights=(
            "a login there whose key has the program of Open Latch run, and nothing else: "
            'command="/usr/local/sbin/open-latch-host",restrict',
            *HostAdapter.can.rights,
        ),
        sessions=True,
        secret=True,
        rules=HostAdapter.can.rules,
    )

    def __init__(self, settings: JsonObject, secret: str) -> None:
        self._settings = settings
        self._secret = secret
        self._told = {name: settings[name] for name in SETTINGS if settings.get(name)}
        # What is worked out without the host: plans, levels, and what a handle means.
        self._plain = HostAdapter({**self._told, "root": "/"}, "")
        self._is_together = False
        self._kept: ExitStack | None = None
        self._process: subprocess.Popen[bytes] | None = None

    def check(self) -> None:
        """Sign in, and have the program there check what it needs."""
        self._ask({"call": "check"})

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """What the program there finds, line by line."""
        with self._answer({"call": "read"}, READING_SECONDS) as lines:
            for line in lines:
                if "found" in line:
                    yield _read(line["found"])

    def can_reduce(self, level: str, lower: str) -> bool:
        """As on this host."""
        return self._plain.can_reduce(level, lower)

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """As on this host: SystemRefused."""
        return self._plain.holding(account, login, level)

    def again(self, handle: JsonObject) -> JsonObject | None:
        """As on this host."""
        return self._plain.again(handle)

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """As on this host."""
        return self._plain.plan(kind, detail)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """By the program there."""
        return str(self._ask({"call": "apply", "kind": kind.value, "detail": detail}))

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """By the program there, from its files and processes as they are now."""
        found = self._ask({"call": "confirm", "kind": kind.value, "detail": detail})
        return None if found is None else str(found)

    def _ask(self, request: JsonObject) -> object:
        with self._answer(request, CALL_SECONDS) as lines:
            for line in lines:
                if "done" in line:
                    return line["done"]
        raise SystemDown("The program on the host ended without an answer.", "It will be tried again.")

    @contextmanager
    def together(self) -> Iterator[None]:
        """One connection for all calls, as long as it lasts."""
        self._is_together = True
        try:
            yield
        finally:
            self._is_together = False
            self._let_go()

    def _let_go(self) -> None:
        kept, self._kept = self._kept, None
        if kept is not None:
            kept.close()

    @contextmanager
    def _answer(self, request: JsonObject, seconds: float) -> Iterator[Iterator[JsonObject]]:
        """The lines of an answer. SystemDown when the host does not answer in time, or breaks off."""
        line = json.dumps({"version": VERSION, "settings": self._told, **request}).encode() + b"\n"
        if self._kept is None:
            self._kept = ExitStack()
            self._process = self._kept.enter_context(self._running())
        process = self._process
        assert process is not None
        timer = threading.Timer(seconds, process.kill)
        timer.daemon = True
        timer.start()
        try:
            assert process.stdin is not None
            # One that has ended says why on its other side.
            with suppress(BrokenPipeError):
                process.stdin.write(line)
                process.stdin.flush()
            yield self._lines(process)
        except BaseException:
            # What is left of the answer would be taken for the next one.
            self._let_go()
            raise
        finally:
            timer.cancel()
            if not self._is_together:
                self._let_go()

    def _lines(self, process: subprocess.Popen[bytes]) -> Iterator[JsonObject]:
        assert process.stdout is not None
        size = 0
        for written in process.stdout:
            size += len(written)
            if size > MOST_BYTES:
                raise SystemDown("The host's answer is too long.", "Look at what is in its files.")
            line = _json(written)
            if "refused" in line:
                raise SystemRefused(str(line["refused"]), str(line.get("remedy", "")))
            if "down" in line:
                raise SystemDown(str(line["down"]), str(line.get("remedy", "")))
            yield line
            if "done" in line:
                return
        self._raise(process)

    def _raise(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stderr is not None
        said = process.stderr.read(10_000).decode("utf-8", "replace").strip().splitlines()
        process.wait(CONNECT_SECONDS)
        words = said[-1] if said else f"ssh ended with {process.returncode}"
        where = f"{self._settings['user']}@{self._settings['address']}"
        if _REFUSED.search("\n".join(said)):
            raise SystemRefused(
                f"The host does not let {where} in, or is another one: {words}",
                "Look at the key, the certificate and its end, authorized_keys there, and host_key.",
            )
        raise SystemDown(f"{where} did not answer: {words}", "It will be tried again; look whether sshd runs there.")

    @contextmanager
    def _running(self) -> Iterator[subprocess.Popen[bytes]]:
        with TemporaryDirectory(prefix="open-latch-ssh-") as folder:
            yield from self._run(self._command(Path(folder)))

    def _run(self, command: list[str]) -> Iterator[subprocess.Popen[bytes]]:
        try:
            process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True
            )
        except FileNotFoundError as error:
            raise SystemRefused("ssh is not installed.", "Install Debian's package openssh-client.") from error
        try:
            yield process
        finally:
            process.kill()
            process.wait()
            for stream in (process.stdin, process.stdout, process.stderr):
                # What was still to be written to one that has ended goes nowhere.
                with suppress(BrokenPipeError):
                    if stream is not None:
                        stream.close()

    def _command(self, folder: Path) -> list[str]:
        """The ssh command, with its files in a folder of its own. SystemRefused for settings that can't be meant."""
        address, user = str(self._settings["address"]), str(self._settings.get("user") or "open-latch")
        host_key, port = str(self._settings["host_key"]).strip(), int(self._settings.get("port") or 22)
        for value, form, name in ((address, _ADDRESS, "address"), (user, _NAME, "user"), (host_key, _KEY, "host_key")):
            if not form.fullmatch(value):
                raise SystemRefused(f"{value[:100]!r} can't be used as {name}.", "Look at the settings of the system.")
        marker = "@cert-authority " if host_key.startswith("@cert-authority ") else ""
        key = host_key.removeprefix(marker)
        named = f"[{address}]:{port}" if port != 22 else address
        (folder / "known_hosts").write_text(f"{marker}{named} {key}\n")
        (folder / "key").touch(mode=0o600)
        (folder / "key").write_text(_private_key(self._secret))
        options = {
            "BatchMode": "yes",
            "StrictHostKeyChecking": "yes",
            "UserKnownHostsFile": folder / "known_hosts",
            "GlobalKnownHostsFile": "none",
            "UpdateHostKeys": "no",
            "IdentitiesOnly": "yes",
            "IdentityFile": folder / "key",
            "IdentityAgent": "none",
            "PreferredAuthentications": "publickey",
            "PasswordAuthentication": "no",
            "ControlMaster": "no",
            "ControlPath": "none",
            "ForwardAgent": "no",
            "ForwardX11": "no",
            "ClearAllForwardings": "yes",
            "PermitLocalCommand": "no",
            "ConnectTimeout": CONNECT_SECONDS,
            "ServerAliveInterval": CONNECT_SECONDS,
            "ServerAliveCountMax": 3,
            "LogLevel": "ERROR",
        }
        if self._settings.get("certificate"):
            (folder / "certificate").write_text(str(self._settings["certificate"]).strip() + "\n")
            options["CertificateFile"] = folder / "certificate"
        # Nothing of the machine's own configuration is used.
        given = [part for name, value in options.items() for part in ("-o", f"{name}={value}")]
        return ["ssh", "-F", "none", "-T", *given, "-p", str(port), "-l", user, "--", address, "open-latch-host"]


def _private_key(secret: str) -> str:
    """The private key as ssh reads it, also where a field of one line has taken its line ends out.

    SystemRefused for what is none.
    """
    parts = _PRIVATE.fullmatch(secret.strip())
    if parts is None:
        raise SystemRefused("The secret is no private key.", "Give it as ssh-keygen writes it, without a passphrase.")
    begin, body, end = parts.groups()
    return "\n".join([begin, *textwrap.wrap("".join(body.split()), 70), end, ""])


def _json(written: bytes) -> JsonObject:
    try:
        line = parsed(written)
    except ValueError:
        line = None
    if not isinstance(line, dict):
        raise SystemRefused(
            f"The host answers otherwise than its program does: {written[:100]!r}.",
            'Look at command="…" in authorized_keys there, and at what its shell writes when somebody signs in.',
        )
    return line


def _read(told: JsonObject) -> Found:
    try:
        return cast(Found, wire.read(told))
    except (KeyError, TypeError, ValueError) as error:
        raise SystemRefused(
            f"The program on the host tells something that is not understood: {error}.", "Install that of this version."
        ) from error
