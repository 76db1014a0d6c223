"""Offers: what one would say, sending one, and everything that its sender can do about it afterwards.

An offer of access is a pending grant with a link that opens once. An offer of ownership has no grant. Only the hash
of the link's token is kept.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID, uuid4
from zoneinfo import ZoneInfo

import rfc8785
from sqlalchemy import select

from openlatch.core import access, latches, offering
from openlatch.core import register as core
from openlatch.core.register import Holder, Register
from openlatch.core.states import OFFERS, OfferState, move
from openlatch.core.words import EndedAs, GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, NotAllowed, NotFound, TooMany
from openlatch.service import giving, latching, telling
from openlatch.service.context import Unit
from openlatch.service.giving import Choice
from openlatch.service.jsonable import jsonable
from openlatch.store import cut, lists_giving, plain
from openlatch.store.tables import (
    Account,
    Grant,
    Handle,
    Level,
    Membership,
    Offer,
    Organisation,
    Person,
    SignIn,
    Team,
    Term,
)

OFFER_HOURS = 48
MOST_HOLDERS = 100
MOST_TIMES_SENT = 10
PREREQUISITES = {
    "confirmed_address": "They have confirmed their address",
    "second_factor": "They have a second factor",
    "takes_offers": "They take offers",
}


@dataclass(frozen=True, slots=True)
class To:
    """Whom an offer is for: a person or a team known here, or somebody by address (with a name) or handle."""

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
class _Candidate:
    """Whom an offer would go to: the holder, and the person who answers (the holder, or a team's speaker)."""

    holder: Holder
    name: str
    address: str
    inside: bool
    person: Person | None


def settings_of(unit: Unit) -> dict[str, Any]:
    """The organisation's settings about giving access."""
    return dict(unit.db.get_one(Organisation, unit.viewer.organisation).settings)


# Before sending.


def preview(unit: Unit, proposal: Proposal) -> dict[str, Any]:
    """What an offer would come to for each of those it is for, in plain sentences. Nothing happens yet.

    Besides what they could do and could not: what it adds, by which paths they have something already, which latches
    it breaks, what they need before they can accept, and what to look at twice about the address.
    """
    unit.sight.require_answers_for(proposal.account)
    account = giving.account_of(unit, proposal.account)
    terms = giving.terms_from(unit, account, proposal.choice)
    known = giving.permissions_of(unit, account.system_id).values()
    shown = [_shown(unit, account, _candidate(unit, account, to), terms, list(known)) for to in _some(proposal)]
    found = {
        "account": {"id": account.id, "name": account.name},
        "words": giving.terms_in_words(terms, ZoneInfo(account.time_zone)),
        "offers": len(shown),
        "terms": len(terms),
        "resources": len({r for t in terms if t.part for r in t.part.resources}),
        "needs_proof": any(t.level.reach is Reach.STEWARD for t in terms),
        "to": shown,
    }
    return {**found, "fingerprint": fingerprint(found)}


def fingerprint(shown: Any) -> str:
    """By which to say later that this is what was seen."""
    return hashlib.sha256(rfc8785.dumps(jsonable(shown))).hexdigest()[:32]


def _some(proposal: Proposal) -> Sequence[To]:
    if not proposal.to:
        raise BadInput("Nobody is named.", "Name at least one person or team.", {"to": "is empty"})
    if len(proposal.to) > MOST_HOLDERS:
        raise BadInput(f"{len(proposal.to)} are too many at once.", f"At most {MOST_HOLDERS}; or make a team.")
    return proposal.to


def _candidate(unit: Unit, account: Account, to: To) -> _Candidate:
    if to.team is not None:
        return _team(unit, to.team)
    person = _known_person(unit, account, to)
    if person is not None:
        if not person.address:
            raise BadInput(f"{person.name} has no address to send an offer to.", "Put one down first.")
        return _Candidate(Holder(HolderKind.PERSON, person.id), person.name, person.address, person.inside, person)
    address = to.address.strip().lower()
    name, at, domain = address.partition("@")
    if not (name and at and "." in domain) or any(c in address for c in " ,;<>"):
        raise BadInput(f"{address!r} is not an address.", "Write it as name@example.org.", {"to": "no address"})
    if not to.name.strip():
        raise BadInput(f"Nobody here has the address {address}.", "Give their name too.", {"to": "has no name"})
    inside = domain in inside_domains(unit)
    if to.inside is not None and unit.sight.everything:
        inside = to.inside
    return _Candidate(Holder(HolderKind.PERSON, uuid4()), to.name.strip(), address, inside, None)


def _known_person(unit: Unit, account: Account, to: To) -> Person | None:
    if to.person is not None:
        found = unit.db.get(Person, to.person)
        if found is None:
            raise BadInput("There is no such person.", "Choose another, or give an address.", {"to": "unknown"})
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
    if found is not None and found.standing == "left":
        raise BadInput(f"{found.name} has left.", "Offer it to somebody else.", {"to": "has left"})
    return found


def _team(unit: Unit, ident: UUID) -> _Candidate:
    team = unit.db.get(Team, ident)
    if team is None:
        raise BadInput("There is no such team.", "Choose another.", {"to": "unknown"})
    speaker = unit.db.get(Person, team.speaker_id) if team.speaker_id else None
    if speaker is None or not speaker.address:
        raise BadInput(f"Nobody speaks for {team.name}.", "Say who does, then offer it.", {"to": "has no speaker"})
    holder = Holder(HolderKind.TEAM, team.id)
    return _Candidate(holder, team.name, speaker.address, not team.partner, speaker)


def inside_domains(unit: Unit) -> list[str]:
    """The domains whose addresses are taken to be inside."""
    return [str(d).lower() for d in settings_of(unit).get("inside_domains", [])]


def _shown(
    unit: Unit, account: Account, to: _Candidate, terms: Sequence[core.Term], known: Sequence[core.Permission]
) -> dict[str, Any]:
    already = _paths_of(unit, to.holder, account.id)
    able = offering.abilities([t.level for t in terms], known, access.rights_of(already))
    others = unit.db.scalars(select(Person.address).where(Person.address.is_not(None), Person.id != to.holder.id))
    broken = _breaches(unit, account, to, terms)
    warnings = offering.address_warnings(to.address, to.inside, [a for a in others if a], inside_domains(unit))
    people = 1
    if to.holder.kind is HolderKind.TEAM:
        people = len(unit.db.scalars(select(Membership.id).where(Membership.team_id == to.holder.id)).all())
    return {
        "holder": {"kind": to.holder.kind, "id": to.holder.id if to.person else None, "name": to.name},
        "address": to.address,
        "inside": to.inside,
        "known": to.person is not None,
        "people": people,
        "can": [_sentence(p) for p in able.can],
        "adds": [_sentence(p) for p in able.new],
        "cannot": [_sentence(p) for p in able.cannot],
        "reach": int(able.reach),
        "already": [path.words for path in already],
        "latches": [latching.shown(b) for b in broken],
        "meets": sorted(
            {x.words for x in latching.in_force(unit, [account.id]).get(account.id, [])}
            - {b.latch.words for b in broken}
        ),
        "prerequisites": _prerequisites(unit, account, to.person),
        "warnings": warnings,
    }


def _sentence(permission: core.Permission) -> dict[str, Any]:
    return {"key": permission.key, "sentence": permission.sentence, "reach": int(permission.reach)}


def _paths_of(unit: Unit, holder: Holder, account: UUID) -> list[access.Path]:
    return access.paths_to(cut.between(unit.db, holder, account), holder, account, unit.now)


def _breaches(unit: Unit, account: Account, to: _Candidate, terms: Sequence[core.Term]) -> list[latches.Breach]:
    """What the latches of the account, and of those that are reached through it, would say to this grant."""
    accounts = cut.onward(unit.db, [Holder(HolderKind.ACCOUNT, account.id)])
    if not latching.in_force(unit, accounts):
        return []
    register = cut.around_accounts(unit.db, accounts)
    after = supposing(register, to.holder, to.name, to.inside, to.person, account.id, terms)
    return latching.supposed(unit, register, after, accounts)


def supposing(
    register: Register, holder: Holder, name: str, inside: bool, person: Person | None, account: UUID,
    terms: Sequence[core.Term],
) -> Register:  # fmt: skip
    """The register as it would be with one more grant, to somebody who may not be in it yet."""
    people, teams = dict(register.people), dict(register.teams)
    if holder.kind is HolderKind.TEAM:
        teams.setdefault(holder.id, core.Team(holder.id, name, not inside))
    else:
        second = person.second_factor if person else False
        people.setdefault(holder.id, core.Person(holder.id, name, inside, second_factor=second))
    grant = core.Grant(uuid4(), account, holder, GrantState.ACTIVE, tuple(terms))
    return Register.of(
        people.values(), teams.values(), register.apps.values(), register.accounts.values(),
        (*register.grants, grant), register.memberships,
    )  # fmt: skip


def _prerequisites(unit: Unit, account: Account, person: Person | None) -> list[dict[str, Any]]:
    wanted = [*settings_of(unit).get("prerequisites", []), *account.prerequisites]
    # Accepting by the link that was sent to an address confirms it.
    met = {
        "confirmed_address": True,
        "second_factor": person is not None and person.second_factor,
        "takes_offers": person is None or not person.refuses_offers,
    }
    keys = [k for k in PREREQUISITES if k in wanted or k == "takes_offers"]
    return [{"key": key, "sentence": PREREQUISITES[key], "met": met[key]} for key in keys]


def unmet(unit: Unit, account: Account, person: Person, by_link: bool) -> list[str]:
    """What somebody still lacks to accept, in words."""
    lacking = [p["sentence"] for p in _prerequisites(unit, account, person) if not p["met"]]
    wanted = [*settings_of(unit).get("prerequisites", []), *account.prerequisites]
    if "confirmed_address" in wanted and not by_link and person.address_confirmed_at is None:
        lacking.append(PREREQUISITES["confirmed_address"])
    return lacking


# Sending.


def send(unit: Unit, proposal: Proposal, seen: str = "") -> list[UUID]:
    """Send an offer to each of those it is for; gives their ids.

    Held when a latch refuses, ProofNeeded before steward reach is offered, Conflict when what it comes to has changed
    since the preview with the fingerprint ``seen``, or when such an offer is pending already.
    """
    shown = preview(unit, proposal)
    if seen and seen != shown["fingerprint"]:
        raise Conflict("What this offer comes to has changed since it was shown.", "Look at the preview again.")
    if shown["needs_proof"]:
        unit.require_proof("Offering steward reach")
    account = giving.account_of(unit, proposal.account)
    terms = giving.terms_from(unit, account, proposal.choice)
    return [_send(unit, account, _candidate(unit, account, to), terms, proposal.reason) for to in proposal.to]


def _send(unit: Unit, account: Account, to: _Candidate, terms: Sequence[core.Term], reason: str) -> UUID:
    latching.refuse(latches.held(_breaches(unit, account, to, terms)))
    if to.person is not None and to.person.refuses_offers:
        raise BadInput(f"{to.name} does not take offers.", "Ask them to; or offer it to somebody else.")
    if to.person is not None and to.person.id == account.owner_id and to.holder.kind is HolderKind.PERSON:
        raise BadInput(f"{to.name} owns {account.name}.", "Offer it to somebody else.", {"to": "is the owner"})
    person = to.person or _make_person(unit, to)
    holder = to.holder if to.person else Holder(HolderKind.PERSON, person.id)
    _refuse_second(unit, account, holder, to.name)
    grant = giving.new_grant(unit, account, holder, terms, GrantState.PENDING, reason=reason.strip())
    return _store(unit, account, person, to.address, "access", grant, reason).id


def offer_again(unit: Unit, account: Account, person: UUID, terms: Sequence[core.Term], reason: str) -> UUID:
    """Offer somebody just these terms, which they have to agree to; gives the offer's id."""
    return _send(unit, account, _candidate(unit, account, To(person=person)), terms, reason)


def _make_person(unit: Unit, to: _Candidate) -> Person:
    person = Person(
        organisation_id=unit.viewer.organisation, name=to.name, address=to.address, inside=to.inside, recognised=True
    )
    unit.db.add(person)
    unit.db.flush()
    unit.record("person.invited", "person", person.id, person.name, inside=person.inside)
    return person


def _refuse_second(unit: Unit, account: Account, holder: Holder, name: str) -> None:
    pending = select(Offer.id).join(Grant, Grant.id == Offer.grant_id).where(
        Offer.account_id == account.id, Offer.state == OfferState.PENDING, Grant.holder_id == holder.id
    )  # fmt: skip
    if unit.db.scalar(pending.limit(1)) is not None:
        raise Conflict(
            f"There is an offer to {name} for {account.name} that waits for an answer.",
            "Send that one again, change it, or withdraw it first.",
        )


def _store(
    unit: Unit, account: Account, person: Person, address: str, kind: str, grant: Grant | None, reason: str,
    keeps: UUID | None = None,
) -> Offer:  # fmt: skip
    token = secrets.token_urlsafe(32)
    row = Offer(
        organisation_id=unit.viewer.organisation,
        kind=kind,
        account_id=account.id,
        grant_id=grant.id if grant else None,
        person_id=person.id,
        address=address,
        sender_id=unit.viewer.person,
        keeps_level_id=keeps,
        reason=reason.strip(),
        token_hash=digest(token),
        sent_at=unit.now,
        runs_out_at=offering.runs_out(unit.now, hours_to_answer(unit)),
    )
    unit.db.add(row)
    unit.db.flush()
    _post(unit, row, account, person, token)
    unit.record("offer.sent", "offer", row.id, f"{account.name} to {person.name}", account.id, reason=row.reason)
    sentence = (
        f"{unit.viewer.name} offers you {'the ownership of' if kind == 'ownership' else 'access to'} {account.name}."
    )
    telling.tell(unit, [person.id], "offer", sentence, f"/mine?offer={row.id}")
    return row


def hours_to_answer(unit: Unit) -> int:
    """For how many hours an offer stands."""
    return int(settings_of(unit).get("offer_hours", OFFER_HOURS))


def digest(token: str) -> bytes:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).digest()


