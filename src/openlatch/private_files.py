"""Files that only their owner reads: logs, mail, keys and configuration."""

from __future__ import annotations

import os
from pathlib import Path
from typing import BinaryIO


def private_folder(path: Path) -> Path:
    """A folder that nobody else looks into, made if it is not there."""
    path.mkdir(parents=True, exist_ok=True)
    path.chmod(0o700)
    return path


def write_new(path: Path, content: bytes) -> None:
    """Write a file that nobody else reads. FileExistsError for one that is there: nothing is overwritten."""
    number = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(number, "wb") as file:
        file.write(content)


def appended(path: Path) -> BinaryIO:
    """A file to append to, that nobody else reads: also one that others could read before."""
    number = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    os.fchmod(number, 0o600)
    return os.fdopen(number, "ab")
