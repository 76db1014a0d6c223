"""What a revocation would do, in words, with a fingerprint by which to confirm having seen it."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import TypeVar
from uuid import UUID

import rfc8785
from pydantic import BaseModel

from openlatch import schemas
from openlatch.core.access.paths import Path
from openlatch.core.register import UTC_ZONE, Permission, Register
from openlatch.core.revocations import plan as core
from openlatch.core.revocations import preview as core_preview
from openlatch.core.time_windows import last_day
from openlatch.service.canonical_json import jsonable
from openlatch.store.tables import System

Shown = TypeVar("Shown", bound=BaseModel)


@dataclass(frozen=True, slots=True)
class Prepared:
    """A revocation as it would be carried out now. ``leaver`` is the name of whoever leaves by it."""

    register: Register
    targets: list[core.Target]
    sessions: list[core.LiveSession]
    preview: core_preview.Preview
    systems: dict[UUID, System]
    leaver: str = ""


def shown(prepared: Prepared) -> schemas.Preview:
    """A preview as answers have it."""
    register, preview = prepared.register, prepared.preview
    return schemas.Preview(
        title=_title(prepared),
        changes=[_change(register, change) for change in preview.changes],
        sessions=[
            schemas.SessionOf(id=s.id, holder=register.name_of(s.holder), account=_account_name(register, s.account))
            for s in preview.sessions
        ],
        apps_that_stop=[register.name_of(change.holder) for change in preview.apps_that_stop],
        without_owner=[account.name for account in preview.without_owner],
        stops=[schemas.StopOf(kind=stop.kind, sentence=stop.sentence) for stop in preview.stops],
        undo_alone=preview.undo_alone,
        steps=[schemas.PlannedStep(kind=step.kind, sentence=step.sentence) for step in preview.steps],
    )


def _title(prepared: Prepared) -> str:
    register, targets = prepared.register, prepared.targets
    if prepared.preview.rules and not targets:
        rules = prepared.preview.rules
        more = f", and take {len(rules) - 1} more rules away" if len(rules) > 1 else ""
        return f"Close what “{rules[0].key}” opens in {_account_name(register, rules[0].account)}{more}"
    if prepared.leaver:
        return f"End all that {prepared.leaver} has"
    if not targets:
        count = len(prepared.sessions)
        return f"End {count} session{'s' * (count != 1)}"
    first = targets[0].grant
    verb = "Trim" if targets[0].trim else "End"
    what = f"{verb} the access of {register.name_of(first.holder)} to {_account_name(register, first.account)}"
    return what if len(targets) == 1 else f"{what}, and {len(targets) - 1} more"


def _account_name(register: Register, account: UUID) -> str:
    return register.accounts[account].name if account in register.accounts else ""


def _change(register: Register, change: core_preview.Change) -> schemas.ChangeOf:
    return schemas.ChangeOf(
        holder=schemas.Holder(kind=change.holder.kind, id=change.holder.id, name=register.name_of(change.holder)),
        account=schemas.Named(id=change.account, name=_account_name(register, change.account)),
        ends=[_permission(p) for p in sorted(change.ends, key=lambda p: (-p.reach, p.key))],
        remains=[_remaining(register, path) for path in change.remains],
    )


def _permission(permission: Permission) -> schemas.PermissionOf:
    return schemas.PermissionOf(key=permission.key, sentence=permission.sentence, reach=int(permission.reach))


def _remaining(register: Register, path: Path) -> schemas.Remaining:
    level = "Owner" if path.level is None else path.level.name
    until, account = path.window.until, register.accounts.get(path.account)
    return schemas.Remaining(
        words=path.words,
        level=level,
        reach=int(path.reach),
        until=until,
        last_day=last_day(until, account.zone if account else UTC_ZONE),
    )


def with_fingerprint(shown: Shown) -> Shown:
    """With what tells later whether this is what was seen."""
    digest = hashlib.sha256(rfc8785.dumps(jsonable(shown))).hexdigest()
    return shown.model_copy(update={"fingerprint": digest[:32]})
