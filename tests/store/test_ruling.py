"""The rules over the whole register mean what they mean on a single subject."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from openlatch.core.rules import BOOKS, LIMITS, Book, Settings, Weights
from openlatch.core.rules.rule import facts_of
from openlatch.core.rules.terms import NumberFact, SaidFact, TrueFact
from openlatch.launch.cluster import Cluster
from openlatch.store.ruling.terms import ROOM, found

BOUNDS = {
    "breach_weight": (20, 80),
    "reach": (1, 4),
    "sensitivity": (1, 4),
    "chain": (1, 9),
    "rights_held": (0, 5),
    "rights_used": (0, 5),
}
limits = st.fixed_dictionaries({name: st.tuples(*[st.one_of(st.none(), st.integers(0, 400))] * 4) for name in LIMITS})
weights = st.builds(Weights, outside=st.integers(0, 100), staleness=st.integers(0, 100), doubt=st.integers(0, 100))
stands = st.builds(
    Settings, limits=limits, weights=weights, off=st.sets(st.sampled_from(["unused", "missing"])).map(frozenset)
)


def worlds(book: Book) -> st.SearchStrategy[dict[str, Any]]:
    """Facts about one subject; those that sentences name are instants or words."""
    at = datetime(2026, 3, 1, tzinfo=UTC)
    held: dict[str, st.SearchStrategy[Any]] = {}
    for name, fact in facts_of(book.facts).items():
        if isinstance(fact, NumberFact):
            held[name] = st.integers(*BOUNDS[name]) if name in BOUNDS else st.integers(-1, 1200)
        elif isinstance(fact, TrueFact):
            held[name] = st.booleans()
        else:
            held[name] = st.just(at if name.endswith(("_at", "since", "until", "used_before", "used_again")) else "x")
    return st.fixed_dictionaries(held)


@pytest.mark.parametrize("book", BOOKS, ids=[book.subject for book in BOOKS])
def test_a_rule_finds_the_same_in_sql_and_in_python(cluster: Cluster, book: Book) -> None:
    """Over any facts, limits and weights: the same findings with the same scores, in the same order."""
    facts = facts_of(book.facts)
    computed = [name for name, fact in facts.items() if not isinstance(fact, SaidFact)]
    with psycopg.connect(cluster.url("postgres")) as db:

        @settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
        @given(st.lists(worlds(book), min_size=8, max_size=8), stands)
        def check(rows: list[dict[str, Any]], stand: Settings) -> None:
            values = ", ".join(f"({', '.join(str(row[n]) for n in computed)})" for row in rows)
            what = found(book.rules, {n: n for n in computed}, stand)
            query = f"select {what} from (values {values}) v({', '.join(computed)})"
            in_sql = [row[0] for row in db.execute(query).fetchall()]  # type: ignore[call-overload]
            in_python = [
                [r.number * ROOM + f.score.total for r in book.rules if (f := r.find(row, stand)) is not None]
                for row in rows
            ]
            assert in_sql == in_python

        check()
