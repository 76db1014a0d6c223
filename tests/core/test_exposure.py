"""What is open to outsiders: against a plain reference over random rules, and how answers change with them."""

from __future__ import annotations

import itertools
import json
import random
from dataclasses import replace
from datetime import UTC, datetime, time
from ipaddress import ip_address
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openlatch.core.exposure import document, form, paths, records, sentences
from openlatch.core.exposure.answers import Answer, Audience, Calculator
from openlatch.core.exposure.comparison import Change, compare, difference, ways_of
from openlatch.core.exposure.conditions import (
    AllOf,
    AnyOf,
    BeginsWith,
    Between,
    Circumstances,
    Condition,
    FromNetwork,
    InHours,
    Not,
    OneOf,
    PersonIs,
    ResourceIs,
    SecondFactor,
    Secure,
    Unknown,
    network,
)
from openlatch.core.exposure.rules import (
    ANYONE,
    SIGNED_IN,
    Boundary,
    Caller,
    Combining,
    Effect,
    Holder,
    Manner,
    Place,
    Request,
    Resource,
    Right,
    Rule,
    Terms,
    Who,
    WhoKind,
    covering,
    decide,
)
from openlatch.core.exposure.space import NONE, Space
from openlatch.core.time_windows import WeeklyHours, Window

LONDON = ZoneInfo("Europe/London")
# Clocks go forward on Sunday, 28 March 2027, at one in the morning.
SINCE = datetime(2027, 3, 26, 12, tzinfo=UTC)
INSTANTS = [
    datetime(2027, 3, 26, 11, tzinfo=UTC),
    SINCE,
    datetime(2027, 3, 28, 0, 59, tzinfo=UTC),
    datetime(2027, 3, 28, 1, tzinfo=UTC),
    datetime(2027, 3, 30, 9, tzinfo=UTC),
    datetime(2027, 6, 1, 20, tzinfo=UTC),
]
WEEKDAYS = frozenset(range(5))
HOURS = [
    WeeklyHours(WEEKDAYS, time(8), time(18)),
    WeeklyHours(frozenset({6}), time(1), time(2)),
    WeeklyHours(frozenset({5, 6}), time(22), time(6)),
    WeeklyHours(frozenset({1}), time(0), time(0)),
]
NETWORKS = ["0.0.0.0/0", "::/0", "10.0.0.0/8", "203.0.113.0/24", "203.0.113.128/25", "2001:db8::/32"]
ADDRESSES = ["10.1.1.1", "203.0.113.5", "203.0.113.200", "198.51.100.1", "2001:db8::1", "2001:db9::1"]
ATTRIBUTE = [None, "survey", "surf", "surplus", "other"]
SURVEYOR = Holder("ida@survey.example.net", False, "survey.example.net", {"team": "survey"})
WARDEN = Holder("wim@huts.example.org", True, "huts.example.org", {"team": "surf"})
KNOWN = {h.key: h for h in (SURVEYOR, WARDEN)}
BOUNDARY = Boundary(frozenset({"huts.example.org"}), frozenset({network("10.0.0.0/8")}))
PERMISSIONS = {"list": Right.SEE, "fetch": Right.SEE, "write": Right.CHANGE, "admit": Right.ADMINISTER}
MANNER = Manner(Combining.REFUSE_WINS, PERMISSIONS, LONDON)
CALLERS = [
    Caller(),
    Caller(link="l"),
    Caller(True),
    Caller(True, link="l"),
    Caller(True, organisation="survey.example.net"),
    Caller(True, SURVEYOR.key, SURVEYOR.organisation),
    Caller(True, WARDEN.key, WARDEN.organisation, inside=True),
    Caller(True, inside=True),
]
RESOURCE = Resource("/press/photos/hut.jpg", ("photos", "press"), {"class": "open"})

