"""Sequences of calls by several people of two organisations: after each, nobody sees more than the core says they may,
no latch on hold is broken anew, and both journals verify.
"""

from __future__ import annotations

import io
import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test
from sqlalchemy import select

from openlatch.core import latches as core
from openlatch.core.access import paths as access_paths
from openlatch.core.journal import chain
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.register import Holder
from openlatch.core.vocabulary import HolderKind
from openlatch.errors import OpenLatchError
from openlatch.runtime.cluster import Cluster
from openlatch.service import imports, undo
from openlatch.service.changes import changes
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.identity import authentication
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.lists import register
from openlatch.service.offers import answer
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.answer import Answer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.revocations import prepare, revoke
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store import journal
from openlatch.store.access import subgraph
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import (
    AccessRequest,
    Account,
    Grant,
    Level,
    Membership,
    Offer,
    Person,
    Resource,
    Revocation,
    Session,
    Team,
)
from tests.conftest import Clock, clone, service_on
from tests.service.conftest import FILES

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")

PEOPLE = ("ada", "ines", "mara", "owen", "edda")
TABLES = (Account, Person, Grant, Level, Offer, AccessRequest, Revocation, Team, Session)
STEPS, EXAMPLES = 20, 12


@dataclass
class Call:
    """What somebody asks for, with ids of either organisation."""

    unit: Unit
    ids: dict[Any, UUID]
    number: int

    def id(self, table: Any) -> UUID:
        return self.ids[table]

    def choice(self) -> Choice:
        until = self.unit.now + timedelta(days=self.number * 10) if self.number % 2 else None
        return Choice((self.id(Level),), until=until)


def change(kind: ChangeKind) -> Callable[[Call], Any]:
    """A change of a grant."""

    def done(call: Call) -> Any:
        more = {
            "level": call.id(Level),
            "successor": call.id(Person),
            "no_end": call.number % 2 == 0,
            "until": None if call.number % 2 == 0 else call.unit.now + timedelta(days=30),
        }
        return changes.carry_out(call.unit, Change(kind, "Test.", (call.id(Grant),), **more))

    return done


def bring(call: Call) -> None:
    """A line of a file of grants or of memberships."""
    kinds = {
        "grants": "account,holder,level\nbox,owen,run\n",
        "memberships": "team,member\nwardens,ines\n",
        "accounts": "key,name,system,sensitivity,owner\nbox,Box,Mail,3,owen\n",
    }
    kind = sorted(kinds)[call.number % 3]
    imports.bring(call.unit, kind, "csv", io.BytesIO(kinds[kind].encode()), keep_good=False, try_only=False)


def latch(call: Call) -> None:
    """A latch on an account."""
    kind = list(LatchKind)[call.number % len(LatchKind)]
    number = {LatchKind.MOST_DELEGATES: 3, LatchKind.ENDS_WITHIN: 60}.get(kind)
    pair = ("mail.read", "mail.share") if kind is LatchKind.NEVER_TOGETHER else ("", "")
    guard.switch(call.unit, Setting(kind, LatchMode.HOLD, call.id(Account), None, number, pair))


CALLS: dict[str, Callable[[Call], Any]] = {
    "offer": lambda c: send_offer.send(
        c.unit, Proposal(c.id(Account), (To(person=c.id(Person)) if c.number % 2 else To(team=c.id(Team)),), c.choice())
    ),
    "accept": lambda c: answer.accept(c.unit, c.id(Offer), Answer(1)),
    "decline": lambda c: answer.decline(c.unit, c.id(Offer), Answer(1), False),
    "change offer": lambda c: manage_offers.change(c.unit, c.id(Offer), c.choice(), None),
    "ask": lambda c: ask_access.ask(c.unit, ask_access.Wish("Work.", c.id(Account), level=c.id(Level))),
    "ask by name": lambda c: ask_access.ask(c.unit, ask_access.Wish("Work.", account_name="Box", level=c.id(Level))),
    "grant": lambda c: answer_request.grant(c.unit, c.id(AccessRequest), c.choice(), "", c.id(Account), None),
    **{kind.value: change(kind) for kind in ChangeKind},
    "revoke": lambda c: revoke.start(c.unit, prepare.Wish((c.id(Grant),)), "Over."),
    "end session": lambda c: revoke.start(c.unit, prepare.Wish((), (c.id(Session),)), "Over."),
    "undo": lambda c: undo.undo(c.unit, c.id(Revocation), "Needed."),
    "latch": latch,
    "bring": bring,
}
# After these a latch may be broken that was not on, or not broken, before: it was switched on.
SWITCHES = {"latch"}


class Two:
    """Two organisations with the same register in one database."""

    def __init__(self, cluster: Cluster, template: str) -> None:
        self.clock = Clock()
        self.service: Service = service_on(cluster, clone(cluster, template), self.clock)
        authentication.make_organisation(
            self.service, "Other", "other", "Europe/London", "Ada Admin", "ada@other.example.org", "a long password"
        )
        self.viewers: list[Viewer] = []
        for slug in ("test", "other"):
            itself = authentication.service_viewer(self.service, slug)
            if slug == "other":
                for kind, written in FILES.items():
                    with self.service.unit(itself) as unit:
                        imports.bring(unit, kind, "csv", io.BytesIO(written.encode()), False, False)
            with self.service.unit(itself) as unit:
                for person in unit.db.scalars(select(Person)):
                    key = "ada" if person.name == "Ada Admin" else person.key
                    if key in PEOPLE:
                        self.viewers.append(Viewer(itself.organisation, key, person.id, administrator=key == "ada"))

    def ids(self, viewer: Viewer, foreign: bool) -> dict[Any, list[UUID]]:
        """All ids of each kind in somebody's organisation, or in the other."""
        (organisation,) = {v.organisation for v in self.viewers if (v.organisation != viewer.organisation) == foreign}
        with self.service.unit(Viewer.itself(organisation)) as unit:
            return {table: list(unit.db.scalars(select(table.id).order_by(table.id.desc()))) for table in TABLES}


