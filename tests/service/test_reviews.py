"""Rounds: who is asked, deciding alone and together, questions, what the close does, and what opens small rounds."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import func, select, text, update
from sqlalchemy.exc import DBAPIError

from openlatch import schemas
from openlatch.core.reviews.assignment import Line, Place
from openlatch.core.vocabulary import Happening, Subject, Verdict
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, OpenLatchError, ProofNeeded
from openlatch.service import imports
from openlatch.service.exposure import evaluate as exposure
from openlatch.service.flags import manage as manage_flags
from openlatch.service.latches import guard
from openlatch.service.latches.guard import LatchKind, LatchMode, Setting
from openlatch.service.lists import register
from openlatch.service.reviews import close_round, decisions, open_round, reviewers, rounds, schedules
from openlatch.service.reviews.decisions import Decision, Picked
from openlatch.service.reviews.plans import Review, named
from openlatch.service.revocations import steps
from openlatch.service.unit import Unit, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import (
    AccessRule,
    Account,
    Exposure,
    Flag,
    Grant,
    Handle,
    Item,
    JournalEntry,
    Person,
    Question,
    Resource,
    Revocation,
    Round,
    SignIn,
    Step,
    Team,
)
from openlatch.worker import tasks
from tests.service.conftest import Small

BOX = 'account.name eq "Box"'
KEEP, TRIM, REVOKE = Verdict.KEEP, Verdict.TRIM, Verdict.REVOKE
NEEDED = Decision(KEEP, "They need it.")


def opened(small: Small, scope: str = BOX, **more: Any) -> UUID:
    with small.service.unit(small.itself) as unit:
        return open_round.open_round(unit, Review("Spring", scope, **more))


def by_mara(small: Small, **more: Any) -> UUID:
    """A round that Mara decides, since Ines gave everything on the box."""
    return opened(small, **{"reviewers": named(small.person("mara")), **more})


def items(small: Small, ident: UUID) -> dict[str, Item]:
    with small.service.unit(small.itself) as unit:
        rows = unit.db.scalars(select(Item).where(Item.round_id == ident).order_by(Item.position)).all()
        return {f"{row.holder} on {row.account}": row for row in rows}


def decided(small: Small, who: str, ident: UUID, item: Item, decision: Decision = NEEDED) -> schemas.ItemRow:
    with small.acting(who) as unit:
        return decisions.decide(unit, ident, item.id, decision)


def close(small: Small, ident: UUID, **fates: str) -> bool:
    with small.service.unit(small.itself) as unit:
        close_round.close(unit, ident, fates or None)
    return close_round.carry_on(small.service, small.itself, ident)


ALL = ("observe", "operate", "spend", "steward")


def test_a_round_freezes_its_items_with_the_facts_and_says_whose_they_are(small: Small) -> None:
    """Other ways in, who comes in by it, its flags, a recommendation; and what changes later is shown beside."""
    ident = opened(small, "")
    found = items(small, ident)
    asked = {name: (item.reviewer_id, item.assigned_as) for name, item in found.items()}
    assert asked["Box on Ledger"][0] == small.person("ada")
    assert asked["Mara on Box"] == (small.person("ada"), "Administrator, since Ines gave it.")
    assert found["Owen on Rota"].assigned_as == "Administrator, since Edda has left."
    assert "Owen on Box" not in found
    scores = [max((f["score"] for f in i.facts["flags"]), default=-1) for i in found.values()]
    assert scores == sorted(scores, reverse=True)
    mara = found["Mara on Box"].facts
    assert mara["others"] == ["Mara belongs to Wardens, Wardens holds “Read” on Box"]
    assert found["Wardens on Box"].facts["people"] == {"count": 2, "names": ["Mara", "Owen"]}
    assert found["Edda on Box"].recommended == "revoke"
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update people set name = 'Renamed' where key = 'mara'"))
        unit.db.get_one(Grant, found["Mara on Box"].grant_id).last_used_at = small.clock()
        row = rounds.item(unit, ident, found["Mara on Box"].id)
        page = rounds.page(unit, ident)
    assert row.facts == mara
    assert row.changes == ["It was used 10 March 2026."]
    assert [kind.model_dump() for kind in page.population] == [
        {"kind": "grant", "live": 5, "matched": 5, "not_matched": 0, "urgent": 0, "items": 5},
        {"kind": "link", "live": 1, "matched": 1, "not_matched": 0, "urgent": 0, "items": 1},
    ]
    assert (page.by_default, page.items) == (6, 6)


def test_use_job_and_the_last_decision_stand_beside_an_item(small: Small) -> None:
    """And from the use follows the smallest level that suffices."""
    used = "account,holder,last_used_at,permission\n" + "".join(
        f"box,mara,2026-0{month}-01T08:00:00Z,mail.read\n" for month in (1, 2, 3)
    )
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update people set job = 'Warden' where key in ('mara', 'owen')"))
        unit.db.execute(text("update grants set given_at = '2025-06-01' where key = 'box|person|mara|run'"))
    for _ in range(2):
        with small.service.unit(small.itself) as unit:
            imports.bring(unit, "use", "csv", io.BytesIO(used.encode()), keep_good=False, try_only=False)
    first = by_mara(small, scope='holder.name eq "Mara"', acts="at_close")
    item = items(small, first)["Mara on Box"]
    assert item.facts["use"] == {
        "held": 2,
        "used": 1,
        "observed_since": "2026-01-01",
        "permissions": {"mail.read": {"last": "2026-03-01", "days": 3}},
    }
    assert item.facts["peers"] == {"job": "Warden", "people": 2, "have": 1}
    advice = item.facts["recommendation"]
    assert (advice["verdict"], advice["level"]["name"]) == ("trim", "Read")
    decided(small, "ada", first, item)
    close(small, first)
    again = items(small, opened(small, 'holder.name eq "Mara"'))["Mara on Box"].facts["last_decision"]
    assert (again["verdict"], again["by"], again["reason"], again["round"]) == (
        "keep",
        "Ada Admin",
        "They need it.",
        "Spring",
    )


def test_a_reviewer_sees_only_the_items_that_are_theirs(small: Small) -> None:
    """A team's members all do, and a deputy while somebody is away; whoever has none does not see the round."""
    with small.service.unit(small.itself) as unit:
        team = unit.db.scalars(select(Team.id)).one()
    ident = opened(small, f'{BOX} and holder.name eq "Edda"', reviewers=(Place(Line.TEAM, team),))
    named_one = opened(small, 'account.name eq "Rota"', reviewers=named(small.person("ines")))

    def seen(viewer: Viewer, ident: UUID = ident) -> set[str]:
        with small.service.unit(viewer) as unit:
            rows = register.page(unit, "items", ListQuery(limit=100), Item.round_id == ident).rows
        return {row["facts"]["holder"]["name"] for row in rows}

    assert seen(small.as_("mara")) == seen(small.as_("owen")) == {"Edda"}
    assert seen(small.as_("ines")) == set()
    with pytest.raises(NotFound), small.acting("ines") as unit:
        rounds.page(unit, ident)
    assert seen(small.as_("owen"), named_one) == set()
    with small.acting("ines") as unit:
        reviewers.set_absence(unit, small.person("ines"), reviewers.Absence(small.clock(), deputy=small.person("owen")))
        offered = reviewers.absence(unit, small.person("ines")).could_stand_in
    assert [one.name for one in offered] == ["Ada Admin"]
    assert seen(small.as_("owen"), named_one) == {"Owen"}
    with pytest.raises(NotFound), small.acting("ines") as unit:
        reviewers.set_absence(unit, small.person("owen"), reviewers.Absence())
    away = opened(small, 'account.name eq "Rota"', reviewers=named(small.person("ines")))
    (item,) = items(small, away).values()
    assert (item.reviewer_id, item.assigned_as) == (
        small.person("ada"),
        "Administrator, since Ines is away and Edda has left.",
    )


