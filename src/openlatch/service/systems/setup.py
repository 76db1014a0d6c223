"""Administering systems: tried without being stored, connected, edited, paused, removed."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from uuid import UUID

from sqlalchemy import delete, func, select
from structlog import get_logger

from openlatch import schemas
from openlatch.adapters import ADAPTERS, class_of
from openlatch.core.vocabulary import SystemKind, TrialState
from openlatch.errors import BadInput, Conflict, NotFound, SystemDown, SystemRefused
from openlatch.json_values import JsonView
from openlatch.service import connections, locks
from openlatch.service.records.edit import counted_words
from openlatch.service.systems import sealed_secrets
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.tables import Base, Level, System, SystemTrial

log = get_logger()
BY_HAND = SystemKind.BY_HAND
NAMES = {
    "postgresql": "PostgreSQL database",
    "directory": "Directory (LDAP)",
    "mailboxes": "Mail server (IMAP)",
    "host": "Unix host (this one)",
    "ssh_host": "Unix host (through SSH)",
    "cloud": "Cloud service",
    "dav": "WebDAV or CalDAV server",
    "scim": "Service with SCIM 2.0",
    "mariadb": "MariaDB database",
    "oauth": "Tokens of an authorization server",
    "open_latch": "Open Latch itself",
}
TRIAL_LIFE = timedelta(hours=1)


def adapters() -> list[schemas.AdapterOf]:
    """Each kind of system with an adapter, and the settings that the adapter asks for."""
    found = []
    for kind in ADAPTERS:
        try:
            of = class_of(kind)
        except SystemRefused as error:
            # Of a package that is broken: the others can be used all the same.
            log.error("adapter.broken", kind=kind, detail=error.detail)
            continue
        found.append(
            schemas.AdapterOf(
                kind=kind,
                name=NAMES.get(kind, kind),
                needs_secret=of.can.secret,
                rights=list(of.can.rights),
                settings=[schemas.AdapterSetting(name=s.name, about=s.about, usual=s.usual) for s in of.settings_taken],
            )
        )
    return found


def checked(kind: str, given: JsonView) -> dict[str, str | int]:
    """Settings for an adapter, with defaults for those left out. BadInput naming each at fault."""
    if kind not in ADAPTERS:
        raise BadInput(f"There is no adapter for {kind!r}.", f"Use one of: {', '.join(ADAPTERS)}.", {"kind": "unknown"})
    taken = {setting.name: setting for setting in class_of(kind).settings_taken}
    faults = {f"settings.{name}": "is not a setting of it" for name in given if name not in taken}
    settings: dict[str, str | int] = {}
    for name, setting in taken.items():
        value = given.get(name, "" if setting.usual is None else setting.usual)
        if value == "" and setting.usual is None:
            faults[f"settings.{name}"] = "is missing"
        elif isinstance(setting.usual, int) and not str(value).isdigit():
            faults[f"settings.{name}"] = "has to be a whole number"
        elif len(str(value)) > 2000 or not str(value).isprintable():
            faults[f"settings.{name}"] = "can't be read"
        else:
            settings[name] = int(value) if isinstance(setting.usual, int) else str(value)
    if faults:
        told = "; ".join(f"{name.removeprefix('settings.')} {what}" for name, what in faults.items())
        raise BadInput(f"The system can't be reached so: {told}.", "Look at the fields named.", faults)
    return settings


def try_out(
    unit: Unit, kind: str, given: Mapping[str, object], secret: str | None, system: UUID | None
) -> schemas.SystemTrial:
    """Have the worker try to reach a system, before anything is stored.

    For a connected ``system`` the secret may be left out: then its present one is tried.
    """
    unit.sight.require_administrator()
    settings = checked(kind, given)
    if system is not None:
        row = _found(unit, system)
        if row.kind not in (kind, BY_HAND):
            raise BadInput("A system stays of its kind.", "Connect another one.", {"kind": "can't change"})
    needs = class_of(kind).can.secret
    if needs and not secret and (system is None or not _found(unit, system).has_secret):
        raise BadInput("The password or key is missing.", "Give that of Open Latch's login.", {"secret": "is missing"})
    # Unused trials are deleted.
    unit.db.execute(delete(SystemTrial).where(SystemTrial.created_at < unit.now - TRIAL_LIFE))
    row_of = SystemTrial(organisation_id=unit.viewer.organisation, system_id=system, kind=kind, settings=settings)
    if secret or not needs:
        row_of.secret = sealed_secrets.seal(unit.service, secret or "")
    unit.db.add(row_of)
    unit.db.flush()
    unit.record("system.tried", "system", system, kind, settings=settings)
    unit.wake("try_system", trial=row_of.id)
    return shown_trial(row_of)


def shown_trial(row: SystemTrial) -> schemas.SystemTrial:
    """A trial as an answer, never with its secret."""
    return schemas.SystemTrial(
        id=row.id,
        state=row.state,
        answer=row.answer,
        accounts=row.found.get("accounts"),
        grants=row.found.get("grants"),
    )


def trial(unit: Unit, ident: UUID) -> schemas.SystemTrial:
    """The result of a trial so far."""
    unit.sight.require_administrator()
    row = unit.db.get(SystemTrial, ident)
    if row is None:
        raise NotFound("There is no such trial; it may have been thrown away.", "Try the system again.")
    return shown_trial(row)


def carry_out(service: Service, organisation: UUID, ident: UUID) -> None:
    """Try a system: by the worker, outside of any transaction, without storing what is read."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        row = unit.db.get(SystemTrial, ident)
        if row is None or row.state != TrialState.WAITING:
            return
        kind, settings, system = row.kind, dict(row.settings), row.system_id
        kept = row.secret
    try:
        secret = _secret_of(service, viewer, kept, system)
        adapter = ADAPTERS[kind](settings, secret)
        adapter.check()
        state, answer = "good", "It answers, and Open Latch can read it."
    except (SystemDown, SystemRefused, BadInput) as error:
        state, answer = "refused", f"{error.detail} {error.remedy}".strip()
    with service.unit(viewer) as unit:
        row = unit.db.get(SystemTrial, ident, with_for_update=True)
        if row is not None:
            row.state, row.answer, row.tried_at = state, answer, unit.now
            unit.announce("system")


