"""Leavers: everything that somebody reaches, in every system, ended at once, with successors for what only they hold.

One preview, one plan, one page that counts down to nothing left, one report at the end. What is left is counted in the
register each time, so what appears later counts too.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import cast
from uuid import UUID

from sqlalchemy import ColumnElement, Select, func, select, update

from openlatch import schemas
from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.revocations import proof
from openlatch.core.states import OfferState, RequestState
from openlatch.core.vocabulary import (
    Cause,
    EndedAs,
    GrantState,
    HolderKind,
    ItemState,
    Proof,
    Reach,
    Standing,
    StepKind,
    StepState,
)
from openlatch.errors import BadInput, Conflict, NotFound
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.canonical_json import fingerprint, jsonable
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import lifecycle
from openlatch.service.identity import sign_ins
from openlatch.service.latches import guard
from openlatch.service.notifications import notices
from openlatch.service.offers import manage as manage_offers
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Unit
from openlatch.store import journal
from openlatch.store.access import mapping, subgraph
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import (
    AccessRequest,
    Account,
    Grant,
    Handle,
    Item,
    Level,
    Membership,
    Offer,
    Person,
    Revocation,
    RevocationTarget,
    Session,
    Step,
    System,
    Team,
    Term,
)


@dataclass(frozen=True, slots=True)
class Plan:
    """How somebody leaves: who takes over which account, and what happens to their logins.

    None means that deliberately nobody takes an account over; not for one that they own.
    """

    person: UUID
    successors: Mapping[UUID, UUID | None] = field(default_factory=dict)
    lock: bool = True
    drop: bool = False


def preview(unit: Unit, plan: Plan) -> schemas.LeavingPreview:
    """Everything that would happen, with what needs a successor first. Nothing happens yet."""
    unit.sight.require_administrator()
    person = _person(unit, plan.person)
    alone = _only_theirs(unit, plan, person)
    logins = _logins(unit, person)
    wish = _wish(unit, plan, person, logins)
    found = revoke.preview(unit, wish, person.name)
    for change in found.changes:
        if change.holder.id == person.id:
            # Their accounts pass on and memberships end: nothing remains.
            change.remains = []
    teams = unit.db.scalars(
        select(Team.name)
        .join(Membership, Membership.team_id == Team.id)
        .where(_belongs(unit, person.id))
        .order_by(Team.name)
    ).all()
    speaks = unit.db.scalars(select(Team.name).where(Team.speaker_id == person.id).order_by(Team.name)).all()
    shown = schemas.LeavingPreview.model_validate(
        {
            "person": schemas.Named(id=person.id, name=person.name),
            "standing": person.standing,
            "accounts": alone,
            "logins": logins,
            "teams": list(teams),
            "speaks_for": list(speaks),
            **_waiting(unit, person.id),
            "revocation": found,
            "needs_proof": True,
            "fingerprint": "",
        }
    )
    return shown.model_copy(update={"fingerprint": fingerprint(shown)})


def _person(unit: Unit, ident: UUID, lock: bool = False) -> Person:
    person = unit.db.get(Person, ident, with_for_update=lock, populate_existing=lock)
    if person is None:
        raise NotFound("There is no such person.")
    return person


def _belongs(unit: Unit, person: UUID) -> ColumnElement[bool]:
    return (Membership.member_id == person) & (Membership.until.is_(None) | (Membership.until > unit.now))


def _waiting(unit: Unit, person: UUID) -> dict[str, int]:
    """Offers and requests that wait for their answer, or for an answer to them."""

    def count(table: type[Offer | AccessRequest | Item], *where: ColumnElement[bool]) -> int:
        return unit.db.scalar(select(func.count(table.id)).where(*where)) or 0

    return {
        "offers": count(Offer, Offer.person_id == person, Offer.state == OfferState.PENDING),
        "requests": count(
            AccessRequest, AccessRequest.person_id == person, AccessRequest.state == RequestState.PENDING
        ),
        "items": count(Item, Item.reviewer_id == person, Item.state == ItemState.UNDECIDED),
    }


def _wish(unit: Unit, plan: Plan, person: Person, logins: Sequence[schemas.LoginOf]) -> prepare.Wish:
    endable = (GrantState.ACTIVE, GrantState.SUSPENDED)
    # Ordered, so that the fingerprint does not depend on physical row order.
    held = select(Grant.id).where(Grant.holder_id == person.id, Grant.state.in_(endable), ~Grant.by_system)
    grants = unit.db.scalars(held.order_by(Grant.id))
    going_on = select(Session.id).where(Session.holder_id == person.id, Session.ended_at.is_(None))
    sessions = unit.db.scalars(going_on.order_by(Session.id))
    shut = [
        login.id
        for login in logins
        if (plan.drop and login.droppable) or (plan.lock and not plan.drop and login.lockable)
    ]
    return prepare.Wish(tuple(grants), tuple(sessions), logins=tuple(shut), drop=plan.drop)


def _logins(unit: Unit, person: Person) -> list[schemas.LoginOf]:
    """Their logins in systems, and whether they can be locked there."""
    rows = unit.db.execute(
        select(Handle, System)
        .join(System, System.id == Handle.system_id)
        .where(Handle.person_id == person.id)
        .order_by(System.name, Handle.name)
    ).all()
    return [
        schemas.LoginOf(
            id=handle.id,
            name=handle.name,
            system=schemas.Named(id=system.id, name=system.name),
            locked=handle.locked,
            lockable=not handle.locked and _can(unit, handle, system, StepKind.LOCK),
            droppable=_can(unit, handle, system, StepKind.DROP),
        )
        for handle, system in rows
    ]


def _can(unit: Unit, handle: Handle, system: System, kind: StepKind) -> bool:
    # A line of authorized_keys can't be locked, only removed.
    keyed = handle.name.startswith("key:")
    return not keyed and prepare.can(unit, system, kind) and prepare.account_of(unit, handle) is not None


def _only_theirs(unit: Unit, plan: Plan, person: Person) -> list[schemas.OnlyTheirs]:
    """Accounts that nobody else could answer for, or use, without this person."""
    held = select(Grant.account_id).where(Grant.holder_id == person.id, Grant.state.in_(LIVE), ~Grant.by_system)
    accounts = unit.db.scalars(
        select(Account).where((Account.owner_id == person.id) | Account.id.in_(held)).order_by(Account.name)
    ).all()
    ids = [account.id for account in accounts]
    others: dict[UUID, list[tuple[int, UUID | None]]] = {ident: [] for ident in ids}
    own: dict[UUID, int] = {}
    rows = unit.db.execute(
        select(Grant.account_id, Grant.person_id, func.max(Level.reach))
        .join(Term, Term.grant_id == Grant.id)
        .join(Level, Level.id == Term.level_id)
        .outerjoin(Person, Person.id == Grant.person_id)
        .where(
            Grant.account_id.in_(ids),
            Grant.state == GrantState.ACTIVE,
            (func.coalesce(Person.standing, Standing.CURRENT) != Standing.LEFT) | (Grant.holder_id == person.id),
        )
        .group_by(Grant.account_id, Grant.id)
    )
    for account_id, holder, reach in rows:
        if holder == person.id:
            own[account_id] = max(reach, own.get(account_id, 0))
        else:
            others[account_id].append((reach, holder))
    owners = {a.owner_id for a in accounts} - {None, person.id}
    there = set(unit.db.scalars(select(Person.id).where(Person.id.in_(owners), Person.standing != Standing.LEFT)))
    found = []
    for account in accounts:
        why = _why(person, account, own.get(account.id, 0), others[account.id], account.owner_id in there)
        if why:
            known = sorted({h for _, h in others[account.id] if h}, key=str)
            found.append(
                schemas.OnlyTheirs(
                    account=schemas.Named(id=account.id, name=account.name),
                    sensitivity=account.sensitivity,
                    why=why,
                    owned=account.owner_id == person.id,
                    suggested=_suggested(unit, person, known),
                    successor=_chosen(unit, plan, account),
                )
            )
    return found


def _why(person: Person, account: Account, own: int, others: Sequence[tuple[int, UUID | None]], owned: bool) -> str:
    if account.owner_id == person.id:
        return "owns it"
    if owned:
        return ""
    if not others:
        return "is the only one who holds access to it"
    alone = own == Reach.STEWARD and not any(reach == Reach.STEWARD for reach, _ in others)
    return "is the only one who decides who gets in" if alone else ""


def _suggested(unit: Unit, person: Person, holders: Sequence[UUID]) -> list[schemas.Named]:
    """Possible successors: their deputy, their manager, and those who hold access already."""
    wanted = [ident for ident in (person.deputy_id, person.manager_id, *holders) if ident is not None]
    rows = unit.db.scalars(
        select(Person).where(
            Person.id.in_(wanted), Person.standing == Standing.CURRENT, Person.recognised, Person.inside
        )
    )
    named = {row.id: row for row in rows}
    kept = [named[ident] for ident in dict.fromkeys(wanted) if ident in named]
    return [schemas.Named(id=one.id, name=one.name) for one in kept[:5]]


def _chosen(unit: Unit, plan: Plan, account: Account) -> schemas.Named | None:
    """The chosen successor of an account. BadInput for somebody who can't be."""
    ident = plan.successors.get(account.id)
    if ident is None:
        return None
    person = unit.db.get(Person, ident)
    if person is None or person.standing == Standing.LEFT or not person.recognised or person.id == plan.person:
        raise BadInput(
            f"Whoever was chosen for {account.name} is not there.",
            "Choose somebody else.",
            {"successors": "unknown"},
        )
    return schemas.Named(id=person.id, name=person.name)


