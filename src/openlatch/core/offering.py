"""What an offer says before it is sent: what somebody will be able to do and not, and whether the address is right."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from rapidfuzz.distance import OSA

from openlatch.core.register import Level, Permission
from openlatch.core.windows import WeeklyHours
from openlatch.core.words import Reach

# Mail services where anyone gets an address. An organisation can add to them in its settings.
FREE_MAIL = frozenset(
    {
        "aol.com", "fastmail.com", "freemail.example", "gmail.com", "gmx.com", "gmx.de", "gmx.net", "googlemail.com",
        "hotmail.com", "icloud.com", "laposte.net", "libero.it", "live.com", "mail.com", "mail.ru", "msn.com",
        "orange.fr", "outlook.com", "proton.me", "protonmail.com", "qq.com", "seznam.cz", "t-online.de", "web.de",
        "wp.pl", "yahoo.com", "yandex.ru", "zoho.com",
    }
)  # fmt: skip
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


def abilities(levels: Sequence[Level], known: Iterable[Permission], already: frozenset[Permission]) -> Abilities:
    """What these levels let one do, what of it is new, and what of the system's permissions is still out of reach."""
    held = {p for level in levels for p in level.permissions}
    reached = {p.key for p in held | already}
    return Abilities(_ordered(held), _ordered(held - already), _ordered({p for p in known if p.key not in reached}))


def _ordered(found: Iterable[Permission]) -> tuple[Permission, ...]:
    return tuple(sorted(found, key=lambda p: (p.reach, p.sentence)))


def slips(address: str, known: Iterable[str]) -> list[str]:
    """The known addresses from which this one is a single slip away: a letter more, less, other or swapped."""
    return sorted(other for other in known if other != address and OSA.distance(address, other, score_cutoff=1) == 1)


def address_warnings(address: str, inside: bool, known: Iterable[str], inside_domains: Iterable[str]) -> list[str]:
    """What to look at twice about an address, as sentences. Nothing when there is nothing."""
    found = [f"{address} is one slip away from {other}, which is known here." for other in slips(address, known)]
    domain = address.rpartition("@")[2]
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
