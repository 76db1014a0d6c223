"""Adapters read access in the systems where accounts live, and change it there. One package for each kind of system."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from importlib import import_module

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
from openlatch.json_values import JsonObject

Maker = Callable[[JsonObject, str], Adapter]

# By the system's kind. ``by_hand`` has none: people carry out its steps and report it.
_CLASSES = {
    "postgresql": ("postgresql.adapter", "PostgresqlAdapter"),
    "directory": ("directory.adapter", "DirectoryAdapter"),
    "mailboxes": ("mail.adapter", "MailboxAdapter"),
    "host": ("unix_host.adapter", "HostAdapter"),
    "cloud": ("cloud.adapter", "CloudAdapter"),
    "dav": ("webdav.adapter", "DavAdapter"),
}


def class_of(kind: str) -> type[Adapter]:
    """The adapter class for a kind of system; its module and libraries are imported on first use."""
    module, name = _CLASSES[kind]
    found: type[Adapter] = getattr(import_module(f"openlatch.adapters.{module}"), name)
    return found


def _made(kind: str, settings: JsonObject, secret: str) -> Adapter:
    return class_of(kind)(settings, secret)  # type: ignore[call-arg]


ADAPTERS: dict[str, Maker] = {kind: partial(_made, kind) for kind in _CLASSES}

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
