"""The list of exposures: what is open to outsiders, by which right and rule, and what was judged of it."""

from __future__ import annotations

from sqlalchemy import case
from sqlalchemy.orm import aliased

from openlatch.core.filters import Kind
from openlatch.store.lists.columns import (
    id_column,
    json_column,
    named_columns,
    number_column,
    proof_columns,
    text_column,
    time_column,
    truth_column,
    word_column,
)
from openlatch.store.lists.engine import Column, Listing
from openlatch.store.tables import Account, ExpectedExposure, Exposure, Person, Resource, System

owner = aliased(Person)
judge = aliased(Person)
_AUDIENCES = {1: "named", 2: "link", 3: "signed_in", 4: "anyone"}

EXPOSURES = Listing(
    "exposures",
    Exposure.__table__.join(Account, Account.id == Exposure.account_id)
    .outerjoin(System, System.id == Account.system_id)
    .outerjoin(Resource, Resource.id == Exposure.resource_id)
    .outerjoin(owner, owner.id == Account.owner_id)
    .outerjoin(judge, judge.id == Exposure.judged_by_id)
    .outerjoin(ExpectedExposure, ExpectedExposure.id == Exposure.expected_by_id),
    {
        "id": id_column(Exposure.id),
        "account.id": id_column(Account.id, "The id of the account."),
        "account.name": text_column(Account.name, "The name of the account.", sorted=True, nullable=False),
        "account.kind": word_column(Account.kind, "The kind of account."),
        "account.sensitivity": number_column(Account.sensitivity, "How sensitive the account is, from 1 to 4."),
        **named_columns("owner", owner, "the account's owner"),
        **named_columns("system", System, "the system"),
        **named_columns("resource", Resource, "the resource; there is none for the whole account"),
        "resource.kind": word_column(Resource.kind, "What kind of part it is."),
        "resource.path": text_column(Resource.path, "How access rules name it."),
        "right": word_column(Exposure.right, "What outsiders can do: see, change or administer."),
        "audience": word_column(
            case(_AUDIENCES, value=Exposure.audience),
            "Who gets in: anyone, anyone who signs in, anyone with a link, or outsiders who are named.",
        ),
        "open": truth_column(Exposure.is_open, "Whether anybody gets in now, and not only later."),
        "blocked": truth_column(Exposure.is_blocked, "Whether a guard of the system keeps it shut."),
        "forbidden": truth_column(Exposure.against != [], "Whether it is open against a guard of the organisation."),
        "gone": truth_column(Exposure.gone_at.is_not(None), "Whether it is open no longer."),
        "understood": truth_column(
            (Exposure.unknown == []) & ~Exposure.is_entangled, "Whether all of its conditions are understood."
        ),
        "sentence": text_column(Exposure.sentence, "What is open, in words.", nullable=False),
        "ways": json_column(Exposure.ways),
        "admitted_by": json_column(Exposure.admitted_by),
        "narrowed_by": json_column(Exposure.narrowed_by),
        "unknown": json_column(Exposure.unknown),
        "since": time_column(Exposure.since, "Since when it is known.", nullable=False),
        "grew_at": time_column(Exposure.grew_at, "When it last came to reach farther."),
        "gone_at": time_column(Exposure.gone_at, "Since when it is open no longer."),
        "last_used_on": Column(
            Exposure.last_used_on,
            Kind.TEXT,
            "The last day on which somebody outside used it, where that is known.",
            filtered=False,
        ),
        "used": truth_column(Exposure.last_used_on.is_not(None), "Whether somebody outside is known to have used it."),
        "judgement": word_column(Exposure.judgement, "unjudged, intended or to_close."),
        "judged_at": time_column(Exposure.judged_at, "When it was judged."),
        "judged_reason": text_column(Exposure.judged_reason, "Why.", nullable=False),
        **named_columns("judged_by", judge, "who judged it"),
        **named_columns("expected_by", ExpectedExposure, "the rule by which it is expected"),
        "intended_until": time_column(Exposure.intended_until, "Until when it is intended at the latest."),
        **proof_columns(Exposure),
        "version": Column(Exposure.version, Kind.NUMBER, "", filtered=False),
    },
    default_sort="-account.sensitivity",
    searched=("sentence", "account.name", "resource.name"),
)
