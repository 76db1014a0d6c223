"""Signing in by certificates: the authorities that sshd trusts for everybody, and the principals that each login takes.

See sshd_config(5): TrustedUserCAKeys, AuthorizedPrincipalsFile. Without a file of principals a certificate lets in
whoever it names by the name of the login.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

_OPTION = re.compile(rb'([a-zA-Z0-9-]+)(?:="((?:[^"\\]|\\.)*)")?(?:,|$)')


@dataclass(frozen=True, slots=True)
class Principal:
    """A line of a file of principals: the name that a certificate has to have, and the command that is then run."""

    line: bytes
    name: str
    command: str


def principals(content: bytes) -> Iterator[Principal]:
    """The names in a file of principals; comments and empty lines are skipped."""
    for line in content.splitlines():
        stripped = line.strip()
        if not stripped or stripped.startswith(b"#"):
            continue
        # The name comes last; what options quote may have blanks.
        options, _, name = stripped.rpartition(b" ")
        told = {key.lower(): value for key, value in _OPTION.findall(options.strip())}
        command = told.get(b"command", b"").replace(b'\\"', b'"')
        yield Principal(line, name.decode("utf-8", "replace"), command.decode("utf-8", "replace"))


def without_principal(content: bytes, name: str) -> bytes:
    """The file without the lines of one name, and every other byte as it was."""
    gone = {one.line for one in principals(content) if one.name == name}
    return b"".join(line for line in content.splitlines(keepends=True) if line.rstrip(b"\r\n") not in gone)
