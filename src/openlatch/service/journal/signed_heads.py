"""Signing tree heads over the journal, and keeping them where the database's owner can't change them.

The worker signs a head when enough is new. It goes to a file outside the database, by mail to auditors, into every
evidence bundle, and to a time-stamping authority (RFC 3161) if one is configured. Nothing outside is called during a
transaction.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path

import orjson
from sqlalchemy import select
from structlog import get_logger

from openlatch import schemas
from openlatch.core.journal import tree_heads as core
from openlatch.core.journal.merkle_tree import Tree, inclusion_proof
from openlatch.errors import OpenLatchError
from openlatch.json_values import JsonObject
from openlatch.service import signing_keys
from openlatch.service.journal import entries
from openlatch.service.journal.timestamps import stamp
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.database import alone
from openlatch.store.tables import JournalEntry, Organisation, TreeHead

SIGNED_EVERY = timedelta(hours=1)
# With so many new entries a head is signed before the hour is over.
SIGNED_AFTER = 1_000
MAILED_EVERY = timedelta(days=1)
_BYTES = 32
log = get_logger()


def last(unit: Unit) -> TreeHead | None:
    """The newest head."""
    return unit.db.scalars(select(TreeHead).order_by(TreeHead.size.desc()).limit(1)).first()


def every(unit: Unit) -> list[core.Head]:
    """All signed heads of the organisation, oldest first."""
    return [core.parse(head) for head in unit.db.scalars(select(TreeHead.head).order_by(TreeHead.size))]


def listed(unit: Unit) -> list[schemas.TreeHead]:
    """All heads for download, oldest first. For administrators."""
    unit.sight.require_administrator()
    return list(unit.db.scalars(select(TreeHead.head).order_by(TreeHead.size)))


def sign(unit: Unit) -> TreeHead:
    """Sign a head over the whole journal; returns the last one if nothing is new."""
    position, last_hash = journal.head(unit.db)
    before = last(unit)
    if before is not None and before.size >= position:
        return before
    tree = Tree(before.size, split(before.peaks)) if before is not None else Tree()
    wanted = select(JournalEntry.hash).where(JournalEntry.position > tree.size, JournalEntry.position <= position)
    fresh: list[bytes] = []
    for entry_hash in unit.db.scalars(wanted.order_by(JournalEntry.position).execution_options(yield_per=5_000)):
        tree.append(entry_hash)
        fresh.append(entry_hash)
    key = signing_keys.key(unit.service, signing_keys.EVIDENCE)
    public = signing_keys.public(unit.service, signing_keys.EVIDENCE)["x"]
    at = journal.stamp(unit.now)
    head = core.sign(key, public, str(unit.viewer.organisation), tree, last_hash, at)
    row = TreeHead(
        organisation_id=unit.viewer.organisation,
        size=tree.size,
        peaks=b"".join(tree.peaks),
        hashes=b"".join(fresh),
        head=head,
        signed_at=unit.now,
    )
    unit.db.add(row)
    unit.db.flush()
    return row


def split(hashes: bytes) -> tuple[bytes, ...]:
    """The hashes of a list of them, as it is stored."""
    return tuple(hashes[at : at + _BYTES] for at in range(0, len(hashes), _BYTES))


def _is_due(unit: Unit) -> bool:
    if not unit.service.evidence_seed:
        return False
    position, _ = journal.head(unit.db)
    before = last(unit)
    fresh = position - (before.size if before is not None else 0)
    return fresh > 0 and (before is None or fresh >= SIGNED_AFTER or before.signed_at <= unit.now - SIGNED_EVERY)


def keep(service: Service, viewer: Viewer) -> None:
    """Sign a head when one is due, and deliver what is not yet in the file, mailed and time-stamped."""
    with alone(service.engine, f"tree head {viewer.organisation}") as only_us:
        if not only_us:
            return
        with service.unit(viewer) as unit:
            if _is_due(unit):
                sign(unit)
        _file(service, viewer)
        _time_stamp(service, viewer)
        with service.unit(viewer) as unit:
            _mail(unit)


def _file(service: Service, viewer: Viewer) -> None:
    """Append heads to the file outside the database, with the hashes of their entries."""
    path = service.tree_heads_file
    if path is None:
        return
    with service.unit(viewer) as unit:
        waiting = select(TreeHead).where(TreeHead.filed_at.is_(None)).order_by(TreeHead.size)
        rows = unit.db.scalars(waiting).all()
        if not rows:
            return
        try:
            _append(path, [{**row.head, "hashes": [h.hex() for h in split(row.hashes or b"")]} for row in rows])
        except OSError as error:
            # They stay pending, without delaying anything else.
            log.error("tree_head.not_filed", file=str(path), detail=str(error))
            return
        for row in rows:
            row.filed_at, row.hashes = unit.now, None


def _append(path: Path, heads: Sequence[dict[str, object]]) -> None:
    # A head written twice after a crash is harmless.
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    with os.fdopen(descriptor, "ab") as file:
        file.write(b"".join(orjson.dumps(head) + b"\n" for head in heads))
        file.flush()
        os.fsync(file.fileno())


def _time_stamp(service: Service, viewer: Viewer) -> None:
    """Have the newest head time-stamped, if an authority is configured. An unreachable one is asked again later."""
    if not service.timestamp_authority:
        return
    with service.unit(viewer) as unit:
        row = last(unit)
        if row is None or row.stamp is not None:
            return
        ident, message = row.id, orjson.dumps(row.head, option=orjson.OPT_SORT_KEYS)
    try:
        token = stamp(service.timestamp_authority, message)
    except OpenLatchError as error:
        log.warning("tree_head.not_stamped", detail=error.detail)
        return
    with service.unit(viewer) as unit:
        unit.db.get_one(TreeHead, ident).stamp = token


def auditors(unit: Unit) -> list[str]:
    """The addresses to which heads are mailed."""
    settings = unit.db.get_one(Organisation, unit.viewer.organisation).settings
    return list(settings.get("auditors", []))


def _mail(unit: Unit) -> None:
    row = last(unit)
    recipients = auditors(unit)
    if row is None or row.mailed_at is not None or not recipients:
        return
    mailed = select(TreeHead.mailed_at).where(TreeHead.mailed_at.is_not(None)).order_by(TreeHead.size.desc()).limit(1)
    before = unit.db.scalar(mailed)
    if before is not None and before > unit.now - MAILED_EVERY:
        return
    name = unit.db.get_one(Organisation, unit.viewer.organisation).name
    letter = notices.Letter(
        f"Journal of {name}: {row.size} entries",
        (
            f"This signed tree head vouches for the first {row.size} entries of the journal of {name}. Keep this mail: "
            "with it anybody can find out later whether one of them was changed, removed or reordered.",
            orjson.dumps(row.head).decode(),
            "Save the line above as a file, take the journal away, and run: openlatch journal verify --head FILE",
        ),
    )
    for address in recipients:
        notices.write(unit, address, letter)
    row.mailed_at = unit.now


def proof_for(unit: Unit, position: int) -> JsonObject:
    """The newest head that covers an entry, with the inclusion proof."""
    row = unit.db.scalars(select(TreeHead).where(TreeHead.size >= position).order_by(TreeHead.size).limit(1)).first()
    row = row or sign(unit)
    hashes = list(entries.hashes(unit.service, unit.db, row.size))
    return {
        "head": row.head,
        "position": position,
        "inclusion": [one.hex() for one in inclusion_proof(position - 1, hashes)],
        "time_stamp": row.stamp.hex() if row.stamp is not None else None,
    }
