"""Every way in, against every latch: what it would newly break is refused, and a fact that breaks one is flagged.

The two tables say all there are. One that is added to the program and not to them fails.
"""

from __future__ import annotations

import ast
import io
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest
from sqlalchemy import select

import openlatch.service
from openlatch.core import latches as core
from openlatch.core.files.records import RECORD_KINDS
from openlatch.core.latches import LatchKind, LatchMode
from openlatch.core.vocabulary import GrantState
from openlatch.errors import Held
from openlatch.runtime.cluster import Cluster
from openlatch.service import imports, undo
from openlatch.service.changes import changes
from openlatch.service.grants import levels, lifecycle
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.grants.lifecycle import Choice
from openlatch.service.grants.terms import TermWish
from openlatch.service.latches import guard
from openlatch.service.latches.guard import Setting
from openlatch.service.offers import answer
from openlatch.service.offers import manage as manage_offers
from openlatch.service.offers import send as send_offer
from openlatch.service.offers.answer import Answer
from openlatch.service.offers.preview import Proposal, To
from openlatch.service.partners import at_client
from openlatch.service.people import leavers
from openlatch.service.records import edit, existing_access, merge
from openlatch.service.requests import answer as answer_request
from openlatch.service.requests import ask as ask_access
from openlatch.service.revocations import prepare, revoke
from openlatch.service.systems import login_matching
from openlatch.service.unit import Unit, Viewer
from openlatch.store.database import transaction
from openlatch.store.tables import (
    Account,
    Breach,
    Grant,
    Handle,
    Latch,
    Level,
    Membership,
    Organisation,
    PartnerLink,
    Person,
    SignIn,
    System,
    Team,
    Term,
)
from tests.conftest import Clock, clone, service_on
from tests.service.conftest import Small

pytestmark = pytest.mark.usefixtures("nobody_gets_in_unguarded")

FILES = {
    "people": "key,name,address,inside,second_factor\nines,Ines,ines@example.org,yes,yes\n"
    "mara,Mara,mara@example.org,yes,yes\notto,Otto,otto@example.org,yes,yes\nquin,Quin,quin@example.net,no,no\n",
    "teams": "key,name\ncrew,Crew\n",
    "accounts": "key,name,system,sensitivity,owner\ngate,Gate,Gatehouse,3,ines\n",
    "levels": "system,key,name,sentence,permissions\n"
    "Gatehouse,look,Look,Looks.,gate.see|See it|observe\n"
    "Gatehouse,all,All,Does all.,gate.see|See it|observe//gate.pay|Pay|spend\n"
    "Gatehouse,keep,Keep,Keeps it.,gate.see|See it|observe//gate.share|Let others in|steward\n",
    "grants": "account,holder_kind,holder,level,until,given_by\n"
    "gate,person,otto,keep,2026-03-30,ines\ngate,team,crew,all,2026-03-30,ines\n",
    "memberships": "team,member\ncrew,mara\n",
    "resources": "account,key,name,public\ngate,door,Door,no\n",
}
NUMBERS = {LatchKind.MOST_DELEGATES: 2, LatchKind.ENDS_WITHIN: 30}
PAIR = ("gate.see", "gate.pay")


