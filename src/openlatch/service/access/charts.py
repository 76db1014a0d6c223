"""The data of the console's charts: the map of unused against dangerous access, and the calendar of expiry dates."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from itertools import product
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, FromClause, Select, SQLColumnExpression, case, func, select

from openlatch import schemas
from openlatch.core.states import OfferState
from openlatch.core.time_windows import ends_on
from openlatch.core.vocabulary import Reach, Standing
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.unit import Unit
from openlatch.store.database import at_large
from openlatch.store.lists import register
from openlatch.store.tables import Account, App, Grant, Level, Offer, Person, Round, Team, Term

# Danger: one step for each reach and sensitivity above the lowest, and one for being outside: 0 to 7.
DANGERS = (("little", 0, 1), ("some", 2, 3), ("much", 4, 5), ("most", 6, 7))
# Days without use, from and to; None means no limit. Never used comes last.
IDLES = (
    ("within 30 days", 0, 30),
    ("1 to 3 months", 30, 90),
    ("3 to 6 months", 90, 180),
    ("6 to 12 months", 180, 365),
    ("over a year", 365, None),
)
_UNTIL = [until for _, _, until in IDLES if until is not None]
NEVER = "never"
MOST_NAMES = 8
LAST_YEAR = 2199


def risk_map(unit: Unit) -> schemas.RiskMap:
    """How many live grants there are by danger and by how long they went unused, with the filters of each row and
    column, which together select a region of the list of grants.
    """
    if unit.sight.everything:
        at_large(unit.db)
    reaches = _reaches(unit)
    danger = func.coalesce(reaches.c.reach, 1) + Account.sensitivity - 2 + case((register.holder_inside, 0), else_=1)
    band = case(*((danger <= most, place) for place, (_, _, most) in enumerate(DANGERS)), else_=len(DANGERS) - 1)
    unused = ((Grant.last_used_at > unit.now - timedelta(days=until), place) for place, until in enumerate(_UNTIL))
    idle = case((Grant.last_used_at.is_(None), len(IDLES)), *unused, else_=len(IDLES) - 1)
    rows = unit.db.execute(
        select(band.label("danger"), idle.label("idle"), func.count())
        .select_from(Grant)
        .join(Account, Account.id == Grant.account_id)
        .outerjoin(reaches, reaches.c.grant_id == Grant.id)
        .outerjoin(Person, Person.id == Grant.person_id)
        .outerjoin(Team, Team.id == Grant.team_id)
        .where(Grant.state.in_(register.LIVE), register.GRANTS.of(unit.viewer.organisation), unit.sight.grants())
        .group_by("danger", "idle")
    )
    return schemas.RiskMap(
        dangers=[name for name, _, _ in DANGERS],
        idles=[*(name for name, _, _ in IDLES), NEVER],
        cells=[schemas.RiskCell(danger=d, idle=i, count=n) for d, i, n in sorted(rows.all())],
        danger_filters=[_danger_filter(least, most) for _, least, most in DANGERS],
        idle_filters=[*(_idle_filter(unit.now, since, until) for _, since, until in IDLES), "not (last_used_at pr)"],
    )


def _reaches(unit: Unit) -> FromClause:
    """How far grants reach: for all of them at once, or only for those that the viewer sees."""
    held = select(Term.grant_id, func.max(Level.reach).label("reach")).join(Level, Level.id == Term.level_id)
    held = held.group_by(Term.grant_id)
    if unit.sight.everything:
        return held.subquery("reaches")
    return held.where(Term.grant_id == Grant.id).correlate(Grant).lateral("reaches")


def _danger_filter(least: int, most: int) -> str:
    """The filter over grants that selects a range of danger."""
    either = []
    for outside, reach in product((0, 1), Reach):
        fitting = [s for s in (1, 2, 3, 4) if least <= int(reach) + s - 2 + outside <= most]
        if fitting:
            within = f"account.sensitivity ge {fitting[0]} and account.sensitivity le {fitting[-1]}"
            inside = "false" if outside else "true"
            either.append(f'(reach eq "{reach.word}" and {within} and holder.inside eq {inside})')
    return " or ".join(either)


def _idle_filter(now: datetime, since: int, until: int | None) -> str:
    """The filter that selects how long something went unused."""
    parts = [f'last_used_at le "{_stamp(now - timedelta(days=since))}"'] if since else ["last_used_at pr"]
    if until is not None:
        parts.append(f'last_used_at gt "{_stamp(now - timedelta(days=until))}"')
    return " and ".join(parts)


def _stamp(at: datetime) -> str:
    return at.isoformat().replace("+00:00", "Z")


def ends(unit: Unit, since: datetime | None, months: int) -> schemas.Calendar:
    """What ends day by day, in the organisation's time zone: grants, people who leave, offers, rounds due."""
    zone = unit.zone
    if since is not None and not 1970 <= since.year <= LAST_YEAR:
        raise BadInput(
            "Nothing is known of that time.", f"Choose a day from 1970 to {LAST_YEAR}.", {"since": "too far"}
        )
    first = (since or unit.now).astimezone(zone).date()
    begin = datetime.combine(first, time(), zone)
    year, month = divmod(first.year * 12 + first.month - 1 + months, 12)
    end = datetime(year, month + 1, 1, tzinfo=zone)
    found: dict[str, JsonObject] = defaultdict(
        lambda: {"grants": 0, "people": 0, "offers": 0, "rounds": 0, "names": []}
    )
    for kind, name, day, count in _ending(unit, zone, begin, end):
        there = found[day.isoformat()]
        there[kind] += count
        if len(there["names"]) < MOST_NAMES:
            there["names"].append(name)
    return schemas.Calendar(
        since=begin,
        until=end,
        days=[schemas.EndOf.model_validate({"day": day, **rest}) for day, rest in sorted(found.items())],
    )


