"""Evaluating the rules in SQL: for all subjects, to find those that differ, and for given ones, to find what holds.

Both run the same statement, except for how its rows are gathered (``sources``). A single subject is evaluated in
``evaluate_one``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property, lru_cache
from uuid import UUID

from psycopg.rows import dict_row, tuple_row
from sqlalchemy import Dialect
from sqlalchemy.dialects import postgresql
from sqlalchemy.orm import Session as Db

from openlatch.core.flags import BOOKS, Rule, Settings
from openlatch.core.flags.expressions import TrueFact
from openlatch.core.flags.rule import Gathered, Remedy, When, meanings, said_of
from openlatch.json_values import JsonObject, JsonView
from openlatch.store.access import walks
from openlatch.store.access.walks import NOW
from openlatch.store.database import ask, at_large
from openlatch.store.flags.sources import SOURCES, Source
from openlatch.store.flags.sql_expressions import ROOM, found, with_facts
from openlatch.store.lists.offers import OFFERS
from openlatch.store.lists.register import ACCOUNTS, GRANTS, PEOPLE, SESSIONS

# What an organisation's own rules are about, and the list whose attributes their filters use.
LISTS = {"grant": GRANTS, "session": SESSIONS, "account": ACCOUNTS, "person": PEOPLE, "offer": OFFERS}
_DIALECT: Dialect = postgresql.psycopg.dialect()  # type: ignore[no-untyped-call]
_BUILT_IN = {book.subject: tuple(book.rules) for book in BOOKS}
_SAID = {book.subject: said_of(book.facts) for book in BOOKS}
_MEANINGS = {book.subject: meanings(book.facts) for book in BOOKS}
# So many rows are asked for at once from a pass over everything.
AT_ONCE = 20_000


@dataclass(frozen=True, slots=True)
class Own:
    """An organisation's own rule: a filter over the list of its subjects."""

    number: int
    key: str
    subject: str
    title: str
    about: str
    filter: str
    says: str
    remedy: str
    urgency: int

    @property
    def fact(self) -> str:
        """The fact that says whether its filter matches."""
        return f"own_{self.number}"

    @property
    def rule(self) -> Rule:
        """The same as an ordinary rule."""
        named = tuple(name for name in _SAID[self.subject] if f"{{{name}" in self.says)
        when = When(TrueFact(self.fact), self.urgency)
        return Rule(
            self.number, self.key, self.subject, self.title, self.about, Remedy(self.remedy), self.says, when, named
        )


@dataclass(frozen=True)
class Ruling:
    """An organisation's rule settings and own rules."""

    settings: Settings
    own: tuple[Own, ...] = ()

    def rules(self, subject: str) -> tuple[Rule, ...]:
        """Every rule on one kind of subject."""
        return _BUILT_IN[subject] + tuple(own.rule for own in self.own if own.subject == subject)

    @cached_property
    def _hash(self) -> int:
        return hash((str(self.settings.stored), self.own))

    def __hash__(self) -> int:
        return self._hash


@dataclass(frozen=True, slots=True)
class Looked:
    """A subject with its facts, its findings, and what was found before."""

    id: UUID
    account: UUID | None
    holder: UUID
    facts: JsonView
    found: list[int]
    before: list[int]
    words: int | None

    @property
    def counts(self) -> bool:
        """Whether anything is, or was, found on it."""
        return bool(self.found or self.before)

    @property
    def leads_on(self) -> bool:
        """Whether it is a grant on an account that holds grants elsewhere; only known for one evaluated by itself."""
        return bool(self.facts["leads_on"])

    @property
    def is_direct(self) -> bool:
        """Whether it is the grant of a person or an app, who hold it for themselves."""
        return bool(self.facts["by_person"] or self.facts["is_link"])


def columns_of(source: Source, ruling: Ruling, bulk: bool) -> dict[str, str]:
    """The SQL of every column that facts are made of, plus one column for each own rule: whether its filter matches."""
    columns = {**source.columns, **source.far_columns}
    for own in ruling.own:
        if own.subject == source.subject:
            matching = _matching(own)
            # For all of them the matches are found once; for a few each is looked up.
            each = f"exists (select 1 from ({matching}) own where own.id = {source.ident})"
            columns[own.fact] = f"({source.ident} in ({matching}))" if bulk else each
    return columns


def is_scored(subject: str, ruling: Ruling, everything: bool = False) -> bool:
    """Whether all subjects of a kind are scored: an own rule may find something on any of them."""
    return everything or any(own.subject == subject for own in ruling.own)


def _rows(source: Source, ruling: Ruling, bulk: bool, everything: bool = False) -> str:
    return source.rows(ruling.settings, bulk, is_scored(source.subject, ruling, everything))


