"""Figures over time for whoever sees everything, and the same as a file."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from statistics import median
from typing import TypeVar
from urllib.parse import quote
from uuid import UUID

from openlatch import schemas
from openlatch.core.files.csv_safety import guarded
from openlatch.core.trends import Period, Span, periods
from openlatch.schemas import Measure, Move, TrendPoint
from openlatch.service.unit import Unit
from openlatch.store import archive
from openlatch.store.archive import Which
from openlatch.store.database import at_large
from openlatch.store.lists import register
from openlatch.store.trends import ACTIONS, Archived, Confirmed, Departure, Figures, Moved, Reviewed, Unrecorded

Row = TypeVar("Row", Moved, Unrecorded, Reviewed)

MOST_NAMED = 4
DAY_SECONDS = 86_400


def page(unit: Unit, query: schemas.TrendsQuery) -> schemas.Trends:
    """The figures of each period. NotAllowed for whoever does not see everything; BadInput for days that do not fit."""
    unit.sight.require_administrator()
    assert unit.viewer.organisation is not None
    spans = periods(query.since, query.until, Span(query.span), unit.zone, unit.now)
    figures = Figures(at_large(unit.db), unit.viewer.organisation, spans, _archived(unit, spans))
    return schemas.Trends(
        span=query.span,
        time_zone=unit.zone.key,
        known_since=figures.begins(),
        points=list(_Points(figures, spans).all()),
    )


def _archived(unit: Unit, spans: Sequence[Period]) -> Archived:
    """What of it is in the archive. ArchiveDown when that can't be read."""
    archive.hold(unit.db, archive.JOURNAL)
    parts = archive.parts_of(unit.db, archive.JOURNAL)
    versions = archive.versions_since(unit.db, unit.service.archive, spans[0].ends)
    met: set[tuple[str, str]] = set()
    told = []
    for entry in unit.service.archive.entries(parts, Which(actions=ACTIONS)):
        subject = entry["subject"]
        one = (entry["action"], subject["id"])
        if entry["action"] == "system.read" and one in met:
            continue
        met.add(one)
        named = {f"subject_{name}": subject[name] for name in ("kind", "id", "name")}
        told.append({**entry, **named, "account_id": subject["account"]})
    unrecorded = [
        {"account_id": one.row["account_id"], "since": one.since, "until": one.until}
        for one in versions.all_of("grants")
        if not one.row["recorded"] and one.row["state"] in register.LIVE
    ]
    return Archived(parts[0].since if parts else None, (parts[-1].last or 0) if parts else 0, told, unrecorded)


