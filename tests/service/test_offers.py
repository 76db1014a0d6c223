"""Offers: sent, answered, taken back, run out; twice, too late, by somebody else; and an account that changes hands."""

from __future__ import annotations

import re
import threading
from dataclasses import replace
from datetime import date, timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import HolderKind
from openlatch.errors import (
    BadInput,
    Conflict,
    Held,
    NotAllowed,
    NotFound,
    NotSignedIn,
    OrganisationNeeded,
    ProofNeeded,
    TooMany,
)
from openlatch.service.accounts import settings
from openlatch.service.accounts.page import account_page
from openlatch.service.changes import changes
from openlatch.service.flags import rule_settings
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice, Single, weekly_hours
from openlatch.service.identity import authentication, try_limits
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.offers import answer, preview
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import page as offer_page
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.answer import Answer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.own import my_access
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.unit import Viewer
from openlatch.store.access import mapping
from openlatch.store.tables import Account, Grant, Offer, Person, SignIn, Team
from openlatch.worker import tasks
from tests.service.conftest import Small, link_to, mailed

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")

NEW = To(address="Wim@Example.com", name="Wim")
GOOD = "a lake behind the hut"


def propose(small: Small, to: To = NEW, level: str = "read", account: str = "box", **choice: Any) -> Proposal:
    return Proposal(small.account(account), (to,), Choice((small.level(level),), **choice))


def send(small: Small, proposal: Proposal | None = None, by: str = "ines") -> UUID:
    with small.acting(by) as unit:
        return send_offer.send(unit, proposal or propose(small))[0]


def token(small: Small, address: str = "wim@example.com") -> str:
    return link_to(small.service, small.itself.organisation, address)


def grant_of(small: Small, offer: UUID) -> UUID:
    with small.service.unit(small.itself) as unit:
        found = unit.db.get_one(Offer, offer).grant_id
        assert found is not None
        return found


def test_somebody_new_reads_the_offer_signs_up_on_the_way_and_has_access(small: Small) -> None:
    """From the preview to the owner's notice; nothing is given before they accept."""
    with small.acting("ines") as unit:
        shown = preview.preview(unit, propose(small, last_day=date(2026, 3, 31)))
        assert shown.words == "“Read”, to the end of 31 March 2026"
        (to,) = shown.to
        assert [r.sentence for r in to.can] == ["Read it"]
        assert [r.sentence for r in to.cannot] == ["Let others in"]
        assert (to.known, to.inside, to.already) == (False, False, [])
    offer = send(small, propose(small, last_day=date(2026, 3, 31)))
    grant = grant_of(small, offer)
    assert small.state(grant) == "pending"
    opened = answer.read(small.service, token(small), "1.1.1.1", None)
    assert (opened.account.name, opened.sender["name"], opened.has_sign_in) == ("Box", "Ines", False)
    who = answer.accept_by_link(small.service, token(small), Answer(opened.version, GOOD), "1.1.1.1", None)
    assert small.state(grant) == "active"
    with small.service.unit(who) as unit:
        assert [path.account.name for path in my_access.page(unit).reach] == ["Box", "Ledger"]
    assert small.told("ines")[-1] == "Wim accepted the offer of Box."
    assert authentication.check_password(small.service, "wim@example.com", GOOD, "x").person == who.person


def test_a_link_is_good_for_one_answer(small: Small) -> None:
    """Not a second time, not by guessing, not after it was sent again, withdrawn or run out."""
    offer = send(small)
    first = token(small)
    with small.acting("ines") as unit:
        assert send_offer.send_again(unit, offer).times_sent == 2
    with pytest.raises(NotFound, match="opens nothing"):
        answer.read(small.service, first, "1.1.1.1", None)
    second = token(small)
    answer.accept_by_link(small.service, second, Answer(2, GOOD), "1.1.1.1", None)
    for again in (
        lambda: answer.read(small.service, second, "2.2.2.2", None),
        lambda: answer.accept_by_link(small.service, second, Answer(2, GOOD), "2.2.2.2", None),
        lambda: answer.decline_by_link(small.service, second, Answer(2), "2.2.2.2", False),
    ):
        with pytest.raises(Conflict, match="This offer is accepted"):
            again()
    with pytest.raises(Conflict, match="The offer is accepted"), small.acting("ines") as unit:
        manage_offers.withdraw(unit, offer)


