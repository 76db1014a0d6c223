"""What SQL gathers over teams, owners and accounts as holders is what the paths of the core give."""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import datetime, timedelta
from uuid import UUID

import pytest
from sqlalchemy.orm import Session as Db

from openlatch.core.access.paths import by_holder, everything_reached, rights_of
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Reach
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.access import subgraph
from openlatch.store.flags import evaluate_many, evaluate_one
from openlatch.store.tables import Account, Grant, Level, Membership, Person, Resource, System, Team, Term
from tests.seeds import seeds

PAIR = ("do.1", "do.3")


class Made:
    """A register made by dice: teams in teams, accounts that hold grants, windows, and people who have left."""

    def __init__(self, db: Db, organisation: UUID, now: datetime, dice: random.Random) -> None:
        self.now, self.dice, self.own = now, dice, {"organisation_id": organisation}
        system = System(**self.own, key="s", name="S", kind="by_hand")
        db.add(system)
        db.flush()
        self.levels = [
            Level(
                **self.own,
                system_id=system.id,
                key=f"l{reach}",
                name=f"L{reach}",
                sentence="Does it.",
                reach=reach,
                permissions=[{"key": f"do.{reach}", "sentence": "Do it", "reach": Reach(reach).word}],
            )
            for reach in range(1, 5)
        ]
        self.people = [
            Person(**self.own, key=f"p{n}", name=f"P{n}", inside=dice.random() < 0.5, **self._leaving())
            for n in range(7)
        ]
        self.teams = [Team(**self.own, key=f"t{n}", name=f"T{n}") for n in range(4)]
        db.add_all([*self.levels, *self.people, *self.teams])
        db.flush()
        self.accounts = [
            Account(
                **self.own,
                key=f"a{n}",
                name=f"A{n}",
                system_id=system.id,
                sensitivity=dice.randint(1, 4),
                owner_id=dice.choice([None, *(person.id for person in self.people)]),
            )
            for n in range(5)
        ]
        db.add_all(self.accounts)
        db.flush()
        db.add_all(self._memberships())
        parts = [Resource(**self.own, account_id=each.id, name="Part", kind="folder") for each in self.accounts]
        db.add_all(parts)
        db.flush()
        self.parts = {part.account_id: part.id for part in parts}
        for grant, terms in self._grants():
            db.add(grant)
            db.flush()
            db.add_all(Term(**self.own, grant_id=grant.id, **term) for term in terms)
        db.flush()

    def _leaving(self) -> dict[str, object]:
        standing = self.dice.choice(["current", "current", "leaving", "left"])
        days = self.dice.choice([-5, 5])
        leaves = None if standing == "current" else self.now + timedelta(days=-5 if standing == "left" else days)
        return {"standing": standing, "leaves_at": leaves}

    def _window(self) -> dict[str, datetime | None]:
        since, until = self.dice.choice([(None, None), (None, None), (-9, None), (-9, -2), (2, None), (None, 3)])
        day = timedelta(days=1)
        return {
            "since": None if since is None else self.now + since * day,
            "until": None if until is None else self.now + until * day,
        }

    def _memberships(self) -> Iterator[Membership]:
        for number, team in enumerate(self.teams):
            for person in self.dice.sample(self.people, 3):
                yield Membership(**self.own, team_id=team.id, person_id=person.id, **self._window())
            for inner in self.teams[number + 1 :]:
                if self.dice.random() < 0.4:
                    yield Membership(**self.own, team_id=team.id, member_team_id=inner.id, **self._window())

    def _term(self, part: UUID) -> dict[str, object]:
        level, where = self.dice.choice(self.levels).id, self.dice.choice([None, None, part])
        return {"level_id": level, "resource_id": where, **self._window()}

    def _grants(self) -> Iterator[tuple[Grant, list[dict[str, object]]]]:
        for account in self.accounts:
            others = [each for each in self.accounts if each is not account]
            holders: list[Person | Team | Account] = [
                *self.dice.sample(self.people, 2),
                self.dice.choice(self.teams),
                self.dice.choice(others),
            ]
            for holder in holders:
                named = {Person: "person_id", Team: "team_id", Account: "holder_account_id"}[type(holder)]
                yield (
                    Grant(
                        **self.own,
                        account_id=account.id,
                        state=self.dice.choice(["active", "active", "revoking", "suspended"]),
                        given_at=self.now,
                        **{named: holder.id},
                    ),
                    [self._term(self.parts[account.id]) for _ in range(self.dice.randint(1, 2))],
                )


def facts(unit: Unit, subject: str, ident: UUID) -> list[Mapping[str, object]]:
    """What is gathered of a subject: among all of its kind, and of it alone."""
    stands = evaluate_flags.ruling(unit)
    stands = replace(stands, settings=replace(stands.settings, never_together=(PAIR,)))
    (among,) = evaluate_many.look(unit.db, stands, subject, [ident], unit.now, everything=True)
    (alone,) = evaluate_one.look(unit.db, stands, (subject,), ident, unit.now, everything=True)
    assert alone is not None
    return [among.facts, alone.facts]


@pytest.mark.parametrize("seed", seeds(6))
def test_walks_in_sql_find_what_the_paths_give(service: Service, organisation: Viewer, seed: int) -> None:
    with service.unit(organisation) as unit:
        made = Made(unit.db, organisation.organisation, unit.now, random.Random(seed))
        sensitive = {account.id for account in made.accounts if account.sensitivity >= 3}
        for account in made.accounts:
            register = subgraph.around_accounts(unit.db, [account.id])
            stewards = {
                holder.id
                for holder, paths in by_holder(register, account.id, unit.now).items()
                if holder.kind is HolderKind.PERSON
                and holder.id != account.owner_id
                and any(path.reach is Reach.STEWARD and path.part is None for path in paths)
            }
            for found in facts(unit, "account", account.id):
                assert found["stewards"] == len(stewards)
        for person in made.people:
            holder = Holder(HolderKind.PERSON, person.id)
            register = subgraph.around_holder(unit.db, holder)
            if register.people[person.id].is_gone(unit.now):
                continue
            paths = everything_reached(register, holder, unit.now)
            far = {path.account for path in paths if path.reach >= Reach.SPEND} & sensitive
            for found in facts(unit, "person", person.id):
                assert found["far_accounts"] == len(far)
                assert found["together"] == ({p.key for p in rights_of(paths)} >= set(PAIR))
                if not person.inside:
                    assert found["accounts"] == len({path.account for path in paths})
