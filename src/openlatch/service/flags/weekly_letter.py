"""The weekly letter about flags, to whoever answers for them: what changed since the last one, if anything."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, and_, or_, select, true

from openlatch.core.vocabulary import FlagState, Standing
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Flag, Organisation, Person

AT = time(7)
MOST_NAMED = 12


def next_after(last: datetime, zone: ZoneInfo) -> datetime:
    """The first Monday at seven in the morning in ``zone`` after an instant."""
    local = last.astimezone(zone)
    monday = local.date() + timedelta(days=-local.weekday() % 7)
    found = datetime.combine(monday, AT, zone)
    return (found if found > local else datetime.combine(monday + timedelta(days=7), AT, zone)).astimezone(UTC)


@dataclass(frozen=True, slots=True)
class Changes:
    """What changed about the flags that somebody answers for."""

    raised: Sequence[Flag]
    worse: Sequence[Flag]
    back: Sequence[Flag]
    cleared: int

    def __bool__(self) -> bool:
        return bool(self.raised or self.worse or self.back or self.cleared)

    @property
    def subject(self) -> str:
        """The counts, in one line."""
        counts = ((len(self.raised), "new"), (len(self.worse), "worse"), (len(self.back), "open again"))
        told = [f"{n} {word}" for n, word in (*counts, (self.cleared, "cleared")) if n]
        return f"Flags this week: {', '.join(told)}"

    @property
    def paragraphs(self) -> tuple[str, ...]:
        """The worst of each, in sentences."""
        told = []
        for flags, heading in ((self.raised, "New"), (self.worse, "Worse"), (self.back, "Open again")):
            if flags:
                told.append(f"{heading}:")
                told += [f"{flag.score}  {flag.sentence}" for flag in flags[:MOST_NAMED]]
                if len(flags) > MOST_NAMED:
                    told.append(f"And {len(flags) - MOST_NAMED} more.")
        if self.cleared:
            told.append(f"{self.cleared} {'flag has' if self.cleared == 1 else 'flags have'} cleared.")
        return tuple(told)


def changes(unit: Unit, which: ColumnElement[bool], since: datetime) -> Changes:
    """What changed about some flags from an instant until now, the worst first."""

    def within(at: datetime | None) -> bool:
        return at is not None and since <= at < unit.now

    times = (Flag.raised_at, Flag.worse_at, Flag.cleared_at, Flag.accepted_until)
    rows = unit.db.scalars(
        select(Flag)
        .where(
            which,
            or_(*(and_(at >= since, at < unit.now) for at in times)),
        )
        .order_by(Flag.score.desc(), Flag.id)
    ).all()
    still = [flag for flag in rows if flag.state == FlagState.OPEN]
    fresh = [flag for flag in still if within(flag.raised_at)]
    worse = [flag for flag in still if flag.raised_at < since and within(flag.worse_at)]
    known = {flag.id for flag in (*fresh, *worse)}
    back = [flag for flag in still if flag.id not in known]
    # Flags raised and cleared within the week are left out.
    cleared = sum(flag.state == FlagState.CLEARED and flag.raised_at < since for flag in rows)
    return Changes(fresh, worse, back, cleared)


def send_when_due(unit: Unit) -> int:
    """Write the letters of the week when it is time; returns how many. They are sent once, even after a downtime."""
    row = unit.db.get_one(Organisation, unit.viewer.organisation)
    if row.digest_at is not None and unit.now < next_after(row.digest_at, ZoneInfo(row.time_zone)):
        return 0
    unit.db.refresh(row, with_for_update=True)
    since = row.digest_at
    if since is not None and unit.now < next_after(since, ZoneInfo(row.time_zone)):
        return 0
    row.digest_at = unit.now
    return 0 if since is None else _send(unit, since)


def _send(unit: Unit, since: datetime) -> int:
    administrators = notices.administrators(unit)
    owners = set(unit.db.scalars(select(Account.owner_id).where(Account.owner_id.is_not(None)).distinct()))
    wanted = select(Person).where(Person.id.in_({*administrators, *owners}), Person.wants_digest)
    sent = 0
    for person in unit.db.scalars(wanted.where(Person.standing != Standing.LEFT).order_by(Person.id)):
        found = changes(unit, _answered_for(person.id, person.id in administrators), since)
        if found:
            link = f"{unit.service.address}/flags"
            letter = notices.Letter(found.subject, found.paragraphs, link, "Look at the flags")
            notices.write(unit, person.address, letter)
            sent += 1
    unit.record("digest.sent", "organisation", unit.viewer.organisation, "Flags of the week", letters=sent)
    return sent


def _answered_for(person: UUID, administrator: bool) -> ColumnElement[bool]:
    if administrator:
        return true()
    owned = select(Account.id).where(Account.owner_id == person)
    return or_(Flag.account_id.in_(owned), Flag.assigned_to_id == person)


def set_wanted(unit: Unit, wanted: bool) -> None:
    """Whether the viewer gets the weekly letter."""
    assert unit.viewer.person is not None
    person = unit.db.get_one(Person, unit.viewer.person, with_for_update=True)
    person.wants_digest = wanted
    unit.record("digest.wanted" if wanted else "digest.unwanted", "person", person.id, person.name)