def allowed(unit: Unit, viewer: Viewer) -> dict[str, set[UUID]]:
    """What somebody may see, from the whole register and by the core alone."""
    db = unit.db
    owners = dict(db.execute(select(Account.id, Account.owner_id)).all())
    if viewer.administrator:
        return {kind: set(db.scalars(select(table.id))) for kind, table in LISTED.items()}
    whole = subgraph.around_accounts(db, list(owners))
    paths = access_paths.everything_reached(whole, Holder(HolderKind.PERSON, viewer.person), unit.now)  # type: ignore[arg-type]
    owned = {account for account, owner in owners.items() if owner == viewer.person}
    reached = {path.account for path in paths}
    grants = db.scalars(select(Grant)).all()
    on_owned = [grant for grant in grants if grant.account_id in owned]
    teams = {grant.team_id for grant in on_owned if grant.team_id}
    members = db.execute(select(Membership.team_id, Membership.member_id)).all()
    own = {team for team, member in members if member == viewer.person}
    return {
        "accounts": owned | reached,
        "grants": {g.id for g in on_owned}
        | {g.id for g in grants if g.holder_id == viewer.person}
        | {grant for path in paths for grant in path.grants},
        "people": {g.person_id for g in on_owned} | {m for t, m in members if t in teams} | {viewer.person},
        "teams": teams | own,
        "sessions": {
            s.id for s in db.scalars(select(Session)) if s.account_id in owned or s.holder_id == viewer.person
        },
        "offers": {
            o.id
            for o in db.scalars(select(Offer))
            if o.account_id in owned or viewer.person in (o.person_id, o.sender_id)
        },
        "resources": {r.id for r in db.scalars(select(Resource)) if r.account_id in owned | reached},
    }  # type: ignore[return-value]


LISTED: dict[str, Any] = {
    "accounts": Account,
    "grants": Grant,
    "people": Person,
    "teams": Team,
    "sessions": Session,
    "offers": Offer,
    "resources": Resource,
}


class Sequences(RuleBasedStateMachine):
    """Calls, one after the other."""

    def __init__(self, two: Two) -> None:
        super().__init__()
        self.two = two
        self.switched, self.changed = False, True
        self.broken = self._broken()

    def teardown(self) -> None:
        self.two.service.engine.dispose()

    @rule(who=st.integers(0, 999), name=st.sampled_from([*sorted(CALLS), "later"]), pick=st.integers(0, 9999))
    def call(self, who: int, name: str, pick: int) -> None:
        """Somebody asks for something, with ids that are theirs to see or are not; or time goes on."""
        self.changed = True
        if name == "later":
            self.two.clock.forward(days=1 + pick % 40)
            return
        viewer = self.two.viewers[who % len(self.two.viewers)]
        # One time in seven with ids of the other organisation.
        known = self.two.ids(viewer, foreign=who % 7 == 0)
        chance = random.Random(pick)
        ids = {table: chance.choice(found) for table, found in known.items() if found}
        self.switched = name in SWITCHES
        try:
            with self.two.service.unit(viewer) as unit:
                CALLS[name](Call(unit, ids, pick % 10))
        except (KeyError, OpenLatchError):
            # It was refused, or there is nothing of that kind yet: nothing is kept.
            self.changed = False

    @invariant()
    def promises_hold(self) -> None:
        """All of them, whenever something was kept."""
        if not self.changed:
            return
        for viewer in self.two.viewers:
            with self.two.service.unit(viewer) as unit:
                may = allowed(unit, viewer)
                for kind, ids in may.items():
                    shown = {UUID(str(row["id"])) for row in register.page(unit, kind, ListQuery(limit=500)).rows}
                    assert shown <= ids, (viewer.name, kind, shown - ids)
        broken = self._broken()
        assert self.switched or not broken - self.broken, broken - self.broken
        self.broken = broken
        for organisation in {viewer.organisation for viewer in self.two.viewers}:
            with self.two.service.unit(Viewer.itself(organisation)) as unit:
                assert chain.verify(journal.export(unit.db, organisation), journal.head(unit.db)).sound

    def _broken(self) -> set[Any]:
        """Each latch on hold that is broken, by account and fact."""
        found = set()
        for organisation in {viewer.organisation for viewer in self.two.viewers}:
            with self.two.service.unit(Viewer.itself(organisation)) as unit:
                latched = guard.in_force(unit)
                for account, crowd in guard.crowds(unit, list(latched)).items():
                    hold = [latch for latch in latched[account] if latch.mode is LatchMode.HOLD]
                    found |= {(account, latch.kind, key) for latch in hold for key in core.broken(latch, crowd)}
        return found


def test_no_sequence_of_calls_breaks_a_promise(cluster: Cluster, small_template: str) -> None:
    """Of several people, in two organisations, with ids of both."""
    few = settings(
        settings.default,
        max_examples=min(settings.default.max_examples, 200) * EXAMPLES // 200,
        stateful_step_count=STEPS,
    )
    run_state_machine_as_test(lambda: Sequences(Two(cluster, small_template)), settings=few)