def _post(unit: Unit, row: Offer, account: Account, person: Person, token: str) -> None:
    """The letter with the link. It says who offers what kind of thing, and no detail of what it permits."""
    what = "the ownership of" if row.kind == "ownership" else "access to"
    organisation = unit.db.get_one(Organisation, unit.viewer.organisation).name
    until = row.runs_out_at.astimezone(ZoneInfo(account.time_zone))
    has = unit.db.scalar(select(SignIn.id).where(SignIn.person_id == person.id)) is not None
    letter = telling.Letter(
        f"{unit.viewer.name} offers you {what} {account.name}",
        (
            f"Hello {person.name},",
            f"{unit.viewer.name} of {organisation} offers you {what} the shared account {account.name}.",
            "Open the offer to read what it comes to before you decide. You can accept it, decline it, or say that you "
            "do not know the sender."
            + ("" if has else " If you accept, you choose a password of your own on the way."),
            f"The link works once, until {until:%-d %B %Y, %H:%M}. If you did not expect this, leave it alone.",
        ),
        f"{unit.service.address}/offer#{token}",
        "Read the offer",
    )
    telling.write(unit, row.address, letter)


# Afterwards.


def one(unit: Unit, ident: UUID) -> dict[str, Any]:
    """An offer with the terms that it is of. NotFound when it is not the viewer's to see."""
    unit.db.flush()
    row = lists_giving.OFFERS.one(unit.db, ident, [unit.sight.offers()])
    if row is None:
        raise NotFound("There is no such offer, or you may not see it.")
    stored = unit.db.get_one(Offer, ident)
    return {**row, **details(unit, stored)}


