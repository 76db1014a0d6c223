"""Two different use cases at the same time, met at every commit and every call to a system: all promises hold."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from itertools import count, permutations
from typing import Any
from uuid import UUID

import pytest
from hypothesis import settings
from sqlalchemy import func, select, text

from openlatch.core import latches as core
from openlatch.core.journal import chain
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import Proof
from openlatch.errors import Collision, Conflict, Held, NotFound, OpenLatchError
from openlatch.service import undo
from openlatch.service.changes import changes
from openlatch.service.grants import change_types, provisioning
from openlatch.service.grants.lifecycle import Choice, Single
from openlatch.service.latches import guard
from openlatch.service.offers import preview
from openlatch.service.people import leavers
from openlatch.service.requests import answer as answer_request
from openlatch.service.revocations import execute, prepare
from openlatch.service.revocations import revoke as revoke_access
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.tables import AccessRequest, Account, Grant, Level, Person, Session, System, Term
from tests.adapters.worlds import World
from tests.conftest import Clock
from tests.service.conftest import Small
from tests.service.ending import carry_on, connect, grant_of
from tests.service.test_faults import telling_of_commits, watched

Make = Callable[[str], World]
LONGEST = 1.0


@dataclass
class Meeting:
    """Stops one thread at a point of its choice, until another has done its work or waits for the first."""

    at: int
    thread: int = 0
    points: Iterator[int] = field(default_factory=count)
    met: threading.Event = field(default_factory=threading.Event)
    go_on: threading.Event = field(default_factory=threading.Event)
    come_to: int = 0

    def __call__(self, point: str) -> None:
        if threading.get_ident() != self.thread:
            return
        self.come_to = next(self.points)
        if self.come_to == self.at:
            self.met.set()
            self.go_on.wait(LONGEST)


Work = Callable[[Service], Any]


def meet(service: Service, at: int, first: Work, second: Work) -> tuple[list[BaseException | None], int]:
    """Run the first up to a point, all of the second, then the rest; gives what each raised, and how far it came."""
    meeting = Meeting(at)
    raised: list[BaseException | None] = [None, None]
    own = watched(service, meeting)

    def run(which: int, work: Work) -> None:
        if which == 0:
            meeting.thread = threading.get_ident()
        try:
            for _ in range(3):
                with suppress(Collision):
                    work(own)
                    return
            work(own)
        except OpenLatchError as error:
            raised[which] = error
        finally:
            if which == 0:
                meeting.met.set()

    with telling_of_commits(meeting):
        one = threading.Thread(target=run, args=(0, first))
        one.start()
        assert meeting.met.wait(20)
        other = threading.Thread(target=run, args=(1, second))
        other.start()
        other.join(LONGEST)
        meeting.go_on.set()
        one.join(40)
        other.join(40)
    assert not one.is_alive()
    assert not other.is_alive()
    return raised, meeting.come_to


def assert_promises(service: Service, viewer: Viewer, world: World | None = None) -> None:
    """Latches on hold hold, nothing that is confirmed gone is there, and the journal verifies."""
    with service.unit(viewer) as unit:
        latched = guard.in_force(unit)
        for account, crowd in guard.crowds(unit, list(latched)).items():
            hold = [latch for latch in latched[account] if latch.mode is LatchMode.HOLD]
            assert core.breaches(hold, crowd) == []
        assert chain.verify(journal.export(unit.db, viewer.organisation), journal.head(unit.db)).sound
        if world is None:
            return
        gone = unit.db.execute(
            select(Grant.handle["login"].astext, Grant.holder_id)
            .join(Account, Account.id == Grant.account_id)
            .where(Grant.proof == Proof.CONFIRMED, Account.handle == world.account)
        ).all()
        for login, holder in gone:
            live = select(func.count(Grant.id)).where(Grant.holder_id == holder, Grant.state != "ended")
            if login and not unit.db.scalar(live):
                assert world.asked(login) == "", login


# Access that was confirmed gone does not come back.


@pytest.mark.parametrize("at", range(8))
def test_what_is_confirmed_gone_is_not_given_again_by_what_was_under_way(
    at: int, make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Giving had begun when it was revoked; it is revoked all the same, at whatever point they meet."""
    world = make("cloud")
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.stays)
        ident = grant.id
        grant.owed, grant.owed_since, grant.owed_next_try_at = "give", unit.now, unit.now
    world.extra["service"].state.members["news"].pop(world.stays)
    begun: list[UUID] = []

    def revoke(own: Service) -> None:
        with own.unit(organisation) as unit:
            begun.append(revoke_access.start(unit, prepare.Wish((ident,)), "Over."))
        execute.carry_out(own, organisation.organisation, begun[0])

    meet(service, at, lambda own: provisioning.settle(own, organisation.organisation, ident), revoke)
    assert carry_on(service, organisation, clock, begun[0]) == "confirmed"
    provisioning.settle(service, organisation.organisation, ident)
    assert world.asked(world.stays) == ""
    with service.unit(organisation) as unit:
        assert unit.db.get_one(Grant, ident).owed is None
    assert_promises(service, organisation, world)


