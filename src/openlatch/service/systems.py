"""Systems: connecting them, reading them, and bringing the register in line with what a reading shows.

What a system has and the register does not becomes unrecorded access, which shows at once and is flagged. What
the register has and the system does not is marked as missing. A reading that breaks off changes nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from uuid import UUID

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from openlatch.adapters import Adapter, Holding, Login, Presence, Reading
from openlatch.core.states import GRANTS, move
from openlatch.core.words import EndedAs, GrantState, Reach
from openlatch.errors import BadInput, NotFound, SystemDown, SystemRefused
from openlatch.service import flags, latching, using
from openlatch.service.context import Service, Unit, Viewer
from openlatch.store.tables import (
    Account,
    App,
    Grant,
    Handle,
    Level,
    Organisation,
    Person,
    Resource,
    Session,
    System,
    Term,
)

# Somebody met in a system whom nobody has named: the account they reach is taken to matter until told otherwise.
SENSITIVITY_OF_THE_UNKNOWN = 3


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a reading changed."""

    grants_seen: int
    unrecorded: int
    newly_unrecorded: int
    missing: int
    sessions_seen: int
    sessions_ended: int


def connect(unit: Unit, key: str, name: str, kind: str, settings: dict[str, Any], secret: str) -> System:
    """Add a system, or change how it is reached. Its secret is encrypted before it is stored."""
    unit.sight.require_administrator()
    if kind not in unit.service.adapters:
        raise BadInput(f"There is no adapter for {kind!r}.", f"Use one of: {', '.join(unit.service.adapters)}.")
    # A secret that does not work is refused before it is kept, with what is missing.
    unit.service.adapters[kind](settings, secret).check()
    system = unit.db.scalars(select(System).where(System.key == key)).first()
    if system is None:
        system = System(organisation_id=unit.viewer.organisation, key=key, name=name)
        unit.db.add(system)
    system.name, system.kind, system.settings = name, kind, settings
    system.secret = unit.service.cipher.encrypt(secret.encode())
    unit.db.flush()
    unit.record("system.connected", "system", system.id, name, settings=settings)
    return system


def adapter_for(service: Service, system: System) -> Adapter:
    """The adapter of a system. NotFound when its steps are carried out by hand."""
    maker = service.adapters.get(system.kind)
    if maker is None or system.secret is None:
        raise NotFound(f"{system.name} is not connected; what happens there is done by hand.")
    return maker(system.settings, service.cipher.decrypt(system.secret).decode())


def ask_to_read(unit: Unit, ident: UUID) -> None:
    """Have the worker read a system soon."""
    unit.sight.require_administrator()
    system = unit.db.get(System, ident)
    if system is None:
        raise NotFound("There is no such system.")
    adapter_for(unit.service, system)
    unit.record("system.read_asked", "system", system.id, system.name)
    unit.wake("read_system", system=ident)


def read(service: Service, organisation: UUID, ident: UUID) -> Outcome | None:
    """Read a system and bring the register in line. None when it did not answer, which is noted on it."""
    viewer = Viewer.itself(organisation)
    with service.unit(viewer) as unit:
        adapter = adapter_for(service, unit.db.get_one(System, ident))
    begun = service.clock()
    try:
        reading = Reading.of(adapter.read())
    except (SystemDown, SystemRefused) as error:
        with service.unit(viewer) as unit:
            _note_down(unit, ident, error.detail)
        return None
    with service.unit(viewer) as unit:
        system = unit.db.get_one(System, ident, with_for_update=True)
        system.read_at, system.down_since = unit.now, None
        outcome = _Comparison(unit, system, reading, begun).carry_out()
        system.answer = (
            f"{_counted(outcome.grants_seen, 'grant')} and {_counted(outcome.sessions_seen, 'session')} seen; "
            f"{outcome.unrecorded} unrecorded ({outcome.newly_unrecorded} new), {outcome.missing} newly missing."
        )
        unit.record("system.read", "system", system.id, system.name, answer=system.answer)
    return outcome


def _counted(count: int, what: str) -> str:
    return f"{count} {what}{'s' * (count != 1)}"


def _note_down(unit: Unit, ident: UUID, answer: str) -> None:
    system = unit.db.get_one(System, ident, with_for_update=True)
    if system.down_since is None:
        unit.record("system.down", "system", system.id, system.name, answer=answer)
    system.down_since = system.down_since or unit.now
    system.answer = answer


