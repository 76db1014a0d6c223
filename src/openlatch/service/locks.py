"""The lock order, so that nobody waits in a circle.

Locks are taken in this order, and never one that comes before one already held:

1. **Leases** (``lease_on_grants``, ``store.database.alone``): one process carries out a revocation, reads a system,
signs a tree head, or changes what a grant gives in its system. A lease is a session-level advisory lock on a connection
of its own. It is held during calls to systems, so nobody ever waits for it: whoever does not get it comes back later.

2. **The archive lock** (``archive``): one transaction at a time in an organisation moves records into the archive,
writes its files anew, or erases somebody.

3. **The access lock** (``access``): one transaction at a time in an organisation may change who can do what. Latches
are checked under it against committed data, so no two changes together break what each alone keeps. It is taken before
any row lock and held to the end of the transaction, during which nothing outside is called.

4. **Rows**: rounds, items, revocations, offers, requests, accounts, then grants; those of one kind in the order of
their ids.

5. **Exposures of an account** (``exposures``): one transaction at a time evaluates them, accounts in the order of their
ids. Of two at once, the second finds what the first stored.

6. **The head of the journal**, as the transaction commits.

A preview takes no access lock, since it is rolled back. Remaining deadlocks (foreign keys, unique indexes) are detected
by the database, raised as ``Collision``, and retried where the use case was called (``api.routing``, ``worker.tasks``).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from uuid import UUID

from sqlalchemy import text

from openlatch.service.unit import Service, Unit
from openlatch.store.database import leases

# How long a transaction waits for the access lock before ``Collision``.
LONGEST_WAIT = "30s"
_TAKE = text(
    "select set_config('lock_timeout', :wait, true), "
    "pg_advisory_xact_lock(hashtextextended('access of ' || cast(:organisation as text), 0))"
)


def access(unit: Unit) -> None:
    """Wait until nobody else changes who can do what in the organisation; held until the transaction ends.

    Collision when somebody holds it longer than ``LONGEST_WAIT``. Reentrant.
    """
    if unit.trying or unit.db.info.get("access_locked"):
        return
    unit.db.execute(_TAKE, {"wait": LONGEST_WAIT, "organisation": str(unit.viewer.organisation)})
    unit.db.info["access_locked"] = True


def archive(unit: Unit) -> None:
    """Wait until nobody else moves records into the archive, or erases; held until the transaction ends."""
    if not unit.trying:
        unit.db.execute(
            text("select pg_advisory_xact_lock(hashtextextended('archive of ' || cast(:organisation as text), 0))"),
            {"organisation": str(unit.viewer.organisation)},
        )


def exposures(unit: Unit, account: UUID) -> None:
    """Wait until nobody else evaluates the exposures of an account; held until the transaction ends."""
    unit.db.execute(
        text("select pg_advisory_xact_lock(hashtextextended('exposures of ' || cast(:account as text), 0))"),
        {"account": str(account)},
    )


def grant_lease(grant: UUID) -> str:
    """The name of the lease on what a grant gives in its system, shared by giving and taking away."""
    return f"provision {grant}"


@contextmanager
def lease_on_grants(service: Service, grants: Iterable[UUID]) -> Iterator[frozenset[UUID]]:
    """Lease those of these grants that nobody else is changing in their systems; yields their ids."""
    by_name = {grant_lease(grant): grant for grant in grants}
    with leases(service.engine, list(by_name)) as taken:
        yield frozenset(by_name[name] for name in taken)
