"""Conditions under which an access rule applies, and whether they hold for one request."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_network
from zoneinfo import ZoneInfo

from openlatch.core.time_windows import WeeklyHours, Window

Network = IPv4Network | IPv6Network
Address = IPv4Address | IPv6Address


@dataclass(frozen=True, slots=True)
class OneOf:
    """That a value is one of these. A value that is not set is none of them."""

    values: frozenset[str]

    def holds(self, value: str | None) -> bool:
        """Whether it holds for a value, or for one that is not set."""
        return value in self.values


@dataclass(frozen=True, slots=True)
class BeginsWith:
    """That a value begins with one of these. A value that is not set begins with none."""

    prefixes: frozenset[str]

    def holds(self, value: str | None) -> bool:
        """Whether it holds for a value, or for one that is not set."""
        return value is not None and value.startswith(tuple(self.prefixes))


Test = OneOf | BeginsWith


@dataclass(frozen=True, slots=True)
class Between:
    """That the instant lies in a window."""

    window: Window


@dataclass(frozen=True, slots=True)
class InHours:
    """That the instant lies in weekly hours, as clocks show it in the account's time zone."""

    hours: WeeklyHours


@dataclass(frozen=True, slots=True)
class FromNetwork:
    """That the request comes from an address in one of these networks."""

    networks: frozenset[Network]


@dataclass(frozen=True, slots=True)
class SecondFactor:
    """That a second factor was given."""


@dataclass(frozen=True, slots=True)
class Secure:
    """That the request comes over an encrypted connection."""


@dataclass(frozen=True, slots=True)
class ResourceIs:
    """That an attribute of the resource passes a test."""

    attribute: str
    test: Test


@dataclass(frozen=True, slots=True)
class PersonIs:
    """That an attribute of whoever asks passes a test."""

    attribute: str
    test: Test


@dataclass(frozen=True, slots=True)
class Unknown:
    """A condition that we don't understand, as the system writes it. The same words are the same condition."""

    text: str


@dataclass(frozen=True, slots=True)
class AllOf:
    """That every part holds. Without parts it always holds."""

    parts: tuple[Condition, ...] = ()


@dataclass(frozen=True, slots=True)
class AnyOf:
    """That at least one part holds. Without parts it never holds."""

    parts: tuple[Condition, ...] = ()


@dataclass(frozen=True, slots=True)
class Not:
    """That a condition does not hold."""

    part: Condition


Condition = (
    Between | InHours | FromNetwork | SecondFactor | Secure | ResourceIs | PersonIs | Unknown | AllOf | AnyOf | Not
)
ALWAYS = AllOf()


def leaves(condition: Condition) -> Iterator[Condition]:
    """The elementary conditions that it consists of, from left to right."""
    match condition:
        case AllOf(parts) | AnyOf(parts):
            for part in parts:
                yield from leaves(part)
        case Not(part):
            yield from leaves(part)
        case _:
            yield condition


@dataclass(frozen=True, slots=True)
class Circumstances:
    """Everything about one request that conditions refer to, except who asks and for what.

    ``understood`` says whether a condition that is not understood holds; one that is missing there doesn't.
    """

    at: datetime
    address: Address
    secure: bool = False
    second_factor: bool = False
    person: Mapping[str, str] = field(default_factory=dict)
    resource: Mapping[str, str] = field(default_factory=dict)
    understood: Mapping[str, bool] = field(default_factory=dict)


def holds(condition: Condition, now: Circumstances, zone: ZoneInfo) -> bool:  # noqa: C901  one case a kind
    """Whether a condition holds in these circumstances. Weekly hours count in ``zone``."""
    match condition:
        case AllOf(parts):
            return all(holds(part, now, zone) for part in parts)
        case AnyOf(parts):
            return any(holds(part, now, zone) for part in parts)
        case Not(part):
            return not holds(part, now, zone)
        case Between(window):
            return window.contains(now.at)
        case InHours(hours):
            return hours.contains(now.at, zone)
        case FromNetwork(networks):
            return any(now.address in network for network in networks)
        case SecondFactor():
            return now.second_factor
        case Secure():
            return now.secure
        case ResourceIs(attribute, test):
            return test.holds(now.resource.get(attribute))
        case PersonIs(attribute, test):
            return test.holds(now.person.get(attribute))
        case Unknown(text):
            return now.understood.get(text, False)


def network(text: str) -> Network:
    """A network in CIDR form, or a single address. An IPv6 form of an IPv4 network is that IPv4 network.

    ValueError for anything else, also for one with bits set behind its prefix.
    """
    found = ip_network(text)
    if isinstance(found, IPv6Network) and found.prefixlen >= _MAPPED and found.network_address.ipv4_mapped:
        return IPv4Network((found.network_address.ipv4_mapped, found.prefixlen - _MAPPED))
    return found


_MAPPED = 96


def network_order(each: Network) -> tuple[int, int, int]:
    """What networks are sorted by: the protocol's version, the address, the prefix."""
    return each.version, int(each.network_address), each.prefixlen
