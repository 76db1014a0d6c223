"""Changing grants, one or many; levels; latches over every way in; and what systems are owed."""

from __future__ import annotations

import io
from dataclasses import replace
from datetime import date, timedelta
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import delete, select

from openlatch import schemas
from openlatch.core import latches as core
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import Reach, Role
from openlatch.errors import BadInput, Conflict, Held, NotAllowed, NotFound, ProofNeeded, TooMany
from openlatch.service import imports, today
from openlatch.service.accounts.page import account_page
from openlatch.service.acting import visits
from openlatch.service.changes import changes, large_changes
from openlatch.service.grants import levels
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.identity import authentication
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import register
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.revocations import prepare, revoke, steps
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import Flag, Grant, JournalEntry, Person, Session, Term, Visit, WebSession
from openlatch.worker import tasks
from tests.service.conftest import PASSWORD, Small

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")

TEAM, MARA, EDDA, SYNC = "box|team|wardens|read", "box|person|mara|run", "box|person|edda|read", "box|app|sync|read"
MAY = timedelta(days=60)


def change(small: Small, kind: str, *keys: str, by: str = "ines", **more: Any) -> schemas.ChangeResult:
    wish = Change(ChangeKind(kind), "Season ends.", tuple(small.grant(key) for key in keys), **more)
    with small.acting(by) as unit:
        return changes.carry_out(unit, wish)


def untils(small: Small, key: str) -> set[Any]:
    with small.service.unit(small.itself) as unit:
        return set(unit.db.scalars(select(Term.until).where(Term.grant_id == small.grant(key))))


def test_many_are_changed_with_a_line_for_each_and_one_refusal_holds_up_no_other(small: Small) -> None:
    """The preview said just that, and changed nothing."""
    wish = Change(ChangeKind.SUSPEND, "Season ends.", filter='state eq "active" or state eq "suspended"')
    with small.service.unit(small.itself) as unit:
        before = unit.db.scalars(select(JournalEntry.position)).all()
        shown = changes.preview(unit, wish)
    refused = [line for line in shown.lines if line.refused]
    assert [(line.holder.name, line.account.name) for line in refused] == [("Owen", "Rota")]
    assert "The grant is suspended" in refused[0].refused
    assert small.state(small.grant(MARA)) == "active"
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(JournalEntry.position)).all() == before
        found = changes.carry_out(unit, wish, shown.fingerprint)
    assert found.changed == shown.changed == 5
    assert small.state(small.grant(MARA)) == "suspended"
    assert "Your access to Box is suspended: Season ends." in small.told("mara")
    change(small, "resume", MARA)
    assert small.state(small.grant(MARA)) == "active"


def test_ends_are_set_moved_and_taken_away(small: Small) -> None:
    """A last day counts to its end; all of a holder's terms end on it in one action."""
    change(small, "set_end", MARA, TEAM, last_day=date(2026, 3, 31))
    (end,) = untils(small, MARA)
    assert end.isoformat() == "2026-03-31T23:00:00+00:00"
    change(small, "set_end", MARA, until=end + MAY)
    assert untils(small, MARA) == {end + MAY}
    change(small, "set_end", MARA, no_end=True)
    assert untils(small, MARA) == {None}
    for bad in ({}, {"last_day": date(2026, 3, 1)}, {"last_day": date(2026, 4, 1), "until": end}):
        with pytest.raises(BadInput):
            change(small, "set_end", MARA, **bad)


def test_a_preview_needs_no_reason_yet(small: Small) -> None:
    """What is seen so is what happens once a reason is given."""
    for kind in (ChangeKind.END, ChangeKind.SUSPEND):
        wish = Change(kind, "", (small.grant(SYNC),))
        with small.acting("ines") as unit:
            shown = changes.preview(unit, wish)
        assert (shown.changed, shown.lines[0].refused) == (1, None)
    with small.acting("ines") as unit:
        done = changes.carry_out(unit, replace(wish, reason="The survey is over."), shown.fingerprint)
    assert done.changed == 1


def test_two_at_once_one_wins_and_the_other_is_told_what_changed(small: Small) -> None:
    """Both had looked at the same version."""
    seen = {small.grant(MARA): 1}
    change(small, "suspend", MARA, versions=seen)
    with pytest.raises(Conflict, match=r"grant suspended, by Ines. It is suspended now"):
        change(small, "set_end", MARA, versions=seen, no_end=True)