# Starting.


def start(unit: Unit, plan: Plan, reason: str, fingerprint: str = "") -> schemas.LeavingPage:
    """Let somebody leave: first the successors, then everything ends, each thing in its system.

    BadInput when an account has no successor and none was declined; Conflict when it would do something else than what
    was seen, or when they are already leaving.
    """
    unit.sight.require_administrator()
    unit.require_proof("Ending all that somebody has")
    locks.access(unit)
    person = _person(unit, plan.person, lock=True)
    going_on = select(Revocation.id).where(
        Revocation.leaver_id == person.id, Revocation.settled_at.is_(None), Revocation.undone_at.is_(None)
    )
    if unit.db.scalars(going_on).first() is not None:
        raise Conflict(f"All that {person.name} has is being ended already.", "Look at how far it has come.")
    if person.id == unit.viewer.person:
        raise BadInput("That would be yourself.", "Have another administrator do it.")
    shown = preview(unit, plan)
    if fingerprint and fingerprint != shown.fingerprint:
        raise Conflict("What this would do has changed since it was shown.", "Look at the preview again.")
    # An owner can only be replaced; other access that only they hold may end.
    lacking = [
        one.account.name
        for one in shown.accounts
        if not one.successor and (one.owned or one.account.id not in plan.successors)
    ]
    if lacking:
        raise BadInput(
            f"Nobody would answer for {', '.join(lacking)}.",
            "Choose a successor for each. What they do not own may also have none, if you say so.",
            {"successors": "is missing"},
        )
    before = {"standing": person.standing, "leaves_at": person.leaves_at}
    reached = subgraph.onward(unit.db, [Holder(HolderKind.PERSON, person.id)])
    passed_on = [one for one in shown.accounts if one.successor]
    # Leaving is a fact; the successor is a choice that latches can refuse.
    with guard.guarded(unit, guard.touched(unit, [one.account.id for one in passed_on])):
        handed = [_hand_over(unit, person, one, to, reason) for one in passed_on if (to := one.successor)]
    wish = _wish(unit, plan, person, shown.logins)
    ended = _leave_teams(unit, person, reason)
    _end_waiting(unit, person)
    person.standing, person.leaves_at = Standing.LEFT, min(person.leaves_at or unit.now, unit.now)
    sign_ins.refuse_none(unit)
    unit.record("person.left", "person", person.id, person.name, reason=reason.strip(), before=before)
    unit.db.flush()
    ident = revoke.start(unit, wish, reason, cause=Cause.LEFT, leaver=person)
    row = unit.db.get_one(Revocation, ident)
    row.preview = {**row.preview, "leaving": jsonable({**before, "handed": handed, "memberships": ended})}
    guard.evaluate(unit, reached)
    evaluate_flags.evaluate_person(unit, person.id, reached)
    return page(unit, person.id)


