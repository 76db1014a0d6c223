"""Somebody leaves: everything ends, nothing is left without a successor, and all of it can be put back."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch import schemas
from openlatch.core.journal import chain
from openlatch.core.vocabulary import Standing, StepKind
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound
from openlatch.service import undo
from openlatch.service.changes import changes
from openlatch.service.grants import provisioning
from openlatch.service.people import leavers
from openlatch.service.revocations import execute, prepare, revoke
from openlatch.service.revocations import steps as revocation_steps
from openlatch.service.systems import readings
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.tables import (
    Account,
    Flag,
    Grant,
    Offer,
    Person,
    Revocation,
    Term,
)
from tests.adapters.worlds import World
from tests.conftest import Clock
from tests.service.conftest import Small
from tests.service.ending import carry_on, connect, grant_of, start_ending

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")


def leave(unit: Unit, person: UUID, **plan: Any) -> schemas.LeavingPage:
    return leavers.start(unit, leavers.Plan(person, **plan), "The season is over.")


def do_by_hand(unit: Unit, revocation: UUID) -> None:
    for step in revocation_steps.page(unit, revocation).step_list:
        if step.state == "by_hand":
            revocation_steps.done_by_hand(unit, revocation, step.id, "Taken out; the list shows it.")


def test_whoever_leaves_is_gone_everywhere_and_the_page_counts_down(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock, small: Small
) -> None:
    """In two real systems and one that is done by hand; the systems are asked; the report has the proof."""
    worlds = [make("directory"), make("cloud")]
    with service.unit(organisation) as unit:
        unit.db.get_one(Person, small.person("mara")).address = "ann@example.org"
    for world in worlds:
        if world.kind == "cloud":
            assert world.session is not None
            world.session()
        connect(service, organisation, world)
    mara, ines = small.person("mara"), small.person("ines")
    with service.unit(organisation) as unit:
        seen = leavers.preview(unit, leavers.Plan(mara))
        assert ("Ledger", "owns it") in {(one.account.name, one.why) for one in seen.accounts}
        assert {login.system.name for login in seen.logins if login.lockable} == {"directory", "cloud"}
        assert seen.teams == ["Wardens"]
        assert all(not change.remains for change in seen.revocation.changes if change.holder.id == mara)
        only = [one.account.id for one in seen.accounts]
    with pytest.raises(BadInput, match="Ledger"), service.unit(organisation) as unit:
        leave(unit, mara, successors=dict.fromkeys(only))
    heirs = dict.fromkeys(only, ines)
    with pytest.raises(Conflict, match="has changed since"), service.unit(organisation) as unit:
        leavers.start(unit, leavers.Plan(mara, heirs), "Over.", "not what was seen")
    with service.unit(organisation) as unit:
        begun = leave(unit, mara, successors=heirs)
        (revocation,) = begun.revocations
        assert unit.db.get_one(Account, small.account("ledger")).owner_id == ines
        assert unit.db.get_one(Person, mara).standing == Standing.LEFT
    with pytest.raises(Conflict, match="already"), service.unit(organisation) as unit:
        leave(unit, mara)
    assert all(world.asked(world.goes) for world in worlds)
    assert carry_on(service, organisation, clock, revocation, 8) == "by_hand"
    assert [world.asked(world.goes) for world in worlds] == ["", ""]
    assert all(world.locked is not None and world.locked(world.goes) for world in worlds)
    with service.unit(organisation) as unit:
        halfway = leavers.page(unit, mara)
        assert 0 < halfway.left < begun.left
        assert {line.system for line in halfway.lines if not line.ended} == {"Mail", "Books"}
        # A login that was locked counts when the system has shown it so, as everything does.
        locked = [line for line in halfway.lines if line.kind == "login" and line.ended]
        assert {line.proof for line in locked} == {"confirmed"}
    with pytest.raises(Conflict, match="are left"), service.unit(organisation) as unit:
        leavers.report(unit, mara)
    with service.unit(organisation) as unit:
        do_by_hand(unit, revocation)
    with service.unit(organisation) as unit:
        report = leavers.report(unit, mara)
        assert (report.left, report.all) == (0, begun.all)
        proofs = {line.system: line.answer for line in report.lines if line.kind == "grant"}
        assert all("Read again" in proofs[name] for name in ("directory", "cloud"))
        assert "Taken out" in proofs["Mail"]
        known = {line.system: line.proof for line in report.lines if line.kind in ("grant", "login")}
        assert known == {"directory": "confirmed", "cloud": "confirmed", "Mail": "stated"}
        assert (report.ends.unproved, report.ends.contradicted) == (0, 0)
        assert report.ends.stated == sum(line.proof == "stated" for line in report.lines) > 0
        assert (report.journal.position, report.journal.hash) == journal.head(unit.db)
        assert chain.verify(journal.export(unit.db, organisation.organisation), journal.head(unit.db)).sound
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        leavers.page(unit, mara)


def test_what_only_they_hold_is_told_and_passes_on(small: Small, service: Service, organisation: Viewer) -> None:
    """Sole use and sole stewardship, besides what they own; a successor has just the same terms."""
    with service.unit(organisation) as unit:
        unit.db.info["guarded"] = 1
        rota = unit.db.get_one(Account, small.account("rota"))
        rota.owner_id = None
        box = unit.db.get_one(Account, small.account("box"))
        box.owner_id = None
        for key in ("rota|person|owen|read",):
            unit.db.get_one(Grant, small.grant(key)).state = "active"
    with service.unit(organisation) as unit:
        told = {
            who: {one.account.name: one.why for one in leavers.preview(unit, leavers.Plan(small.person(who))).accounts}
            for who in ("owen", "mara")
        }
    assert told["owen"] == {"Rota": "is the only one who holds access to it"}
    assert told["mara"]["Box"] == "is the only one who decides who gets in"
    box, ledger = small.account("box"), small.account("ledger")
    with service.unit(organisation) as unit:
        leave(unit, small.person("mara"), successors={ledger: small.person("ines"), box: small.person("ines")})
        given = unit.db.scalars(select(Grant).where(Grant.person_id == small.person("ines"))).one()
        assert unit.db.scalars(select(Term.level_id).where(Term.grant_id == given.id)).all() == [small.level("run")]


def test_whoever_left_by_mistake_is_back_with_all_that_they_had(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """Locked, taken out, and put back: the directory shows what it showed before."""
    world = make("directory")
    before = world.asked(world.stays)
    connect(service, organisation, world)
    with service.unit(organisation) as unit:
        grant = grant_of(unit, world, world.stays)
        changes.carry_out(unit, changes.Change(changes.ChangeKind.ADOPT, "On the list.", (grant.id,)))
        assert grant.person_id is not None
        who = unit.db.get_one(Person, grant.person_id)
        who.recognised = True
        ident = who.id
    with service.unit(organisation) as unit:
        (revocation,) = leave(unit, ident).revocations
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    assert world.locked is not None
    assert (world.asked(world.stays), world.locked(world.stays)) == ("", True)
    with service.unit(organisation) as unit:
        lines = undo.undo(unit, revocation, "It was somebody else.").lines
        assert [line.refused for line in lines] == [None]
        back = grant_of(unit, world, world.stays)
        unlocking = unit.db.scalars(select(Revocation.id).where(Revocation.settled_at.is_(None))).one()
        assert unit.db.get_one(Person, ident).standing == Standing.CURRENT
        given = back.id
    assert provisioning.settle(service, organisation.organisation, given) is None
    assert carry_on(service, organisation, clock, unlocking) == "done"
    assert (world.asked(world.stays), world.locked(world.stays)) == (before, False)
    with pytest.raises(Conflict, match="undone already"), service.unit(organisation) as unit:
        undo.undo(unit, revocation, "Twice.")


@pytest.mark.parametrize("kind", ["directory", "mailboxes", "host", "cloud"])
@pytest.mark.parametrize("when", ["before anything", "after all"])
def test_undoing_puts_back_just_what_was_there(
    kind: str, when: str, make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """By the system's own word; before anything was done nothing has to be given."""
    world = make(kind)
    system = connect(service, organisation, world)
    before = world.asked(world.stays)
    grant, revocation = start_ending(service, organisation, world, world.stays)
    if when == "after all":
        assert carry_on(service, organisation, clock, revocation) == "confirmed"
        assert world.asked(world.stays) == ""
    with service.unit(organisation) as unit:
        assert undo.preview(unit, revocation).lines[0].refused is None
        (line,) = undo.undo(unit, revocation, "The wrong one.").lines
    assert provisioning.settle(service, organisation.organisation, line.grant_id) is None
    assert execute.carry_out(service, organisation.organisation, revocation) is None
    assert world.asked(world.stays) == before
    outcome = readings.read(service, organisation.organisation, system)
    assert outcome is not None
    assert (outcome.newly_unrecorded, outcome.missing) == (0, 0)
    with service.unit(organisation) as unit:
        assert revocation_steps.page(unit, revocation).state == "undone"
        assert (unit.db.get_one(Grant, grant).state == "active") == (when == "before anything")
        assert unit.db.get_one(Grant, line.grant_id).state == "active"


