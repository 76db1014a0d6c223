"""The files of a Unix host that decide who has access: parsing them, and changing them line by line.

A change keeps every other byte, replaces the file atomically, and keeps a copy of the old one.
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
        """When it expires, in UTC. Without a Z the time is the host's local time. None if it does not expire."""
        digits = self.options.get("expiry-time", "").rstrip("Zz")
        try:
            at = datetime.strptime(digits.ljust(14, "0"), "%Y%m%d%H%M%S")
        except ValueError:
            # An invalid time does not expire, as far as we can tell.
            return None
        return at.replace(tzinfo=UTC if digits != self.options["expiry-time"] else zone).astimezone(UTC)


def keys(content: bytes) -> Iterator[Key]:
    """The keys in an authorized_keys file; comments and lines without a key are skipped."""
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
    """The line with quoted text blanked out, so that nothing in it is taken for a key."""
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
    """How many lines are neither a comment nor a key: sshd skips them, as does ssh-keygen."""
    lines = [line.strip() for line in content.splitlines()]
    told = sum(bool(line) and not line.startswith(b"#") for line in lines)
    return told - sum(1 for _ in keys(content))


def plain(path: Path) -> bytes:
    """The content of a regular file. SystemRefused for anything else or if too long; OSError if it can't be read.

    Pipes and devices are refused: the folder's owner could have put one there.
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
    """Replace a file atomically, keeping its owner, its mode and a copy; returns whether anything changed.

    The copy is named after its content, so that repeating the change makes no other. SystemRefused if the path leaves
    the root, if the file may not be written, or if ``check`` refuses the new content.
    """
    # The folder's owner could otherwise make the service write elsewhere.
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
