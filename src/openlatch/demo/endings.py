"""What has ended in the demo, and how each end is known: confirmed, stated, unproved, contradicted."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

import psycopg
from psycopg import sql
from sqlalchemy import select

from openlatch.core.words import Proof
from openlatch.service import carrying, helping, revocations, systems
from openlatch.service.context import Service, Viewer
from openlatch.store.tables import Account, Grant, Handle, Resource, Session, Step, System

# A membership that is taken away and stays so, and one that somebody gives again behind everybody's back.
TAKEN, GIVEN_AGAIN = ("rescue_feed", "b_noakes"), ("rescue_feed", "w_merrin")
BY_HAND = "press-mailbox|person|carys.dunmore|read"
SKIPPED = "press-mailbox|person|bertil.noakes|read"
REOPENED = "Desk mail server"
SIGNED_IN_AGAIN = "k_varley"


def play(service: Service, viewer: Viewer, telemetry: UUID, url: str) -> None:
    """Let it have happened. ``viewer`` is the administrator, ``url`` the telemetry database as its owner."""
    for role, member in (TAKEN, GIVEN_AGAIN):
        _grant(url, role, member)
    systems.read(service, viewer.organisation, telemetry)
    for role, member in (TAKEN, GIVEN_AGAIN):
        with service.unit(viewer) as unit:
            wanted = (
                select(Grant.id).join(Account, Account.id == Grant.account_id)
                .join(Handle, Handle.person_id == Grant.person_id)
                .where(Account.handle == role, Handle.name == member, Grant.state == "active")
            )  # fmt: skip
            grant = unit.db.scalars(wanted).one()
            ident = revocations.start(unit, revocations.Wish((grant,)), "They only helped out over the holidays.")
        carrying.carry_out(service, viewer.organisation, ident)
    _by_hand(service, viewer)
    with service.unit(viewer) as unit:
        signed_in = (
            select(Session).join(Handle, Handle.person_id == Session.person_id)
            .where(Handle.name == SIGNED_IN_AGAIN, Session.ended_at.is_(None), Session.handle != {}).limit(1)
        )  # fmt: skip
        for session in unit.db.scalars(signed_in):
            session.ended_at = session.proved_at = unit.now - timedelta(hours=2)
            session.ended_as, session.proof, session.proved_by = "stated", Proof.STATED, viewer.name
            session.proof_words = f"{viewer.name} says: Signed out at the console."
        mail = select(Account.id).join(System, System.id == Account.system_id).where(System.name == REOPENED)
        parts = unit.db.scalars(select(Resource).where(Resource.account_id.in_(mail), Resource.public)).all()
        for part in parts[:1]:
            part.public, part.proof, part.proved_at = False, Proof.STATED, unit.now - timedelta(hours=3)
            part.proved_by, part.proof_words = viewer.name, f"{viewer.name} says: Taken off the list."
        read = list(unit.db.scalars(select(System.id).where((System.id == telemetry) | (System.name == REOPENED))))
    _grant(url, *GIVEN_AGAIN)
    for system in read:
        systems.read(service, viewer.organisation, system)


def _grant(url: str, role: str, member: str) -> None:
    with psycopg.connect(url) as db:
        db.execute(sql.SQL("grant {} to {}").format(sql.Identifier(role), sql.Identifier(member)))


def _by_hand(service: Service, viewer: Viewer) -> None:
    for key in (BY_HAND, SKIPPED):
        with service.unit(viewer) as unit:
            grant = unit.db.scalars(select(Grant.id).where(Grant.key == key)).one()
            ident = revocations.start(unit, revocations.Wish((grant,)), "The campaign is over.")
        with service.unit(viewer) as unit:
            for step in unit.db.scalars(select(Step.id).where(Step.revocation_id == ident)).all():
                if key == BY_HAND:
                    helping.done_by_hand(unit, ident, step, "Taken off the list of the press mailbox.")
                else:
                    helping.skip(unit, ident, step, "The provider answers nobody; the mailbox closes in spring.")
