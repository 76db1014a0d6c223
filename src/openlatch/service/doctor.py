"""Whether the register holds together: after a restore, an upgrade, or when something looks odd.

Nothing is changed. Each check says what it looked at, and what is wrong; *wrong* contradicts what the service promises,
and *late* is what should have been done by now.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import timedelta

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from sqlalchemy import func, select, text

from openlatch.core.journal import chain, tree_heads
from openlatch.core.vocabulary import GrantState
from openlatch.errors import ArchiveDown, OpenLatchError
from openlatch.service import connections, signing_keys
from openlatch.service.journal import archive, entries, signed_heads
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal, revisions
from openlatch.store.database import transaction
from openlatch.store.tables import (
    ArchiveErasure,
    Delivery,
    Grant,
    Organisation,
    Revocation,
    RevocationTarget,
    Step,
    System,
    Webhook,
)

# What is due for so long is late.
LATE = timedelta(hours=24)
MOST_NAMED = 5


@dataclass(frozen=True, slots=True)
class Check:
    """One check: where, of what, how much was looked at, and what was found."""

    organisation: str
    what: str
    looked_at: int
    wrong: list[str] = field(default_factory=list)
    late: list[str] = field(default_factory=list)


def examine(service: Service) -> Iterator[Check]:
    """Every check, of the database as a whole and of each organisation."""
    yield _schema(service)
    yield _token_keys(service)
    with transaction(service.engine, None) as db:
        organisations = db.execute(select(Organisation.id, Organisation.name).order_by(Organisation.name)).all()
    for ident, name in organisations:
        with service.unit(Viewer.itself(ident)) as unit:
            for check in CHECKS:
                yield check(unit, name)


def _schema(service: Service) -> Check:
    with transaction(service.engine, None) as db:
        wrong = revisions.unserved(*db.execute(text(revisions.STATE)).one())
    return Check("", "tables", 1, [wrong] if wrong else [])


def _token_keys(service: Service) -> Check:
    try:
        count = len(signing_keys.token_keys(service))
    except OpenLatchError as error:
        return Check("", "keys for tokens", 0, [error.detail])
    return Check("", "keys for tokens", count)


def _journal(unit: Unit, name: str) -> Check:
    """Every entry from the first, against the head, and against every signed tree head."""
    held = entries.every(unit.service, unit.db, unit.viewer.organisation)
    try:
        found = chain.verify(held, journal.head(unit.db), tree_heads.Watch(signed_heads.every(unit)))
    except ArchiveDown as error:
        return Check(name, "journal", 0, [error.detail])
    return Check(name, "journal", found.entries, [f"entry {one.position}: {one.what}" for one in found.faults])


_OVERLAPPING = """
    select kind, id::text, since from (
        select kind, id, since, until, lead(since) over (partition by kind, id order by since, until) as next
        from versions
    ) each where until < since or next < until
"""


def _versions(unit: Unit, name: str) -> Check:
    """Earlier versions of rows: each ends when the next begins, or before; what was at a time has one answer."""
    count = unit.db.scalar(text("select count(*) from versions")) or 0
    rows = unit.db.execute(text(_OVERLAPPING)).all()
    return Check(
        name, "earlier versions", count, [f"{kind} {ident} since {since}: overlaps" for kind, ident, since in rows]
    )


_WITHOUT_ROSTER = """
    select t.name from teams t where exists (select from memberships m where m.team_id = t.id)
    and not exists (select from rosters r where r.team_id = t.id)
"""


def _rosters(unit: Unit, name: str) -> Check:
    """Teams with members have a version of who they are, by which answers that are kept are told apart."""
    count = unit.db.scalar(text("select count(*) from rosters")) or 0
    return Check(name, "rosters", count, [f"{team} has none" for team in unit.db.scalars(text(_WITHOUT_ROSTER))])


def _revocations(unit: Unit, name: str) -> Check:
    """What is being revoked has a revocation that is not settled, and a settled one has no step to do."""
    count = unit.db.scalar(select(func.count(Revocation.id))) or 0
    going_on = (
        select(RevocationTarget.grant_id)
        .join(Revocation, Revocation.id == RevocationTarget.revocation_id)
        .where(Revocation.settled_at.is_(None), RevocationTarget.grant_id.is_not(None))
    )
    orphans = select(Grant.id).where(Grant.state == GrantState.REVOKING, Grant.id.not_in(going_on))
    wrong = [f"grant {ident} is being revoked, by no revocation that goes on" for ident in unit.db.scalars(orphans)]
    left = (
        select(Step.revocation_id)
        .join(Revocation, Revocation.id == Step.revocation_id)
        .where(Revocation.settled_at.is_not(None), Step.state.in_(("open", "waiting")))
        .distinct()
    )
    wrong += [f"revocation {ident} is settled, and has steps to do" for ident in unit.db.scalars(left)]
    due = (
        select(func.count(Step.id))
        .join(Revocation, Revocation.id == Step.revocation_id)
        .where(
            Revocation.settled_at.is_(None),
            Step.state.in_(("open", "waiting")),
            func.coalesce(Step.next_try_at, Step.created_at) < unit.now - LATE,
        )
    )
    waiting = unit.db.scalar(due) or 0
    late = [f"{waiting} {'step is' if waiting == 1 else 'steps are'} due since a day or longer"] if waiting else []
    return Check(name, "revocations", count, wrong, late)


def _systems(unit: Unit, name: str) -> Check:
    """The secret of each connected system opens with the key that there is; each was read in time."""
    rows = unit.db.execute(select(System.id, System.name, System.secret, System.read_at, System.paused_at)).all()
    cipher = connections.secrets_cipher(unit.service)
    wrong = [
        f"the secret of {row.name} does not open: the key is another" for row in rows if not _opens(cipher, row.secret)
    ]
    late = [
        f"{row.name} was last read {row.read_at:%Y-%m-%d %H:%M} UTC"
        for row in rows
        if row.secret is not None and row.paused_at is None and row.read_at and row.read_at < unit.now - LATE
    ]
    return Check(name, "systems", len(rows), wrong, late)


def _opens(cipher: Fernet | MultiFernet, secret: bytes | None) -> bool:
    try:
        if secret is not None:
            cipher.decrypt(secret)
    except InvalidToken:
        return False
    return True


def _deliveries(unit: Unit, name: str) -> Check:
    """What waits for receivers, and what was given up."""
    count = unit.db.scalar(select(func.count(Delivery.id))) or 0
    stuck = (
        select(Webhook.name, func.count(Delivery.id))
        .join(Delivery, Delivery.webhook_id == Webhook.id)
        .where(Webhook.paused_at.is_(None), Webhook.url != "", Delivery.state == "waiting")
        .where(Delivery.created_at < unit.now - LATE)
        .group_by(Webhook.name)
    )
    late = [f"{waiting} deliveries wait for {hook} since a day or longer" for hook, waiting in unit.db.execute(stuck)]
    return Check(name, "deliveries", count, [], late)


def _archive(unit: Unit, name: str) -> Check:
    """Each file of the archive is as it was written, and nobody is still to be erased in it."""
    found = archive.listed(unit).parts
    wrong = [part.fault for part in found if part.fault]
    waits = select(func.count(ArchiveErasure.id)).where(ArchiveErasure.asked_at < unit.now - LATE)
    count = unit.db.scalar(waits) or 0
    late = [f"people erased more than a day ago who are still in it: {count}"] if count else []
    return Check(name, "archive", len(found), wrong, late)


CHECKS: tuple[Callable[[Unit, str], Check], ...] = (
    *(_journal, _archive, _versions, _rosters, _revocations, _systems, _deliveries),
)
