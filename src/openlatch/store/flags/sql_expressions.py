"""Rule expressions as SQL.

They mean the same as in ``core.flags.expressions``; a test holds the two equal.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import singledispatch

from openlatch.core.flags import Rule, Settings
from openlatch.core.flags.expressions import (
    Among,
    AtDomain,
    AtLeast,
    Between,
    Both,
    Comparison,
    Difference,
    Either,
    First,
    If,
    Instant,
    InstantColumn,
    IsThere,
    Known,
    Later,
    Latest,
    Limit,
    Number,
    NumberColumn,
    NumberFact,
    Past,
    Plain,
    TimeUnit,
    TrueFact,
    Truth,
    TruthColumn,
    Unless,
)
from openlatch.core.flags.limits import NEVER

Columns = Mapping[str, str]
Term = Truth | Number | Instant
# What was found is kept as one number: the rule's own, times this, plus the score.
ROOM = 128


@singledispatch
def sql(term: Term, columns: Columns, settings: Settings) -> str:
    """An expression over columns named like the facts."""
    raise TypeError(f"no SQL for {term!r}")


@sql.register
def _(term: TrueFact, columns: Columns, settings: Settings) -> str:
    return columns[term.name]


@sql.register
def _(term: NumberFact, columns: Columns, settings: Settings) -> str:
    return columns[term.name]


@sql.register
def _(term: Plain, columns: Columns, settings: Settings) -> str:
    return str(int(term.value))


@sql.register
def _(term: Limit, columns: Columns, settings: Settings) -> str:
    return by_four(columns["sensitivity"], [settings.limit(term.name, n) for n in (1, 2, 3, 4)])


@sql.register
def _(term: Comparison, columns: Columns, settings: Settings) -> str:
    return f"({sql(term.left, columns, settings)} {term.sign.value} {sql(term.right, columns, settings)})"


@sql.register
def _(term: Both, columns: Columns, settings: Settings) -> str:
    return f"({sql(term.left, columns, settings)} and {sql(term.right, columns, settings)})"


@sql.register
def _(term: Either, columns: Columns, settings: Settings) -> str:
    return f"({sql(term.left, columns, settings)} or {sql(term.right, columns, settings)})"


@sql.register
def _(term: Unless, columns: Columns, settings: Settings) -> str:
    return f"(not {sql(term.inner, columns, settings)})"


@sql.register
def _(term: Difference, columns: Columns, settings: Settings) -> str:
    return f"({sql(term.left, columns, settings)} - {sql(term.right, columns, settings)})"


@sql.register
def _(term: Past, columns: Columns, settings: Settings) -> str:
    limit = f"greatest({sql(term.limit, columns, settings)}, 1)"
    # Rounded towards nothing here and downwards there: the same, since what is below nothing counts as nothing.
    over = f"({sql(term.value, columns, settings)} - {limit})::bigint * 50 / {limit}"
    return f"(least(greatest({over}, 0), 100) / 20 * 20)::int"


# What facts are made of.


@sql.register
def _(term: InstantColumn, columns: Columns, settings: Settings) -> str:
    return columns[term.name]


@sql.register
def _(term: First, columns: Columns, settings: Settings) -> str:
    return f"coalesce({sql(term.one, columns, settings)}, {sql(term.other, columns, settings)})"


@sql.register
def _(term: Latest, columns: Columns, settings: Settings) -> str:
    # Of these, greatest() leaves out what is missing.
    return f"greatest({sql(term.one, columns, settings)}, {sql(term.other, columns, settings)})"


@sql.register
def _(term: NumberColumn, columns: Columns, settings: Settings) -> str:
    return f"coalesce({columns[term.name]}, {term.missing})"


@sql.register
def _(term: TruthColumn, columns: Columns, settings: Settings) -> str:
    return f"({columns[term.name]} is {'not false' if term.missing else 'true'})"


@sql.register
def _(term: IsThere, columns: Columns, settings: Settings) -> str:
    return f"({columns[term.column.name]} is not null)"


@sql.register
def _(term: Among, columns: Columns, settings: Settings) -> str:
    return f"(({columns[term.column.name]} in ({texts(term.words)})) is true)"


@sql.register
def _(term: AtDomain, columns: Columns, settings: Settings) -> str:
    # One array instead of thousands of constants, which would take longer to parse than to look up.
    domains = quoted("{" + ",".join(sorted(term.domains)) + "}")
    return f"((split_part({columns[term.column.name]}, '@', 2) = any({domains}::text[])) is true)"


@sql.register
def _(term: Known, columns: Columns, settings: Settings) -> str:
    column = columns[term.column.name]
    known = f"in ({texts(sorted(settings.known_publishers))})" if settings.known_publishers else "<> ''"
    return f"(({column} {known}) is true)"


@sql.register
def _(term: Later, columns: Columns, settings: Settings) -> str:
    return f"(({sql(term.one, columns, settings)} > {sql(term.other, columns, settings)}) is true)"


@sql.register
def _(term: Between, columns: Columns, settings: Settings) -> str:
    passed = f"{sql(term.end, columns, settings)} - {sql(term.start, columns, settings)}"
    if term.unit is TimeUnit.DAYS:
        return f"date_part('day', {passed})::int"
    return f"trunc(date_part('epoch', {passed}) / 3600)::int"


@sql.register
def _(term: AtLeast, columns: Columns, settings: Settings) -> str:
    return f"greatest({sql(term.value, columns, settings)}, {term.least})"


@sql.register
def _(term: If, columns: Columns, settings: Settings) -> str:
    true, then, other = (sql(part, columns, settings) for part in (term.true, term.then, term.other))
    return f"(case when {true} then {then} else {other} end)"


def with_facts(columns: Columns, means: Mapping[str, Number | Truth], settings: Settings) -> Columns:
    """Columns, with the facts computed from them."""
    return {**columns, **{name: sql(term, columns, settings) for name, term in means.items()}}


def texts(values: Iterable[str]) -> str:
    """Texts as SQL literals, with commas between, inside a statement with parameters."""
    return ", ".join(quoted(value) for value in values)


def quoted(text: str) -> str:
    """Text as an SQL literal inside a statement with parameters."""
    return "'" + text.replace("'", "''").replace("%", "%%") + "'"


def by_four(column: str, values: Iterable[int]) -> str:
    """One of four numbers, by a column that is 1 to 4."""
    four = [int(value) for value in values]
    if len(set(four)) == 1:
        return str(four[0])
    return f"(case {column} when 1 then {four[0]} when 2 then {four[1]} when 3 then {four[2]} else {four[3]} end)"


def never(condition: str) -> bool:
    """Whether a condition can't hold, since its limit is unreachable for every sensitivity."""
    return f"> {NEVER})" in condition


def found(rules: Iterable[Rule], columns: Columns, settings: Settings) -> str:
    """The rules' findings on a row, as an array with one number for each (``ROOM``)."""
    weights = settings.weights
    outside = f"case when {columns['inside']} then 0 else {weights.outside} end"
    reach, sensitivity = columns["reach"], columns["sensitivity"]
    base = f"{by_four(reach, weights.reach)} + {by_four(sensitivity, weights.sensitivity)} + {outside}"
    each = []
    for rule in rules:
        condition = sql(rule.when.true, columns, settings)
        if rule.key in settings.off or never(condition):
            continue
        stale = sql(rule.stale, columns, settings)
        sure = sql(rule.sure, columns, settings)
        points = f"{base} + {weights.staleness} * {stale} / 100 - {weights.doubt} * (100 - {sure}) / 100"
        score = f"least(100, greatest({rule.when.least}, {points}))"
        each.append(f"case when {condition} then {rule.number * ROOM} + {score} end")
    return f"array_remove(array[{', '.join(each)}]::int[], null)" if each else "'{}'::int[]"


def read(number: int) -> tuple[int, int]:
    """A finding's number as the rule's number and the score."""
    return divmod(number, ROOM)
