"""Ways in as plain values, for storing, comparing and answers."""

from __future__ import annotations

from datetime import datetime, time

from openlatch.core.exposure.axes import Values
from openlatch.core.exposure.callers import Callers
from openlatch.core.exposure.chart import Way
from openlatch.core.exposure.conditions import network, network_order
from openlatch.core.exposure.document import write_hours, write_instant
from openlatch.core.exposure.form import DAYS
from openlatch.core.time_windows import WeeklyHours, Window
from openlatch.json_values import JsonObject, JsonView


def write_way(way: Way) -> JsonObject:
    """A way as plain values; what does not narrow it is left out."""
    callers = way.callers
    found: JsonObject = {
        "signed_out": callers.signed_out,
        "signed_in": callers.others,
        "organisations": dict(sorted(callers.organisations.items())),
        "holders": dict(sorted(callers.holders.items())),
    }
    parts: JsonObject = {
        "links": None if way.links is None else sorted(way.links),
        "networks": None if way.networks is None else [str(n) for n in sorted(way.networks, key=network_order)],
        "windows": None if way.windows is None else [_write_window(window) for window in way.windows],
        "hours": None if way.hours is None else [write_hours(hours) for hours in way.hours],
        "secure": way.secure,
        "second_factor": way.second_factor,
        "person": {name: _write_values(values) for name, values in sorted(way.person.items())} or None,
        "not_understood": dict(sorted(way.unknown.items())) or None,
    }
    return found | {name: part for name, part in parts.items() if part is not None}


def read_way(plain: JsonView) -> Way:
    """A way that was written as plain values."""
    callers = Callers(plain["signed_out"], plain["signed_in"], plain["organisations"], plain["holders"])
    links, networks, windows, hours = (plain.get(name) for name in ("links", "networks", "windows", "hours"))
    return Way(
        callers,
        None if links is None else frozenset(links),
        None if networks is None else frozenset(map(network, networks)),
        None if windows is None else tuple(Window(_instant(w["from"]), _instant(w["until"])) for w in windows),
        None if hours is None else tuple(map(_read_hours, hours)),
        plain.get("secure"),
        plain.get("second_factor"),
        {name: Values(**values) for name, values in plain.get("person", {}).items()},
        plain.get("not_understood", {}),
    )


def _write_window(window: Window) -> dict[str, str | None]:
    return {"from": write_instant(window.since), "until": write_instant(window.until)}


def _instant(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)


def _read_hours(plain: JsonView) -> WeeklyHours:
    days = frozenset(DAYS.index(day) for day in plain["days"])
    return WeeklyHours(days, time.fromisoformat(plain["begins"]), time.fromisoformat(plain["ends"]))


def _write_values(values: Values) -> JsonObject:
    return {
        "named": dict(values.named),
        "prefixes": dict(values.prefixes),
        "others": values.others,
        "unset": values.unset,
    }