def test_a_level_is_changed_and_steward_reach_asks_for_a_proof(small: Small) -> None:
    """A level of another system is refused; so is the one that it is."""
    assert change(small, "set_level", SYNC, level=small.level("run")).lines[0].does == "becomes “Run”"
    with pytest.raises(Conflict, match="already"):
        change(small, "set_level", MARA, level=small.level("run"))
    # Less than before is taken away by hand there, and stated: nothing is said to be gone before.
    line = change(small, "set_level", SYNC, level=small.level("read")).lines[0]
    assert (line.does, small.state(small.grant(SYNC))) == ("is reduced to “Read”", "revoking")
    with pytest.raises(BadInput):
        change(small, "set_level", MARA, level=small.level("pay"))
    stale = replace(small.as_("ines"), credential=UUID(int=5))
    wish = Change(ChangeKind.SET_LEVEL, "Trust.", (small.grant(TEAM),), level=small.level("run"))
    with small.service.unit(stale) as unit:
        assert changes.preview(unit, wish).needs_proof
        with pytest.raises(ProofNeeded):
            changes.carry_out(unit, wish)


def test_a_successor_takes_over_what_somebody_held(small: Small) -> None:
    """With the same terms; the old grant ends as replaced once that is done."""
    found = change(small, "replace", EDDA, successor=small.person("owen"))
    assert found.lines[0].does == "passes to Owen"
    revocation = found.lines[0].revocation_id
    with small.acting("ines") as unit:
        (step,) = steps.page(unit, revocation).step_list
        steps.done_by_hand(unit, revocation, step.id, "Taken out of the list.")
    assert small.state(small.grant(EDDA)) == "replaced"
    with small.acting("owen") as unit:
        assert "Box" in {row["account"]["name"] for row in register.page(unit, "grants", ListQuery(limit=50)).rows}
    with pytest.raises(BadInput):
        change(small, "replace", MARA, successor=small.person("edda"))


def test_access_is_given_up_without_anyones_leave(small: Small) -> None:
    """One's own, and nobody else's."""
    with small.acting("mara") as unit:
        ident = changes.give_up(unit, small.grant(MARA), "").revocation_id
    assert small.told("ines") == ["Mara gives up access to Box: Not needed any more."]
    with small.acting("ines") as unit:
        for step in steps.page(unit, ident).step_list:
            steps.done_by_hand(unit, ident, step.id, "Taken out of the list.")
    assert small.state(small.grant(MARA)) == "given_up"
    with pytest.raises(NotFound), small.acting("mara") as unit:
        changes.give_up(unit, small.grant(TEAM), "")


def test_ending_many_at_once_asks_for_a_proof_and_apps_are_disconnected_by_a_filter(small: Small) -> None:
    """More than five grants are many."""
    stale = replace(small.itself, person=small.person("ines"), credential=UUID(int=5))
    wish = Change(ChangeKind.END, "All must go.", filter='state ne "ended" and state ne "pending"')
    with small.service.unit(small.itself) as unit:
        live = [row["id"] for row in register.page(unit, "grants", ListQuery(filter=wish.filter)).rows]
    with pytest.raises(ProofNeeded, match="Ending 6 grants"), small.service.unit(stale) as unit:
        revoke.start(unit, prepare.Wish(tuple(live)), "All must go.")
    with pytest.raises(ProofNeeded, match="Ending 6 grants"), small.service.unit(stale) as unit:
        changes.carry_out(unit, wish)
    apps = f'account.id eq "{small.account("box")}" and holder.kind eq "app"'
    with small.service.unit(stale) as unit:
        assert changes.carry_out(unit, replace(wish, filter=apps)).changed == 1
    assert small.state(small.grant(SYNC)) == "revoking"
    for who in ("owen", "mara"):
        with pytest.raises((NotAllowed, NotFound)), small.acting(who) as unit:
            changes.carry_out(unit, Change(ChangeKind.END, "Mine now.", (small.grant(EDDA),)))


