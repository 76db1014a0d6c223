"""Open Latch in its own register: read, reviewed, ended, and never without an administrator."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import UUID

import pytest
from sqlalchemy import select

from openlatch import schemas
from openlatch.adapters import Reading
from openlatch.core.vocabulary import Role, StepKind
from openlatch.errors import SystemRefused
from openlatch.service.identity import authentication, invitations, sign_ins
from openlatch.service.itself import set_up
from openlatch.service.itself.adapter import Itself
from openlatch.service.revocations import execute, prepare, revoke
from openlatch.service.systems import readings, setup
from openlatch.service.webhooks import manage as webhooks
from openlatch.store.tables import (
    Account,
    ApiToken,
    Flag,
    Grant,
    Person,
    Revocation,
    Schedule,
    Session,
    SignIn,
    Step,
    System,
    Webhook,
    WebSession,
)
from tests.service.conftest import Small


def ident(small: Small) -> UUID:
    with small.service.unit(small.itself) as unit:
        return unit.db.scalars(select(System.id).where(System.kind == "open_latch")).one()


def read(small: Small) -> None:
    """Put it into the register, once, and read it."""
    set_up.ensure(small.service, small.itself)
    assert readings.read(small.service, small.itself.organisation, ident(small)) is not None


def held(small: Small, level: str) -> set[str]:
    """Who holds a level of it."""
    found = small.names(small.itself, "grants", filter=f'account.name eq "Open Latch" and level eq "{level}"')
    return {name.removesuffix(" on Open Latch") for name in found}


def end(small: Small, **wish: object) -> dict[str, str]:
    """Revoke, carry out; the states of the steps with their answers."""
    with small.service.unit(small.itself) as unit:
        revocation = revoke.start(unit, prepare.Wish(**wish), "No longer needed")  # type: ignore[arg-type]
    for _ in range(5):
        small.clock.now += timedelta(minutes=10)
        execute.carry_out(small.service, small.itself.organisation, revocation)
    with small.service.unit(small.itself) as unit:
        assert unit.db.get_one(Revocation, revocation)
        return {step.kind: f"{step.state}: {step.answer}" for step in unit.db.scalars(select(Step))}


def test_it_is_put_in_once_with_a_review_every_quarter(small: Small) -> None:
    """Also when two workers find it missing; its account is the first administrator's."""
    with small.service.unit(small.itself) as unit:
        first = unit.db.scalars(select(SignIn.person_id).where(SignIn.role == Role.ADMINISTRATOR)).one()
    for _ in range(2):
        set_up.ensure(small.service, small.itself)
    with small.service.unit(small.itself) as unit:
        account = unit.db.scalars(select(Account).where(Account.kind == "register")).one()
        assert account.owner_id == first
        assert account.is_closed
        schedule = unit.db.scalars(select(Schedule)).one()
        assert (schedule.name, schedule.scope) == ("Who is in Open Latch", f'account.id eq "{account.id}"')
        assert "open_latch" not in {one.kind for one in setup.adapters()}


@pytest.fixture
def known(small: Small) -> Small:
    """Ines administers, Mara is a member with a token; a webhook, a provider and an invitation are there."""
    for key in ("ines", "mara"):
        small.signed_in(key)
    with small.service.unit(small.itself) as unit:
        for row in unit.db.scalars(select(SignIn)):
            row.role = "administrator" if row.person_id == small.person("ines") else "member"
    ines = replace(small.as_("ines"), administrator=True)
    with small.service.unit(ines) as unit:
        sign_in = unit.db.scalars(select(SignIn).where(SignIn.person_id == small.person("mara"))).one()
        unit.db.add(
            ApiToken(
                organisation_id=ines.organisation,
                sign_in_id=sign_in.id,
                name="Nightly",
                token_hash=b"1",
                scope="write",
                expires_at=unit.now + timedelta(days=30),
            )
        )
        webhooks.add(unit, schemas.SetWebhook(name="Duty", url="https://receiver.example.org/hook"))
        invitations.invite(unit, small.person("owen"), "", "", Role.REVIEWER)
    return small