class _Points:
    """The points of all periods, numbered from 1 as the figures are."""

    def __init__(self, figures: Figures, spans: Sequence[Period]) -> None:
        self._spans = spans
        self._begins = figures.begins()
        self._flags = _by_period(figures.flags())
        self._exposures = _by_period(figures.exposures())
        self._unrecorded = _by_period(figures.unrecorded(register.LIVE))
        self._reads = figures.first_reads()
        self._departures = figures.departures(register.LIVE)
        self._confirmed = {row.period: row for row in figures.confirmed()}
        self._waiting = {row.period: row.count for row in figures.waiting()}
        self._reviewed = _by_period(figures.reviewed())

    def all(self) -> Iterable[TrendPoint]:
        """Each period's point. What is open adds up from before the first period on."""
        risk = flags = exposures = 0
        for number in range(len(self._spans) + 1):
            risk += sum(row.risk for row in self._flags[number])
            flags += sum(row.opened - row.closed for row in self._flags[number])
            exposures += sum(row.opened - row.closed for row in self._exposures[number])
            if number:
                yield self._point(number, risk, flags, exposures)

    def _point(self, number: int, risk: int, flags: int, exposures: int) -> TrendPoint:
        span = self._spans[number - 1]
        is_known = self._begins is not None and self._begins < span.ends
        over = self._over_within(span)
        still = [one for one in self._departures if one.at < span.ends and not _is_over(one, span)]
        confirmed, reviewed = self._confirmed.get(number), self._reviewed[number]
        return TrendPoint(
            first=span.first,
            last=span.last,
            begins=span.begins,
            ends=span.ends,
            risk=risk if is_known else None,
            flags=flags if is_known else None,
            exposures=exposures if is_known else None,
            unrecorded=self._in_systems(number, span) if is_known else None,
            departures=sum(span.begins <= one.at < span.ends for one in self._departures),
            departures_over=len(over),
            departure_days=round(median(map(_days, over)), 2) if over else None,
            departures_open=len(still),
            confirmed=confirmed.count if confirmed else 0,
            confirm_hours=round(confirmed.middle, 2) if confirmed else None,
            confirm_hours_slow=round(confirmed.slow, 2) if confirmed else None,
            waiting=self._waiting.get(number, 0),
            due_items=sum(row.items for row in reviewed),
            decided_in_time=sum(row.in_time for row in reviewed),
            moves=[
                *_risk_moves(self._flags[number]),
                *_departure_moves(over, still),
                *_confirmed_moves(confirmed),
                *_review_moves(reviewed),
                *_exposure_moves(self._exposures[number]),
                *_unrecorded_moves(self._unrecorded[number - 1], self._unrecorded[number], number),
            ],
        )

    def _in_systems(self, number: int, span: Period) -> list[schemas.UnrecordedIn] | None:
        """The systems that had been read by the end of the period; None when none had."""
        names: dict[UUID | None, str] = {one.system: one.name for one in self._reads if one.at < span.ends}
        counts = {row.system: row.count for row in self._unrecorded[number]}
        names |= {row.system: row.name for row in self._unrecorded[number]}
        found = [
            schemas.UnrecordedIn(system=schemas.Named(id=system, name=name), count=counts.get(system, 0))
            for system, name in names.items()
            if system is not None
        ]
        return found or None

    def _over_within(self, span: Period) -> list[Departure]:
        return [
            one
            for one in self._departures
            if one.is_over and one.confirmed_at is not None and span.begins <= one.confirmed_at < span.ends
        ]


def _by_period(rows: Iterable[Row]) -> defaultdict[int, list[Row]]:
    found: defaultdict[int, list[Row]] = defaultdict(list)
    for row in rows:
        found[row.period].append(row)
    return found


def _is_over(one: Departure, span: Period) -> bool:
    return one.is_over and one.confirmed_at is not None and one.confirmed_at < span.ends


def _days(one: Departure) -> float:
    assert one.confirmed_at is not None
    return (one.confirmed_at - one.at).total_seconds() / DAY_SECONDS


def _both(opened: int, closed: int, up: str, down: str) -> str:
    told = [f"{count} {word}" for count, word in ((opened, up), (closed, down)) if count]
    return ", ".join(told)


def _risk_moves(rows: Iterable[Moved]) -> list[Move]:
    """The rules that moved the risk most."""
    moved = sorted((row for row in rows if row.risk), key=lambda row: -abs(row.risk))
    return [
        Move(
            measure=Measure.RISK,
            sentence=f"{row.name}: {_both(row.opened, row.closed, 'opened', 'cleared or accepted') or 'worse'}, "
            f"risk {row.risk:+d}",
            page=_flags_of(row.key),
        )
        for row in moved[:MOST_NAMED]
    ]


def _flags_of(rule: object) -> str:
    asked = f'rule eq "{rule}"'
    return f"/flags?filter={quote(asked)}" if rule else "/flags"


def _departure_moves(over: Sequence[Departure], still: Sequence[Departure]) -> list[Move]:
    slow = sorted(over, key=_days, reverse=True)
    told = [
        (one.person, f"{one.name}: all confirmed as gone after {_in_days(_days(one))}") for one in slow[:MOST_NAMED]
    ]
    told += [(one.person, f"{one.name}: not all confirmed as gone yet") for one in still[:MOST_NAMED]]
    return [Move(measure=Measure.DEPARTURES, sentence=words, page=f"/people/{who}/leaving") for who, words in told]


def _in_days(days: float) -> str:
    if days < 1 / 24:
        return f"{max(1, round(days * 24 * 60))} min"
    if days < 1:
        return f"{days * 24:.1f} hours"
    return "1 day" if round(days, 1) == 1 else f"{days:.1f} days"