def details(unit: Unit, row: Offer) -> dict[str, Any]:
    """What an offer comes to, in plain sentences, for its sender and for whoever is to answer it."""
    account = unit.db.get_one(Account, row.account_id)
    terms = plain.terms_of(unit.db, [row.grant_id]).get(row.grant_id, []) if row.grant_id else []
    known = giving.permissions_of(unit, account.system_id).values()
    able = offering.abilities([t.level for t in terms], known, frozenset())
    keeps = unit.db.get(Level, row.keeps_level_id) if row.keeps_level_id else None
    if row.kind == "ownership":
        words = "Decides about the account itself: who gets in, what guards it, and who owns it next."
    else:
        words = giving.terms_in_words(terms, ZoneInfo(account.time_zone))
    return {
        "words": words,
        "can": [_sentence(p) for p in able.can],
        "cannot": [_sentence(p) for p in able.cannot] if row.kind == "access" else [],
        "reach": int(Reach.STEWARD if row.kind == "ownership" else able.reach),
        "parts": sorted({t.part.name for t in terms if t.part}),
        "keeps": keeps.name if keeps else None,
        "since": min((t.window.since for t in terms if t.window.since), default=None),
        "until": max((t.window.until for t in terms if t.window.until), default=None),
        "hours": offering.hours_in_words(next((t.hours for t in terms if t.hours), None)),
        "purpose": account.purpose,
    }


