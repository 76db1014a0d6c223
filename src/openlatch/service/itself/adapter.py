"""The adapter by which Open Latch reads and changes itself, for one organisation.

It uses the same use cases as the page of sign-ins: what they refuse, such as ending the last administrator's access,
is refused here. It has no secret, and an organisation can't name another in its settings.
"""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Callable, Iterator, Mapping, MutableMapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from typing import ClassVar, cast
from uuid import UUID

from sqlalchemy import select

from openlatch.adapters import NOTHING, Abilities, Found, Maker, Setting
from openlatch.core.revocations.plan import Move
from openlatch.core.vocabulary import Role, StepKind, SystemKind
from openlatch.errors import Conflict, NotFound, SystemRefused
from openlatch.json_values import JsonObject, JsonView
from openlatch.service import locks
from openlatch.service.identity import invitations, providers, sign_ins
from openlatch.service.itself import inventory
from openlatch.service.signals import receivers, sources
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.service.webhooks import manage as webhooks
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import (
    ApiToken,
    Calendar,
    IdentityProvider,
    Invitation,
    PublishedKey,
    SignalSource,
    SignIn,
    Webhook,
    WebSession,
)

KIND = SystemKind.OPEN_LATCH
# To which roles each can be reduced: none of them sees or does more.
_LOWER = {
    Role.ADMINISTRATOR: (Role.AUDITOR, Role.REVIEWER, Role.MEMBER),
    Role.AUDITOR: (Role.MEMBER,),
    Role.REVIEWER: (Role.MEMBER,),
    Role.MEMBER: (),
}
_TABLES: Mapping[str, AnyTable] = {
    "sign_in": SignIn,
    "invitation": Invitation,
    "webhook": Webhook,
    "receiver": Webhook,
    "source": SignalSource,
    "provider": IdentityProvider,
    "directory": ApiToken,
    "browser": WebSession,
    "token": ApiToken,
    "calendar": Calendar,
}


def among_systems(service: Service) -> Service:
    """The service with itself among the systems that it reads."""
    # A view: kinds that become known later are known here, too.
    others = cast(MutableMapping[str, Maker], service.adapters)
    return replace(service, itself=Itself, adapters=ChainMap({KIND: _Nobodys}, others))


class Itself:
    """Open Latch, as one of its own systems."""

    settings_taken: ClassVar[tuple[Setting, ...]] = ()
    can: ClassVar[Abilities] = Abilities(
        frozenset({StepKind.REMOVE, StepKind.REDUCE, StepKind.END_SESSIONS, StepKind.LOCK, StepKind.UNLOCK}),
        (),
        sessions=True,
        use=True,
        secret=False,
    )

    def __init__(self, service: Service, organisation: UUID) -> None:
        self._service, self._viewer = service, Viewer.itself(organisation)

    def check(self) -> None:
        """It is there whenever it is asked."""

    def read(self, since: Mapping[str, str] = NOTHING) -> Iterator[Found]:
        """Everything, as it is at one instant."""
        with self._service.unit(self._viewer) as unit:
            inventory.name_logins(unit, KIND)
            found = list(inventory.found(unit))
        yield from found

    def together(self) -> AbstractContextManager[None]:
        """Each call is a transaction of its own."""
        return nullcontext()

    def can_reduce(self, level: str, lower: str) -> bool:
        """A role to one that does less."""
        return level in set(Role) and lower in _LOWER[Role(level)]

    def holding(self, account: str, login: str, level: str) -> JsonObject:
        """SystemRefused: whoever is to sign in is invited."""
        raise SystemRefused("Open Latch gives no access to itself by a grant.", "Invite people to sign in.")

    def again(self, handle: JsonObject) -> JsonObject | None:
        """It can't be given again: whoever is to sign in again is invited."""
        return None

    def plan(self, kind: StepKind, detail: JsonObject) -> tuple[Move, ...]:
        """One move."""
        return (Move(kind, detail),)

    def apply(self, kind: StepKind, detail: JsonObject) -> str:
        """REMOVE takes a sign-in, an invitation, a webhook, a provider or a directory's token away; REDUCE sets a role;
        LOCK suspends a sign-in; END_SESSIONS ends a session, a token or a calendar's address.
        """
        if self.confirm(kind, detail) is None:
            return "It was so already; nothing was changed."
        try:
            with self._service.unit(self._viewer) as unit:
                return _APPLIED[kind](unit, detail)
        except (Conflict, NotFound) as error:
            raise SystemRefused(error.detail, error.remedy) from error

    def confirm(self, kind: StepKind, detail: JsonObject) -> str | None:
        """None when it is so, by what is stored."""
        with self._service.unit(self._viewer) as unit:
            if kind in (StepKind.LOCK, StepKind.UNLOCK):
                return _lock_wrong(unit, kind, detail)
            if kind is StepKind.REDUCE:
                return _role_wrong(unit, detail)
            there = _is_there(unit, detail["kind"], _ident(detail))
            return f"{_NOUNS[detail['kind']]} is still there." if there else None

    def set_rules(self, account: str, rules: object, known: object) -> str:
        """SystemRefused: it has none."""
        raise SystemRefused("Open Latch has no access rules on itself.", "Set roles.")

    def set_guards(self, guards: object, prefix: str) -> str:
        """SystemRefused: it has none."""
        raise SystemRefused("Open Latch has no guard over itself.", "Set roles.")