def _ending(unit: Unit, zone: ZoneInfo, begin: datetime, end: datetime) -> Iterator[tuple[str, str, date, int]]:
    """What ends on which day, a few by name. The last line of a day also counts the grants that are not named."""

    def within(at: SQLColumnExpression[datetime | None]) -> ColumnElement[bool]:
        held: ColumnElement[bool] = (at > begin) & (at <= end)
        return held

    if unit.sight.everything:
        at_large(unit.db)
    for place, name, until, count in unit.db.execute(_grants_ending(unit, zone, within(Term.until))):
        last = place == min(count, MOST_NAMES)
        yield "grants", name, ends_on(until, zone), count - place + 1 if last else 1
    leaving = select(Person.name, Person.leaves_at).where(
        Person.standing == Standing.LEAVING, within(Person.leaves_at), unit.sight.people()
    )
    others: tuple[tuple[str, str, Select[str, datetime | None]], ...] = (
        ("people", "{} leaves", leaving),
        (
            "offers",
            "Offer of {}",
            select(Account.name, Offer.runs_out_at)
            .join(Offer, Offer.account_id == Account.id)
            .where(Offer.state == OfferState.PENDING, within(Offer.runs_out_at), unit.sight.offers()),
        ),
        (
            "rounds",
            "“{}” is due",
            select(Round.name, Round.due_at).where(
                Round.closed_at.is_(None), within(Round.due_at), unit.sight.rounds()
            ),
        ),
    )
    for kind, words, statement in others:
        for name, at in unit.db.execute(statement):
            if at is not None:
                yield kind, words.format(name), ends_on(at, zone), 1


def _grants_ending(unit: Unit, zone: ZoneInfo, within: ColumnElement[bool]) -> Select[int, str, datetime, int]:
    """The first few grants that end on each day, with the number of all of them."""
    day = func.date(func.timezone(zone.key, Term.until) - timedelta(microseconds=1))
    ending = (
        select(
            Grant.person_id,
            Grant.team_id,
            Grant.app_id,
            Grant.holder_account_id,
            Account.name,
            Term.until,
            func.count().over(partition_by=day).label("count"),
            func.row_number().over(partition_by=day, order_by=(Term.until, Account.name, Term.id)).label("place"),
        )
        .select_from(Term)
        .join(Grant, Grant.id == Term.grant_id)
        .join(Account, Account.id == Grant.account_id)
        .where(Grant.state.in_(register.LIVE), within, unit.sight.grants())
        .subquery("ending")
    )
    return (
        select(ending.c.place, register.holder_name + " on " + ending.c.name, ending.c.until, ending.c.count)
        .select_from(ending)
        .outerjoin(Person, Person.id == ending.c.person_id)
        .outerjoin(Team, Team.id == ending.c.team_id)
        .outerjoin(App, App.id == ending.c.app_id)
        .outerjoin(register.holder_account, register.holder_account.id == ending.c.holder_account_id)
        .where(ending.c.place <= MOST_NAMES)
        .order_by(ending.c.until, ending.c.place)
    )