def test_whoever_signs_in_elsewhere_accepts_and_signs_in_at_both(small: Small) -> None:
    """By the link, signed in at the other organisation or not; with one password at both it is asked at which."""
    other = authentication.make_organisation(small.service, "Other", "other", "UTC", "Wim", "wim@example.com", GOOD)
    elsewhere = authentication.check_password(small.service, "wim@example.com", GOOD, "x")
    assert elsewhere.organisation == other.organisation
    with small.acting("ines") as unit:
        choice = Choice((small.level("read"),))
        send_offer.send(unit, Proposal(small.account("box"), (To(address="wim@example.com", name="Wim"),), choice))
    token = link_to(small.service, small.itself.organisation, "wim@example.com")
    who = answer.accept_by_link(small.service, token, answer.Answer(1, GOOD), "x", elsewhere)
    assert who.organisation == small.itself.organisation
    with pytest.raises(OrganisationNeeded, match="several") as error:
        authentication.check_password(small.service, "wim@example.com", GOOD, "x")
    assert "other (Other)" in error.value.remedy
    at = {
        slug: authentication.check_password(small.service, "wim@example.com", GOOD, "x", at=slug).organisation
        for slug in ("other", "test")
    }
    assert at == {"other": other.organisation, "test": small.itself.organisation}


def test_what_the_organisation_keeps_apart_is_told_before_it_is_given(small: Small) -> None:
    """Over all accounts: whoever pays would also let others in."""
    with small.service.unit(small.itself) as unit:
        rule_settings.change(unit, rule_settings.Wish(never_together=[("books.pay", "mail.share")]))
    with small.acting("ines") as unit:
        runs = propose(small, To(person=small.person("owen")), level="run")
        (warning,) = [w for w in preview.preview(unit, runs).to[0].warnings if "keeps apart" in w]
        reads = propose(small, To(person=small.person("owen")))
        assert not any("keeps apart" in w for w in preview.preview(unit, reads).to[0].warnings)
    assert warning == "They could both “Send money” and “Let others in”, which your organisation keeps apart."
    with small.acting("owen") as unit:
        wish = ask_access.Wish("Work.", account=small.account("box"), level=small.level("run"))
        asked = ask_access.ask(unit, wish).id
    with small.acting("ines") as unit:
        read = small.grant("box|team|wardens|read")
        changed = Change(ChangeKind.SET_LEVEL, "Test.", (read,), level=small.level("run"))
        lines = changes.preview(unit, changed).lines
        granted = answer_request.grant(unit, asked, Choice(), "", None, None)
    assert [found.fact for found in granted.warnings] == [warning]
    assert [found.fact for found in lines[0].latches] == [warning]


def test_guessing_at_links_ends_soon(small: Small) -> None:
    """For that origin; others go on."""
    for _ in range(try_limits.GUESSES):
        with pytest.raises(NotFound):
            answer.read(small.service, "guess", "9.9.9.9", None)
    with pytest.raises(TooMany):
        answer.read(small.service, "guess", "9.9.9.9", None)
    send(small)
    assert answer.read(small.service, token(small), "1.1.1.1", None).account.name == "Box"


@pytest.mark.parametrize("how", ["withdrawn", "run_out"])
def test_what_was_taken_back_or_has_run_out_can_not_be_accepted(small: Small, how: str) -> None:
    """Though one that ran out can be sent again."""
    offer = send(small)
    link = token(small)
    if how == "withdrawn":
        with small.acting("ines") as unit:
            manage_offers.withdraw(unit, offer)
    else:
        small.clock.forward(hours=48)
    with pytest.raises(Conflict, match=how.replace("_", " ")):
        answer.accept_by_link(small.service, link, Answer(1, GOOD), "1.1.1.1", None)
    if how == "withdrawn":
        assert small.state(grant_of(small, offer)) == "withdrawn"
        return
    tasks.look_round(small.service)
    assert "run out" in small.told("ines")[-1]
    with small.acting("ines") as unit:
        assert send_offer.send_again(unit, offer).state == "pending"
    answer.accept_by_link(small.service, token(small), Answer(3, GOOD), "1.1.1.1", None)


