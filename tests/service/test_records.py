"""Records kept by hand: made, edited, archived, removed, merged; and access that is written down as it is known."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date, timedelta
from typing import Any
from uuid import UUID, uuid4

import pytest
from sqlalchemy import func, select

from openlatch import schemas
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import HolderKind
from openlatch.errors import BadInput, Conflict, Held, NotAllowed, NotFound, OpenLatchError, Outdated
from openlatch.service.changes import changes
from openlatch.service.grants import levels
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import register
from openlatch.service.offers import preview
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.records import edit as record_edit
from openlatch.service.records import existing_access, merge, teams
from openlatch.service.records.existing_access import Known
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import (
    Account,
    ActionEffect,
    App,
    Grant,
    JournalEntry,
    Level,
    Membership,
    Person,
    System,
    Team,
)
from tests.service.conftest import Small, lagging


@contextmanager
def ada(small: Small) -> Iterator[Unit]:
    """A transaction as an administrator, after which no flag lags behind."""
    with small.acting_as_administrator("ada") as unit:
        yield unit


def form(kind: str, /, **given: Any) -> dict[str, Any]:
    return schemas.FORMS[kind].model_validate(given).model_dump()


def made(small: Small, kind: str, /, **given: Any) -> UUID:
    with ada(small) as unit:
        ident: UUID = record_edit.make(unit, kind, form(kind, **given)).id
        return ident


def edited(small: Small, kind: str, ident: UUID, version: int | None = None, /, **given: Any) -> record_edit.Record:
    with ada(small) as unit:
        return record_edit.change(unit, kind, ident, given, version)


def forms(small: Small) -> dict[str, tuple[dict[str, Any], dict[str, Any]]]:
    """A form for every kind, and an edit of it."""
    mail = small.id(System, "Mail")
    return {
        "people": (
            {
                "name": "Nora",
                "address": "nora@example.org",
                "marks": [{"kind": "uid", "value": "77"}],
                "other_addresses": ["n@example.org"],
                "logins": [{"system": mail, "name": "nora"}],
            },
            {"job": "Keeper", "manager": small.person("ines"), "other_addresses": []},
        ),
        "teams": ({"name": "Night watch"}, {"purpose": "Nights", "speaker": small.person("ines")}),
        "memberships": (
            {"team": small.id(Team, "wardens"), "person": small.person("ines")},
            {"last_day": date(2026, 12, 1)},
        ),
        "accounts": (
            {
                "name": "Webcam",
                "system": mail,
                "owner": small.person("ines"),
                "paid_until": "2026-06-30",
                "payer": {"kind": "team", "id": small.id(Team, "wardens")},
            },
            {"sensitivity": 4, "payer": {"kind": "account", "id": small.account("box")}},
        ),
        "resources": ({"account": small.account("box"), "name": "Archive"}, {"kind": "folder"}),
        "groups": ({"account": small.account("box"), "name": "All folders"}, {"name": "Folders"}),
        "apps": ({"name": "Weather", "home_page": "https://weather.example.org"}, {"publisher": "Sky"}),
    }


@pytest.mark.parametrize("kind", list(schemas.FORMS))
def test_a_record_is_made_edited_and_removed_by_its_form(small: Small, kind: str) -> None:
    """What a form says comes back; an edit leaves the rest; the journal has what each value was; nothing stays."""
    given, edit = forms(small)[kind]
    whole = form(kind, **given)
    ident = made(small, kind, **given)
    with ada(small) as unit:
        first = record_edit.shown(unit, kind, ident)
    assert {f: v for f, v in first.values.items() if f != "time_zone"} == {
        f: v for f, v in whole.items() if f != "time_zone"
    }
    after = edited(small, kind, ident, first.version, **edit)
    assert after.values == {**first.values, **edit}
    assert after.version > first.version
    with pytest.raises(Outdated):
        edited(small, kind, ident, first.version, **edit)
    with small.service.unit(small.itself) as unit:
        noun = record_edit.KINDS[kind].noun
        entry = unit.db.scalars(select(JournalEntry).where(JournalEntry.action == f"{noun}.changed")).one()
        assert set(entry.facts["changed"]) == set(edit)
    with ada(small) as unit:
        record_edit.remove(unit, kind, ident)
    with pytest.raises(NotFound), ada(small) as unit:
        record_edit.shown(unit, kind, ident)
    with small.service.unit(small.itself) as unit:
        assert lagging(unit) == []


def test_the_second_of_two_who_edit_is_told_what_the_first_changed(small: Small) -> None:
    """By whom, from what to what; and what they typed is made by looking again."""
    owen = small.person("owen")
    with ada(small) as unit:
        version = record_edit.shown(unit, "people", owen).version
    edited(small, "people", owen, version, job="Guide")
    with pytest.raises(Outdated) as told:
        edited(small, "people", owen, version, job="Cook")
    assert told.value.fields == {"job": "Ada Admin changed it from nothing to “Guide”"}
    assert edited(small, "people", owen, version + 1, job="Cook").values["job"] == "Cook"


def test_an_address_from_before_stays_while_it_is_not_edited(small: Small) -> None:
    """It may be written as none would be taken today; a new one may not."""
    odd = "mara..warden@example.org"
    with small.service.unit(small.itself) as unit:
        unit.db.get_one(Person, small.person("mara")).address = odd
    assert edited(small, "people", small.person("mara"), name="Mara W.").values["address"] == odd
    with pytest.raises(BadInput, match=r"periods in a row\.$"):
        edited(small, "people", small.person("mara"), address="mara..w@example.org")


def test_an_account_recorded_by_mistake_is_removed_although_it_is_flagged(small: Small) -> None:
    """What was worked out about it goes with it: its flags, and what could be done about them."""
    ident = made(small, "accounts", **forms(small)["accounts"][0])
    with small.service.unit(small.itself) as unit:
        worked_out = {"proposal": {}, "clears": [], "raises": 0, "loses_path": False, "seconds": 0.0}
        when = {"worked_out_at": unit.now, "at": unit.now}
        organisation = unit.viewer.organisation
        unit.db.add(ActionEffect(organisation_id=organisation, key="own", account_id=ident, **worked_out, **when))
    with ada(small) as unit:
        assert record_edit.shown(unit, "accounts", ident).dependents == []
        record_edit.remove(unit, "accounts", ident)
    with pytest.raises(NotFound), ada(small) as unit:
        record_edit.shown(unit, "accounts", ident)


def test_what_refers_to_a_record_is_listed_and_keeps_it(small: Small) -> None:
    """A person with access can't be removed, and nothing with access can be put out of sight."""
    for kind, ident in (
        ("people", small.person("mara")),
        ("accounts", small.account("box")),
        ("teams", small.id(Team, "wardens")),
        ("apps", small.id(App, "sync")),
    ):
        with pytest.raises(Conflict, match=r"\d grant"), ada(small) as unit:
            record_edit.remove(unit, kind, ident)
        if kind != "people":
            with pytest.raises(Conflict, match="in use"), ada(small) as unit:
                record_edit.archive(unit, kind, ident, True)
    with ada(small) as unit:
        listed = record_edit.shown(unit, "people", small.person("mara")).dependents
    assert {one.what for one in listed} >= {"2 grants", "1 account", "1 membership"}, listed