def test_nobody_decides_on_their_own_access_nor_on_what_they_gave(small: Small) -> None:
    """Not even an administrator, nor whoever comes in by a team; and an item is not passed to them."""
    ident = opened(small)
    found = items(small, ident)
    for who, name, told in (
        ("mara", "Mara on Box", "their own access"),
        ("owen", "Wardens on Box", "their own access"),
        ("ines", "Sync on Box", "what they gave"),
    ):
        viewer = replace(small.as_(who), administrator=True)
        with pytest.raises(NotAllowed, match=told), small.service.unit(viewer) as unit:
            decisions.decide(unit, ident, found[name].id, NEEDED)
        with pytest.raises(NotAllowed, match=told), small.acting_as_administrator("ada") as unit:
            decisions.pass_on(unit, ident, found[name].id, small.person(who), "They know it.")
    with pytest.raises(NotFound), small.acting("owen") as unit:
        decisions.decide(unit, ident, found["Edda on Box"].id, NEEDED)


def test_passing_on_names_better_reviewers_and_tells_them(small: Small) -> None:
    """They decide then, and the item says by whom it came."""
    ident = opened(small)
    item = items(small, ident)["Edda on Box"]
    with small.acting_as_administrator("ada") as unit:
        better = decisions.better_reviewers(unit, ident, item.id)
        assert [(p.name, p.why) for p in better] == [("Mara", "decides who gets in")]
        shown = decisions.pass_on(unit, ident, item.id, better[0].id, "She works beside her.")
    assert shown.assigned_as == "Passed on by Ada Admin: She works beside her."
    assert "Ada Admin passed Edda on Box on to you: She works beside her." in small.told("mara")
    assert decided(small, "mara", ident, item).verdict == "keep"


