"""The routes to several services, each with a database of its own: which organisation is at which of them.

It is a file with a line for each organisation, as a proxy takes it for a map: its short name as a path, and the
address of its service.
"""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from sqlalchemy import select

from openlatch.errors import BadInput, Conflict
from openlatch.service.unit import Service
from openlatch.store.database import transaction
from openlatch.store.tables import Organisation

_NAME = re.compile(r"[a-z0-9-]+")
_LINE = re.compile(r"/([a-z0-9-]+) (\S+);")


def enter(service: Service, path: Path) -> int:
    """Put the organisations of this service into a file of routes, in place of those it had there; returns how many.

    Conflict, with nothing written, when one of them is at another service; BadInput for a file that has no routes.
    """
    try:
        return _enter(service, path)
    except OSError as error:
        raise BadInput(f"{path} can't be read or written: {error.strerror}.", "Look at its folder.") from error


def _enter(service: Service, path: Path) -> int:
    with transaction(service.engine, None) as db:
        here = sorted(db.scalars(select(Organisation.slug)))
    known = _read(path)
    for slug in here:
        if not _NAME.fullmatch(slug):
            raise BadInput(f"The short name {slug!r} can't be part of an address.", "Letters, digits and hyphens can.")
        if known.get(slug, service.address) != service.address:
            raise Conflict(
                f"{slug} is at {known[slug]} already.",
                "Give one of the two another short name, or take its line out of the file if it is gone there.",
            )
    others = {slug: address for slug, address in known.items() if address != service.address}
    _write(path, {**others, **dict.fromkeys(here, service.address)})
    return len(here)


def _read(path: Path) -> dict[str, str]:
    if not path.exists():
        return {}
    known = {}
    for number, line in enumerate(path.read_text(errors="replace").splitlines(), 1):
        found = _LINE.fullmatch(line.strip())
        if found is None:
            raise BadInput(f"Line {number} of {path} is no route.", "Each is: /SHORT-NAME ADDRESS;")
        known[found[1]] = found[2]
    return known


def _write(path: Path, known: dict[str, str]) -> None:
    lines = "".join(f"/{slug} {address};\n" for slug, address in sorted(known.items()))
    with tempfile.NamedTemporaryFile("w", dir=path.parent, prefix=f".{path.name}.", delete=False) as file:
        file.write(lines)
    made = Path(file.name)
    made.chmod(0o644)
    made.rename(path)
