"""What differs between a charter and the register."""

from __future__ import annotations

from openlatch.core.charter import Change, compare, twice
from openlatch.json_values import JsonObject


def team(name: str, members: list[str] | None = None, **more: object) -> JsonObject:
    """A team with people as members."""
    people = None if members is None else [{"person": who, "team": None, "last_day": None} for who in members]
    return {"name": name, "purpose": "", "members": people, **more}


def told(held: JsonObject, wanted: JsonObject) -> list[tuple[str, str, str]]:
    """The differences, without values."""
    return [(d.part, d.name, d.change.value) for d in compare(held, wanted)]


def test_a_part_that_is_left_out_is_left_alone_and_one_that_is_there_is_the_whole() -> None:
    """Also for the members of one team."""
    held = {"teams": [team("Desk", ["a@x.org", "b@x.org"]), team("Crew", ["c@x.org"])], "latches": [_latch(3)]}
    assert told(held, {"latches": []}) == [("latches", "most_delegates on every mailbox", "remove")]
    assert told(held, {"teams": [team("Desk", ["a@x.org"]), team("Crew")]}) == [
        ("members", "b@x.org in Desk", "remove")
    ]


def test_members_come_after_their_team_and_go_before_it() -> None:
    """So that what is carried out one by one can be."""
    held = {"teams": [team("Crew", ["c@x.org"])]}
    assert told(held, {"teams": [team("Desk", ["a@x.org"])]}) == [
        ("teams", "Desk", "add"),
        ("members", "a@x.org in Desk", "add"),
        ("members", "c@x.org in Crew", "remove"),
        ("teams", "Crew", "remove"),
    ]


def test_a_team_by_another_name_stays_the_same_team() -> None:
    """With its members; but not when the old name is still somebody's, or the new one is there already."""
    held = {"teams": [team("Crew", ["c@x.org"])]}
    (only,) = compare(held, {"teams": [team("Rope crew", ["c@x.org"], formerly=["Crew"])]})
    assert (only.change, only.values) == (Change.CHANGE, [("name", "Crew", "Rope crew")])
    both = {"teams": [team("Rope crew", [], formerly=["Crew"]), team("Crew", ["c@x.org"])]}
    assert told(held, both) == [("teams", "Rope crew", "add")]
    assert told(held, {"teams": [team("crew", ["c@x.org"])]}) == [("teams", "crew", "change")]


def test_only_settings_that_are_named_are_compared() -> None:
    """Each with both values."""
    held = {"rules": {"off": ["unused"], "known_publishers": ["Alder"], "limits": {}}}
    (only,) = compare(held, {"rules": {"off": [], "limits": None}})
    assert only.values == [("off", ["unused"], [])]


def test_what_is_there_twice_is_named() -> None:
    """Whatever its case."""
    assert twice({"teams": [team("Desk", ["a@x.org", "a@x.org"]), team("desk")]}) == [
        "members: a@x.org in Desk",
        "teams: desk",
    ]


def _latch(number: int) -> JsonObject:
    return {"account_kind": "mailbox", "kind": "most_delegates", "mode": "hold", "number": number, "pair": []}
