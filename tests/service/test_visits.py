"""Tokens for programs, ended with the access they stand for; the second factor; an address proved; mail sent."""

from __future__ import annotations

import smtplib
from base64 import urlsafe_b64encode
from dataclasses import replace
from pathlib import Path
from uuid import UUID

import jwt
import pyotp
import pytest
from cryptography.fernet import Fernet
from sqlalchemy import select, text

from openlatch.errors import BadInput, Conflict, FactorNeeded, NotAllowed, NotFound, NotSignedIn, ProofNeeded
from openlatch.processes import free_port
from openlatch.service import signing_keys
from openlatch.service.acting import visits
from openlatch.service.changes import changes
from openlatch.service.grants.change_types import Change, ChangeKind
from openlatch.service.identity import authentication, second_factor
from openlatch.service.identity.authentication import Factor
from openlatch.service.lists import register
from openlatch.service.notifications import notices as notify
from openlatch.service.offers import send as send_offer
from openlatch.service.own import my_access
from openlatch.service.unit import Service, Unit, Viewer
from openlatch.store.lists.engine import ListQuery
from openlatch.store.tables import JournalEntry, Mail, Notice, Person, SignIn, Visit
from openlatch.test_systems.mail import MailServer
from openlatch.worker import tasks
from tests.service.conftest import PASSWORD, Small, link_to


def test_a_token_names_both_people_is_short_lived_and_ends_with_the_access(small: Small) -> None:
    """The owner is its subject, the delegate its actor; introspection looks at the access itself."""
    box, mara = small.account("box"), small.signed_in("mara")
    with small.service.unit(mara) as unit:
        made = visits.exchange(unit, box)
    told = {one["kid"]: one for one in signing_keys.published(small.service)}
    key = jwt.PyJWK(told[jwt.get_unverified_header(made.token)["kid"]]).key
    # What everybody who checks tokens has to support (RFC 9068, section 2.1).
    claims = jwt.decode(
        made.token, key, ["RS256"], audience=str(box), options={"verify_exp": False, "verify_iat": False}
    )
    assert claims["sub"] == str(small.person("ines"))
    assert claims["act"] == {"sub": str(small.person("mara")), "name": "Mara"}
    assert claims["exp"] - claims["iat"] == 300
    # All that RFC 9068, section 2.2 requires; who asked is the sign-in that they came by.
    assert {"iss", "exp", "aud", "sub", "client_id", "iat", "jti"} <= set(claims)
    assert claims["client_id"] == str(mara.credential)
    assert jwt.get_unverified_header(made.token)["typ"] == "at+jwt"
    with small.acting("ines") as unit:
        assert visits.introspect(unit, made.token)["scope"] == "mail.read mail.share"
    acting = visits.viewer_of_exchanged(small.service, made.token)
    with small.service.unit(acting) as unit:
        assert unit.sight.owned == {box}
        with pytest.raises(NotAllowed, match="can't be exchanged"):
            visits.exchange(unit, box)
        # Whose account it is stays with the owner, and no entry about anything else is theirs to read.
        with pytest.raises(NotAllowed, match="stays with the account's owner"):
            send_offer.offer_ownership(unit, box, small.person("mara"), None, "")
        entries = register.page(unit, "journal", ListQuery(limit=500)).rows
        assert entries
        told = select(JournalEntry.account_id).where(JournalEntry.position.in_([row["position"] for row in entries]))
        assert set(unit.db.scalars(told)) == {box}
        with pytest.raises(ProofNeeded):
            unit.require_proof("That")
    team = small.grant("box|team|wardens|read")
    with small.acting("ines") as unit:
        changes.carry_out(unit, Change(ChangeKind.SUSPEND, "Now.", (small.grant("box|person|mara|run"), team)))
        assert visits.introspect(unit, made.token) == {"active": False}
    with pytest.raises(NotAllowed, match="is over"), small.service.unit(acting) as unit:
        assert unit.sight
    tasks.look_round(small.service)
    with pytest.raises(NotSignedIn, match="has been ended"):
        visits.viewer_of_exchanged(small.service, made.token)
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(Visit.ended_as)).all() == ["access_over"]