def _secret_of(service: Service, viewer: Viewer, sealed: bytes | None, system: UUID | None) -> str:
    if sealed is not None:
        return sealed_secrets.opened(service, sealed)
    with service.unit(viewer) as unit:
        row = unit.db.get_one(System, system)
        cipher = connections.secrets_cipher(service)
        if row.secret is None:
            return ""
        return cipher.decrypt(row.secret).decode()


def open_sealed(service: Service, viewer: Viewer, trial_id: UUID, system: UUID) -> None:
    """Move a trial's secret to its system, encrypted with the worker's own key; the trial is deleted.

    The web process can neither read nor change a system's secret: the worker does this.
    """
    with service.unit(viewer) as unit:
        row = unit.db.get(SystemTrial, trial_id, with_for_update=True)
        if row is None:
            return
        if row.secret is not None:
            secret = sealed_secrets.opened(service, row.secret)
            cipher = connections.secrets_cipher(service)
            held = unit.db.get_one(System, system, with_for_update=True)
            held.secret = cipher.encrypt(secret.encode())
            held.stamps, held.read_fully_at, held.next_read_at = {}, None, unit.now
        unit.db.delete(row)
        unit.wake("read_system", system=system)


def _found(unit: Unit, ident: UUID, lock: bool = False) -> System:
    row = unit.db.get(System, ident, with_for_update=lock, populate_existing=lock)
    if row is None:
        raise NotFound("There is no such system.")
    return row


def shown(unit: Unit, ident: UUID) -> schemas.SystemRecord:
    """A system for editing: its settings without the secret, and what depends on it."""
    unit.sight.require_administrator()
    row = _found(unit, ident)
    return schemas.SystemRecord(
        id=row.id,
        name=row.name,
        kind=row.kind,
        settings=row.settings,
        has_secret=row.has_secret,
        paused_at=row.paused_at,
        archived_at=row.archived_at,
        version=row.version,
        dependents=_dependents(unit, ident),
    )


def _dependents(unit: Unit, ident: UUID) -> list[schemas.Dependent]:
    counted = {
        table: unit.db.scalar(select(func.count()).select_from(held).where(held.c.system_id == ident)) or 0
        for table in ("accounts", "handles")
        for held in (Base.metadata.tables[table],)
    }
    return [
        schemas.Dependent(what=counted_words(table, count), count=count) for table, count in counted.items() if count
    ]


def _refuse_taken(unit: Unit, name: str, but: UUID | None) -> None:
    same = select(System.id).where(func.lower(System.name) == name.lower(), System.archived_at.is_(None))
    if unit.db.scalar(same if but is None else same.where(System.id != but)) is not None:
        raise BadInput("There is a system of that name.", "Use another name.", {"name": "is taken"})


