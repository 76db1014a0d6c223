"""Preparing a revocation: its targets, what depends on them, and how each system removes them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from sqlalchemy import BindParameter, bindparam, func, or_, select
from sqlalchemy.orm import aliased

from openlatch.adapters import Adapter
from openlatch.core.exposure.sentences import rule_in_words
from openlatch.core.register import Holder, Term
from openlatch.core.revocations import plan as core
from openlatch.core.revocations import preview as core_preview
from openlatch.core.revocations.plan import Move
from openlatch.core.states import GRANTS, may_become
from openlatch.core.time_windows import end_given, end_in_words, zone_of
from openlatch.core.vocabulary import GrantState, HolderKind, StepKind, SystemKind
from openlatch.errors import BadInput, Conflict, NotFound, SystemRefused
from openlatch.json_values import JsonObject
from openlatch.service.connections import adapter_for
from openlatch.service.grants import provisioning, terms
from openlatch.service.latches import guard
from openlatch.service.revocations.preview import Prepared
from openlatch.service.unit import Unit
from openlatch.store.access import mapping, subgraph
from openlatch.store.lists.register import LIVE
from openlatch.store.sql_types import AnyRow
from openlatch.store.tables import (
    AccessRule,
    Account,
    App,
    Grant,
    Handle,
    Level,
    Person,
    Resource,
    Session,
    System,
)
from openlatch.store.tables import Term as TermRow


def _among(name: str) -> BindParameter[Sequence[UUID]]:
    return bindparam(name, expanding=True)


# What is asked for each revocation is made once: that takes longer than asking it.
_theirs, _beside = aliased(Account), aliased(Account)
_LEVELS = select(Level).where(Level.id.in_(_among("levels")))
_SYSTEMS = (
    select(Account, System).join(System, System.id == Account.system_id).where(Account.id.in_(_among("accounts")))
)
# In a connected system a login has one session for all accounts there.
_SESSIONS = (
    select(Session)
    .join(_beside, _beside.id == Session.account_id)
    .join(Grant, Grant.holder_id == Session.holder_id)
    .join(_theirs, _theirs.id == Grant.account_id)
    .join(System, System.id == _theirs.system_id)
    .where(
        Grant.id.in_(_among("grants")),
        Session.ended_at.is_(None),
        (_beside.id == _theirs.id) | ((_beside.system_id == _theirs.system_id) & (System.kind != SystemKind.BY_HAND)),
    )
)
_LOGINS = (
    select(System.name, Handle.name, Handle.hangs)
    .join(System, System.id == Handle.system_id)
    .where(
        (Handle.person_id.in_(_among("holders")) | Handle.app_id.in_(_among("holders"))),
        Handle.system_id.in_(select(Account.system_id).where(Account.id.in_(_among("accounts")))),
    )
    .order_by(System.name, Handle.name)
)
_LINKS = (
    select(App.name, Account.name, Person.name, func.max(Level.reach))
    .join(Grant, Grant.app_id == App.id)
    .join(Account, Account.id == Grant.account_id)
    .join(Person, Person.id == Grant.given_by_id)
    .join(TermRow, TermRow.grant_id == Grant.id)
    .join(Level, Level.id == TermRow.level_id)
    .where(
        Grant.given_by_id.in_(_among("holders")),
        Grant.account_id.in_(_among("accounts")),
        Grant.state.in_(LIVE),
        Grant.id.not_in(_among("grants")),
    )
    .group_by(App.name, Account.name, Person.name)
    .order_by(App.name, Account.name)
)


@dataclass(frozen=True, slots=True)
class Wish:
    """What to end or trim. A trim names one grant and a lower level, an earlier end, or both.

    ``keep`` are the terms that a trim of single terms leaves, ``keep_words`` the same in words. ``logins`` are handles
    to be locked in their systems, or dropped for good with ``drop``. ``rules`` are access rules to be removed.
    """

    grants: tuple[UUID, ...] = ()
    sessions: tuple[UUID, ...] = ()
    trim_level: UUID | None = None
    trim_until: datetime | None = None
    logins: tuple[UUID, ...] = ()
    drop: bool = False
    keep: tuple[Term, ...] = ()
    keep_words: str = ""
    rules: tuple[UUID, ...] = ()
    trim_last_day: date | None = None

    @property
    def is_trim(self) -> bool:
        """Whether something is left afterwards."""
        return bool(self.trim_level or self.trim_until or self.trim_last_day or self.keep)


def lock(unit: Unit, wish: Wish) -> list[Grant]:
    """The grants, locked in one order so that two revocations at once can't wait for each other."""
    statement = select(Grant).where(Grant.id.in_(wish.grants), unit.sight.grants()).order_by(Grant.id).with_for_update()
    grants = list(unit.db.scalars(statement.execution_options(populate_existing=True)))
    if len(grants) != len(set(wish.grants)):
        raise NotFound("There is no such grant, or you may not see it.")
    for grant in grants:
        unit.sight.require_answers_for(grant.account_id)
        if grant.by_system:
            raise Conflict(
                "It comes with signing in there, as for everybody.", "End what everybody has, or lock the login."
            )
        if not may_become(GRANTS, GrantState(grant.state), GrantState.REVOKING):
            raise Conflict(
                f"The grant is {grant.state} and can't be revoked now.",
                "Look at its revocation." if grant.state == GrantState.REVOKING else "There is nothing to revoke.",
            )
    return grants