def test_what_is_archived_is_out_of_lists_until_a_filter_asks(small: Small) -> None:
    """And nothing can be given on it; taken out it is as before."""
    ident = made(small, "accounts", name="Old blog", system=small.id(System, "Mail"), owner=small.person("ines"))
    with ada(small) as unit:
        record_edit.archive(unit, "accounts", ident, True)
    assert "Old blog" not in small.names(small.itself, "accounts")
    assert "Old blog" in small.names(small.itself, "accounts", filter="archived eq true")
    known = Known(ident, HolderKind.PERSON, small.person("mara"), small.level("read"))
    with ada(small) as unit:
        told = existing_access.record(unit, [known], only_preview=True)
    assert told.lines[0].refused is not None
    with ada(small) as unit:
        record_edit.archive(unit, "accounts", ident, False)
    assert "Old blog" in small.names(small.itself, "accounts")


WRONG: list[tuple[str, dict[str, Any], str]] = [
    ("people", {"address": "no address"}, "address"),
    ("people", {"address": "ines@example.org"}, "address"),
    ("people", {"other_addresses": ["INES@example.org"]}, "other_addresses"),
    ("people", {"standing": "leaving"}, "leaves_on"),
    ("people", {"leaves_on": date(2026, 5, 1)}, "standing"),
    ("people", {"manager": uuid4()}, "manager"),
    ("accounts", {"time_zone": "Mars/Base"}, "time_zone"),
    ("accounts", {"owner": None}, "owner"),
    ("accounts", {"name": "LEDGER"}, "name"),
    ("apps", {"home_page": "javascript:alert(1)"}, "home_page"),
    ("teams", {"speaker": uuid4()}, "speaker"),
]


