"""Access as it changes: told of before it ends, made longer, changed term by term, done by hand, handed over."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime
from uuid import UUID
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select, update

from openlatch import schemas
from openlatch.core.register import Holder
from openlatch.core.time_windows import ends_on
from openlatch.core.vocabulary import GrantState, HolderKind
from openlatch.errors import BadInput, Conflict, NotFound, ProofNeeded
from openlatch.service.accounts import settings
from openlatch.service.changes import changes
from openlatch.service.grants import end_reminders, hand_tasks, lifecycle, terms
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice, Single, weekly_hours
from openlatch.service.grants.terms import TermWish
from openlatch.service.lists import register
from openlatch.service.offers import answer, preview
from openlatch.service.offers import page as offer_page
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.answer import Answer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.requests.ask import Wish
from openlatch.service.reviews import calendar_feed
from openlatch.service.revocations import prepare, revoke, steps
from openlatch.store.lists import register as register_lists
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Grant, HandTask, Offer, Person, Resource, Revocation, Step, Term
from openlatch.worker import tasks
from tests.service.conftest import Small, link_to, mailed

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")


def offered(small: Small, to: str, choice: Choice, account: str = "box", by: str = "ines") -> UUID:
    with small.acting_as_administrator(by) as unit:
        return send_offer.send(unit, Proposal(small.account(account), (To(person=small.person(to)),), choice))[0]


def accepted(small: Small, to: str, choice: Choice, account: str = "box") -> UUID:
    """A grant that somebody has accepted."""
    offer = offered(small, to, choice, account)
    with small.acting(to) as unit:
        answer.accept(unit, offer, Answer(1))
        found = unit.db.get_one(Offer, offer).grant_id
    assert found is not None
    return found


def changed(small: Small, by: str, change: Change) -> schemas.ChangeLine:
    with small.acting(by) as unit:
        (line,) = changes.carry_out(unit, change).lines
        return line


def untils(small: Small, grant: UUID) -> list[date | None]:
    with small.service.unit(small.itself) as unit:
        rows = unit.db.scalars(select(Term).where(Term.grant_id == grant).order_by(Term.until.nulls_last())).all()
        return [ends_on(row.until, ZoneInfo("Europe/London")) if row.until else None for row in rows]


def shown_state(small: Small, grant: UUID) -> str:
    with small.service.unit(small.itself) as unit:
        row = register_lists.GRANTS.one(unit.db, grant)
        assert row is not None
        return str(row["state"])


def open_tasks(small: Small) -> list[HandTask]:
    with small.service.unit(small.itself) as unit:
        return list(unit.db.scalars(select(HandTask).where(HandTask.done_at.is_(None), HandTask.dropped_at.is_(None))))


def remind(small: Small) -> int:
    with small.service.unit(small.itself) as unit:
        return end_reminders.remind(unit)


# Before it ends.


def test_holder_and_owner_are_told_before_an_end_once_for_each_of_the_days(small: Small) -> None:
    """By notice and by mail; not of what was given for less time; and it is in their calendars."""
    grant = accepted(small, "owen", Choice((small.level("read"),), last_day=date(2026, 4, 30)))
    assert remind(small) == 0
    small.clock.forward(days=(date(2026, 4, 17) - small.clock().date()).days)
    assert (remind(small), remind(small)) == (1, 0)
    sentence = "Your access to Box runs to the end of 30 April 2026. If you need it for longer, ask for more time."
    assert small.told("owen")[-1] == sentence
    assert small.told("ines")[-1].startswith("Owen’s access to Box runs to the end of 30 April 2026.")
    assert any(
        to == "owen@example.net" and sentence in text
        for to, _, text in mailed(small.service, small.itself.organisation)
    )
    short = accepted(small, "mara", Choice((small.level("run"),), last_day=date(2026, 4, 20)))
    assert remind(small) == 0, "three days before is not there yet, fourteen were before it was given"
    small.clock.forward(days=11)
    assert remind(small) == 1
    with small.service.unit(small.itself) as unit:
        told = [unit.db.get_one(Grant, ident) for ident in (grant, short)]
    assert [row.state for row in told] == ["active", "active"]
    with small.acting("ines") as unit:
        assert unit.db.scalar(select(Grant.id).where(calendar_feed._ending(unit), Grant.id == grant)) == grant


def test_how_long_before_is_a_setting(small: Small) -> None:
    """Left out it stays; nothing at all means that nobody is told."""
    accepted(small, "owen", Choice((small.level("read"),), last_day=date(2026, 6, 30)))
    with small.acting_as_administrator("ines") as unit:
        assert settings.change(unit, 48, [], [], remind_days=[30, 7, 30]).remind_days == [30, 7]
        assert settings.change(unit, 48, [], []).remind_days == [30, 7]
    small.clock.forward(days=(date(2026, 6, 5) - small.clock().date()).days)
    assert remind(small) == 1
    with small.acting_as_administrator("ines") as unit:
        settings.change(unit, 48, [], [], remind_days=[])
    small.clock.forward(days=24)
    assert remind(small) == 0


def test_more_time_is_asked_for_in_one_step_and_given_on_the_same_grant(small: Small) -> None:
    """As was asked or less; never a second grant; and only on what is one's own."""
    grant = accepted(small, "owen", Choice((small.level("read"),), last_day=date(2026, 4, 30)))
    with pytest.raises(NotFound), small.acting("mara") as unit:
        ask_access.ask(unit, Wish("For me, too.", extends=grant))
    with pytest.raises(BadInput, match="30 April 2026 already"), small.acting("owen") as unit:
        ask_access.ask(unit, Wish("A bit less.", extends=grant, last_day=date(2026, 4, 1)))
    with small.acting("owen") as unit:
        asked = ask_access.ask(unit, Wish("The season is longer.", extends=grant, last_day=date(2026, 6, 30)))
        again = ask_access.ask(unit, Wish("It is even longer.", extends=grant, last_day=date(2026, 7, 31)))
        other = ask_access.ask(unit, Wish("Something else.", account_name="Box", level=small.level("run")))
    assert (asked.id, other.id != asked.id) == (again.id, True)
    assert small.told("ines")[-2] == "Owen asks for more time for access to Box: The season is longer."
    with pytest.raises(BadInput, match="longer than was asked"), small.acting("ines") as unit:
        answer_request.grant(unit, asked.id, Choice(last_day=date(2026, 9, 30)), "", None, None)
    with small.acting("ines") as unit:
        done = answer_request.grant(unit, asked.id, Choice(last_day=date(2026, 6, 30)), "Until June.", None, None)
    assert (done.grant_id, untils(small, grant)) == (grant, [date(2026, 6, 30)])
    assert small.told("owen")[-1] == (
        "Ines granted your request: your access to Box runs to the end of 30 June 2026. Until June."
    )
    with small.service.unit(small.itself) as unit:
        of_owen = select(Grant).where(Grant.person_id == small.person("owen"), Grant.account_id == small.account("box"))
        assert [row.state for row in unit.db.scalars(of_owen.where(Grant.state == "active"))] == ["active"]


