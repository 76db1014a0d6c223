"""Which tables this program has, and which programs the tables of a database serve.

Two versions of the program can use one database at the same time, so that it can be upgraded without a stop: migrations
only add. One that takes something away, or demands more, names the oldest program that can do with it (``needs``), and
is made only when no older one is connected.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

# By this name connections say which program they are of.
PROGRAM = "openlatch"
OLDEST = "The oldest program that these tables serve: "
# Anybody may read it, and it is there in every version of the tables.
STATE = "select version_num, obj_description('alembic_version'::regclass) from alembic_version"
_VERSIONS = Path(__file__).parent / "migrations" / "versions"


def newest() -> str:
    """The revision that this program's tables have."""
    return max(path.name[:4] for path in _VERSIONS.glob("[0-9]*.py"))


NAME = f"{PROGRAM} {newest()}"


def named(given: str) -> str:
    """What a connection says that it is, with what its address gives as a name."""
    return f"{NAME} {given}".strip()[:63]


def programs(names: Iterable[str]) -> list[str]:
    """The revisions of programs that connections are of, the oldest first."""
    found = (re.match(rf"{PROGRAM} (\d{{4}})\b", name) for name in names)
    return sorted(match[1] for match in found if match)


def unserved(revision: str, comment: str | None) -> str:
    """Why tables of a revision can't serve this program; empty when they can."""
    if revision < newest():
        return f"The database is at revision {revision}, this program needs {newest()}."
    if oldest(comment) > newest():
        return f"The database needs programs from {oldest(comment)} on; this one is from {newest()}."
    return ""


def oldest(comment: str | None) -> str:
    """The revision of the oldest program that tables serve, by their comment; empty when they serve any."""
    return (comment or "").removeprefix(OLDEST)
