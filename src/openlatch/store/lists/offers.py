"""The lists of giving access: offers, requests, notices, resources, latches, visits."""

from __future__ import annotations

from sqlalchemy import case, func, literal, or_, select
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.orm import aliased

from openlatch.core.filters import Kind
from openlatch.store.lists.columns import (
    archived_column,
    counted,
    id_column,
    json_column,
    last_day_column,
    named_columns,
    number_column,
    text_column,
    time_column,
    truth_column,
    word_column,
)
from openlatch.store.lists.engine import Column, Listing
from openlatch.store.lists.register import LIVE, organisation_zone, terms
from openlatch.store.tables import (
    AccessRequest,
    Account,
    App,
    Grant,
    HandTask,
    Latch,
    Level,
    Notice,
    Offer,
    Person,
    Resource,
    ResourceGroup,
    ResourceInGroup,
    System,
    Team,
    Term,
    Visit,
)

sender = aliased(Person)
invited = aliased(Person)
holder_team = aliased(Team)
asker = aliased(Person)
answerer = aliased(Person)
visitor = aliased(Person)
doer = aliased(Person)
acting_account = aliased(Account)
visited_owner = aliased(Person)

OFFERS = Listing(
    "offers",
    Offer.__table__.join(Account, Account.id == Offer.account_id)
    .join(invited, invited.id == Offer.person_id)
    .outerjoin(sender, sender.id == Offer.sender_id)
    .outerjoin(Grant, Grant.id == Offer.grant_id)
    .outerjoin(holder_team, holder_team.id == Grant.team_id)
    .outerjoin(terms, literal(True)),
    {
        "id": id_column(Offer.id),
        "kind": word_column(Offer.kind, "access or ownership."),
        "state": word_column(Offer.state, "pending, accepted, declined, unknown_sender, withdrawn or run_out."),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical)."),
        "grant_id": id_column(Offer.grant_id, "The id of the pending grant.", nullable=True),
        "person.id": id_column(invited.id, "The id of whoever is to answer."),
        "person.name": text_column(invited.name, "The name of whoever is to answer.", sorted=True, nullable=False),
        "team": text_column(holder_team.name, "The team that it is for, when it is for one."),
        "address": text_column(Offer.address, "Where it was sent to."),
        **named_columns("sender", sender, "whoever sent it"),
        "level": text_column(terms.c.level, "The levels on offer."),
        "part": text_column(terms.c.part, "The parts of the account that it is limited to."),
        "reach": Column(terms.c.reach, Kind.REACH, "How far it goes.", sorted=True),
        "until": time_column(terms.c.until, "When the access would end."),
        "last_day": last_day_column(terms.c.until, Account.time_zone),
        "reason": text_column(Offer.reason, "Why it was offered."),
        "sent_at": time_column(Offer.sent_at, "When it was last sent.", nullable=False),
        "times_sent": number_column(Offer.times_sent, "How often it was sent."),
        "runs_out_at": time_column(Offer.runs_out_at, "When it runs out.", nullable=False),
        "opened_at": time_column(Offer.opened_at, "When its link was first opened."),
        "answered_at": time_column(Offer.answered_at, "When it was answered."),
        "answer": text_column(Offer.answer, "What was answered."),
        "version": Column(Offer.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-sent_at",
    searched=("account.name", "person.name", "address"),
)

REQUESTS = Listing(
    "requests",
    AccessRequest.__table__.join(asker, asker.id == AccessRequest.person_id)
    .outerjoin(Account, Account.id == AccessRequest.account_id)
    .outerjoin(Level, Level.id == AccessRequest.level_id)
    .outerjoin(answerer, answerer.id == AccessRequest.answered_by_id),
    {
        "id": id_column(AccessRequest.id),
        "state": word_column(AccessRequest.state, "pending, granted, declined, withdrawn or run_out."),
        "emergency": truth_column(AccessRequest.emergency, "Whether access was opened at once."),
        "person.id": id_column(asker.id, "The id of whoever asks."),
        "person.name": text_column(asker.name, "The name of whoever asks.", sorted=True, nullable=False),
        "person.inside": truth_column(asker.inside, "Whether they are inside the trust boundary."),
        "account.id": id_column(
            Account.id, "The id of the account; absent when it was put to an owner.", nullable=True
        ),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True),
        "extends": id_column(
            AccessRequest.extends_id, "The grant on which more time is asked for; absent for new access.", nullable=True
        ),
        "owner_address": text_column(AccessRequest.owner_address, "The owner's address that it was put to."),
        "wanted": text_column(AccessRequest.wanted, "What is wanted, in the asker's words."),
        "level.id": id_column(Level.id, "The id of the level asked for.", nullable=True),
        "level.name": text_column(Level.name, "The level asked for."),
        "reach": Column(Level.reach, Kind.REACH, "How far that goes."),
        "resources": json_column(AccessRequest.resources),
        "until": time_column(AccessRequest.until, "Until when."),
        "last_day": last_day_column(
            AccessRequest.until, func.coalesce(Account.time_zone, organisation_zone(AccessRequest))
        ),
        "reason": text_column(AccessRequest.reason, "Why."),
        "asked_at": time_column(AccessRequest.asked_at, "When it was last asked.", nullable=False),
        "times_asked": number_column(AccessRequest.times_asked, "How often it was asked."),
        "runs_out_at": time_column(AccessRequest.runs_out_at, "When it runs out.", nullable=False),
        "answered_at": time_column(AccessRequest.answered_at, "When it was answered."),
        **named_columns("answered_by", answerer, "whoever answered"),
        "answer": text_column(AccessRequest.answer, "What was answered."),
        "grant_id": id_column(AccessRequest.grant_id, "The grant that came of it.", nullable=True),
        "version": Column(AccessRequest.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-asked_at",
    searched=("account.name", "person.name", "reason", "wanted"),
)

NOTICES = Listing(
    "notices",
    Notice.__table__,
    {
        "id": id_column(Notice.id),
        "kind": word_column(Notice.kind, "What it is about."),
        "sentence": text_column(Notice.sentence, "What it says."),
        "page": text_column(Notice.page, "The page of the console that it leads to."),
        "at": time_column(Notice.at, "When it was put there.", nullable=False),
        "read_at": time_column(Notice.read_at, "When it was read; absent until then."),
    },
    default_sort="-at",
    searched=("sentence",),
)

_on_it = or_(
    Term.resource_id == Resource.id,
    Term.group_id.in_(
        select(ResourceInGroup.group_id).where(ResourceInGroup.resource_id == Resource.id).correlate(Resource)
    ),
    (Term.resource_id.is_(None) & Term.group_id.is_(None)),
)
RESOURCES = Listing(
    "resources",
    Resource.__table__.join(Account, Account.id == Resource.account_id),
    {
        "id": id_column(Resource.id),
        "key": word_column(Resource.key, "The key that files name it by."),
        "name": text_column(Resource.name, "Its name.", sorted=True, nullable=False),
        "kind": word_column(Resource.kind, "What kind of part it is."),
        "archived": archived_column(Resource),
        "version": Column(Resource.version, Kind.NUMBER, "", filtered=False),
        "public": truth_column(Resource.public, "Whether anyone at all can reach it."),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True),
        "holders": number_column(
            counted(
                select(func.count(func.distinct(Grant.holder_id)))
                .join(Term, Term.grant_id == Grant.id)
                .where(Grant.account_id == Resource.account_id, Grant.state.in_(LIVE), _on_it)
                .correlate(Resource)
            ),
            "How many people, teams, apps and accounts share it.",
        ),
    },
    default_sort="name",
    searched=("name", "kind", "account.name"),
)

GROUPS = Listing(
    "groups",
    ResourceGroup.__table__.join(Account, Account.id == ResourceGroup.account_id),
    {
        "id": id_column(ResourceGroup.id),
        "name": text_column(ResourceGroup.name, "Its name.", sorted=True, nullable=False),
        "archived": archived_column(ResourceGroup),
        "version": Column(ResourceGroup.version, Kind.NUMBER, "", filtered=False),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True),
        "resources": text_column(
            select(func.string_agg(Resource.name, aggregate_order_by(literal(", "), Resource.name)))
            .join(ResourceInGroup, ResourceInGroup.resource_id == Resource.id)
            .where(ResourceInGroup.group_id == ResourceGroup.id)
            .correlate(ResourceGroup)
            .scalar_subquery(),
            "The names of the resources in it; absent when there are none.",
        ),
    },
    default_sort="name",
    searched=("name", "account.name"),
)