def test_changing_a_level_shows_whose_rights_grow_and_holds_at_a_latch(small: Small) -> None:
    """It applies at once for everybody who holds it; a permission says the same thing everywhere."""
    read = small.level("read")
    wider = levels.Draft(
        "Read",
        "Can read and take away.",
        ("mail.read",),
        (levels.NewPermission("mail.take", "Take it away", Reach.SPEND),),
    )
    with small.service.unit(small.itself) as unit:
        shown = levels.preview(unit, read, wider)
        assert {(e.holder.name, e.account.name) for e in shown.effects} == {
            ("Mara", "Box"),
            ("Owen", "Box"),
            ("Sync", "Box"),
        }
        guard.switch(unit, Setting(LatchKind.NO_SPEND_OUTSIDE, LatchMode.HOLD, small.account("box")))
    with pytest.raises(Held, match="Owen is an outsider and can spend"), small.service.unit(small.itself) as unit:
        levels.change(unit, read, wider, "", None)
    with small.service.unit(small.itself) as unit:
        guard.switch(unit, Setting(LatchKind.NO_SPEND_OUTSIDE, LatchMode.WARN, small.account("box")))
        assert levels.change(unit, read, wider, "", 1).reach == Reach.SPEND
        with pytest.raises(Conflict, match="meanwhile"):
            levels.change(unit, read, wider, "", 1)
        other = levels.Draft("Read", "Can read.", (), (levels.NewPermission("mail.read", "Else", Reach.OBSERVE),))
        with pytest.raises(BadInput, match="says 'Read it'"):
            levels.preview(unit, read, other)
    assert any("No outsider may spend" in sentence for sentence in small.open_flags("latch_broken"))
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        levels.preview(unit, read, wider)


def test_what_a_file_says_of_people_is_recorded_and_flagged(small: Small) -> None:
    """That somebody has left, or stands outside by now, is a fact: no latch refuses it."""
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.HOLD, small.account("box")))
    with small.service.unit(small.itself) as unit:
        written = io.BytesIO(b"key,name,inside,standing\nmara,Mara,no,left\n")
        assert imports.bring(unit, "people", "csv", written, keep_good=False, try_only=False).kept
    (sentence,) = small.open_flags("latch_broken")
    assert "Two stewards at all times" in sentence


def test_the_last_of_many_to_come_does_not_slip_through(small: Small) -> None:
    """However many begin before: what lies too far ahead to be looked at is refused, with the reason."""
    box, read = small.account("box"), small.level("read")
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, box))
    with small.service.unit(small.itself) as unit:
        row = Person(organisation_id=small.itself.organisation, name="Inside", inside=True, key="inside")
        unit.db.add(row)
        unit.db.flush()
        grant = Grant(organisation_id=row.organisation_id, account_id=box, person_id=row.id, given_at=unit.now)
        unit.db.add(grant)
        unit.db.flush()
        unit.db.add_all(
            Term(
                organisation_id=row.organisation_id,
                grant_id=grant.id,
                level_id=read,
                since=unit.now + timedelta(days=day),
                until=unit.now + timedelta(days=day, hours=1),
            )
            for day in range(1, 61)
        )
    for days in (61, 5000):
        choice = Choice((read,), since=small.clock() + timedelta(days=days))
        with pytest.raises(Held, match="outsider"), small.acting("ines") as unit:
            send_offer.send(unit, Proposal(box, (To(address="una@example.net", name="Una"),), choice))
    with small.service.unit(small.itself) as unit:
        crowd = guard.crowds(unit, [box])[box]
        latch = core.Latch(LatchKind.NO_OUTSIDERS, LatchMode.HOLD)
        assert core.newly_broken([latch], crowd, replace(crowd, beyond=3))[0].fact.startswith("more than")


def test_an_app_is_as_far_outside_as_whoever_linked_it(small: Small) -> None:
    """No outsider may spend: not by an app of theirs either."""
    with small.service.unit(small.itself) as unit:
        guard.switch(unit, Setting(LatchKind.NO_SPEND_OUTSIDE, LatchMode.HOLD, small.account("ledger")))
    theirs, ours = (
        io.BytesIO(b"account,holder_kind,holder,level,given_by\nledger,app,sync,pay," + who)
        for who in (b"owen", b"mara")
    )
    said = "Sync is linked by an outsider and can spend"
    with pytest.raises(Held, match=said), small.service.unit(small.itself) as unit:
        imports.bring(unit, "grants", "csv", theirs, keep_good=False, try_only=False)
    with small.service.unit(small.itself) as unit:
        assert imports.bring(unit, "grants", "csv", ours, keep_good=False, try_only=False).kept


