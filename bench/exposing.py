"""What is open to outsiders: all of it, and what a draft of rules would open, each against reading the same rows."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from functools import partial
from typing import Any
from uuid import UUID, uuid4

from bench.measures import Bench, Result, alternating, timed
from bench.scale import scaled
from openlatch.service.exposure import account_rules, draft_changes, drafts, evaluate
from openlatch.store.tables import Account

# So many resources are in one account; a folder of ten has a rule of its own.
IN_ACCOUNT = scaled(100_000)
IN_FOLDER = 10
# What rules say comes in so many ways: an organisation has few, and repeats them.
WAYS = 60
_RESOURCES = "select path, above, attributes, inherits from resources where account_id = %s"
_RULES = "select key, plain from access_rules where account_id = %s and not is_guard order by position"


def _rule(number: int) -> dict[str, Any]:
    """One rule: most are for a folder, some have conditions, some refuse."""
    way = number % WAYS
    who: list[Any] = (
        ["anyone"] if way % 3 == 0 else ["signed in"] if way % 3 == 1 else [{"organisation": f"o{way}.example"}]
    )
    found: dict[str, Any] = {
        "rule": f"r{number}",
        "to": ["see"] if way % 5 else ["see", "change"],
        "on": [f"/f{number}/**"],
    }
    found["refuse" if way % 10 == 9 else "admit"] = who
    if way % 4 == 0:
        found["while"] = [{"from_network": [f"203.0.{way}.0/24"]}]
    elif way % 7 == 0:
        found["while"] = [{"between": {"last_day": f"2099-03-{way % 28 + 1:02}"}}]
    return found


def _fill(bench: Bench) -> list[UUID]:
    """Accounts with resources and rules, as a reading would leave them."""
    made = []
    with bench.owner() as db:
        organisation = bench.viewer.organisation
        for start in range(0, bench.size.grants, IN_ACCOUNT):
            count = min(IN_ACCOUNT, bench.size.grants - start)
            account = uuid4()
            made.append(account)
            system = uuid4()
            db.execute(
                "insert into systems (id, organisation_id, key, name, kind) values (%s, %s, %s, %s, 'by_hand')",
                (system, organisation, str(system), f"Files {start}"),
            )
            db.execute(
                "insert into accounts (id, organisation_id, system_id, key, name, kind, sensitivity, time_zone,"
                " purpose) values (%s, %s, %s, %s, %s, 'folder', 2, 'UTC', '')",
                (account, organisation, system, str(account), f"Files {start}"),
            )
            with db.cursor().copy(
                "copy resources (id, organisation_id, account_id, key, name, kind, path) from stdin"
            ) as copy:
                for n in range(count):
                    path = f"/f{n // IN_FOLDER}/d{n % 3}/n{n}.txt"
                    copy.write_row((uuid4(), organisation, account, path, f"n{n}", "file", path))
            with db.cursor().copy(
                "copy access_rules (id, organisation_id, account_id, key, position, plain, by_hand) from stdin"
            ) as copy:
                for n in range(count // IN_FOLDER):
                    plain = _rule(n)
                    copy.write_row((uuid4(), organisation, account, plain["rule"], n, json.dumps(plain), True))
        db.execute("analyze resources, access_rules")
    return made


def _grouped_by_hand(bench: Bench, account: UUID) -> Counter[tuple[str, ...]]:
    """One pass that reads the same rows and groups resources by the rules of their folder."""
    with bench.owner() as db:
        rules = {plain["on"][0].removesuffix("/**"): plain for _, plain in db.execute(_RULES, (account,))}
        found: Counter[tuple[str, ...]] = Counter()
        for path, above, attributes, inherits in db.execute(_RESOURCES, (account,)):
            top = path[: path.index("/", 1)]
            rule = rules.get(top)
            found[(json.dumps(rule["to"]) if rule else "", str(above), str(attributes), str(inherits))] += 1
        return found


def _answers(bench: Bench, account: UUID) -> int:
    with bench.service.unit(bench.viewer) as unit:
        of_account = account_rules.opened(unit, unit.db.get_one(Account, account))
        return sum(len(answer.exposures) for _, answer in of_account.answers())


def everything_that_is_open(bench: Bench) -> Result:
    """Work out all exposures of all accounts, against one pass that reads the same rows and groups them by hand."""
    made, organisation = _fill(bench), bench.viewer.organisation
    assert organisation is not None
    opened = 0

    def work() -> None:
        nonlocal opened
        opened = sum(_answers(bench, account) for account in made)

    def floor() -> None:
        for account in made:
            _grouped_by_hand(bench, account)

    found, by_hand = alternating(work, floor, rounds=3)
    first, again = (timed(partial(evaluate.every_account, bench.service, organisation)) for _ in range(2))
    with bench.owner() as db:
        one = {**_rule(1), "to": ["see", "change"]}
        db.execute(
            "update access_rules set plain = %s where account_id = %s and key = 'r1'", (json.dumps(one), made[0])
        )

    def follow() -> None:
        with bench.service.unit(bench.viewer) as unit:
            evaluate.changed(unit, [made[0]])

    one_rule = timed(follow)
    notes = [
        f"{bench.size.grants:,} resources, {bench.size.grants // IN_FOLDER:,} rules, {opened:,} exposures",
        f"written for the first time {first / by_hand:.1f}, again with nothing changed {again / by_hand:.1f}",
        f"worked out and written after one rule changed {one_rule / by_hand:.2f}",
    ]
    return Result("all that is open to outsiders", found / by_hand, 3.0, "rows read, grouped by hand", notes)


def a_draft_of_a_large_account(bench: Bench) -> Result:
    """Preview a draft that changes one rule of an account, against the bare query of its resources."""
    account = _fill(bench)[0]
    with bench.service.unit(bench.viewer) as unit:
        evaluate.accounts(unit, [account])
    with bench.service.unit(bench.viewer) as unit:
        document = drafts.current(unit, account).document
    document["rules"][1] = {**document["rules"][1], "to": ["see", "change"]}
    text = json.dumps(document)
    told = None

    def work() -> None:
        nonlocal told
        with bench.service.unit(bench.viewer) as unit:
            told = draft_changes.told(unit, unit.db.get_one(Account, account), text)

    def floor() -> None:
        with bench.owner() as db:
            list(_rows(db, account))

    found, bare = alternating(work, floor, rounds=3)
    counts = ", ".join(f"{count:,} {change}" for change, count in told.counts.items()) if told else ""
    return Result("a draft of a large account", found / bare, 3.0, "its resources and rules read", [counts])


def _rows(db: Any, account: UUID) -> Iterator[Any]:
    yield from db.execute(_RESOURCES, (account,))
    yield from db.execute(_RULES, (account,))
