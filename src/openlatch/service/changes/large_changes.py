"""Changes of more grants than fit into one call: requested by a call, made by the worker in slices.

Each slice is one transaction that also stores the progress, so nothing is done twice when a process dies, and the next
one continues from there. A preview goes the same way and rolls everything back.
"""

from __future__ import annotations

from dataclasses import asdict, replace
from datetime import date, datetime, timedelta
from typing import cast
from uuid import UUID

from sqlalchemy import func, or_, select
from sqlalchemy.exc import DBAPIError

from openlatch import schemas
from openlatch.core.checks import require_words
from openlatch.core.vocabulary import LargeChangeState
from openlatch.errors import Collision, Conflict, NotFound, OpenLatchError, RegisterDown, SystemDown, TooMany
from openlatch.json_values import JsonObject, JsonView
from openlatch.service import locks
from openlatch.service.canonical_json import jsonable
from openlatch.service.changes import changes
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.database import alone
from openlatch.store.tables import Grant, LargeChange, SignIn

MOST = 100_000
# Grants in one transaction, which bounds how long others wait.
SLICE = 50
# Stored lines of each kind; all are counted.
MOST_LINES = 500
# Changes of one person running at once, so that they don't delay others'.
MOST_AT_ONCE = 2
KEPT_FOR = timedelta(days=30)
SHOWN_FOR = timedelta(days=1)
MOST_SHOWN = 5
GOING_ON = ("waiting", "under_way")


def ask(unit: Unit, change: Change, only_preview: bool, seen: UUID | None) -> schemas.LargeChangePage:
    """Request a change, or its preview; returns its progress.

    With ``seen`` it concerns exactly the grants of a preview, as they were then; those changed since are refused one by
    one. Carrying out needs a fresh proof. BadInput when nothing matches, or too many.
    """
    mine = select(func.count()).where(LargeChange.asked_by_id == unit.viewer.person, LargeChange.state.in_(GOING_ON))
    if (unit.db.scalar(mine) or 0) >= MOST_AT_ONCE:
        raise TooMany("Your last large changes are still being made.", "Wait for one of them, or stop it.", 30)
    if not only_preview:
        require_words(change.reason, "A change needs a reason.")
        unit.require_proof("A change of many grants")
    if seen is None:
        ids = changes.selection(unit, change, MOST)
        versions = dict(unit.db.execute(select(Grant.id, Grant.version).where(Grant.id.in_(ids))).all())
        versions |= change.versions
    else:
        before = _found(unit, seen)
        asked = _written(changes.unexplained(change))
        if before.state != LargeChangeState.DONE or not before.only_preview or before.wish != asked:
            raise Conflict("That is not a preview of this change, or it has not ended.", "Wait for it, or make one.")
        ids, versions = list(before.grants), {UUID(k): v for k, v in before.versions.items()}
    change = changes.unexplained(change) if only_preview else change
    row = LargeChange(
        organisation_id=unit.viewer.organisation,
        asked_by_id=unit.viewer.person,
        asked_by_name=unit.viewer.name,
        only_preview=only_preview,
        wish=_written(change),
        grants=ids,
        versions={str(ident): version for ident, version in versions.items()},
        state=LargeChangeState.WAITING,
    )
    unit.db.add(row)
    unit.db.flush()
    if not only_preview:
        unit.record("change.begun", "change", row.id, change.kind, reason=change.reason.strip(), grants=len(ids))
    unit.announce("change")
    unit.wake("change_many", change=row.id)
    return shown(row)


def one(unit: Unit, ident: UUID) -> schemas.LargeChangePage:
    """The progress of a change. NotFound except for whoever asked for it and administrators."""
    return shown(_found(unit, ident))


def recent(unit: Unit) -> list[schemas.LargeChangePage]:
    """Changes that go on, or ended within a day, the newest first, without their lines: one's own, or everybody's for
    administrators. So one that somebody has left is found again.
    """
    over = LargeChange.ended_at > unit.now - SHOWN_FOR
    wanted = select(LargeChange).where(~LargeChange.only_preview, or_(LargeChange.state.in_(GOING_ON), over))
    if not unit.sight.everything:
        wanted = wanted.where(LargeChange.asked_by_id == unit.viewer.person)
    rows = unit.db.scalars(wanted.order_by(LargeChange.created_at.desc()).limit(MOST_SHOWN))
    return [shown(row).model_copy(update={"lines": []}) for row in rows]


def stop(unit: Unit, ident: UUID) -> schemas.LargeChangePage:
    """Stop a change; what was done stays."""
    row = _found(unit, ident, lock=True)
    if row.state not in GOING_ON:
        raise Conflict("It has ended already.", "There is nothing to stop.")
    _end(unit, row, "stopped")
    return shown(row)


def shown(row: LargeChange) -> schemas.LargeChangePage:
    """A change as an answer: progress, results, and the stored lines."""
    return schemas.LargeChangePage(
        id=row.id,
        kind=row.wish["kind"],
        only_preview=row.only_preview,
        state=cast("schemas.LargeChangeState", row.state),
        grants=len(row.grants),
        done=row.done,
        changed=row.changed,
        refused=row.done - row.changed,
        lines=row.lines,
        asked_by=row.asked_by_name,
        asked_at=row.created_at,
        ended_at=row.ended_at,
        problem=row.problem,
    )