# Latches.


def outsiders(small: Small, account: str, names: tuple[str, ...], state: str) -> list[UUID]:
    """Grants of people who are new here."""
    organisation, found = small.itself.organisation, []
    with small.service.unit(small.itself) as unit:
        for name in names:
            person = Person(organisation_id=organisation, name=name, inside=False, key=name.lower())
            unit.db.add(person)
            unit.db.flush()
            grant = Grant(
                organisation_id=organisation,
                account_id=small.account(account),
                person_id=person.id,
                state=state,
                given_at=unit.now,
            )
            unit.db.add(grant)
            unit.db.flush()
            unit.db.add(Term(organisation_id=organisation, grant_id=grant.id, level_id=small.level("read")))
            found.append(grant.id)
    return found


def hold(small: Small, account: str, kind: LatchKind, number: int) -> None:
    with small.service.unit(small.itself) as unit:
        guard.switch(unit, guard.Setting(kind, LatchMode.HOLD, small.account(account), number=number))


def resume(viewer: Viewer, grant: UUID) -> Work:
    def work(own: Service) -> None:
        with own.unit(viewer) as unit:
            changes.carry_out(unit, changes.Change(change_types.ChangeKind.RESUME, "Again.", (grant,)))

    return work


@pytest.mark.parametrize("at", range(2))
def test_two_changes_at_once_do_not_break_a_latch_that_each_alone_keeps(small: Small, at: int) -> None:
    """Of the last place one gets it, and the other is told so."""
    one, other = outsiders(small, "rota", ("Una", "Vic"), "suspended")
    hold(small, "rota", LatchKind.MOST_DELEGATES, 1)
    raised, _ = meet(small.service, at, resume(small.itself, one), resume(small.itself, other))
    assert [type(error) for error in raised if error is not None] == [Held]
    assert_promises(small.service, small.itself)


def test_accounts_reached_through_another_are_guarded_too(small: Small) -> None:
    """Whoever gets into Box comes into Ledger by it, where somebody else gets in at the same time."""
    (one,) = outsiders(small, "box", ("Una",), "suspended")
    (other,) = outsiders(small, "ledger", ("Vic",), "suspended")
    with small.service.unit(small.itself) as unit:
        unit.db.execute(
            text("update terms set level_id = :level where grant_id = :grant"),
            {"level": small.level("pay"), "grant": other},
        )
        ledger = small.account("ledger")
        crowd = guard.crowds(unit, [ledger])[ledger]
        limits = (core.Latch(LatchKind.MOST_DELEGATES, LatchMode.HOLD, number) for number in count(1))
        there = next(latch.number or 0 for latch in limits if not core.breaches([latch], crowd))
    hold(small, "ledger", LatchKind.MOST_DELEGATES, there + 1)
    raised, _ = meet(small.service, 0, resume(small.itself, one), resume(small.itself, other))
    assert_promises(small.service, small.itself)
    assert [type(error) for error in raised if error is not None] == [Held]