def test_a_link_does_not_act_for_somebody_who_has_a_sign_in(small: Small) -> None:
    """They sign in first, in whatever browser; and nobody else accepts for them."""
    mara = small.as_("mara")
    with small.service.unit(small.itself) as unit:
        authentication.make_sign_in(unit.db, mara.organisation, small.person("mara"), "mara@example.org", GOOD)
    send(small, propose(small, To(person=small.person("mara"))))
    link = token(small, "mara@example.org")
    with pytest.raises(NotSignedIn, match="has a sign-in already"):
        answer.accept_by_link(small.service, link, Answer(1, "another password"), "1.1.1.1", None)
    with pytest.raises(NotAllowed, match="somebody else"):
        answer.accept_by_link(small.service, link, Answer(1), "1.1.1.1", small.as_("owen"))
    with pytest.raises(NotFound), small.acting("owen") as unit:
        answer.accept(unit, UUID(int=1), Answer(1))
    answer.accept_by_link(small.service, link, Answer(1), "1.1.1.1", mara)
    with pytest.raises(NotFound), small.acting("owen") as unit:
        offer_page.one(unit, UUID(int=1))


def test_declining_and_not_knowing_the_sender(small: Small) -> None:
    """Needs no sign-in; the administrators hear of a sender who is not known."""
    declined = send(small)
    answer.decline_by_link(small.service, token(small), Answer(1, words="No time."), "1.1.1.1", False)
    assert small.state(grant_of(small, declined)) == "declined"
    assert small.told("ines")[-1] == "Wim declined the offer of Box: No time."
    reported = send(small)
    answer.decline_by_link(small.service, token(small), Answer(1), "1.1.1.1", True)
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Offer, reported).state == "unknown_sender"
        ada = unit.db.scalars(select(Person).where(Person.name == "Ada Admin")).one()
    assert "Wim does not know Ines" in mailed(small.service, ada.organisation_id)[-1][1]


def test_an_offer_that_was_changed_is_read_again_before_it_is_accepted(small: Small) -> None:
    """And two people at its sender's side do not overwrite each other."""
    offer = send(small)
    with small.acting("ines") as unit:
        changed = manage_offers.change(unit, offer, Choice((small.level("read"),), last_day=date(2026, 4, 1)), 1)
    with pytest.raises(Conflict, match="changed meanwhile"):
        answer.accept_by_link(small.service, token(small), Answer(1, GOOD), "1.1.1.1", None)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(SignIn.id).where(SignIn.address == "wim@example.com")) is None
    with pytest.raises(Conflict, match="changed meanwhile"), small.acting("ines") as unit:
        manage_offers.withdraw(unit, offer, 1)
    answer.accept_by_link(small.service, token(small), Answer(changed.version, GOOD), "1.1.1.1", None)


def test_two_accept_at_once_and_one_grant_comes_of_it(small: Small) -> None:
    """Whoever comes second is told that it is accepted."""
    send(small)
    link, found = token(small), []

    def accept() -> None:
        try:
            answer.accept_by_link(small.service, link, Answer(1, GOOD), "1.1.1.1", None)
            found.append("accepted")
        except Conflict as error:
            found.append(error.detail)

    both = [threading.Thread(target=accept) for _ in range(2)]
    for one in both:
        one.start()
    for one in both:
        one.join()
    assert sorted(found) == ["This offer is accepted; it can't be answered now.", "accepted"]


def test_what_an_offer_refuses(small: Small) -> None:
    """By those who may not, of nothing, to nobody, twice, and after looking at something else."""
    cases: list[tuple[str, Proposal, type[Exception]]] = [
        ("owen", propose(small), NotAllowed),
        ("mara", propose(small, account="rota"), NotFound),
        ("ines", Proposal(small.account("box"), (), Choice((small.level("read"),))), BadInput),
        ("ines", Proposal(small.account("box"), (NEW,), Choice()), BadInput),
        ("ines", propose(small, level="pay"), BadInput),
        ("ines", propose(small, To(address="wim@example.com")), BadInput),
        ("ines", propose(small, To(address="no address", name="X")), BadInput),
        ("ines", propose(small, To(handle="nobody")), BadInput),
        ("ines", propose(small, To(person=small.person("edda"))), BadInput),
        ("ines", propose(small, To(person=small.person("ines"))), BadInput),
        ("ines", propose(small, To(team=small.id(Team, "wardens"))), BadInput),
        ("ines", propose(small, last_day=date(2026, 3, 9)), BadInput),
        ("ines", propose(small, parts=(UUID(int=3),)), BadInput),
    ]
    for by, proposal, kind in cases:
        with pytest.raises(kind):
            send(small, proposal, by)
    send(small)
    with pytest.raises(Conflict, match="waits for an answer"):
        send(small)
    with pytest.raises(Conflict, match="has changed since"), small.acting("ines") as unit:
        send_offer.send(unit, propose(small, To(person=small.person("mara"))), "outdated")


