"""A partner organisation that acts for a client on the same server, and sign-ins that belong together."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from uuid import UUID

import pyotp
import pytest
from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Role
from openlatch.errors import BadInput, Conflict, FactorNeeded, NotAllowed, NotFound, NotSignedIn, ProofNeeded
from openlatch.service.identity import authentication, sign_ins
from openlatch.service.identity.authentication import NO_FACTOR, Factor
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import register
from openlatch.service.partners import links, sign_in_links
from openlatch.service.people import erasure
from openlatch.service.records import existing_access
from openlatch.service.records.existing_access import Known
from openlatch.service.unit import Unit, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Membership, PartnerLink, Person, SignIn, SignInLink, Team
from openlatch.worker import tasks
from tests.service.conftest import PASSWORD, Small


@dataclass
class Practice:
    """A partner with two people who sign in, and an administrator; the small register is its client."""

    small: Small
    itself: Viewer
    head: Viewer
    people: dict[str, UUID]

    @contextmanager
    def acting(self, viewer: Viewer | None = None) -> Iterator[Unit]:
        with self.small.service.unit(replace(viewer or self.head, proved_at=self.small.clock())) as unit:
            yield unit

    @contextmanager
    def client(self) -> Iterator[Unit]:
        ada = authentication.check_password(self.small.service, "ada@example.org", "a long password", "test")
        with self.small.service.unit(ada) as unit:
            yield unit

    def who(self, name: str) -> Viewer:
        """Somebody of the partner, signed in there."""
        return authentication.check_password(self.small.service, f"{name.lower()}@care.example", PASSWORD, name)

    def offered(self, *names: str) -> UUID:
        with self.acting() as unit:
            return UUID(str(links.offer(unit, "test", "We look after it.", [self.people[n] for n in names]).id))

    def linked(self, *names: str) -> UUID:
        ident = self.offered(*names)
        with self.client() as unit:
            links.answer(unit, ident, True, None)
        return ident

    def seen_by_client(self) -> schemas.PartnerLinkRow:
        with self.client() as unit:
            (row,) = links.every(unit).links
            return row

    def catch_up(self) -> None:
        """The worker does what the links say."""
        tasks.tasks_of(self.small.service)["link_partners"](str(self.itself.organisation))


@pytest.fixture
def practice(small: Small) -> Practice:
    head = authentication.make_organisation(
        small.service, "Care & Co", "care", "UTC", "Hanne", "hanne@care.example", PASSWORD
    )
    itself = Viewer.itself(head.organisation)
    people = {}
    with small.service.unit(itself) as unit:
        for name in ("Bo", "Cleo"):
            person = Person(
                organisation_id=itself.organisation, name=name, address=f"{name.lower()}@care.example", inside=True
            )
            unit.db.add(person)
            unit.db.flush()
            people[name] = person.id
            authentication.make_sign_in(unit.db, itself.organisation, person.id, str(person.address), PASSWORD)
    who = authentication.check_password(small.service, "hanne@care.example", PASSWORD, "test")
    return Practice(small, itself, who, people)


def give(practice: Practice, to: Holder) -> UUID:
    """A grant on the box at the client."""
    small = practice.small
    with practice.client() as unit:
        known = Known(small.account("box"), to.kind, to.id, small.level("read"))
        return UUID(str(existing_access.record(unit, [known], False).lines[0].grant_id))


def test_a_partners_people_come_over_once_the_client_has_said_yes(practice: Practice) -> None:
    """In a team of the client's, with what that team holds and nothing else; the client sees who was there."""
    small = practice.small
    ident = practice.offered("Bo")
    bo = practice.who("Bo")
    assert len(practice_list(practice, bo)) == 1
    assert any("offers to act for you" in sentence for sentence in small.told("ada"))
    with practice.client() as unit:
        row = links.answer(unit, ident, True, None)
    assert (row.state, row.we_are, row.other, row.team.name) == (
        "linked",
        "client",
        "Care & Co",
        "Care & Co",
    )
    give(practice, Holder(HolderKind.TEAM, row.team.id))
    home, there = practice_list(practice, bo)
    assert (home.is_current, there.organisation.name, there.as_partner) == (True, "Test", True)
    assert (there.accounts, there.levels, there.role) == (2, ["Pay", "Read"], "member")
    with practice.acting(bo) as unit:
        over = sign_in_links.switch(unit, there.sign_in, NO_FACTOR)
    assert (over.organisation, over.administrator, over.proved_at) == (small.itself.organisation, False, None)
    with small.service.unit(over) as unit:
        # The box has a grant on the ledger.
        accounts = register.page(unit, "accounts", ListQuery(limit=100, sort="name")).rows
        assert [row["name"] for row in accounts] == ["Box", "Ledger"]
        with pytest.raises(NotAllowed):
            links.every(unit)
    opened = authentication.open_session(small.service, over, "Desk", "x")
    authentication.viewer_of_session(small.service, opened.token, None)
    assert practice.seen_by_client().people[0].is_in
    with practice.acting() as unit:
        (own,) = links.every(unit).links
    assert (own.other, own.team) == ("Test", None)
    assert own.people[0].model_fields_set == {"id", "name", "address"}