def test_a_second_reviewer_agrees_or_sends_back(small: Small) -> None:
    """For keeping what is highly flagged; somebody else than the first; ending needs no second."""
    high = next(i.severity for n, i in items(small, opened(small)).items() if n == "Edda on Box")
    ident = by_mara(small, second_from=high)
    found = items(small, ident)
    item = found["Edda on Box"]
    assert (item.reviewer_id, item.second_id) == (small.person("mara"), small.person("ada"))
    assert decided(small, "mara", ident, item).state == "seconding"
    assert any("you are asked to agree" in sentence for sentence in small.told("ada"))
    with pytest.raises(NotAllowed, match="somebody else"), small.acting("mara") as unit:
        decisions.second(unit, ident, item.id, True, "", None)
    with small.acting("ada") as unit:
        back = decisions.second(unit, ident, item.id, False, "She has left.", None)
    assert (back.state, back.verdict) == ("undecided", None)
    assert small.told("mara")[-1] == "Ada Admin does not agree about Edda on Box: She has left."
    decided(small, "mara", ident, item)
    with small.acting("ada") as unit:
        agreed = decisions.second(unit, ident, item.id, True, "", None)
    assert (agreed.state, agreed.seconded_by.name) == ("decided", "Ada Admin")
    assert decided(small, "mara", ident, item, Decision(REVOKE, "She left.")).state == "decided"
    assert small.state(item.grant_id or UUID(int=0)) == "revoking"


def test_decisions_are_taken_back_until_they_are_carried_out(small: Small) -> None:
    """What is ending already is not; nor anything once the round is closed."""
    ident = by_mara(small, acts="at_close")
    item = items(small, ident)["Sync on Box"]
    decided(small, "mara", ident, item, Decision(REVOKE, "Not used."))
    assert small.state(item.grant_id or UUID(int=0)) == "active"
    with small.acting("mara") as unit:
        assert decisions.undo(unit, ident, item.id).verdict is None
        with pytest.raises(Conflict, match="nothing to take back"):
            decisions.undo(unit, ident, item.id)
    at_once = by_mara(small)
    same = items(small, at_once)["Sync on Box"]
    decided(small, "mara", at_once, same, Decision(REVOKE, "Not used."))
    for attempt in (
        lambda u: decisions.undo(u, at_once, same.id),
        lambda u: decisions.decide(u, at_once, same.id, NEEDED),
    ):
        with pytest.raises(Conflict, match="carried out"), small.acting("mara") as unit:
            attempt(unit)
    close(small, ident, **dict.fromkeys(ALL, "keep"))
    with pytest.raises(Conflict, match="is closed"), small.acting("mara") as unit:
        decisions.undo(unit, ident, item.id)


def test_many_are_decided_at_once_but_not_what_is_flagged(small: Small) -> None:
    """The refusal lists it; a line tells what was refused, and the others stand."""
    ident = by_mara(small, scope="", acts="at_close")
    found = items(small, ident)
    flagged = [i for i in found.values() if i.flagged and i.reviewer_id == small.person("mara")]
    quiet = [i for i in found.values() if not i.flagged and i.reviewer_id == small.person("mara")]
    assert flagged
    with pytest.raises(BadInput, match=f"{flagged[0].position} {flagged[0].holder} on"), small.acting("mara") as unit:
        decisions.decide_many(unit, ident, [Picked(i.id) for i in (*flagged, *quiet)], NEEDED)
    some = [Picked(i.id, 7 if n == 0 else 1) for n, i in enumerate(flagged)]
    with small.acting("mara") as unit:
        lines = decisions.decide_many(unit, ident, some, Decision(REVOKE, "All of it."))
    refused = [line for line in lines if line.refused]
    assert len(lines) == len(flagged)
    assert [line.refused.split(".")[0] for line in refused] == ["Somebody else changed this item meanwhile"]
    everything = [Picked(i.id) for i in found.values()]
    lena = small.signed_in("mara")
    small.clock.forward(minutes=30)
    with pytest.raises(ProofNeeded), small.service.unit(lena) as unit:
        decisions.decide_many(unit, ident, everything, Decision(REVOKE, "All of it."))


