"""Requests: asked, granted or less, declined, run out; and an emergency."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch.core.latches import LatchKind, LatchMode
from openlatch.errors import BadInput, Conflict, Held, NotAllowed, NotFound, ProofNeeded
from openlatch.service.accounts import settings
from openlatch.service.grants.lifecycle import Choice, Single
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.requests import page as request_page
from openlatch.service.requests.ask import Wish
from openlatch.service.reviews import open_round
from openlatch.service.reviews.plans import Review
from openlatch.store.access import mapping
from openlatch.store.tables import AccessRequest, Grant, Item, Resource
from openlatch.worker import tasks
from tests.service.conftest import Small

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")


def ask(small: Small, by: str = "owen", level: str = "run", **more: object) -> UUID:
    wish = replace(Wish("I need it.", account_name="Box", level=small.level(level)), **more)  # type: ignore[arg-type]
    with small.acting(by) as unit:
        ident: UUID = ask_access.ask(unit, wish).id
        return ident


def test_the_owner_grants_less_and_for_a_shorter_time(small: Small) -> None:
    """Both are told; nobody grants more than was asked, or their own."""
    until = small.clock() + timedelta(days=30)
    ident = ask(small, level="read", until=until)
    assert small.told("ines") == ["Owen asks for access to Box: I need it."]
    with pytest.raises(BadInput, match="reaches further"), small.acting("ines") as unit:
        answer_request.grant(unit, ident, Choice((small.level("run"),)), "", None, None)
    share = Choice(permissions=(Single("mail.share"),))
    with pytest.raises(BadInput, match=r"mail\.share is not in"), small.acting("ines") as unit:
        answer_request.grant(unit, ident, share, "", None, None)
    with pytest.raises(NotAllowed), small.acting("owen") as unit:
        answer_request.grant(unit, ident, Choice(), "", None, None)
    with small.acting("ines") as unit:
        row = answer_request.grant(
            unit, ident, Choice(last_day=(until + timedelta(days=999)).date()), "Welcome.", None, 1
        )
        term = mapping.terms_of(unit.db, [row.grant_id])[row.grant_id][0]
    assert (row.state, term.level.name, term.window.until) == ("granted", "Read", until)
    assert small.told("owen") == ["Ines granted your request for Box. Welcome."]
    with pytest.raises(Conflict, match="The request is granted"), small.acting("ines") as unit:
        answer_request.decline(unit, ident, "No.", None)


def test_a_request_to_an_owner_alone_reads_as_one_says_it(small: Small) -> None:
    """Without an account there is nothing that the access is to."""
    for name, by in (("", "owen"), ("The web camera", "mara")):
        with small.acting(by) as unit:
            ask_access.ask(unit, Wish("For the survey.", account_name=name, owner_address="ines@example.org"))
    assert small.told("ines") == [
        "Owen asks for access: For the survey.",
        "Mara asks for access (The web camera): For the survey.",
    ]


def test_an_account_that_may_not_be_seen_is_asked_for_by_its_name(small: Small) -> None:
    """Its id tells nothing of it, not even that it is one."""
    for account in (small.account("ledger"), small.person("ines")):
        with pytest.raises(NotFound, match="may not see it"), small.acting("edda") as unit:
            ask_access.ask(unit, Wish("Please.", account))


def test_the_same_wish_again_does_not_pile_up(small: Small) -> None:
    """It changes the request that waits; the owner is told again only a day later."""
    first = ask(small)
    assert ask(small, reason="Really.") == first
    assert len(small.told("ines")) == 1
    small.clock.forward(days=2)
    assert ask(small) == first
    assert len(small.told("ines")) == 2
    with small.acting("ines") as unit:
        row = request_page.one(unit, first)
    assert (row.times_asked, row.reason) == (3, "I need it.")
    with pytest.raises(Conflict, match="changed meanwhile"), small.acting("ines") as unit:
        answer_request.decline(unit, first, "No.", 1)


def test_an_owner_is_asked_by_address_without_a_word_about_who_owns_what(small: Small) -> None:
    """The answer is the same for an address that no owner has; that goes to the administrators."""
    with small.acting("owen") as unit:
        asked = ask_access.ask(unit, Wish("To answer mail.", owner_address="ines@example.org"))
    with small.acting("owen") as unit:
        nobody = ask_access.ask(unit, Wish("To answer mail.", owner_address="nobody@example.org"))
    assert (asked.state, asked.account) == (nobody.state, nobody.account)
    with small.acting("ines") as unit:
        with pytest.raises(NotFound):
            request_page.one(unit, nobody.id)
        with pytest.raises(BadInput, match="names no account"):
            answer_request.grant(unit, asked.id, Choice((small.level("read"),)), "", None, None)
        row = answer_request.grant(unit, asked.id, Choice((small.level("read"),)), "", small.account("box"), None)
    assert row.account.name == "Box"
    with pytest.raises(NotFound, match="exactly that name"), small.acting("owen") as unit:
        ask_access.ask(unit, Wish("Please.", account_name="Bo"))


def test_requests_run_out_are_withdrawn_and_declined_with_a_word(small: Small) -> None:
    """Each in its own way, and by nobody else."""
    ident = ask(small)
    with pytest.raises(BadInput, match="A word"), small.acting("ines") as unit:
        answer_request.decline(unit, ident, " ", None)
    with pytest.raises(NotFound), small.acting("edda") as unit:
        answer_request.decline(unit, ident, "No.", None)
    small.clock.forward(days=14)
    tasks.look_round(small.service)
    assert small.told("owen") == ["The request for Box has run out unanswered."]
    again = ask(small)
    assert again != ident
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        answer_request.withdraw(unit, again, None)
    with small.acting("owen") as unit:
        assert answer_request.withdraw(unit, again, None).state == "withdrawn"
    third = ask(small)
    with small.acting("ines") as unit:
        answer_request.decline(unit, third, "Not this year.", None)
    assert small.told("owen")[-1] == "Ines declined your request for Box: Not this year."
    with small.service.unit(small.itself) as unit:
        states = unit.db.scalars(select(AccessRequest.state).order_by(AccessRequest.id)).all()
    assert states == ["run_out", "withdrawn", "declined"]


def test_an_emergency_opens_at_once_for_hours_tells_the_stewards_and_is_reviewed(small: Small) -> None:
    """Where the account allows it, never as far as steward, and not against a latch that holds."""
    with pytest.raises(NotAllowed, match="opens to nobody"):
        ask(small, level="read", emergency=True)
    with small.acting("ines") as unit:
        settings.set_account(unit, small.account("box"), 4, [], None)
    with pytest.raises(NotAllowed, match="steward"):
        ask(small, emergency=True)
    ident = ask(small, level="read", emergency=True)
    with pytest.raises(Conflict, match="open to you already"):
        ask(small, level="read", emergency=True)
    with small.acting("ines") as unit:
        row = request_page.one(unit, ident)
        grant = unit.db.get_one(Grant, row.grant_id)
        (term,) = mapping.terms_of(unit.db, [grant.id])[grant.id]
    assert (row.state, grant.state, grant.emergency) == ("granted", "active", True)
    assert term.window.until == small.clock() + timedelta(hours=4)
    assert "Owen took access to Box in an emergency" in small.told("ines")[-1]
    assert "Owen took access to Box in an emergency" in small.told("mara")[-1]
    with small.service.unit(small.itself) as unit:
        opened = open_round.open_round(unit, Review("Books", 'account.name eq "Ledger"'))
        items = unit.db.scalars(select(Item.grant_id).where(Item.round_id == opened)).all()
        assert grant.id in items
        again = open_round.open_round(unit, Review("Books again", 'account.name eq "Ledger"'))
        assert grant.id not in unit.db.scalars(select(Item.grant_id).where(Item.round_id == again)).all()
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.MOST_DELEGATES, LatchMode.HOLD, small.account("box"), None, 1))
    with pytest.raises(Held):
        ask(small, by="ada", level="read", emergency=True)
    small.clock.forward(hours=4)
    tasks.look_round(small.service)
    assert small.state(grant.id) in ("revoking", "expired")


def test_steward_reach_is_granted_after_a_fresh_proof(small: Small) -> None:
    """As it is everywhere."""
    ident = ask(small)
    stale = replace(small.as_("ines"), credential=UUID(int=5), proved_at=small.clock() - timedelta(minutes=11))
    with pytest.raises(ProofNeeded), small.service.unit(stale) as unit:
        answer_request.grant(unit, ident, Choice(), "", None, None)
    with small.acting("ines") as unit:
        assert request_page.one(unit, ident).state == "pending"


def test_no_part_beyond_those_asked_for_is_granted(small: Small) -> None:
    """Of an account with parts; and what latches on warn say is told to whoever grants."""
    with small.service.unit(small.itself) as unit:
        parts = [
            Resource(organisation_id=small.itself.organisation, account_id=small.account("box"), name=n) for n in "ab"
        ]
        unit.db.add_all(parts)
        unit.db.flush()
        asked, other = (part.id for part in parts)
    ident = ask(small, level="read", parts=(asked,))
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.ENDS_WITHIN, LatchMode.WARN, small.account("box"), number=9))
    with pytest.raises(BadInput, match="more of the account"), small.acting("ines") as unit:
        answer_request.grant(unit, ident, Choice(parts=(asked, other)), "", None, None)
    with small.acting("ines") as unit:
        row = answer_request.grant(unit, ident, Choice(), "", None, None)
        terms = mapping.terms_of(unit.db, [row.grant_id])[row.grant_id]
    assert [term.part.id for term in terms if term.part] == [asked]
    assert [(warning.kind, warning.mode) for warning in row.warnings] == [("ends_within", "warn")]