def practice_list(practice: Practice, who: Viewer) -> list[schemas.MyOrganisation]:
    with practice.small.service.unit(who) as unit:
        found = sign_in_links.listed(unit).organisations
    return sorted(found, key=lambda row: not row.is_current)


def test_a_partner_gets_nobody_in_whom_the_client_has_already(practice: Practice) -> None:
    """An address is only what the partner says: it never opens somebody else's sign-in, nor their grants."""
    small = practice.small
    with small.service.unit(practice.itself) as unit:
        for name, address in (("Fake", "ada@example.org"), ("Other", "mara@example.org")):
            person = Person(organisation_id=practice.itself.organisation, name=name, address=address, inside=True)
            unit.db.add(person)
            unit.db.flush()
            practice.people[name] = person.id
            authentication.make_sign_in(unit.db, practice.itself.organisation, person.id, address, PASSWORD)
    ident = practice.linked("Fake", "Other", "Bo")
    people = {one.name: one.is_in for one in practice.seen_by_client().people}
    assert people == {"Bo": True, "Fake": False, "Other": False}
    fake = authentication.check_password(small.service, "ada@example.org", PASSWORD, "x", at="care")
    assert len(practice_list(practice, fake)) == 1
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count(SignInLink.id))) == 1
        assert unit.db.scalar(select(SignIn.id).where(SignIn.person_id == small.person("mara"))) is None
    assert sum("Somebody here has this address already" in sentence for sentence in small.told("ada")) == 2
    waiting = {one.name: one.here for one in practice.seen_by_client().people}
    assert waiting["Fake"] is None
    assert waiting["Other"].name == "Mara"
    with practice.client() as unit, pytest.raises(NotFound):
        links.confirm_same(unit, ident, small.person("owen"))
    with practice.acting() as unit, pytest.raises(Conflict):
        links.confirm_same(unit, ident, small.person("mara"))
    practice.catch_up()
    assert sum("Somebody here has this address already" in sentence for sentence in small.told("ada")) == 2
    with practice.client() as unit:
        confirmed = links.confirm_same(unit, ident, small.person("mara")).people
    assert [one.is_in for one in confirmed if one.name == "Other"] == [True]
    other = authentication.check_password(small.service, "mara@example.org", PASSWORD, "x", at="care")
    assert practice_list(practice, other)[1].person == "Mara"


@pytest.mark.parametrize("by", ["client", "partner"])
def test_either_side_ends_it_and_nobody_gets_over_any_more(practice: Practice, by: str) -> None:
    """Previewed; what is open there ends, the team's grants are revoked, and who holds more is named."""
    small = practice.small
    ident = practice.linked("Bo", "Cleo")
    row = practice.seen_by_client()
    of_team = give(practice, Holder(HolderKind.TEAM, UUID(str(row.team.id))))
    ids = {one.name: UUID(str(one.id)) for one in row.people}
    give(practice, Holder(HolderKind.PERSON, ids["Cleo"]))
    with practice.client() as unit:
        team = small.id(Team, "wardens")
        unit.db.info["guarded"] = 1
        unit.db.add(Membership(organisation_id=unit.viewer.organisation, team_id=team, person_id=ids["Cleo"]))
    bo = practice.who("Bo")
    there = practice_list(practice, bo)[1].sign_in
    with practice.acting(bo) as unit:
        over = sign_in_links.switch(unit, there, NO_FACTOR)
    token = authentication.open_session(small.service, over, "Desk", "x").token
    if by == "client":
        with practice.client() as unit:
            told = links.preview_end(unit, ident)
            assert told.grants == 1
            assert any("Cleo keeps 1 grant of their own, stays in 1 other team" in line for line in told.does)
        with practice.client() as unit, pytest.raises(Conflict, match="has changed since"):
            links.end(unit, ident, "Done.", "something else")
        with practice.client() as unit:
            assert links.end(unit, ident, "Done.", told.fingerprint).state == "ended"
    else:
        with practice.acting() as unit:
            assert links.preview_end(unit, ident).grants == 0
            links.end(unit, ident, "Done.")
        practice.catch_up()
    assert small.state(of_team) == "revoking"
    with pytest.raises(NotSignedIn):
        authentication.viewer_of_session(small.service, token, None)
    assert [len(practice_list(practice, practice.who(name))) for name in ("Bo", "Cleo")] == [1, 1]
    with practice.acting(bo) as unit, pytest.raises(NotFound):
        sign_in_links.switch(unit, there, NO_FACTOR)
    with small.service.unit(small.itself) as unit:
        kept = select(SignIn.person_id).where(SignIn.person_id.in_(ids.values()))
        assert list(unit.db.scalars(kept)) == []
        of_them = select(Membership.team_id).where(Membership.person_id.in_(ids.values()))
        assert list(unit.db.scalars(of_them)) == [small.id(Team, "wardens")]
    with practice.acting() as unit, pytest.raises(Conflict):
        links.end(unit, ident, "Again.")
    with practice.acting() as unit:
        unit.db.get_one(Person, practice.people["Bo"]).standing = "left"
    with practice.acting() as unit:
        erasure.erase(unit, practice.people["Bo"])
        assert "bo@care.example" not in str(unit.db.get_one(PartnerLink, ident).people)