@dataclass
class Gate:
    """The account, within one transaction that is rolled back in the end."""

    unit: Unit

    def id(self, table: Any, key: str) -> UUID:
        return self.unit.db.scalars(select(table.id).where(table.key == key)).one()

    def as_(self, key: str, administrator: bool = False) -> Unit:
        person = self.unit.db.scalars(select(Person).where(Person.key == key)).one()
        viewer = Viewer(self.unit.viewer.organisation, person.name, person.id, administrator=administrator)
        return replace(self.unit, viewer=viewer, _sight=None)

    def bring(self, kind: str, written: str) -> None:
        report = imports.bring(
            replace(self.unit, _sight=None), kind, "csv", io.BytesIO(written.encode()), keep_good=False, try_only=False
        )
        assert report.kept, report.errors

    def choice(self, level: str = "all", days: int | None = None) -> Choice:
        return Choice((self.id(Level, level),), until=self.unit.now + timedelta(days=days) if days else None)

    def offer(self, level: str = "all", days: int | None = None) -> UUID:
        to = To(address="quin@example.net")
        proposal = Proposal(self.id(Account, "gate"), (to,), self.choice(level, days))
        return send_offer.send(self.as_("ines"), proposal)[0]

    def given(self, level: str = "all", days: int | None = None, state: GrantState = GrantState.ACTIVE) -> UUID:
        """A grant of the outsider's that is there already."""
        unit = self.as_("ines")
        account = unit.db.get_one(Account, self.id(Account, "gate"))
        terms = lifecycle.terms_from(unit, account, self.choice(level, days))
        holder = core.Holder(core.HolderKind.PERSON, self.id(Person, "quin"))
        grant = lifecycle.new_grant(unit, account, holder, terms, state, reason="Before.")
        unit.db.flush()
        return grant.id

    def held_by(self, key: str) -> UUID:
        of = select(Grant.id).where(
            Grant.holder_id == self.id(Person, key), Grant.account_id == self.id(Account, "gate")
        )
        return self.unit.db.scalars(of).one()

    def change(self, kind: ChangeKind, grant: UUID, **more: Any) -> None:
        changes.carry_out(self.as_("ines", administrator=True), Change(kind, "Test.", (grant,), **more))

    def emptied(self) -> None:
        """Nobody owns it any more."""
        self.unit.db.get_one(Account, self.id(Account, "gate")).owner_id = None
        self.unit.db.flush()


@dataclass(frozen=True)
class Way:
    """How somebody gets in, or a steward out: what is there before, what is done, and which latches that breaks."""

    before: Callable[[Gate], Any]
    done: Callable[[Gate, Any], Any]
    breaks: frozenset[LatchKind]
    is_fact: bool = False


K = LatchKind
ONE_MORE = frozenset(
    {K.MOST_DELEGATES, K.ONE_AT_A_TIME, K.NO_OUTSIDERS, K.NO_SPEND_OUTSIDE, K.SECOND_FACTOR, K.NEVER_TOGETHER}
)
FOR_EVER = ONE_MORE | {K.ENDS_WITHIN}
OUTSIDE = frozenset({K.NO_OUTSIDERS, K.NO_SPEND_OUTSIDE})
STEWARD = frozenset({K.TWO_STEWARDS})


def nothing(gate: Gate) -> None:
    """There is nothing before."""


def _asked(gate: Gate) -> UUID:
    wish = ask_access.Wish("Work.", account_name="Gate", level=gate.id(Level, "all"))
    return UUID(str(ask_access.ask(gate.as_("quin"), wish).id))


def _owning(gate: Gate) -> UUID:
    gate.unit.db.get_one(Person, gate.id(Person, "quin")).address_confirmed_at = gate.unit.now
    gate.given("look", 20)
    offered = send_offer.offer_ownership(gate.as_("ines"), gate.id(Account, "gate"), gate.id(Person, "quin"), None, "")
    return UUID(str(offered.id))


def _met(gate: Gate) -> UUID:
    """Somebody whom only the system knows, who has access there."""
    system = gate.unit.db.scalars(select(System).where(System.name == "Gatehouse")).one()
    met = Person(
        organisation_id=gate.unit.viewer.organisation,
        key="met",
        name="q.uin",
        inside=True,
        second_factor=True,
        recognised=False,
    )
    gate.unit.db.add(met)
    gate.unit.db.flush()
    login = Handle(organisation_id=met.organisation_id, system_id=system.id, name="q.uin", person_id=met.id)
    gate.unit.db.add(login)
    gate.unit.db.flush()
    gate.bring("grants", "account,holder,level,until\ngate,met,look,2026-03-20\n")
    return login.id


