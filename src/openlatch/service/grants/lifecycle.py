"""Grants: building terms from a choice, and bringing a grant into force.

Offers, requests, changes and successions all give access through the functions here.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session as Db

from openlatch import schemas
from openlatch.core import register as core
from openlatch.core.checks import require_count
from openlatch.core.offers.wording import DAYS, hours_in_words
from openlatch.core.states import GRANTS, move
from openlatch.core.time_windows import WeeklyHours, Window, end_given, end_in_words
from openlatch.core.vocabulary import GrantState, HolderKind, Owed, Reach
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import hand_tasks
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.tables import Account, App, Grant, Level, Person, Resource, ResourceGroup, System, Team, Term

MOST_TERMS = 200


@dataclass(frozen=True, slots=True)
class Single:
    """One permission by its key, optionally with an end of its own."""

    key: str
    until: datetime | None = None
    last_day: date | None = None


@dataclass(frozen=True, slots=True)
class Choice:
    """What somebody chose to give: levels, single permissions, parts (none: the whole account), time, hours."""

    levels: tuple[UUID, ...] = ()
    permissions: tuple[Single, ...] = ()
    parts: tuple[UUID, ...] = ()
    since: datetime | None = None
    until: datetime | None = None
    last_day: date | None = None
    hours: WeeklyHours | None = None


def account_of(unit: Unit, ident: UUID, lock: bool = False) -> Account:
    """An account's row. NotFound when there is none."""
    account = unit.db.get(Account, ident, with_for_update=lock, populate_existing=lock)
    if account is None:
        raise NotFound("There is no such account, or you may not see it.")
    return account


def end_of(account: Account, until: datetime | None, last_day: date | None, now: datetime) -> datetime | None:
    """The intended end: an instant, or a last day, which includes that day in the account's time zone."""
    end = end_given(until, last_day, ZoneInfo(account.time_zone))
    if end is not None and end <= now:
        raise BadInput("That end has passed.", "Choose a later one.", {"until": "has passed"})
    return end


def weekly_hours(days: Sequence[int], begins: str, ends: str) -> WeeklyHours:
    """Weekly hours from input: days counted from Monday = 0, times like 08:00."""
    if not days or not all(0 <= day < len(DAYS) for day in days):
        raise BadInput("The days of the week are 0 (Monday) to 6.", "Give at least one.", {"hours": "bad days"})
    try:
        first, last = time.fromisoformat(begins), time.fromisoformat(ends)
    except ValueError:
        raise BadInput("The hours can't be read.", "Write them as 08:00.", {"hours": "bad times"}) from None
    if first == last:
        raise BadInput("The hours are empty.", "Let them end later than they begin.", {"hours": "are empty"})
    return WeeklyHours(frozenset(days), first, last)


def stored_hours(hours: WeeklyHours | None) -> JsonObject | None:
    """Weekly hours as they are stored."""
    if hours is None:
        return None
    return {"days": sorted(hours.days), "begins": f"{hours.begins:%H:%M}", "ends": f"{hours.ends:%H:%M}"}


def terms_from(unit: Unit, account: Account, choice: Choice) -> list[core.Term]:
    """The terms of a choice. BadInput when it names nothing, or something that the account's system does not have."""
    if not choice.levels and not choice.permissions:
        raise BadInput("No level and no permission is chosen.", "Choose at least one.", {"levels": "are missing"})
    until = end_of(account, choice.until, choice.last_day, unit.now)
    since = choice.since
    if since is not None and since < unit.now:
        since = None
    if since is not None and until is not None and until <= since:
        raise BadInput("The window ends before it begins.", "Choose a later end.", {"until": "is not after since"})
    parts = _parts(unit, account, choice.parts)
    found = [(mapping.level_value(_level(unit, account, i)), until) for i in choice.levels]
    for single in choice.permissions:
        level = mapping.level_value(single_level(unit, account.system_id, single.key))
        own = end_of(account, single.until, single.last_day, unit.now)
        found.append((level, own if own is not None else until))
    terms = [core.Term(level, Window(since, end), choice.hours, part) for level, end in found for part in parts]
    require_count(len(terms), MOST_TERMS, "terms", "permissions", least=0)
    return terms


def _level(unit: Unit, account: Account, ident: UUID) -> Level:
    level = unit.db.get(Level, ident)
    if level is None or level.system_id != account.system_id or level.archived_at is not None:
        raise BadInput("The account's system has no such level.", "Choose one of its levels.", {"levels": "unknown"})
    return level