_tests = st.one_of(
    st.lists(st.sampled_from(["survey", "surf"]), min_size=1).map(lambda v: OneOf(frozenset(v))),
    st.lists(st.sampled_from(["sur", "surp", ""]), min_size=1).map(lambda v: BeginsWith(frozenset(v))),
)
_instants = st.none() | st.sampled_from(INSTANTS)
_leaves = st.one_of(
    st.tuples(_instants, _instants).map(lambda w: Between(Window(*w))),
    st.sampled_from(HOURS).map(InHours),
    st.lists(st.sampled_from(NETWORKS), min_size=1, max_size=2).map(lambda n: FromNetwork(frozenset(map(network, n)))),
    st.just(SecondFactor()),
    st.just(Secure()),
    st.sampled_from([Unknown("u"), Unknown("v")]),
    _tests.map(lambda t: PersonIs("team", t)),
    _tests.map(lambda t: ResourceIs("class", t)),
)
_conditions: st.SearchStrategy[Condition] = st.recursive(
    _leaves,
    lambda inner: st.one_of(
        st.lists(inner, max_size=3).map(lambda p: AllOf(tuple(p))),
        st.lists(inner, max_size=3).map(lambda p: AnyOf(tuple(p))),
        inner.map(Not),
    ),
    max_leaves=4,
)
_who = st.one_of(
    st.sampled_from([ANYONE, SIGNED_IN, Who(WhoKind.INSIDE), Who(WhoKind.LINK, "l")]),
    st.sampled_from(["survey.example.net", "huts.example.org"]).map(lambda n: Who(WhoKind.ORGANISATION, n)),
    st.sampled_from(sorted(KNOWN)).map(lambda n: Who(WhoKind.HOLDER, n)),
    st.sampled_from(NETWORKS).map(lambda n: Who(WhoKind.NETWORK, n)),
)
_terms = st.builds(
    Terms,
    st.sampled_from([Effect.ADMIT, Effect.ADMIT, Effect.REFUSE]),
    st.lists(_who, min_size=1, max_size=3).map(frozenset),
    st.lists(st.sampled_from(["list", "fetch", "see", "write", "admit"]), min_size=1).map(frozenset),
    st.just(AllOf()) | _conditions,
    st.just(frozenset()) | st.lists(_who, max_size=1).map(frozenset),
)
_places = st.sampled_from(
    [
        (Place.SYSTEM, ""),
        (Place.ACCOUNT, ""),
        (Place.GROUP, "press"),
        (Place.GROUP, "photos"),
        (Place.RESOURCE, "/press/photos/hut.jpg"),
    ]
)
_patterns = st.sampled_from(["/**", "/press/**", "/press/*/hut.jpg", "/press/photos/hut.jpg"])


@st.composite
def rule_sets(draw: st.DrawFn) -> list[Rule]:
    """A few rules that all cover the resource."""
    drawn = draw(st.lists(st.tuples(_terms, _places, _patterns), min_size=1, max_size=5))
    return [Rule(f"r{n}", t, (on,), place, of, n) for n, (t, (place, of), on) in enumerate(drawn)]


_guards = st.lists(
    st.builds(
        Terms,
        st.just(Effect.REFUSE),
        st.sampled_from([frozenset({ANYONE}), frozenset({SIGNED_IN})]),
        st.just(frozenset({"see"})),
        st.just(AllOf()) | _leaves,
    ),
    max_size=1,
)
_combining = st.sampled_from(Combining)


def calculator(combining: Combining = Combining.REFUSE_WINS, boundary: Boundary = BOUNDARY) -> Calculator:
    return Calculator(replace(MANNER, combining=combining), boundary, SINCE, KNOWN)


def some_requests(seed: int) -> list[tuple[Caller, Circumstances]]:
    """Random requests of outsiders, from the instant that is asked about on."""
    pick, found = random.Random(seed), []
    while len(found) < 40:
        caller = pick.choice(CALLERS)
        address = pick.choice(ADDRESSES)
        at = pick.choice(INSTANTS)
        if caller.inside or at < SINCE or address == "10.1.1.1":
            continue
        team = SURVEYOR.attributes["team"] if caller.holder else pick.choice(ATTRIBUTE)
        found.append(
            (
                caller,
                Circumstances(
                    at,
                    ip_address(address),
                    pick.random() < 0.5,
                    pick.random() < 0.5,
                    {"team": team} if team else {},
                    RESOURCE.attributes,
                    {"u": pick.random() < 0.5, "v": pick.random() < 0.5},
                ),
            )
        )
    return found