def test_who_leaves_the_partner_is_out_at_its_clients(practice: Practice) -> None:
    """Taken off the link, suspended, let go, or with their sign-in taken away."""
    ident = practice.linked("Bo", "Cleo")
    with practice.acting() as unit:
        links.set_people(unit, ident, [practice.people["Cleo"]])
    practice.catch_up()
    assert [(one.name, one.is_in) for one in practice.seen_by_client().people] == [("Cleo", True)]
    cleo = practice.who("Cleo")
    assert len(practice_list(practice, cleo)) == 2
    with practice.acting() as unit:
        sign_ins.set_suspended(unit, cleo.sign_in, True)
    practice.catch_up()
    assert practice.seen_by_client().people == []
    with practice.acting() as unit:
        sign_ins.set_suspended(unit, cleo.sign_in, False)
        links.set_people(unit, ident, [practice.people["Cleo"]])
    practice.catch_up()
    # Who has been there once is known there now, and comes back by the client's word alone.
    assert [(one.name, one.is_in) for one in practice.seen_by_client().people] == [("Cleo", False)]


def test_nobody_comes_in_past_a_latch_and_the_worker_goes_on(practice: Practice) -> None:
    """The client is told which latch holds; named anew once it passes, they are in."""
    small = practice.small
    ident = practice.linked("Bo")
    give(practice, Holder(HolderKind.TEAM, UUID(str(practice.seen_by_client().team.id))))
    latch = Setting(LatchKind.MOST_DELEGATES, LatchMode.HOLD, small.account("box"), number=3)
    with practice.client() as unit:
        guard.switch(unit, latch)
    with practice.acting() as unit:
        links.set_people(unit, ident, [practice.people["Bo"], practice.people["Cleo"]])
    practice.catch_up()
    people = {one.name: (one.is_in, one.is_held) for one in practice.seen_by_client().people}
    assert people == {"Bo": (True, False), "Cleo": (False, True)}
    assert any("names Cleo, who are not let in" in sentence for sentence in small.told("ada"))
    with practice.client() as unit:
        guard.switch(unit, replace(latch, mode=LatchMode.OFF))
    for people in (["Bo"], ["Bo", "Cleo"]):
        with practice.acting() as unit:
            links.set_people(unit, ident, [practice.people[name] for name in people])
        practice.catch_up()
    assert all(one.is_in for one in practice.seen_by_client().people)


def test_a_second_factor_there_is_asked_for_and_offers_have_an_end(practice: Practice) -> None:
    """A wrong code opens nothing. So many clients are asked in a day, and no more."""
    small = practice.small
    practice.linked("Bo")
    bo = practice.who("Bo")
    there = practice_list(practice, bo)[1]
    assert (there.accounts, there.as_partner) == (0, True)
    with small.service.unit(bo) as unit:
        assert authentication.describe(unit).model_dump(include={"elsewhere", "as_partner"}) == {
            "elsewhere": 1,
            "as_partner": False,
        }
    secret = pyotp.random_base32()
    with small.service.unit(small.itself) as unit:
        row = unit.db.get_one(SignIn, there.sign_in)
        row.factor_secret, row.factor_since = small.service.cipher.encrypt(secret.encode()), unit.now
    for code, refused in (("", FactorNeeded), ("000000", NotSignedIn)):
        with practice.acting(bo) as unit, pytest.raises(refused):
            sign_in_links.switch(unit, there.sign_in, Factor(code))
    with practice.acting(bo) as unit:
        over = sign_in_links.switch(unit, there.sign_in, Factor(pyotp.TOTP(secret).at(small.clock())))
    assert over.organisation == small.itself.organisation
    with practice.acting() as unit:
        for number in range(links.MOST_OFFERS - 1):
            links.offer(unit, f"client-{number}", "", [])
        with pytest.raises(Conflict, match="within a day"):
            links.offer(unit, "one-more", "", [])


