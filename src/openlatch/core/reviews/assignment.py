"""Who is asked about an item: the first in line who may decide it.

Nobody decides on their own access, nor on what they gave; somebody who is away is stood in for by their deputy. When
nobody in line may, an administrator takes it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from uuid import UUID

from openlatch.core.time_windows import Window
from openlatch.json_values import JsonObject, JsonView

MAY_BE_THE_SAME = "may be the same person as whoever holds or gave it"


class Line(StrEnum):
    """Who can stand in the line of those who are asked."""

    OWNER = "owner"
    MANAGER = "manager"
    PERSON = "person"
    TEAM = "team"


@dataclass(frozen=True, slots=True)
class Place:
    """One place in the line; with ``account_kind`` it counts only for accounts of that kind."""

    kind: Line
    id: UUID | None = None
    account_kind: str = ""

    @classmethod
    def of(cls, stored: JsonView) -> Place:
        """A place as it is stored and sent."""
        ident = stored.get("id")
        return cls(Line(stored["kind"]), UUID(str(ident)) if ident else None, stored.get("account_kind") or "")

    @property
    def stored(self) -> JsonObject:
        """As it is stored and sent."""
        return {"kind": self.kind.value, "id": str(self.id) if self.id else None, "account_kind": self.account_kind}


@dataclass(frozen=True, slots=True)
class Colleague:
    """A person as somebody who can be asked. ``away`` is when they are absent."""

    id: UUID
    name: str
    manager: UUID | None = None
    deputy: UUID | None = None
    away: Window | None = None
    gone: bool = False


@dataclass(frozen=True, slots=True)
class Staff:
    """Everybody who can be asked: people, the members of teams by their ids, and the administrators in order."""

    people: Mapping[UUID, Colleague]
    teams: Mapping[UUID, tuple[str, frozenset[UUID]]] = field(default_factory=dict)
    administrators: Sequence[UUID] = ()


@dataclass(frozen=True, slots=True)
class About:
    """What decides who may be asked about an item: whose access it is, who gave it, whose account it is."""

    holder: UUID | None = None
    given_by: UUID | None = None
    owner: UUID | None = None
    account_kind: str = ""
    insiders: frozenset[UUID] = frozenset()
    duplicates: frozenset[UUID] = frozenset()

    def refusal(self, person: UUID) -> str | None:
        """Why this person may not decide it, or None when they may.

        ``insiders`` get in by what is decided on; the account's owner gets in anyway. ``duplicates`` are records that
        may be of the same human being as its holder or whoever gave it.
        """
        if person == self.holder or (person in self.insiders and person != self.owner):
            return "holds it"
        if person == self.given_by:
            return "gave it"
        return MAY_BE_THE_SAME if person in self.duplicates else None


@dataclass(frozen=True, slots=True)
class Assigned:
    """Who is asked: a person or a team, nobody when nobody may. ``words`` says why they are."""

    person: UUID | None
    team: UUID | None
    words: str
    by_default: bool = False


def assign(line: Sequence[Place], about: About, staff: Staff, now: datetime, but: UUID | None = None) -> Assigned:
    """The first in line who may decide. After the line come the account's owner and the administrators.

    ``but`` is somebody who has had their say already: for a second reviewer.
    """
    passed: list[str] = []
    places = [p for p in line if not p.account_kind or p.account_kind == about.account_kind]
    for place in [*places, Place(Line.OWNER)]:
        if place.kind is Line.TEAM and place.id is not None and place.id in staff.teams:
            name, members = staff.teams[place.id]
            if any(_may(about, staff, member, now, but) for member in members):
                return Assigned(None, place.id, _why(f"Anyone of {name}", passed))
            passed.append(f"nobody of {name} may")
            continue
        for person, as_ in _candidates(place, about, staff):
            found = _stand_in(about, staff, person, as_, now, but, passed)
            if found is not None:
                return found
    for administrator in staff.administrators:
        if _may(about, staff, administrator, now, but):
            return Assigned(administrator, None, _why("Administrator", passed), by_default=True)
    return Assigned(None, None, _why("Nobody may decide it yet", passed), by_default=True)


def _candidates(place: Place, about: About, staff: Staff) -> Iterator[tuple[UUID, str]]:
    if place.kind is Line.OWNER and about.owner is not None:
        yield about.owner, "Owner of the account"
    elif place.kind is Line.MANAGER and about.holder is not None and about.holder in staff.people:
        manager = staff.people[about.holder].manager
        if manager is not None:
            yield manager, "Manager of the holder"
    elif place.kind is Line.PERSON and place.id is not None:
        yield place.id, "Named"


def _stand_in(
    about: About, staff: Staff, person: UUID, as_: str, now: datetime, but: UUID | None, passed: list[str]
) -> Assigned | None:
    """That person, or their deputy while they are away; what is in the way is added to ``passed``."""
    known = staff.people.get(person)
    if known is None or person == but:
        return None
    refusal = "has left" if known.gone else about.refusal(person)
    away = known.away is not None and known.away.contains(now)
    if refusal is None and not away:
        return Assigned(person, None, _why(as_, passed))
    passed.append(f"{known.name} {refusal or 'is away'}")
    if refusal is None and known.deputy is not None and _may(about, staff, known.deputy, now, but):
        return Assigned(known.deputy, None, _why(f"Deputy of {known.name}", passed))
    return None


def _may(about: About, staff: Staff, person: UUID, now: datetime, but: UUID | None) -> bool:
    known = staff.people.get(person)
    if known is None or known.gone or person == but or about.refusal(person) is not None:
        return False
    return known.away is None or not known.away.contains(now)


def _why(as_: str, passed: Sequence[str]) -> str:
    reasons = list(dict.fromkeys(passed))
    return f"{as_}, since {' and '.join(reasons)}." if reasons else f"{as_}."