def test_a_team_is_offered_access_through_whoever_speaks_for_it(small: Small) -> None:
    """The grant is the team's."""
    team = small.id(Team, "wardens")
    with small.service.unit(small.itself) as unit:
        settings.set_speaker(unit, team, small.person("owen"))
    offer = send(small, propose(small, To(team=team), "run"))
    with small.acting("owen") as unit:
        answer.accept(unit, offer, Answer(1))
    with small.service.unit(small.itself) as unit:
        row = unit.db.get_one(Grant, grant_of(small, offer))
        assert (row.holder_kind, row.holder_id, row.state) == (HolderKind.TEAM, team, "active")


def test_prerequisites_stand_before_accepting(small: Small) -> None:
    """Of the account; and somebody who takes no offers is sent none."""
    with small.acting("ines") as unit:
        settings.set_account(unit, small.account("box"), None, ["second_factor"], None)
    offer = send(small, propose(small, To(person=small.person("owen"))))
    with pytest.raises(Conflict, match="second factor"), small.acting("owen") as unit:
        answer.accept(unit, offer, Answer(1))
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Person, small.person("owen")).second_factor = True
    with small.acting("owen") as unit:
        answer.accept(unit, offer, Answer(1))
    with small.acting("mara") as unit:
        my_access.set_offers(unit, True)
    with pytest.raises(BadInput, match="does not take offers"):
        send(small, propose(small, To(person=small.person("mara"))))


def test_steward_reach_needs_a_fresh_proof_and_the_other_stewards_hear_of_it(small: Small) -> None:
    """Not from somebody who signed in long ago."""
    proposal = propose(small, To(person=small.person("owen")), "run")
    ines = small.as_("ines")
    stale = Viewer(ines.organisation, "Ines", ines.person, credential=UUID(int=5))
    with pytest.raises(ProofNeeded), small.service.unit(stale) as unit:
        send_offer.send(unit, proposal)
    fresh = Viewer(ines.organisation, "Ines", ines.person, credential=UUID(int=5), proved_at=small.clock())
    with small.service.unit(fresh) as unit:
        offer = send_offer.send(unit, proposal)[0]
    with small.acting("owen") as unit:
        answer.accept(unit, offer, Answer(1))
    assert "Ines gave Owen access to Box by which one decides who gets in there." in small.told("mara")


def test_single_permissions_parts_and_hours_become_terms(small: Small) -> None:
    """Each permission with an end of its own."""
    choice = Choice(
        (small.level("read"),),
        (Single("mail.share", last_day=date(2026, 3, 20)),),
        last_day=date(2026, 4, 30),
        hours=weekly_hours([0, 1], "08:00", "12:00"),
    )
    offer = send(small, Proposal(small.account("box"), (To(person=small.person("owen")),), choice))
    with small.service.unit(small.itself) as unit:
        terms = mapping.terms_of(unit.db, [grant_of(small, offer)])[grant_of(small, offer)]
    assert {(t.level.name, t.window.until.date() if t.window.until else None) for t in terms} == {
        ("Read", date(2026, 4, 30)),
        ("Let others in", date(2026, 3, 21)),
    }
    assert all(t.hours is not None for t in terms)
    for bad in (([], "08:00", "12:00"), ([7], "08:00", "12:00"), ([1], "8 o'clock", "12:00"), ([1], "08:00", "08:00")):
        with pytest.raises(BadInput):
            weekly_hours(*bad)


def test_a_latch_holds_an_offer_when_it_is_sent_and_when_it_is_accepted(small: Small) -> None:
    """It names itself, the fact, and what would pass."""
    offer = send(small)
    box = small.account("box")
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, box))
    with pytest.raises(Held, match="“No outsiders”: Wim is an outsider") as error:
        answer.accept_by_link(small.service, token(small), Answer(1, GOOD), "1.1.1.1", None)
    assert error.value.remedy == "Give it to somebody inside."
    assert error.value.breaches[0]["kind"] == "no_outsiders"
    assert small.state(grant_of(small, offer)) == "pending"
    with pytest.raises(Held):
        send(small, propose(small, To(address="x@example.com", name="X")))
    with small.acting("ines") as unit:
        shown = preview.preview(unit, propose(small, To(address="x@example.com", name="X")))
        assert [b.mode for b in shown.to[0].latches] == ["hold"]
        guard.switch(unit, Setting(LatchKind.NO_SPEND_OUTSIDE, LatchMode.HOLD, box))
        assert preview.preview(unit, propose(small)).to[0].meets == ["No outsider may spend"]