def test_a_trim_is_undone_to_the_terms_that_were(small: Small, service: Service, organisation: Viewer) -> None:
    """Level and time."""
    grant = small.grant("box|person|mara|run")
    with service.unit(organisation) as unit:
        until = small.clock.now + timedelta(days=3)
        wish = prepare.Wish((grant,), trim_level=small.level("read"), trim_until=until)
        ident = revoke.start(unit, wish, "Less will do.")
        do_by_hand(unit, ident)
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(Term.level_id).where(Term.grant_id == grant)).one() == small.level("read")
        undo.undo(unit, ident, "It would not do.")
        term = unit.db.scalars(select(Term).where(Term.grant_id == grant)).one()
        assert (term.level_id, term.until) == (small.level("run"), None)


def test_what_somebody_gave_up_is_offered_again_and_what_is_over_is_not(
    small: Small, service: Service, organisation: Viewer
) -> None:
    """They have to agree; nobody is given what their time is over for, or what somebody else has by now."""
    with small.acting("mara") as unit:
        ident = changes.give_up(unit, small.grant("box|person|mara|run"), "").revocation_id
    with service.unit(organisation) as unit:
        do_by_hand(unit, ident)
    with service.unit(organisation) as unit:
        (line,) = undo.undo(unit, ident, "She wants it back.").lines
        assert "has to agree" in line.does
        assert unit.db.get_one(Offer, line.offer_id).state == "pending"
    with service.unit(organisation) as unit:
        over = revoke.start(unit, prepare.Wish((small.grant("box|app|sync|read"),)), "Over.", cause="expired")
    with pytest.raises(Conflict, match="time was over"), service.unit(organisation) as unit:
        undo.undo(unit, over, "Back.")
    with service.unit(organisation) as unit:
        edda = revoke.start(unit, prepare.Wish((small.grant("box|person|edda|read"),)), "She has left.")
    with pytest.raises(Conflict, match="has left"), service.unit(organisation) as unit:
        undo.undo(unit, edda, "Back.")
    with pytest.raises(NotFound), small.acting("owen") as unit:
        undo.undo(unit, edda, "Back.")


