"""Latches: which are in force, what breaks them, and the one guard that every change passes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from uuid import UUID

from sqlalchemy import and_, bindparam, delete, func, or_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import aliased

from openlatch import schemas
from openlatch.core import latches as core
from openlatch.core.latches import Crowd, LatchKind, LatchMode
from openlatch.core.register import Holder, Register
from openlatch.core.vocabulary import GrantState, HolderKind, Reach
from openlatch.errors import BadInput, Conflict, Held, NotFound
from openlatch.json_values import JsonObject
from openlatch.service import locks
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.unit import Unit
from openlatch.store.access import subgraph
from openlatch.store.tables import Account, Breach, Grant, Latch, Person, Resource, Team

# Asked with each change, so they are made once: that takes longer than asking.
_IN_FORCE = (
    select(Account.id, Latch)
    .join(Latch, or_(Latch.account_id == Account.id, Latch.account_kind == Account.kind))
    .where(Account.organisation_id == bindparam("organisation"))
    .order_by(Account.id, Latch.kind, Latch.account_id.is_(None).desc())
)
_IN_FORCE_ON = _IN_FORCE.where(Account.id.in_(bindparam("accounts", expanding=True)))
_NUMBERED = {LatchKind.MOST_DELEGATES: "delegates", LatchKind.ENDS_WITHIN: "days"}


@dataclass(frozen=True, slots=True)
class Setting:
    """A latch to be set, on an account or on all accounts of a kind."""

    kind: LatchKind
    mode: LatchMode
    account: UUID | None = None
    account_kind: str | None = None
    number: int | None = None
    pair: tuple[str, str] = ("", "")

    @property
    def latch(self) -> core.Latch:
        """The latch itself."""
        return core.Latch(self.kind, self.mode, self.number, self.pair, self.account is None)


def in_force(unit: Unit, accounts: Iterable[UUID] | None = None) -> dict[UUID, list[core.Latch]]:
    """The latches that are not off, by account; for the given accounts, or for all.

    An account's own latch applies in addition to that of its kind: it can ask for more, never for less.
    """
    named = {"organisation": unit.viewer.organisation}
    if accounts is None:
        rows = unit.db.execute(_IN_FORCE, named)
    else:
        rows = unit.db.execute(_IN_FORCE_ON, {**named, "accounts": list(accounts)})
    found: dict[UUID, list[core.Latch]] = {}
    for account, row in rows:
        latch = value(row)
        if latch.mode is not LatchMode.OFF:
            found.setdefault(account, []).append(latch)
    return found


def value(row: Latch) -> core.Latch:
    """A latch's row as a plain value."""
    pair = (str(row.pair[0]), str(row.pair[1])) if len(row.pair) == 2 else ("", "")
    return core.Latch(LatchKind(row.kind), LatchMode(row.mode), row.number, pair, row.account_kind is not None)


def crowds(unit: Unit, accounts: Sequence[UUID]) -> dict[UUID, Crowd]:
    """Everyone who reaches these accounts, as latches need it."""
    if not accounts:
        return {}
    return crowds_in(unit, subgraph.around_accounts(unit.db, accounts), accounts)


def crowds_in(unit: Unit, register: Register, accounts: Sequence[UUID]) -> dict[UUID, Crowd]:
    """The same within a given register, possibly a supposed one."""
    if not accounts:
        return {}
    rows = unit.db.execute(
        select(Resource.account_id, Resource.id, Resource.name).where(
            Resource.account_id.in_(accounts), Resource.public
        )
    )
    # Grants being revoked do not count.
    register = register.without(g.id for g in register.grants if g.state is GrantState.REVOKING)
    public: dict[UUID, dict[UUID, str]] = {}
    for account, ident, name in rows:
        public.setdefault(account, {})[ident] = name
    apps = [grant.id for grant in register.grants if grant.holder.kind is HolderKind.APP]
    linked = select(Grant.id).join(Person, Person.id == Grant.given_by_id).where(Grant.id.in_(apps), ~Person.inside)
    outside = frozenset(unit.db.scalars(linked)) if apps else frozenset()
    payers = payers_of(unit, accounts)
    return {a: Crowd.of(register, a, unit.now, public.get(a), outside, payers.get(a)) for a in accounts}


