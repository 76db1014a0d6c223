"""The lists of the register, each with its columns."""

from __future__ import annotations

from sqlalchemy import ColumnElement, and_, case, func, literal, null, or_, select
from sqlalchemy.orm import aliased

from openlatch.core.filters import Kind
from openlatch.core.vocabulary import FlagState, GrantState, Owed, Proof
from openlatch.store.lists.columns import (
    archived_column,
    counted,
    ends_on_column,
    id_column,
    json_column,
    last_day_column,
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
from openlatch.store.sql_types import AnyTable
from openlatch.store.tables import (
    Account,
    App,
    Flag,
    Grant,
    Handle,
    JournalEntry,
    Level,
    Membership,
    Organisation,
    Person,
    Resource,
    ResourceGroup,
    Revocation,
    RevocationTarget,
    Session,
    Step,
    System,
    Team,
    Term,
)

LIVE = ("active", "suspended", "revoking")
# The rules that flag how a system departs from the register.
DRIFT_RULES = ("unrecorded", "missing", "changed")


owner = aliased(Person)
giver = aliased(Person)
recorder = aliased(Person)
asker = aliased(Person)
speaker = aliased(Person)
leaver = aliased(Person)
holder_account = aliased(Account)

# What the terms of a grant come to: the highest reach, the latest end (none if one has none), the levels.
TERM_COLUMNS = (
    func.max(Level.reach).label("reach"),
    case((func.bool_or(Term.until.is_(None)), null()), else_=func.max(Term.until)).label("until"),
    case((func.bool_or(Term.since.is_(None)), null()), else_=func.min(Term.since)).label("since"),
    func.string_agg(Level.name, literal(", ")).label("level"),
    func.string_agg(Level.sentence, literal(" ")).label("sentence"),
    func.string_agg(func.coalesce(Resource.name, ResourceGroup.name), literal(", ")).label("part"),
    func.bool_or(Term.hours.is_not(None)).label("has_hours"),
    func.min(func.cast(Level.id, Level.name.type)).label("level_id"),
)
TERM_SOURCE = (
    Term.__table__.join(Level, Level.id == Term.level_id)
    .outerjoin(Resource, Resource.id == Term.resource_id)
    .outerjoin(ResourceGroup, ResourceGroup.id == Term.group_id)
)
terms = select(*TERM_COLUMNS).select_from(TERM_SOURCE).where(Term.grant_id == Grant.id).lateral("term")

holder_name = func.coalesce(Person.name, Team.name, App.name, holder_account.name)
# Only people and partner teams can be outside. An app counts as internal if the person who linked it is internal.
holder_inside = func.coalesce(Person.inside, ~Team.partner, True)


def organisation_zone(table: AnyTable) -> ColumnElement[str]:
    """The time zone of the organisation that a row belongs to."""
    of = select(Organisation.time_zone).where(Organisation.id == table.organisation_id).correlate(table)
    return of.scalar_subquery()


# What was never in its system is not said to be active before it is given there.
TO_BE_GIVEN = "to_be_given"
to_be_given = and_(Grant.state == GrantState.ACTIVE, Grant.owed == Owed.GIVE, Grant.handle == {})


def in_state(state: str) -> ColumnElement[bool]:
    """The grants of which a state is said."""
    if state == TO_BE_GIVEN:
        return to_be_given
    if state == GrantState.ACTIVE:
        given = or_(Grant.owed.is_(None), Grant.owed != Owed.GIVE, Grant.handle != {})
        return and_(Grant.state == state, given)
    found: ColumnElement[bool] = Grant.state == state
    return found


_grants = (
    Grant.__table__.join(Account, Account.id == Grant.account_id)
    .join(System, System.id == Account.system_id)
    .outerjoin(Person, Person.id == Grant.person_id)
    .outerjoin(Team, Team.id == Grant.team_id)
    .outerjoin(App, App.id == Grant.app_id)
    .outerjoin(holder_account, holder_account.id == Grant.holder_account_id)
    .outerjoin(giver, giver.id == Grant.given_by_id)
)
GRANTS = Listing(
    "grants",
    _grants.join(terms, literal(True)),
    {
        "id": id_column(Grant.id),
        "state": Column(
            case((to_be_given, TO_BE_GIVEN), else_=Grant.state),
            Kind.WORD,
            "pending, to_be_given (accepted, and not yet in its system), active, suspended, revoking or ended.",
            equals=in_state,
        ),
        "ended_as": word_column(Grant.ended_as, "How it ended."),
        "ended_at": time_column(Grant.ended_at, "When it ended."),
        **proof_columns(Grant),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical)."),
        "account.kind": word_column(Account.kind, "The kind of account."),
        "system.id": id_column(System.id, "The id of the system."),
        "system.name": text_column(System.name, "The name of the system."),
        "system.kind": word_column(System.kind, "by_hand, or the kind of its adapter."),
        "holder.kind": word_column(Grant.holder_kind, "person, team, app or account."),
        "holder.id": id_column(Grant.holder_id, "The id of the holder."),
        "holder.name": text_column(holder_name, "The name of the holder.", sorted=True),
        "holder.inside": truth_column(holder_inside, "Whether the holder is inside the trust boundary."),
        "holder.standing": word_column(Person.standing, "current, leaving or left; only people have one."),
        "level": text_column(terms.c.level, "The names of its levels."),
        "sentence": text_column(terms.c.sentence, "What it lets one do, in plain words."),
        "part": text_column(terms.c.part, "The parts of the account that it is limited to; absent for the whole."),
        "has_hours": truth_column(terms.c.has_hours, "Whether it holds only in certain hours of the week."),
        "reach": reach_column(terms.c.reach),
        "since": time_column(terms.c.since, "When its window begins."),
        "until": time_column(terms.c.until, "When its window ends; absent when it has no end."),
        "last_day": last_day_column(terms.c.until, Account.time_zone),
        "given_at": time_column(Grant.given_at, "When it was given.", nullable=False),
        **named_columns("given_by", giver, "whoever gave it"),
        "recorded_by": text_column(
            select(recorder.name).where(recorder.id == Grant.recorded_by_id).correlate(Grant).scalar_subquery(),
            "Who wrote down by hand that it exists; absent for what was given here or found in a system.",
        ),
        "evidence": text_column(Grant.evidence, "How they know.", nullable=False),
        "reason": text_column(Grant.reason, "Why it was given."),
        "last_used_at": time_column(Grant.last_used_at, "When it was last used; absent when never."),
        "recorded": truth_column(Grant.recorded, "False for access that a system has and nobody recorded."),
        "seen_at": time_column(
            # What every read shows is not written down anew at every read.
            case(
                (
                    and_(Grant.state == GrantState.ACTIVE, Grant.shown.is_not(None), Grant.missing_since.is_(None)),
                    func.greatest(Grant.seen_at, System.read_at),
                ),
                else_=Grant.seen_at,
            ),
            "When a read of the system last showed it.",
        ),
        "missing_since": time_column(Grant.missing_since, "Since when reads of the system do not show it."),
        "drift": word_column(
            case(
                (Grant.state.not_in(LIVE), null()),
                (~Grant.recorded, "unrecorded"),
                (Grant.missing_since.is_not(None), "missing"),
                (Grant.differs.is_not(None), "changed"),
                else_=null(),
            ),
            "How its system departs from what is recorded: unrecorded, missing, or changed (different there).",
        ),
        "drift_accepted_until": time_column(
            select(func.max(Flag.accepted_until))
            .where(Flag.subject_id == Grant.id, Flag.state == FlagState.ACCEPTED, Flag.rule.in_(DRIFT_RULES))
            .correlate(Grant)
            .scalar_subquery(),
            "Until when somebody accepted that.",
        ),
        "shown_level": text_column(Grant.differs["level"].astext, "What its system gives instead."),
        "emergency": truth_column(Grant.emergency, "Whether it was opened in an emergency."),
        "owed": word_column(Grant.owed, "give, change or take: what its system still has to be brought to."),
        "owed_answer": text_column(
            Grant.owed_answer, "What the system answered when that was last tried, or that it waits for a person."
        ),
        "open_flags": number_column(
            counted(
                select(func.count(Flag.id))
                .where(Flag.subject_id == Grant.id, Flag.state == FlagState.OPEN)
                .correlate(Grant)
            ),
            "How many flags are open on it.",
        ),
        "version": Column(Grant.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-given_at",
    searched=("holder.name", "account.name", "level"),
    lean=_grants,
    heavy=frozenset({"level", "sentence", "part", "has_hours", "reach", "since", "until", "last_day"}),
)

# Who pays for an account: a person, a team or another account.
payer_name = func.coalesce(
    select(Person.name).where(Person.id == Account.payer_person_id).correlate(Account).scalar_subquery(),
    select(Team.name).where(Team.id == Account.payer_team_id).correlate(Account).scalar_subquery(),
    select(holder_account.name)
    .where(holder_account.id == Account.payer_account_id)
    .correlate(Account)
    .scalar_subquery(),
)

ACCOUNTS = Listing(
    "accounts",
    Account.__table__.join(System, System.id == Account.system_id).outerjoin(owner, owner.id == Account.owner_id),
    {
        "id": id_column(Account.id),
        "name": text_column(Account.name, "Its name.", sorted=True, nullable=False),
        "kind": word_column(Account.kind, "The kind of account."),
        "purpose": text_column(Account.purpose, "What it is for."),
        "sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical)."),
        "time_zone": word_column(Account.time_zone, "Its time zone."),
        "system.id": id_column(System.id, "The id of the system."),
        "system.name": text_column(System.name, "The name of the system."),
        "system.kind": word_column(System.kind, "by_hand, or the kind of its adapter."),
        **named_columns("owner", owner, "its owner"),
        "grants": number_column(
            counted(
                select(func.count(Grant.id))
                .where(Grant.account_id == Account.id, Grant.state.in_(LIVE))
                .correlate(Account)
            ),
            "How many live grants there are on it.",
        ),
        "holders": number_column(
            counted(
                select(func.count(func.distinct(Grant.holder_id)))
                .where(Grant.account_id == Account.id, Grant.state.in_(LIVE))
                .correlate(Account)
            ),
            "How many people, teams, apps and accounts share it.",
        ),
        "emergency_hours": number_column(
            Account.emergency_hours, "For how long emergency access opens.", nullable=True
        ),
        "version": Column(Account.version, Kind.NUMBER, "", filtered=False),
        "is_closed": truth_column(Account.is_closed, "Whether nobody can be given anything on it."),
        "archived": archived_column(Account),
        "payer": text_column(payer_name, "Who pays for it."),
        "paid_until": time_column(Account.paid_until, "Until when it is paid for."),
        "sessions": number_column(
            counted(
                select(func.count(Session.id))
                .where(Session.account_id == Account.id, Session.ended_at.is_(None))
                .correlate(Account)
            ),
            "How many sessions are going on in it.",
        ),
        "open_flags": number_column(
            counted(
                select(func.count(Flag.id))
                .where(Flag.account_id == Account.id, Flag.state == FlagState.OPEN)
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
        "id": id_column(Person.id),
        "name": text_column(Person.name, "Their name.", sorted=True, nullable=False),
        "address": text_column(Person.address, "Their e-mail address.", sorted=True),
        "job": text_column(Person.job, "What they do."),
        "inside": truth_column(Person.inside, "Whether they are inside the trust boundary."),
        "standing": word_column(Person.standing, "current, leaving or left."),
        "leaves_at": time_column(Person.leaves_at, "When they leave, or left."),
        "leaves_on": ends_on_column(Person.leaves_at, organisation_zone(Person)),
        "version": Column(Person.version, Kind.NUMBER, "", filtered=False),
        "second_factor": truth_column(Person.second_factor, "Whether they have a second factor."),
        "address_confirmed_at": time_column(Person.address_confirmed_at, "When they confirmed their address."),
        "refuses_offers": truth_column(Person.refuses_offers, "Whether they take no offers."),
        "recognised": truth_column(Person.recognised, "False for a login not yet matched to a person."),
        "grants": number_column(
            counted(
                select(func.count(Grant.id))
                .where(Grant.holder_id == Person.id, Grant.state.in_(LIVE))
                .correlate(Person)
            ),
            "How many live grants they hold themselves.",
        ),
        "sessions": number_column(
            counted(
                select(func.count(Session.id))
                .where(Session.holder_id == Person.id, Session.ended_at.is_(None))
                .correlate(Person)
            ),
            "How many sessions of theirs are going on.",
        ),
        "open_flags": number_column(
            counted(
                select(func.count(Flag.id))
                .where(Flag.holder_id == Person.id, Flag.state == FlagState.OPEN)
                .correlate(Person)
            ),
            "How many flags are open on their access.",
        ),
    },
    default_sort="name",
    searched=("name", "address", "job"),
)

TEAMS = Listing(
    "teams",
    Team.__table__.outerjoin(speaker, speaker.id == Team.speaker_id),
    {
        "id": id_column(Team.id),
        "name": text_column(Team.name, "Its name.", sorted=True, nullable=False),
        "partner": truth_column(Team.partner, "Whether it is a partner organisation."),
        **named_columns("speaker", speaker, "whoever speaks for it"),
        "purpose": text_column(Team.purpose, "What it is for."),
        "archived": archived_column(Team),
        "version": Column(Team.version, Kind.NUMBER, "", filtered=False),
        "members": number_column(
            counted(select(func.count(Membership.id)).where(Membership.team_id == Team.id).correlate(Team)),
            "How many members it has, past and future ones included.",
        ),
        "grants": number_column(
            counted(
                select(func.count(Grant.id)).where(Grant.holder_id == Team.id, Grant.state.in_(LIVE)).correlate(Team)
            ),
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
        "id": id_column(App.id),
        "name": text_column(App.name, "Its name.", sorted=True, nullable=False),
        "publisher": text_column(App.publisher, "Who publishes it.", sorted=True),
        "home_page": text_column(App.home_page, "Its home page."),
        "purpose": text_column(App.purpose, "What it is for."),
        "archived": archived_column(App),
        "version": Column(App.version, Kind.NUMBER, "", filtered=False),
        "links": number_column(
            counted(
                select(func.count(Grant.id)).where(Grant.holder_id == App.id, Grant.state.in_(LIVE)).correlate(App)
            ),
            "How many accounts it is linked to.",
        ),
        "last_used_at": time_column(
            select(func.max(Grant.last_used_at)).where(Grant.holder_id == App.id).correlate(App).scalar_subquery(),
            "When any of its links was last used.",
        ),
        "open_flags": number_column(
            counted(
                select(func.count(Flag.id)).where(Flag.holder_id == App.id, Flag.state == FlagState.OPEN).correlate(App)
            ),
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
        "id": id_column(Session.id),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical)."),
        "system.kind": word_column(System.kind, "by_hand, or the kind of its adapter."),
        "holder.kind": word_column(Session.holder_kind, "person or app."),
        "holder.id": id_column(Session.holder_id, "The id of the holder."),
        "holder.name": text_column(func.coalesce(Person.name, App.name), "The name of the holder.", sorted=True),
        "holder.inside": truth_column(
            func.coalesce(Person.inside, True), "Whether they are inside the trust boundary."
        ),
        "device": text_column(Session.device, "The device or program."),
        "address": text_column(Session.address, "The network address."),
        "place": text_column(Session.place, "Where that is, when known."),
        "started_at": time_column(Session.started_at, "When it began.", nullable=False),
        "last_seen_at": time_column(Session.last_seen_at, "When it was last seen.", nullable=False),
        "ended_at": time_column(Session.ended_at, "When it ended; absent while it goes on."),
        "ended_as": word_column(Session.ended_as, "How it ended."),
        **proof_columns(Session),
    },
    default_sort="-last_seen_at",
    searched=("holder.name", "account.name", "device", "place", "address"),
)

flag_person = aliased(Person)
flag_team = aliased(Team)
flag_app = aliased(App)
flag_account = aliased(Account)
acceptor = aliased(Person)
assignee = aliased(Person)
FLAGS = Listing(
    "flags",
    Flag.__table__.outerjoin(Account, Account.id == Flag.account_id)
    .outerjoin(assignee, assignee.id == Flag.assigned_to_id)
    .outerjoin(flag_person, flag_person.id == Flag.holder_id)
    .outerjoin(flag_team, flag_team.id == Flag.holder_id)
    .outerjoin(flag_app, flag_app.id == Flag.holder_id)
    .outerjoin(flag_account, flag_account.id == Flag.holder_id)
    .outerjoin(acceptor, acceptor.id == Flag.accepted_by_id),
    {
        "id": id_column(Flag.id),
        "rule": word_column(Flag.rule, "The key of the rule that raised it."),
        "state": word_column(Flag.state, "open, accepted or cleared."),
        "severity": number_column(Flag.severity, "1 (low) to 4 (critical)."),
        "score": number_column(Flag.score, "0 to 100."),
        "parts": json_column(Flag.parts),
        "sentence": text_column(Flag.sentence, "Why it was raised."),
        "facts": json_column(Flag.facts),
        "subject.kind": word_column(Flag.subject_kind, "grant, session, account, person or offer."),
        "subject.id": id_column(Flag.subject_id, "The id of what it was raised on."),
        "account.id": id_column(Account.id, "The id of the account; a flag on a person has none.", nullable=True),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical).", nullable=True),
        "holder.id": id_column(Flag.holder_id, "The id of the holder."),
        "holder.kind": word_column(
            case(
                (flag_person.id.is_not(None), "person"),
                (flag_team.id.is_not(None), "team"),
                (flag_app.id.is_not(None), "app"),
                else_="account",
            ),
            "person, team, app or account.",
        ),
        "holder.name": text_column(
            func.coalesce(flag_person.name, flag_team.name, flag_app.name, flag_account.name),
            "The name of the holder.",
            sorted=True,
        ),
        "raised_at": time_column(Flag.raised_at, "When it was raised.", nullable=False),
        "worse_at": time_column(Flag.worse_at, "When its severity rose."),
        "cleared_at": time_column(Flag.cleared_at, "When it cleared."),
        **named_columns("assigned_to", assignee, "whoever sees to it"),
        **named_columns("accepted_by", acceptor, "whoever accepted it"),
        "accepted_reason": text_column(Flag.accepted_reason, "Why it was accepted."),
        "accepted_until": time_column(Flag.accepted_until, "Until when it is accepted."),
    },
    default_sort="-score",
    searched=("sentence",),
)


def _steps(*states: str) -> ColumnElement[int]:
    of_it = select(func.count(Step.id)).where(Step.revocation_id == Revocation.id)
    return counted((of_it.where(Step.state.in_(states)) if states else of_it).correlate(Revocation))


def _ends(proof: Proof) -> ColumnElement[int]:
    """How many ends of a revocation are known in one way: of grants, sessions, exposures and logins."""
    of_targets = select(func.count(RevocationTarget.id)).where(
        RevocationTarget.revocation_id == Revocation.id, RevocationTarget.proof == proof
    )
    of_logins = select(func.count(Step.id)).where(Step.revocation_id == Revocation.id, Step.proof == proof)
    return counted(of_targets.correlate(Revocation)) + counted(of_logins.correlate(Revocation))


REVOCATIONS = Listing(
    "revocations",
    Revocation.__table__.outerjoin(asker, asker.id == Revocation.asked_by_id).outerjoin(
        leaver, leaver.id == Revocation.leaver_id
    ),
    {
        "id": id_column(Revocation.id),
        "cause": word_column(Revocation.cause, "asked, review, expired, given_up, replaced or left."),
        "reason": text_column(Revocation.reason, "Why."),
        **named_columns("asked_by", asker, "whoever asked for it"),
        "created_at": time_column(Revocation.created_at, "When it was asked for.", nullable=False),
        "settled_at": time_column(Revocation.settled_at, "When nothing of it was left to do."),
        "confirmed_at": time_column(
            Revocation.confirmed_at, "When its systems had shown that all of it is gone; absent unless each end is."
        ),
        "state": word_column(
            case(
                (Revocation.undone_at.is_not(None), "undone"),
                (_ends(Proof.CONTRADICTED) > 0, "contradicted"),
                (and_(Revocation.settled_at.is_not(None), _ends(Proof.UNPROVED) > 0), "unproved"),
                (and_(Revocation.settled_at.is_not(None), _ends(Proof.STATED) > 0), "stated"),
                (Revocation.confirmed_at.is_not(None), "confirmed"),
                (Revocation.settled_at.is_not(None), "done"),
                (_steps("waiting") > 0, "waiting"),
                (and_(_steps("by_hand") > 0, _steps("open") == 0), "by_hand"),
                else_="carrying_out",
            ),
            "carrying_out, waiting (a system did not answer), by_hand (waits for a person), undone, done (nothing had "
            "to end), or the least sure proof of its ends: confirmed, stated, unproved or contradicted.",
        ),
        **{
            proof.value: number_column(_ends(proof), f"How many of its ends are {proof}: {proof.plain}.")
            for proof in Proof
        },
        "title": text_column(Revocation.preview["title"].astext, "What it does, in a few words."),
        "steps": number_column(_steps(), "How many steps it has."),
        "steps_done": number_column(_steps("done"), "How many are done."),
        "steps_skipped": number_column(_steps("skipped"), "How many somebody said will not be done."),
        "undone_at": time_column(Revocation.undone_at, "When it was undone."),
        **named_columns("leaver", leaver, "whoever leaves by it"),
        "targets": number_column(
            counted(
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
        "position": number_column(JournalEntry.position, "Its place in the journal."),
        "at": time_column(JournalEntry.at, "When it was written.", nullable=False),
        "actor.id": id_column(JournalEntry.actor_id, "Who did it.", nullable=True),
        "actor.name": text_column(JournalEntry.actor_name, "The name of whoever did it."),
        "action": word_column(JournalEntry.action, "What was done, as in grant.revoking."),
        "subject.kind": word_column(JournalEntry.subject_kind, "What it was done to."),
        "subject.id": id_column(JournalEntry.subject_id, "The id of what it was done to.", nullable=True),
        "subject.name": text_column(JournalEntry.subject_name, "The name of what it was done to."),
        "account_id": id_column(JournalEntry.account_id, "The account that it concerns.", nullable=True),
        "on_behalf_of": text_column(
            JournalEntry.facts["on_behalf_of"]["name"].astext, "On whose behalf it was done, by somebody inside."
        ),
        "facts": json_column(JournalEntry.facts),
        "hash": Column(func.encode(JournalEntry.hash, "hex"), Kind.WORD, "Its hash.", filtered=False),
        "previous": Column(func.encode(JournalEntry.previous, "hex"), Kind.WORD, "", filtered=False),
    },
    default_sort="-position",
    searched=("action", "actor.name", "subject.name"),
)


def _drifted(which: ColumnElement[bool], about: str) -> Column:
    of_it = select(func.count(Grant.id)).join(Account, Account.id == Grant.account_id)
    return number_column(
        counted(of_it.where(Account.system_id == System.id, Grant.state.in_(LIVE), which).correlate(System)), about
    )


SYSTEMS = Listing(
    "systems",
    System.__table__,
    {
        "id": id_column(System.id),
        "key": word_column(System.key, "The key that files name it by."),
        "name": text_column(System.name, "Its name.", sorted=True, nullable=False),
        "kind": word_column(System.kind, "by_hand, or the kind of its adapter."),
        "archived": archived_column(System),
        "paused_at": time_column(System.paused_at, "Since when it is not read, until somebody lets it."),
        "version": Column(System.version, Kind.NUMBER, "", filtered=False),
        "read_at": time_column(System.read_at, "When it was last read."),
        "down_since": time_column(System.down_since, "Since when it has not answered."),
        "answer": text_column(System.answer, "What came of the last read."),
        "read_every": number_column(System.read_every, "Every how many minutes it is read."),
        "next_read_at": time_column(System.next_read_at, "When it will be read again."),
        "reading_since": time_column(System.reading_since, "Since when it is being read; absent when it is not."),
        "reading_seen": number_column(System.reading_seen, "How much of it has been seen in that reading."),
        "unrecorded": _drifted(~Grant.recorded, "How many live grants it has that nobody recorded."),
        "missing": _drifted(Grant.missing_since.is_not(None), "How many recorded grants it does not show."),
        "changed": _drifted(Grant.differs.is_not(None), "How many grants it gives otherwise than recorded."),
        "doubts": number_column(
            counted(
                select(func.count(Handle.id))
                .where(Handle.system_id == System.id, Handle.candidates != [], ~Handle.settled)
                .correlate(System)
            ),
            "How many of its logins may be somebody's, and wait for a person to say.",
        ),
        "matching": json_column(System.matching),
        "coverage": json_column(System.coverage),
        "accounts": number_column(
            counted(select(func.count(Account.id)).where(Account.system_id == System.id).correlate(System)),
            "How many accounts live in it.",
        ),
        "handles": number_column(
            counted(select(func.count(Handle.id)).where(Handle.system_id == System.id).correlate(System)),
            "How many of its names are known.",
        ),
    },
    default_sort="name",
    searched=("name",),
)

# Counted at once for all levels: each may be given tens of thousands of times.
_given = (
    select(Term.level_id, func.count(func.distinct(Term.grant_id)).label("grants"))
    .join(Grant, Grant.id == Term.grant_id)
    .where(Grant.state.in_(LIVE))
    .group_by(Term.level_id)
    .subquery("given")
)
LEVELS = Listing(
    "levels",
    Level.__table__.join(System, System.id == Level.system_id).outerjoin(_given, _given.c.level_id == Level.id),
    {
        "id": id_column(Level.id),
        "key": word_column(Level.key, "The key that files name it by."),
        "name": text_column(Level.name, "Its name.", sorted=True, nullable=False),
        "sentence": text_column(Level.sentence, "What it lets one do, in plain words."),
        "reach": reach_column(Level.reach),
        "permissions": json_column(Level.permissions),
        "single": truth_column(Level.single, "Whether it is one permission given alone."),
        "grants": number_column(
            func.coalesce(_given.c.grants, 0),
            "How many live grants give it.",
        ),
        "archived": archived_column(Level),
        "version": Column(Level.version, Kind.NUMBER, "", filtered=False),
        "system.id": id_column(System.id, "The id of the system."),
        "system.name": text_column(System.name, "The name of the system."),
    },
    default_sort="name",
    searched=("name", "sentence"),
)
