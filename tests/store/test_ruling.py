"""The rules over the whole register mean what they mean on a single subject."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from openlatch.core.flags import BOOKS, LIMITS, Book, Settings, Weights
from openlatch.core.flags.expressions import InstantColumn, NumberColumn, NumberFact, SaidFact, TextColumn, TruthColumn
from openlatch.core.flags.rule import Gathered, facts_of, meanings, said_of
from openlatch.runtime.cluster import Cluster
from openlatch.store.flags.sql_expressions import ROOM, found, with_facts

BOUNDS = {
    "reach": (1, 4),
    "sensitivity": (1, 4),
    "highest_reach": (1, 4),
    "breach_reach": (1, 4),
    "far_reach": (1, 4),
    "far_sensitivity": (1, 4),
    "steps": (1, 9),
    "rights": (0, 5),
    "used": (0, 5),
}
NEVER_MISSING = {"given_at", "started_at", "last_seen_at", "sent_at"}
NOW = datetime(2026, 3, 1, 9, tzinfo=UTC)
# Instants at whole days from now, and just beside them.
instants = st.builds(
    lambda days, seconds: NOW + timedelta(days=days, seconds=seconds),
    st.integers(-1200, 100),
    st.sampled_from([-1, 0, 1, 40_000]),
)
words = st.sampled_from(
    [
        "active",
        "suspended",
        "pending",
        "ended",
        "person",
        "team",
        "app",
        "current",
        "leaving",
        "left",
        "",
        "Vendor",
        "a@gmx.com",
        "a@example.org",
        "gmx.com",
        "a@gmx.com@b",
    ]
)
limits = st.fixed_dictionaries({name: st.tuples(*[st.one_of(st.none(), st.integers(0, 400))] * 4) for name in LIMITS})
weights = st.builds(Weights, outside=st.integers(0, 100), staleness=st.integers(0, 100), doubt=st.integers(0, 100))
stands = st.builds(
    Settings, limits=limits, weights=weights, off=st.sets(st.sampled_from(["unused", "missing"])).map(frozenset)
)


def parts(term: Any) -> Iterator[Any]:
    """The columns that a term is made of."""
    if isinstance(term, NumberColumn | TruthColumn | InstantColumn | TextColumn):
        yield term
    elif is_dataclass(term):
        for part in fields(term):
            yield from parts(getattr(term, part.name))


def columns_of(book: Book) -> dict[str, tuple[str, st.SearchStrategy[Any]]]:
    """What is gathered of a subject, each with its type and the values that it can have."""
    columns: dict[str, tuple[str, st.SearchStrategy[Any]]] = {}
    for name, fact in facts_of(book.facts).items():
        if isinstance(fact, SaidFact):
            continue
        if fact.means is None:
            counts = isinstance(fact, NumberFact)
            numbers = st.integers(*BOUNDS.get(name, (-1, 1200)))
            columns[name] = ("int", numbers) if counts else ("bool", st.booleans())
        for part in parts(fact.means):
            match part:
                case InstantColumn("now"):
                    columns["now"] = ("timestamptz", st.just(NOW))
                case InstantColumn(column):
                    there = column in NEVER_MISSING
                    columns[column] = ("timestamptz", instants if there else st.one_of(st.none(), instants))
                case TextColumn(column):
                    columns[column] = ("text", st.one_of(st.none(), words))
                case NumberColumn(column):
                    numbers = st.integers(*BOUNDS.get(column, (-1, 1200)))
                    columns[column] = ("int", st.one_of(st.none(), numbers))
                case TruthColumn(column):
                    columns[column] = ("bool", st.one_of(st.none(), st.booleans()))
    return columns


def gathered(row: dict[str, Any]) -> dict[str, Any]:
    """A row as the register gives it: without an end it is open, and with one it is not."""
    return {**row, "open": row["until"] is None} if row.get("open") is not None else {**row, "until": None}


def literal(value: Any) -> str:
    """A value in SQL."""
    return "null" if value is None else f"'{value}'"


@pytest.mark.parametrize("book", BOOKS, ids=[book.subject for book in BOOKS])
def test_a_rule_finds_the_same_in_sql_and_in_python(cluster: Cluster, book: Book) -> None:
    """Over whatever is gathered, any limits and weights: the same facts, and the same findings with their scores."""
    columns, means = columns_of(book), meanings(book.facts)
    said = dict.fromkeys(said_of(book.facts))
    names = ", ".join(columns)
    typed = ", ".join(f"{name}::{kind} as {name}" for name, (kind, _) in columns.items())
    worlds = st.fixed_dictionaries({name: values for name, (_, values) in columns.items()}).map(gathered)
    with psycopg.connect(cluster.url("postgres"), options="-c timezone=UTC") as db:

        @settings(max_examples=settings().max_examples // 3)
        @given(st.lists(worlds, min_size=8, max_size=8), stands)
        def check(rows: list[dict[str, Any]], stand: Settings) -> None:
            facts = with_facts({name: name for name in columns}, means, stand)
            values = ", ".join(f"({', '.join(literal(row[name]) for name in columns)})" for row in rows)
            worked_out = "".join(f", {facts[name]}" for name in means)
            query = f"""
                select {found(book.rules, facts, stand)}{worked_out}
                from (select {typed} from (values {values}) v({names})) gathered
            """.replace("%%", "%")
            for row, (in_sql, *facts_in_sql) in zip(rows, db.execute(query).fetchall(), strict=True):  # type: ignore[call-overload]
                told = Gathered({**said, **row}, means, stand)
                assert dict(zip(means, facts_in_sql, strict=True)) == {name: told[name] for name in means}
                points = ((rule.number, rule.points(told, stand)) for rule in book.rules)
                assert in_sql == [number * ROOM + score.total for number, score in points if score is not None]

        check()
