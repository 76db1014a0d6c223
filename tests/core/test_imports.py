"""Files as spreadsheets and programs write them."""

from __future__ import annotations

import io
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from openlatch.core.files import records
from openlatch.errors import BadInput

LONDON = ZoneInfo("Europe/London")


def read(data: bytes, kind: records.RecordKind = records.PEOPLE) -> list[Any]:
    """The rows of a CSV file, decoded as the service does it."""
    source = io.BytesIO(data)
    lines = io.TextIOWrapper(source, encoding=records.encoding_of(source), newline="")
    return list(records.csv_rows(lines, kind))


@pytest.mark.parametrize(
    ("data", "encoding"),
    [
        ("key,name\nm,Mära Ødegård\n".encode(), "utf-8"),
        ("key,name\nm,Mära Ødegård\n".encode("utf-8-sig"), "utf-8-sig"),
        ("key;name\r\nm;Mära Ødegård\r\n".encode("utf-16"), "utf-16"),
        ("key;name\r\nm;Mära Ødegård\r\n".encode("windows-1252"), "windows-1252"),
        ('key\tname\rm\t"Mära Ødegård"\r'.encode(), "utf-8"),
        ('"key","name"\n"m","Mära Ødegård"'.encode(), "utf-8"),
    ],
)
def test_encodings_separators_quotes_and_line_ends(data: bytes, encoding: str) -> None:
    """The same record, however it was saved."""
    assert records.encoding_of(io.BytesIO(data)) == encoding
    assert read(data) == [(2, {"key": "m", "name": "Mära Ødegård"})]


def test_a_quoted_field_may_hold_separators_quotes_and_line_ends() -> None:
    """And the record after it keeps its own line number."""
    rows = read(b'key,name,job\na,"Roe, ""Ann""","two\nlines"\nb,Bo,x\n')
    assert rows[0] == (2, {"key": "a", "name": 'Roe, "Ann"', "job": "two\nlines"})
    assert rows[1][0] == 4


@pytest.mark.parametrize(
    ("header", "told"), [("key", "missing: 'name'"), ("key,name,shoe", "'shoe'"), ("key,name,key", "twice")]
)
def test_a_header_that_does_not_fit_is_refused_with_the_fields_that_do(header: str, told: str) -> None:
    """Nothing is guessed."""
    with pytest.raises(BadInput, match=told) as refused:
        read(f"{header}\n".encode())
    assert "leaves_on" in refused.value.remedy


def test_a_line_that_can_not_be_read_is_reported_and_the_rest_goes_on() -> None:
    """By its number."""
    rows = read(b"key,name\na\nb,Bo\nc,Cy,extra\n")
    assert [r for _, r in rows if isinstance(r, records.LineError)] == [
        records.LineError(2, "", "has 1 fields; the header has 2"),
        records.LineError(4, "", "has 3 fields; the header has 2"),
    ]
    lines = list(
        records.jsonl_rows(['{"key": "a"', '["x"]', '{"shoe": 1}', '{"key": "a", "name": "A"}'], records.PEOPLE)
    )
    assert [isinstance(row, records.LineError) for _, row in lines] == [True, True, True, False]


GRANT = {"account": "box", "holder": "m", "level": "read"}


def grant(**fields: Any) -> Any:
    return records.check(7, {**GRANT, **fields}, records.GRANTS, LONDON)


def value(name: str, **fields: Any) -> Any:
    return grant(**fields)[records.GRANTS.names.index(name)]


def test_ends_are_last_days_and_far_away_ones_are_none() -> None:
    """A day counts to its end in the organisation's zone; an instant is itself."""
    assert value("until", until="2026-06-30") == datetime(2026, 6, 30, 23, tzinfo=UTC)
    assert value("until", until="2026-06-30T12:00:00Z") == datetime(2026, 6, 30, 12, tzinfo=UTC)
    assert value("since", since="2026-06-30") == datetime(2026, 6, 29, 23, tzinfo=UTC)
    for never in ("9999-12-31", "9999-12-31T23:59:59Z", "", None):
        assert value("until", until=never) is None


@pytest.mark.parametrize(
    ("fields", "field", "told"),
    [
        ({"account": ""}, "account", "is empty"),
        ({"until": "31/12/2026"}, "until", "write a day as"),
        ({"since": "2026-05-01", "until": "2026-04-01"}, "until", "not after since"),
        ({"holder_kind": "robot"}, "holder_kind", "person, team, app, account"),
        ({"state": "lost"}, "state", "one of"),
        ({"reason": "a\x00b"}, "reason", "control characters"),
        ({"reason": "x" * 10_001}, "reason", "10000 are the most"),
    ],
)
def test_a_bad_field_is_named_with_its_line_and_what_would_do(fields: dict[str, str], field: str, told: str) -> None:
    """So that it can be mended."""
    (error,) = grant(**fields)
    assert (error.line, error.field) == (7, field)
    assert told in error.reason


def test_all_that_is_wrong_with_a_line_is_said_at_once() -> None:
    """Not one thing at a time."""
    errors = records.check(3, {"key": "", "name": "", "address": "nobody", "inside": "maybe"}, records.PEOPLE, LONDON)
    assert [e.field for e in errors] == ["key", "name", "address", "inside"]


def test_a_field_is_as_long_as_it_may_be_and_truth_is_read_as_it_is_written() -> None:
    assert records.text("x" * records.LONGEST_FIELD, LONDON) == "x" * records.LONGEST_FIELD
    with pytest.raises(records.BadField, match="10001 characters; 10000 are the most"):
        records.text("x" * (records.LONGEST_FIELD + 1), LONDON)
    assert [records.truth(word, LONDON) for word in (True, " Yes", "wahr", 1)] == [True] * 4
    assert [records.truth(word, LONDON) for word in (False, "NO", "faux", 0)] == [False] * 4
    with pytest.raises(records.BadField, match="has to be true or false"):
        records.truth("perhaps", LONDON)
