"""What needs a person today: the console's first page."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import ColumnElement, Integer, and_, func, or_, select

from openlatch import schemas
from openlatch.core.exposure.answers import Audience
from openlatch.core.exposure.rules import Right
from openlatch.core.states import OfferState, RequestState
from openlatch.core.vocabulary import FlagState, GrantState, ItemState, Judgement, Severity
from openlatch.service.changes import large_changes
from openlatch.service.flags.evaluate import title_of
from openlatch.service.flags.manage import with_title
from openlatch.service.unit import Unit
from openlatch.store.database import at_large
from openlatch.store.lists import register
from openlatch.store.lists.engine import ListQuery
from openlatch.store.lists.reviews import ROUNDS
from openlatch.store.tables import (
    AccessRequest,
    Account,
    Exposure,
    Flag,
    Grant,
    Item,
    Offer,
    Question,
    Round,
    Session,
    System,
    Term,
)
from openlatch.store.tables.base import Base

WEEKS = 12


def page(unit: Unit) -> schemas.Today:
    """The worst flags, items to decide, revocations in progress, upcoming ends, and systems that do not answer."""
    db, sight = unit.db, unit.sight
    if sight.everything:
        at_large(db)
    open_flags = [sight.flags(), Flag.state == FlagState.OPEN]
    worst = register.FLAGS.page(db, ListQuery(limit=6), open_flags)
    by_severity = dict(db.execute(select(Flag.severity, func.count()).where(*open_flags).group_by(Flag.severity)).all())
    by_rule = db.execute(select(Flag.rule, func.count()).where(*open_flags).group_by(Flag.rule)).all()
    going = register.REVOCATIONS.page(
        db, ListQuery(limit=6, filter="not (settled_at pr)", count=True), [sight.revocations()]
    )
    rounds = ROUNDS.page(db, ListQuery(limit=6, filter="not (closed_at pr)", sort="due_at"), [sight.rounds()])
    mine = select(func.count(Item.id)).join(Round, Round.id == Item.round_id)
    waiting = mine.where(sight.my_items(), Item.state == ItemState.UNDECIDED, Round.closed_at.is_(None))
    asked = select(func.count(Question.id)).join(Item, Item.id == Question.item_id)
    asked = asked.join(Round, Round.id == Item.round_id).where(Round.closed_at.is_(None))
    asked = asked.where(Question.person_id == unit.viewer.person, Question.answered_at.is_(None))
    return schemas.Today(
        flags=schemas.TodayFlags(
            worst=[with_title(unit, row) for row in worst.rows],
            by_severity={s.word: by_severity.get(int(s), 0) for s in Severity},
            by_rule=[schemas.RuleCount(rule=rule, title=title_of(unit, rule), count=n) for rule, n in by_rule],
        ),
        items_to_decide=db.scalar(waiting) or 0,
        questions_to_answer=db.scalar(asked) or 0,
        offers_pending=db.scalar(select(func.count(Offer.id)).where(sight.offers(), Offer.state == OfferState.PENDING))
        or 0,
        requests_pending=db.scalar(
            select(func.count(AccessRequest.id)).where(
                sight.requests(),
                AccessRequest.state == RequestState.PENDING,
                AccessRequest.person_id != unit.viewer.person,
            )
        )
        or 0,
        rounds=[schemas.RoundRow.model_validate(row) for row in rounds.rows],
        revocations=[schemas.RevocationRow.model_validate(row) for row in going.rows],
        revocations_going_on=going.count or 0,
        ends=_ends(unit),
        exposures=_exposures(unit),
        changes=large_changes.recent(unit),
        systems_down=[
            schemas.SystemRow.model_validate(row)
            for row in register.SYSTEMS.page(db, ListQuery(filter="down_since pr"), [sight.systems()]).rows
        ],
        counts={
            "accounts": _count(unit, Account, sight.accounts()),
            "grants": _count(unit, Grant, sight.grants(), Grant.state.in_(register.LIVE)),
            "sessions": _count(unit, Session, sight.sessions(), Session.ended_at.is_(None)),
            "unrecorded": _count(unit, Grant, sight.grants(), Grant.state.in_(register.LIVE), ~Grant.recorded),
            "systems": _count(unit, System, sight.systems()),
        },
    )


def _exposures(unit: Unit) -> schemas.TodayExposures:
    """How much is open to outsiders, how much of it is unjudged, and how much unnamed people can change: anyone,
    whoever signs in, or has a link.
    """
    is_judged = or_(Exposure.judgement != Judgement.UNJUDGED, Exposure.expected_by_id.is_not(None))
    is_anyones = and_(Exposure.audience != int(Audience.NAMED), Exposure.right != Right.SEE)
    counted = select(func.count(), func.count().filter(~is_judged), func.count().filter(is_anyones)).select_from(
        Exposure
    )
    shown = (unit.sight.exposures(), Exposure.gone_at.is_(None), ~Exposure.is_blocked)
    opened, unjudged, changing = unit.db.execute(counted.where(*shown)).one()
    return schemas.TodayExposures(open=opened, unjudged=unjudged, anyone_changes=changing)


def _count(unit: Unit, table: type[Base], *where: ColumnElement[bool]) -> int:
    return unit.db.scalar(select(func.count()).select_from(table).where(*where)) or 0


def _ends(unit: Unit) -> list[schemas.WeekOfEnds]:
    """How many grants end in each of the coming weeks, empty weeks included."""
    last = unit.now + timedelta(weeks=WEEKS)
    week = func.div(func.date_part("day", Term.until - unit.now).cast(Integer), 7).cast(Integer)
    ends = (
        select(week.label("week"), func.count())
        .join(Grant, Grant.id == Term.grant_id)
        .where(Term.until > unit.now, Term.until <= last, Grant.state == GrantState.ACTIVE, unit.sight.grants())
        .group_by("week")
    )
    counted = dict(unit.db.execute(ends).all())
    return [
        schemas.WeekOfEnds(
            week_begins=(unit.now + timedelta(weeks=week)).date().isoformat(), count=counted.get(week, 0)
        )
        for week in range(WEEKS)
    ]
