"""Exposures in words: who gets in, to do what, from where, when, and under which conditions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import time
from zoneinfo import ZoneInfo

from openlatch.core.exposure.answers import Audience, Exposure
from openlatch.core.exposure.axes import Values, complement
from openlatch.core.exposure.callers import Callers
from openlatch.core.exposure.chart import Way
from openlatch.core.exposure.conditions import Network, network_order
from openlatch.core.exposure.rules import Right
from openlatch.core.time_windows import WeeklyHours, Window, day_in_words, end_in_words
from openlatch.json_values import JsonView

RIGHT_WORDS = {Right.SEE: "see", Right.CHANGE: "change", Right.ADMINISTER: "decide who gets in to"}
AUDIENCE_WORDS = {
    Audience.NAMED: "outsiders who are named",
    Audience.LINK: "anyone with a link",
    Audience.SIGNED_IN: "anyone who signs in",
    Audience.ANYONE: "anyone",
}
_DAYS = ("Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays")
_WEEKDAYS, _WEEKEND, _WEEK = frozenset(range(5)), frozenset({5, 6}), frozenset(range(7))
# So many networks, people or days stand in a sentence; of more it tells how many there are.
MOST_NAMED = 6


def sentence(exposure: Exposure, resource: str, zone: ZoneInfo) -> str:
    """What is open, as one sentence: “Anyone, from 203.0.113.0/24, can see “Press photos”.”."""
    does = RIGHT_WORDS[exposure.right]
    if exposure.entangled:
        return f"Who can {does} “{resource}” could not be worked out from its rules. It counts as open to anyone."
    ways = [way_in_words(opening.way, zone) for opening in exposure.openings]
    more = len(ways) - MOST_NAMED
    who = "; or ".join(ways[:MOST_NAMED]) + (f"; or in {more} more ways" if more > 0 else "")
    # A login's own name is written as it is.
    is_name = not {*who.partition(" ")[0].rstrip(",")}.isdisjoint("@./:_")
    return f"{who if is_name else who[:1].upper() + who[1:]} can {does} “{resource}”."


def way_in_words(way: Way, zone: ZoneInfo) -> str:
    """Who gets in by one way, and under which conditions, without a capital or an end."""
    parts = [_who(way.callers, way.links), *_conditions(way, zone)]
    return parts[0] if len(parts) == 1 else ", ".join(part.rstrip(",") for part in parts) + ","


def _who(callers: Callers, links: frozenset[str] | None) -> str:
    who = _of_callers(callers)
    if links is None:
        return who
    if "" in links:
        return f"{who} without certain links"
    named = _listed([f"“{link}”" for link in sorted(links)], "or")
    return f"{who} with the link {named}"


def _of_callers(callers: Callers) -> str:
    if callers.everyone:
        return "anyone"
    but = [
        *(name for name, truth in callers.organisations.items() if truth != callers.others),
        *(key for key, truth in callers.holders.items() if truth != callers.others),
    ]
    signed_in = ""
    if callers.others:
        signed_in = "anyone outside who signs in" + (f", except {_listed(sorted(but), 'and')}," if but else "")
    else:
        organisations = [f"everyone of {name}" for name, truth in sorted(callers.organisations.items()) if truth]
        holders = sorted(key for key, truth in callers.holders.items() if truth)
        kept_out = sorted(key for key, truth in callers.holders.items() if not truth)
        signed_in = _listed([*organisations, *holders], "and")
        if signed_in and kept_out:
            signed_in += f", except {_listed(kept_out, 'and')},"
    if not callers.signed_out:
        return signed_in
    return f"anyone who has not signed in, and {signed_in}" if signed_in else "anyone who has not signed in"


def _conditions(way: Way, zone: ZoneInfo) -> Iterable[str]:
    if way.networks is not None:
        yield _networks(way.networks)
    if way.hours is not None:
        yield _listed([hours_in_words(hours) for hours in way.hours], "and")
    if way.windows is not None:
        yield _listed([window_in_words(window, zone) for window in way.windows], "and")
    if way.secure is not None:
        yield "over an encrypted connection" if way.secure else "over a connection that is not encrypted"
    if way.second_factor is not None:
        yield "with a second factor" if way.second_factor else "without a second factor"
    for name, values in way.person.items():
        yield _values(name, values)
    for text, truth in way.unknown.items():
        yield f"{'if' if truth else 'unless'} “{text}” (which is not understood)"


def _networks(networks: frozenset[Network]) -> str:
    """From where: the networks, or those that are left out where these are fewer."""
    others = complement(networks)
    if others and len(others) < len(networks):
        return "from anywhere but " + _listed([str(n) for n in sorted(others, key=network_order)], "and")
    return "from " + _listed([str(n) for n in sorted(networks, key=network_order)], "or")


def _values(name: str, values: Values) -> str:
    """What the value of an attribute has to be."""
    if values.others:
        but = [f"“{v}”" for v, truth in values.named.items() if not truth]
        but += [f"what begins with “{p}”" for p, truth in values.prefixes.items() if not truth]
        but += [] if values.unset else ["nothing"]
        return f"whose {name} is not {_listed(but, 'or')}"
    found = [f"“{v}”" for v, truth in values.named.items() if truth]
    found += [f"what begins with “{p}”" for p, truth in values.prefixes.items() if truth]
    return f"whose {name} is {_listed([*found, *(['not set'] if values.unset else [])], 'or')}"


def hours_in_words(hours: WeeklyHours) -> str:
    """Weekly hours as one reads them."""
    days = _days(hours.days)
    if hours.begins == hours.ends == time():
        return days
    ends = "midnight" if hours.ends == time() else f"{hours.ends:%H:%M}"
    return f"{days} from {hours.begins:%H:%M} to {ends}"


def _days(days: frozenset[int]) -> str:
    whole = {_WEEK: "daily", _WEEKDAYS: "on weekdays", _WEEKEND: "at weekends"}
    return whole.get(days) or "on " + _listed([_DAYS[day] for day in sorted(days)], "and")


def window_in_words(window: Window, zone: ZoneInfo) -> str:
    """A window as one reads it."""
    since = "" if window.since is None else f"from {day_in_words(window.since, zone)}"
    until = "" if window.until is None else end_in_words(window.until, zone)
    return " ".join(part for part in (since, until) if part) or "always"


def _listed(parts: Sequence[str], last: str) -> str:
    """Parts as a list in a sentence; of many only so many, and how many more there are."""
    if len(parts) > MOST_NAMED:
        parts = [*parts[: MOST_NAMED - 1], f"{len(parts) - MOST_NAMED + 1} more"]
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} {last} {parts[-1]}" if parts else ""


def rule_in_words(plain: JsonView) -> str:
    """A rule of a document in a few words: whom it admits or refuses, to what."""
    effect = "admit" if "admit" in plain else "refuse"
    names = [each if isinstance(each, str) else str(next(iter(each.values()))) for each in plain[effect]]
    does = "lets in" if effect == "admit" else "keeps out"
    to = _listed([str(permission) for permission in plain["to"]], "and")
    under = ", under conditions" if plain.get("while") else ""
    return f"it {does} {_listed(names, 'and')} to {to}{under}."