@pytest.mark.parametrize(("kind", "given", "field"), WRONG, ids=[f"{kind}-{field}" for kind, _, field in WRONG])
def test_what_is_wrong_is_named_by_its_field_and_changes_nothing(
    small: Small, kind: str, given: dict[str, Any], field: str
) -> None:
    """So that it can be said beside the field."""
    key: Any = {
        "people": (Person, "mara"),
        "accounts": (Account, "box"),
        "apps": (App, "sync"),
        "teams": (Team, "wardens"),
    }[kind]
    ident = small.id(*key)
    with ada(small) as unit:
        before = record_edit.shown(unit, kind, ident)
    with pytest.raises(BadInput) as told:
        edited(small, kind, ident, **given)
    assert field in told.value.fields
    with ada(small) as unit:
        assert record_edit.shown(unit, kind, ident) == before


def test_edits_that_let_in_go_through_latches(small: Small) -> None:
    """A member more, a new owner: refused on hold, with the way out; where somebody stands is a fact, and flagged."""
    with ada(small) as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, small.account("ledger")))
    safe = made(small, "accounts", name="Safe", system=small.id(System, "Mail"), owner=small.person("ines"))
    with ada(small) as unit:
        guard.switch(unit, Setting(LatchKind.NO_OUTSIDERS, LatchMode.HOLD, safe))
    with pytest.raises(Held):
        edited(small, "accounts", safe, owner=small.person("owen"))
    assert edited(small, "people", small.person("mara"), inside=False).warnings
    with ada(small) as unit:
        guard.switch(unit, Setting(LatchKind.MOST_DELEGATES, LatchMode.HOLD, small.account("box"), number=2))
    with pytest.raises(Held):
        made(small, "memberships", team=small.id(Team, "wardens"), person=small.person("ada"))


def test_owners_edit_their_own_accounts_but_not_who_answers_for_them(small: Small) -> None:
    """And the parts of these; others may not, and are not told what there is."""
    box = small.account("box")
    with small.acting("ines") as unit:
        assert record_edit.change(unit, "accounts", box, {"purpose": "Bookings"}).values["purpose"] == "Bookings"
        part = record_edit.make(unit, "resources", form("resources", account=box, name="Inbox")).id
    for given in ({"owner": small.person("mara")}, {"sensitivity": 1}, {"kind": "x"}):
        with pytest.raises(NotAllowed), small.acting("ines") as unit:
            record_edit.change(unit, "accounts", box, given)
    with pytest.raises(NotAllowed), small.acting("ines") as unit:
        record_edit.change(unit, "people", small.person("mara"), {"job": "x"})
    for ident in (part, uuid4()):
        with pytest.raises(NotFound, match="or you may not see it"), small.acting("owen") as unit:
            record_edit.change(unit, "resources", ident, {"name": "Mine"})


def test_many_are_changed_as_their_preview_said(small: Small) -> None:
    """What is refused for one leaves the others; a preview that is out of date is told."""
    ids = [small.person("mara"), small.person("owen"), uuid4()]
    with ada(small) as unit:
        shown = record_edit.change_many(unit, "people", ids, {"job": "Warden"}, only_preview=True)
    assert (shown.changed, shown.refused) == (2, 1)
    with ada(small) as unit:
        assert record_edit.shown(unit, "people", ids[0]).values["job"] == ""
    with pytest.raises(Conflict, match="has changed"), ada(small) as unit:
        record_edit.change_many(unit, "people", ids[:1], {"job": "Warden"}, False, shown.fingerprint)
    with ada(small) as unit:
        record_edit.change_many(unit, "people", ids, {"job": "Warden"}, False, shown.fingerprint)
        assert record_edit.shown(unit, "people", ids[1]).values["job"] == "Warden"


