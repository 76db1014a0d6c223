"""Adapters read access in the systems where accounts live, and change it there. One package for each kind of system."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial
from importlib import import_module
from importlib.metadata import EntryPoint, entry_points

from structlog import get_logger

from openlatch.adapters.contract import (
    NOTHING,
    Abilities,
    Adapter,
    Found,
    FoundLevel,
    FoundPart,
    FoundRule,
    Holding,
    Login,
    Presence,
    Reading,
    RuleManner,
    Setting,
    SharedAccount,
    Unchanged,
    Used,
    UsedOutside,
    Whole,
    whole,
)
from openlatch.adapters.coverage import Coverage, Gap, Why
from openlatch.errors import SystemRefused
from openlatch.json_values import JsonObject

Maker = Callable[[JsonObject, str], Adapter]
# What a class has to have to be an adapter.
CONTRACT = ("settings_taken", "can", "check", "read", "can_reduce", "holding", "plan", "apply", "confirm")

# By the system's kind. ``by_hand`` has none: people carry out its steps and report it.
_CLASSES = {
    "postgresql": ("postgresql.adapter", "PostgresqlAdapter"),
    "directory": ("directory.adapter", "DirectoryAdapter"),
    "mailboxes": ("mail.adapter", "MailboxAdapter"),
    "host": ("unix_host.adapter", "HostAdapter"),
    "cloud": ("cloud.adapter", "CloudAdapter"),
    "dav": ("webdav.adapter", "DavAdapter"),
    "scim": ("scim.adapter", "ScimAdapter"),
    "ssh_host": ("unix_host.remote", "RemoteHostAdapter"),
    "oauth": ("oauth.adapter", "OAuthAdapter"),
    "mariadb": ("mariadb.adapter", "MariadbAdapter"),
}


# Packages that are installed bring further kinds by entry points of this group: a name for the kind, and the class.
GROUP = "openlatch.adapters"
_KIND = re.compile(r"[a-z][a-z0-9_]{1,39}")
log = get_logger()


def _installed() -> dict[str, EntryPoint]:
    found: dict[str, EntryPoint] = {}
    for point in entry_points(group=GROUP):
        # Nothing takes the place of an adapter that is there: plans and handles in the database are its own.
        if point.name in _CLASSES or point.name in found or not _KIND.fullmatch(point.name):
            log.warning("adapter.left_out", kind=point.name, value=point.value)
        else:
            found[point.name] = point
    return found


_INSTALLED = _installed()


def class_of(kind: str) -> type[Adapter]:
    """The adapter class for a kind of system; its module and libraries are imported on first use.

    SystemRefused when the package that brings it can't be loaded.
    """
    if kind in _CLASSES:
        module, name = _CLASSES[kind]
        found: type[Adapter] = getattr(import_module(f"openlatch.adapters.{module}"), name)
        return found
    point = _INSTALLED[kind]
    try:
        loaded: type[Adapter] = point.load()
    except Exception as error:
        raise SystemRefused(
            f"The adapter for {kind} ({point.value}) can't be loaded: {error!r}.", "Mend or remove its package."
        ) from error
    lacking = [name for name in CONTRACT if not hasattr(loaded, name)]
    if lacking:
        raise SystemRefused(f"{point.value} is no adapter: it has no {', '.join(lacking)}.", "Mend its package.")
    return loaded


def _made(kind: str, settings: JsonObject, secret: str) -> Adapter:
    return class_of(kind)(settings, secret)  # type: ignore[call-arg]


ADAPTERS: dict[str, Maker] = {kind: partial(_made, kind) for kind in (*_CLASSES, *_INSTALLED)}

__all__ = [
    "ADAPTERS",
    "NOTHING",
    "Abilities",
    "Adapter",
    "Coverage",
    "Found",
    "FoundLevel",
    "FoundPart",
    "FoundRule",
    "Gap",
    "Holding",
    "Login",
    "Maker",
    "Presence",
    "Reading",
    "RuleManner",
    "Setting",
    "SharedAccount",
    "Unchanged",
    "Used",
    "UsedOutside",
    "Whole",
    "Why",
    "class_of",
    "whole",
]
