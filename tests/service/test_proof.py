"""How ends are known: by the system, by somebody's word, not at all, or denied by a later reading."""

from __future__ import annotations

from collections.abc import Callable
from uuid import UUID

import pytest
from sqlalchemy import select, text

from openlatch.core.vocabulary import Severity, StepKind, Verdict
from openlatch.errors import Conflict
from openlatch.service.exposure import evaluate
from openlatch.service.reviews import close_round, decisions, evidence, open_round, rounds
from openlatch.service.reviews.plans import Review, named
from openlatch.service.revocations import prepare, revoke
from openlatch.service.revocations import steps as revocation_steps
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Viewer
from openlatch.store.tables import (
    AccessRule,
    Account,
    Exposure,
    Flag,
    Grant,
    Item,
    JournalEntry,
    Resource,
    Session,
    Step,
)
from tests.adapters.worlds import World
from tests.conftest import Clock
from tests.service.conftest import Small
from tests.service.ending import carry_on, connect, grant_of, start_ending
from tests.service.test_evidence import SCHEMA, members

Make = Callable[[str], World]


def end(small: Small, *grants: UUID, by: str = "ines") -> UUID:
    with small.acting_as_administrator(by) as unit:
        return revoke.start(unit, prepare.Wish(grants=grants), "The season is over.")


def steps(small: Small, revocation: UUID) -> dict[str, UUID]:
    with small.service.unit(small.itself) as unit:
        rows = unit.db.scalars(select(Step).where(Step.revocation_id == revocation))
        return {step.sentence: step.id for step in rows}


def test_a_person_s_word_is_stated_and_never_revoked(small: Small) -> None:
    """Who said it, when and how stands on the grant, the revocation, the page, the notice and in the journal."""
    held = small.grant_of("mara", "box")
    revocation = end(small, held)
    small.clock.forward(minutes=3)
    for step in steps(small, revocation).values():
        with small.acting_as_administrator("ines") as unit:
            revocation_steps.done_by_hand(unit, revocation, step, "Taken off the list.")
            page = revocation_steps.page(unit, revocation)
    assert (page.state, page.stated, page.confirmed, page.confirmed_at) == ("stated", 2, 0, None)
    assert (page.ends[0].proof, page.ends[0].proved_by) == ("stated", "Ines")
    assert page.step_list[0].proof == "stated"
    with small.service.unit(small.itself) as unit:
        grant = unit.db.get_one(Grant, held)
        assert (grant.ended_as, grant.proof, grant.proved_by) == ("stated", "stated", "Ines")
        assert (grant.proved_at, "Taken off the list." in grant.proof_words) == (small.clock(), True)
        entry = unit.db.scalars(
            select(JournalEntry).where(JournalEntry.subject_id == held).order_by(JournalEntry.position.desc())
        ).first()
        assert entry is not None
        assert (entry.action, entry.facts["proof"], entry.facts["proved_by"]) == ("grant.ended", "stated", "Ines")
        assert unit.db.scalar(select(JournalEntry).where(JournalEntry.action == "revocation.confirmed")) is None
    assert small.told("mara")[-1] == "Your access to Box has ended (stated by Ines on 10 March 2026)."


def test_counts_of_one_revocation_are_kept_apart(small: Small) -> None:
    """One stated and one unproved are not two that are gone."""
    one, other = small.grant_of("mara", "box"), small.grant_of("edda", "box")
    revocation = end(small, one, other)
    for said, ident in steps(small, revocation).items():
        with small.acting_as_administrator("ines") as unit:
            if "Mara" in said:
                revocation_steps.done_by_hand(unit, revocation, ident, "Taken off.")
            else:
                revocation_steps.skip(unit, revocation, ident, "The server is gone.")
    with small.service.unit(small.itself) as unit:
        page = revocation_steps.page(unit, revocation)
        assert (page.state, page.confirmed, page.stated, page.unproved) == ("unproved", 0, 2, 1)
        assert unit.db.get_one(Grant, other).ended_as == "unproved"
        settled = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "revocation.settled")).first()
        assert settled is not None
        assert settled.facts["ends"] == {"confirmed": 0, "stated": 2, "unproved": 1, "contradicted": 0}


