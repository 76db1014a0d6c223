"""The smallest rule that covers outsiders' use of a resource."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import collapse_addresses, ip_network

from openlatch.core.exposure.conditions import Address, Network, network_order
from openlatch.core.exposure.paths import key_of
from openlatch.core.exposure.rules import Right
from openlatch.json_values import JsonList, JsonObject

# Networks that are told: those of a house or an office, not single addresses, which change.
_V4_BITS, _V6_BITS = 24, 48
# More than so many networks are no rule that anybody would write.
MOST_NETWORKS = 10


@dataclass(frozen=True, slots=True)
class Use:
    """One use: by whom, if known, and from which address."""

    who: str
    address: Address | None


def narrowest(uses: Sequence[Use], right: Right, path: str) -> JsonObject | None:
    """A rule, in the form of a rule document, that admits exactly those who used it, from where they did.

    None when nothing was used, or it was used from everywhere by nobody in particular.
    """
    if not uses:
        return None
    names = sorted({use.who for use in uses})
    admits: JsonList = ["anyone"] if "" in names else [{"holder": name} for name in names]
    networks = networks_of(uses)
    if networks is None and "" in names:
        return None
    rule: JsonObject = {
        "rule": "as-used",
        "because": "It covers the use that was seen.",
        "admit": admits,
        "to": [right.value],
        "on": ["/**"],
        "set_on": {"resource": path},
    }
    return {**rule, "while": [{"from_network": networks}]} if networks else rule


def refusals(uses: Sequence[Use], right: Right, path: str) -> list[JsonObject]:
    """Rules, in the form of a rule document, that keep all outsiders out of a resource except those who used it.

    They are set on the resource, where a refusal decides however rules combine, so nothing else is touched. Empty where
    ``narrowest`` is None.
    """
    rule = narrowest(uses, right, path)
    if rule is None:
        return []
    key, about = _refusal(right, path)
    because = "Only the use that was seen continues."
    found: list[JsonObject] = []
    if rule["admit"] != ["anyone"]:
        found.append(
            {"rule": f"{key}.who", "because": because, "refuse": ["anyone"], "but": ["inside", *rule["admit"]], **about}
        )
    if "while" in rule:
        found.append(
            {
                "rule": f"{key}.where",
                "because": because,
                "refuse": ["anyone"],
                "but": ["inside"],
                **about,
                "while": [{"none": rule["while"]}],
            }
        )
    return found


def shut(right: Right, path: str) -> list[JsonObject]:
    """The same where no use of this right was seen, while use of another was: no outsider keeps it."""
    key, about = _refusal(right, path)
    return [
        {"rule": f"{key}.who", "because": "No use of it was seen.", "refuse": ["anyone"], "but": ["inside"], **about}
    ]


def _refusal(right: Right, path: str) -> tuple[str, JsonObject]:
    """The beginning of the keys of refusals on a resource, and the members that they share."""
    key = f"as-used.{right.value}.{key_of(path.removeprefix('/'))}"
    return key, {"to": [right.value], "on": ["/**"], "set_on": {"resource": path}}


def networks_of(uses: Sequence[Use]) -> list[str] | None:
    """The networks around the addresses of use; None when an address is unknown, or there are too many."""
    found: list[Network] = []
    for use in uses:
        if use.address is None:
            return None
        bits = _V4_BITS if use.address.version == 4 else _V6_BITS
        found.append(ip_network(f"{use.address}/{bits}", strict=False))
    by_version = [[each for each in found if each.version == version] for version in (4, 6)]
    joined = [each for several in by_version for each in collapse_addresses(several)]  # type: ignore[type-var]
    return [str(each) for each in sorted(joined, key=network_order)] if len(joined) <= MOST_NETWORKS else None
