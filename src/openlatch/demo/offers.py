"""The demo's history of giving access: every state of an offer and of a request, latches, a visit."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import timedelta
from uuid import UUID

from sqlalchemy import select, update

from openlatch.core.latches import LatchKind, LatchMode
from openlatch.demo import rules
from openlatch.service.accounts import settings
from openlatch.service.grants.lifecycle import Choice, Single, weekly_hours
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.offers import answer as offer_answer
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.answer import Answer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.requests.ask import Wish
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Account, Level, Offer, Person, Resource, ResourceGroup

DOMAINS = ["hollinfell.example.org", "volunteers.example.net"]
LATCHES = (
    ("booking-mailbox", LatchKind.MOST_DELEGATES, LatchMode.WARN, 10, ("", "")),
    ("donations-ledger", LatchKind.NO_SPEND_OUTSIDE, LatchMode.HOLD, None, ("", "")),
    ("appeal-list", LatchKind.NO_SPEND_OUTSIDE, LatchMode.WARN, None, ("", "")),
    ("building-plans", LatchKind.NOTHING_PUBLIC, LatchMode.WARN, None, ("", "")),
    ("payroll", LatchKind.NEVER_TOGETHER, LatchMode.HOLD, None, ("books.enter", "books.pay")),
    ("rescue-directory", LatchKind.UNSEEN, LatchMode.HOLD, None, ("", "")),
    ("booking-site", LatchKind.SECOND_FACTOR, LatchMode.WARN, None, ("", "")),
)


class _Cast:
    """People and records of the demo by their keys, and units of work in which people act."""

    def __init__(self, service: Service, organisation: UUID) -> None:
        self.service, self.organisation = service, organisation

    @contextmanager
    def acting(self, key: str) -> Iterator[Unit]:
        """A transaction acting as one of the people."""
        with self.service.unit(Viewer.itself(self.organisation)) as unit:
            person = unit.db.scalars(select(Person).where(Person.key == key)).one()
            yield replace(unit, viewer=Viewer(self.organisation, person.name, person.id), _sight=None)

    @staticmethod
    def account(unit: Unit, key: str) -> Account:
        """An account."""
        return unit.db.scalars(select(Account).where(Account.key == key)).one()

    @staticmethod
    def person(unit: Unit, key: str) -> UUID:
        """A person."""
        return unit.db.scalars(select(Person.id).where(Person.key == key)).one()

    @staticmethod
    def address(unit: Unit, key: str) -> str:
        """A person's address, for naming people whom the sender can't see."""
        return unit.db.scalars(select(Person.address).where(Person.key == key)).one() or ""

    def level(self, unit: Unit, account: str, key: str) -> UUID:
        """A level of an account's system."""
        system = self.account(unit, account).system_id
        return unit.db.scalars(select(Level.id).where(Level.system_id == system, Level.key == key)).one()

    def part(self, unit: Unit, account: str, key: str) -> UUID:
        """A resource, or a group."""
        ident = self.account(unit, account).id
        found = unit.db.scalars(select(Resource.id).where(Resource.account_id == ident, Resource.key == key)).first()
        return (
            found
            or unit.db.scalars(
                select(ResourceGroup.id).where(ResourceGroup.account_id == ident, ResourceGroup.key == key)
            ).one()
        )

    def offer(self, owner: str, account: str, to: To, choice: Choice, reason: str = "") -> UUID:
        """An offer by an account's owner."""
        with self.acting(owner) as unit:
            ident = self.account(unit, account).id
            return send_offer.send(unit, Proposal(ident, (to,), choice, reason))[0]


def play(service: Service, organisation: UUID) -> None:
    """Create this history."""
    cast = _Cast(service, organisation)
    _settings(cast)
    _offers(cast)
    _requests(cast)
    rules.play(service, organisation)


def _settings(cast: _Cast) -> None:
    with cast.service.unit(Viewer.itself(cast.organisation)) as unit:
        settings.change(unit, send_offer.OFFER_HOURS, DOMAINS, [])
        people = select(Person.id).where(Person.inside, Person.address.is_not(None))
        unit.db.execute(update(Person).where(Person.id.in_(people)).values(address_confirmed_at=unit.now))
        for key, kind, mode, number, pair in LATCHES:
            ident = cast.account(unit, key).id
            guard.switch(unit, Setting(kind, mode, ident, None, number, pair))
        guard.switch(unit, Setting(LatchKind.ENDS_WITHIN, LatchMode.WARN, None, "mailbox", 1095))
    with cast.acting("noor.ashdown") as unit:
        unit.db.get_one(Person, unit.viewer.person).refuses_offers = True


