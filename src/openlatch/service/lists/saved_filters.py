"""Saved filters, one's own or shared, and the mail about them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import cast
from urllib.parse import urlencode
from uuid import UUID

from sqlalchemy import or_, select

from openlatch import schemas
from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, OpenLatchError
from openlatch.json_values import JsonObject
from openlatch.service.lists import register
from openlatch.service.notifications import notices
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import FilterMail, Person, SavedFilter, SignIn

EVERY = {"day": timedelta(days=1), "week": timedelta(days=7)}
MOST_KEPT = 100
MOST_TOLD = 20
# Lists whose filters can be saved: those with a page of their own.
LISTS = (
    "accounts",
    "people",
    "teams",
    "grants",
    "apps",
    "sessions",
    "flags",
    "rounds",
    "revocations",
    "journal",
    "offers",
    "requests",
    "tasks",
    "systems",
    "levels",
)


def every(unit: Unit, of: str | None) -> schemas.FiltersKept:
    """The viewer's saved filters and shared ones, by name; of one list, or of all."""
    seen = or_(SavedFilter.person_id == unit.viewer.person, SavedFilter.is_shared)
    wanted = select(SavedFilter, Person.name).join(Person, Person.id == SavedFilter.person_id).where(seen)
    if of is not None:
        wanted = wanted.where(SavedFilter.of == of)
    mine = select(FilterMail.filter_id, FilterMail.every).where(FilterMail.person_id == unit.viewer.person)
    mailed = dict(unit.db.execute(mine).all())
    rows = unit.db.execute(wanted.order_by(SavedFilter.name, SavedFilter.id)).all()
    return schemas.FiltersKept(filters=[_shown(unit, row, name, mailed.get(row.id)) for row, name in rows])


def _shown(unit: Unit, row: SavedFilter, by: str, mailed: str | None) -> schemas.FilterKept:
    return schemas.FilterKept(
        id=row.id,
        name=row.name,
        list=row.of,
        filter=row.filter,
        search=row.search,
        sort=row.sort,
        is_shared=row.is_shared,
        by=schemas.Named(id=row.person_id, name=by),
        is_mine=row.person_id == unit.viewer.person,
        mail=cast("schemas.MailTimes", mailed or "never"),
        version=row.version,
    )


def keep(unit: Unit, name: str, of: str, query: ListQuery, is_shared: bool) -> schemas.FilterKept:
    """Save a filter by a name. BadInput for one that does not fit its list; Conflict for a name that is taken."""
    person = _person(unit)
    _check(name, of, query)
    count = select(SavedFilter.id).where(SavedFilter.person_id == person)
    if len(unit.db.scalars(count).all()) >= MOST_KEPT:
        raise BadInput(f"You have kept {MOST_KEPT} filters.", "Remove one first.")
    _refuse_same_name(unit, person, of, name)
    row = SavedFilter(
        organisation_id=unit.viewer.organisation,
        person_id=person,
        name=name.strip(),
        of=of,
        filter=query.filter,
        search=query.search,
        sort=query.sort,
        is_shared=is_shared,
    )
    unit.db.add(row)
    unit.db.flush()
    unit.record("filter.kept", "filter", row.id, row.name, of=of, filter=row.filter, shared=is_shared)
    return _shown(unit, row, unit.viewer.name, None)


def change(
    unit: Unit, ident: UUID, name: str, query: ListQuery, is_shared: bool, version: int | None
) -> schemas.FilterKept:
    """Change one of one's own filters; a shared one changes for everybody."""
    row = _own(unit, ident)
    if version is not None and version != row.version:
        raise Conflict("The filter was changed meanwhile.", "Look at it again.")
    _check(name, row.of, query)
    if name.strip() != row.name:
        _refuse_same_name(unit, row.person_id, row.of, name)
    row.name, row.filter, row.search, row.sort = name.strip(), query.filter, query.search, query.sort
    row.is_shared, row.version = is_shared, row.version + 1
    unit.record("filter.changed", "filter", row.id, row.name, of=row.of, filter=row.filter, shared=is_shared)
    return _shown(unit, row, unit.viewer.name, _mail_of(unit, row.id))


def remove(unit: Unit, ident: UUID) -> None:
    """Remove one of one's own filters and its mail."""
    row = _own(unit, ident)
    for mail in unit.db.scalars(select(FilterMail).where(FilterMail.filter_id == row.id)):
        unit.db.delete(mail)
    unit.db.flush()
    unit.db.delete(row)
    unit.record("filter.removed", "filter", row.id, row.name, of=row.of)


def set_mail(unit: Unit, ident: UUID, how_often: str) -> schemas.FilterKept:
    """Set whether a filter's matches are mailed daily, weekly, or not."""
    person = _person(unit)
    seen = or_(SavedFilter.person_id == person, SavedFilter.is_shared)
    row = unit.db.scalars(select(SavedFilter).where(SavedFilter.id == ident, seen)).first()
    if row is None:
        raise NotFound("There is no such filter, or it is somebody else's own.")
    mail = unit.db.scalars(
        select(FilterMail).where(FilterMail.filter_id == ident, FilterMail.person_id == person).with_for_update()
    ).first()
    if mail is not None and how_often == "never":
        unit.db.delete(mail)
    elif mail is not None:
        mail.every = how_often
    elif how_often != "never":
        made = FilterMail(organisation_id=row.organisation_id, filter_id=row.id, person_id=person, every=how_often)
        made.sent_at = unit.now
        unit.db.add(made)
    unit.record("filter.mail_set", "filter", row.id, row.name, every=how_often)
    by = unit.db.get_one(Person, row.person_id).name
    return _shown(unit, row, by, None if how_often == "never" else how_often)


