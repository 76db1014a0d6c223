"""Search over everything that the viewer may see, in one statement, by the trigrams of names (pg_trgm)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

from sqlalchemy import (
    CTE,
    ColumnElement,
    FromClause,
    Integer,
    String,
    Uuid,
    and_,
    any_,
    bindparam,
    cast,
    func,
    literal,
    null,
    or_,
    select,
    union_all,
)
from sqlalchemy.orm import aliased

from openlatch import schemas
from openlatch.core.vocabulary import FlagState
from openlatch.json_values import JsonList, JsonObject
from openlatch.service.permissions import Sight
from openlatch.service.unit import Unit
from openlatch.store.lists.register import LIVE
from openlatch.store.sql_types import AnyColumn, AnyCompoundSelect, AnySelect, Expression
from openlatch.store.tables import Account, App, Flag, Grant, Person, PersonAddress, Round, System, Team

MOST_OF_EACH = 6
MOST_WORDS = 5
# Matching people and accounts through which grants and flags are searched.
MOST_AROUND = 200
# Grants and flags considered for those.
MOST_OF_AROUND = 2_000


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of thing that is searched by its own name: its table, what matches, and what is shown."""

    name: str
    source: FromClause
    ident: Expression
    label: Expression
    detail: Expression
    searched: tuple[Expression, ...]
    visible: ColumnElement[bool]
    named: CTE | None = None


@dataclass(frozen=True, slots=True)
class Named:
    """The words to search for, and everything with the longest of them in its name.

    These are found once and used for every kind. The words are parameters of the statement.
    """

    words: Sequence[Expression]
    longest: Expression
    text: Expression
    people: CTE
    accounts: CTE

    @classmethod
    def of(cls, count: int) -> Named:
        """For that many words, by name indexes that row-level security would otherwise keep from being used."""
        longest: Expression = bindparam("longest")
        text: Expression = bindparam("text")
        most: Expression = bindparam("most", type_=Integer())

        def named(by: str) -> CTE:
            ident = getattr(func, by)(longest, text, most, type_=Uuid()).column_valued("id")
            return select(ident.label("id")).cte(by)

        words: JsonList = [bindparam(f"word{n}") for n in range(count)]
        return cls(words, longest, text, named("people_named"), named("accounts_named"))


def search(unit: Unit, text: str) -> schemas.Found:
    """The best matches of each kind; every word has to occur. Nothing for fewer than two letters."""
    words = [word for word in text.lower().split() if word][:MOST_WORDS]
    if sum(map(len, words)) < 2:
        return schemas.Found(found=[])
    sight = unit.sight
    statement = _of_everything(len(words)) if sight.everything else _statement(sight, len(words))
    given: JsonObject = {f"word{n}": _within(word) for n, word in enumerate(words)}
    # The longest word is the most selective; its best matches suffice where everything is visible.
    most = MOST_AROUND if sight.everything and len(words) == 1 else None
    given |= {"longest": _within(max(words, key=len)), "text": " ".join(words), "most": most}
    rows = unit.db.execute(statement, given).mappings().all()
    ordered = sorted(rows, key=lambda row: (row["place"], -row["fits"], row["label"]))
    return schemas.Found(found=[schemas.FoundOne.model_validate(row) for row in ordered])


@cache
def _of_everything(count: int) -> AnyCompoundSelect:
    """Whoever sees everything uses the same statement every time, which is built once."""
    return _statement(Sight(True, None), count)


def _statement(sight: Sight, count: int) -> AnyCompoundSelect:
    named = Named.of(count)
    statements = [_best(kind, named) for kind in _kinds(sight, named)]
    statements += [_grants(sight, named), _flags(sight, named)]
    return union_all(*(select(one.subquery()) for one in statements))


def _kinds(sight: Sight, named: Named) -> list[Kind]:
    owner = aliased(Person)
    accounts = Account.__table__.outerjoin(owner, owner.id == Account.owner_id)
    address = (
        select(func.string_agg(PersonAddress.address, literal(" ")))
        .where(PersonAddress.person_id == Person.id)
        .correlate(Person)
        .scalar_subquery()
    )
    return [
        Kind(
            "people",
            Person.__table__,
            Person.id,
            Person.name,
            func.coalesce(Person.address, address, Person.job),
            (Person.name, Person.address),
            sight.people(),
            named.people,
        ),
        Kind(
            "accounts",
            accounts,
            Account.id,
            Account.name,
            func.coalesce(owner.name, ""),
            (Account.name,),
            and_(sight.accounts(), Account.archived_at.is_(None)),
            named.accounts,
        ),
        Kind(
            "apps",
            App.__table__,
            App.id,
            App.name,
            App.publisher,
            (App.name,),
            and_(sight.apps(), App.archived_at.is_(None)),
        ),
        Kind(
            "teams",
            Team.__table__,
            Team.id,
            Team.name,
            Team.purpose,
            (Team.name,),
            and_(sight.teams(), Team.archived_at.is_(None)),
        ),
        Kind("rounds", Round.__table__, Round.id, Round.name, cast(null(), String), (Round.name,), sight.rounds()),
        Kind("systems", System.__table__, System.id, System.name, System.kind, (System.name,), sight.systems()),
    ]


