"""Preparing an offer, and previewing it: recipients, terms, what they lack for it, and which latches it breaks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from uuid import UUID, uuid4
from zoneinfo import ZoneInfo

from sqlalchemy import select

from openlatch import schemas
from openlatch.core import addresses, latches
from openlatch.core import register as core
from openlatch.core.access import paths
from openlatch.core.checks import require_count
from openlatch.core.offers import wording
from openlatch.core.register import Holder, Register
from openlatch.core.vocabulary import GrantState, HolderKind, Reach, Standing
from openlatch.errors import BadInput
from openlatch.json_values import JsonObject
from openlatch.service.attempt import attempt
from openlatch.service.canonical_json import fingerprint
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.latches import guard
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.tables import (
    Account,
    Handle,
    Membership,
    Organisation,
    Person,
    Team,
)

MOST_HOLDERS = 100
PREREQUISITES = {
    "confirmed_address": "They have confirmed their address",
    "second_factor": "They have a second factor",
    "takes_offers": "They take offers",
}


@dataclass(frozen=True, slots=True)
class To:
    """A recipient: a known person or team, or somebody by address (with a name) or handle."""

    person: UUID | None = None
    team: UUID | None = None
    address: str = ""
    name: str = ""
    handle: str = ""
    inside: bool | None = None


@dataclass(frozen=True, slots=True)
class Proposal:
    """An offer before it is sent."""

    account: UUID
    to: tuple[To, ...]
    choice: Choice
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A recipient, resolved: the holder, and the person who answers (the holder, or the team's speaker)."""

    holder: Holder
    name: str
    address: str
    inside: bool
    person: Person | None


def settings_of(unit: Unit) -> JsonObject:
    """The organisation's settings about giving access."""
    return dict(unit.db.get_one(Organisation, unit.viewer.organisation).settings)


@dataclass(frozen=True, slots=True)
class Recipient:
    """A recipient with the latches that the offer would break and the paths that they have already."""

    to: Candidate
    breaches: Sequence[latches.Breach]
    already: Sequence[paths.Path]


@dataclass(frozen=True, slots=True)
class Prepared:
    """An offer, computed once: the preview shows it, and sending uses it."""

    account: Account
    terms: Sequence[core.Term]
    recipients: Sequence[Recipient]

    @property
    def needs_proof(self) -> bool:
        """Whether it offers steward reach."""
        return any(term.level.reach is Reach.STEWARD for term in self.terms)


def preview(unit: Unit, proposal: Proposal) -> schemas.OfferPreview:
    """What an offer would give each recipient, in plain sentences. Nothing happens yet.

    Besides what they could and could not do: what is new, their existing paths, which latches it breaks, what they need
    before they can accept, and warnings about the address. No row is written.
    """
    with attempt(unit, keep=False) as within:
        return shown(within, prepare(within, proposal))


def prepare(unit: Unit, proposal: Proposal) -> Prepared:
    """Prepare an offer. Levels for single permissions are made if missing."""
    unit.sight.require_answers_for(proposal.account)
    account = lifecycle.account_of(unit, proposal.account)
    lifecycle.refuse_closed(account)
    terms = lifecycle.terms_from(unit, account, proposal.choice)
    candidates = [candidate(unit, account, to) for to in _some(proposal)]
    named: set[object] = set()
    for each in candidates:
        refuse_owner(account, each)
        same = each.holder if each.person else each.address
        if same in named:
            raise BadInput(f"{each.name} is named twice.", "Name each of them once.", {"to": "names somebody twice"})
        named.add(same)
    return Prepared(account, terms, [recipient(unit, account, each, terms) for each in candidates])


def recipient(unit: Unit, account: Account, to: Candidate, terms: Sequence[core.Term]) -> Recipient:
    """What terms on an account would mean for somebody."""
    return Recipient(to, breaches(unit, account, to, terms), _paths_of(unit, to.holder, account.id))


def shown(unit: Unit, prepared: Prepared) -> schemas.OfferPreview:
    """A prepared offer as its preview, with a fingerprint of everything in it."""
    account, terms = prepared.account, prepared.terms
    known = list(lifecycle.permissions_of(unit, account.system_id).values())
    found = schemas.OfferPreview(
        account=schemas.Named(id=account.id, name=account.name),
        words=lifecycle.terms_in_words(terms, ZoneInfo(account.time_zone)),
        offers=len(prepared.recipients),
        terms=len(terms),
        resources=len({r for t in terms if t.part for r in t.part.resources}),
        needs_proof=prepared.needs_proof,
        to=[_shown(unit, account, each, terms, known) for each in prepared.recipients],
        fingerprint="",
    )
    return found.model_copy(update={"fingerprint": fingerprint(found)})