def payers_of(unit: Unit, accounts: Sequence[UUID]) -> dict[UUID, tuple[Holder, str]]:
    """Who pays for each of these accounts, with their name, where that is known."""
    if not accounts:
        return {}
    other = aliased(Account)
    rows = unit.db.execute(
        select(Account.id, Person.id, Person.name, Team.id, Team.name, other.id, other.name)
        .outerjoin(Person, Person.id == Account.payer_person_id)
        .outerjoin(Team, Team.id == Account.payer_team_id)
        .outerjoin(other, other.id == Account.payer_account_id)
        .where(
            Account.id.in_(accounts),
            func.num_nonnulls(Account.payer_person_id, Account.payer_team_id, Account.payer_account_id) > 0,
        )
    )
    found: dict[UUID, tuple[Holder, str]] = {}
    for account, person, person_name, team, team_name, paying, paying_name in rows:
        if person is not None:
            found[account] = (Holder(HolderKind.PERSON, person), person_name)
        elif team is not None:
            found[account] = (Holder(HolderKind.TEAM, team), team_name)
        else:
            found[account] = (Holder(HolderKind.ACCOUNT, paying), paying_name)
    return found


def supposed(
    unit: Unit, before: Register, after: Register, accounts: Sequence[UUID], settings: Sequence[Setting] = ()
) -> list[core.Breach]:
    """What a supposed change would newly break in these accounts, with latches set as in ``settings``.

    What breaks a latch that is only supposed to be on counts as new in any case.
    """
    latched = in_force(unit, accounts)
    fresh = [s for s in settings if s.account is not None and s.mode is not LatchMode.OFF]
    for setting in settings:
        if setting.account is not None:
            there = latched.get(setting.account, [])
            latched[setting.account] = [x for x in there if x.kind is not setting.kind or x.of_kind]
    new = {s.account: crowds_in(unit, after, [s.account])[s.account] for s in fresh if s.account is not None}
    supposedly = [breach for s in fresh if s.account for breach in core.breaches([s.latch], new[s.account])]
    was, will = crowds_in(unit, before, list(latched)), crowds_in(unit, after, list(latched))
    broken = [breach for a, latches in latched.items() for breach in core.newly_broken(latches, was[a], will[a])]
    return broken + supposedly


def touched(unit: Unit, accounts: Iterable[UUID]) -> list[UUID]:
    """These accounts and all that are reached through them: a change to these can break latches of those."""
    return subgraph.onward(unit.db, [Holder(HolderKind.ACCOUNT, account) for account in accounts])


@contextmanager
def guarded(unit: Unit, accounts: Iterable[UUID] | None, refuses: bool = True) -> Iterator[list[core.Breach]]:
    """Run a change that can let more in, or remove stewards, under the latches; yields the warnings.

    ``accounts`` are those that the change can touch, None for any. What it newly breaks is refused where a latch is on
    *hold* (Held; the transaction must not commit), and otherwise added to the warnings. Flags on broken latches are
    updated in the same transaction. A fact that can't be refused (somebody has left) is only flagged, with ``refuses``
    off.
    """
    locks.access(unit)
    wanted = None if accounts is None else list(accounts)
    latched = in_force(unit, wanted) if wanted is None or wanted else {}
    before = crowds(unit, list(latched))
    warned: list[core.Breach] = []
    # Lets tests detect writes outside of any guard.
    unit.db.info["guarded"] = unit.db.info.get("guarded", 0) + 1
    try:
        yield warned
        unit.db.flush()
    finally:
        unit.db.info["guarded"] -= 1
    if not latched:
        return
    unit.db.flush()
    unit.db.expire_all()
    after = crowds(unit, list(latched))
    found = [b for a, latches in latched.items() for b in core.newly_broken(latches, before[a], after[a])]
    if refuses:
        refuse(core.held(found))
    warned += found
    _evaluate(unit, latched, after)