LATCHES = Listing(
    "latches",
    Latch.__table__.outerjoin(Account, Account.id == Latch.account_id),
    {
        "id": id_column(Latch.id),
        "kind": word_column(Latch.kind, "What it guards."),
        "mode": word_column(Latch.mode, "off, warn or hold."),
        "number": number_column(Latch.number, "Its number of delegates or days.", nullable=True),
        "pair": json_column(Latch.pair),
        "account.id": id_column(Account.id, "The id of the account; absent for one on a kind.", nullable=True),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True),
        "account.sensitivity": number_column(Account.sensitivity, "1 (low) to 4 (critical).", nullable=True),
        "account.kind": word_column(
            func.coalesce(Account.kind, Latch.account_kind), "The kind of the account, or of the accounts."
        ),
        "account_kind": word_column(Latch.account_kind, "The kind of account that it is on."),
    },
    default_sort="account.name",
    searched=("account.name", "kind", "account_kind"),
)

task_holder = func.coalesce(
    select(Person.name).where(Person.id == Grant.person_id).correlate(Grant).scalar_subquery(),
    select(Team.name).where(Team.id == Grant.team_id).correlate(Grant).scalar_subquery(),
    select(App.name).where(App.id == Grant.app_id).correlate(Grant).scalar_subquery(),
    select(acting_account.name).where(acting_account.id == Grant.holder_account_id).correlate(Grant).scalar_subquery(),
)
HAND_TASKS = Listing(
    "tasks",
    HandTask.__table__.join(Account, Account.id == HandTask.account_id)
    .join(Grant, Grant.id == HandTask.grant_id)
    .join(System, System.id == Account.system_id)
    .outerjoin(doer, doer.id == HandTask.assigned_to_id),
    {
        "id": id_column(HandTask.id),
        "state": word_column(
            case((HandTask.done_at.is_not(None), "done"), (HandTask.dropped_at.is_not(None), "dropped"), else_="open"),
            "open, done (somebody said so) or dropped (not needed any more).",
        ),
        "kind": word_column(HandTask.kind, "give, change or take."),
        "sentence": text_column(HandTask.sentence, "What is to be done.", nullable=False),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "system.id": id_column(System.id, "The id of the system."),
        "system.name": text_column(System.name, "The name of the system."),
        "holder": text_column(task_holder, "Whose access it is."),
        "grant_id": id_column(HandTask.grant_id, "The grant."),
        **named_columns("assigned_to", doer, "whoever is to do it"),
        "asked_at": time_column(HandTask.asked_at, "When it was asked for.", nullable=False),
        "reminded_at": time_column(HandTask.reminded_at, "When somebody was last reminded."),
        "done_at": time_column(HandTask.done_at, "When somebody said that it is done."),
        "done_by": text_column(HandTask.done_by, "Who said so.", nullable=False),
        "words": text_column(HandTask.words, "In which words.", nullable=False),
        "version": Column(HandTask.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-asked_at",
    searched=("sentence", "account.name", "holder"),
)

VISITS = Listing(
    "visits",
    Visit.__table__.join(Account, Account.id == Visit.account_id)
    .join(visitor, visitor.id == Visit.person_id)
    .outerjoin(visited_owner, visited_owner.id == Visit.owner_id)
    .outerjoin(System, System.id == Account.system_id),
    {
        "id": id_column(Visit.id),
        "person.id": id_column(visitor.id, "The id of whoever switched in."),
        "person.name": text_column(visitor.name, "Their name.", sorted=True, nullable=False),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        **named_columns("owner", visited_owner, "the owner on whose behalf they acted"),
        "by_token": truth_column(Visit.by_token, "Whether a program did it with a token of theirs."),
        "began_at": time_column(Visit.began_at, "When they switched in.", nullable=False),
        "runs_out_at": time_column(Visit.runs_out_at, "When the token runs out."),
        "ended_at": time_column(Visit.ended_at, "When it ended; absent while it goes on."),
        "ended_as": word_column(Visit.ended_as, "How it ended."),
    },
    default_sort="-began_at",
    searched=("person.name", "account.name"),
)