def test_everybody_and_every_program_that_gets_in_is_read(known: Small) -> None:
    """By their roles; sessions and tokens beside."""
    read(known)
    with known.service.unit(known.itself) as unit:
        # Whoever was let in was let in here: nothing of it is unrecorded.
        assert all(unit.db.scalars(select(Grant.recorded).where(Grant.handle["kind"].astext == "sign_in")))
    assert held(known, "Administrator") == {"Ines"}
    assert held(known, "Member") == {"Mara", "Ada Admin"}
    assert held(known, "Reviewer") == {"Owen"}
    assert held(known, "Is told") == {"Webhook Duty"}
    with known.service.unit(known.itself) as unit:
        devices = set(unit.db.scalars(select(Session.device).where(Session.ended_at.is_(None), Session.handle != {})))
        assert "API token, Nightly" in devices
        assert "Test" in devices
        # Nothing secret is read.
        assert "token_hash" not in str(list(Itself(known.service, known.itself.organisation).read()))


def test_a_sign_in_a_program_and_a_session_are_ended_and_confirmed(known: Small) -> None:
    """By the use cases of the service itself, which the journal has, too."""
    read(known)
    with known.service.unit(known.itself) as unit:
        of = {grant.holder_id: grant.id for grant in unit.db.scalars(select(Grant).where(Grant.handle != {}))}
        token = unit.db.scalars(select(Session.id).where(Session.device == "API token, Nightly")).one()
        hook = unit.db.scalars(
            select(Grant.id).where(Grant.app_id.is_not(None), Grant.handle["kind"].astext == "webhook")
        ).one()
    steps = end(known, grants=(), sessions=(token,))
    assert steps["end_sessions"].startswith("done: The token is ended")
    with known.service.unit(known.itself) as unit:
        assert unit.db.scalars(select(ApiToken)).all() == []
    end(known, grants=(hook, of[known.person("mara")]))
    with known.service.unit(known.itself) as unit:
        assert unit.db.scalars(select(Webhook)).all() == []
        assert known.person("mara") not in set(unit.db.scalars(select(SignIn.person_id)))
        assert (
            unit.db.scalars(select(WebSession).join(SignIn).where(SignIn.person_id == known.person("mara"))).all() == []
        )
        assert unit.db.get_one(Grant, of[known.person("mara")]).proof == "confirmed"


def test_the_last_administrator_stays(known: Small) -> None:
    """Whatever a revocation or a trim asks for: the step is refused, in words."""
    read(known)
    with known.service.unit(known.itself) as unit:
        last = unit.db.scalars(
            select(Grant.id).where(Grant.person_id == known.person("ines"), Grant.handle["kind"].astext == "sign_in")
        ).one()
    steps = end(known, grants=(last,))
    assert "Nobody would administer" in steps["remove"]
    with known.service.unit(known.itself) as unit:
        assert unit.db.get_one(Grant, last).state != "ended"
    own = Itself(known.service, known.itself.organisation)
    login = next(one.handle for one in Reading.of(own.read()).logins if one.comment.startswith("Ines"))
    handle = {"kind": "sign_in", "login": login}
    for kind, detail in ((StepKind.REDUCE, {**handle, "to": "member"}), (StepKind.LOCK, {"login": login})):
        with pytest.raises(SystemRefused, match="Nobody would administer"):
            own.apply(kind, detail)
        assert own.confirm(kind, detail) is not None


def test_a_role_is_reduced_and_a_sign_in_locked_once(known: Small) -> None:
    """What is so already is left alone."""
    own = Itself(known.service, known.itself.organisation)
    with known.service.unit(known.itself) as unit:
        login = str(unit.db.scalars(select(SignIn.id).where(SignIn.person_id == known.person("mara"))).one())
        sign_ins.set_role(unit, UUID(login), Role.REVIEWER)
    detail = {"kind": "sign_in", "login": login, "to": "member"}
    assert own.can_reduce("reviewer", "member")
    assert not own.can_reduce("member", "administrator")
    assert own.apply(StepKind.REDUCE, detail) == "The role is member now."
    assert "already" in own.apply(StepKind.REDUCE, detail)
    # What has become less meanwhile is less; what has become something else is never made more.
    assert own.confirm(StepKind.REDUCE, {**detail, "to": "auditor"}) is None
    with known.service.unit(known.itself) as unit:
        sign_ins.set_role(unit, UUID(login), Role.REVIEWER)
    with pytest.raises(SystemRefused, match="is reviewer by now"):
        own.apply(StepKind.REDUCE, {**detail, "to": "auditor"})
    for kind, wrong in ((StepKind.LOCK, "not suspended"), (StepKind.UNLOCK, "suspended")):
        assert wrong in (own.confirm(kind, {"login": login}) or "")
        own.apply(kind, {"login": login})
        assert own.confirm(kind, {"login": login}) is None