@given(rule_sets(), _guards, _combining, st.integers(0, 2**32))
def test_just_those_get_in_whom_the_rules_let_in(
    rules: list[Rule], above: list[Terms], combining: Combining, seed: int
) -> None:
    """For random requests the answer says what a decision by the rules, one after the other, says."""
    asker = calculator(combining)
    guards = [Rule(f"g{n}", terms) for n, terms in enumerate(above)]
    answer = asker.answer(rules, guards, RESOURCE)
    for caller, now in some_requests(seed):
        for right in Right:
            keys = [key for key, each in MANNER.permissions.items() if each is right]

            def lets_in(
                *under: Rule, keys: list[str] = keys, caller: Caller = caller, now: Circumstances = now
            ) -> bool:
                requests = [Request(caller, key, now) for key in keys]
                return any(decide(rules, under, RESOURCE, request, asker.manner) for request in requests)

            def described(
                exposures: Any, right: Right = right, caller: Caller = caller, now: Circumstances = now
            ) -> bool:
                of = [e for e in exposures if e.right is right]
                return any(o.way.has(caller, now, LONDON) for e in of for o in e.openings)

            inside = lets_in(*guards)
            assert described(answer.exposures) == inside
            assert described(answer.blocked) == (lets_in() and not inside)


@given(rule_sets(), _combining)
def test_the_rules_that_are_named_are_all_that_it_takes(rules: list[Rule], combining: Combining) -> None:
    asker = calculator(combining)
    answer = asker.answer(rules, (), RESOURCE)
    for found in answer.exposures:
        named = answer.keys((*found.admitted_by, *found.narrowed_by))
        again = asker.answer([rule for rule in rules if rule.key in named], (), RESOURCE).of(found.right)
        assert compare(found, again, asker).change is Change.UNCHANGED


@given(rule_sets(), _terms, _combining, st.integers(0, 5))
def test_one_more_refusal_never_opens(rules: list[Rule], terms: Terms, combining: Combining, order: int) -> None:
    asker = calculator(combining)
    more = Rule("more", replace(terms, effect=Effect.REFUSE), place=Place.ACCOUNT, order=order)
    before, after = asker.answer(rules, (), RESOURCE), asker.answer([*rules, more], (), RESOURCE)
    for right in Right:
        assert not compare(before.of(right), after.of(right), asker).grew


@given(rule_sets(), _combining)
def test_splitting_a_range_changes_nothing(rules: list[Rule], combining: Combining) -> None:
    asker = calculator(combining)
    split = [replace(rule, terms=replace(rule.terms, condition=_split(rule.terms.condition))) for rule in rules]
    before, after = asker.answer(rules, (), RESOURCE), asker.answer(split, (), RESOURCE)
    assert _ways(before) == _ways(after)
    assert before.rules == after.rules


def _split(condition: Condition) -> Condition:
    """The same condition with each network in two halves."""
    match condition:
        case FromNetwork(networks):
            return AnyOf(tuple(FromNetwork(frozenset({half})) for each in networks for half in each.subnets()))
        case AllOf(parts):
            return AllOf(tuple(map(_split, parts)))
        case AnyOf(parts):
            return AnyOf(tuple(map(_split, parts)))
        case Not(part):
            return Not(_split(part))
        case _:
            return condition


def _ways(answer: Answer) -> dict[Right, Any]:
    return {exposure.right: sorted(map(repr, ways_of(exposure))) for exposure in answer.exposures}