def _parts(unit: Unit, account: Account, ids: Sequence[UUID]) -> list[core.Part | None]:
    if not ids:
        return [None]
    known = set(unit.db.scalars(select(Resource.id).where(Resource.id.in_(ids), Resource.account_id == account.id)))
    known |= set(
        unit.db.scalars(
            select(ResourceGroup.id).where(ResourceGroup.id.in_(ids), ResourceGroup.account_id == account.id)
        )
    )
    if known != set(ids):
        raise BadInput("The account has no such part.", "Choose from its resources.", {"parts": "unknown"})
    parts = mapping.parts_of(unit.db, ids)
    return [parts[i] for i in dict.fromkeys(ids)]


def permissions_of(unit: Unit, system: UUID) -> dict[str, core.Permission]:
    """Every permission of a system, by key: those of its levels."""
    found: dict[str, core.Permission] = {}
    for level in unit.db.scalars(
        select(Level).where(Level.system_id == system).order_by(Level.single.desc(), Level.id)
    ):
        for permission in mapping.level_value(level).permissions:
            found.setdefault(permission.key, permission)
    return found


def single_level(unit: Unit, system: UUID, key: str) -> Level:
    """The level of one permission alone. BadInput when the system has no permission of that key."""
    row = unit.db.scalars(select(Level).where(Level.system_id == system, Level.key == f"only:{key}")).first()
    if row is not None:
        return row
    permission = permissions_of(unit, system).get(key)
    if permission is None:
        raise BadInput(
            f"The account's system has no permission {key!r}.", "Choose one of its permissions.", {"permissions": key}
        )
    held = {"key": permission.key, "sentence": permission.sentence, "reach": permission.reach.word}
    row = Level(
        organisation_id=unit.viewer.organisation,
        system_id=system,
        key=f"only:{key}",
        name=permission.sentence,
        sentence=f"Only: {permission.sentence}.",
        reach=int(permission.reach),
        permissions=[held],
        single=True,
    )
    unit.db.add(row)
    unit.db.flush()
    return row


def choice_of(terms: Sequence[core.Term], db: Db) -> schemas.Chosen:
    """The choice that terms came from, to fill a form."""
    keys = dict(
        db.execute(select(Level.id, Level.key).where(Level.id.in_({t.level.id for t in terms}), Level.single)).all()
    )
    ends = {t.window.until for t in terms if t.level.id not in keys} or {t.window.until for t in terms}
    shared = None if None in ends else max((end for end in ends if end), default=None)
    singles: dict[str, datetime | None] = {}
    for term in terms:
        if term.level.id in keys:
            singles[str(keys[term.level.id]).removeprefix("only:")] = term.window.until
    hours = next((t.hours for t in terms if t.hours), None)
    return schemas.Chosen(
        levels=list(dict.fromkeys(t.level.id for t in terms if t.level.id not in keys)),
        permissions=[
            schemas.ChosenPermission(key=key, until=until if until != shared else None)
            for key, until in singles.items()
        ],
        parts=list(dict.fromkeys(t.part.id for t in terms if t.part)),
        since=min((t.window.since for t in terms if t.window.since), default=None),
        until=shared,
        hours=stored_hours(hours),
    )


def new_grant(
    unit: Unit, account: Account, holder: core.Holder, terms: Sequence[core.Term], state: GrantState, **more: object
) -> Grant:
    """Write a grant with its terms. Conflict for an account on which nobody is given anything."""
    refuse_closed(account)
    return write_grant(unit, account, holder, terms, state, **more)


def refuse_closed(account: Account) -> None:
    """Conflict for an account that is closed to sharing, or archived."""
    if account.is_closed or account.archived_at is not None:
        how = "archived" if account.archived_at is not None else "closed to sharing"
        raise Conflict(f"{account.name} is {how}.", "Open it again first: edit the account.")


def write_grant(
    unit: Unit, account: Account, holder: core.Holder, terms: Sequence[core.Term], state: GrantState, **more: object
) -> Grant:
    """Write a grant of access that already exists, or existed: the system has nothing to do."""
    columns = {HolderKind.PERSON: "person_id", HolderKind.TEAM: "team_id", HolderKind.APP: "app_id"}
    column = columns.get(holder.kind, "holder_account_id")
    row = Grant(
        organisation_id=unit.viewer.organisation,
        account_id=account.id,
        state=state,
        given_by_id=unit.viewer.person,
        given_at=unit.now,
        **{column: holder.id},
        **more,
    )
    unit.db.add(row)
    unit.db.flush()
    write_terms(unit, row.id, terms)
    return row


def taken_over(terms: Iterable[core.Term], now: datetime) -> list[core.Term]:
    """Terms as they are held from now on: begun terms begin now, and those that are over are left out."""
    return [
        t._replace(window=Window(t.window.since if t.window.since and t.window.since > now else None, t.window.until))
        for t in terms
        if t.window.until is None or t.window.until > now
    ]


