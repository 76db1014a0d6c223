"""Search over a large register against the bare trigram query, and merging two people against the bare updates."""

from __future__ import annotations

from statistics import median
from uuid import UUID

import psycopg
from sqlalchemy import select

from bench.measures import Bench, Result, alternating, timed
from bench.scale import scaled
from openlatch.core.ids import new_id
from openlatch.service.lists.search import search
from openlatch.service.records import merge as record_merge
from openlatch.store.tables import Grant, Person

PEOPLE, ACCOUNTS, HELD = scaled(100_000), scaled(10_000), scaled(5_000)
WORDS = ("oldmor", "tindal", "calset", "boro fen", "desk 77")
_FIRST = ("ma", "ro", "ti", "bo", "ca", "de", "fe", "lu", "ne", "so")
_LAST = ("den", "dal", "set", "fen", "ring", "mor", "ley", "tin", "cal", "old")


def _name(n: int) -> str:
    """A made-up name: one of a hundred thousand."""
    first = _FIRST[n % 10] + _FIRST[n // 10 % 10]
    return f"{first.title()} {(_LAST[n // 100 % 10] + _LAST[n // 1000 % 10] + _LAST[n // 10_000 % 10]).title()}"


# A grant of some people on some accounts.
_GIVE = """
    with made as (insert into grants (id, organisation_id, account_id, person_id, state, given_at)
        select gen_random_uuid(), %(o)s, a.id, p.id, 'active', now() from people p
        join accounts a on a.organisation_id = p.organisation_id and ({1})
        where p.organisation_id = %(o)s and ({0}) limit %(held)s returning id)
    insert into terms (id, organisation_id, grant_id, level_id)
    select gen_random_uuid(), %(o)s, made.id, l.id from made, levels l
    where l.organisation_id = %(o)s and l.key = 'look'"""


def _fill(bench: Bench) -> None:
    """So many people and accounts, with names that are made up, beside what is there."""
    organisation = bench.viewer.organisation
    with bench.owner() as db:
        row = db.execute("select count(*) from people where key like 'found%'").fetchone()
        if row and row[0]:
            return
        with db.cursor() as cursor:
            columns = "id, organisation_id, key, name, address, inside"
            with cursor.copy(f"copy people ({columns}) from stdin") as copy:
                for n in range(PEOPLE):
                    copy.write_row(
                        (new_id(), organisation, f"found{n}", _name(n), f"{_name(n)}@example.org".lower(), True)
                    )
            system = new_id()
            cursor.execute(
                "insert into systems (id, organisation_id, key, name, kind) "
                "values (%s, %s, 'found', 'Found', 'by_hand')",
                (system, organisation),
            )
            columns = "id, organisation_id, key, name, system_id, sensitivity"
            with cursor.copy(f"copy accounts ({columns}) from stdin") as copy:
                for n in range(ACCOUNTS):
                    name = f"{_name(n * 7).split()[1]} desk {n}"
                    copy.write_row((new_id(), organisation, f"found{n}", name, system, 2))
        db.execute(
            "insert into levels (id, organisation_id, system_id, key, name, sentence, reach, permissions) "
            "values (%s, %s, %s, 'look', 'Look', 'Can look.', 1, "
            """'[{"key": "look", "sentence": "Look", "reach": "observe"}]')""",
            (new_id(), organisation, system),
        )
        # Every fifth of the others holds one grant, so that statistics know more than one holder.
        some = "p.key like 'found%%0' or p.key like 'found%%5'"
        place = "a.key = 'found' || substr(p.key, 6)::int %% 10000"
        db.execute(_GIVE.format(some, place), {"o": organisation, "held": PEOPLE})
        db.commit()
        db.autocommit = True
        # As the server does by itself after so many new rows; its index on names is merged then.
        db.execute("vacuum analyze")


def searching(bench: Bench) -> Result:
    """Search over everything, against two bare trigram queries, of people and of accounts."""
    _fill(bench)
    bare = """
        (select id, name from people where organisation_id = %(o)s and lower(name) like %(w)s
         order by similarity(lower(name), %(t)s) desc, name limit 6)
        union all
        (select id, name from accounts where organisation_id = %(o)s and lower(name) like %(w)s
         order by similarity(lower(name), %(t)s) desc, name limit 6)"""
    ratios, found = [], 0
    with bench.owner() as db:
        for words in WORDS:
            longest = max(words.split(), key=len)
            given = {"o": bench.viewer.organisation, "w": f"%{longest}%", "t": words}

            def ours(words: str = words) -> None:
                nonlocal found
                with bench.service.unit(bench.viewer) as unit:
                    found += len(search(unit, words).found)

            def floor(given: dict[str, object] = given) -> None:
                db.execute("select 1")
                db.execute(bare, given).fetchall()

            taken, least = alternating(ours, floor, rounds=15)
            ratios.append(taken / least)
    notes = [", ".join(f"{words!r} {ratio:.1f}" for words, ratio in zip(WORDS, ratios, strict=True))]
    assert found, "nothing was found"
    name = f"search among {PEOPLE:,} people, {ACCOUNTS:,} accounts"
    return Result(name, median(ratios), 3.0, "the bare trigram queries of people and accounts", notes)


def merging_people(bench: Bench) -> Result:
    """Two people made one, who hold so many grants, against the bare updates of those rows."""
    _fill(bench)
    keep, drop = _two(bench)

    def merge() -> None:
        with bench.service.unit(bench.viewer) as unit:
            record_merge.merge(unit, "people", keep, drop)

    def undo() -> None:
        with bench.service.unit(bench.viewer) as unit:
            record_merge.undo(unit, record_merge.latest(unit)[0].id)

    ours, bare = [], []
    with bench.owner() as db:
        for _ in range(3):
            bare.append(timed(lambda: _move(db, drop, keep)))
            _move(db, keep, drop)
            ours.append(timed(merge))
            undo()
    ratio = median(ours) / median(bare)
    notes = [f"all of it in one transaction, with {HELD:,} entries in the journal"]
    return Result(f"merge a person with {HELD:,} grants", ratio, 5.0, "the bare updates of the rows", notes)


def _two(bench: Bench) -> tuple[UUID, UUID]:
    """Two people of whom the second holds a grant on each of so many accounts."""
    with bench.owner() as db:
        of_two = "p.key = 'found2' and not exists (select from grants g where g.person_id = p.id)"
        db.execute(_GIVE.format(of_two, "a.key like 'found%%'"), {"o": bench.viewer.organisation, "held": HELD})
        db.commit()
        db.autocommit = True
        db.execute("analyze grants")
    with bench.service.unit(bench.viewer) as unit:
        keep, drop = (unit.db.scalars(select(Person.id).where(Person.key == f"found{n}")).one() for n in (1, 2))
        assert len(unit.db.scalars(select(Grant.id).where(Grant.person_id == drop)).all()) == HELD
    return keep, drop


def _move(db: psycopg.Connection[tuple[object, ...]], old: UUID, new: UUID) -> None:
    with db.transaction():
        db.execute("update grants set person_id = %s, version = version + 1 where person_id = %s", (new, old))
        db.execute("update grants set given_by_id = %s where given_by_id = %s", (new, old))
        db.execute("update sessions set person_id = %s where person_id = %s", (new, old))
        db.execute("update memberships set person_id = %s where person_id = %s", (new, old))