def _hand_over(unit: Unit, person: Person, one: schemas.OnlyTheirs, to: schemas.Named, reason: str) -> schemas.Handed:
    """Give an account its new owner, or its access a new holder, before the leaver loses it."""
    account = unit.db.get_one(Account, one.account.id, with_for_update=True)
    if one.owned:
        account.owner_id = to.id
        account.version += 1
        unit.record("account.owned", "account", account.id, account.name, account.id, owner=to.name, before=person.name)
        notices.tell(
            unit,
            [to.id],
            "account",
            f"You own {account.name} from now on; {person.name} has left.",
            f"/accounts/{account.id}",
        )
        evaluate_flags.evaluate_owner(unit, account.id, [person.id, to.id])
    else:
        _give_same(unit, person, account, to.id, reason)
    return schemas.Handed(account=one.account, to=to, owned=one.owned)


def _give_same(unit: Unit, person: Person, account: Account, to: UUID, reason: str) -> None:
    mine = select(Grant.id).where(
        Grant.holder_id == person.id, Grant.account_id == account.id, Grant.state == GrantState.ACTIVE
    )
    held = mapping.terms_of(unit.db, list(unit.db.scalars(mine)))
    terms = lifecycle.taken_over((term for kept in held.values() for term in kept), unit.now)
    if not terms:
        return
    given = lifecycle.new_grant(unit, account, Holder(HolderKind.PERSON, to), terms, GrantState.ACTIVE, reason=reason)
    unit.record("grant.given", "grant", given.id, account.name, account.id, takes_over_from=person.name)
    lifecycle.enter_into_force(unit, given)
    notices.tell(unit, [to], "grant", f"You have taken over access to {account.name} from {person.name}.", "/mine")