def _offers(cast: _Cast) -> None:
    with cast.acting("ines.calder") as unit:
        publish, book = cast.level(unit, "hut-pages", "publish"), cast.level(unit, "donations-ledger", "book")
        read, answer = cast.level(unit, "booking-mailbox", "read"), cast.level(unit, "booking-mailbox", "answer")
        pages, guests = cast.part(unit, "hut-pages", "intern"), cast.part(unit, "booking-mailbox", "Guests' mail")
        invoices = cast.part(unit, "booking-mailbox", "invoices")
        gifts = cast.part(unit, "donations-ledger", "gifts")
        draft = cast.level(unit, "newsletter", "draft")
        tamsin, moira, fenna, elin, imke, ruairi, david, agency = (
            To(address=cast.address(unit, key))
            for key in (
                "tamsin.grieve",
                "moira.teale",
                "fenna.aldous",
                "elin.frost",
                "imke.rosen",
                "ruairi.kemp",
                "david.imrie",
                "leo.fairburn",
            )
        )
        in_a_season = unit.now + timedelta(days=120)
    # Offers waiting for an answer: of a part only; with hours; to somebody new; of an account's ownership.
    cast.offer("kit.varley", "hut-pages", tamsin, Choice((publish,), parts=(pages,)), "Writes for the wardens.")
    cast.offer(
        "piet.lagerlund",
        "donations-ledger",
        moira,
        Choice((book,), parts=(gifts,), until=in_a_season, hours=weekly_hours(range(5), "08:00", "18:00")),
    )
    newcomer = To(address="wim.halloran@wardens.example.net", name="Wim Halloran")
    cast.offer(
        "tobias.renn",
        "booking-mailbox",
        newcomer,
        Choice((read,), (Single("mail.send"),), (guests,), until=in_a_season),
        "Warden of the coming season.",
    )
    cast.offer(
        "tobias.renn",
        "booking-mailbox",
        fenna,
        Choice((answer,), parts=(invoices,), until=in_a_season),
        "Helps with the invoices.",
    )
    with cast.acting("yusra.haddad") as unit:
        send_offer.offer_ownership(
            unit.as_service(),
            cast.account(unit, "press-mailbox").id,
            cast.person(unit, "moira.teale"),
            None,
            "Moira takes the press over.",
        )
    # Offers that were answered, taken back, or expired.
    accepted = cast.offer("tobias.renn", "booking-mailbox", elin, Choice((read,), parts=(guests,), until=in_a_season))
    with cast.acting("elin.frost") as unit:
        offer_answer.accept(unit, accepted, Answer(1))
    declined = cast.offer("yusra.haddad", "newsletter", imke, Choice((draft,)), "For the autumn issue.")
    with cast.acting("imke.rosen") as unit:
        offer_answer.decline(unit, declined, Answer(1, words="No time this year, sorry."), unknown_sender=False)
    reported = cast.offer("yusra.haddad", "newsletter", ruairi, Choice((draft,)))
    with cast.acting("ruairi.kemp") as unit:
        offer_answer.decline(unit, reported, Answer(1), unknown_sender=True)
    withdrawn = cast.offer("yusra.haddad", "newsletter", david, Choice((draft,)))
    with cast.acting("yusra.haddad") as unit:
        manage_offers.withdraw(unit, withdrawn)
    late = cast.offer("odile.fenn", "appeal-list", agency, Choice((cast_level(cast, "appeal-list", "draft"),)))
    with cast.service.unit(Viewer.itself(cast.organisation)) as unit:
        row = unit.db.get_one(Offer, late)
        row.sent_at, row.runs_out_at = unit.now - timedelta(days=3), unit.now - timedelta(days=1)
        unit.db.flush()
        manage_offers.run_out(unit)


def cast_level(cast: _Cast, account: str, key: str) -> UUID:
    """A level, read in a transaction of its own."""
    with cast.acting("ines.calder") as unit:
        return cast.level(unit, account, key)


def _requests(cast: _Cast) -> None:
    with cast.acting("fenna.aldous") as unit:
        account = cast.account(unit, "hut-calendar").name
        ask_access.ask(
            unit,
            Wish(
                "To enter the closing days of the Ridge hut.",
                account_name=account,
                level=cast.level(unit, "hut-calendar", "edit"),
            ),
        )
    with cast.acting("saskia.lund") as unit:
        ask_access.ask(
            unit, Wish("I need the guests' arrivals a week ahead.", owner_address="tobias.renn@hollinfell.example.org")
        )
    with cast.acting("carys.dunmore") as unit:
        account = cast.account(unit, "hut-calendar").name
        asked = ask_access.ask(
            unit,
            Wish("I keep the volunteers' dates.", account_name=account, level=cast.level(unit, "hut-calendar", "edit")),
        )
    owner = _owner(cast, "hut-calendar")
    with cast.acting(owner) as unit:
        until = unit.now + timedelta(days=60)
        answer_request.grant(unit, asked.id, Choice(until=until), "For this season.", None, None)
    with cast.acting("milo.strand") as unit:
        account = cast.account(unit, "payroll").name
        asked = ask_access.ask(
            unit, Wish("To see when I am paid.", account_name=account, level=cast.level(unit, "payroll", "see"))
        )
    with cast.acting(_owner(cast, "payroll")) as unit:
        answer_request.decline(unit, asked.id, "Your payslip has the date; the books stay with the office.", None)
    with cast.acting("hal.draycott") as unit:
        account = cast.account(unit, "rescue-directory").name
        ask_access.ask(
            unit,
            Wish(
                "A party is missing on the north side; I need the numbers of those on call.",
                account_name=account,
                level=cast.level(unit, "rescue-directory", "look"),
                emergency=True,
            ),
        )


def _owner(cast: _Cast, account: str) -> str:
    with cast.acting("ines.calder") as unit:
        owner = unit.db.get_one(Person, cast.account(unit, account).owner_id)
        assert owner.key is not None
        return owner.key
