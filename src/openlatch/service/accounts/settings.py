"""Settings about giving access: of the organisation, an account, a team."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from openlatch import schemas
from openlatch.core import addresses
from openlatch.core.time_windows import zone_of
from openlatch.core.vocabulary import Standing
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import end_reminders, lifecycle
from openlatch.service.identity import authentication
from openlatch.service.offers import preview
from openlatch.service.offers import send as send_offer
from openlatch.service.people import erasure
from openlatch.service.unit import Unit
from openlatch.store.lists import register
from openlatch.store.tables import Organisation, Person, Team


def shown(unit: Unit) -> schemas.Settings:
    """The organisation's settings about giving access."""
    held = preview.settings_of(unit)
    return schemas.Settings(
        offer_hours=send_offer.hours_to_answer(unit),
        inside_domains=preview.inside_domains(unit),
        prerequisites=list(held.get("prerequisites", [])),
        auditors=list(held.get("auditors", [])),
        remind_days=end_reminders.days_before(unit),
        keep_left_months=erasure.months_kept(unit),
        when_deactivated="at_once" if held.get("when_deactivated") == "at_once" else "ask",
    )


def change(
    unit: Unit,
    offer_hours: int,
    inside_domains: Sequence[str],
    prerequisites: Sequence[str],
    auditors: Sequence[str] | None = None,
    remind_days: Sequence[int] | None = None,
    keep_left_months: int | None = None,
    when_deactivated: str | None = None,
) -> schemas.Settings:
    """Change these settings; ``auditors`` and what follows stay as they are when left out. BadInput for an invalid
    domain or address.
    """
    unit.sight.require_administrator()
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    domains = sorted({d.strip().lower() for d in inside_domains if d.strip()})
    if any("." not in d or "@" in d for d in domains):
        raise BadInput("A domain can't be read.", "Write it as example.org.", {"inside_domains": "not a domain"})
    held = row.settings.get("auditors", [])
    wanted = held if auditors is None else sorted({a.strip() for a in auditors if a.strip()})
    for address in set(wanted) - set(held):
        try:
            addresses.checked(address)
        except ValueError as error:
            said = f"The auditor's address {address[:60]!r} can't be read. {error}."
            raise BadInput(said, "Write it as ada@example.org.", {"auditors": "no address"}) from None
    row.settings = {
        **row.settings,
        "auditors": wanted,
        "offer_hours": offer_hours,
        "inside_domains": domains,
        "prerequisites": list(prerequisites),
        **({} if remind_days is None else {"remind_days": sorted(set(remind_days), reverse=True)}),
        **({} if keep_left_months is None else {"keep_left_months": keep_left_months}),
        **({} if when_deactivated is None else {"when_deactivated": when_deactivated}),
    }
    unit.record("settings.changed", "organisation", row.id, row.name, **row.settings)
    unit.db.flush()
    return shown(unit)


def set_organisation(unit: Unit, name: str, time_zone: str) -> schemas.Me:
    """Set the organisation's name and time zone. BadInput for an unknown time zone."""
    unit.sight.require_administrator()
    try:
        zone_of(time_zone)
    except ValueError:
        raise BadInput(
            f"There is no time zone {time_zone!r}.", "Write one like Europe/London.", {"time_zone": "unknown"}
        ) from None
    row = unit.db.get_one(Organisation, unit.viewer.organisation, with_for_update=True)
    changed = {
        f: [was, will]
        for f, was, will in (("name", row.name, name), ("time_zone", row.time_zone, time_zone))
        if was != will
    }
    if changed:
        row.name, row.time_zone = name, time_zone
        # Flags name days in the organisation's time zone.
        evaluate_flags.forget(unit)
        unit.record("organisation.changed", "organisation", row.id, name, changed=changed)
        unit.db.flush()
    return authentication.describe(unit)


def set_account(
    unit: Unit, ident: UUID, emergency_hours: int | None, prerequisites: Sequence[str], version: int | None
) -> schemas.AccountRow:
    """Set for how long an account opens in an emergency, and what people need before they can accept. Only by its
    owner.
    """
    unit.sight.require_owns(ident)
    account = lifecycle.account_of(unit, ident, lock=True)
    if version is not None and version != account.version:
        raise Conflict("The account was changed meanwhile.", "Look at it again.")
    account.emergency_hours, account.prerequisites = emergency_hours, list(prerequisites)
    account.version += 1
    unit.record(
        "account.giving_set",
        "account",
        ident,
        account.name,
        ident,
        emergency_hours=emergency_hours,
        prerequisites=list(prerequisites),
    )
    unit.db.flush()
    found = register.ACCOUNTS.one(unit.db, ident)
    assert found is not None
    return schemas.AccountRow.model_validate(found)


def set_speaker(unit: Unit, team: UUID, speaker: UUID | None) -> schemas.TeamRow:
    """Set who answers offers to a team."""
    unit.sight.require_administrator()
    row = unit.db.get(Team, team, with_for_update=True)
    if row is None:
        raise NotFound("There is no such team.")
    person = unit.db.get(Person, speaker) if speaker else None
    if speaker is not None and (person is None or person.standing == Standing.LEFT):
        raise BadInput("There is no such person, or they have left.", "Choose another.", {"speaker": "unknown"})
    row.speaker_id = speaker
    unit.record("team.speaker_set", "team", row.id, row.name, speaker=person.name if person else None)
    unit.db.flush()
    found = register.TEAMS.one(unit.db, team)
    assert found is not None
    return schemas.TeamRow.model_validate(found)