def _locked(unit: Unit, ident: UUID, version: int | None = None) -> Offer:
    """An offer that the viewer may do something about as its sender's side."""
    row = unit.db.get(Offer, ident, with_for_update=True, populate_existing=True)
    if row is None or lists_giving.OFFERS.one(unit.db, ident, [unit.sight.offers()]) is None:
        raise NotFound("There is no such offer, or you may not see it.")
    unit.sight.require_answers_for(row.account_id)
    if row.kind == "ownership":
        unit.sight.require_owns(row.account_id)
    refuse_outdated(row, version)
    return row


def refuse_outdated(row: Offer, version: int | None) -> None:
    """Conflict when an offer is not the one any more that was looked at."""
    if version is not None and version != row.version:
        raise Conflict(
            f"The offer was changed meanwhile; it is {row.state.replace('_', ' ')} now.", "Look at it again."
        )


def send_again(unit: Unit, ident: UUID) -> dict[str, Any]:
    """Send a pending or run-out offer again, with a fresh link and a fresh time; the old link is dead."""
    row = _locked(unit, ident)
    if row.state != OfferState.PENDING:
        row.state = move(OFFERS, "offer", OfferState(row.state), OfferState.PENDING)
    if row.times_sent >= MOST_TIMES_SENT:
        raise TooMany(f"The offer was sent {row.times_sent} times.", "Speak to them another way.", wait=86_400)
    token = secrets.token_urlsafe(32)
    row.token_hash, row.sent_at, row.times_sent = digest(token), unit.now, row.times_sent + 1
    row.runs_out_at, row.version = offering.runs_out(unit.now, hours_to_answer(unit)), row.version + 1
    account, person = unit.db.get_one(Account, row.account_id), unit.db.get_one(Person, row.person_id)
    unit.db.flush()
    _post(unit, row, account, person, token)
    unit.record("offer.sent_again", "offer", row.id, f"{account.name} to {person.name}", account.id)
    return one(unit, ident)