def prepare(unit: Unit, wish: Wish, leaver: str = "", locked: list[Grant] | None = None) -> Prepared:
    """Work a revocation out: what ends, what remains, and the steps. NotFound for what the viewer may not see."""
    grants = locked
    if grants is None:
        wanted = select(Grant).where(Grant.id.in_(wish.grants), unit.sight.grants())
        grants = list(unit.db.scalars(wanted.order_by(Grant.id)))
    if len(grants) != len(set(wish.grants)):
        raise NotFound("There is no such grant, or you may not see it.")
    sessions = sessions_of(unit, wish, grants)
    logins = lockable(unit, wish) if wish.logins else []
    named = {s.account_id for s in sessions if s.id in wish.sessions}
    rules = _rules(unit, wish)
    accounts = {g.account_id for g in grants} | named | {r.account for r in rules}
    accounts |= {login.account for login in logins}
    # Sessions that end with a grant may be in other accounts: answering for the grant suffices.
    for account in accounts:
        unit.sight.require_answers_for(account)
    accounts |= {s.account_id for s in sessions}
    # The accounts stay at hand: they are looked up one by one below.
    kept, systems = _accounts_and_systems(unit, accounts)
    register = subgraph.around_accounts(unit.db, sorted(accounts), onward=True)
    held = {grant.id: grant for grant in register.grants}
    others = mapping.terms_of(unit.db, [grant.id for grant in grants if grant.id not in held])
    values = [held.get(grant.id) or mapping.grant_value(grant, others.get(grant.id, ())) for grant in grants]
    levels = {term.level.id for value in values for term in value.terms}
    known = unit.db.scalars(_LEVELS, {"levels": list(levels)}).all()
    targets = [_target(unit, x, value, systems[x.account_id], wish) for x, value in zip(grants, values, strict=True)]
    del kept, known
    live = [_live(session, systems[session.account_id]) for session in sessions]
    hangs = [] if wish.is_trim else [*_hangs(unit, grants), *_also_ends(grants)]
    hangs += [] if wish.is_trim else _payments(unit, {grant.holder_id for grant in grants})
    found = core_preview.preview(register, targets, live, unit.now, logins, hangs, rules)
    return Prepared(register, targets, live, found, systems, leaver)


def _rules(unit: Unit, wish: Wish) -> list[core.OpenRule]:
    """The access rules that are to be taken away, each by the moves of its system."""
    if not wish.rules:
        return []
    rows = unit.db.execute(
        select(AccessRule, System)
        .join(Account, Account.id == AccessRule.account_id)
        .outerjoin(System, System.id == Account.system_id)
        .where(AccessRule.id.in_(wish.rules), unit.sight.accounts())
        .order_by(AccessRule.key, AccessRule.id)
    ).all()
    if len(rows) != len(set(wish.rules)):
        raise NotFound("There is no such access rule, or you may not see it.")
    return [
        core.OpenRule(row.id, row.account_id, row.key, rule_in_words(row.plain), _moves(unit, row, system))
        for row, system in rows
    ]