@given(st.lists(st.integers(1, 3), min_size=1, max_size=4), st.integers(0, 2**32))
def test_a_cover_holds_just_the_set_with_no_box_to_spare_or_to_widen(sizes: list[int], seed: int) -> None:
    """Every box is as wide as can be, all together hold the set, and none can be left out."""
    space, pick = Space(sizes), random.Random(seed)
    points = list(itertools.product(*map(range, sizes)))
    kinds = {point: pick.choice(["in", "out", "may"]) for point in points}
    sets = {
        kind: space.union(space.box(tuple(1 << c for c in p)) for p in points if kinds[p] == kind)
        for kind in ("in", "may")
    }
    boxes = space.cover(sets["in"], sets["may"], range(len(sizes)))

    def held(box: tuple[int, ...]) -> set[tuple[int, ...]]:
        return {p for p in points if all(mask >> c & 1 for mask, c in zip(box, p, strict=True))}

    wanted = {p for p in points if kinds[p] == "in"}
    assert wanted <= set().union(*map(held, boxes)) <= {p for p in points if kinds[p] != "out"}
    for box in boxes:
        others = [held(other) for other in boxes if other != box]
        assert not wanted <= set().union(*others)
        for at, size in enumerate(sizes):
            for cell in range(size):
                wider = (*box[:at], box[at] | 1 << cell, *box[at + 1 :])
                assert wider == box or any(kinds[p] == "out" for p in held(wider))
    assert space.union(map(space.box, boxes)) != NONE or not wanted


def one(
    condition: Condition = AllOf(), who: Who = ANYONE, effect: Effect = Effect.ADMIT, key: str = "r", **more: Any
) -> Rule:
    return Rule(key, Terms(effect, frozenset({who}), frozenset({"see"}), condition), **more)


def test_hours_that_never_come_in_a_window_let_nobody_in() -> None:
    """Not on Tuesdays in a window from Friday to Sunday, nor in the hour that clocks skip."""
    weekend = Between(Window(SINCE, datetime(2027, 3, 28, 20, tzinfo=UTC)))
    for hours in (HOURS[3], HOURS[1]):
        assert calculator().answer([one(AllOf((weekend, InHours(hours))))], (), RESOURCE).exposures == ()
    found = calculator().answer([one(AllOf((weekend, InHours(HOURS[2]))))], (), RESOURCE).exposures
    assert [e.is_open for e in found] == [False]


def test_inside_networks_and_known_values_are_left_out() -> None:
    """What is open to nobody but people inside is no exposure; a known person has the values that are known."""
    asker = calculator()
    inside = FromNetwork(frozenset({network("10.2.0.0/16")}))
    assert asker.answer([one(inside)], (), RESOURCE).exposures == ()
    other = PersonIs("team", OneOf(frozenset({"surf"})))
    assert asker.answer([one(other, Who(WhoKind.HOLDER, SURVEYOR.key))], (), RESOURCE).exposures == ()
    found = asker.answer([one(Not(other), Who(WhoKind.HOLDER, SURVEYOR.key))], (), RESOURCE).exposures
    assert [e.audience for e in found] == [Audience.NAMED]
    assert not found[0].openings[0].way.person


def test_what_is_not_understood_counts_as_open() -> None:
    """As a condition of an admission and of a refusal alike, and the exposure names it."""
    asker = calculator()
    (admitted,) = asker.answer([one(Unknown("moon is full"))], (), RESOURCE).exposures
    refusal = one(Unknown("moon is full"), effect=Effect.REFUSE, key="no")
    (left,) = asker.answer([one(), refusal], (), RESOURCE).exposures
    assert admitted.unknown == left.unknown == ("moon is full",)
    assert (
        asker.answer([one(Unknown("m")), one(Unknown("m"), effect=Effect.REFUSE, key="no")], (), RESOURCE).exposures
        == ()
    )


def test_what_grew_is_told_from_what_is_written_otherwise() -> None:
    asker = calculator()
    halves = frozenset(network("203.0.113.0/24").subnets())
    (whole,) = asker.answer([one(FromNetwork(frozenset({network("203.0.113.0/24")})))], (), RESOURCE).exposures
    (written,) = asker.answer([one(FromNetwork(halves))], (), RESOURCE).exposures
    (wider,) = asker.answer([one(FromNetwork(frozenset({network("203.0.112.0/23")})))], (), RESOURCE).exposures
    assert compare(whole, written, asker).change is Change.UNCHANGED
    grown = compare(whole, wider, asker)
    assert grown.change is Change.CHANGED
    assert [way.networks for way in grown.gained] == [frozenset({network("203.0.112.0/24")})]
    assert grown.lost == () == difference(ways_of(whole), ways_of(wider), asker)