def test_an_account_closed_to_sharing_takes_nobody_in(small: Small) -> None:
    """Nothing is offered, granted or resumed on it; what is there stays."""
    rota = small.account("rota")
    edited(small, "accounts", rota, owner=small.person("ines"), is_closed=True)
    suspended = small.grant_of("owen", "rota")
    with pytest.raises(Conflict, match="closed to sharing"), ada(small) as unit:
        changes.carry_out(unit, Change(ChangeKind.RESUME, "The season begins.", (suspended,)))


def test_a_team_has_a_page_of_its_members(small: Small) -> None:
    """People and teams, with when each belongs to it."""
    wardens = small.id(Team, "wardens")
    night = made(small, "teams", name="Night watch")
    made(small, "memberships", team=wardens, member_team=night, last_day=date(2026, 12, 1))
    with ada(small) as unit:
        page = teams.page(unit, wardens)
    assert [(m.kind, m.member.name) for m in page.members] == [
        ("person", "Mara"),
        ("team", "Night watch"),
        ("person", "Owen"),
    ]
    with pytest.raises(BadInput, match="already"):
        made(small, "memberships", team=wardens, person=small.person("mara"))
    with pytest.raises(NotFound, match="or you may not see it"), small.acting("edda") as unit:
        teams.page(unit, wardens)


# Access that is known of.


def test_existing_access_is_written_down_without_asking_anybody(small: Small) -> None:
    """It is recorded by whoever types, with their evidence, and given by whoever is named, or nobody known."""
    box, mara = small.account("box"), small.person("mara")
    lines = [
        Known(
            box,
            HolderKind.PERSON,
            small.person("owen"),
            small.level("read"),
            since=date(2025, 5, 1),
            evidence="Seen in the list.",
        ),
        Known(box, HolderKind.PERSON, mara, small.level("run")),
        Known(box, HolderKind.PERSON, small.person("ines"), small.level("read")),
    ]
    with ada(small) as unit:
        shown = existing_access.record(unit, lines, only_preview=True)
    assert [line.does for line in shown.lines] == ["new", "the same", ""]
    assert "owns the account" in shown.lines[2].refused
    assert shown.lines[1].grant_id == small.grant_of("mara", "box")
    with pytest.raises(BadInput, match="Line 3"), ada(small) as unit:
        existing_access.record(unit, lines, False, shown.fingerprint)
    with small.acting("ines") as unit:
        made_ = existing_access.record(unit, lines[:1], False).lines[0].grant_id
    with small.service.unit(small.itself) as unit:
        grant = unit.db.get_one(Grant, made_)
        assert (grant.given_by_id, grant.recorded_by_id) == (None, small.person("ines"))
        assert (grant.state, f"{grant.given_at:%Y-%m-%d}") == ("active", "2025-04-30")
        assert lagging(unit) == []
    assert small.told("owen") == []
    for known in (
        Known(box, HolderKind.PERSON, mara, small.level("pay")),
        Known(small.account("ledger"), HolderKind.PERSON, mara, small.level("pay")),
        Known(box, HolderKind.PERSON, mara, small.level("read"), last_day=date(2026, 1, 1)),
    ):
        with pytest.raises(OpenLatchError), small.acting("ines") as unit:
            existing_access.record(unit, [known], False)


# Merging.