def test_a_request_for_what_is_held_makes_it_longer_and_no_second_grant(small: Small) -> None:
    """And is refused where it would give nothing more."""
    grant = accepted(small, "owen", Choice((small.level("read"),), last_day=date(2026, 4, 30)))
    with small.acting("owen") as unit:
        asked = ask_access.ask(unit, Wish("Again.", account_name="Box", level=small.level("read"))).id
    with pytest.raises(Conflict, match="for as long"), small.acting("ines") as unit:
        answer_request.grant(unit, asked, Choice(last_day=date(2026, 4, 15)), "", None, None)
    with small.acting("ines") as unit:
        assert answer_request.grant(unit, asked, Choice(last_day=date(2026, 5, 31)), "", None, None).grant_id == grant
    assert untils(small, grant) == [date(2026, 5, 31)]


# Term by term.


def test_moving_the_whole_end_keeps_single_ends_that_come_sooner(small: Small) -> None:
    """And the line says so."""
    choice = Choice(
        (small.level("read"),), (Single("mail.share", last_day=date(2026, 3, 20)),), last_day=date(2026, 4, 30)
    )
    with small.acting("ines") as unit:
        unit_choice = lifecycle.terms_from(unit, lifecycle.account_of(unit, small.account("box")), choice)
        grant = lifecycle.write_grant(
            unit,
            lifecycle.account_of(unit, small.account("box")),
            Holder(HolderKind.PERSON, small.person("owen")),
            unit_choice,
            GrantState.SUSPENDED,
        ).id
    line = changed(small, "ines", Change(ChangeKind.SET_END, "Longer.", (grant,), last_day=date(2026, 6, 30)))
    assert line.does == "runs to the end of 30 June 2026; 1 of its 2 terms ends sooner, as before"
    assert untils(small, grant) == [date(2026, 3, 20), date(2026, 6, 30)]
    changed(small, "ines", Change(ChangeKind.SET_END, "Now.", (grant,), last_day=date(2026, 3, 15)))
    assert untils(small, grant) == [date(2026, 3, 15), date(2026, 3, 15)]
    assert small.told("owen")[-1] == "Your access to Box runs to the end of 15 March 2026: Now."