def test_a_question_goes_to_the_holder_and_the_answer_comes_back_into_the_line(small: Small) -> None:
    """One at a time; only whoever was asked answers."""
    ident = by_mara(small)
    item = items(small, ident)["Wardens on Box"]
    app = items(small, ident)["Sync on Box"]
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Grant, item.grant_id).given_by_id = None
    with pytest.raises(BadInput, match="nobody to ask"), small.acting_as_administrator("ada") as unit:
        decisions.ask(unit, ident, item.id, "Still needed?")
    with small.acting("mara") as unit:
        decisions.ask(unit, ident, app.id, "What does it copy?")
        with pytest.raises(Conflict, match="open already"):
            decisions.ask(unit, ident, app.id, "And why?")
        question = unit.db.scalars(select(Question.id)).one()
    assert small.told("ines")[-1] == "Mara asks about your access to Box: What does it copy?"
    with pytest.raises(NotFound), small.acting("owen") as unit:
        decisions.answer(unit, question, "Nothing.")
    with small.acting("ines") as unit:
        decisions.answer(unit, question, "The rota, nightly.")
    with small.acting("mara") as unit:
        shown = rounds.item(unit, ident, app.id).question
    assert (shown.of, shown.answer) == ("Ines", "The rota, nightly.")


@pytest.mark.parametrize(
    ("fates", "states"),
    [
        ({}, {"active"}),
        (dict.fromkeys(ALL, "keep"), {"active"}),
        (dict.fromkeys(ALL, "revoke"), {"revoking"}),
        ({"observe": "suspend", "steward": "revoke"}, {"suspended", "revoking"}),
    ],
)
def test_closing_says_what_becomes_of_undecided_items(small: Small, fates: dict[str, str], states: set[str]) -> None:
    """By reach, never by itself, and only by an administrator; what is kept so is flagged until somebody decides."""
    ident = opened(small)
    if not fates:
        with pytest.raises(Conflict, match="4 of 4 items are undecided"):
            close(small, ident)
        with pytest.raises(BadInput):
            close(small, ident, observe="forget")
        with pytest.raises(NotAllowed), small.acting("ines") as unit:
            close_round.close(unit, ident, dict.fromkeys(ALL, "keep"))
        return
    close(small, ident, **fates)
    found = items(small, ident)
    assert {small.state(i.grant_id or UUID(int=0)) for i in found.values()} == states
    assert all(i.fate and i.reason == "Undecided when the round was closed." for i in found.values())
    kept = [i for i in found.values() if i.fate == "keep"]
    assert len(small.open_flags("review_overdue")) == len(kept)
    if kept:
        again = by_mara(small, scope='holder.name eq "Sync"')
        decided(small, "mara", again, items(small, again)["Sync on Box"])
        close(small, again)
        assert len(small.open_flags("review_overdue")) == len(kept) - 1


def test_a_round_ends_when_all_is_confirmed_or_explained_and_never_changes_again(small: Small) -> None:
    """Till then it is being carried out; the database refuses what the service would not try."""
    ident = by_mara(small, scope='holder.name eq "Sync" or holder.name eq "Edda"', acts="at_close")
    found = items(small, ident)
    decided(small, "mara", ident, found["Sync on Box"], Decision(REVOKE, "Not used."))
    decided(small, "mara", ident, found["Edda on Box"], Decision(REVOKE, "She left."))
    assert not close(small, ident)
    with small.service.unit(small.itself) as unit:
        assert rounds.page(unit, ident).state == "carrying_out"
        revocation = unit.db.scalars(select(Item.revocation_id).where(Item.id == found["Sync on Box"].id)).one()
        step = unit.db.scalars(select(Step.id).where(Step.revocation_id == revocation)).one()
        assert revocation is not None
        steps.done_by_hand(unit, revocation, step, "Unlinked; the list is empty.")
        close_round.explain(unit, ident, found["Edda on Box"].id, "The mail server is gone for good.")
        with pytest.raises(Conflict, match="nothing to carry out"):
            close_round.explain(unit, ident, found["Edda on Box"].id, "Again.")
    assert close_round.carry_on(small.service, small.itself, ident)
    with small.service.unit(small.itself) as unit:
        page = rounds.page(unit, ident)
        assert (page.state, page.revoked, page.to_do) == ("closed", 2, 0)
    assert items(small, ident)["Sync on Box"].outcome == "Stated: Open Latch says: Unlinked; the list is empty."
    for statement in (
        "update items set reason = 'Other.'",
        "delete from items",
        "update rounds set name = 'Other'",
        "delete from rounds",
    ):
        with pytest.raises(DBAPIError, match="nothing in it can change"), small.service.unit(small.itself) as unit:
            unit.db.execute(text(statement))


