"""What an offer says before it is sent: what somebody will be able to do and not, and whether the address is right."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from rapidfuzz.distance import OSA

from openlatch.core.access.paths import Path, rights_of
from openlatch.core.addresses import FREE_MAIL, domain_of
from openlatch.core.register import Part, Permission, Term
from openlatch.core.time_windows import WeeklyHours
from openlatch.core.vocabulary import Reach

DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
LONGEST_OFFER = timedelta(days=90)


@dataclass(frozen=True, slots=True)
class Abilities:
    """What a level comes to for somebody: in plain sentences, and against what they have already."""

    can: tuple[Permission, ...]
    new: tuple[Permission, ...]
    cannot: tuple[Permission, ...]

    @property
    def reach(self) -> Reach:
        """The furthest of what they can do."""
        return max((p.reach for p in self.can), default=Reach.OBSERVE)


def abilities(terms: Sequence[Term], known: Iterable[Permission], already: Sequence[Path] = ()) -> Abilities:
    """What these terms let one do, what of it is new, and what of the system's permissions is still out of reach.

    A right is new where it is not held yet on all of what the term is on.
    """
    held = {p for term in terms for p in term.level.permissions}
    new = {p for term in terms for p in term.level.permissions - _held_on(term.part, already)}
    reached = {p.key for p in held | rights_of(already)}
    return Abilities(_ordered(held), _ordered(new), _ordered({p for p in known if p.key not in reached}))


def _held_on(part: Part | None, paths: Iterable[Path]) -> set[Permission]:
    """The rights that paths give on a part, or on the whole account."""
    covering = (p for p in paths if p.part is None or (part is not None and part.resources <= p.part.resources))
    return {permission for path in covering for permission in path.permissions}


def _ordered(found: Iterable[Permission]) -> tuple[Permission, ...]:
    return tuple(sorted(found, key=lambda p: (p.reach, p.sentence)))


def slips(address: str, known: Iterable[str]) -> list[str]:
    """The known addresses from which this one is a single slip away: a letter more, less, other or swapped."""
    return sorted(other for other in known if other != address and OSA.distance(address, other, score_cutoff=1) == 1)


def address_warnings(address: str, inside: bool, known: Iterable[str], inside_domains: Iterable[str]) -> list[str]:
    """What to look at twice about an address, as sentences. Nothing when there is nothing."""
    found = [f"{address} is one slip away from {other}, which is known here." for other in slips(address, known)]
    domain = domain_of(address)
    if inside and domain in FREE_MAIL:
        found.append(f"{address} is at a mail service for everybody, though the person is meant to be inside.")
    near = slips(domain, inside_domains)
    if near:
        found.append(f"The domain {domain} is one slip away from {near[0]}.")
    return found


def hours_in_words(hours: WeeklyHours | None) -> str:
    """Weekly hours as one reads them."""
    if hours is None:
        return ""
    days = sorted(hours.days)
    if days == list(range(days[0], days[-1] + 1)) and len(days) > 2:
        told = f"{DAYS[days[0]]} to {DAYS[days[-1]]}"
    else:
        told = ", ".join(DAYS[day] for day in days)
    return f"{told}, {hours.begins:%H:%M} to {hours.ends:%H:%M}"


def runs_out(now: datetime, hours: int) -> datetime:
    """When an offer sent now runs out; never later than 90 days on."""
    return now + min(timedelta(hours=hours), LONGEST_OFFER)
