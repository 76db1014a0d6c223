"""Which column of a file is which of our fields, suggested by names and contents."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from rapidfuzz.fuzz import token_sort_ratio

from openlatch.core.files import records
from openlatch.core.files.records import BadField, Field, RecordKind

# What others call the same, in small letters without signs.
CALLED: Mapping[str, tuple[str, ...]] = {
    "key": ("id", "identifier", "number", "no", "reference", "staff number", "employee number", "username"),
    "name": ("full name", "display name", "title", "person", "account name"),
    "address": ("e mail", "email", "mail", "email address", "e mail address"),
    "job": ("role", "position", "function", "job title"),
    "manager": ("supervisor", "boss", "reports to", "line manager"),
    "inside": ("internal", "employee", "is internal"),
    "standing": ("status", "state"),
    "leaves_on": ("end date", "last day", "leaving date", "leaves", "contract end"),
    "since": ("from", "start", "start date", "begins", "valid from"),
    "until": ("to", "end", "end date", "ends", "expires", "expiry", "valid until", "valid to"),
    "account": ("mailbox", "resource", "database", "account key"),
    "holder": ("user", "person", "member", "who", "delegate"),
    "level": ("role", "permission", "access level", "rights", "access"),
    "given_by": ("granted by", "approved by", "approver", "by"),
    "given_at": ("granted at", "granted on", "approved at", "date"),
    "last_used_at": ("last used", "last access", "last login", "last seen"),
    "owner": ("responsible", "contact", "owned by"),
    "system": ("server", "platform", "service"),
    "sensitivity": ("criticality", "classification", "importance"),
    "publisher": ("vendor", "company", "developer"),
    "home_page": ("website", "url", "homepage", "web site"),
    "second_factor": ("two factor", "mfa", "2fa"),
    "team": ("group", "department"),
    "member": ("user", "person"),
    "purpose": ("description", "about", "what for"),
}
# Readers that take only some texts: what they can read tells something.
_TELLING: tuple[Callable[..., object], ...] = (
    records.address,
    records.web_address,
    records.instant,
    records.end,
    records.truth,
    records.sensitivity,
    records.network,
    records.zone_name,
)
FITS_BY_NAME = 80
FEWEST_SAMPLES = 2


@dataclass(frozen=True, slots=True)
class Match:
    """The field suggested for a column, and why: its ``name``, its ``content``, or empty."""

    field: str = ""
    by: str = ""


def suggest(kind: RecordKind, samples: Mapping[str, Sequence[str]], zone: ZoneInfo) -> dict[str, Match]:
    """For each column, with some of its values, the field that fits best; no field twice."""
    scored = [
        (_score(column, values, field, zone), column, field)
        for column, values in samples.items()
        for field in kind.fields
    ]
    scored.sort(key=lambda one: (-one[0][0], one[1], one[2].name))
    found: dict[str, Match] = {}
    taken: set[str] = set()
    for (points, by), column, field in scored:
        if by and points >= FITS_BY_NAME and column not in found and field.name not in taken:
            found[column] = Match(field.name, by)
            taken.add(field.name)
    return {column: found.get(column, Match()) for column in samples}


def _score(column: str, values: Sequence[str], field: Field, zone: ZoneInfo) -> tuple[float, str]:
    """How well a column fits a field, up to 100, and by what."""
    called = _plain(column)
    named = _plain(field.name)
    points = 100.0 if called == named else token_sort_ratio(called, named)
    if called in CALLED.get(field.name, ()):
        points = max(points, 95.0)
    filled = [value for value in values if value.strip()]
    if field.read not in _TELLING or len(filled) < FEWEST_SAMPLES:
        return points, "name"
    share = sum(_can_read(field, value, zone) for value in filled) / len(filled)
    if share < 0.5:
        # What it is called does not help where it can't be read.
        return points / 2, "name"
    by_content = 85.0 if share == 1 and field.read is records.address else 0.0
    return (points, "name") if points >= by_content else (by_content, "content")


def _can_read(field: Field, value: str, zone: ZoneInfo) -> bool:
    try:
        field.read(value, zone)
    except BadField:
        return False
    return True


def _plain(name: str) -> str:
    return " ".join(re.sub(r"[^a-z0-9]+", " ", name.lower()).split())
