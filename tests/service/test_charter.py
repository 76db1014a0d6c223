"""The charter: compared and adopted, all or nothing, and only what was shown."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Any

import pytest
from sqlalchemy import select

from openlatch import schemas
from openlatch.errors import BadInput, Conflict, NotAllowed
from openlatch.service.charter import adopt, written
from openlatch.service.records import edit
from openlatch.service.unit import Unit
from openlatch.store.tables import AdoptedCharter, JournalEntry, Latch, Membership, Organisation, Person, Team
from tests.service.conftest import Small

WHOLE: dict[str, Any] = {
    "teams": [
        {
            "name": "Night watch",
            "formerly": ["Wardens"],
            "speaker": "MARA@example.org",
            "members": [
                {"person": "mara", "last_day": "2026-06-30"},
                {"person": "ines@example.org"},
                {"team": "night crew"},
            ],
        },
        {"name": "Night crew", "purpose": "Sleeps by day", "members": []},
    ],
    "levels": [
        {
            "system": "Mail",
            "key": "read",
            "name": "Reader",
            "sentence": "Can read.",
            "permissions": [{"key": "mail.read", "sentence": "Read it", "reach": "observe"}],
        },
        {
            "system": "Mail",
            "key": "run",
            "name": "Run",
            "sentence": "Can run it.",
            "permissions": [
                {"key": "mail.read", "sentence": "Read it", "reach": "observe"},
                {"key": "mail.share", "sentence": "Let others in", "reach": "steward"},
            ],
        },
        {
            "system": "Books",
            "key": "pay",
            "name": "Pay",
            "sentence": "Can pay.",
            "permissions": [{"key": "books.pay", "sentence": "Send money", "reach": "spend"}],
        },
    ],
    "latches": [
        {"account": "box", "kind": "most_delegates", "mode": "warn", "number": 4},
        {"account_kind": "account", "kind": "ends_within", "mode": "warn", "number": 90},
    ],
    "rules": {"limits": {"unused": [200, 100, 90, "none"]}, "off": [], "known_publishers": ["Alder"]},
    "own_rules": [
        {
            "key": "long_hold",
            "on": "grant",
            "title": "Held long",
            "when": "holder.inside eq false",
            "says": "{holder} is outside.",
            "remedy": "Ask why.",
            "matches": [{"holder.inside": False, "given_at": "2026-01-01"}],
            "misses": [{"holder.inside": True}],
        }
    ],
    "schedules": [
        {
            "name": "Sensitive accounts",
            "scope": "account.sensitivity ge 3",
            "recurrence": "quarter",
            "starts": "2026-04-01T09:00",
            "reviewers": [{"kind": "team", "team": "Night watch"}, {"kind": "person", "person": "ines@example.org"}],
        }
    ],
    "expected_exposures": [{"name": "The site", "filter": 'account.kind eq "site"', "reason": "It is one"}],
}


def whole(**parts: Any) -> schemas.Charter:
    """The charter with some parts otherwise."""
    return schemas.Charter.model_validate({**WHOLE, **parts})


def taken(unit: Unit, charter: schemas.Charter) -> schemas.CharterAdoption:
    """A charter, compared and adopted."""
    return adopt.adopt(unit, charter, adopt.comparison(unit, charter).fingerprint, "rev 1")


def test_a_charter_changes_all_that_differs_and_then_nothing(small: Small) -> None:
    """Every part, in an order in which each step can be taken; the same charter again finds no difference."""
    with small.acting_as_administrator("ines") as unit:
        shown = adopt.comparison(unit, whole())
        assert shown.refused == ""
        assert unit.entries == []
        done = taken(unit, whole())
    told = {(change.part, change.name, change.change) for change in done.changes}
    assert {
        ("teams", "Night watch", "change"),
        ("teams", "Night crew", "add"),
        ("members", "owen@example.net in Night watch", "remove"),
        ("members", "mara@example.org in Night watch", "change"),
        ("members", "Night crew in Night watch", "add"),
        ("levels", "read of Mail", "change"),
        ("latches", "most_delegates on Box", "add"),
        ("rules", "The settings of rules", "change"),
        ("own_rules", "long_hold", "add"),
        ("schedules", "Sensitive accounts", "add"),
        ("expected_exposures", "The site", "add"),
    } <= told
    with small.acting_as_administrator("ines") as unit:
        assert unit.db.scalars(select(Team.key).where(Team.name == "Night watch")).one() == "wardens"
        assert adopt.comparison(unit, whole()).changes == []
        page = adopt.page(unit)
        assert page.changes == []
        assert page.adopted is not None
        assert (page.adopted.by, page.adopted.source) == ("Ines", "rev 1")
        # What the register writes is a charter that changes nothing.
        assert adopt.comparison(unit, page.charter).changes == []
        journalled = set(unit.db.scalars(select(JournalEntry.action)))
    assert {"team.changed", "membership.removed", "latch.set", "rule.kept", "charter.adopted"} <= journalled


def test_only_what_was_shown_is_adopted(small: Small) -> None:
    """Somebody who changes the register in between makes it another comparison."""
    charter = whole()
    with small.acting_as_administrator("ines") as unit:
        seen = adopt.comparison(unit, charter).fingerprint
    with small.acting_as_administrator("ines") as unit:
        edit.make(unit, "teams", {"name": "Third", "partner": False, "purpose": "", "speaker": None})
    with pytest.raises(Conflict, match="something else now"), small.acting_as_administrator("ines") as unit:
        adopt.adopt(unit, charter, seen, "")


def test_a_refusal_is_shown_before_and_leaves_everything_as_it_was(small: Small) -> None:
    """A team that holds access can't be archived; nothing else happens either."""
    charter = whole(teams=[{"name": "Night crew"}], schedules=[])
    with small.acting_as_administrator("ines") as unit:
        shown = adopt.comparison(unit, charter)
        assert "Wardens is in use: 1 grant" in shown.refused
        assert "teams, Wardens" in shown.refused
    with pytest.raises(Conflict, match="in use"), small.acting_as_administrator("ines") as unit:
        adopt.adopt(unit, charter, shown.fingerprint, "")
    with small.acting_as_administrator("ines") as unit:
        assert unit.db.scalars(select(Team.name)).all() == ["Wardens"]
        assert unit.db.scalars(select(Latch.kind)).all() == []
        assert unit.db.scalars(select(AdoptedCharter.source)).all() == []