def test_two_records_of_a_person_become_one_and_two_again(small: Small) -> None:
    """All that refers to the one refers to the other; what was twice is one; undone, each has its own."""
    twin = made(small, "people", name="Owen B", address="owen.b@example.net", job="Guide", inside=False)
    blog = made(small, "accounts", name="Blog", system=small.id(System, "Mail"), owner=small.person("ines"))
    with ada(small) as unit:
        for account in (blog, small.account("box")):
            existing_access.record(unit, [Known(account, HolderKind.PERSON, twin, small.level("read"))], False)
        unit.db.add(
            Membership(organisation_id=unit.viewer.organisation, team_id=small.id(Team, "wardens"), person_id=twin)
        )
        unit.db.get_one(Grant, small.grant_of("mara", "box")).given_by_id = twin
    owen = small.person("owen")

    def state() -> dict[str, Any]:
        with small.service.unit(small.itself) as unit:
            held = unit.db.execute(select(Grant.person_id, Grant.account_id).where(Grant.person_id.in_([owen, twin])))
            members = unit.db.scalars(select(Membership.person_id).where(Membership.person_id.in_([owen, twin])))
            given = unit.db.scalar(select(Grant.given_by_id).where(Grant.id == small.grant_of("mara", "box")))
            people = {
                p.id: record_edit.KINDS["people"].values(unit, p)
                for p in unit.db.scalars(select(Person).where(Person.id.in_([owen, twin])))
            }
            return {"held": sorted(held), "members": sorted(members), "given": given, "people": people}

    before = state()
    with ada(small) as unit:
        shown = merge.preview(unit, "people", owen, twin)
        assert [account.name for account in shown.accounts] == ["Blog"]
        assert [fill.field for fill in shown.fills] == ["job"]
    assert state() == before
    with ada(small) as unit:
        ident = merge.merge(unit, "people", owen, twin, shown.fingerprint).id
    with small.service.unit(small.itself) as unit:
        assert lagging(unit) == []
        assert unit.db.scalar(select(func.count(Grant.id)).where(Grant.person_id == twin)) == 0
        after = record_edit.shown(unit, "people", owen).values
        assert (after["job"], after["other_addresses"]) == ("Guide", ["owen.b@example.net"])
        assert "Owen B" not in {row["name"] for row in register.page(unit, "people", ListQuery(limit=100)).rows}
    assert state()["given"] == owen
    with pytest.raises(Conflict, match="merged into another"), ada(small) as unit:
        merge.preview(unit, "people", owen, twin)
    with ada(small) as unit:
        merge.undo(unit, ident)
    assert state() == before
    with small.service.unit(small.itself) as unit:
        assert lagging(unit) == []
    with pytest.raises(Conflict, match="undone already"), ada(small) as unit:
        merge.undo(unit, ident)


def test_a_merge_can_be_undone_for_thirty_days(small: Small) -> None:
    """After that the record is made anew; and two people who both sign in are not one."""
    twin = made(small, "apps", name="Sync 2")
    with ada(small) as unit:
        ident = merge.merge(unit, "apps", small.id(App, "sync"), twin).id
    small.clock.now += timedelta(days=30, seconds=1)
    with pytest.raises(Conflict, match="thirty days"), ada(small) as unit:
        merge.undo(unit, ident)
    small.signed_in("mara")
    with pytest.raises(Conflict, match="both sign in"), ada(small) as unit:
        merge.preview(unit, "people", small.person("mara"), small.person("ada"))


def test_a_level_is_archived_or_removed_when_nothing_gives_it(small: Small) -> None:
    """What is archived can't be chosen any more; one that is in use stays, and it is said by what."""
    read, draft = small.level("read"), levels.Draft("Look", "Can look.", ("mail.read",))
    with ada(small) as unit:
        look = levels.make(unit, unit.db.get_one(Level, read).system_id, "look", draft).id
        for way in (
            lambda: record_edit.remove(unit, "levels", read),
            lambda: record_edit.archive(unit, "levels", read, True),
        ):
            with pytest.raises(Conflict, match="of grants"):
                way()
        record_edit.archive(unit, "levels", look, True)
    proposal = Proposal(small.account("box"), (To(person=small.person("owen")),), Choice((look,)))
    with small.acting("ines") as unit, pytest.raises(BadInput, match="no such level"):
        preview.preview(unit, proposal)
    assert "Look" not in small.names(small.itself, "levels")
    with ada(small) as unit:
        record_edit.archive(unit, "levels", look, False)
    with small.acting("ines") as unit:
        preview.preview(unit, proposal)
    with small.acting("ines") as unit, pytest.raises(NotAllowed):
        record_edit.remove(unit, "levels", look)
    with ada(small) as unit:
        record_edit.remove(unit, "levels", look)
    assert "Look" not in small.names(small.itself, "levels")
