"""What of a change of tables a program of before would not bear: all that it reads and writes has to stay."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import Connection, text

_COLUMNS = """
    select c.relname || '.' || a.attname, format_type(a.atttypid, a.atttypmod),
        a.attnotnull and not (a.atthasdef or a.attidentity <> '' or a.attgenerated <> '')
    from pg_attribute a join pg_class c on c.oid = a.attrelid
    where c.relnamespace = 'public'::regnamespace and c.relkind in ('r', 'p', 'v')
        and a.attnum > 0 and not a.attisdropped
"""
# What can refuse a row, with the table that it is of.
_DEMANDS = """
    select conrelid::regclass || ': ' || pg_get_constraintdef(oid), conrelid::regclass::text from pg_constraint
    where connamespace = 'public'::regnamespace and conrelid <> 0
    union select indrelid::regclass || ': ' || pg_get_indexdef(indexrelid), indrelid::regclass::text from pg_index
    join pg_class c on c.oid = indrelid where indisunique and c.relnamespace = 'public'::regnamespace
    union select polrelid::regclass || ': ' || coalesce(pg_get_expr(polqual, polrelid), '') || ' '
        || coalesce(pg_get_expr(polwithcheck, polrelid), ''), polrelid::regclass::text from pg_policy
"""
_FUNCTIONS = "select oid::regprocedure::text from pg_proc where pronamespace = 'public'::regnamespace"


@dataclass(frozen=True)
class Tables:
    """What a program finds: columns with type and whether they must be given, what can refuse a row, functions."""

    columns: Mapping[str, tuple[str, bool]]
    demands: Mapping[str, str]
    functions: frozenset[str]

    @classmethod
    def of(cls, connection: Connection) -> Tables:
        columns = {name: (kind, must) for name, kind, must in connection.execute(text(_COLUMNS))}
        demands = {row[0]: row[1] for row in connection.execute(text(_DEMANDS))}
        return cls(columns, demands, frozenset(connection.scalars(text(_FUNCTIONS))))

    def missed(self, after: Tables) -> list[str]:
        """What a program that knows these tables would miss, or fail at, in those."""
        known = {name.partition(".")[0] for name in self.columns}
        gone = [f"{name} is gone" for name in self.columns if name not in after.columns]
        other = [
            f"{name} is {after.columns[name][0]} instead of {kind}"
            for name, (kind, _) in self.columns.items()
            if name in after.columns and after.columns[name][0] != kind
        ]
        must = [
            f"{name} has to be given"
            for name, (_, needed) in after.columns.items()
            if needed and name.partition(".")[0] in known and not self.columns.get(name, ("", False))[1]
        ]
        stricter = [
            f"demanded: {demand}"
            for demand, table in after.demands.items()
            if table in known and demand not in self.demands
        ]
        functions = [f"{name} is gone" for name in sorted(self.functions - after.functions)]
        return sorted([*gone, *other, *must, *stricter, *functions])