def _with_part(small: Small) -> UUID:
    with small.service.unit(small.itself) as unit:
        part = Resource(
            organisation_id=small.itself.organisation, account_id=small.account("box"), key="inbox", name="Inbox"
        )
        unit.db.add(part)
        unit.db.flush()
        return part.id


def test_windows_hours_and_parts_are_changed_each_alone(small: Small) -> None:
    """With a line of what becomes other; what takes rights away goes the way of a trim, and is proved."""
    part = _with_part(small)
    grant = small.grant_of("mara", "box")
    run = small.level("run")
    hours = weekly_hours(range(5), "08:00", "18:00")

    def change(*wishes: TermWish) -> schemas.ChangeLine:
        return changed(small, "ines", Change(ChangeKind.SET_TERMS, "The owner wants it.", (grant,), terms=wishes))

    assert change(TermWish(run, hours=hours)).does == (
        "“Run”, without an end becomes “Run”, without an end, Monday to Friday, 08:00 to 18:00"
    )
    line = change(TermWish(run, hours=hours), TermWish(permission="mail.read", part=part, last_day=date(2026, 3, 31)))
    assert line.does == "gains “Read it” on Inbox, to the end of 31 March 2026"
    assert [task.kind for task in open_tasks(small)] == ["change"]
    with pytest.raises(Conflict, match="already"):
        change(TermWish(run, hours=hours), TermWish(permission="mail.read", part=part, last_day=date(2026, 3, 31)))
    with pytest.raises(Conflict, match="at the same time"):
        change(TermWish(small.level("read")))
    with pytest.raises(BadInput, match="No term is left"):
        change()
    line = change(TermWish(permission="mail.read", part=part, last_day=date(2026, 3, 31)))
    assert (line.does.startswith("loses “Run”"), small.state(grant)) == (True, "revoking")
    with small.service.unit(small.itself) as unit:
        step = unit.db.scalars(select(Step).where(Step.revocation_id == line.revocation_id)).one()
        assert "Reduce Mara in Box to “Read it” on Inbox" in step.sentence
        assert unit.db.get_one(Revocation, line.revocation_id).settled_at is None
    with small.acting("ines") as unit:
        steps.done_by_hand(unit, line.revocation_id, step.id, "Taken out of the list.")
    with small.service.unit(small.itself) as unit:
        left = terms.held(unit, grant)
    assert [(t.level.name, t.part.name if t.part else None) for t in left] == [("Read it", "Inbox")]
    assert small.state(grant) == "active"


def test_steward_reach_by_a_single_term_takes_a_fresh_proof(small: Small) -> None:
    """As any other way to give it does."""
    grant = accepted(small, "owen", Choice((small.level("read"),)))
    who = replace(small.signed_in("ines"), proved_at=None)
    wish = Change(
        ChangeKind.SET_TERMS,
        "More.",
        (grant,),
        terms=(TermWish(small.level("read")), TermWish(permission="mail.share")),
    )
    with pytest.raises(ProofNeeded), small.service.unit(who) as unit:
        changes.carry_out(unit, wish)