def _linked(gate: Gate) -> UUID:
    """A partner that is linked, and names somebody: here one and the same organisation is both."""
    here = gate.unit.viewer.organisation
    sign_in = str(gate.unit.db.scalars(select(SignIn.id)).first())
    person = {"person": str(gate.id(Person, "quin")), "sign_in": sign_in, "name": "Zoe", "address": "zoe@care.example"}
    link = PartnerLink(
        partner_id=here,
        partner_name="Care",
        client_id=here,
        client_slug="test",
        client_name="Test",
        people=[person],
        team_id=gate.id(Team, "crew"),
        offered_at=gate.unit.now,
        offered_by="Zoe",
        accepted_at=gate.unit.now,
    )
    gate.unit.db.add(link)
    gate.unit.db.flush()
    return link.id


def _revoked(gate: Gate) -> UUID:
    return revoke.start(gate.as_("ines"), prepare.Wish((gate.given(),)), "A mistake.")


def _unrecorded(gate: Gate) -> UUID:
    grant = gate.unit.db.get_one(Grant, gate.given("look", 20))
    grant.recorded = False
    gate.emptied()
    return grant.id


def _stewards_in_the_crew(gate: Gate) -> UUID:
    """The crew decides who gets in, and Mara alone is in it; Otto does not any more."""
    gate.unit.db.delete(gate.unit.db.scalars(select(Term).where(Term.grant_id == gate.held_by("otto"))).one())
    gate.bring("grants", "account,holder_kind,holder,level,until,given_by\ngate,team,crew,keep,2026-03-30,ines\n")
    return gate.unit.db.scalars(select(Membership.id).where(Membership.team_id == gate.id(Team, "crew"))).one()


def _differing(gate: Gate) -> UUID:
    grant = gate.unit.db.get_one(Grant, gate.given("look", 20))
    grant.differs = {"level": "All", "terms": [[str(gate.id(Level, "all")), None]]}
    gate.unit.db.flush()
    return grant.id


