"""Access that has ended in the demo, with each proof: confirmed, stated, unproved, contradicted."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

import psycopg
from psycopg import sql
from sqlalchemy import select

from openlatch.core.vocabulary import GrantState, Proof
from openlatch.service import connections
from openlatch.service.changes import changes
from openlatch.service.exposure import guard_changes, system_guards
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.revocations import execute, prepare, revoke, steps
from openlatch.service.systems import readings, tell_guards
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import AccessRule, Account, Exposure, Grant, Handle, Resource, Session, Step, System
from openlatch.test_systems import calendars

# A membership that is removed and stays removed, and one that is later added again in the system itself.
TAKEN, GIVEN_AGAIN = ("rescue_feed", "b_noakes"), ("rescue_feed", "w_merrin")
BY_HAND = "press-mailbox|person|carys.dunmore|read"
SKIPPED = "press-mailbox|person|bertil.noakes|read"
REOPENED = "Desk mail server"
SIGNED_IN_AGAIN = "k_varley"


def play(service: Service, viewer: Viewer, telemetry: UUID, url: str) -> None:
    """Create this history. ``viewer`` is the administrator, ``url`` the telemetry database as its owner."""
    for role, member in (TAKEN, GIVEN_AGAIN):
        _grant(url, role, member)
    readings.read(service, viewer.organisation, telemetry)
    for role, member in (TAKEN, GIVEN_AGAIN):
        with service.unit(viewer) as unit:
            wanted = (
                select(Grant.id)
                .join(Account, Account.id == Grant.account_id)
                .join(Handle, Handle.person_id == Grant.person_id)
                .where(Account.handle == role, Handle.name == member, Grant.state == GrantState.ACTIVE)
            )
            grant = unit.db.scalars(wanted).one()
            ident = revoke.start(unit, prepare.Wish((grant,)), "They only helped out over the holidays.")
        execute.carry_out(service, viewer.organisation, ident)
    _by_hand(service, viewer)
    with service.unit(viewer) as unit:
        signed_in = (
            select(Session)
            .join(Handle, Handle.person_id == Session.person_id)
            .where(Handle.name == SIGNED_IN_AGAIN, Session.ended_at.is_(None), Session.handle != {})
            .limit(1)
        )
        for session in unit.db.scalars(signed_in):
            session.ended_at = session.proved_at = unit.now - timedelta(hours=2)
            session.ended_as, session.proof, session.proved_by = "stated", Proof.STATED, viewer.name
            session.proof_words = f"{viewer.name} says: Signed out at the console."
        mail = select(Account.id).join(System, System.id == Account.system_id).where(System.name == REOPENED)
        opened = select(Exposure).where(Exposure.account_id.in_(mail)).order_by(Exposure.sentence).limit(1)
        for exposure in unit.db.scalars(opened):
            exposure.gone_at = exposure.proved_at = unit.now - timedelta(hours=3)
            exposure.proof, exposure.proved_by = Proof.STATED, viewer.name
            exposure.proof_words = f"{viewer.name} says: Taken off the list."
            rules = AccessRule.account_id == exposure.account_id, AccessRule.key.in_(exposure.admitted_by)
            for rule in unit.db.scalars(select(AccessRule).where(*rules)):
                unit.db.delete(rule)
        _judge(unit)
        wish = guard_changes.Wish(["change"], "Only members change what is ours.")
        guard_changes.add(unit, wish)
        read = list(unit.db.scalars(select(System.id).where((System.id == telemetry) | (System.name == REOPENED))))
    _grant(url, *GIVEN_AGAIN)
    for system in read:
        readings.read(service, viewer.organisation, system)
    _switch_guards_off(service, viewer)
    with service.unit(viewer) as unit:
        office = (
            select(Grant.id)
            .join(Handle, Handle.person_id == Grant.person_id)
            .where(Handle.name == calendars.principal(calendars.OWNER))
        )
        theirs = tuple(unit.db.scalars(office.order_by(Grant.id)))
        if theirs:
            changes.carry_out(unit, Change(ChangeKind.ADOPT, "The office signs in with it.", theirs))


def _switch_guards_off(service: Service, viewer: Viewer) -> None:
    """The guard was set in the systems, and then switched off there by somebody."""
    with service.unit(viewer) as unit:
        told = system_guards.able(unit)
        adapters = {system.id: connections.adapter_for(service, system) for system in told}
    for ident, adapter in adapters.items():
        tell_guards.carry_out(service, viewer.organisation, ident)
        adapter.set_guards([], system_guards.PREFIX)
        readings.read(service, viewer.organisation, ident)


# Judgements of exposures, by the name of the resource, with their age in days.
JUDGED = {"Lake hut, opened for the roof survey": 60, "Spring poster": 120}
WIDENED = "Work weekend poster"


def _judge(unit: Unit) -> None:
    """Judge exposures: one intended until a day that has passed, one intended and unused, one that has grown since."""
    rows = unit.db.execute(select(Exposure, Resource.name).join(Resource, Resource.id == Exposure.resource_id)).all()
    for exposure, name in rows:
        if name in JUDGED:
            exposure.judgement, exposure.judged_by_id = "intended", unit.viewer.person
            exposure.judged_at = unit.now - timedelta(days=JUDGED[name])
            exposure.judged_reason, exposure.judged_ways = "People ask for it.", list(exposure.ways)
            exposure.judged_sensitivity = 4
            exposure.intended_until = unit.now - timedelta(days=5) if name == next(iter(JUDGED)) else None
        elif name == WIDENED:
            exposure.grew_at = unit.now - timedelta(days=2)


def _grant(url: str, role: str, member: str) -> None:
    with psycopg.connect(url) as db:
        db.execute(sql.SQL("grant {} to {}").format(sql.Identifier(role), sql.Identifier(member)))


def _by_hand(service: Service, viewer: Viewer) -> None:
    for key in (BY_HAND, SKIPPED):
        with service.unit(viewer) as unit:
            grant = unit.db.scalars(select(Grant.id).where(Grant.key == key)).one()
            ident = revoke.start(unit, prepare.Wish((grant,)), "The campaign is over.")
        with service.unit(viewer) as unit:
            for step in unit.db.scalars(select(Step.id).where(Step.revocation_id == ident)).all():
                if key == BY_HAND:
                    steps.done_by_hand(unit, ident, step, "Taken off the list of the press mailbox.")
                else:
                    steps.skip(unit, ident, step, "The provider answers nobody; the mailbox closes in spring.")