def test_a_step_that_is_skipped_leaves_no_proof(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """It ends all the same, said to be unproved; what a later read shows is flagged."""
    world = make("directory")
    system = connect(service, organisation, world)
    with service.unit(organisation) as unit:
        changes.carry_out(
            unit, changes.Change(changes.ChangeKind.ADOPT, "Hers.", (grant_of(unit, world, world.stays).id,))
        )
    grant, revocation = start_ending(service, organisation, world, world.stays)
    with service.unit(organisation) as unit:
        steps = {step.kind: step.id for step in revocation_steps.page(unit, revocation).step_list}
    with pytest.raises(Conflict, match="proves"), service.unit(organisation) as unit:
        revocation_steps.skip(unit, revocation, steps[StepKind.READ_AGAIN], "No need.")
    with pytest.raises(BadInput, match="reason"), service.unit(organisation) as unit:
        revocation_steps.skip(unit, revocation, steps[StepKind.REMOVE], " ")
    with service.unit(organisation) as unit:
        revocation_steps.skip(unit, revocation, steps[StepKind.REMOVE], "It will be switched off.")
    assert carry_on(service, organisation, clock, revocation, 2) == "unproved"
    assert world.asked(world.stays)
    with pytest.raises(Conflict, match="skipped already"), service.unit(organisation) as unit:
        revocation_steps.skip(unit, revocation, steps[StepKind.REMOVE], "Again.")
    clock.forward(minutes=1)
    readings.read(service, organisation.organisation, system)
    with service.unit(organisation) as unit:
        assert unit.db.get_one(Grant, grant).ended_as == "contradicted"
        rules = set(unit.db.scalars(select(Flag.rule).where(Flag.state == "open")))
        assert {"still_there", "unrecorded"} <= rules


def test_what_a_read_contradicts_is_flagged_until_it_is_gone(
    make: Callable[[str], World], service: Service, organisation: Viewer, clock: Clock
) -> None:
    """And what is proved of a plan ends at once, whatever else of it waits."""
    world = make("cloud")
    connect(service, organisation, world)
    world.extra["service"].manners.stubborn = "news"
    with service.unit(organisation) as unit:
        goes, stays = grant_of(unit, world, world.goes).id, grant_of(unit, world, world.stays).id
        revocation = revoke.start(unit, prepare.Wish((goes, stays)), "The season is over.")
    assert carry_on(service, organisation, clock, revocation, 3) == "waiting"
    with service.unit(organisation) as unit:
        flagged = set(unit.db.scalars(select(Flag.subject_id).where(Flag.rule == "contradicted", Flag.state == "open")))
        assert flagged == {goes, stays}
    world.extra["service"].manners.stubborn = ""
    assert carry_on(service, organisation, clock, revocation) == "confirmed"
    with service.unit(organisation) as unit:
        assert unit.db.scalars(select(Flag.id).where(Flag.rule == "contradicted", Flag.state == "open")).all() == []


def test_what_hangs_on_a_login_is_told_before_it_ends(
    make: Callable[[str], World], service: Service, organisation: Viewer
) -> None:
    """Apps by consent, keys of machines; in words, with the login."""
    for kind, words in (("cloud", "Mailer acts in Members' newsletter by their consent"), ("host", "a machine")):
        world = make(kind)
        connect(service, organisation, world)
        who = world.goes if kind == "cloud" else world.stays
        with service.unit(organisation) as unit:
            grant = grant_of(unit, world, who).id
            stops = revoke.preview(unit, prepare.Wish((grant,))).stops
            assert any(words in stop.sentence and who in stop.sentence for stop in stops)


def test_what_others_lose_with_it_is_told_before_it_ends(small: Small) -> None:
    """As the system's last reading says, and in undoing that it does not come back."""
    sentence = "una loses select on huts.readings, which mara gave on"
    with small.service.unit(small.itself) as unit:
        grant = small.grant_of("mara", "box")
        unit.db.get_one(Grant, grant).handle = {"also_ends": [sentence]}
        stops = revoke.preview(unit, prepare.Wish((grant,))).stops
        assert ("others", sentence) in [(stop.kind, stop.sentence) for stop in stops]
