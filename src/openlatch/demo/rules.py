"""The demo's rules: the organisation's settings, a rule of its own, and facts that rules find."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from uuid import UUID

from sqlalchemy import select, update

from openlatch.core.vocabulary import Standing
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.flags import rule_settings
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import Account, Grant, Level, Offer, Person, System

OWN_RULES = Path(__file__).parent / "data" / "own-rules.toml"
# Stricter than the defaults: a small trust with few accounts, some of which are watched closely.
LIMITS = {
    "kept": (3, 0, 1, 1),
    "stewards": (12, 8, 3, 1),
    "wide": (4, 4, 4, 4),
}
PUBLISHERS = (
    "Cirrus Works",
    "Hollin Fell Huts",
    "Two Rivers Software",
    "Paperlane",
    "Fell Instruments",
    "Clippings Ltd",
    "Meridian Data",
    "University of Hollin",
    "Mountain Signals",
    "Slope & Stone",
)


def play(service: Service, organisation: UUID) -> None:
    """Create this history."""
    itself = Viewer.itself(organisation)
    with service.unit(itself) as unit:
        wish = rule_settings.Wish(LIMITS, never_together=[("books.enter", "books.pay")], known_publishers=PUBLISHERS)
        rule_settings.change(unit, wish)
        rule_settings.keep(unit, OWN_RULES.read_text())
        # An emergency access of four days ago that nobody ended; an offer that was sent repeatedly.
        opened = select(Grant.id).where(Grant.key == "rescue-mailbox|person|hal.draycott|answer")
        values = {"emergency": True, "given_at": unit.now - timedelta(days=4)}
        unit.db.execute(update(Grant).where(Grant.id.in_(opened)).values(values))
        # One account's payer has left; another is paid for only a few more days.
        gone = select(Person.id).where(Person.standing == Standing.LEFT).order_by(Person.key).limit(1).scalar_subquery()
        paid = update(Account).where(Account.key == "supplies-shop").values(payer_person_id=gone)
        unit.db.execute(paid)
        ends = {"payer_person_id": Account.owner_id, "paid_until": unit.now + timedelta(days=9)}
        unit.db.execute(update(Account).where(Account.key == "webcam-host").values(ends))
        # The identity provider reported somebody's account.
        told = {"reported_at": unit.now - timedelta(hours=30), "reported": "Fellside: the account was disabled"}
        unit.db.execute(update(Person).where(Person.key == "milo.strand").values(told))
        account = select(Account.id).where(Account.key == "donations-ledger")
        waiting = update(Offer).where(Offer.account_id.in_(account), Offer.state == "pending")
        unit.db.execute(waiting.values(created_at=unit.now - timedelta(days=11), times_sent=5))
    with service.unit(itself) as unit:
        system = select(System.id).where(System.key == "Calendar service")
        level = unit.db.scalars(select(Level).where(Level.system_id.in_(system), Level.key == "edit")).one()
        more = {"key": "cal.invite", "sentence": "Invite people from outside", "reach": "operate"}
        level.permissions = [*level.permissions, more]
    evaluate_flags.evaluate_all(service, organisation)