def test_tokens_that_are_no_good(small: Small) -> None:
    """Run out, forged, of another service, ended by its program: all are just not active."""
    box, mara = small.account("box"), small.signed_in("mara")
    with small.service.unit(mara) as unit:
        first, second = visits.exchange(unit, box).token, visits.exchange(unit, box).token
        visits.end_token(unit, first)
        assert visits.introspect(unit, first) == {"active": False}
        assert visits.introspect(unit, second)["active"] is True
    head, body, sealed = second.split(".")
    forged = [f"{head}.{body}.{sealed[:-4]}AAAA", f"{head}.{body}.", "a.b.c", "", jwt.encode({"sub": "x"}, "k" * 32)]
    deep = urlsafe_b64encode(b"[" * 5000).decode()
    forged += [f"{deep}.{body}.{sealed}", f"{head}.{deep}.{sealed}"]
    # Signed by the same key, and no access token: RFC 9068, section 4.
    claims = jwt.decode(second, options={"verify_signature": False})
    forged.append(signing_keys.signed(small.service, claims, "secevent+jwt"))
    other = replace(small.service, cipher=Fernet(Fernet.generate_key()), token_keys=[])
    with small.service.unit(mara) as unit:
        assert {visits.introspect(unit, token)["active"] for token in forged} == {False}
        assert visits.introspect(replace(unit, service=other), second) == {"active": False}
        with pytest.raises(NotFound):
            visits.exchange(unit, small.account("rota"))
    small.clock.forward(minutes=5)
    with small.service.unit(mara) as unit:
        assert visits.introspect(unit, second) == {"active": False}
    with pytest.raises(NotSignedIn, match="has run out"):
        visits.viewer_of_exchanged(small.service, second)


def test_a_second_factor_is_asked_for_and_each_code_is_good_once(small: Small) -> None:
    """From the moment that the first code was given; setting it up and removing it need a fresh proof."""
    mara = small.signed_in("mara")
    with pytest.raises(ProofNeeded), small.service.unit(replace(mara, proved_at=None)) as unit:
        second_factor.begin(unit)
    with small.service.unit(mara) as unit:
        totp = pyotp.TOTP(second_factor.begin(unit)["secret"])
        with pytest.raises(BadInput):
            second_factor.confirm(unit, "000000")
        second_factor.confirm(unit, totp.at(small.clock()))
        with pytest.raises(Conflict):
            second_factor.begin(unit)
        assert unit.db.get_one(Person, mara.person).second_factor

    def sign_in(code: str = "") -> UUID | None:
        return authentication.check_password(small.service, "mara@example.org", PASSWORD, "x", Factor(code)).person

    with pytest.raises(FactorNeeded):
        sign_in()
    with pytest.raises(NotSignedIn, match="code does not fit"):
        sign_in(totp.at(small.clock()))
    small.clock.forward(seconds=30)
    assert sign_in(totp.at(small.clock())) == mara.person
    with pytest.raises(NotSignedIn, match="code does not fit"):
        sign_in(totp.at(small.clock()))
    small.clock.forward(minutes=11)
    with pytest.raises(ProofNeeded), small.service.unit(mara) as unit:
        second_factor.remove(unit)
    with small.service.unit(mara) as unit:
        authentication.prove(unit, PASSWORD, Factor(totp.at(small.clock())), "x")
    with small.service.unit(replace(mara, proved_at=small.clock())) as unit:
        second_factor.remove(unit)
    assert sign_in() == mara.person


