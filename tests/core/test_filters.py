"""The filter language by RFC 7644: reading, refusing, matching."""

from __future__ import annotations

from typing import Any

import pytest

from openlatch.core.filters import AND, NOT, OR, Attribute, Compare, Kind, Operator, Present, check, matches, parse
from openlatch.errors import BadFilter

ATTRIBUTES = {
    "name": Attribute(Kind.TEXT, ""),
    "reach": Attribute(Kind.REACH, ""),
    "count": Attribute(Kind.NUMBER, ""),
    "until": Attribute(Kind.TIME, ""),
    "inside": Attribute(Kind.TRUTH, ""),
}
ROW = {"name": "Mara Oduya", "reach": 3, "count": 4, "until": None, "inside": False}


def test_and_binds_tighter_than_or_and_not_needs_brackets() -> None:
    """The precedence of section 3.4.2.2, table 4."""
    a, b, c = (Compare(n, Operator.EQ, 1) for n in "abc")
    assert parse("a eq 1 or b eq 1 and c eq 1") == OR(a, AND(b, c))
    assert parse("(a eq 1 or b eq 1) and not (c eq 1)") == AND(OR(a, b), NOT(c))


def test_names_and_operators_ignore_case_and_value_paths_are_dotted_names() -> None:
    """As the RFC says of attribute names; `holder[kind eq "app"]` is `holder.kind eq "app"`."""
    assert parse('HOLDER[Kind EQ "app" and name PR]') == AND(
        Compare("holder.kind", Operator.EQ, "app"), Present("holder.name")
    )


@pytest.mark.parametrize(
    "text",
    [
        "",
        "name",
        "name eq",
        'name eq "x',
        "name eq x",
        "name like 3",
        "not name pr",
        "(name pr",
        "a eq 1 and",
        "a..b pr",
    ],
)
def test_what_is_not_a_filter_is_refused_with_an_example(text: str) -> None:
    """The message shows how one is written."""
    with pytest.raises(BadFilter) as refused:
        parse(text)
    assert "eq" in refused.value.remedy


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("colour pr", "no attribute 'colour'"),
        ('reach eq "mighty"', "not a value"),
        ('count eq "4"', "not a value"),
        ('inside gt "x"', "can't be compared"),
        ('until gt "soon"', "not a value"),
        ("name gt null", "no meaning"),
    ],
)
def test_a_filter_has_to_fit_what_it_filters(text: str, told: str) -> None:
    """Unknown attributes, wrong operators and wrong values are each told apart."""
    with pytest.raises(BadFilter, match=told):
        check(parse(text), ATTRIBUTES)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ('name co "ODUYA"', True),
        ('name sw "oduya"', False),
        ('name ew "ya" and count le 4', True),
        ('reach ge "spend"', True),
        ('reach gt "spend"', False),
        ("until pr", False),
        ("until eq null", True),
        ('until ne "2026-01-01T00:00:00Z"', True),
        ('until lt "2026-01-01T00:00:00Z"', False),
        ("not (inside eq true)", True),
    ],
)
def test_matching(text: str, expected: bool) -> None:
    """Text ignores case; what is missing matches only ne and eq null."""
    row: dict[str, Any] = ROW
    assert matches(check(parse(text), ATTRIBUTES), row) is expected