WAYS: dict[str, Way] = {
    "an offer is sent": Way(nothing, lambda g, _: g.offer(), FOR_EVER),
    "an offer is changed": Way(
        lambda g: g.offer("look", 20),
        lambda g, offer: manage_offers.change(g.as_("ines"), offer, g.choice(), None),
        FOR_EVER,
    ),
    "an offer is accepted": Way(
        lambda g: g.offer(), lambda g, offer: answer.accept(g.as_("quin"), offer, Answer(1)), FOR_EVER
    ),
    "ownership is accepted": Way(
        _owning,
        lambda g, offer: answer._accept(g.as_("quin"), offer, 1, by_link=True),
        frozenset({K.NO_SPEND_OUTSIDE}),
    ),
    "a request is granted": Way(
        _asked, lambda g, asked: answer_request.grant(g.as_("ines"), asked, Choice(), "", None, None), FOR_EVER
    ),
    "an emergency": Way(
        lambda g: setattr(g.unit.db.get_one(Account, g.id(Account, "gate")), "emergency_hours", 8),
        lambda g, _: ask_access.ask(
            g.as_("quin"), ask_access.Wish("Now.", account_name="Gate", level=g.id(Level, "all"), emergency=True)
        ),
        ONE_MORE,
    ),
    "resume": Way(
        lambda g: g.given(state=GrantState.SUSPENDED), lambda g, grant: g.change(ChangeKind.RESUME, grant), ONE_MORE
    ),
    "set_level": Way(
        lambda g: g.given("look", 20),
        lambda g, grant: g.change(ChangeKind.SET_LEVEL, grant, level=g.id(Level, "all")),
        frozenset({K.NO_SPEND_OUTSIDE, K.NEVER_TOGETHER}),
    ),
    "set_level of a steward": Way(
        lambda g: g.held_by("otto"),
        lambda g, grant: g.change(ChangeKind.SET_LEVEL, grant, level=g.id(Level, "look")),
        STEWARD,
    ),
    "set_end": Way(
        lambda g: g.given("look", 20),
        lambda g, grant: g.change(ChangeKind.SET_END, grant, no_end=True),
        frozenset({K.ENDS_WITHIN}),
    ),
    "suspend": Way(lambda g: g.held_by("otto"), lambda g, grant: g.change(ChangeKind.SUSPEND, grant), STEWARD),
    "end": Way(lambda g: g.held_by("otto"), lambda g, grant: g.change(ChangeKind.END, grant), STEWARD),
    "replace": Way(
        lambda g: g.held_by("otto"),
        lambda g, grant: g.change(ChangeKind.REPLACE, grant, successor=g.id(Person, "quin")),
        OUTSIDE | {K.ONE_AT_A_TIME, K.SECOND_FACTOR},
    ),
    "adopt": Way(
        _unrecorded,
        lambda g, grant: g.change(ChangeKind.ADOPT, grant, successor=g.id(Person, "quin")),
        frozenset({K.NO_SPEND_OUTSIDE}),
    ),
    "adopt what differs": Way(
        _differing,
        lambda g, grant: g.change(ChangeKind.ADOPT, grant),
        frozenset({K.NO_SPEND_OUTSIDE, K.NEVER_TOGETHER}),
    ),
    "a level is changed": Way(
        lambda g: g.given("look", 20),
        lambda g, _: levels.change(
            g.as_("ines", administrator=True), g.id(Level, "look"), levels.Draft("Look", "Looks.", PAIR), "", None
        ),
        frozenset({K.NO_SPEND_OUTSIDE, K.NEVER_TOGETHER}),
    ),
    "a revocation is undone": Way(
        _revoked, lambda g, row: undo.undo(g.as_("ines", administrator=True), row, "Needed."), FOR_EVER
    ),
    "a revocation": Way(
        lambda g: g.held_by("otto"),
        lambda g, grant: revoke.start(g.as_("ines"), prepare.Wish((grant,)), "Over."),
        STEWARD,
    ),
    "a file of grants": Way(nothing, lambda g, _: g.bring("grants", "account,holder,level\ngate,quin,all\n"), FOR_EVER),
    "a file of memberships": Way(nothing, lambda g, _: g.bring("memberships", "team,member\ncrew,quin\n"), ONE_MORE),
    "a file of accounts": Way(
        nothing,
        lambda g, _: g.bring("accounts", "key,name,system,sensitivity,owner\ngate,Gate,Gatehouse,3,quin\n"),
        OUTSIDE,
    ),
    "a file of levels": Way(
        lambda g: g.given("look", 20),
        lambda g, _: g.bring(
            "levels",
            "system,key,name,sentence,permissions\n"
            "Gatehouse,look,Look,Looks.,gate.see|See it|observe//gate.pay|Pay|spend\n",
        ),
        frozenset({K.NO_SPEND_OUTSIDE, K.NEVER_TOGETHER}),
    ),
    "a file of resources": Way(
        nothing,
        lambda g, _: g.bring("resources", "account,key,name,public\ngate,door,Door,yes\n"),
        frozenset({K.NOTHING_PUBLIC}),
    ),
    "a file of people": Way(
        nothing,
        lambda g, _: g.bring("people", "key,name,inside,second_factor\nmara,Mara,no,no\n"),
        OUTSIDE,
        is_fact=True,
    ),
    "a file of people who left": Way(
        nothing, lambda g, _: g.bring("people", "key,name,standing\notto,Otto,left\n"), STEWARD, is_fact=True
    ),
    "somebody leaves": Way(
        nothing,
        lambda g, _: leavers.start(
            g.as_("ines", administrator=True), leavers.Plan(g.id(Person, "otto"), {}), "They left."
        ),
        STEWARD,
        is_fact=True,
    ),
    "an account passes on from a leaver": Way(
        nothing,
        lambda g, _: leavers.start(
            g.as_("otto", administrator=True),
            leavers.Plan(g.id(Person, "ines"), {g.id(Account, a): g.id(Person, "quin") for a in ("box", "gate")}),
            "They left.",
        ),
        OUTSIDE,
    ),
    "set_terms": Way(
        lambda g: g.given("look", 20),
        lambda g, grant: g.change(
            ChangeKind.SET_TERMS, grant, terms=(TermWish(g.id(Level, "look")), TermWish(g.id(Level, "all")))
        ),
        frozenset({K.NO_SPEND_OUTSIDE, K.NEVER_TOGETHER, K.ENDS_WITHIN}),
    ),
    "a membership by hand": Way(
        nothing,
        lambda g, _: edit.make(
            g.as_("ines", administrator=True),
            "memberships",
            {
                "team": g.id(Team, "crew"),
                "person": g.id(Person, "quin"),
                "member_team": None,
                "since": None,
                "last_day": None,
            },
        ),
        ONE_MORE,
    ),
    "an owner by hand": Way(
        nothing,
        lambda g, _: edit.change(
            g.as_("ines", administrator=True), "accounts", g.id(Account, "gate"), {"owner": g.id(Person, "quin")}
        ),
        OUTSIDE,
    ),
    "a membership taken out by hand": Way(
        _stewards_in_the_crew,
        lambda g, row: edit.remove(g.as_("ines", administrator=True), "memberships", row),
        STEWARD,
    ),
    "existing access is recorded": Way(
        nothing,
        lambda g, _: existing_access.record(
            g.as_("ines", administrator=True),
            [
                existing_access.Known(
                    g.id(Account, "gate"),
                    core.HolderKind.PERSON,
                    g.id(Person, "quin"),
                    g.id(Level, "all"),
                    evidence="Seen there.",
                )
            ],
            only_preview=False,
        ),
        FOR_EVER,
        is_fact=True,
    ),
    "two people are one": Way(
        lambda g: g.held_by("otto"),
        lambda g, _: merge.merge(
            g.as_("ines", administrator=True), "people", g.id(Person, "quin"), g.id(Person, "otto")
        ),
        OUTSIDE | {K.ONE_AT_A_TIME, K.SECOND_FACTOR},
        is_fact=True,
    ),
    "a partner's people come in": Way(
        _linked,
        lambda g, link: at_client.carry_out(g.as_("ines", administrator=True), g.unit.db.get_one(PartnerLink, link)),
        ONE_MORE,
    ),
    "a login is somebody": Way(
        _met,
        lambda g, login: login_matching.decide(g.as_("ines", administrator=True), login, g.id(Person, "quin")),
        frozenset({K.MOST_DELEGATES, K.ONE_AT_A_TIME, K.NO_OUTSIDERS, K.SECOND_FACTOR}),
        is_fact=True,
    ),
}