def test_rules_made_to_be_costly_are_not_worked_out_and_count_as_open() -> None:
    """Pairs of conditions that can't be ordered well make a diagram grow without end."""
    pairs = [AllOf((Unknown(f"a{n:02}"), Unknown(f"z{n:02}"))) for n in range(24)]
    (found,) = calculator().answer([one(AnyOf(tuple(pairs)))], (), RESOURCE).exposures
    assert found.entangled
    assert found.audience is Audience.ANYONE
    assert found.is_open


@given(
    st.lists(st.sampled_from(["a", "b", "ab", "*", "**", "a*", "*b"]), max_size=4),
    st.lists(st.sampled_from(["a", "b", "ab", "aab"]), max_size=4),
)
def test_an_index_finds_the_patterns_that_cover_a_path(pattern: list[str], path: list[str]) -> None:
    written, asked = ("/" + "/".join(parts) for parts in (pattern, path))
    index = paths.Index([["/a/**"], [written], ["/", written]])
    assert (1 in index.find(asked)) == paths.covers(written, asked) == _covers(pattern, path)
    assert (0 in index.find(asked)) == (path[:1] == ["a"])
    assert (2 in index.find(asked)) == (not path or _covers(pattern, path))


def _covers(pattern: list[str], path: list[str]) -> bool:
    """By trying every number of segments for each double star."""
    if not pattern:
        return not path
    first, rest = pattern[0], pattern[1:]
    if first == "**":
        return any(_covers(rest, path[n:]) for n in range(len(path) + 1))
    begins, star, ends = first.partition("*")
    name = path[0] if path else ""
    fits = name == first if not star else name.startswith(begins) and name.endswith(ends) and name != ""
    return bool(path) and fits and len(name) >= len(begins) + len(ends) and _covers(rest, path[1:])


@given(rule_sets())
def test_a_written_document_reads_as_the_same_rules(rules: list[Rule]) -> None:
    """What is written keeps to the published schema, and comes back to the same sets."""
    text = json.dumps(document.written(rules))
    jsonschema.validate(json.loads(text), SCHEMA)
    again = document.read(text, PERMISSIONS, LONDON)
    before = calculator().answer(rules, (), RESOURCE)
    after = calculator().answer(again.rules, (), RESOURCE)
    assert _ways(before) == _ways(after)
    assert [(r.key, r.on, r.place, r.of) for r in again.rules] == [(r.key, r.on, r.place, r.of) for r in rules]


@given(rule_sets())
def test_a_kept_way_is_the_same_way(rules: list[Rule]) -> None:
    for exposure in calculator().answer(rules, (), RESOURCE).exposures:
        for way in ways_of(exposure):
            assert records.read_way(json.loads(json.dumps(records.write_way(way)))) == way


SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "reference" / "rule-document.schema.json").read_text())


def test_the_published_schema_and_the_documented_example_are_true() -> None:
    assert form.schema() == SCHEMA
    page = (Path(__file__).parents[2] / "docs" / "reference" / "rule-document.md").read_text()
    example = page.partition("```json\n")[2].partition("```")[0]
    jsonschema.validate(json.loads(example), SCHEMA)
    read = document.read(example, dict.fromkeys(("list", "fetch", "upload", "publish"), Right.SEE), LONDON)
    assert [len(read.rules), len(read.guards), len(read.resources)] == [2, 1, 1]


WRONG = """{
  "form": "open-latch-rules-1",
  "rules": [
    {"rule": "press photos", "admit": ["anyon", {"network": "203.0.113.1/24"}],
      "to": ["see"],
      "on": ["press"], "while": [
        {"hours": {"days": ["monday"]}},
        {"between": {"last_day": "x"}},
        {"any": [{"secure": "yes"}, {"moon": 1}]}
      ]},
    {"rule": "a", "admit": ["anyone"], "refuse": ["inside"], "to": ["see"]},
    {"rule": "b", "to": [], "admit": ["anyone"], "colour": 1}
  ]
}"""


