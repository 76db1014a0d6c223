"""The lists of the register, each with its columns."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, Select, and_, case, func, literal, null, select
from sqlalchemy.orm import aliased

from openlatch.core.filters import Kind
from openlatch.store.listing import Column, Listing
from openlatch.store.tables import (
    Account,
    App,
    Flag,
    Grant,
    Handle,
    Item,
    JournalEntry,
    Level,
    Membership,
    Person,
    Revocation,
    RevocationTarget,
    Round,
    Session,
    Step,
    System,
    Team,
    Term,
)

LIVE = ("active", "suspended", "revoking")


def _id(expression: Any, sentence: str = "Its id.", nullable: bool = False) -> Column:
    return Column(expression, Kind.ID, sentence, nullable=nullable)


def _text(expression: Any, sentence: str, **use: Any) -> Column:
    return Column(expression, Kind.TEXT, sentence, **use)


def _word(expression: Any, sentence: str, **use: Any) -> Column:
    return Column(expression, Kind.WORD, sentence, **use)


def _time(expression: Any, sentence: str, **use: Any) -> Column:
    return Column(expression, Kind.TIME, sentence, sorted=True, **use)


def _number(expression: Any, sentence: str, **use: Any) -> Column:
    return Column(expression, Kind.NUMBER, sentence, sorted=True, **{"nullable": False, **use})


def _truth(expression: Any, sentence: str) -> Column:
    return Column(expression, Kind.TRUTH, sentence, nullable=False)


def _reach(expression: Any) -> Column:
    return Column(expression, Kind.REACH, "How far it goes: observe, operate, spend or steward.", sorted=True)


def _json(expression: Any) -> Column:
    return Column(expression, Kind.TEXT, "", filtered=False)


def _count(statement: Select[int]) -> ColumnElement[int]:
    return statement.scalar_subquery()


def _named(prefix: str, table: Any, what: str) -> dict[str, Column]:
    return {
        f"{prefix}.id": _id(table.id, f"The id of {what}.", nullable=True),
        f"{prefix}.name": _text(table.name, f"The name of {what}.", sorted=True),
    }


owner = aliased(Person)
giver = aliased(Person)
reviewer = aliased(Person)
decider = aliased(Person)
asker = aliased(Person)
holder_account = aliased(Account)

# What the terms of a grant come to: the highest reach, the latest end (none if one has none), the levels.
terms = (
    select(
        func.max(Level.reach).label("reach"),
        case((func.bool_or(Term.until.is_(None)), null()), else_=func.max(Term.until)).label("until"),
        case((func.bool_or(Term.since.is_(None)), null()), else_=func.min(Term.since)).label("since"),
        func.string_agg(Level.name, literal(", ")).label("level"),
        func.string_agg(Level.sentence, literal(" ")).label("sentence"),
        func.min(func.cast(Level.id, Level.name.type)).label("level_id"),
    )
    .join(Level, Level.id == Term.level_id)
    .where(Term.grant_id == Grant.id)
    .lateral("term")
)

holder_name = func.coalesce(Person.name, Team.name, App.name, holder_account.name)
# Only people and partner teams can stand outside; an app is as far inside as whoever let it in.
holder_inside = func.coalesce(Person.inside, ~Team.partner, True)

GRANTS = Listing(
    "grants",
    Grant.__table__.join(Account, Account.id == Grant.account_id)
    .join(System, System.id == Account.system_id)
    .join(terms, literal(True))
    .outerjoin(Person, Person.id == Grant.person_id)
    .outerjoin(Team, Team.id == Grant.team_id)
    .outerjoin(App, App.id == Grant.app_id)
    .outerjoin(holder_account, holder_account.id == Grant.holder_account_id)
    .outerjoin(giver, giver.id == Grant.given_by_id),
    {
        "id": _id(Grant.id),
        "state": _word(Grant.state, "pending, active, suspended, revoking or ended."),
        "ended_as": _word(Grant.ended_as, "How it ended."),
        "ended_at": _time(Grant.ended_at, "When it ended."),
        "account.id": _id(Account.id, "The id of the account."),
        "account.name": _text(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": _number(Account.sensitivity, "1 (low) to 4 (critical)."),
        "account.kind": _word(Account.kind, "The kind of account."),
        "system.id": _id(System.id, "The id of the system."),
        "system.name": _text(System.name, "The name of the system."),
        "system.kind": _word(System.kind, "by_hand or postgresql."),
        "holder.kind": _word(Grant.holder_kind, "person, team, app or account."),
        "holder.id": _id(Grant.holder_id, "The id of the holder."),
        "holder.name": _text(holder_name, "The name of the holder.", sorted=True),
        "holder.inside": _truth(holder_inside, "Whether the holder is inside the trust boundary."),
        "holder.standing": _word(Person.standing, "current, leaving or left; only people have one."),
        "level": _text(terms.c.level, "The names of its levels."),
        "sentence": _text(terms.c.sentence, "What it lets one do, in plain words."),
        "reach": _reach(terms.c.reach),
        "since": _time(terms.c.since, "When its window begins."),
        "until": _time(terms.c.until, "When its window ends; absent when it has no end."),
        "given_at": _time(Grant.given_at, "When it was given.", nullable=False),
        **_named("given_by", giver, "whoever gave it"),
        "reason": _text(Grant.reason, "Why it was given."),
        "last_used_at": _time(Grant.last_used_at, "When it was last used; absent when never."),
        "recorded": _truth(Grant.recorded, "False for access that a system has and nobody recorded."),
        "seen_at": _time(Grant.seen_at, "When a read of the system last showed it."),
        "missing_since": _time(Grant.missing_since, "Since when reads of the system do not show it."),
        "open_flags": _number(
            _count(
                select(func.count(Flag.id)).where(Flag.subject_id == Grant.id, Flag.state == "open").correlate(Grant)
            ),
            "How many flags are open on it.",
        ),
        "version": Column(Grant.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-given_at",
    searched=("holder.name", "account.name", "level"),
)

ACCOUNTS = Listing(
    "accounts",
    Account.__table__.join(System, System.id == Account.system_id).outerjoin(owner, owner.id == Account.owner_id),
    {
        "id": _id(Account.id),
        "name": _text(Account.name, "Its name.", sorted=True, nullable=False),
        "kind": _word(Account.kind, "The kind of account."),
        "purpose": _text(Account.purpose, "What it is for."),
        "sensitivity": _number(Account.sensitivity, "1 (low) to 4 (critical)."),
        "time_zone": _word(Account.time_zone, "Its time zone."),
        "system.id": _id(System.id, "The id of the system."),
        "system.name": _text(System.name, "The name of the system."),
        "system.kind": _word(System.kind, "by_hand or postgresql."),
        **_named("owner", owner, "its owner"),
        "grants": _number(
            _count(
                select(func.count(Grant.id))
                .where(Grant.account_id == Account.id, Grant.state.in_(LIVE))
                .correlate(Account)
            ),
            "How many live grants there are on it.",
        ),
        "sessions": _number(
            _count(
                select(func.count(Session.id))
                .where(Session.account_id == Account.id, Session.ended_at.is_(None))
                .correlate(Account)
            ),
            "How many sessions are going on in it.",
        ),
        "open_flags": _number(
            _count(
                select(func.count(Flag.id))
                .where(Flag.account_id == Account.id, Flag.state == "open")
                .correlate(Account)
            ),
            "How many flags are open on it.",
        ),
    },
    default_sort="name",
    searched=("name", "kind", "purpose", "owner.name"),
)

PEOPLE = Listing(
    "people",
    Person.__table__,
    {
        "id": _id(Person.id),
        "name": _text(Person.name, "Their name.", sorted=True, nullable=False),
        "address": _text(Person.address, "Their e-mail address.", sorted=True),
        "job": _text(Person.job, "What they do."),
        "inside": _truth(Person.inside, "Whether they are inside the trust boundary."),
        "standing": _word(Person.standing, "current, leaving or left."),
        "leaves_at": _time(Person.leaves_at, "When they leave, or left."),
        "recognised": _truth(Person.recognised, "False for one met only in a system, whom nobody has named."),
        "grants": _number(
            _count(
                select(func.count(Grant.id))
                .where(Grant.person_id == Person.id, Grant.state.in_(LIVE))
                .correlate(Person)
            ),
            "How many live grants they hold themselves.",
        ),
        "sessions": _number(
            _count(
                select(func.count(Session.id))
                .where(Session.person_id == Person.id, Session.ended_at.is_(None))
                .correlate(Person)
            ),
            "How many sessions of theirs are going on.",
        ),
        "open_flags": _number(
            _count(
                select(func.count(Flag.id)).where(Flag.holder_id == Person.id, Flag.state == "open").correlate(Person)
            ),
            "How many flags are open on their access.",
        ),
    },
    default_sort="name",
    searched=("name", "address", "job"),
)

TEAMS = Listing(
    "teams",
    Team.__table__,
    {
        "id": _id(Team.id),
        "name": _text(Team.name, "Its name.", sorted=True, nullable=False),
        "partner": _truth(Team.partner, "Whether it is a partner organisation."),
        "purpose": _text(Team.purpose, "What it is for."),
        "members": _number(
            _count(select(func.count(Membership.id)).where(Membership.team_id == Team.id).correlate(Team)),
            "How many members it has, past and future ones included.",
        ),
        "grants": _number(
            _count(select(func.count(Grant.id)).where(Grant.team_id == Team.id, Grant.state.in_(LIVE)).correlate(Team)),
            "How many live grants it holds.",
        ),
    },
    default_sort="name",
    searched=("name", "purpose"),
)

APPS = Listing(
    "apps",
    App.__table__,
    {
        "id": _id(App.id),
        "name": _text(App.name, "Its name.", sorted=True, nullable=False),
        "publisher": _text(App.publisher, "Who publishes it.", sorted=True),
        "home_page": _text(App.home_page, "Its home page."),
        "purpose": _text(App.purpose, "What it is for."),
        "links": _number(
            _count(select(func.count(Grant.id)).where(Grant.app_id == App.id, Grant.state.in_(LIVE)).correlate(App)),
            "How many accounts it is linked to.",
        ),
        "last_used_at": _time(
            select(func.max(Grant.last_used_at)).where(Grant.app_id == App.id).correlate(App).scalar_subquery(),
            "When any of its links was last used.",
        ),
        "open_flags": _number(
            _count(select(func.count(Flag.id)).where(Flag.holder_id == App.id, Flag.state == "open").correlate(App)),
            "How many flags are open on its links.",
        ),
    },
    default_sort="name",
    searched=("name", "publisher", "purpose"),
)

SESSIONS = Listing(
    "sessions",
    Session.__table__.join(Account, Account.id == Session.account_id)
    .join(System, System.id == Account.system_id)
    .outerjoin(Person, Person.id == Session.person_id)
    .outerjoin(App, App.id == Session.app_id),
    {
        "id": _id(Session.id),
        "account.id": _id(Account.id, "The id of the account."),
        "account.name": _text(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": _number(Account.sensitivity, "1 (low) to 4 (critical)."),
        "system.kind": _word(System.kind, "by_hand or postgresql."),
        "holder.kind": _word(Session.holder_kind, "person or app."),
        "holder.id": _id(Session.holder_id, "The id of the holder."),
        "holder.name": _text(func.coalesce(Person.name, App.name), "The name of the holder.", sorted=True),
        "holder.inside": _truth(func.coalesce(Person.inside, True), "Whether they are inside the trust boundary."),
        "device": _text(Session.device, "The device or program."),
        "address": _text(Session.address, "The network address."),
        "place": _text(Session.place, "Where that is, when known."),
        "started_at": _time(Session.started_at, "When it began.", nullable=False),
        "last_seen_at": _time(Session.last_seen_at, "When it was last seen.", nullable=False),
        "ended_at": _time(Session.ended_at, "When it ended; absent while it goes on."),
        "ended_as": _word(Session.ended_as, "How it ended."),
    },
    default_sort="-last_seen_at",
    searched=("holder.name", "account.name", "device", "place", "address"),
)

flag_person = aliased(Person)
flag_team = aliased(Team)
flag_app = aliased(App)
flag_account = aliased(Account)
acceptor = aliased(Person)
FLAGS = Listing(
    "flags",
    Flag.__table__.join(Account, Account.id == Flag.account_id)
    .outerjoin(flag_person, flag_person.id == Flag.holder_id)
    .outerjoin(flag_team, flag_team.id == Flag.holder_id)
    .outerjoin(flag_app, flag_app.id == Flag.holder_id)
    .outerjoin(flag_account, flag_account.id == Flag.holder_id)
    .outerjoin(acceptor, acceptor.id == Flag.accepted_by_id),
    {
        "id": _id(Flag.id),
        "rule": _word(Flag.rule, "The key of the rule that raised it."),
        "state": _word(Flag.state, "open, accepted or cleared."),
        "severity": _number(Flag.severity, "1 (low) to 4 (critical)."),
        "score": _number(Flag.score, "0 to 100."),
        "parts": _json(Flag.parts),
        "sentence": _text(Flag.sentence, "Why it was raised."),
        "facts": _json(Flag.facts),
        "subject.kind": _word(Flag.subject_kind, "grant or session."),
        "subject.id": _id(Flag.subject_id, "The id of what it was raised on."),
        "account.id": _id(Account.id, "The id of the account."),
        "account.name": _text(Account.name, "The name of the account.", sorted=True),
        "account.sensitivity": _number(Account.sensitivity, "1 (low) to 4 (critical)."),
        "holder.id": _id(Flag.holder_id, "The id of the holder."),
        "holder.kind": _word(
            case(
                (flag_person.id.is_not(None), "person"),
                (flag_team.id.is_not(None), "team"),
                (flag_app.id.is_not(None), "app"),
                else_="account",
            ),
            "person, team, app or account.",
        ),
        "holder.name": _text(
            func.coalesce(flag_person.name, flag_team.name, flag_app.name, flag_account.name),
            "The name of the holder.",
            sorted=True,
        ),
        "raised_at": _time(Flag.raised_at, "When it was raised.", nullable=False),
        "cleared_at": _time(Flag.cleared_at, "When it cleared."),
        **_named("accepted_by", acceptor, "whoever accepted it"),
        "accepted_reason": _text(Flag.accepted_reason, "Why it was accepted."),
        "accepted_until": _time(Flag.accepted_until, "Until when it is accepted."),
    },
    default_sort="-score",
    searched=("sentence",),
)

ROUNDS = Listing(
    "rounds",
    Round.__table__.outerjoin(asker, asker.id == Round.opened_by_id),
    {
        "id": _id(Round.id),
        "name": _text(Round.name, "Its name.", sorted=True, nullable=False),
        "scope": _text(Round.scope, "The filter over grants that it was opened with."),
        "acts": _word(Round.acts, "when_decided or at_close."),
        "opened_at": _time(Round.opened_at, "When it was opened.", nullable=False),
        **_named("opened_by", asker, "whoever opened it"),
        "due_at": _time(Round.due_at, "When it is due.", nullable=False),
        "closed_at": _time(Round.closed_at, "When it was closed; absent while it is open."),
        **{
            name: _number(
                _count(select(func.count(Item.id)).where(Item.round_id == Round.id, which).correlate(Round)), sentence
            )
            for name, which, sentence in (
                ("items", literal(True), "How many items it has."),
                ("decided", Item.verdict.is_not(None), "How many are decided."),
                ("kept", Item.verdict == "keep", "How many are kept."),
                ("trimmed", Item.verdict == "trim", "How many are trimmed."),
                ("revoked", Item.verdict == "revoke", "How many are revoked."),
            )
        },
    },
    default_sort="-opened_at",
    searched=("name",),
)

ITEMS = Listing(
    "items",
    Item.__table__.join(Grant, Grant.id == Item.grant_id)
    .outerjoin(reviewer, reviewer.id == Item.reviewer_id)
    .outerjoin(decider, decider.id == Item.decided_by_id),
    {
        "id": _id(Item.id),
        "round_id": _id(Item.round_id, "The id of its round."),
        "grant_id": _id(Item.grant_id, "The id of the grant."),
        "position": _number(Item.position, "Its place in the round."),
        "facts": _json(Item.facts),
        "grant_state": _word(Grant.state, "The state that the grant has now."),
        "verdict": _word(Item.verdict, "keep, trim or revoke; absent while undecided."),
        "reason": _text(Item.reason, "Why it was decided so."),
        "trim_until": _time(Item.trim_until, "The end that a trim set."),
        "trim_level_id": _id(Item.trim_level_id, "The level that a trim set.", nullable=True),
        **_named("reviewer", reviewer, "whoever is to decide"),
        **_named("decided_by", decider, "whoever decided"),
        "decided_at": _time(Item.decided_at, "When it was decided."),
        "revocation_id": _id(Item.revocation_id, "The revocation that carries it out.", nullable=True),
        "version": Column(Item.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="position",
)


def _steps(*states: str) -> ColumnElement[int]:
    counted = select(func.count(Step.id)).where(Step.revocation_id == Revocation.id)
    return _count((counted.where(Step.state.in_(states)) if states else counted).correlate(Revocation))


REVOCATIONS = Listing(
    "revocations",
    Revocation.__table__.outerjoin(asker, asker.id == Revocation.asked_by_id),
    {
        "id": _id(Revocation.id),
        "cause": _word(Revocation.cause, "asked, review or expired."),
        "reason": _text(Revocation.reason, "Why."),
        **_named("asked_by", asker, "whoever asked for it"),
        "created_at": _time(Revocation.created_at, "When it was asked for.", nullable=False),
        "confirmed_at": _time(Revocation.confirmed_at, "When a read showed that the access is gone."),
        "state": _word(
            case(
                (Revocation.confirmed_at.is_not(None), "confirmed"),
                (_steps("waiting") > 0, "waiting"),
                (and_(_steps("by_hand") > 0, _steps("open") == 0), "by_hand"),
                else_="carrying_out",
            ),
            "carrying_out, waiting (a system did not answer), by_hand (waits for a person) or confirmed.",
        ),
        "title": _text(Revocation.preview["title"].astext, "What it does, in a few words."),
        "steps": _number(_steps(), "How many steps it has."),
        "steps_done": _number(_steps("done"), "How many are done."),
        "targets": _number(
            _count(
                select(func.count(RevocationTarget.id))
                .where(RevocationTarget.revocation_id == Revocation.id)
                .correlate(Revocation)
            ),
            "How many grants and sessions it ends or trims.",
        ),
    },
    default_sort="-created_at",
    searched=("title", "reason"),
)

JOURNAL = Listing(
    "journal",
    JournalEntry.__table__,
    {
        "id": Column(JournalEntry.position, Kind.NUMBER, "", shown=True, filtered=False, nullable=False),
        "position": _number(JournalEntry.position, "Its place in the journal."),
        "at": _time(JournalEntry.at, "When it was written.", nullable=False),
        "actor.id": _id(JournalEntry.actor_id, "Who did it.", nullable=True),
        "actor.name": _text(JournalEntry.actor_name, "The name of whoever did it."),
        "action": _word(JournalEntry.action, "What was done, as in grant.revoking."),
        "subject.kind": _word(JournalEntry.subject_kind, "What it was done to."),
        "subject.id": _id(JournalEntry.subject_id, "The id of what it was done to.", nullable=True),
        "subject.name": _text(JournalEntry.subject_name, "The name of what it was done to."),
        "account_id": _id(JournalEntry.account_id, "The account that it concerns.", nullable=True),
        "facts": _json(JournalEntry.facts),
        "hash": Column(func.encode(JournalEntry.hash, "hex"), Kind.WORD, "Its hash.", filtered=False),
        "previous": Column(func.encode(JournalEntry.previous, "hex"), Kind.WORD, "", filtered=False),
    },
    default_sort="-position",
    searched=("action", "actor.name", "subject.name"),
)

SYSTEMS = Listing(
    "systems",
    System.__table__,
    {
        "id": _id(System.id),
        "key": _word(System.key, "The key that files name it by."),
        "name": _text(System.name, "Its name.", sorted=True, nullable=False),
        "kind": _word(System.kind, "by_hand or postgresql."),
        "read_at": _time(System.read_at, "When it was last read."),
        "down_since": _time(System.down_since, "Since when it has not answered."),
        "answer": _text(System.answer, "What came of the last read."),
        "accounts": _number(
            _count(select(func.count(Account.id)).where(Account.system_id == System.id).correlate(System)),
            "How many accounts live in it.",
        ),
        "handles": _number(
            _count(select(func.count(Handle.id)).where(Handle.system_id == System.id).correlate(System)),
            "How many of its names are known.",
        ),
    },
    default_sort="name",
    searched=("name",),
)

LEVELS = Listing(
    "levels",
    Level.__table__.join(System, System.id == Level.system_id),
    {
        "id": _id(Level.id),
        "key": _word(Level.key, "The key that files name it by."),
        "name": _text(Level.name, "Its name.", sorted=True, nullable=False),
        "sentence": _text(Level.sentence, "What it lets one do, in plain words."),
        "reach": _reach(Level.reach),
        "permissions": _json(Level.permissions),
        "system.id": _id(System.id, "The id of the system."),
        "system.name": _text(System.name, "The name of the system."),
    },
    default_sort="name",
    searched=("name", "sentence"),
)
