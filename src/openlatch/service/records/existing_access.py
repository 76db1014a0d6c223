"""Recording access that exists, as somebody knows it: nobody is asked, and nobody is said to have given it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import register as core
from openlatch.core.register import Holder
from openlatch.core.time_windows import Window, end_of_last_day
from openlatch.core.vocabulary import GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotFound, OpenLatchError
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint, jsonable
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle
from openlatch.service.latches import guard
from openlatch.service.records.kinds import Table
from openlatch.service.unit import Unit
from openlatch.store.access import mapping
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, App, Grant, Level, Person, Resource, Team

_HOLDERS: dict[HolderKind, Table] = {
    HolderKind.PERSON: Person,
    HolderKind.TEAM: Team,
    HolderKind.APP: App,
    HolderKind.ACCOUNT: Account,
}
_COLUMNS = {
    HolderKind.PERSON: "person_id",
    HolderKind.TEAM: "team_id",
    HolderKind.APP: "app_id",
    HolderKind.ACCOUNT: "holder_account_id",
}


@dataclass(frozen=True, slots=True)
class Known:
    """Existing access that somebody knows of."""

    account: UUID
    holder_kind: HolderKind
    holder: UUID
    level: UUID
    resource: UUID | None = None
    since: date | None = None
    last_day: date | None = None
    given_by: UUID | None = None
    evidence: str = ""


def record(unit: Unit, lines: Sequence[Known], only_preview: bool, seen: str = "") -> schemas.RecordAccessPreview:
    """Record existing access. A bad line is refused with the reason; unless all are good, none is kept.

    Conflict when it would do something else than what was ``seen``.
    """
    result = _preview(unit, lines)
    if only_preview:
        return result
    if seen and seen != result.fingerprint:
        raise Conflict("What this does has changed since it was shown.", "Look at the preview again.")
    refused = [line for line in result.lines if line.refused]
    if refused:
        raise BadInput(
            f"Line {refused[0].line}: {refused[0].refused}",
            refused[0].remedy or "Mend the line, or leave it out.",
            {f"lines.{line.line - 1}": line.refused or "" for line in refused},
        )
    if any(unit.db.get_one(Level, line.level).reach == Reach.STEWARD for line in lines):
        unit.require_proof("Recording who decides who else gets in")
    accounts = sorted({line.account for line in lines})
    # Existing access is a fact: nothing is given, and broken latches are flagged.
    with guard.guarded(unit, guard.touched(unit, accounts), refuses=False) as warned:
        told = [_line(unit, number, line) for number, line in enumerate(lines, 1)]
    fresh = [line.grant_id for line in told if line.grant_id and line.does == "new"]
    evaluate_flags.evaluate(unit, grants=fresh, accounts=accounts)
    return _result(told, [guard.shown(breach) for breach in warned])


def _preview(unit: Unit, lines: Sequence[Known]) -> schemas.RecordAccessPreview:
    told: list[schemas.RecordedLine] = []
    with attempt(unit, keep=False) as within:
        accounts = sorted({line.account for line in lines if _may_see(within, line.account)})
        with guard.guarded(within, guard.touched(within, accounts), refuses=False) as warned:
            for number, line in enumerate(lines, 1):
                try:
                    with attempt(within):
                        told.append(_line(within, number, line))
                except OpenLatchError as error:
                    told.append(
                        schemas.RecordedLine(
                            line=number,
                            account=None,
                            holder=None,
                            level="",
                            does="",
                            grant_id=None,
                            refused=error.detail,
                            remedy=error.remedy,
                        )
                    )
        broken = [guard.shown(breach) for breach in warned]
    for shown in told:
        # Rows made in a trial are rolled back.
        shown.grant_id = shown.grant_id if shown.does == "the same" else None
    return _result(told, broken)


def _may_see(unit: Unit, account: UUID) -> bool:
    return unit.sight.everything or account in unit.sight.owned


def _result(lines: list[schemas.RecordedLine], latches: list[schemas.Breach]) -> schemas.RecordAccessPreview:
    shown = schemas.RecordAccessPreview(
        lines=lines,
        new=sum(1 for line in lines if line.does == "new"),
        same=sum(1 for line in lines if line.does == "the same"),
        refused=sum(1 for line in lines if line.refused),
        latches=latches,
        fingerprint="",
    )
    return shown.model_copy(update={"fingerprint": fingerprint(jsonable(shown))})


def _line(unit: Unit, number: int, line: Known) -> schemas.RecordedLine:
    """One recorded line; or the grant that exists already."""
    unit.sight.require_answers_for(line.account)
    account = unit.db.get(Account, line.account)
    if account is None or account.archived_at is not None:
        raise NotFound("There is no such account, or you may not see it.")
    zone = ZoneInfo(account.time_zone)
    holder = _holder(unit, line, account)
    level = unit.db.get(Level, line.level)
    if level is None or level.system_id != account.system_id or level.archived_at is not None:
        raise BadInput("The account's system has no such level.", "Choose one of its levels.", {"level": "unknown"})
    given_by = unit.seen_person(line.given_by)
    if line.given_by is not None and given_by is None:
        raise BadInput("There is no such person.", "Choose another, or leave it open.", {"given_by": "unknown"})
    since = datetime.combine(line.since, time(), zone).astimezone(UTC) if line.since else None
    until = end_of_last_day(line.last_day, zone) if line.last_day else None
    if since is not None and since > unit.now:
        raise BadInput("That day lies ahead.", "Record what exists; offer what is to come.", {"since": "lies ahead"})
    if until is not None and until <= unit.now:
        raise BadInput("That last day has passed.", "Record what exists now.", {"last_day": "has passed"})
    part = _part(unit, account, line.resource)
    named = schemas.RecordedLine(
        line=number,
        account=schemas.Named(id=account.id, name=account.name),
        holder=schemas.Holder(kind=line.holder_kind, id=line.holder, name=holder.name),
        level=level.name,
        does="the same",
        grant_id=_same(unit, line),
        refused=None,
    )
    if named.grant_id is not None:
        return named
    # Not for owners, who have access anyway.
    if line.holder_kind is HolderKind.PERSON and line.holder == account.owner_id:
        raise BadInput(f"{holder.name} owns the account.", "An owner needs no grant.", {"holder": "is the owner"})
    term = core.Term(mapping.level_value(level), Window(since, until), None, part)
    grant = lifecycle.write_grant(
        unit,
        account,
        Holder(line.holder_kind, line.holder),
        [term],
        GrantState.ACTIVE,
        recorded_by_id=unit.viewer.person,
        evidence=line.evidence,
        reason=line.evidence,
    )
    grant.given_by_id = given_by.id if given_by else None
    grant.given_at = since or unit.now
    unit.db.flush()
    unit.record(
        "grant.recorded",
        "grant",
        grant.id,
        account.name,
        account.id,
        holder=holder.name,
        level=level.name,
        evidence=line.evidence,
    )
    return named.model_copy(update={"does": "new", "grant_id": grant.id})


def _holder(unit: Unit, line: Known, account: Account) -> AnyRow:
    table = _HOLDERS[line.holder_kind]
    visible = {
        HolderKind.PERSON: unit.sight.people,
        HolderKind.TEAM: unit.sight.teams,
        HolderKind.APP: unit.sight.apps,
        HolderKind.ACCOUNT: unit.sight.accounts,
    }[line.holder_kind]()
    row = unit.db.scalars(select(table).where(table.id == line.holder, visible)).first()
    if row is None or getattr(row, "archived_at", None) is not None:
        raise BadInput(f"There is no such {line.holder_kind}.", "Choose another.", {"holder": "unknown"})
    if line.holder_kind is HolderKind.ACCOUNT and line.holder == account.id:
        raise BadInput("An account can't hold itself.", "Choose another.", {"holder": "is the account"})
    return row


def _part(unit: Unit, account: Account, resource: UUID | None) -> core.Part | None:
    if resource is None:
        return None
    row = unit.db.get(Resource, resource)
    if row is None or row.account_id != account.id:
        raise BadInput("The account has no such part.", "Choose from its resources.", {"resource": "unknown"})
    return mapping.parts_of(unit.db, [resource])[resource]


def _same(unit: Unit, line: Known) -> UUID | None:
    """The live grant of the same level to the same holder, on the same part."""
    column = getattr(Grant, _COLUMNS[line.holder_kind])
    held = unit.db.scalars(
        select(Grant.id).where(Grant.account_id == line.account, column == line.holder, Grant.state != GrantState.ENDED)
    ).all()
    for grant, terms in mapping.terms_of(unit.db, held).items():
        if any(t.level.id == line.level and (t.part.id if t.part else None) == line.resource for t in terms):
            return grant
    return None