def withdraw(unit: Unit, ident: UUID, version: int | None = None) -> dict[str, Any]:
    """Take an offer back before it is answered."""
    row = _locked(unit, ident, version)
    end(unit, row, OfferState.WITHDRAWN, EndedAs.WITHDRAWN, "")
    name = unit.db.get_one(Account, row.account_id).name
    telling.tell(unit, [row.person_id], "offer", f"{unit.viewer.name} has withdrawn the offer of {name}.")
    return one(unit, ident)


def end(unit: Unit, row: Offer, then: OfferState, as_: EndedAs, answer: str) -> None:
    """End an offer without access coming of it; its pending grant ends with it."""
    row.state = move(OFFERS, "offer", OfferState(row.state), then)
    row.answered_at, row.answer, row.version = unit.now, answer.strip(), row.version + 1
    name = unit.db.get_one(Account, row.account_id).name
    unit.record(f"offer.{then}", "offer", row.id, name, row.account_id, answer=row.answer)
    if row.grant_id is not None:
        grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True)
        giving.set_state(grant, GrantState.ENDED)
        grant.ended_as, grant.ended_at = as_, unit.now
        unit.record(f"grant.{as_}", "grant", grant.id, name, row.account_id)
    unit.db.flush()


def change(unit: Unit, ident: UUID, choice: Choice, version: int | None) -> dict[str, Any]:
    """Change what a pending offer is of. Whoever has opened it meanwhile has to read it again."""
    row = _locked(unit, ident, version)
    if row.state != OfferState.PENDING or row.grant_id is None:
        raise Conflict(f"The offer is {row.state.replace('_', ' ')} and can't be changed.", "Send a new one.")
    account = unit.db.get_one(Account, row.account_id)
    terms = giving.terms_from(unit, account, choice)
    if any(t.level.reach is Reach.STEWARD for t in terms):
        unit.require_proof("Offering steward reach")
    grant = unit.db.get_one(Grant, row.grant_id, with_for_update=True)
    person = unit.db.get_one(Person, row.person_id)
    name = giving.holder_name(unit, grant)
    holder = Holder(HolderKind(grant.holder_kind), grant.holder_id)
    candidate = _Candidate(holder, name, row.address, person.inside, person)
    latching.refuse(latches.held(_breaches(unit, account, candidate, terms)))
    for term in unit.db.scalars(select(Term).where(Term.grant_id == grant.id)):
        unit.db.delete(term)
    unit.db.flush()
    giving.write_terms(unit, grant.id, terms)
    grant.version, row.version = grant.version + 1, row.version + 1
    unit.record("offer.changed", "offer", row.id, f"{account.name} to {person.name}", account.id)
    return one(unit, ident)


