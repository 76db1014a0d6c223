"""The kinds of change to a grant, and what every change does: check latches, journal, notify the holder."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from uuid import UUID

from sqlalchemy import select

from openlatch import schemas
from openlatch.core.latches import Breach
from openlatch.core.vocabulary import GrantState
from openlatch.errors import Conflict
from openlatch.service.grants import hand_tasks
from openlatch.service.grants.terms import TermWish
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.tables import Account, Grant, Term


class ChangeKind(StrEnum):
    """What can be done to a grant."""

    SUSPEND = "suspend"
    RESUME = "resume"
    SET_END = "set_end"
    SET_LEVEL = "set_level"
    SET_TERMS = "set_terms"
    REPLACE = "replace"
    END = "end"
    ADOPT = "adopt"
    RESTORE = "restore"
    ACCEPT = "accept"


@dataclass(frozen=True, slots=True)
class Change:
    """A change to named grants, or to all that a filter matches. Versions are those that were looked at."""

    kind: ChangeKind
    reason: str
    grants: tuple[UUID, ...] = ()
    filter: str = ""
    versions: dict[UUID, int] = field(default_factory=dict)
    until: datetime | None = None
    last_day: date | None = None
    no_end: bool = False
    level: UUID | None = None
    successor: UUID | None = None
    terms: tuple[TermWish, ...] = ()


@contextmanager
def guarded(unit: Unit, grant: Grant) -> Iterator[list[Breach]]:
    """Run the body under the latches; yields the warnings."""
    with guard.guarded(unit, guard.touched(unit, [grant.account_id])) as warned:
        yield warned


@dataclass(frozen=True, slots=True)
class Made:
    """What a change did to one grant, in words, with warnings of latches, and the revocation that carries it out."""

    does: str
    latches: list[schemas.Breach]
    revocation_id: UUID | None = None
    steward: bool = False


def line_of(
    unit: Unit, does: str, warned: Sequence[Breach] = (), revocation_id: UUID | None = None, steward: bool = False
) -> Made:
    """What a change did to one grant; the latches' breaches as answers."""
    return Made(does, [guard.shown(breach) for breach in warned], revocation_id, steward)


def note(unit: Unit, action: str, grant: Grant, change: Change, **facts: object) -> None:
    """Journal a change of a grant, with its reason."""
    name = unit.db.get_one(Account, grant.account_id).name
    unit.record(action, "grant", grant.id, name, grant.account_id, reason=change.reason.strip(), **facts)


def tell_holder(unit: Unit, grant: Grant, sentence: str) -> None:
    """Notify the holder of a grant, or a team's speaker, unless they made the change themselves."""
    told = hand_tasks.answering_for_holder(unit, grant) - {unit.viewer.person}
    notices.tell_and_write(unit, told, "grant", sentence, "/mine")


def refuse_ended(grant: Grant) -> None:
    """Conflict for a grant that has ended or is being revoked."""
    if grant.state in (GrantState.ENDED, GrantState.REVOKING):
        word = "being revoked" if grant.state == GrantState.REVOKING else "ended"
        raise Conflict(f"The grant is {word}; nothing about it can change.", "Give access again.")


def terms_of(unit: Unit, grant: Grant) -> list[Term]:
    """The terms of a grant, in the order in which they were made."""
    return list(unit.db.scalars(select(Term).where(Term.grant_id == grant.id).order_by(Term.id)))
