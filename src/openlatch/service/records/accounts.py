"""Accounts as records, with their resources and groups."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from uuid import UUID

from sqlalchemy import func, select

from openlatch.core.time_windows import end_of_last_day, ends_on, zone_of
from openlatch.core.vocabulary import GrantState
from openlatch.errors import BadInput, NotFound
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.records.kinds import Kind, Table, Values, found, person_named, refuse_taken, row_named
from openlatch.service.unit import Unit
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import Account, Grant, Person, Resource, ResourceGroup, ResourceInGroup, System, Team

# What the owner of an account may edit without an administrator.
OWNERS_FIELDS = frozenset({"name", "purpose", "is_closed", "payer", "paid_until"})
_PAYERS: dict[str, tuple[str, Table]] = {
    "person": ("payer_person_id", Person),
    "team": ("payer_team_id", Team),
    "account": ("payer_account_id", Account),
}
MOST_GRANTS = 500


class Accounts(Kind[Account]):
    """Shared accounts."""

    name, noun, table = "accounts", "account", Account
    # What is worked out about it goes with it, so that one recorded by mistake can be removed again.
    parts = frozenset(
        {
            *("flags.account_id", "breaches.account_id", "latches.account_id", "findings.subject_id"),
            *("action_effects.account_id", "evaluated_accounts.account_id", "evaluated_rules.account_id"),
        }
    )

    def opened(self, unit: Unit, ident: UUID, fields: Iterable[str] = (), lock: bool = False) -> Account:
        """Administrators edit everything of an account; its owner what does not change who answers for it or guards
        it.
        """
        if set(fields) <= OWNERS_FIELDS:
            unit.sight.require_owns(ident)
        else:
            unit.sight.require_administrator()
        row: Account = found(unit, Account, ident, self.noun, lock)
        return row

    def values(self, unit: Unit, row: Account) -> JsonObject:
        """An account as form values."""
        payer = next(
            (
                {"kind": kind, "id": ident}
                for kind, (column, _) in _PAYERS.items()
                if (ident := getattr(row, column)) is not None
            ),
            None,
        )
        return {
            "name": row.name,
            "system": row.system_id,
            "kind": row.kind,
            "sensitivity": row.sensitivity,
            "owner": row.owner_id,
            "time_zone": row.time_zone,
            "purpose": row.purpose,
            "handle": row.handle,
            "is_closed": row.is_closed,
            "payer": payer,
            "paid_until": ends_on(row.paid_until, zone_of(row.time_zone)) if row.paid_until else None,
        }

    def fresh(self, unit: Unit, given: Values) -> Account:
        """An account in the system that a form names."""
        row = Account(
            organisation_id=unit.viewer.organisation,
            name=given["name"],
            system_id=row_named(unit, System, given["system"], "system", "system"),
            sensitivity=given["sensitivity"],
            time_zone=given["time_zone"] or unit.zone.key,
        )
        unit.db.add(row)
        return row

    def write(self, unit: Unit, row: Account, given: Values) -> None:
        """Write a form. BadInput for a taken name, an unknown time zone, and a system that is not its own any more."""
        refuse_taken(unit, Account, given["name"], row.id, "an account")
        zone = given["time_zone"] or unit.zone.key
        try:
            zone_of(zone)
        except ValueError:
            raise BadInput(
                f"There is no time zone {zone!r}.", "Write one like Europe/London.", {"time_zone": "unknown"}
            ) from None
        if given["system"] != row.system_id:
            # Its grants and levels belong to its system.
            raise BadInput("An account stays in its system.", "Make another one there.", {"system": "can't change"})
        row.name, row.kind, row.sensitivity = given["name"], given["kind"], given["sensitivity"]
        row.time_zone, row.purpose, row.is_closed = zone, given["purpose"], given["is_closed"]
        row.handle = given["handle"] or None
        if row.owner_id is not None and given["owner"] is None:
            raise BadInput("An account is never left without an owner.", "Name another.", {"owner": "is missing"})
        if given["owner"] != row.owner_id:
            row.owner_id = person_named(unit, given["owner"], "owner")
        _write_payer(unit, row, given["payer"])
        row.paid_until = end_of_last_day(given["paid_until"], zone_of(zone)) if given["paid_until"] else None

    def lets_in(self, unit: Unit, row: Account | None, before: Values, given: Values) -> Sequence[UUID]:
        """The account and all that are reached through it, when its owner, payer or kind changes."""
        if row is None or all(before[field] == given[field] for field in ("owner", "kind", "payer")):
            return ()
        return guard.touched(unit, [row.id])

    def afterwards(self, unit: Unit, row: Account, before: Values, given: Values) -> None:
        """Update flags; notify the new and the former owner."""
        was, now = before.get("owner"), given["owner"]
        evaluate_flags.evaluate_owner(unit, row.id, [was, now])
        if any(before.get(field) != given[field] for field in ("sensitivity", "kind", "name", "time_zone")):
            grants = unit.db.scalars(
                select(Grant.id)
                .where(Grant.account_id == row.id, Grant.state != GrantState.ENDED)
                .limit(MOST_GRANTS + 1)
            ).all()
            if len(grants) <= MOST_GRANTS:
                evaluate_flags.evaluate(unit, grants=grants)
            unit.wake("evaluate")
        if before and was != now:
            page = f"/accounts/{row.id}"
            by = unit.viewer.name
            notices.tell_and_write(unit, [now], "owner", f"{by} made you the owner of {row.name}.", page)
            notices.tell_and_write(unit, [was], "owner", f"{by} gave {row.name} another owner than you.", page)


def _write_payer(unit: Unit, row: Account, payer: Values | None) -> None:
    for kind, (column, table) in _PAYERS.items():
        ident = payer["id"] if payer is not None and payer["kind"] == kind else None
        if ident is not None and ident == row.id:
            raise BadInput("An account can't pay for itself.", "Choose another.", {"payer": "is the account"})
        if ident != getattr(row, column):
            setattr(row, column, row_named(unit, table, ident, "payer", kind))


class Resources(Kind[Resource]):
    """Parts of accounts that can be shared alone."""

    name, noun, table = "resources", "resource", Resource
    parts = frozenset({"resources_in_groups.resource_id"})

    def may_make(self, unit: Unit, given: Values) -> None:
        """Whoever answers for the account."""
        unit.sight.require_answers_for(given["account"])

    def opened(self, unit: Unit, ident: UUID, fields: Iterable[str] = (), lock: bool = False) -> Resource:
        """One of an account that the viewer answers for."""
        row: Resource = _part(unit, Resource, ident, self.noun, lock)
        return row

    def values(self, unit: Unit, row: Resource) -> JsonObject:
        """A resource as form values."""
        return {"account": row.account_id, "name": row.name, "kind": row.kind}

    def fresh(self, unit: Unit, given: Values) -> Resource:
        """A resource of the account that a form names."""
        row = Resource(
            organisation_id=unit.viewer.organisation,
            account_id=row_named(unit, Account, given["account"], "account", "account"),
            name=given["name"],
        )
        unit.db.add(row)
        return row

    def write(self, unit: Unit, row: Resource, given: Values) -> None:
        """Write a form. BadInput for another account, or a name that another part of it has."""
        _refuse_another_account(row, given)
        _refuse_taken_part(unit, Resource, row, given["name"])
        row.name, row.kind = given["name"], given["kind"]

    def afterwards(self, unit: Unit, row: Resource, before: Values, given: Values) -> None:
        """Nothing depends on a resource's name."""


