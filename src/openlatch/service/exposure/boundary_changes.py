"""Changing the trust boundary, with a preview of the exposures that it adds and removes."""

from __future__ import annotations

import re
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.exposure.conditions import network
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.canonical_json import jsonable
from openlatch.service.exposure import account_rules, boundary, evaluate, previews, system_guards
from openlatch.service.unit import Unit
from openlatch.store.tables import AccessRule, Account, Organisation, System

_DOMAIN = re.compile(r"[a-z0-9-]+(\.[a-z0-9-]+)+")


def shown(unit: Unit) -> schemas.Boundary:
    """The boundary as an answer."""
    return _plain(boundary.setting(unit))


def _plain(told: boundary.Setting) -> schemas.Boundary:
    return schemas.Boundary(
        domains=list(told.domains),
        organisations=list(told.organisations),
        networks=list(told.networks),
        systems=list(told.systems),
    )


def preview(unit: Unit, wish: boundary.Setting) -> schemas.ExposureChanges:
    """Which exposures would come and go with another boundary."""
    unit.sight.require_administrator()
    told = _checked(unit, wish)
    return previews.of_accounts(unit, _with_rules(unit), lambda account: account_rules.opened(unit, account, told))


def change(unit: Unit, wish: boundary.Setting) -> schemas.Boundary:
    """Set the boundary and evaluate everything again. BadInput for an invalid domain or network."""
    unit.sight.require_administrator()
    told = _checked(unit, wish)
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    before = shown(unit)
    kept: dict[str, list[str]] = jsonable(_plain(told))
    domains = kept.pop("domains")
    row.settings = {**row.settings, "inside_domains": domains, "boundary": kept}
    unit.db.flush()
    if shown(unit) != before:
        facts: JsonObject = {**kept, "domains": domains}
        unit.record("boundary.changed", "organisation", row.id, row.name, **facts)
        evaluate.soon(unit, _with_rules(unit))
        system_guards.tell_anew(unit)
        unit.announce("settings")
    return shown(unit)


def _with_rules(unit: Unit) -> list[UUID]:
    ruled = select(AccessRule.account_id).distinct()
    wanted = select(Account.id).where(Account.id.in_(ruled), Account.archived_at.is_(None))
    return list(unit.db.scalars(wanted.order_by(Account.id)))


def _network(text: str) -> str:
    try:
        return str(network(text))
    except ValueError as error:
        remedy = "Write it as 203.0.113.0/24 or 2001:db8::/32."
        raise BadInput(f"{text!r} is not a network.", remedy, {"networks": "not a network"}) from error


def _checked(unit: Unit, wish: boundary.Setting) -> boundary.Setting:
    domains, organisations = (
        tuple(sorted({d.strip().lower() for d in several if d.strip()}))
        for several in (wish.domains, wish.organisations)
    )
    if wrong := next((d for d in domains if not _DOMAIN.fullmatch(d)), None):
        raise BadInput(f"{wrong} is not a domain.", "Write it as example.org.", {"domains": "not a domain"})
    networks = tuple(dict.fromkeys(_network(text.strip()) for text in wish.networks if text.strip()))
    known = set(unit.db.scalars(select(System.id).where(System.id.in_(wish.systems))))
    if known != set(wish.systems):
        raise BadInput("There is no such system.", "Name systems that are connected.", {"systems": "not known"})
    return boundary.Setting(domains, organisations, networks, tuple(sorted(known)))