def test_nothing_else_crosses(practice: Practice) -> None:
    """Not whether there is such a client, not to members, not to a third, and never without a proof."""
    small = practice.small
    with practice.acting() as unit:
        nobody = links.offer(unit, "nobody-here", "", [])
        assert (nobody.state, nobody.other) == ("offered", "nobody-here")
        real = links.offer(unit, "test", "", [practice.people["Bo"]])
        assert (real.state, real.other) == ("offered", "test")
        with pytest.raises(Conflict):
            links.offer(unit, "TEST", "", [])
        with pytest.raises(BadInput):
            links.offer(unit, "care", "", [])
        with pytest.raises(BadInput):
            links.offer(unit, "third", "", [small.person("ines")])
        with pytest.raises(Conflict):
            links.answer(unit, real.id, True, None)
    third = authentication.make_organisation(
        small.service, "Third", "third", "UTC", "Tom", "tom@third.example", PASSWORD
    )
    tom = authentication.check_password(small.service, "tom@third.example", PASSWORD, "x")
    with small.service.unit(tom) as unit:
        assert links.every(unit).links == []
        assert unit.db.scalars(select(PartnerLink)).all() == []
        for what in (
            lambda: links.answer(unit, real.id, True, None),
            lambda: links.end(unit, real.id, "x"),
            lambda: links.preview_end(unit, real.id),
        ):
            with pytest.raises(NotFound):
                what()
    assert third.organisation != small.itself.organisation
    ada = authentication.check_password(small.service, "ada@example.org", "a long password", "test")
    unproved = authentication.open_session(small.service, ada, "Desk", "x", proved=False).token
    stale = authentication.viewer_of_session(small.service, unproved, None)
    with small.service.unit(stale) as unit, pytest.raises(ProofNeeded):
        links.answer(unit, real.id, True, None)
    with small.acting("mara") as unit, pytest.raises(NotAllowed):
        links.answer(unit, real.id, True, None)
    with practice.client() as unit:
        assert links.answer(unit, real.id, False, None).state == "declined"
    with practice.client() as unit, pytest.raises(Conflict):
        links.answer(unit, real.id, True, None)


def test_one_links_ones_own_sign_ins_by_proving_both(practice: Practice) -> None:
    """And is then at both, as who they are there; a wrong password links nothing, and nobody's can be taken."""
    small = practice.small
    bo = replace(practice.who("Bo"), proved_at=small.clock())
    with small.service.unit(bo) as unit, pytest.raises(NotSignedIn):
        sign_in_links.link(unit, "ada@example.org", "not the password", NO_FACTOR, "test", "x")
    with small.service.unit(bo) as unit, pytest.raises(BadInput):
        sign_in_links.link(unit, "cleo@care.example", PASSWORD, NO_FACTOR, "", "x")
    with small.service.unit(bo) as unit:
        found = sign_in_links.link(unit, "ada@example.org", "a long password", NO_FACTOR, "test", "x").organisations
    (ada,) = [row for row in found if not row.is_current]
    assert (ada.role, ada.as_partner) == ("administrator", False)
    with small.service.unit(practice.who("Cleo")) as unit, pytest.raises(NotFound):
        sign_in_links.switch(unit, ada.sign_in, NO_FACTOR)
    with small.service.unit(bo) as unit:
        over = sign_in_links.switch(unit, ada.sign_in, NO_FACTOR)
    token = authentication.open_session(small.service, over, "Desk", "x", proved=False).token
    here = authentication.viewer_of_session(small.service, token, None)
    with small.service.unit(here) as unit, pytest.raises(ProofNeeded):
        sign_ins.set_role(unit, over.sign_in, Role.ADMINISTRATOR)
    with small.service.unit(over) as unit:
        sign_in_links.unlink(unit, bo.sign_in)
    assert len(practice_list(practice, bo)) == 1