def test_frozen_facts_can_not_be_changed_while_a_round_is_open(small: Small) -> None:
    """Not even by a statement of one's own."""
    opened(small)
    with pytest.raises(DBAPIError, match="frozen"), small.service.unit(small.itself) as unit:
        unit.db.execute(text("update items set facts = '{}'"))


def test_what_a_latch_holds_is_told_and_tried_again(small: Small) -> None:
    """One item that can't be carried out holds up no other."""
    ident = by_mara(
        small, scope=f'{BOX} and holder.kind eq "person"', acts="at_close", reviewers=named(small.person("ada"))
    )
    found = items(small, ident)
    for item in found.values():
        decided(small, "ada", ident, item, Decision(REVOKE, "Too many."))
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.HOLD, small.account("box")))
    close(small, ident)
    after = items(small, ident)
    assert after["Mara on Box"].outcome.startswith("It could not be carried out: A latch holds.")
    assert after["Edda on Box"].revocation_id is not None
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.OFF, small.account("box")))
    with small.service.unit(small.itself) as unit:
        close_round.retry(unit, ident, after["Mara on Box"].id)
    close_round.carry_on(small.service, small.itself, ident)
    assert items(small, ident)["Mara on Box"].revocation_id is not None


def other_kinds(small: Small, ident: UUID) -> dict[str, Item]:
    with small.service.unit(small.itself) as unit:
        rows = unit.db.scalars(select(Item).where(Item.round_id == ident, Item.grant_id.is_(None))).all()
        return {row.kind: row for row in rows}


def test_every_kind_of_item_is_reviewed_and_carried_out(small: Small) -> None:
    """Sessions end, parts close, ownerships are offered, latches go off, accepted flags open again."""
    until = small.clock() + timedelta(days=90)
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.NOTHING_PUBLIC, LatchMode.WARN, small.account("box")))
    with small.service.unit(small.itself) as unit:
        organisation = small.itself.organisation
        unit.db.add(Resource(organisation_id=organisation, account_id=small.account("box"), name="Rota", key="rota"))
        rule = {"rule": "rota", "admit": ["anyone"], "to": ["see"], "set_on": {"resource": "/rota"}}
        box = small.account("box")
        unit.db.add(AccessRule(organisation_id=organisation, account_id=box, key="rota", plain=rule))
        unit.db.flush()
        exposure.accounts(unit, [box])
        unit.db.get_one(Person, small.person("mara")).address_confirmed_at = small.clock()
        flag = unit.db.scalars(
            select(Flag).where(Flag.account_id == small.account("box"), Flag.state == "open")
        ).first()
        assert flag is not None
        manage_flags.accept(unit, [flag.id], "For a while.", until)
    ident = opened(small, BOX, covers=tuple(Subject), acts="at_close", reviewers=named(small.person("ada")))
    found = other_kinds(small, ident)
    assert set(found) == {"session", "exposure", "ownership", "latch", "acceptance"}
    assert found["exposure"].facts["sentence"] == "Anyone can see “Rota”."
    for kind, item in found.items():
        successor = small.person("mara") if kind == "ownership" else None
        with small.acting("ada") as unit:
            wanted = Decision(REVOKE, "Not needed.", successor=successor)
            assert decisions.preview(unit, ident, item.id, wanted).sentence
        decided(small, "ada", ident, item, wanted)
    close(small, ident, **dict.fromkeys(ALL, "keep"))
    done = other_kinds(small, ident)
    assert done["latch"].outcome == "Switched off."
    assert done["acceptance"].outcome == "The flag is open again."
    assert done["ownership"].outcome == "Offered; it is done when they accept."
    assert done["session"].revocation_id is not None
    with small.service.unit(small.itself) as unit:
        assert done["exposure"].revocation_id is not None
        step = unit.db.scalars(select(Step).where(Step.revocation_id == done["exposure"].revocation_id)).one()
        assert step.sentence.startswith("Take the rule “rota” away in Box")
        steps.done_by_hand(unit, done["exposure"].revocation_id, step.id, "Closed it.")
        assert not unit.db.scalars(select(Resource.public)).one()
        assert unit.db.get_one(Flag, flag.id).state == "open"