def test_no_organisation_reads_or_changes_another(known: Small) -> None:
    """Whose register it is comes from the system's row."""
    other = authentication.make_organisation(
        known.service, "Other", "other", "UTC", "Ola", "ola@example.net", "a long password"
    )
    theirs = Itself(known.service, other.organisation)
    assert {one.comment for one in Reading.of(theirs.read()).logins if not one.is_app} == {"Ola, ola@example.net"}
    with known.service.unit(known.itself) as unit:
        login = str(unit.db.scalars(select(SignIn.id).where(SignIn.person_id == known.person("mara"))).one())
    assert "already" in theirs.apply(StepKind.REMOVE, {"kind": "sign_in", "login": login})
    with known.service.unit(known.itself) as unit:
        assert unit.db.get(SignIn, UUID(login)) is not None


def test_stale_sign_ins_are_flagged_like_any_access(known: Small) -> None:
    """An administrator who has not been there for long."""
    with known.service.unit(known.itself) as unit:
        for row in unit.db.scalars(select(SignIn)):
            row.last_seen_at = unit.now - timedelta(days=300)
    read(known)
    with known.service.unit(known.itself) as unit:
        account = unit.db.scalars(select(Account.id).where(Account.kind == "register")).one()
        raised = set(unit.db.scalars(select(Flag.rule).where(Flag.account_id == account, Flag.state == "open")))
    assert "unused" in raised


def test_a_role_that_is_set_or_taken_away_elsewhere_is_followed(known: Small) -> None:
    """It is no drift: roles are set in Open Latch, by whatever page."""
    read(known)
    with known.service.unit(known.itself) as unit:
        of = {row.person_id: row for row in unit.db.scalars(select(SignIn))}
        sign_ins.set_role(unit, of[known.person("mara")].id, Role.REVIEWER)
        sign_ins.take_away(unit, next(row.id for row in of.values() if row.address.startswith("ada")))
    read(known)
    assert held(known, "Reviewer") == {"Mara", "Owen"}
    with known.service.unit(known.itself) as unit:
        here = Grant.handle["kind"].astext == "sign_in"
        assert unit.db.scalars(select(Grant.differs).where(here, Grant.differs.is_not(None))).all() == []
        assert unit.db.scalars(select(Grant.missing_since).where(here, Grant.missing_since.is_not(None))).all() == []
        assert unit.db.scalars(select(Grant.state).where(here, Grant.state == "ended")).all() == ["ended"]


def test_an_invitation_is_neither_reduced_nor_locked_while_it_is_open(known: Small) -> None:
    """It lets somebody in as what it says until it is withdrawn: nothing else counts as done."""
    own = Itself(known.service, known.itself.organisation)
    (login,) = [one.handle for one in Reading.of(own.read()).logins if one.handle.startswith("invitation:")]
    detail = {"kind": "invitation", "login": login}
    for kind, wanted in ((StepKind.REDUCE, {**detail, "to": "member"}), (StepKind.LOCK, {"login": login})):
        assert own.confirm(kind, wanted) is not None
        with pytest.raises(SystemRefused):
            own.apply(kind, wanted)
    assert own.confirm(StepKind.UNLOCK, {"login": login}) is not None
    own.apply(StepKind.REMOVE, detail)
    assert own.confirm(StepKind.REMOVE, detail) is own.confirm(StepKind.LOCK, {"login": login}) is None


def test_whoever_signs_in_is_the_person_that_they_are(known: Small) -> None:
    """Whatever addresses they have: nobody is met anew, and nobody has to be told apart."""
    with known.service.unit(known.itself) as unit:
        unit.db.get_one(Person, known.person("mara")).address = None
        before = set(unit.db.scalars(select(Person.id)))
    read(known)
    assert "Mara" in held(known, "Member")
    with known.service.unit(known.itself) as unit:
        assert set(unit.db.scalars(select(Person.id))) == before