def _confirmed_moves(confirmed: Confirmed | None) -> list[Move]:
    if confirmed is None:
        return []
    words = f"{confirmed.count} confirmed; the slowest, {confirmed.slowest}, after {_in_days(confirmed.most / 24)}"
    return [Move(measure=Measure.CONFIRMED, sentence=words, page="/revocations")]


def _review_moves(rows: Sequence[Reviewed]) -> list[Move]:
    return [
        Move(
            measure=Measure.REVIEWED,
            sentence=f"{row.name}: {row.in_time} of {row.items} decided by the due date",
            page=f"/rounds/{row.round}",
        )
        for row in sorted(rows, key=lambda row: row.in_time - row.items)[:MOST_NAMED]
    ]


def _exposure_moves(rows: Iterable[Moved]) -> list[Move]:
    moved = sorted((row for row in rows if row.opened or row.closed), key=lambda row: -(row.opened + row.closed))
    return [
        Move(
            measure=Measure.EXPOSURES,
            sentence=f"{row.name}: {_both(row.opened, row.closed, 'found', 'gone')}",
            page=f"/accounts/{row.key}",
        )
        for row in moved[:MOST_NAMED]
    ]


def _unrecorded_moves(before: Sequence[Unrecorded], after: Sequence[Unrecorded], number: int) -> list[Move]:
    """What changed from one end to the next, by system; nothing for the first period, whose start is not counted."""
    if number == 1:
        return []
    names: dict[UUID | None, str] = {row.system: row.name for row in (*before, *after)}
    was, now = ({row.system: row.count for row in rows} for rows in (before, after))
    changes = [(names[key], was.get(key, 0), now.get(key, 0)) for key in names]
    changed = sorted((one for one in changes if one[1] != one[2]), key=lambda one: -abs(one[2] - one[1]))
    return [
        Move(measure=Measure.UNRECORDED, sentence=f"{name}: from {old} to {new}", page="/drift")
        for name, old, new in changed[:MOST_NAMED]
    ]


Cell = Callable[[TrendPoint], object]
_COLUMNS: tuple[tuple[str, Cell], ...] = (
    ("first_day", lambda point: point.first),
    ("last_day", lambda point: point.last),
    ("open_risk", lambda point: point.risk),
    ("open_flags", lambda point: point.flags),
    ("people_who_left", lambda point: point.departures),
    ("departures_confirmed_over", lambda point: point.departures_over),
    ("median_days_to_confirmed_gone", lambda point: point.departure_days),
    ("departures_not_over", lambda point: point.departures_open),
    ("revocations_confirmed", lambda point: point.confirmed),
    ("median_hours_to_confirmed", lambda point: point.confirm_hours),
    ("ninth_decile_hours_to_confirmed", lambda point: point.confirm_hours_slow),
    ("revocations_not_over", lambda point: point.waiting),
    ("review_items_due", lambda point: point.due_items),
    ("review_items_decided_in_time", lambda point: point.decided_in_time),
    ("exposures", lambda point: point.exposures),
)


def write_csv(trends: schemas.Trends) -> str:
    """The figures as CSV (RFC 4180): a line for each period, a column for each system's unrecorded access."""
    systems = {one.system.id: one.system.name for point in trends.points for one in point.unrecorded or ()}
    held = io.StringIO()
    writer = csv.writer(held)
    writer.writerow([*(name for name, _ in _COLUMNS), *(guarded(f"unrecorded: {name}") for name in systems.values())])
    for point in trends.points:
        counts = None if point.unrecorded is None else {one.system.id: one.count for one in point.unrecorded}
        cells = [*(of(point) for _, of in _COLUMNS), *(None if counts is None else counts.get(s) for s in systems)]
        writer.writerow(["" if cell is None else str(cell) for cell in cells])
    return held.getvalue()


def last_month(unit: Unit) -> schemas.Trends:
    """The two calendar months before the present one, for the monthly letter."""
    first = unit.now.astimezone(unit.zone).date().replace(day=1)
    until = first.fromordinal(first.toordinal() - 1)
    since = until.replace(day=1).fromordinal(until.replace(day=1).toordinal() - 1)
    return page(unit, schemas.TrendsQuery(since=since, until=until, span="month"))