def _moves(unit: Unit, row: AccessRule, system: System | None) -> tuple[Move, ...]:
    if system is None or not row.handle or not can(unit, system, StepKind.CLOSE):
        return ()
    return adapter_for(unit.service, system).plan(StepKind.CLOSE, row.handle)


def lockable(unit: Unit, wish: Wish) -> list[core.Login]:
    """The logins that are to be locked or dropped, each by an account of its system. BadInput for one that can't be."""
    rows = unit.db.execute(
        select(Handle, System)
        .join(System, System.id == Handle.system_id)
        .where(Handle.id.in_(wish.logins))
        .order_by(System.name, Handle.name)
    ).all()
    if len(rows) != len(set(wish.logins)):
        raise NotFound("There is no such login.")
    found = []
    for handle, system in rows:
        kind = StepKind.DROP if wish.drop else StepKind.LOCK
        account = account_of(unit, handle)
        if account is None or not can(unit, system, kind):
            raise BadInput(f"{system.name} can't {kind} {handle.name}.", "Do it there by hand.", {"logins": "can't be"})
        holder = Holder(HolderKind.PERSON, handle.person_id) if handle.person_id else None
        if holder is None:
            raise BadInput(f"{handle.name} is an app's login.", "Unlink the app instead.", {"logins": "an app's"})
        found.append(core.Login(handle.name, holder, account, system.name, wish.drop))
    return found


def can(unit: Unit, system: System, kind: StepKind) -> bool:
    """Whether a step of a kind can be carried out in a system."""
    return system.kind in unit.service.adapters and kind in adapter_for(unit.service, system).can.steps


def account_of(unit: Unit, handle: Handle) -> UUID | None:
    """An account by which to name a login's system: one that it holds, or held, else the system's first."""
    holder = handle.person_id or handle.app_id
    held = select(Account.id).join(Grant, Grant.account_id == Account.id).where(Grant.holder_id == holder)
    there = select(Account.id).where(Account.handle.is_not(None)).order_by(Account.name)
    for wanted in (held.order_by(Account.name), there):
        found = unit.db.scalars(wanted.where(Account.system_id == handle.system_id).limit(1)).first()
        if found is not None:
            return found
    return None


def _hangs(unit: Unit, grants: Sequence[Grant]) -> list[core.Stop]:
    """What hangs on the logins of those whose access ends, and the apps that act there by their consent."""
    named = {
        "holders": list({grant.holder_id for grant in grants}),
        "accounts": list({grant.account_id for grant in grants}),
        "grants": [grant.id for grant in grants],
    }
    found = [
        core.Stop(kind, f"{sentence} ({login} in {system})")
        for system, login, hangs in unit.db.execute(_LOGINS, named)
        for kind, sentence in hangs
    ]
    links = unit.db.execute(_LINKS, named)
    does = {1: "sees what is there", 2: "changes things there", 3: "pays there", 4: "decides who gets in there"}
    return found + [
        core.Stop("others", f"{app} acts in {account} on what {person} agreed to, and {does[reach]}")
        for app, account, person, reach in links
    ]


def _payments(unit: Unit, holders: set[UUID]) -> list[core.Stop]:
    """Accounts paid for by those whose access ends. Whether payments go on is not known."""
    paying = or_(
        Account.payer_person_id.in_(holders), Account.payer_team_id.in_(holders), Account.payer_account_id.in_(holders)
    )
    rows = unit.db.scalars(select(Account).where(paying, unit.sight.accounts()).order_by(Account.name)).all()
    names = guard.payers_of(unit, [row.id for row in rows])
    found = []
    for row in rows:
        name, zone = names[row.id][1], ZoneInfo(row.time_zone)
        if row.paid_until is not None and row.paid_until > unit.now:
            told = f"{name} pays for {row.name} {end_in_words(row.paid_until, zone)}; nobody is known to pay after that"
        else:
            told = f"{name} pays for {row.name}, as long as they keep doing so; name another payer"
        found.append(core.Stop("payment", told))
    return found