def _leave_teams(unit: Unit, person: Person, reason: str) -> list[JsonObject]:
    """End their memberships now; returns them with their former ends."""
    rows = unit.db.execute(
        select(Membership, Team.name).join(Team, Team.id == Membership.team_id).where(_belongs(unit, person.id))
    ).all()
    ended = []
    for membership, team in rows:
        ended.append({"id": membership.id, "team": team, "until": membership.until})
        membership.until = unit.now
        unit.record("membership.ended", "membership", membership.id, f"{person.name} in {team}", reason=reason.strip())
    unit.db.execute(update(Team).where(Team.speaker_id == person.id).values(speaker_id=None))
    unit.db.flush()
    return ended


def _end_waiting(unit: Unit, person: Person) -> None:
    for offer in unit.db.scalars(
        select(Offer).where(Offer.person_id == person.id, Offer.state == OfferState.PENDING).with_for_update()
    ).all():
        manage_offers.end(unit, offer, OfferState.WITHDRAWN, EndedAs.WITHDRAWN, f"{person.name} has left.")
    waiting = select(AccessRequest).where(
        AccessRequest.person_id == person.id, AccessRequest.state == RequestState.PENDING
    )
    for request in unit.db.scalars(waiting.with_for_update()):
        request.state, request.answered_at = "withdrawn", unit.now
        request.version += 1
        unit.record("request.withdrawn", "request", request.id, person.name, request.account_id)


# Progress and report.


def page(unit: Unit, ident: UUID) -> schemas.LeavingPage:
    """How far somebody's leaving has come: what is left, counted in the register now, by system."""
    unit.sight.require_administrator()
    person = _person(unit, ident)
    rows = _lines(unit, person)
    left = [line for line in rows if not line.ended]
    ended_at = [line.at for line in rows if line.at]
    by_system: dict[str, list[schemas.LeavingLine]] = {}
    for line in rows:
        by_system.setdefault(line.system, []).append(line)
    systems = [_progress(name, lines) for name, lines in by_system.items()]
    begun = _begun(unit, person.id)
    return schemas.LeavingPage(
        person=schemas.Named(id=person.id, name=person.name),
        standing=person.standing,
        begun_at=begun[0].created_at if begun else None,
        left=len(left),
        all=len(rows),
        ends=_ends(rows),
        done_at=max(ended_at, default=None) if rows and not left and begun else None,
        systems=sorted(systems, key=lambda one: (-one.left, one.system)),
        lines=sorted(rows, key=lambda line: (line.ended, line.system, line.what)),
        remains=_by_other_doors(unit, person.id),
        unknown=revoke.unknown(unit, _accounts_of(unit, person.id)),
        handed=[one for row in begun for one in row.preview.get("leaving", {}).get("handed", ())],
        revocations=[row.id for row in begun],
    )