def test_what_the_system_shows_gone_is_confirmed_by_it(
    make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """And what is skipped in it is not."""
    world = make("directory")
    connect(service, organisation, world)
    grant, revocation = start_ending(service, organisation, world, world.goes)
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    other, skipped = start_ending(service, organisation, world, world.stays)
    with service.unit(organisation) as unit:
        removing = unit.db.scalars(select(Step.id).where(Step.revocation_id == skipped, Step.kind == "remove")).one()
        revocation_steps.skip(unit, skipped, removing, "Not today.")
    assert carry_on(service, organisation, clock, skipped) == "unproved"
    with service.unit(organisation) as unit:
        gone, kept = unit.db.get_one(Grant, grant), unit.db.get_one(Grant, other)
        assert (gone.ended_as, gone.proof, gone.proved_by) == ("revoked", "confirmed", "directory")
        assert (kept.ended_as, kept.proof, kept.proved_by) == ("unproved", "unproved", "Open Latch")
    assert world.asked(world.stays)


def contradicted(
    make: Make, service: Service, organisation: Viewer, clock: Clock, acts: str, close: bool
) -> tuple[UUID, UUID, UUID]:
    """A review that ended access in a directory, confirmed; then somebody puts it back there, and it is read."""
    world = make("directory")
    system = connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.goes)
        ident, held = grant.id, grant.handle
        unit.db.get_one(Account, grant.account_id).owner_id = None
        name = unit.db.get_one(Account, grant.account_id).name
        review = Review("Spring", f'account.name eq "{name}"', acts=acts)
        round_id = open_round.open_round(unit, review)
        for item in unit.db.scalars(select(Item).where(Item.round_id == round_id)):
            verdict = Verdict.REVOKE if item.grant_id == ident else Verdict.KEEP
            decisions.decide(unit, round_id, item.id, decisions.Decision(verdict, "Looked at."))
        if close:
            close_round.close(unit, round_id)
    if close:
        close_round.carry_on(service, organisation, round_id)
    with service.unit(organisation) as unit:
        item = unit.db.scalars(select(Item).where(Item.grant_id == ident)).one()
        revocation = item.revocation_id
    assert revocation is not None
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    if close:
        assert close_round.carry_on(service, organisation, round_id)
    clock.forward(minutes=5)
    world.adapter().apply(StepKind.GIVE, {**held, "level_key": "owning_member"})
    readings.read(service, organisation.organisation, system)
    return ident, round_id, revocation