def _also_ends(grants: Sequence[Grant]) -> list[core.Stop]:
    """What others lose with a grant in its system, as the last reading tells."""
    sentences = [sentence for grant in grants for sentence in (grant.handle or {}).get("also_ends", ())]
    return [core.Stop("others", sentence) for sentence in sorted(set(sentences))]


def _accounts_and_systems(unit: Unit, accounts: set[UUID]) -> tuple[list[Account], dict[UUID, System]]:
    """Accounts, and the system of each by its id."""
    found = unit.db.execute(_SYSTEMS, {"accounts": list(accounts)}).all()
    return [account for account, _ in found], {account.id: system for account, system in found}


def sessions_of(unit: Unit, wish: Wish, grants: Sequence[Grant]) -> list[Session]:
    """The sessions named, and those that the grants' holders have in the same system."""
    live = select(Session).where(Session.id.in_(wish.sessions), Session.ended_at.is_(None), unit.sight.sessions())
    found = {session.id: session for session in unit.db.scalars(live)} if wish.sessions else {}
    if len(found) != len(set(wish.sessions)):
        raise NotFound("There is no such session, or it has ended.")
    if not wish.is_trim and grants:
        theirs = unit.db.scalars(_SESSIONS, {"grants": [grant.id for grant in grants]})
        found |= {session.id: session for session in theirs}
    return sorted(found.values(), key=lambda s: s.id)


def _target(unit: Unit, row: Grant, value: AnyRow, system: System, wish: Wish) -> core.Target:
    connected = system.kind in unit.service.adapters and bool(row.handle)
    trim = None
    if wish.is_trim:
        lower = _lower_level(unit, row, system, wish.trim_level, connected)
        zone = zone_of(unit.db.get_one(Account, row.account_id).time_zone)
        until = end_given(wish.trim_until, wish.trim_last_day, zone)
        if until is not None and until <= unit.now:
            raise BadInput("That end has passed.", "Choose a later one, or revoke.", {"trim_until": "has passed"})
        if wish.trim_last_day and until is None:
            raise BadInput("That last day is too far away to end anything.", "Choose an earlier one.")
        trim = core.Trim(lower, until, wish.keep, wish.keep_words)
    if not connected:
        return core.Target(value, *_not_given_yet(unit, row, system, trim), can_return=False)
    adapter = adapter_for(unit.service, system)
    lower = trim.level if trim is not None else None
    kind = StepKind.REMOVE if lower is None else StepKind.REDUCE
    detail = {**row.handle, **({"to": _key_of(unit, lower.id)} if lower is not None else {})}
    moves = adapter.plan(kind, detail) if trim is None or lower is not None else ()
    if trim is not None and trim.terms:
        moves = _taking_away(unit, adapter, row, value.terms, trim.terms)
    back = _can_give(unit, adapter, row, value.terms[0].level.id if value.terms else None)
    return core.Target(value, connected, row.handle, trim, moves, adapter.can.sessions_first, back)


def _taking_away(
    unit: Unit, adapter: Adapter, row: Grant, before: Sequence[Term], after: Sequence[Term]
) -> tuple[core.Move, ...]:
    """How a system takes some terms of a grant away and leaves the others. Conflict where it can't tell them apart."""
    account = unit.db.get_one(Account, row.account_id)
    places = {term: _place(unit, account, term) for term in (*before, *after)}
    kept = {places[term] for term in after}
    gone = [term for term in before if term not in after and places[term] not in kept]
    rights = {terms.right(term) for term in after}
    lost = [term for term in before if terms.right(term) not in rights]
    if {terms.right(term) for term in lost} != {terms.right(term) for term in gone} or None in places.values():
        raise _cannot_tell_apart(unit, account)
    try:
        login = row.handle.get("login", "")
        details = [adapter.holding(places[term] or "", login, _key_of(unit, term.level.id)) for term in gone]
    except SystemRefused as error:
        raise _cannot_tell_apart(unit, account) from error
    return tuple(move for detail in details for move in adapter.plan(StepKind.REMOVE, detail))