@pytest.mark.parametrize(
    ("kind", "latch", "number", "file"),
    [
        ("grants", LatchKind.NO_OUTSIDERS, None, "account,holder,level\nbox,quin,read\n"),
        ("memberships", LatchKind.MOST_DELEGATES, 2, "team,member\nwardens,quin\n"),
        ("accounts", LatchKind.NO_OUTSIDERS, None, "key,name,system,sensitivity,owner\nbox,Box,Mail,3,quin\n"),
        ("accounts", LatchKind.NO_SPEND_OUTSIDE, None, "key,name,system,sensitivity,owner\nbox,Box,Mail,3,quin\n"),
        ("accounts", LatchKind.TWO_STEWARDS, None, "key,name,system,sensitivity,owner\nbox,Box,Mail,3,mara\n"),
        ("resources", LatchKind.NOTHING_PUBLIC, None, "account,key,name,public\nbox,in,Inbox,yes\n"),
        (
            "levels",
            LatchKind.NO_SPEND_OUTSIDE,
            None,
            "system,key,name,sentence,permissions\nMail,read,Read,Pays.,mail.read|Read it|spend\n",
        ),
    ],
)
def test_a_latch_holds_what_a_file_would_let_in(
    small: Small, kind: str, latch: LatchKind, number: int | None, file: str
) -> None:
    """Whichever way in it is; nothing of the file is kept."""

    def bring(name: str, written: str) -> None:
        with small.service.unit(small.itself) as unit:
            source = io.BytesIO(written.encode())
            imports.bring(unit, name, "csv", source, keep_good=False, try_only=False)

    bring("people", "key,name,inside\nquin,Quin,no\n")
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(latch, LatchMode.HOLD, small.account("box"), None, number))
    with small.service.unit(small.itself) as unit:
        before = unit.db.scalars(select(JournalEntry.position)).all()
    with pytest.raises(Held):
        bring(kind, file)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(JournalEntry.position)).all() == before
        guard.switch(unit, Setting(latch, LatchMode.WARN, small.account("box"), None, number))
    bring(kind, file)
    assert small.open_flags("latch_broken")