class _Comparison:
    """One reading against the register."""

    def __init__(self, unit: Unit, system: System, reading: Reading, begun: datetime) -> None:
        self.unit, self.system, self.reading, self.begun = unit, system, reading, begun
        self.db, self.organisation = unit.db, unit.viewer.organisation
        self.touched: set[UUID] = set()

    def carry_out(self) -> Outcome:
        """Bring the register in line, and put every grant and session touched before the rules."""
        self.levels = self._levels()
        self.accounts = self._accounts()
        self.parts = self._parts()
        self.holders = self._holders()
        self.held: dict[tuple[str, str], UUID] = {}
        new = [grant for holding in self.reading.holdings if (grant := self._grant(holding)) is not None]
        unrecorded = self._count_unrecorded()
        missing = self._mark_missing()
        seen, ended = self._sessions()
        self._used()
        self.db.flush()
        flags.evaluate(self.unit, grants=sorted(self.touched), sessions=sorted(seen | ended))
        # What a system lets in can't be refused here; latches that it breaks are flagged.
        latching.evaluate(self.unit, [account.id for account in self.accounts.values()])
        return Outcome(len(self.reading.holdings), unrecorded, len(new), missing, len(seen), len(ended))

    def _count_unrecorded(self) -> int:
        counted = select(func.count(Grant.id)).where(Grant.id.in_(self.touched), ~Grant.recorded)
        return self.db.scalar(counted) or 0

    def _levels(self) -> dict[str, Level]:
        known = {x.key: x for x in self.db.scalars(select(Level).where(Level.system_id == self.system.id))}
        for level in self.reading.levels:
            if level.key not in known:
                known[level.key] = Level(
                    organisation_id=self.organisation,
                    system_id=self.system.id,
                    key=level.key,
                    name=level.name,
                    sentence=level.sentence,
                    permissions=[{"key": k, "sentence": s, "reach": r.word} for k, s, r in level.permissions],
                    reach=int(max(r for _, _, r in level.permissions)),
                )
                self.db.add(known[level.key])
        self.db.flush()
        return {str(key): level for key, level in known.items()}

    def _accounts(self) -> dict[str, Account]:
        known = {
            a.handle or a.key: a for a in self.db.scalars(select(Account).where(Account.system_id == self.system.id))
        }
        zone = self.db.get_one(Organisation, self.organisation).time_zone
        for found in self.reading.accounts:
            account = known.get(found.handle)
            if account is None:
                account = Account(
                    organisation_id=self.organisation,
                    system_id=self.system.id,
                    name=found.comment or f"{found.handle} in {self.system.name}",
                    kind=found.kind,
                    sensitivity=SENSITIVITY_OF_THE_UNKNOWN,
                    time_zone=zone,
                    handle=found.handle,
                )
                self.db.add(account)
                self.db.flush()
                self.unit.record("account.found", "account", account.id, account.name, account.id)
                known[found.handle] = account
            account.handle = found.handle
        return {str(handle): account for handle, account in known.items()}

    def _parts(self) -> dict[tuple[str, str], Resource]:
        """The parts of accounts, by account and part as the system names them."""
        names = {account.id: handle for handle, account in self.accounts.items()}
        rows = self.db.scalars(select(Resource).where(Resource.account_id.in_(names)))
        known = {(names[row.account_id], str(row.key)): row for row in rows}
        for found in self.reading.parts:
            row = known.get((found.account, found.handle))
            if row is None:
                row = known[found.account, found.handle] = Resource(
                    organisation_id=self.organisation,
                    account_id=self.accounts[found.account].id,
                    key=found.handle,
                    name=found.name,
                    kind=found.kind,
                )
                self.db.add(row)
            row.public = found.public
        self.db.flush()
        return known

    def _holders(self) -> dict[str, Handle]:
        known = {h.name: h for h in self.db.scalars(select(Handle).where(Handle.system_id == self.system.id))}
        for login in self.reading.logins:
            if login.handle not in known:
                known[login.handle] = self._meet(login)
        self.db.flush()
        return known

    def _meet(self, login: Login) -> Handle:
        """Put somebody into the register who was met only here."""
        handle = Handle(organisation_id=self.organisation, system_id=self.system.id, name=login.handle)
        if (known := self._told_by(login)) is not None:
            handle.person_id = known.id
            self.unit.record("person.matched", "person", known.id, known.name, system=self.system.name, by=login.handle)
        elif login.is_app:
            app = App(
                organisation_id=self.organisation,
                name=login.comment or login.handle,
                purpose=f"Met in {self.system.name}.",
            )
            self.db.add(app)
            self.db.flush()
            handle.app_id = app.id
            self.unit.record("app.found", "app", app.id, login.handle)
        else:
            person = Person(
                organisation_id=self.organisation, name=self._name_for(login), inside=False, recognised=False
            )
            self.db.add(person)
            self.db.flush()
            handle.person_id = person.id
            self.unit.record("person.found", "person", person.id, login.handle)
        self.db.add(handle)
        return handle

    def _name_for(self, login: Login) -> str:
        """What somebody is called who was met here: by the system's word, told apart from a person of that name."""
        name = login.comment or login.handle
        taken = self.db.scalar(select(Person.id).where(Person.name == name).limit(1))
        return name if taken is None or name == login.handle else f"{name} ({login.handle})"

    def _told_by(self, login: Login) -> Person | None:
        """The one recognised person with the login's address; None when there is none, or more than one."""
        address = login.marks.get("address", "").strip().lower()
        if login.is_app or not address:
            return None
        wanted = select(Person).where(func.lower(Person.address) == address, Person.recognised).limit(2)
        found = self.db.scalars(wanted).all()
        return found[0] if len(found) == 1 else None

    def _used(self) -> None:
        """Days of use, in the compact form in which they are kept."""
        days = [
            (grant, used.permission, used.day)
            for used in self.reading.used
            if (grant := self.held.get((used.account, used.holder))) is not None
        ]
        last: dict[UUID, date] = {}
        for ident, _, day in days:
            last[ident] = max(day, last.get(ident, day))
        for ident, day in last.items():
            row = self.db.get_one(Grant, ident)
            at = min(datetime.combine(day, time(), UTC) + timedelta(days=1), self.unit.now)
            row.last_used_at = max(at, row.last_used_at or at)
        self.db.flush()
        if days:
            using.keep(self.unit, days)

    def _grant(self, holding: Holding) -> Grant | None:
        """Bring one holding in line with the register; gives the grant when nobody had recorded it."""
        account = self.accounts[holding.account]
        owner: dict[str, UUID | None]
        if holding.holder_is_account:
            owner = {"holder_account_id": self.accounts[holding.holder].id}
        else:
            handle = self.holders[holding.holder]
            owner = {"person_id": handle.person_id, "app_id": handle.app_id}
        holder_id = next(value for value in owner.values() if value is not None)
        live = (GrantState.ACTIVE, GrantState.SUSPENDED, GrantState.REVOKING)
        found = self.db.scalars(
            select(Grant)
            .where(Grant.account_id == account.id, Grant.holder_id == holder_id, Grant.state.in_(live))
            .order_by(Grant.recorded.desc(), Grant.id)
        ).first()
        if found is not None:
            self.held[holding.account, holding.holder] = found.id
            self._seen(found, holding)
            return None
        # A reading that began before a revocation was confirmed shows what is gone by now.
        ended = select(Grant.id).where(
            Grant.account_id == account.id, Grant.holder_id == holder_id, Grant.ended_at >= self.begun
        )
        if self.db.scalars(ended).first() is not None:
            return None
        self._see_ended(account.id, holder_id)
        return self._record(account, owner, holding)

    def _see_ended(self, account: UUID, holder: UUID) -> None:
        """What had ended here and is there all the same: put down when it was seen, and flagged."""
        last = (
            select(Grant)
            .where(Grant.account_id == account, Grant.holder_id == holder, Grant.state == GrantState.ENDED)
            .order_by(Grant.ended_at.desc().nulls_last())
        )
        kept = self.db.scalars(last.where(Grant.recorded).limit(1)).first()
        if kept is not None:
            kept.seen_at = self.unit.now
            self.touched.add(kept.id)

    def _seen(self, grant: Grant, holding: Holding) -> None:
        if grant.missing_since is not None:
            grant.missing_since = None
            self._put_down("grant.back", grant, holding)
        grant.seen_at, grant.handle = self.unit.now, {**holding.handle, "login": holding.holder}
        if not grant.recorded:
            self._follow(grant, holding)
            self._see_ended(grant.account_id, grant.holder_id)
        self.touched.add(grant.id)

    def _follow(self, grant: Grant, holding: Holding) -> None:
        """Unrecorded access is just what the system says it is."""
        wanted = self._terms(holding)
        kept = self.db.scalars(select(Term).where(Term.grant_id == grant.id).order_by(Term.id)).all()
        if [(t.level_id, t.resource_id, t.until) for t in kept] == wanted:
            return
        for term in kept:
            self.db.delete(term)
        self.db.flush()
        self._add_terms(grant.id, wanted)
        self._put_down("grant.changed", grant, holding)

    def _terms(self, holding: Holding) -> list[tuple[UUID, UUID | None, datetime | None]]:
        """What a holding comes to: level, part or none for the whole account, and end."""
        whole = [(self.levels[holding.level].id, None, holding.until)] if holding.level else []
        some = [(self.levels[level].id, self.parts[holding.account, part].id, holding.until)
                for part, level in holding.parts]  # fmt: skip
        return [*whole, *some]

    def _add_terms(self, grant: UUID, terms: list[tuple[UUID, UUID | None, datetime | None]]) -> None:
        for level, part, until in terms:
            row = Term(organisation_id=self.organisation, grant_id=grant, level_id=level, resource_id=part, until=until)
            self.db.add(row)
            # One after the other, so that they come back in the order in which the system tells them.
            self.db.flush()

    def _record(self, account: Account, owner: dict[str, UUID | None], holding: Holding) -> Grant:
        grant = Grant(
            organisation_id=self.organisation,
            account_id=account.id,
            given_at=self.unit.now,
            recorded=False,
            reason=f"Found in {self.system.name}; nobody recorded that it was given.",
            seen_at=self.unit.now,
            handle={**holding.handle, "login": holding.holder},
            **owner,
        )
        self.db.add(grant)
        self.db.flush()
        self._add_terms(grant.id, self._terms(holding))
        self.held[holding.account, holding.holder] = grant.id
        self.touched.add(grant.id)
        self._put_down("grant.found", grant, holding)
        return grant

    def _put_down(self, action: str, grant: Grant, holding: Holding) -> None:
        name = f"{holding.holder} on {holding.account}"
        self.unit.record(action, "grant", grant.id, name, grant.account_id, level=holding.level, until=holding.until)

    def _mark_missing(self) -> int:
        """Grants on this system's accounts that the reading does not show."""
        handled = [a.id for h, a in self.accounts.items() if h in {x.handle for x in self.reading.accounts}]
        gone = self.db.scalars(
            select(Grant).where(
                Grant.account_id.in_(handled),
                Grant.state == GrantState.ACTIVE,
                Grant.missing_since.is_(None),
                Grant.owed.is_(None),
                Grant.state != GrantState.SUSPENDED,
                Grant.id.not_in(self.touched),
            )
        ).all()
        for grant in gone:
            if grant.recorded:
                grant.missing_since = self.unit.now
            else:
                # Nobody vouches for unrecorded access: when the system does not have it any more, it has ended.
                grant.state = move(GRANTS, "grant", GrantState(grant.state), GrantState.ENDED)
                grant.ended_as, grant.ended_at = EndedAs.REVOKED, self.unit.now
                self.touched.add(grant.id)
            action = "grant.missing" if grant.recorded else "grant.gone"
            self.unit.record(action, "grant", grant.id, self.system.name, grant.account_id)
        return sum(grant.recorded for grant in gone)

    def _sessions(self) -> tuple[set[UUID], set[UUID]]:
        """Sessions as the reading shows them; those it does not show any more have ended."""
        main = self._main_accounts()
        seen: set[UUID] = set()
        for presence in self.reading.presences:
            if presence.login in main:
                seen.add(self._session(presence, main[presence.login]))
        gone = self.db.scalars(
            select(Session).where(
                Session.account_id.in_([a.id for a in self.accounts.values()]),
                Session.ended_at.is_(None),
                Session.handle != {},
                Session.id.not_in(seen),
            )
        ).all()
        for session in gone:
            session.ended_at, session.ended_as = self.unit.now, session.ended_as or "signed_out"
            self.unit.record("session.ended", "session", session.id, session.device, session.account_id)
        return seen, {session.id for session in gone}

    def _main_accounts(self) -> dict[str, UUID]:
        """For each login the account in which its sessions count: where it reaches furthest."""
        reach = {level.key: max(r for _, _, r in level.permissions) for level in self.reading.levels}
        ordered = sorted(self.reading.holdings, key=lambda h: (reach.get(h.level, Reach.OBSERVE), h.account))
        return {h.holder: self.accounts[h.account].id for h in ordered if not h.holder_is_account}

    def _session(self, presence: Presence, account: UUID) -> UUID:
        handle = self.holders[presence.login]
        row = {
            "device": presence.device,
            "address": presence.address,
            "last_seen_at": presence.last_seen_at,
            "handle": {**presence.handle, "login": presence.login},
        }
        statement = insert(Session).values(
            organisation_id=self.organisation,
            key=f"{self.system.key}:{presence.key}",
            account_id=account,
            person_id=handle.person_id,
            app_id=handle.app_id,
            started_at=presence.started_at,
            **row,
        )
        upsert = statement.on_conflict_do_update(index_elements=["organisation_id", "key"], set_=row)
        ident: UUID = self.db.execute(upsert.returning(Session.id)).scalar_one()
        return ident