def test_what_is_kept_open_is_intended_perhaps_until_a_day(small: Small) -> None:
    """By whoever decided it, for their reason; what nobody decided stays as it was judged."""
    until = small.clock() + timedelta(days=30)
    box = small.account("box")
    with small.service.unit(small.itself) as unit:
        for name in ("Rota", "Map", "Plan"):
            key = name.lower()
            unit.db.add(Resource(organisation_id=small.itself.organisation, account_id=box, name=name, key=key))
            rule = {"rule": key, "admit": ["anyone"], "to": ["see"], "set_on": {"resource": f"/{key}"}}
            unit.db.add(AccessRule(organisation_id=small.itself.organisation, account_id=box, key=key, plain=rule))
        unit.db.flush()
        exposure.accounts(unit, [box])
    ident = opened(small, BOX, covers=(Subject.EXPOSURE,), acts="at_close", reviewers=named(small.person("ada")))
    with small.service.unit(small.itself) as unit:
        rows = unit.db.scalars(select(Item).where(Item.round_id == ident)).all()
        found = {row.facts["sentence"].split("“")[1].split("”")[0]: row for row in rows}
    with small.acting("ada") as unit, pytest.raises(BadInput, match="until a day, or narrowed"):
        decisions.decide(unit, ident, found["Rota"].id, Decision(Verdict.TRIM, "For the season."))
    decided(small, "ada", ident, found["Rota"], Decision(Verdict.TRIM, "For the season.", trim_until=until))
    decided(small, "ada", ident, found["Map"], Decision(Verdict.KEEP, "Everybody needs it."))
    close(small, ident, **dict.fromkeys(ALL, "keep"))
    with small.service.unit(small.itself) as unit:
        named_rows = unit.db.execute(
            select(Resource.name, Exposure.judgement, Exposure.intended_until, Exposure.judged_reason)
            .join(Resource, Resource.id == Exposure.resource_id)
            .where(Exposure.account_id == box)
        ).all()
    told = {name: (judgement, end, reason.partition(" (")[0]) for name, judgement, end, reason in named_rows}
    assert told == {
        "Rota": ("intended", until, "For the season."),
        "Map": ("intended", None, "Everybody needs it."),
        "Plan": ("unjudged", None, ""),
    }


def test_reminders_go_out_once_and_late_ones_go_up(small: Small) -> None:
    """To whoever is asked, their deputy while they are away; then to their manager and the administrators."""
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Person, small.person("mara")).manager_id = small.person("ines")
        reviewers.set_absence(
            unit,
            small.person("mara"),
            reviewers.Absence(small.clock() + timedelta(days=12), deputy=small.person("owen")),
        )
    by_mara(
        small, scope='holder.name eq "Sync"', reminders=(7, 1), closes_after=2, undecided=dict.fromkeys(ALL, "revoke")
    )
    tasks.look_round(small.service)
    told = len(small.told("mara"))
    for days, who, sentence in (
        (7, "mara", "1 item of “Spring” still is yours to decide, by 24 March 2026."),
        (6, "owen", "1 item of “Spring” still is yours to decide, by 24 March 2026."),
        (1, "ines", "“Spring” was due on 24 March 2026; items are left with Mara (1)."),
    ):
        small.clock.forward(days=days)
        tasks.look_round(small.service)
        tasks.look_round(small.service)
        assert small.told(who).count(sentence) == 1
    assert len(small.told("mara")) == told + 3
    assert small.state(small.grant("box|app|sync|read")) == "active"
    small.clock.forward(days=2)
    tasks.look_round(small.service)
    assert small.state(small.grant("box|app|sync|read")) == "revoking"


def leave(unit: Unit) -> None:
    unit.db.execute(
        text("update people set standing = 'leaving', leaves_at = '2026-04-01' where key in ('mara','owen')")
    )


def move(unit: Unit) -> None:
    unit.db.execute(text("update people set job = 'Warden' where key = 'mara'"))
    unit.db.execute(text("update people set job = 'Bookkeeper' where key = 'mara'"))


