"""What could be done about open flags: every action, with what its preview needs and what speaks against it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import or_, select

from openlatch import schemas
from openlatch.core.counts import counted
from openlatch.core.flags.limits import NEVER
from openlatch.core.flags.next_actions import ActionKind
from openlatch.core.time_windows import day_in_words, end_of_last_day, ends_on, zone_of
from openlatch.core.vocabulary import GrantState, Judgement, Reach, Standing, SystemKind
from openlatch.json_values import JsonObject
from openlatch.service.flags import evaluate as evaluate_flags
from openlatch.service.grants import usage
from openlatch.service.next_actions import suppositions
from openlatch.service.next_actions.suppositions import Supposition
from openlatch.service.unit import Unit
from openlatch.store.lists.register import LIVE
from openlatch.store.tables import Account, App, Exposure, Grant, Handle, Level, Person, Session, System, Team, Term

# How far off the end is that is proposed where no limit says for how long access may be given; the same for use.
USUAL_DAYS = 365
_TRIMMED_TO_USE = frozenset({"excess_rights", "app_excess", "outsider_far_reach", "app_far_reach"})
_MENDED_BY_AN_END = frozenset({"no_end_date", "long_window", "holder_leaving"})
_NOT_RECORDED = frozenset({"unrecorded", "changed"})
_WITHOUT_OWNER = frozenset({"owner_left", "no_steward"})
_OF_EXPOSURES = frozenset(
    {
        "exposure_new",
        "exposure_grown",
        "anyone_changes",
        "sensitive_open",
        "intended_over",
        "exposure_unclear",
        "guard_broken",
    }
)
_UNDECIDED = "review_overdue"


@dataclass(frozen=True, slots=True)
class OpenFlag:
    """An open flag, as far as choosing among actions needs it."""

    id: UUID
    rule: str
    subject: str
    subject_id: UUID
    account: UUID | None
    holder: UUID


@dataclass(frozen=True, slots=True)
class Proposal:
    """An action.

    ``suppose`` leaves the register as the action would; without it the action clears just ``flags``. ``loses`` is who
    may lose their last path, and into which account. ``by_hand`` names the system in which people have to carry it
    out, ``asks`` says who has to agree.
    """

    kind: ActionKind
    subject: UUID
    title: str
    flags: tuple[UUID, ...]
    suppose: Supposition | None = None
    account: UUID | None = None
    holder: UUID | None = None
    grants: tuple[UUID, ...] = ()
    sessions: tuple[UUID, ...] = ()
    exposures: tuple[UUID, ...] = ()
    level: schemas.Named | None = None
    until: datetime | None = None
    successor: schemas.Named | None = None
    loses: tuple[UUID, UUID] | None = None
    used_at: datetime | None = None
    by_hand: str = ""
    asks: str = ""

    @property
    def key(self) -> str:
        """What names the action, as of its candidate."""
        return f"{self.kind}.{self.subject}"

    @property
    def stored(self) -> JsonObject:
        """What showing it takes, as it is stored."""
        return {
            "title": self.title,
            "grants": [str(ident) for ident in self.grants],
            "sessions": [str(ident) for ident in self.sessions],
            "exposures": [str(ident) for ident in self.exposures],
            "level": self.level.model_dump(mode="json") if self.level else None,
            "until": self.until.isoformat() if self.until else None,
            "successor": self.successor.model_dump(mode="json") if self.successor else None,
            "used_at": self.used_at.isoformat() if self.used_at else None,
            "checks_path": self.loses is not None,
            "by_hand": self.by_hand,
            "asks": self.asks,
        }


def proposals(unit: Unit, flags: Sequence[OpenFlag]) -> Iterator[Proposal]:
    """Everything that could be done about these flags."""
    yield from _Proposals(unit, flags).all()


class _Proposals:
    """Open flags, and what the register says of their subjects."""

    def __init__(self, unit: Unit, flags: Sequence[OpenFlag]) -> None:
        self.unit, self.flags = unit, flags
        db = unit.db
        self.on: dict[tuple[str, UUID], list[OpenFlag]] = defaultdict(list)
        for flag in flags:
            self.on[flag.subject, flag.subject_id].append(flag)
        live = select(Grant).where(Grant.id.in_(self._subjects("grant")), Grant.state.in_(LIVE))
        self.grants = {row.id: row for row in db.scalars(live)}
        self.terms: dict[UUID, list[Term]] = defaultdict(list)
        for term in db.scalars(select(Term).where(Term.grant_id.in_(self.grants))):
            self.terms[term.grant_id].append(term)
        signed_in = select(Session).where(Session.id.in_(self._subjects("session")), Session.ended_at.is_(None))
        self.sessions = {row.id: row for row in db.scalars(signed_in)}
        about = {flag.account for flag in flags if flag.account}
        self.accounts = {row.id: row for row in db.scalars(select(Account).where(Account.id.in_(about)))}
        holders = {flag.holder for flag in flags}
        self.people = {row.id: row for row in db.scalars(select(Person).where(Person.id.in_(holders)))}
        self.names: Mapping[UUID, str] = {ident: person.name for ident, person in self.people.items()}
        for table in (Team, App, Account):
            self.names |= dict(db.execute(select(table.id, table.name).where(table.id.in_(holders))).all())
        manual = select(System.id, System.name).where(System.kind == SystemKind.BY_HAND)
        self.by_hand = dict(db.execute(manual).all())

    def _subjects(self, kind: str) -> set[UUID]:
        return {ident for of, ident in self.on if of == kind}

    def all(self) -> Iterator[Proposal]:
        for (kind, ident), flags in self.on.items():
            if kind == "grant" and ident in self.grants:
                yield from self._about_grant(self.grants[ident], flags)
            elif kind == "account" and ident in self.accounts:
                yield from self._about_account(self.accounts[ident], flags)
            yield self._accepted(flags)
        yield from self._of_sessions()
        yield from self._of_leavers()
        yield from self._reviews()
        yield from self._of_unidentified()

    def _about_grant(self, grant: Grant, flags: Sequence[OpenFlag]) -> Iterator[Proposal]:
        if grant.state == GrantState.REVOKING:
            return
        rules = {flag.rule for flag in flags}
        if not grant.by_system:
            yield self._ended(grant, flags)
        if rules & _TRIMMED_TO_USE:
            yield from self._trimmed(grant, flags)
        if rules & _MENDED_BY_AN_END:
            yield from self._with_end(grant, flags)
        if rules & _NOT_RECORDED:
            yield self._on_grant(
                ActionKind.RECORD,
                grant,
                flags,
                f"Record {self._access(grant)} as the system has it",
                suppositions.recorded(grant.id),
                asks="Somebody has to know that it is meant to be so.",
            )

    def _on_grant(
        self,
        kind: ActionKind,
        grant: Grant,
        flags: Sequence[OpenFlag],
        title: str,
        suppose: Supposition,
        **more: object,
    ) -> Proposal:
        values = {"grants": (grant.id,), "account": grant.account_id, "holder": grant.holder_id, **more}
        return Proposal(kind, grant.id, title, _ids(flags), suppose, **values)  # type: ignore[arg-type]

    def _ended(self, grant: Grant, flags: Sequence[OpenFlag]) -> Proposal:
        person = self.people.get(grant.holder_id)
        has_left = person is not None and person.standing == Standing.LEFT
        return self._on_grant(
            ActionKind.END,
            grant,
            flags,
            f"End {self._access(grant)}",
            suppositions.ended(self.unit.now, [grant.id]),
            loses=(grant.holder_id, grant.account_id) if person is not None and not has_left else None,
            used_at=None if has_left else grant.last_used_at,
            by_hand=self._hands(grant.account_id),
        )

    def _trimmed(self, grant: Grant, flags: Sequence[OpenFlag]) -> Iterator[Proposal]:
        """To the smallest level that covers what was used; nothing where use does not show one."""
        level = usage.of_grant(self.unit, grant.id, USUAL_DAYS).level
        if level is not None:
            yield self._on_grant(
                ActionKind.TRIM,
                grant,
                flags,
                f"Trim {self._access(grant)} to “{level.name}”, which covers all use known of the last 365 days",
                suppositions.trimmed(grant.id, [term.id for term in self.terms[grant.id]], level.id),
                level=level,
                by_hand=self._hands(grant.account_id),
            )

    def _with_end(self, grant: Grant, flags: Sequence[OpenFlag]) -> Iterator[Proposal]:
        account = self.accounts[grant.account_id]
        zone = zone_of(account.time_zone)
        person = self.people.get(grant.holder_id)
        until = self._last_day_of(person) or self._usual_end(account)
        if until is not None:
            longer = [t.id for t in self.terms[grant.id] if t.until is None or t.until > until]
            yield self._on_grant(
                ActionKind.SET_END,
                grant,
                flags,
                f"Let {self._access(grant)} end on {day_in_words(ends_on(until, zone), zone)}",
                suppositions.ending(grant.id, longer, until),
                until=until,
            )

    def _left(self, person: Person) -> str:
        zone = self.unit.zone
        return f"left on {day_in_words(ends_on(person.leaves_at, zone), zone)}" if person.leaves_at else "has left"

    @staticmethod
    def _last_day_of(person: Person | None) -> datetime | None:
        return person.leaves_at if person is not None and person.standing == Standing.LEAVING else None

    def _usual_end(self, account: Account) -> datetime | None:
        """As far off as access may be given there, and no more than a year."""
        zone = zone_of(account.time_zone)
        limit = evaluate_flags.ruling(self.unit).settings.limit("window", account.sensitivity)
        days = USUAL_DAYS if limit == NEVER else min(limit, USUAL_DAYS)
        return end_of_last_day(self.unit.now.astimezone(zone).date() + timedelta(days=days - 1), zone)

    def _about_account(self, account: Account, flags: Sequence[OpenFlag]) -> Iterator[Proposal]:
        rules = {flag.rule for flag in flags}
        if rules & _WITHOUT_OWNER:
            successor = self._successor(account)
            if successor is not None:
                yield Proposal(
                    ActionKind.HAND_OVER,
                    account.id,
                    f"Hand {account.name} over to {successor.name}",
                    _ids(flags),
                    suppositions.owned(account.id, account.owner_id, successor.id),
                    account.id,
                    successor=successor,
                    asks=f"{successor.name} has to accept it.",
                )
        if rules & _OF_EXPOSURES:
            exposures = tuple(
                self.unit.db.scalars(
                    select(Exposure.id).where(
                        Exposure.account_id == account.id,
                        Exposure.gone_at.is_(None),
                        ~Exposure.is_blocked,
                        Exposure.expected_by_id.is_(None),
                        or_(
                            Exposure.judgement != Judgement.INTENDED,
                            Exposure.intended_until <= self.unit.now,
                            Exposure.against != [],
                        ),
                    )
                )
            )
            if exposures:
                yield Proposal(
                    ActionKind.CLOSE_EXPOSURES,
                    account.id,
                    f"Close {counted(len(exposures), 'exposure')} of {account.name} that nobody has called intended",
                    _ids(flags),
                    suppositions.closed(self.unit.now, account.id, exposures),
                    account.id,
                    exposures=exposures,
                    by_hand=self._hands(account.id),
                    asks="People outside may rely on it.",
                )

    def _successor(self, account: Account) -> schemas.Named | None:
        """Somebody inside who decides who gets in already; else the former owner's manager or deputy."""
        db, now = self.unit.db, self.unit.now
        decides = (
            select(Person)
            .join(Grant, Grant.person_id == Person.id)
            .join(Term, Term.grant_id == Grant.id)
            .join(Level, Level.id == Term.level_id)
            .where(Grant.account_id == account.id, Grant.state == GrantState.ACTIVE, Level.reach == int(Reach.STEWARD))
            .where(Person.standing == Standing.CURRENT, Person.inside, or_(Term.until.is_(None), Term.until > now))
            .order_by(Grant.last_used_at.desc().nulls_last(), Person.id)
        )
        found = db.scalars(decides).first()
        if found is None and account.owner_id is not None:
            owner = db.get_one(Person, account.owner_id)
            near = [db.get(Person, ident) for ident in (owner.manager_id, owner.deputy_id) if ident]
            found = next((each for each in near if each is not None and each.standing == Standing.CURRENT), None)
        return schemas.Named(id=found.id, name=found.name) if found else None

    def _of_sessions(self) -> Iterator[Proposal]:
        """The flagged sessions of one holder in one account, together."""
        together: dict[tuple[UUID, UUID], list[UUID]] = defaultdict(list)
        for session in self.sessions.values():
            together[session.account_id, session.holder_id].append(session.id)
        for (account, holder), ids in together.items():
            whose = _possessive(self.names.get(holder, "somebody"))
            many = counted(len(ids), "session") if len(ids) > 1 else "session"
            yield Proposal(
                ActionKind.END_SESSIONS,
                min(ids),
                f"End {whose} {many} in {self.accounts[account].name}",
                self._ids_on("session", ids),
                suppositions.ended(self.unit.now, (), ids),
                account,
                holder,
                sessions=tuple(ids),
                by_hand=self._hands(account),
            )

    def _of_leavers(self) -> Iterator[Proposal]:
        """All flagged access that somebody who left still has, at once."""
        for person in self.people.values():
            if person.standing != Standing.LEFT:
                continue
            grants = [
                row.id
                for row in self.grants.values()
                if row.holder_id == person.id and not row.by_system and row.state != GrantState.REVOKING
            ]
            sessions = [row.id for row in self.sessions.values() if row.holder_id == person.id]
            if len(grants) > 1 or (grants and sessions):
                yield Proposal(
                    ActionKind.END,
                    person.id,
                    f"End {counted(len(grants), 'grant')} of {person.name}, who {self._left(person)}",
                    (*self._ids_on("grant", grants), *self._ids_on("session", sessions)),
                    suppositions.ended(self.unit.now, grants, sessions),
                    holder=person.id,
                    grants=tuple(grants),
                    sessions=tuple(sessions),
                )

    def _reviews(self) -> Iterator[Proposal]:
        """A review of what an earlier one left undecided, account by account."""
        undecided: dict[UUID, list[UUID]] = defaultdict(list)
        for flag in self.flags:
            if flag.rule == _UNDECIDED and flag.subject_id in self.grants and flag.account is not None:
                undecided[flag.account].append(flag.subject_id)
        for account, grants in undecided.items():
            yield Proposal(
                ActionKind.REVIEW,
                account,
                f"Review {counted(len(grants), 'grant')} on {self.accounts[account].name} left undecided by a review",
                self._ids_on("grant", grants),
                suppositions.reviewed(grants),
                account,
                grants=tuple(grants),
            )

    def _of_unidentified(self) -> Iterator[Proposal]:
        """Logins of which the marks say whose they may be; only where that is one person."""
        wanted = select(Handle).where(Handle.person_id.in_(self.people), Handle.candidates != [], ~Handle.settled)
        for login in self.unit.db.scalars(wanted):
            grants = [row.id for row in self.grants.values() if row.person_id == login.person_id]
            if len(login.candidates) != 1 or not grants or login.person_id is None:
                continue
            person = self.unit.db.get(Person, UUID(login.candidates[0]["person"]))
            if person is not None:
                yield Proposal(
                    ActionKind.IDENTIFY,
                    login.person_id,
                    f"Identify the login {login.name} as {person.name}",
                    self._ids_on("grant", grants),
                    suppositions.identified(grants, login.person_id, person.id),
                    holder=login.person_id,
                    grants=tuple(grants),
                    successor=schemas.Named(id=person.id, name=person.name),
                    asks=f"Somebody has to know that it is the login of {person.name}.",
                )

    def _accepted(self, flags: Sequence[OpenFlag]) -> Proposal:
        first = flags[0]
        account = self.accounts[first.account].name if first.account in self.accounts else ""
        who = self.names.get(first.holder, "")
        about = f"{_possessive(who)} access to {account}" if first.subject == "grant" else account or who
        return Proposal(
            ActionKind.ACCEPT,
            first.subject_id,
            f"Accept {counted(len(flags), 'flag')} on {about}, with a reason",
            _ids(flags),
            account=first.account,
            holder=first.holder,
        )

    def _ids_on(self, kind: str, subjects: Sequence[UUID]) -> tuple[UUID, ...]:
        return tuple(flag.id for subject in subjects for flag in self.on.get((kind, subject), ()))

    def _access(self, grant: Grant) -> str:
        account = self.accounts[grant.account_id].name
        return f"{_possessive(self.names.get(grant.holder_id, 'somebody'))} access to {account}"

    def _hands(self, account: UUID) -> str:
        return self.by_hand.get(self.accounts[account].system_id, "")


def _ids(flags: Sequence[OpenFlag]) -> tuple[UUID, ...]:
    return tuple(flag.id for flag in flags)


def _possessive(name: str) -> str:
    return f"{name}’" if name.endswith("s") else f"{name}’s"