def write_terms(unit: Unit, grant: UUID, terms: Sequence[core.Term]) -> None:
    """Write the terms of a grant that has none."""
    for term in terms:
        part = term.part
        whole_resource = part is not None and part.resources == {part.id}
        unit.db.add(
            Term(
                organisation_id=unit.viewer.organisation,
                grant_id=grant,
                level_id=term.level.id,
                resource_id=part.id if part and whole_resource else None,
                group_id=part.id if part and not whole_resource else None,
                since=term.window.since,
                until=term.window.until,
                hours=stored_hours(term.hours),
            )
        )
    unit.db.flush()


def set_state(grant: Grant, then: GrantState) -> None:
    """Move a grant to an allowed state, and raise its version. Conflict for any other state."""
    grant.state = move(GRANTS, "grant", GrantState(grant.state), then)
    grant.version += 1


def owe(unit: Unit, grant: Grant, owed: Owed) -> None:
    """Record pending provisioning: for the worker, or for a person where nobody else can do it."""
    account = account_of(unit, grant.account_id)
    system = unit.db.get_one(System, account.system_id)
    if not is_changed_by_us(unit, system):
        hand_tasks.ask(unit, grant, account, owed, _by_hand(unit, grant, account, system, owed))
        return
    grant.owed, grant.owed_since, grant.owed_answer = Owed.TAKE if owed is Owed.TAKE else Owed.GIVE, unit.now, ""
    grant.owed_next_try_at = unit.now
    unit.wake("settle", grant=grant.id)


def is_changed_by_us(unit: Unit, system: System) -> bool:
    """Whether the worker can change access in a system; otherwise a person does it by hand."""
    return system.kind in unit.service.adapters and system.has_secret


def _by_hand(unit: Unit, grant: Grant, account: Account, system: System, owed: Owed) -> str:
    """What somebody has to do in a system, as one would ask a colleague."""
    name = holder_name(unit, grant)
    if owed is Owed.TAKE:
        return f"Take away {name}’s access to {account.name} in {system.name} for now."
    terms = terms_in_words(mapping.terms_of(unit.db, [grant.id]).get(grant.id, []), ZoneInfo(account.time_zone))
    if owed is Owed.CHANGE:
        return f"Change {name}’s access to {account.name} in {system.name} to {terms}."
    return f"Give {name} access to {account.name} in {system.name}: {terms}."


def enter_into_force(unit: Unit, grant: Grant, owed: Owed = Owed.GIVE) -> None:
    """What follows once a grant gives rights: provisioning, flags, notices to stewards."""
    owe(unit, grant, owed)
    unit.db.flush()
    evaluate_flags.evaluate(unit, grants=[grant.id])
    terms = mapping.terms_of(unit.db, [grant.id]).get(grant.id, [])
    if any(term.level.reach is Reach.STEWARD for term in terms):
        name, place = holder_name(unit, grant), account_of(unit, grant.account_id).name
        giver = unit.db.get(Person, grant.given_by_id) if grant.given_by_id else None
        others = notices.stewards(unit, grant.account_id) - {grant.person_id, grant.given_by_id}
        by = giver.name if giver else "Open Latch"
        sentence = f"{by} gave {name} access to {place} by which one decides who gets in there."
        notices.tell_and_write(unit, others, "steward", sentence, f"/accounts/{grant.account_id}")


def holder_name(unit: Unit, grant: Grant) -> str:
    """The name of a grant's holder."""
    tables: JsonObject = {"person": Person, "team": Team, "app": App, "account": Account}
    return str(unit.db.get_one(tables[grant.holder_kind], grant.holder_id).name)


def terms_in_words(terms: Sequence[core.Term], zone: ZoneInfo) -> str:
    """Terms in words: levels, parts, time, hours."""
    levels = list(dict.fromkeys(f"“{t.level.name}”" for t in terms))
    parts = list(dict.fromkeys(t.part.name for t in terms if t.part))
    told = " and ".join(levels) + (f" on {', '.join(parts)}" if parts else "")
    sinces = {t.window.since for t in terms if t.window.since}
    untils = {t.window.until for t in terms}
    if sinces:
        told += f", from {min(sinces).astimezone(zone):%-d %B %Y %H:%M}"
    if untils == {None}:
        told += ", without an end"
    elif None not in untils:
        last = max(u for u in untils if u is not None)
        told += f", {end_in_words(last, zone)}"
    hours = next((t.hours for t in terms if t.hours), None)
    return told + (f", {hours_in_words(hours)}" if hours else "")