def _by_other_doors(unit: Unit, person: UUID) -> list[str]:
    """What a system lets everybody do who signs in: named, since it can't be taken from one person."""
    holder = Holder(HolderKind.PERSON, person)
    register = subgraph.around_holder(unit.db, holder).as_held()
    given = set(unit.db.scalars(select(Grant.id).where(Grant.holder_id == person, Grant.by_system)))
    paths = [p for p in access_paths.everything_reached(register, holder, unit.now) if given & set(p.grants)]
    return [
        f"{path.level.name} on {register.accounts[path.account].name}, because {path.words}"
        for path in paths
        if path.level is not None and len(path.hops) > 1
    ]


def _accounts_of(unit: Unit, person: UUID) -> list[UUID]:
    return list(unit.db.scalars(select(Grant.account_id).where(Grant.holder_id == person).distinct()))


def _progress(system: str, lines: Sequence[schemas.LeavingLine]) -> schemas.SystemProgress:
    answers = [line.answer for line in lines if not line.ended and line.answer]
    return schemas.SystemProgress(
        system=system,
        all=len(lines),
        left=sum(not line.ended for line in lines),
        ends=_ends(lines),
        answer=answers[-1] if answers else "",
    )


def _ends(lines: Iterable[schemas.LeavingLine]) -> schemas.Ends:
    return schemas.Ends.model_validate(proof.count(Proof(line.proof) for line in lines if line.proof))


def _begun(unit: Unit, person: UUID) -> Sequence[Revocation]:
    mine = select(Revocation).where(Revocation.leaver_id == person, Revocation.undone_at.is_(None))
    return unit.db.scalars(mine.order_by(Revocation.created_at)).all()


def _line(
    system: str,
    kind: str,
    what: str,
    ended: bool,
    at: datetime | None = None,
    answer: str = "",
    known: tuple[str | None, str] = (None, ""),
) -> schemas.LeavingLine:
    """``known`` is by which proof it is known to have ended, and by whom."""
    proved, by = known
    return schemas.LeavingLine(
        system=system,
        kind=kind,
        what=what,
        ended=ended,
        at=at,
        proof=cast("schemas.Proof | None", proved),
        proved_by=by,
        answer=answer,
    )


# Access known only to the register ends when the register says so.
_HERE = (Proof.CONFIRMED, "Open Latch")


def _lines(unit: Unit, person: Person) -> list[schemas.LeavingLine]:
    """Everything they had when they began to leave, or have now: grants, sessions, logins, accounts, teams."""
    begun = [row.id for row in _begun(unit, person.id)]
    targets = select(RevocationTarget.grant_id).where(RevocationTarget.revocation_id.in_(begun))
    ended = select(RevocationTarget.session_id).where(RevocationTarget.revocation_id.in_(begun))
    return [
        *_grants_of(unit, person.id, begun, targets),
        *_sessions_of(unit, person.id, ended),
        *_locks_of(unit, begun),
        *(
            _line("Open Latch", "account", f"{account} has no other owner", False)
            for account in unit.db.scalars(select(Account.name).where(Account.owner_id == person.id))
        ),
        *(
            _line("Open Latch", "team", f"member of {team}", over, until, known=_HERE if over else (None, ""))
            for team, until, over in unit.db.execute(
                select(Team.name, Membership.until, func.coalesce(Membership.until <= unit.now, False))
                .join(Membership, Membership.team_id == Team.id)
                .where(Membership.member_id == person.id)
                .order_by(Team.name)
            )
        ),
    ]