def test_an_address_is_confirmed_by_the_link_that_was_sent_to_it(small: Small) -> None:
    """Once, within a day."""
    mara = small.signed_in("mara")
    organisation = mara.organisation
    for _ in range(2):
        with small.service.unit(mara) as unit:
            my_access.ask_for_proof(unit)
    link = link_to(small.service, organisation, "mara@example.org")
    assert my_access.confirm_address(small.service, link, "x") == "Mara"
    with pytest.raises(NotFound):
        my_access.confirm_address(small.service, link, "x")
    with small.service.unit(mara) as unit:
        page = my_access.page(unit)
        assert page.settings.address_confirmed_at == small.clock()
        assert [(m.account.name, [h.name for h in m.holders]) for m in page.mine] == [
            ("Ledger", ["Edda", "Ines", "Owen", "Sync"])
        ]
        my_access.ask_for_proof(unit)
    small.clock.forward(hours=24)
    with pytest.raises(NotFound):
        my_access.confirm_address(small.service, link_to(small.service, organisation, "mara@example.org"), "x")


def test_mail_is_in_the_language_of_whoever_gets_it(small: Small) -> None:
    """As they have chosen it for themselves; what its writer named stays as it is."""
    with small.service.unit(small.itself) as unit:
        chosen = unit.db.scalars(select(SignIn).join(Person).where(Person.address == "ada@example.org")).one()
        chosen.preferences = {"locale": "de-AT"}
        letter = notify.Letter(
            "You own Mail from now on.", ("Hello Ada,", "You own Mail from now on."), "http://x", "Look at it"
        )
        for address in ("ada@example.org", "mara@example.org"):
            notify.write(unit, address, letter)
    taken = [notify._take(small.service, small.itself) for _ in range(2)]
    told = {address: letter for _, address, letter in filter(None, taken)}
    assert told["mara@example.org"] == letter
    german = told["ada@example.org"]
    assert german.paragraphs == ("Guten Tag Ada,", "Mail gehört von jetzt an Ihnen.")
    assert (german.subject, german.link_words, german.link) == (
        "Mail gehört von jetzt an Ihnen.",
        "Ansehen",
        "http://x",
    )
    assert '<html lang="de">' in german.html


def test_mail_goes_out_plain_and_html_and_waits_for_a_server_that_is_down(small: Small, tmp_path: Path) -> None:
    """Nothing of it stays in the database once it is sent; a recipient who is refused is not tried for ever."""
    port = free_port()
    post = notify.Post("127.0.0.1", port, "access@example.org")
    organisation = small.itself.organisation
    letter = notify.Letter("Hello <you>", ("A & B.", "Second."), "http://x.example/offer#t0ken", "Open it")
    with small.service.unit(small.itself) as unit:
        notify.write(unit, "mara@example.org", letter)
    assert notify.send_due(small.service, organisation, None) == 0
    small.clock.forward(minutes=1)
    assert notify.send_due(small.service, organisation, post) == 0
    with small.service.unit(small.itself) as unit:
        row = unit.db.scalars(select(Mail)).one()
        assert (row.state, row.tries) == ("waiting", 2)
        assert b"t0ken" not in (row.content or b"")
    server = MailServer(tmp_path, port, free_port())
    server.start()
    try:
        assert notify.send_due(small.service, organisation, post) == 0
        small.clock.forward(minutes=1)
        assert notify.send_due(small.service, organisation, post) == 1
        (message,) = server.messages("mara@example.org")
    finally:
        server.stop()
    plain, html = (message.get_body((kind,)) for kind in ("plain", "html"))
    assert plain is not None
    assert html is not None
    assert "A & B.\n\nSecond.\n\nOpen it:\nhttp://x.example/offer#t0ken" in plain.get_content().replace("\r", "")
    assert "A &amp; B." in html.get_content()
    assert "<img" not in html.get_content()
    with small.service.unit(small.itself) as unit:
        assert unit.db.scalars(select(Mail.content)).all() == [None]