def test_an_account_changes_hands_by_the_link_alone(small: Small) -> None:
    """To somebody with a confirmed address; the old owner keeps what was agreed, and is told."""
    box, mara = small.account("box"), small.person("mara")
    with pytest.raises(BadInput, match="not confirmed"), small.acting("ines") as unit:
        send_offer.offer_ownership(unit, box, mara, None, "")
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Person, mara).address_confirmed_at = small.clock()
    with pytest.raises(NotAllowed), small.acting("owen") as unit:
        send_offer.offer_ownership(unit, box, mara, None, "")
    with small.acting("ines") as unit:
        offer = send_offer.offer_ownership(unit, box, mara, small.level("read"), "She runs it now.").id
    with pytest.raises(NotAllowed, match="by the link"), small.acting("mara") as unit:
        answer.accept(unit, offer, Answer(1))
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Account, box).owner_id == small.person("ines")
    answer.accept_by_link(small.service, token(small, "mara@example.org"), Answer(1, GOOD), "x", None)
    with small.acting("mara") as unit:
        page = account_page(unit, box)
        assert page.owner.name == "Mara"
        kept = [p for p in page.paths if p.holder.name == "Ines"]
        assert [p.level for p in kept] == ["Read"]
    assert "Mara owns Box now; before, it was Ines." in small.told("ines")


def test_mail_says_no_more_than_it_has_to(small: Small) -> None:
    """Who offers access to what, and a link without any address in it; no level, no permission."""
    send(small, propose(small, level="run"))
    (letter,) = [text for to, _, text in mailed(small.service, small.itself.organisation) if to == "wim@example.com"]
    assert "Ines" in letter
    assert "Box" in letter
    # The token of the link may spell anything.
    letter = re.sub(r"#[\w-]+", "", letter)
    for kept_back in ("Run", "Let others in", "steward", "wim@example.com", "ines@example.org"):
        assert kept_back not in letter
    with small.service.unit(small.itself) as unit:
        stored = unit.db.scalars(select(Offer.token_hash)).one()
    assert token(small).encode() not in stored


def test_offers_wait_no_longer_than_the_organisation_says(small: Small) -> None:
    """And its own domains are inside."""
    with small.service.unit(small.itself) as unit:
        settings.change(unit, 5, ["Example.com"], [])
    offer = send(small)
    with small.service.unit(small.itself) as unit:
        row = unit.db.get_one(Offer, offer)
        assert row.runs_out_at - row.sent_at == timedelta(hours=5)
        assert unit.db.get_one(Person, row.person_id).inside


def test_a_change_of_a_pending_offer_is_checked_like_the_offer_itself(small: Small) -> None:
    """By latches that are on by then, and by a fresh proof where it comes to steward reach."""
    offer = send(small)
    ines = small.as_("ines")
    stale = Viewer(ines.organisation, "Ines", ines.person, credential=UUID(int=5))
    with pytest.raises(ProofNeeded), small.service.unit(stale) as unit:
        manage_offers.change(unit, offer, Choice((small.level("run"),)), 1)
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, small.account("box")))
    with pytest.raises(Held, match="Wim is an outsider"), small.acting("ines") as unit:
        manage_offers.change(unit, offer, Choice((small.level("read"),), last_day=date(2026, 4, 1)), 1)
    with small.acting("ines") as unit:
        assert offer_page.one(unit, offer).version == 1


def test_nobody_is_offered_the_same_twice_in_one_go(small: Small) -> None:
    """Not by their id and their address, and not by one address in two ways of writing."""
    owen = To(person=small.person("owen"))
    for twice in (To(address="OWEN@example.net", name="Owen"), owen):
        proposal = replace(propose(small, owen), to=(owen, twice))
        with pytest.raises(BadInput, match="named twice"), small.acting("ines") as unit:
            send_offer.send(unit, proposal)
    both = (NEW, replace(NEW, name="Wim again"))
    with pytest.raises(BadInput, match="named twice"), small.acting("ines") as unit:
        preview.preview(unit, replace(propose(small), to=both))
