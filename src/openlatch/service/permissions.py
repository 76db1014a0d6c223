"""Who may see what, and who may do what: decided here and nowhere else.

* An administrator sees everything in the organisation.
* An owner sees everything about the accounts they own, and everyone who reaches them.
* A reviewer sees the items that are theirs, with the facts frozen in them.
* Anyone sees their own access: the accounts that they reach (without who else does), their grants and sessions.
* Somebody switched into an account sees that account and nothing else, whoever they are. With steward reach there they
  answer for it as its owner does, except for what only the owner may do: its ownership and its latches.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlalchemy import ColumnElement, Select, and_, false, or_, select, true
from sqlalchemy.orm import InstrumentedAttribute
from sqlalchemy.orm import Session as Db

from openlatch.core.access import paths as access_paths
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind, Reach
from openlatch.errors import NotAllowed, NotFound
from openlatch.store.access import subgraph
from openlatch.store.tables import (
    AccessRequest,
    Account,
    App,
    Exposure,
    Flag,
    Grant,
    HandTask,
    Item,
    JournalEntry,
    Latch,
    Membership,
    Notice,
    Offer,
    Person,
    Question,
    Resource,
    ResourceGroup,
    Revocation,
    RevocationTarget,
    Round,
    Schedule,
    Session,
    System,
    Team,
    Visit,
)

Condition = ColumnElement[bool]


@dataclass(frozen=True, slots=True)
class Sight:
    """What one viewer may see. ``owned`` and ``reached`` are accounts, ``held`` the grants on their own paths."""

    everything: bool
    person: UUID | None
    owned: frozenset[UUID] = frozenset()
    reached: frozenset[UUID] = frozenset()
    held: frozenset[UUID] = frozenset()
    inside: UUID | None = None
    now: datetime | None = None

    @classmethod
    def of(
        cls,
        db: Db,
        person: UUID | None,
        administrator: bool,
        now: datetime,
        inside: tuple[UUID, frozenset[str] | None] | None = None,
    ) -> Sight:
        """The permissions of a person, from what they own and reach.

        ``inside`` is the account in which they act, with the permissions they act by, unless by all.
        """
        if person is not None and inside is not None:
            return cls._within(db, person, now, *inside)
        if administrator:
            return cls(True, person, now=now)
        if person is None:
            return cls(False, None)
        holder = Holder(HolderKind.PERSON, person)
        paths = access_paths.everything_reached(subgraph.around_holder(db, holder), holder, now)
        own = db.scalars(select(Grant.id).where(Grant.holder_id == person))
        return cls(
            False,
            person,
            frozenset(db.scalars(select(Account.id).where(Account.owner_id == person))),
            frozenset(path.account for path in paths),
            frozenset(own) | {grant for path in paths for grant in path.grants},
            now=now,
        )

    @classmethod
    def _within(cls, db: Db, person: UUID, now: datetime, account: UUID, scope: frozenset[str] | None) -> Sight:
        holder = Holder(HolderKind.PERSON, person)
        register = subgraph.between(db, holder, account)
        paths = [
            p for p in access_paths.paths_to(register, holder, account, now) if access_paths.open_now(register, p, now)
        ]
        if not paths:
            raise NotAllowed("Your access to this account is over.", "Switch out of it.")
        of_all = {permission for path in paths if path.part is None for permission in path.permissions}
        steward = {p.key for p in of_all if p.reach is Reach.STEWARD}
        decides = frozenset({account}) if (steward if scope is None else steward & scope) else None
        held = frozenset(grant for path in paths for grant in path.grants)
        return cls(False, person, decides or frozenset(), frozenset({account}), held, account, now)

    # What may be seen, as list conditions.

    def _own(self, mine: Condition, account: InstrumentedAttribute[object] | None = None) -> Condition:
        """What is the viewer's own; inside an account only what belongs to that account."""
        if self.inside is None:
            return mine
        return false() if account is None else and_(mine, account == self.inside)

    def accounts(self) -> Condition:
        """Accounts owned or reached."""
        return true() if self.everything else Account.id.in_(self.owned | self.reached)

    def grants(self) -> Condition:
        """Grants on owned accounts, and one's own paths."""
        return true() if self.everything else or_(Grant.account_id.in_(self.owned), Grant.id.in_(self.held))

    def sessions(self) -> Condition:
        """Sessions in owned accounts, and one's own."""
        mine = self._own(Session.holder_id == self.person, Session.account_id)
        return true() if self.everything else or_(Session.account_id.in_(self.owned), mine)

    def people(self) -> Condition:
        """People who hold something on owned accounts, alone or in a team, and oneself."""
        if self.everything:
            return Person.merged_into_id.is_(None)
        return or_(
            Person.id == self.person, Person.id.in_(self._holders(Grant.person_id)), Person.id.in_(self._members())
        )

    def teams(self) -> Condition:
        """Teams that hold something on owned accounts, and one's own."""
        if self.everything:
            return true()
        mine = Team.id.in_(select(Membership.team_id).where(Membership.member_id == self.person))
        return or_(Team.id.in_(self._holders(Grant.team_id)), self._own(mine))

    def apps(self) -> Condition:
        """Apps linked to owned accounts, and those linked by oneself."""
        if self.everything:
            return App.merged_into_id.is_(None)
        own = self._own(Grant.given_by_id == self.person, Grant.account_id)
        mine = select(Grant.app_id).where(own, Grant.app_id.is_not(None))
        return or_(App.id.in_(self._holders(Grant.app_id)), App.id.in_(mine))

    def flags(self) -> Condition:
        """Flags on owned accounts, and those about oneself."""
        mine = self._own(Flag.holder_id == self.person, Flag.account_id)
        return true() if self.everything else or_(Flag.account_id.in_(self.owned), mine)

    def rounds(self) -> Condition:
        """Rounds in which one has something to decide."""
        return true() if self.everything else Round.id.in_(select(Item.round_id).where(self.my_items()))

    def items(self) -> Condition:
        """The items that are one's own to decide."""
        return true() if self.everything else self.my_items()

    def my_items(self) -> Condition:
        """Items that are one's own: as reviewer, as second, in a team, or as deputy of somebody who is away."""
        teams = select(Membership.team_id).where(
            Membership.member_id == self.person,
            or_(Membership.since.is_(None), Membership.since <= self.now),
            or_(Membership.until.is_(None), Membership.until > self.now),
        )
        away = select(Person.id).where(
            Person.deputy_id == self.person,
            Person.away_since <= self.now,
            or_(Person.away_until.is_(None), Person.away_until > self.now),
        )
        mine = or_(Item.reviewer_id == self.person, Item.second_id == self.person)
        return self._own(or_(mine, Item.reviewer_team_id.in_(teams), Item.reviewer_id.in_(away)))

    def questions(self) -> Condition:
        """Questions put to oneself, and those about items that are one's own to decide."""
        if self.everything:
            return true()
        mine = select(Item.id).where(self.my_items())
        return self._own(or_(Question.person_id == self.person, Question.item_id.in_(mine)))

    def revocations(self) -> Condition:
        """Revocations that touch owned accounts or one's own grants, and those that one asked for."""
        if self.everything:
            return true()
        touching = select(RevocationTarget.revocation_id).where(
            or_(RevocationTarget.account_id.in_(self.owned), RevocationTarget.grant_id.in_(self.held))
        )
        return or_(Revocation.id.in_(touching), self._own(Revocation.asked_by_id == self.person))

    def journal(self) -> Condition:
        """Entries about owned accounts, and those of one's own doing."""
        mine = self._own(JournalEntry.actor_id == self.person, JournalEntry.account_id)
        return true() if self.everything else or_(JournalEntry.account_id.in_(self.owned), mine)

    def offers(self) -> Condition:
        """Offers on owned accounts, those to oneself, and those that one sent."""
        mine = self._own(or_(Offer.person_id == self.person, Offer.sender_id == self.person), Offer.account_id)
        return true() if self.everything else or_(Offer.account_id.in_(self.owned), mine)

    def requests(self) -> Condition:
        """Requests for owned accounts or put to one's own address, and one's own."""
        if self.everything:
            return true()
        address = select(Person.address).where(Person.id == self.person).scalar_subquery()
        to_me = and_(AccessRequest.account_id.is_(None), AccessRequest.owner_address == address)
        mine = self._own(AccessRequest.person_id == self.person, AccessRequest.account_id)
        return or_(AccessRequest.account_id.in_(self.owned), self._own(to_me), mine)

    def hand_tasks(self) -> Condition:
        """What is to be done by hand for owned accounts, and what one is asked to do."""
        mine = self._own(HandTask.assigned_to_id == self.person, HandTask.account_id)
        return true() if self.everything else or_(HandTask.account_id.in_(self.owned), mine)

    def notices(self) -> Condition:
        """One's own, whoever one is."""
        return self._own(Notice.person_id == self.person)

    def resources(self) -> Condition:
        """Those of accounts that may be seen."""
        return true() if self.everything else Resource.account_id.in_(self.owned | self.reached)

    def groups(self) -> Condition:
        """Groups of resources of accounts that may be seen."""
        return true() if self.everything else ResourceGroup.account_id.in_(self.owned | self.reached)

    def exposures(self) -> Condition:
        """Those of owned accounts."""
        return true() if self.everything else Exposure.account_id.in_(self.owned)

    def latches(self) -> Condition:
        """Those on owned accounts, and on their kinds."""
        if self.everything:
            return true()
        kinds = select(Account.kind).where(Account.id.in_(self.owned))
        return or_(Latch.account_id.in_(self.owned), Latch.account_kind.in_(kinds))

    def visits(self) -> Condition:
        """Visits to owned accounts, and one's own."""
        mine = self._own(Visit.person_id == self.person, Visit.account_id)
        return true() if self.everything else or_(Visit.account_id.in_(self.owned), mine)

    def schedules(self) -> Condition:
        """Schedules are for administrators; reviewers see the rounds that come of them."""
        return true() if self.everything else Schedule.id.in_([])

    def systems(self) -> Condition:
        """Systems are for administrators; others see the names beside their accounts."""
        return true() if self.everything else System.id.in_([])

    def levels(self) -> Condition:
        """Levels carry no secret: anyone may read what they mean, so that they can ask for one."""
        return true() if self.everything or self.person else false()

    def _holders(self, column: InstrumentedAttribute[UUID | None]) -> Select[UUID | None]:
        return select(column).where(Grant.account_id.in_(self.owned), column.is_not(None))

    def _members(self) -> Select[UUID | None]:
        return select(Membership.person_id).where(
            Membership.team_id.in_(self._holders(Grant.team_id)), Membership.person_id.is_not(None)
        )

    # What may be done.

    def require_administrator(self) -> None:
        """NotAllowed for anyone else."""
        if not self.everything:
            raise NotAllowed("Only an administrator may do this.", "Ask an administrator of your organisation.")

    def require_owns(self, account: UUID) -> None:
        """Only the account's owner or an administrator may, and nobody on the owner's behalf."""
        self.require_answers_for(account)
        if self.inside is not None:
            raise NotAllowed("This stays with the account's owner.", "Ask the owner to do it.")

    def require_answers_for(self, account: UUID) -> None:
        """Only the account's owner or an administrator may; NotFound when it can't even be seen."""
        if self.everything or account in self.owned:
            return
        if account in self.reached:
            raise NotAllowed("Only the account's owner or an administrator may do this.", "Ask the owner.")
        raise NotFound("There is no such account, or you may not see it.")