def _good(unit: Unit, ident: UUID) -> SystemTrial:
    row = unit.db.get(SystemTrial, ident, with_for_update=True)
    if row is None:
        raise BadInput("There is no such trial.", "Try the system first.", {"trial": "unknown"})
    if row.state != TrialState.GOOD:
        raise Conflict(
            f"The trial is {row.state}: {row.answer or 'the worker has not answered yet'}",
            "Mend what it says, and try again.",
        )
    return row


def make(unit: Unit, name: str, trial_id: UUID | None) -> schemas.SystemRecord:
    """Add a system: one maintained by hand, or one that was tried and answered."""
    unit.sight.require_administrator()
    _refuse_taken(unit, name, None)
    found = _good(unit, trial_id) if trial_id else None
    row = System(
        organisation_id=unit.viewer.organisation,
        name=name,
        kind=found.kind if found else BY_HAND,
        settings=dict(found.settings) if found else {},
    )
    unit.db.add(row)
    unit.db.flush()
    if found is None:
        _usual_levels(unit, row)
    unit.record("system.connected" if found else "system.made", "system", row.id, name, settings=row.settings)
    if found is not None:
        unit.wake("open_secret", trial=found.id, system=row.id)
    return shown(unit, row.id)


def _usual_levels(unit: Unit, row: System) -> None:
    """The initial levels of a system maintained by hand."""
    for key, level, sentence, reach in (
        ("view", "View", "Can look at everything in it.", "observe"),
        ("edit", "Edit", "Can look at everything in it and change it.", "operate"),
        ("administer", "Administer", "Can change everything in it, and let others in.", "steward"),
    ):
        keys = [
            ("view", "Look at it", "observe"),
            ("edit", "Change it", "operate"),
            ("administer", "Let others in", "steward"),
        ]
        last = [k for k, _, _ in keys].index(key)
        permissions = [{"key": k, "sentence": words, "reach": r} for k, words, r in keys[: last + 1]]
        ranks = {"observe": 1, "operate": 2, "steward": 4}
        unit.db.add(
            Level(
                organisation_id=row.organisation_id,
                system_id=row.id,
                key=key,
                name=level,
                sentence=sentence,
                reach=ranks[reach],
                permissions=permissions,
            )
        )


def change(
    unit: Unit, ident: UUID, name: str | None, trial_id: UUID | None, version: int | None
) -> schemas.SystemRecord:
    """Change a system's name, or its settings as a successful trial has them. Conflict when it changed."""
    unit.sight.require_administrator()
    row = _found(unit, ident, lock=True)
    if version is not None and version != row.version:
        raise Conflict(f"{row.name} was changed meanwhile.", "Look at it again.")
    before = {"name": row.name, "settings": row.settings}
    if name is not None and name != row.name:
        _refuse_taken(unit, name, ident)
        row.name = name
    if trial_id is not None:
        unit.require_proof("Changing how a system is reached")
        found = _good(unit, trial_id)
        if found.system_id != ident:
            raise BadInput("That trial was of another system.", "Try this one.", {"trial": "of another system"})
        row.kind, row.settings = found.kind, dict(found.settings)
        unit.wake("open_secret", trial=found.id, system=row.id)
    unit.db.flush()
    unit.record(
        "system.changed",
        "system",
        ident,
        row.name,
        before=before,
        name_now=row.name,
        settings=row.settings,
        secret=trial_id is not None,
    )
    unit.db.expire(row)
    return shown(unit, ident)


def set_paused(unit: Unit, ident: UUID, is_paused: bool) -> schemas.SystemRecord:
    """Stop reading a system until it is resumed; steps there are still carried out."""
    unit.sight.require_administrator()
    row = _found(unit, ident, lock=True)
    if (row.paused_at is not None) != is_paused:
        row.paused_at = unit.now if is_paused else None
        if not is_paused:
            row.next_read_at = unit.now
            unit.wake("read_system", system=ident)
        unit.record("system.paused" if is_paused else "system.resumed", "system", ident, row.name)
        unit.db.flush()
        unit.db.expire(row)
    return shown(unit, ident)


def remove(unit: Unit, ident: UUID) -> None:
    """Remove a system without accounts, with its levels and secret."""
    unit.sight.require_administrator()
    locks.access(unit)
    row = _found(unit, ident, lock=True)
    left = _dependents(unit, ident)
    if left:
        listed = ", ".join(one.what for one in left)
        raise Conflict(f"{row.name} can't be removed: {listed} are in it.", "Remove or archive those first.")
    unit.require_proof("Removing a system")
    name = row.name
    unit.db.execute(delete(SystemTrial).where(SystemTrial.system_id == ident))
    unit.db.execute(delete(Level).where(Level.system_id == ident))
    unit.db.delete(row)
    unit.db.flush()
    unit.record("system.removed", "system", ident, name)