def _place(unit: Unit, account: Account, term: Term) -> str | None:
    """How the system names what a term is on; None for a group, which it does not know."""
    if term.part is None:
        return account.handle
    found = unit.db.get(Resource, term.part.id)
    return found.key if found is not None else None


def _cannot_tell_apart(unit: Unit, account: Account) -> Conflict:
    name = unit.db.get_one(System, account.system_id).name
    return Conflict(
        f"{name} can't take away just this and leave the rest.",
        "Reduce it to a lower level (“Change the level”), or end it and give what is left.",
    )


def _not_given_yet(
    unit: Unit, row: Grant, system: System, trim: core.Trim | None
) -> tuple[bool, JsonObject, core.Trim | None, tuple[core.Move, ...]]:
    """How access is taken away that its system may not have yet: giving it was under way, and may have gone through.

    By hand where we can't name it there.
    """
    by_hand = (False, row.handle, trim, ())
    if trim is not None or row.owed is None or system.kind not in unit.service.adapters or not system.has_secret:
        return by_hand
    adapter = adapter_for(unit.service, system)
    details, _ = provisioning.holdings(unit, adapter, row, unit.db.get_one(Account, row.account_id), system)
    moves = tuple(move for detail in details for move in adapter.plan(StepKind.REMOVE, detail))
    return (True, details[0], trim, moves) if moves else by_hand


def can_be_given_again(unit: Unit, grant: Grant) -> bool:
    """Whether what is taken away in the system can be given again from here; also where people do both by hand."""
    account = unit.db.get_one(Account, grant.account_id)
    system = unit.db.get_one(System, account.system_id)
    if system.kind not in unit.service.adapters or not grant.handle:
        return True
    level = unit.db.scalars(select(TermRow.level_id).where(TermRow.grant_id == grant.id).limit(1)).first()
    return _can_give(unit, adapter_for(unit.service, system), grant, level)


def _can_give(unit: Unit, adapter: Adapter, row: Grant, level_id: UUID | None) -> bool:
    """Whether the system lets us give it again without anybody else: an app has to be linked by whoever uses it."""
    if StepKind.GIVE not in adapter.can.steps:
        return False
    if adapter.again(row.handle) is not None:
        return True
    account = unit.db.get_one(Account, row.account_id).handle or ""
    level = _key_of(unit, level_id) if level_id else ""
    try:
        adapter.holding(account, row.handle.get("login", ""), level)
    except SystemRefused:
        return False
    return True


def _key_of(unit: Unit, level: UUID) -> str:
    return unit.db.get_one(Level, level).key or ""


def _lower_level(unit: Unit, grant: Grant, system: System, ident: UUID | None, connected: bool) -> Any:
    if ident is None:
        return None
    level = unit.db.get(Level, ident)
    if level is None or level.system_id != system.id:
        raise BadInput(
            "The account's system has no such level.", "Choose one of its levels.", {"trim_level": "unknown"}
        )
    held = unit.db.scalars(
        select(Level).join(TermRow, TermRow.level_id == Level.id).where(TermRow.grant_id == grant.id)
    ).all()
    if all(level.reach > h.reach or level.id == h.id for h in held):
        raise BadInput(
            f"“{level.name}” takes nothing away.", "Choose a level that reaches less far.", {"trim_level": "not lower"}
        )
    if connected:
        adapter = adapter_for(unit.service, system)
        if not all(adapter.can_reduce(h.key or "", level.key or "") for h in held):
            raise BadInput(
                f"{system.name} can't reduce this access to “{level.name}”.",
                "Revoke it, and give the lower access instead; or trim the time.",
                {"trim_level": "can't be set there"},
            )
    return mapping.level_value(level)


def _live(row: Session, system: System) -> core.LiveSession:
    holder = Holder(HolderKind(row.holder_kind), row.holder_id)
    return core.LiveSession(
        row.id, row.account_id, holder, system.kind != SystemKind.BY_HAND and bool(row.handle), row.handle
    )
