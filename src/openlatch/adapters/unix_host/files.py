"""The files of a Unix host that say who gets in, taken apart and changed line by line.

A change keeps every other byte of a file as it was, replaces the file in one go, and leaves a copy of what was there.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import os
import re
import shutil
import stat
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from openlatch.errors import SystemRefused

COPIES = "var/backups/open-latch"
_KEY = re.compile(
    rb"(?:^|[ \t])(?P<kind>(?:ssh|ecdsa|sk)-[a-z0-9@.-]+)[ \t]+(?P<key>[A-Za-z0-9+/=]+)[ \t]*(?P<comment>.*)$"
)
LONGEST = 4_000_000
_OPTION = re.compile(r'([a-zA-Z0-9-]+)(?:="((?:[^"\\]|\\.)*)")?(?:,|$)')


@dataclass(frozen=True, slots=True)
class Key:
    """One line of authorized_keys (sshd(8), AUTHORIZED_KEYS FILE FORMAT)."""

    line: bytes
    fingerprint: str
    comment: str
    options: dict[str, str]

    def until(self, zone: ZoneInfo) -> datetime | None:
        """When it ends by itself, in UTC. Without a Z the time is the host's own. None where it says none."""
        digits = self.options.get("expiry-time", "").rstrip("Zz")
        try:
            at = datetime.strptime(digits.ljust(14, "0"), "%Y%m%d%H%M%S")
        except ValueError:
            # What is no time ends nothing by itself, as far as we can tell.
            return None
        return at.replace(tzinfo=UTC if digits != self.options["expiry-time"] else zone).astimezone(UTC)


def keys(content: bytes) -> Iterator[Key]:
    """The keys in an authorized_keys file; comments and lines that are no key are left alone."""
    for line in content.splitlines():
        stripped = line.strip()
        if not stripped or stripped.startswith(b"#"):
            continue
        match = _KEY.search(_without_quotes(stripped))
        if match is None:
            continue
        start, end = match.span("key")
        fingerprint = _fingerprint(stripped[start:end])
        if fingerprint is not None:
            options = _options(stripped[: match.start("kind")].decode("utf-8", "replace").strip())
            yield Key(line, fingerprint, match["comment"].decode("utf-8", "replace").strip(), options)


def _without_quotes(line: bytes) -> bytes:
    """The line with what stands in quotes blanked out, so that nothing in there is taken for a key."""
    return re.sub(rb'"(?:[^"\\]|\\.)*"', lambda m: b"_" * len(m[0]), line)


def _fingerprint(text: bytes) -> str | None:
    try:
        raw = base64.b64decode(text, validate=True)
    except binascii.Error:
        return None
    return "SHA256:" + base64.b64encode(hashlib.sha256(raw).digest()).decode().rstrip("=")


def _options(text: str) -> dict[str, str]:
    return {name.lower(): value.replace('\\"', '"') for name, value in _OPTION.findall(text)}


def without_key(content: bytes, fingerprint: str) -> bytes:
    """The file without the lines of one key, and every other byte as it was."""
    gone = {key.line for key in keys(content) if key.fingerprint == fingerprint}
    return b"".join(line for line in content.splitlines(keepends=True) if line.rstrip(b"\r\n") not in gone)


def passed_over(content: bytes) -> int:
    """How many lines are neither a comment nor a key: sshd passes them over, as ssh-keygen does."""
    lines = [line.strip() for line in content.splitlines()]
    told = sum(bool(line) and not line.startswith(b"#") for line in lines)
    return told - sum(1 for _ in keys(content))


def plain(path: Path) -> bytes:
    """What is in a plain file. SystemRefused for what is none or too long; OSError where it can't be read.

    A pipe is not waited for, and a device not read: whoever owns the folder could have put one there.
    """
    number = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        told = os.fstat(number)
        if not stat.S_ISREG(told.st_mode):
            raise SystemRefused(f"{path} is no plain file.", "Put a plain file there.")
        if told.st_size > LONGEST:
            raise SystemRefused(f"{path} is longer than {LONGEST} bytes.", "Look at what is in it.")
        with os.fdopen(number, "rb", closefd=False) as file:
            return file.read(LONGEST)
    finally:
        os.close(number)


def rewrite(
    root: Path, path: Path, change: Callable[[bytes], bytes], check: Callable[[Path], None] | None = None
) -> bool:
    """Change a file in one go, with its owner and mode kept and a copy put by; gives whether anything changed.

    The copy is named after its content, so that doing it again makes no other. SystemRefused when the file leads out
    of the root, or may not be written, or when ``check`` refuses the file that would take its place.
    """
    # Whoever owns the folder could have the service write elsewhere.
    if path.is_symlink() or not path.resolve().is_relative_to(root.resolve()):
        raise SystemRefused(f"{path} is a link, or leads out of {root}.", "Put a plain file there.")
    try:
        before = path.read_bytes()
        after = change(before)
        if after == before:
            return False
        copy = root / COPIES / f"{'_'.join(path.relative_to(root).parts)}.{hashlib.sha256(before).hexdigest()[:16]}"
        copy.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        shutil.copy2(path, copy)
        known = path.stat()
        with tempfile.NamedTemporaryFile(dir=path.parent, prefix=".open-latch-", delete=False) as file:
            try:
                file.write(after)
                os.fchmod(file.fileno(), known.st_mode & 0o7777)
                if os.geteuid() == 0:
                    os.fchown(file.fileno(), known.st_uid, known.st_gid)
                file.flush()
                os.fsync(file.fileno())
                if check is not None:
                    check(Path(file.name))
                Path(file.name).replace(path)
            except BaseException:
                Path(file.name).unlink(missing_ok=True)
                raise
    except OSError as error:
        raise SystemRefused(f"{path} could not be changed: {error.strerror}.", "Give the right to write it.") from error
    return True