# What goes through the guard, by function, and the ways that come by it.
GUARDED = {
    "answer._come_into_force": ("an offer is accepted",),
    "answer._take_over": ("ownership is accepted",),
    "change_types.guarded": ("resume", "set_level", "set_end", "suspend", "replace", "adopt", "set_terms"),
    "ask._emergency": ("an emergency",),
    "answer.grant": ("a request is granted",),
    "levels.change": ("a level is changed",),
    "imports.bring": tuple(way for way in WAYS if way.startswith("a file of")),
    "undo._put_back": ("a revocation is undone",),
    "at_client.carry_out": ("a partner's people come in",),
    "leavers.start": ("an account passes on from a leaver",),
    "login_matching.decide": ("a login is somebody",),
    "edit.make": ("a membership by hand",),
    "edit.change": ("an owner by hand",),
    "edit.remove": ("a membership taken out by hand",),
    "existing_access.record": ("existing access is recorded",),
    "existing_access._preview": (),
    "merge.preview": (),
    "imports._tried": (),
    "merge.merge": ("two people are one",),
    "merge.undo": (),
}
# Changes and files by which nobody gets in: what is recorded stays as it was, or says nothing of who has access.
NO_WAY = {ChangeKind.RESTORE, ChangeKind.ACCEPT, "teams", "apps", "handles", "marks", "places", "sessions", "use"}