def grow(unit: Unit) -> None:
    more = (
        '[{"key": "mail.read", "sentence": "Read it", "reach": "observe"},'
        '{"key": "mail.all", "sentence": "All", "reach": "spend"}]'
    )
    unit.db.execute(text("update levels set permissions = cast(:p as jsonb) where key = 'read'"), {"p": more})


def sharpen(unit: Unit) -> None:
    unit.db.execute(text("update accounts set sensitivity = 4 where key = 'box'"))


def emergency(unit: Unit) -> None:
    which = "where key = 'box|person|edda|read'"
    unit.db.execute(text(f"update grants set emergency = true {which}"))
    unit.db.execute(text(f"update grants set state = 'ended', ended_as = 'expired', ended_at = now() {which}"))


@pytest.mark.parametrize(
    ("event", "change", "name", "about"),
    [
        (Happening.PERSON_LEAVES, leave, "2 people leave", {"Mara on Box", "Owen on Rota"}),
        (Happening.PERSON_MOVES, move, "Mara moves", {"Mara on Box"}),
        (Happening.APP_GROWS, grow, "Sync may do more", {"Sync on Box"}),
        (
            Happening.MORE_SENSITIVE,
            sharpen,
            "Box is more sensitive",
            {"Mara on Box", "Edda on Box", "Sync on Box", "Wardens on Box"},
        ),
        (Happening.EMERGENCY_ENDED, emergency, "Emergency access ended", {"Edda on Box"}),
    ],
)
def test_what_happens_opens_a_small_round_once(
    small: Small, event: Happening, change: Callable[[Unit], None], name: str, about: set[str]
) -> None:
    """Noticed by the database, however the change came in; one schedule waits for it, another does not."""
    with small.service.unit(small.itself) as unit:
        others = tuple(e for e in Happening if e is not event)
        schedules.keep(unit, schedules.Plan(Review("Changes"), events=(event,)))
        schedules.keep(unit, schedules.Plan(Review("Others"), events=others))
        change(unit)
    tasks.look_round(small.service)
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        (row,) = unit.db.scalars(select(Round)).all()
    assert row.name == f"Changes: {name}"
    assert set(items(small, row.id)) == about


def test_progress_adds_up_and_says_what_is_late(small: Small) -> None:
    """By reviewer, by account, by day; groups with what is left in each."""
    ident = by_mara(small, scope="")
    mine = [i for i in items(small, ident).values() if i.reviewer_id == small.person("mara")]
    small.clock.now = datetime(2026, 3, 12, 9, tzinfo=UTC)
    for item in mine[:2]:
        decided(small, "mara", ident, item)
        small.clock.forward(seconds=8)
    small.clock.forward(days=20)
    with small.service.unit(small.itself) as unit:
        found = rounds.progress(unit, ident)
        groups = rounds.groups(unit, ident, "account")
        with pytest.raises(BadInput, match="not grouped by"):
            rounds.groups(unit, ident, "colour")
    (mara,) = [r for r in found.by_reviewer if r.name == "Mara"]
    assert (mara.decided, mara.kept, mara.share_kept, mara.seconds_between) == (2, 2, 1.0, 8.0)
    assert [day.model_dump(mode="json") for day in found.by_day] == [{"day": "2026-03-12", "decided": 2, "kept": 2}]
    assert found.late == found.items - 2
    assert sum(a.items for a in found.by_account) == sum(g.items for g in groups) == found.items == 6
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        rounds.progress(unit, ident)


def test_a_reviewer_may_end_access_by_deciding_though_not_otherwise(small: Small) -> None:
    """It is carried out by the service, and the journal names who decided."""
    ident = by_mara(small, scope='holder.name eq "Edda"')
    (item,) = items(small, ident).values()
    shown = decided(small, "mara", ident, item, Decision(REVOKE, "She left."))
    assert shown.revocation_id is not None
    with small.service.unit(small.itself) as unit:
        entry = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "grant.revoking")).one()
    assert (entry.actor_name, entry.facts["reason"]) == ("Mara", "She left. (review “Spring”)")


@pytest.mark.parametrize(
    ("scope", "more", "told"),
    [('state eq "ended"', {}, "Nothing that can be reviewed"), (BOX, {"days": 0}, "0 days to decide were given")],
)
def test_a_round_that_makes_no_sense_is_not_opened(small: Small, scope: str, more: dict[str, Any], told: str) -> None:
    """With what to change."""
    with pytest.raises(BadInput, match=told):
        opened(small, scope, **more)


