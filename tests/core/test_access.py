"""Who can do what: against a plain reference over random worlds, and in words."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, time, timedelta
from typing import Any
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.access import paths as access_paths
from openlatch.core.access import what_if
from openlatch.core.register import (
    Account,
    App,
    Grant,
    Holder,
    Level,
    Membership,
    Part,
    Permission,
    Person,
    Register,
    Team,
    Term,
)
from openlatch.core.time_windows import WeeklyHours, Window
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing

NOW = datetime(2026, 3, 10, 12, tzinfo=UTC)
READ = Level(UUID(int=901), "Reader", "Can see.", frozenset({Permission("see", "See", Reach.OBSERVE)}))
KEEP = Level(UUID(int=902), "Keeper", "Can do all.", frozenset({Permission("admit", "Admit", Reach.STEWARD)}))
PERSON, TEAM, ACCOUNT, APP = 100, 200, 300, 400


def person(n: int) -> Holder:
    return Holder(HolderKind.PERSON, UUID(int=PERSON + n))


def team(n: int) -> Holder:
    return Holder(HolderKind.TEAM, UUID(int=TEAM + n))


def account(n: int) -> Holder:
    return Holder(HolderKind.ACCOUNT, UUID(int=ACCOUNT + n))


def app(n: int) -> Holder:
    return Holder(HolderKind.APP, UUID(int=APP + n))


# Two resources, one of them also in a group with the other.
ONE, OTHER = UUID(int=801), UUID(int=802)
PARTS = (None, None, Part(ONE, "one", frozenset({ONE})), Part(UUID(int=803), "both", frozenset({ONE, OTHER})))
ALWAYS_SHUT = WeeklyHours(frozenset({6}), time(3), time(4))
OPEN_NOW = WeeklyHours(frozenset(range(7)), time(0), time(23))


def grant(n: int, holder: Holder, to: int, level: Level = READ, window: Window = Window(), **more: Any) -> Grant:
    term = Term(level, window, more.get("hours"), more.get("part"))
    return Grant(UUID(int=500 + n), account(to).id, holder, more.get("state", GrantState.ACTIVE), (term,))


_small = st.integers(0, 2)
_holders = st.one_of(_small.map(person), _small.map(team), _small.map(account), st.just(0).map(app))
_windows = st.sampled_from(
    [Window(), Window(NOW - timedelta(days=1), NOW + timedelta(days=1)), Window(NOW, None), Window(None, NOW)]
)


@st.composite
def worlds(draw: st.DrawFn) -> Register:
    """Small registers with cycles, diamonds, suspended grants, run-out windows and people who have left."""
    standings = draw(st.lists(st.sampled_from(Standing), min_size=3, max_size=3))
    owners = draw(st.lists(st.none() | _small, min_size=3, max_size=3))
    edges = draw(
        st.lists(
            st.tuples(
                _holders,
                _small,
                st.sampled_from([READ, KEEP]),
                _windows,
                st.sampled_from(GrantState),
                st.sampled_from(PARTS),
                st.sampled_from([None, None, OPEN_NOW, ALWAYS_SHUT]),
            ),
            max_size=7,
        )
    )
    belongs = draw(st.lists(st.tuples(st.one_of(_small.map(person), _small.map(team)), _small, _windows), max_size=6))
    return Register.of(
        people=[
            Person(person(i).id, f"P{i}", True, s, NOW if s is not Standing.CURRENT else None)
            for i, s in enumerate(standings)
        ],
        teams=[Team(team(i).id, f"T{i}") for i in range(3)],
        accounts=[Account(account(i).id, f"A{i}", None if o is None else person(o).id) for i, o in enumerate(owners)],
        apps=[App(app(0).id, "X")],
        grants=[
            grant(n, h, to, level, w, state=s, part=part, hours=hours)
            for n, (h, to, level, w, s, part, hours) in enumerate(edges)
            if h != account(to)
        ],
        memberships=[Membership(UUID(int=700 + n), team(t).id, m, w) for n, (m, t, w) in enumerate(belongs)],
    )


Right = tuple[UUID, str, UUID | None]


def reference(world: Register, start: Holder, only_open: bool = False) -> set[Right]:  # noqa: C901  plain on purpose
    """What a holder can do, by spreading out until nothing new is found: accounts, levels and parts, no paths.

    With ``only_open`` what is shut at this hour gives nothing.
    """
    known = world.people.get(start.id)
    if known is not None and known.standing is not Standing.CURRENT:
        return set()
    met: set[Holder] = {start}
    rights: set[Right] = set()
    while True:
        before = len(met), len(rights)
        for m in world.memberships:
            if m.member in met and m.window.contains(NOW):
                met.add(Holder(HolderKind.TEAM, m.team))
        for g in world.grants:
            if g.holder in met and g.state in (GrantState.ACTIVE, GrantState.REVOKING):
                for t in g.terms:
                    if t.window.contains(NOW) and not (only_open and t.hours is ALWAYS_SHUT):
                        rights.add((g.account, t.level.name, t.part.id if t.part else None))
                        if t.part is None:
                            met.add(Holder(HolderKind.ACCOUNT, g.account))
        for a in world.accounts.values():
            if a.owner is not None and Holder(HolderKind.PERSON, a.owner) in met:
                met.add(Holder(HolderKind.ACCOUNT, a.id))
                rights.add((a.id, "Owner", None))
        if (len(met), len(rights)) == before:
            return rights


def plainly_can(rights: set[Right], place: UUID, key: str, resource: UUID | None) -> bool:
    """Whether any of these rights lets one do a thing on a resource, or on the whole account."""
    gives = {"Reader": {"see"}, "Keeper": {"admit"}, "Owner": {"see", "admit"}}
    within = {part.id: part.resources for part in PARTS if part is not None}
    return any(
        account == place and key in gives[level] and (part is None or resource in within[part])
        for account, level, part in rights
    )


def level_name(path: access_paths.Path) -> str:
    return path.level.name if path.level else "Owner"


def outward(world: Register) -> Iterator[tuple[Holder, access_paths.Path]]:
    for start in STARTS:
        for path in access_paths.everything_reached(world, start, NOW):
            yield start, path


STARTS = [person(0), person(1), person(2), app(0)]


@given(worlds())
def test_rights_are_those_of_the_plain_reference(world: Register) -> None:
    """Whatever circles, diamonds, parts, hours and apps there are: what spreading out finds, no more and no less."""
    for start in STARTS:
        paths = access_paths.everything_reached(world, start, NOW)
        found = {(p.account, level_name(p), p.part.id if p.part else None) for p in paths}
        assert found == reference(world, start)
    for start in (person(0), app(0)):
        now = reference(world, start, only_open=True)
        for place in world.accounts:
            for key in ("see", "admit"):
                for resource in (None, OTHER):
                    expected = plainly_can(now, place, key, resource)
                    assert access_paths.can(world, start, place, key, resource, NOW) == expected


@given(worlds())
def test_the_same_paths_are_found_from_both_ends(world: Register) -> None:
    """Following a person outward and an account inward gives the same paths, hops and windows."""
    forward = {(h, p.account, p.words, p.window, level_name(p)) for h, p in outward(world)}
    backward = {
        (p.holder, p.account, p.words, p.window, level_name(p))
        for n in range(3)
        for p in access_paths.everyone_reaching(world, account(n).id, NOW)
    }
    assert forward == backward


@given(worlds())
def test_the_shorter_ways_of_asking_give_the_same(world: Register) -> None:
    """Paths to one account alone, and who is behind a holder without the paths."""
    for n in range(3):
        place = account(n).id
        reached = {
            h: {p.words for p in access_paths.everything_reached(world, h, NOW) if p.account == place}
            for h in map(person, range(3))
        }
        found = access_paths.paths_into(world, map(person, range(3)), place, NOW)
        assert {h: {p.words for p in paths} for h, paths in found.items()} == reached
        paths = access_paths.everyone_reaching(world, place, NOW)
        # Keys that were made along the way are those of the paths.
        assert paths == sorted(paths, key=access_paths.order_of)
        starts = {p.holder for p in paths if p.part is None}
        assert access_paths.behind(world, account(n), NOW) == starts


@given(worlds())
def test_the_matrix_says_what_the_paths_say(world: Register) -> None:
    """Though it follows none: the same people and apps, the same permissions, on the whole or on a part."""
    for place in world.accounts:
        columns, rows = what_if.matrix(world, place, NOW)
        expected = {}
        for holder, paths in access_paths.by_holder(world, place, NOW).items():
            whole = {p.key for path in paths if path.part is None for p in path.permissions}
            partly = {p.key for path in paths if path.part is not None for p in path.permissions} - whole
            # Whoever owns an account on the way owns what is on the way only.
            owns = any(path.level is None for path in paths)
            expected[holder] = (owns, whole, partly)
        assert {r.holder: (r.owner, r.whole, r.partly) for r in rows} == expected
        assert {p.key for p in columns} == {key for _, whole, partly in expected.values() for key in whole | partly}


def test_a_path_is_told_in_words_and_its_window_is_what_all_hops_share() -> None:
    """A nested team over a through-account reads as a sentence, and ends with its shortest hop."""
    soon, later = NOW + timedelta(days=2), NOW + timedelta(days=9)
    world = Register.of(
        people=[Person(person(0).id, "Mara")],
        teams=[Team(team(0).id, "Wardens"), Team(team(1).id, "Everybody")],
        accounts=[Account(account(0).id, "Sensors"), Account(account(1).id, "Weather")],
        memberships=[
            Membership(UUID(int=1), team(0).id, person(0), Window(None, soon)),
            Membership(UUID(int=2), team(1).id, team(0)),
        ],
        grants=[grant(0, team(1), 0, KEEP, Window(None, later)), grant(1, account(0), 1)],
    )
    (path,) = access_paths.paths_to(world, person(0), account(1).id, NOW)
    assert path.words == (
        "Mara belongs to Wardens, Wardens belongs to Everybody, Everybody holds “Keeper” on Sensors, "
        "Sensors holds “Reader” on Weather"
    )
    assert path.window.until == soon
    assert path.reach is Reach.OBSERVE
    assert access_paths.paths_to(world, person(0), account(1).id, soon) == []


def test_while_it_is_being_revoked_a_grant_still_gives() -> None:
    """Only a read of the system ends access; until then the path is there, and says that it is going."""
    world = Register.of(
        people=[Person(person(0).id, "Mara")],
        accounts=[Account(account(0).id, "Sensors")],
        grants=[grant(0, person(0), 0, state=GrantState.REVOKING)],
    )
    (path,) = access_paths.everything_reached(world, person(0), NOW)
    assert path.revoking


def test_paths_are_sorted_by_length_then_reach_then_all_of_their_words() -> None:
    """Also those of one person in one team, which differ only in what comes after that."""
    look = Level(UUID(int=903), "A look", "Can see.", READ.permissions)
    world = Register.of(
        people=[Person(person(0).id, "Mara"), Person(person(1).id, "Ann")],
        teams=[Team(team(0).id, "Wardens")],
        accounts=[Account(account(0).id, "Sensors")],
        memberships=[Membership(UUID(int=1 + n), team(0).id, person(n)) for n in range(2)],
        grants=[grant(n, team(0), 0, level) for n, level in enumerate((READ, look, KEEP))],
    )
    found = access_paths.everyone_reaching(world, account(0).id, NOW)
    assert [(world.name_of(path.holder), level_name(path)) for path in found] == [
        ("Ann", "Keeper"),
        ("Mara", "Keeper"),
        ("Ann", "A look"),
        ("Ann", "Reader"),
        ("Mara", "A look"),
        ("Mara", "Reader"),
    ]
