"""Levels: making, changing and comparing them. A change first shows whose rights grow or shrink."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from uuid import UUID

from sqlalchemy import exists, literal, or_, select

from openlatch import schemas
from openlatch.core import register as core
from openlatch.core.grants import level_comparison
from openlatch.core.vocabulary import Reach
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service import locks
from openlatch.service.canonical_json import fingerprint
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.access import mapping, subgraph
from openlatch.store.lists import register as register_lists
from openlatch.store.tables import Account, Grant, Level, System, Term

MOST_EFFECTS = 500


@dataclass(frozen=True, slots=True)
class NewPermission:
    """A permission as an administrator writes it: a key, a sentence that a layperson understands, a reach."""

    key: str
    sentence: str
    reach: Reach


@dataclass(frozen=True, slots=True)
class Draft:
    """A level to be made: keys of existing permissions, and new permissions."""

    name: str
    sentence: str
    keys: tuple[str, ...] = ()
    new: tuple[NewPermission, ...] = ()


def _permissions(unit: Unit, system: UUID, draft: Draft) -> list[core.Permission]:
    known = lifecycle.permissions_of(unit, system)
    unknown = [key for key in draft.keys if key not in known]
    if unknown:
        raise BadInput(
            f"The system has no permission {unknown[0]!r}.",
            "Choose from its permissions, or describe the new one.",
            {"keys": ", ".join(unknown)},
        )
    for new in draft.new:
        held = known.get(new.key)
        if held is not None and (held.sentence, held.reach) != (new.sentence, new.reach):
            raise BadInput(
                f"The system's permission {new.key!r} says {held.sentence!r}, and reaches {held.reach.word}.",
                "One key means one thing: use another key, or name the permission without describing it.",
                {"new": new.key},
            )
    found = {key: known[key] for key in draft.keys}
    found |= {new.key: core.Permission(new.key, new.sentence, new.reach) for new in draft.new}
    if not found:
        raise BadInput("The level permits nothing.", "Choose at least one permission.", {"keys": "is empty"})
    if not draft.name.strip() or not draft.sentence.strip():
        raise BadInput("The level has no name or no sentence.", "Give both.", {"name": "is missing"})
    return list(level_comparison.ordered(found.values()))


def _write(row: Level, draft: Draft, permissions: Sequence[core.Permission]) -> None:
    row.name, row.sentence = draft.name.strip(), draft.sentence.strip()
    row.permissions = [{"key": p.key, "sentence": p.sentence, "reach": p.reach.word} for p in permissions]
    row.reach = int(max(p.reach for p in permissions))


def make(unit: Unit, system: UUID, key: str, draft: Draft) -> schemas.LevelRow:
    """Make a level in a system."""
    unit.sight.require_administrator()
    if unit.db.get(System, system) is None:
        raise BadInput("There is no such system.", "Choose another.", {"system": "unknown"})
    if not key.strip() or key.startswith("only:"):
        raise BadInput(f"{key!r} can't be the key of a level.", "Use letters, without only: before them.")
    if unit.db.scalar(select(Level.id).where(Level.system_id == system, Level.key == key.strip())) is not None:
        raise Conflict(f"The system has a level {key!r} already.", "Change that one, or use another key.")
    row = Level(organisation_id=unit.viewer.organisation, system_id=system, key=key.strip())
    _write(row, draft, _permissions(unit, system, draft))
    unit.db.add(row)
    unit.db.flush()
    unit.record("level.made", "level", row.id, row.name, permissions=[p["key"] for p in row.permissions])
    return _shown(unit, row.id)


def _shown(unit: Unit, ident: UUID) -> schemas.LevelRow:
    found = register_lists.LEVELS.one(unit.db, ident)
    assert found is not None
    return schemas.LevelRow.model_validate(found)


def _found(unit: Unit, ident: UUID, lock: bool = False) -> Level:
    row = unit.db.get(Level, ident, with_for_update=lock, populate_existing=lock)
    if row is None:
        raise NotFound("There is no such level.")
    return row


def _accounts(unit: Unit, level: UUID) -> list[UUID]:
    """The accounts where live grants have the level, and those reached through them."""
    held = unit.db.scalars(
        select(Grant.account_id)
        .join(Term, Term.grant_id == Grant.id)
        .where(Term.level_id == level, Grant.state.in_(register_lists.LIVE))
        .distinct()
    ).all()
    return guard.touched(unit, held)


def preview(unit: Unit, ident: UUID, draft: Draft) -> schemas.LevelPreview:
    """Whose rights would grow or shrink, and which latches that breaks. Nothing happens yet."""
    unit.sight.require_administrator()
    row = _found(unit, ident)
    permissions = _permissions(unit, row.system_id, draft)
    accounts = _accounts(unit, ident)
    before = subgraph.around_accounts(unit.db, accounts)
    after = before.with_levels([core.Level(ident, draft.name, draft.sentence, frozenset(permissions))])
    found = level_comparison.effects(before, after, accounts, unit.now)
    shown = schemas.LevelPreview(
        level=schemas.Named(id=ident, name=row.name),
        grows=sum(1 for e in found if e.gains),
        shrinks=sum(1 for e in found if e.loses),
        effects=[_effect(before, e) for e in found[:MOST_EFFECTS]],
        latches=[guard.shown(b) for b in guard.supposed(unit, before, after, accounts)],
        reach=int(max(p.reach for p in permissions)),
        fingerprint="",
    )
    return shown.model_copy(update={"fingerprint": fingerprint(shown)})


def _effect(register: core.Register, effect: level_comparison.Effect) -> schemas.Effect:
    holder = effect.holder
    return schemas.Effect(
        holder=schemas.Holder(kind=holder.kind, id=holder.id, name=register.name_of(holder)),
        account=schemas.Named(id=effect.account, name=register.accounts[effect.account].name),
        gains=[_sentence(p) for p in effect.gains],
        loses=[_sentence(p) for p in effect.loses],
    )


def _sentence(permission: core.Permission) -> schemas.PermissionOf:
    return schemas.PermissionOf(key=permission.key, sentence=permission.sentence, reach=int(permission.reach))


def change(unit: Unit, ident: UUID, draft: Draft, seen: str, version: int | None) -> schemas.LevelRow:
    """Change a level, at once for everybody who holds it. Held when a latch refuses; needs a proof for steward
    reach.
    """
    unit.sight.require_administrator()
    locks.access(unit)
    row = _found(unit, ident, lock=True)
    if version is not None and version != row.version:
        raise Conflict("Somebody changed the level meanwhile.", "Look at it again.")
    if row.single:
        raise Conflict("This level is one permission given alone.", "Change the levels that hold it.")
    shown = preview(unit, ident, draft)
    if seen and seen != shown.fingerprint:
        raise Conflict("What this change does has changed since it was shown.", "Look at the preview again.")
    if shown.reach == Reach.STEWARD and row.reach < Reach.STEWARD and shown.grows:
        unit.require_proof("Giving steward reach")
    before = {p["key"] for p in row.permissions}
    effects = shown.effects
    with guard.guarded(unit, _accounts(unit, ident)):
        _write(row, draft, _permissions(unit, row.system_id, draft))
        row.version += 1
        unit.db.flush()
    after = {p["key"] for p in row.permissions}
    unit.record(
        "level.changed",
        "level",
        row.id,
        row.name,
        added=sorted(after - before),
        gone=sorted(before - after),
        grows=shown.grows,
        shrinks=shown.shrinks,
    )
    _tell_stewards(unit, row.name, effects)
    touched = unit.db.scalars(select(Term.grant_id).where(Term.level_id == ident)).all()
    evaluate_flags.evaluate(unit, grants=sorted(set(touched)))
    return _shown(unit, ident)


def _tell_stewards(unit: Unit, name: str, effects: list[schemas.Effect]) -> None:
    """Tell those who decide about an account who else decides there because of a changed level."""
    new: dict[UUID, set[str]] = {}
    places: dict[UUID, str] = {}
    for effect in effects:
        if any(gain.reach == Reach.STEWARD for gain in effect.gains):
            new.setdefault(effect.account.id, set()).add(effect.holder.name or "")
            places[effect.account.id] = effect.account.name
    for account, names in new.items():
        who = ", ".join(sorted(names)[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        sentence = f"{who} can now decide who gets into {places[account]}, since “{name}” was changed."
        told = notices.stewards(unit, account) - {unit.viewer.person}
        notices.tell_and_write(unit, told, "steward", sentence, f"/accounts/{account}")


def _seen(unit: Unit, ident: UUID) -> Level:
    found = unit.db.scalars(select(Level).where(Level.id == ident, unit.sight.levels())).first()
    if found is None:
        raise NotFound("There is no such level.")
    return found


def compare(unit: Unit, first: UUID, second: UUID) -> schemas.LevelComparison:
    """Two levels of one system side by side."""
    one, other = (_seen(unit, ident) for ident in (first, second))
    if one.system_id != other.system_id:
        raise BadInput("The two levels are of different systems.", "Compare levels of one system.")
    found = level_comparison.compare(mapping.level_value(one), mapping.level_value(other))
    return schemas.LevelComparison(
        first=schemas.ComparedLevel(id=one.id, name=one.name, reach=one.reach, sentence=one.sentence),
        second=schemas.ComparedLevel(id=other.id, name=other.name, reach=other.reach, sentence=other.sentence),
        both=[_sentence(p) for p in found.both],
        first_only=[_sentence(p) for p in found.first_only],
        second_only=[_sentence(p) for p in found.second_only],
    )


def permissions(unit: Unit, system: UUID) -> list[schemas.PermissionOf]:
    """Every permission of a system, the furthest reaching first, for whoever may see an account in it."""
    seen = exists().where(Account.system_id == System.id, unit.sight.accounts())
    known = select(System.id).where(System.id == system, or_(literal(unit.sight.everything), seen))
    if unit.db.scalar(known) is None:
        raise NotFound("There is no such system, or you may not see an account in it.")
    return [_sentence(p) for p in level_comparison.ordered(lifecycle.permissions_of(unit, system).values())]
