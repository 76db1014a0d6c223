"""Sign-ins: invited, given a role, suspended, taken away; passwords forgotten and changed; one's own page."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from uuid import UUID

import pyotp
import pytest
from sqlalchemy import select, text

from openlatch.core.vocabulary import Role
from openlatch.errors import (
    BadInput,
    Conflict,
    FactorNeeded,
    NotAllowed,
    NotFound,
    NotSignedIn,
    OpenLatchError,
    ProofNeeded,
)
from openlatch.service.identity import authentication, invitations, passwords, recovery, second_factor, sign_ins
from openlatch.service.identity.authentication import Factor
from openlatch.service.notifications import notices
from openlatch.service.own import my_access, own_page
from openlatch.service.people import leavers
from openlatch.service.records import edit
from openlatch.service.unit import Unit, Viewer
from openlatch.store.tables import ApiToken, Mail, SignIn, WebSession
from tests.service.conftest import PASSWORD, Small, link_to, mailed

NEW = "seven quiet lanterns burn"


@pytest.fixture
def ada(small: Small) -> Viewer:
    """The one administrator, signed in with a fresh proof."""
    who = authentication.check_password(small.service, "ada@example.org", "a long password", "test")
    opened = authentication.open_session(small.service, who, "Test", "test")
    return authentication.viewer_of_session(small.service, opened.token, None)


def sign_in_of(small: Small, key: str) -> UUID:
    with small.service.unit(small.itself) as unit:
        return unit.db.scalars(select(SignIn.id).where(SignIn.person_id == small.person(key))).one()


def made(small: Small, ada: Viewer, key: str, role: Role = Role.MEMBER) -> Viewer:
    """Somebody who was invited, accepted, and is signed in."""
    with small.service.unit(ada) as unit:
        row = invitations.invite(unit, small.person(key), "", "", role)
    token = link_to(small.service, small.itself.organisation, row.address)
    who = invitations.accept(small.service, token, PASSWORD, "test")
    opened = authentication.open_session(small.service, who, "Phone", "test")
    return authentication.viewer_of_session(small.service, opened.token, None)


def test_somebody_is_invited_and_signs_in_in_their_role(small: Small, ada: Viewer) -> None:
    """By a link that opens once and runs out; a new link closes the one before; who signs in is not invited again."""
    with small.service.unit(ada) as unit:
        first = invitations.invite(unit, None, "Nora", "nora@example.org", Role.AUDITOR)
    old = link_to(small.service, small.itself.organisation, "nora@example.org")
    with small.service.unit(ada) as unit:
        invitations.send_again(unit, first.id)
    token = link_to(small.service, small.itself.organisation, "nora@example.org")
    with pytest.raises(NotFound, match="opens nothing"):
        invitations.read(small.service, old, "test")
    assert invitations.read(small.service, token, "test").role == "auditor"
    with pytest.raises(BadInput):
        invitations.accept(small.service, token, "too short", "test")
    who = invitations.accept(small.service, token, NEW, "test")
    assert who.auditor
    assert authentication.check_password(small.service, "NORA@example.org", NEW, "test").auditor
    for again in (
        lambda: invitations.accept(small.service, token, NEW, "test"),
        lambda: invitations.read(small.service, token, "test"),
    ):
        with pytest.raises(NotFound):
            again()
    with pytest.raises(Conflict, match="signs in already"), small.service.unit(ada) as unit:
        invitations.invite(unit, who.person, "", "", Role.MEMBER)
    with small.service.unit(ada) as unit:
        late = invitations.invite(unit, small.person("mara"), "", "", Role.MEMBER)
    late_token = link_to(small.service, small.itself.organisation, late.address)
    small.clock.forward(days=7, seconds=1)
    with pytest.raises(NotFound, match="opens nothing"):
        invitations.accept(small.service, late_token, NEW, "test")


def test_a_withdrawn_invitation_opens_nothing(small: Small, ada: Viewer) -> None:
    """And nobody but an administrator invites or sees who is invited."""
    with small.service.unit(ada) as unit:
        row = invitations.invite(unit, small.person("mara"), "", "", Role.ADMINISTRATOR)
    token = link_to(small.service, small.itself.organisation, "mara@example.org")
    with small.service.unit(ada) as unit:
        invitations.withdraw(unit, row.id)
    with pytest.raises(NotFound):
        invitations.accept(small.service, token, NEW, "test")
    for call in (
        lambda u: invitations.rows(u),
        lambda u: sign_ins.rows(u),
        lambda u: invitations.invite(u, small.person("owen"), "", "", Role.MEMBER),
    ):
        with pytest.raises(NotAllowed), small.acting("ines") as unit:
            call(unit)
    assert "mara@example.org" not in str(mailed(small.service, small.itself.organisation)[-1][2]).split("#")[1:]


def test_there_is_always_somebody_who_administers(small: Small, ada: Viewer) -> None:
    """By none of the ways out: another role, suspended, taken away, left, or a file that says so."""
    own = sign_in_of(small, "ada")
    ways: list[Callable[[Unit], Any]] = [
        lambda u: sign_ins.set_role(u, own, Role.MEMBER),
        lambda u: sign_ins.set_suspended(u, own, True),
        lambda u: sign_ins.take_away(u, own),
        lambda u: edit.change(u, "people", small.person("ada"), {"standing": "left"}),
    ]
    for way in ways:
        with pytest.raises(Conflict, match="administer"), small.service.unit(ada) as unit:
            way(unit)
    with pytest.raises(Conflict, match="administer"), small.acting_as_administrator("ines") as unit:
        leavers.start(unit, leavers.Plan(small.person("ada"), {}), "Over.")
    made(small, ada, "mara", Role.ADMINISTRATOR)
    with small.service.unit(ada) as unit:
        ways[0](unit)
    with pytest.raises(Conflict, match="administer"), small.acting_as_administrator("ines") as unit:
        sign_ins.set_suspended(unit, sign_in_of(small, "mara"), True)


def test_what_is_suspended_or_taken_away_is_closed_at_once(small: Small, ada: Viewer) -> None:
    """Sessions and tokens end; suspended, the sign-in comes back as it was; all administrators are told."""
    mara = made(small, ada, "mara")
    token = authentication.make_token(small.service, mara, "report", "read")[1]
    ident = sign_in_of(small, "mara")
    with small.service.unit(ada) as unit:
        sign_ins.set_suspended(unit, ident, True)
        assert not unit.db.scalars(select(WebSession).where(WebSession.sign_in_id == ident)).all()
        assert not unit.db.scalars(select(ApiToken).where(ApiToken.sign_in_id == ident)).all()
    with pytest.raises(NotSignedIn):
        authentication.viewer_of_token(small.service, token)
    with pytest.raises(NotAllowed, match="suspended"):
        authentication.check_password(small.service, "mara@example.org", PASSWORD, "test")
    with small.service.unit(ada) as unit:
        sign_ins.set_suspended(unit, ident, False)
    assert authentication.check_password(small.service, "mara@example.org", PASSWORD, "test").person == mara.person
    with small.service.unit(ada) as unit:
        sign_ins.take_away(unit, ident)
    with pytest.raises(NotSignedIn):
        authentication.check_password(small.service, "mara@example.org", PASSWORD, "test")
    assert any("took the sign-in of Mara away" in told for told in small.told("mara"))


def test_every_change_of_a_sign_in_needs_a_fresh_proof(small: Small, ada: Viewer) -> None:
    """And an administrator."""
    made(small, ada, "mara")
    ident = sign_in_of(small, "mara")
    small.clock.forward(minutes=11)
    calls: list[Callable[[Unit], Any]] = [
        lambda u: sign_ins.set_role(u, ident, Role.REVIEWER),
        lambda u: sign_ins.set_suspended(u, ident, True),
        lambda u: sign_ins.end_sessions(u, ident),
        lambda u: sign_ins.end_tokens(u, ident),
        lambda u: sign_ins.reset_factor(u, ident),
        lambda u: sign_ins.take_away(u, ident),
        lambda u: invitations.invite(u, small.person("owen"), "", "", Role.MEMBER),
        lambda u: passwords.change(u, NEW, "test"),
        lambda u: recovery.make(u),
        lambda u: own_page.make_first(u, "x@example.org"),
    ]
    for call in calls:
        with pytest.raises(ProofNeeded), small.service.unit(ada) as unit:
            call(unit)


def test_a_forgotten_password_is_replaced_by_a_link(small: Small, ada: Viewer) -> None:
    """It opens once, for an hour; every session and token ends; unknown addresses get the same answer, and no mail."""
    mara = made(small, ada, "mara")
    token = authentication.make_token(small.service, mara, "report", "read")[1]
    woken: list[tuple[str, dict[str, str]]] = []
    service = replace(small.service, wake=lambda task, given, at=None: woken.append((task, given)))
    for address in ("Mara@example.org ", "nobody@example.org"):
        passwords.ask_for_link(service, address, "test")
    assert [given["address"] for _, given in woken] == ["mara@example.org", "nobody@example.org"]
    assert [passwords.send_links(small.service, given["address"]) for _, given in woken] == [1, 0]
    link = link_to(small.service, small.itself.organisation, "mara@example.org")
    with pytest.raises(BadInput):
        passwords.set_by_link(small.service, link, "mara example mara", "test")
    assert passwords.set_by_link(small.service, link, NEW, "test") == "mara@example.org"
    assert authentication.check_password(small.service, "mara@example.org", NEW, "test").person == mara.person
    for closed in (
        lambda: authentication.viewer_of_token(small.service, token),
        lambda: authentication.check_password(small.service, "mara@example.org", PASSWORD, "elsewhere"),
        lambda: passwords.set_by_link(small.service, link, PASSWORD, "test"),
    ):
        with pytest.raises(OpenLatchError):
            closed()
    passwords.send_links(small.service, "mara@example.org")
    late = link_to(small.service, small.itself.organisation, "mara@example.org")
    small.clock.forward(hours=1, seconds=1)
    with pytest.raises(NotFound, match="opens nothing"):
        passwords.set_by_link(small.service, late, PASSWORD, "test")
    sent = [passwords.send_links(small.service, "mara@example.org") for _ in range(6)]
    assert sum(sent) == passwords.MOST_LINKS


def test_a_changed_password_ends_other_sessions(small: Small, ada: Viewer) -> None:
    """But not the one that changed it, nor tokens that programs use."""
    mara = made(small, ada, "mara")
    other = authentication.open_session(small.service, mara, "Laptop", "test")
    token = authentication.make_token(small.service, mara, "report", "read")[1]
    with small.service.unit(replace(mara, proved_at=small.clock())) as unit:
        passwords.change(unit, NEW, "test")
        assert [one.is_this for one in own_page.sessions(unit)] == [True]
    with pytest.raises(NotSignedIn):
        authentication.viewer_of_session(small.service, other.token, None)
    assert authentication.viewer_of_token(small.service, token).person == mara.person


def test_recovery_codes_stand_in_for_the_second_factor_once(small: Small, ada: Viewer) -> None:
    """Each of the ten; those before are good no more; an administrator's reset takes them away."""
    mara = replace(made(small, ada, "mara"), proved_at=small.clock())
    with pytest.raises(Conflict), small.service.unit(mara) as unit:
        recovery.make(unit)
    with small.service.unit(mara) as unit:
        secret = second_factor.begin(unit)["secret"]
        second_factor.confirm(unit, pyotp.TOTP(secret).at(small.clock()))
    with small.service.unit(mara) as unit:
        old = recovery.make(unit)
    with small.service.unit(mara) as unit:
        codes = recovery.make(unit)
    assert len(set(codes)) == recovery.COUNT

    def sign_in(code: str) -> Viewer:
        return authentication.check_password(small.service, "mara@example.org", PASSWORD, "test", Factor(code))

    with pytest.raises(FactorNeeded):
        sign_in("")
    assert sign_in(codes[3].upper().replace("-", " ")).person == mara.person
    for used in (codes[3], old[0]):
        with pytest.raises(NotSignedIn):
            sign_in(used)
    with small.service.unit(mara) as unit:
        assert recovery.left(unit) == recovery.COUNT - 1
    with small.service.unit(ada) as unit:
        assert not sign_ins.reset_factor(unit, sign_in_of(small, "mara")).second_factor
    assert sign_in("").person == mara.person