def refuse(found: Sequence[core.Breach]) -> None:
    """Held, naming each latch, the fact, and what would pass; nothing for an empty list."""
    if found:
        raise Held(
            "A latch holds. " + " ".join(breach.words for breach in found[:5]),
            " ".join(dict.fromkeys(breach.remedy for breach in found)),
            [shown(breach).model_dump() for breach in found],
        )


def shown(breach: core.Breach) -> schemas.Breach:
    """A breach as an answer."""
    return schemas.Breach(
        latch=breach.latch.words,
        kind=breach.latch.kind,
        mode=breach.latch.mode,
        fact=breach.fact,
        remedy=breach.remedy,
    )


# Flags.


def evaluate(unit: Unit, accounts: Iterable[UUID] | None = None) -> None:
    """Update the flags on broken latches, for the given accounts or for all."""
    wanted = None if accounts is None else list(accounts)
    latched = in_force(unit, wanted)
    _evaluate(unit, latched, crowds(unit, list(latched)), wanted, everything=wanted is None)


def _evaluate(
    unit: Unit,
    latched: dict[UUID, list[core.Latch]],
    after: dict[UUID, Crowd],
    accounts: Iterable[UUID] | None = None,
    everything: bool = False,
) -> None:
    looked_at = list(latched) if accounts is None else list(accounts)
    broken = {a: b for a, latches in latched.items() if (b := core.breaches(latches, after[a]))}
    kept = select(Breach.account_id)
    before = set(unit.db.scalars(kept if everything else kept.where(Breach.account_id.in_(looked_at))))
    mended = before - set(broken)
    if mended:
        unit.db.execute(delete(Breach).where(Breach.account_id.in_(mended)))
    rows = [_row(unit, account, breaches, _worst_reach(after[account])) for account, breaches in broken.items()]
    if rows:
        statement = insert(Breach)
        new = {name: statement.excluded[name] for name in ("broken", "firm", "reach", "words")}
        unit.db.execute(statement.on_conflict_do_update(index_elements=["account_id"], set_=new), rows)
    if broken or mended:
        evaluate_flags.evaluate(unit, accounts=sorted({*broken, *mended}))


def _row(unit: Unit, account: UUID, breaches: Sequence[core.Breach], reach: Reach) -> JsonObject:
    more = f" And {len(breaches) - 1} more." if len(breaches) > 1 else ""
    return {
        "account_id": account,
        "organisation_id": unit.viewer.organisation,
        "broken": len(breaches),
        "firm": any(breach.latch.mode is LatchMode.HOLD for breach in breaches),
        "reach": int(reach),
        "words": f"{breaches[0].words}{more}",
    }


def _worst_reach(crowd: Crowd) -> Reach:
    return max((p.reach for _, paths in crowd.moments for p in paths if p.level is not None), default=Reach.OBSERVE)


# Setting them.


def _accounts_of(unit: Unit, setting: Setting) -> list[UUID]:
    if (setting.account is None) == (setting.account_kind is None):
        raise BadInput("A latch is on one account, or on a kind of account.", "Name one of the two.")
    if setting.account is not None:
        unit.sight.require_owns(setting.account)
        if unit.db.get(Account, setting.account) is None:
            raise NotFound("There is no such account, or you may not see it.")
        return [setting.account]
    unit.sight.require_administrator()
    found = list(unit.db.scalars(select(Account.id).where(Account.kind == setting.account_kind)))
    if not found:
        raise BadInput(f"There is no account of the kind {setting.account_kind!r}.", "Look at the list of accounts.")
    return found


def _refuse_unfit(setting: Setting) -> None:
    what = _NUMBERED.get(setting.kind)
    if what is not None and not (setting.number is not None and 1 <= setting.number <= 10_000):
        raise BadInput(f"This latch needs a number of {what}.", "Give 1 to 10000.", {"number": "is missing"})
    if setting.kind is LatchKind.NEVER_TOGETHER and not all(setting.pair):
        raise BadInput("This latch needs the keys of two permissions.", "Give both.", {"pair": "is missing"})