def test_every_problem_of_a_document_is_told_with_its_line() -> None:
    with pytest.raises(document.Unreadable) as found:
        document.read(WRONG, PERMISSIONS, LONDON)
    assert [(p.line, p.pointer) for p in found.value.problems] == [
        (4, "/rules/0/rule"),
        (4, "/rules/0/admit/0"),
        (4, "/rules/0/admit/1/network"),
        (6, "/rules/0/on/0"),
        (7, "/rules/0/while/0/hours/days/0"),
        (8, "/rules/0/while/1/between/last_day"),
        (9, "/rules/0/while/2/any/0/secure"),
        (9, "/rules/0/while/2/any/1"),
        (11, "/rules/1"),
        (12, "/rules/2/to"),
        (12, "/rules/2/colour"),
    ]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('{"form": "open-latch-rules-1", "rules": [], "rules": []}', "stands twice"),
        ('{"form": "open-latch-rules-1",\n "rules": [}', "line 2: This is not JSON"),
        ('{"form": 1}', "open-latch-rules-1"),
        ('{"form": "open-latch-rules-1", "rules": [{"rule": "a", "admit": ["anyone"], "to": ["sea"]}]}', "“sea”"),
        (
            '{"form": "open-latch-rules-1", "rules": [{"rule": "a", "admit": ["anyone"], "to": ["see"], "while": ['
            + '{"all": [' * 13
            + "]}" * 13
            + "]}]}",
            "at most 12 deep",
        ),
        ("[" * 100_000, "can't be read"),
    ],
)
def test_what_is_no_document_is_refused(text: str, says: str) -> None:
    with pytest.raises(document.Unreadable, match=says):
        document.read(text, PERMISSIONS, LONDON)


def test_an_exposure_is_told_in_one_sentence() -> None:
    condition = AllOf(
        (
            FromNetwork(frozenset({network("203.0.113.0/24")})),
            Between(Window(None, datetime(2027, 3, 31, 23, tzinfo=UTC))),
            InHours(HOURS[0]),
            Not(PersonIs("team", BeginsWith(frozenset({"sur"})))),
        )
    )
    (found,) = calculator().answer([one(condition)], (), RESOURCE).exposures
    assert sentences.sentence(found, "Press photos", LONDON) == (
        "Anyone, from 203.0.113.0/24, on weekdays from 08:00 to 18:00, to the end of 31 March 2027, whose team is not "
        "what begins with “sur”, can see “Press photos”."
    )
    rules = [
        one(who=SIGNED_IN),
        one(who=Who(WhoKind.ORGANISATION, "survey.example.net"), effect=Effect.REFUSE, key="no"),
    ]
    (found,) = calculator().answer(rules, (), RESOURCE).exposures
    assert sentences.sentence(found, "Press photos", LONDON) == (
        "Anyone outside who signs in, except survey.example.net, can see “Press photos”."
    )
    elsewhere = [one(), one(FromNetwork(frozenset({network("203.0.113.0/24")})), effect=Effect.REFUSE, key="no")]
    (found,) = calculator().answer(elsewhere, (), RESOURCE).exposures
    assert sentences.sentence(found, "Press photos", LONDON) == (
        "Anyone, from anywhere but 10.0.0.0/8 and 203.0.113.0/24, can see “Press photos”."
    )
    named = [one(who=Who(WhoKind.HOLDER, "m.oduya@example.com"))]
    (found,) = calculator().answer(named, (), RESOURCE).exposures
    assert sentences.sentence(found, "Press photos", LONDON) == "m.oduya@example.com can see “Press photos”."


def test_a_rule_covers_what_its_patterns_cover_below_what_it_is_set_on() -> None:
    rules = [
        one(on=("/a/*", "/press/**"), key="fits"),
        one(on=("/b",), key="other"),
        one(place=Place.GROUP, of="press", key="group"),
        one(place=Place.GROUP, of="letters", key="no group of its"),
        one(place=Place.RESOURCE, of=RESOURCE.path, key="own"),
        one(place=Place.RESOURCE, of="/press", key="above"),
        one(place=Place.SYSTEM, key="everywhere"),
    ]
    assert [r.key for r in covering(rules, RESOURCE)] == ["fits", "group", "own", "everywhere"]
    assert [r.key for r in covering(rules, replace(RESOURCE, inherits=False))] == ["own", "everywhere"]