class _Nobodys(Itself):
    """What is known of the adapter without an organisation: what it can do. Nobody connects it."""

    def __init__(self, settings: JsonObject, secret: str) -> None:
        """Without anything."""

    def check(self) -> None:
        """SystemRefused."""
        raise SystemRefused("Open Latch is in its own register by itself.", "It needs no connection.")


_NOUNS = {
    "sign_in": "The sign-in",
    "invitation": "The invitation",
    "webhook": "The webhook",
    "receiver": "The receiver of signals",
    "source": "The source of signals",
    "provider": "The identity provider",
    "directory": "The directory's token",
    "key": "The signing key",
    "browser": "The session",
    "token": "The token",
    "calendar": "The calendar's address",
}


def _ident(detail: JsonView) -> str:
    """The id that a handle names: of a session by itself, of others after what they are."""
    return str(detail["id"]) if "id" in detail else str(detail["login"]).rpartition(":")[2]


def _is_there(unit: Unit, kind: str, ident: str) -> bool:
    if kind == "key":
        return unit.db.get(PublishedKey, ident) is not None
    table = _TABLES[kind]
    return unit.db.scalar(select(table.id).where(table.id == UUID(ident))) is not None


def _role_wrong(unit: Unit, detail: JsonView) -> str | None:
    """The role that a sign-in, or an invitation that is open, still has; None when it is the wanted one or less."""
    if not _is_there(unit, detail["kind"], _ident(detail)):
        return None
    table = _TABLES[detail["kind"]]
    role = getattr(unit.db.get(table, UUID(_ident(detail))), "role", None)
    if role is None:
        return f"{_NOUNS[detail['kind']]} has no role."
    is_less = role in _LOWER[Role(detail["to"])]
    return None if role == detail["to"] or is_less else f"The role is {role}."


def _lock_wrong(unit: Unit, kind: StepKind, detail: JsonView) -> str | None:
    if not _is_person(detail):
        # Only a sign-in can be suspended: what else there is lets somebody in until it is taken away.
        named = str(detail["login"]).partition(":")[0]
        there = _is_there(unit, named, _ident(detail))
        return f"{_NOUNS[named]} is still there." if there or kind is StepKind.UNLOCK else None
    row = unit.db.get(SignIn, UUID(_ident(detail)))
    if row is None:
        return None if kind is StepKind.LOCK else "There is no such sign-in."
    suspended = row.suspended_at is not None
    return None if suspended is (kind is StepKind.LOCK) else f"It is {'suspended' if suspended else 'not suspended'}."


def _is_person(detail: JsonView) -> bool:
    return ":" not in str(detail["login"])


def _remove(unit: Unit, detail: JsonObject) -> str:
    kind, ident = detail["kind"], _ident(detail)
    if kind == "key":
        raise SystemRefused(
            "A signing key can't be taken away from here.", "Make a new one on the server: openlatch new-key."
        )
    if kind == "directory":
        unit.db.delete(unit.db.get_one(ApiToken, UUID(ident)))
        unit.record("token.ended", "token", UUID(ident), "directory")
    else:
        _REMOVERS[kind](unit, UUID(ident))
    return f"{_NOUNS[kind]} is taken away."


_REMOVERS: Mapping[str, Callable[[Unit, UUID], object]] = {
    "sign_in": sign_ins.take_away,
    "invitation": invitations.withdraw,
    "webhook": webhooks.remove,
    "receiver": receivers.remove,
    "source": sources.remove,
    "provider": providers.remove,
}


def _reduce(unit: Unit, detail: JsonObject) -> str:
    if detail["kind"] != "sign_in":
        raise SystemRefused("Only a sign-in's role can be changed.", "Take it away, and invite them again.")
    # Nobody changes roles between the look and the change: a reduction never gives anything.
    locks.access(unit)
    row = unit.db.get_one(SignIn, UUID(_ident(detail)), populate_existing=True)
    if detail["to"] not in _LOWER[Role(row.role)]:
        raise SystemRefused(f"The role is {row.role} by now.", "Look at it again, and choose a lower one.")
    sign_ins.set_role(unit, row.id, Role(detail["to"]))
    return f"The role is {detail['to']} now."


def _end_session(unit: Unit, detail: JsonObject) -> str:
    row = unit.db.get_one(_TABLES[detail["kind"]], UUID(detail["id"]))
    unit.db.delete(row)
    action = {"token": "token.ended", "calendar": "calendar.taken_away"}.get(detail["kind"], "sign_in.sessions_ended")
    if detail["kind"] == "browser":
        unit.record(action, "sign_in", row.sign_in_id, row.device or "session", count=1)
    else:
        unit.record(action, action.partition(".")[0], row.id, getattr(row, "name", "calendar"))
    return f"{_NOUNS[detail['kind']]} is ended."


def _set_lock(is_suspended: bool) -> Callable[[Unit, JsonObject], str]:
    def carried(unit: Unit, detail: JsonObject) -> str:
        if not _is_person(detail):
            raise SystemRefused("Only a sign-in can be suspended.", "Take it away instead.")
        sign_ins.set_suspended(unit, UUID(_ident(detail)), is_suspended)
        return f"The sign-in is {'suspended' if is_suspended else 'resumed'}."

    return carried


_APPLIED: Mapping[StepKind, Callable[[Unit, JsonObject], str]] = {
    StepKind.REMOVE: _remove,
    StepKind.REDUCE: _reduce,
    StepKind.END_SESSIONS: _end_session,
    StepKind.LOCK: _set_lock(True),
    StepKind.UNLOCK: _set_lock(False),
}
