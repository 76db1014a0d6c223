"""Members of teams kept in memory: never others than those that the database holds for whoever is asking."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import pytest
from sqlalchemy import select, text

from openlatch.core.access import paths
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph, team_members
from openlatch.store.tables import Account, Person, Roster, Team
from tests.service.conftest import Small

JOIN = """
    insert into memberships (id, organisation_id, team_id, person_id)
    select gen_random_uuid(), t.organisation_id, t.id, p.id from teams t, people p
    where t.key = 'wardens' and p.key = 'ines'
"""
LEAVE = "delete from memberships where person_id = (select id from people where key = 'mara')"
# What somebody changes, and who reaches the box over the team then.
CHANGES = {
    "somebody joins": (JOIN, {"Ines", "Mara", "Owen"}),
    "somebody is taken out": (LEAVE, {"Owen"}),
    "a membership runs out": ("update memberships set until = '2026-01-01' where person_id is not null", set()),
    "a membership goes to another team": (
        "update memberships set team_id = (select id from teams where key = 'others') "
        "where person_id = (select id from people where key = 'owen')",
        {"Mara"},
    ),
    "somebody is called otherwise": ("update people set name = 'Marah' where key = 'mara'", {"Marah", "Owen"}),
    "somebody has left": ("update people set standing = 'left' where key = 'mara'", {"Owen"}),
    "somebody is removed": ("delete from memberships; " + JOIN, {"Ines"}),
}


def over_the_team(unit: Unit) -> set[str]:
    """The names of those who reach the box as wardens, as paths say them."""
    box = unit.db.scalars(select(Account.id).where(Account.key == "box")).one()
    found = paths.everyone_reaching(subgraph.around_accounts(unit.db, [box]), box, unit.now)
    return {path.hops[0].words.split(" belongs")[0] for path in found if "Wardens" in path.words}


def seen(small: Small) -> set[str]:
    """The same in a transaction of its own."""
    with small.service.unit(small.itself) as unit:
        return over_the_team(unit)


@pytest.fixture
def known(small: Small) -> Small:
    """The small register with a second team, and the members of the first one in memory."""
    with small.service.unit(small.itself) as unit:
        unit.db.add(Team(organisation_id=small.itself.organisation, key="others", name="Others"))
    assert seen(small) == {"Mara", "Owen"}
    return small


@pytest.mark.parametrize("change", CHANGES)
def test_whoever_changes_members_sees_it_at_once_and_everybody_else_from_then_on(known: Small, change: str) -> None:
    statements, after = CHANGES[change]
    with known.service.unit(known.itself) as unit:
        for statement in statements.split("; "):
            unit.db.execute(text(statement))
        assert over_the_team(unit) == after
        assert seen(known) == {"Mara", "Owen"}
    assert seen(known) == after


def test_what_was_taken_back_is_not_remembered(known: Small) -> None:
    """Not even when the next one changes the same team, and when only a part was taken back."""

    def joins_and_fails() -> None:
        with known.service.unit(known.itself) as unit:
            unit.db.execute(text(JOIN))
            assert over_the_team(unit) == {"Ines", "Mara", "Owen"}
            raise LookupError

    with pytest.raises(LookupError):
        joins_and_fails()
    assert seen(known) == {"Mara", "Owen"}
    with known.service.unit(known.itself) as unit:
        part = unit.db.begin_nested()
        unit.db.execute(text(LEAVE))
        assert over_the_team(unit) == {"Owen"}
        part.rollback()
        assert over_the_team(unit) == {"Mara", "Owen"}
        unit.db.execute(text(JOIN))
        assert over_the_team(unit) == {"Ines", "Mara", "Owen"}
    assert seen(known) == {"Ines", "Mara", "Owen"}


@pytest.mark.parametrize("first", ["joins", "renamed"])
def test_somebody_who_joins_while_they_are_renamed_is_known_by_the_new_name(known: Small, first: str) -> None:
    """Neither of the two sees what the other one is about to do; whoever comes second waits."""
    rename = "update people set name = 'Inez' where key = 'ines'"
    one, other = (JOIN, rename) if first == "joins" else (rename, JOIN)
    done = threading.Event()

    def act() -> None:
        with known.service.unit(known.itself) as unit:
            unit.db.execute(text(other))
            over_the_team(unit)
        done.set()

    second = threading.Thread(target=act)
    with known.service.unit(known.itself) as unit:
        unit.db.execute(text(one))
        over_the_team(unit)
        second.start()
        assert not done.wait(0.3), "the second one did not wait for the first"
    second.join(10)
    assert seen(known) == {"Inez", "Mara", "Owen"}


def test_members_are_read_once_until_something_about_them_changes(
    known: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What counts on no path, such as an address, changes nothing about them."""
    read: list[int] = []
    real: Callable[..., Any] = team_members.made

    def counted(rows: list[Any], *rest: Any) -> Any:
        read.append(len(rows))
        return real(rows, *rest)

    monkeypatch.setattr(team_members, "made", counted)
    with known.service.unit(known.itself) as unit:
        version = unit.db.scalar(select(Roster.version))
        unit.db.execute(text("update people set address = 'mara@lake.example', job = 'Warden' where key = 'mara'"))
    assert seen(known) == {"Mara", "Owen"}
    assert read == []
    with known.service.unit(known.itself) as unit:
        assert unit.db.scalar(select(Roster.version)) == version
        unit.db.execute(text("update people set second_factor = not second_factor where key = 'mara'"))
    assert seen(known) == seen(known)
    assert read == [2]


def test_nobody_who_serves_requests_can_write_a_version(known: Small) -> None:
    with pytest.raises(Exception, match="permission denied"), known.service.unit(known.itself) as unit:
        unit.db.execute(text("update rosters set version = gen_random_uuid()"))


def test_a_team_with_more_members_than_are_kept_is_read_each_time(
    known: Small, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(team_members, "_kept", team_members.Kept(2, lambda roster: 1 + len(roster.members)))
    assert seen(known) == seen(known) == {"Mara", "Owen"}
    with known.service.unit(known.itself) as unit:
        mara = unit.db.scalars(select(Person).where(Person.key == "mara")).one()
        mara.name = "Marah"
    assert seen(known) == {"Marah", "Owen"}
