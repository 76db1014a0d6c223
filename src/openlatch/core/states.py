"""What may become of what: the tables of allowed transitions, and the one place that refuses the others."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import TypeVar

from openlatch.core.vocabulary import GrantState
from openlatch.errors import Conflict

State = TypeVar("State", bound=StrEnum)
Table = Mapping[State, frozenset[State]]


class OfferState(StrEnum):
    """Where an offer is in its life."""

    PENDING = "pending"
    ACCEPTED = "accepted"
    DECLINED = "declined"
    UNKNOWN_SENDER = "unknown_sender"
    WITHDRAWN = "withdrawn"
    RUN_OUT = "run_out"


class RequestState(StrEnum):
    """Where a request for access is in its life."""

    PENDING = "pending"
    GRANTED = "granted"
    DECLINED = "declined"
    WITHDRAWN = "withdrawn"
    RUN_OUT = "run_out"


GRANTS: Table[GrantState] = {
    GrantState.PENDING: frozenset({GrantState.ACTIVE, GrantState.ENDED}),
    GrantState.ACTIVE: frozenset({GrantState.SUSPENDED, GrantState.REVOKING, GrantState.ENDED}),
    GrantState.SUSPENDED: frozenset({GrantState.ACTIVE, GrantState.REVOKING, GrantState.ENDED}),
    # Back to active when only a trim was carried out.
    GrantState.REVOKING: frozenset({GrantState.ENDED, GrantState.ACTIVE}),
    GrantState.ENDED: frozenset(),
}
OFFERS: Table[OfferState] = {
    OfferState.PENDING: frozenset(OfferState) - {OfferState.PENDING},
    # One that ran out can be sent again: a fresh link, and a fresh time.
    OfferState.RUN_OUT: frozenset({OfferState.PENDING, OfferState.WITHDRAWN}),
    OfferState.ACCEPTED: frozenset(),
    OfferState.DECLINED: frozenset(),
    OfferState.UNKNOWN_SENDER: frozenset(),
    OfferState.WITHDRAWN: frozenset(),
}
REQUESTS: Table[RequestState] = {
    RequestState.PENDING: frozenset(RequestState) - {RequestState.PENDING},
    RequestState.GRANTED: frozenset(),
    RequestState.DECLINED: frozenset(),
    RequestState.WITHDRAWN: frozenset(),
    RequestState.RUN_OUT: frozenset(),
}

_WORDS = {"unknown_sender": "reported as from somebody unknown", "run_out": "run out", "revoking": "being revoked"}


def may_become(table: Table[State], now: State, then: State) -> bool:
    """Whether one state may follow the other."""
    return then in table[now]


def move(table: Table[State], what: str, now: State, then: State) -> State:
    """The new state, when it may follow. Conflict that names the present state when it may not."""
    if not may_become(table, now, then):
        word = _WORDS.get(now, now.value)
        others = ", ".join(sorted(_WORDS.get(s, s.value) for s in table[now]))
        raise Conflict(
            f"The {what} is {word} and can't become {_WORDS.get(then, then.value)}.",
            f"It can only become: {others}." if others else "Nothing can change about it any more.",
        )
    return then