def _some(proposal: Proposal) -> Sequence[To]:
    if not proposal.to:
        raise BadInput("Nobody is named.", "Name at least one person or team.", {"to": "is empty"})
    require_count(len(proposal.to), MOST_HOLDERS, "holders", "to")
    return proposal.to


def candidate(unit: Unit, account: Account, to: To) -> Candidate:
    """Resolve a recipient. BadInput for somebody unknown, who has left, or with too little data."""
    if to.team is not None:
        return _team(unit, to.team)
    person = _known_person(unit, account, to)
    if person is not None:
        if not person.address:
            raise BadInput(f"{person.name} has no address to send an offer to.", "Put one down first.")
        return Candidate(Holder(HolderKind.PERSON, person.id), person.name, person.address, person.inside, person)
    try:
        address = addresses.checked(to.address)
    except ValueError as error:
        said = f"{to.address.strip()[:60]!r} is not an address. {error}."
        raise BadInput(said, "Write it as name@example.org.", {"to": "no address"}) from None
    if not to.name.strip():
        raise BadInput(f"Nobody here has the address {address}.", "Give their name too.", {"to": "has no name"})
    inside = addresses.domain_of(address) in inside_domains(unit)
    if to.inside is not None and unit.sight.everything:
        inside = to.inside
    return Candidate(Holder(HolderKind.PERSON, uuid4()), to.name.strip(), address, inside, None)


def refuse_owner(account: Account, to: Candidate) -> None:
    """BadInput when an account is offered to its owner."""
    is_person = to.person is not None and to.holder.kind is HolderKind.PERSON
    if is_person and to.holder.id == account.owner_id:
        raise BadInput(f"{to.name} owns {account.name}.", "Offer it to somebody else.", {"to": "is the owner"})


def _known_person(unit: Unit, account: Account, to: To) -> Person | None:
    if to.person is not None:
        found = unit.seen_person(to.person)
        if found is None:
            raise BadInput(
                "There is no such person, or you may not see them.",
                "Choose another, or give an address.",
                {"to": "unknown"},
            )
    elif to.handle:
        found = unit.db.scalars(
            select(Person)
            .join(Handle, Handle.person_id == Person.id)
            .where(Handle.system_id == account.system_id, Handle.name == to.handle)
        ).first()
        if found is None:
            raise BadInput(f"Nobody is known as {to.handle!r} there.", "Give an address instead.", {"to": "unknown"})
    else:
        found = unit.db.scalars(select(Person).where(Person.address == to.address.strip().lower())).first()
    if found is not None and found.standing == Standing.LEFT:
        raise BadInput(f"{found.name} has left.", "Offer it to somebody else.", {"to": "has left"})
    return found


def _team(unit: Unit, ident: UUID) -> Candidate:
    team = unit.db.scalars(select(Team).where(Team.id == ident, unit.sight.teams())).first()
    if team is None:
        raise BadInput("There is no such team, or you may not see it.", "Choose another.", {"to": "unknown"})
    speaker = unit.db.get(Person, team.speaker_id) if team.speaker_id else None
    if speaker is None or not speaker.address:
        raise BadInput(f"Nobody speaks for {team.name}.", "Say who does, then offer it.", {"to": "has no speaker"})
    holder = Holder(HolderKind.TEAM, team.id)
    return Candidate(holder, team.name, speaker.address, not team.partner, speaker)


def inside_domains(unit: Unit) -> list[str]:
    """The domains whose addresses count as inside."""
    return [str(d).lower() for d in settings_of(unit).get("inside_domains", [])]


def _shown(
    unit: Unit, account: Account, each: Recipient, terms: Sequence[core.Term], known: Sequence[core.Permission]
) -> schemas.OfferedTo:
    to = each.to
    able = wording.abilities(terms, known, each.already)
    # Only people whom the sender may see are mentioned.
    seen = (Person.address.is_not(None), Person.id != to.holder.id, unit.sight.people())
    others = unit.db.scalars(select(Person.address).where(*seen))
    warnings = wording.address_warnings(to.address, to.inside, [a for a in others if a], inside_domains(unit))
    warnings += kept_apart(unit, to.holder, terms)
    people = 1
    if to.holder.kind is HolderKind.TEAM:
        people = len(unit.db.scalars(select(Membership.id).where(Membership.team_id == to.holder.id)).all())
    return schemas.OfferedTo(
        holder=schemas.Recipient(kind=to.holder.kind, id=to.holder.id if to.person else None, name=to.name),
        address=to.address,
        inside=to.inside,
        known=to.person is not None,
        people=people,
        can=[sentence(p) for p in able.can],
        adds=[sentence(p) for p in able.new],
        cannot=[sentence(p) for p in able.cannot],
        reach=int(able.reach),
        already=[path.words for path in each.already],
        latches=[guard.shown(b) for b in each.breaches],
        meets=sorted(
            {x.words for x in guard.in_force(unit, [account.id]).get(account.id, [])}
            - {b.latch.words for b in each.breaches}
        ),
        prerequisites=_prerequisites(unit, account, to.person),
        warnings=warnings,
    )