class Groups(Kind[ResourceGroup]):
    """Resources of one account that are given together."""

    name, noun, table = "groups", "group", ResourceGroup
    parts = frozenset({"resources_in_groups.group_id"})

    def may_make(self, unit: Unit, given: Values) -> None:
        """Whoever answers for the account."""
        unit.sight.require_answers_for(given["account"])

    def opened(self, unit: Unit, ident: UUID, fields: Iterable[str] = (), lock: bool = False) -> ResourceGroup:
        """One of an account that the viewer answers for."""
        row: ResourceGroup = _part(unit, ResourceGroup, ident, self.noun, lock)
        return row

    def values(self, unit: Unit, row: ResourceGroup) -> JsonObject:
        """A group as form values."""
        of = select(ResourceInGroup.resource_id).where(ResourceInGroup.group_id == row.id)
        return {
            "account": row.account_id,
            "name": row.name,
            "resources": list(unit.db.scalars(of.order_by(ResourceInGroup.resource_id))),
        }

    def fresh(self, unit: Unit, given: Values) -> ResourceGroup:
        """A group of resources of the account that a form names."""
        row = ResourceGroup(
            organisation_id=unit.viewer.organisation,
            account_id=row_named(unit, Account, given["account"], "account", "account"),
            name=given["name"],
        )
        unit.db.add(row)
        return row

    def write(self, unit: Unit, row: ResourceGroup, given: Values) -> None:
        """Write a form. BadInput for resources of another account."""
        _refuse_another_account(row, given)
        _refuse_taken_part(unit, ResourceGroup, row, given["name"])
        wanted = set(given["resources"])
        of = select(Resource.id).where(Resource.id.in_(wanted), Resource.account_id == row.account_id)
        if wanted - set(unit.db.scalars(of)):
            raise BadInput("The account has no such resource.", "Choose from its own.", {"resources": "unknown"})
        row.name = given["name"]
        unit.db.flush()
        held = {
            one.resource_id: one
            for one in unit.db.scalars(select(ResourceInGroup).where(ResourceInGroup.group_id == row.id))
        }
        for ident, gone in held.items():
            if ident not in wanted:
                unit.db.delete(gone)
        unit.db.add_all(
            ResourceInGroup(organisation_id=row.organisation_id, group_id=row.id, resource_id=ident)
            for ident in sorted(wanted - set(held))
        )

    def lets_in(self, unit: Unit, row: ResourceGroup | None, before: Values, given: Values) -> Sequence[UUID]:
        """Whoever has the group gets what is added to it."""
        return guard.touched(unit, [row.account_id]) if row is not None else ()


def _part(unit: Unit, table: Table, ident: UUID, noun: str, lock: bool) -> AnyRow:
    sight = unit.sight
    seen = select(table.id).where(table.id == ident)
    if not sight.everything:
        seen = seen.where(table.account_id.in_(sight.owned))
    if unit.db.scalar(seen) is None:
        raise NotFound(f"There is no such {noun}, or you may not see it.")
    return found(unit, table, ident, noun, lock)


def _refuse_another_account(row: AnyRow, given: Values) -> None:
    if given["account"] != row.account_id:
        raise BadInput("A part stays in its account.", "Make another one there.", {"account": "can't change"})


def _refuse_taken_part(unit: Unit, table: Table, row: AnyRow, name: str) -> None:
    same = select(table.id).where(
        func.lower(table.name) == name.lower(), table.account_id == row.account_id, table.archived_at.is_(None)
    )
    if row.id is not None:
        same = same.where(table.id != row.id)
    if unit.db.scalar(same.limit(1)) is not None:
        raise BadInput("The account has a part of that name.", "Use another name.", {"name": "is taken"})