def test_another_address_counts_once_it_is_confirmed(small: Small, ada: Viewer) -> None:
    """Then mail can go there, and one signs in with it; somebody else's is refused."""
    mara = replace(made(small, ada, "mara"), proved_at=small.clock())
    with small.service.unit(mara) as unit:
        own_page.add_address(unit, "Mara@Example.net")
    with pytest.raises(NotFound), small.service.unit(mara) as unit:
        own_page.make_first(unit, "mara@example.net")
    token = link_to(small.service, small.itself.organisation, "mara@example.net")
    my_access.confirm_address(small.service, token, "test")
    with small.service.unit(mara) as unit:
        page = own_page.make_first(unit, "mara@example.net")
    assert [(a.address, a.is_first) for a in page.addresses] == [
        ("mara@example.net", True),
        ("mara@example.org", False),
    ]
    assert authentication.check_password(small.service, "mara@example.net", PASSWORD, "test").person == mara.person
    with small.service.unit(mara) as unit:
        own_page.add_address(unit, "owen@example.net")
    stolen = link_to(small.service, small.itself.organisation, "owen@example.net")
    with pytest.raises(Conflict, match="somebody else's"):
        my_access.confirm_address(small.service, stolen, "test")


def test_mail_that_somebody_does_not_want_stays_a_notice(small: Small, ada: Viewer) -> None:
    """But for what concerns who they are and who decides about their accounts."""
    mara = made(small, ada, "mara")
    with small.service.unit(mara) as unit:
        own_page.set_profile(unit, "Mara", "Europe/Vienna", "de-AT", ["review"], True)
        assert authentication.describe(unit).preferences.time_zone == "Europe/Vienna"
        for kind in ("review", "steward"):
            notices.tell_and_write(unit, [small.person("mara")], kind, f"About {kind}.")
    with small.service.unit(small.itself) as unit:
        subjects = set(unit.db.scalars(select(Mail.subject).where(Mail.recipient == "mara@example.org")))
    assert "About steward" in subjects
    assert "About review" not in subjects
    assert {"About review.", "About steward."} <= set(small.told("mara"))
    for wrong in ({"time_zone": "Mars"}, {"locale": "deutsch!"}, {"no_mail": ["steward"]}, {"name": " "}):
        given: dict[str, Any] = {"name": "Mara", "time_zone": None, "locale": None, "no_mail": [], "wants_digest": True}
        with pytest.raises(BadInput), small.service.unit(mara) as unit:
            own_page.set_profile(unit, **{**given, **wrong})


