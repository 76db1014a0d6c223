"""Putting Open Latch into its own register, with a review of who is in it every quarter."""

from __future__ import annotations

from sqlalchemy import select

from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Role, Subject
from openlatch.service.connections import secrets_cipher
from openlatch.service.itself.adapter import KIND
from openlatch.service.itself.inventory import ACCOUNT
from openlatch.service.reviews import plans, schedules
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Account, Organisation, Person, SignIn, System

# The account, and the system that it is in.
NAME, SYSTEM = "Open Latch", "Open Latch itself"
REVIEW = "Who is in Open Latch"


def ensure(service: Service, viewer: Viewer) -> None:
    """Make the system, its account and the schedule of its review, unless the organisation has it already.

    The account belongs to whoever administers the organisation for longest; nobody is offered access on it, since
    people are invited to sign in instead. By the worker, which has the key for what stands in place of a secret.
    """
    with service.unit(viewer) as unit:
        # Two workers at the same time: the second waits here, and finds it made.
        organisation = unit.db.get_one(Organisation, viewer.organisation, with_for_update={"key_share": True})
        if unit.db.scalar(select(System.id).where(System.kind == KIND).limit(1)) is not None:
            return
        owner = unit.db.scalars(
            select(SignIn.person_id)
            .join(Person, Person.id == SignIn.person_id)
            .where(SignIn.role == Role.ADMINISTRATOR, SignIn.suspended_at.is_(None))
            .order_by(SignIn.created_at, SignIn.id)
        ).first()
        if owner is None:
            return
        secret = secrets_cipher(service).encrypt(b"")
        system = System(organisation_id=organisation.id, key=KIND, name=SYSTEM, kind=KIND, secret=secret)
        unit.db.add(system)
        unit.db.flush()
        account = Account(
            organisation_id=organisation.id,
            name=NAME,
            system_id=system.id,
            kind="register",
            sensitivity=4,
            owner_id=owner,
            time_zone=organisation.time_zone,
            purpose="The register of access itself: who signs in, and what programs reach it",
            handle=ACCOUNT,
            is_closed=True,
        )
        unit.db.add(account)
        unit.db.flush()
        unit.record("system.connected", "system", system.id, SYSTEM, settings={})
        _schedule(unit, account)
        unit.wake("read_system", system=system.id)


def _schedule(unit: Unit, account: Account) -> None:
    review = plans.Review(
        REVIEW,
        f'account.id eq "{account.id}"',
        (Subject.GRANT, Subject.LINK, Subject.SESSION),
        14,
        (Place(Line.OWNER),),
        reminders=(7, 1),
    )
    local = unit.now.astimezone(unit.zone).replace(hour=9, minute=0, second=0, microsecond=0, tzinfo=None)
    starts = local.replace(day=min(local.day, 28))
    schedules.keep(unit, schedules.Plan(review, "quarter", starts))