def offer_ownership(
    unit: Unit, account_id: UUID, to: UUID, keeps: UUID | None, reason: str, version: int | None = None
) -> dict[str, Any]:
    """Offer an account's ownership to somebody whose address is confirmed; nothing changes until they accept."""
    unit.sight.require_owns(account_id)
    unit.require_proof("Handing an account over")
    account = giving.account_of(unit, account_id, lock=True)
    if version is not None and version != account.version:
        raise Conflict("The account was changed meanwhile.", "Look at it again.")
    person = unit.db.get(Person, to)
    if person is None or person.standing == "left":
        raise BadInput("There is no such person, or they have left.", "Choose another.", {"to": "unknown"})
    if person.id == account.owner_id:
        raise BadInput(f"{person.name} owns it already.", "Choose another.", {"to": "is the owner"})
    if person.address is None or person.address_confirmed_at is None:
        raise BadInput(
            f"{person.name} has not confirmed their address.", "Have them confirm it first.", {"to": "unconfirmed"}
        )
    if person.refuses_offers:
        raise BadInput(f"{person.name} does not take offers.", "Ask them to; or choose somebody else.")
    if keeps is not None:
        giving.terms_from(unit, account, Choice(levels=(keeps,)))
    pending = select(Offer.id).where(
        Offer.account_id == account_id, Offer.kind == "ownership", Offer.state == OfferState.PENDING
    )
    if unit.db.scalar(pending.limit(1)) is not None:
        raise Conflict("Its ownership is on offer already.", "Withdraw that offer first.")
    return one(unit, _store(unit, account, person, person.address, "ownership", None, reason, keeps).id)


def run_out(unit: Unit) -> int:
    """Let offers run out whose time is over; gives how many. Called by the worker."""
    due = select(Offer).where(Offer.state == OfferState.PENDING, Offer.runs_out_at <= unit.now)
    rows = unit.db.scalars(due.order_by(Offer.id).limit(500).with_for_update(skip_locked=True)).all()
    for row in rows:
        row.state = move(OFFERS, "offer", OfferState(row.state), OfferState.RUN_OUT)
        row.version += 1
        name = unit.db.get_one(Account, row.account_id).name
        person = unit.db.get_one(Person, row.person_id).name
        unit.record("offer.run_out", "offer", row.id, name, row.account_id)
        telling.tell(unit, [row.sender_id], "offer", f"{person} has not answered the offer of {name}; it has run out.",
                     "/offers")  # fmt: skip
    return len(rows)


def refuse_stranger(person: Person, viewer: UUID | None) -> None:
    """NotAllowed when somebody else than whom it is for is signed in."""
    if viewer is not None and viewer != person.id:
        raise NotAllowed("This offer is for somebody else.", "Sign out, and open the link again.")