def _person(unit: Unit) -> UUID:
    if unit.viewer.person is None:
        raise NotAllowed("Only somebody who is signed in keeps filters.")
    return unit.viewer.person


def _own(unit: Unit, ident: UUID) -> SavedFilter:
    row = unit.db.get(SavedFilter, ident, with_for_update=True, populate_existing=True)
    if row is None or row.person_id != unit.viewer.person:
        raise NotFound("You have no such filter.", "Only whoever kept a filter can change it.")
    return row


def _mail_of(unit: Unit, ident: UUID) -> str | None:
    mine = select(FilterMail.every).where(FilterMail.filter_id == ident, FilterMail.person_id == unit.viewer.person)
    return unit.db.scalar(mine)


def _check(name: str, of: str, query: ListQuery) -> None:
    if not name.strip():
        raise BadInput("The filter has no name.", "Give it one.", {"name": "is missing"})
    if of not in LISTS:
        raise BadInput(f"No filter can be kept for {of!r}.", f"One of: {', '.join(LISTS)}.", {"list": "unknown"})
    listing, _ = register.LISTS[of]
    listing.checked(query.filter)
    if query.sort and query.sort.removeprefix("-") not in listing.sorts:
        raise BadInput(
            f"{of} can't be sorted by {query.sort!r}.", f"By one of: {', '.join(listing.sorts)}.", {"sort": "unknown"}
        )


def _refuse_same_name(unit: Unit, person: UUID, of: str, name: str) -> None:
    same = select(SavedFilter.id).where(
        SavedFilter.person_id == person, SavedFilter.of == of, SavedFilter.name == name.strip()
    )
    if unit.db.scalar(same) is not None:
        raise Conflict(f"You have a filter “{name.strip()}” there already.", "Change that one, or choose another name.")


# By mail.


def due(unit: Unit) -> Sequence[UUID]:
    """The mails that are due."""
    rows = unit.db.scalars(select(FilterMail).order_by(FilterMail.id)).all()
    return [row.id for row in rows if unit.now - row.sent_at >= EVERY[row.every]]


def send(service: Service, organisation: UUID, ident: UUID) -> bool:
    """Mail the matches of a filter to somebody, as they see them; returns whether there were any.

    Nothing is sent to somebody without a sign-in, or who may not see the list.
    """
    with service.unit(Viewer.itself(organisation)) as unit:
        mail = unit.db.get(FilterMail, ident, with_for_update=True, populate_existing=True)
        if mail is None or unit.now - mail.sent_at < EVERY[mail.every]:
            return False
        mail.sent_at = unit.now
        row, person = unit.db.get_one(SavedFilter, mail.filter_id), unit.db.get_one(Person, mail.person_id)
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == person.id)).first()
        may = sign_in is not None and sign_in.suspended_at is None and person.standing != Standing.LEFT
        if not may or sign_in is None or not (row.is_shared or row.person_id == person.id):
            return False
        viewer = Viewer(organisation, person.name, person.id, sign_in.id, bool(sign_in.administrator))
        query, of, name, address = (
            ListQuery(row.filter, row.search, row.sort, MOST_TOLD, "", True),
            row.of,
            row.name,
            person.address,
        )
    with service.unit(viewer) as unit:
        try:
            page = register.page(unit, of, query)
        except OpenLatchError as error:
            # The list is no longer visible to them, or an attribute no longer exists.
            letter = notices.Letter(f"{name}: can’t be shown", (f"{error.detail} {error.remedy}",))
            notices.write(unit, address, letter)
            return False
        if not page.rows:
            return False
        notices.write(unit, address, _letter(unit, name, of, query, page.rows, page.count or len(page.rows)))
    return True


def _letter(
    unit: Unit, name: str, of: str, query: ListQuery, rows: Sequence[dict[str, object]], count: int
) -> notices.Letter:
    lines = [_line(row) for row in rows]
    if count > len(rows):
        lines.append(f"And {count - len(rows)} more.")
    asked = {k: v for k, v in (("filter", query.filter), ("search", query.search), ("sort", query.sort)) if v}
    link = f"{unit.service.address}/{of}?{urlencode(asked)}"
    return notices.Letter(f"{name}: {count} {of}", (f"What matches “{name}” now:", *lines), link, "Look at them")


def _line(row: JsonObject) -> str:
    """A row of any list as one line."""
    told = (
        row.get("title") or row.get("name") or (row.get("sentence") if "account" not in row or "rule" in row else None)
    )
    if told:
        return str(told)
    pieces = [(row.get(key) or {}).get("name") for key in ("holder", "person", "subject", "account")]
    at: datetime | None = row.get("at")
    return ", ".join([*([f"{at:%Y-%m-%d}"] if at else []), *(str(piece) for piece in pieces if piece)]) or str(
        row["id"]
    )