def _grants_of(
    unit: Unit, person: UUID, begun: Sequence[UUID], targets: Select[UUID | None]
) -> list[schemas.LeavingLine]:
    rows = unit.db.execute(
        select(Grant, Account.name, System.name, func.string_agg(Level.name, ", "))
        .join(Account, Account.id == Grant.account_id)
        .join(System, System.id == Account.system_id)
        .outerjoin(Term, Term.grant_id == Grant.id)
        .outerjoin(Level, Level.id == Term.level_id)
        .where(Grant.holder_id == person, ~Grant.by_system, Grant.state.in_(LIVE) | Grant.id.in_(targets))
        .group_by(Grant.id, Account.name, System.name)
    ).all()
    answers = _proofs(unit, begun)
    return [
        _line(
            system,
            "grant",
            f"{level or 'nothing'} on {account}",
            grant.state == GrantState.ENDED,
            grant.ended_at,
            answers.get(grant.id, ""),
            (grant.proof, grant.proved_by),
        )
        for grant, account, system, level in rows
    ]


def _proofs(unit: Unit, begun: Sequence[UUID]) -> dict[UUID, str]:
    """The last answer of systems about each grant, with what reading again showed."""
    steps = unit.db.scalars(select(Step).where(Step.revocation_id.in_(begun)).order_by(Step.position)).all()
    again = {step.account_id: step.answer for step in steps if step.kind == StepKind.READ_AGAIN and step.answer}
    found: dict[UUID, list[str]] = {}
    for step in steps:
        if step.state == StepState.BY_HAND and step.grant_id is not None:
            found.setdefault(step.grant_id, []).append("Waits for somebody to do it by hand.")
        elif step.grant_id is not None and step.answer:
            found.setdefault(step.grant_id, []).append(step.answer)
            if step.state == StepState.DONE and step.account_id in again:
                found[step.grant_id].append(again[step.account_id])
    return {ident: " ".join(dict.fromkeys(said)) for ident, said in found.items()}


def _sessions_of(unit: Unit, person: UUID, ended: Select[UUID | None]) -> list[schemas.LeavingLine]:
    rows = unit.db.execute(
        select(Session, Account.name, System.name)
        .join(Account, Account.id == Session.account_id)
        .join(System, System.id == Account.system_id)
        .where(Session.holder_id == person, Session.ended_at.is_(None) | Session.id.in_(ended))
    ).all()
    return [
        _line(
            system,
            "session",
            f"session on {row.device or 'a device'} in {account}",
            row.ended_at is not None,
            row.ended_at,
            row.proof_words,
            (row.proof, row.proved_by),
        )
        for row, account, system in rows
    ]


def _locks_of(unit: Unit, begun: Sequence[UUID]) -> list[schemas.LeavingLine]:
    rows = unit.db.execute(
        select(Step, System.name)
        .join(Account, Account.id == Step.account_id)
        .join(System, System.id == Account.system_id)
        .where(Step.revocation_id.in_(begun), Step.kind.in_((StepKind.LOCK, StepKind.DROP)))
    ).all()
    return [
        _line(
            system,
            "login",
            f"login {step.detail['login']}",
            step.proof is not None,
            step.done_at,
            step.answer,
            (step.proof, step.done_by if step.proof else ""),
        )
        for step, system in rows
    ]


def report(unit: Unit, ident: UUID) -> schemas.LeavingReport:
    """The result of somebody's leaving: each thing with when it ended, how that is known, and who took over.

    Conflict while something is left. Includes the journal's position, by which it can be proved later.
    """
    found = page(unit, ident)
    if not found.revocations:
        raise Conflict(f"The leaver process for {found.person.name} has not been started.", "Start it first.")
    if found.left:
        raise Conflict(f"{found.left} of {found.all} are left.", "Wait until nothing is; the page counts.")
    position, hash_ = journal.head(unit.db)
    asked = unit.db.execute(
        select(Revocation.created_at, Revocation.reason, Person.name)
        .outerjoin(Person, Person.id == Revocation.asked_by_id)
        .where(Revocation.id.in_(found.revocations))
        .order_by(Revocation.created_at)
    ).all()
    return schemas.LeavingReport.model_validate(
        {
            **dict(found),
            "asked": [schemas.LeavingAsked(at=at, reason=reason, by=by or "Open Latch") for at, reason, by in asked],
            "made_at": unit.now,
            "journal": schemas.JournalPosition(position=position, hash=hash_),
        }
    )