def _matching(own: Own) -> str:
    """SQL for the ids that an own rule's filter matches, with literal values."""
    statement = LISTS[own.subject].matching(own.filter)
    # The dialect doubles percent signs, as statements with parameters need it.
    return str(statement.compile(dialect=_DIALECT, compile_kwargs={"literal_binds": True}))


def _found(source: Source, ruling: Ruling, columns: Mapping[str, str]) -> str:
    """What the rules find on a row."""
    facts = with_facts({**columns, "now": NOW}, _MEANINGS[source.subject], ruling.settings)
    return found(ruling.rules(source.subject), facts, ruling.settings)


@lru_cache(maxsize=64)
def _differing(subject: str, ruling: Ruling) -> str:
    source = SOURCES[subject]
    what = _found(source, ruling, columns_of(source, ruling, True))
    return f"""
        select {source.ident} from {_rows(source, ruling, True)}
        left join findings f on f.subject_id = {source.ident}
        where ({source.wanted} or f.subject_id is not null)
            and case when {source.wanted} then {what} else '{{}}' end is distinct from coalesce(f.found, '{{}}')
    """


@lru_cache(maxsize=64)
def _looking(subject: str, ruling: Ruling, everything: bool, of_grants: bool = False) -> str:
    source = SOURCES[subject]
    which_ones = "= any(%(ids)s)"
    if of_grants:
        column = {"account": "account_id", "person": "person_id"}[subject]
        which_ones = f"in (select og.{column} from grants og where og.id {which_ones})"
    columns = columns_of(source, ruling, False)
    gathered = ", ".join(f"{sql} as {name}" for name, sql in columns.items())
    looked = f"""
        select {source.ident} as id, {source.account} as account_id, {source.holder} as holder_id, {gathered},
            case when {source.wanted} then {_found(source, ruling, columns)} else '{{}}' end as found,
            f.found as before, f.words as words
        from {_rows(source, ruling, False, everything)}
        left join findings f on f.subject_id = {source.ident}
        where {source.ident} {which_ones}
    """
    return looked if everything else f"select * from ({looked}) looked where found <> '{{}}' or before is not null"


@lru_cache(maxsize=64)
def _changing(subject: str, before: Ruling, after: Ruling) -> str:
    source = SOURCES[subject]
    old = _found(source, before, columns_of(source, before, True))
    new = _found(source, after, columns_of(source, after, True))
    return f"""
        select rule, count(*) filter (where was is null) as raised, count(*) filter (where becomes is null) as cleared,
            count(*) filter (where was is not null and becomes is not null) as rescored,
            (array_agg(subject_id) filter (where was is null))[:5] as first_raised,
            (array_agg(subject_id) filter (where becomes is null))[:5] as first_cleared
        from (
            select subject_id, old, new from (
                select {source.ident} as subject_id, {old} as old
                from {_rows(source, before, True)} where {source.wanted}
            ) one full join (
                select {source.ident} as subject_id, {new} as new
                from {_rows(source, after, True)} where {source.wanted}
            ) other using (subject_id)
        ) both_ways
        cross join lateral (
            select coalesce(o.found, n.found) / {ROOM} as rule, o.found as was, n.found as becomes
            from unnest(old) o(found) full join unnest(new) n(found) on o.found / {ROOM} = n.found / {ROOM}
        ) each
        where old is distinct from new and was is distinct from becomes
        group by 1 order by 1
    """


def differing(db: Db, ruling: Ruling, subject: str, now: datetime) -> list[UUID]:
    """Every subject whose findings differ from those stored."""
    # One pass that hashes and sorts everything; what the usual setting leaves for it would go over the disk.
    with at_large(db).cursor(row_factory=tuple_row) as cursor:
        cursor.execute(_differing(subject, ruling), instants(now))
        return [row[0] for row in cursor]


# Up to so many, planning takes longer than reading them by a plan for any number.
FEW = 50


@dataclass(frozen=True, slots=True)
class Asked:
    """Subjects to evaluate, by their ids; or the accounts or people of grants, by the grants' ids."""

    subject: str
    ids: Sequence[UUID]
    of_grants: bool = False


def look(
    db: Db, ruling: Ruling, subject: str, ids: Sequence[UUID], now: datetime, everything: bool = False
) -> list[Looked]:
    """These subjects with their facts: those with present or former findings, or all of them."""
    (looked,) = look_at(db, ruling, [Asked(subject, ids)], now, everything)
    return looked


def look_at(
    db: Db, ruling: Ruling, asked: Sequence[Asked], now: datetime, everything: bool = False
) -> list[list[Looked]]:
    """The same for several kinds of subjects, in one pipeline."""
    questions = [
        (_looking(each.subject, ruling, everything, each.of_grants), {**instants(now), "ids": list(each.ids)})
        for each in asked
    ]
    few = all(len(each.ids) <= FEW for each in asked)
    return [
        [judged(each.subject, ruling, row, now, row.pop("found")) for row in rows]
        for each, rows in zip(asked, ask(db, questions, dict_row, kept=few), strict=True)
    ]