def test_every_way_is_here() -> None:
    """What goes through the guard, every kind of change to a grant, and every kind of file."""
    found = set()
    for path in Path(openlatch.service.__file__).parent.rglob("*.py"):
        for function in ast.walk(ast.parse(path.read_text())):
            if (isinstance(function, ast.FunctionDef) and function.name != "guarded") or path.stem == "change_types":
                calls = [ast.unparse(call.func) for call in ast.walk(function) if isinstance(call, ast.Call)]
                if "guard.guarded" in calls and isinstance(function, ast.FunctionDef):
                    found.add(f"{path.stem}.{function.name}")
    assert found == set(GUARDED)
    assert {way for ways in GUARDED.values() for way in ways} <= set(WAYS)
    assert {kind for kind in ChangeKind if kind not in WAYS} == {k for k in NO_WAY if isinstance(k, ChangeKind)}
    assert {kind for kind in RECORD_KINDS if f"a file of {kind}" not in WAYS} == NO_WAY - set(ChangeKind)


@pytest.fixture(scope="module")
def gate_template(cluster: Cluster, small_template: str) -> str:
    """A database with the account, made once and copied for each way."""
    name = clone(cluster, small_template, "template_gate")
    service = service_on(cluster, name, Clock())
    with transaction(service.engine, None) as db:
        itself = Viewer.itself(db.scalars(select(Organisation.id)).one())
    for kind, written in FILES.items():
        with service.unit(itself) as unit:
            Gate(unit).bring(kind, written)
    service.engine.dispose()
    return name


@pytest.fixture
def template(gate_template: str) -> str:
    return gate_template


class _Back(Exception):
    pass


def attempt(gate: Gate, way: Way, mode: LatchMode) -> tuple[set[str], set[str], bool]:
    """A way in, with every latch in a mode: what it breaks by the core, what refused it, and whether it is flagged."""
    account = gate.id(Account, "gate")
    # What is there already was let in before there was a latch.
    gate.unit.db.info["guarded"] = 1
    before = way.before(gate)
    gate.unit.db.flush()
    gate.unit.db.info["guarded"] = 0
    settings = [
        Setting(kind, mode, account, None, NUMBERS.get(kind), PAIR if kind is K.NEVER_TOGETHER else ("", ""))
        for kind in LatchKind
    ]
    for one in settings:
        row = Latch(account_id=account, kind=one.kind, mode=one.mode, number=one.number, pair=[*filter(None, one.pair)])
        row.organisation_id = gate.unit.viewer.organisation
        gate.unit.db.add(row)
    gate.unit.db.flush()
    guard.evaluate(gate.unit, [account])

    def crowd() -> core.Crowd:
        gate.unit.db.flush()
        gate.unit.db.expire_all()
        return guard.crowds(gate.unit, [account])[account]

    was = crowd()
    try:
        way.done(gate, before)
    except Held as error:
        return set(), {breach["kind"] for breach in error.breaches}, False
    broken = {b.latch.kind.value for b in core.newly_broken([s.latch for s in settings], was, crowd())}
    flagged = gate.unit.db.scalars(select(Breach.account_id).where(Breach.account_id == account)).first() is not None
    return broken, set(), flagged


@pytest.mark.parametrize("name", WAYS)
def test_a_way_in_and_every_latch(small: Small, name: str) -> None:
    """What it breaks is only warned of and flagged, or held, and by just those latches; a fact is never held."""
    way = WAYS[name]
    found = {}
    for mode in (LatchMode.WARN, LatchMode.HOLD):
        with suppress(_Back), small.service.unit(small.itself) as unit:
            found[mode] = attempt(Gate(unit), way, mode)
            raise _Back
    # An offer only prepares: the latch is broken when it is accepted, which another row says.
    prepares = name in ("an offer is sent", "an offer is changed")
    breaks = {kind.value for kind in way.breaks}
    assert found[LatchMode.WARN] == (set() if prepares else breaks, set(), not prepares or found[LatchMode.WARN][2])
    assert found[LatchMode.HOLD] == ((breaks, set(), True) if way.is_fact else (set(), breaks, False))
