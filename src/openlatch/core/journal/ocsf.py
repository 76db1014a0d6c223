"""Entries of the journal as events of the Open Cybersecurity Schema Framework (OCSF 1.2.0), identity and access."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from enum import IntEnum
from ipaddress import ip_address

from openlatch.core.vocabulary import HolderKind, Proof
from openlatch.json_values import JsonObject

VERSION = "1.2.0"
CATEGORY = 3


class Kind(IntEnum):
    """The classes of events that entries become."""

    ACCOUNT_CHANGE = 3001
    AUTHENTICATION = 3002
    ENTITY_MANAGEMENT = 3004
    USER_ACCESS = 3005
    GROUP_MANAGEMENT = 3006


_NAMES = {
    Kind.ACCOUNT_CHANGE: "Account Change",
    Kind.AUTHENTICATION: "Authentication",
    Kind.ENTITY_MANAGEMENT: "Entity Management",
    Kind.USER_ACCESS: "User Access Management",
    Kind.GROUP_MANAGEMENT: "Group Management",
}
_ACTIVITIES = {
    Kind.ACCOUNT_CHANGE: {
        1: "Create",
        2: "Enable",
        3: "Password Change",
        4: "Password Reset",
        5: "Disable",
        6: "Delete",
        10: "MFA Factor Enable",
        11: "MFA Factor Disable",
    },
    Kind.AUTHENTICATION: {1: "Logon", 2: "Logoff"},
    Kind.ENTITY_MANAGEMENT: {1: "Create", 2: "Read", 3: "Update", 4: "Delete"},
    Kind.USER_ACCESS: {1: "Assign Privileges", 2: "Revoke Privileges"},
    Kind.GROUP_MANAGEMENT: {1: "Assign Privileges", 2: "Revoke Privileges", 5: "Delete", 6: "Create"},
}
# Classes that have no place for who did it.
_WITHOUT_ACTOR = frozenset({Kind.USER_ACCESS, Kind.GROUP_MANAGEMENT})
# Actions that have an activity of their own in the schema.
_OWN: Mapping[str, tuple[Kind, int]] = {
    "sign_in.opened": (Kind.AUTHENTICATION, 1),
    "sign_in.switched": (Kind.AUTHENTICATION, 1),
    "sign_in.tried": (Kind.AUTHENTICATION, 1),
    "sign_in.closed": (Kind.AUTHENTICATION, 2),
    "sign_in.session_ended": (Kind.AUTHENTICATION, 2),
    "sign_in.sessions_ended": (Kind.AUTHENTICATION, 2),
    "sign_in.made": (Kind.ACCOUNT_CHANGE, 1),
    "sign_in.resumed": (Kind.ACCOUNT_CHANGE, 2),
    "sign_in.suspended": (Kind.ACCOUNT_CHANGE, 5),
    "sign_in.taken_away": (Kind.ACCOUNT_CHANGE, 6),
    "password.changed": (Kind.ACCOUNT_CHANGE, 3),
    "password.reset": (Kind.ACCOUNT_CHANGE, 4),
    "factor.set_up": (Kind.ACCOUNT_CHANGE, 10),
    "passkey.added": (Kind.ACCOUNT_CHANGE, 10),
    "factor.removed": (Kind.ACCOUNT_CHANGE, 11),
    "factor.reset": (Kind.ACCOUNT_CHANGE, 11),
    "passkey.removed": (Kind.ACCOUNT_CHANGE, 11),
    "team.made": (Kind.GROUP_MANAGEMENT, 6),
    "team.removed": (Kind.GROUP_MANAGEMENT, 5),
}
# Access that its system has been seen to have, or not to have any more.
_GIVEN, _TAKEN = frozenset({"grant.given_there"}), frozenset({"grant.taken_there", "grant.gone"})
_CREATE = frozenset({"made", "added", "found", "brought", "invited", "opened", "begun", "connected", "asked"})
_READ = frozenset({"read", "taken", "data_taken", "looked_at", "tried"})
_DELETE = frozenset({"removed", "dropped", "ended", "erased", "taken_away", "withdrawn", "closed"})


class Severity(IntEnum):
    """How grave an event is, by the schema."""

    INFORMATIONAL = 1
    LOW = 2
    MEDIUM = 3
    HIGH = 4


# What somebody should hear of; everything else is information.
_SEVERITIES = {
    "sign_in.tried": Severity.MEDIUM,
    "passkey.refused": Severity.HIGH,
    "grant.contradicted": Severity.HIGH,
    "step.contradicted": Severity.HIGH,
    "access_rule.contradicted": Severity.HIGH,
    "exposure_guard.off": Severity.HIGH,
    "system.down": Severity.MEDIUM,
    "mail.failed": Severity.LOW,
    "flag.raised": Severity.LOW,
}
_FAILED = frozenset(
    {
        "sign_in.tried",
        "passkey.refused",
        "mail.failed",
        "rule_draft.failed",
        "system.down",
        "item.not_carried_out",
        "grant.contradicted",
        "session.contradicted",
        "resource.contradicted",
        "step.contradicted",
        "access_rule.contradicted",
    }
)
# Nobody knows yet, or will, whether it came about.
_OPEN = frozenset({"grant.owed", "step.skipped"})


def severity_of(action: str) -> Severity:
    """How grave an action is."""
    return _SEVERITIES.get(action, Severity.INFORMATIONAL)


def is_seen(entry: JsonObject) -> bool:
    """Whether what an entry tells of access was seen in its system: not so for what somebody says, or nobody knows."""
    facts = entry["facts"]
    return "stated_by" not in facts and facts.get("proof", Proof.CONFIRMED) == Proof.CONFIRMED


def activity_of(entry: JsonObject, whose: JsonObject | None = None) -> tuple[Kind, int]:
    """The class and the activity of an entry. What the schema has no word for is something done to an entity.

    Privileges are assigned or revoked only where the system showed it: what was decided, or what somebody says, is a
    change of the grant.
    """
    action = entry["action"]
    if action in _OWN:
        return _OWN[action]
    if not is_seen(entry):
        return Kind.ENTITY_MANAGEMENT, 3
    if whose is not None and entry["subject"]["kind"] == "grant":
        is_confirmed = "proof" in entry["facts"] and action != "grant.trimmed"
        number = 1 if action in _GIVEN else 2 if action in _TAKEN or is_confirmed else 0
        if number:
            return (Kind.USER_ACCESS if whose["kind"] == HolderKind.PERSON else Kind.GROUP_MANAGEMENT), number
    done = action.partition(".")[2]
    number = 1 if done in _CREATE else 2 if done in _READ else 4 if done in _DELETE else 3
    return Kind.ENTITY_MANAGEMENT, number


def status_of(entry: JsonObject) -> tuple[int, str]:
    """Whether what an entry tells came about."""
    if entry["action"] in _FAILED:
        return 2, "Failure"
    return (1, "Success") if is_seen(entry) and entry["action"] not in _OPEN else (0, "Unknown")


def event(entry: JsonObject, product_version: str, whose: JsonObject | None = None) -> JsonObject:
    """An entry, as it is exported, as an event. What the schema has no place for is in ``unmapped``, with the hash.

    ``whose``: the holder of a grant, or the person of a sign-in: kind, id and name.
    """
    action, subject, actor = entry["action"], entry["subject"], entry["actor"]
    kind, activity = activity_of(entry, whose)
    name = _ACTIVITIES[kind][activity]
    number, status = status_of(entry)
    proof = str(entry["facts"].get("proof") or "")
    by = {"actor": {"user": _user(actor)}}
    return {
        "activity_id": activity,
        "activity_name": name,
        "category_uid": CATEGORY,
        "category_name": "Identity & Access Management",
        "class_uid": int(kind),
        "class_name": _NAMES[kind],
        "type_uid": kind * 100 + activity,
        "type_name": f"{_NAMES[kind]}: {name}",
        "time": _milliseconds(entry["at"]),
        "severity_id": int(severity_of(action)),
        "severity": severity_of(action).name.capitalize(),
        "status_id": number,
        "status": status,
        **({"status_detail": f"proof: {proof}"} if proof else {}),
        "message": f"{actor['name']}: {action.replace('_', ' ').replace('.', ' ')}, {subject['name']}",
        "metadata": {
            "version": VERSION,
            "product": {"name": "Open Latch", "vendor_name": "Open Latch", "version": product_version},
            "uid": f"{entry['organisation']}/{entry['position']}",
            "sequence": entry["position"],
            "tenant_uid": entry["organisation"],
            "log_name": "journal",
            "event_code": action,
        },
        **({} if kind in _WITHOUT_ACTOR else by),
        **_about(kind, entry, whose),
        **_source(entry["facts"]),
        "unmapped": {
            "at": entry["at"],
            "facts": entry["facts"],
            "hash": entry["hash"],
            "subject": subject,
            **(by if kind in _WITHOUT_ACTOR else {}),
        },
    }


def _about(kind: Kind, entry: JsonObject, whose: JsonObject | None) -> JsonObject:
    """What the event is about, as its class has it."""
    subject = entry["subject"]
    named = {key: value for key, value in (("uid", subject["id"]), ("name", subject["name"])) if value is not None}
    known = {"uid": whose["id"], "name": whose["name"]} if whose is not None else named
    if kind in (Kind.ACCOUNT_CHANGE, Kind.AUTHENTICATION):
        return {"user": {**known, "type_id": 1}}
    if kind is Kind.ENTITY_MANAGEMENT:
        return {"entity": {**named, "type": subject["kind"]}}
    if whose is None:
        return {"group": named}
    # Which privileges, is in the register: the journal has only that it was this grant.
    shared = {"privileges": [f"grant {subject['id']}"], "resource": {"uid": subject["account"], "type": "account"}}
    if kind is Kind.USER_ACCESS:
        return {"user": {**known, "type_id": 1}, **shared}
    return {"group": {**known, "type": whose["kind"]}, **shared}


def _user(actor: JsonObject) -> JsonObject:
    if actor["id"] is None:
        return {"name": actor["name"], "type_id": 3, "type": "System"}
    return {"name": actor["name"], "uid": actor["id"], "type_id": 1, "type": "User"}


def _source(facts: JsonObject) -> JsonObject:
    """Where somebody came from, where that is an address of the network."""
    try:
        return {"src_endpoint": {"ip": str(ip_address(str(facts.get("origin", ""))))}}
    except ValueError:
        return {}


def _milliseconds(at: str) -> int:
    return int(datetime.fromisoformat(at).timestamp() * 1000)