def _fits(columns: Sequence[object], words: Sequence[object]) -> ColumnElement[bool]:
    """Whether every word occurs in one of the columns."""
    return and_(*(or_(*(func.lower(column).like(word, escape="\\") for column in columns)) for word in words))


def _within(word: str) -> str:
    escaped = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return f"%{escaped}%"


def _best(kind: Kind, named: Named) -> AnySelect:
    fits = func.similarity(func.lower(kind.label), named.text)
    wanted = _fits(kind.searched, named.words)
    if kind.named is not None:
        wanted = and_(kind.ident.in_(select(kind.named.c.id)), wanted)
    return (
        select(
            literal(ORDER.index(kind.name)).label("place"),
            literal(kind.name).label("kind"),
            kind.ident.label("id"),
            kind.label.label("label"),
            func.coalesce(kind.detail, "").label("detail"),
            fits.label("fits"),
        )
        .select_from(kind.source)
        .where(kind.visible, wanted)
        .order_by(fits.desc(), kind.label)
        .limit(MOST_OF_EACH)
    )


def _grants(sight: Sight, named: Named) -> AnySelect:
    """Grants of matching people, teams and apps on matching accounts: each word in one of the two names."""
    holder = func.coalesce(Person.name, Team.name, App.name)
    fits = func.similarity(func.lower(holder + " " + Account.name), named.text)
    return (
        select(
            literal(ORDER.index("grants")).label("place"),
            literal("grants").label("kind"),
            Grant.id.label("id"),
            (holder + " on " + Account.name).label("label"),
            Grant.state.label("detail"),
            fits.label("fits"),
        )
        .join(Account, Account.id == Grant.account_id)
        .outerjoin(Person, Person.id == Grant.person_id)
        .outerjoin(Team, Team.id == Grant.team_id)
        .outerjoin(App, App.id == Grant.app_id)
        .where(sight.grants(), Grant.state.in_(LIVE), _around(Grant, named), _fits((holder, Account.name), named.words))
        .order_by(fits.desc(), Grant.id)
        .limit(MOST_OF_EACH)
    )


def _flags(sight: Sight, named: Named) -> AnySelect:
    fits: AnyColumn = Flag.score / 100.0
    return (
        select(
            literal(ORDER.index("flags")).label("place"),
            literal("flags").label("kind"),
            Flag.id.label("id"),
            Flag.sentence.label("label"),
            Flag.rule.label("detail"),
            fits.label("fits"),
        )
        .where(sight.flags(), Flag.state == FlagState.OPEN, _around(Flag, named), _fits((Flag.sentence,), named.words))
        .order_by(Flag.score.desc(), Flag.id)
        .limit(MOST_OF_EACH)
    )


def _around(table: type[Grant | Flag], named: Named) -> ColumnElement[bool]:
    """What belongs to matching holders or accounts, one after the other, so that each is found by an index."""
    holders: JsonList = [select(named.people.c.id).limit(MOST_AROUND)]
    holders += [
        select(some.id).where(func.lower(some.name).like(named.longest, escape="\\")).limit(MOST_AROUND)
        for some in (Team, App)
    ]
    held = select(union_all(*(select(one.subquery()) for one in holders)).subquery().c[0])
    ways = ((table.holder_id, held), (table.account_id, select(named.accounts.c.id).limit(MOST_AROUND)))
    found = [select(table.id).where(_one_of(column, some)).limit(MOST_OF_AROUND) for column, some in ways]
    return _one_of(table.id, select(union_all(*(select(one.subquery()) for one in found)).subquery().c[0]))


def _one_of(column: AnyColumn, ids: AnySelect) -> ColumnElement[bool]:
    """As an array: of rows the server would expect a share of the table, and read all of what is joined with it."""
    found: ColumnElement[bool] = column == any_(func.array(ids.scalar_subquery()))
    return found


ORDER = ("people", "accounts", "apps", "teams", "grants", "flags", "rounds", "systems")
