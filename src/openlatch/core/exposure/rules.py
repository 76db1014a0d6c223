"""Access rules: whom they admit or refuse, to what, on which resources, while what holds; and how rules combine."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import IntEnum, StrEnum
from zoneinfo import ZoneInfo

from openlatch.core.exposure.conditions import ALWAYS, Circumstances, Condition, FromNetwork, Network, holds, network
from openlatch.core.exposure.paths import around, covers, fixed_segments, place_of


class Right(StrEnum):
    """What an access rule can let somebody do with a resource."""

    SEE = "see"
    CHANGE = "change"
    ADMINISTER = "administer"


class Effect(StrEnum):
    """What a rule does to the requests that it applies to."""

    ADMIT = "admit"
    REFUSE = "refuse"


class Combining(StrEnum):
    """How a system decides between rules that apply to the same request. Without any, the request is refused."""

    REFUSE_WINS = "refuse_wins"
    FIRST_MATCH = "first_match"
    MOST_SPECIFIC = "most_specific"


class Place(IntEnum):
    """What a rule is set on, from the outermost to the innermost."""

    SYSTEM = 0
    ACCOUNT = 1
    GROUP = 2
    RESOURCE = 3


class WhoKind(StrEnum):
    """The kinds of people that a rule can be about."""

    ANYONE = "anyone"
    SIGNED_IN = "signed_in"
    INSIDE = "inside"
    ORGANISATION = "organisation"
    HOLDER = "holder"
    LINK = "link"
    NETWORK = "network"


@dataclass(frozen=True, slots=True)
class Who:
    """Whom a rule is about. ``name`` is that of the organisation, the holder or the link, or a network in CIDR form."""

    kind: WhoKind
    name: str = ""


ANYONE = Who(WhoKind.ANYONE)
SIGNED_IN = Who(WhoKind.SIGNED_IN)
INSIDE = Who(WhoKind.INSIDE)


@dataclass(frozen=True, slots=True)
class Terms:
    """What a rule says, without its place: rules that say the same have equal terms.

    ``permissions`` are keys that the system's table maps to rights. A right's own word stands for all of its
    permissions. Those in ``but`` are excepted.
    """

    effect: Effect
    who: frozenset[Who]
    permissions: frozenset[str]
    condition: Condition = ALWAYS
    but: frozenset[Who] = frozenset()


@dataclass(frozen=True, slots=True)
class Rule:
    """An access rule in its place.

    ``on`` are the resources that it covers, as patterns over paths. ``place`` and ``of`` say what it is set on: the
    system, or an account, group or resource by its key. ``order`` is its position there.
    """

    key: str
    terms: Terms
    on: tuple[str, ...] = ("/**",)
    place: Place = Place.ACCOUNT
    of: str = ""
    order: int = 0
    name: str = ""
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Resource:
    """A resource as rules see it: its path, the groups above it from the nearest, and its attributes.

    Without ``inherits`` only rules that are set on itself, and those of the system, apply.
    """

    path: str
    groups: tuple[str, ...] = ()
    attributes: Mapping[str, str] = field(default_factory=dict)
    inherits: bool = True


@dataclass(frozen=True, slots=True)
class Holder:
    """Somebody whom rules name, as the register knows them."""

    key: str
    inside: bool = False
    organisation: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Boundary:
    """What counts as inside: organisations (or their domains) and networks.

    A request that comes from a network inside is no outsider's, whoever makes it.

    ``members_only`` says that only people inside, and the outsiders whom the register knows there, can sign in to the
    system; ``outsiders_known`` whether there are any.
    """

    organisations: frozenset[str] = frozenset()
    networks: frozenset[Network] = frozenset()
    members_only: bool = False
    outsiders_known: bool = False

    def has(self, organisation: str) -> bool:
        """Whether an organisation is inside, by its name or a domain above it."""
        labels = organisation.split(".")
        return any(".".join(labels[i:]) in self.organisations for i in range(len(labels)))


@dataclass(frozen=True, slots=True)
class Manner:
    """How a system decides: its way of combining, its permissions with their rights, and its time zone."""

    combining: Combining
    permissions: Mapping[str, Right]
    zone: ZoneInfo

    def named(self, keys: Iterable[str]) -> frozenset[str]:
        """The permissions for these keys. A key that the system does not have stays as it is."""
        found: set[str] = set()
        for key in keys:
            if key in _RIGHTS:
                found.update(p for p, right in self.permissions.items() if right == key)
            else:
                found.add(key)
        return frozenset(found)


@dataclass(frozen=True, slots=True)
class Caller:
    """Who asks: nobody in particular, or somebody signed in, who may be a known holder."""

    signed_in: bool = False
    holder: str = ""
    organisation: str = ""
    inside: bool = False
    link: str = ""


@dataclass(frozen=True, slots=True)
class Request:
    """One request: who asks for which permission, in which circumstances."""

    caller: Caller
    permission: str
    now: Circumstances


# No path begins so.
_GROUP = "group:"
_RIGHTS = frozenset(right.value for right in Right)


def _is(who: Who, request: Request, zone: ZoneInfo) -> bool:
    caller = request.caller
    match who.kind:
        case WhoKind.ANYONE:
            return True
        case WhoKind.SIGNED_IN:
            return caller.signed_in
        case WhoKind.INSIDE:
            return caller.signed_in and caller.inside
        case WhoKind.ORGANISATION:
            return caller.signed_in and caller.organisation == who.name
        case WhoKind.HOLDER:
            return caller.signed_in and caller.holder == who.name
        case WhoKind.LINK:
            return caller.link == who.name
        case WhoKind.NETWORK:
            return holds(as_condition(who), request.now, zone)


def as_condition(who: Who) -> Condition:
    """The condition equivalent to an address range among those a rule is about."""
    return FromNetwork(frozenset({network(who.name)}))


def applies(terms: Terms, request: Request, manner: Manner) -> bool:
    """Whether a rule with these terms applies to a request on a resource that it covers."""
    return (
        request.permission in manner.named(terms.permissions)
        and any(_is(who, request, manner.zone) for who in terms.who)
        and not any(_is(who, request, manner.zone) for who in terms.but)
        and holds(terms.condition, request.now, manner.zone)
    )


def tiers(rules: Sequence[Rule], resource: Resource, combining: Combining) -> list[list[Rule]]:
    """Rules that cover a resource, in the order in which they are asked.

    The first tier with a rule that applies decides, and in it a refusal wins.
    """
    match combining:
        case Combining.REFUSE_WINS:
            return [list(rules)]
        case Combining.FIRST_MATCH:
            return [[rule] for rule in sorted(rules, key=lambda r: (-r.place, _height(r, resource), r.order, r.key))]
        case Combining.MOST_SPECIFIC:
            found: dict[tuple[int, int, int], list[Rule]] = {}
            for rule in rules:
                found.setdefault(_distance(rule, resource), []).append(rule)
            return [found[distance] for distance in sorted(found)]


def covering(rules: Iterable[Rule], resource: Resource) -> list[Rule]:
    """The rules that cover a resource. For few rules; ``paths.Index`` finds those whose patterns fit among many."""
    fit = (rule for rule in rules if any(covers(pattern, resource.path) for pattern in rule.on))
    return [rule for rule in fit if is_set_above(rule, resource)]


def places_of(rule: Rule) -> frozenset[str]:
    """Where everything that a rule may cover is: paths at or above it, or its group.

    A rule can cover a resource only if it has one of these in common with ``places_around`` the resource.
    """
    match rule.place:
        case Place.RESOURCE:
            return frozenset({rule.of})
        case Place.GROUP:
            return frozenset({_GROUP + rule.of})
        case Place.ACCOUNT | Place.SYSTEM:
            return frozenset(place_of(pattern) for pattern in rule.on)


def places_around(resource: Resource) -> frozenset[str]:
    """The places that a resource is in: its path, those above it, and its groups."""
    return frozenset({*around(resource.path), *(_GROUP + group for group in resource.groups)})


def group_in(place: str) -> str | None:
    """The group that a place is; None for a path."""
    return place.removeprefix(_GROUP) if place.startswith(_GROUP) else None


def is_set_above(rule: Rule, resource: Resource) -> bool:
    """Whether what a rule is set on is the resource, or is above it and passes its rules on."""
    match rule.place:
        case Place.RESOURCE:
            return rule.of == resource.path
        case Place.GROUP:
            return resource.inherits and rule.of in resource.groups
        case Place.ACCOUNT:
            return resource.inherits
        case Place.SYSTEM:
            return True


def decide(rules: Sequence[Rule], guards: Sequence[Rule], resource: Resource, request: Request, manner: Manner) -> bool:
    """Whether a request gets in. ``rules`` are those that cover the resource; ``guards`` refuse above all of them."""
    if any(applies(guard.terms, request, manner) for guard in guards):
        return False
    for tier in tiers(rules, resource, manner.combining):
        met = [rule.terms.effect for rule in tier if applies(rule.terms, request, manner)]
        if met:
            return Effect.REFUSE not in met
    return False


def _height(rule: Rule, resource: Resource) -> int:
    """How far above the resource the group is that a rule is set on."""
    return resource.groups.index(rule.of) if rule.place is Place.GROUP and rule.of in resource.groups else 0


def _distance(rule: Rule, resource: Resource) -> tuple[int, int, int]:
    """How far a rule is from the resource: what it is set on, and how much its pattern leaves open."""
    named = max((fixed_segments(pattern, resource.path) for pattern in rule.on), default=0)
    return -rule.place, _height(rule, resource), -named