def test_a_change_of_many_and_a_change_of_one_do_not_wait_in_a_circle(small: Small) -> None:
    """Both are done, one after the other."""
    grants = outsiders(small, "rota", ("Una", "Vic", "Wyn"), "active")

    def suspend(*which: UUID) -> Work:
        def work(own: Service) -> None:
            with own.unit(small.itself) as unit:
                changes.carry_out(unit, changes.Change(change_types.ChangeKind.SUSPEND, "Pause.", which))

        return work

    for at in range(2):
        raised, _ = meet(small.service, at, suspend(*grants[at:]), suspend(grants[at]))
        assert all(error is None or isinstance(error, Conflict) for error in raised)
        with small.service.unit(small.itself) as unit:
            unit.db.execute(text("update grants set state = 'active' where state = 'suspended'"))


# What a preview leaves, and who may end what.


def test_a_preview_announces_nothing_and_writes_no_row(small: Small) -> None:
    """Of a change, and of an offer of a single permission."""
    with small.service.unit(small.itself) as unit:
        before = unit.db.scalar(select(func.count(Level.id)))
        changes.preview(unit, changes.Change(change_types.ChangeKind.SUSPEND, "", (small.grant_of("mara", "box"),)))
        choice = Choice(permissions=(Single("mail.share"),))
        una = preview.To(address="una@example.net", name="Una")
        preview.preview(unit, preview.Proposal(small.account("box"), (una,), choice))
        assert (unit.kinds, unit.entries, unit.afterwards) == (set(), [], [])
        assert unit.db.scalar(select(func.count(Level.id))) == before


def test_an_unknown_rule_in_a_wish_to_revoke_is_refused(small: Small) -> None:
    """Instead of being left out without a word."""
    with pytest.raises(NotFound, match="no such access rule"), small.service.unit(small.itself) as unit:
        revoke_access.preview(unit, prepare.Wish(rules=(small.account("box"),)))