def test_a_refused_recipient_is_given_up(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """And put down in the journal."""

    def refuse(self: notify.Post, recipient: str, letter: notify.Letter) -> None:
        raise smtplib.SMTPRecipientsRefused({recipient: (550, b"no such user")})

    monkeypatch.setattr(notify.Post, "send", refuse)
    with small.service.unit(small.itself) as unit:
        notify.write(unit, "gone@example.org", notify.Letter("Hello", ("There.",)))
    notify.send_due(small.service, small.itself.organisation, notify.Post("x", 1, "y@example.org"))
    with small.service.unit(small.itself) as unit:
        row = unit.db.scalars(select(Mail)).one()
        assert (row.state, row.content) == ("failed", None)
        assert not notify.waiting(unit)


def test_one_message_that_can_not_be_sent_fails_alone(small: Small, tmp_path: Path) -> None:
    """Control characters of a subject never get into a header; an address that is none is told to administrators."""
    port = free_port()
    server = MailServer(tmp_path, port, free_port())
    server.start()
    post, organisation = notify.Post("127.0.0.1", port, "access@example.org"), small.itself.organisation
    small.signed_in("ines")
    with small.service.unit(small.itself) as unit:
        unit.db.execute(text("update sign_ins set role = 'administrator'"))
        notify.write(unit, "odd\n@example.org", notify.Letter("Never", ("Sent.",)))
        subject = "Asks\r\nBcc: eve@example.net\n\nfor \a it\u2028now"
        notify.write(unit, "mara@example.org", notify.Letter(subject, ("There.",)))
    try:
        assert notify.send_due(small.service, organisation, post) == 1
        (message,) = server.messages("mara@example.org")
        assert (message["Subject"], message["Bcc"]) == ("Asks Bcc: eve@example.net for it now", None)
        for _ in range(notify.HOPELESS_TRIES - 1):
            small.clock.forward(hours=1)
            assert notify.send_due(small.service, organisation, post) == 0
    finally:
        server.stop()
    with small.service.unit(small.itself) as unit:
        assert not notify.waiting(unit)
        notices = unit.db.scalars(select(Notice).where(Notice.kind == "mail_failed")).all()
        assert small.person("ines") in {notice.person_id for notice in notices}
        assert all("could not be sent" in notice.sentence for notice in notices)


def test_what_fails_for_one_organisation_holds_up_no_other(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nor what else is due for the same one."""
    other = authentication.make_organisation(
        small.service, "Other", "other", "UTC", "Bo", "bo@other.example.org", "three lakes up"
    )
    digests: list[UUID] = []
    heads: list[UUID] = []

    def broken(unit: Unit) -> None:
        digests.append(unit.viewer.organisation)
        raise RuntimeError("this one is broken")

    def keep(service: Service, viewer: Viewer) -> None:
        heads.append(viewer.organisation)

    monkeypatch.setattr(tasks.weekly_letter, "send_when_due", broken)
    monkeypatch.setattr(tasks.signed_heads, "keep", keep)
    tasks.look_round(small.service)
    assert set(digests) == set(heads) == {small.itself.organisation, other.organisation}


@pytest.mark.parametrize("zone", ["Europe/Londn", "", "..", "Europe", "/etc/passwd"])
def test_an_organisation_is_where_there_is_a_time_zone(small: Small, zone: str) -> None:
    """Or it is not made; nor twice with one short name."""
    with pytest.raises(BadInput, match="time zone"):
        authentication.make_organisation(small.service, "X", "x", zone, "Bo", "bo@x.example.org", "three lakes up")
    authentication.make_organisation(small.service, "X", "x", "UTC", "Bo", "bo@x.example.org", "three lakes up")
    with pytest.raises(Conflict):
        authentication.make_organisation(small.service, "Y", "x", "UTC", "Bo", "bo@y.example.org", "three lakes up")


def test_what_one_was_told_is_read(small: Small) -> None:
    """One's own notices, and no others."""
    with small.acting("ines") as unit:
        notify.tell(unit, [small.person("mara"), small.person("owen")], "grant", "Something.")
    with small.acting("mara") as unit:
        assert my_access.read_notices(unit, []) == 0
    with small.acting("owen") as unit:
        assert authentication.describe(unit).notices == 1