_HOLDERS = """
    select distinct holder_id, holder_kind from grants
    where id = any(%(grants)s) and holder_kind in ('team', 'account')
"""
_BEHIND = f"""
    with recursive {walks.behind(_HOLDERS, bulk=False)}
    select distinct node from down where kind = 'person' limit %(most)s
"""


def people_behind(db: Db, grants: Sequence[UUID], now: datetime, most: int) -> list[UUID]:
    """The people who act as the teams and accounts that hold these grants; at most ``most + 1``, so overflow shows."""
    (rows,) = ask(db, [(_BEHIND, {"grants": list(grants), "now": now, "most": most + 1})])
    return [row[0] for row in rows]


_LED_ON = """
    with recursive onward(account) as (
        select unnest(%(accounts)s::uuid[])
        union
        select account_id from grants where id = any(%(grants)s)
        union
        select g.account_id from onward o join grants g on g.holder_id = o.account and g.state <> 'ended'
    )
    select g.id, g.account_id from onward o join grants g on g.holder_id = o.account and g.state <> 'ended'
    limit %(most)s
"""


def led_on(db: Db, grants: Sequence[UUID], accounts: Sequence[UUID], most: int) -> list[tuple[UUID, UUID]]:
    """The grants, with their accounts, held by these accounts and by those of these grants, further and further on.

    Who gets in by them, and who decides there, depends on who can act in the accounts. At most ``most + 1``, so
    overflow shows.
    """
    (rows,) = ask(db, [(_LED_ON, {"grants": list(grants), "accounts": list(accounts), "most": most + 1})])
    return [(row[0], row[1]) for row in rows]


_OF_PERSON = """
    select id from grants where holder_id = %(person)s and state <> 'ended'
    union select id from grants where given_by_id = %(person)s and state <> 'ended'
    union select id from grants
    where account_id = any(%(accounts)s) and holder_kind in ('team', 'account') and state <> 'ended'
    limit %(most)s
"""
_SIGNED_IN = "select id from sessions where person_id = %(person)s and ended_at is null limit %(most)s"


def of_person(db: Db, person: UUID, accounts: Sequence[UUID], most: int) -> tuple[list[UUID], list[UUID]]:
    """The grants that somebody holds or gave, grants of teams and accounts on accounts that they reach, and their
    sessions.

    Their flags depend on whether the person is there. Of each at most ``most + 1`` ids, so that the caller can detect
    overflow.
    """
    named = {"person": person, "accounts": list(accounts), "most": most + 1}
    grants, sessions = ask(db, [(_OF_PERSON, named), (_SIGNED_IN, named)])
    return [row[0] for row in grants], [row[0] for row in sessions]


_OF_SAME_HOLDERS = """
    select id from sessions where ended_at is null
        and holder_id in (select holder_id from sessions where id = any(%(sessions)s)) limit %(most)s
"""


def of_same_holders(db: Db, sessions: Sequence[UUID], most: int) -> list[UUID]:
    """All sessions of the holders of these sessions; at most ``most + 1`` ids.

    A session is compared with the others of its holder: where from, on which device, at the same time.
    """
    (rows,) = ask(db, [(_OF_SAME_HOLDERS, {"sessions": list(sessions), "most": most + 1})])
    return [row[0] for row in rows]


def instants(now: datetime) -> JsonObject:
    """The parameters of every statement: the instant, and its day."""
    return {"now": now, "today": now.astimezone(UTC).date()}


def judged(subject: str, ruling: Ruling, columns: JsonView, now: datetime, found: list[int] | None) -> Looked:
    """A subject with what was gathered of it, and with what the rules find on it, unless that is known."""
    facts = Gathered({**columns, "now": now}, _MEANINGS[subject], ruling.settings)
    if found is None:
        points = ((rule.number, rule.points(facts, ruling.settings)) for rule in ruling.rules(subject))
        found = [number * ROOM + score.total for number, score in points if score is not None]
    return Looked(
        columns["id"],
        columns["account_id"],
        columns["holder_id"],
        facts,
        found,
        columns["before"] or [],
        columns["words"],
    )


@dataclass(frozen=True, slots=True)
class Effect:
    """What other settings would change about one rule: how many it would raise and clear, and the first of them."""

    rule: int
    raised: int
    cleared: int
    rescored: int
    first_raised: list[UUID]
    first_cleared: list[UUID]


def changing(db: Db, subject: str, before: Ruling, after: Ruling, now: datetime) -> list[Effect]:
    """What would be raised and cleared by other settings or own rules, with everything else as it is."""
    with at_large(db).cursor(row_factory=tuple_row) as cursor:
        cursor.execute(_changing(subject, before, after), instants(now))
        return [Effect(n, a, b, c, first or [], last or []) for n, a, b, c, first, last in cursor]