def preview(unit: Unit, setting: Setting) -> schemas.LatchPreview:
    """What breaks a latch now, before it is switched on."""
    accounts = _accounts_of(unit, setting)
    _refuse_unfit(setting)
    found = []
    for account, crowd in crowds(unit, accounts).items():
        breaches = core.breaches([setting.latch], crowd)
        if breaches:
            name = crowd.register.accounts[account].name
            found.append(
                schemas.LatchBroken(account=schemas.Named(id=account, name=name), breaches=[shown(b) for b in breaches])
            )
    return schemas.LatchPreview(latch=setting.latch.words, accounts=len(accounts), broken=found)


def switch(unit: Unit, setting: Setting) -> schemas.LatchPreview:
    """Set a latch to off, warn or hold. Existing breaches stay, and are flagged."""
    locks.access(unit)
    shown_before = preview(unit, setting)
    _refuse_below_kind(unit, setting)
    where = and_(
        Latch.kind == setting.kind,
        Latch.account_id == setting.account if setting.account else Latch.account_kind == setting.account_kind,
    )
    row = unit.db.scalars(select(Latch).where(where).with_for_update()).first()
    if row is None:
        row = Latch(
            organisation_id=unit.viewer.organisation,
            account_id=setting.account,
            account_kind=setting.account_kind,
            kind=setting.kind,
        )
        unit.db.add(row)
    row.mode, row.number, row.pair = setting.mode, setting.number, [*setting.pair] if all(setting.pair) else []
    unit.db.flush()
    unit.record(
        "latch.set",
        "latch",
        row.id,
        setting.latch.words,
        setting.account,
        mode=setting.mode,
        of_kind=setting.account_kind,
    )
    evaluate(unit, _accounts_of(unit, setting))
    return shown_before


def _refuse_below_kind(unit: Unit, setting: Setting) -> None:
    """Conflict for an account's latch that asks for less than that of its kind, which applies anyway."""
    if setting.account is None:
        return
    firm = list(LatchMode)
    for latch in in_force(unit, [setting.account]).get(setting.account, []):
        same = latch.kind is setting.kind and (latch.kind is not LatchKind.NEVER_TOGETHER or latch.pair == setting.pair)
        if same and latch.of_kind and firm.index(setting.mode) < firm.index(latch.mode):
            kind = unit.db.get_one(Account, setting.account).kind
            raise Conflict(
                f"“{latch.words}” is on {latch.mode} for all accounts of the kind {kind}.",
                "Ask an administrator to change it for the kind; one account can only ask for more.",
            )


def of_account(unit: Unit, account: UUID) -> list[schemas.LatchState]:
    """Every latch of an account: its mode, whether it is the account's or its kind's, and what breaks it."""
    unit.sight.require_answers_for(account)
    if unit.db.get(Account, account) is None:
        raise NotFound("There is no such account, or you may not see it.")
    firm = list(LatchMode)
    own: dict[LatchKind, core.Latch] = {}
    for latch in in_force(unit, [account]).get(account, []):
        if latch.kind not in own or firm.index(latch.mode) >= firm.index(own[latch.kind].mode):
            own[latch.kind] = latch
    crowd = crowds(unit, [account])[account]
    found = []
    for kind in LatchKind:
        latch = own.get(kind, core.Latch(kind, LatchMode.OFF))
        facts = list(dict.fromkeys(core.broken(latch, crowd).values()))
        found.append(
            schemas.LatchState(
                kind=kind,
                mode=latch.mode,
                number=latch.number,
                pair=[p for p in latch.pair if p],
                words=latch.words if kind in own else core.Latch(kind, LatchMode.OFF, None, ("A", "B")).words,
                of_kind=latch.of_kind,
                broken=facts,
            )
        )
    return found


def unseen(unit: Unit, account: UUID) -> bool:
    """Whether an account's delegates are hidden from each other."""
    return any(latch.kind is LatchKind.UNSEEN for latch in in_force(unit, [account]).get(account, []))
