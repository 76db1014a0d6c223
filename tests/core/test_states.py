"""The tables of allowed transitions, each pair of states tried."""

from __future__ import annotations

from typing import Any

import pytest

from openlatch.core.states import GRANTS, OFFERS, REQUESTS, OfferState, RequestState, may_become, move
from openlatch.core.vocabulary import GrantState
from openlatch.errors import Conflict

ALLOWED = {
    "offer": {
        ("pending", "accepted"),
        ("pending", "declined"),
        ("pending", "unknown_sender"),
        ("pending", "withdrawn"),
        ("pending", "run_out"),
        ("run_out", "pending"),
        ("run_out", "withdrawn"),
    },
    "request": {("pending", then) for then in ("granted", "declined", "withdrawn", "run_out")},
    "grant": {
        ("pending", "active"),
        ("pending", "ended"),
        ("active", "suspended"),
        ("active", "revoking"),
        ("active", "ended"),
        ("suspended", "active"),
        ("suspended", "revoking"),
        ("suspended", "ended"),
        ("revoking", "ended"),
        ("revoking", "active"),
    },
}


@pytest.mark.parametrize(
    ("what", "table", "states"),
    [("offer", OFFERS, OfferState), ("request", REQUESTS, RequestState), ("grant", GRANTS, GrantState)],
)
def test_each_state_becomes_just_what_it_may(what: str, table: Any, states: Any) -> None:
    """Every pair; a refusal names the state that it is in."""
    assert {(a.value, b.value) for a in states for b in states if may_become(table, a, b)} == ALLOWED[what]
    for now in states:
        for then in states:
            if (now.value, then.value) in ALLOWED[what]:
                assert move(table, what, now, then) is then
            else:
                with pytest.raises(Conflict, match=f"The {what} is "):
                    move(table, what, now, then)