def test_a_right_on_a_part_is_new_on_the_whole_account(small: Small) -> None:
    """The preview says what is added, and stops an offer to the owner."""
    part = _with_part(small)
    accepted(small, "ada", Choice((small.level("read"),), parts=(part,)))

    def adds(choice: Choice, to: str = "ada") -> list[str]:
        with small.acting("ines") as unit:
            proposal = Proposal(small.account("box"), (To(person=small.person(to)),), choice)
            return [right.key for right in preview.preview(unit, proposal).to[0].adds]

    assert adds(Choice((small.level("read"),))) == ["mail.read"]
    assert adds(Choice((small.level("read"),), parts=(part,))) == []
    with pytest.raises(BadInput, match="Ines owns Box"):
        adds(Choice((small.level("read"),)), "ines")


# Offers.


def test_an_offer_is_changed_from_what_it_is(small: Small) -> None:
    """Its page has what was chosen, as the form that changes it begins."""
    choice = Choice(
        (small.level("read"),), (Single("mail.share", last_day=date(2026, 3, 20)),), last_day=date(2026, 4, 30)
    )
    offer = offered(small, "mara", choice)
    with small.acting("ines") as unit:
        chosen = offer_page.one(unit, offer).choice
    assert chosen.levels == [small.level("read")]
    assert chosen.until == datetime(2026, 4, 30, 23, tzinfo=UTC)
    assert [(p.key, p.until.date()) for p in chosen.permissions] == [("mail.share", date(2026, 3, 21))]
    assert (chosen.parts, chosen.hours) == ([], None)


def test_a_run_out_offer_has_no_pending_grant_and_a_new_one_when_it_is_sent_again(small: Small) -> None:
    """Both sides are told."""
    offer = offered(small, "mara", Choice((small.level("read"),), last_day=date(2026, 4, 30)))
    with small.service.unit(small.itself) as unit:
        first = unit.db.get_one(Offer, offer).grant_id
    small.clock.forward(hours=49)
    tasks.look_round(small.service)
    assert first is not None
    assert small.state(first) == "expired"
    assert small.told("mara")[-1] == "The offer of Box to you has run out unanswered."
    with small.acting("ines") as unit:
        assert send_offer.send_again(unit, offer).state == "pending"
        second = unit.db.get_one(Offer, offer).grant_id
    assert second is not None
    assert (second != first, small.state(first), small.state(second)) == (True, "expired", "pending")
    with small.acting("mara") as unit:
        answer.accept(unit, offer, Answer(3))
    assert (small.state(second), untils(small, second)) == ("active", [date(2026, 4, 30)])


# By hand.


def test_what_is_accepted_in_a_system_without_adapter_is_a_task_before_it_is_active(small: Small) -> None:
    """Somebody is reminded of it, and it is stated when it is done, by whom and in which words."""
    grant = accepted(small, "owen", Choice((small.level("read"),), last_day=date(2026, 4, 30)))
    assert shown_state(small, grant) == "to_be_given"
    (task,) = open_tasks(small)
    assert task.sentence == "Give Owen access to Box in Mail: “Read”, to the end of 30 April 2026."
    assert f"To be done by hand: {task.sentence}" in small.told("ines")
    with pytest.raises(NotFound), small.acting("mara") as unit:
        hand_tasks.done(unit, task.id, "I did it.", None)
    with small.acting("ines") as unit:
        hand_tasks.assign(unit, task.id, small.person("mara"), None)
    assert small.told("mara")[-1].startswith("Ines asks you to do by hand: Give Owen")
    small.clock.forward(days=3)
    tasks.look_round(small.service)
    tasks.look_round(small.service)
    assert [told for told in small.told("mara") if told.startswith("Still to be done")] == [
        f"Still to be done by hand: {task.sentence}"
    ]
    with small.acting("mara") as unit:
        done = hand_tasks.done(unit, task.id, "Shared the mailbox with him.", 2)
    assert (done.state, done.done_by, shown_state(small, grant)) == ("done", "Mara", "active")
    assert small.told("owen")[-1] == "Your access to Box is set up there, says Mara: Shared the mailbox with him."
    with pytest.raises(Conflict, match="Mara has said already"), small.acting("ines") as unit:
        hand_tasks.done(unit, task.id, "Me too.", None)
    with small.acting("ines") as unit:
        row = register_lists.GRANTS.one(unit.db, grant)
        assert row is not None
        assert (row["owed"], row["owed_answer"]) == (None, "Stated by Mara: Shared the mailbox with him.")