def test_an_owner_ends_a_grant_whose_holder_is_signed_in_elsewhere_in_the_system(
    make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The session stands in somebody else's account of the same system; it ends along."""
    world = make("postgresql")
    assert world.session is not None
    login, goes_on = world.session()
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        session = unit.db.scalars(select(Session).where(Session.handle["login"].astext == login)).one()
        account = unit.db.get_one(Account, session.account_id)
        owner = Person(organisation_id=organisation.organisation, name="Olga", inside=True, key="olga")
        unit.db.add(owner)
        unit.db.flush()
        other = Account(
            organisation_id=organisation.organisation,
            system_id=account.system_id,
            name="Other",
            kind="role",
            sensitivity=2,
            handle="weather_readings_two",
            owner_id=owner.id,
        )
        unit.db.add(other)
        unit.db.flush()
        named = {"role": "weather_readings", "member": login, "login": login}
        grant = Grant(
            organisation_id=organisation.organisation,
            account_id=other.id,
            person_id=session.holder_id,
            given_at=unit.now,
            handle=named,
        )
        unit.db.add(grant)
        unit.db.flush()
        viewer, ident = Viewer(organisation.organisation, "Olga", owner.id), grant.id
    with service.unit(viewer) as unit:
        shown = revoke_access.preview(unit, prepare.Wish((ident,)))
        assert [one.id for one in shown.sessions] == [session.id]
        revocation = revoke_access.start(unit, prepare.Wish((ident,)), "Over.")
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert not goes_on()


def test_the_same_thing_made_twice_at_once_is_a_conflict(small: Small) -> None:
    """And no traceback."""
    with pytest.raises(Conflict, match="such a person"), small.service.unit(small.itself) as unit:
        unit.db.add(Person(organisation_id=small.itself.organisation, name="Mara again", inside=True, key="mara"))


# Any two use cases.


def the_use_cases(small: Small, world: World, grant: UUID, gone: UUID, request: UUID, system: UUID) -> dict[str, Work]:
    """What people and the worker do, each once."""
    itself, organisation = small.itself, small.itself.organisation

    def within(change: Callable[[Unit], Any]) -> Work:
        def work(own: Service) -> None:
            with own.unit(itself) as unit:
                change(unit)

        return work

    def end(own: Service) -> None:
        with own.unit(itself) as unit:
            ident = revoke_access.start(unit, prepare.Wish((grant,)), "Over.")
        execute.carry_out(own, organisation, ident)

    def leave(unit: Unit) -> None:
        heirs: dict[UUID, UUID | None] = {small.account("ledger"): small.person("ines")}
        leavers.start(unit, leavers.Plan(small.person("mara"), heirs), "Over.")

    def grant_it(unit: Unit) -> None:
        answer_request.grant(unit, request, Choice((small.level("read"),)), "", None, None)

    def change(kind: change_types.ChangeKind, *grants: UUID, **more: Any) -> Work:
        return within(lambda unit: changes.carry_out(unit, changes.Change(kind, "Why.", grants, **more)))

    box = [small.grant_of("edda", "box"), small.grant_of("mara", "box")]
    return {
        "end": end,
        "settle": lambda own: provisioning.settle(own, organisation, grant),
        "suspend": change(change_types.ChangeKind.SUSPEND, grant),
        "change many": change(change_types.ChangeKind.SET_END, *box, until=small.clock() + timedelta(days=9)),
        "undo": within(lambda unit: undo.undo(unit, gone, "By mistake.")),
        "read": lambda own: readings.read(own, organisation, system),
        "leave": within(leave),
        "grant a request": within(grant_it),
        "resume": change(change_types.ChangeKind.RESUME, small.grant("rota|person|owen|read")),
    }


NAMES = (
    "end",
    "settle",
    "suspend",
    "change many",
    "undo",
    "read",
    "leave",
    "grant a request",
    "resume",
)
# Those that touch the same rows; `make test-nightly` takes every pair there is.
PAIRS = [
    ("settle", "end"),
    ("end", "settle"),
    ("end", "undo"),
    ("undo", "read"),
    ("read", "end"),
    ("end", "suspend"),
    ("change many", "leave"),
    ("resume", "grant a request"),
    ("undo", "leave"),
]


if settings.get_current_profile_name() == "nightly":
    PAIRS = list(permutations(NAMES, 2))


@pytest.mark.parametrize(("one", "other"), PAIRS)
def test_whatever_two_do_at_once_the_promises_hold(
    one: str, other: str, small: Small, make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """The second runs when the first has come to a point: a commit, or a call to a system."""
    world = make("cloud")
    system = connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant, gone = grant_of(unit, world, world.goes), grant_of(unit, world, world.stays)
        grant.recorded = gone.recorded = True
        grant, gone = grant.id, gone.id
        before = revoke_access.start(unit, prepare.Wish((gone,)), "Over.")
        request = AccessRequest(
            organisation_id=organisation.organisation,
            person_id=small.person("owen"),
            account_id=small.account("rota"),
            level_id=small.level("read"),
            reason="Season.",
            asked_at=unit.now,
            runs_out_at=unit.now + timedelta(days=3),
        )
        unit.db.add(request)
        unit.db.flush()
        asked = request.id
    assert carry_on(service, organisation, clock, before) == "confirmed"
    hold(small, "rota", LatchKind.MOST_DELEGATES, 2)
    at = 0
    while True:
        works = the_use_cases(small, world, grant, before, asked, system)
        raised, come_to = meet(service, at, works[one], works[other])
        assert all(error is None or isinstance(error, OpenLatchError) for error in raised)
        provisioning.settle(service, organisation.organisation, grant)
        assert_promises(service, organisation, world)
        # What was done once is refused the next time, and the points that there are have been met.
        at += 1
        if at > min(come_to, 6):
            break
    with service.unit(organisation) as unit:
        assert unit.db.get_one(System, system).down_since is None
