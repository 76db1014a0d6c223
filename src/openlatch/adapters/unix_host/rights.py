"""What the service could not change on a host, and what it would need: see capabilities(7) and proc(5)."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

# The bits of the capabilities that matter, by their numbers in linux/capability.h.
CHOWN, DAC_OVERRIDE, FOWNER, KILL = 0, 1, 3, 5


def capabilities() -> int:
    """The effective capabilities of this process, bit by bit."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next((int(line.split()[1], 16) for line in lines if line.startswith("CapEff:")), 0)


def unable(
    folders: Iterable[Path],
    with_keys: Iterable[Path],
    found: Callable[[str], str | None] = shutil.which,
    held: int | None = None,
    own: int | None = None,
) -> Iterator[str]:
    """In words: rules, lists, keys and sessions that could not be changed. ``held`` and ``own`` are this process's."""
    held = capabilities() if held is None else held
    own = os.geteuid() if own is None else own
    if found("visudo") is None:
        yield "sudo rules: install Debian's package sudo"
    folders = list(folders)
    if found("setfacl") is None and folders:
        yield "lists of folders: install Debian's package acl"
    if not held >> FOWNER & 1:
        others = [str(folder) for folder in folders if folder.exists() and folder.stat().st_uid != own]
        if others:
            yield f"lists of {', '.join(others)}: give the service CAP_FOWNER"
    keys = [path for path in with_keys if path.exists() and path.stat().st_uid != own]
    if keys and not held >> DAC_OVERRIDE & 1:
        more = f" and {len(keys) - 1} more files" if len(keys) > 1 else ""
        yield f"keys in {keys[0]}{more}: give the service CAP_DAC_OVERRIDE"
    if keys and not held >> CHOWN & 1:
        yield "keys of others (a file that is replaced keeps its owner): give the service CAP_CHOWN"
    if own and not held >> KILL & 1:
        yield "sessions of others: give the service CAP_KILL"