def test_a_task_is_dropped_when_the_access_is_ended_before_it_was_given(small: Small) -> None:
    """Whether it was given meanwhile nobody knows: the end is for hands, too, and not confirmed."""
    grant = accepted(small, "owen", Choice((small.level("read"),)))
    (task,) = open_tasks(small)
    with small.acting("ines") as unit:
        ident = revoke.start(unit, prepare.Wish((grant,)), "Not needed after all.")
    assert open_tasks(small) == []
    with pytest.raises(Conflict, match="not to be done any more"), small.acting("ines") as unit:
        hand_tasks.done(unit, task.id, "I did it.", None)
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Revocation, ident).confirmed_at is None


def test_suspending_and_resuming_by_hand_are_tasks(small: Small) -> None:
    """Told to the holder by mail as well."""
    grant = small.grant_of("mara", "box")
    changed(small, "ines", Change(ChangeKind.SUSPEND, "On leave.", (grant,)))
    assert [task.sentence for task in open_tasks(small)] == ["Take away Mara’s access to Box in Mail for now."]
    assert ("mara@example.org", "Your access to Box is suspended: On leave") in [
        (to, subject) for to, subject, _ in mailed(small.service, small.itself.organisation)
    ]
    changed(small, "ines", Change(ChangeKind.RESUME, "Back.", (grant,)))
    assert [task.kind for task in open_tasks(small)] == ["give"]


def test_emergency_access_is_not_said_to_be_open_before_it_is(small: Small) -> None:
    """Neither in the answer nor to those who are told."""
    with small.acting_as_administrator("ines") as unit:
        settings.set_account(unit, small.account("box"), 4, [], None)
    with small.acting("owen") as unit:
        row = ask_access.ask(
            unit, Wish("The hut is on fire.", account_name="Box", level=small.level("read"), emergency=True)
        )
    assert "has yet to open it" in row.answer
    assert shown_state(small, row.grant_id) == "to_be_given"
    told = [sentence for sentence in small.told("ines") if "emergency" in sentence]
    assert told
    assert all("opened" not in sentence and "yet to open it" in sentence for sentence in told)


# Handing over, and on whose behalf.


def test_handing_over_leaves_the_former_owner_what_was_chosen_and_nothing_else(small: Small) -> None:
    """What they held besides ends like any other access."""
    with small.acting("mara") as unit:
        held = lifecycle.write_grant(
            unit,
            lifecycle.account_of(unit, small.account("box")),
            Holder(HolderKind.PERSON, small.person("ines")),
            lifecycle.terms_from(unit, lifecycle.account_of(unit, small.account("box")), Choice((small.level("run"),))),
            GrantState.SUSPENDED,
        ).id
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Person).values(address_confirmed_at=unit.now))
    with small.acting("ines") as unit:
        send_offer.offer_ownership(unit, small.account("box"), small.person("mara"), small.level("read"), "Yours now.")
    token = link_to(small.service, small.itself.organisation, "mara@example.org")
    answer.accept_by_link(small.service, token, Answer(1, "a lake behind the hut"), "x", None)
    assert small.state(held) == "revoking"
    with small.service.unit(small.itself) as unit:
        of_ines = select(Grant).where(
            Grant.person_id == small.person("ines"), Grant.account_id == small.account("box"), Grant.state == "active"
        )
        (kept,) = unit.db.scalars(of_ines)
        assert [term.level.name for term in terms.held(unit, kept.id)] == ["Read"]


def test_the_journal_is_filtered_by_on_whose_behalf(small: Small) -> None:
    """What somebody did inside an account is told apart from what its owner did."""
    with small.service.unit(small.itself) as unit:
        unit.record("thing.done", "thing", None, "A thing", on_behalf_of={"id": None, "name": "Ines", "account": "Box"})
        unit.record("thing.done", "thing", None, "Another thing")
    with small.acting_as_administrator("ines") as unit:
        rows = register.page(unit, "journal", ListQuery(filter='on_behalf_of eq "ines"')).rows
    assert [(row["subject"], row["on_behalf_of"]) for row in rows] == [(None, "Ines")]