def test_a_contradicted_end_is_flagged_as_critical_and_its_item_open_again(
    make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """While the round is still carried out: it is decided once more, and then ends what the reading shows."""
    grant, round_id, revocation = contradicted(make, service, organisation, clock, "when_decided", close=False)
    with service.unit(organisation) as unit:
        row = unit.db.get_one(Grant, grant)
        assert (row.ended_as, row.proof, row.proved_by) == ("contradicted", "contradicted", "directory")
        page = revocation_steps.page(unit, revocation)
        assert (page.state, page.confirmed, page.contradicted) == ("contradicted", 0, 1)
        flag = unit.db.scalars(select(Flag).where(Flag.subject_id == grant, Flag.rule == "still_there")).one()
        assert (flag.state, flag.severity) == ("open", Severity.CRITICAL)
        assert sum(flag.parts.values()) == flag.score
        item = unit.db.scalars(select(Item).where(Item.grant_id == grant)).one()
        assert (item.state, item.verdict, item.proof, item.done_at) == ("undecided", None, "contradicted", None)
        decisions.decide(unit, round_id, item.id, decisions.Decision(Verdict.REVOKE, "Again."))
        again = item.revocation_id
    assert again not in (None, revocation)
    assert again is not None
    assert carry_on(service, organisation, clock, again) == "confirmed"
    with service.unit(organisation) as unit:
        close_round.close(unit, round_id)
    assert close_round.carry_on(service, organisation, round_id)
    with service.unit(organisation) as unit:
        assert rounds.page(unit, round_id).confirmed == 1


def test_an_ended_round_gets_an_addendum_and_is_not_rewritten(
    make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """What was written at its end stays byte for byte; what came to light stands beside it."""
    grant, round_id, _ = contradicted(make, service, organisation, clock, "at_close", close=True)
    with service.unit(organisation) as unit:
        held = members(evidence.bundled(unit, round_id, SCHEMA)[1])
        item = unit.db.scalars(select(Item).where(Item.grant_id == grant)).one()
    assert item.proof == "confirmed"
    assert b"contradicted by" not in held["evidence.json"]
    assert b'"outcome": "Confirmed: the system was asked again' in held["evidence.json"]
    assert b"a reading of directory shows it" in held["addenda.json"]
    assert "what came to light after the review had ended" in held["report.html"].decode()


def test_what_had_ended_before_is_told_as_it_was(small: Small) -> None:
    """By whom, how and with which proof; what somebody ended by hand did not end by itself."""
    with small.service.unit(small.itself) as unit:
        review = Review("Spring", 'account.name eq "Box"', acts="at_close", reviewers=named(small.person("ines")))
        ident = open_round.open_round(unit, review)
    held = small.grant_of("edda", "box")
    with small.acting_as_administrator("mara") as unit:
        for item in unit.db.scalars(select(Item).where(Item.round_id == ident)):
            if item.grant_id == held:
                decisions.decide(unit, ident, item.id, decisions.Decision(Verdict.REVOKE, "She left."))
    revocation = end(small, held)
    for step in steps(small, revocation).values():
        with small.acting_as_administrator("ines") as unit:
            revocation_steps.done_by_hand(unit, revocation, step, "Taken off.")
    with small.service.unit(small.itself) as unit:
        close_round.close(unit, ident, dict.fromkeys(("observe", "operate", "spend", "steward"), "keep"))
    close_round.carry_on(small.service, small.itself, ident)
    with small.service.unit(small.itself) as unit:
        item = unit.db.scalars(select(Item).where(Item.round_id == ident, Item.grant_id == held)).one()
        assert item.outcome == (
            "It had ended before on 10 March 2026, stated by Ines; stated by Ines on 10 March 2026."
        )
        assert (item.proof, item.proved_by) == ("stated", "Ines")


def test_an_exposure_of_which_nothing_can_be_ended_does_not_count_as_revoked(small: Small) -> None:
    """It is refused when it is decided; where it turns out later, it is told and counted apart."""
    with small.service.unit(small.itself) as unit:
        part = Resource(organisation_id=small.itself.organisation, account_id=small.account("rota"), name="Spring rota")
        unit.db.add(part)
        unit.db.execute(text("update grants set state = 'active' where account_id = :a"), {"a": small.account("rota")})
        unit.db.flush()
        ident = open_round.open_round(unit, Review("Parts", "", covers=("exposure",), acts="at_close"))
        item = unit.db.scalars(select(Item).where(Item.round_id == ident)).one()
        with pytest.raises(Conflict, match="more than this part"):
            decisions.decide(unit, ident, item.id, decisions.Decision(Verdict.REVOKE, "Close it."))
        item.state, item.verdict, item.decided_at = "decided", "revoke", unit.now
        unit.db.flush()
        close_round.close(unit, ident)
    close_round.carry_on(small.service, small.itself, ident)
    with small.service.unit(small.itself) as unit:
        page = rounds.page(unit, ident)
        assert (page.revoked, page.nothing_done, page.state) == (0, 1, "closed")
        assert unit.db.get_one(Item, item.id).outcome.startswith("Nothing was ended")


def test_a_rule_that_nobody_took_away_stays_open(small: Small) -> None:
    """A skipped step closes nothing; a person's word closes, and is no more than that."""
    with small.service.unit(small.itself) as unit:
        box = small.account("box")
        for name in ("Papers", "Pictures"):
            unit.db.add(Resource(organisation_id=small.itself.organisation, account_id=box, name=name, key=name))
            rule = {"rule": name, "admit": ["anyone"], "to": ["see"], "set_on": {"resource": f"/{name}"}}
            unit.db.add(AccessRule(organisation_id=small.itself.organisation, account_id=box, key=name, plain=rule))
        unit.db.flush()
        evaluate.accounts(unit, [box])
        assert all(unit.db.scalars(select(Resource.public)))
        rules = tuple(unit.db.scalars(select(AccessRule.id)))
        revocation = revoke.start(unit, prepare.Wish(rules=rules), "Over.")
        for step in unit.db.scalars(select(Step).where(Step.revocation_id == revocation)).all():
            if "Papers" in step.sentence:
                revocation_steps.done_by_hand(unit, revocation, step.id, "Closed.")
            else:
                revocation_steps.skip(unit, revocation, step.id, "Cannot.")
        assert dict(unit.db.execute(select(Resource.name, Resource.public)).all()) == {
            "Papers": False,
            "Pictures": True,
        }
        known = unit.db.execute(select(Exposure.sentence, Exposure.proof, Exposure.gone_at.is_(None))).all()
        assert {tuple(row) for row in known} == {
            ("Anyone can see “Papers”.", "stated", False),
            ("Anyone can see “Pictures”.", None, True),
        }


def test_a_session_that_a_reading_shows_again_has_not_ended(
    make: Make, service: Service, organisation: Viewer, clock: Clock
) -> None:
    """It goes on, its end is contradicted, and that is critical."""
    world = make("postgresql")
    assert world.session is not None
    login, goes_on = world.session()
    system = connect(service, organisation, world)
    with service.unit(organisation) as unit:
        session = unit.db.scalars(select(Session).where(Session.handle["login"].astext == login)).one()
        ident = session.id
        session.ended_at, session.ended_as, session.proof = unit.now, "stated", "stated"
    clock.forward(minutes=1)
    assert goes_on()
    readings.read(service, organisation.organisation, system)
    with service.unit(organisation) as unit:
        row = unit.db.get_one(Session, ident)
        assert (row.ended_at, row.proof, row.proved_by) == (None, "contradicted", "postgresql")
        flag = unit.db.scalars(select(Flag).where(Flag.subject_id == ident, Flag.rule == "session_still_there")).one()
        assert (flag.state, flag.severity) == ("open", Severity.CRITICAL)
    world.stop()
    readings.read(service, organisation.organisation, system)
    with service.unit(organisation) as unit:
        assert (unit.db.get_one(Session, ident).ended_as, unit.db.get_one(Session, ident).proof) == (
            "signed_out",
            "confirmed",
        )