def kept_apart(unit: Unit, holder: Holder, terms: Sequence[core.Term]) -> list[str]:
    """Permissions that a grant would bring together and that the organisation's rules keep apart, over all accounts."""
    pairs = evaluate_flags.ruling(unit).settings.never_together
    new = {p.key: p.sentence for term in terms for p in term.level.permissions}
    if not any(set(pair) & new.keys() for pair in pairs):
        return []
    reached = paths.everything_reached(subgraph.around_holder(unit.db, holder), holder, unit.now)
    had = {p.key: p.sentence for p in paths.rights_of(reached)}
    will = {**had, **new}
    return [
        f"They could both “{will[first]}” and “{will[second]}”, which your organisation keeps apart."
        for first, second in pairs
        if {first, second} <= will.keys() and not {first, second} <= had.keys()
    ]


def apart(unit: Unit, holder: Holder, terms: Sequence[core.Term]) -> list[schemas.Breach]:
    """The same in the form of latch warnings."""
    return [
        schemas.Breach(
            latch="What the organisation keeps apart",
            kind=latches.LatchKind.NEVER_TOGETHER,
            mode=latches.LatchMode.WARN,
            fact=fact,
            remedy="Give one of the two to somebody else.",
        )
        for fact in kept_apart(unit, holder, terms)
    ]


def sentence(permission: core.Permission) -> schemas.PermissionOf:
    """A permission as a preview says it."""
    return schemas.PermissionOf(key=permission.key, sentence=permission.sentence, reach=int(permission.reach))


def _paths_of(unit: Unit, holder: Holder, account: UUID) -> list[paths.Path]:
    return paths.paths_to(subgraph.between(unit.db, holder, account), holder, account, unit.now)


def breaches(unit: Unit, account: Account, to: Candidate, terms: Sequence[core.Term]) -> list[latches.Breach]:
    """The latches that a grant would break, of the account and of those reached through it."""
    accounts = guard.touched(unit, [account.id])
    if not guard.in_force(unit, accounts):
        return []
    register = subgraph.around_accounts(unit.db, accounts)
    after = supposing(register, to.holder, to.name, to.inside, to.person, account.id, terms)
    return guard.supposed(unit, register, after, accounts)


def supposing(
    register: Register,
    holder: Holder,
    name: str,
    inside: bool,
    person: Person | None,
    account: UUID,
    terms: Sequence[core.Term],
) -> Register:
    """The register with one more grant, to somebody who may not be in it yet."""
    people, teams = dict(register.people), dict(register.teams)
    if holder.kind is HolderKind.TEAM:
        teams.setdefault(holder.id, core.Team(holder.id, name, not inside))
    else:
        second = person.second_factor if person else False
        people.setdefault(holder.id, core.Person(holder.id, name, inside, second_factor=second))
    grant = core.Grant(uuid4(), account, holder, GrantState.ACTIVE, tuple(terms))
    return Register.of(
        people.values(),
        teams.values(),
        register.apps.values(),
        register.accounts.values(),
        (*register.grants, grant),
        register.memberships,
    )


def _prerequisites(
    unit: Unit, account: Account, person: Person | None, by_link: bool = True
) -> list[schemas.Prerequisite]:
    """What somebody needs before they can accept, and whether they have it.

    Accepting ``by_link`` confirms the address that the link was sent to.
    """
    wanted = {*settings_of(unit).get("prerequisites", []), *account.prerequisites, "takes_offers"}
    met = {
        "confirmed_address": by_link or (person is not None and person.address_confirmed_at is not None),
        "second_factor": person is not None and person.second_factor,
        "takes_offers": person is None or not person.refuses_offers,
    }
    keys = [key for key in PREREQUISITES if key in wanted]
    return [schemas.Prerequisite(key=key, sentence=PREREQUISITES[key], met=met[key]) for key in keys]


def unmet(unit: Unit, account: Account, person: Person, by_link: bool) -> list[str]:
    """What somebody still needs before they can accept, in words."""
    return [asked.sentence for asked in _prerequisites(unit, account, person, by_link) if not asked.met]
