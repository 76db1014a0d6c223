"""The lists of reviews, and those that their scopes are filters over."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import ColumnElement, and_, case, exists, func, literal, or_, select, text, union_all
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.orm import aliased

from openlatch.core.filters import Kind
from openlatch.core.latches import LatchMode
from openlatch.core.vocabulary import FlagState, ItemState, Proof, Subject
from openlatch.store.lists import register
from openlatch.store.lists.columns import (
    id_column,
    json_column,
    named_columns,
    number_column,
    proof_columns,
    reach_column,
    text_column,
    time_column,
    truth_column,
    word_column,
)
from openlatch.store.lists.engine import Column, Listing
from openlatch.store.lists.offers import LATCHES
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import (
    Account,
    Exposure,
    Flag,
    Grant,
    Item,
    Latch,
    Level,
    Person,
    Question,
    Resource,
    ResourceInGroup,
    Round,
    Schedule,
    Session,
    System,
    Team,
    Term,
)

opener = aliased(Person)
owner = aliased(Person)
reviewer = aliased(Person)
reviewing_team = aliased(Team)
second = aliased(Person)
seconder = aliased(Person)
decider = aliased(Person)
successor = aliased(Person)
asker = aliased(Person)
asked = aliased(Person)
trim_level = aliased(Level)

# One pass over a round's items for all of its counts.
_tallied = (
    select(
        func.count(Item.id).label("items"),
        func.count(Item.id).filter(Item.state == ItemState.DECIDED, Item.fate.is_(None)).label("decided"),
        func.count(Item.id).filter(Item.state == ItemState.SECONDING).label("seconding"),
        *(
            func.count(Item.id)
            .filter(Item.state == ItemState.DECIDED, Item.verdict == verdict, ~Item.nothing_done)
            .label(name)
            for verdict, name in (("keep", "kept"), ("trim", "trimmed"), ("revoke", "revoked"))
        ),
        func.count(Item.id).filter(Item.nothing_done).label("nothing_done"),
        *(func.count(Item.id).filter(Item.proof == proof).label(proof.value) for proof in Proof),
        func.count(Item.id).filter(Item.by_default).label("by_default"),
        func.count(Item.id).filter(Item.fate.is_not(None)).label("left_undecided"),
        func.count(Item.id).filter(Item.done_at.is_(None)).label("to_do"),
    )
    .where(Item.round_id == Round.id)
    .lateral("tallied")
)
_COUNTS = {
    "items": "How many items it has.",
    "decided": "How many somebody has decided.",
    "seconding": "How many wait for a second reviewer.",
    "kept": "How many are kept.",
    "trimmed": "How many are trimmed.",
    "revoked": "How many are revoked.",
    "nothing_done": "For how many there was nothing that could be ended.",
    **{proof.value: f"How many ends are {proof}: {proof.plain}." for proof in Proof},
    "by_default": "How many went to an administrator, since nobody in line might decide them.",
    "left_undecided": "How many nobody had decided when it was closed.",
    "to_do": "For how many something is left to decide or to carry out.",
}


def _review(table: AnyTable) -> dict[str, Column]:
    return {
        "name": text_column(table.name, "Its name.", sorted=True, nullable=False),
        "scope": text_column(table.scope, "The filter over what it covers."),
        "covers": json_column(table.covers),
        "acts": word_column(table.acts, "when_decided or at_close."),
        "reviewers": json_column(table.reviewers),
        "undecided": json_column(table.undecided),
        "second_from": number_column(table.second_from, "From which severity a second agrees.", nullable=True),
        "reminders": json_column(table.reminders),
        "closes_after": number_column(table.closes_after, "Days after it is due until it closes.", nullable=True),
    }


ROUNDS = Listing(
    "rounds",
    Round.__table__.join(_tallied, literal(True)).outerjoin(opener, opener.id == Round.opened_by_id),
    {
        "id": id_column(Round.id),
        **_review(Round),
        "state": word_column(
            case((Round.closed_at.is_(None), "open"), (Round.ended_at.is_(None), "carrying_out"), else_="closed"),
            "open, carrying_out or closed.",
        ),
        "event": text_column(Round.event, "What happened that opened it; empty for one by schedule or by hand."),
        "schedule_id": id_column(Round.schedule_id, "The id of its schedule.", nullable=True),
        "opened_at": time_column(Round.opened_at, "When it was opened.", nullable=False),
        **named_columns("opened_by", opener, "whoever opened it"),
        "due_at": time_column(Round.due_at, "When it is due.", nullable=False),
        "closed_at": time_column(Round.closed_at, "When it was closed; absent while it is open."),
        "ended_at": time_column(Round.ended_at, "When all was carried out; nothing in it changes after that."),
        **{name: number_column(_tallied.c[name], sentence) for name, sentence in _COUNTS.items()},
    },
    default_sort="-opened_at",
    searched=("name",),
)

SCHEDULES = Listing(
    "schedules",
    Schedule.__table__,
    {
        "id": id_column(Schedule.id),
        **_review(Schedule),
        "recurrence": word_column(Schedule.recurrence, "The rule by RFC 5545; empty when only events open it."),
        "time_zone": word_column(Schedule.time_zone, "The zone of its clocks."),
        "starts": word_column(Schedule.starts, "The first time, as clocks there show it."),
        "events": json_column(Schedule.events),
        "days_to_decide": number_column(Schedule.days_to_decide, "Days to decide."),
        "paused": truth_column(Schedule.paused, "Whether it opens nothing for now."),
        "due_at": time_column(Schedule.due_at, "The time that the last round was opened for."),
        "answer": text_column(Schedule.answer, "What came of the last time that it was due."),
        "version": Column(Schedule.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="name",
    searched=("name", "scope"),
)

# The last question about an item, with its answer.
_asked = (
    select(Question.question, Question.answer, Question.answered_at, asked.name)
    .join(asked, asked.id == Question.person_id)
    .where(Question.item_id == Item.id)
    .order_by(Question.asked_at.desc())
    .limit(1)
    .lateral("asked")
)

ITEMS = Listing(
    "items",
    Item.__table__.outerjoin(Grant, Grant.id == Item.grant_id)
    .outerjoin(reviewer, reviewer.id == Item.reviewer_id)
    .outerjoin(reviewing_team, reviewing_team.id == Item.reviewer_team_id)
    .outerjoin(second, second.id == Item.second_id)
    .outerjoin(decider, decider.id == Item.decided_by_id)
    .outerjoin(seconder, seconder.id == Item.seconded_by_id)
    .outerjoin(successor, successor.id == Item.successor_id)
    .outerjoin(trim_level, trim_level.id == Item.trim_level_id)
    .outerjoin(_asked, literal(True)),
    {
        "id": id_column(Item.id),
        "round_id": id_column(Item.round_id, "The id of its round."),
        "position": number_column(Item.position, "Its place in the round."),
        "kind": word_column(Item.kind, "grant, link, session, exposure, ownership, latch or acceptance."),
        "subject_id": id_column(Item.subject_id, "The id of what it is about."),
        "grant_id": id_column(Item.grant_id, "The id of the grant, where it is about one.", nullable=True),
        "account.id": id_column(Item.account_id, "The id of the account.", nullable=True),
        "account.name": text_column(Item.account, "The name of the account.", sorted=True, nullable=False),
        "holder.name": text_column(Item.holder, "The name of the holder.", sorted=True, nullable=False),
        "level": text_column(Item.level, "The level, as it was.", sorted=True, nullable=False),
        "reach": reach_column(Item.reach),
        "recommended": word_column(Item.recommended, "keep, trim or revoke.", sorted=True, nullable=False),
        "flagged": number_column(Item.flagged, "How many flags were open on it."),
        "severity": number_column(Item.severity, "The worst of their severities; 0 without any."),
        "facts": json_column(Item.facts),
        "grant_state": word_column(Grant.state, "The state that the grant has now."),
        "state": word_column(Item.state, "undecided, seconding or decided."),
        "verdict": word_column(Item.verdict, "keep, trim or revoke; absent while undecided."),
        "reason": text_column(Item.reason, "Why it was decided so."),
        "trim_until": time_column(Item.trim_until, "The end that a trim set."),
        "trim_to_use": truth_column(Item.trim_to_use, "Whether a trim leaves only the use by outsiders that was seen."),
        **named_columns("trim_level", trim_level, "the level that a trim set"),
        **named_columns("successor", successor, "whoever is to own the account"),
        **named_columns("reviewer", reviewer, "whoever is to decide"),
        **named_columns("reviewer_team", reviewing_team, "the team of which anyone may decide"),
        "assigned_as": text_column(Item.assigned_as, "Why it is theirs to decide."),
        "by_default": truth_column(Item.by_default, "Whether nobody in line might decide it."),
        "needs_second": truth_column(Item.needs_second, "Whether a second reviewer has to agree."),
        **named_columns("second", second, "the second reviewer"),
        **named_columns("decided_by", decider, "whoever decided"),
        "decided_at": time_column(Item.decided_at, "When it was decided."),
        **named_columns("seconded_by", seconder, "whoever agreed"),
        "seconded_at": time_column(Item.seconded_at, "When they agreed."),
        "fate": word_column(Item.fate, "keep, suspend or revoke: what became of it when nobody decided."),
        "revocation_id": id_column(Item.revocation_id, "The revocation that carries it out.", nullable=True),
        "offer_id": id_column(Item.offer_id, "The offer that carries it out.", nullable=True),
        "draft_id": id_column(Item.draft_id, "The draft of access rules that carries it out.", nullable=True),
        "outcome": text_column(Item.outcome, "What came of it."),
        "explained": text_column(Item.explained, "Why it could not be shown to be carried out."),
        "done_at": time_column(Item.done_at, "When nothing was left to do for it."),
        "nothing_done": truth_column(Item.nothing_done, "Whether there was nothing that could be ended."),
        **proof_columns(Item),
        "asked": text_column(_asked.c.question, "The last question to the holder."),
        "asked_of": text_column(_asked.c.name, "Whom it was put to."),
        "answer": text_column(_asked.c.answer, "What they answered."),
        "answered_at": time_column(_asked.c.answered_at, "When they answered."),
        "version": Column(Item.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="position",
    searched=("holder.name", "account.name", "level"),
)

QUESTIONS = Listing(
    "questions",
    Question.__table__.join(Item, Item.id == Question.item_id)
    .join(Round, Round.id == Item.round_id)
    .outerjoin(asker, asker.id == Question.asked_by_id)
    .join(asked, asked.id == Question.person_id),
    {
        "id": id_column(Question.id),
        "round.id": id_column(Round.id, "The id of the round."),
        "round.name": text_column(Round.name, "The name of the round."),
        "account.name": text_column(Item.account, "The name of the account."),
        "level": text_column(Item.level, "The level that it is about."),
        **named_columns("asked_by", asker, "whoever asks"),
        **named_columns("person", asked, "whoever is asked"),
        "question": text_column(Question.question, "What is asked."),
        "asked_at": time_column(Question.asked_at, "When it was asked.", nullable=False),
        "answer": text_column(Question.answer, "What was answered."),
        "answered_at": time_column(Question.answered_at, "When it was answered; absent while it is open."),
        "round_closed": truth_column(Round.closed_at.is_not(None), "Whether the round is closed."),
    },
    default_sort="-asked_at",
    searched=("question", "account.name"),
)

# What scopes are filters over. The names are the same in each where the thing is the same.


def _account_columns() -> dict[str, Column]:
    return {
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical)."),
        "account.kind": word_column(Account.kind, "The kind of account."),
        "system.id": id_column(System.id, "The id of the system."),
        "system.name": text_column(System.name, "The name of the system."),
        "system.kind": word_column(System.kind, "by_hand or postgresql."),
    }


_outside_person = aliased(Person)
_outside_team = aliased(Team)
_outside = or_(~_outside_person.inside, _outside_team.partner)
_open = and_(Exposure.gone_at.is_(None), ~Exposure.is_blocked)
# What can be open to outsiders: resources, and whole accounts that rules open.
_parts = union_all(
    select(
        Resource.id, Resource.organisation_id, Resource.account_id, Resource.name, Resource.kind, Resource.public
    ).where(Resource.archived_at.is_(None)),
    select(
        Account.id,
        Account.organisation_id,
        Account.id,
        literal("the whole account"),
        literal("account"),
        literal(False),
    ).where(
        exists(select(Exposure.id).where(Exposure.account_id == Account.id, Exposure.resource_id.is_(None), _open))
    ),
).subquery("parts")
# What access rules open there, as sentences.
openings = (
    select(func.coalesce(func.jsonb_agg(aggregate_order_by(Exposure.sentence, Exposure.right)), text("'[]'::jsonb")))
    .where(
        Exposure.account_id == _parts.c.account_id,
        func.coalesce(Exposure.resource_id, Exposure.account_id) == _parts.c.id,
        _open,
    )
    .correlate(_parts)
    .scalar_subquery()
)
# Grants of somebody outside on this resource: by itself, in a group, or with the whole account.
outsiders = (
    select(func.count(func.distinct(Grant.id)))
    .join(Term, Term.grant_id == Grant.id)
    .outerjoin(_outside_person, _outside_person.id == Grant.person_id)
    .outerjoin(_outside_team, _outside_team.id == Grant.team_id)
    .where(
        Grant.account_id == _parts.c.account_id,
        Grant.state.in_(("active", "revoking")),
        _outside,
        or_(
            and_(Term.resource_id.is_(None), Term.group_id.is_(None)),
            Term.resource_id == _parts.c.id,
            exists(
                select(ResourceInGroup.id).where(
                    ResourceInGroup.group_id == Term.group_id, ResourceInGroup.resource_id == _parts.c.id
                )
            ),
        ),
    )
    .correlate(_parts)
    .scalar_subquery()
)

EXPOSURES = Listing(
    "exposures",
    _parts.join(Account, Account.id == _parts.c.account_id).join(System, System.id == Account.system_id),
    {
        "id": id_column(_parts.c.id),
        **_account_columns(),
        "name": text_column(_parts.c.name, "The name of the part.", sorted=True, nullable=False),
        "kind": word_column(_parts.c.kind, "The kind of part."),
        "public": truth_column(_parts.c.public, "Whether anyone at all can reach it."),
        "outsiders": number_column(outsiders, "How many grants of people outside reach it."),
        "openings": json_column(openings),
    },
    default_sort="name",
)

OWNERSHIPS = Listing(
    "ownerships",
    Account.__table__.join(System, System.id == Account.system_id).join(owner, owner.id == Account.owner_id),
    {
        "id": id_column(Account.id),
        **_account_columns(),
        "holder.id": id_column(owner.id, "The id of the owner."),
        "holder.name": text_column(owner.name, "The name of the owner.", sorted=True),
        "holder.standing": word_column(owner.standing, "current, leaving or left."),
        "holder.inside": truth_column(owner.inside, "Whether they are inside the trust boundary."),
    },
    default_sort="account.name",
)


@dataclass(frozen=True, slots=True)
class Scope:
    """What a kind of item filters over, and which of those can be reviewed."""

    listing: Listing
    live: ColumnElement[bool]


SCOPES = {
    Subject.GRANT: Scope(
        register.GRANTS, and_(Grant.state.in_(register.LIVE), Grant.app_id.is_(None), ~Grant.by_system)
    ),
    Subject.LINK: Scope(
        register.GRANTS, and_(Grant.state.in_(register.LIVE), Grant.app_id.is_not(None), ~Grant.by_system)
    ),
    Subject.SESSION: Scope(register.SESSIONS, Session.ended_at.is_(None)),
    Subject.EXPOSURE: Scope(EXPOSURES, or_(func.jsonb_array_length(openings) > 0, outsiders > 0)),
    Subject.OWNERSHIP: Scope(OWNERSHIPS, Account.owner_id.is_not(None)),
    Subject.LATCH: Scope(LATCHES, Latch.mode != LatchMode.OFF),
    Subject.ACCEPTANCE: Scope(register.FLAGS, Flag.state == FlagState.ACCEPTED),
}