def test_a_close_that_is_interrupted_goes_on_and_does_nothing_twice(
    small: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each few items are a transaction of their own."""
    ident = opened(small)
    monkeypatch.setattr(close_round, "AT_ONCE", 1)
    real, calls = close_round.carry_out.act, []

    def breaking(unit: Unit, row: Round, item: Item) -> None:
        calls.append(item.position)
        if len(calls) == 3:
            raise RuntimeError("killed")
        real(unit, row, item)

    monkeypatch.setattr(close_round.carry_out, "act", breaking)
    with pytest.raises(RuntimeError):
        close(small, ident, **dict.fromkeys(ALL, "revoke"))
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count(Revocation.id))) == 2
    close_round.carry_on(small.service, small.itself, ident)
    assert calls == [1, 2, 3, 3, 4]
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalar(select(func.count(Revocation.id))) == 4
        assert unit.db.scalar(select(func.count()).where(JournalEntry.action == "item.settled")) == 4
        assert unit.db.scalar(select(Account.owner_id).where(Account.key == "box")) == small.person("ines")


def test_refusals_leave_no_trace(small: Small) -> None:
    """A decision that is refused writes nothing, neither in the item nor in the journal."""
    ident = by_mara(small)
    item = items(small, ident)["Edda on Box"]
    with pytest.raises(OpenLatchError), small.acting("mara") as unit:
        decisions.decide(unit, ident, item.id, Decision(TRIM, "Less."))
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Item, item.id).version == 1
        assert unit.db.scalar(select(func.count()).where(JournalEntry.action == "item.decided")) == 0


def test_nobody_decides_by_a_second_record_of_theirs(small: Small) -> None:
    """Who gave access may have a second record: of the same name, or a login that may be theirs."""
    box = small.grant_of("mara", "box")
    with small.service.unit(small.itself) as unit:
        twin = Person(organisation_id=small.itself.organisation, name="owen", inside=False, recognised=False)
        login = Person(organisation_id=small.itself.organisation, name="ow1", inside=False, recognised=False)
        unit.db.add_all([twin, login])
        unit.db.flush()
        system = unit.db.get_one(Account, small.account("box")).system_id
        may_be = [{"person": str(small.person("owen")), "by": "name"}]
        unit.db.add(
            Handle(
                organisation_id=twin.organisation_id,
                system_id=system,
                name="ow1",
                person_id=login.id,
                candidates=may_be,
            )
        )
        first, second = twin.id, login.id
    for giver in (first, second):
        with small.service.unit(small.itself) as unit:
            unit.db.get_one(Grant, box).given_by_id = giver
        ident = opened(small, reviewers=named(small.person("owen")))
        item = items(small, ident)["Mara on Box"]
        assert item.reviewer_id != small.person("owen")
        with small.service.unit(small.itself) as unit:
            unit.db.get_one(Item, item.id).reviewer_id = small.person("owen")
        with pytest.raises(NotAllowed, match="second record"):
            decided(small, "owen", ident, item)


def test_who_may_be_asked_and_cannot_sign_in_is_said_before_a_round_opens(small: Small) -> None:
    """Owners, persons, members of a team and managers; whoever has a sign-in is not named."""
    mara = small.person("mara")
    ways = {
        "owner": (Place(Line.OWNER),),
        "person": (Place(Line.PERSON, mara),),
        "team": (Place(Line.TEAM, small.id(Team, "wardens")),),
        "manager": (Place(Line.MANAGER),),
        "nobody": (),
    }

    def named_for(way: str) -> list[str]:
        with small.service.unit(small.itself) as unit:
            told = open_round.preview(unit, Review("Spring", BOX, reviewers=ways[way]))
            return [one.name for one in told.without_sign_in]

    assert {way: named_for(way) for way in ways} == {
        "owner": ["Ines"],
        "person": ["Mara"],
        "team": ["Mara", "Owen"],
        "manager": [],
        "nobody": ["Ines"],
    }
    small.signed_in("ines")
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(Person).where(Person.id == mara).values(manager_id=small.person("owen")))
    assert (named_for("owner"), named_for("manager")) == ([], ["Owen"])
    with small.service.unit(small.itself) as unit:
        unit.db.execute(update(SignIn).values(suspended_at=unit.now))
    assert named_for("owner") == ["Ines"]
