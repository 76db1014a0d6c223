"""Matters: the flags of one holder in one account, with what could be done, what was said, and who sees to them."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from sqlalchemy import ColumnElement, Select, select

from openlatch import schemas
from openlatch.core.vocabulary import FlagState, Standing
from openlatch.errors import BadInput, NotFound
from openlatch.service.flags.manage import with_title
from openlatch.service.next_actions import choose
from openlatch.service.notifications import notices
from openlatch.service.unit import Unit
from openlatch.store.lists.engine import ListQuery
from openlatch.store.lists.register import FLAGS
from openlatch.store.tables import Comment, Flag

MOST_FLAGS = 100
MOST_CLEARED = 20
MOST_COMMENTS = 500


def page(unit: Unit, key: str) -> schemas.MatterPage:
    """A matter by its key, for whoever answers for the account. NotFound for others, and where there is no flag."""
    about = _about(unit, key)
    live = FLAGS.page(
        unit.db, ListQuery(limit=MOST_FLAGS), [unit.sight.flags(), *about, Flag.state != FlagState.CLEARED]
    )
    past = FLAGS.page(
        unit.db,
        ListQuery(limit=MOST_CLEARED, sort="-cleared_at"),
        [unit.sight.flags(), *about, Flag.state == FlagState.CLEARED],
    )
    flags = [with_title(unit, row) for row in live.rows]
    cleared = [with_title(unit, row) for row in past.rows]
    if not flags and not cleared:
        raise NotFound("There is no such matter, or you may not see it.")
    first = (flags or cleared)[0]
    assigned = {flag.assigned_to.id: flag.assigned_to for flag in flags if flag.assigned_to}
    return schemas.MatterPage(
        key=key,
        account=first.account,
        holder=first.holder,
        title=_title(first),
        flags=flags,
        cleared=cleared,
        actions=choose.of_flags(unit, about),
        comments=[_shown(row) for row in unit.db.scalars(_comments(key).limit(MOST_COMMENTS))],
        assigned_to=list(assigned.values()),
    )


def comment(unit: Unit, key: str, text: str, mentions: Sequence[UUID]) -> schemas.CommentOf:
    """Write a comment on a matter. Whoever is mentioned is told: they have to be somebody who may be seen and is here.

    BadInput for an empty one; NotFound for a matter that the viewer does not answer for, or somebody unknown.
    """
    flag = unit.db.scalars(select(Flag).where(unit.sight.flags(), *_about(unit, key)).limit(1)).first()
    if flag is None:
        raise NotFound("There is no such matter, or you may not see it.")
    said = text.strip()
    if not said:
        raise BadInput("The comment is empty.", "Write something.", {"text": "is empty"})
    if unit.viewer.person is None:
        raise BadInput("Only a person can comment.", "Sign in as one.")
    named = [unit.seen_person(ident) for ident in dict.fromkeys(mentions)]
    if any(person is None or person.standing == Standing.LEFT for person in named):
        raise NotFound("There is no such person, or they have left.", "Mention somebody else.")
    account, holder = _parts(key)
    row = Comment(
        organisation_id=unit.viewer.organisation,
        account_id=account,
        holder_id=holder,
        person_id=unit.viewer.person,
        by_name=unit.viewer.name,
        text=said,
        at=unit.now,
    )
    unit.db.add(row)
    unit.db.flush()
    told = [person.id for person in named if person is not None]
    unit.record("flag.commented", "flag", flag.id, flag.rule, account, text=said, mentions=[str(i) for i in told])
    sentence = f"{unit.viewer.name} mentioned you: {said[:200]}"
    notices.tell_and_write(
        unit, [ident for ident in told if ident != unit.viewer.person], "flag", sentence, f"/matters/{key}"
    )
    return _shown(row)


def _parts(key: str) -> tuple[UUID | None, UUID]:
    account, _, holder = key.partition("~")
    try:
        return (None if account == "-" else UUID(account)), UUID(holder)
    except ValueError:
        raise NotFound("There is no such matter, or you may not see it.") from None


def _about(unit: Unit, key: str) -> list[ColumnElement[bool]]:
    account, holder = _parts(key)
    if not unit.sight.everything and account not in unit.sight.owned:
        raise NotFound("There is no such matter, or you may not see it.")
    return [Flag.holder_id == holder, Flag.account_id.is_(None) if account is None else Flag.account_id == account]


def _comments(key: str) -> Select[Comment]:
    account, holder = _parts(key)
    same = Comment.account_id.is_(None) if account is None else Comment.account_id == account
    return select(Comment).where(Comment.holder_id == holder, same).order_by(Comment.at, Comment.id)


def _title(flag: schemas.FlagRow) -> str:
    if flag.account is None:
        return flag.holder.name or "Somebody"
    if flag.subject.kind == "account":
        return flag.account.name
    return f"{flag.holder.name or 'Somebody'} in {flag.account.name}"


def _shown(row: Comment) -> schemas.CommentOf:
    return schemas.CommentOf(id=row.id, by=row.by_name, person_id=row.person_id, text=row.text, at=row.at)