def test_a_change_that_takes_too_long_is_given_up(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """A call holds what others wait for no longer than some seconds; nothing of it is kept."""
    monkeypatch.setattr(changes, "SECONDS", -1)
    wish = Change(ChangeKind.SUSPEND, "Season ends.", filter='state eq "active"')
    for work in (changes.preview, changes.carry_out):
        with pytest.raises(BadInput, match="too much for one call"), small.service.unit(small.itself) as unit:
            work(unit, wish)
    assert small.state(small.grant(MARA)) == "active"


def test_many_are_changed_by_the_worker_slice_by_slice(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """Looked at first; killed between two slices it goes on where it was; what changed meanwhile is refused."""
    monkeypatch.setattr(large_changes, "SLICE", 1)
    wish = Change(ChangeKind.SUSPEND, "Season ends.", filter='state eq "active"')
    ines = replace(small.as_("ines"), administrator=True)
    with small.service.unit(small.itself) as unit:
        authentication.make_sign_in(
            unit.db, ines.organisation, small.person("ines"), "ines@example.org", PASSWORD, Role.ADMINISTRATOR
        )
    with small.service.unit(ines) as unit:
        looked = large_changes.ask(unit, wish, True, None).id
    large_changes.carry_on(small.service, ines.organisation, looked)
    with small.service.unit(ines) as unit:
        preview = large_changes.one(unit, looked)
        assert (preview.state, preview.done, preview.changed) == ("done", 5, 5)
    assert small.state(small.grant(MARA)) == "active"
    change(small, "set_end", MARA, no_end=True)
    with pytest.raises(ProofNeeded), small.service.unit(replace(ines, credential=UUID(int=1))) as unit:
        large_changes.ask(unit, wish, False, looked)
    for other in (replace(wish, kind=ChangeKind.END), replace(wish, filter='state eq "suspended"')):
        with pytest.raises(Conflict, match="not a preview of this change"), small.service.unit(ines) as unit:
            large_changes.ask(unit, other, False, looked)
    with small.service.unit(ines) as unit:
        begun = large_changes.ask(unit, wish, False, looked).id
    assert large_changes._slice(small.service, ines.organisation, begun)
    with small.acting("mara") as unit:
        with pytest.raises(NotFound):
            large_changes.one(unit, begun)
        assert today.page(unit).changes == []
    with small.service.unit(ines) as unit:
        assert [(one.id, one.done, one.lines) for one in today.page(unit).changes] == [(begun, 1, [])]
    tasks.tasks_of(small.service)["change_many"](str(ines.organisation), str(begun))
    large_changes.carry_on(small.service, ines.organisation, begun)
    with small.service.unit(ines) as unit:
        done = large_changes.one(unit, begun)
        told = unit.db.scalars(select(JournalEntry.action).where(JournalEntry.subject_id == begun)).all()
    assert (done.state, done.done, done.changed, told) == ("done", 5, 4, ["change.begun", "change.done"])
    assert "changed this grant meanwhile" in done.lines[0].refused
    small.clock.forward(days=2)
    with small.service.unit(ines) as unit:
        assert today.page(unit).changes == []
    assert small.state(small.grant(MARA)) == "active"


def test_a_large_change_that_breaks_is_not_tried_for_ever_and_nobody_asks_for_many(
    small: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What was done stays, and it says that it broke off."""

    def broken(*_: Any) -> None:
        raise RuntimeError("A fault of ours.")

    wish = Change(ChangeKind.SUSPEND, "Season ends.", filter='state eq "active"')
    for _ in range(large_changes.MOST_AT_ONCE):
        with small.service.unit(small.itself) as unit:
            ident = large_changes.ask(unit, wish, False, None).id
    with small.acting("ines") as unit:
        assert large_changes.ask(unit, wish, True, None).state == "waiting"
        large_changes.ask(unit, wish, True, None)
        with pytest.raises(TooMany, match="still being made"):
            large_changes.ask(unit, wish, True, None)
    monkeypatch.setattr(changes, "tried", broken)
    with pytest.raises(RuntimeError):
        large_changes.carry_on(small.service, small.itself.organisation, ident)
    with small.service.unit(small.itself) as unit:
        found = large_changes.one(unit, ident)
        assert (found.state, found.done, "broke off" in found.problem) == ("failed", 0, True)
        assert ident not in large_changes.going_on(unit)


def test_a_large_change_is_stopped_and_ends_with_the_sign_in_of_who_asked(small: Small) -> None:
    """What was done stays; nothing is done for somebody who is nobody here any more."""
    wish = Change(ChangeKind.SUSPEND, "Season ends.", filter='state eq "active"')
    ines = replace(small.as_("ines"), administrator=True)
    for stopped in (True, False):
        with small.service.unit(ines) as unit:
            ident = large_changes.ask(unit, wish, False, None).id
        if stopped:
            with small.service.unit(ines) as unit:
                large_changes.stop(unit, ident)
        large_changes.carry_on(small.service, ines.organisation, ident)
        with small.service.unit(ines) as unit:
            found = large_changes.one(unit, ident)
            assert (found.state, found.changed) == ("stopped" if stopped else "failed", 0)
            with pytest.raises(Conflict, match="ended already"):
                large_changes.stop(unit, ident)


def test_two_stewards_are_kept_from_going_below(small: Small) -> None:
    """By revoking, giving up and suspending, and by an end to come; time that runs out asks nobody."""
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.HOLD, small.account("box")))
    for attempt in (
        lambda: change(small, "end", MARA),
        lambda: change(small, "suspend", MARA),
        lambda: change(small, "set_level", MARA, level=small.level("read")),
    ):
        with pytest.raises(Held, match="only one person decides"):
            attempt()
    with pytest.raises(Held), small.acting("mara") as unit:
        changes.give_up(unit, small.grant(MARA), "")
    with small.acting("ines") as unit:
        shown = revoke.preview(unit, prepare.Wish((small.grant(MARA),)))
        assert [b.kind for b in shown.latches] == ["two_stewards"]
    for until in (timedelta(seconds=90), timedelta(days=400)):
        with pytest.raises(Held, match="only one person decides about it from"):
            change(small, "set_end", MARA, until=small.clock() + until)
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.OFF, small.account("box")))
    change(small, "set_end", MARA, until=small.clock() + timedelta(hours=1))
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.TWO_STEWARDS, LatchMode.HOLD, small.account("box")))
    # Later is no worse than it is.
    change(small, "set_end", MARA, until=small.clock() + timedelta(hours=2))
    small.clock.forward(hours=2)
    tasks.look_round(small.service)
    assert small.state(small.grant(MARA)) == "revoking"


def test_switching_a_latch_on_shows_what_breaks_it_and_flags_that_until_it_is_mended(small: Small) -> None:
    """On an account, and on all of a kind; an account can only ask for more. Delegates set none."""
    box = small.account("box")
    most = Setting(LatchKind.MOST_DELEGATES, LatchMode.HOLD, box, None, 1)
    with small.acting("ines") as unit:
        shown = guard.preview(unit, most)
        assert shown.broken[0].breaches[0].fact == "there are 2 delegates (Mara, Owen)"
        assert unit.db.scalars(select(Flag.id).where(Flag.rule == "latch_broken")).all() == []
        guard.switch(unit, most)
    assert small.open_flags("latch_broken") == {
        "Box breaks the latch “At most 1 delegates”: there are 2 delegates (Mara, Owen)."
    }
    change(small, "suspend", TEAM, by="ines")
    assert small.open_flags("latch_broken") == set()
    with small.service.unit(small.itself) as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.WARN, None, "account"))
        states = {row.kind: row for row in guard.of_account(unit, box)}
        assert (states["no_outsiders"].mode, states["no_outsiders"].of_kind) == ("warn", True)
        with pytest.raises(Conflict, match="for all accounts of the kind"):
            guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.OFF, box))
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, box))
        states = {row.kind: row for row in guard.of_account(unit, box)}
        assert (states["no_outsiders"].mode, states["no_outsiders"].of_kind) == ("hold", False)
    for setting in (replace(most, number=None), Setting(LatchKind.NEVER_TOGETHER, LatchMode.WARN, box)):
        with pytest.raises(BadInput), small.acting("ines") as unit:
            guard.switch(unit, setting)
    with pytest.raises(NotAllowed), small.acting("mara") as unit:
        guard.switch(unit, most)


def test_inside_an_account_one_sees_it_alone_and_the_journal_names_both(small: Small) -> None:
    """A steward answers for it there, except for what stays the owner's."""
    box = small.account("box")
    mara = small.signed_in("mara")
    with small.service.unit(mara) as unit:
        inside = visits.enter(unit, box)
        assert {row["name"] for row in register.page(inside, "accounts", ListQuery()).rows} == {"Box"}
        assert inside.sight.owned == {box}
        with pytest.raises(NotAllowed, match="stays with the account's owner"):
            guard.switch(inside, Setting(LatchKind.NO_OUTSIDERS, LatchMode.WARN, box))
        with pytest.raises(NotFound):
            account_page(inside, small.account("ledger"))
        changes.carry_out(inside, Change(ChangeKind.SUSPEND, "Gone.", (small.grant(EDDA),)))
    with small.service.unit(small.itself) as unit:
        entry = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == "grant.suspended")).one()
    assert entry.actor_name == "Mara"
    assert entry.facts["on_behalf_of"] == {"id": str(small.person("ines")), "name": "Ines", "account": "Box"}
    with pytest.raises(BadInput, match="your own"), small.service.unit(small.signed_in("ines")) as unit:
        visits.enter(unit, box)
    with pytest.raises(NotFound), small.service.unit(mara) as unit:
        visits.enter(unit, small.account("rota"))


def test_delegates_see_one_another_unless_a_latch_says_no(small: Small) -> None:
    """And only while they are inside."""
    box = small.account("box")
    owen = small.signed_in("owen")
    with small.service.unit(owen) as unit:
        assert account_page(unit, box).others == []
        inside = visits.enter(unit, box)
        assert [row.name for row in account_page(inside, box).others] == ["Ines", "Mara"]
    with small.acting("ines") as unit:
        guard.switch(unit, Setting(LatchKind.UNSEEN, LatchMode.HOLD, box))
    with small.service.unit(owen) as unit:
        assert account_page(visits.enter(unit, box), box).others == []
        unit.db.execute(delete(WebSession))
    tasks.look_round(small.service)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(Visit.ended_as).order_by(Visit.id)).all() == ["left", "signed_out"]


def test_a_session_is_ones_own_to_end_only_where_the_service_can(small: Small) -> None:
    """Where it can't, it is said what to do; somebody else's is not there."""
    own = small.id(Session, "s1")
    with small.acting("mara") as unit, pytest.raises(Conflict, match="can't be ended from here"):
        changes.end_own_session(unit, own)
    for who in ("ines", "owen"):
        with small.acting(who) as unit, pytest.raises(NotFound):
            changes.end_own_session(unit, own)