@pytest.mark.parametrize(
    ("parts", "fault"),
    [
        ({"teams": [{"name": "W", "speaker": "nobody@example.org"}]}, "'nobody@example.org' is nobody here"),
        ({"teams": [{"name": "W", "speaker": "twin"}]}, "'twin' is more than one person"),
        ({"teams": [{"name": "W", "members": [{}]}]}, "a member is a person or a team"),
        ({"teams": [{"name": "W"}, {"name": "w"}], "schedules": []}, "something twice: teams: w"),
        ({"latches": [{"account": "Safe", "kind": "unseen", "mode": "hold"}]}, "there is no account 'Safe'"),
        ({"latches": [{"kind": "unseen", "mode": "hold"}]}, "on an account, or on a kind"),
        ({"levels": [WHOLE["levels"][0] | {"system": "Post"}]}, "there is no system 'Post'"),
        ({"schedules": [WHOLE["schedules"][0] | {"reviewers": [{"kind": "team"}]}]}, "one of the kind team"),
        ({"expected_exposures": [{"name": "X", "filter": "nonsense eq 1"}]}, "nonsense"),
    ],
)
def test_names_that_mean_nothing_are_refused(small: Small, parts: dict[str, Any], fault: str) -> None:
    """Each is named."""
    with small.service.unit(small.itself) as unit:
        for key in ("t1", "t2"):
            unit.db.add(Person(organisation_id=small.itself.organisation, key=key, name="Twin", inside=True))
    with pytest.raises(BadInput, match=fault), small.acting_as_administrator("ines") as unit:
        adopt.comparison(unit, whole(**parts))


def test_what_is_left_out_is_left_alone(small: Small) -> None:
    """Parts, and the members of a team; an empty part is the whole of it."""
    with small.acting_as_administrator("ines") as unit:
        charter = schemas.Charter.model_validate({"teams": [{"name": "Wardens"}]})
        assert adopt.comparison(unit, charter).changes == []
        taken(unit, whole())
        # What was adopted before stays adopted: the teams are still compared.
        taken(unit, schemas.Charter(latches=whole().latches))
        unit.db.scalars(select(Team).where(Team.name == "Night crew")).one().purpose = "Other"
        assert [one.part for one in adopt.page(unit).changes] == ["teams"]
        emptied = taken(unit, schemas.Charter(latches=[], schedules=[], expected_exposures=[], own_rules=[]))
        assert {change.change for change in emptied.changes} == {"remove"}
        # A schedule is paused, since its rounds stay; that is as far as it goes.
        assert [one.paused for one in written.of_register(unit).schedules or ()] == [True]
        assert adopt.comparison(unit, schemas.Charter(schedules=[])).changes == []


@pytest.mark.parametrize(
    ("change", "part"),
    [
        (lambda unit: unit.db.scalars(select(Membership)).first().__setattr__("until", unit.now), "members"),
        (lambda unit: setattr(unit.db.scalars(select(Team)).first(), "purpose", "Other"), "teams"),
    ],
)
def test_what_is_changed_by_hand_since_is_shown(small: Small, change: Callable[[Unit], None], part: str) -> None:
    """As what adopting the charter again would change back."""
    with small.acting_as_administrator("ines") as unit:
        taken(unit, whole())
    with small.acting_as_administrator("ines") as unit:
        change(unit)
    with small.acting_as_administrator("ines") as unit:
        assert {one.part for one in adopt.page(unit).changes} == {part}


def test_the_stored_charter_has_no_address(small: Small) -> None:
    """Somebody with a new address is still the one who is meant; somebody who was erased makes it outdated."""
    with small.acting_as_administrator("ines") as unit:
        taken(unit, whole())
    with small.acting_as_administrator("ines") as unit:
        assert "example.org" not in str(unit.db.scalars(select(AdoptedCharter.document)).one())
        unit.db.get_one(Person, small.person("mara")).address = "m.second@example.org"
    with small.acting_as_administrator("ines") as unit:
        assert adopt.page(unit).changes == []
        unit.db.get_one(Person, small.person("mara")).erased_at = unit.now
        unit.db.flush()
        assert "nobody here" in adopt.page(unit).outdated


def test_only_administrators_adopt(small: Small) -> None:
    """Or look."""
    for act in (adopt.page, lambda unit: adopt.comparison(unit, whole()), lambda unit: taken(unit, whole())):
        with pytest.raises(NotAllowed), small.acting("mara") as unit:
            act(unit)


def test_a_last_day_counts_to_its_end_in_the_organisations_zone(small: Small) -> None:
    """Both ways."""
    with small.acting_as_administrator("ines") as unit:
        unit.db.get_one(Organisation, small.itself.organisation).time_zone = "Pacific/Auckland"
    with small.acting_as_administrator("ines") as unit:
        taken(unit, whole())
        teams = {team.name: team for team in written.of_register(unit).teams or ()}
        days = {member.person: member.last_day for member in teams["Night watch"].members or ()}
        assert days["mara@example.org"] == date(2026, 6, 30)