def _found(unit: Unit, ident: UUID, lock: bool = False) -> LargeChange:
    wanted = select(LargeChange).where(LargeChange.id == ident)
    if not unit.sight.everything:
        wanted = wanted.where(LargeChange.asked_by_id == unit.viewer.person)
    row = unit.db.scalars(wanted.with_for_update() if lock else wanted).first()
    if row is None:
        raise NotFound("There is no such change, or it is not yours.")
    return row


# By the worker.


def going_on(unit: Unit) -> list[UUID]:
    """Changes that are not finished."""
    return list(unit.db.scalars(select(LargeChange.id).where(LargeChange.state.in_(GOING_ON)).order_by(LargeChange.id)))


def carry_on(service: Service, organisation: UUID, ident: UUID) -> None:
    """Continue a change to its end. A second worker leaves it to the first."""
    with alone(service.engine, f"change {ident}") as only_us:
        try:
            while only_us and _slice(service, organisation, ident):
                pass
        except (Collision, RegisterDown, SystemDown, DBAPIError):
            # A collision, or the database was lost: the next run continues from there.
            raise
        except Exception:
            # Would be retried for ever otherwise. What was done stays, and whoever asked is notified.
            with service.unit(Viewer.itself(organisation)) as unit:
                row = unit.db.get_one(LargeChange, ident, with_for_update=True)
                _end(unit, row, "failed", "It broke off; the log of the worker says why.")
            raise


def _slice(service: Service, organisation: UUID, ident: UUID) -> bool:
    """Handle the next few grants as whoever asked; returns whether there are more."""
    with service.unit(Viewer.itself(organisation)) as unit:
        row = unit.db.get(LargeChange, ident)
        if row is None or row.state not in GOING_ON:
            return False
        viewer = _asker(unit, row)
        if viewer is None:
            _end(
                unit,
                unit.db.get_one(LargeChange, ident, with_for_update=True),
                "failed",
                "Whoever asked for it has no sign-in here any more.",
            )
            return False
    with service.unit(viewer) as unit:
        if not row.only_preview:
            locks.access(unit)
        row = unit.db.get_one(LargeChange, ident, with_for_update=True, populate_existing=True)
        if row.state not in GOING_ON:
            return False
        wish = _read(row.wish, {UUID(k): v for k, v in row.versions.items()})
        batch = row.grants[row.done : row.done + SLICE]
        lines = [_line(unit, wish, grant, keep=not row.only_preview) for grant in batch]
        row = unit.db.get_one(LargeChange, ident, with_for_update=True, populate_existing=True)
        row.state, row.done = "under_way", row.done + len(batch)
        row.changed += sum(line.refused is None for line in lines)
        row.lines = _kept([*row.lines, *jsonable(lines)])
        unit.announce("change")
        if row.done < len(row.grants):
            return True
        _end(unit, row, "done")
        return False


def _asker(unit: Unit, row: LargeChange) -> Viewer | None:
    """Whoever asked, with their present permissions; the proof was given when they asked."""
    if row.asked_by_id is None:
        return Viewer.itself(row.organisation_id)
    found = unit.db.execute(
        select(SignIn.id, SignIn.administrator).where(
            SignIn.person_id == row.asked_by_id, SignIn.suspended_at.is_(None)
        )
    ).first()
    if found is None:
        return None
    return Viewer(row.organisation_id, row.asked_by_name, row.asked_by_id, found[0], administrator=bool(found[1]))


def _line(unit: Unit, wish: Change, grant: UUID, keep: bool) -> schemas.LargeChangeLine:
    try:
        line = changes.tried(unit, replace(wish, grants=(grant,)), grant, keep)
        return schemas.LargeChangeLine.model_validate(dict(line))
    except OpenLatchError as error:
        # It may have become invisible: then nothing is shown.
        return schemas.LargeChangeLine(
            grant_id=grant,
            holder=None,
            account=None,
            level=None,
            until=None,
            last_day=None,
            state="",
            does="",
            refused=error.detail,
            remedy=error.remedy,
            latches=[],
            revocation_id=None,
            steward=False,
        )


def _kept(lines: list[JsonObject]) -> list[JsonObject]:
    refused = [line for line in lines if line["refused"] is not None]
    others = [line for line in lines if line["refused"] is None]
    return refused[:MOST_LINES] + others[:MOST_LINES]


def _end(unit: Unit, row: LargeChange, state: str, problem: str = "") -> None:
    row.state, row.ended_at, row.problem = state, unit.now, problem
    if not row.only_preview:
        unit.record(f"change.{state}", "change", row.id, row.wish["kind"], done=row.done, changed=row.changed)
    unit.announce("change")


def _written(change: Change) -> JsonObject:
    last_day = change.last_day.isoformat() if change.last_day else None
    written: JsonObject = jsonable({**asdict(change), "grants": [], "versions": {}, "last_day": last_day})
    return written


def _read(wish: JsonView, versions: dict[UUID, int]) -> Change:
    def ident(name: str) -> UUID | None:
        return UUID(wish[name]) if wish[name] else None

    return Change(
        ChangeKind(wish["kind"]),
        wish["reason"],
        (),
        "",
        versions,
        datetime.fromisoformat(wish["until"]) if wish["until"] else None,
        date.fromisoformat(wish["last_day"]) if wish["last_day"] else None,
        wish["no_end"],
        ident("level"),
        ident("successor"),
    )