def test_a_new_password_by_a_link_passes_no_second_factor_by(small: Small, ada: Viewer) -> None:
    mara = replace(made(small, ada, "mara"), proved_at=small.clock())
    with small.service.unit(mara) as unit:
        secret = second_factor.begin(unit)["secret"]
        second_factor.confirm(unit, pyotp.TOTP(secret).at(small.clock()))
    passwords.send_links(small.service, "mara@example.org")
    link = link_to(small.service, small.itself.organisation, "mara@example.org")
    passwords.set_by_link(small.service, link, NEW, "test")
    with pytest.raises(FactorNeeded):
        authentication.check_password(small.service, "mara@example.org", NEW, "test")


def test_secrets_of_recovery_are_kept_as_hashes_alone(small: Small, ada: Viewer) -> None:
    """Neither a code nor a link can be read from the database."""
    mara = replace(made(small, ada, "mara"), proved_at=small.clock())
    with small.service.unit(mara) as unit:
        secret = second_factor.begin(unit)["secret"]
        second_factor.confirm(unit, pyotp.TOTP(secret).at(small.clock()))
        codes = recovery.make(unit)
    passwords.send_links(small.service, "mara@example.org")
    link = link_to(small.service, small.itself.organisation, "mara@example.org")
    with small.service.unit(small.itself) as unit:
        for table in ("recovery_codes", "password_resets", "invitations", "journal", "sign_ins"):
            rows = str(unit.db.execute(text(f"select t::text from {table} t")).all())
            assert link not in rows
            assert not re.search("|".join(codes), rows)
